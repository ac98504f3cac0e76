"""What the predictions say of parts that were computed with solvers: figure by figure, with the
uncertainty that is told, beside the stored values of the solvers (values.json, README.md). A test
holds each inside; `./hauch validation` prints the table.
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import cache
from pathlib import Path

import numpy as np
import trimesh

from hauch.core.part.blades import measure_blades
from hauch.core.part.rays import Caster
from hauch.core.part.stressed import stressed
from hauch.core.predict.blading import Blading
from hauch.core.predict.cushion import DOUBT as CUSHION_DOUBT
from hauch.core.predict.cushion import Cushion, jet_hover
from hauch.core.predict.duct import DOUBTS as DUCT_DOUBTS
from hauch.core.predict.duct import share_flow
from hauch.core.predict.duty import OF_TOP
from hauch.core.predict.impeller import Impeller
from hauch.core.predict.intake import DOUBT, Element, chain_losses, outgoing_head
from hauch.core.predict.ring import DOUBTS as RING_DOUBTS
from hauch.core.predict.ring import Mixing, Ring, at_jet
from hauch.core.predict.rotor import DOUBTS, Installed, rotor_curve
from hauch.core.predict.silencer import DOUBT as SILENCER_DOUBT
from hauch.core.predict.silencer import Chamber, PerforatedTube, QuarterWave
from hauch.core.predict.slit import Slit, blow
from hauch.core.strength.designs import of_rotor, of_wheel
from hauch.core.strength.limit import GROWTH_UNCERTAINTY, UNCERTAINTY, Stressed
from hauch.core.strength.material import MATERIALS, Printed
from hauch.desk.tools.duct import INPUTS, START, splitter
from hauch.desk.tools.silencer import TUNED

HERE = Path(__file__).parent
PARTS = HERE.parent / "data" / "parts"
STORED = json.loads((HERE / "values.json").read_text(encoding="utf-8"))
OMEGA = 2 * math.pi * 100
PETG = MATERIALS["petg"]
DESK_ROTOR = Blading(
    7,
    0.050,
    0.134,
    (0.028, 0.031, 0.034, 0.036, 0.037),
    tuple(np.radians([42, 34, 28, 24, 21]).tolist()),
    (0.06, 0.06, 0.055, 0.05, 0.045),
    (0.0025, 0.0022, 0.0019, 0.0016, 0.0014),
    gap=0.001,
)
SAMPLE_ROTOR = Blading(
    7,
    0.044,
    0.136,
    (0.0298, 0.0286, 0.0274, 0.0256, 0.0233),
    tuple(np.radians([44.3, 38.5, 33.0, 28.8, 24.5]).tolist()),
    (0.045, 0.040, 0.034, 0.029, 0.023),
    (0.0031, 0.0028, 0.0024, 0.0020, 0.00175),
    gap=0.0,
)
"""The sample rotor as measured on its mesh, filling its tube."""
WHEELS = {
    "default": (11, 100, 52, 22, 16, 30, 42, 1.6, 2.0, 4),
    "thin plate": (11, 100, 52, 22, 16, 30, 42, 2.4, 1.2, 4),
    "thick plate": (11, 100, 52, 22, 16, 30, 42, 1.6, 5.0, 4),
    "radial": (9, 100, 50, 20, 20, 89.9, 89.9, 1.6, 2.0, 4),
    "low": (12, 90, 45, 10, 7, 35, 50, 2.5, 4.0, 5),
    "swept": (7, 110, 50, 24, 18, 22, 25, 2.0, 2.0, 5),
    "big": (9, 160, 80, 34, 26, 30, 45, 2.4, 3.0, 6),
    "forward": (24, 90, 66, 18, 18, 60, 140, 1.2, 1.6, 4),
}
"""Blades, outer and inner diameter, width at inlet and outlet [mm], angles there [degrees], thickness
of blades and plate, shaft [mm].
"""


@dataclass(frozen=True, slots=True)
class Row:
    """A figure that was computed: what the prediction says and its standard uncertainty, the solver's
    value and its own doubt, who made it, and why it may lie outside.
    """

    case: str
    unit: str
    told: float
    u: float
    solver: float
    doubt: float
    by: str
    remark: str = ""

    @property
    def apart(self) -> float:
        """How many standard uncertainties, both counted, they lie apart."""
        return abs(self.told - self.solver) / math.hypot(self.u, self.doubt)

    @property
    def inside(self) -> bool:
        """Whether the solver's value lies within the 95 % of what is told."""
        return self.apart <= 2


Told = Iterator[tuple[str, str, float, float]]
"""Case, unit, value, standard uncertainty."""


def _nominal(key: str, found: Stressed, place: str) -> tuple[str, str, float, float]:
    own = next(p.own for p in found.places if p.key == place)
    stress = PETG.density * OMEGA**2 * own  # the solvers knew nothing of air
    return f"stress/{key}", "Pa", stress, UNCERTAINTY * stress


def _grown(key: str, found: Stressed) -> tuple[str, str, float, float]:
    out, _ = found.grown(Printed(PETG), OMEGA)
    return f"growth/{key}", "m", out, GROWTH_UNCERTAINTY * out


