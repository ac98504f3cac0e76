"""A run against what it can be held against: the reference, its prediction, the entry's earlier
version, another setting before and after.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

from django.db.models import F, Value
from django.db.models.functions import Abs, Extract

from hauch.bench.models import Run
from hauch.bench.queries import RunQuerySet, runs
from hauch.bench.scatter import scatter_of
from hauch.core.judge.against import Against, a_b_a, against, mean_of, repeated
from hauch.core.judge.band import Scatter
from hauch.core.quantity import Influence, Quantity, measured
from hauch.rounds.conditions import differences
from hauch.rounds.models import Setting

NEAREST = 4
"""How many runs of the reference, nearest in time, make what a run is held against."""


@dataclass(frozen=True, slots=True)
class Row:
    """One line of the comparison: what it is held against, that figure, the change with its word;
    ``said`` for a wish to know more.
    """

    what: str
    other: Quantity
    found: Against
    unit: str
    said: str = ""


@dataclass(frozen=True, slots=True)
class Beside:
    """What a run may be held against: its figure, of how many runs it is the mean (infinitely many
    for what is no measurement); the settings before and after where it was changed and changed
    back.
    """

    what: str
    other: Quantity
    runs: float
    said: str = ""
    around: tuple[Quantity, Quantity] | None = field(default=None)


def figure_of(run: Run) -> Quantity:
    """A run's stored figure with its causes of doubt."""
    value = run.result.value
    if value is None:
        raise ValueError(f"run {run.pk} has no figure")
    return Quantity.stored(value, run.result.unit, run.result.parts)


def siblings_of(run: Run) -> list[Run]:
    """All runs of a run's specimen, in any test; of a reference specimen those of the same test.
    With setting and result, in order of time.
    """
    chosen = (
        Run.objects.filter(specimen=run.specimen_id)
        if run.specimen_id
        else Run.objects.filter(test=run.test_id, reference=run.reference_id)
    )
    rows = chosen.select_related("setting", "result").order_by("started_at", "pk")
    return list(rows.defer("result__working", "result__curve", "result__troubles"))


def reference_curve(run: Run) -> Run | None:
    """The run of the reference whose curve is drawn beside that of a run: the last one before it, else
    the first one after.
    """
    if run.reference_id is not None:
        return None
    swept = (
        runs()
        .with_names()
        .filter(
            test=run.test_id,
            setting=run.setting_id,
            state=Run.State.VALID,
            reference__isnull=False,
            result__curve__isnull=False,
        )
    )
    before = swept.filter(started_at__lte=run.started_at).order_by("-started_at").first()
    return before or swept.order_by("started_at").first()


def comparisons(run: Run, siblings: list[Run]) -> list[Row]:
    """All that a run with a result can be held against.

    Parameters
    ----------
    siblings : as `siblings_of` gives them
    """
    result = getattr(run, "result", None)
    if run.state != Run.State.VALID or result is None or result.value is None:
        return []
    how, this = run.test.how, figure_of(run)
    scatter = scatter_of(run.rig_id, run.test.how)
    same = (
        runs()
        .filter(test=run.test_id, state=Run.State.VALID, result__value__isnull=False)
        .select_related("result", "setting")
    )
    here = same.filter(setting=run.setting_id)
    if run.reference_id is None:
        besides = [
            *_reference(run, here),
            *_prediction(run),
            *_earlier(run, here),
            *_settings(run, siblings),
        ]
    else:
        besides = _others(run, here)
    return [
        _row(one, this, scatter, run)
        for one in besides
        if not how.log or (one.other.value > 0 and this.value > 0)
    ]


def _row(one: Beside, this: Quantity, scatter: Scatter | None, run: Run) -> Row:
    how = run.test.how
    if one.around is not None:
        before, after = one.around
        found = a_b_a(before, this, after, how.log, how.direction, scatter)
    else:
        found = against(this, one.other, how.log, how.direction, scatter, (1, one.runs))
    if run.reference_id is not None and found.word in AS_ITSELF:
        more = found.change.value > 0
        found = replace(found, word="higher" if more else "lower", probability=None)
    measured = math.isfinite(one.runs)
    other = repeated(one.other, one.runs, scatter, how.log) if measured else one.other
    return Row(one.what, other, found, how.change_unit, one.said)


AS_ITSELF = ("better", "worse")
"""Words that mean nothing where the reference is held against its own other runs."""


def _others(run: Run, here: RunQuerySet) -> list[Beside]:
    """Runs of the same reference specimen nearest in time."""
    away = Abs(Extract(F("started_at") - Value(run.started_at), "epoch"))
    mine = here.filter(reference=run.reference_id).exclude(pk=run.pk)
    others = list(mine.annotate(away=away).order_by("away", "pk")[:NEAREST])
    if not others:
        return []
    name = f"its other runs ({len(others)} nearest in time)"
    return [Beside(name, mean_of([figure_of(r) for r in others]), len(others))]


