"""Computes docs/validation.md and its plots: predictions against exact, published and limiting
cases. Run by `./hauch validation`.
"""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
import vl_convert

from hauch.core.part.balance import permissible_unbalance
from hauch.core.predict.blading import Blading
from hauch.core.predict.cascade import lattice_factor
from hauch.core.predict.cushion import jet_share
from hauch.core.predict.free_rotor import free_rotor
from hauch.core.predict.impeller import wiesner_slip
from hauch.core.predict.ring import Mixing, Ring, entrain
from hauch.core.predict.rotor import Installed, rotor_curve
from hauch.core.predict.section import section_forces
from hauch.core.predict.silencer import Chamber
from hauch.core.predict.slit import Slit, blow
from tests.solvers.cases import STORED as SOLVED
from tests.solvers.cases import ring_of
from tests.solvers.cases import rows as solver_rows

HERE = Path(__file__).parent
INK, PETROL, AMBER = "#10252e", "#006872", "#8a5200"

ROW = Blading(
    7,
    0.050,
    0.134,
    (0.028, 0.031, 0.034, 0.036, 0.037),
    tuple(np.radians([42, 34, 28, 24, 21])),
    (0.06, 0.06, 0.055, 0.05, 0.045),
    (0.0025, 0.0022, 0.0019, 0.0016, 0.0014),
    gap=0.001,
)


def plot(
    name: str,
    title: str,
    x: str,
    y: str,
    series: list[tuple[str, str, list[tuple[float, float]], str]],
) -> None:
    """One plot: (label, colour, points, "line" or "point") each."""
    layers = []
    for label, _, points, mark in series:
        made = (
            {"type": "line", "strokeWidth": 2}
            if mark == "line"
            else {"type": "point", "filled": True, "size": 40, "opacity": 0.8}
        )
        layers.append(
            {
                "data": {
                    "values": [
                        {"x": a, "y": b, "what": label} for a, b in points if math.isfinite(b)
                    ]
                },
                "mark": made,
                "encoding": {
                    "x": {"field": "x", "type": "quantitative", "title": x},
                    "y": {
                        "field": "y",
                        "type": "quantitative",
                        "title": y,
                        "scale": {"zero": False},
                    },
                    "color": {
                        "field": "what",
                        "type": "nominal",
                        "title": None,
                        "scale": {
                            "domain": [s[0] for s in series],
                            "range": [s[1] for s in series],
                        },
                    },
                },
            }
        )
    spec = {"title": title, "width": 460, "height": 240, "background": "white", "layer": layers}
    (HERE / f"{name}.svg").write_text(vl_convert.vegalite_to_svg(spec) + "\n", encoding="utf-8")


class Table:
    """Rows of a Markdown table: case, source, expected, told, deviation."""

    def __init__(self) -> None:
        self.rows: list[str] = []

    def add(
        self,
        case: str,
        source: str,
        expected: float,
        told: float,
        unit: str = "",
        digits: int = 4,
        note: str = "",
    ) -> None:
        off = f"{100 * (told / expected - 1):+.2g} %" if expected else f"{told - expected:+.2g}"
        self.rows.append(
            f"| {case} | {source} | {expected:.{digits}g} {unit} | {told:.{digits}g} {unit} |"
            f" {off}{note} |"
        )

    def __str__(self) -> str:
        return "\n".join(
            ["| case | source | expected | told | off by |", "|---|---|---|---|---|", *self.rows]
        )


