"""Computes the stress of the wheels in cases.py with CalculiX (`apt-get install calculix-ccx`):

    python -m tests.solvers.wheels [name ...]

Whole hexahedra of 20 nodes that follow the blades, three through the plate and two through a blade,
finer towards the blades' inner ends; bore held; linear. About two minutes and 3 GiB a wheel. Prints
the greatest von Mises stress beside corners (underside of the plate, foot of the blades more than a
blade's thickness from their inner end, 99 % of all nodes), the growth, and what values.json keeps.
"""

from __future__ import annotations

import math
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from tests.solvers.cases import WHEELS

Floats = NDArray[np.float64]
YOUNG, POISSON, DENSITY = 2100.0, 0.38, 1.27e-9
"""Of PETG [MPa, t/mm3]."""
PLATE, BLADE = 3, 2
"""Elements through the plate and through a blade."""
BOSS = 3.0
"""Wall around the shaft [mm]."""
CORNERS = (
    (0, 0, 0), (2, 0, 0), (2, 2, 0), (0, 2, 0), (0, 0, 2), (2, 0, 2), (2, 2, 2), (0, 2, 2),
    (1, 0, 0), (2, 1, 0), (1, 2, 0), (0, 1, 0), (1, 0, 2), (2, 1, 2), (1, 2, 2), (0, 1, 2),
    (0, 0, 1), (2, 0, 1), (2, 2, 1), (0, 2, 1),
)  # fmt: skip
"""Nodes of an element, in halves of it: corners, middles of edges."""


