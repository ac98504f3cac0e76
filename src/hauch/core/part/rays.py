"""Rays through a mesh: wall thickness, and surfaces that run through one another.

Rays are cast by Embree (embreex, through trimesh); distances are computed anew from the plane of
the triangle that was hit, since Embree works in single precision.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

START = 2e-3
"""How far inside or outside the surface a ray starts [mm]."""


@dataclass(frozen=True)
class Samples:
    """Points spread evenly over a surface (n, 3) [mm], their outward normals, the faces they lie on."""

    points: Floats
    normals: Floats
    faces: NDArray[np.int64]


class Caster:
    """Casts rays at one mesh [mm]."""

    def __init__(self, mesh: trimesh.Trimesh):
        from trimesh.ray.ray_pyembree import RayMeshIntersector

        self._mesh = mesh
        self._rays = RayMeshIntersector(mesh)

    def first(self, origins: Floats, directions: Floats) -> tuple[Floats, Floats]:
        """Distance to the first hit [mm] (NaN where none) and the cosine between ray and the face's
        normal there.
        """
        hit = self._rays.intersects_first(origins, directions)
        distance, cosine = np.full(len(origins), np.nan), np.full(len(origins), np.nan)
        met = hit >= 0
        normal = np.asarray(self._mesh.face_normals)[hit[met]]
        corner = np.asarray(self._mesh.triangles)[hit[met], 0]
        cosine[met] = np.einsum("ij,ij->i", normal, directions[met])
        with np.errstate(divide="ignore", invalid="ignore"):
            distance[met] = np.einsum("ij,ij->i", corner - origins[met], normal) / cosine[met]
        return distance, cosine

    def through(self, at: Floats) -> tuple[NDArray[np.int64], Floats]:
        """All that rays along the z axis meet, at points (n, 2) [mm]: which ray, height [mm]."""
        below = float(np.asarray(self._mesh.bounds)[0, 2]) - 1.0
        origins = np.column_stack([at, np.full(len(at), below)])
        up = np.tile([0.0, 0.0, 1.0], (len(at), 1))
        _, ray, place = self._rays.intersects_id(
            origins, up, multiple_hits=True, return_locations=True
        )
        return np.asarray(ray, np.int64), np.asarray(place)[:, 2] if len(ray) else np.zeros(0)


def sample(mesh: trimesh.Trimesh, count: int, seed: int = 7) -> Samples:
    """Points spread by area; the same for the same mesh."""
    import trimesh

    points, faces = trimesh.sample.sample_surface(mesh, count, seed=seed)
    return Samples(np.asarray(points), np.asarray(mesh.face_normals)[faces], np.asarray(faces))


@dataclass(frozen=True)
class Walls:
    """Thickness along the inward normal at each sample [mm] (NaN where the ray found no way out),
    and where another surface came first.
    """

    thickness: Floats
    overlapping: NDArray[np.bool_]

    def thinnest(self, share: float = 0.005) -> float:
        """Thickness that all but a share of the surface exceeds [mm]; a lone ray through a sharp
        edge says nothing.
        """
        known = self.thickness[np.isfinite(self.thickness)]
        return float(np.quantile(known, share)) if len(known) else float("nan")


def walls(caster: Caster, at: Samples) -> Walls:
    """Wall thickness at samples."""
    distance, cosine = caster.first(at.points - START * at.normals, -at.normals)
    entered = cosine < -0.05
    return Walls(
        np.where(entered | ~(distance > 0), np.nan, distance + START), entered & (distance > 0.02)
    )
