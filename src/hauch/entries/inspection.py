"""What a part's file holds: read, checked and drawn in a child process. No Django here: nothing but
the file and what it is held against.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from hauch.core.part.drawing import cut_open
from hauch.core.part.findings import CheckInput, Reason, Report
from hauch.core.part.report import check
from hauch.formats import apart
from hauch.formats import mesh as meshes
from hauch.formats.mesh_in import read_part

apart.preload(
    __name__,
    "scipy.spatial",
    "trimesh",
    "manifold3d",
    "embreex.mesh_construction",
    "fast_simplification",
)


def inspect(tell: Callable[[int], None], name: str, data: bytes, asked: CheckInput) -> apart.Made:
    """Read a part's file and check it.

    Parameters
    ----------
    tell : called with the number of each stage
    name, data : of the file
    asked : what the part is held against; the unit that the file names is filled in

    Returns
    -------
    fields of its check, and under ``view``, ``still`` and ``mended`` the turning view (GLB), the
    picture (PNG) and the mended copy (STL), where there are

    Raises
    ------
    Refused : the file is no part
    """
    loaded = read_part(name, data)

    def told(stage: int) -> bool:
        tell(stage)
        return True

    report = check(loaded.mesh, replace(asked, file_unit=loaded.unit), told)
    return stored(report, loaded.unit if loaded.unit and not asked.said_unit else 1.0)


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


def stored(report: Report, unit: float) -> apart.Made:
    """What a check found as fields of its row, with its views; the mended copy, an STL that names
    no unit, in `unit` times its file's.
    """
    figures = [
        {
            "key": f.key,
            "group": f.group,
            "label": f.label,
            "kind": f.kind,
            "quantity": f.quantity.as_json(),
        }
        for f in report.figures
        if math.isfinite(f.quantity.value)
    ]
    data = dict(report.data)
    blobs = views_of(report)
    if report.placed is not None:
        data["section"], data["section_beside"] = cut_open(report.placed)
    if report.mended is not None and report.mended.done and not report.mended.left:
        blobs["mended"] = meshes.to_stl(report.mended.mesh.copy().apply_scale(unit / meshes.MM))
    fields = {
        "verdict": report.verdict,
        "reasons": [_reason(r) for r in report.reasons],
        "figures": _finite(figures),
        "data": _finite(data),
    }
    return fields, blobs


def views_of(report: Report) -> dict[str, bytes]:
    """The turning view (GLB) and the still picture (PNG) of a part that has its place."""
    placed = report.placed
    if placed is None:
        return {}
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
            thick = _near(
                report.samples.points[known], report.walls.thickness[known], small.vertices, 3
            )
    return {
        "view": meshes.to_glb(small, {"thickness": thick, "outside": outside}),
        "still": meshes.picture(
            meshes.preview(small, 6000), 300, 220, _outside_again(small, outside)
        ),
    }


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
