"""The Desk's bladeless ring, always beside the same motor as an open fan."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from hauch.core.geometry.draw_rotors import ring_drawing
from hauch.core.geometry.profiles import neck_radius, ring_profile
from hauch.core.predict.model import cause, factor
from hauch.core.predict.ring import (
    COMPUTED,
    DOUBTS,
    SLOT_TO_NECK,
    Driven,
    Mixing,
    OpenFan,
    Ring,
    driven,
    jet_flow_at,
    jet_speed_at,
    open_fan,
    slot_scatter,
)
from hauch.core.predict.source import FanSource
from hauch.core.predict.spread import spread
from hauch.core.quantity import Quantity, exact, measured
from hauch.desk.tools.base import (
    Answer,
    Chart,
    Figure,
    Input,
    Line,
    Remark,
    Rows,
    Setting,
    Tool,
    Values,
    register,
)

INPUTS = (
    Input("throat", "Throat", "length", 0.180, "Ring", 0.005, 2),
    Input("slot", "Slot width", "length", 0.0012, "Ring", 0.00005, 1.0),
    Input("exit", "Exit", "length", 0.196, "Ring", 0.005, 2),
    Input("depth", "Depth", "length", 0.080, "Ring", 0.005, 1),
    Input("neck", "Neck", "length", 0.050, "Ring", 0.002, 1),
    Input("wall", "Wall", "length", 0.0016, "Ring", -0.01, 0.05),
    Input("neck_length", "Length of the neck", "length", 0.05, "Ring", 0.001, 1),
    Input(
        "slot_doubt",
        "Slot scatter (standard deviation)",
        "length",
        0.00008,
        "Ring",
        0,
        0.01,
        note="measured places below go before it",
    ),
    Input(
        "shut_off",
        "Fan in the foot: pressure without flow",
        "pressure",
        420.0,
        "Fan in the foot",
        1,
        1e5,
    ),
    Input(
        "free_flow",
        "… and flow without resistance",
        "volume_flow",
        0.022,
        "Fan in the foot",
        1e-5,
        10,
    ),
    Input("power", "Electrical power of both", "power", 6.0, "Compare at equal power", 0.01, 10000),
    Input(
        "open_efficiency",
        "Open fan: share that becomes air power",
        "percent",
        25.0,
        "Compare at equal power",
        1,
        90,
    ),
    Input(
        "open_diameter", "Open fan: diameter", "length", 0.150, "Compare at equal power", 0.01, 3
    ),
    Input("distance", "Speed is felt at", "length", 1.0, "Compare at equal power", 0.01, 20),
)
SLOTS = Rows(
    "slots",
    "Slot of a specimen, as measured",
    (Input("width", "width", "length", 0.0012, "", 0.00001, 0.1),),
    (),
    12,
    "Measured specimen",
)


BEHIND = ("total", "felt", "ratio", "at", "carried")
"""Figures that hang on how the ring mixes."""
Along = Callable[[float], float]
"""A figure along the axis, by distance [m]."""


def ring_of(values: Values) -> Ring:
    """The ring of the values, with the slot as measured where it is."""
    slot = values["slot"]
    if len(values["slots"]) > 1:
        slot = slot_scatter([r["width"] for r in values["slots"]])[0]
    return Ring(
        values["throat"] - slot,
        slot,
        values["throat"],
        values["exit"],
        values["depth"],
        values["neck"],
        wall=values["wall"],
    )


def solid(values: Values) -> Any:
    """The ring as a solid, with the slot as designed."""
    from hauch.core.geometry.solids import ring_solid

    return ring_solid(ring_of({**values, "slots": []}), values["neck_length"])


def extent(values: Values) -> dict[str, float]:
    """Sizes that an envelope speaks of [m]."""
    ring = ring_of({**values, "slots": []})
    return {
        "outer": 2 * ring_profile(ring).outer_radius,
        "opening": ring.throat - 2 * (ring.slot + ring.wall),
        "depth": ring.depth,
        "neck": 2 * neck_radius(ring),
        "wall": ring.wall,
    }


@dataclass(frozen=True)
class _Model:
    """The ring on its fan and the open fan beside it, with all their figures."""

    values: Values
    ring: Ring
    fan: FanSource
    ring_on_fan: Driven
    opened: OpenFan
    made: dict[str, Quantity]


def work(values: Values, setting: Setting) -> Answer:
    """Streams, and the open fan beside them."""
    model = _model(values)
    return Answer(
        ring_drawing(model.ring, model.ring_on_fan),
        _figures(model),
        _charts(model),
        _slot_remarks(values) + _remarks(model),
        {"airflow": "felt", "jet_speed": "at", "bag_flow": "total"},
    )


KEENAN = "Keenan, Neumann, Lustwerk 1950"
JET = "Rajaratnam 1976, ch. 2"
DISC = "actuator disc, Rankine and Froude"
RINGS = "computed rings, see the validation"
MADE = {
    "jet": (
        "m/s",
        "Speed at the slot",
        "Δp_fan = (1 + ζ + 4 f l / 2 s) ρ/2 v² + ζ_n ρ/2 v_n² − suction",
        "Bernoulli with losses",
    ),
    "jet_flow": ("m3/s", "Flow from the fan", "Q_j = π d s v", ""),
    "ideal": (
        "m3/s",
        "With full mixing",
        "A_j v_j² + A_s v_s² − (1+ζ) v_s² A/2 = (1 + k/2 − e/2 (1 − (A/A_e)²)) v_m² A",
        KEENAN,
    ),
    "total": (
        "m3/s",
        "Flow through the exit",
        "Q_j + 0.58 e^(−0.20 L/D − 3.8 (w − 1)) (Q − Q_j)",
        RINGS,
    ),
    "felt": (
        "m3/s",
        "Flow one diameter on",
        "Q_j + 1.11 e^(−0.24 L/D − 2.6 (w − 1)) (Q − Q_j)",
        RINGS,
    ),
    "ratio": ("", "Flow through the exit over the fan's own", "Q / Q_j", RINGS),
    "at": (
        "m/s",
        "Speed on the axis",
        "v = 6.2 d / x v₀, v₀ = √(1.20 e^(−0.26 L/D − 1.2 (w − 1)) Q_j v_j / A_e)",
        JET,
    ),
    "carried": ("m3/s", "Flow at that distance", "Q = 0.32 x / d Q₀", JET),
    "open_total": ("m3/s", "Flow through the open fan", "η P = 2 ρ A v³", DISC),
    "open_at": ("m/s", "Its speed on the axis", "v = 6.2 d / x v₀", JET),
    "open_carried": ("m3/s", "Its flow at that distance", "Q = 0.32 x / d Q₀", JET),
}
"""What is worked out: unit, name, formula and source."""


def _model(values: Values) -> _Model:
    ring = ring_of(values)
    fan = FanSource(values["shut_off"], values["free_flow"])

    def worked_out(
        open_share: float, exit_share: float, felt_share: float, momentum: float, **changed: float
    ) -> dict[str, float]:
        slot = changed["slot"]
        other = replace(ring, slot_diameter=values["throat"] - slot, **changed)
        s = driven(other, fan, Mixing(exit_share, felt_share, momentum))
        o = open_fan(values["power"], open_share, values["open_diameter"])
        x = values["distance"]
        return {
            "jet": s.jet,
            "jet_flow": s.jet_flow,
            "ideal": s.ideal.total_flow,
            "total": s.exit_flow,
            "felt": s.felt_flow,
            "ratio": s.ratio,
            "at": jet_speed_at(s.thrown, ring.exit, x),
            "carried": _carried(s, ring, x),
            "open_total": o.flow,
            "open_at": jet_speed_at(o.speed, o.diameter, x),
            "open_carried": jet_flow_at(o.flow, o.diameter, x),
        }

    made = spread(worked_out, _inputs(values, ring), MADE)
    opened = open_fan(values["power"], values["open_efficiency"] / 100, values["open_diameter"])
    return _Model(values, ring, fan, driven(ring, fan), opened, made)


def _inputs(values: Values, ring: Ring) -> dict[str, Quantity]:
    """What the figures are worked out from, with doubt."""
    widths = [r["width"] for r in values["slots"]]
    scatter = slot_scatter(widths)[1] if len(widths) > 1 else values["slot_doubt"]
    share, mixing = values["open_efficiency"] / 100, Mixing.of(ring)
    return {
        "slot": measured(
            ring.slot, "m", [(cause("ring:slot", "slot width of the print"), scatter)]
        ),
        "inlet_loss": factor("inlet loss", ring.inlet_loss, 0.5, "ring:inlet"),
        "mixing_loss": factor("mixing loss", ring.mixing_loss, 0.8, "ring:mixing"),
        "slot_loss": factor("slot loss", ring.slot_loss, DOUBTS["slot"], "ring:slot_loss"),
        "exit_share": factor("mixing at the exit", mixing.exit, DOUBTS["exit"], "ring:exit"),
        "felt_share": factor("mixing one diameter on", mixing.felt, DOUBTS["felt"], "ring:felt"),
        "momentum": factor("momentum kept", mixing.momentum, DOUBTS["momentum"], "ring:momentum"),
        "neck_loss": factor("neck loss", ring.neck_loss, 0.3, "ring:neck"),
        "diffuser_efficiency": factor(
            "diffuser efficiency", ring.diffuser_efficiency, 0.25, "ring:diffuser"
        ),
        "open_share": measured(
            share, "", [(cause("open:share", "efficiency of the open fan"), 0.12 * share)]
        ),
    }


def _figures(model: _Model) -> list[Figure]:
    made, ring = model.made, model.ring
    share = exact(100 * ring.slot_area / ring.neck_area, "%")
    return [
        Figure("total", "Flow through the ring's exit", "volume_flow", made["total"], True),
        Figure("felt", "Ring: flow one diameter on", "volume_flow", made["felt"], True),
        Figure("open_total", "Open fan at equal power", "volume_flow", made["open_total"], True),
        Figure("at", "Ring: speed at the distance", "air_speed", made["at"]),
        Figure("open_at", "Open fan: speed there", "air_speed", made["open_at"]),
        Figure("ratio", "Flow at the exit over the fan's own", "number", made["ratio"]),
        Figure("jet", "Speed at the slot", "air_speed", made["jet"]),
        Figure("jet_flow", "Flow from the fan", "volume_flow", made["jet_flow"]),
        Figure("ideal", "Full mixing would give", "volume_flow", made["ideal"]),
        Figure("carried", "Ring: flow at the distance", "volume_flow", made["carried"]),
        Figure("open_carried", "Open fan: flow there", "volume_flow", made["open_carried"]),
        Figure("slot_share", "Slot area over neck area", "percent", share),
    ]


def _charts(model: _Model) -> list[Chart]:
    x, exit, s, o = model.values["distance"], model.ring.exit, model.ring_on_fan, model.opened
    grid = [0.02 + (2.5 * x) * k / 40 for k in range(41)]

    def over_distance(
        key: str, title: str, y: tuple[str, str], ring: Along, opened: Along
    ) -> Chart:
        lines = (
            Line("ring", tuple(grid), tuple(ring(d) for d in grid)),
            Line("open fan", tuple(grid), tuple(opened(d) for d in grid), dashed=True),
        )
        marks = (("felt here", x),)
        return Chart(key, title, ("length", "distance"), y, lines, marks=marks)

    return [
        over_distance(
            "speed",
            "Speed on the axis over distance, equal electrical power",
            ("air_speed", "speed on the axis"),
            lambda d: jet_speed_at(s.thrown, exit, d),
            lambda d: jet_speed_at(o.speed, o.diameter, d),
        ),
        over_distance(
            "flow",
            "Flow over distance, equal electrical power",
            ("volume_flow", "flow"),
            lambda d: _carried(s, model.ring, d),
            lambda d: jet_flow_at(o.flow, o.diameter, d),
        ),
        _slots_chart(model),
    ]


def _carried(s: Driven, ring: Ring, distance: float) -> float:
    """Flow of the ring's stream at a distance [m3/s]: at the exit what passes it, from one diameter
    on at least what moves there.
    """
    if distance < ring.throat:
        return s.exit_flow + (s.felt_flow - s.exit_flow) * distance / ring.throat
    jet = jet_flow_at(s.thrown * math.pi / 4 * ring.exit**2, ring.exit, distance)
    return max(s.felt_flow, jet)


def _slots_chart(model: _Model) -> Chart:
    """Flow one diameter on over slot width: where the best slot lies for this fan."""
    ring, fan = model.ring, model.fan
    widths = [
        ring.slot * (0.3 + 0.1 * k)
        for k in range(0, 24)
        if ring.slot * (0.3 + 0.1 * k) < ring.throat / 8
    ]
    flows = [
        driven(
            Ring(ring.throat - w, w, ring.throat, ring.exit, ring.depth, ring.neck, wall=ring.wall),
            fan,
        ).felt_flow
        for w in widths
    ]
    at = model.ring_on_fan.felt_flow
    return Chart(
        "slots",
        "Flow one diameter on over slot width on this fan",
        ("length", "slot width"),
        ("volume_flow", "flow"),
        (Line("one diameter on", tuple(widths), tuple(flows)),),
        points=(("this slot", ring.slot, at),),
    )


def _slot_remarks(values: Values) -> list[Remark]:
    """What the slot of a printed specimen is like."""
    widths = [r["width"] for r in values["slots"]]
    if len(widths) < 2:
        return []
    mean, scatter = slot_scatter(widths)
    worst = max(abs(width - mean) for width in widths) / mean
    return [
        Remark(
            "care" if worst > 0.15 else "note",
            f"The specimen's slot is {1000 * mean:.2f} mm on average,"
            f" {100 * scatter / mean:.0f} % scatter over {len(widths)} places; the jet is thicker"
            " and the stream leans to where it is widest.",
        )
    ]


def _beside_the_open_fan(values: Values, made: dict[str, float]) -> Remark:

    def against(key: str, opened: str, more: str, less: str) -> str:
        ratio = made[key] / made[opened]
        return f"{100 * abs(ratio - 1):.0f} % {more if ratio > 1 else less}"

    return Remark(
        "note",
        f"At equal {values['power']:g} W {against('total', 'open_total', 'more', 'less')} air passes"
        " the ring's exit than the open fan,"
        f" {against('felt', 'open_total', 'more', 'less')} moves one diameter on, and its stream is"
        f" {against('at', 'open_at', 'faster', 'slower')} at {values['distance']:g} m.",
    )


def _remarks(model: _Model) -> list[Remark]:
    values, ring, fan = model.values, model.ring, model.fan
    ratio = model.ring_on_fan.ideal.ratio
    made = {key: q.value for key, q in model.made.items()}
    found = [_beside_the_open_fan(values, made)]
    share = ring.slot_area / ring.neck_area
    if share > SLOT_TO_NECK:
        found.append(
            Remark(
                "care",
                f"The slot's area is {100 * share:.0f} % of the neck's. Above"
                f" {100 * SLOT_TO_NECK:.0f} % the neck chokes the jet: widen the neck or narrow the"
                " slot to"
                f" {1000 * SLOT_TO_NECK * ring.neck_area / (math.pi * ring.slot_diameter):.2f} mm.",
            )
        )
    if ring.neck / 2 > neck_radius(ring) * 1.001:
        found.append(
            Remark(
                "care",
                "The ring is too shallow for the neck: its bore is narrowed to"
                f" {2000 * neck_radius(ring):.0f} mm where it meets the plenum. Make the ring"
                f" {1000 * (ring.neck + 2 * ring.wall) / 0.72:.0f} mm deep.",
            )
        )
    if ring.spread > math.radians(7):
        found.append(
            Remark(
                "care" if ring.spread < math.radians(12) else "range",
                f"The diffuser opens by {math.degrees(ring.spread):.0f}° a side. Above 7° the"
                " stream leaves the wall; above 12° nothing is recovered.",
                BEHIND,
            )
        )
    length = ring.depth / ring.throat
    if not COMPUTED[0] <= length <= COMPUTED[1]:
        found.append(
            Remark(
                "range",
                f"The ring is {length:.2g} diameters long; rings of {COMPUTED[0]:g} to"
                f" {COMPUTED[1]:g} diameters were computed.",
                BEHIND,
            )
        )
    if values["distance"] < 6.2 * ring.exit:
        found.append(
            Remark(
                "range",
                f"At {values['distance']:g} m the ring's stream is not yet a developed jet (from"
                f" {6.2 * ring.exit:.1f} m on); the speed there is that of the core, and it may"
                " hollow out in the middle.",
                ("at", "carried"),
            )
        )
    air, own = made["total"] * made["at"], made["open_total"] * made["open_at"]
    if ratio > 25 or air > 8 * own:
        found.append(
            Remark(
                "range",
                "So much entrainment has not been seen in rings of this kind; check slot, fan and"
                " power.",
                ("total", "felt", "ideal", "ratio", "at", "carried"),
            )
        )
    most = fan.shut_off * fan.free_flow * 2 / 3 / math.sqrt(3)
    if most > values["power"]:
        found.append(
            Remark(
                "stop",
                f"The fan in the foot would give {most:.1f} W of air power at its best, more than"
                f" the {values['power']:g} W of electrical power stated: one of the three figures"
                " is wrong.",
            )
        )
    return found


TOOL = register(
    Tool(
        "ring",
        "Bladeless ring",
        "How much air does the ring draw along, and is it worth it against an open fan at equal"
        " power?",
        INPUTS,
        work,
        "Slots of 0.3 to 5 mm, diffusers below 7° a side, throats of at least ten slot widths, rings"
        " 0.2 to 3 diameters long. Flow at the exit is known to about half, one diameter on to a"
        " third (standard uncertainty 45 and 30 % of what is drawn along); a tunnel behind the ring"
        " reads the latter. A jet that leaves the wall is not in it.",
        rows=(SLOTS,),
        cautions=(
            "The fan in the foot spins at high speed: guard its inlet, and run it only closed.",
        ),
        solid=solid,
        extent=extent,
        part="ring",
    )
)
