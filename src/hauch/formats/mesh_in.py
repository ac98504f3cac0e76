"""Meshes in: STL, 3MF and STEP from strangers, read with suspicion. What cannot be read is refused
with a sentence.
"""

from __future__ import annotations

import io
import re
import tempfile
import zipfile
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np

from hauch.formats.apart import Refused

if TYPE_CHECKING:
    import trimesh

MOST_BYTES = 128 * 1024 * 1024
MOST_UNPACKED = 512 * 1024 * 1024
MOST_PACKING = 200
"""Unpacked over packed size of one entry of a 3MF above which it is taken for a trap; coordinates
as text pack about 10 times.
"""
MOST_ENTRIES = 500
MOST_TRIANGLES = 4_000_000
FACET = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("rest", "<u2")])
UNITS = {
    "micron": 0.001,
    "millimeter": 1.0,
    "centimeter": 10.0,
    "inch": 25.4,
    "foot": 304.8,
    "meter": 1000.0,
}
"""Units that a 3MF may name, in millimetres (3MF core specification 1.3, 3.1)."""
CHORD, TURN = 0.02, 0.15
"""Facets made of a STEP solid: greatest distance from the true surface [mm] and turn from one to
the next [rad].
"""
KINDS = {".stl": "STL", ".3mf": "3MF", ".step": "STEP", ".stp": "STEP"}


class Unreadable(Refused):
    """A file that is no part: what, where, and what to do, in a sentence."""


@dataclass(frozen=True)
class Loaded:
    """A mesh in the units of its file, and those units in millimetres where the file tells them."""

    mesh: trimesh.Trimesh
    unit: float | None
    kind: str


def kind_of(name: str) -> str:
    """STL, 3MF or STEP by a file's ending; empty for any other."""
    return KINDS.get(Path(name).suffix.lower(), "")


def read_part(name: str, data: bytes) -> Loaded:
    """Read a part.

    Raises
    ------
    Unreadable : empty, too large, cut off, no mesh, numbers that are none, a trap, nothing solid in
        it
    """
    kind = kind_of(name)
    if not kind:
        raise Unreadable(
            f"A part is handed in as STL, 3MF or STEP; “{Path(name).suffix[:12] or 'no ending'}” is"
            " none of them."
        )
    if not data:
        raise Unreadable(
            "The file is empty. Export the part again, and look at the file's size before you hand"
            " it in."
        )
    if len(data) > MOST_BYTES:
        raise Unreadable(
            f"The file has {len(data) / 1e6:,.0f} MB; at most {MOST_BYTES / 1e6:,.0f} MB are read."
            " Export it with coarser facets."
        )
    loaded = {"STL": _stl, "3MF": _three_mf, "STEP": _step}[kind](data)
    mesh = loaded.mesh
    if not len(mesh.faces):
        raise Unreadable(
            "There is not a single triangle in the file. Export the solid itself, not its sketch or"
            " an empty layer."
        )
    if len(mesh.faces) > MOST_TRIANGLES:
        raise Unreadable(
            f"The part has {len(mesh.faces):,} triangles; at most {MOST_TRIANGLES:,} are read."
            " Export it with coarser facets."
        )
    if not np.isfinite(mesh.vertices).all():
        raise Unreadable("Some coordinates in the file are not numbers. Export the part again.")
    return loaded


def _stl(data: bytes) -> Loaded:
    count = int.from_bytes(data[80:84], "little") if len(data) >= 84 else 0
    whole = 84 + FACET.itemsize * count
    head = data[:512].lstrip()[:5].lower()
    if count and len(data) == whole:
        return _binary_stl(data, count)
    if head == b"solid" and b"facet" in data[:4096].lower():
        return _text_stl(data)
    if count and 84 < len(data) < whole and whole < MOST_BYTES * 8 and b"\0" in data[:4096]:
        held = (len(data) - 84) // FACET.itemsize
        raise Unreadable(
            f"The file is cut off: it announces {count:,} triangles and holds {held:,} whole ones."
            " Send it again, or export it again."
        )
    if count and len(data) > whole and b"\0" in data[:4096] and not any(data[whole:]):
        return _binary_stl(data[:whole], count)
    raise Unreadable(
        "The file is no STL: neither the binary form, whose length follows from its count of"
        " triangles, nor the text form that begins with “solid”."
    )


