"""Usual rounds to start a brief from. Everything in them can be changed afterwards."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

SPIN = (
    "Printed rotors can burst. Run behind the guard, wear eye protection, stand out of the plane of"
    " the rotor, start low."
)
HEAT = "The heater has a thermal cut-out and is never left alone."


@dataclass(frozen=True, slots=True)
class StartTest:
    """One test of a start: what it is called, how it is measured, what it counts for, and at which
    setting where that is not the round's usual one.
    """

    key: str
    label: str
    procedure: str
    weight: float | None = None
    most_loss: float | None = None
    options: dict[str, Any] = field(default_factory=dict)
    setting: str = ""


@dataclass(frozen=True, slots=True)
class Start:
    """A usual round."""

    key: str
    label: str
    part: str
    question: str
    tests: tuple[StartTest, ...]
    scheme: str = "weighted_percent"
    may_vary: str = ""
    safety: str = SPIN
    fields: dict[str, Any] = field(default_factory=dict)
    level_as: str = "level"


STARTS: dict[str, Start] = {
    start.key: start
    for start in (
        Start(
            "airflow", "Most air from a rotor", "rotor", "Which rotor moves most air?",
            (StartTest("air", "Air through the tunnel", "airflow", 1, options={"readings": 10}),), "best_single",
            "The rotor only: frame and motor of the reference stay.",
        ),
        Start(
            "pressure", "Most static pressure", "rotor", "Which rotor holds most static pressure?",
            (
                StartTest("pressure", "Static pressure", "static_pressure", 2, options={"readings": 8}),
                StartTest("air", "Air through the tunnel", "airflow", 1, options={"readings": 10}),
            ),
            may_vary="The rotor only: frame and motor of the reference stay.",
        ),
        Start(
            "cooling", "Cooling and noise", "rotor", "Which rotor cools best for its noise?",
            (
                StartTest("rise", "Temperature rise of the hot block", "temperature_rise", 1,
                          options={"readings": 1, "soak": "settled", "resolution": 0.5}),
                StartTest("noise", "Noise at 1 m", "sound_level", 1, options={"readings": 6, "reporting_distance": 1.0, "baseline": 0.5}),
            ),
            "sum", "The rotor only: frame and motor of the reference stay.", f"{SPIN} {HEAT}",
        ),
        Start(
            "intake", "Least restriction of an intake", "intake", "Which intake lets most air through?",
            (
                StartTest("area", "Effective area on the flow bench", "effective_area", 1, options={"readings": 6}),
                StartTest("noise", "Noise at 1 m", "sound_level", None, 1.0, {"readings": 6, "reporting_distance": 1.0, "baseline": 0.5}),
            ),
            "constraint", "Everything before the mounting plate.",
            "The suction source pulls in loose parts: guard it. Ear protection above 85 dB(A).",
        ),
        Start(
            "ring", "Bladeless ring at equal power", "ring", "Does the ring move more air over the table than an open fan at the same power?",
            (
                StartTest("jet", "Air speed at 1 m", "jet_speed", 1, options={"readings": 18}),
                StartTest("bag", "Air into the bag", "bag_flow", 1, options={"readings": 3}),
                StartTest("noise", "Noise at 1 m", "sound_level", 1, options={"readings": 6, "reporting_distance": 1.0, "baseline": 0.5}),
                StartTest("power", "Electrical power", "electrical_power", options={"readings": 6}),
            ),
            "front", "Ring, neck and diffuser; the fan and its motor stay.", SPIN, {"equal": "power", "equal_value": 6.0},
        ),
        Start(
            "outlets", "Even air from several outlets", "duct", "Which splitter brings even air to every outlet?",
            (
                StartTest("balance", "Balance of the outlets", "imbalance", 1, options={"readings": 9, "baseline": 2.0}),
                StartTest("panel", "Points of the panel", "panel_points", 0.5, options={"readings": 5, "baseline": 0.5}),
            ),
            "rank_points", "The duct from the mounting plate to the outlets.", f"{SPIN} The panel judges blind.",
        ),
        Start(
            "shaft", "Least shaft power", "rotor", "Which rotor takes least shaft power for the same air?",
            (
                StartTest("shaft", "Shaft power", "shaft_power", 1, options={"readings": 6}),
                StartTest("air", "Air through the tunnel", "airflow", None, 2.0, {"readings": 10}),
            ),
            "constraint", "Rotor and shroud; shaft and belt stay.", f"{SPIN} Belts and shafts catch: cover them.", {"equal": "duty"},
        ),
    )
}  # fmt: skip
