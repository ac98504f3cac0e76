"""The loft's week: printers, an oven, hours, quiet hours, a deadline, and the plan that follows."""

from __future__ import annotations

from datetime import time, timedelta

from django.utils import timezone

from hauch.demo.stores import people
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.plan.hours import midnight
from hauch.plan.models import (
    DayPlan,
    Deadline,
    Duty,
    LoudBench,
    Machine,
    PrototypeMaterial,
    QuietHours,
    Spool,
    Stock,
)
from hauch.plan.working import work_out
from hauch.rounds.models import Round
from hauch.stores.models import Material

DAYS = 7
SECONDS = 1.0
"""For so long the demo's plan is made better: it is there to be looked at."""
HOURS = {
    "runa": (range(5), ((time(8), time(12)), (time(13), time(17)))),
    "odo": (range(7), ((time(9), time(13)), (time(14), time(19)))),
}
"""Who is there on which days of the week."""
DRAWER = (
    ("guard 120 mm", 3, 4),
    ("two-part glue, a tenth", 2, 3),
    ("gasket 150 mm", 0, 1),
    ("screw M5 x 16", 12, 2),
)
"""Parts: how many there are, and days until more comes."""


def load_plan() -> None:
    """Say who and what is there, and plan the week from now on."""
    who = people()
    for name, (days, shifts) in HOURS.items():
        if name in who:
            Duty.objects.bulk_create(
                Duty(user=who[name], weekday=day, begin=begin, end=end)
                for day in days
                for begin, end in shifts
            )
    _machines()
    _stock()
    QuietHours.objects.create(begin=time(10), end=time(12, 30))
    LoudBench.objects.create(rig="Leaf shredder on a brake")
    Deadline.objects.create(
        round=Round.objects.get(slug="hushed-inlet"), day=house_day() + timedelta(days=5)
    )
    if "runa" in who:
        work_out(week(who["runa"]), SECONDS)


def _machines() -> None:
    for name, kind, bed, material, nights, loud in (
        ("Printer at the window", "printer", (0.25, 0.25, 0.26), "petg", True, True),
        ("Printer in the shed", "printer", (0.30, 0.30, 0.32), "pa", True, False),
        ("Herb oven", "oven", (0.40, 0.35, 0.30), "", False, False),
    ):
        Machine.objects.create(
            name=name,
            kind=kind,
            width=bed[0],
            depth=bed[1],
            height=bed[2],
            material=Material.objects.filter(key=material).first(),
            nights=nights,
            loud=loud,
        )


def _stock() -> None:
    """Spools as weighed, what prototypes are printed in, and the drawer."""
    for key, colour, left in (("petg", "white", 0.74), ("petg", "moss", 0.12), ("pa", "", 0.31)):
        Spool.objects.create(material=Material.objects.get(key=key), colour=colour, left=left)
    PrototypeMaterial.objects.create(material=Material.objects.get(key="petg"))
    for name, quantity, days in DRAWER:
        Stock.objects.create(name=name, quantity=quantity, days=days)


def week(user: User) -> DayPlan:
    """A plan of the week, not worked out yet."""
    now = timezone.now()
    begin = midnight(now)
    minute = int((now - begin).total_seconds() // 60)
    return DayPlan.objects.create(
        asked_by=user, begin=begin, now=minute - minute % 5 + 5, days=DAYS, anew=True
    )
