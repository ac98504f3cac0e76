"""What web server and recorder say to each other through the table of live recordings.

The web server writes `Wanted` and `Steps`, the recorder writes `Status`; neither touches the
other's. What is recorded goes out with NOTIFY. Types are checked when they are read, so that
neither acts on half a word.
"""

from __future__ import annotations

import math
from typing import Any, Literal, TypeVar

import msgspec

from hauch.bench.models import Live

WANTED = "hauch_wanted"
"""Channel of notices that something is wanted; the payload is the live recording's key."""

RECORDED = "hauch_live"
"""Channel of notices of what was recorded, and of what the recorder says."""

MOST_WAITING = 40
"""So many wishes may wait for a recorder that is away; then only closing the throttle is taken."""

KEPT_WISHES = 10
"""Wishes that were carried out are kept so long, for a recorder that takes over."""


class Mounted(msgspec.Struct, frozen=True, tag="mounted"):
    """A part was mounted, or taken off where there is no name; a simulated bench is told which."""

    part: str


class Throttle(msgspec.Struct, frozen=True, tag="throttle"):
    """Turn the throttle [%]."""

    percent: float


class Cut(msgspec.Struct, frozen=True, tag="cut"):
    """Close the throttle at once, and end what turns it."""


class Hold(msgspec.Struct, frozen=True, tag="hold"):
    """Turn the throttle until a figure holds [SI unit of the channel]."""

    channel: str
    target: float
    tolerance: float


class Sweep(msgspec.Struct, frozen=True, tag="sweep"):
    """Step the throttle through levels [%], each held for ``dwell`` seconds."""

    levels: list[float]
    dwell: float


class Wave(msgspec.Struct, frozen=True, tag="wave"):
    """Fetch the waveforms of the last seconds."""

    seconds: float


Wish = Mounted | Throttle | Cut | Hold | Sweep | Wave

TURNS = (Throttle, Cut, Hold, Sweep)
"""Wishes that turn the throttle."""


class Wished(msgspec.Struct, frozen=True):
    """A wish with its number, counted up, and the second of the recording at which it was made."""

    n: int
    at: float
    wish: Wish


class Wanted(msgspec.Struct, frozen=True):
    """What is wanted of the recorder, in order."""

    wishes: list[Wished] = []


class Steps(msgspec.Struct, frozen=True):
    """Steps that somebody confirmed: the second of the recording; None where it is not done."""

    mount: float | None = None
    guard: float | None = None


class TaskSaid(msgspec.Struct, frozen=True):
    """What turns the throttle by rule, enough for another recorder to go on with it."""

    kind: Literal["hold", "sweep"]
    text: str = ""
    done: bool = False
    held: bool = False
    begun: float = 0.0
    """Second of the recording at which it began."""
    step: int | None = None
    """Of a sweep, counted from 0."""


class Forecast(msgspec.Struct, frozen=True):
    """Where the load is heading [degC], the half-width of its 95 % interval [K], its time constant
    [s], whether it has settled, and how long still [s]; None where no end is in sight.
    """

    end: float
    half: float
    tau: float
    settled: bool
    to_go: float | None


class Status(msgspec.Struct, frozen=True):
    """What the recorder says of a bench."""

    throttle: float = 0.0
    at: float = 0.0
    """Second of the recording at which this was so."""
    events: list[str] = []
    turned: float | None = None
    """Second at which the throttle was last turned."""
    task: TaskSaid | None = None
    calm: bool = False
    """Whether the part has come to rest at its throttle."""
    forecast: Forecast | None = None
    seen: int = -1
    """Number of the last wish that was carried out."""
    silent: list[str] = []
    """Channels in words whose meter does not answer."""
    stands: bool | None = None
    """Whether the part stands still, as its speed says; None where none is read."""
    stopped: str = ""
    """Why this bench is not recorded any more; empty while it is."""


T = TypeVar("T")


def _read(data: dict[str, Any], kind: type[T]) -> T:
    """A stored word; numbers that stand as whole ones are taken for floats."""
    return msgspec.convert(data, kind, strict=False)


def status_of(live: Live) -> Status:
    """What the recorder last said."""
    return _read(live.status, Status)


def wanted_of(live: Live) -> Wanted:
    """What is wanted of the recorder."""
    return _read(live.wanted, Wanted)


def steps_of(live: Live) -> Steps:
    """Which steps are confirmed."""
    return _read(live.done, Steps)


def plain(word: Status | Wanted | Steps) -> dict[str, Any]:
    """As it is stored."""
    found: dict[str, Any] = msgspec.to_builtins(word)
    return found


def with_wish(wanted: Wanted, wish: Wish, at: float, seen: int) -> Wanted | None:
    """What is wanted with one wish more; None where too many wait, and this one does not close the
    throttle.

    Parameters
    ----------
    at : second of the recording
    seen : number of the last wish that was carried out. None that waits is ever dropped.
    """
    wishes = wanted.wishes
    waiting = [w for w in wishes if w.n > seen]
    if len(waiting) >= MOST_WAITING and not isinstance(wish, Cut):
        return None
    done = [w for w in wishes if w.n <= seen][-KEPT_WISHES:]
    number = wishes[-1].n + 1 if wishes else 1
    return Wanted([*done, *waiting, Wished(number, at, wish)])


def last_turn(live: Live) -> float:
    """Second of the recording at which the throttle was last turned, or asked to be: what the
    recorder says may be a second old.
    """
    status = status_of(live)
    asked = [
        w.at for w in wanted_of(live).wishes if isinstance(w.wish, TURNS) and w.at > status.at - 1.0
    ]
    return max([status.turned or 0.0, *asked])


def turning(live: Live) -> bool:
    """Whether the throttle is open, as far as the recorder has said."""
    return status_of(live).throttle > 0


def opening(live: Live) -> bool:
    """Whether the throttle was asked to open by a wish that the recorder has not carried out yet."""
    seen = status_of(live).seen
    asked = [w.wish for w in wanted_of(live).wishes if w.n > seen and isinstance(w.wish, TURNS)]
    if not asked:
        return False
    last = asked[-1]
    return isinstance(last, Hold | Sweep) or (isinstance(last, Throttle) and last.percent > 0)


def guard_closed_at(live: Live) -> float:
    """Second at which the guard was closed; infinite where it is open."""
    at = steps_of(live).guard
    return math.inf if at is None else at
