"""The check of a part: from its file to what is stored of it."""

from __future__ import annotations

import logging
import math
import time
from typing import Any

import numpy as np
from django.db.models import QuerySet
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.core.part.drawing import cut_open
from hauch.core.part.report import STAGES, Asked, Reason, Report, Stopped, check
from hauch.entries.models import PartCheck, PartFile, Version
from hauch.formats import mesh as meshes
from hauch.formats.mesh_in import Unreadable, read_part
from hauch.people.keep import keep, kept
from hauch.rounds.models import Round, Test
from hauch.stores.models import Material

MOST_ATTEMPTS = 3
"""A check that died this often with its worker is given up, so that one file cannot keep all workers from working."""
USUAL_SPEED = 1900.0
"""Speed for which a rotor is checked where no test of its round names one [1/min]: that of the usual reference fan."""
log = logging.getLogger(__name__)


def material_of(version: Version) -> Material | None:
    """The wish of the designer, else PETG, else any material."""
    return version.material or Material.objects.filter(key="petg").first() or Material.objects.filter(retired=False).first()


def speed_of(round: Round) -> float:
    """Highest speed that a test of the round converts to [1/min]."""
    speeds = Test.objects.current().filter(round=round, common_speed__isnull=False).values_list("common_speed", flat=True)
    return max(speeds, default=USUAL_SPEED)


def asked_of(file: PartFile, file_unit: float | None) -> Asked:
    """What a part is held against."""
    version = file.version
    material = material_of(version)
    if material is None:
        raise LookupError("There is no material in the stores to check with.")
    return Asked(
        version.entry.round.what, material.core, speed=speed_of(version.entry.round), price=material.price, file_unit=file_unit, said_unit=file.unit,
        said_axis=file.axis,
    )  # fmt: skip


def run_check(check_id: int) -> None:
    """Check a part and store what was found; safe to run twice, since a check that was cut off begins anew.

    Where the part was taken away, or is asked for anew while this check is at work, nothing of this one is stored.
    """
    row = PartCheck.objects.select_related("file__version__entry__round", "file__version__material").filter(pk=check_id).first()
    if row is None or not row.at_work:
        return
    if row.attempts >= MOST_ATTEMPTS:
        _end(
            row,
            PartCheck.State.FAILED,
            [
                [
                    "back",
                    f"The check was cut off {row.attempts} times while it worked on this file. Export the part anew, simpler, and hand it in again.",
                ]
            ],
        )
        return
    _asked(row).update(state=PartCheck.State.RUNNING, stage=0, attempts=row.attempts + 1)
    began = time.monotonic()

    def tell(stage: int) -> bool:
        return _asked(row).filter(cancel=False).update(stage=stage) > 0

    try:
        loaded = read_part(row.file.name, kept(row.file.path))
        report = check(loaded.mesh, asked_of(row.file, loaded.unit), tell)
        values = _stored(report, loaded.unit if loaded.unit and not row.file.unit else 1.0)
    except Unreadable as problem:
        _end(row, PartCheck.State.DONE, [["back", str(problem)]], verdict="back", seconds=time.monotonic() - began)
        return
    except Stopped:
        _end(row, PartCheck.State.STOPPED, [])
        return
    except (MemoryError, ValueError, ArithmeticError, LookupError, OSError, RuntimeError) as problem:  # geometry finds ways that nobody thought of
        log.exception("check %s of %s failed", row.pk, row.file)
        _end(
            row,
            PartCheck.State.FAILED,
            [["back", f"The check could not finish ({type(problem).__name__}). Export the part anew, and tell the host if it fails again."]],
        )
        return
    _end(row, PartCheck.State.DONE, seconds=time.monotonic() - began, **values)


def _asked(row: PartCheck) -> QuerySet[PartCheck]:
    """The row, unless it was asked for anew since."""
    return PartCheck.objects.filter(pk=row.pk, asked_at=row.asked_at)


def _end(row: PartCheck, state: str, reasons: list[list[str]] | None = None, **values: Any) -> None:
    changes = {"state": state, "stage": len(STAGES), "ended_at": timezone.now(), "core_version": CORE_VERSION, **values}
    if reasons is not None:
        changes["reasons"] = reasons
    _asked(row).update(**changes)


def _finite(value: Any) -> Any:
    """JSON knows no NaN."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    if isinstance(value, dict):
        return {k: _finite(v) for k, v in value.items()}
    if isinstance(value, (list, tuple)):
        return [_finite(v) for v in value]
    return value


def _reason(reason: Reason) -> list[str]:
    return [reason.level, reason.text]


def _stored(report: Report, unit: float) -> dict[str, Any]:
    """What a check found as fields of its row, with its views kept as files; the mended copy, an STL that names no unit, in `unit` times its file's."""
    figures = [
        {"key": f.key, "group": f.group, "label": f.label, "kind": f.kind, "quantity": f.quantity.as_json()}
        for f in report.figures
        if math.isfinite(f.quantity.value)
    ]  # fmt: skip
    data = dict(report.data)
    view = still = mended = ""
    if report.placed is not None:
        data["section"] = cut_open(report.placed)
        view, still = views_of(report)
    if report.mended is not None and report.mended.done and not report.mended.left:
        _, mended = keep(meshes.to_stl(report.mended.mesh.copy().apply_scale(unit / meshes.MM)))
    return {
        "verdict": report.verdict, "reasons": [_reason(r) for r in report.reasons], "figures": _finite(figures), "data": _finite(data), "view": view,
        "still": still, "mended": mended,
    }  # fmt: skip


def views_of(report: Report) -> tuple[str, str]:
    """Paths of the turning view and of the still picture."""
    placed = report.placed
    if placed is None:
        return "", ""
    small = meshes.preview(placed.mesh)
    outside = (
        _near(placed.mesh.vertices, placed.outside.astype(float), small.vertices) > 0.5
        if placed.outside.any()
        else np.zeros(len(small.vertices), bool)
    )
    thick = np.zeros(len(small.vertices))
    if report.samples is not None and report.walls is not None:
        known = np.isfinite(report.walls.thickness)
        if known.any():
            thick = _near(report.samples.points[known], report.walls.thickness[known], small.vertices, 3)
    _, view = keep(meshes.to_glb(small, {"thickness": thick, "outside": outside}))
    _, still = keep(meshes.picture(meshes.preview(small, 6000), 300, 220, _outside_again(small, outside)))
    return view, still


def _outside_again(small: Any, outside: np.ndarray) -> np.ndarray | None:
    if not outside.any():
        return None
    rough = meshes.preview(small, 6000)
    return _near(small.vertices, outside.astype(float), rough.vertices) > 0.5


def _near(points: np.ndarray, values: np.ndarray, at: np.ndarray, count: int = 1) -> np.ndarray:
    """Values at the nearest points; the middle one of several."""
    from scipy.spatial import cKDTree

    _, index = cKDTree(points).query(at, k=count)
    found = values[index]
    return np.median(found, axis=1) if count > 1 else found
