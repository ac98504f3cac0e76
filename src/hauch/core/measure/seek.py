"""Turning the throttle by rule: until a figure holds (equal power, equal noise), or in steps (a
sweep).

Plain state machines: what was read goes in, the next throttle comes out. Whoever drives them reads
the meters and waits.

References
----------
Root by the secant through the last two points, kept inside a bracket (regula falsi): any numerics
    text, for example
W. H. Press et al., Numerical Recipes, 3rd edition, 9.2. First guess by the fan laws P ~ n³ and L ~
    50 lg n.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

MOST_TURNS = 14
"""Turns after which a search is given up."""

HOLDS = 2
"""Readings in a row that must lie on the target."""

STEP = 0.1
"""Finest step of a throttle [%]."""


@dataclass(frozen=True, slots=True)
class Turn:
    """What to do next: set ``throttle`` [%] and read again. ``done`` ends it, well where ``held``,
    else ``why`` says what is wrong.
    """

    throttle: float
    done: bool = False
    held: bool = False
    why: str = ""


@dataclass
class Search:
    """The throttle at which a figure holds a target.

    Parameters
    ----------
    target, tolerance : wanted figure and how near it must come, in its unit (W, dB(A), 1/min, m3/s)
    exponent : of the figure against the throttle for the first guess; 0 for a level in dB, which
        goes with ``per_decade``
    per_decade : dB for ten times the throttle
    low, high : range of the throttle [%]
    unit, label : for sentences
    """

    target: float
    tolerance: float
    label: str
    unit: str
    exponent: float = 3.0
    per_decade: float = 50.0
    low: float = 10.0
    high: float = 100.0
    seen: list[tuple[float, float]] = field(default_factory=list)
    held: int = 0

    def __post_init__(self) -> None:
        if not self.tolerance > 0:
            raise ValueError(f"the tolerance must be above 0, got {self.tolerance:g}")
        if not 0 <= self.low < self.high <= 100:
            raise ValueError(
                f"the throttle turns between {self.low:g} and {self.high:g} %, which cannot be"
            )

    def read(self, throttle: float, value: float, doubt: float = 0.0) -> Turn:
        """One settled reading of the figure at a throttle, with its standard doubt; gives the next
        turn.
        """
        if not math.isfinite(value):
            return Turn(throttle, done=True, why=f"{self.label} cannot be read. Check the meter.")
        self.seen.append((throttle, value))
        if abs(value - self.target) <= max(self.tolerance, doubt):
            self.held += 1
            return Turn(throttle, done=self.held >= HOLDS, held=self.held >= HOLDS)
        self.held = 0
        if throttle >= self.high - STEP / 2 and value < self.target:
            return Turn(
                throttle,
                done=True,
                why=self._short(
                    "at full throttle"
                    if self.high > 99.9
                    else f"at {self.high:.0f} %, the most that the speed limit allows"
                ),
            )
        if throttle <= self.low + STEP / 2 and value > self.target:
            return Turn(throttle, done=True, why=self._short(f"even at {self.low:.0f} %"))
        if len(self.seen) >= MOST_TURNS:
            return Turn(
                throttle,
                done=True,
                why=(
                    f"{self.label} does not hold {self.target:.4g} {self.unit} after {MOST_TURNS}"
                    f" turns: it wanders by more than {self.tolerance:.2g} {self.unit}."
                ),
            )
        return Turn(self._next(throttle, value))

    def _short(self, where: str) -> str:
        return (
            f"{self.label} comes to {self.seen[-1][1]:.4g} {self.unit} {where}; {self.target:.4g}"
            f" {self.unit} cannot be had with this part."
        )

    def _next(self, throttle: float, value: float) -> float:
        below = max((s for s in self.seen if s[1] < self.target), default=None, key=lambda s: s[0])
        above = min((s for s in self.seen if s[1] > self.target), default=None, key=lambda s: s[0])
        if below and above and above[0] > below[0]:
            share = (self._lifted(self.target) - self._lifted(below[1])) / (
                self._lifted(above[1]) - self._lifted(below[1])
            )
            # Never onto an edge of the bracket, so that one bad reading cannot hold the search
            # there.
            wanted = below[0] + min(max(share, 0.08), 0.92) * (above[0] - below[0])
        elif self.exponent:
            wanted = throttle * (self.target / max(value, 1e-9)) ** (1 / self.exponent)
        else:
            wanted = throttle * 10 ** ((self.target - value) / self.per_decade)
        wanted = min(max(wanted, throttle / 2, self.low), throttle * 2 + 1, self.high)
        if abs(wanted - throttle) < STEP:
            wanted = throttle + math.copysign(STEP, self.target - value)
        return min(max(round(wanted / STEP) * STEP, self.low), self.high)

    def _lifted(self, value: float) -> float:
        """The figure made straight against the throttle, for the secant."""
        return max(value, 0.0) ** (1 / self.exponent) if self.exponent else value


@dataclass
class Stepper:
    """A sweep: each throttle in turn, held for a time; the speed limit ends it early.

    Parameters
    ----------
    levels : throttles [%] in the order in which they are held
    dwell : how long each is held [s]
    """

    levels: list[float]
    dwell: float
    begun: float = math.nan
    at: int = -1

    def __post_init__(self) -> None:
        if len(self.levels) < 3:
            raise ValueError(f"a sweep needs at least three steps, got {len(self.levels)}")
        if not all(0 <= level <= 100 for level in self.levels):
            raise ValueError("steps of a sweep lie between 0 and 100 %")
        if not self.dwell >= 5:
            raise ValueError(f"each step is held for at least 5 s, got {self.dwell:g} s")

    def now(self, seconds: float) -> Turn:
        """The throttle at a time [s of the recording]; done after the last step was held."""
        if math.isnan(self.begun):
            self.begun = seconds
        if seconds - self.begun >= (self.at + 1) * self.dwell:
            # From when it is turned, not from when it should have been: who drives it may have been
            # held up, and each step is held in full.
            self.begun, self.at = seconds - (self.at + 1) * self.dwell, self.at + 1
        over = self.at >= len(self.levels)
        return Turn(self.levels[min(self.at, len(self.levels) - 1)], done=over, held=over)

    def go_on(self, step: int, seconds: float) -> None:
        """Take the sweep up at a step, which is then held anew for all of its time."""
        self.at, self.begun = step, seconds - step * self.dwell


def even_steps(low: float, high: float, count: int) -> list[float]:
    """Evenly spaced throttles [%] from low to high."""
    return [round(low + (high - low) * i / (count - 1), 1) for i in range(count)]
