"""The loft's stores: meters with their calibrations, rigs with theirs, references."""

from __future__ import annotations

import uuid
from datetime import UTC, date, datetime, timedelta
from typing import Any

import numpy as np

from hauch.bench.models import Run
from hauch.bench.runs import NewRun, Room, Subject, Typed, record_run
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.tunnel import LOG_LINEAR
from hauch.core.rig import Bench
from hauch.instruments.profile import presets
from hauch.instruments.standins import DEVICES, FIRST_PORT, PER_BENCH
from hauch.people.models import User
from hauch.people.permissions import DESIGNER, HOST, OPERATOR, VIEWER
from hauch.rounds.models import Membership, Round, Setting, Test
from hauch.stores.actions import add_calibration
from hauch.stores.actions_rigs import add_rig, calibrate_rig
from hauch.stores.models import (
    Calibration,
    Instrument,
    ReferenceSpecimen,
    ReferenceType,
    Rig,
    RigCalibration,
)
from hauch.workshop.models import Specimen

START = datetime(2026, 9, 14, 8, 0, tzinfo=UTC)
NAMESPACE = uuid.UUID("6f0c7a52-6f1b-5d3e-9a4e-140140140140")
CALIBRATED = date(2026, 5, 12)
YEAR = 365

METERS: list[tuple[str, str, dict[str, Any]]] = [
    ("Vane meter V2", "air_speed",
     {"resolution": 0.01, "accuracy": 0.02, "accuracy_share": 0.015, "low": 0.3, "high": 30.0, "response_time": 1.5, "principle": "vane", "serial": "V2-0417"}),
    ("Manometer M1", "static_pressure", {"resolution": 0.1, "accuracy": 0.3, "accuracy_share": 0.01, "low": -500.0, "high": 500.0, "response_time": 0.5}),
    ("Sound level meter S1", "sound_level", {"resolution": 0.1, "accuracy": 1.0, "low": 30.0, "high": 120.0, "response_time": 1.0, "recalibrate_after": 180}),
    ("Thermometer T4, block", "load_temperature", {"resolution": 0.01, "accuracy": 0.4, "response_time": 6.0}),
    ("Thermometer T4, room", "room_temperature", {"resolution": 0.01, "accuracy": 0.4, "response_time": 6.0}),
    ("Supply P1, voltage", "voltage", {"resolution": 0.001, "accuracy": 0.01, "accuracy_share": 0.0005}),
    ("Supply P1, current", "current", {"resolution": 0.001, "accuracy": 0.002, "accuracy_share": 0.002}),
    ("Tachometer D1", "speed", {"resolution": 1.0, "accuracy": 1.0}),
    ("Torque cell Q1", "torque", {"resolution": 0.001, "accuracy": 0.01, "low": -5.0, "high": 5.0}),
    ("Motor controller C1", "throttle", {"resolution": 0.1}),
    ("Supply P1, power", "power", {"resolution": 0.01, "accuracy": 0.02, "accuracy_share": 0.003}),
    ("Manometer M2, orifice", "orifice_pressure", {"resolution": 0.1, "accuracy": 0.4, "accuracy_share": 0.01}),
    ("Manometer M2, depression", "test_depression", {"resolution": 0.1, "accuracy": 0.4, "accuracy_share": 0.01}),
    ("Kitchen scale K1", "scale_mass", {"resolution": 0.0001, "accuracy": 0.0002, "accuracy_share": 0.002}),
    ("Accelerometer A1", "vibration", {"resolution": 0.00001, "accuracy_share": 0.05}),
    ("Gap gauge G1", "gap", {"resolution": 0.00005, "accuracy": 0.0001}),
    ("Stopwatch W1", "fill_time", {"resolution": 0.01, "accuracy": 0.15}),
    ("Score cards", "panel_points", {"resolution": 0.5}),
    ("Clock of the printer", "print_time", {"resolution": 60.0, "accuracy": 60.0}),
    ("Bill of materials", "cost", {"resolution": 0.01}),
]  # fmt: skip
RING_DRIVE, RING_TABLE, RING_HANDS = (
    "Motor controller C2, at 14.4 V",
    "Packing table",
    "RIG:SUPPLY 14.4;RIG:AIR 0.27",
)
"""Rings are compared at 6 W, which the Loft-140 does not draw at 12 V; a metre away its jet has a
quarter of its speed left.
"""
VANE_POINTS = [(1.02, 1.0), (2.53, 2.5), (5.02, 5.0), (10.06, 10.0), (15.10, 15.0), (20.11, 20.0)]
"""Vane meter beside the loft's pitot tube: it showed, the standard showed [m/s]."""

