"""Random faults at a bench, by seed: no figure is wrong without a mark, and no throttle stays open
beyond its rule.

The virtual bench and a session of the recorder, without meters' lines and database: what the
recorder's own thread does every tenth of a second.
"""

from __future__ import annotations

import math
import os
from dataclasses import dataclass, field

import numpy as np
from django.test import SimpleTestCase

from hauch.core.measure.meter import Meter
from hauch.core.rig.live import LiveRig
from hauch.core.trace.reduce import Chosen, marks_of, windows_read
from hauch.core.trace.source import Held
from hauch.instruments.grid import Piece
from hauch.live.readings import odd_one
from hauch.live.session import OTHER_HAND, STALL_CUT, STARTS_BY, Session

RATE = 10.0
STEP = 2
"""Ticks between two looks of the recorder."""
LENGTH = 60.0
SEEDS = int(os.environ.get("HAUCH_FAULT_SEEDS", "40"))
"""The first 200 were played; each change plays some of them."""
CHANNELS = ("air_speed", "static_pressure", "current", "voltage", "speed", "throttle")
METERS = {
    "air_speed": Meter("v", "Vane", 0.01),
    "static_pressure": Meter("p", "Manometer", 0.1),
    "current": Meter("i", "Amps", 0.001),
    "voltage": Meter("u", "Volts", 0.001),
    "speed": Meter("n", "Tacho", 1.0),
}
WINDOWS = [(15.0 + 5 * i, 19.0 + 5 * i) for i in range(9)]
CAP = 2050.0
SLIPS = {"air_speed": 196.85, "static_pressure": 1 / 9.80665, "current": 1000.0}


