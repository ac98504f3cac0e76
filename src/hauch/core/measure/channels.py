"""What a bench can read: channels, their units and the range in which a reading can be true."""

from __future__ import annotations

import math
from dataclasses import dataclass

from hauch.core.quantity.units import KINDS


@dataclass(frozen=True, slots=True)
class Channel:
    """One measured signal. ``low`` and ``high`` bound what can be true on a bench [SI unit of the
    kind].
    """

    key: str
    label: str
    kind: str
    low: float
    high: float
    words: tuple[str, ...] = ()
    """Lower-case words by which a logger's column may name it."""
    computed: bool = False
    """Whether it comes out of a recording, so that no meter of a rig shows it."""

    @property
    def unit(self) -> str:
        """SI unit of the readings."""
        return KINDS[self.kind].unit


CHANNELS: dict[str, Channel] = {
    channel.key: channel
    for channel in (
        Channel("air_speed", "Air speed", "air_speed", 0.0, 120.0,
                ("airspeed", "air speed", "air velocity", "velocity", "luftgeschw", "wind", "anemometer", "flow speed", "strömung", "vitesse air",
                 "vitesse de l air", "velocidad del aire", "velocità aria", "luchtsnelheid", "v air")),
        Channel("pitot_pressure", "Pitot pressure", "pressure", 0.0, 20_000.0,
                ("pitot", "dynamic pressure", "velocity pressure", "staudruck", "pression dynamique", "presión dinámica", "pressione dinamica", "stuwdruk")),
        Channel("static_pressure", "Static pressure", "pressure", -20_000.0, 20_000.0,
                ("static", "statisch", "druck", "press", "manometer", "dp", "pression statique", "presión", "druk")),
        Channel("sound_level", "Sound level", "level", 0.0, 140.0,
                ("noise", "sound", "schall", "level", "pegel", "dba", "spl", "lärm", "bruit", "ruido", "rumore", "geluid", "niveau sonore", "nivel sonoro", "livello sonoro")),
        Channel("background_level", "Background level", "level", 0.0, 140.0, ("background", "hintergrund", "ambient noise", "bruit de fond", "ruido de fondo", "fondo", "achtergrond", "fremdgeräusch")),
        Channel("loudness", "Loudness", "loudness", 0.0, 500.0, computed=True),
        Channel("sharpness", "Sharpness", "sharpness", 0.0, 20.0, computed=True),
        Channel("tonal_adjustment", "Adjustment for tones", "decibel", 0.0, 6.0, computed=True),
        Channel("tone_audibility", "Most audible tone", "decibel", -60.0, 100.0, computed=True),
        Channel("listener_place", "Place by listeners", "percent", 0.0, 100.0, computed=True),
        Channel("load_temperature", "Load temperature", "temperature", -40.0, 400.0,
                ("load temp", "prüfkörper", "prüfplatte", "platte", "plate", "block", "bloc", "probe temp", "heater", "object temp", "plaque", "placa",
                 "piastra", "plaat", "heizblock", "t load", "tplate", "t plate")),
        Channel("room_temperature", "Room temperature", "temperature", -40.0, 60.0,
                ("room", "raum", "ambient", "umgebung", "ambiante", "ambiente", "omgeving", "kamer", "zimmer", "tamb", "sala", "stanza", "pièce", "habitación")),
        Channel("voltage", "Voltage", "voltage", 0.0, 500.0, ("supply v", "supply", "volt", "spannung", "tension", "tensión", "tensione", "spanning", "voeding")),
        Channel("current", "Current", "current", 0.0, 100.0, ("supply a", "current", "amp", "strom", "courant", "corriente", "corrente", "stroom")),
        Channel("power", "Electrical power", "power", 0.0, 10_000.0, ("power", "watt", "leistung", "puissance", "potencia", "potenza", "vermogen")),
        Channel("speed", "Speed", "rotational_speed", 0.0, 120_000.0,
                ("rpm", "fan speed", "drehzahl", "tach", "rotor speed", "speed", "vitesse de rotation", "régime", "velocidad de giro", "giri", "toerental", "umdrehung")),
        Channel("speed_2", "Speed of rotor 2", "rotational_speed", 0.0, 120_000.0, ("rpm 2", "rpm2", "speed 2", "drehzahl 2")),
        Channel("speed_3", "Speed of rotor 3", "rotational_speed", 0.0, 120_000.0, ("rpm 3", "rpm3", "speed 3", "drehzahl 3")),
        Channel("speed_4", "Speed of rotor 4", "rotational_speed", 0.0, 120_000.0, ("rpm 4", "rpm4", "speed 4", "drehzahl 4")),
        Channel("vibration", "Vibration velocity", "vibration", 0.0, 0.5, ("vibration", "schwing", "vib")),
        Channel("orifice_pressure", "Pressure across the orifice", "pressure", 0.0, 20_000.0, ("orifice", "blende", "flow dp")),
        Channel("test_depression", "Depression at the test piece", "pressure", 0.0, 20_000.0, ("depression", "test pressure", "unterdruck")),
        Channel("torque", "Shaft torque", "torque", -50.0, 50.0, ("torque", "drehmoment", "couple", "coppia", "koppel", "par motor")),
        Channel("intake_temperature", "Temperature before the part", "temperature", -40.0, 200.0, ("intake temp", "ansaugtemp", "inlet temp")),
        Channel("intake_pressure", "Pressure before the part", "air_pressure", 20_000.0, 400_000.0, ("intake pressure", "ansaugdruck", "inlet pressure")),
        Channel("tare_torque", "Torque without the part", "torque", -50.0, 50.0, ("tare",)),
        Channel("scale_mass", "Scale", "mass", -100.0, 100.0, ("scale", "waage", "mass", "weight", "gewicht", "masse", "masa", "massa", "poids", "peso", "bilancia", "weegschaal", "báscula")),
        Channel("fill_time", "Time to fill the bag", "time", 0.05, 3600.0, ("fill",)),
        Channel("gap", "Hover gap", "length", 0.0, 0.2, ("gap", "spalt")),
        Channel("panel_points", "Points of the panel", "points", 0.0, 100.0, ("panel", "points", "punkte")),
        Channel("panel_place", "Place by the panel", "percent", 0.0, 100.0, computed=True),
        Channel("print_time", "Print time", "duration", 1.0, 3.6e6, ("print time", "druckzeit")),
        Channel("cost", "Cost", "number", 0.0, 1e6, ("cost", "price", "kosten", "preis")),
        Channel("reading", "Reading", "number", -1e9, 1e9),
        Channel("reading_2", "Second reading", "number", -1e9, 1e9),
        Channel("reading_3", "Third reading", "number", -1e9, 1e9),
        Channel("throttle", "Throttle", "percent", 0.0, 100.0, ("throttle", "pwm", "duty", "stellung", "gashebel", "drossel", "gaz", "acelerador")),
    )
}  # fmt: skip

