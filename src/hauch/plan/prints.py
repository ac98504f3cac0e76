"""The print plan: what lies on which bed when, what it takes of the spools, and what it costs."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass, field

from hauch.core.plan.beds import Spot, on_bed
from hauch.people.models import User
from hauch.plan.day import Line, Shown, shown
from hauch.plan.making import Making
from hauch.plan.models import DayPlan, Machine, PlannedStep, PrototypeMaterial, Spool
from hauch.plan.record import Record
from hauch.stores.models import Material
from hauch.verdict.models import Decision
from hauch.workshop.models import Specimen
from hauch.workshop.queries import material_for

SCALE = 0.9
"""Pixels for a millimetre of bed in the drawing of it."""
WASTE = 1.06
"""What a print takes of a spool against its mass: skirt, purge and the ends of the thread."""


@dataclass(frozen=True)
class Plate:
    """One print: its line in the plan, the machine, what lies on it where, and what it takes."""

    line: Line
    machine: Machine | None
    specimens: list[Specimen]
    spots: list[tuple[Spot, Specimen]]
    material: Material | None
    grams: float | None
    cost: float | None
    ends_by_night: bool

    @property
    def width(self) -> float:
        """Of the drawing."""
        return SCALE * 1000 * self.machine.width if self.machine else 0.0

    @property
    def depth(self) -> float:
        """Of the drawing."""
        return SCALE * 1000 * self.machine.depth if self.machine else 0.0

    @property
    def drawn(self) -> list[tuple[float, float, float, float, Specimen]]:
        """Parts on the bed: x, y, width, depth of the drawing."""
        return [
            (
                SCALE * 1000 * spot.x,
                SCALE * 1000 * spot.y,
                SCALE * 1000 * spot.width,
                SCALE * 1000 * spot.depth,
                specimen,
            )
            for spot, specimen in self.spots
        ]


@dataclass
class Need:
    """What the planned prints take of a material, against what was weighed [kg]."""

    material: Material
    spools: list[Spool] = field(default_factory=list)
    needed: float = 0.0
    unknown: int = 0
    first: Line | None = None

    @property
    def left(self) -> float:
        """On its spools."""
        return sum(spool.left for spool in self.spools)

    @property
    def short(self) -> float:
        """By how much too little there is; 0 where there is enough."""
        return max(self.needed - self.left, 0.0)


@dataclass(frozen=True)
class Prints:
    """All that is to be printed."""

    plates: list[Plate]
    needs: list[Need]
    first_prototypes: list[tuple[Specimen, Material]]

    @property
    def cost(self) -> float:
        """Of all prints whose cost is known."""
        return sum(plate.cost or 0.0 for plate in self.plates)


def prints_of(user: User, plan: DayPlan) -> Prints:
    """The prints of a plan as a person sees them: those of rounds whose workshop they see."""
    made = shown(user, plan)
    rows = [s for s in made.steps if s.kind == "print" and s.round_id in made.mine]
    specimens = {
        one.pk: one
        for one in Specimen.objects.filter(pk__in={pk for row in rows for pk in row.together})
        .select_related("version__entry__round", "version__material", "printed_in")
        .order_by("pk")
    }
    machines = {machine.key: machine for machine in Machine.objects.all()}
    making = Making(plan, Record())
    making.record.know(one.version_id for one in specimens.values())
    found = [
        _plate(made, row, specimens, machines.get(row.place), making)
        for row in rows
        if not made.known.get(row.key) or not made.known[row.key].done
    ]
    return Prints(found, _needs(found), _prototypes(list(specimens.values())))


def _plate(
    made: Shown,
    row: PlannedStep,
    specimens: dict[int, Specimen],
    machine: Machine | None,
    making: Making,
) -> Plate:
    line = made.line(row)
    inside = [specimens[pk] for pk in line.step.together if pk in specimens]
    jobs = [making.job(one, ()) for one in inside]
    by_key = {str(one.pk): one for one in inside}
    spots = on_bed(jobs, machine.bed) if machine and jobs and all(j.parts for j in jobs) else None
    material = material_for(inside[0]) if inside else None
    masses = [making.record.mass(one.version_id) for one in inside]
    grams = None if not masses or None in masses else WASTE * sum(m or 0.0 for m in masses)
    cost = grams * material.price if grams is not None and material is not None else None
    minutes = [piece for piece in line.step.pieces if piece[0] == "print"]
    ends = minutes[0][2] if minutes else None
    nobody = ends is not None and line.step.pieces[-1][1] - ends > 30
    return Plate(
        line,
        machine,
        inside,
        [(spot, by_key[spot.job]) for spot in spots or []],
        material,
        grams,
        cost,
        nobody,
    )


def _needs(plates: Sequence[Plate]) -> list[Need]:
    """What each material takes, whether planned or only there to be weighed."""
    spools: dict[int, list[Spool]] = defaultdict(list)
    for spool in Spool.objects.select_related("material"):
        spools[spool.material_id].append(spool)
    found: dict[int, Need] = {}
    for plate in plates:
        if plate.material is None:
            continue
        need = found.setdefault(
            plate.material.pk, Need(plate.material, spools.get(plate.material.pk, []))
        )
        if plate.grams is None:
            need.unknown += 1
        else:
            need.needed += plate.grams
        if plate.line.step.begin is not None and need.first is None:
            need.first = plate.line
    for pk, rows in spools.items():
        found.setdefault(pk, Need(rows[0].material, rows))
    return sorted(found.values(), key=lambda need: need.material.label)


def _prototypes(specimens: Sequence[Specimen]) -> list[tuple[Specimen, Material]]:
    """Prints in another material than that of prototypes, of versions that nobody accepted yet, with
    the material in which they would be tried first.
    """
    row = PrototypeMaterial.objects.select_related("material").first()
    if row is None:
        return []
    waiting = [one for one in specimens if one.state == Specimen.State.PLANNED]
    accepted: dict[int, bool] = {}
    versions = {one.version_id for one in waiting}
    for decision in Decision.objects.filter(version__in=versions).order_by("at", "pk"):
        accepted[decision.version_id] = decision.word == Decision.Word.ACCEPTED
    tried = set(
        Specimen.objects.filter(version__in=versions, printed_in=row.material)
        .exclude(state=Specimen.State.PLANNED)
        .values_list("version_id", flat=True)
    )
    found = []
    for one in waiting:
        material = material_for(one)
        done = accepted.get(one.version_id) or one.version_id in tried
        if material is not None and material.pk != row.material_id and not done:
            found.append((one, row.material))
    return found