def _binary_stl(data: bytes, count: int) -> Loaded:
    import trimesh

    corners = np.frombuffer(data, FACET, count, 84)["corners"]
    bad = np.flatnonzero(~np.isfinite(corners).all(axis=(1, 2)))
    if len(bad):
        raise Unreadable(
            f"{len(bad):,} of {count:,} triangles have corners that are not numbers, the first is"
            f" triangle {int(bad[0]) + 1:,}. Export the part again."
        )
    return Loaded(_welded(trimesh, corners), None, "STL")


def _welded(trimesh, corners) -> trimesh.Trimesh:
    """One vertex for equal corners (exactly equal as stored)."""
    points = np.ascontiguousarray(corners.reshape(-1, 3)) + np.float32(0)  # minus zero becomes zero
    words = points.view("<u4").astype(np.uint64)
    key = (
        (words[:, 0] * np.uint64(0x9E3779B97F4A7C15))
        ^ (words[:, 1] * np.uint64(0xC2B2AE3D27D4EB4F))
        ^ (words[:, 2] * np.uint64(0x165667B19E3779F9))
    )
    _, first, inverse = np.unique(key, return_index=True, return_inverse=True)
    if not np.array_equal(
        points[first][inverse], points
    ):  # two points with one key: by the slow way
        _, first, inverse = np.unique(points, axis=0, return_index=True, return_inverse=True)
    faces = inverse.reshape(-1, 3)
    good = (
        (faces[:, 0] != faces[:, 1]) & (faces[:, 1] != faces[:, 2]) & (faces[:, 0] != faces[:, 2])
    )
    return trimesh.Trimesh(points[first].astype(float), faces[good], process=False)


