"""Whether a mesh is the closed, outward-facing surface of a body, and mending what can be mended.

References
----------
A closed orientable triangle mesh has each edge twice, once in each direction (M. Botsch et al.,
    Polygon Mesh Processing (2010), ch. 1).
Winding is made consistent on the signed double cover of the face graph: a face and its reverse are
    two nodes, and what hangs together
faces the same way.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
import scipy
from numpy.typing import NDArray

if TYPE_CHECKING:
    import trimesh

Ints = NDArray[np.int64]
Floats = NDArray[np.float64]

MOST_RIM = 400
"""Edges of a hole that is still closed by itself; a longer one is a missing face, which only its
designer can draw.
"""
SPECK = 1e-3
"""A body below this share of the greatest one is a speck."""


TOUCHING = 20
"""Edges with more than two faces that a surface may have where it only touches itself; printers
take that.
"""


@dataclass(frozen=True)
class Piece:
    """A connected surface: signed volume [mm3], bounding box [mm], triangles; ``cavity`` where it
    lies inside another and faces inwards.
    """

    volume: float
    low: Floats
    high: Floats
    triangles: int
    cavity: bool


@dataclass(frozen=True)
class Edges:
    """Edges of a mesh, named by the corner at which a face begins them (three times the face, plus
    0 to 2): pairs in which two faces share an edge and whether these face the same way, the open
    edges, and how many are crossed.
    """

    first_corner: Ints
    second_corner: Ints
    alike: NDArray[np.bool_]
    open: Ints
    crossed: int

    @property
    def first(self) -> Ints:
        """The one face of each pair."""
        return self.first_corner // 3

    @property
    def second(self) -> Ints:
        """The other face of each pair."""
        return self.second_corner // 3


def next_corner(corner: Ints) -> Ints:
    """The corner at which an edge ends."""
    return corner + np.where(corner % 3 == 2, -2, 1)


@dataclass(frozen=True)
class Soundness:
    """What is wrong with a surface, counted."""

    triangles: int
    degenerate: int
    open_edges: int
    holes: int
    crossed_edges: int
    flipped: int
    inside_out: bool
    pieces: tuple[Piece, ...]

    @property
    def watertight(self) -> bool:
        """Whether every edge has exactly two faces."""
        return self.open_edges == 0 and self.crossed_edges == 0

    @property
    def bodies(self) -> tuple[Piece, ...]:
        """The pieces that are bodies: no cavity, no speck."""
        solid = [p for p in self.pieces if not p.cavity]
        most = max((abs(p.volume) for p in solid), default=0.0)
        return tuple(p for p in solid if abs(p.volume) >= SPECK * most)


def edges_of(faces: Ints, points: int) -> Edges:
    """Sort the edges of faces (m, 3) over a number of points by how many faces share them."""
    start, end = faces[:, [0, 1, 2]].ravel(), faces[:, [1, 2, 0]].ravel()
    forward = start < end
    key = np.where(forward, start, end) * np.int64(points) + np.where(forward, end, start)
    order = np.argsort(key)
    sorted_key = key[order]
    new = np.r_[True, sorted_key[1:] != sorted_key[:-1]]
    begin = np.flatnonzero(new)
    count = np.diff(np.r_[begin, len(key)])
    pair = begin[count == 2]
    a, b = order[pair], order[pair + 1]
    return Edges(a, b, forward[a] != forward[b], order[begin[count == 1]], int((count > 2).sum()))


def facing(edges: Edges, faces: int) -> tuple[Ints, NDArray[np.bool_]]:
    """Which surface each face belongs to, and whether it must turn to face as the most of its
    surface do.
    """
    label, turned = np.empty(0, np.int64), np.zeros(faces, bool)
    one = np.ones(len(edges.first), np.int8)
    first, second = edges.first, edges.second
    _, label = scipy.sparse.csgraph.connected_components(
        scipy.sparse.coo_matrix((one, (first, second)), shape=(faces, faces)), directed=False
    )
    if edges.alike.all():
        return label, turned
    other, mirror = (
        np.where(edges.alike, second, second + faces),
        np.where(edges.alike, second + faces, second),
    )
    rows, columns = np.r_[first, first + faces], np.r_[other, mirror]
    _, cover = scipy.sparse.csgraph.connected_components(
        scipy.sparse.coo_matrix(
            (np.ones(len(rows), np.int8), (rows, columns)), shape=(2 * faces, 2 * faces)
        ),
        directed=False,
    )
    _, root = np.unique(label, return_index=True)
    turned = cover[:faces] != cover[root][label]
    share = np.bincount(label, turned) / np.bincount(label)
    return label, turned ^ (share > 0.5)[label]


def _tetrahedra(mesh: trimesh.Trimesh) -> Floats:
    """Signed volume under each face, from the middle of the mesh [mm3]."""
    corners = np.asarray(mesh.triangles) - np.asarray(mesh.vertices).mean(axis=0)
    return np.einsum("ij,ij->i", corners[:, 0], np.cross(corners[:, 1], corners[:, 2])) / 6


def look(mesh: trimesh.Trimesh, edges: Edges | None = None) -> tuple[Soundness, NDArray[np.bool_]]:
    """What is wrong with a mesh [mm], and which faces must turn so that all look outwards.

    Notes
    -----
    A surface is inside out where its volume comes out negative. One that lies in the box of a
    larger one and whose faces, as most of them are stored, look inwards is taken for a cavity.
    """
    faces = np.asarray(mesh.faces, np.int64)
    edges = edges or edges_of(faces, len(mesh.vertices))
    label, turned = facing(edges, len(faces))
    volume = np.bincount(label, np.where(turned, -1, 1) * _tetrahedra(mesh))
    count = len(volume)
    low, high = _boxes(mesh, label, count)
    size = np.bincount(label, minlength=count)
    pieces, over = [], np.zeros(count, bool)
    for k in range(min(count, 2000)):
        inside = count > 1 and any(
            abs(volume[j]) > abs(volume[k])
            and (low[j] <= low[k]).all()
            and (high[k] <= high[j]).all()
            for j in np.argsort(-np.abs(volume))[:50]
            if j != k
        )
        cavity = bool(volume[k] < 0 and inside)
        over[k] = volume[k] < 0 and not cavity
        pieces.append(
            Piece(
                float(volume[k]) if cavity else abs(float(volume[k])),
                low[k],
                high[k],
                int(size[k]),
                cavity,
            )
        )
    flipped = int(turned.sum())
    degenerate = int((np.asarray(mesh.area_faces) < 1e-12).sum())
    rims = _rims(faces, edges)
    found = Soundness(
        len(faces),
        degenerate,
        len(edges.open),
        len(rims),
        edges.crossed,
        flipped,
        bool(over.any()),
        tuple(pieces),
    )
    return found, turned ^ over[label]


def _boxes(mesh: trimesh.Trimesh, label: Ints, count: int) -> tuple[Floats, Floats]:
    """Bounding box of each surface."""
    if count == 1:
        return np.asarray(mesh.bounds)[:1], np.asarray(mesh.bounds)[1:]
    points, faces = np.asarray(mesh.vertices), np.asarray(mesh.faces)
    low, high = np.full((count, 3), np.inf), np.full((count, 3), -np.inf)
    for corner in faces.T:
        np.minimum.at(low, label, points[corner])
        np.maximum.at(high, label, points[corner])
    return low, high


def _rims(faces: Ints, edges: Edges) -> list[list[int]]:
    """The open edges as chains of points, each in the direction of its faces."""
    if not len(edges.open):
        return []
    face, corner = edges.open // 3, edges.open % 3
    start, end = faces[face, corner], faces[face, (corner + 1) % 3]
    after: dict[int, list[int]] = {}
    for a, b in zip(start.tolist(), end.tolist(), strict=True):
        after.setdefault(a, []).append(b)
    rims = []
    while after:
        at = next(iter(after))
        rim = [at]
        while after.get(at):
            following = after[at].pop()
            if not after[at]:
                del after[at]
            if following == rim[0]:
                break
            rim.append(following)
            at = following
        rims.append(rim)
    return rims


@dataclass(frozen=True)
class Mended:
    """A mended mesh and what was done, in sentences; ``left`` says what could not be."""

    mesh: trimesh.Trimesh
    done: tuple[str, ...]
    left: tuple[str, ...]


def mend(mesh: trimesh.Trimesh) -> Mended:
    """Turn faces that look the wrong way, close small holes, drop faces without area. The mesh
    handed in is not changed.
    """
    import trimesh

    found, turn = look(mesh)
    faces = np.asarray(mesh.faces, np.int64).copy()
    points = np.asarray(mesh.vertices, float)
    done, left = [], []
    if turn.any():
        faces[turn] = faces[turn][:, ::-1]
        done.append(f"{int(turn.sum()):,} of {len(faces):,} faces turned to look outwards.")
    rims = _rims(faces, edges_of(faces, len(points)))
    closed = [r for r in rims if 3 <= len(r) <= MOST_RIM]
    for rim in closed:
        middle, ring = len(points), np.array(rim)
        points = np.vstack([points, points[ring].mean(axis=0)])
        faces = np.vstack(
            [faces, np.column_stack([np.roll(ring, -1), ring, np.full(len(ring), middle)])]
        )
    if closed:
        done.append(
            f"{len(closed)} hole{'s' if len(closed) > 1 else ''} with {sum(map(len, closed))} open"
            " edges closed by a fan of flat faces."
        )
    if len(rims) > len(closed):
        left.append(
            f"{len(rims) - len(closed)} opening{'s are' if len(rims) - len(closed) > 1 else ' is'}"
            " too large to be closed by itself."
        )
    if found.crossed_edges > TOUCHING:
        left.append(f"{found.crossed_edges:,} edges have more than two faces.")
    made = trimesh.Trimesh(points, faces, process=False)
    if closed:
        made = trimesh.Trimesh(
            points, faces[made.area_faces > 0] if found.degenerate == 0 else faces, process=False
        )
    return Mended(made, tuple(done), tuple(left))
