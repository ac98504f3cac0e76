"""What can be done in the workshop: plan and add prints, log them, work through their steps, weigh,
measure, balance, pass the safety gate.
"""

from __future__ import annotations

import itertools
from collections.abc import Mapping
from datetime import date
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.core.part.balance import correction
from hauch.entries.models import Entry, Version
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round
from hauch.stores.models import Material
from hauch.workshop import queries
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep
from hauch.workshop.signals import left_the_bench

State = Specimen.State
FORWARD = {
    State.PLANNED: State.PRINTING,
    State.PRINTING: State.PRINTED,
    State.PRINTED: State.READY,
    State.OVEN: State.PRINTED,
    State.GLUED: State.PRINTED,
}
"""Where *move on* leads from each state."""


def free_code(version: Version) -> str:
    """The next code of an entry's prints: a letter for the entry, a number for the print."""
    round, letters, n = version.entry.round, "", version.entry.mark
    while True:
        letters, n = chr(ord("A") + n % 26) + letters, n // 26 - 1
        if n < 0:
            break
    taken = {
        code.upper()
        for code in Specimen.objects.filter(
            version__entry__round=round, code__istartswith=letters
        ).values_list("code", flat=True)
    }
    return next(code for n in itertools.count(1) if (code := f"{letters}{n}") not in taken)


@transaction.atomic
def add_specimen(
    user: User,
    version: Version,
    code: str = "",
    material: str = "",
    mass: float | None = None,
    *,
    state: str = State.PRINTED,
    due: date | None = None,
    printed_in: Material | None = None,
) -> Specimen:
    """Add a print of a version, or plan one; mass in kg. Without a code it gets the next one of its
    entry. Its steps follow from the version and the material; a quick comparison asks for none,
    and where its parts can hurt nobody by themselves they are ready for the bench.

    Raises
    ------
    PermissionDenied, ValidationError : withdrawn entry, a code that is taken, an impossible mass
    """
    round = version.entry.round
    require(user, "specimen.change", round)
    if version.entry.state == Entry.State.WITHDRAWN:
        raise ValidationError(f"{version.entry} was withdrawn, so it gets no further specimen.")
    Round.objects.select_for_update().get(pk=round.pk)  # one at a time, so that codes differ
    if (
        code.strip()
        and Specimen.objects.filter(version__entry__round=round, code__iexact=code.strip()).exists()
    ):
        raise ValidationError(
            f"The code {code.strip()} is on another specimen of this round. Choose another."
        )
    if state not in {State.PLANNED, State.PRINTED}:
        raise ValidationError("A specimen is planned, or printed already.")
    return make_specimen(
        user,
        version,
        code.strip(),
        state=state,
        material=material.strip(),
        mass=mass,
        due=due,
        printed_in=printed_in,
    )


def make_specimen(
    user: User, version: Version, code: str = "", state: str = State.PRINTED, **known: Any
) -> Specimen:
    """A print of a version as `add_specimen` makes it, for whoever handed the version in."""
    round = version.entry.round
    ready = round.straight_to_the_bench and state == State.PRINTED
    known["printed_in"] = known.get("printed_in") or version.material
    specimen = Specimen(
        version=version,
        code=code or free_code(version),
        state=State.READY if ready else state,
        **known,
    )
    specimen.full_clean()
    specimen.save()
    if not round.quick:
        WorkStep.objects.bulk_create(
            WorkStep(specimen=specimen, order=order, kind=kind, text=text[:300])
            for order, (kind, text) in enumerate(queries.usual_steps(specimen), 1)
        )
    record(user, "specimen.add", specimen, round)
    return specimen


def _off_the_bench(user: User, specimen: Specimen) -> None:
    """Take a specimen off the bench where its gate would stay shut now; it passes the gate anew."""
    specimen = Specimen.objects.select_for_update(of=("self",)).get(pk=specimen.pk)
    why = queries.why_no_gate(specimen) if specimen.state == State.READY else ""
    if why:
        specimen.note = f"{specimen.note}\nLeft the bench: {why}".strip()
        specimen.save(update_fields=["note"])
        _moved(user, specimen, State.PRINTED)


def to_the_gate(user: User, round: Round) -> None:
    """Take prints that never passed the gate off the bench, since they need it from now on."""
    rows = Specimen.objects.select_for_update(of=("self",)).filter(
        version__entry__round=round, state=State.READY, gates__isnull=True
    )
    for specimen in rows.select_related("version__entry__round"):
        specimen.note = (
            f"{specimen.note}\nLeft the bench: the brief changed, and it needs the safety gate now."
        ).strip()
        specimen.save(update_fields=["note"])
        _moved(user, specimen, State.PRINTED)


