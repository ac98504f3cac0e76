"""Simulations of what is stated: how often intervals hold the truth, how often something is called
that is not there, what probabilities and limits are worth. The tests run them with few repeats,
`./hauch validation` with many; both with seeds.

Rigs, rooms and meters are drawn as their doubts say, each time anew; physics are those of the virtual
bench and one-line laws, which share no code with the reductions.
"""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any

import numpy as np
from scipy.signal import lfilter

from hauch.core.judge.band import Scatter
from hauch.core.judge.control import control_chart
from hauch.core.judge.difference import judge_difference
from hauch.core.judge.reference import Comparison, Runs, compare
from hauch.core.judge.standing import Term, rank, rank_probabilities, score
from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.run import RunInput
from hauch.core.quantity import expanded
from hauch.core.rig import Loft140
from hauch.core.rig.bench import Room
from hauch.core.rig.live import LiveRig
from hauch.core.sound.bands import courses, level
from hauch.core.sound.doubt import Level, batches, change, doubts
from hauch.core.trace.marks import find_marks, spikes
from hauch.core.trace.settle import fit_rise, fit_settling
from tests import simulated_judging as judging
from tests.core.sound.made import RATE as SOUND_RATE
from tests.core.sound.made import noise

COMMON = 1900.0
"""Speed that all figures are brought to [1/min]."""


@dataclass(frozen=True)
class Spec:
    """What is known of a meter: step, maker's limit and share of the reading, standard uncertainty
    of its slope, scatter of a reading.
    """

    resolution: float
    limit: float = 0.0
    share: float = 0.0
    slope_u: float = 0.0
    scatter: float = 0.0


SPECS = {
    "air_speed": Spec(0.01, 0.03, 0.01, 0.004, 0.04),
    "pitot_pressure": Spec(0.1, 0.3, 0.005, 0.0, 0.2),
    "static_pressure": Spec(0.1, 0.3, 0.004, 0.003, 0.2),
    "orifice_pressure": Spec(0.1, 0.5, 0.005, 0.0, 0.4),
    "test_depression": Spec(1.0, 2.0, 0.005, 0.0, 2.0),
    "scale_mass": Spec(1e-4, 2e-4, 0.001, 0.0, 2e-4),
    "load_temperature": Spec(0.01, 0.4, 0.0, 0.0, 0.05),
    "room_temperature": Spec(0.01, 0.3, 0.0, 0.0, 0.05),
    "sound_level": Spec(0.1, 0.7, 0.0, 0.0, 0.3),
    "background_level": Spec(0.1, 0.7, 0.0, 0.0, 0.4),
    "power": Spec(0.001, 0.005, 0.005, 0.0, 0.01),
    "voltage": Spec(0.001, 0.005, 0.001, 0.0, 0.003),
    "current": Spec(0.001, 0.001, 0.004, 0.0, 0.0012),
    "torque": Spec(0.001, 0.002, 0.002, 0.0, 0.002),
    "speed": Spec(1.0, 0.5, 0.0005, 0.0, 2.0),
    "fill_time": Spec(0.01, 0.02, 0.0, 0.0, 0.06),
    "gap": Spec(1e-5, 3e-5, 0.0, 0.0, 4e-5),
    "vibration": Spec(1e-5, 0.0, 0.03, 0.02, 6e-5),
}
ONE_METER = {"background_level": "sound_level", "tare_torque": "torque"}
"""Channels that are read with the meter of another one."""


class Trial:
    """One run on a rig whose constants, meters and room are off by what their doubts allow."""

    def __init__(self, random: np.random.Generator, rig: dict[str, tuple[float, float]]):
        self.random = random
        self.rig = rig
        self.true = {key: value + u * random.standard_normal() for key, (value, u) in rig.items()}
        self.room = Room(
            random.uniform(14, 32), random.uniform(95e3, 103e3), random.uniform(25, 75)
        )
        self.speed = COMMON * random.uniform(0.95, 1.05)
        self._errors: dict[str, tuple[float, float]] = {}
        self._readings: dict[str, list[float]] = {}
        self._positions: dict[str, list[int]] = {}

    @property
    def light(self) -> float:
        """Density over that of standard air."""
        return self.room.density / 1.2

    def read(self, channel: str, truth: float, count: int = 6, place: int | None = None) -> None:
        """Readings of a channel that is truly at a value."""
        one = ONE_METER.get(channel, channel)
        spec = SPECS[one]
        if one not in self._errors:
            self._errors[one] = (
                self.random.uniform(-1, 1),
                spec.slope_u * self.random.standard_normal(),
            )
        of_limit, of_slope = self._errors[one]
        shown = (truth - of_limit * (spec.limit + spec.share * abs(truth))) / (1 + of_slope)
        values = shown + spec.scatter * self.random.standard_normal(count)
        rounded = np.round(values / spec.resolution) * spec.resolution
        self._readings.setdefault(channel, []).extend(rounded.tolist())
        if place is not None:
            self._positions.setdefault(channel, []).extend([place] * count)

    def points(self, channel: str, truths: Sequence[float]) -> None:
        """The same at the points of a sweep."""
        for place, truth in enumerate(truths, 1):
            self.read(channel, truth, 4, place)

    def as_run(self, **more: Any) -> RunInput:
        """What the reduction is given: readings, what stores believe, what room instruments show."""
        random = self.random
        meters = {}
        for channel in self._readings:
            one = ONE_METER.get(channel, channel)
            spec = SPECS[one]
            meters[channel] = Meter(
                one, one, spec.resolution, spec.limit, spec.share, slope_u=spec.slope_u
            )
        return RunInput(
            "run",
            self._readings,
            meters,
            self.rig,
            "rig",
            self.room.temperature + 0.3 * random.standard_normal(),
            self.room.pressure + 100 * random.standard_normal(),
            self.room.humidity + 3 * random.standard_normal(),
            positions=self._positions,
            **more,
        )


