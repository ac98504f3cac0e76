"""Rounds 6 and 7: every rig and way of testing once, recorded live on the virtual bench or read by
hand, one rotor against the reference.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from functools import lru_cache
from typing import NamedTuple
from uuid import UUID

import numpy as np

from hauch.bench.models import Recording, Run
from hauch.bench.observations import observe
from hauch.bench.runs import NewRun, Room, Subject, Typed, finish_run, make_run, record_run
from hauch.bench.traces import store
from hauch.core.geometry.envelope import Envelope
from hauch.core.measure.channels import CHANNELS as CHANNELS_KNOWN
from hauch.core.measure.tunnel import LOG_LINEAR
from hauch.core.rig import Bench, Loft140
from hauch.core.rig.live import CHANNELS, LiveRig
from hauch.core.rig.sound import Recorder, Voice
from hauch.core.sound.analysis import Given, analyse
from hauch.core.sound.naming import Sources, Turning
from hauch.core.trace.source import Held
from hauch.demo.stores import SPIN, START, members, people, uid
from hauch.entries.models import Entry, Version
from hauch.people.models import User
from hauch.rounds.actions import remember_brief
from hauch.rounds.models import Round, RuleTerm, RuleVersion, Setting, Test, TestReference
from hauch.stores.models import ReferenceSpecimen, Rig
from hauch.verdict.judging import refresh
from hauch.workshop.models import Specimen

RATE = 10.0
"""Ticks a second of the demo's recordings."""
BEGINS = START + timedelta(days=70)
ROOM = Room(21.2, 96_300.0, 50.0)

Window = tuple[float, float]
Session = tuple[list[Window], dict[str, list[float]]]

SHREDDER = "Leaf shredder on a brake"
TestRow = tuple[str, str, str, str, float | None]
EVERY_RIG: list[TestRow] = [
    ("curve", "Fan curve before six trays", "fan_curve", "Plenum box", 1900.0),
    ("loss", "Loss of the tray stack at 108 m³/h", "loss_at_flow", "Cellar flow bench", None),
    ("air_w", "Air at equal power", "flow_at_power", "Tunnel in the east gable", None),
    ("shaft", "Shaft power against speed", "shaft_curve", "Belt drive in the loft", 1500.0),
    ("heat", "Thermal resistance of the hot block", "thermal_resistance", "Hot block", None),
    ("thrust", "Thrust on the scale", "thrust", "Scale under the stairs", None),
    ("shake", "Vibration at the bearing", "vibration", "Bearing stand", None),
    ("quiet", "Noise at 1 m", "sound_level", "Sound spot behind the stairs", None),
    *(
        (key, label, procedure, "Sound spot behind the stairs", None)
        for key, label, procedure in (
            ("rated", "Noise with tones", "rating_level"),
            ("loud", "Loudness", "loudness"),
            ("sharp", "Sharpness", "sharpness"),
            ("tone", "Worst tone", "worst_tone"),
            ("ears", "Pleasantness by blind listeners", "listeners"),
        )
    ),
    ("hush", "Noise at 140 m³/h", "noise_at_flow", "Tunnel in the east gable", None),
    ("gap", "Hover gap under 1.5 kg", "hover_gap", "Cushion board", None),
    ("walk", "Airflow by a traverse", "airflow", "Tunnel in the east gable", None),
    ("area", "Effective area of the tray stack", "effective_area", "Cellar flow bench", None),
    ("plate", "Pressure on the scale", "plate_pressure", "Scale under the stairs", 1900.0),
    ("belt", "Shaft power at 1,500 1/min", "shaft_power", "Belt drive in the loft", 1500.0),
    ("mass", "Mass of the rotor", "part_mass", "Scale, printer and bill", None),
    ("print", "Print time", "print_time", "Scale, printer and bill", None),
    ("cost", "Material and screws", "part_cost", "Scale, printer and bill", None),
    ("out", "Power of the shredder that draws through it", "power_delivered", SHREDDER, None),
    ("pull", "Torque of the shredder", "torque_delivered", SHREDDER, None),
    ("peak", "Highest power of the shredder", "peak_power", SHREDDER, None),
    ("looks", "Look of the dried leaves, ranked", "panel_places", "Leaf table", None),
]
"""Key, label, procedure, rig, common speed."""
AT_NIGHT: list[TestRow] = [
    ("night", "Air at equal noise", "flow_at_noise", "Tunnel in the east gable", None)
]


