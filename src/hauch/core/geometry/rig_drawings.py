"""Each kind of rig drawn from its own constants, with the place of every sensor.

Constants that are not known are drawn at a typical size, and their dimension is written with ≈.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

from hauch.core.geometry.drawing import Arrow, Dimension, Drawing, Note, Sensor, Side
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.rigs import RIGS, RigKind


class _Rig:
    """A drawing in the making, with the rig's constants at hand."""

    def __init__(self, kind: RigKind, constants: Mapping[str, tuple[float, float]]):
        self.kind, self.constants = kind, constants
        self.d = Drawing(kind.label)

    def __getitem__(self, key: str) -> float:
        if key in self.constants:
            return self.constants[key][0]
        constant = self.kind.constant(key)
        return math.nan if constant is None else constant.typical

    def dimension(
        self,
        key: str,
        start: tuple[float, float],
        end: tuple[float, float],
        side: Side,
        level: int = 1,
        prefix: str = "",
    ) -> None:
        """A dimension that shows one constant."""
        self.d.dimensions.append(
            Dimension(
                start, end, side, self[key], level, prefix=prefix, known=key in self.constants
            )
        )

    def sensor(self, channel: str, x: float, y: float) -> None:
        """A sensor, lettered in the order in which they are drawn."""
        self.d.sensors.append(
            Sensor((x, y), "ABCDEFGH"[len(self.d.sensors)], CHANNELS[channel].label)
        )

    def fan(self, x: float, y: float, size: float, depth: float = 0.0) -> None:
        """A part: its frame from the side, with a cross for the rotor."""
        depth = depth or size * 0.2
        self.d.box(x - depth, y - size / 2, depth, size, "mount")
        self.d.line((x - depth, y - size / 2), (x, y + size / 2), layer="thin")
        self.d.line((x - depth, y + size / 2), (x, y - size / 2), layer="thin")
        self.d.notes.append(Note((x - depth / 2, y + size / 2 * 1.15), "part"))

    def flow(self, x: float, y: float, length: float) -> None:
        """Three arrows of air."""
        for lift in (-0.25, 0.0, 0.25):
            self.d.arrows.append(Arrow((x, y + lift * length), (x + length, y + lift * length)))


def _tunnel(r: _Rig) -> None:
    bore, length = r["bore"], r["length"]
    half = bore / 2
    r.d.line((0, half), (length, half))
    r.d.line((0, -half), (length, -half))
    r.d.line((-0.2 * bore, 0), (length * 1.04, 0), layer="axis")
    r.fan(0, 0, bore * 1.1)
    at, deep, cell = r["straightener_at"], r["straightener_length"], max(r["cell"], bore / 24)
    r.d.box(at, -half, deep, bore, "thin")
    rows = int(bore / cell)
    for row in range(1, rows):
        y = -half + row * bore / rows
        r.d.line((at, y), (at + deep, y), layer="thin")
    r.flow(length * 1.01, 0, bore * 0.5)
    r.d.line((r["sensor_at"], 0), (r["sensor_at"], half * 1.7), layer="thin")
    r.sensor("air_speed", r["sensor_at"], 0)
    r.sensor("static_pressure", at * 0.5, half)
    r.sensor("speed", -bore * 0.1, -half * 0.6)
    r.dimension("bore", (length, -half), (length, half), "right", 2, "⌀ ")
    r.dimension("length", (0, -half), (length, -half), "below", 3)
    r.dimension("sensor_at", (0, -half), (r["sensor_at"], -half), "below", 2)
    r.dimension("straightener_at", (0, -half), (at, -half), "below", 1)
    r.dimension("straightener_length", (at, half), (at + deep, half), "above", 1)


