"""Meshes out: STL and 3MF in millimetres, GLB for the turning view, and a shaded picture for a
quick look.
"""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

import numpy as np
from PIL import Image, ImageDraw

if TYPE_CHECKING:
    import trimesh

MM = 1000.0
LIGHT = np.array([0.35, -0.5, 0.79])
"""Where the light of a picture comes from; of length 1 within 1 %."""
VIEW = (np.radians(-60), np.radians(25))
"""Tilt and turn of the picture."""


def _millimetres(mesh: trimesh.Trimesh) -> trimesh.Trimesh:
    made = mesh.copy()
    made.apply_scale(MM)
    return made


def to_stl(mesh: trimesh.Trimesh) -> bytes:
    """Write a mesh [m] as binary STL in millimetres."""
    from trimesh.exchange.stl import export_stl

    return export_stl(_millimetres(mesh))


def to_3mf(mesh: trimesh.Trimesh, name: str) -> bytes:
    """Write a mesh [m] as 3MF with its unit, millimetres."""
    import trimesh

    scene = trimesh.Scene()
    scene.add_geometry(_millimetres(mesh), geom_name=name, node_name=name)
    return bytes(scene.export(file_type="3mf"))


PREVIEW_FACES = 24_000
"""Triangles of a turning view: a few hundred kilobytes, drawn at once."""
ROUGH_FACES = 200_000
"""Above this, vertices are first drawn together on a grid, since edge collapse takes seconds for
each million triangles.
"""
GRID = 900
"""Cells of that grid along the greatest side."""


def preview(mesh: trimesh.Trimesh, most: int = PREVIEW_FACES) -> trimesh.Trimesh:
    """A mesh with few triangles that looks alike: for views, not for figures."""
    import fast_simplification
    import trimesh

    points, faces = np.asarray(mesh.vertices), np.asarray(mesh.faces)
    if len(faces) > ROUGH_FACES:
        points, faces = _drawn_together(points, faces)
    if len(faces) > most:
        points, faces = fast_simplification.simplify(
            points.astype(np.float32), faces.astype(np.int32), target_count=most
        )
    return trimesh.Trimesh(points, faces, process=False)


def _drawn_together(points: np.ndarray, faces: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """One vertex for all in a cell of a grid."""
    low = points.min(axis=0)
    cell = np.floor((points - low) / (float(np.ptp(points, axis=0).max()) / GRID)).astype(np.int64)
    key = (cell[:, 0] * (GRID + 2) + cell[:, 1]) * (GRID + 2) + cell[:, 2]
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    moved = inverse[faces]
    kept = (
        (moved[:, 0] != moved[:, 1]) & (moved[:, 1] != moved[:, 2]) & (moved[:, 0] != moved[:, 2])
    )
    return points[first], moved[kept]


def to_glb(mesh: trimesh.Trimesh, values: dict[str, np.ndarray]) -> bytes:
    """A mesh [mm] as GLB with a value for each vertex under names that begin with an underscore
    (glTF 2.0, 3.7.2.1, application-specific).
    """
    import trimesh

    made = trimesh.Trimesh(mesh.vertices, mesh.faces, process=False)
    for name, column in values.items():
        made.vertex_attributes[f"_{name}"] = np.asarray(column, np.float32)
    return bytes(trimesh.Scene(made).export(file_type="glb"))


INK = (96, 130, 138)
OUT = (190, 60, 50)


def picture(
    mesh: trimesh.Trimesh, width: int = 520, height: int = 360, outside: np.ndarray | None = None
) -> bytes:
    """A shaded view as PNG on a clear ground: faces drawn from far to near; those with a corner
    that is ``outside`` in red.

    Notes
    -----
    Drawn at twice the size and halved, so that edges are smooth. For a quick look: a few thousand
    faces, no perspective.
    """
    tilt, turn = VIEW
    turned = np.array(
        [[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1]]
    )
    tilted = np.array(
        [[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]]
    )
    points = mesh.vertices @ (tilted @ turned).T
    low, high = points.min(axis=0), points.max(axis=0)
    scale = 2 * min((width - 16) / (high[0] - low[0]), (height - 16) / (high[1] - low[1]))
    flat = np.column_stack(
        [
            (points[:, 0] - (low[0] + high[0]) / 2) * scale + width,
            height - (points[:, 1] - (low[1] + high[1]) / 2) * scale,
        ]
    )
    corners = points[mesh.faces]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normals, axis=1)
    seen = (normals[:, 2] > 0) & (length > 0)
    shade = 0.45 + 0.55 * np.clip(normals[seen] @ LIGHT / length[seen], 0, 1)
    order = np.argsort(corners[seen][:, :, 2].mean(axis=1))
    image = Image.new("RGBA", (2 * width, 2 * height), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    triangles = flat[mesh.faces[seen]]
    red = (
        np.zeros(len(triangles), bool)
        if outside is None
        else np.asarray(outside)[mesh.faces[seen]].any(axis=1)
    )
    for i in order:
        colour = tuple(int(min(255, c * shade[i] * 1.35)) for c in (OUT if red[i] else INK))
        draw.polygon([tuple(p) for p in triangles[i]], fill=(*colour, 255))
    out = io.BytesIO()
    image.resize((width, height), Image.Resampling.LANCZOS).save(out, "PNG")
    return out.getvalue()
