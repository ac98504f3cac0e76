"""From rows to a problem: what is still to be printed, finished and run, and in which house."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from django.urls import reverse

from hauch.bench.models import Live, Run
from hauch.bench.plan import Plan, plan_of
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import fed_by
from hauch.core.plan.chance import Doubt
from hauch.core.plan.house import House, Piece, Pin, Rank, Step, Unit
from hauch.entries.models import Entry
from hauch.people.clock import house_day
from hauch.plan.benches import Benches, Known
from hauch.plan.hours import Hours, bench_key, workers_of
from hauch.plan.making import Making
from hauch.plan.models import DayPlan, Deadline, Wish
from hauch.plan.record import Record, whole
from hauch.plan.told import Told, part_key
from hauch.rounds.models import Round
from hauch.ui.missing import Missing
from hauch.workshop.models import Specimen


@dataclass
class Problem:
    """What is planned, the house with hours for longer than that, what is told of each step, what is
    missing (of which round, None for the house), and which units somebody pinned.
    """

    house: House
    later: House
    units: list[Unit]
    told: dict[str, Told]
    missing: list[tuple[Missing, int | None]] = field(default_factory=list)
    pinned: set[str] = field(default_factory=set)

    @property
    def doubts(self) -> dict[str, Doubt]:
        """What is not certain, by key of the step."""
        return {key: told.doubt for key, told in self.told.items() if told.doubt is not None}


def load(plan: DayPlan) -> Problem:
    """All that is to be done in rounds that go on, from the plan's now."""
    rounds = list(
        Round.objects.filter(
            state__in=[Round.State.OPEN, Round.State.BENCH], archived=False
        ).order_by("number", "pk")
    )
    plans = {round.pk: plan_of(round, 1) for round in rounds if _is_run(round)}
    rigs = {test.rig.name: test.rig for found in plans.values() for test in found.tests}
    house = Hours(plan).house(rigs.values())
    longer = min(4 * plan.days + 7, 150)
    made = Problem(house, Hours(plan, longer).house(rigs.values()), [], {})
    loader = _Loader(plan, made)
    loader.print(rounds)
    for round in rounds:
        loader.add(round, plans.get(round.pk))
    loader.on_now()
    loader.grant()
    return made


def _is_run(round: Round) -> bool:
    """Whether its prints go onto the bench: it is there, or was begun while entries still come in."""
    if round.state == Round.State.BENCH:
        return True
    return Run.objects.filter(test__round=round, specimen__isnull=False).exists()


