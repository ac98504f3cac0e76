"""Several rounds in a row: points for places, and what of different rounds may be compared.

Changes are in y, which is the natural logarithm of a figure or a level, against the reference of the
round; halves are half-widths of 95 % intervals.

References
----------
JCGM 100:2008, 5.2.2: causes that two changes share, such as the runs of one reference, are taken for
    independent here. They are positively correlated, so that differences look less sure than they are.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from hauch.core.quantity import expanded

MOST = 100.0
"""Points for who is before all others."""

COVER = expanded(1.0)
"""Half of a 95 % interval in standard deviations, of a normal distribution."""


def points_of(rank: int, tied: int, ranked: int, others: int) -> float | None:
    """Points of a place: the share of the others that are behind, ties for a half, of 100; None where
    there is nobody to be ranked with.

    Parameters
    ----------
    rank : place that is shown, from 1
    tied : entries that share it, with this one
    ranked : entries that have a place
    others : entries that did not finish: they are behind all
    """
    count = ranked + others
    if count < 2:
        return None
    behind = ranked - rank - (tied - 1) / 2 + others
    return MOST * behind / (count - 1)


def doubt_of_points(probabilities: Sequence[float], count: int, low: int, high: int) -> float:
    """Standard uncertainty of points, from the probability of each place; where those are not known from
    the 95 % interval of the place.

    Parameters
    ----------
    count : entries that took part
    """
    if count < 2:
        return 0.0
    if probabilities:
        total = sum(probabilities)
        mean = sum(p * place for place, p in enumerate(probabilities, 1)) / total
        variance = sum(p * (place - mean) ** 2 for place, p in enumerate(probabilities, 1)) / total
        u = math.sqrt(variance)
    else:
        u = (high - low) / 2 / COVER
    return MOST * u / (count - 1)


@dataclass(frozen=True, slots=True)
class Total:
    """What somebody came to over a season.

    Parameters
    ----------
    who : key of the person
    points : sum of the rounds that count
    u : its standard uncertainty
    counted : rounds that count
    rank : place, shared for equal points
    close : whether it cannot be told from the one before
    """

    who: str
    points: float
    u: float
    counted: frozenset[int]
    rank: int = 0
    close: bool = False

    @property
    def expanded(self) -> float:
        """Half of its 95 % interval."""
        return COVER * self.u


def totals(given: Mapping[str, Mapping[int, tuple[float, float]]], best: int | None) -> list[Total]:
    """The overall table, the most points first.

    Parameters
    ----------
    given : by person and round, the points and their standard uncertainty
    best : so many rounds of each count; None for all

    Notes
    -----
    Places in one round depend on each other: what one gains another loses. Uncertainties of two totals
    are therefore added as they are, which is the most that their difference can have.
    """
    found = []
    for who, by_round in given.items():
        order = sorted(by_round, key=lambda one: (-by_round[one][0], one))
        counted = order if best is None else order[:best]
        found.append(
            Total(
                who,
                sum(by_round[one][0] for one in counted),
                math.sqrt(sum(by_round[one][1] ** 2 for one in counted)),
                frozenset(counted),
            )
        )
    found.sort(key=lambda one: (-round(one.points, 6), one.who.casefold()))
    out: list[Total] = []
    for n, one in enumerate(found):
        before = out[-1] if out else None
        same = before is not None and abs(before.points - one.points) < 1e-6
        close = before is not None and before.points - one.points < COVER * (before.u + one.u)
        out.append(
            Total(
                one.who,
                one.points,
                one.u,
                one.counted,
                before.rank if same and before else n + 1,
                bool(close),
            )
        )
    return out


@dataclass(frozen=True, slots=True)
class Figure:
    """An entry's change against the reference in one test: y, and its half; None where nobody knows."""

    entry: int
    change: float
    half: float | None


@dataclass(frozen=True, slots=True)
class Measured:
    """One figure as a round measured it.

    Parameters
    ----------
    round, test : keys
    metric : what is measured and compared in which way
    alike : conditions by their name, besides rig and reference; all must be the same
    rig, reference : keys of the rig and of the specimen of the reference that changes are against
    direction : +1 where more is better
    figures : the best entries, and those that were carried on from here
    carried : by entry of an earlier round, how it read here as a second reference
    beside : how other specimens of the reference read here, by their key
    """

    round: int
    test: int
    metric: str
    alike: Mapping[str, str]
    rig: int
    reference: int
    direction: int
    figures: Sequence[Figure]
    carried: Mapping[int, Figure] = field(default_factory=dict)
    beside: Mapping[int, Figure] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Joined:
    """A round's figures as they stand on the ground of the first round of their group.

    Parameters
    ----------
    offset, half : what is added to its changes, and the half of that
    by : ``first``, ``same`` rig and reference, ``beside`` where two specimens of the reference were run in
        turn, or ``bridged``
    through : entry that bridges, or that was held against itself
    shift : how that entry differs between the rounds, with its half; None where none was carried on
    """

    measured: Measured
    offset: float = 0.0
    half: float = 0.0
    by: str = "first"
    through: int | None = None
    shift: tuple[float, float] | None = None