def _fan(random: np.random.Generator):
    """A part on the reference's motor; a drive without losses of its own, which no law carries."""
    made = Loft140.changed("", flow=random.uniform(0.8, 1.2), pressure=random.uniform(0.8, 1.2))
    return replace(made, idle_power=0.0)


def _at(trial: Trial, fan, speed: float) -> float:
    return fan.working_flow(23_500.0, speed, trial.room.density)


TUBE = {"bore": (0.1252, 1e-4), "profile_factor": (0.846, 0.004)}
ORIFICE = {"orifice": (0.08, 1e-4), "orifice_coefficient": (0.61, 0.005)}


def _through(trial: Trial, flow: float) -> float:
    """Pressure across the orifice that passes a flow [Pa]."""
    area = trial.true["orifice_coefficient"] * math.pi / 4 * trial.true["orifice"] ** 2
    return trial.room.density / 2 * (flow / area) ** 2


def _axis(trial: Trial, flow: float) -> float:
    """Air speed on the axis of the tube [m/s]."""
    return flow / (math.pi / 4 * trial.true["bore"] ** 2 * trial.true["profile_factor"])


Case = Callable[[np.random.Generator], tuple[RunInput, float]]


def _airflow(random):
    trial, fan = Trial(random, TUBE), _fan(random)
    trial.read("air_speed", _axis(trial, _at(trial, fan, trial.speed)))
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), fan.working_flow(23_500.0, COMMON, 1.2)


def _pitot(random):
    trial, fan = Trial(random, TUBE), _fan(random)
    speed = _axis(trial, _at(trial, fan, trial.speed))
    trial.read("pitot_pressure", trial.room.density / 2 * speed**2)
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), fan.working_flow(23_500.0, COMMON, 1.2)


def _pressure(random):
    trial, fan = Trial(random, {}), _fan(random)
    flow = _at(trial, fan, trial.speed)
    trial.read("static_pressure", fan.pressure(flow, trial.speed, trial.room.density))
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), fan.pressure(flow * COMMON / trial.speed, COMMON, 1.2)


def _plate(random):
    trial, truth = Trial(random, {"plate_area": (0.0145, 5e-5)}), random.uniform(40, 90)
    carried = truth * trial.light * (trial.speed / COMMON) ** 2 * trial.true["plate_area"]
    trial.read("scale_mass", carried / 9.80665)
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), truth


def _thrust(random):
    trial, truth = Trial(random, {}), random.uniform(0.5, 3)
    trial.read("scale_mass", truth * trial.light * (trial.speed / COMMON) ** 2 / 9.80665)
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), truth


def _area(random):
    trial, truth = Trial(random, ORIFICE), random.uniform(4e-4, 12e-4)
    flow = truth * math.sqrt(2 * 1500.0 / trial.room.density)
    trial.read("orifice_pressure", _through(trial, flow))
    trial.read("test_depression", 1500.0)
    return trial.as_run(), truth


def _rise(random):
    trial, truth = Trial(random, {}), random.uniform(10, 50)
    trial.read("load_temperature", trial.room.temperature + truth)
    trial.read("room_temperature", trial.room.temperature)
    return trial.as_run(), truth


def _resistance(random):
    trial, truth = Trial(random, {"heat": (75.0, 0.5)}), random.uniform(0.2, 0.6)
    trial.read("load_temperature", trial.room.temperature + truth * trial.true["heat"])
    trial.read("room_temperature", trial.room.temperature)
    return trial.as_run(), truth


def _level(random):
    trial, truth = Trial(random, {"distance": (0.5, 0.005)}), random.uniform(42, 55)
    near = truth + 20 * math.log10(1 / trial.true["distance"])
    room = near - random.uniform(3.5, 15)
    trial.read("sound_level", 10 * math.log10(10 ** (near / 10) + 10 ** (room / 10)))
    trial.read("background_level", room)
    return trial.as_run(reporting_distance=1.0), truth


def _power(random):
    trial, truth = Trial(random, {"standby_power": (0.4, 0.01)}), random.uniform(3, 12)
    drawn = truth * trial.light * (trial.speed / COMMON) ** 3 + trial.true["standby_power"]
    trial.read("voltage", 12.0)
    trial.read("current", drawn / 12.0)
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), truth


def _shaft(random):
    trial, truth = Trial(random, {}), random.uniform(30, 60)
    power = truth * trial.light * (trial.speed / COMMON) ** 3
    trial.read("torque", power / (2 * math.pi * trial.speed / 60) + 0.085)
    trial.read("tare_torque", 0.085)
    trial.read("speed", trial.speed)
    return trial.as_run(common_speed=COMMON), truth


def _jet(random):
    places = 9
    trial, shares = Trial(random, {"places": (places, 0.0)}), random.uniform(0.3, 1.0, places)
    start = random.uniform(2, 6)
    for place, share in enumerate(shares, 1):
        trial.read("air_speed", start * share, 3, place)
    return trial.as_run(), start * float(shares.mean())


def _bag(random):
    trial, truth = Trial(random, {"bag_volume": (0.12, 0.001)}), random.uniform(0.02, 0.06)
    trial.read("fill_time", trial.true["bag_volume"] / truth, 4)
    return trial.as_run(), truth


def _hover(random):
    trial, truth = Trial(random, {}), random.uniform(5e-4, 3e-3)
    trial.read("gap", truth, 4)
    return trial.as_run(), truth


def _points(random):
    """Points of judges whose strictness is theirs: the doubt is that of their mean."""
    trial, truth = Trial(random, {"places": (5.0, 0.0)}), random.uniform(4, 7)
    given = np.clip(np.round(2 * (truth + random.normal(0, 0.8, 5))) / 2, 0, 10)
    run = replace(
        trial.as_run(),
        readings={"panel_points": given.tolist()},
        positions={"panel_points": [1, 2, 3, 4, 5]},
        meters={"panel_points": Meter("panel", "panel", 0.5)},
    )
    return run, truth