def _chamber(r: _Rig) -> None:
    depth, height, mouth = r["depth"], r["height"], r["mouth"]
    half = height / 2
    r.d.box(0, -half, depth, height)
    r.d.line((0, -mouth / 2), (0, mouth / 2), layer="space")
    r.fan(0, 0, mouth * 1.1)
    r.d.shape(
        (
            (depth, -0.12 * height),
            (depth * 1.15, -0.04 * height),
            (depth * 1.15, 0.04 * height),
            (depth, 0.12 * height),
        ),
        "mount",
    )
    r.d.notes.append(Note((depth * 1.08, 0.16 * height), "throttle"))
    r.flow(depth * 0.1, 0, mouth * 0.7)
    r.sensor("static_pressure", r["tap_at"], half)
    r.sensor("speed", -mouth * 0.1, -mouth * 0.35)
    r.dimension("depth", (0, -half), (depth, -half), "below", 2)
    r.dimension("tap_at", (0, -half), (r["tap_at"], -half), "below", 1)
    r.dimension("height", (depth * 1.15, -half), (depth * 1.15, half), "right", 2)
    r.dimension("mouth", (0, -mouth / 2), (0, mouth / 2), "left", 2, "⌀ ")


def _scale(r: _Rig) -> None:
    side = math.sqrt(r["plate_area"])
    gap = r["stand_off"]
    r.d.box(-side / 2, 0, side, side * 0.06)
    r.d.box(-side * 0.35, -side * 0.28, side * 0.7, side * 0.28, "mount")
    r.d.box(-side / 2, side * 0.06 + gap, side, side * 0.2, "mount")
    r.d.notes.append(Note((0, side * 0.3 + gap), "part"))
    for x in (-0.25, 0.0, 0.25):
        r.d.arrows.append(
            Arrow((x * side, side * 0.06 + gap * 0.9), (x * side, side * 0.06 + gap * 0.15))
        )
    r.sensor("scale_mass", 0, -side * 0.14)
    r.sensor("speed", side * 0.4, side * 0.16 + gap)
    r.d.dimensions.append(
        Dimension(
            (-side / 2, -side * 0.28),
            (side / 2, -side * 0.28),
            "below",
            side,
            prefix="√A = ",
            known="plate_area" in r.constants,
        )
    )
    r.dimension("stand_off", (side / 2, side * 0.06), (side / 2, side * 0.06 + gap), "right")


def _flow_bench(r: _Rig) -> None:
    plenum, pipe, orifice = r["plenum"], r["pipe"], r["orifice"]
    r.d.box(0, -plenum / 2, plenum, plenum)
    length = plenum * 1.5
    for y in (-pipe / 2, pipe / 2):
        r.d.line((plenum, y), (plenum + length, y))
    at = plenum + length * 0.55
    for sign in (-1, 1):
        r.d.line((at, sign * pipe / 2), (at, sign * orifice / 2), layer="mount")
    r.d.notes.append(Note((at, pipe * 0.8), "orifice"))
    r.d.circle((plenum + length + plenum * 0.25, 0), plenum * 0.22, "mount")
    r.d.notes.append(Note((plenum + length + plenum * 0.25, plenum * 0.3), "suction"))
    r.d.box(-plenum * 0.25, -pipe * 0.6, plenum * 0.25, pipe * 1.2, "mount")
    r.d.notes.append(Note((-plenum * 0.125, pipe * 0.8), "part"))
    r.d.arrows.append(Arrow((-plenum * 0.6, 0), (-plenum * 0.3, 0)))
    r.d.arrows.append(Arrow((plenum * 1.1, 0), (plenum * 1.45, 0)))
    r.sensor("test_depression", plenum * 0.5, plenum / 2)
    r.sensor("orifice_pressure", at, -pipe / 2 * 1.5)
    r.dimension("plenum", (0, -plenum / 2), (plenum, -plenum / 2), "below")
    r.dimension("pipe", (plenum + length, -pipe / 2), (plenum + length, pipe / 2), "right", 4, "⌀ ")
    r.dimension("orifice", (at, -orifice / 2), (at, orifice / 2), "left", 1, "⌀ ")


