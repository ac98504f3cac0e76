"""Work in a process of its own, so that its peak memory is its own."""

from __future__ import annotations

from pathlib import Path

from hauch.core.geometry.envelope import Envelope
from hauch.core.part.findings import CheckInput
from hauch.core.part.report import check
from hauch.core.strength.material import MATERIALS
from hauch.formats.mesh import preview
from hauch.formats.mesh_in import read_part


def checked(path: str) -> float:
    """Read and check a part and thin it for its view; gives the peak of this process [MB]."""
    report = check(
        read_part(path, Path(path).read_bytes()).mesh,
        CheckInput(Envelope.from_json("rotor", {}), MATERIALS["petg"]),
    )
    if report.placed is not None:
        preview(report.placed.mesh)
    high = next(
        line
        for line in Path("/proc/self/status").read_text().splitlines()
        if line.startswith("VmHWM")
    )  # ru_maxrss would count the parent's too
    return int(high.split()[1]) / 1024
