"""Which prints lie on one bed together, and where.

Rectangles are packed by the skyline and guillotine heuristics of rectpack (J. Jylanki, "A thousand ways
to pack the bin", 2010). A print that fails takes all on its bed with it, so that no more lie together
than one night prints.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import rectpack

GAP = 0.006
"""Between two parts, and around them [m]: a brim, and room for the nozzle."""
MOST_TOGETHER = 12 * 60.0
"""Minutes that prints take together at most."""

AXES = {"x": (1, 2, 0), "y": (0, 2, 1), "z": (0, 1, 2)}
"""Which axis points up -> the axes of the footprint, and that of the height."""


@dataclass(frozen=True, slots=True)
class Laid:
    """A part as it lies on the bed [m]."""

    width: float
    depth: float
    height: float


@dataclass(frozen=True, slots=True)
class Bed:
    """A printer's room [m]."""

    key: str
    width: float
    depth: float
    height: float


@dataclass(frozen=True, slots=True)
class Job:
    """A print: its parts as they lie (none where their size is not known), its minutes, and what must be
    the same of those that lie together, such as the material.
    """

    key: str
    parts: tuple[Laid, ...]
    minutes: float
    alike: tuple[object, ...]


@dataclass(frozen=True, slots=True)
class Spot:
    """Where a part lies on a bed [m]: of which job, its corner, its sides."""

    job: str
    x: float
    y: float
    width: float
    depth: float


def laid(size: Sequence[float], up: str = "z") -> Laid:
    """A part of a size along x, y, z [m] with an axis upright.

    Raises
    ------
    ValueError : an axis that is none, or a size that is not above 0
    """
    if up[:1] not in AXES:
        raise ValueError(f"up = {up!r} begins with none of x, y, z")
    if len(size) != 3 or not all(math.isfinite(one) and one > 0 for one in size):
        raise ValueError(f"size = {tuple(size)} must be three lengths above 0")
    wide, deep, high = AXES[up[:1]]
    return Laid(size[wide], size[deep], size[high])


def on_bed(jobs: Sequence[Job], bed: Bed) -> list[Spot] | None:
    """Where the parts of some jobs lie on one bed; None where they do not fit together."""
    parts = [(job.key, part) for job in jobs for part in job.parts]
    if any(part.height > bed.height for _, part in parts):
        return None
    packer = rectpack.newPacker(
        mode=rectpack.PackingMode.Offline,
        bin_algo=rectpack.PackingBin.BFF,
        sort_algo=rectpack.SORT_AREA,
        rotation=True,
    )
    for index, (_, part) in enumerate(parts):
        packer.add_rect(_cells(part.width + GAP), _cells(part.depth + GAP), rid=index)
    packer.add_bin(math.floor((bed.width + GAP) * 1000), math.floor((bed.depth + GAP) * 1000))
    packer.pack()
    found = packer.rect_list()
    if len(found) < len(parts):
        return None
    return [
        Spot(parts[index][0], x / 1000, y / 1000, width / 1000 - GAP, depth / 1000 - GAP)
        for _, x, y, width, depth, index in sorted(found, key=lambda one: one[5])
    ]


def _cells(length: float) -> int:
    """A length in whole mm, rounded up."""
    return math.ceil(length * 1000 - 1e-6)


def plates(jobs: Sequence[Job], beds: Sequence[Bed]) -> list[list[Job]]:
    """Jobs that are printed together, in the order in which they are given.

    A job goes to the first plate of its kind that prints no longer than a night with it, and fits one of
    the beds; those whose size is not known are printed alone.
    """
    made: list[list[Job]] = []
    for job in jobs:
        for plate in made:
            together = [*plate, job]
            if (
                plate[0].alike == job.alike
                and all(one.parts for one in together)
                and sum(one.minutes for one in together) <= MOST_TOGETHER
                and any(on_bed(together, bed) is not None for bed in beds)
            ):
                plate.append(job)
                break
        else:
            made.append([job])
    return made