def _steps(
    rig: LiveRig, levels: list[float], hold: float, turn: Callable[[LiveRig, float], None]
) -> None:
    for level in levels:
        turn(rig, level)
        rig.advance(rig.tick / rig.rate + hold)


def _throttle(rig: LiveRig, level: float) -> None:
    rig.set_throttle(level)


def _damper(rig: LiveRig, level: float) -> None:
    rig.damper = level


def _drive(rig: LiveRig, key: str, name: str) -> Session:
    """What is done on a rig in a test; gives the readings that were taken and what was read without
    the part.
    """
    beside: dict[str, list[float]] = {}
    if key in {"shaft", "belt"}:
        rig.mount("")
        _steps(rig, [40, 50, 60, 70, 80, 90] if key == "shaft" else [100], 12.0, _throttle)
        beside["tare"] = [6.0, rig.tick / rig.rate]
        rig.set_throttle(0.0)
        rig.advance(rig.tick / rig.rate + 8)
    if key in {"quiet", "night", "hush"}:
        rig.advance(rig.tick / rig.rate + 8)
        beside["background"] = [1.0, 7.0]
    rig.mount(name)
    if key == "curve":
        rig.set_throttle(100.0)
        rig.advance(rig.tick / rig.rate + 6)
        _steps(rig, [30.0, 12.0, 6.0, 3.0, 1.6, 1.0, 0.6, 0.35], 12.0, _damper)
        return [], beside
    if key in {"loss", "air_w", "shaft", "night", "hush"}:
        _steps(
            rig,
            [40, 50, 60, 70, 80, 90, 100] if key != "shaft" else [40, 50, 60, 70, 80, 90],
            12.0,
            _throttle,
        )
        return [], beside
    rig.set_throttle(100.0)
    seconds = rig.tick / rig.rate + (760 if key == "heat" else 24)
    rig.advance(seconds)
    end = rig.tick / rig.rate - rig.began / rig.rate
    return [(end - 14.0 + 5 * i, end - 10.0 + 5 * i) for i in range(3)], beside


READ_OFF = {"mass": (0.0412, 0.0356), "print": (20_400.0, 17_100.0), "cost": (2.35, 1.9)}
"""What the reference and the entry's part weigh [kg], print [s] and cost."""


BRAKED = ("out", "pull", "peak")
"""Tests of a machine that draws through the part, read at steps of the brake."""


RANKED = {"ears": 6, "looks": 5}
"""Tests that people rank, and how many of them do."""

HEARD = ("rated", "loud", "sharp", "tone", *RANKED)
"""Tests of what a recording tells, and of how people rank it."""


@lru_cache(maxsize=2)
def _told(name: str, thin: bool) -> dict[str, float]:
    """What a recording of a part at the sound spot tells, by channel."""
    recorder = Recorder(Bench(seed=146))
    full = recorder.microphone.full
    room, _ = analyse(recorder.room("rigs"), recorder.microphone.rate, Given(full))
    voice = Voice(tones=(12.0, 18.0, 22.0)) if thin else Voice()
    sources = Sources((Turning(voice.blades, voice.speed),))
    samples = recorder.part(voice, Loft140.level - 1.0 * thin, name)
    told, _ = analyse(samples, recorder.microphone.rate, Given(full, sources, background=room))
    return {
        "sound_level": told.weighted["A"].mean,
        "background_level": room.weighted["A"].mean,
        "loudness": told.loudness or 0.0,
        "sharpness": told.sharpness or 0.0,
        "tonal_adjustment": told.adjustment,
        "tone_audibility": told.audibility,
    }


def _heard(
    test: Test, name: str, thin: bool, random: np.random.Generator
) -> tuple[dict[str, np.ndarray], list[int]]:
    """Readings of what a recording tells; or the places of some people who rank two parts."""
    if (count := RANKED.get(test.key)) is not None:
        first = random.random(count) < (0.8 if thin else 0.3)
        (channel,) = test.how.needs[0]
        return {channel: np.where(first, 25.0, 75.0)}, list(range(1, count + 1))
    told = _told(name, thin)
    return {c: np.array([round(told[c], 3)]) for c in test.how.needs[0]}, [0]


