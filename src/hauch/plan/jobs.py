"""Background work of planning."""

from __future__ import annotations

import logging

from procrastinate.contrib.django import app

from hauch.plan.models import DayPlan

log = logging.getLogger(__name__)


def give_up(plan_id: int) -> None:
    """Say that a plan was not worked out, to whoever waits for it."""
    DayPlan.objects.filter(pk=plan_id).update(
        state=DayPlan.State.FAILED,
        problems=[["It could not be worked out. Tell who keeps the installation.", "", "", None]],
    )


@app.task(name="plan.work_out", lock="plan")
def work_out_later(plan_id: int) -> None:
    """Work a plan out."""
    # Only a worker needs the solver; web processes name this task, and stay small.
    from hauch.plan.working import work_out

    try:
        work_out(DayPlan.objects.select_related("previous").get(pk=plan_id))
    except Exception:
        log.exception("plan %s could not be worked out", plan_id)
        give_up(plan_id)