class Mesh:
    """Nodes (x, y, z) [mm] and elements of a wheel."""

    def __init__(self, name: str):
        sizes = WHEELS[name]
        self.blades = int(sizes[0])
        outer, inner, self.b1, self.b2, a1, a2, self.thick, self.plate, shaft = sizes[1:]
        self.bore, self.inner, self.outer = shaft / 2, inner / 2, outer / 2
        boss = self.bore + BOSS
        flat = np.linspace(boss, self.inner, max(6, int((self.inner - boss) / 2)))
        share = np.linspace(0, 1, 26)
        bladed = self.inner + (self.outer - self.inner) * (0.75 * share**1.6 + 0.25 * share)
        self.radii = np.concatenate([np.linspace(self.bore, boss, 4), flat[1:], bladed[1:]])
        self.first, self.boss = 2 + len(flat), 3
        fine = np.linspace(self.inner, self.outer, 400)
        angle = np.radians(np.linspace(a1, a2, 400))
        slope = 1 / (fine * np.tan(angle))
        steps = (slope[1:] + slope[:-1]) / 2 * np.diff(fine)
        turn = np.interp(self.radii, fine, -np.concatenate([[0], np.cumsum(steps)]))
        self.rays = self._rays(turn, np.interp(self.radii, fine, angle))
        high = max(5, round(max(self.b1, self.b2) / 2.2))
        self.rise = np.linspace(0, 1, high + 1) ** 1.3
        self.nodes: dict[tuple[int, int, int], int] = {}
        self.points: list[tuple[float, float, float]] = []
        self.elements = [
            [self._node(2 * i + x, 2 * j + y, 2 * k + z) for x, y, z in CORNERS]
            for i in range(len(self.radii) - 1)
            for j in range(self.rays.shape[1] * self.blades)
            for k in range(PLATE + high)
            if k < PLATE or i < self.boss or (i >= self.first and j % self.rays.shape[1] < BLADE)
        ]

    def _rays(self, turn: Floats, angle: Floats) -> Floats:
        """Angles of the lines of one pitch at each radius: through the blade, then the gap."""
        pitch = 2 * math.pi / self.blades
        half = self.thick / 2 / (np.maximum(self.radii, self.inner) * np.sin(angle))
        count = max(6, round(pitch * (self.inner + self.outer) / 2 / 4))
        even = np.linspace(0, 1, count + 1)
        gap = (0.3 * (1 - np.cos(np.pi * even)) + 0.4 * even)[1:-1]
        rows = [
            np.concatenate([np.linspace(-h, h, BLADE + 1), h + gap * (pitch - 2 * h)]) for h in half
        ]
        return turn[:, None] + np.array(rows)

    def _node(self, i: int, j: int, k: int) -> int:
        """Number of a node at halves of elements along radius, turn and height."""
        j %= 2 * self.rays.shape[1] * self.blades
        if (i, j, k) not in self.nodes:
            self.nodes[i, j, k] = len(self.points) + 1
            self.points.append(self._place(i, j, k))
        return self.nodes[i, j, k]

    def _place(self, i: int, j: int, k: int) -> tuple[float, float, float]:
        pitch, lines = 2 * math.pi / self.blades, self.rays.shape[1]
        rings = [i // 2] if i % 2 == 0 else [i // 2, i // 2 + 1]
        columns = [j // 2] if j % 2 == 0 else [j // 2, j // 2 + 1]
        r = float(np.mean(self.radii[rings]))
        turn = float(
            np.mean([self.rays[a, c % lines] + c // lines * pitch for a in rings for c in columns])
        )
        if k <= 2 * PLATE:
            z = self.plate * k / (2 * PLATE)
        else:
            layer, odd = divmod(k - 2 * PLATE, 2)
            share = float(np.mean(self.rise[layer : layer + 1 + odd]))
            tall = (
                float(np.interp(r, [self.inner, self.outer], [self.b1, self.b2]))
                if i >= 2 * self.first
                else 0.6 * self.b2
            )
            z = self.plate + share * tall
        return r * math.cos(turn), r * math.sin(turn), z


def written(mesh: Mesh, speed: float) -> str:
    """The input of the solver at a speed [1/min]."""
    points = np.array(mesh.points)
    held = np.flatnonzero(np.hypot(points[:, 0], points[:, 1]) < mesh.bore + 0.02) + 1
    lines = ["*NODE, NSET=NALL"]
    lines += [f"{n},{x:.8g},{y:.8g},{z:.8g}" for n, (x, y, z) in enumerate(mesh.points, 1)]
    lines += ["*ELEMENT, TYPE=C3D20R, ELSET=EALL"]
    for n, nodes in enumerate(mesh.elements, 1):
        lines += [f"{n}," + ",".join(map(str, nodes[:15])) + ",", ",".join(map(str, nodes[15:]))]
    lines += ["*NSET, NSET=NB", *(f"{n}," for n in held)]
    lines += ["*MATERIAL, NAME=M", "*ELASTIC", f"{YOUNG},{POISSON}", "*DENSITY", f"{DENSITY}"]
    lines += ["*SOLID SECTION, ELSET=EALL, MATERIAL=M", "*BOUNDARY", "NB,1,3", "*STEP", "*STATIC"]
    lines += ["*DLOAD", f"EALL,CENTRIF,{(speed * 2 * math.pi / 60) ** 2:.8g},0,0,0,0,0,1"]
    return "\n".join([*lines, "*NODE FILE", "U", "*EL FILE", "S", "*END STEP", ""])


def results(path: Path) -> tuple[Floats, Floats]:
    """Displacements (n, 3) and stresses (n, 6) at the nodes, from a text file in columns of 12."""
    blocks: dict[str, list[list[float]]] = {}
    rows: list[list[float]] | None = None
    for line in path.read_text(encoding="utf-8", errors="replace").splitlines():
        if line.startswith(" -4"):
            rows = blocks.setdefault(line[5:13].strip(), [])
        elif line.startswith(" -1") and rows is not None:
            rows.append(
                [float(line[13 + 12 * k : 25 + 12 * k]) for k in range((len(line) - 13) // 12)]
            )
        elif line.startswith(" -3"):
            rows = None
    return np.array(blocks["DISP"]), np.array(blocks["STRESS"])


def compute(name: str, speed: float = 6000.0) -> dict[str, float]:
    """Greatest stresses beside corners [MPa] and growth [mm] of a wheel."""
    mesh = Mesh(name)
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "wheel.inp").write_text(written(mesh, speed), encoding="utf-8")
        subprocess.run(["ccx", "-i", "wheel"], cwd=folder, check=True, stdout=subprocess.DEVNULL)
        moved, stress = results(Path(folder) / "wheel.frd")
    at = np.array(mesh.points)
    x, y, z, a, b, c = stress.T
    mises = np.sqrt(
        0.5 * ((x - y) ** 2 + (y - z) ** 2 + (z - x) ** 2) + 3 * (a * a + b * b + c * c)
    )
    r = np.hypot(at[:, 0], at[:, 1])
    clear = r > mesh.inner + mesh.thick
    under = (at[:, 2] < 0.01) & (r > mesh.bore + 1.5)
    foot = (np.abs(at[:, 2] - mesh.plate) < 0.01) & clear
    then = at + moved
    return {
        "under the plate": float(mises[under].max()),
        "foot of the blades": float(mises[foot].max()),
        "99 % of the nodes": float(np.quantile(mises, 0.99)),
        "99.9 % of the nodes": float(np.quantile(mises, 0.999)),
        "growth": float(np.hypot(then[:, 0], then[:, 1]).max() - r.max()),
    }


if __name__ == "__main__":
    for wheel in sys.argv[1:] or WHEELS:
        print(wheel, {key: float(f"{value:.4g}") for key, value in compute(wheel).items()})
