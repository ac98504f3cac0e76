"""A change of rules before it is made: what it is, why it cannot be, and what it means for the runs
so far.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from django.urls import reverse

from hauch.core.judge.schemes import Limit, rule_problems
from hauch.core.judge.standing import Term
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.own import KEY, FormulaWrong, Own, checked
from hauch.core.measure.procedures import Procedure, channels_of, fed_by
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.taking import HIGHEST, MEAN
from hauch.rounds.models import HELD_EQUAL, PHYSICAL, Round, RuleVersion, Test, how_of
from hauch.rounds.queries import current_rules, round_tests
from hauch.stores.models import Rig
from hauch.ui.missing import Missing

COUNTED = ("label", "order", "repeats", "readings", "baseline")
"""Changes that leave runs as they are."""
CONVERTED = ("procedure", "own", "taking", "common_speed", "reporting_distance")
"""Changes of how readings are converted: runs stay valid and are reduced again."""


@dataclass
class TestDraft:
    """A test as it is wanted; ``test`` is the present one, None for a new one."""

    test: Test | None
    procedure: str
    label: str
    rig: Rig | None
    order: int = 1
    repeats: int = 3
    readings: int = 5
    soak: str = Test.Soak.NONE
    soak_minutes: float | None = None
    resolution: float | None = None
    baseline: float = 1.0
    common_speed: float | None = None
    reporting_distance: float | None = None
    weight: float | None = None
    most_loss: float | None = None
    dropped: bool = False
    own: dict[str, Any] | None = None
    taking: str = MEAN

    @property
    def rig_label(self) -> str:
        """The kind of rig it is read on, in words."""
        return RIGS[self.how.rig].label

    @property
    def added_as(self) -> str:
        """What a form says to have this new test again."""
        return self.procedure if self.own is None else f"{KEY}{self.own['rig']}"

    @property
    def rig_id(self) -> int | None:
        """Primary key of the rig."""
        return self.rig.pk if self.rig else None

    @property
    def how(self) -> Procedure:
        """The procedure as the core knows it."""
        return how_of(self.procedure, self.own, self.label)

    def values(self) -> dict[str, Any]:
        """Fields of the test."""
        return {name: getattr(self, name) for name in (*COUNTED, *CONVERTED, *PHYSICAL)}

    def differs(self, names: tuple[str, ...]) -> list[str]:
        """Which of the fields differ from the present test."""
        if self.test is None:
            return []
        return [name for name in names if getattr(self, name) != getattr(self.test, name)]

    @property
    def kind(self) -> str:
        """What the change is to the runs so far: new, dropped, again, converted, counted or same."""
        if self.test is None:
            return "new"
        if self.dropped:
            return "dropped"
        if self.differs(PHYSICAL):
            return "again"
        if self.differs(CONVERTED):
            return "converted"
        return "counted" if self.differs(COUNTED) else "same"


@dataclass
class RuleDraft:
    """Rules as they are wanted."""

    scheme: str
    tie_rule: str
    level_as: str
    tests: list[TestDraft] = field(default_factory=list)
    reason: str = ""

    def missing(self, equal: str = "") -> list[Missing]:
        """As `problems`, each with the place where what is missing is entered, if there is one."""
        places = {one.text: one for t in self.measured for one in problems_of_test(t)}
        return [places.get(text, Missing(text)) for text in self.problems(equal)]

    @property
    def measured(self) -> list[TestDraft]:
        """Tests that are measured under it."""
        return [t for t in self.tests if not t.dropped]

    def problems(self, equal: str = "") -> list[str]:
        """Sentences on why nothing can be ranked by it; empty where it can. ``equal`` is what the
        brief compares at, once it stands.
        """
        terms = [
            Term(t.label, t.weight, t.how.direction, t.how.log)
            for t in self.measured
            if t.weight is not None
        ]
        limits = [
            Limit(t.label, t.most_loss, t.how.direction, t.how.log)
            for t in self.measured
            if t.most_loss is not None
        ]
        found = rule_problems(self.scheme, terms, limits)
        found += [
            f"“{t.label}” is dropped, but the rules still give it a weight or a limit, which no"
            " test would feed. Empty both, or keep the test."
            for t in self.tests
            if t.dropped and (t.weight is not None or t.most_loss is not None)
        ]
        labels = [t.label.casefold() for t in self.measured]
        found += [
            f"Two tests are called “{t.label}”. Give each its own name."
            for n, t in enumerate(self.measured)
            if t.label.casefold() in labels[:n]
        ]
        for t in self.measured:
            found += [one.text for one in problems_of_test(t)]
            if equal and t.how.equal and HELD_EQUAL[t.how.equal] != equal:
                found.append(
                    f"“{t.label}” is read at {HELD_EQUAL[t.how.equal].label}, but the brief"
                    f" compares at {Round.Equal(equal).label}: it would have no result. Change one"
                    " of them."
                )
        return found


def problems_of_test(t: TestDraft) -> list[Missing]:
    """Why a test cannot be measured as it is wanted, and where what is missing is entered."""
    found = [Missing(text) for text in _typed_wrongly(t)]
    if t.rig is None:
        kind = RIGS[t.how.rig].label.lower()
        found.append(
            Missing(
                f"“{t.label}” has no rig. Choose a {kind}, or set one up first.",
                f"{reverse('stores:new_rig')}?kind={t.how.rig}",
                f"Set up a {kind}",
            )
        )
    else:
        change = (reverse("stores:change_rig", args=[t.rig.pk]), f"Change {t.rig}")
        meters = {m.channel for m in t.rig.meters.all()}
        computed = {key for key, channel in CHANNELS.items() if channel.computed}
        if not fed_by(t.how, meters | computed):
            needs = " or ".join(
                " and ".join(CHANNELS[c].label.lower() for c in group if c not in computed)
                for group in t.how.needs
            )
            found.append(
                Missing(
                    f"No test feeds “{t.label}”: {t.rig} has no meter for {needs}. Choose its meter,"
                    " or another rig.",
                    *change,
                )
            )
        if t.common_speed is not None and "speed" not in meters:
            found.append(
                Missing(
                    f"“{t.label}” is converted to a common speed, but {t.rig} has no meter for the"
                    " speed.",
                    *change,
                )
            )
        lacking = [
            c.label.lower()
            for c in t.rig.how.constants
            if c.needed and c.key not in t.rig.constants
        ]
        if lacking:
            found.append(
                Missing(
                    f"{t.rig} does not know its {' and '.join(lacking)}, so “{t.label}” would have no"
                    " result. Enter or calibrate it.",
                    *change,
                )
            )
    return found


def _typed_wrongly(t: TestDraft) -> list[str]:
    """Sentences on what of a test itself cannot be."""
    found = []
    if not t.label.strip():
        found.append("A test has no name.")
    if t.own is not None:
        try:
            checked(Own.from_json(t.own))
        except FormulaWrong as problem:
            found.append(f"“{t.label}”: {problem}")
    if t.taking == HIGHEST and not t.how.decides:
        found.append(
            f"“{t.label}” is made of several readings or of a curve: no highest value of it can be taken."
            " Choose the mean."
        )
    if t.common_speed is not None and not t.how.by_speed:
        found.append(f"“{t.label}” cannot be converted to a common speed. Empty the speed.")
    if t.repeats < 1 or t.readings < 1:
        found.append(f"“{t.label}” needs at least one repeat and one reading.")
    for value, name in (
        (t.common_speed, "common speed"),
        (t.reporting_distance, "distance"),
        (t.baseline, "repeatability asked of the reference"),
    ):
        if value is not None and not (math.isfinite(value) and value > 0):
            found.append(f"“{t.label}”: the {name} must be above 0.")
    if t.soak == Test.Soak.MINUTES and not (t.soak_minutes and t.soak_minutes > 0):
        found.append(f"“{t.label}” soaks for fixed minutes: give the minutes, above 0.")
    if t.most_loss is not None and not math.isfinite(t.most_loss):
        found.append(f"“{t.label}”: the limit is not a number.")
    return found


def draft_of(round: Round, rules: RuleVersion | None = None) -> RuleDraft:
    """The rules in force as a draft to change."""
    rules = rules or current_rules(round)
    terms = {term.test_id: term for term in rules.terms.all()} if rules else {}
    tests = [draft_of_test(test, terms.get(test.pk)) for test in round_tests(round)]
    if rules is None:
        return RuleDraft(
            RuleVersion.Scheme.WEIGHTED,
            RuleVersion.Ties.TOO_CLOSE,
            RuleVersion.LevelAs.LEVEL,
            tests,
        )
    return RuleDraft(rules.scheme, rules.tie_rule, rules.level_as, tests)


def draft_of_test(test: Test, term: Any = None) -> TestDraft:
    """A test as a draft to change."""
    names = set(COUNTED + CONVERTED + PHYSICAL) - {"rig_id"}
    values = {name: getattr(test, name) for name in names} | {"rig": test.rig}
    return TestDraft(
        test,
        weight=term.weight if term else None,
        most_loss=term.most_loss if term else None,
        **values,
    )


def effects(draft: RuleDraft, runs: dict[int, int]) -> list[tuple[str, str]]:
    """For each test what becomes of its runs: (label, sentence). ``runs`` counts them by test."""
    told = []
    for t in draft.tests:
        count = runs.get(t.test.pk, 0) if t.test else 0
        its = f"its {count} {'run' if count == 1 else 'runs'}"
        words = {
            "new": "New: every entry is to be run.",
            "dropped": (
                f"No longer measured; {its} {'is' if count == 1 else 'are'} kept for the older"
                " rules."
                if count
                else "No longer measured."
            ),
            "again": (
                f"Measured differently: {its} must be run again, and"
                f" {'counts' if count == 1 else 'count'} for the older rules only."
                if count
                else "Changed before it was ever run."
            ),
            "converted": (
                f"Converted differently: {its} {'stays' if count == 1 else 'stay'} valid and"
                f" {'is' if count == 1 else 'are'} reduced again from the readings."
                if count
                else "Changed before it was ever run."
            ),
        }
        if t.kind in words:
            told.append((t.label, words[t.kind]))
        elif t.test is not None and t.repeats > t.test.repeats:
            more, stay = t.repeats - t.test.repeats, "stays" if count == 1 else "stay"
            told.append(
                (
                    t.label,
                    (
                        f"{its.capitalize()} {stay} valid; {more} more of each entry"
                        f" {'is' if more == 1 else 'are'} due."
                    ),
                )
            )
        elif count:
            told.append((t.label, f"{its.capitalize()} {'stays' if count == 1 else 'stay'} valid."))
    return told


def channels_read(t: TestDraft) -> list[str]:
    """What is read in a test, in words."""
    meters = {m.channel for m in t.rig.meters.all()} if t.rig else set()
    return [CHANNELS[c].label.lower() for c in channels_of(t.how) if c in meters]


IN_WORDS = {
    "label": "name",
    "order": "place in the list",
    "repeats": "repeats",
    "readings": "readings",
    "soak": "soak",
    "soak_minutes": "minutes of soak",
    "resolution": "what a settled temperature resolves, K",
    "baseline": "how well the reference must repeat",
    "common_speed": "common speed, 1/min",
    "reporting_distance": "reporting distance, m",
    "own": "formula",
    "taking": "what of the readings counts",
    "weight": "weight",
    "most_loss": "most loss",
}
"""Fields of a test that a change of rules may touch, in words."""


def _said(value: Any) -> str:
    """A value as it stands in the audit trail."""
    if value is None or value == "":
        return "none"
    if isinstance(value, dict):
        better = "more is better" if value["direction"] > 0 else "less is better"
        how = "as a ratio" if value["log"] else "as a difference"
        return f"{value['formula']} [{value['unit']}], {better}, {how}"
    return f"{value:g}" if isinstance(value, float) else str(value)


def changes_in_words(before: RuleDraft | None, after: RuleDraft) -> list[str]:
    """What a change of rules touches: what, old and new value, in words."""
    if before is None:
        return []
    schemes, ties, levels = (
        dict(kind.choices) for kind in (RuleVersion.Scheme, RuleVersion.Ties, RuleVersion.LevelAs)
    )
    pairs = [
        ("scheme", schemes[before.scheme], schemes[after.scheme]),
        ("ties", ties[before.tie_rule], ties[after.tie_rule]),
        ("noise counts as", levels[before.level_as], levels[after.level_as]),
    ]
    found = [f"{what}: {old} → {new}" for what, old, new in pairs if old != new]
    known = {one.test.pk: one for one in before.tests if one.test is not None}
    for wanted in after.tests:
        old = known.get(wanted.test.pk) if wanted.test is not None else None
        if old is None:
            found.append(f"{wanted.label}: new")
        elif wanted.dropped:
            found.append(f"{old.label}: no longer measured")
        else:
            found += [
                f"{old.label}, {words}: {_said(getattr(old, name))} → {_said(getattr(wanted, name))}"
                for name, words in IN_WORDS.items()
                if getattr(old, name) != getattr(wanted, name)
            ]
            if old.rig_id != wanted.rig_id:
                found.append(f"{old.label}, rig: {_said(old.rig)} → {_said(wanted.rig)}")
    return found
