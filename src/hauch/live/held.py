"""A live recording in the hands of a recorder: its session, the lines to its meters, and how it is
taken over from a recorder that died.
"""

from __future__ import annotations

import math
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from queue import SimpleQueue

import numpy as np

from hauch.bench.models import Live
from hauch.bench.traces import after, minutes_lacking, trace_of
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.seek import Search, Stepper
from hauch.instruments.grid import Grid
from hauch.instruments.grid import Piece as Rows
from hauch.instruments.link import Link
from hauch.instruments.profile import Profile, ProfileWrong
from hauch.live.assessing import Assessed, Task
from hauch.live.protocol import TURNS, Hold, Sweep, TaskSaid, status_of, steps_of, wanted_of
from hauch.live.session import RECENT_SECONDS, Session

STALE = 6.0
"""A wish to turn the throttle that is older than this [s] is not carried out, and no rule goes on
after a pause that was longer.
"""
REPORT_EVERY = 1.0
"""How often a recorder writes what each bench says [s]."""
MOST_HISTORY = 4 * 3600.0
"""How far back a recorder reads what another one recorded [s]: a soak is forecast from what came
since the throttle was turned.
"""
THROTTLE_DIGIT = 0.11
"""A motor controller that shows its throttle as far off as this [%] was turned."""
OPENS_BY = 0.5
"""Meters that keep nothing are opened first; all others wait for them for so long at most [s]."""


@dataclass
class Held:
    """A live recording that this recorder holds."""

    session: Session
    recording: int
    origin: float
    clock: Callable[[], float] = time.time
    """Seconds since 1970 as this recording counts them on."""
    links: dict[str, Link] = field(default_factory=dict)
    motor: tuple[Link, Profile] | None = None
    seen: int = -1
    unsaved: list[Rows] = field(default_factory=list)
    waves: list[tuple[str, float, float, np.ndarray]] = field(default_factory=list)
    left_at: float = 0.0
    """Throttle [%] when the bench was given up."""
    findings: SimpleQueue[Assessed] = field(default_factory=SimpleQueue)
    """What was found beside the recording, to be taken over by the recorder's own thread."""
    urgent: bool = False
    """Whether what it says must be written at once: a recorder that dies must not do twice what was
    wanted.
    """

    def close(self) -> None:
        """Leave the meters, all at once: one that does not answer must not hold up the other
        benches for each of its lines.
        """
        for link in self.links.values():
            link.leave()
        for link in self.links.values():
            link.stop()


def take_up(live: Live) -> tuple[Held, int]:
    """A bench with lines to its meters, to be read from the next tick on that is given; 0 for a
    recording that begins.
    """
    live.refresh_from_db(fields=["status"])  # as the one who held it until now left it
    status = status_of(live)
    recording = live.recording
    channels, rate, origin = (
        list(recording.columns),
        float(recording.rate or 50.0),
        recording.started_at.timestamp(),
    )
    next_tick = after(recording)
    meters = list(live.test.rig.meters.select_related("instrument"))
    by_resource: dict[str, dict[str, Profile]] = {}
    for meter in meters:
        if meter.channel in channels and meter.instrument.resource:
            with suppress(ProfileWrong):
                by_resource.setdefault(meter.instrument.resource, {})[meter.channel] = Profile.of(
                    meter.instrument.profile, meter.channel
                )
    slow = {
        c: 1 / p.rate
        for profiles in by_resource.values()
        for c, p in profiles.items()
        if not p.buffer and p.rate < rate
    }
    grid = Grid(channels, rate, origin, next_tick, slow)
    session = Session(
        live.pk,
        channels,
        rate,
        grid,
        cap=live.cap,
        resolution=live.test.resolution or 0.3,
        soaks="load_temperature" in channels,
        throttle=status.throttle,
        throttle_digit=next(
            (m.instrument.resolution for m in meters if m.channel == "throttle"), 0.1
        ),
        turned=status.turned or -math.inf,
        guarded=steps_of(live).guard is not None,
    )
    session.events.extend(status.events)
    held = Held(session, recording.pk, origin, lambda: origin + live.seconds())
    for resource, profiles in by_resource.items():
        link = held.links[resource] = Link(
            resource, profiles, origin + (next_tick - 0.5) / rate, held.clock
        )
        if (motor := profiles.get("throttle")) is not None and motor.set:
            held.motor = (link, motor)
            session.send = lambda percent, link=link, motor=motor: link.send(motor.setting(percent))  # type: ignore[misc]
    return held, next_tick


