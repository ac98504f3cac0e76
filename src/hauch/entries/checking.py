"""The check of a part: what it is held against, its way through the child process, and what is
stored of it.
"""

from __future__ import annotations

import logging
import time
from typing import Any

from django.db.models import QuerySet
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.core.part.findings import Asked
from hauch.core.part.report import STAGES
from hauch.entries.inspection import inspect
from hauch.entries.models import PartCheck, PartFile, Version
from hauch.formats.apart import Broke, Died, Refused, Stopped, apart
from hauch.people.keep import keep, kept
from hauch.rounds.models import Round, Test
from hauch.stores.models import Material

FIELDS = ("verdict", "reasons", "figures", "data")
VIEWS = ("view", "still", "mended")
"""What is taken of what the child gives back: fields of the row, and files."""
MOST_ATTEMPTS = 3
"""A check that died this often with its worker is given up, so that one file cannot keep all
workers from working.
"""
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


def asked_of(file: PartFile) -> Asked:
    """What a part is held against."""
    version = file.version
    material = material_of(version)
    if material is None:
        raise LookupError("There is no material in the stores to check with.")
    return Asked(
        version.entry.round.what,
        material.core,
        speed=speed_of(version.entry.round),
        price=material.price,
        said_unit=file.unit,
        said_axis=file.axis,
    )


def run_check(check_id: int) -> None:
    """Check a part and store what was found; safe to run twice, since a check that was cut off
    begins anew.

    Where the part was taken away, or is asked for anew while this check is at work, nothing of this
    one is stored.
    """
    row = (
        PartCheck.objects.select_related("file__version__entry__round", "file__version__material")
        .filter(pk=check_id)
        .first()
    )
    if row is None or not row.at_work:
        return
    if row.attempts >= MOST_ATTEMPTS:
        cut_off = (
            f"The check was cut off {row.attempts} times while it worked on this file. Export the"
            " part anew, simpler, and hand it in again."
        )
        _end(row, PartCheck.State.FAILED, [["back", cut_off]])
        return
    _asked(row).update(state=PartCheck.State.RUNNING, stage=0, attempts=row.attempts + 1)
    began = time.monotonic()

    def tell(stage: int) -> bool:
        return _asked(row).filter(cancel=False).update(stage=stage) > 0

    try:
        made, blobs = apart(
            inspect, row.file.name, kept(row.file.path), asked_of(row.file), tell=tell
        )
    except Refused as problem:
        _end(
            row,
            PartCheck.State.DONE,
            [["back", str(problem)]],
            verdict="back",
            seconds=time.monotonic() - began,
        )
    except Stopped:
        _end(row, PartCheck.State.STOPPED, [])
    except Died as problem:
        log.warning("check %s of %s: %s", row.pk, row.file, problem)
        _end(
            row,
            PartCheck.State.FAILED,
            [
                [
                    "back",
                    (
                        f"This file could not be checked: {problem}. Export the part anew, simpler,"
                        " and hand it in again."
                    ),
                ]
            ],
        )
    except (Broke, LookupError, OSError) as problem:  # geometry finds ways that nobody thought of
        log.exception("check %s of %s failed", row.pk, row.file)
        kind = (
            str(problem).strip().rpartition("\n")[2].partition(":")[0]
            if isinstance(problem, Broke)
            else type(problem).__name__
        )
        _end(
            row,
            PartCheck.State.FAILED,
            [
                [
                    "back",
                    (
                        f"The check could not finish ({kind}). Export the part anew, and tell the"
                        " host if it fails again."
                    ),
                ]
            ],
        )
    else:
        fields = {name: made[name] for name in FIELDS}
        paths = {name: keep(blobs[name])[1] if name in blobs else "" for name in VIEWS}
        _end(row, PartCheck.State.DONE, seconds=time.monotonic() - began, **fields, **paths)


def _asked(row: PartCheck) -> QuerySet[PartCheck]:
    """The row, unless it was asked for anew since."""
    return PartCheck.objects.filter(pk=row.pk, asked_at=row.asked_at)


def _end(row: PartCheck, state: str, reasons: list[list[str]] | None = None, **values: Any) -> None:
    changes = {
        "state": state,
        "stage": len(STAGES),
        "ended_at": timezone.now(),
        "core_version": CORE_VERSION,
        **values,
    }
    if reasons is not None:
        changes["reasons"] = reasons
    _asked(row).update(**changes)
