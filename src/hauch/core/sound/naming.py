"""What a tone comes from: blades, shaft, motor, controller, mains, the room, or none of these.

References
----------
Blade passing: f = B n / 60 and its multiples; two rotors in one stream give tones at sums and
    differences of theirs (A. B. Parry, PhD thesis, Southampton 1988, ch. 1; M. J. Benzakein, J.
    Acoust. Soc. Am. 51 (1972) 1427). Electrical frequency of a motor of P poles: P n / 120; torque
    pulses at twice it in each phase.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from hauch.core.sound.tones import Heard, Tone

TOLERANCE = 0.005
"""Share of its frequency by which a tone may lie beside what it is named after: what a speed read
beside a recording is worth."""

LINE = 1.5
"""And always this far [Hz]: what a window of 1 s tells apart."""

MAINS_TOLERANCE = 0.6
"""Mains frequency holds so closely, at every multiple [Hz]."""

MOST_ORDER = 12
"""Multiples up to this one are named."""

WHISTLE_FROM = 500.0
"""A tone that nothing explains is called a whistle from here on, a hum below [Hz]."""

MOST_BLADES = 60


class Kind(StrEnum):
    """What a tone comes from."""

    BLADES = "blades"
    TWO_ROTORS = "two rotors"
    SHAFT = "shaft"
    MOTOR = "motor"
    CONTROLLER = "controller"
    MAINS = "mains"
    WHISTLE = "whistle"
    HUM = "hum"


@dataclass(frozen=True, slots=True)
class Turning:
    """A rotor that ran: how many blades, its speed [1/min], and the name that tells two apart."""

    blades: int
    speed: float
    name: str = ""

    @property
    def blade_pass(self) -> float:
        """Blade-passing frequency [Hz]."""
        return self.blades * self.speed / 60


@dataclass(frozen=True, slots=True)
class Sources:
    """What is known to sound beside the air.

    Parameters
    ----------
    rotors : that turn; none where blades or speed are not known
    poles : of the motor, with the speed of the first rotor
    controller : switching frequency [Hz]
    mains : frequency [Hz]
    """

    rotors: tuple[Turning, ...] = ()
    poles: int | None = None
    controller: float | None = None
    mains: float = 50.0


@dataclass(frozen=True, slots=True)
class Named:
    """A tone with what it comes from; ``order`` counts the multiple, 1 for the fundamental, 0 for
    none; ``in_background`` where the background recording has it as loud.
    """

    tone: Tone
    kind: Kind
    name: str
    order: int = 0
    in_background: bool = False

    @property
    def audible(self) -> bool:
        """Whether it is heard."""
        return self.tone.heard is Heard.AUDIBLE


@dataclass(frozen=True, slots=True)
class _Expected:
    frequency: float
    kind: Kind
    name: str
    order: int

    def off(self, frequency: float) -> float:
        """How far a tone lies beside it, 1 at the limit."""
        allowed = (
            MAINS_TOLERANCE if self.kind is Kind.MAINS else max(TOLERANCE * self.frequency, LINE)
        )
        return abs(frequency - self.frequency) / allowed


def _times(order: int) -> str:
    return "" if order == 1 else f", {order} times"


def _expected(sources: Sources) -> Iterator[_Expected]:
    """Every tone that may be expected, the likelier name first."""
    for rotor in sources.rotors:
        of = f" of {rotor.name}" if rotor.name else ""
        for k in range(1, MOST_ORDER + 1):
            yield _Expected(k * rotor.blade_pass, Kind.BLADES, f"blade passing{of}{_times(k)}", k)
    if len(sources.rotors) == 2:
        yield from _together(*sources.rotors)
    for k in range(1, MOST_ORDER + 1):
        yield _Expected(k * sources.mains, Kind.MAINS, f"mains hum{_times(k)}", k)
    if sources.controller:
        for k in range(1, MOST_ORDER + 1):
            yield _Expected(
                k * sources.controller, Kind.CONTROLLER, f"controller switching{_times(k)}", k
            )
    if sources.rotors:
        turn = sources.rotors[0].speed / 60
        if sources.poles:
            for k in range(1, MOST_ORDER + 1):
                yield _Expected(
                    k * turn * sources.poles,
                    Kind.MOTOR,
                    f"motor, {sources.poles} poles{_times(k)}",
                    k,
                )
        for rotor in sources.rotors:
            of = f" of {rotor.name}" if rotor.name else ""
            for k in range(1, MOST_ORDER + 1):
                yield _Expected(
                    k * rotor.speed / 60, Kind.SHAFT, f"once per turn{of}{_times(k)}", k
                )


def _together(first: Turning, second: Turning) -> Iterator[_Expected]:
    """Sums and differences of two rotors' blade passing."""
    for m in range(1, 4):
        for k in range(1, 4):
            for sign, mark in ((1, "+"), (-1, "−")):
                frequency = abs(m * first.blade_pass + sign * k * second.blade_pass)
                if frequency > 0:
                    yield _Expected(
                        frequency,
                        Kind.TWO_ROTORS,
                        f"blade passing, {m} × {first.name or 'first rotor'} {mark}"
                        f" {k} × {second.name or 'second rotor'}",
                        m + k,
                    )