def _imbalance(random):
    """Outlets that truly differ; even ones read high, and the working says so."""
    trial, shares = Trial(random, {"places": (3.0, 0.0)}), np.array([1.1, 1.0, 0.9])
    start = random.uniform(3, 6)
    for place, share in enumerate(shares, 1):
        trial.read("air_speed", start * share, 4, place)
    return trial.as_run(), 20.0


def _vibration(random):
    trial, truth = Trial(random, {"flexible": (0.0, 0.0)}), random.uniform(5e-4, 4e-3)
    trial.read("vibration", truth)
    return trial.as_run(), truth


SPEEDS_OF_SWEEP = (950.0, 1200.0, 1450.0, 1700.0, 1950.0)


def _equal_power(random):
    trial, fan = Trial(random, TUBE | {"standby_power": (0.4, 0.01)}), _fan(random)
    wanted = fan.power(fan.working_flow(23_500.0, 1600.0, 1.2), 1600.0, 1.2)
    flows = [_at(trial, fan, n) for n in SPEEDS_OF_SWEEP]
    trial.points("air_speed", [_axis(trial, q) for q in flows])
    drawn = [
        fan.power(q, n, trial.room.density) + trial.true["standby_power"]
        for q, n in zip(flows, SPEEDS_OF_SWEEP, strict=True)
    ]
    trial.points("power", drawn)
    return trial.as_run(equal=wanted), fan.working_flow(23_500.0, 1600.0, 1.2)


def _equal_noise(random):
    trial, fan = Trial(random, TUBE | {"distance": (1.0, 0.005)}), _fan(random)
    wanted = fan.level_at(1600.0)
    trial.points("air_speed", [_axis(trial, _at(trial, fan, n)) for n in SPEEDS_OF_SWEEP])
    room = 28.0
    trial.points(
        "sound_level",
        [
            10 * math.log10(10 ** (fan.level_at(n) / 10) + 10 ** (room / 10))
            for n in SPEEDS_OF_SWEEP
        ],
    )
    trial.read("background_level", room, place=1)
    return trial.as_run(equal=wanted), fan.working_flow(23_500.0, 1600.0, 1.2)


def _equal_air(random):
    trial, fan = Trial(random, TUBE | {"distance": (1.0, 0.005)}), _fan(random)
    wanted = fan.working_flow(23_500.0, 1600.0, 1.2)
    trial.true["agreed_flow"] = wanted
    trial.rig["agreed_flow"] = (wanted, 0.0)
    trial.points("air_speed", [_axis(trial, _at(trial, fan, n)) for n in SPEEDS_OF_SWEEP])
    room = 28.0
    levels = [fan.level_at(n) for n in SPEEDS_OF_SWEEP]
    total = [10 * math.log10(10 ** (one / 10) + 10 ** (room / 10)) for one in levels]
    trial.points("sound_level", total)
    trial.read("background_level", room, place=1)
    return trial.as_run(), fan.level_at(1600.0)


def _curve(random):
    rig = ORIFICE | {"system_resistance": (23_500.0, 100.0), "system_exponent": (2.0, 0.0)}
    trial, fan = Trial(random, rig), replace(_fan(random), dip=0.0)
    at = fan.working_flow(trial.true["system_resistance"], COMMON, 1.2)
    flows = at * trial.speed / COMMON * np.array([0.5, 0.65, 0.8, 0.95, 1.1, 1.25])
    trial.points("orifice_pressure", [_through(trial, q) for q in flows])
    trial.points(
        "static_pressure", [fan.pressure(q, trial.speed, trial.room.density) for q in flows]
    )
    trial.points("speed", [trial.speed] * len(flows))
    return trial.as_run(common_speed=COMMON), at


def _loss(random):
    trial = Trial(random, ORIFICE | {"agreed_flow": (0.03, 0.0)})
    factor, exponent = random.uniform(2e5, 4e5), random.uniform(1.8, 2.0)
    flows = np.array([0.02, 0.025, 0.03, 0.035, 0.04])
    trial.points("orifice_pressure", [_through(trial, q) for q in flows])
    trial.points("test_depression", [factor * q**exponent * trial.light for q in flows])
    return trial.as_run(), factor * 0.03**exponent


def _shaft_law(random):
    trial, truth = Trial(random, {}), random.uniform(30, 60)
    speeds = COMMON * np.array([0.7, 0.8, 0.9, 1.0, 1.1])
    powers = truth * trial.light * (speeds / COMMON) ** 3
    trial.points("torque", (powers / (2 * math.pi * speeds / 60) + 0.085).tolist())
    trial.points("tare_torque", [0.085] * 5)
    trial.points("speed", speeds.tolist())
    return trial.as_run(common_speed=COMMON), truth


CASES: dict[str, tuple[str, str, Case]] = {
    "airflow": ("airflow", "air through the tunnel, vane", _airflow),
    "airflow_pitot": ("airflow", "the same with a pitot tube", _pitot),
    "flow_at_power": ("flow_at_power", "air at equal power", _equal_power),
    "flow_at_noise": ("flow_at_noise", "air at equal noise", _equal_noise),
    "noise_at_flow": ("noise_at_flow", "noise at equal air", _equal_air),
    "static_pressure": ("static_pressure", "static pressure", _pressure),
    "fan_curve": ("fan_curve", "working point of a fan curve", _curve),
    "plate_pressure": ("plate_pressure", "pressure on a plate", _plate),
    "thrust": ("thrust", "thrust", _thrust),
    "effective_area": ("effective_area", "effective area", _area),
    "loss_at_flow": ("loss_at_flow", "loss at equal flow", _loss),
    "temperature_rise": ("temperature_rise", "temperature rise", _rise),
    "thermal_resistance": ("thermal_resistance", "thermal resistance", _resistance),
    "sound_level": ("sound_level", "noise, 3.5 to 15 dB over the room", _level),
    "electrical_power": ("electrical_power", "electrical power", _power),
    "shaft_power": ("shaft_power", "shaft power", _shaft),
    "shaft_curve": ("shaft_curve", "shaft power from its law", _shaft_law),
    "jet_speed": ("jet_speed", "speed of a jet, nine places", _jet),
    "bag_flow": ("bag_flow", "bag fill", _bag),
    "hover_gap": ("hover_gap", "hover gap", _hover),
    "panel_points": ("panel_points", "points of five judges", _points),
    "imbalance": ("imbalance", "imbalance of 20 %", _imbalance),
    "vibration": ("vibration", "vibration", _vibration),
}
"""Key -> procedure, what it is called, and a maker of runs with their truth."""