def open_lines(benches: list[Held]) -> None:
    """Begin to read all meters: first those that keep nothing, of which each moment is lost, and
    what turns the throttle.
    """
    first = [
        link
        for held in benches
        for link in held.links.values()
        if not link.keeps or (held.motor and link is held.motor[0])
    ]
    for link in first:
        link.start()
    until = time.monotonic() + OPENS_BY
    for link in first:
        link.wait_tried(max(until - time.monotonic(), 0.0))
    for link in (link for held in benches for link in held.links.values() if link not in first):
        link.start()


def go_on(held: Held, live: Live, next_tick: int) -> None:
    """Take over what was known of a recording that another recorder held."""
    session, rate = held.session, held.session.rate
    trace, end = trace_of(live.recording), (next_tick - 1) / rate
    recent = trace.window(end - RECENT_SECONDS, end + 0.5 / rate)
    begin = max(
        min(session.turned if math.isfinite(session.turned) else end, end), end - MOST_HISTORY
    )
    session.restore(trace.seconds(begin, end, session.channels), recent)
    session.stale_minutes = minutes_lacking(live.recording, session.next_minute)
    # What was said of the throttle may be a second old; the motor controller tells what it is,
    # unless it was turned after its last sample.
    shown = session.last("throttle", 1.0)
    if (
        shown.size
        and session.turned < session.now - REPORT_EVERY
        and abs(shown[-1] - session.throttle) > THROTTLE_DIGIT
    ):
        session.throttle, session.turned = float(shown[-1]), session.now
    session.events.append(f"The recording was taken up again at {next_tick / rate:.0f} s.")
    status = status_of(live)
    held.seen, said = status.seen, status.task
    if said is not None and not said.done:
        late = held.clock() - held.origin - next_tick / rate
        turns = [
            w.wish for w in wanted_of(live).wishes if isinstance(w.wish, TURNS) and w.n <= held.seen
        ]
        if turns and isinstance(turns[-1], Hold | Sweep) and late <= STALE:
            session.task = task_again(said, turns[-1], session)
        if session.task is None:
            session.events.append(
                f"The throttle stands at {session.throttle:.0f} %: what turned it by rule was"
                " broken off. Start it again."
            )
        else:
            what = "sweep" if session.task.kind == "sweep" else "search"
            session.events.append(f"The {what} goes on by itself from {session.throttle:.0f} %.")


def task_of(wanted: Hold | Sweep) -> Task:
    """A search or a sweep from what is wanted; the speed limit holds for both by the guard."""
    if isinstance(wanted, Sweep):
        return Task("sweep", Stepper(wanted.levels, wanted.dwell))
    channel = wanted.channel
    level = CHANNELS[channel].kind == "level"
    search = Search(
        wanted.target,
        wanted.tolerance,
        CHANNELS[channel].label,
        CHANNELS[channel].unit,
        exponent=0.0 if level else {"power": 2.7, "speed": 0.95}.get(channel, 1.0),
        per_decade=48.0,
    )
    return Task("hold", search, channel)


def task_again(said: TaskSaid, wanted: Hold | Sweep, session: Session) -> Task | None:
    """What another recorder turned the throttle by, to go on with; None where the throttle does not
    stand where that left it.
    """
    task = task_of(wanted)
    if task.kind != said.kind:
        return None
    task.begun = said.begun
    if isinstance(task.machine, Search):
        return task if session.throttle >= task.machine.low else None
    levels, step = task.machine.levels, said.step
    # What was said of the step may be a second old.
    steps = (
        []
        if step is None
        else [
            i
            for i in (step, step + 1)
            if 0 <= i < len(levels) and abs(levels[i] - session.throttle) <= THROTTLE_DIGIT
        ]
    )
    if not steps:
        return None
    task.machine.go_on(steps[0], session.now)
    return task
