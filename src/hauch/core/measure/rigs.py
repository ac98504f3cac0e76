"""Kinds of rigs: what is known of each, what it reads where, what it is good for and what can hurt
at it.

A rig's constants are stored as name -> [value, standard uncertainty] in SI; here stands what each
means, which are needed, and the range in which it can be true.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from hauch.core.quantity.units import KINDS


@dataclass(frozen=True, slots=True)
class Constant:
    """One constant of a rig. ``low`` and ``high`` bound what can be [SI unit of the kind].

    ``needed`` by the reduction, ``found`` by a guided calibration (``traverse`` or
    ``blank_plate``), ``typical`` is drawn where the true one is not known, and is never computed
    with.
    """

    key: str
    label: str
    kind: str
    low: float
    high: float
    typical: float = math.nan
    needed: bool = False
    found: str = ""
    whole: bool = False


@dataclass(frozen=True, slots=True)
class RigKind:
    """A kind of rig: constants, channels with the letter that marks each sensor in the drawing,
    cautions.
    """

    key: str
    label: str
    what: str
    constants: tuple[Constant, ...]
    channels: tuple[str, ...]
    caution: str = ""

    def constant(self, key: str) -> Constant | None:
        """One of the kind's constants."""
        return next((c for c in self.constants if c.key == key), None)


def _m(
    key: str, label: str, typical: float, low: float = 0.001, high: float = 20.0, **more: bool | str
) -> Constant:
    return Constant(key, label, "length", low, high, typical, **more)  # type: ignore[arg-type]


_LEAK = (
    Constant("leak_coefficient", "Leak at 1 Pa", "volume_flow", 0.0, 0.1, found="blank_plate"),
    Constant(
        "leak_exponent", "Exponent of the leak", "number", 0.4, 1.2, 0.65, found="blank_plate"
    ),
)
_SPIN = "Run behind the guard, stand out of the plane of the rotor, wear eye protection, start low."