def held(case: str, count: int, seed: int = 1) -> tuple[float, float]:
    """Share of 95 % intervals of a reduction that hold the truth, and its mean bias over u."""
    procedure, _, make = CASES[case]
    random = np.random.default_rng([seed, len(case), *case.encode()])
    inside, off = 0, []
    for _ in range(count):
        run, truth = make(random)
        found = PROCEDURES[procedure].reduce(run)
        inside += abs(found.value - truth) <= found.expanded
        off.append((found.value - truth) / found.u)
    return inside / count, float(np.mean(off))


def runs_of(
    subject: Sequence[int] | np.ndarray,
    y: Sequence[float] | np.ndarray,
    time: Any,
    own: float = 0.0,
) -> Runs:
    """Runs without shared causes."""
    n = len(y)
    return Runs(
        np.array(subject),
        np.array(y, float),
        np.array(time, float),
        np.full(n, own),
        np.zeros((n, 0)),
    )


def field(
    random: np.random.Generator,
    size: int,
    gaps: Sequence[float] | None = None,
    repeats: int = 3,
    brackets: int = 4,
    scatter: float = 0.01,
) -> Comparison:
    """A test of so many entries, in rounds between brackets of two reference runs."""
    times: list[float] = []
    subject: list[int] = []
    reference_times: list[float] = []
    clock = 0.0
    for _ in range(brackets):
        reference_times += [clock, clock + 1]
        clock += 10
        for entry in range(size) if len(times) < size * repeats else ():
            times.append(clock)
            subject.append(entry)
            clock += 5
    reference_times += [clock, clock + 1]
    truth = np.zeros(size) if gaps is None else np.asarray(gaps)
    y = truth[np.array(subject)] + scatter * random.standard_normal(len(times))
    reference = scatter * random.standard_normal(len(reference_times))
    return compare(
        runs_of(subject, y, times),
        runs_of([0] * len(reference_times), reference, reference_times),
        size,
        0,
    )


def set_apart(comparison: Comparison) -> bool:
    """Whether anybody has another rank than the first."""
    _, found = score([Term("air", 1, 1, True)], [comparison])
    return bool(rank(found, draws=1).rank.max() > 1)


def equal_set_apart(size: int, count: int, seed: int = 5) -> float:
    """Share of equal fields that are set apart."""
    random = np.random.default_rng(seed)
    return float(np.mean([set_apart(field(random, size)) for _ in range(count)]))


def leader_told(size: int, gap: float, count: int, seed: int = 6) -> float:
    """Share of fields in which one entry leads by a gap that are set apart."""
    random = np.random.default_rng(seed)
    gaps = [gap] + [0.0] * (size - 1)
    return float(np.mean([set_apart(field(random, size, gaps)) for _ in range(count)]))


def scatter_told(size: int, count: int, seed: int = 8) -> float:
    """Pooled scatter over the true one, in the mean of its squares."""
    random = np.random.default_rng(seed)
    return math.sqrt(np.mean([field(random, size).repeat_sd ** 2 for _ in range(count)])) / 0.01


@cache
def false_calls(repeats: int, count: int, seed: int = 11) -> tuple[float, float]:
    """Of equal entries: share of intervals against the reference that hold no difference, and share
    that is called better or worse.
    """
    random = np.random.default_rng(seed)
    inside, called = [], []
    for _ in range(count):
        c = field(random, 4, repeats=repeats)
        for delta, u, dof in zip(c.delta, c.u, c.effective_dof, strict=True):
            inside.append(abs(delta) <= expanded(u, dof))
            called.append(judge_difference(delta, u, dof, 1).word in {"better", "worse"})
    return float(np.mean(inside)), float(np.mean(called))


@cache
def first_told(size: int, spread: float, count: int, seed: int = 21) -> np.ndarray:
    """Told probability of being first and whether it was so, (entries of all fields, 2); entries
    truly differ by a spread.
    """
    random = np.random.default_rng(seed)
    found = []
    for number in range(count):
        truth = random.normal(0, spread, size)
        _, scores = score([Term("air", 1, 1, True)], [field(random, size, truth.tolist())])
        told = rank_probabilities(scores, draws=1000, seed=number)[:, 0]
        found.append(np.column_stack([told, np.arange(size) == truth.argmax()]))
    return np.vstack(found)


def prints_compared(
    random: np.random.Generator,
    prints: Sequence[int],
    apart: float = 0.0,
    repeats: int = 3,
    scatter: float = 0.01,
) -> Comparison:
    """Entries with so many prints each, in turn between runs of the reference."""
    plan = [(e, p) for _ in range(repeats) for e, n in enumerate(prints) for p in range(n)]
    shift = {key: apart * random.standard_normal() for key in sorted(set(plan))}
    y = [shift[key] + scatter * random.standard_normal() for key in plan]
    entries = replace(
        runs_of([e for e, _ in plan], y, np.arange(len(plan)) + 0.5),
        part=np.array([10 * e + p for e, p in plan]),
    )
    at = np.linspace(0, len(plan), 6)
    return compare(
        entries, runs_of([0] * 6, scatter * random.standard_normal(6), at), len(prints), 0
    )


