"""What to change next at an entry's part, one thing at a time: by the model that foretold it, by sizes
that were tried, by the check of its files, by what was seen and heard at the bench.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Q
from django.urls import reverse

from hauch.bench.models import Observation, Run
from hauch.core.quantity.show import show, show_plain
from hauch.desk import actions, queries
from hauch.desk.models import Around
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import CannotBe, Setting, Tool
from hauch.desk.tools.sensitivity import Step, steps
from hauch.entries.actions import add_version, require_change
from hauch.entries.models import Entry, PartFile, Prediction, Version
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import RuleTerm, RuleVersion, Test
from hauch.rounds.queries import current_rules, round_tests
from hauch.sound.models import SoundRecording
from hauch.sound.queries import silencer_for
from hauch.verdict.accepting import MASS, bracketed, sizes_of
from hauch.verdict.models import Standing
from hauch.verdict.queries import percent_of_change, standing_of
from hauch.workshop.models import Measure

MOST_OF_MODEL = 6
"""Changes of the model that are shown, the best first."""

LEAST_GAIN = 0.05
"""Gains below this [%] are none."""

SIZES = dict(Measure.Kind.choices) | {MASS: "mass"}

ANNOYS = 4.0
"""Audibility from which on a tone is adjusted for [dB] (ISO 1996-2:2007, C.2.4)."""

SEEN: dict[str, str] = {
    Observation.Tag.WHISTLE: "Find the edge or gap that whistles, and round or close it",
    Observation.Tag.VIBRATION: "Balance it, and look at hub and mount for play",
    Observation.Tag.DAMAGE: "Strengthen what was damaged",
    Observation.Tag.LEAK: "Close the leak",
}
"""What is done about what somebody tagged."""


@dataclass(frozen=True)
class Suggestion:
    """One change.

    Parameters
    ----------
    key : names it among all of the entry
    change : what is changed
    why : what it comes from
    gain : expected gain by the rules' weights [%]; None where nobody can tell
    told : expected change of each test, in words
    reprint : whether it needs a new print
    first : whether it comes before all gains: something broke
    values, tool : inputs of the design with it, where a model tells it
    link, link_to : where more is told of it
    """

    key: str
    change: str
    why: str
    gain: float | None = None
    told: list[str] = field(default_factory=list)
    reprint: bool = True
    first: bool = False
    values: dict[str, Any] | None = None
    tool: Tool | None = None
    link: str = ""
    link_to: str = ""

    @property
    def makes(self) -> bool:
        """Whether the part can be made by the generator."""
        return self.tool is not None and self.tool.solid is not None


@dataclass(frozen=True)
class Next:
    """What to change next, the best first, at a version; what a print of it costs; which model was
    asked, or why none was.
    """

    version: Version
    found: list[Suggestion]
    hours: float | None
    model: str
    no_model: str


def may_ask(user: User, entry: Entry) -> bool:
    """Whether a person may see what to change next: its designer, and the host."""
    return entry.designer_id == user.pk or allowed(user, "entry.change", entry.round)


def next_of(entry: Entry, units: str) -> Next | None:
    """What to change next at the newest version, sizes in a person's units; None before there is one."""
    version = entry.versions.order_by("-number").first()
    if version is None:
        return None
    version.entry = entry
    tests = round_tests(entry.round)
    of_model, model, no_model = _by_model(version, tests)
    found = [
        *of_model,
        *_by_sizes(entry, tests, units),
        *_by_checks(version),
        *_by_runs(entry, version),
        *_by_sound(version, units),
    ]
    found.sort(key=lambda one: (not one.first, one.gain is None, -(one.gain or 0.0), one.reprint))
    return Next(version, found, _hours(version), model, no_model)


def _hours(version: Version) -> float | None:
    """How long its parts print, by their checks [h]; None where none was checked."""
    seconds = [
        (file.newest_check.value("time") or 0.0) * file.count
        for file in version.files.select_related("newest_check")
        if file.newest_check is not None
    ]
    return sum(seconds) / 3600 if any(seconds) else None


