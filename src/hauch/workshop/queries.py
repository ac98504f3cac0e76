"""Reading the workshop: the board, designed against measured sizes, cautions and the speed limit of
a specimen.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.db.models import Count, Prefetch, QuerySet, Window
from django.db.models.functions import RowNumber
from django.http import Http404

from hauch.core.part.balance import GRADE, Correction, correction, permissible_unbalance
from hauch.core.part.cautions import POWER, Caution, cautions
from hauch.core.part.printing import Annealing, annealing
from hauch.core.part.strength import lies_flat
from hauch.core.strength.limit import SpeedLimit, Stressed
from hauch.core.strength.material import MATERIALS
from hauch.entries.models import PartCheck
from hauch.entries.queries import visible_to
from hauch.people.clock import house_day
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.stores.models import Material
from hauch.workshop.models import Balance, Measure, Specimen, WorkStep

State = Specimen.State
COLUMNS = (
    State.PLANNED,
    State.PRINTING,
    State.PRINTED,
    State.OVEN,
    State.GLUED,
    State.READY,
    State.BROKEN,
)
MOST_IN_A_COLUMN = 40


def specimens_of(user: User, round: Round) -> QuerySet[Specimen]:
    """Specimens of a round that a person may see."""
    rows = Specimen.objects.filter(version__entry__in=visible_to(user, round))
    return rows.select_related("version__entry", "printed_in")


def specimen_for(user: User, round: Round, pk: int) -> Specimen:
    """One specimen, or Http404 where this person may not know of it."""
    found = (
        specimens_of(user, round)
        .select_related("version__entry__designer", "version__material")
        .filter(pk=pk)
        .first()
    )
    if found is None:
        raise Http404("There is no such specimen, or its entry is not published yet.")
    found.version.entry.round = round
    return found


@dataclass(frozen=True)
class Column:
    """A column of the board."""

    state: str
    label: str
    rows: list[Specimen]
    more: int


def board(user: User, round: Round) -> list[Column]:
    """The board: what lies where, the longest in its state first. Two queries, and no more rows
    than are shown, however many there are.
    """
    rows = (
        specimens_of(user, round)
        .annotate(
            place=Window(RowNumber(), partition_by="state", order_by=["since", "pk"]),
            of_state=Window(Count("pk"), partition_by="state"),
        )
        .filter(place__lte=MOST_IN_A_COLUMN)
        .order_by("since", "pk")
        .prefetch_related(
            Prefetch("steps", WorkStep.objects.filter(done_at=None), to_attr="open_steps")
        )
    )
    held: dict[str, list[Specimen]] = {s: [] for s in COLUMNS}
    counts: dict[str, int] = dict.fromkeys(COLUMNS, 0)
    for row in rows:
        row.version.entry.round = round
        held[row.state].append(row)
        counts[row.state] = row.__dict__["of_state"]
    return [Column(s, State(s).label, held[s], counts[s] - len(held[s])) for s in COLUMNS]


def late_prints(user: User, round: Round) -> list[Specimen]:
    """Prints that should be done by now, the longest due first."""
    open_ones = specimens_of(user, round).exclude(state__in=[State.READY, State.BROKEN])
    rows = list(open_ones.filter(due__lt=house_day()).order_by("due", "pk"))
    for row in rows:
        row.version.entry.round = round
    return rows


def _checks(specimen: Specimen) -> list[PartCheck]:
    return list(
        PartCheck.objects.newest()
        .filter(file__version=specimen.version, state=PartCheck.State.DONE)
        .select_related("file")
    )


def printed_parts(versions: Iterable[int]) -> dict[int, list[PartCheck]]:
    """The checks of all parts that are printed for a version, by its key; one that was handed in in two
    formats is in it once.
    """
    found: dict[int, dict[str, PartCheck]] = {}
    rows = PartCheck.objects.newest().filter(file__version__in=versions, state=PartCheck.State.DONE)
    for check in rows.select_related("file").order_by("file__pk"):
        stem = Path(check.file.name).stem.casefold()
        found.setdefault(check.file.version_id, {}).setdefault(stem, check)
    return {version: list(parts.values()) for version, parts in found.items()}


def main_check(specimen: Specimen) -> PartCheck | None:
    """The check of the specimen's greatest part."""
    return max(_checks(specimen), key=lambda r: r.value("volume") or 0.0, default=None)


def material_for(specimen: Specimen) -> Material | None:
    """What it is printed in: as logged, else as its designer wishes."""
    return specimen.printed_in or specimen.version.material