_VERTEX = re.compile(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", re.IGNORECASE)


def _text_stl(data: bytes) -> Loaded:
    import trimesh

    found = _VERTEX.findall(data)
    if b"endsolid" not in data[-400:].lower() or len(found) % 3:
        raise Unreadable(
            f"The file is cut off: its text ends within the solid, after {len(found) // 3:,} whole"
            " triangles. Send it again."
        )
    try:
        points = np.array(found, dtype="S40").astype(np.float64)
    except ValueError as problem:
        raise Unreadable(
            "A corner in the file is written with something that is no number. Export the part"
            " again."
        ) from problem
    bad = np.flatnonzero(~np.isfinite(points).all(axis=1))
    if len(bad):
        raise Unreadable(
            f"{len(bad):,} corners in the file are not numbers, the first in triangle"
            f" {int(bad[0]) // 3 + 1:,}. Export the part again."
        )
    return Loaded(_welded(trimesh, points.astype(np.float32).reshape(-1, 3, 3)), None, "STL")


def _three_mf(data: bytes) -> Loaded:
    import trimesh

    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            entries = packed.infolist()
            _no_trap(entries)
            models = [e for e in entries if e.filename.lower().endswith(".model")]
            if not models:
                raise Unreadable("There is no model in the 3MF file. Export the part again as 3MF.")
            head = b""
            for entry in models:
                with packed.open(entry) as handle:
                    start = handle.read(65_536)
                if b"<!DOCTYPE" in start.upper() or b"<!ENTITY" in start.upper():
                    raise Unreadable(
                        "The model in the 3MF file declares entities, which no print needs; it is"
                        " not read."
                    )
                head = head or start
    except (zipfile.BadZipFile, RuntimeError, EOFError, OSError) as problem:
        raise Unreadable(
            "The file is no 3MF, or it is damaged: it cannot be unpacked. Export the part again."
        ) from problem
    named = re.search(rb'<(?:\w+:)?model\b[^>]*\bunit\s*=\s*["\'](\w+)["\']', head)
    unit = named.group(1).decode("ascii", "replace").lower() if named else "millimeter"
    if unit not in UNITS:
        raise Unreadable(f"The 3MF file names the unit “{unit[:20]}”, which 3MF does not know.")
    try:
        scene = trimesh.load_scene(io.BytesIO(data), file_type="3mf")
        mesh = scene.to_mesh()
    except Exception as problem:  # the reader raises whatever its parser does
        raise Unreadable(
            "The model in the 3MF file cannot be read. Export the part again."
        ) from problem
    mesh = trimesh.Trimesh(np.asarray(mesh.vertices, float), np.asarray(mesh.faces), process=False)
    if (
        len(mesh.faces) and not mesh.is_watertight
    ):  # a 3MF names its corners once; only where it does not are equal ones taken together
        mesh.merge_vertices(merge_tex=True, merge_norm=True)
    return Loaded(mesh, UNITS[unit], "3MF")


def _no_trap(entries: list[zipfile.ZipInfo]) -> None:
    """Refuse archives that unpack to far more than they hold, or whose names lead out of them."""
    if len(entries) > MOST_ENTRIES:
        raise Unreadable(
            f"The 3MF file holds {len(entries):,} entries; at most {MOST_ENTRIES} are read."
        )
    unpacked = sum(e.file_size for e in entries)
    if unpacked > MOST_UNPACKED or any(
        e.file_size > MOST_PACKING * max(e.compress_size, 1) and e.file_size > 1_000_000
        for e in entries
    ):
        raise Unreadable(
            f"The 3MF file would unpack to {unpacked / 1e6:,.0f} MB, far more than a part needs; it"
            " is not opened."
        )
    for e in entries:
        if (
            e.filename.startswith(("/", "\\"))
            or ".." in e.filename.replace("\\", "/").split("/")
            or ":" in e.filename[:3]
        ):
            raise Unreadable("A name in the 3MF file leads out of the file; it is not opened.")


def _step(data: bytes) -> Loaded:
    import trimesh

    if b"ISO-10303-21" not in data[:2000]:
        raise Unreadable(
            "The file is no STEP: it does not begin as ISO 10303-21 asks. Export the part again."
        )
    if b"END-ISO-10303-21" not in data[-2000:]:
        raise Unreadable("The STEP file is cut off: its end is missing. Send it again.")
    from OCP.BRepMesh import (
        BRepMesh_IncrementalMesh,
    )  # the kernel takes a moment: only when a STEP file comes
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Message import Message, Message_Gravity
    from OCP.STEPControl import STEPControl_Reader
    from OCP.StlAPI import StlAPI_Writer
    from OCP.TopAbs import TopAbs_ShapeEnum
    from OCP.TopExp import TopExp_Explorer

    for printer in Message.DefaultMessenger_s().Printers():
        printer.SetTraceLevel(Message_Gravity.Message_Fail)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "part.step"
        path.write_bytes(data)
        reader = STEPControl_Reader()
        if (
            reader.ReadFile(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone
            or not reader.TransferRoots()
        ):
            raise Unreadable(
                "The STEP file cannot be read, or there is nothing in it that has a shape. Export"
                " the solid again."
            )
        shape = reader.OneShape()
        if shape.IsNull() or not TopExp_Explorer(shape, TopAbs_ShapeEnum.TopAbs_SOLID).More():
            raise Unreadable(
                "There is nothing solid in the STEP file, only surfaces, curves or points. Export"
                " the solid body."
            )
        BRepMesh_IncrementalMesh(shape, CHORD, False, TURN).Perform()
        writer = StlAPI_Writer()
        writer.ASCIIMode = False
        out = Path(folder) / "part.stl"
        if not writer.Write(shape, str(out)):
            raise Unreadable(
                "The solid in the STEP file cannot be brought into facets. Heal it in the program"
                " that made it, and export it again."
            )
        made = out.read_bytes()
    count = int.from_bytes(made[80:84], "little")
    if not count:
        return Loaded(trimesh.Trimesh(), 1.0, "STEP")
    return Loaded(_binary_stl(made, count).mesh, 1.0, "STEP")