def _typed(
    who: User, test: Test, what: Specimen | ReferenceSpecimen, number: int, begins: datetime
) -> Run:
    """One run by hand: a gap gauge at three places, a traverse of the tube on one diameter, a machine
    that is braked step by step, or what is read off scale, printer and bill.
    """
    random = np.random.default_rng(6100 + number)
    better = 1.04 if isinstance(what, Specimen) else 1.0
    if test.key in READ_OFF:
        values, positions = np.array([READ_OFF[test.key][better > 1]]), [0]
    elif test.key == "gap":
        values, positions = (
            np.round(0.0042 * better + 0.00005 * random.standard_normal(3), 5),
            [0, 0, 0],
        )
    else:
        shape = (1 - np.array(LOG_LINEAR[3])) ** (1 / 8.6)
        speeds = 4.16 * better * np.concatenate([shape[::-1], shape])
        values, positions = (
            np.round(speeds * (1 + 0.004 * random.standard_normal(6)), 2),
            list(range(1, 7)),
        )
    read = {test.how.needs[0][0]: values}
    if test.key in HEARD:
        read, positions = _heard(test, str(what), better > 1, random)
    if test.key in BRAKED:
        speeds = np.arange(2500.0, 5501.0, 500.0)
        power = 900.0 - 1.5 * ((speeds - 4300.0) / 100) ** 2
        torque = power * (1 + (better - 1) / 4) / (2 * np.pi * speeds / 60)
        torque *= 1 + 0.003 * random.standard_normal(speeds.size)
        read = {"torque": np.round(torque, 3), "speed": speeds}
        positions = list(range(1, speeds.size + 1))
    typed = {
        channel: [
            Typed(float(v), f"{v:g}", CHANNELS_KNOWN[channel].unit, p)
            for v, p in zip(values, positions, strict=True)
        ]
        for channel, values in read.items()
    }
    key = _uid("run", test, str(what), number)
    subject = Subject(specimen=what) if isinstance(what, Specimen) else Subject(reference=what)
    return record_run(
        who,
        NewRun(
            test,
            subject,
            ROOM,
            begins + timedelta(hours=0.5 * number),
            typed,
            uid=key,
            form_key=key,
        ),
    )


def _trace(
    who: User, test: Test, what: Specimen | ReferenceSpecimen, number: int, begins: datetime
) -> Run:
    """One recorded run."""
    name = what.version.entry.name if isinstance(what, Specimen) else str(what)
    rig = LiveRig(seed=6000 + number, rate=RATE)
    rig.start(0.0)
    windows, beside = _drive(rig, test.key, name)
    if test.key == "thrust" and isinstance(what, Specimen):  # one fault to be found by itself
        rig.kept[CHANNELS.index("scale_mass"), 60] += 0.2
    columns = [c for c in CHANNELS if test.rig.meters.filter(channel=c).exists() and c != "speed_2"]
    first, _ = rig.since("speed", -1)
    rows = np.column_stack([rig.since(c, -1)[1] for c in columns])
    at = begins + timedelta(hours=0.5 * number)
    recording = Recording.objects.create(
        uid=_uid("recording", test, name, number),
        round=test.round,
        started_at=at,
        columns=columns,
        rate=RATE,
    )
    store(
        recording,
        Held(np.arange(first, first + len(rows)) / RATE, dict(zip(columns, rows.T, strict=True))),
    )
    key = _uid("run", test, name, number)
    subject = Subject(specimen=what) if isinstance(what, Specimen) else Subject(reference=what)
    run = make_run(who, NewRun(test, subject, ROOM, at, uid=key, form_key=key), recording)
    run.windows, run.beside = [[round(a, 2), round(b, 2)] for a, b in windows], beside
    run.save(update_fields=["windows", "beside"])
    return finish_run(run)


def _uid(kind: str, test: Test, name: str, number: int) -> UUID:
    again = [str(number)] if test.repeats > 1 and number > 1 else []
    return uid(kind, "rigs", test.key, name, *again)


class RigRound(NamedTuple):
    """A round with one entry."""

    number: int
    slug: str
    title: str
    question: str
    may_vary: str
    equal: tuple[str, float]
    safety: str
    tests: list[TestRow]
    entry: tuple[str, str, str]
    """Name, story, code of its specimen."""
    times: int = 1
    """How often each test was run."""