def exact_cases() -> Table:
    t = Table()
    k = math.pi * 0.5 / 2
    t.add(
        "cascade, plates along the axis, c/s 0.5",
        "Weinig: tanh(k)/k",
        math.tanh(k) / k,
        lattice_factor(0.5, 0.0),
    )
    t.add(
        "cascade, plates in one line, c/s 0.5",
        "Weinig: tan(k)/k",
        math.tan(k) / k,
        lattice_factor(0.5, math.pi / 2),
    )
    t.add("slip, 18 radial blades", "Wiesner 1967", 0.8678, wiesner_slip(math.pi / 2, 18, 0.4))
    plain = Ring(
        0.18,
        0.0012,
        0.18,
        0.18,
        0.05,
        0.05,
        inlet_loss=0,
        mixing_loss=0,
        slot_loss=0,
        neck_loss=0,
        diffuser_efficiency=0,
    )
    t.add(
        "ring, slot 1.2 mm on 180 mm at 22 m/s, entrained",
        "momentum balance by hand",
        4.08,
        entrain(plain, 22.0).entrained,
        "m/s",
        3,
    )
    t.add(
        "the same, total over jet",
        "momentum balance by hand",
        7.77,
        entrain(plain, 22.0).ratio,
        "",
        3,
    )
    t.add(
        "the same with inlet loss 0.3",
        "momentum balance by hand",
        7.08,
        entrain(replace(plain, inlet_loss=0.3), 22.0).ratio,
        "",
        3,
    )
    t.add(
        "expansion chamber 40/90 mm, 120 mm, 600 Hz",
        "Munjal, eq. 2.105",
        8.16,
        float(Chamber(0.04, 0.09, 0.12).loss(600.0)),
        "dB",
        3,
    )
    t.add(
        "slit 0.04 x 300 mm, 3 bar(g), C 0.8",
        "ISO 9300, ideal gas",
        9.09,
        1000 * blow(Slit(4e-5, 0.3, 3e5)).mass_flow,
        "g/s",
        3,
    )
    t.add(
        "slit at 0.5 bar(g)",
        "Shapiro, ch. 4",
        3.27,
        1000 * blow(Slit(4e-5, 0.3, 0.5e5)).mass_flow,
        "g/s",
        3,
    )
    t.add(
        "peripheral jet, t = h, 30° inwards, p_c/P_j",
        "1 − exp(−3)",
        1 - math.exp(-3),
        jet_share(1 + math.sin(math.radians(30))),
    )
    t.add(
        "residual unbalance G 6.3, 45 g, 3,200 1/min",
        "ISO 21940-11",
        0.846,
        permissible_unbalance(0.0063, 0.045, 3200) * 1e6,
        "g mm",
        3,
    )
    return t


def published_cases() -> Table:
    t = Table()
    angle = np.array([-4.0, 0.0, 4.0])
    lift, drag = section_forces(
        "forward", np.full(3, 0.12), np.full(3, 0.04), angle, np.full(3, 3e6)
    )
    t.add("NACA 4412, Re 3·10⁶: lift at 0°", "NACA Report 824", 0.41, float(lift[1]), "", 2)
    t.add(
        "its lift slope, per degree",
        "NACA Report 824",
        0.105,
        float((lift[2] - lift[0]) / 8),
        "",
        3,
    )
    t.add("its least drag", "NACA Report 824", 0.0060, float(drag.min()), "", 2)
    omega, radius = 2 * math.pi * 1250 / 60, 1.143
    points = []
    for degrees, measured in ((5, 0.00213), (8, 0.00459), (12, 0.00796)):
        row = Blading(
            2,
            0.4,
            2 * radius,
            (0.191,) * 5,
            (math.radians(degrees),) * 5,
            (0.0,) * 5,
            (0.12 * 0.191,) * 5,
        )
        told = free_rotor(row, 1250.0, stations=60).thrust / (
            1.2 * math.pi * radius**2 * (omega * radius) ** 2
        )
        points.append((degrees, measured, told))
        t.add(
            f"hovering rotor, two blades NACA 0012 at {degrees}°: thrust coefficient",
            "Caradonna and Tung, NASA TM-81232",
            measured,
            told,
            "",
            3,
        )
    plot(
        "hover",
        "Two-bladed rotor in hover: thrust coefficient",
        "collective pitch, degrees",
        "thrust coefficient",
        [
            ("measured (NASA TM-81232)", INK, [(d, m) for d, m, _ in points], "point"),
            ("blade-element momentum", PETROL, [(d, p) for d, _, p in points], "line"),
        ],
    )
    return t