def _by_model(version: Version, tests: list[Test]) -> tuple[list[Suggestion], str, str]:
    """Single steps by the model that foretold the version; its name, or why there is none."""
    foretold = (
        Prediction.objects.filter(version__entry=version.entry, source=Prediction.Source.MODEL)
        .exclude(model="")
        .order_by("-version__number", "-made_at")
        .first()
    )
    if foretold is None or foretold.model not in TOOLS:
        return [], "", "No model of the Desk has foretold a version of it yet."
    tool = TOOLS[foretold.model]
    setting = queries.setting_for(tool.key, Around(fit=version.entry.round))
    try:
        moved = steps(tool, foretold.inputs, setting)
    except CannotBe:
        return [], "", "The design that was foretold cannot be worked out any more."
    rules = current_rules(version.entry.round)
    grounds = _grounds(rules)
    weights, limits = _weights(rules, tests), _limits(rules)
    found = []
    for one in moved:
        gain, told = _gain(one, tests, weights, limits, rules, grounds)
        if gain is not None and gain >= LEAST_GAIN:
            found.append(
                Suggestion(
                    f"model:{one.key}",
                    one.label,
                    f"By the {tool.label.lower()} model, all else as foretold for version"
                    f" {foretold.version.number}.",
                    gain,
                    told,
                    values=one.values,
                    tool=tool,
                )
            )
    found.sort(key=lambda one: -(one.gain or 0.0))
    return _one_of_each(found)[:MOST_OF_MODEL], tool.label, ""


def _one_of_each(found: list[Suggestion]) -> list[Suggestion]:
    """The better direction of each input."""
    seen: set[str] = set()
    kept = []
    for one in found:
        what = one.key.rpartition(":")[0]
        if what not in seen:
            seen.add(what)
            kept.append(one)
    return kept


def _grounds(rules: RuleVersion | None) -> dict[str, float]:
    """The reference's figure by test, where a standing has it."""
    standing: Standing | None = standing_of(rules) if rules is not None else None
    known = standing.reference if standing is not None else {}
    return {key: row["value"] for key, row in known.items() if row.get("value") is not None}


def _weights(rules: RuleVersion | None, tests: list[Test]) -> dict[int, float]:
    """Share of each test in the score; all alike without rules or weights."""
    terms = list(RuleTerm.objects.filter(rules=rules, weight__isnull=False)) if rules else []
    given = {term.test_id: float(term.weight or 0.0) for term in terms}
    total = sum(given.values())
    if total <= 0:
        return {test.pk: 1 / len(tests) for test in tests}
    return {key: weight / total for key, weight in given.items()}


def _limits(rules: RuleVersion | None) -> dict[int, float]:
    """What each test that has a limit may lose to the reference at most, in its unit of a change."""
    terms = RuleTerm.objects.filter(rules=rules, most_loss__isnull=False) if rules else []
    return {term.test_id: term.most_loss for term in terms if term.most_loss is not None}


def _gain(
    step: Step,
    tests: list[Test],
    weights: dict[int, float],
    limits: dict[int, float],
    rules: RuleVersion | None,
    grounds: dict[str, float],
) -> tuple[float | None, list[str]]:
    """Expected gain of a step by the weights [%], and the change of each test in words, with the
    limit of the rules beside a loss; None where nothing that counts is foretold.
    """
    gain, counted, told = 0.0, False, []
    for test in tests:
        if test.procedure not in step.changes:
            continue
        before, after = step.changes[test.procedure]
        how = test.how
        if how.log:
            change = percent = 100 * (after / before - 1)
        else:
            change = after - before
            scale = percent_of_change(rules, test, grounds.get(test.key, 0.0)) if rules else 0.0
            percent = change * scale
        shown = show_plain(change, how.change_unit, sign=True)
        words = f"{test.label} {shown.number} {shown.unit}".strip()
        if test.pk in limits and how.direction * change < 0:
            most = show_plain(limits[test.pk], how.change_unit)
            words += f" (may lose {most.number} {most.unit} to the reference at most)"
        told.append(words)
        if test.pk in weights:
            gain += weights[test.pk] * how.direction * percent
            counted = True
    return (gain if counted else None), told


def _by_sizes(entry: Entry, tests: list[Test], units: str) -> list[Suggestion]:
    """The next size of each that was tried in several versions, by the first test that tells it."""
    found = []
    for size, by_version in sizes_of(entry).items():
        for test in tests:
            bracket, rows = bracketed(entry, test, by_version)
            if bracket is None:
                continue
            kind = "mass" if size == MASS else "length"
            tried = ", ".join(f"v{row['version']}" for row in rows)
            asked = urlencode({"size": size, "test": test.key})
            shown = show(float(f"{bracket.next:.3g}"), kind, units)
            found.append(
                Suggestion(
                    f"size:{size}",
                    f"{SIZES[size].capitalize()}: {shown}",
                    f"It was tried in {tried}; by {test.label.lower()} {bracket.why}.",
                    link=f"{reverse('verdict:accept', args=[entry.round.slug, entry.pk])}?{asked}",
                    link_to="the sizes that were tried",
                )
            )
            break
    return found


