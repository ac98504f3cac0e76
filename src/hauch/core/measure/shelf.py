"""Meters that lie on most benches, with the ranges, resolutions and accuracies that are usual for
their kind: what a newcomer begins with until the own meter's sheet is at hand.

The figures are those that such meters state for themselves, on the careful side; they describe kinds,
no make. What is common to all readings of one meter cancels in a comparison, so that a wrong accuracy
here changes how well a figure is known by itself, not who is better.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ShelfMeter:
    """A usual meter; figures in the SI unit of its channel.

    ``accuracy`` is the limit of error, ``accuracy_share`` what is added as a share of the reading.
    """

    key: str
    label: str
    channel: str
    resolution: float
    accuracy: float
    accuracy_share: float = 0.0
    low: float | None = None
    high: float | None = None
    response_time: float | None = None
    principle: str = ""


SHELF: dict[str, ShelfMeter] = {
    meter.key: meter
    for meter in (
        ShelfMeter("vane", "Vane anemometer", "air_speed", 0.1, 0.2, 0.03, 0.4, 30.0, 1.0, "vane"),
        ShelfMeter("hot_wire", "Hot-wire anemometer", "air_speed", 0.01, 0.05, 0.04, 0.0, 25.0, 1.0, "hot_wire"),
        ShelfMeter("pitot", "Pitot tube with a digital manometer", "pitot_pressure", 1.0, 2.0, 0.01, 0.0, 3500.0, 1.0),
        ShelfMeter("manometer", "Digital manometer", "static_pressure", 1.0, 2.0, 0.01, -3500.0, 3500.0, 1.0),
        ShelfMeter("u_tube", "U-tube with water", "static_pressure", 9.8, 9.8, 0.0, -3000.0, 3000.0, 2.0),
        ShelfMeter("orifice_manometer", "Digital manometer across the orifice", "orifice_pressure", 1.0, 2.0, 0.01, 0.0, 3500.0, 1.0),
        ShelfMeter("depression_manometer", "Digital manometer at the test piece", "test_depression", 1.0, 2.0, 0.01, 0.0, 7000.0, 1.0),
        ShelfMeter("orifice_u_tube", "U-tube across the orifice", "orifice_pressure", 9.8, 9.8, 0.0, 0.0, 3000.0, 2.0),
        ShelfMeter("depression_u_tube", "U-tube at the test piece", "test_depression", 9.8, 9.8, 0.0, 0.0, 7000.0, 2.0),
        ShelfMeter("phone_sound", "Phone as sound meter", "sound_level", 0.1, 5.0, 0.0, 35.0, 95.0, 0.5),
        ShelfMeter("sound_class_2", "Sound level meter, class 2", "sound_level", 0.1, 1.4, 0.0, 30.0, 130.0, 1.0),
        ShelfMeter("wall_meter", "Power meter at the wall", "power", 0.1, 0.5, 0.01, 0.2, 3600.0, 2.0),
        ShelfMeter("supply_volts", "Display of the bench supply, volts", "voltage", 0.01, 0.05, 0.005, 0.0, 60.0, 0.5),
        ShelfMeter("supply_amps", "Display of the bench supply, amps", "current", 0.01, 0.02, 0.01, 0.0, 10.0, 0.5),
        ShelfMeter("kitchen_scale", "Kitchen scale", "scale_mass", 0.001, 0.002, 0.005, 0.0, 5.0, 1.0),
        ShelfMeter("letter_scale", "Letter scale", "scale_mass", 0.0001, 0.0003, 0.002, 0.0, 0.5, 1.0),
        ShelfMeter("stopwatch", "Stopwatch", "fill_time", 0.01, 0.2),
        ShelfMeter("probe", "Thermometer with a probe", "load_temperature", 0.1, 1.0, 0.0, -40.0, 300.0, 5.0),
        ShelfMeter("room_thermometer", "Room thermometer", "room_temperature", 0.1, 1.0, 0.0, -10.0, 50.0, 60.0),
        ShelfMeter("tachometer", "Optical tachometer", "speed", 1.0, 1.0, 0.0005, 50.0, 100_000.0, 1.0),
        ShelfMeter("load_cell", "Load cell on a lever", "torque", 0.0005, 0.001, 0.005, -2.0, 2.0, 0.5),
        ShelfMeter("intake_probe", "Thermometer before the part", "intake_temperature", 0.1, 1.5, 0.0, -40.0, 150.0, 2.0),
        ShelfMeter("intake_gauge", "Absolute pressure gauge before the part", "intake_pressure", 100.0, 500.0, 0.005, 20_000.0, 300_000.0, 0.5),
        ShelfMeter("feeler", "Feeler gauge", "gap", 0.00005, 0.00005, 0.0, 0.0, 0.02),
        ShelfMeter("accelerometer", "Accelerometer at the bearing", "vibration", 0.00005, 0.0001, 0.1, 0.0, 0.2, 1.0),
        ShelfMeter("printer_clock", "Clock of the printer", "print_time", 60.0, 60.0),
        ShelfMeter("bill", "Bill of materials", "cost", 0.01, 0.0),
        ShelfMeter("judges", "Score sheets of the judges", "panel_points", 1.0, 0.0, 0.0, 0.0, 100.0),
    )
}  # fmt: skip
"""The shelf, the most usual of each channel first."""

SAME_AS = {"background_level": "sound_level", "tare_torque": "torque"}
"""Channels that the meter of another channel reads too."""


def fitting(channel: str) -> list[ShelfMeter]:
    """Meters of the shelf for a channel, the most usual first."""
    wanted = SAME_AS.get(channel, channel)
    return [meter for meter in SHELF.values() if meter.channel == wanted]
