"""The parts of the demo's entries: printable meshes from the generator, checked as any other, with
faults where the story needs them; and the workshop.
"""

from __future__ import annotations

import math
from concurrent.futures import Future, ThreadPoolExecutor
from datetime import timedelta
from decimal import Decimal
from typing import TYPE_CHECKING

from django.utils import timezone

from hauch.demo.meshes import INCHES, PARTS
from hauch.demo.stores import people, uid
from hauch.entries.checking import Outcome, check_input_of, outcome_of, store
from hauch.entries.models import AssemblyStep, BillItem, PartCheck, PartFile, Version
from hauch.people.keep import keep
from hauch.rounds.models import Round
from hauch.stores.models import Material
from hauch.workshop import queries
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep

if TYPE_CHECKING:
    pass

State = Specimen.State
STEPS = {
    "rotor": ("Press the shaft's bush in from behind, cold.", "Screw the spinner on with two M2 screws.", "Turn it by hand in the frame: nothing rubs."),
    "intake": ("Gasket between flange and plate.", "Four M5 screws, crosswise."), "duct": ("Gasket at the trunk.", "Clip the three shelves' hoses on, left to right."),
    "ring": ("Glue the neck into the foot; let it set for a night.", "Guard on the foot's inlet."),
}  # fmt: skip
BILLS = {
    "rotor": (("brass bush 4 mm", 1, "0.80"), ("screw M2 x 8", 2, "0.05")), "intake": (("gasket 150 mm", 1, "1.20"), ("screw M5 x 16", 4, "0.12")),
    "duct": (("gasket 70 x 40", 1, "0.60"), ("hose clip", 3, "0.35")), "ring": (("guard 120 mm", 1, "1.90"), ("two-part glue, a tenth", 1, "0.70")),
}  # fmt: skip
WHY = {
    ("Distel", 2): "v1 did not go onto the shaft. The swept tip should leak less.", ("Mohn", 1): "Less plastic, same air: the thickness of the reference is only for moulding.",
}  # fmt: skip


Files = dict[tuple[str, str, int], "Future[bytes]"]
"""What is handed in, as the process beside makes it."""
Handed = list[tuple[PartCheck, "Future[Outcome]"]]


def hand_in_parts(files: Files, pool: ThreadPoolExecutor) -> Handed:
    """Files and papers of all entries; their checks go on in child processes meanwhile."""
    petg = Material.objects.get(key="petg")
    _second_ring()
    handed: Handed = []
    versions = Version.objects.select_related("entry__round").filter(
        entry__round__slug__in={key[0] for key in PARTS}
    )
    for version in versions.order_by("entry__round__number", "entry__mark", "number"):
        round = version.entry.round
        key = (round.slug, version.entry.name, version.number)
        version.material, version.why = petg, WHY.get(key[1:], "")
        version.save(update_fields=["material", "why"])
        _papers(version, round.part)
        if key in PARTS:
            data = files[key].result()
            file = _hand_in(version, PARTS[key][0], data)
            check = PartCheck.objects.create(file=file, asked_at=version.created_at, attempts=1)
            file.newest_check = check
            file.save(update_fields=["newest_check"])
            handed.append((check, pool.submit(outcome_of, file.name, data, check_input_of(file))))
    return handed


def finish_parts(handed: Handed) -> None:
    """What the checks found, then the workshop's prints."""
    petg = Material.objects.get(key="petg")
    for check, outcome in handed:
        store(check, outcome.result())
    for specimen in Specimen.objects.filter(
        version__entry__round__slug__in={key[0] for key in PARTS}
    ).select_related("version__entry__round", "printed_in"):
        _finished(specimen, petg)
    _in_the_workshop(petg)


def _second_ring() -> None:
    """The Nebelring stuck out of its place; its second version does not."""
    first = Version.objects.get(
        entry__round__slug="packing-table-ring", entry__name="Nebelring", number=1
    )
    second = Version.objects.create(
        uid=uid("version", 4, "Nebelring", 2),
        entry=first.entry,
        number=2,
        changed="Shorter diffuser: v1 stuck out by 20 mm.",
        created_at=first.created_at + timedelta(days=2),
    )
    first.predictions.update(version=second)


def _hand_in(version: Version, name: str, data: bytes) -> PartFile:
    digest, path = keep(data)
    return PartFile.objects.create(
        version=version,
        name=name,
        sha256=digest,
        size=len(data),
        path=path,
        added_by=version.entry.designer,
        added_at=version.created_at,
        place="on the shaft" if version.entry.round.part == "rotor" else "at the plate",
        unit="inch" if name == INCHES else "",
    )


def _papers(version: Version, part: str) -> None:
    BillItem.objects.bulk_create(
        BillItem(
            version=version, order=n, name=name, quantity=Decimal(quantity), price=Decimal(price)
        )
        for n, (name, quantity, price) in enumerate(BILLS[part], 1)
    )
    AssemblyStep.objects.bulk_create(
        AssemblyStep(version=version, order=n, text=text) for n, text in enumerate(STEPS[part], 1)
    )