def usual_steps(specimen: Specimen) -> list[tuple[str, str]]:
    """Steps of a new specimen: supports, sanding, joints, annealing where the material is annealed,
    then the designer's assembly in its order.
    """
    kind = WorkStep.Kind
    spins = specimen.version.entry.round.kind.spins
    counts: dict[str, int] = {}
    for file in specimen.version.files.all():
        if file.is_mesh:  # one part may be handed in in two formats
            stem = Path(file.name).stem.casefold()
            counts[stem] = max(counts.get(stem, 0), file.count)
    pieces = sum(counts.values())
    steps = [
        (kind.SUPPORTS, "Supports, brim and threads off."),
        (kind.SAND, "Sand what air passes; wet, with a mask."),
    ]
    if pieces > 1:
        steps += [
            (kind.GLUE, f"Glue or screw the {pieces} pieces."),
            (kind.GASKET, "A gasket at every joint: a leak spoils pressure readings."),
        ]
    elif not spins:
        steps.append(
            (kind.GASKET, "A gasket at the mounting face: a leak spoils pressure readings.")
        )
    material = material_for(specimen)
    if material is not None and material.anneal is not None:
        oven = annealing_for(specimen)
        how = (
            f" Ramp {oven.ramp / 3600:.1f} h, hold {oven.hold / 3600:.1f} h, cool slowly."
            if oven
            else ""
        )
        steps.append(
            (kind.ANNEAL, f"Anneal at {material.anneal:.0f} °C.{how} Measure again: it shrinks.")
        )
    if spins:
        steps.append((kind.OTHER, "Turn it by hand on its shaft: it runs true and does not rub."))
    return steps + [(str(kind.ASSEMBLE), s.text) for s in specimen.version.steps.all()]


def annealing_for(specimen: Specimen) -> Annealing | None:
    """The oven's program for a specimen; None where its material is not annealed or nothing is
    known of its walls.
    """
    material, check = material_for(specimen), main_check(specimen)
    wall = check.value("wall_middle") if check else None
    if material is None or material.anneal is None or not wall:
        return None
    return annealing(wall, material.anneal, material.shrinks, material.grows)


DESIGNED = {
    Measure.Kind.BORE: "bore",
    Measure.Kind.SLOT: "slot",
    Measure.Kind.WALL: "wall_middle",
    Measure.Kind.OUTER: "outer",
    Measure.Kind.DEPTH: "depth",
}


@dataclass(frozen=True)
class Held:
    """A size: designed (None where the check does not tell it), measured at its places, their mean
    and the change in percent.
    """

    kind: str
    label: str
    designed: float | None
    places: list[tuple[int, float]]
    mean: float

    @property
    def change(self) -> float | None:
        """Measured against designed [%]."""
        return 100 * (self.mean / self.designed - 1) if self.designed else None


def measured(specimen: Specimen) -> list[Held]:
    """Sizes as measured, against the design; the last word at each place counts."""
    last: dict[str, dict[int, float]] = {}
    for row in specimen.measures.order_by("at", "pk"):
        last.setdefault(row.kind, {})[row.place] = row.value
    check, design = main_check(specimen), designed_gap(specimen)
    found = []
    for kind, places in last.items():
        value = (
            design
            if kind == Measure.Kind.TIP_GAP
            else check.value(DESIGNED[Measure.Kind(kind)])
            if check and kind in DESIGNED
            else None
        )
        rows = sorted(places.items())
        found.append(
            Held(kind, Measure.Kind(kind).label, value, rows, sum(v for _, v in rows) / len(rows))
        )
    return found


def slot_area(specimen: Specimen) -> tuple[float, float | None] | None:
    """Slot area with the width as measured, and the neck's area [m2]; None where no slot was
    measured.
    """
    check = main_check(specimen)
    width = next((h.mean for h in measured(specimen) if h.kind == Measure.Kind.SLOT), None)
    if check is None or width is None:
        return None
    slot, area = check.value("slot"), check.value("slot_area")
    return (width * area / slot, check.value("neck")) if slot and area else None


def designed_gap(specimen: Specimen) -> float | None:
    """Tip gap of the model in the round's bore [m]."""
    check = main_check(specimen)
    what = specimen.version.entry.round.what
    swept = check.value("outer") if check else None
    return (what["bore"] - swept) / 2 if swept and what.family == "rotor" else None