Pairs = dict[str, tuple[float, float]]
RIGS: list[tuple[str, str, Pairs, list[str]]] = [
    ("Tunnel in the east gable", "tunnel",
     {"bore": (0.1252, 0.0001), "length": (1.6, 0.002), "straightener_at": (0.4, 0.002), "straightener_length": (0.08, 0.001), "cell": (0.008, 0.0002),
      "sensor_at": (1.2, 0.002), "agreed_flow": (140 / 3600, 0.0)}, ["air_speed", "speed", "voltage", "current", "sound_level", "background_level", "throttle"]),
    ("Plenum box", "chamber", {"width": (0.42, 0.001), "height": (0.42, 0.001), "depth": (0.65, 0.001), "mouth": (0.136, 0.0002), "tap_at": (0.45, 0.002),
                               "orifice": (0.08, 0.0001), "orifice_coefficient": (0.61, 0.005), "system_resistance": (23_500.0, 200.0), "system_exponent": (2.0, 0.0)},
     ["static_pressure", "orifice_pressure", "speed", "throttle"]),
    ("Sound spot behind the stairs", "sound_spot", {"distance": (1.0, 0.01), "height": (1.2, 0.01), "part_height": (1.2, 0.01), "background_at": (2.5, 0.05)},
     ["sound_level", "background_level", "speed", "throttle"]),
    ("Hot block", "hot_block", {"block_width": (0.12, 0.0005), "block_height": (0.04, 0.0005), "distance": (0.06, 0.001), "heat": (120.0, 1.0),
                                "sensor_depth": (0.012, 0.001)}, ["load_temperature", "room_temperature", "speed", "throttle"]),
    ("Bench supply", "power", {"standby_power": (0.42, 0.01), "cable_resistance": (0.04, 0.01)}, ["voltage", "current", "speed", "throttle"]),
    ("Shelf outlets", "outlets", {"places": (3.0, 0.0), "outlet": (0.07, 0.0005), "spacing": (0.3, 0.002)}, ["air_speed", "speed"]),
    ("Leaf table", "panel", {"places": (5.0, 0.0), "faces": (4.0, 0.0), "top": (10.0, 0.0)}, ["panel_points"]),
    ("Packing table", "free_room", {"distance": (1.0, 0.005), "grid_width": (0.42, 0.002), "grid_height": (0.42, 0.002), "places": (9.0, 0.0),
                                    "height": (0.95, 0.01)}, ["air_speed", "voltage", "current", "speed", "throttle"]),
    ("Herb bag", "bag_fill", {"bag_volume": (0.12, 0.001), "mouth": (0.3, 0.002)}, ["fill_time", "speed"]),
    ("Cellar flow bench", "flow_bench", {"orifice": (0.08, 0.0001), "orifice_coefficient": (0.61, 0.005), "pipe": (0.125, 0.0005), "plenum": (0.4, 0.001),
                                         "agreed_flow": (0.03, 0.0)}, ["orifice_pressure", "test_depression", "throttle"]),
    ("Scale under the stairs", "scale", {"plate_area": (0.0145, 0.0001), "stand_off": (0.1, 0.001)}, ["scale_mass", "speed", "throttle"]),
    ("Cushion board", "lift", {"cushion_area": (0.09, 0.0005), "load": (1.5, 0.002), "span": (0.3, 0.001)}, ["gap"]),
    ("Bearing stand", "vibration", {"flexible": (0.0, 0.0), "base": (0.3, 0.001), "shaft_height": (0.12, 0.001), "sensor_from_axis": (0.03, 0.001)},
     ["vibration", "speed", "throttle"]),
    ("Belt drive in the loft", "drive", {"gear": (1.0, 0.0), "arm": (0.1, 0.0002), "belt": (0.32, 0.001), "rotor": (0.4, 0.001)},
     ["torque", "tare_torque", "speed", "throttle"]),
    ("Leaf shredder on a brake", "brake", {"gear": (1.0, 0.0), "band_low": (3000.0, 0.0), "band_high": (5000.0, 0.0), "pressure_exponent": (1.2, 0.0),
                                           "temperature_exponent": (0.6, 0.0), "arm": (0.2, 0.0005)}, ["torque", "speed"]),
    ("Scale, printer and bill", "record", {"pan": (0.15, 0.001)}, ["scale_mass", "print_time", "cost"]),
]  # fmt: skip
REFERENCES: list[tuple[str, str, str, str, float, str]] = [
    ("Loft-140", "L-01", "140 mm square frame, 136 mm bore, 26 mm deep, own brushless motor, 12 V, about 1,900 1/min.", "in_use", 412.0,
     "Bearing hums since 15 September."),
    ("Loft-140", "L-02", "", "in_use", 38.0, ""),
    ("Loft-140", "L-03", "", "in_use", 0.0, "Run beside L-02 before it takes over."),
    ("Roof inlet", "I-01", "The stock inlet of the roof blower: a plain sheet-metal mouth with a leaf screen.", "in_use", 900.0, "Leaf dust settles in its screen."),
    ("Shelf splitter", "P-01", "The stock splitter: a straight box with three slots.", "in_use", 260.0, ""),
    ("Belt rotor", "B-01", "The loft fan's own sheet-metal rotor, 400 mm, driven by a belt.", "in_use", 2100.0, ""),
]  # fmt: skip
SPIN = (
    "Printed rotors can burst. Run behind the guard, wear eye protection, stand out of the plane of"
    " the rotor, start low."
)
"""The cautions of every round with a rotor."""