def name_tones(
    found: Sequence[Tone], sources: Sources, background: Sequence[Tone] = ()
) -> list[Named]:
    """Each tone with what it comes from.

    Parameters
    ----------
    found : tones of the recording
    sources : what is known to sound
    background : tones of the room without the part; one that is within 3 dB there is the room's

    Notes
    -----
    Where two names fit, blades go before mains, mains before controller, motor and shaft, unless
    another fits twice as closely. A tone of the mains that is within 3 dB in the background is the
    room's, whatever else fits.
    """
    expected = list(_expected(sources))
    out = []
    for tone in found:
        room = any(
            abs(one.frequency - tone.frequency) <= max(LINE, TOLERANCE * tone.frequency / 5)
            and one.level > tone.level - 3
            for one in background
        )
        fitting = [e for e in expected if e.off(tone.frequency) <= 1]
        if room and (mains := [e for e in fitting if e.kind is Kind.MAINS]):
            fitting = mains
        if fitting:
            best = fitting[0]
            for other in fitting[1:]:
                if other.off(tone.frequency) < best.off(tone.frequency) / 2 and (
                    other.kind is Kind.MAINS or best.kind is not Kind.BLADES
                ):
                    best = other
            out.append(Named(tone, best.kind, best.name, best.order, room))
            continue
        high = tone.frequency >= WHISTLE_FROM
        out.append(
            Named(tone, Kind.WHISTLE if high else Kind.HUM, "whistle" if high else "hum", 0, room)
        )
    return out


def name_rate(rate: float, sources: Sources) -> str:
    """What sound that rises and falls at a rate [1/s] comes from: a turn of a rotor, its blades, the
    mains; empty where nothing fits.
    """
    known = (Kind.SHAFT, Kind.BLADES, Kind.MAINS)
    fitting = (e for e in _expected(sources) if e.kind in known and e.off(rate) <= 1)
    return min(fitting, key=lambda e: (e.order, e.off(rate)), default=_NOTHING).name


_NOTHING = _Expected(math.inf, Kind.HUM, "", 0)


def other_blades(found: Sequence[Tone], rotor: Turning) -> int | None:
    """The number of blades that the tones tell, when it is another than the one that was given:
    the recording has no tone at the blade passing of the stated number, and one strong tone with a
    multiple of it at another's.

    Parameters
    ----------
    found : tones of the recording
    rotor : as it was stated
    """
    turn = rotor.speed / 60

    def at(frequency: float) -> Tone | None:
        near = [
            t for t in found if abs(t.frequency - frequency) <= max(TOLERANCE * frequency, LINE)
        ]
        return max(near, key=lambda t: t.level, default=None)

    if at(rotor.blade_pass) is not None or not turn > 0:
        return None
    best: tuple[float, int] | None = None
    for blades in range(2, MOST_BLADES + 1):
        first, second = at(blades * turn), at(2 * blades * turn)
        if first is None or second is None or first.heard is Heard.TOO_LOW:
            continue
        strength = first.audibility + second.audibility
        if best is None or strength > best[0]:
            best = strength, blades
    return best[1] if best and best[1] != rotor.blades else None


def quarter_wave(frequency: float, sound_speed: float = 343.0) -> float:
    """Length of a side branch, or a chamber, that takes most off a tone [m]: c / (4 f).

    Raises ValueError for a frequency that is not above zero.
    """
    if not frequency > 0 or math.isinf(frequency):
        raise ValueError(f"the frequency of a tone must be above 0 Hz, got {frequency}")
    return sound_speed / (4 * frequency)
