"""Other rules on the same figures: what is wondered about, from the address or a kept scenario, and
what it would do to the order.
"""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from django.core.exceptions import ValidationError
from django.db import transaction

from hauch.core.judge.schemes import FRONT, RANK_POINTS, SUM, Limit
from hauch.core.judge.standing import Term
from hauch.core.judge.what_if import Move, Ordered, Wish, moves, ordered, passed, reaches
from hauch.core.quantity.typed import parse_number
from hauch.entries.models import Entry
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.drafts import RuleDraft
from hauch.rounds.models import Round, RuleVersion, Test
from hauch.verdict.compute import judge
from hauch.verdict.models import Scenario, Standing, StandingFigures

MOST_WEIGHT = 1e6
MOST_SCENARIOS = 50
MOST_DRAWN = 40
"""So many places are drawn; who is farther behind is counted."""

MOST_TOLD = 6
"""So many moves are told in words."""


@dataclass
class Wondered:
    """Rules that somebody wonders about, by test key; no weight: not scored."""

    scheme: str
    noise: str
    weights: dict[str, float] = field(default_factory=dict)
    limits: dict[str, float] = field(default_factory=dict)

    @classmethod
    def of(cls, rules: RuleVersion) -> Wondered:
        """The rules as they are."""
        terms = list(rules.terms.select_related("test"))
        return cls(
            rules.scheme,
            rules.level_as,
            {t.test.key: t.weight for t in terms if t.weight is not None},
            {t.test.key: t.most_loss for t in terms if t.most_loss is not None},
        )

    def changed(self, asked: Mapping[str, str], tests: Sequence[Test]) -> Wondered:
        """With what an address asks for: scheme, noise, w_KEY, l_KEY.

        Raises
        ------
        ValidationError : what cannot be read, in a sentence each
        """
        made = Wondered(self.scheme, self.noise, dict(self.weights), dict(self.limits))
        if asked.get("scheme") in RuleVersion.Scheme.values:
            made.scheme = asked["scheme"]
        if asked.get("noise") in RuleVersion.LevelAs.values:
            made.noise = asked["noise"]
        problems = []
        for test in tests:
            for start, kept, low, what in (
                ("w_", made.weights, 0.0, "weight"),
                ("l_", made.limits, -MOST_WEIGHT, "limit"),
            ):
                if (text := asked.get(start + test.key)) is None:
                    continue
                kept.pop(test.key, None)
                if not text.strip():
                    continue
                try:
                    value = parse_number(text[:40])
                except ValueError as problem:
                    problems.append(f"The {what} of “{test.label}”: {problem}")
                    continue
                if not low <= value <= MOST_WEIGHT:
                    problems.append(
                        f"The {what} of “{test.label}” must be between {low:,.0f} and"
                        f" {MOST_WEIGHT:,.0f}."
                    )
                elif value or what == "limit":
                    kept[test.key] = value
        if problems:
            raise ValidationError(problems)
        return made

    def asked(self, tests: Sequence[Test]) -> dict[str, str]:
        """What an address asks for to have it."""
        given = {"scheme": self.scheme, "noise": self.noise}
        for test in tests:
            given[f"w_{test.key}"] = f"{self.weights.get(test.key, 0):.12g}"
            if test.key in self.limits:
                given[f"l_{test.key}"] = f"{self.limits[test.key]:.12g}"
        return given

    def into(self, draft: RuleDraft) -> RuleDraft:
        """A draft of the rules with it, to look at and accept."""
        draft.scheme, draft.level_as = self.scheme, self.noise
        for one in draft.tests:
            if one.test is not None:
                one.weight = self.weights.get(one.test.key)
                one.most_loss = self.limits.get(one.test.key)
        return draft


