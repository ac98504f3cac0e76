"""The rule sheet: the brief and its rules as plain sentences for entrants, written from the data."""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass, replace

from hauch.core.geometry.envelope import PARTS
from hauch.core.measure.taking import HIGHEST, WHY
from hauch.core.quantity.show import show, show_plain
from hauch.rounds.drafts import TestDraft, channels_read, draft_of_test
from hauch.rounds.models import BRIEF_FIELDS, Round, RuleVersion, Test
from hauch.rounds.queries import round_tests


@dataclass(frozen=True, slots=True)
class Section:
    """A heading with its sentences."""

    heading: str
    sentences: list[str]


def _number(value: float) -> str:
    return f"{value:g}"


def as_agreed(round: Round, rules: RuleVersion) -> Round:
    """The round with the brief that a version of its rules was made with; never saved."""
    agreed = copy(round)
    for name in BRIEF_FIELDS:
        if name in rules.brief:
            setattr(agreed, name, rules.brief[name])
    return agreed


def rule_sheet(round: Round, rules: RuleVersion, units: str) -> list[Section]:
    """The sheet as the version of the rules had it, figures in the reader's units."""
    terms = {term.test_id: term for term in rules.terms.all()}
    kept = rules.brief.get("tests", {})
    tests = [
        replace(draft_of_test(test, terms.get(test.pk)), **kept.get(test.key, {}))
        for test in round_tests(round, rules)
    ]
    round = as_agreed(round, rules)
    return [
        Section("What is asked", [round.question]),
        Section("What you hand in", _part(round, units)),
        Section("What it must fit", _envelope(round, units)),
        Section(
            "How it is tested",
            [sentence for t in tests for sentence in _test(t, units)] + [_equal(round, units)],
        ),
        Section("How it is ranked", _ranking(rules, tests)),
        Section("What always holds", _always(rules)),
        Section(
            "Before anything spins",
            [
                round.safety or "No safety note was written.",
                "Local codes and licensed practice come first.",
            ],
        ),
    ]


def _part(round: Round, units: str) -> list[str]:
    motors = (
        "One motor drives it."
        if round.motors == 1
        else f"Up to {round.motors} motors may drive it."
    )
    own = (
        "Own parts are allowed; hand in a bill of materials with them."
        if round.own_parts
        else "It is printed; parts bought besides are not allowed."
    )
    said = [f"One {round.get_part_display()} for each entry.", round.may_vary, motors, own]
    if round.orientation:
        said.append(f"It is tested {round.orientation}.")
    if round.entries_until:
        said.append(f"Entries are taken until {round.entries_until:%d %B %Y}.")
    return [s for s in said if s]


def _envelope(round: Round, units: str) -> list[str]:
    envelope = round.what
    listed = [
        f"{p.label.lower()} {show(envelope[p.key], 'length', units)}" for p in PARTS[round.part]
    ]
    said = [f"{', '.join(listed).capitalize()}."]
    said += [
        f"It stays clear of “{k.name}”:"
        f" {' x '.join(str(show(s, 'length', units)) for s in k.box.size)}."
        for k in envelope.keep_outs
    ]
    return [*said, "The drawing and a solid to model against are on the page of the round."]


def _test(t: TestDraft, units: str) -> list[str]:
    better = "more" if t.how.direction > 0 else "less"
    where = f" on {t.rig}" if t.rig else ""
    said = (
        f"{t.label}{where}: {t.repeats} {'run' if t.repeats == 1 else 'runs'}, read"
        f" {', '.join(channels_read(t)) or 'by hand'}; {better} is better."
    )
    if t.soak == Test.Soak.MINUTES and t.soak_minutes:
        said += f" It runs {_number(t.soak_minutes)} minutes before it is read."
    if t.soak == Test.Soak.SETTLED:
        said += " It is read when it has settled."
    if t.how.decides:
        what = "highest steady value" if t.taking == HIGHEST else "mean of what is read"
        said += f" The {what} counts. {WHY[t.taking]}"
    if t.common_speed:
        said += f" The figure is converted to {show(t.common_speed, 'rotational_speed', units)}."
    if t.reporting_distance:
        said += f" The figure is told for {show(t.reporting_distance, 'length', units)}."
    return [said]


def _equal(round: Round, units: str) -> str:
    if round.equal == Round.Equal.THROTTLE:
        return "Everything runs at full throttle."
    value = (
        f": {show(round.equal_value, round.equal_kind, units)}"
        if round.equal_value is not None
        else ""
    )
    return f"Everything is compared at {round.get_equal_display()}{value}."


def _ranking(rules: RuleVersion, tests: list[TestDraft]) -> list[str]:
    scored = [t for t in tests if t.weight is not None]
    weights = ", ".join(
        f"{t.label.lower()} {_number(t.weight)}" for t in scored if t.weight is not None
    )
    first = scored[0].label.lower() if scored else ""
    words = {
        RuleVersion.Scheme.WEIGHTED: (
            "Each figure is told as percent of gain over the reference; the score is their mean"
            f" with the weights {weights}."
        ),
        RuleVersion.Scheme.SINGLE: f"The rank follows {first} alone.",
        RuleVersion.Scheme.POINTS: (
            "In each test the best of N entries gets N points and the last one; the points are"
            f" added with the weights {weights}."
        ),
        RuleVersion.Scheme.CONSTRAINT: (
            f"Among all entries that keep every limit the rank follows {first}; those that break"
            " one come after them."
        ),
        RuleVersion.Scheme.SUM: (
            "The figures are added as they stand, units mixed knowingly, with the weights"
            f" {weights}; the smaller sum is the better one."
        ),
        RuleVersion.Scheme.FRONT: (
            "There is no single score. Who is beaten by nobody in all of"
            f" {', '.join(t.label.lower() for t in scored)} at once shares the first rank."
        ),
    }
    said = [words[RuleVersion.Scheme(rules.scheme)]]
    for t in tests:
        if t.most_loss is not None:
            figure = show_plain(abs(t.most_loss), t.how.change_unit)
            said.append(
                f"Limit: {t.label.lower()} may be worse than the reference by at most {figure}."
                if t.most_loss >= 0
                else (
                    f"Limit: {t.label.lower()} must be better than the reference by at least"
                    f" {figure}."
                )
            )
    if any(t.how.kind == "level" and t.weight for t in tests) and rules.scheme in {
        RuleVersion.Scheme.WEIGHTED,
        RuleVersion.Scheme.SINGLE,
    }:
        said.append(f"Noise counts as {rules.get_level_as_display()}.")
    if rules.scheme != RuleVersion.Scheme.FRONT:
        said.append(
            "Entries that cannot be told apart share a rank; a field of equal ones is set apart"
            " nowhere with 95 %."
            if rules.tie_rule == RuleVersion.Ties.TOO_CLOSE
            else "Entries share a rank only where their scores are equal to one decimal."
        )
    return said


def _always(rules: RuleVersion) -> list[str]:
    return [
        (
            "Every entry is compared with the reference on the same rig, run before, between and"
            " after; whatever the bench does in between is taken out."
        ),
        (
            "Every figure is told with its uncertainty at 95 %, and anybody may see how it came about"
            " once the round is published."
        ),
        (
            "An entry that rubs, will not start, stalls or loosens itself did not finish. It keeps"
            " its row, last, with the reason."
        ),
        (
            "A change of these rules makes a new version; this sheet says which one it is."
            " Questions and objections are answered in the open and stay with it."
        ),
    ]
