"""Parts: a whole check against a plain load with mass properties, on the same file in one run; the
page while a check is at work.
"""

from __future__ import annotations

import io
import tempfile
import time
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from multiprocessing import get_context
from pathlib import Path

import trimesh
from django.test import Client

from benchmarks.alone import checked
from benchmarks.harness import Row, row, seconds
from hauch.core.geometry.envelope import Envelope
from hauch.core.geometry.solids import Hub, ring_solid, rotor_solid
from hauch.core.part.findings import CheckInput
from hauch.core.part.report import check
from hauch.core.strength.material import MATERIALS
from hauch.desk.tools import TOOLS
from hauch.desk.tools.ring import ring_of
from hauch.desk.tools.rotor_inputs import blading
from hauch.entries.actions import attach
from hauch.entries.checking import run_check
from hauch.entries.inspection import views_of
from hauch.formats.mesh import to_stl
from hauch.formats.mesh_in import read_part
from hauch.rounds.models import Round
from tests.builder import build

MILLION = (300, 120)
"""Points along and around a blade that make a rotor of a million triangles."""
FIFTY_THOUSAND = (60, 29)


def stl(shape: tuple[int, int]) -> bytes:
    return to_stl(rotor_solid(blading(TOOLS["rotor"].start()), Hub(), *shape, edge=0.001))


def fine_ring() -> bytes:
    """A ring whose triangles were divided until they are a million."""
    made = ring_solid(ring_of(TOOLS["ring"].start()))
    while len(made.faces) < 1_000_000:
        made = made.subdivide()
    return to_stl(made)


def against_load(kind: str, data: bytes, most: float) -> Iterator[Row]:
    """A part read and checked, against trimesh's load with mass properties."""
    faces = int.from_bytes(data[80:84], "little")
    asked = CheckInput(Envelope.from_json(kind, {}), MATERIALS["petg"])

    def plain() -> None:
        _ = trimesh.load_mesh(io.BytesIO(data), file_type="stl").mass_properties

    bare = seconds(plain, 3)
    yield row(f"trimesh: load a {kind} of {faces:,} triangles, mass properties", bare, "s")
    taken = seconds(lambda: check(read_part("part.stl", data).mesh, asked), 3)
    yield row("the same file read and fully checked", taken, "s")
    yield row("full check against load and mass properties", taken / bare, "x", most)


def run() -> Iterator[Row]:
    data = stl(MILLION)
    yield from against_load("rotor", data, 3.0)
    yield from against_load("ring", fine_ring(), 5.0)
    asked = CheckInput(Envelope.from_json("rotor", {}), MATERIALS["petg"])
    report = check(read_part("part.stl", data).mesh, asked)
    begin = time.perf_counter()
    views_of(report)
    yield row("its turning view and picture besides", time.perf_counter() - begin, "s")
    with (
        tempfile.TemporaryDirectory() as folder,
        ProcessPoolExecutor(1, mp_context=get_context("spawn")) as process,
    ):
        path = Path(folder) / "part.stl"
        path.write_bytes(data)
        yield row(
            "peak memory of check and view alone",
            process.submit(checked, str(path)).result(),
            "MB",
            2048.0,
        )

    built = build()
    Round.objects.update(state="open")
    version = built.entries["Amsel"].versions.get()
    small = stl(FIFTY_THOUSAND)
    file = attach(built.host, version, "part.stl", small)
    client = Client(SERVER_NAME="localhost")
    client.force_login(built.host, backend="django.contrib.auth.backends.ModelBackend")
    yield row(
        "page of a part that waits for its check",
        1000 * seconds(lambda: client.get(file.get_absolute_url()), 5),
        "ms",
    )
    begin = time.perf_counter()
    run_check(file.newest_check.pk)
    triangles = int.from_bytes(small[80:84], "little")
    yield row(
        f"{triangles:,} triangles checked and stored with views, as the worker does",
        time.perf_counter() - begin,
        "s",
        3.0,
    )
    file.refresh_from_db()
    yield row(
        "page of the checked part",
        1000 * seconds(lambda: client.get(file.get_absolute_url()), 5),
        "ms",
    )