@dataclass(frozen=True)
class Figures:
    """What a round's tests came to: entries in order, tests that have figures, and the differences
    to the reference in y, NaN where there is none.
    """

    entries: list[int]
    tests: list[Test]
    grounds: list[float]
    deltas: list[np.ndarray]

    @classmethod
    def of(cls, standing: Standing, tests: Sequence[Test]) -> Figures:
        """As they stand with a standing; made anew where an earlier version kept none."""
        there = StandingFigures.objects.filter(standing=standing).first()
        kept = there.deltas if there is not None else judge(standing.rules).deltas
        known = [test for test in tests if test.key in kept["tests"]]
        return cls(
            kept["entries"],
            known,
            [kept["tests"][test.key]["ground"] for test in known],
            [np.array(kept["tests"][test.key]["delta"], float) for test in known],
        )

    def wish(self, wondered: Wondered) -> Wish:
        """As the core takes it."""
        terms, limits = [], []
        for test, ground in zip(self.tests, self.grounds, strict=True):
            how = test.how
            level_as = wondered.noise if how.kind == "level" else RuleVersion.LevelAs.LEVEL
            weight = wondered.weights.get(test.key, 0.0)
            terms.append(Term(test.label, weight, how.direction, how.log, ground, str(level_as)))  # type: ignore[arg-type]
            most = wondered.limits.get(test.key)
            limits.append(None if most is None else Limit(test.label, most, how.direction, how.log))
        return Wish(wondered.scheme, tuple(terms), tuple(limits))

    def missing(self, wondered: Wondered, tests: Sequence[Test]) -> list[str]:
        """Tests that are asked for and have no figure at all."""
        asked = set(wondered.weights) | set(wondered.limits)
        known = {test.key for test in self.tests}
        return [test.label for test in tests if test.key in asked and test.key not in known]


@dataclass(frozen=True, slots=True)
class Slope:
    """An entry between its place before and after; None where it is beyond what is drawn."""

    entry: Entry
    before: int | None
    after: int | None
    top: float
    end: float

    @property
    def way(self) -> str:
        """up, down, or same."""
        if self.before == self.after or self.before is None or self.after is None:
            return "same"
        return "up" if self.after < self.before else "down"


def told(
    figures: Figures, now: Wondered, then: Wondered, entries: Mapping[int, Entry]
) -> dict[str, Any]:
    """What other rules do: the orders side by side, the moves in words, the reach of each weight.

    Raises
    ------
    ValueError : either cannot rank, in a sentence
    """
    wish = figures.wish(then)
    before, after = ordered(figures.wish(now), figures.deltas), ordered(wish, figures.deltas)
    names = [entries[key] for key in figures.entries]
    unit = RANK_POINTS, SUM, FRONT
    alike = now.scheme == then.scheme or not {now.scheme, then.scheme}.intersection(unit)
    up = [
        m
        for m in moves(before, after)
        if m.after is not None and (m.before is None or m.after < m.before)
    ]
    ranked = set(after.entries.tolist())
    return {
        "rows": _rows(before, after, names),
        "slopes": (slopes := _slopes(before, after, names)),
        "height": max(len(before.entries[:MOST_DRAWN]), len(after.entries[:MOST_DRAWN]), 1),
        "sentences": [
            _sentence(move, *passed(before, after, move, alike), names, figures.tests)
            for move in up[:MOST_TOLD]
        ],
        "more": max(len(up) - MOST_TOLD, 0),
        "first": _first(before, after, names),
        "beyond": max(len(after.entries) - MOST_DRAWN, 0),
        "left_out": [names[e].name for e in range(len(names)) if e not in ranked],
        "reaches": _reaches(figures, wish, after, names),
        "moved": any(slope.way != "same" for slope in slopes),
    }


def _rows(before: Ordered, after: Ordered, names: list[Entry]) -> list[dict[str, Any]]:
    """Places line by line: who was there, who is."""
    count = min(max(len(before.entries), len(after.entries)), MOST_DRAWN)

    def at(order: Ordered, k: int) -> dict[str, Any] | None:
        if k >= len(order.entries):
            return None
        return {
            "entry": names[order.entries[k]],
            "place": int(order.place[k]),
            "score": float(order.score[k]),
            "outside": bool(order.outside[k]),
        }

    return [{"before": at(before, k), "after": at(after, k)} for k in range(count)]


