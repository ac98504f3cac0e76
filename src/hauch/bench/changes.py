"""Whoever changes what was run says so here, inside the transaction of the change: counts are
brought up to date, and standings learn that they do not show it yet.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from contextvars import ContextVar

from django.db import transaction

from hauch.bench import progress
from hauch.bench.models import Run
from hauch.bench.signals import results_changed
from hauch.rounds.models import Round

_together: ContextVar[dict[int, Round] | None] = ContextVar("_together", default=None)


def runs_changed(round: Round, runs: Sequence[Run]) -> None:
    """Runs of a round were recorded, voided or computed again."""
    if (waiting := _together.get()) is not None:
        waiting[round.pk] = round
        return
    for run in runs:
        progress.update(run)
    results_changed.send(Run, round=round)


def round_changed(round: Round) -> None:
    """So many runs of a round changed that all are counted anew."""
    progress.rebuild(round)
    results_changed.send(Run, round=round)


@contextmanager
def many_runs() -> Iterator[None]:
    """Runs that are recorded inside are one change: one transaction, counted and told once, at its
    end.
    """
    waiting: dict[int, Round] = {}
    with transaction.atomic():
        token = _together.set(waiting)
        try:
            yield
        finally:
            _together.reset(token)
        for round in waiting.values():
            round_changed(round)