RIGS: dict[str, RigKind] = {
    kind.key: kind
    for kind in (
        RigKind(
            "tunnel", "Tunnel", "Straight tube with a flow straightener; air speed on the axis or over a traverse gives the volume flow.",
            (
                _m("bore", "Bore of the tube", 0.125, 0.01, 3.0, needed=True),
                _m("length", "Length of the tube", 1.5), _m("straightener_at", "Straightener, from the part", 0.35),
                _m("straightener_length", "Length of the straightener", 0.08), _m("cell", "Cell of the straightener", 0.008, 0.0005, 0.2),
                _m("sensor_at", "Sensor, from the part", 1.1),
                Constant("profile_factor", "Profile factor", "number", 0.4, 1.2, 0.85, needed=True, found="traverse"),
                *_LEAK,
            ),
            ("air_speed", "pitot_pressure", "static_pressure", "speed", "voltage", "current", "power", "sound_level", "background_level", "throttle"), _SPIN,
        ),
        RigKind(
            "chamber", "Chamber", "Box with the part blowing in and a throttle out; static pressure in the box, down to no flow.",
            (
                _m("width", "Width inside", 0.4), _m("height", "Height inside", 0.4), _m("depth", "Depth inside", 0.6),
                _m("mouth", "Mouth for the part", 0.136, 0.005, 2.0), _m("tap_at", "Pressure tap, from the part", 0.4),
                _m("orifice", "Bore of the orifice behind the throttle", 0.08, 0.001, 1.0),
                Constant("orifice_coefficient", "Flow coefficient of the orifice", "number", 0.3, 1.3, 0.61),
                Constant("system_resistance", "System: loss at 1 m³/s", "pressure", 1.0, 1e8, 23_500.0),
                Constant("system_exponent", "System: exponent", "number", 1.0, 2.5, 2.0), *_LEAK,
            ),
            ("static_pressure", "orifice_pressure", "speed", "throttle"), _SPIN,
        ),
        RigKind(
            "scale", "Scale fixture", "The part blows onto a plate on a scale, or hangs on it: force, or pressure over a known area.",
            (
                Constant("plate_area", "Area under pressure", "area", 1e-5, 4.0, 0.0145, needed=True),
                _m("stand_off", "Outlet above the plate", 0.1, 0.0, 5.0),
            ),
            ("scale_mass", "speed"), _SPIN,
        ),
        RigKind(
            "flow_bench", "Flow bench", "Suction source with a measuring orifice; the flow through the test piece at a set depression.",
            (
                _m("orifice", "Bore of the orifice", 0.05, 0.001, 1.0, needed=True),
                Constant("orifice_coefficient", "Flow coefficient of the orifice", "number", 0.3, 1.3, 0.61, needed=True),
                _m("pipe", "Bore of the pipe", 0.1, 0.005, 2.0), _m("plenum", "Plenum, across", 0.4),
                Constant("set_depression", "Agreed depression", "pressure", 1.0, 20_000.0, 1500.0),
                Constant("agreed_flow", "Agreed flow", "volume_flow", 1e-5, 5.0, 0.04), *_LEAK,
            ),
            ("orifice_pressure", "test_depression", "throttle"),
            "The suction source pulls in loose parts, hair and cloth: guard its inlet. Ear protection above 85 dB(A).",
        ),
        RigKind(
            "hot_block", "Hot block", "Heater or processor load under the air of the part; load and room temperature until settled.",
            (
                _m("block_width", "Width of the block", 0.12), _m("block_height", "Height of the block", 0.04),
                _m("distance", "Part to block", 0.06, 0.0, 5.0), Constant("heat", "Heat of the load", "power", 0.1, 5000.0, 75.0),
                _m("sensor_depth", "Depth of the sensor", 0.01, 0.0, 1.0),
            ),
            ("load_temperature", "room_temperature", "power", "speed", "throttle"),
            "Heater loads need a thermal cut-out and are never left alone. Mains parts are built and checked by people competent in it.",
        ),
        RigKind(
            "sound_spot", "Sound spot", "Sound level meter at a stated distance, mounting and background.",
            (
                _m("distance", "Distance of the meter", 1.0, 0.05, 20.0, needed=True), _m("height", "Height of the meter", 1.2, 0.0, 10.0),
                _m("part_height", "Height of the part", 1.2, 0.0, 10.0), _m("background_at", "Background spot, from the part", 3.0, 0.05, 50.0),
            ),
            ("sound_level", "background_level", "speed", "throttle"), "Above 85 dB(A) wear hearing protection and keep exposure short.",
        ),
        RigKind(
            "power", "Power supply", "Volts and amps of a supply, a wall meter or a battery.",
            (
                Constant("standby_power", "Standby power", "power", 0.0, 500.0, 0.4),
                Constant("cable_resistance", "Resistance of the cable", "number", 0.0, 10.0, 0.05),
            ),
            ("voltage", "current", "power", "speed", "throttle"),
            "Mains and variable transformers: guarded, by people competent in it. Lithium cells: protection board, matched cells, fire-safe charging.",
        ),
        RigKind(
            "drive", "Drive rig", "The part is driven by a shaft; torque against speed, with and without the part.",
            (
                Constant("gear", "Gear ratio, part to motor", "number", 0.05, 20.0, 1.0), _m("arm", "Arm of the torque sensor", 0.1, 0.005, 3.0),
                _m("belt", "Distance of the shafts", 0.3, 0.0, 5.0), _m("rotor", "Diameter of the rotor", 0.4, 0.01, 5.0),
            ),
            ("torque", "tare_torque", "speed", "throttle"), "Belts and shafts catch: cover them, no loose cloth, switch off before a hand goes in. " + _SPIN,
        ),
        RigKind(
            "free_room", "Free room", "Anemometer at a stated distance, over a grid of places.",
            (
                _m("distance", "Distance of the grid", 1.0, 0.02, 20.0, needed=True), _m("grid_width", "Width of the grid", 0.6),
                _m("grid_height", "Height of the grid", 0.4), Constant("places", "Places", "number", 1, 400, 9, needed=True, whole=True),
                _m("height", "Height of the axis", 1.0, 0.0, 10.0),
            ),
            ("air_speed", "speed"), _SPIN,
        ),
        RigKind(
            "bag_fill", "Bag fill", "Open bag of known volume over the part; the seconds until it is full.",
            (
                Constant("bag_volume", "Volume of the bag", "volume", 0.001, 50.0, 0.12, needed=True), _m("mouth", "Mouth of the bag", 0.3, 0.01, 5.0),
            ),
            ("fill_time", "speed"), "Keep the bag off the intake: a starved rotor runs faster.",
        ),
        RigKind(
            "lift", "Lift rig", "Air-cushion part with weights; hover gap against load.",
            (
                Constant("cushion_area", "Area of the cushion", "area", 1e-4, 20.0, 0.09, needed=True), Constant("load", "Load, with the part", "mass", 0.001, 1000.0, 1.5),
                _m("span", "Span of the cushion", 0.3),
            ),
            ("gap", "static_pressure", "speed"), "Secure the weights; a cushion that tips throws them.",
        ),
        RigKind(
            "panel", "Print panel", "Test prints made with a cooling duct, or dried leaves: faces and angles are given points blind by several judges.",
            (
                Constant("places", "Judges", "number", 1, 60, 5, needed=True, whole=True), Constant("faces", "Faces or angles each", "number", 1, 60, 4, whole=True),
                Constant("top", "Most points", "points", 1, 100, 10),
            ),
            ("panel_points",), "Judges do not know whose part made the sample, and do not see each other's points.",
        ),
        RigKind(
            "outlets", "Outlet row", "A duct with several outlets, each read with the same anemometer in turn.",
            (
                Constant("places", "Outlets", "number", 2, 60, 3, needed=True, whole=True), _m("outlet", "Diameter of the probe", 0.07, 0.001, 1.0),
                _m("spacing", "Distance between outlets", 0.25, 0.005, 5.0),
            ),
            ("air_speed", "speed"), _SPIN,
        ),
        RigKind(
            "vibration", "Vibration stand", "Accelerometer at the bearing of the running part; velocity r.m.s. from 10 to 1000 Hz.",
            (
                Constant("flexible", "Flexible mounting (1) or rigid (0)", "number", 0, 1, 0, whole=True), _m("base", "Base, across", 0.3),
                _m("shaft_height", "Height of the shaft", 0.12, 0.005, 3.0), _m("sensor_from_axis", "Sensor, from the axis", 0.03, 0.0, 1.0),
            ),
            ("vibration", "speed", "throttle"), _SPIN + " Look the part over before each start: what shakes loosens itself.",
        ),
    )
}  # fmt: skip