@dataclass
class Bench:
    """A bench under random faults, with what must not be."""

    seed: int
    wrong: list[str] = field(default_factory=list)

    def faults(self) -> list[tuple[float, str, tuple]]:
        """What goes wrong, and when [s]: one to three things after the part runs."""
        random = np.random.default_rng(self.seed)
        found = []
        for at in np.sort(random.uniform(12, 45, random.integers(1, 4))):
            kind = random.choice(
                ["spike", "dropout", "stuck", "unit", "stall", "volts", "knob", "damper"]
            )
            channel = str(random.choice(list(SLIPS)))
            seconds = float(random.uniform(0.3, 6.0))
            if kind == "unit":
                more = (channel, "unit", max(seconds, 1.0), SLIPS[channel])
            elif kind in {"spike", "dropout", "stuck"}:
                more = (channel, kind, seconds)
            elif kind == "knob":
                more = (float(random.choice([0.0, 30.0, 60.0])),)
            else:
                more = (float(random.uniform(14.2, 16.0)) if kind == "volts" else seconds,)
            found.append((float(at), str(kind), more))
        return found

    def play(self) -> tuple[np.ndarray, dict[str, np.ndarray], dict[str, np.ndarray]]:
        """Time, what was recorded, and what a bench without the meters' faults would have shown."""
        rig, twin = (LiveRig(rate=RATE, seed=self.seed) for _ in range(2))
        for one in (rig, twin):
            one.start(0.0)
        sent: list[float] = []
        session = Session(
            1, list(CHANNELS), RATE, None, cap=CAP, send=lambda percent: sent.append(percent)
        )
        waiting = self.faults()
        over_since = still_since = off_since = math.nan
        opened = False
        ran, before = False, 0
        for tick in range(STEP, int(LENGTH * RATE), STEP):
            now = tick / RATE
            while waiting and waiting[0][0] <= now:
                self.happen(rig, twin, waiting.pop(0))
            if not opened and now >= 2.0:
                opened = True
                session.turn(100.0)
            while sent:
                percent = sent.pop(0)
                rig.set_throttle(percent)
                twin.set_throttle(percent)
            rig.advance(now)
            twin.advance(now)
            rows = np.column_stack([rig.since(c, before)[1] for c in CHANNELS])
            session.add(Piece(before + 1, rows))
            before = tick
            session.watch()
            # What must be by its rule: the speed limit, a part that is held, what is said.
            over_since = self.since(over_since, now, rig.now("speed") > CAP and rig.throttle > 0)
            if now - over_since > 0.6:
                self.wrong.append(f"{now:.1f} s: above the limit for {now - over_since:.1f} s")
            held = rig.stalled and rig.throttle >= 10 and np.isfinite(rig.now("speed"))
            ran = rig.throttle >= 10 and (ran or rig.now("speed") > 200)
            still_since = self.since(still_since, now, held and rig.now("speed") < 30)
            most = STALL_CUT if ran else OTHER_HAND + STARTS_BY
            if now - still_since > most + 1.5:
                self.wrong.append(f"{now:.1f} s: held with the throttle at {rig.throttle:.0f} %")
            off = abs(session.throttle - rig.throttle) > 0.3
            off_since = self.since(off_since, now, off)
            if now - off_since > OTHER_HAND + 1.5:
                self.wrong.append(
                    f"{now:.1f} s: {session.throttle:.0f} % is said, {rig.throttle:.0f} % is so"
                )
        times = np.arange(1, before + 1) / RATE
        shown, truth = ({c: one.since(c, 0)[1] for c in CHANNELS} for one in (rig, twin))
        return times, shown, truth

    @staticmethod
    def since(before: float, now: float, is_so: bool) -> float:
        return math.nan if not is_so else now if math.isnan(before) else before

    @staticmethod
    def happen(rig: LiveRig, twin: LiveRig, fault: tuple[float, str, tuple]) -> None:
        """A fault of a meter is the bench's alone; what happens to the part happens to both."""
        _, kind, more = fault
        if kind in {"spike", "dropout", "stuck", "unit"}:
            rig.fault(*more)
            return
        for one in (rig, twin):
            if kind == "stall":
                one.fault("", "stall")
            elif kind == "volts":
                one.supply = more[0]
            elif kind == "knob":
                one.set_throttle(more[0])
            else:
                one.damper = 1.0 + more[0]

    def read(self, times, shown, truth) -> None:
        """Each reading is right, marked, far off the others, or there is no result."""
        trace = Held(times, {c: shown[c] for c in CHANNELS})
        found = windows_read(trace, METERS, WINDOWS, CHANNELS)
        marks = marks_of(trace.window(), METERS, Chosen(WINDOWS))
        means = {
            c: np.array([w.samples[c].mean() for w in found if w.samples[c].size]) for c in SLIPS
        }
        for window in found:
            low, high = window.low, window.high
            inside = (times >= low) & (times <= high)
            if truth["speed"][inside].min() < 200 or shown["throttle"][inside].min() < 5:
                continue  # no reading is taken while it stands
            for channel in SLIPS:
                if not window.samples[channel].size:
                    continue  # no figure
                value = float(window.samples[channel].mean())
                right = float(np.nanmean(truth[channel][inside]))
                # What a stuck or lost meter leaves is fewer samples of a part that may have moved.
                scatter = float(np.nanstd(truth[channel][inside]))
                if abs(value - right) <= max(0.03 * abs(right), 2.5 * scatter, 0.003):
                    continue
                marked = any(
                    m.channel in {channel, "time"}
                    and (m.kind == "jump" or (m.from_s <= high and m.to_s >= low - 1.0))
                    for m in marks
                )
                if not marked and not odd_one(value, means[channel]):
                    self.wrong.append(
                        f"{channel} from {low:.0f} s reads {value:.4g}, {right:.4g} is right:"
                        f" {self.faults()}"
                    )


class RandomFaultTests(SimpleTestCase):
    def test_scripts(self):
        for seed in range(SEEDS):
            bench = Bench(seed)
            bench.read(*bench.play())
            with self.subTest(seed=seed):
                self.assertEqual(bench.wrong[:2], [])
