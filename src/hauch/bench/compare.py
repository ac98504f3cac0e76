"""A run against what it can be held against: the reference, its prediction, the entry's earlier
version, another setting before and after.
"""

from __future__ import annotations

from dataclasses import dataclass

from django.db.models import F, Value
from django.db.models.functions import Abs, Extract

from hauch.bench.models import Run
from hauch.bench.queries import RunQuerySet, runs
from hauch.core.judge.against import Against, a_b_a, against, mean_of
from hauch.core.quantity import Influence, Quantity, measured
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


def figure_of(run: Run) -> Quantity:
    """A run's stored figure with its causes of doubt."""
    value = run.result.value
    if value is None:
        raise ValueError(f"run {run.pk} has no figure")
    return Quantity.stored(value, run.result.unit, run.result.parts)


def comparisons(run: Run) -> list[Row]:
    """All that a run with a result can be held against."""
    result = getattr(run, "result", None)
    if run.state != Run.State.VALID or result is None or result.value is None:
        return []
    how, this = run.test.how, figure_of(run)
    rows: list[tuple[str, Quantity, Against | None, str]] = []
    same = (
        runs()
        .filter(test=run.test_id, state=Run.State.VALID, result__value__isnull=False)
        .select_related("result", "setting")
    )
    if run.reference_id is None:
        rows += _reference(run, same.filter(setting=run.setting_id))
        rows += _prediction(run)
        rows += _earlier(run, same.filter(setting=run.setting_id))
        rows += _settings(run, same)
    else:
        others = list(
            same.filter(setting=run.setting_id, reference=run.reference_id)
            .exclude(pk=run.pk)
            .order_by("-started_at")[:NEAREST]
        )
        if others:
            rows.append(
                (
                    f"its other runs ({len(others)})",
                    mean_of([figure_of(r) for r in others], "reference"),
                    None,
                    "",
                )
            )
    unit = how.change_unit
    made = []
    for what, other, found, said in rows:
        if how.log and (other.value <= 0 or this.value <= 0):
            continue
        made.append(
            Row(what, other, found or against(this, other, how.log, how.direction), unit, said)
        )
    return made


def _reference(run: Run, same: RunQuerySet) -> list[tuple[str, Quantity, Against | None, str]]:
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
    return [(name, mean_of([figure_of(r) for r in nearest], "reference"), None, "")]


def _prediction(run: Run) -> list[tuple[str, Quantity, Against | None, str]]:
    rows: list[tuple[str, Quantity, Against | None, str]] = []
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
            (
                who,
                measured(told.value, run.result.unit, [(cause, told.u)]),
                None,
                "" if told.u else "no doubt was told with it",
            )
        )
    return rows


def _earlier(run: Run, same: RunQuerySet) -> list[tuple[str, Quantity, Against | None, str]]:
    if run.specimen is None:
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
        (
            f"version {number} of this entry ({len(of_it)} run{'s' if len(of_it) > 1 else ''})",
            mean_of([figure_of(r) for r in of_it], "version"),
            None,
            "",
        )
    ]


def _settings(run: Run, same: RunQuerySet) -> list[tuple[str, Quantity, Against | None, str]]:
    """Another setting of the same specimen: before and after where both were run, else the nearest
    one.
    """
    how, rows = run.test.how, []
    for setting in (
        Setting.objects.filter(runs__specimen=run.specimen_id, runs__test=run.test_id)
        .exclude(pk=run.setting_id)
        .distinct()
    ):
        others = same.filter(specimen=run.specimen_id, setting=setting)
        before = others.filter(started_at__lt=run.started_at).order_by("-started_at", "-pk").first()
        after = others.filter(started_at__gt=run.started_at).order_by("started_at", "pk").first()
        if before is not None and after is not None:
            a1, a2 = figure_of(before), figure_of(after)
            found = (
                a_b_a(a1, figure_of(run), a2, how.log, how.direction)
                if not how.log or min(a1.value, a2.value) > 0
                else None
            )
            rows.append(
                (
                    f"“{setting}” before and after (A-B-A)",
                    mean_of([a1, a2], "setting"),
                    found,
                    "one thing changed and changed back",
                )
            )
        elif (one := before or after) is not None:
            rows.append(
                (
                    f"“{setting}”",
                    figure_of(one),
                    None,
                    "run it again at that setting after this one, so that drift falls out",
                )
            )
    return rows


def orientation_told(run: Run) -> str:
    """Whether the part works at one setting and not at another; empty where it is not so."""
    if run.specimen_id is None:
        return ""
    stalled: list[str] = []
    worked: list[str] = []
    for one in (
        Run.objects.filter(specimen=run.specimen_id)
        .exclude(state=Run.State.VOID)
        .select_related("setting", "result")
    ):
        result = getattr(one, "result", None)
        stood = one.state == Run.State.DNF or (
            result is not None
            and any(m[1] == "stall" for m in result.marks)
            and result.value is None
        )
        (
            stalled if stood else worked if result is not None and result.value is not None else []
        ).append(one.setting.label)
    never, always = set(stalled) - set(worked), set(worked) - set(stalled)
    if not never or not always:
        return ""
    return (
        f"It works at “{sorted(always)[0]}” and not at “{sorted(never)[0]}”: look for a bearing or"
        " a rotor whose friction depends on how it lies."
    )