def _hot_block(r: _Rig) -> None:
    width, height, gap = r["block_width"], r["block_height"], r["distance"]
    r.d.box(0, 0, width, height, "heat")
    for fin in range(9):
        x = width * (fin + 0.5) / 9
        r.d.line((x, height), (x, height * 1.8), layer="thin")
    size = width * 0.9
    r.d.box(width * 0.05, height * 1.8 + gap, size, width * 0.18, "mount")
    r.d.notes.append(Note((width / 2, height * 1.8 + gap + width * 0.24), "part"))
    for x in (0.25, 0.5, 0.75):
        r.d.arrows.append(
            Arrow((x * width, height * 1.8 + gap * 0.9), (x * width, height * 1.8 + gap * 0.2))
        )
    r.d.notes.append(Note((width / 2, height * 0.16), "heater with cut-out"))
    r.sensor("load_temperature", width * 0.5, max(height - r["sensor_depth"], 0.0))
    r.sensor("room_temperature", width * 1.6, height)
    r.dimension("block_width", (0, 0), (width, 0), "below", 2)
    r.dimension("block_height", (0, 0), (0, height), "left")
    r.dimension("distance", (width, height * 1.8), (width, height * 1.8 + gap), "right", 1)


def _sound_spot(r: _Rig) -> None:
    distance, part, meter, back = r["distance"], r["part_height"], r["height"], r["background_at"]
    far = max(distance, back) * 1.15
    r.d.line((-0.4 * distance, 0), (far, 0))
    r.d.line((0, 0), (0, part * 0.92), layer="thin")
    r.fan(0.03 * far, part, 0.16 * max(distance, 0.5))
    r.d.line((distance, 0), (distance, meter), layer="thin")
    r.d.line((back, 0), (back, meter), layer="thin")
    r.d.line((0, part), (distance, meter), layer="axis")
    r.sensor("sound_level", distance, meter)
    r.sensor("background_level", back, meter)
    r.dimension("distance", (0, 0), (distance, 0), "below", 1)
    r.dimension("background_at", (0, 0), (back, 0), "below", 2)
    r.dimension("height", (far, 0), (far, meter), "right")
    r.dimension("part_height", (-0.4 * distance, 0), (-0.4 * distance, part), "left")


def _power(r: _Rig) -> None:
    r.d.box(0, 0, 0.16, 0.1, "mount")
    r.d.notes.append(Note((0.08, 0.115), "supply"))
    r.d.circle((0.46, 0.05), 0.05, "mount")
    r.d.notes.append(Note((0.46, 0.115), "part"))
    r.d.line((0.16, 0.075), (0.418, 0.075))
    r.d.line((0.16, 0.025), (0.418, 0.025))
    r.d.line((0.36, 0.025), (0.36, 0.075), layer="thin")
    r.sensor("current", 0.25, 0.075)
    r.sensor("voltage", 0.36, 0.05)
    r.sensor("power", 0.08, 0.05)
    r.d.notes.append(Note((0.3, -0.03), "read the voltage at the part: the cable drops some of it"))


def _drive(r: _Rig) -> None:
    rotor, belt = r["rotor"], max(r["belt"], 0.05)
    small = rotor * 0.18
    big = min(max(small * r["gear"], rotor * 0.08), rotor * 0.45)
    r.d.circle((0, 0), rotor / 2, "space")
    r.d.circle((0, 0), big, "part")
    r.d.circle((0, -belt - rotor / 2), small, "part")
    r.d.line((-big, 0), (-small, -belt - rotor / 2), layer="thin")
    r.d.line((big, 0), (small, -belt - rotor / 2), layer="thin")
    r.d.notes += [
        Note((rotor * 0.6, rotor * 0.3), "part, behind its guard", "start"),
        Note((rotor * 0.6, -belt - rotor / 2), "motor, free to turn", "start"),
    ]
    arm = r["arm"]
    r.d.line((0, -belt - rotor / 2), (arm, -belt - rotor / 2), layer="mount")
    r.sensor("torque", arm, -belt - rotor / 2)
    r.sensor("speed", big, 0)
    r.dimension("rotor", (-rotor / 2, 0), (rotor / 2, 0), "above", 2, "⌀ ")
    r.dimension("arm", (0, -belt - rotor / 2), (arm, -belt - rotor / 2), "below", 2)


