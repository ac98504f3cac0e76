"""Reading seasons: whose they are, the overall table, records and what they rest on."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db.models import FloatField, QuerySet
from django.db.models.fields.json import KT
from django.db.models.functions import Cast

from hauch.core.judge import season as core
from hauch.core.measure.taking import MEAN
from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, RuleVersion, Test, TestReference
from hauch.rounds.queries import round_tests, rounds_of
from hauch.season.models import Champion, Season
from hauch.stores.models import ReferenceSpecimen, Rig
from hauch.verdict.models import Standing, StandingRow
from hauch.verdict.queries import standing_now


def visible_to(user: User) -> QuerySet[Season]:
    """Seasons of which a person may see a round, and those that the person began."""
    rounds = [round.pk for round in rounds_of(user)]
    mine = Season.objects.filter(places__round__in=rounds) | Season.objects.filter(created_by=user)
    return mine.distinct().order_by("-created_at", "pk")


def may_change(user: User, season: Season) -> bool:
    """Whether a person may change a season: a host who began it, or is host in a round of it."""
    if not allowed(user, "season.change"):
        return False
    rounds = season.places.values_list("round", flat=True)
    return season.created_by_id == user.pk or any(
        allowed(user, "round.change", round) for round in rounds_of(user) if round.pk in set(rounds)
    )


@dataclass(frozen=True)
class Place:
    """A round of a season as the person may see it.

    Parameters
    ----------
    order : its number in the season, from 1
    winners : entries in the first place
    tested : its tests by key
    """

    order: int
    round: Round
    rules: RuleVersion
    standing: Standing
    rows: list[StandingRow]
    tested: list[Test]

    @property
    def winners(self) -> list[Entry]:
        """Entries in the first place."""
        return [row.entry for row in self.rows if row.rank == 1]


@dataclass(frozen=True)
class Rounds:
    """Rounds of a season: those whose standing a person may see, those without one yet, and how many
    are hidden.
    """

    shown: list[Place]
    waiting: list[Round]
    hidden: int


def rounds_in(user: User, season: Season) -> Rounds:
    """Rounds of a season, in order."""
    mine = {round.pk: round for round in rounds_of(user)}
    shown, waiting, hidden = [], [], 0
    for place in season.places.order_by("order"):
        round = mine.get(place.round_id)
        if round is None:
            hidden += 1
            continue
        if not allowed(user, "verdict.view_early", round):
            waiting.append(round)
            continue
        rules, standing = standing_now(round)
        if rules is None or standing is None or standing.computed_at is None:
            waiting.append(round)
            continue
        rows = standing.rows.select_related("entry__designer").defer("tests").order_by("place")
        tested = round_tests(round, rules)
        shown.append(Place(place.order, round, rules, standing, list(rows), tested))
    return Rounds(shown, waiting, hidden)


def champions_of(season: Season, rounds: Rounds) -> list[Champion]:
    """Champions that were carried on, of those rounds whose standing a person may see."""
    seen = [place.round.pk for place in rounds.shown]
    into = [*seen, *(round.pk for round in rounds.waiting)]
    rows = season.champions.filter(origin__in=seen, into__in=into)
    return list(rows.select_related("entry", "origin", "into", "reference__type"))


@dataclass(frozen=True)
class Line:
    """A line of the overall table: whose, how much, and by round the row, its points and whether they
    count.
    """

    who: str
    total: core.Total
    cells: list[tuple[StandingRow, float, bool] | None]


def who_of(entry: Entry) -> tuple[str, str]:
    """Whose an entry is, as a key and as a name: the person, or the name that was written down; empty
    where nobody is known.
    """
    if entry.designer is not None:
        return f"person {entry.designer_id}", str(entry.designer)
    name = " ".join(entry.designer_name.split())
    return f"name {name.casefold()}" if name else "", name


def table_of(places: Sequence[Place], best: int | None) -> list[Line]:
    """The overall table: of each person the best entry of each round."""
    given: dict[str, dict[int, tuple[float, float]]] = defaultdict(dict)
    chosen: dict[tuple[str, int], tuple[StandingRow, float]] = {}
    names: dict[str, str] = {}
    for place in places:
        ranked = [row for row in place.rows if row.rank is not None]
        out = [row for row in place.rows if row.state == StandingRow.State.DNF]
        count = len(ranked) + len(out)
        for row in [*ranked, *out]:
            who, name = who_of(row.entry)
            names[who] = name
            found = _points(row, ranked, len(out))
            if not who or found is None:
                continue
            before = chosen.get((who, place.round.pk))
            if before is None or found > before[1]:
                chosen[who, place.round.pk] = (row, found)
                u = (
                    core.doubt_of_points(row.probabilities, count, row.low or 1, row.high or 1)
                    if row.rank is not None
                    else 0.0
                )
                given[who][place.round.pk] = (found, u)
    lines = []
    for total in core.totals(given, best):
        cells: list[tuple[StandingRow, float, bool] | None] = []
        for place in places:
            held = chosen.get((total.who, place.round.pk))
            counts = place.round.pk in total.counted
            cells.append((held[0], held[1], counts) if held is not None else None)
        lines.append(Line(names[total.who], total, cells))
    return lines


def _points(row: StandingRow, ranked: Sequence[StandingRow], out: int) -> float | None:
    if row.rank is None:
        return 0.0 if len(ranked) + out > 1 else None
    tied = sum(other.rank == row.rank for other in ranked)
    return core.points_of(row.rank, tied, len(ranked), out)


BEST = 2
"""Entries of each round that a record is sought among: the best, and who is next."""


@dataclass(frozen=True)
class RecordLine:
    """A record with what it rests on, in words.

    Parameters
    ----------
    apart : why it does not compare with the first line of its metric; empty for that line
    through : sentences on bridges and champions that were held against themselves
    """

    test: Test
    place: Place
    entry: Entry
    record: core.Record
    second: Entry | None
    conditions: list[str]
    rounds: list[int]
    apart: list[str]
    through: list[str]

    @property
    def change(self) -> float:
        """The change on the ground of the first round of its group, in the unit of changes."""
        return _in_unit(self.record.best.change, self.test)

    @property
    def half(self) -> float | None:
        """Half of its 95 % interval."""
        best = self.record.best
        if best.half is None or not self.test.how.log:
            return best.half
        return 100 * math.exp(best.change) * best.half


@dataclass(frozen=True)
class Records:
    """Records by metric, and those of figures that one entry alone has.

    Parameters
    ----------
    held : name of the metric, then its lines: first what compares with the earliest round that measured
        it, then what stands apart
    alone : the same, where no line has a second entry
    """

    held: list[tuple[str, list[RecordLine]]]
    alone: list[tuple[str, list[RecordLine]]]


def records_of(season: Season, places: Sequence[Place]) -> Records:
    """The records of a season."""
    facts = _Facts.of(season, places)
    by_metric: dict[str, list[core.Measured]] = defaultdict(list)
    for place in places:
        for test in place.tested:
            measured = facts.measured(place, test)
            if measured is not None:
                by_metric[measured.metric].append(measured)
    lines = [
        (facts.test(found[0]).how.label, facts.lines(core.groups(found)))
        for found in by_metric.values()
    ]
    return Records(
        [row for row in lines if any(line.second for line in row[1])],
        [row for row in lines if not any(line.second for line in row[1])],
    )


class _Facts:
    """What records need to know of rounds, tests, rigs, references, champions and entries."""

    def __init__(self, places: Sequence[Place], champions: Sequence[Champion]):
        self.places = {place.round.pk: place for place in places}
        self.tests = {test.pk: test for place in places for test in place.tested}
        self.champions = champions
        self.before = dict(Rig.objects.values_list("pk", "previous"))
        self.reference_of: dict[int, ReferenceSpecimen] = {}
        rows = TestReference.objects.filter(test__in=list(self.tests)).order_by("since", "id")
        for row in rows.select_related("specimen__type"):
            self.reference_of.setdefault(row.test_id, row.specimen)
        self.entries: dict[int, Entry] = {
            row.entry_id: row.entry for place in places for row in place.rows
        }

    @classmethod
    def of(cls, season: Season, places: Sequence[Place]) -> _Facts:
        return cls(places, list(season.champions.select_related("entry", "reference")))

    def test(self, measured: core.Measured) -> Test:
        return self.tests[measured.test]

    def measured(self, place: Place, test: Test) -> core.Measured | None:
        """What a round measured in a test, None where nobody has a figure in it."""
        sent = {c.entry_id for c in self.champions if c.origin_id == place.round.pk}
        figures = _figures(place.standing, test, sent)
        if not figures:
            return None
        rig = test.rig_id
        while (before := self.before.get(rig)) is not None:
            rig = before
        return core.Measured(
            place.round.pk,
            test.pk,
            str(test.own or test.procedure),
            conditions_of(place.round, test),
            rig,
            self.reference_of[test.pk].pk if test.pk in self.reference_of else 0,
            test.how.direction,
            figures,
            self._carried(place, test),
            {
                reference: _bridged(reference, change, half, test)
                for reference, change, half, *_ in _bridges(place.standing, test)
            },
        )

    def _carried(self, place: Place, test: Test) -> dict[int, core.Figure]:
        """How champions of earlier rounds read in this one, against its reference."""
        bridges = {row[0]: row[1:3] for row in _bridges(place.standing, test)}
        found = {}
        for one in self.champions:
            if one.into_id == place.round.pk and one.reference_id in bridges:
                change, half = bridges[one.reference_id]
                found[one.entry_id] = _bridged(one.entry_id, change, half, test)
        return found

    def lines(self, groups: Sequence[Sequence[core.Joined]]) -> list[RecordLine]:
        found = []
        first = groups[0][0].measured
        for group in groups:
            record = core.record_of(group)
            if record is None:
                continue
            here = group[0].measured
            best = record.best.joined.measured
            place, test = self.places[best.round], self.tests[best.test]
            found.append(
                RecordLine(
                    test,
                    place,
                    self.entries[record.best.entry],
                    record,
                    self.entries[record.second.entry] if record.second else None,
                    self._conditions(test, best),
                    [self.places[one.measured.round].order for one in group],
                    [] if group is groups[0] else self._apart(here, first),
                    [text for one in group if (text := self._through(one))],
                )
            )
        return found

    def _conditions(self, test: Test, measured: core.Measured) -> list[str]:
        against = self.reference_of.get(measured.test)
        words = [f"{name} {value}" for name, value in measured.alike.items() if value]
        return [f"on {test.rig.name}", f"against {against or 'no reference'}", *words]

    def _apart(self, one: core.Measured, first: core.Measured) -> list[str]:
        """Why two groups do not compare."""
        differ = core.unlike(one, first)
        if differ:
            return differ
        words = []
        if one.rig != first.rig:
            words.append(
                f"rig: {self.tests[one.test].rig.name} instead of {self.tests[first.test].rig.name}"
            )
        if one.reference != first.reference:
            names = [str(self.reference_of.get(m.test, "none")) for m in (one, first)]
            words.append(f"reference: {names[0]} instead of {names[1]}, never run in turn")
        return [*words, "no champion was run in both"]

    def _through(self, joined: core.Joined) -> str:
        """How a round stands on the ground of the first one, where a champion was carried on."""
        test = self.tests[joined.measured.test]
        number = self.places[joined.measured.round].order
        if joined.through is None:
            if joined.by != "beside":
                return ""
            return (
                f"Round {number} is against {self.reference_of[test.pk]}, which is bridged to the reference"
                f" of the others; that adds ± {_shown(joined.half, test)} to its changes."
            )
        entry = self.entries[joined.through]
        if joined.shift is None:
            return (
                f"Round {number} is bridged by {entry}, which was run in both; that adds"
                f" ± {_shown(joined.half, test)} to its changes."
            )
        moved = f"{_shown(abs(joined.shift[0]), test)} ± {_shown(joined.shift[1], test)}"
        if joined.by != "bridged":
            return f"{entry} was run again in round {number} and differs by {moved}: they agree."
        return (
            f"{entry} was run again in round {number} and differs by {moved}: more than its doubt,"
            " so the round is bridged by it."
        )


def _bridged(key: int, change: float, half: float | None, test: Test) -> core.Figure:
    """A stored bridge as a change in y: bridges of ratios are kept in hundredths of a logarithm."""
    scale = 100.0 if test.how.log else 1.0
    return core.Figure(key, change / scale, None if half is None else half / scale)


def _in_unit(size: float, test: Test) -> float:
    """A difference in y in the unit of changes."""
    return 100 * math.expm1(size) if test.how.log else size


def _shown(size: float, test: Test) -> str:
    return f"{_in_unit(size, test):.2g} {test.how.change_unit}"


def _bridges(standing: Standing, test: Test) -> list[list[Any]]:
    return (standing.reference.get(test.key) or {}).get("bridges", [])


def _figures(standing: Standing, test: Test, sent: set[int]) -> list[core.Figure]:
    """The best entries of a test, and those that were carried on from this round."""
    cell = f"tests__{test.key}"
    rows = standing.rows.annotate(change=Cast(KT(f"{cell}__change"), FloatField())).filter(
        change__isnull=False
    )
    rows = rows.exclude(state=StandingRow.State.DNF)
    order = "-change" if test.how.direction > 0 else "change"
    best = list(rows.order_by(order, "place")[:BEST])
    more = rows.filter(entry__in=sent).exclude(pk__in=[row.pk for row in best])
    return [_figure(row, test, row.entry_id in sent) for row in [*best, *more]]


def _figure(row: StandingRow, test: Test, sent: bool) -> core.Figure:
    """An entry's change in y with its half. Where it is the mean of several prints and one of them was
    carried on, that one differs by what prints do.
    """
    cell = row.tests[test.key]
    change, half = cell["change"], cell["change_expanded"]
    if test.how.log:
        ratio = 1 + change / 100
        change, half = math.log(ratio), None if half is None else half / 100 / ratio
    if sent and half is not None and cell["prints"] > 1:
        spread = (cell["print_sd"] or 0.0) / (100 if test.how.log else 1)
        half = math.hypot(half, core.COVER * spread)
    return core.Figure(row.entry_id, change, half)


def conditions_of(round: Round, test: Test) -> Mapping[str, str]:
    """What must be the same for two rounds to compare, besides rig and reference, by name."""
    values = ", ".join(f"{name} {value}" for name, value in sorted(test.setting.values.items()))
    held = f" {round.equal_value:g}" if round.equal_value is not None else ""
    return {
        "at": values or test.setting.label,
        "compared at": f"{round.get_equal_display()}{held}",
        "at a speed of": f"{test.common_speed:,.0f} 1/min" if test.common_speed else "",
        "at a distance of": f"{test.reporting_distance:g} m" if test.reporting_distance else "",
        "taking the": test.get_taking_display() if test.taking != MEAN else "",
        "after": test.get_soak_display() if test.soak != Test.Soak.NONE else "",
    }