def prints_held(prints: Sequence[int], apart: float, count: int, seed: int = 11) -> float:
    """Share of 95 % intervals that hold the truth, of the entries with most prints."""
    random = np.random.default_rng(seed)
    most = np.array(prints) == max(prints)
    inside = []
    for _ in range(count):
        c = prints_compared(random, prints, apart)
        half = [expanded(float(u), float(d)) for u, d in zip(c.u, c.effective_dof, strict=True)]
        inside += (np.abs(c.delta) <= half)[most].tolist()
    return float(np.mean(inside))


def ar(random: np.random.Generator, count: int, keep: float = 0.9) -> np.ndarray:
    """Correlated scatter of unit standard deviation."""
    return np.asarray(
        lfilter([1], [1, -keep], random.standard_normal(count)) * math.sqrt(1 - keep**2)
    )


SOAKS = ("plain", "gusts", "light part", "all")


def soak(random: np.random.Generator, kind: str) -> tuple[np.ndarray, np.ndarray, float]:
    """A soak to half of the time in which it comes within 0.2 K: times, values, its true end."""
    tau, amplitude, end = random.uniform(60, 300), random.uniform(8, 45), random.uniform(30, 70)
    noise, step = random.uniform(0.02, 0.12), random.choice([0.5, 1.0, 2.0])
    t = np.arange(0, tau * math.log(amplitude / 0.2) / 2, step)
    light, quick = (
        (random.uniform(0.02, 0.12), tau * random.uniform(0.05, 0.3))
        if kind in {"light part", "all"}
        else (0.0, tau)
    )
    y = (
        end
        - amplitude * ((1 - light) * np.exp(-t / tau) + light * np.exp(-t / quick))
        + noise * random.standard_normal(t.size)
    )
    if kind in {"gusts", "all"}:
        y += (
            random.uniform(0.3, 1.0)
            * noise
            * ar(random, t.size, math.exp(-step / random.uniform(2, 15)))
        )
    return t, (np.round(y, 1) if kind == "all" else y), end


@cache
def forecasts(kind: str, count: int, seed: int = 5) -> tuple[float, float]:
    """At half time: share of 95 % intervals that hold the end, and the middle of their half-widths
    [K].
    """
    random = np.random.default_rng(seed)
    inside, half = 0, []
    for _ in range(count):
        times, values, end = soak(random, kind)
        fit = fit_settling(times, values, 0.3)
        half.append(expanded(fit.u, fit.dof))
        inside += abs(fit.end - end) <= half[-1]
    return inside / count, float(np.median(half))


@dataclass(frozen=True)
class Cell:
    """A place in the plane of two bodies: noise [K], heavy time constant over the soak, ratio of the
    time constants, share of the light one.
    """

    noise: float
    long: float
    ratio: float
    share: float


PLANE = tuple(
    Cell(*values)
    for values in itertools.product(
        (0.02, 0.1), (0.1, 0.25, 0.5, 1.0), (1.5, 3.0, 8.0, 20.0), (0.0, 0.2, 0.5, 0.8, 0.95)
    )
)


@cache
def settled(cell: Cell, seed: int) -> tuple[bool, bool]:
    """Whether the interval holds the end, and whether it is called settled while it is off by more
    than 0.3 K.
    """
    random, times = np.random.default_rng(seed), np.arange(0, 1200, 2.0)
    heavy = (1 - cell.share) * np.exp(-times / (1200 * cell.long))
    light = cell.share * np.exp(-times * cell.ratio / (1200 * cell.long))
    values = 60 - 30 * (heavy + light) + cell.noise * random.standard_normal(times.size)
    fit = fit_settling(times, values, 0.3)
    return (
        abs(fit.end - 60) <= expanded(fit.u, fit.dof),
        bool(fit.settled and abs(fit.end - 60) > 0.3),
    )


UNIT_SLIPS = (
    ("air_speed", 196.85, "ft/min taken for m/s"),
    ("air_speed", 3.6, "km/h taken for m/s"),
    ("air_speed", 2.2369, "mph taken for m/s"),
    ("static_pressure", 1 / 9.80665, "mmH2O taken for Pa"),
    ("static_pressure", 1 / 249.09, "inH2O taken for Pa"),
    ("current", 1000.0, "mA taken for A"),
)
"""Channel, factor and words of meters that are switched to another unit."""

READ_ON_THE_RIG = (
    "air_speed",
    "static_pressure",
    "sound_level",
    "load_temperature",
    "room_temperature",
    "voltage",
    "current",
    "speed",
    "throttle",
)