def _free_room(r: _Rig) -> None:
    distance, width, height = r["distance"], r["grid_width"], r["grid_height"]
    r.fan(0, 0, min(width, height) * 0.4)
    r.flow(distance * 0.06, 0, min(width, height) * 0.4)
    r.d.line((0, 0), (distance, 0), layer="axis")
    r.d.line((distance, -height / 2), (distance, height / 2), layer="space")
    left = distance + 0.35 * max(width, distance * 0.4)
    r.d.box(left, -height / 2, width, height, "space")
    places = max(int(r["places"]), 1)
    columns = next(
        (
            c
            for c in range(round(math.sqrt(places * width / height)) or 1, 0, -1)
            if places % c == 0
        ),
        1,
    )
    rows = math.ceil(places / columns)
    for place in range(places):
        x, y = place % columns, place // columns
        r.d.circle(
            (left + (x + 0.5) * width / columns, height / 2 - (y + 0.5) * height / rows),
            min(width / columns, height / rows) * 0.07,
            "part",
        )
    r.d.notes.append(
        Note((left + width / 2, height / 2 * 1.12), f"{places} places, seen from the part")
    )
    r.sensor("air_speed", distance, 0)
    r.dimension("distance", (0, -height / 2), (distance, -height / 2), "below")
    r.dimension("grid_width", (left, -height / 2), (left + width, -height / 2), "below")
    r.dimension("grid_height", (left + width, -height / 2), (left + width, height / 2), "right")


def _bag_fill(r: _Rig) -> None:
    radius = (3 * r["bag_volume"] / (4 * math.pi)) ** (1 / 3)
    mouth = min(r["mouth"], 1.6 * radius)
    start = math.asin(min(mouth / 2 / radius, 0.99))
    r.d.line(
        *(
            (math.cos(start) * radius - radius * math.cos(a), radius * math.sin(a))
            for a in _steps(start, 2 * math.pi - start, 60)
        ),
        layer="space",
    )
    r.fan(0, 0, mouth)
    r.flow(radius * 0.1, 0, radius * 0.6)
    r.d.notes.append(Note((radius, -radius * 1.25), "bag: stop the clock when it stands full"))
    r.sensor("fill_time", radius * 1.2, radius * 0.9)
    r.dimension("mouth", (-mouth * 0.2, -mouth / 2), (-mouth * 0.2, mouth / 2), "left", 1, "⌀ ")


def _steps(low: float, high: float, count: int) -> list[float]:
    return [low + (high - low) * i / count for i in range(count + 1)]


def _lift(r: _Rig) -> None:
    span, gap = r["span"], r["span"] * 0.05
    r.d.line((-span, 0), (span, 0))
    r.d.shape(
        (
            (-span / 2, gap),
            (span / 2, gap),
            (span / 2, gap + span * 0.14),
            (-span / 2, gap + span * 0.14),
        )
    )
    r.d.box(-span * 0.12, gap + span * 0.14, span * 0.24, span * 0.18, "mount")
    r.d.notes.append(Note((0, gap + span * 0.36), "load"))
    for x in (-1, 1):
        r.d.arrows.append(Arrow((x * span * 0.5, gap * 0.5), (x * span * 0.75, gap * 0.5)))
    r.sensor("gap", span / 2, gap * 0.5)
    r.sensor("static_pressure", -span * 0.2, gap)
    r.dimension("span", (-span / 2, 0), (span / 2, 0), "below")


