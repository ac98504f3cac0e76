"""Meshes out: STL and 3MF in millimetres, and a shaded picture for a quick look."""

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


def picture(mesh: trimesh.Trimesh, width: int = 520, height: int = 360, ink: tuple[int, int, int] = (96, 130, 138)) -> bytes:
    """A shaded view as PNG on a clear ground: faces drawn from far to near.

    Notes
    -----
    Drawn at twice the size and halved, so that edges are smooth. For a quick look: a few thousand faces, no perspective.
    """
    tilt, turn = VIEW
    turned = np.array([[np.cos(turn), -np.sin(turn), 0], [np.sin(turn), np.cos(turn), 0], [0, 0, 1]])
    tilted = np.array([[1, 0, 0], [0, np.cos(tilt), -np.sin(tilt)], [0, np.sin(tilt), np.cos(tilt)]])
    points = mesh.vertices @ (tilted @ turned).T
    low, high = points.min(axis=0), points.max(axis=0)
    scale = 2 * min((width - 16) / (high[0] - low[0]), (height - 16) / (high[1] - low[1]))
    flat = np.column_stack([(points[:, 0] - (low[0] + high[0]) / 2) * scale + width, height - (points[:, 1] - (low[1] + high[1]) / 2) * scale])
    corners = points[mesh.faces]
    normals = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    length = np.linalg.norm(normals, axis=1)
    seen = (normals[:, 2] > 0) & (length > 0)
    shade = 0.45 + 0.55 * np.clip(normals[seen] @ LIGHT / length[seen], 0, 1)
    order = np.argsort(corners[seen][:, :, 2].mean(axis=1))
    image = Image.new("RGBA", (2 * width, 2 * height), (0, 0, 0, 0))
    draw = ImageDraw.Draw(image)
    triangles = flat[mesh.faces[seen]]
    for i in order:
        colour = tuple(int(min(255, c * shade[i] * 1.35)) for c in ink)
        draw.polygon([tuple(p) for p in triangles[i]], fill=(*colour, 255))
    out = io.BytesIO()
    image.resize((width, height), Image.Resampling.LANCZOS).save(out, "PNG")
    return out.getvalue()
