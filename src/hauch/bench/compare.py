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
        rows += _settings(run, siblings)
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
        (
            f"version {number} of this entry ({len(of_it)} run{'s' if len(of_it) > 1 else ''})",
            mean_of([figure_of(r) for r in of_it], "version"),
            None,
            "",
        )
    ]


def _settings(run: Run, siblings: list[Run]) -> list[tuple[str, Quantity, Against | None, str]]:
    """Another setting of the same specimen: before and after where both were run, else the nearest
    one.
    """
    how = run.test.how
    rows: list[tuple[str, Quantity, Against | None, str]] = []
    others: dict[Setting, list[Run]] = {}
    for one in siblings:
        elsewhere = one.test_id == run.test_id and one.setting_id != run.setting_id
        if elsewhere and one.state == Run.State.VALID and has_figure(one):
            others.setdefault(one.setting, []).append(one)
    for setting, its in sorted(others.items(), key=lambda item: (item[0].label, item[0].pk)):
        before = next((r for r in reversed(its) if r.started_at < run.started_at), None)
        after = next((r for r in its if r.started_at > run.started_at), None)
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
        elif (nearest := before or after) is not None:
            rows.append(
                (
                    f"“{setting}”",
                    figure_of(nearest),
                    None,
                    "run it again at that setting after this one, so that drift falls out",
                )
            )
    return rows


def has_figure(run: Run) -> bool:
    """Whether a run came to a figure."""
    result = getattr(run, "result", None)
    return result is not None and result.value is not None


def orientation_told(siblings: list[Run]) -> str:
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
