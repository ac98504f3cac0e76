"""The check of a part: what it is held against, its way through the child process, and what is
stored of it.
"""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.core.part.findings import CheckInput
from hauch.core.part.report import STAGES
from hauch.entries.inspection import inspect
from hauch.entries.models import PartCheck, PartFile, Version
from hauch.entries.signals import part_checked
from hauch.formats.apart import Broke, Died, Refused, Stopped, apart
from hauch.people.keep import keep, read_kept
from hauch.rounds.models import Round, Test
from hauch.stores.models import Material

FIELDS = ("verdict", "reasons", "figures", "data")
VIEWS = ("view", "still", "mended")
"""What is taken of what the child gives back: fields of the row, and files."""
USUAL_SPEED = 1900.0
"""Speed for which a rotor is checked where no test of its round names one [1/min]: that of the
usual reference fan.
"""
log = logging.getLogger(__name__)


def material_of(version: Version) -> Material | None:
    """The wish of the designer, else PETG, else any material."""
    return (
        version.material
        or Material.objects.filter(key="petg").first()
        or Material.objects.filter(retired=False).first()
    )


def speed_of(round: Round) -> float:
    """Highest speed that a test of the round converts to [1/min]."""
    speeds = (
        Test.objects.current()
        .filter(round=round, common_speed__isnull=False)
        .values_list("common_speed", flat=True)
    )
    return max(speeds, default=USUAL_SPEED)


def check_input_of(file: PartFile) -> CheckInput:
    """What a part is held against."""
    version = file.version
    material = material_of(version)
    if material is None:
        raise LookupError("There is no material in the stores to check with.")
    return CheckInput(
        version.entry.round.what,
        material.core,
        speed=speed_of(version.entry.round),
        price=material.price,
        said_unit=file.unit,
        said_axis=file.axis,
    )


@dataclass(frozen=True, slots=True)
class Outcome:
    """What a check came to: its state, fields of the row, and files to keep by the field that names
    them.
    """

    state: str
    fields: dict[str, Any]
    files: dict[str, bytes] = field(default_factory=dict)


def run_check(check_id: int) -> None:
    """Check a part and store what was found; safe to run twice, since a check that was cut off
    begins anew.

    Where the part was taken away, or another check of it was asked for while this one is at work,
    nothing of this one is stored.
    """
    row = (
        PartCheck.objects.select_related("file__version__entry__round", "file__version__material")
        .filter(pk=check_id)
        .first()
    )
    if row is None or not row.at_work:
        return
    _unless_stopped(row).update(state=PartCheck.State.RUNNING, stage=0, attempts=row.attempts + 1)

    def tell(stage: int) -> bool:
        return _unless_stopped(row).filter(cancel=False).update(stage=stage) > 0

    try:
        asked = check_input_of(row.file)
        data = read_kept(row.file.path)
    except (LookupError, OSError) as problem:
        log.exception("check %s of %s failed", row.pk, row.file)
        store(row, _failed(_told_unforeseen(type(problem).__name__)))
        return
    store(row, outcome_of(row.file.name, data, asked, tell))


def give_up(check_id: int) -> None:
    """End a check whose worker died too often, with a sentence."""
    row = PartCheck.objects.filter(pk=check_id).first()
    if row is not None and row.at_work:
        cut_off = (
            f"The check was cut off {row.attempts} times while it worked on this file. Export the"
            " part anew, simpler, and hand it in again."
        )
        store(row, _failed(cut_off))


def outcome_of(
    name: str, data: bytes, asked: CheckInput, tell: Callable[[int], bool] = lambda stage: True
) -> Outcome:
    """Have a file inspected in a child process; the database is not touched.

    Parameters
    ----------
    tell : called with the number of the stage; False stops the check
    """
    began = time.monotonic()
    try:
        made, blobs = apart(inspect, name, data, asked, tell=tell)
    except Refused as problem:
        fields = {"verdict": "back", "reasons": [["back", str(problem)]]}
        return Outcome(PartCheck.State.DONE, fields | {"seconds": time.monotonic() - began})
    except Stopped:
        return Outcome(PartCheck.State.STOPPED, {"reasons": []})
    except Died as problem:
        log.warning("check of %s: %s", name, problem)
        return _failed(
            f"This file could not be checked: {problem}. Export the part anew, simpler, and hand it"
            " in again."
        )
    except (Broke, OSError) as problem:  # geometry finds ways that nobody thought of
        log.exception("check of %s failed", name)
        kind = (
            str(problem).strip().rpartition("\n")[2].partition(":")[0]
            if isinstance(problem, Broke)
            else type(problem).__name__
        )
        return _failed(_told_unforeseen(kind))
    found = {key: made[key] for key in FIELDS} | {"seconds": time.monotonic() - began}
    return Outcome(
        PartCheck.State.DONE, found, {view: blobs[view] for view in VIEWS if view in blobs}
    )


def _told_unforeseen(kind: str) -> str:
    return (
        f"The check could not finish ({kind}). Export the part anew, and tell the host if it fails"
        " again."
    )


def _failed(reason: str) -> Outcome:
    return Outcome(PartCheck.State.FAILED, {"reasons": [["back", reason]]})


def store(row: PartCheck, outcome: Outcome) -> None:
    """Store what a check came to."""
    paths = {}
    if outcome.state == PartCheck.State.DONE and "figures" in outcome.fields:
        paths = {
            view: keep(outcome.files[view])[1] if view in outcome.files else "" for view in VIEWS
        }
    with transaction.atomic():
        stored = _unless_stopped(row).update(
            state=outcome.state,
            stage=len(STAGES),
            ended_at=timezone.now(),
            core_version=CORE_VERSION,
            **outcome.fields,
            **paths,
        )
        if stored and outcome.state == PartCheck.State.DONE:
            part_checked.send(PartCheck, version=row.file.version)


def _unless_stopped(row: PartCheck) -> QuerySet[PartCheck]:
    """The row, unless it was stopped meanwhile."""
    return PartCheck.objects.at_work().filter(pk=row.pk)