def _panel(r: _Rig) -> None:
    judges, faces = max(int(r["places"]), 1), max(int(r["faces"]), 1)
    for judge in range(judges):
        r.d.notes.append(Note((-0.06, -judge * 0.05 - 0.01), f"judge {judge + 1}", "end"))
        for face in range(faces):
            r.d.box(face * 0.06, -judge * 0.05 - 0.025, 0.05, 0.035, "thin")
    r.d.notes.append(
        Note((faces * 0.03, 0.04), f"{faces} faces or angles, {r['top']:g} points at most, blind")
    )
    r.sensor("panel_points", faces * 0.06 + 0.03, -0.01)


def _outlets(r: _Rig) -> None:
    count, spacing, size = max(int(r["places"]), 2), r["spacing"], r["outlet"]
    length = spacing * (count - 1)
    r.d.box(-size, -spacing * 0.25, length + 2 * size, spacing * 0.25, "part")
    r.fan(-size, -spacing * 0.125, spacing * 0.25)
    for outlet in range(count):
        x = outlet * spacing
        r.d.box(x - size / 2, 0, size, spacing * 0.15)
        r.d.arrows.append(Arrow((x, spacing * 0.18), (x, spacing * 0.42)))
        r.d.notes.append(Note((x, spacing * 0.5), str(outlet + 1)))
    r.sensor("air_speed", 0, spacing * 0.28)
    r.dimension("spacing", (0, -spacing * 0.25), (spacing, -spacing * 0.25), "below")
    r.dimension(
        "outlet",
        (length - size / 2, -spacing * 0.25),
        (length + size / 2, -spacing * 0.25),
        "below",
        1,
        "⌀ ",
    )


def _vibration(r: _Rig) -> None:
    base, height, off = r["base"], r["shaft_height"], r["sensor_from_axis"]
    r.d.box(-base / 2, -0.08 * base, base, 0.08 * base, "mount")
    for x in (-0.35, 0.35):
        if r["flexible"] >= 0.5:
            r.d.line(
                *(
                    (x * base + 0.02 * base * (-1) ** i, -0.08 * base - 0.02 * base * i)
                    for i in range(6)
                ),
                layer="thin",
            )
        else:
            r.d.box(x * base - 0.04 * base, -0.18 * base, 0.08 * base, 0.1 * base, "thin")
    r.d.box(-0.05 * base, 0, 0.1 * base, height, "mount")
    r.d.circle((0, height), 0.06 * base, "part")
    r.d.circle((0, height), 0.34 * base, "space")
    r.d.line((-0.45 * base, height), (0.45 * base, height), layer="axis")
    r.sensor("vibration", off, height)
    r.sensor("speed", -0.34 * base, height + 0.1 * base)
    r.dimension("base", (-base / 2, -0.18 * base), (base / 2, -0.18 * base), "below")
    r.dimension("shaft_height", (base / 2, 0), (base / 2, height), "right")
    r.d.notes.append(Note((0, height + 0.4 * base), "part, behind its guard"))


_DRAW: dict[str, Callable[[_Rig], None]] = {
    "tunnel": _tunnel,
    "chamber": _chamber,
    "scale": _scale,
    "flow_bench": _flow_bench,
    "hot_block": _hot_block,
    "sound_spot": _sound_spot,
    "power": _power,
    "drive": _drive,
    "free_room": _free_room,
    "bag_fill": _bag_fill,
    "lift": _lift,
    "panel": _panel,
    "outlets": _outlets,
    "vibration": _vibration,
}


def rig_drawing(kind: str, constants: Mapping[str, tuple[float, float]]) -> Drawing:
    """The diagram of a rig.

    Parameters
    ----------
    kind : key in `RIGS`
    constants : name -> (value, standard uncertainty) [SI], free of `rigs.check_constants` problems
    """
    rig = _Rig(RIGS[kind], constants)
    _DRAW[kind](rig)
    return rig.d