def print_rows(specimen: Specimen) -> list[dict[str, Any]]:
    """What the check told of the print against what was weighed and logged."""
    check = main_check(specimen)
    if check is None:
        return []
    hours = [p.hours for p in specimen.prints.all() if not p.failed and p.hours]
    rows: list[dict[str, Any]] = [
        {"label": "Mass", "kind": "mass", "told": check.value("mass"), "is": specimen.mass}
    ]
    if (told := check.value("time")) is not None:
        rows.append(
            {
                "label": "Time on the printer",
                "kind": "duration",
                "told": told,
                "is": 3600 * sum(hours) if hours else None,
            }
        )
    for row in rows:
        row["change"] = 100 * (row["is"] / row["told"] - 1) if row["is"] and row["told"] else None
    return [r for r in rows if r["told"] is not None]


@dataclass(frozen=True)
class Limit:
    """A speed that is not to be passed [1/min] (None where none is known), and where it comes from."""

    cap: float | None
    why: str


def speed_limit(specimen: Specimen) -> Limit:
    """The speed limit of a rotor: of its parts the lowest, from their checks and the material it is
    printed in; without one from its diameter.
    """
    if not specimen.version.entry.round.kind.spins:
        return Limit(None, "No part of it spins.")
    measured_tip = max(
        (m.value / 2 for m in specimen.measures.all() if m.kind == Measure.Kind.OUTER), default=0.0
    )
    checks = [check for check in _checks(specimen) if check.value("outer")]
    if checks:
        try:
            limit = min(
                (_limit_of(check, specimen, measured_tip) for check in checks),
                key=lambda found: found.speed,
            )
        except LookupError as problem:
            return Limit(None, str(problem))
        return Limit(limit.speed or None, limit.why)
    said = specimen.version.entry.round.envelope.get("values", {}).get("bore")
    tip = measured_tip or float(said or 0.0) / 2
    if not tip:
        return Limit(
            None,
            "Its mesh was not checked and nothing is known of its diameter. Hand its mesh in, or"
            " measure its outer diameter.",
        )
    where = (
        "as measured"
        if measured_tip
        else "the bore of the envelope, since its mesh was not checked and it was not measured"
    )
    material = material_for(specimen)
    unknown = SpeedLimit(
        Stressed(tip, why_not="its mesh was not checked."),
        specimen.settings.printed(material.core if material else MATERIALS["petg"], flat=True),
    )
    return Limit(unknown.speed, f"From {2000 * tip:.0f} mm diameter, {where}. {unknown.why}")


def _limit_of(check: PartCheck, specimen: Specimen, measured_tip: float) -> SpeedLimit:
    """The limit of one part, printed as the specimen is. Raises LookupError where the check did not
    compute its stress, or nothing is known of its material.
    """
    if "stressed" not in check.data:
        raise LookupError(
            f"The check of {check.file} is of an earlier version, which did not compute how blades"
            " are bent. Have the part checked anew."
        )
    material, key = material_for(specimen), check.data.get("material", "")
    if material is None:
        material = Material.objects.filter(key=key).first()
    if material is None:
        raise LookupError(
            f"The check reckoned with {key}, which is not in the stores any more; say what"
            f" {specimen} is printed in."
        )
    return SpeedLimit(
        Stressed.from_json(check.data["stressed"]),
        specimen.settings.printed(material.core, flat=lies_flat(check.data.get("up", "z"))),
        measured_tip,
    )


def cautions_for(specimen: Specimen, power: str) -> list[Caution]:
    """The cautions that somebody confirms before this specimen goes on a bench."""
    round, check, material = (
        specimen.version.entry.round,
        main_check(specimen),
        material_for(specimen),
    )
    heater = round.tests.filter(procedure="temperature_rise", dropped=False).exists()
    return cautions(
        round.part,
        power if power in POWER else "supply",
        check.value("tip_speed") if check else None,
        speed_limit(specimen).cap,
        material.cautions if material else "",
        heater,
    )


def same_gate(user: User, specimen: Specimen, power: str) -> list[Specimen]:
    """Other prints of the round that wait at the gate with the same cautions, word by word; so many at
    most as fit a page.
    """
    round = specimen.version.entry.round
    texts = [c.text for c in cautions_for(specimen, power)]
    waiting = specimens_of(user, round).filter(state=State.PRINTED).exclude(pk=specimen.pk)
    found = []
    for one in waiting.order_by("code")[:MOST_IN_A_COLUMN]:
        one.version.entry.round = round
        if not why_no_gate(one) and [c.text for c in cautions_for(one, power)] == texts:
            found.append(one)
    return found


