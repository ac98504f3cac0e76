"""Loading the demo once."""

from __future__ import annotations

import multiprocessing
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor

from django.db import transaction
from django.db.models import F
from django.utils import timezone

from hauch.bench.changes import many_runs
from hauch.bench.models import Run
from hauch.demo.cabinet import Cabinet
from hauch.demo.desk import load_desk
from hauch.demo.garage import load_garage
from hauch.demo.meshes import PARTS, file_of
from hauch.demo.others import load_others
from hauch.demo.parts import finish_parts, hand_in_parts
from hauch.demo.plan import load_plan
from hauch.demo.rigs import load_rigs
from hauch.demo.season import load_season
from hauch.demo.sound import load_sound
from hauch.demo.stores import uid
from hauch.rounds.models import Round

CHECKED_AT_ONCE = 2
"""Parts that are checked beside the rest; each has a process of its own."""


@transaction.atomic
def load_demo(say: Callable[[str], None] = lambda text: None) -> Round | None:
    """Load the demo rounds unless they are there; gives the first when they were loaded now."""
    if Round.objects.filter(uid=uid("round", 1)).exists():
        return None
    say("Loading the demo, once; this takes half a minute.")
    began = timezone.now()
    beside = multiprocessing.get_context("forkserver")
    with (
        ProcessPoolExecutor(max_workers=1, mp_context=beside) as maker,
        ThreadPoolExecutor(max_workers=CHECKED_AT_ONCE) as pool,
        many_runs(),
    ):
        files = {key: maker.submit(file_of, key) for key in PARTS}
        first = Cabinet().load()
        load_others()
        load_desk()
        handed = hand_in_parts(files, pool)
        load_rigs()
        load_sound()
        finish_parts(handed)
        load_garage()
        load_season(first)
        # Each was written down when it was made, and not when the demo was loaded.
        Run.objects.filter(created_at__gte=began).update(created_at=F("started_at"))
    load_plan()
    return first