@transaction.atomic
def set_state(user: User, specimen: Specimen, state: str) -> Specimen:
    """Say in which state a specimen is. Ready for the bench it becomes only through the safety
    gate.

    Raises
    ------
    PermissionDenied, ValidationError : no such state, or ready without a gate
    """
    round = specimen.version.entry.round
    require(user, "specimen.change", round)
    if state not in State.values:
        raise ValidationError(f"Choose one of: {', '.join(State.labels)}.")
    Specimen.objects.select_for_update().get(pk=specimen.pk)
    specimen.refresh_from_db(fields=["state", "since"])
    if state == State.READY and (why := queries.why_not_ready(specimen)):
        raise ValidationError(why)
    return _moved(user, specimen, state)


def _moved(user: User, specimen: Specimen, state: str) -> Specimen:
    before, specimen.state, specimen.since = specimen.state, state, timezone.now()
    specimen.save(update_fields=["state", "since"])
    if before == State.READY and state != State.READY:
        left_the_bench.send(Specimen, specimen=specimen)
    record(
        user, "specimen.state", specimen, specimen.version.entry.round, before=before, after=state
    )
    return specimen


@transaction.atomic
def limits_anew(version: Version) -> None:
    """Work out the speed limits of a version's specimens anew after its parts were checked. Those
    above their limit are lowered; what was ready leaves the bench with a sentence and passes the
    gate anew.
    """
    if not version.entry.round.kind.spins:
        return
    rows = Specimen.objects.select_for_update(of=("self",)).filter(
        version=version, cap__isnull=False
    )
    for specimen in rows.select_related("version__entry__round", "printed_in", "version__material"):
        limit = queries.speed_limit(specimen)
        if limit.cap is not None and specimen.cap is not None and specimen.cap <= limit.cap:
            continue
        before, specimen.cap = specimen.cap, limit.cap
        now = f"{limit.cap:,.0f} 1/min" if limit.cap else "not known"
        if specimen.state == State.READY and version.entry.round.state != Round.State.PUBLISHED:
            specimen.state, specimen.since = State.PRINTED, timezone.now()
            left = (
                f"Left the bench: its speed limit is {now}, and was {before:,.0f} 1/min. It passes"
                " the safety gate anew."
            )
            specimen.note = f"{specimen.note}\n{left}".strip()
            left_the_bench.send(Specimen, specimen=specimen)
        specimen.save(update_fields=["cap", "state", "since", "note"])


def move_on(user: User, specimen: Specimen) -> Specimen:
    """To the state that comes next; what lies in the oven or sets comes back to the bench of the
    workshop.
    """
    if specimen.state not in FORWARD:
        raise ValidationError(
            f"{specimen} is {specimen.get_state_display()}; there is nothing that comes next."
        )
    return set_state(user, specimen, FORWARD[State(specimen.state)])


@transaction.atomic
def set_print(user: User, specimen: Specimen, values: Mapping[str, Any]) -> Specimen:
    """Set material, settings, mass, due day and note of a specimen. Where the material moves its
    speed limit it leaves the bench and passes the gate anew.

    Raises
    ------
    ValidationError : settings that cannot be
    """
    require(user, "specimen.change", specimen.version.entry.round)
    for name in (
        "printed_in",
        "material",
        "layer",
        "line",
        "walls",
        "infill",
        "mass",
        "due",
        "note",
    ):
        if name in values:
            setattr(specimen, name, values[name])
    if problems := specimen.settings.problems():
        raise ValidationError(problems)
    specimen.full_clean(exclude=["version"])
    specimen.save()
    if (
        specimen.state == State.READY
        and specimen.gates.exists()
        and queries.why_not_ready(specimen)
    ):
        specimen.cap = None
        specimen.save(update_fields=["cap"])
        _moved(user, specimen, State.PRINTED)
    record(user, "specimen.print", specimen, specimen.version.entry.round, mass=specimen.mass)
    return specimen


@transaction.atomic
def log_print(
    user: User,
    specimen: Specimen,
    machine: str,
    hours: float | None,
    *,
    failed: bool,
    note: str = "",
) -> PrintRun:
    """Log a print. A good one brings a planned specimen forward to printed."""
    require(user, "specimen.change", specimen.version.entry.round)
    if not machine.strip():
        raise ValidationError({"machine": "Say on which machine it was printed."})
    row = PrintRun(
        specimen=specimen,
        machine=machine.strip(),
        hours=hours,
        failed=failed,
        note=note.strip(),
        by=user,
    )
    row.full_clean(exclude=["specimen", "by"])
    row.save()
    record(
        user, "specimen.printed", specimen, specimen.version.entry.round, failed=failed, hours=hours
    )
    if not failed and specimen.state in {State.PLANNED, State.PRINTING}:
        _moved(user, specimen, State.PRINTED)
    if failed and specimen.state == State.PRINTING:
        _moved(user, specimen, State.PLANNED)
    return row


