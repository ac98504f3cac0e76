"""What somebody wants to know of a part, and the ways to find it out: which procedure on which kind
of rig, read with what.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.measure.procedures import PROCEDURES, Procedure


@dataclass(frozen=True, slots=True)
class Way:
    """One way to find something out: a procedure and the channels that are read for it."""

    procedure: str
    channels: tuple[str, ...]
    label: str
    constants: tuple[str, ...] = ()
    """What the rig must know besides what it always needs."""

    @property
    def key(self) -> str:
        """As it stands in a form."""
        return f"{self.procedure}:{'+'.join(self.channels)}"

    @property
    def how(self) -> Procedure:
        """The procedure as the core knows it."""
        return PROCEDURES[self.procedure]


@dataclass(frozen=True, slots=True)
class Want:
    """Something to know: the question, the kinds of part for which it is usual (all where empty), and
    the ways, the most usual first.

    ``options`` are fields of the test that it becomes, ``best`` completes "Which part ...?".
    """

    key: str
    label: str
    best: str
    what: str
    ways: tuple[Way, ...]
    parts: frozenset[str] = frozenset()
    options: dict[str, object] = field(default_factory=dict)
    equal: str = ""

    def way(self, key: str) -> Way:
        """The way of a key, the most usual one where there is none of it."""
        return next((w for w in self.ways if w.key == key), self.ways[0])


def _for(kinds: str) -> frozenset[str]:
    found = frozenset(kinds.split())
    unknown = found - PART_KINDS.keys()
    if unknown:
        raise KeyError(f"no such kind of part: {unknown}")
    return found


TUBE, TUBE_PITOT = "straight tube, anemometer on its axis", "straight tube, pitot tube on its axis"
BAND = ("gear", "band_low", "band_high", "pressure_exponent", "temperature_exponent")
SPINS = "rotor wheel shroud spinning"
THROUGH = "intake silencer duct shroud plenum other"

WANTS: dict[str, Want] = {
    want.key: want
    for want in (
        Want(
            "air",
            "How much air it moves",
            "moves most air",
            "More is better",
            (
                Way("airflow", ("air_speed",), TUBE),
                Way("airflow", ("pitot_pressure",), TUBE_PITOT),
                Way("bag_flow", ("fill_time",), "a bag that is filled"),
            ),
            options={"readings": 3},
        ),
        Want(
            "pressure",
            "The pressure that it holds",
            "holds most pressure",
            "More is better",
            (
                Way("static_pressure", ("static_pressure",), "closed box with a manometer"),
                Way("plate_pressure", ("scale_mass",), "blowing onto a plate on a scale"),
            ),
            _for("rotor wheel ring plenum slit other spinning"),
            {"readings": 3},
        ),
        Want(
            "passes",
            "How easily air passes through it",
            "lets air through most easily",
            "A larger effective area is better",
            (
                Way(
                    "effective_area",
                    ("orifice_pressure", "test_depression"),
                    "flow bench: orifice and depression",
                ),
            ),
            _for(THROUGH),
            {"readings": 3},
        ),
        Want(
            "loss",
            "Pressure lost at a flow",
            "loses least pressure",
            "Less is better; several flows are read",
            (
                Way(
                    "loss_at_flow",
                    ("orifice_pressure", "test_depression"),
                    "flow bench, several flows",
                    ("agreed_flow",),
                ),
            ),
            _for(THROUGH),
            {"readings": 3},
        ),
        Want(
            "noise",
            "How loud it is",
            "is quietest",
            "Quieter is better",
            (
                Way(
                    "sound_level",
                    ("sound_level", "background_level"),
                    "sound meter at a fixed distance",
                ),
            ),
            options={"readings": 3, "baseline": 1.0},
        ),
        Want(
            "power",
            "The electrical power that it takes",
            "takes least power",
            "Less is better",
            (
                Way("electrical_power", ("power",), "power meter"),
                Way("electrical_power", ("voltage", "current"), "volts and amps"),
            ),
            options={"readings": 3},
        ),
        Want(
            "air_at_power",
            "Air at equal electrical power",
            "moves most air for its power",
            "Several throttles are read; compared at one power",
            (
                Way("flow_at_power", ("air_speed", "power"), f"{TUBE}, and a power meter"),
                Way(
                    "flow_at_power", ("air_speed", "voltage", "current"), f"{TUBE}, volts and amps"
                ),
            ),
            _for(f"{SPINS} ring slit other"),
            {"readings": 4},
            "power",
        ),
        Want(
            "air_at_noise",
            "Air at equal noise",
            "moves most air for its noise",
            "Several throttles are read; compared at one level",
            (
                Way(
                    "flow_at_noise",
                    ("air_speed", "sound_level", "background_level"),
                    f"{TUBE}, and a sound meter",
                ),
            ),
            _for(f"{SPINS} ring other"),
            {"readings": 4},
            "noise",
        ),
        Want(
            "noise_at_air",
            "Noise at equal airflow",
            "is quietest for its air",
            "Several throttles are read; compared at one flow",
            (
                Way(
                    "noise_at_flow",
                    ("air_speed", "sound_level", "background_level"),
                    f"{TUBE}, and a sound meter",
                    ("agreed_flow",),
                ),
            ),
            _for(f"{SPINS} ring other"),
            {"readings": 4},
        ),
        Want(
            "cooling",
            "How well it cools",
            "cools best",
            "A smaller temperature rise is better; read once it has settled",
            (
                Way(
                    "temperature_rise",
                    ("load_temperature", "room_temperature"),
                    "heated block with a thermometer",
                ),
            ),
            options={"readings": 1, "soak": "settled", "resolution": 0.5},
        ),
        Want(
            "reach",
            "Air speed at a distance",
            "blows farthest",
            "Faster is better; read over a grid",
            (Way("jet_speed", ("air_speed",), "anemometer over a grid in the free room"),),
            _for("rotor ring duct slit shroud other spinning"),
            {"readings": 9},
        ),
        Want(
            "even",
            "How even its outlets are",
            "is most even",
            "A smaller difference is better",
            (Way("imbalance", ("air_speed",), "anemometer before each outlet"),),
            _for("duct plenum slit other"),
            {"readings": 6, "baseline": 2.0},
        ),
        Want(
            "thrust",
            "How hard it pushes",
            "pushes hardest",
            "More is better",
            (Way("thrust", ("scale_mass",), "on a scale"),),
            _for("rotor wheel slit other spinning shroud"),
            {"readings": 3},
        ),
        Want(
            "shaft",
            "The shaft power that it takes",
            "takes least shaft power",
            "Less is better; read with and without the part",
            (
                Way(
                    "shaft_power",
                    ("torque", "tare_torque", "speed"),
                    "driven shaft with torque and speed",
                ),
            ),
            _for(SPINS),
            {"readings": 3},
        ),
        Want(
            "delivered",
            "What it does for the power of a machine",
            "lets the machine deliver most",
            "A machine that breathes through it, braked at several speeds; more is better",
            (
                Way(
                    "power_delivered",
                    ("torque", "speed"),
                    "machine on a brake, mean power over a band",
                    BAND,
                ),
                Way(
                    "torque_delivered",
                    ("torque", "speed"),
                    "machine on a brake, mean torque over a band",
                    BAND,
                ),
            ),
            _for("intake silencer duct other"),
            {"readings": 6},
        ),
        Want(
            "gap",
            "How high it hovers",
            "hovers highest",
            "More is better",
            (Way("hover_gap", ("gap",), "cushion with weights, gap by feeler gauge"),),
            _for("plenum other"),
            {"readings": 3},
        ),
        Want(
            "shake",
            "How much it shakes",
            "shakes least",
            "Less is better",
            (Way("vibration", ("vibration",), "accelerometer at the bearing"),),
            _for(SPINS),
            {"readings": 3},
        ),
        Want(
            "mass",
            "What it weighs",
            "is lightest",
            "Lighter is better",
            (Way("part_mass", ("scale_mass",), "on a scale"),),
            options={"readings": 1},
        ),
        Want(
            "print_time",
            "How long it prints",
            "prints fastest",
            "Less is better",
            (Way("print_time", ("print_time",), "as the printer tells it"),),
            options={"readings": 1},
        ),
        Want(
            "cost",
            "What it costs",
            "costs least",
            "Less is better; material, screws, magnets",
            (Way("part_cost", ("cost",), "from the bill of materials"),),
            options={"readings": 1},
        ),
        Want(
            "looks",
            "How the result looks to judges",
            "gives the best result",
            "More points are better; judges see no names",
            (Way("panel_points", ("panel_points",), "score sheets, blind"),),
            _for("duct plenum slit other"),
            {"readings": 5, "baseline": 0.5},
        ),
    )
}
"""In the order in which they are offered."""

USUAL: dict[str, tuple[str, ...]] = {
    "rotor": ("air", "noise"),
    "wheel": ("pressure", "noise"),
    "duct": ("air", "noise"),
    "ring": ("air_at_power",),
    "intake": ("passes", "noise"),
    "silencer": ("noise", "passes"),
    "shroud": ("air", "noise"),
    "plenum": ("air",),
    "slit": ("thrust",),
    "other": ("air",),
    "spinning": ("air",),
}
"""What is ticked at first, by kind of part."""


def wants_for(part: str) -> list[Want]:
    """What can be asked of a kind of part: what is usual for it first."""
    fitting = [w for w in WANTS.values() if not w.parts or part in w.parts]
    usual = USUAL[part]
    return sorted(fitting, key=lambda w: usual.index(w.key) if w.key in usual else len(usual))


def channels_read(ways: Iterable[Way]) -> list[str]:
    """All channels that some ways read, each once, in order."""
    return list(dict.fromkeys(c for way in ways for c in way.channels))
