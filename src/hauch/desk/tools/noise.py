"""Figures of sound that rotors and wheels share."""

from __future__ import annotations

from hauch.core.predict.model import modelled
from hauch.core.predict.rotor import blade_tones, sound_power
from hauch.core.quantity import Quantity, Step
from hauch.desk.tools.base import Figure


def tone_figure(blades: int, speed: float) -> Figure:
    """Blade-passing tone at a speed [1/min]."""
    tone = blade_tones(blades, speed)[0]
    step = Step(
        "Blade-passing tone",
        "f = B n / 60",
        (("B", blades, ""), ("n", speed, "1/min")),
        tone,
        "Hz",
        "harmonics at 2 f, 3 f, …",
    )
    return Figure("tone", "Blade-passing tone", "frequency", Quantity(tone, "Hz", {}, (step,)))


def sound_figure(flow: float, total: float) -> Figure:
    """Sound power of a fan near its best point, by the rule of VDI 2081; flow [m3/s] and total
    pressure [Pa].
    """
    level = sound_power(flow, total)
    step = Step(
        "Sound power",
        "L_W = 37 + 10 lg Q + 20 lg Δp",
        (("Q", flow, "m3/s"), ("Δp", total, "Pa")),
        level,
        "dB",
        "VDI 2081-1, within 4 dB, unweighted; a stalled or whistling rotor is louder",
    )
    return Figure(
        "sound",
        "Sound power, rough",
        "decibel",
        modelled(
            level,
            "dB",
            "rotor:sound",
            "the rule VDI 2081 (within 4 dB)",
            0.0,
            (step,),
            absolute=2.0,
        ),
    )
