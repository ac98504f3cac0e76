"""Background work of the Desk: searching for a better rotor."""

from __future__ import annotations

import time
from typing import Any

from procrastinate.contrib.django import app

from hauch.core.predict.model import CannotBe
from hauch.core.predict.optimise import Found
from hauch.desk.models import Around, Search
from hauch.desk.queries import setting_for
from hauch.desk.search import AIMS, compared_figures, front_of, search, with_parameters

TELL_EVERY = 0.4
"""Seconds between two words of progress."""


def envelope_of(row: Search) -> dict[str, float]:
    """What the rotor must fit: the envelope of the chosen round, and the depth that was asked for."""
    room = dict(row.fit.what.values) if row.fit else {}
    if "depth" in row.limits:
        room["depth"] = min(row.limits["depth"], room.get("depth", row.limits["depth"]))
    return room


@app.task(name="desk.search")
def search_later(search_id: int) -> None:
    """Search, telling progress and stopping when asked; safe to run twice, since a search that was
    cut off begins anew.
    """
    row = Search.objects.select_related("rig", "fit").get(pk=search_id)
    if row.ended:
        return
    Search.objects.filter(pk=row.pk).update(state=Search.State.RUNNING, progress=0.0)
    aim, last = AIMS[row.aim], 0.0
    setting = setting_for("rotor", Around(row.rig))

    def tell(share: float, best: Found | None) -> bool:
        nonlocal last
        if time.monotonic() - last < TELL_EVERY and share < 1:
            return True
        last = time.monotonic()
        changes: dict[str, Any] = {"progress": share}
        if best is not None:
            changes["best"] = {"inputs": with_parameters(row.inputs, best.parameters)}
        Search.objects.filter(pk=row.pk).update(**changes)
        return not Search.objects.filter(pk=row.pk, cancel=True).exists()

    try:
        limits = {k: v for k, v in row.limits.items() if k != "depth"}
        run = search(row.inputs, setting, aim, limits, envelope_of(row), tell)
        best = run.run()
    except CannotBe as problem:
        Search.objects.filter(pk=row.pk).update(state=Search.State.FAILED, reason=str(problem))
        return
    if best is None:
        reason = (
            "No rotor within the limits was found: each candidate stalled, missed its duty, broke a"
            " limit or would not hold. Loosen a limit, or start from another design."
        )
        Search.objects.filter(pk=row.pk).update(
            state=Search.State.CANCELLED if run.stopped else Search.State.FAILED,
            reason="" if run.stopped else reason,
            tried=len(run.tried),
        )
        return
    inputs = with_parameters(row.inputs, best.parameters)
    Search.objects.filter(pk=row.pk).update(
        state=Search.State.CANCELLED if run.stopped else Search.State.DONE,
        progress=1.0 if not run.stopped else row.progress,
        tried=len(run.tried),
        best={
            "inputs": inputs,
            "figures": compared_figures(inputs, setting),
            "before": compared_figures(row.inputs, setting),
        },
        front=front_of(run, row.inputs, aim),
    )