EVERY_RIG_ONCE = RigRound(
    6, "every-rig-once", "Every rig once", "What does one rotor do on every rig of the loft, against the Loft-140?", "Nothing: it is a check of the rigs.",
    (Round.Equal.POWER, 2.5), f"{SPIN} The heater has a thermal cut-out and is never left alone.", EVERY_RIG, ("Zeisig", "A thin blade for thin air.", "Z-01"),
)  # fmt: skip
NIGHT = RigRound(
    7, "at-night", "At night", "Which rotor moves most air at 44 dB(A), so that the loft's neighbours sleep?", "The rotor only.",
    (Round.Equal.NOISE, 44.0), SPIN, AT_NIGHT, ("Grille", "Slow and wide: heard by nobody.", "G-01"), 3,
)  # fmt: skip


def load_rigs() -> None:
    """Both rounds with their runs."""
    who = people()
    for plan in (EVERY_RIG_ONCE, NIGHT):
        load_round(who, plan)


def load_round(who: dict[str, User], plan: RigRound) -> None:
    """One round, each of its tests run in turn with the reference and the entry's part."""
    begins = BEGINS + timedelta(days=plan.number - 6)
    round = Round.objects.create(
        uid=uid("round", plan.number),
        slug=plan.slug,
        number=plan.number,
        title=plan.title,
        place="Quellmoos Drying Loft",
        part="rotor",
        question=plan.question,
        may_vary=plan.may_vary,
        equal=plan.equal[0],
        equal_value=plan.equal[1],
        envelope=Envelope.from_json("rotor", {}).as_json(),
        state=Round.State.BENCH,
        safety=plan.safety,
        created_at=begins - timedelta(days=8),
    )
    members(round, who)
    setting = Setting.objects.create(round=round, label="As agreed", values={})
    Setting.objects.create(
        round=round, label="Hanging, axis upright", values={"orientation": "axis upright"}
    )
    reference = ReferenceSpecimen.objects.get(serial="L-02", type__name="Loft-140")
    rules = RuleVersion.objects.create(
        round=round,
        number=1,
        scheme=RuleVersion.Scheme.POINTS if len(plan.tests) > 1 else RuleVersion.Scheme.SINGLE,
        created_by=who["runa"],
        created_at=begins - timedelta(days=8),
    )
    tests = []
    for order, (key, label, procedure, rig, speed) in enumerate(plan.tests, start=1):
        test = Test.objects.create(
            round=round,
            key=key,
            label=label,
            procedure=procedure,
            rig=Rig.objects.current().get(name=rig),
            setting=setting,
            order=order,
            repeats=plan.times,
            readings=3,
            common_speed=speed,
            baseline=2.0,
            resolution=0.5 if key == "heat" else None,
            soak=Test.Soak.SETTLED if key == "heat" else Test.Soak.NONE,
        )
        TestReference.objects.create(test=test, specimen=reference, since=begins)
        tests.append(test)
        RuleTerm.objects.create(rules=rules, test=test, weight=1.0)
    rules.tests.set(tests)
    remember_brief(round, rules)
    name, story, code = plan.entry
    entry = Entry.objects.create(
        uid=uid("entry", name),
        round=round,
        name=name,
        designer_name="Alma",
        story=story,
        mark=3,
        submitted_at=begins - timedelta(days=5),
    )
    version = Version.objects.create(
        uid=uid("version", name, 1),
        entry=entry,
        number=1,
        changed="First print.",
        created_at=entry.submitted_at,
    )
    specimen = Specimen.objects.create(
        uid=uid("specimen", name),
        version=version,
        code=code,
        material="PETG",
        mass=0.0356,
        state=Specimen.State.READY,
        cap=4200.0,
    )
    for turn, test in enumerate(tests):
        take = _typed if test.key in {"gap", "walk", *READ_OFF, *BRAKED, *HEARD} else _trace
        for repeat in range(plan.times):
            number = 2 * (turn + repeat * len(tests))
            take(who["odo"], test, reference, number, begins)
            run = take(who["odo"], test, specimen, number + 1, begins)
        if test.key == "shake":
            observe(
                who["odo"],
                round,
                run=run,
                text="A faint hum at the frame, gone when held.",
                tags=["vibration"],
                at_s=12.0,
            )
    refresh(rules)