def groups(found: Sequence[Measured]) -> list[list[Joined]]:
    """Put together what compares, in the order of the rounds.

    Notes
    -----
    A round on the same rig against the same specimen of the reference stands on the same ground; against
    another specimen it does by the bridge between the two, where they were run in turn in either round.
    Where an entry of an earlier round was run in it as a second reference, that is checked: does the
    entry differ between the rounds by more than its doubt, then the round is bridged by it. On another
    rig or against another reference a round is bridged by such an entry, or stands apart.
    """
    made: list[list[Joined]] = []
    for one in found:
        for group in made:
            joined = _joined(one, group)
            if joined is not None:
                group.append(joined)
                break
        else:
            made.append([Joined(one)])
    return made


def _joined(one: Measured, group: Sequence[Joined]) -> Joined | None:
    first = group[0].measured
    if one.metric != first.metric or one.alike != first.alike:
        return None
    bridge = _bridge(one, group)
    same = _same_ground(one, group)
    if same is None or bridge is None:
        return same or bridge
    shift = bridge.offset - same.offset, math.hypot(bridge.half, same.half)
    if abs(shift[0]) <= shift[1]:
        return replace(same, through=bridge.through, shift=shift)
    return Joined(one, bridge.offset, bridge.half, "bridged", bridge.through, shift)


def _same_ground(one: Measured, group: Sequence[Joined]) -> Joined | None:
    """A round on the rig of one of the group, against the same specimen of the reference or one that was
    run in turn with it; the surest, and of those the last.
    """
    found = []
    for member in group:
        other = member.measured
        if other.rig != one.rig:
            continue
        if other.reference == one.reference:
            found.append(Joined(one, member.offset, member.half, "same"))
        theirs, ours = one.beside.get(other.reference), other.beside.get(one.reference)
        for sign, bridge in ((-1.0, theirs), (1.0, ours)):
            if bridge is not None and bridge.half is not None:
                half = math.hypot(member.half, bridge.half)
                found.append(Joined(one, member.offset + sign * bridge.change, half, "beside"))
    return min(reversed(found), key=lambda joined: joined.half, default=None)


def _bridge(one: Measured, group: Sequence[Joined]) -> Joined | None:
    """The surest bridge of a round to a group."""
    best: Joined | None = None
    for member in group:
        for figure in member.measured.figures:
            here = one.carried.get(figure.entry)
            if here is None or here.half is None or figure.half is None:
                continue
            half = math.sqrt(member.half**2 + figure.half**2 + here.half**2)
            if best is None or half < best.half:
                offset = member.offset + figure.change - here.change
                best = Joined(one, offset, half, "bridged", figure.entry)
    return best


@dataclass(frozen=True, slots=True)
class Held:
    """A figure on its group's ground, and the round that it is of."""

    entry: int
    joined: Joined
    change: float
    half: float | None


@dataclass(frozen=True, slots=True)
class Record:
    """The best of a group, and the second: whether the two can be told apart."""

    best: Held
    second: Held | None
    told: bool


def record_of(group: Sequence[Joined]) -> Record | None:
    """The record of what compares; None where nothing was measured."""
    direction = group[0].measured.direction
    held: dict[int, Held] = {}
    for joined in group:
        for figure in joined.measured.figures:
            half = None if figure.half is None else math.hypot(figure.half, joined.half)
            one = Held(figure.entry, joined, figure.change + joined.offset, half)
            before = held.get(figure.entry)
            if before is None or direction * (one.change - before.change) > 0:
                held[figure.entry] = one
    order = sorted(held.values(), key=lambda one: (-direction * one.change, one.entry))
    if not order:
        return None
    best, second = order[0], order[1] if len(order) > 1 else None
    told = (
        second is not None
        and best.half is not None
        and second.half is not None
        and abs(best.change - second.change) > math.hypot(best.half, second.half)
    )
    return Record(best, second, told)


def unlike(one: Measured, other: Measured) -> list[str]:
    """What two of one metric differ in, by name, with both values; empty where only rig or reference
    do.
    """
    names = dict.fromkeys([*other.alike, *one.alike])
    return [
        f"{name} {one.alike.get(name) or 'none'} instead of {other.alike.get(name) or 'none'}"
        for name in names
        if one.alike.get(name) != other.alike.get(name)
    ]