def _worst(found: Stressed) -> str:
    return max(found.places, key=lambda p: p.own).key


@cache
def _of_mesh(name: str, bore: float) -> Stressed:
    mesh = trimesh.load(PARTS / name, force="mesh")
    return stressed(mesh, Caster(mesh), measure_blades(mesh), bore, PETG.density)


@cache
def wheel(name: str) -> Stressed:
    """Stress of one of `WHEELS` by its figures."""
    blades, outer, inner, b1, b2, a1, a2, t, plate, shaft = WHEELS[name]
    made = Impeller(
        blades,
        eye=0.95e-3 * inner,
        inner=1e-3 * inner,
        outer=1e-3 * outer,
        inner_width=1e-3 * b1,
        outer_width=1e-3 * b2,
        inner_angle=math.radians(a1),
        outer_angle=math.radians(a2),
        thickness=1e-3 * t,
        outlet="volute",
    )
    return of_wheel(made, 1e-3 * shaft, 1e-3 * plate)


def spinning() -> Iterator[tuple[str, Stressed, str]]:
    """What spins of the computed parts: case, what is found of it, the place that was computed."""
    sample, handed_in = _of_mesh("rotor_ok.3mf", 5.0), _of_mesh("impeller.stl", 6.0)
    yield "rotor", sample, "blade"
    yield "rotor hub", sample, "hub"
    for key, change in (
        ("desk rotor", {}),
        ("desk rotor swept", {"sweep": 0.3}),
        ("desk rotor leaning", {"lean": 0.01}),
    ):
        found = of_rotor(replace(DESK_ROTOR, **change), 0.0016, 0.024, PETG.density)
        yield key, found, "blade"
        if change:
            yield f"{key}, hub", found, "hub"
    yield "wheel", handed_in, _worst(handed_in)
    for name in WHEELS:
        yield f"wheel {name}", wheel(name), _worst(wheel(name))


def strength() -> Told:
    """Blades, hubs and wheels: stress, and growth where it was computed."""
    for key, found, place in spinning():
        yield _nominal(key, found, place)
        if f"growth/{key}" in STORED["values"]:
            yield _grown(key, found)


def rotor() -> Told:
    """The sample rotor in its tube at 2,000 1/min."""
    flows = np.array([0.035, 0.050, 0.065])
    curve = rotor_curve(Installed((SAMPLE_ROTOR,), 2000.0, inlet="bell"), flows)
    whole = rotor_curve(Installed((SAMPLE_ROTOR,), 2000.0, inlet="bell"))
    top = float(whole.static.max())
    for k, flow in enumerate(flows):
        doubt = DOUBTS["pressure"] + (DOUBTS["stalled"] - DOUBTS["pressure"]) * curve.stalled[k]
        torque, static = float(curve.torque[k]), float(curve.static[k])
        yield f"rotor/torque at {flow:.3f}", "N m", torque, DOUBTS["torque"] * torque
        yield f"rotor/static at {flow:.3f}", "Pa", static, math.hypot(doubt * static, OF_TOP * top)
    wall = float(curve.wall[1])
    yield "rotor/wall at 0.050", "Pa", wall, math.hypot(DOUBTS["pressure"] * wall, OF_TOP * top)
    yield "rotor/free flow", "m3/s", whole.free_flow, 0.07 * whole.free_flow


def duct() -> Told:
    """The Desk's own duct at 72 m3/h."""
    values = {i.key: i.start for i in INPUTS} | {"branches": START}
    shared = share_flow(splitter(values), 0.02)
    for k, flow in enumerate(shared.flows, 1):
        share = flow / shared.total
        yield f"duct/share {k}", "", share, DUCT_DOUBTS["share"] * share
    yield "duct/total", "Pa", shared.pressure, 0.15 * shared.pressure
    yield "duct/static", "Pa", shared.static, 0.15 * shared.pressure


def _coefficient(chain: list[Element], flow: float) -> tuple[float, float]:
    """Flow coefficient, and its uncertainty from that of the loss."""
    k = sum(x.loss for x in chain_losses(chain, flow)) / outgoing_head(chain, flow)
    value = 1 / math.sqrt(1 + k)
    return value, value * DOUBT * k / (1 + k) / 2


def intake() -> Told:
    """Losses of single elements, and the area that a flow bench reads."""
    bell, flow = [Element("bell", 0.122, 0.244, 0.017)], 0.0489
    yield "intake/bell mouth, flow coefficient", "", *_coefficient(bell, flow)
    sharp = [Element("bell", 0.122, 0.244, 0.0)]
    yield "intake/sharp edge, flow coefficient", "", *_coefficient(sharp, flow)
    value, u = _coefficient(bell, flow)
    yield "intake/area of a bell mouth", "m2", value * bell[0].area, u * bell[0].area
    for name, before, after, speed_at in (
        ("contraction 40 to 20", 0.040, 0.020, 0.020),
        ("expansion 20 to 40", 0.020, 0.040, 0.020),
    ):
        loss = chain_losses([Element("straight", before), Element("change", after)], 0.0047)[1].loss
        k = loss / (0.6 * (0.0047 / (math.pi / 4 * speed_at**2)) ** 2)
        yield f"intake/{name}", "", k, DOUBT * k
    turn = [Element("straight", 0.05, 0.0), Element("bend", 0.05, 0.0785, math.pi / 2)]
    k = chain_losses(turn, 0.0159)[1].loss / outgoing_head(turn, 0.0159)
    yield "intake/bend", "", k, DOUBT * k
    for free in (40, 60, 80):
        screen = [Element("screen", 0.08, 0.0, free / 100)]
        k = chain_losses(screen, 0.03)[0].loss / outgoing_head(screen, 0.03)
        yield f"intake/screen {free} %", "", k, DOUBT * k