def uid(*parts: object) -> uuid.UUID:
    """The same identity for the same part of the demo in every installation."""
    return uuid.uuid5(NAMESPACE, "/".join(map(str, parts)))


def people() -> dict[str, User]:
    """The demo's people by username."""
    return {
        user.username: user
        for user in User.objects.filter(username__in=["runa", "odo", "alma", "veit"])
    }


def members(round: Round, who: dict[str, User]) -> None:
    """Give the demo's people their roles."""
    for username, role in (("runa", HOST), ("odo", OPERATOR), ("alma", DESIGNER), ("veit", VIEWER)):
        if username in who:
            Membership.objects.create(round=round, user=who[username], role=role)


LOOPBACK = "TCPIP0::127.0.0.1::"


def line_of(channel: str, hands: str = "") -> dict[str, Any]:
    """Resource name and profile of the simulated meter that reads a channel; nothing where none
    does. ``hands`` is done at the bench with each part.
    """
    for number, device in enumerate(DEVICES):
        if channel in device.columns:
            profile = next(
                p[channel]
                for name, p in presets().items()
                if name.startswith("stand-in") and channel in p
            )
            if "mounted" in profile and hands:
                profile["mounted"] = f"{hands};{profile['mounted'].rpartition(';')[2]}"
            return {
                "resource": f"{LOOPBACK}{FIRST_PORT + number}::SOCKET",
                "profile": profile,
            }
    return {}


def move_standins(before: int, now: int) -> int:
    """Give the meters that are simulated ones from a port on those of others; how many they are."""
    moved = []
    for meter in Instrument.objects.filter(resource__startswith=LOOPBACK):
        number = meter.resource.removeprefix(LOOPBACK).partition("::")[0]
        if now != before and number.isdigit() and 0 <= int(number) - before < PER_BENCH:
            meter.resource = f"{LOOPBACK}{int(number) - before + now}::SOCKET"
            moved.append(meter)
    return Instrument.objects.bulk_update(moved, ["resource"]) if moved else 0