def why_no_gate(specimen: Specimen) -> str:
    """Why the gate stays shut; empty where it may be passed."""
    if specimen.state == State.BROKEN:
        return f"{specimen} is broken."
    if specimen.state not in {State.PRINTED, State.READY}:
        return (
            f"{specimen} is {specimen.get_state_display()}; it comes to the gate when it is printed"
            " and done."
        )
    left = specimen.steps.filter(done_at=None).count()
    if left:
        return (
            f"{left} step{'s' if left > 1 else ''} of {specimen} {'are' if left > 1 else 'is'} not"
            " done yet."
        )
    return _why_checks_shut_it(specimen) or _why_no_limit(specimen) or _why_unbalanced(specimen)


def _why_unbalanced(specimen: Specimen) -> str:
    """A part whose newest balancing left more than is allowed keeps the gate shut, and one of which
    nothing can be allowed since nobody weighed it.
    """
    newest = next(iter(balanced(specimen)), None)
    if newest is None:
        return ""
    if newest.allowed is None:
        return f"{specimen} was balanced and not weighed: what is allowed goes with its mass."
    now = newest.correction.first if newest.left is None else newest.left
    if now <= newest.allowed:
        return ""
    return (
        f"{specimen} is out of balance: {1e6 * now:.3g} g mm where {1e6 * newest.allowed:.2g} g mm"
        f" are allowed at {newest.row.speed:,.0f} 1/min. Correct it, and read what is left."
    )


def _why_no_limit(specimen: Specimen) -> str:
    """A rotor of which no diameter is known keeps the gate shut: nothing would hold its speed."""
    limit = speed_limit(specimen)
    spins = specimen.version.entry.round.kind.spins
    return (
        f"No speed limit can be told for {specimen}. {limit.why}"
        if spins and limit.cap is None
        else ""
    )


def _why_checks_shut_it(specimen: Specimen) -> str:
    """A part that was sent back, or not checked to the end, keeps the gate shut; empty where none
    does.
    """
    checks = PartCheck.objects.newest().filter(file__version=specimen.version)
    if checks.filter(verdict=PartCheck.Verdict.BACK).exists():
        return (
            f"A part of {specimen.version} was sent back by its check. Mend it, or hand in a"
            " version that passes."
        )
    states = set(checks.values_list("state", flat=True)) - {PartCheck.State.DONE}
    if states & {PartCheck.State.WAITING, PartCheck.State.RUNNING}:
        return f"A part of {specimen.version} is still being checked."
    if states:
        return (
            f"A part of {specimen.version} was not checked to the end. Have it checked anew, or"
            " hand in a version that passes."
        )
    return ""


def why_not_ready(specimen: Specimen) -> str:
    """Why a specimen cannot simply be called ready; empty where it has passed the gate with the
    speed limit that holds for it now.
    """
    if shut := why_no_gate(specimen):
        return shut
    if specimen.version.entry.round.straight_to_the_bench:
        return ""
    gate = specimen.gates.first()
    if gate is None:
        return (
            f"{specimen} has not passed the safety gate. Open it, and confirm the cautions that"
            " apply."
        )
    if gate.cap != speed_limit(specimen).cap:
        return (
            f"The speed limit of {specimen} is another than when it passed the safety gate. It"
            " passes it anew."
        )
    return ""


@dataclass(frozen=True)
class Balanced:
    """A balancing with what follows: the correction, what is allowed at its speed [kg m], what is
    left [kg m].
    """

    row: Balance
    correction: Correction
    allowed: float | None
    left: float | None

    @property
    def mass_at_trial(self) -> float:
        """The correction as a mass at the trial's radius [kg]."""
        return self.correction.mass_at(self.row.trial_radius)


def balanced(specimen: Specimen) -> list[Balanced]:
    """The balancings of a specimen, the newest first."""
    found = []
    for row in specimen.balances.all():
        made = correction(
            row.first,
            row.first_angle,
            row.trial,
            row.trial_radius,
            row.trial_angle,
            row.second,
            row.second_angle,
        )
        allowed = permissible_unbalance(GRADE, specimen.mass, row.speed) if specimen.mass else None
        left = (
            made.first * row.residual / row.first
            if row.residual is not None and row.first
            else None
        )
        found.append(Balanced(row, made, allowed, left))
    return found