def cushion() -> Told:
    """Peripheral jets, per metre of their line."""
    for name, pressure, nozzle, gap, lean in (
        ("45 degrees, 3 on 4 mm", 517.6, 0.003, 0.004, 45),
        ("45 degrees, 2 on 6 mm", 174.0, 0.002, 0.006, 45),
        ("straight down, 3 on 4 mm", 299.0, 0.003, 0.004, 0),
    ):
        made = jet_hover(Cushion(pressure / 9.80665, 1.0, 4.0), gap, nozzle, math.radians(lean))
        yield f"cushion/supply, {name}", "Pa", made.supply, CUSHION_DOUBT * made.supply
        yield f"cushion/flow, {name}", "m2/s", made.flow / 4, CUSHION_DOUBT * made.flow / 4


def silencer() -> Told:
    """Tunings, and chambers that are short and wide."""
    for branch in (25, 12, 40):
        tuned = 343.2 / (4 * QuarterWave(0.04, branch / 1000, 0.06).sounding_length)
        yield f"silencer/quarter wave {branch}", "Hz", tuned, TUNED["branch"] * tuned
    for length in (50, 30):
        loss = float(Chamber(0.04, 0.12, length / 1000).loss(1508.0))
        yield f"silencer/chamber 40/120/{length} at 1,508 Hz", "dB", loss, SILENCER_DOUBT
    tube = PerforatedTube(0.04, 0.09, 0.12, 0.003, 0.0016, 0.05)
    share, peak = tube.open_share_for(600.0), replace(tube, open_share=0.0176).peak()
    yield "silencer/open share for 600 Hz", "", share, 2 * TUNED["perforated"] * share
    yield "silencer/peak at 1.76 % open", "Hz", peak, TUNED["perforated"] * peak


def slit() -> Told:
    """What a land takes of the flow, at 3 bar."""
    bare = blow(Slit(4e-5, 0.3, 3e5, discharge=1.0)).mass_flow
    for land in (0.5, 1.0, 2.0):
        made = blow(Slit(4e-5, 0.3, 3e5, discharge=1.0, land=land / 1000)).mass_flow
        yield f"slit/land of {land:g} mm", "", made / bare, 0.06


REMARKS = {
    "silencer/chamber 40/120/30 at 1,508 Hz": "the page says that a short wide chamber takes more",
}
"""Case -> what the page says where a figure lies outside."""


def ring_of(sizes: list[float]) -> Ring:
    """A ring by throat, slot, exit and depth [mm]."""
    throat, slot, exit, depth = (1e-3 * v for v in sizes)
    return Ring(throat - slot, slot, throat, exit, depth, 0.05)


def rings() -> Iterator[Row]:
    """Rings with jets of 20 m/s: flow over the jet's at the exit and one diameter on, momentum kept,
    pressure of the plenum.
    """
    for name, stored in STORED["rings"].items():
        ring = ring_of(stored["sizes"])
        made, mixing, doubt = at_jet(ring, 20.0), Mixing.of(ring), stored["doubt"]
        drawn = made.ideal.ratio - 1
        told = {
            "exit": (made.ratio, RING_DOUBTS["exit"] * mixing.exit * drawn),
            "felt": (made.felt_flow / made.jet_flow, RING_DOUBTS["felt"] * mixing.felt * drawn),
            "momentum": (mixing.momentum, RING_DOUBTS["momentum"] * mixing.momentum),
        }
        if "plenum" in stored:
            jet = stored.get("jet", 20.0)
            head, lost = 0.6 * jet**2, 1 + ring.slot_loss + ring.slot_friction(jet)
            told["plenum"] = (lost * head, RING_DOUBTS["slot"] * ring.slot_loss * head)
        for key, (value, u) in told.items():
            if key in stored:
                unit = "Pa" if key == "plenum" else ""
                solver = stored[key]
                yield Row(
                    f"ring {name}/{key}", unit, value, u, solver, doubt * solver, "simpleFoam"
                )


MATTERS: tuple[Callable[[], Told], ...] = (
    strength,
    rotor,
    duct,
    intake,
    cushion,
    silencer,
    slit,
)


def rows() -> list[Row]:
    """All figures that were computed."""
    found = []
    for matter in MATTERS:
        for case, unit, told, u in matter():
            solver, doubt, by = STORED["values"][case]
            found.append(
                Row(case, unit, told, u, solver, abs(doubt * solver), by, REMARKS.get(case, ""))
            )
    return [*found, *rings()]
