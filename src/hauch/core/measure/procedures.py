"""Procedures: what each way of testing must be given, and the reduction that makes its comparable
figure.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from hauch.core.measure import reductions, sweeps
from hauch.core.measure.channels import SPEEDS
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Quantity


@dataclass(frozen=True, slots=True)
class Procedure:
    """A way to test: the rig it needs, what is read and the figure it gives.

    ``needs`` lists alternatives: one whole group of channels must be there. ``log`` says whether
    figures are compared as ratios (True) or as differences (False), and ``change_unit`` in what a
    change is then told. ``places`` marks procedures that read a row of places, as many as the rig's
    constant ``places`` says.
    """

    key: str
    label: str
    short: str
    rig: str
    needs: tuple[tuple[str, ...], ...]
    metric: str
    kind: str
    direction: int
    log: bool
    reduce: Callable[[RunInput], Quantity]
    optional: tuple[str, ...] = ("speed",)
    change_unit: str = "%"
    places: bool = False
    by_speed: bool = True
    """Whether the figure can be converted to a common speed."""
    curve: Callable[[RunInput], sweeps.Curve] | None = None
    """The curve of a procedure that reads the points of a sweep; None where one state is read."""
    equal: str = ""
    """Channel that the round holds equal for this figure: power or sound level."""

    @property
    def by_point(self) -> bool:
        """Whether it reads the points of a sweep."""
        return self.curve is not None


PROCEDURES: dict[str, Procedure] = {
    procedure.key: procedure
    for procedure in (
        Procedure("airflow", "Airflow in the tunnel", "Air", "tunnel", (("air_speed",), ("pitot_pressure",)), "airflow", "volume_flow", +1, True,
                  reductions.airflow, ("speed", "static_pressure")),
        Procedure("static_pressure", "Static pressure at the chamber", "Pressure", "chamber", (("static_pressure",),), "static pressure", "pressure",
                  +1, True, reductions.static_pressure),
        Procedure("plate_pressure", "Pressure on the scale", "Pressure", "scale", (("scale_mass",),), "pressure", "pressure", +1, True,
                  reductions.plate_pressure),
        Procedure("effective_area", "Restriction on the flow bench", "Area", "flow_bench", (("orifice_pressure", "test_depression"),), "effective area",
                  "area", +1, True, reductions.effective_area, (), by_speed=False),
        Procedure("sound_level", "Noise at the sound spot", "Noise", "sound_spot", (("sound_level", "background_level"),), "noise", "level", -1, False,
                  reductions.sound_level, change_unit="dB", by_speed=False),
        Procedure("temperature_rise", "Temperature rise of the hot block", "Rise", "hot_block", (("load_temperature", "room_temperature"),),
                  "temperature rise", "temperature_difference", -1, True, reductions.temperature_rise, by_speed=False),
        Procedure("electrical_power", "Electrical power", "Power", "power", (("voltage", "current"), ("power",)), "power", "power", -1, True,
                  reductions.electrical_power),
        Procedure("shaft_power", "Shaft power on the drive rig", "Shaft", "drive", (("torque", "tare_torque", "speed"),), "shaft power", "power", -1,
                  True, reductions.shaft_power, ()),
        Procedure("jet_speed", "Air speed over a grid in the free room", "Jet", "free_room", (("air_speed",),), "air speed", "air_speed", +1, True,
                  reductions.jet_speed, places=True),
        Procedure("imbalance", "Balance of the outlets", "Balance", "outlets", (("air_speed",),), "imbalance", "percent", -1, False,
                  reductions.imbalance, (), change_unit="points of %", places=True, by_speed=False),
        Procedure("bag_flow", "Flow into the bag", "Bag", "bag_fill", (("fill_time",),), "bag flow", "volume_flow", +1, True, reductions.bag_flow, (),
                  by_speed=False),
        Procedure("hover_gap", "Hover gap on the lift rig", "Gap", "lift", (("gap",),), "hover gap", "length", +1, True, reductions.hover_gap,
                  by_speed=False),
        Procedure("panel_points", "Points of a blind panel", "Panel", "panel", (("panel_points",),), "points", "points", +1, False,
                  reductions.panel_points, (), change_unit="points", places=True, by_speed=False),
        Procedure("fan_curve", "Fan curve at the chamber", "Curve", "chamber", (("static_pressure", "orifice_pressure"),), "flow at the operating point",
                  "volume_flow", +1, True, sweeps.fan_flow, ("speed", "throttle"), curve=sweeps.fan_curve),
        Procedure("loss_at_flow", "Loss at equal flow on the flow bench", "Loss", "flow_bench", (("orifice_pressure", "test_depression"),),
                  "pressure loss at equal flow", "pressure", -1, True, sweeps.loss_at_flow, ("throttle",), by_speed=False, curve=sweeps.loss_curve),
        Procedure("flow_at_power", "Airflow at equal power", "Air at W", "tunnel",
                  (("air_speed", "power"), ("air_speed", "voltage", "current"), ("pitot_pressure", "power"), ("pitot_pressure", "voltage", "current")),
                  "airflow at equal power", "volume_flow", +1, True, sweeps.flow_at_power, ("speed", "throttle", "static_pressure"), by_speed=False, curve=sweeps.power_curve,
                  equal="power"),
        Procedure("flow_at_noise", "Airflow at equal noise", "Air at dB", "tunnel",
                  (("air_speed", "sound_level", "background_level"), ("pitot_pressure", "sound_level", "background_level")),
                  "airflow at equal noise", "volume_flow", +1, True, sweeps.flow_at_noise, ("speed", "throttle", "static_pressure"), by_speed=False,
                  curve=sweeps.noise_curve, equal="sound_level"),
        Procedure("shaft_curve", "Shaft power against speed", "Shaft", "drive", (("torque", "tare_torque", "speed"),), "shaft power", "power", -1, True,
                  sweeps.shaft_power_at_speed, ("throttle",), curve=sweeps.shaft_curve),
        Procedure("thermal_resistance", "Thermal resistance of the hot block", "R_th", "hot_block", (("load_temperature", "room_temperature"),),
                  "thermal resistance", "thermal_resistance", -1, True, reductions.thermal_resistance, ("power", "speed"), by_speed=False),
        Procedure("thrust", "Thrust on the scale", "Thrust", "scale", (("scale_mass",),), "thrust", "force", +1, True, reductions.thrust),
        Procedure("vibration", "Vibration at the bearing", "Vibration", "vibration", (("vibration",),), "vibration velocity", "vibration", -1, True,
                  reductions.vibration, by_speed=False),
    )
}  # fmt: skip


def channels_of(procedure: Procedure) -> tuple[str, ...]:
    """All channels that a procedure can use, in order."""
    read = [c for group in procedure.needs for c in group] + list(procedure.optional)
    return tuple(dict.fromkeys(read + (list(SPEEDS) if "speed" in read else [])))


def fed_by(procedure: Procedure, channels: set[str]) -> bool:
    """Whether the channels at hand are enough for the procedure."""
    return any(set(group) <= channels for group in procedure.needs)