def check_constants(kind: RigKind, constants: Mapping[str, tuple[float, float]]) -> dict[str, str]:
    """A sentence for each constant that cannot be, by its key; empty where all is well.

    Parameters
    ----------
    constants : name -> (value, standard uncertainty) [SI]
    """
    problems: dict[str, str] = {}
    for constant in kind.constants:
        unit = KINDS[constant.kind].unit
        if constant.key not in constants:
            if constant.needed and not constant.found:
                problems[constant.key] = (
                    f"{constant.label} is missing; without it nothing can be computed from this"
                    " rig."
                )
            continue
        value, u = constants[constant.key]
        if not (math.isfinite(value) and math.isfinite(u)):
            problems[constant.key] = f"{constant.label}: “{value}” is not a number."
        elif not constant.low <= value <= constant.high:
            problems[constant.key] = (
                f"{constant.label}: {value:.6g} {unit} cannot be; it lies between {constant.low:g}"
                f" and {constant.high:g} {unit}. Check the sign and the unit."
            )
        elif constant.whole and value != round(value):
            problems[constant.key] = f"{constant.label}: {value:g} is not a whole number."
        elif u < 0:
            problems[constant.key] = (
                f"{constant.label}: a doubt of {u:g} cannot be; give 0 or more."
            )
        elif value > 0 and u > 0.5 * value:
            problems[constant.key] = (
                f"{constant.label}: the doubt is more than half of the value. Measure it again, or"
                " check the unit of the doubt."
            )
    for name in set(constants) - {c.key for c in kind.constants}:
        problems[name] = f"A {kind.label.lower()} has no constant “{name}”."
    return problems | _geometry(
        kind.key, {name: value for name, (value, _) in constants.items() if name not in problems}
    )


def _geometry(kind: str, c: Mapping[str, float]) -> dict[str, str]:
    """What cannot be together."""
    problems: dict[str, str] = {}

    def inside(key: str, limit: str, text: str) -> None:
        if key in c and limit in c and c[key] >= c[limit]:
            problems[key] = text

    if kind == "tunnel":
        inside(
            "sensor_at",
            "length",
            "The sensor sits beyond the end of the tube. Check its place and the length of the"
            " tube.",
        )
        inside(
            "straightener_at",
            "sensor_at",
            "The straightener sits behind the sensor. The air passes the straightener first.",
        )
        inside("cell", "bore", "A cell of the straightener is as wide as the tube.")
        if (
            "straightener_at" in c
            and "straightener_length" in c
            and "sensor_at" in c
            and c["straightener_at"] + c["straightener_length"] > c["sensor_at"]
        ):
            problems.setdefault(
                "straightener_length",
                "The straightener reaches over the sensor. Shorten it or move the sensor.",
            )
    if kind == "flow_bench":
        inside(
            "orifice", "pipe", "The orifice is as wide as its pipe, so that it measures nothing."
        )
    if kind == "chamber":
        inside("tap_at", "depth", "The pressure tap lies beyond the far wall of the chamber.")
        for side in ("width", "height"):
            inside("mouth", side, f"The mouth is as wide as the chamber's {side}.")
    return problems