def make_stores(runa: User) -> tuple[dict[str, Rig], dict[str, ReferenceSpecimen]]:
    """Meters, rigs and references; gives rigs and references by name."""
    meters: dict[str, Instrument] = {}
    for name, channel, spec in METERS:
        meters[channel] = Instrument.objects.create(
            uid=uid("meter", name), name=name, channel=channel, **spec, **line_of(channel)
        )
        if channel != "air_speed":
            Calibration.objects.create(
                uid=uid("calibration", name),
                instrument=meters[channel],
                at=CALIBRATED,
                note="As delivered.",
            )
    vane = add_calibration(
        runa,
        meters["air_speed"],
        CALIBRATED,
        VANE_POINTS,
        standard="pitot tube and manometer M1",
        standard_u=0.02,
    )
    Calibration.objects.filter(pk=vane.pk).update(uid=uid("calibration", "Vane meter V2"))
    meters |= {"background_level": meters["sound_level"], "tare_torque": meters["torque"]}
    ring_drive = Instrument.objects.create(
        uid=uid("meter", RING_DRIVE),
        name=RING_DRIVE,
        channel="throttle",
        resolution=0.1,
        **line_of("throttle", RING_HANDS),
    )
    Calibration.objects.create(
        uid=uid("calibration", RING_DRIVE),
        instrument=ring_drive,
        at=CALIBRATED,
        note="As delivered.",
    )
    rigs = {}
    for name, kind, constants, channels in RIGS:
        at_hand = meters | ({"throttle": ring_drive} if name == RING_TABLE else {})
        rigs[name] = add_rig(
            runa,
            Rig(uid=uid("rig", name), name=name, kind=kind, since=START - timedelta(days=60)),
            constants,
            {c: at_hand[c] for c in channels},
        )
    rigs["Tunnel in the east gable"] = _traverse(runa, rigs["Tunnel in the east gable"])
    types: dict[str, ReferenceType] = {}
    references = {}
    for kind, serial, description, state, hours, note in REFERENCES:
        if kind not in types:
            types[kind] = ReferenceType.objects.create(
                uid=uid("type", kind), name=kind, description=description
            )
        references[serial] = ReferenceSpecimen.objects.create(
            uid=uid("reference", serial),
            type=types[kind],
            serial=serial,
            state=state,
            hours=hours,
            note=note,
        )
    return rigs, references


def _traverse(runa: User, rig: Rig) -> Rig:
    """Four radii of a turbulent profile (one-over-n power law), and the leak of the tunnel's
    joints.
    """
    bench = Bench()
    random = bench.random("traverse")
    shape = (1 - np.array(LOG_LINEAR[5])) ** (1 / 8.6)
    centre = [5.21, 5.20, 5.23, 5.22]
    speeds = [
        [round(float(c * v * (1 + 0.004 * random.standard_normal())), 2) for v in shape]
        for c in centre
    ]
    rig = calibrate_rig(
        runa,
        rig,
        RigCalibration.Kind.TRAVERSE,
        {"method": "log_linear", "speeds": speeds, "centre": centre},
        "With L-01, six trays.",
    )
    leak = {
        "pressures": [20.0, 40.0, 80.0, 160.0],
        "flows": [0.000101, 0.000158, 0.000250, 0.000391],
    }
    rig = calibrate_rig(runa, rig, RigCalibration.Kind.BLANK_PLATE, leak, "All joints taped.")
    RigCalibration.objects.filter(rig=rig).update(at=START - timedelta(days=20))
    return rig


def room_at(bench: Bench, hours: float) -> Room:
    """Room readings as somebody would write them down."""
    air = bench.room(hours)
    return Room(round(air.temperature, 1), round(air.pressure, -1), round(air.humidity))


def take(
    who: User,
    bench: Bench,
    test: Test,
    what: Specimen | ReferenceSpecimen,
    hours: float,
    name: str,
    readings: dict[str, Any],
    places: int = 0,
    setting: Setting | None = None,
) -> Run:
    """Record a run by hand, some hours after `START`; at the setting that is scored where none is
    given.
    """
    subject = Subject(specimen=what) if isinstance(what, Specimen) else Subject(reference=what)
    typed = {
        c: [
            Typed(float(v), f"{v:g}", CHANNELS[c].unit, n % places + 1 if places else 0)
            for n, v in enumerate(values)
        ]
        for c, values in readings.items()
    }
    key = uid("run", name)
    new = NewRun(
        test,
        subject,
        room_at(bench, hours),
        START + timedelta(hours=hours),
        typed,
        uid=key,
        form_key=key,
        setting=setting,
    )
    return record_run(who, new)