def _with_steps(specimen: Specimen, done: int | None = None) -> None:
    """The usual steps; so many of them done (all where None)."""
    odo = people()["odo"]
    for order, (kind, text) in enumerate(queries.usual_steps(specimen), 1):
        ticked = done is None or order <= done
        WorkStep.objects.create(
            specimen=specimen,
            order=order,
            kind=kind,
            text=text[:300],
            done_at=specimen.since if ticked else None,
            done_by=odo if ticked else None,
        )


def _finished(specimen: Specimen, petg: Material) -> None:
    """A specimen that has been on the bench: printed, worked on, measured, let through the gate."""
    odo, check = people()["odo"], queries.main_check(specimen)
    specimen.printed_in, specimen.since = petg, specimen.version.created_at + timedelta(days=3)
    if check is not None and (mass := check.value("mass")):
        specimen.mass = round(mass * (1 + 0.01 * ((specimen.pk * 7) % 5 - 2)), 4)
    limit = queries.speed_limit(specimen)
    specimen.cap = limit.cap
    specimen.save(update_fields=["printed_in", "since", "mass", "cap"])
    hours = (check.value("time") or 4 * 3600.0) / 3600 * 1.08 if check else 4.0
    PrintRun.objects.create(
        specimen=specimen,
        machine="Printer at the window",
        hours=round(hours, 1),
        by=odo,
        at=specimen.since,
    )
    _with_steps(specimen)
    if check is not None and (bore := check.value("bore")):
        Measure.objects.bulk_create(
            Measure(
                specimen=specimen,
                kind=Measure.Kind.BORE,
                place=k,
                value=round(bore - 0.00004 * (k + specimen.pk % 3), 6),
                by=odo,
                at=specimen.since,
            )
            for k in (1, 2)
        )
    if specimen.version.entry.name == "Zaunkönig":
        Balance.objects.create(
            specimen=specimen,
            speed=1500.0,
            first=4.2,
            first_angle=math.radians(75),
            trial=0.0004,
            trial_radius=0.025,
            trial_angle=0.0,
            second=5.6,
            second_angle=math.radians(38),
            residual=0.4,
            by=odo,
            at=specimen.since,
        )
    Gate.objects.create(
        specimen=specimen,
        power="supply",
        cautions=[[c.key, c.text] for c in queries.cautions_for(specimen, "supply")],
        cap=limit.cap,
        working=limit.why[:300],
        by=odo,
        at=specimen.since + timedelta(hours=5),
    )


def _in_the_workshop(petg: Material) -> None:
    """Prints of the ring round and second prints of the inlet, somewhere between printer and bench."""
    now, odo = timezone.now(), people()["odo"]
    pa = Material.objects.get(key="pa")
    # entry, code, state, hours since then, days until it is due, steps done, material
    rows: list[tuple[str, str, str, str, float, int | None, int, Material]] = [
        ("packing-table-ring", "Heiligenschein", "P-01", State.PRINTED, 5, 3, 1, petg),
        ("packing-table-ring", "Nebelring", "P-02", State.OVEN, 2, 2, 2, pa),
        ("packing-table-ring", "Brezel", "P-03", State.PRINTING, 1, 4, 0, petg),
        ("packing-table-ring", "Heiligenschein", "P-04", State.PLANNED, 30, -2, 0, petg),
        ("packing-table-ring", "Nebelring", "P-05", State.GLUED, 9, 1, 3, petg),
        ("hushed-inlet", "Lerche", "H-07", State.PRINTED, 20, -1, 2, petg),
    ]
    for slug, name, code, state, hours, due, done, material in rows:
        version = (
            Version.objects.filter(entry__round=Round.objects.get(slug=slug), entry__name=name)
            .select_related("entry__round")
            .latest("number")
        )
        specimen = Specimen.objects.create(
            version=version,
            code=code,
            state=state,
            since=now - timedelta(hours=hours),
            due=(now + timedelta(days=due or 0)).date(),
            printed_in=material,
        )
        _with_steps(specimen, done)
        if state not in {State.PLANNED, State.PRINTING}:
            check = queries.main_check(specimen)
            taken = ((check.value("time") if check else None) or 6 * 3600.0) / 3600 * 0.94
            PrintRun.objects.create(
                specimen=specimen,
                machine="Printer at the window",
                hours=round(taken, 1),
                by=odo,
                at=specimen.since,
            )
        if code == "P-01":
            PrintRun.objects.create(
                specimen=specimen,
                machine="Printer in the shed",
                hours=2.0,
                failed=True,
                note="Lifted from the bed.",
                by=odo,
                at=specimen.since - timedelta(hours=9),
            )
            slot = (check.value("slot") if check else None) or 0.0008
            Measure.objects.bulk_create(
                Measure(
                    specimen=specimen,
                    kind=Measure.Kind.SLOT,
                    place=k,
                    value=round(slot * f, 6),
                    by=odo,
                )
                for k, f in enumerate((0.91, 1.04, 1.12, 0.97), 1)
            )
