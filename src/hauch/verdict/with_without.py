"""With and without: what a ring, duct, guard, shroud or silencer costs at one print, or at the
reference, from its runs at two settings in turn.
"""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from hauch.bench.models import Run
from hauch.bench.runs import Subject
from hauch.bench.scatter import scatter_of
from hauch.core.judge.difference import NOT_REPEATED, judge_difference
from hauch.core.judge.with_without import Cost, cost
from hauch.core.quantity import contributions
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen


@dataclass(frozen=True)
class Line:
    """What another setting changes in a test.

    Parameters
    ----------
    change, half : from the setting that is scored to the other one, in the unit of changes; half None
        where nothing tells how a run scatters
    word : better, worse, too close to call, or why it cannot be told
    """

    test: Test
    change: float
    half: float | None
    word: str
    found: Cost


@dataclass(frozen=True)
class Held:
    """Another setting against the one that is scored, and what it costs by test."""

    setting: Setting
    scored: Setting
    lines: list[Line]

    @property
    def drift_free(self) -> bool:
        """Whether straight drift falls out of all of it."""
        return all(line.found.drift_free for line in self.lines)


def subjects_of(round: Round, tests: Sequence[Test]) -> dict[str, tuple[str, Subject]]:
    """Prints and references that were run at two settings, by a key for addresses."""
    first = {test.pk: series[0].pk for series in alike(tests) for test in series}
    seen: dict[tuple[str, int, int], set[int]] = defaultdict(set)
    rows = Run.objects.filter(
        test__in=tests, state=Run.State.VALID, result__value__isnull=False
    ).values_list("test", "setting", "specimen", "reference")
    for test, setting, specimen, reference in rows.order_by().distinct():
        key = ("s", specimen) if specimen is not None else ("r", reference or 0)
        seen[(*key, first[test])].add(setting)
    several = {(kind, pk) for (kind, pk, _), settings in seen.items() if len(settings) > 1}
    prints = Specimen.objects.filter(pk__in=[pk for kind, pk in several if kind == "s"])
    grounds = ReferenceSpecimen.objects.filter(pk__in=[pk for kind, pk in several if kind == "r"])
    found: dict[str, tuple[str, Subject]] = {}
    for one in prints.select_related("version__entry").order_by("version__entry__name", "code"):
        found[f"s{one.pk}"] = (f"{one.version.entry.name}, {one.code}", Subject(one))
    for ground in grounds.select_related("type").order_by("type__name", "serial"):
        found[f"r{ground.pk}"] = (str(ground), Subject(reference=ground))
    return found


def alike(tests: Sequence[Test]) -> list[list[Test]]:
    """Tests that read the same figure on the same rig in the same way, such as with a shroud and
    without it: one series each, by their order.
    """
    found: dict[tuple[Any, ...], list[Test]] = defaultdict(list)
    for test in tests:
        terms = (test.common_speed, test.reporting_distance, test.taking, test.soak)
        found[(test.procedure, test.rig_id, *terms)].append(test)
    return list(found.values())


def costs_of(subject: Subject, tests: Sequence[Test]) -> list[Held]:
    """What each other setting costs, by what is read; a setting that was run in no block with the one
    that is scored first is left out.
    """
    lines: dict[int, list[Line]] = defaultdict(list)
    settings: dict[int, tuple[Setting, Setting]] = {}
    for series in alike(tests):
        test = series[0]
        runs = list(
            Run.objects.filter(
                test__in=series,
                state=Run.State.VALID,
                result__value__isnull=False,
                **subject.fields,
            )
            .select_related("setting", "result")
            .order_by("started_at", "pk")
        )
        for setting in dict.fromkeys(run.setting for run in runs):
            if setting == test.setting:
                continue
            found = _cost(test, runs, setting)
            if found is not None:
                lines[setting.pk].append(_line(test, found))
                settings[setting.pk] = (setting, test.setting)
    return [Held(setting, scored, lines[pk]) for pk, (setting, scored) in settings.items()]


def _cost(test: Test, runs: Sequence[Run], setting: Setting) -> Cost | None:
    """The fit of one test, of the newest state of the rig that has both settings."""
    log = test.how.log
    both = [run for run in runs if run.setting_id in {setting.pk, test.setting_id}]
    for rig in dict.fromkeys(run.rig_id for run in reversed(both)):
        chosen = [run for run in both if run.rig_id == rig]
        values = np.array([run.result.value or 0.0 for run in chosen])
        if log and (values <= 0).any():
            return None
        times = np.array([run.started_at.timestamp() for run in chosen])
        own = np.array([_own(run, log) for run in chosen])
        found = cost(
            times,
            np.log(values) if log else values,
            np.array([run.setting_id == setting.pk for run in chosen]),
            own,
            scatter_of(rig, test.how),
        )
        if found is not None:
            return found
    return None


def _own(run: Run, log: bool) -> float:
    """What a run's own causes other than scatter contribute in y: what the rig's share cancels."""
    value = run.result.value or 1.0
    parts = [
        one.u
        for one in contributions(run.result.parts)
        if one.scope != "common" and one.kind == "B"
    ]
    return math.sqrt(sum(u * u for u in parts)) / (abs(value) if log else 1.0)


def _line(test: Test, found: Cost) -> Line:
    how = test.how
    log = how.log
    change = 100 * math.expm1(found.change) if log else found.change
    if found.half is None:
        return Line(test, change, None, NOT_REPEATED, found)
    slope = 100 * math.exp(found.change) if log else 1.0
    word = judge_difference(found.change, found.u, found.dof, how.direction).word
    return Line(test, change, slope * found.half, word, found)


def sentence(held: Held, shown: Sequence[str]) -> str:
    """What it costs in one sentence, of what can be told.

    Parameters
    ----------
    shown : the change of each line, in words
    """
    told = [
        f"{line.test.label.lower()} {text}"
        for line, text in zip(held.lines, shown, strict=True)
        if line.word in {"better", "worse"}
    ]
    if not told:
        return "Nothing that it changes can be told from nothing."
    return f"It changes {', '.join(told)}."