@transaction.atomic
def add_step(user: User, specimen: Specimen, kind: str, text: str) -> WorkStep:
    """Add a step at the end."""
    require(user, "specimen.change", specimen.version.entry.round)
    last = specimen.steps.last()
    row = WorkStep(
        specimen=specimen, order=last.order + 1 if last else 1, kind=kind, text=text.strip()
    )
    row.full_clean(exclude=["specimen", "done_by"])
    row.save()
    _off_the_bench(user, specimen)
    return row


@transaction.atomic
def tick_step(user: User, step: WorkStep, done: bool) -> WorkStep:
    """Mark a step as done, or as not done after all. Steps are done in their order, since an
    assembly done in another does not come apart again.

    Raises
    ------
    ValidationError : an earlier step is not done yet, or a later one is done already
    """
    specimen = step.specimen
    require(user, "specimen.change", specimen.version.entry.round)
    others = specimen.steps.exclude(pk=step.pk)
    if done and (open_ := others.filter(order__lt=step.order, done_at=None).first()):
        raise ValidationError(f"First comes step {open_.order}: {open_.text}")
    if not done and (later := others.filter(order__gt=step.order).exclude(done_at=None).last()):
        raise ValidationError(f"Step {later.order} was done after it. Take that back first.")
    step.done_at, step.done_by = (timezone.now(), user) if done else (None, None)
    step.save(update_fields=["done_at", "done_by"])
    record(user, "specimen.step", specimen, specimen.version.entry.round, step=step.text, done=done)
    _off_the_bench(user, specimen)
    return step


@transaction.atomic
def add_measures(
    user: User, specimen: Specimen, kind: str, values: Mapping[int, float]
) -> list[Measure]:
    """Keep sizes measured at places [m].

    Raises
    ------
    ValidationError : no size, or one that cannot be
    """
    require(user, "specimen.change", specimen.version.entry.round)
    if not values:
        raise ValidationError("Type at least one size.")
    made = []
    for place, value in values.items():
        row = Measure(specimen=specimen, kind=kind, place=place, value=value, by=user)
        row.full_clean(exclude=["specimen", "by"])
        row.save()
        made.append(row)
    record(
        user,
        "specimen.measure",
        specimen,
        specimen.version.entry.round,
        kind=kind,
        places=len(made),
    )
    return made


@transaction.atomic
def add_balance(user: User, specimen: Specimen, values: Mapping[str, float]) -> Balance:
    """Keep the readings of a balancing.

    Raises
    ------
    ValidationError : readings that tell nothing
    """
    require(user, "specimen.change", specimen.version.entry.round)
    row = Balance(specimen=specimen, by=user, **values)
    try:
        correction(
            row.first,
            row.first_angle,
            row.trial,
            row.trial_radius,
            row.trial_angle,
            row.second,
            row.second_angle,
        )
    except ValueError as problem:
        raise ValidationError(str(problem)) from problem
    row.full_clean(exclude=["specimen", "by"])
    row.save()
    record(user, "specimen.balance", specimen, specimen.version.entry.round)
    _off_the_bench(user, specimen)
    return row


@transaction.atomic
def set_residual(user: User, balance: Balance, residual: float) -> Balance:
    """The reading after the correction was put on."""
    require(user, "specimen.change", balance.specimen.version.entry.round)
    if not residual >= 0:
        raise ValidationError("A reading cannot be negative.")
    balance.residual = residual
    balance.save(update_fields=["residual"])
    _off_the_bench(user, balance.specimen)
    return balance


@transaction.atomic
def pass_gate(user: User, specimen: Specimen, power: str, confirmed: set[str]) -> Gate:
    """Let a specimen onto a bench: every caution that applies was confirmed by a person, and the
    speed limit goes with it.

    Raises
    ------
    PermissionDenied, ValidationError : a caution that was not confirmed, open steps, a part that
        was sent back
    """
    round = specimen.version.entry.round
    require(user, "specimen.release", round)
    specimen = (
        Specimen.objects.select_for_update(of=("self",))
        .select_related("version__entry__round", "printed_in")
        .get(pk=specimen.pk)
    )
    if why := queries.why_no_gate(specimen):
        raise ValidationError(why)
    limit = queries.speed_limit(specimen)
    asked = queries.cautions_for(specimen, power)
    missing = [c for c in asked if c.key not in confirmed]
    if missing:
        raise ValidationError([f"Not confirmed: {c.text}" for c in missing])
    gate = Gate.objects.create(
        specimen=specimen,
        power=power,
        cautions=[[c.key, c.text] for c in asked],
        cap=limit.cap,
        working=limit.why[:300],
        by=user,
    )
    specimen.cap = limit.cap
    specimen.save(update_fields=["cap"])
    record(user, "specimen.gate", specimen, round, power=power, cap=limit.cap)
    _moved(user, specimen, State.READY)
    return gate