def _by_checks(version: Version) -> list[Suggestion]:
    """Where the check of its files asks for care."""
    found = []
    files: list[PartFile] = list(version.files.select_related("newest_check"))
    for file in files:
        check = file.newest_check
        for number, (level, text) in enumerate(check.reasons if check is not None else []):
            if level == "well":
                continue
            found.append(
                Suggestion(
                    f"check:{file.pk}:{number}",
                    f"{file.name}: {text}",
                    "The check sent the file back."
                    if level == "back"
                    else "The check asks for care.",
                    first=level == "back",
                )
            )
    return found


def _by_runs(entry: Entry, version: Version) -> list[Suggestion]:
    """What was seen on its runs, and why it did not finish."""
    found = []
    own = Run.objects.filter(specimen__version=version).exclude(state=Run.State.VOID)
    for run in own.filter(state=Run.State.DNF).order_by("-started_at")[:3]:
        found.append(
            Suggestion(
                f"dnf:{run.pk}",
                f"Mend why it did not finish: {run.reason}",
                f"Run {run.pk} ended so.",
                first=True,
                link=run.get_absolute_url(),
                link_to=f"run {run.pk}",
            )
        )
    seen = Observation.objects.filter(Q(run__in=own) | Q(recording__runs__in=own)).distinct()
    done: set[str] = set()
    for one in seen.order_by("-at", "-pk")[:50]:
        for tag in one.tags:
            if tag not in SEEN or tag in done:
                continue
            done.add(tag)
            said = f": “{one.text[:120]}”" if one.text else ""
            found.append(
                Suggestion(
                    f"seen:{tag}",
                    SEEN[tag],
                    f"Seen at the bench as {Observation.Tag(tag).label}{said}.",
                    reprint=tag not in {Observation.Tag.VIBRATION, Observation.Tag.LEAK},
                    first=tag == Observation.Tag.DAMAGE,
                )
            )
    return found


def _by_sound(version: Version, units: str) -> list[Suggestion]:
    """A silencer for the most audible tone that its recordings have."""
    recordings = (
        SoundRecording.objects.filter(
            specimen__version=version,
            state=SoundRecording.State.DONE,
            set_aside_at=None,
            analysis__isnull=False,
        )
        .select_related("analysis")
        .order_by("-recorded_at", "-pk")[:5]
    )
    loudest = None
    for recording in recordings:
        if not recording.analysis.is_current:
            continue
        for one in recording.analysis.told.tones:
            louder = loudest is None or one.tone.audibility > loudest[1].tone.audibility
            if one.tone.audibility > ANNOYS and louder and silencer_for(one)[1]:
                loudest = recording, one
    if loudest is None:
        return []
    recording, one = loudest
    length, address = silencer_for(one)
    shown = show(float(f"{length:.2g}"), "length", units)
    return [
        Suggestion(
            "sound:tone",
            f"Take the {one.name or one.kind.value} at {one.tone.frequency:,.0f} Hz away, or meet it with"
            f" a silencer of {shown}",
            f"It stands {one.tone.audibility:.0f} dB above what masks it in {recording.name}.",
            link=address,
            link_to="the silencer at the Desk",
        )
    ]


@transaction.atomic
def begin(user: User, entry: Entry, key: str, make: bool) -> Version:
    """Begin the next version with a suggestion; by the generator with its part, where it can make it,
    and with what the model foretells of it.

    Raises
    ------
    PermissionDenied, ValidationError : it is suggested no more, or cannot be made
    """
    require_change(user, entry)
    found = next_of(entry, user.units)
    chosen = next((one for one in found.found if one.key == key), None) if found else None
    if chosen is None:
        raise ValidationError("This is suggested no more; look at what is now.")
    if chosen.tool is None or chosen.values is None:
        return add_version(user, entry, chosen.change[:300], chosen.why)
    setting = queries.setting_for(chosen.tool.key, Around(fit=entry.round))
    if make and chosen.makes:
        return actions.new_version(
            user, chosen.tool, chosen.values, setting, entry, chosen.change[:300]
        )
    version = add_version(user, entry, chosen.change[:300], f"{chosen.why} {_expected(chosen)}")
    actions.predict_for(user, chosen.tool, chosen.values, Setting(), version)
    return version


def _expected(one: Suggestion) -> str:
    return f"Expected: {', '.join(one.told)}." if one.told else ""