def on_the_rig(
    seed: int, rate: float = 50.0, fault: tuple | None = None, turns: bool = False
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """70 s on the virtual bench; a fault from 30 s on, or another throttle each 10 s."""
    random = np.random.default_rng(seed)
    rig = LiveRig(rate=rate, seed=seed)
    rig.start(0.0)
    rig.set_throttle(random.uniform(30, 100))
    rig.advance(30.0)
    if fault:
        rig.fault(*fault)
    for end in (40.0, 50.0, 60.0, 70.0):
        rig.advance(end)
        if turns:
            rig.set_throttle(random.uniform(20, 100))
    channels = {c: rig.since(c, -1)[1] for c in READ_ON_THE_RIG}
    return np.arange(len(channels["speed"])) / rate, channels


@cache
def in_another_unit(count: int, seed: int = 21) -> tuple[float, float]:
    """Share of meters switched to another unit for 3 s that are found as such, with the unit, and of
    traces of a part that was turned in which one is called so.
    """
    found = called = 0
    for i in range(count):
        channel, factor, words = UNIT_SLIPS[i % len(UNIT_SLIPS)]
        times, channels = on_the_rig(seed + i, fault=(channel, "unit", 3.0, factor))
        marks = [m for m in find_marks(times, channels) if m.kind in {"unit", "jump"}]
        found += [(m.channel, m.kind, m.note) for m in marks] == [(channel, "unit", words)]
        rate = (50.0, 10.0, 1.0)[i % 3]
        times, channels = on_the_rig(seed + 10_000 + i, rate, turns=True)
        called += any(m.kind in {"unit", "jump"} for m in find_marks(times, channels))
    return found / count, called / count


DISTURBANCES = ("knock", "slip", "door", "stop")


@cache
def disturbed_soaks(kind: str, count: int, seed: int = 17) -> tuple[float, float, float]:
    """Soaks that are disturbed half way, looked at one time constant later: share of intervals that
    hold the end, share called settled while off by more than 0.3 K, and the middle of their
    half-widths over those of the same soaks left alone.
    """
    random = np.random.default_rng(seed)
    inside = wrong = 0
    wider = []
    for _ in range(count):
        tau = random.uniform(60, 200)
        times = np.arange(0, 3.0 * tau, 1.0)
        load = 21 + 30 * (1 - np.exp(-times / tau)) + 0.05 * random.standard_normal(times.size)
        room = 21 + 0.02 * random.standard_normal(times.size)
        calm = fit_rise(times, load, room, 0.3)
        at = times.size // 2 + int(random.integers(0, 20))
        after, end = times[at:] - times[at], 51.0
        size = random.uniform(2, 6) * random.choice([-1, 1])
        if kind == "knock":
            load[at : at + int(random.integers(3, 9))] += size
        elif kind == "slip":
            load[at:] += 0.3 * size
            end += 0.3 * size
        elif kind == "door":
            load[at:] -= abs(size) * (np.exp(-after / 30) - np.exp(-after / 5))
        else:
            load[at:] += abs(size) * (np.exp(-after / tau) - np.exp(-after / 8))
        fit = fit_rise(times, load, room, 0.3)
        half = expanded(fit.u, fit.dof)
        inside += abs(fit.end - end) <= half
        wrong += fit.settled and abs(fit.end - end) > 0.3
        wider.append(half / expanded(calm.u, calm.dof))
    return inside / count, wrong / count, float(np.median(wider))


@cache
def in_a_drifting_room(rate: float, count: int, seed: int = 3) -> tuple[float, float]:
    """Loads in a room that drifts [K/h]: share settled, and share of intervals of the rise that hold
    it.
    """
    random, times = np.random.default_rng(seed), np.arange(0, 1500, 1.0)
    done = inside = 0
    for _ in range(count):
        tau = random.uniform(80, 200)
        warming = 1 - np.exp(-times / tau)
        drift = rate * times / 3600
        follows = drift - rate * tau / 3600 * warming
        load = 21 + follows + 30 * warming + 0.05 * random.standard_normal(times.size)
        room = 21 + drift + 0.02 * random.standard_normal(times.size)
        fit = fit_rise(times, load, room, 0.3)
        done += fit.settled
        inside += fit.rise is not None and abs(fit.rise - 30) <= expanded(fit.u, fit.dof)
    return done / count, inside / count


@cache
def steady_alarms(base: int, count: int, seed: int = 9) -> tuple[float, float]:
    """Of steady references with limits from so many runs: share that alarms within 100 more, and
    share of single runs outside.
    """
    random = np.random.default_rng(seed)
    charts = [control_chart(random.normal(0, 1, base + 100), base) for _ in range(count)]
    return (
        float(np.mean([chart.drifting[base:].any() for chart in charts])),
        float(np.mean([chart.outside[base:].mean() for chart in charts])),
    )


def found_after(base: int, shift: float, count: int, seed: int = 8) -> float:
    """Runs after which a shift of so many standard deviations is found, in the middle."""
    random = np.random.default_rng(seed)
    lengths = []
    for _ in range(count):
        values = np.concatenate([random.normal(0, 1, base), random.normal(shift, 1, 400)])
        alarms = np.flatnonzero(control_chart(values, base).drifting[base:])
        lengths.append(int(alarms[0]) + 1 if alarms.size else 400)
    return float(np.median(lengths))


def history_held(dof: int, count: int, seed: int = 13) -> float:
    """Share of 95 % intervals of single runs that hold the truth, by the rig's history of so many
    degrees of freedom.
    """
    random = np.random.default_rng(seed)
    inside = []
    for _ in range(count):
        known = Scatter(0.01 * math.sqrt(random.chisquare(dof) / dof), dof)
        y = 0.01 * random.standard_normal(4)
        entries = runs_of([0, 1, 2], y[:3], [1, 2, 3])
        c = compare(entries, runs_of([0], y[3:], [0]), 3, 0, known=known)
        inside += [
            abs(delta) <= expanded(u, at)
            for delta, u, at in zip(c.delta, c.u, c.effective_dof, strict=True)
        ]
    return float(np.mean(inside))


@cache
def recordings_held(count: int, seconds: float = 4.0) -> float:
    """Share of 95 % intervals that hold the truth, of differences of two recordings of one noise, in
    every one-third octave and A-weighted.
    """

    def one(seed: int) -> list[Level]:
        told = courses(noise(seconds, 500 + seed), SOUND_RATE)
        rows = np.vstack([told.band, told.weighted["A"][None]])
        pairs = zip(level(rows.mean(axis=1)), doubts(rows, told.step), strict=True)
        return [Level(float(value), float(doubt)) for value, doubt in pairs]

    freedom = batches(seconds) - 1
    clear = [
        change([ours], [theirs], freedom).clear
        for n in range(count)
        for ours, theirs in zip(one(2 * n), one(2 * n + 1), strict=True)
    ]
    return 1 - float(np.mean(clear))


@cache
def marked(kind: str, count: int, seed: int = 20) -> tuple[float, float]:
    """Of traces of 10,000 samples: false marks in each, and share of spikes of 8 standard deviations
    that are not found.
    """
    random = np.random.default_rng(seed)
    false, missed = [], []
    for _ in range(count):
        noise = random.standard_normal(10_000)
        if kind == "gusts":  # on top of what a meter scatters
            noise = (0.06 * ar(random, 10_000) + 0.035 * noise) / math.hypot(0.06, 0.035)
        false.append(int(spikes(noise).sum()))
        at = np.arange(50, 9_950, 100)
        with_spikes = noise.copy()
        with_spikes[at] += 8 * random.choice([-1, 1], at.size)
        missed.append(1 - float(spikes(with_spikes)[at].mean()))
    return float(np.mean(false)), float(np.mean(missed))


@dataclass(frozen=True)
class Stated:
    """A figure that is stated: what it is, its unit, how it is found with so many repeats, with how
    many for the page and for a test, and between which bounds it must lie.
    """

    key: str
    group: str
    what: str
    unit: str
    run: Callable[[int], float]
    repeats: int
    quick: int
    low: float
    high: float


def _percent(function: Callable[..., Any], *args: Any, part: int | None = None):
    """A share as percent, of a function whose last argument is the number of repeats."""

    def run(count: int) -> float:
        found = function(*args, count)
        return 100 * (found if part is None else found[part])

    return run


def _plain(function: Callable[..., Any], *args: Any, part: int | None = None):
    def run(count: int) -> float:
        found = function(*args, count)
        return float(found if part is None else found[part])

    return run


def told_and_was(spread: float, low: float, high: float, count: int) -> float:
    """Of entries that are told a probability between two of being first: how many more percent were
    told than were so.
    """
    found = first_told(6, spread, count)
    chosen = found[(found[:, 0] >= low) & (found[:, 0] < high)]
    return 100 * float((chosen[:, 0] - chosen[:, 1]).mean())


def over_plane(part: int, count: int) -> float:
    """Percent over the plane of two bodies: intervals that hold, or cells wrongly called settled;
    each cell so often.
    """
    found = [
        settled(cell, 1000 * n + seed)[part]
        for n, cell in enumerate(PLANE)
        for seed in range(count)
    ]
    return 100 * float(np.mean(found))


SLOW = frozenset(
    {"fan_curve", "flow_at_power", "flow_at_noise", "noise_at_flow", "shaft_curve", "loss_at_flow"}
)
"""Cases of sweeps, which take longer."""


def _each(
    group: str,
    key: str,
    what: str,
    values: Sequence[Any],
    run: Callable[[Any], Callable[[int], float]],
    repeats: tuple[int, int],
    bounds: tuple[float, float],
    unit: str = "%",
) -> Iterator[Stated]:
    """The same figure for each of some values, which stand in its key and in what it is."""
    for value in values:
        named = value.replace(" ", "_") if isinstance(value, str) else f"{value:g}"
        yield Stated(
            f"{key}_{named}", group, what.format(value), unit, run(value), *repeats, *bounds
        )


def _reductions() -> Iterator[Stated]:
    for key, (_, what, _) in CASES.items():
        repeats = (600, 60) if key in SLOW else (4000, 300)
        yield Stated(
            f"held_{key}",
            "reductions",
            f"intervals that hold the truth: {what}",
            "%",
            _percent(held, key, part=0),
            *repeats,
            92.0,
            100.0,
        )


def _comparison() -> Iterator[Stated]:
    often = (3000, 300)
    yield from _each(
        "comparison",
        "difference",
        "intervals that hold, difference of equal parts, {} repeats",
        (2, 3, 5),
        lambda n: _percent(false_calls, n, part=0),
        often,
        (93.5, 97.0),
    )
    yield from _each(
        "comparison",
        "called",
        "equal parts called better or worse, {} repeats",
        (2, 3, 5),
        lambda n: _percent(false_calls, n, part=1),
        often,
        (3.0, 6.5),
    )
    yield from _each(
        "comparison",
        "history",
        "intervals of single runs that hold, by a history of {} degrees of freedom",
        (2, 5, 20),
        lambda dof: _percent(history_held, dof),
        often,
        (93.0, 97.0),
    )
    yield Stated(
        "recordings",
        "comparison",
        "intervals that hold, difference of two recordings of one noise, in its bands",
        "%",
        _percent(recordings_held),
        600,
        30,
        93.0,
        97.0,
    )
    yield Stated(
        "scatter",
        "comparison",
        "pooled scatter of three repeats between brackets, of the true one",
        "%",
        _percent(scatter_told, 8),
        *often,
        98.0,
        102.0,
    )
    for apart in (0.0, 0.01, 0.03):
        said = f"prints that differ by {100 * apart:g} %"
        yield Stated(
            f"prints_{apart:g}",
            "comparison",
            f"intervals that hold, four versions of two {said}",
            "%",
            _percent(prints_held, (2, 2, 2, 2), apart),
            *often,
            92.0,
            98.0,
        )
        yield Stated(
            f"print_alone_{apart:g}",
            "comparison",
            f"intervals that hold, the one version of four that has two {said}",
            "%",
            _percent(prints_held, (2, 1, 1, 1), apart),
            *often,
            84.0,
            98.0,
        )


def _ranks() -> Iterator[Stated]:
    yield from _each(
        "ranks",
        "equal",
        "equal fields of {} that are set apart",
        (2, 4, 8, 20),
        lambda n: _percent(equal_set_apart, n),
        (3000, 300),
        (2.0, 7.0),
    )
    yield from _each(
        "ranks",
        "leader",
        "true leaders by 4 % among {} that are told, scatter 1 %, three repeats",
        (2, 8),
        lambda n: _percent(leader_told, n, 0.04),
        (1500, 100),
        (95.0, 100.0),
    )
    for spread, (low, high) in itertools.product(
        (0.01, 0.03), ((0.2, 0.5), (0.5, 0.8), (0.8, 1.01))
    ):
        yield Stated(
            f"first_{100 * spread:g}_{100 * low:.0f}",
            "ranks",
            f"told {100 * low:.0f} to {100 * min(high, 1):.0f} % to be first of six that differ by"
            f" {100 * spread:g} %, scatter 1 %: told more than was so",
            "points",
            _plain(told_and_was, spread, low, high),
            2500,
            250,
            -15.0,
            20.0,
        )


def _judging() -> Iterator[Stated]:
    for judges, samples in ((3, 5), (5, 4), (5, 8), (8, 6)):
        yield Stated(
            f"like_{judges}_{samples}",
            "ranks",
            f"panels of {judges} like judges of {samples} samples in which one is called apart",
            "%",
            _percent(judging.like_called_apart, judges, samples, 0.6),
            1000,
            100,
            0.0,
            6.5,
        )
    yield Stated(
        "opposite",
        "ranks",
        "panels of five of eight samples in which who judges the other way round is found",
        "%",
        _percent(judging.opposite_found),
        1000,
        100,
        90.0,
        100.0,
    )
    yield from _each(
        "ranks",
        "chance",
        "panels without any preference that seem to agree, of five samples {} left out",
        (0, 1),
        lambda left_out: _percent(judging.without_preference_called, left_out),
        (1000, 100),
        (2.5, 7.5),
    )
    yield from _each(
        "comparison",
        "in_turn",
        "intervals that hold, with and without in turn, by a history of {} degrees of freedom",
        (0, 8),
        lambda dof: _percent(judging.in_turn_held, dof),
        (3000, 300),
        (93.0, 97.0),
    )
    yield Stated(
        "bridged",
        "comparison",
        "intervals that hold, changes bridged from round to round by a champion",
        "%",
        _percent(judging.bridged_held),
        4000,
        400,
        94.0,
        99.5,
    )


def _settling() -> Iterator[Stated]:
    yield from _each(
        "settling",
        "forecast",
        "forecasts at half time that hold the end: {}",
        SOAKS,
        lambda kind: _percent(forecasts, kind, part=0),
        (1000, 80),
        (93.0, 100.0),
    )
    yield from _each(
        "settling",
        "doubt",
        "their half-width in the middle: {}",
        SOAKS,
        lambda kind: _plain(forecasts, kind, part=1),
        (1000, 80),
        (0.0, 2.0),
        "K",
    )
    yield Stated(
        "plane",
        "settling",
        "ends that hold over the plane of two bodies, 160 cells",
        "%",
        lambda count: over_plane(0, count),
        10,
        1,
        95.0,
        100.0,
    )
    yield Stated(
        "plane_wrong",
        "settling",
        "of them called settled while more than 0.3 K off",
        "%",
        lambda count: over_plane(1, count),
        10,
        1,
        0.0,
        0.1,
    )
    yield from _each(
        "settling",
        "room",
        "rises that hold in a room that drifts by {:g} K an hour",
        (0.0, 1.0, -3.0),
        lambda rate: _percent(in_a_drifting_room, rate, part=1),
        (300, 30),
        (88.0, 100.0),
    )
    yield from _each(
        "settling",
        "settled",
        "of them called settled, {:g} K an hour",
        (0.0, 1.0, -3.0),
        lambda rate: _percent(in_a_drifting_room, rate, part=0),
        (300, 30),
        (88.0, 100.0),
    )

    yield from _each(
        "settling",
        "disturbed",
        "intervals that hold one time constant after a {} half way",
        DISTURBANCES,
        lambda kind: _percent(disturbed_soaks, kind, part=0),
        (200, 10),
        (80.0, 100.0),
    )
    yield from _each(
        "settling",
        "disturbed_wrong",
        "of them called settled while off by more than 0.3 K, {}",
        DISTURBANCES,
        lambda kind: _percent(disturbed_soaks, kind, part=1),
        (200, 10),
        (0.0, 2.0),
    )


def _charts() -> Iterator[Stated]:
    yield from _each(
        "charts",
        "alarms",
        "steady references that alarm within 100 runs, limits of {} runs",
        (8, 14, 20, 40),
        lambda base: _percent(steady_alarms, base, part=0),
        (5000, 500),
        (13.0, 23.0),
    )
    yield from _each(
        "charts",
        "outside",
        "single runs outside, limits of {} runs",
        (8, 20),
        lambda base: _percent(steady_alarms, base, part=1),
        (5000, 500),
        (0.15, 0.4),
    )
    yield from _each(
        "charts",
        "shift",
        "runs until a shift of {:g} s is found, in the middle, limits of 20 runs",
        (0.5, 1.0, 2.0),
        lambda shift: _plain(found_after, 20, shift),
        (3000, 300),
        (1.0, 200.0),
        "runs",
    )


def _traces() -> Iterator[Stated]:
    for kind in ("white", "gusts"):
        yield Stated(
            f"marks_{kind}",
            "traces",
            f"false spikes in 10,000 samples of {kind} scatter",
            "",
            _plain(marked, kind, part=0),
            100,
            10,
            0.0,
            1.0,
        )
        yield Stated(
            f"missed_{kind}",
            "traces",
            f"spikes of 8 standard deviations that are missed, {kind} scatter",
            "%",
            _percent(marked, kind, part=1),
            100,
            10,
            0.0,
            1.0,
        )

    yield Stated(
        "unit_found",
        "traces",
        "stretches of 3 s in another unit that are found",
        "%",
        _percent(in_another_unit, part=0),
        180,
        12,
        95.0,
        100.0,
    )
    yield Stated(
        "unit_called",
        "traces",
        "traces in which a part that was turned is called in another unit",
        "%",
        _percent(in_another_unit, part=1),
        180,
        12,
        0.0,
        2.0,
    )


STATED: tuple[Stated, ...] = (
    *_reductions(),
    *_comparison(),
    *_ranks(),
    *_judging(),
    *_settling(),
    *_charts(),
    *_traces(),
)
"""All that is stated of simulated figures; the page and the tests take it from here."""
