"""What a search for a better rotor moves, what it aims at, and what it must keep."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from hauch.core.geometry.fit import misfits
from hauch.core.predict.model import CannotBe
from hauch.core.predict.optimise import Found, front
from hauch.core.predict.optimise import Search as Run
from hauch.core.predict.rotor import sound_power
from hauch.desk.tools.base import Setting
from hauch.desk.tools.rotor_ducted import duty_of
from hauch.desk.tools.rotor_held import speed_limit
from hauch.desk.tools.rotor_inputs import blading, extent


@dataclass(frozen=True, slots=True)
class Aim:
    """An aim: its name, kind of figure, whether more is better, and what stands against it on the
    front.
    """

    key: str
    label: str
    kind: str
    more: bool
    against: str


AIMS: dict[str, Aim] = {
    a.key: a
    for a in (
        Aim("flow", "Most airflow at the duty", "volume_flow", True, "power"),
        Aim("pressure", "Most static pressure at the duty", "pressure", True, "power"),
        Aim("efficiency", "Best efficiency", "percent", True, "sound"),
        Aim("sound", "Least sound (rough proxy)", "decibel", False, "flow"),
    )
}
FIGURES = {
    "flow": ("volume_flow", True),
    "pressure": ("pressure", True),
    "efficiency": ("percent", True),
    "sound": ("decibel", False),
    "power": ("power", False),
}
"""What a candidate is told by: kind, and whether more is better."""

MOVED = (
    "pitch_hub",
    "pitch_mid",
    "pitch_tip",
    "chord_hub",
    "chord_mid",
    "chord_tip",
    "camber_hub",
    "camber_tip",
)
"""The eight parameters: pitch and chord at hub, middle and tip, camber at hub and tip."""
ROUNDS = 30
"""Rounds of the search; each judges two candidates for each parameter."""
STATIONS, FLOWS = 9, 9
"""Coarser than the curve on the page: within 1 % of it, several times as fast."""


def bounds_of(
    values: Mapping[str, Any], envelope: Mapping[str, float]
) -> list[tuple[float, float]]:
    """Bounds of the parameters; chords so that blades stay within the depth of the envelope and do
    not cover one another at the hub.
    """
    hub, tip = values["hub"], values["tip"]
    depth = envelope.get("depth", values["depth"] * 1.4)
    room = [math.pi * d / max(values["blades"], 1) for d in (hub, (hub + tip) / 2, tip)]
    chords = [(max(0.006, 0.25 * r), max(min(1.15 * r, 2.5 * depth), 0.3 * r)) for r in room]
    pitches = [
        (math.radians(low), math.radians(high)) for low, high in ((20, 65), (14, 50), (10, 40))
    ]
    return [*pitches, *chords, (1.0, 9.0), (1.0, 9.0)]


def start_of(values: Mapping[str, Any]) -> list[float]:
    """The parameters of a design."""
    pitch, chord, camber = values["pitch"], values["chord"], values["camber"]
    return [pitch[0], pitch[2], pitch[4], chord[0], chord[2], chord[4], camber[0], camber[4]]


def with_parameters(values: Mapping[str, Any], parameters: Sequence[float]) -> dict[str, Any]:
    """The design with other parameters; points between hub, middle and tip lie half way."""

    def curve(a, b, c):
        return [a, (a + b) / 2, b, (b + c) / 2, c]

    p = parameters
    return {
        **values,
        "pitch": curve(*p[0:3]),
        "chord": curve(*p[3:6]),
        "camber": curve(p[6], (p[6] + p[7]) / 2, p[7]),
    }


def compared_figures(values: Mapping[str, Any], setting: Setting) -> dict[str, float] | None:
    """The figures that a search compares; None where the design cannot be, stalls, does not meet
    its duty or would not hold.
    """
    try:
        duty, reached = duty_of(values, setting, FLOWS, STATIONS)
    except CannotBe:
        return None
    starts = reached is None or reached.starts
    if not duty.found or not starts or duty.read("stalled") > 0.15:
        return None
    speed = duty.curve.speed
    if speed > speed_limit(values, blading(values)).speed:
        return None
    flow, power, total = duty.flow, duty.shaft_power, duty.read("total")
    return {
        "flow": flow,
        "pressure": duty.read(duty.system.column),
        "power": power / (values["motor_efficiency"] / 100),
        "efficiency": 100 * flow * total / power if power > 0 else math.nan,
        "sound": sound_power(flow, total),
    }


def fits(values: Mapping[str, Any], envelope: Mapping[str, float]) -> bool:
    """Whether the rotor stays within an envelope."""
    return not envelope or not misfits(extent(values), envelope)


def search(
    values: Mapping[str, Any],
    setting: Setting,
    aim: Aim,
    limits: Mapping[str, float],
    envelope: Mapping[str, float],
    tell: Callable[[float, Found | None], bool],
    rounds: int | None = None,
) -> Run:
    """Set up a search from a design: one aim, limits on other figures (the most power, the most
    sound, the least flow).
    """

    def judge(parameters: Sequence[float]) -> tuple[float, float] | None:
        made = with_parameters(values, parameters)
        figures = compared_figures(made, setting)
        if figures is None or not fits(made, envelope):
            return None
        for key, limit in limits.items():
            if figures[key] < limit if FIGURES[key][1] else figures[key] > limit:
                return None
        sign = 1 if aim.more else -1
        other = figures[aim.against] * (-1 if FIGURES[aim.against][1] else 1)
        return sign * figures[aim.key], other

    return Run(
        bounds_of(values, envelope),
        start_of(values),
        judge,
        tell,
        ROUNDS if rounds is None else rounds,
    )


def front_of(run: Run, values: Mapping[str, Any], aim: Aim) -> list[dict[str, Any]]:
    """The trade-off front as plain data: aim, its counterpart, inputs."""
    sign, other = (1 if aim.more else -1), (-1 if FIGURES[aim.against][1] else 1)
    return [
        {
            "aim": sign * f.aim,
            "other": other * f.other,
            "inputs": with_parameters(values, f.parameters),
        }
        for f in front(run.tried)
    ]
