"""What people want of a live bench is done, in order and once, by the recorder that holds it."""

from __future__ import annotations

import numpy as np

from hauch.bench.models import Live
from hauch.core.measure.seek import Search
from hauch.live.held import STALE, Held, task_of
from hauch.live.presence import why_closed
from hauch.live.protocol import (
    Cut,
    Hold,
    Mounted,
    Sweep,
    Throttle,
    Wanted,
    Wave,
    Wish,
    steps_of,
)
from hauch.live.session import Session


def heed(session: Session, live: Live) -> None:
    """Whether somebody is there, and whether the guard is closed."""
    session.guarded = steps_of(live).guard is not None
    if session.throttle > 0 and (why := why_closed(live, live.absence.total_seconds())):
        session.cut(why)


def obey(held: Held, wanted: Wanted) -> None:
    """Do what is wanted, in order and once."""
    for wished in wanted.wishes:
        if wished.n <= held.seen:
            continue
        held.seen = wished.n
        late = held.clock() - held.origin - wished.at
        opens = isinstance(wished.wish, Hold | Sweep) or (
            isinstance(wished.wish, Throttle) and wished.wish.percent > 0
        )
        if late > STALE and opens:
            # Who asked for it has long turned to something else; a part must not begin to turn
            # for that.
            held.session.events.append(
                f"The throttle was to be turned {late:.0f} s ago, while nobody recorded. It was"
                " left as it is; ask again."
            )
            continue
        _do(held, wished.wish)
        held.urgent = True


def _do(held: Held, wish: Wish) -> None:
    session = held.session
    match wish:
        case Mounted(part):
            if held.motor is not None and held.motor[1].mounted:
                held.motor[0].send(held.motor[1].part(part))
        case Wave(seconds):
            _listen_to(held, seconds)
        case Cut():
            session.cut("The throttle was closed by hand.")
        case Hold() | Sweep():
            session.task = task_of(wish)
            session.task.begun = round(session.now, 2)
            machine = session.task.machine
            if isinstance(machine, Search) and session.throttle < machine.low:
                session.turn(min(max(40.0, machine.low), machine.high))
        case Throttle(percent):
            session.break_off("Stopped: the throttle was turned by hand.")
            session.turn(percent)


def _listen_to(held: Held, seconds: float) -> None:
    """Have the waveforms of all meters that have one fetched."""
    for link in held.links.values():
        for channel, reader in link.readers.items():
            if reader.profile.wave and reader.profile.wave_rate:
                rate = reader.profile.wave_rate

                def done(
                    samples: np.ndarray | None, channel: str = channel, rate: float = rate
                ) -> None:
                    if samples is not None and samples.size:
                        held.waves.append((channel, held.session.now, rate, samples))

                link.waveform(reader.profile.wave, seconds, done)
