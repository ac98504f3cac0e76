"""Parts to buy: the bills of materials of all that is still to be put together, against the drawer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from decimal import Decimal

from django.utils import timezone

from hauch.entries.models import BillItem, Entry
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.plan.models import DayPlan, PlannedStep, Stock
from hauch.plan.queries import in_force, seen_by
from hauch.rounds.models import Round
from hauch.workshop.models import Specimen


@dataclass
class Part:
    """A thing on bills: how many are needed, how many there are, when they are needed first."""

    name: str
    needed: Decimal = Decimal(0)
    price: Decimal = Decimal(0)
    stock: Stock | None = None
    first: date | None = None
    entries: set[str] = field(default_factory=set)

    @property
    def there(self) -> Decimal:
        """In the drawer."""
        return self.stock.quantity if self.stock else Decimal(0)

    @property
    def missing(self) -> Decimal:
        """To be bought."""
        return max(self.needed - self.there, Decimal(0))

    @property
    def order_by(self) -> date | None:
        """The day by which it is ordered at the latest; None where nothing is missing or the plan does
        not tell when it is needed.
        """
        if not self.missing or self.first is None:
            return None
        return self.first - timedelta(days=self.days)

    @property
    def days(self) -> int:
        """From the order until it is there."""
        return self.stock.days if self.stock else Stock._meta.get_field("days").default

    @property
    def late(self) -> bool:
        """Whether the day by which it should have been ordered has passed."""
        return self.order_by is not None and self.order_by < house_day()


def name_of(text: str) -> str:
    """What makes two lines the same thing: their name without regard to case and spaces."""
    return " ".join(text.split()).casefold()


def parts_of(user: User) -> list[Part]:
    """Parts for all that is still to be put together in the rounds that a person sees, what is to be
    ordered first in front.
    """
    rounds = [
        pk
        for pk, round in seen_by(user).items()
        if not round.archived and round.state in {Round.State.OPEN, Round.State.BENCH}
    ]
    waiting = list(
        Specimen.objects.filter(
            version__entry__round__in=rounds, version__entry__state=Entry.State.IN
        )
        .exclude(state__in=[Specimen.State.READY, Specimen.State.BROKEN])
        .values_list("pk", "version_id", "version__entry__name")
    )
    begins = _begins(in_force(), [pk for pk, _, _ in waiting])
    bills: dict[int, list[BillItem]] = {}
    for item in BillItem.objects.filter(version__in={version for _, version, _ in waiting}):
        bills.setdefault(item.version_id, []).append(item)
    stocks = {name_of(row.name): row for row in Stock.objects.all()}
    found: dict[str, Part] = {}
    for pk, version, entry in waiting:
        for item in bills.get(version, ()):
            key = name_of(item.name)
            part = found.setdefault(key, Part(" ".join(item.name.split()), stock=stocks.get(key)))
            part.needed += item.quantity
            part.price = max(part.price, item.price)
            part.entries.add(entry)
            day = begins.get(pk)
            if day is not None and (part.first is None or day < part.first):
                part.first = day
    return sorted(
        found.values(),
        key=lambda part: (not part.missing, part.order_by or date.max, part.name.casefold()),
    )


def _begins(plan: DayPlan | None, specimens: Sequence[int]) -> dict[int, date]:
    """The day on which work by hand on each specimen begins, by the plan in force."""
    if plan is None:
        return {}
    rows = PlannedStep.objects.filter(
        plan=plan, specimen__in=specimens, kind="work", begin__isnull=False
    ).order_by("-begin")
    zone = timezone.get_default_timezone()
    return {
        row.specimen_id: timezone.localtime(plan.moment(row.begin or 0), zone).date()
        for row in rows
        if row.specimen_id is not None
    }