SPEEDS = tuple(key for key, channel in CHANNELS.items() if channel.kind == "rotational_speed")
"""Channels of rotors, the first one first."""

AMBIENT = {
    "temperature": Channel("temperature", "Room temperature", "temperature", -40.0, 60.0),
    "pressure": Channel("pressure", "Air pressure", "air_pressure", 50_000.0, 120_000.0),
    "humidity": Channel("humidity", "Relative humidity", "percent", 0.0, 100.0),
}
"""Room readings that go with every run."""


class ReadingImpossible(ValueError):
    """A reading that cannot be true, with the channel, the value and the range."""


def check_reading(channel: Channel, value: float) -> float:
    """The value if it can be true [SI unit of the channel].

    Raises
    ------
    ReadingImpossible : for NaN, infinity or a value outside the channel's range
    """
    unit = KINDS[channel.kind].unit
    if not math.isfinite(value):
        raise ReadingImpossible(
            f"{channel.label}: “{value}” is not a reading. Type a number in {unit}."
        )
    if not channel.low <= value <= channel.high:
        raise ReadingImpossible(
            f"{channel.label}: {value:.6g} {unit} cannot be; a bench reads between {channel.low:g}"
            f" and {channel.high:g} {unit}. Check the sign, the decimal mark and the unit."
        )
    return value


FOLLOWS = frozenset(
    (
        "air_speed",
        "pitot_pressure",
        "static_pressure",
        "orifice_pressure",
        "test_depression",
        "current",
        "power",
        "scale_mass",
        "torque",
        "vibration",
    )
)
"""Channels that show nothing, or what they show at rest, only while the part stands still. Sound
does not belong here: a room may drown the part.
"""
