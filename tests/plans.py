"""What tests of plans share: a house with hours and machines, and what the worker does."""

from __future__ import annotations

import time as time_of
from datetime import UTC, datetime, time

from hauch.entries.models import PartCheck, PartFile
from hauch.plan import actions
from hauch.plan.models import DayPlan, Machine
from hauch.plan.working import work_out

MONDAY = datetime(2026, 5, 11, 8, 2, tzinfo=UTC)
"""A Monday morning, after the runs of the builder."""

ALL_DAY = ((time(0), time(23, 59)),)
DAY = ((time(8), time(12)), (time(13), time(17)))


def give_hours(built, *names, days=range(5), shifts=DAY):
    """Say that people are there."""
    for name in names or ("host", "operator"):
        hours = [(day, begin, end) for day in days for begin, end in shifts]
        actions.set_hours(built.host, built.people[name], hours)


def printer(**more):
    """A printer that takes all."""
    fields = {"name": "Printer at the window", "width": 0.3, "depth": 0.3, "height": 0.3}
    return Machine.objects.create(**fields | {"nights": True, "loud": False} | more)


def checked(version, name="rotor.stl", size=(0.09, 0.08, 0.03), hours=2.0, mass=0.05, count=1):
    """A part of a version as its check told it."""
    file = PartFile.objects.create(version=version, name=name, sha256="0" * 64, size=1, count=count)
    rows = [(f"size_{axis}", "length", value) for axis, value in zip("xyz", size, strict=True)]
    rows += [("time", "duration", 3600 * hours), ("mass", "mass", mass), ("volume", "volume", 1e-5)]
    check = PartCheck.objects.create(
        file=file,
        state="done",
        verdict="ready",
        data={"up": "z up"},
        figures=[
            {"key": key, "group": "Print", "label": key, "kind": kind, "quantity": {"value": value}}
            for key, kind, value in rows
        ],
    )
    PartFile.objects.filter(pk=file.pk).update(newest_check=check)
    return file


def made(user, days=3, *, anew=False, seconds=0.05) -> DayPlan:
    """A plan, asked for and worked out."""
    plan = actions.ask(user, days, anew=anew)
    work_out(DayPlan.objects.select_related("previous").get(pk=plan.pk), seconds)
    return DayPlan.objects.select_related("previous").get(pk=plan.pk)


def plan_now(seconds=0.05) -> DayPlan:
    """What the worker does with the plan that was asked for last, once it is asked for."""
    ends = time_of.monotonic() + 60
    while time_of.monotonic() < ends:
        waiting = DayPlan.objects.filter(state=DayPlan.State.WAITING).select_related("previous")
        if (plan := waiting.first()) is not None:
            work_out(plan, seconds)
            return plan
        time_of.sleep(0.02)
    raise AssertionError("no plan was asked for")
