from typing import Any

from django.apps import AppConfig
from django.db import transaction


class LiveConfig(AppConfig):
    name = "hauch.live"
    label = "live"

    def ready(self) -> None:
        from hauch.live import actions
        from hauch.rounds.signals import reference_out
        from hauch.workshop.signals import left_the_bench

        def left(specimen: Any, **_: Any) -> None:
            transaction.on_commit(lambda: actions.cut_where(specimen=specimen.pk))

        def out(specimen: Any, **_: Any) -> None:
            transaction.on_commit(lambda: actions.cut_where(reference=specimen.pk))

        left_the_bench.connect(left, weak=False, dispatch_uid="live")
        reference_out.connect(out, weak=False, dispatch_uid="live")