class _Loader:
    """Collects units round by round."""

    def __init__(self, plan: DayPlan, made: Problem) -> None:
        self.plan, self.made, self.record = plan, made, Record()
        self.making = Making(plan, self.record)
        self.benches = Benches(plan, made.house, self.record)
        self.due = self._deadlines()

    def _deadlines(self) -> dict[int, int]:
        """Minutes by which rounds are to be done, where that lies within the plan; a day that has passed
        is said to be so.
        """
        first, found = house_day(self.plan.begin), {}
        for deadline in Deadline.objects.select_related("round"):
            days = (deadline.day - first).days + 1
            if days < 1 and deadline.round.state == Round.State.BENCH:
                self._miss(
                    Missing(
                        f"The deadline of {deadline.round}, {deadline.day:%-d %b}, has passed.",
                        reverse("plan:house") + "#deadlines",
                        "Set another",
                    ),
                    deadline.round_id,
                )
            elif days <= self.plan.days:
                found[deadline.round_id] = days * 24 * 60
        return found

    def _miss(self, missing: Missing, round: int | None) -> None:
        self.made.missing.append((missing, round))

    def add(self, round: Round, found: Plan | None) -> None:
        """What is left to do in the workshop, then on the benches."""
        by = workers_of(round, self.made.house)
        if not by:
            if self.made.house.people:
                self._miss(
                    Missing(
                        f"Nobody who is on duty may work in {round}. Its host or an operator needs"
                        " hours.",
                        reverse("plan:house") + "#hours",
                        "Set hours",
                    ),
                    round.pk,
                )
            return
        due = self.due.get(round.pk)
        rows = [] if found is None else [row for r in found.lacking.values() for row in r]
        named = {row.specimen for row in rows}
        prints = (
            Specimen.objects.filter(version__entry__round=round)
            .select_related("version__entry", "version__material", "printed_in")
            .prefetch_related("steps")
        )
        specimens = {one.pk: one for one in prints.filter(pk__in=named)}
        waiting = prints.filter(version__entry__state=Entry.State.IN).exclude(
            state__in=[Specimen.State.READY, Specimen.State.BROKEN]
        )
        ways = {}
        for specimen in waiting:
            specimen.version.entry.round = round
            way = self.making.way(specimen, round, by, due)
            self.made.units += way.units
            self.made.told |= way.told
            if way.last:
                ways[specimen.pk] = way.last
        if found is not None:
            self._meters(found)
            self.benches.add(Known(round, found, by, due, specimens, ways))
        self.made.units += self.benches.units
        self.made.told |= self.benches.told
        self.benches.units, self.benches.told = [], {}
        self._without_print(round)

    def print(self, rounds: Sequence[Round]) -> None:
        """Prints of all rounds, those of one material together where a bed takes them."""
        wanted = []
        planned = Specimen.objects.filter(
            state=Specimen.State.PLANNED,
            version__entry__state=Entry.State.IN,
            version__entry__round__in=rounds,
        ).select_related("version__entry", "version__material", "printed_in")
        self.record.know(specimen.version_id for specimen in planned)
        known = {round.pk: round for round in rounds}
        workers = {round.pk: workers_of(round, self.made.house) for round in rounds}
        for specimen in planned:
            pk = specimen.version.entry.round_id
            specimen.version.entry.round = known[pk]
            if workers[pk]:
                wanted.append((specimen, workers[pk], self.due.get(pk)))
        way = self.making.prints(wanted)
        self.made.units += way.units
        self.made.told |= way.told

    def _meters(self, found: Plan) -> None:
        """A bench without its meter runs nothing: said, and its runs are left out."""
        computed = {key for key, channel in CHANNELS.items() if channel.computed}
        for test in found.tests:
            if not found.lacking[test.pk]:
                continue
            meters = {meter.channel for meter in test.rig.meters.all()}
            if not fed_by(test.how, meters | computed):
                found.lacking[test.pk] = []
                self._miss(
                    Missing(
                        f"{test.rig} has no meter for “{test.label}”, so that none of its runs is"
                        " planned.",
                        reverse("stores:rig", args=[test.rig.pk]),
                        "Choose its meter",
                    ),
                    test.round_id,
                )

    def _without_print(self, round: Round) -> None:
        alive = Specimen.objects.exclude(state=Specimen.State.BROKEN).values("version__entry")
        count = round.entries.filter(state=Entry.State.IN).exclude(pk__in=alive).count()
        if count:
            self._miss(
                Missing(
                    f"{count} {'entry' if count == 1 else 'entries'} of {round}"
                    f" {'has' if count == 1 else 'have'} no print, planned or made.",
                    reverse("workshop:list", args=[round.slug]),
                    "Plan prints in the workshop",
                ),
                round.pk,
            )

    def on_now(self) -> None:
        """What is on a bench at this moment holds it."""
        running = Live.objects.filter(ended_at=None).select_related(
            "test__rig", "round", "recording", "specimen__version__entry", "reference__type"
        )
        for live in running:
            place = bench_key(live.test.rig.name)
            if place not in self.made.house.by_key:
                continue
            left = self.record.whole_run(live.test) - live.seconds() / 60
            key = f"now:{live.pk}"
            step = Step(
                key,
                "now",
                f"{live.subject} is on the bench",
                (Piece("run", whole(max(left, 2.0))),),
                part=part_key(live.specimen_id, live.reference_id),
                places=(place,),
                round=live.round.slug,
            )
            self.made.units.append(Unit(key, (step,), Pin(self.plan.now, place)))
            self.made.told[key] = Told("now", live.test.label, live.subject, round=live.round)

    def grant(self) -> None:
        """Give units the pins and days that somebody wished; nothing begins before now."""
        wishes = {wish.unit: wish for wish in Wish.objects.all()}
        for index, unit in enumerate(self.made.units):
            pin, steps = unit.pin, unit.steps
            wish = wishes.get(unit.key)
            if wish is not None:
                minute = self.plan.minute(wish.at)
                if wish.kind == Wish.Kind.PIN:
                    if minute >= self.plan.now:
                        pin = Pin(minute, wish.place)
                        self.made.pinned.add(unit.key)
                else:
                    steps = tuple(replace(s, rank=Rank.MUST, due=minute) for s in steps)
            steps = tuple(replace(s, earliest=max(s.earliest, self.plan.now)) for s in steps)
            self.made.units[index] = Unit(unit.key, steps, pin)