def solver_table() -> str:
    """Each figure that was computed: what is told with its 95 %, the solver's value with its own doubt,
    how many standard uncertainties they lie apart.
    """
    lines = [
        "| figure | told (95 %) | computed (95 %) | told/computed | apart | by |",
        "|---|---|---|---|---|---|",
    ]
    for row in solver_rows():
        matter = row.case.partition("/")[0]
        scale, unit = (1e-6, "MPa") if matter == "stress" else SHOWN.get(row.unit, (1.0, row.unit))
        said = f" ({row.remark})" if row.remark else ""
        lines.append(
            f"| {row.case.replace('/', ': ')} | {_both(scale * row.told, scale * 2 * row.u)} {unit}"
            f" | {_both(scale * row.solver, scale * 2 * row.doubt)} {unit}"
            f" | {row.told / row.solver:.2f} | {row.apart:.1f} u{said} | {row.by} |"
        )
    return "\n".join(lines)


def _both(value: float, doubt: float) -> str:
    """A value and its doubt of two digits, rounded alike."""
    places = max(0, 1 - math.floor(math.log10(doubt)))
    return f"{value:.{places}f} ± {doubt:.{places}f}"


SHOWN = {"Pa": (1.0, "Pa"), "m": (1e3, "mm"), "N m": (1e3, "mN m"), "m2": (1e4, "cm²")}


def solver_plots() -> None:
    """Stress told against computed; rings over their length."""
    found = [(r.solver / 1e6, r.told / 1e6) for r in solver_rows() if r.case.startswith("stress/")]
    top = 1.1 * max(max(pair) for pair in found)
    ends = [(0.0, 0.0), (top, top)]
    plot(
        "strength",
        "Stress beside corners at 6,000 1/min: told against computed",
        "finite elements, MPa",
        "told, MPa",
        [
            ("blades, hubs, wheels", PETROL, found, "point"),
            ("alike", INK, ends, "line"),
            ("half as much again or less (95 %)", AMBER, [(0.0, 0.0), (top / 1.5, top)], "line"),
            ("half (95 %)", AMBER, [(0.0, 0.0), (top, top / 2)], "line"),
        ],
    )
    series = []
    for key, colour, label in (("exit", INK, "at the exit"), ("felt", PETROL, "one diameter on")):
        told, computed = [], []
        for stored in SOLVED["rings"].values():
            if key in stored:
                ring = ring_of(stored["sizes"])
                ideal = entrain(ring, 20.0).ratio - 1
                at = ring.depth / ring.throat
                told.append((at, getattr(Mixing.of(ring), key)))
                computed.append((at, (stored[key] - 1) / ideal))
        series += [(f"{label}, computed", colour, computed, "point")]
        series += [(f"{label}, told", AMBER if key == "exit" else "#7a3b8f", told, "point")]
    plot(
        "ring_mixing",
        "Share of full mixing that rings reach",
        "length over diameter",
        "share of what is drawn along",
        series,
    )


def cascade_plot() -> None:
    grid = np.linspace(0.05, 1.6, 40)
    exact = [(float(s), math.tanh(math.pi * s / 2) / (math.pi * s / 2)) for s in grid]
    series = [
        ("along the axis, exact", INK, exact, "line"),
        (
            "along the axis, ours",
            PETROL,
            [(float(s), lattice_factor(float(s), 0.0)) for s in grid[::4]],
            "point",
        ),
    ]
    series += [
        (
            "60° from the axis, ours",
            AMBER,
            [(float(s), lattice_factor(float(s), math.radians(60))) for s in grid],
            "line",
        )
    ]
    plot(
        "cascade",
        "Lift of a blade among its neighbours over that of a single one",
        "solidity c/s",
        "factor",
        series,
    )


def convergence() -> tuple[str, float]:
    fine = rotor_curve(Installed((ROW,), 1900.0), 40, 160)
    series = []
    worst = 0.0
    for stations, colour in ((5, AMBER), (25, PETROL), (160, INK)):
        curve = rotor_curve(Installed((ROW,), 1900.0), fine.flow, stations)
        series.append(
            (
                f"{stations} stations",
                colour,
                list(zip((3600 * curve.flow).tolist(), curve.static.tolist(), strict=True)),
                "line",
            )
        )
        if stations == 25:
            held = fine.static > 0.2 * fine.static.max()
            worst = float(np.max(np.abs(curve.static[held] / fine.static[held] - 1)))
    plot(
        "convergence",
        "The page's rotor with few and many stations",
        "flow, m³/h",
        "static pressure, Pa",
        series,
    )
    return "", worst