def _slopes(before: Ordered, after: Ordered, names: list[Entry]) -> list[Slope]:
    """Lines between the two, half a row from each end of its row; who leaves what is drawn goes to
    its lower edge.
    """
    was = {e: k for k, e in enumerate(before.entries.tolist())}
    now = {e: k for k, e in enumerate(after.entries.tolist())}
    edge = float(min(max(len(was), len(now)), MOST_DRAWN))
    found = []
    for entry in {*was, *now}:
        a, b = was.get(entry), now.get(entry)
        if a is None or b is None or min(a, b) >= MOST_DRAWN:
            continue
        top, end = (k + 0.5 if k < MOST_DRAWN else edge for k in (a, b))
        found.append(Slope(names[entry], before.place_of(entry), after.place_of(entry), top, end))
    # Those that move lie over those that stay.
    return sorted(found, key=lambda slope: (slope.way != "same", slope.end))


def _named(entries: Sequence[Entry], most: int = 3) -> str:
    shown = [one.name for one in entries[:most]]
    if len(entries) > most:
        return f"{', '.join(shown)} and {len(entries) - most} more"
    return " and ".join([", ".join(shown[:-1]), shown[-1]] if len(shown) > 1 else shown)


def _sentence(
    move: Move, past: Sequence[int], by: int | None, names: list[Entry], tests: list[Test]
) -> str:
    """A rise in words."""
    name = names[move.entry].name
    if move.before is None:
        return f"{name} is ranked now, in place {move.after}."
    behind = f", past {_named([names[e] for e in past])}" if past else ""
    carried = f", carried by {tests[by].label}" if by is not None else ""
    return f"{name} rises from {move.before} to {move.after}{behind}{carried}."


def _first(before: Ordered, after: Ordered, names: list[Entry]) -> str:
    """What becomes of the first place, in a sentence."""

    def leaders(order: Ordered) -> list[Entry]:
        return [names[e] for e in order.entries[(order.place == 1) & ~order.outside]]

    was, now = leaders(before), leaders(after)
    if not now:
        return "Nobody is ranked by this: no entry has all figures that it asks for."
    if not was:
        return f"{_named(now)} would be first."
    if {one.pk for one in was} == {one.pk for one in now}:
        return f"The first place stays with {_named(now)}."
    return f"The first place goes from {_named(was)} to {_named(now)}."


def _reaches(
    figures: Figures, wish: Wish, order: Ordered, names: list[Entry]
) -> dict[str, dict[str, Any]]:
    """How far each weight may go, by test key."""
    found = {}
    for reach in reaches(wish, figures.deltas, order):
        infinite = math.isinf(reach.high)
        ends = []
        if reach.below is not None:
            ends.append(f"below {reach.low:.2g} it goes to {names[reach.below].name}")
        if reach.above is not None:
            ends.append(f"above {reach.high:.3g} it goes to {names[reach.above].name}")
        found[figures.tests[reach.test].key] = {
            "low": reach.low,
            "high": None if infinite else reach.high,
            "text": "; ".join(ends),
        }
    return found


def keep(user: User, round: Round, name: str, wondered: Wondered) -> Scenario:
    """Keep rules under a name; one of that name is replaced.

    Raises
    ------
    PermissionDenied, ValidationError : no name, or too many are kept
    """
    require(user, "rules.change", round)
    name = " ".join(name.split())[:80]
    if not name:
        raise ValidationError("Give the scenario a name.")
    wish = {
        "scheme": wondered.scheme,
        "noise": wondered.noise,
        "weights": wondered.weights,
        "limits": wondered.limits,
    }
    with transaction.atomic():
        Round.objects.select_for_update(of=("self",)).get(pk=round.pk)
        others = round.scenarios.exclude(name=name)
        if others.count() >= MOST_SCENARIOS:
            raise ValidationError(f"{MOST_SCENARIOS} scenarios are kept. Drop one first.")
        made, _ = Scenario.objects.update_or_create(
            round=round, name=name, defaults={"wish": wish, "by": user}
        )
        record(user, "scenario.keep", made, round, name=name)
    return made


def drop(user: User, scenario: Scenario) -> None:
    """Drop a kept scenario."""
    require(user, "rules.change", scenario.round)
    with transaction.atomic():
        record(user, "scenario.drop", scenario, scenario.round, name=scenario.name)
        scenario.delete()


def kept_as(scenario: Scenario) -> Wondered:
    """What a scenario wonders about."""
    return Wondered(**scenario.wish)
