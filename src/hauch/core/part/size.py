"""Volume, surface, centre of mass and inertia of a closed mesh, with what its facets leave out of a
curved surface.

References
----------
Integrals over a closed triangle mesh by the divergence theorem: D. Eberly, Polyhedral Mass
    Properties (2002), as in trimesh. Facets of a
curved surface lie inside it; what they leave out is the volume under the quadratic patch through
    the corners with the corners' smooth
normals (T. Nagata, Comput. Aided Geom. Des. 22 (2005) 327): mid-edge rise d = (n1 - n0) . e / 8,
    volume = A (d1 + d2 + d3) / 3.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.part.soundness import Edges, edges_of, next_corner

if TYPE_CHECKING:
    import trimesh

Floats = NDArray[np.float64]

SMOOTH = np.radians(28)
"""Faces that meet at less are taken for one curved surface; a 13-sided column is still round, a
12-sided one has corners.
"""


@dataclass(frozen=True)
class MassFigures:
    """Of unit density, in millimetres: volume [mm3], area [mm2], centre [mm], inertia about the
    centre along the file's axes [mm5].

    ``facets`` is the share of the volume that was added for the curved surface.
    """

    volume: float
    area: float
    centre: Floats
    inertia: Floats
    facets: float

    def about(self, point: Floats, axis: Floats) -> float:
        """Inertia about an axis through a point [mm5] (Steiner)."""
        arm = np.cross(self.centre - point, axis)
        return float(axis @ self.inertia @ axis + self.volume * (arm @ arm))


def _corner_normals(mesh: trimesh.Trimesh, edges: Edges) -> Floats:
    """A normal for each corner of each face (m, 3, 3): the mean of the faces that join smoothly
    there, weighted by their angles (G. Thürmer, C. A. Wüthrich, J. Graphics Tools 3 (1998) 43), so
    that it does not matter how a surface is cut into triangles.
    """
    normals = np.asarray(mesh.face_normals)
    smooth = np.einsum("ij,ij->i", normals[edges.first], normals[edges.second]) > np.cos(SMOOTH)
    a, b = edges.first_corner[smooth], edges.second_corner[smooth]
    # Corners are one where faces join smoothly: an edge begins for one face where it ends for the
    # other.
    rows, columns = np.concatenate([a, next_corner(a)]), np.concatenate([next_corner(b), b])
    count = 3 * len(normals)
    groups, label = scipy.sparse.csgraph.connected_components(
        scipy.sparse.coo_matrix(
            (np.ones(len(rows), np.int8), (rows, columns)), shape=(count, count)
        ),
        directed=False,
    )
    angle = np.asarray(mesh.face_angles).ravel()
    sums: Floats = np.column_stack(
        [np.bincount(label, angle * np.repeat(normals[:, k], 3), groups) for k in range(3)]
    )
    unit: Floats = sums / np.maximum(np.sqrt(np.einsum("ij,ij->i", sums, sums)), 1e-30)[:, None]
    return unit[label].reshape(-1, 3, 3)


def _left_out(mesh: trimesh.Trimesh, edges: Edges) -> Floats:
    """Volume between each flat face and the curved surface [mm3]; negative in hollows."""
    corners, normals = np.asarray(mesh.triangles), _corner_normals(mesh, edges)
    area = np.asarray(mesh.area_faces)
    rise = np.zeros(len(area))
    for i, j in ((0, 1), (1, 2), (2, 0)):
        edge = corners[:, j] - corners[:, i]
        before, after = (
            -np.einsum("ij,ij->i", normals[:, i], edge),
            np.einsum("ij,ij->i", normals[:, j], edge),
        )
        both = (
            before * after > 0
            # a curved edge tilts at both ends; one that tilts at one end only borders on a curve and is
            # itself straight
        )
        rise += np.where(both, 4 * before * after / np.where(both, before + after, 1.0), 0.0) / 8
    return area * rise / 3


def mass_figures(
    mesh: trimesh.Trimesh, curved: bool = True, edges: Edges | None = None
) -> MassFigures:
    """Figures of a closed mesh [mm].

    Parameters
    ----------
    curved : add what the facets leave out; without it the figures are those of the flat faces as
        stored
    edges : of the mesh, where they are known already

    Notes
    -----
    The addition is taken to sit at the middle of each face. On the sample solids it brings volume
    and inertia from up to 0.63 % to within 0.2 % of the exact solid; a part that is meant to have
    facets flatter than `SMOOTH` is told too large by as much.
    """
    flat = mesh.mass_properties
    volume, centre = float(flat["volume"]), np.asarray(flat["center_mass"], float)
    inertia = np.asarray(flat["inertia"], float) / float(flat["density"])
    if not curved or not volume > 0:
        return MassFigures(volume, float(mesh.area), centre, inertia, 0.0)
    extra = _left_out(mesh, edges or edges_of(np.asarray(mesh.faces, np.int64), len(mesh.vertices)))
    total = volume + float(extra.sum())
    middles = np.asarray(mesh.triangles_center)
    moved = (volume * centre + extra @ middles) / total
    arm = middles - moved
    square = np.einsum("ij,ij->i", arm, arm)
    about = inertia + volume * _point_inertia(centre - moved)
    about += np.eye(3) * (extra @ square) - (arm * extra[:, None]).T @ arm
    return MassFigures(total, float(mesh.area), moved, about, float(extra.sum()) / volume)


def _point_inertia(arm: Floats) -> Floats:
    return np.eye(3) * (arm @ arm) - np.outer(arm, arm)