def limits() -> tuple[int, float, float]:
    rng = np.random.default_rng(7)
    points: list[tuple[float, float]] = []
    free: list[tuple[float, float]] = []
    while len(points) < 200:
        blades, ratio = int(rng.integers(3, 12)), rng.uniform(0.25, 0.6)
        tip = 0.134
        hub = tip * ratio
        solidity = rng.uniform(0.3, 1.1)
        chord = tuple(
            solidity * math.pi * (hub + (tip - hub) * k / 4) / blades * 0.7 for k in range(5)
        )
        pitch = tuple(np.radians(np.linspace(rng.uniform(28, 60), rng.uniform(10, 28), 5)))
        row = Blading(
            blades,
            hub,
            tip,
            chord,
            pitch,
            (rng.uniform(0, 0.08),) * 5,
            tuple(0.08 * c for c in chord),
            gap=rng.uniform(0, 0.002),
        )
        if row.problems():
            continue
        curve = rotor_curve(Installed((row,), 1900.0))
        best = curve.best
        points.append((float(curve.flow[best]) * 3600, float(100 * curve.total_efficiency[best])))
        made = free_rotor(row, 1900.0)
        if made.thrust > 0 and made.power > 0:
            free.append((made.thrust, 100 * made.merit))
    plot(
        "limits",
        "Best total efficiency of 200 random rotors in a duct",
        "flow at the best point, m³/h",
        "efficiency, % (limit 100)",
        [("rotor", PETROL, points, "point")],
    )
    plot(
        "momentum",
        "The same rotors free: least power over their own",
        "thrust, N",
        "% (limit 100)",
        [("rotor", PETROL, free, "point")],
    )
    return len(points), max(p[1] for p in points), max(p[1] for p in free)


def ring_plot() -> None:
    ring = Ring(
        0.18,
        0.0012,
        0.18,
        0.18,
        0.05,
        0.05,
        inlet_loss=0,
        mixing_loss=0,
        slot_loss=0,
        neck_loss=0,
        diffuser_efficiency=0,
    )
    ratios, shares = [], []
    for slot in np.geomspace(0.0003, 0.008, 30):
        s = entrain(replace(ring, slot=float(slot)), 22.0)
        ratios.append((1000 * float(slot), s.ratio))
        shares.append((1000 * float(slot), 100 * s.total_flow * s.out**2 / (s.jet_flow * 22.0**2)))
    plot(
        "ring",
        "Plain ring of 180 mm: total flow over the jet's",
        "slot, mm",
        "ratio",
        [("momentum balance", PETROL, ratios, "line")],
    )
    plot(
        "ring_energy",
        "What is left of the jet's energy",
        "slot, mm",
        "% (limit 100)",
        [("momentum balance", PETROL, shares, "line")],
    )


def main() -> None:
    exact, published = exact_cases(), published_cases()
    cascade_plot()
    _, worst = convergence()
    count, best, free = limits()
    ring_plot()
    solver_plots()
    text = (HERE / "template.md").read_text(encoding="utf-8")
    told = {
        "EXACT": str(exact),
        "PUBLISHED": str(published),
        "SOLVERS": solver_table(),
        "MADE_BY": "\n".join(f"- {key}: {said}" for key, said in SOLVED["made_by"].items()),
        "CONVERGENCE": f"{100 * worst:.1f} %",
        "COUNT": str(count),
        "BEST": f"{best:.0f} %",
        "FREE": f"{free:.0f} %",
    }
    for key, value in told.items():
        text = text.replace(f"@{key}@", value)
    (HERE.parent / "validation.md").write_text(text, encoding="utf-8")


if __name__ == "__main__":
    main()