def _reference(run: Run, same: RunQuerySet) -> list[Beside]:
    away = Abs(Extract(F("started_at") - Value(run.started_at), "epoch"))
    reference = same.filter(reference__isnull=False).select_related("reference__type")
    found = list(reference.annotate(away=away).order_by("away", "pk")[: 2 * NEAREST])
    if not found:
        return []
    nearest = [r for r in found if r.reference_id == found[0].reference_id][:NEAREST]
    name = (
        f"{nearest[0].reference} ({len(nearest)} run{'s' if len(nearest) > 1 else ''} nearest in"
        " time)"
    )
    return [Beside(name, mean_of([figure_of(r) for r in nearest]), len(nearest))]


def _prediction(run: Run) -> list[Beside]:
    rows: list[Beside] = []
    if run.specimen is None:
        return rows
    for told in run.specimen.version.predictions.filter(procedure=run.test.procedure):
        cause = Influence(f"prediction:{told.uid}", "doubt of the prediction", "own", "B")
        who = (
            "the designer's prediction"
            if told.source == told.Source.DESIGNER
            else f"the Desk's prediction ({told.model})"
        )
        rows.append(
            Beside(
                who,
                measured(told.value, run.result.unit, [(cause, told.u)]),
                math.inf,
                "" if told.u else "no uncertainty was told with it",
            )
        )
    return rows


def _earlier(run: Run, same: RunQuerySet) -> list[Beside]:
    if run.specimen is None or run.specimen.version.number == 1:
        return []
    version = run.specimen.version
    found = list(
        same.filter(
            specimen__version__entry=version.entry_id, specimen__version__number__lt=version.number
        )
        .select_related("specimen__version")
        .order_by("-specimen__version__number")
    )
    if not found:
        return []
    number = found[0].specimen.version.number
    of_it = [r for r in found if r.specimen.version.number == number]
    return [
        Beside(
            f"version {number} of this entry ({len(of_it)} run{'s' if len(of_it) > 1 else ''})",
            mean_of([figure_of(r) for r in of_it]),
            len(of_it),
        )
    ]


def _settings(run: Run, siblings: list[Run]) -> list[Beside]:
    """Another setting of the same specimen: before and after where both were run, else the nearest
    one.
    """
    rows: list[Beside] = []
    others: dict[Setting, list[Run]] = {}
    for one in siblings:
        elsewhere = one.test_id == run.test_id and one.setting_id != run.setting_id
        if elsewhere and one.state == Run.State.VALID and has_figure(one):
            others.setdefault(one.setting, []).append(one)
    for setting, its in sorted(others.items(), key=lambda item: (item[0].label, item[0].pk)):
        differ = differences(setting, run.setting, run.test.setting)
        named = f"“{setting}”" + (f" ({'; '.join(differ)})" if differ else "")
        before = next((r for r in reversed(its) if r.started_at < run.started_at), None)
        after = next((r for r in its if r.started_at > run.started_at), None)
        if before is not None and after is not None:
            around = figure_of(before), figure_of(after)
            rows.append(
                Beside(
                    f"{named} before and after (A-B-A)",
                    mean_of(around),
                    2,
                    "one thing changed and changed back",
                    around,
                )
            )
        elif (nearest := before or after) is not None:
            rows.append(
                Beside(
                    named,
                    figure_of(nearest),
                    1,
                    "run it again at that setting after this one, so that drift falls out",
                )
            )
    return rows


def has_figure(run: Run) -> bool:
    """Whether a run came to a figure."""
    result = getattr(run, "result", None)
    return result is not None and result.value is not None


def orientation_sentence(siblings: list[Run]) -> str:
    """Whether a specimen works at one setting and not at another; empty where it is not so."""
    stalled: list[str] = []
    worked: list[str] = []
    for one in siblings:
        if one.state == Run.State.VOID or one.specimen_id is None:
            continue
        result = getattr(one, "result", None)
        stalls = result is not None and any(m.kind == "stall" for m in result.found)
        if one.state == Run.State.DNF or (stalls and not has_figure(one)):
            stalled.append(one.setting.label)
        elif has_figure(one):
            worked.append(one.setting.label)
    never, always = set(stalled) - set(worked), set(worked) - set(stalled)
    if not never or not always:
        return ""
    return (
        f"It works at “{sorted(always)[0]}” and not at “{sorted(never)[0]}”: look for a bearing or"
        " a rotor whose friction depends on how it lies."
    )
