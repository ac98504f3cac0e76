"""Silencers in a duct below the first cross mode: transmission loss over frequency, and the length
for a tone.

References
----------
M. L. Munjal, Acoustics of Ducts and Mufflers, 2nd edition (2014), ch. 2: expansion chamber (eq.
    2.105), quarter-wave side branch; ch. 3: concentric perforated tube as two waves that meet
    through its holes. Impedance of the holes: J. W. Sullivan, M. J. Crocker, J. Acoust. Soc. Am. 64
    (1978) 207. End correction of a side branch: Z. L. Ji, J. Sound Vib. 283 (2005) 1180. Cross
    modes begin at 0.586 c / d.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.predict.model import SOUND_SPEED, refuse

Array = NDArray[np.float64]

CROSS_MODE = 0.586
"""First cross mode of a round duct: f = 0.586 c / d (first zero of J1', 1.841 / pi)."""
MOST_LOSS = 60.0
"""Losses above are cut off: leaks and the walls' own sound go around a silencer before [dB]."""
RESISTANCE = 0.006
"""Resistance of a hole over rho c (Sullivan and Crocker 1978)."""
OPEN_SHARES = (0.001, 0.5)
"""Open shares between which one is looked for."""
DOUBT = 2.0
"""Standard uncertainty of a transmission loss of a printed silencer with flow [dB]; our assumption."""


@dataclass(frozen=True, slots=True)
class Chamber:
    """An expansion chamber: duct and chamber diameter, length [m]."""

    duct: float
    chamber: float
    length: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive({"duct": self.duct, "chamber": self.chamber, "length": self.length})
        if not found and self.chamber <= self.duct:
            found["chamber"] = (
                f"The chamber ({1000 * self.chamber:g} mm) must be wider than the duct"
                f" ({1000 * self.duct:g} mm), else it is a piece of duct."
            )
        return found

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB]: 10 lg(1 + (m - 1/m)2 sin2(k L) / 4), m the ratio of areas."""
        m = (self.chamber / self.duct) ** 2
        k = 2 * np.pi * np.asarray(frequency, float) / sound_speed
        return 10 * np.log10(1 + 0.25 * (m - 1 / m) ** 2 * np.sin(k * self.length) ** 2)

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the first cross mode in the chamber [Hz]; the formula does not hold above."""
        return CROSS_MODE * sound_speed / self.chamber

    @staticmethod
    def length_for(frequency: float, sound_speed: float = SOUND_SPEED) -> float:
        """Length with the most loss at a frequency [m]: a quarter wave."""
        return sound_speed / (4 * frequency)

    @property
    def short_and_wide(self) -> bool:
        """Whether it is so short that its ends disturb one another; near its limit it takes up to 6
        dB more than the formula tells then (docs/validation.md).
        """
        return self.length < 0.45 * self.chamber


@dataclass(frozen=True, slots=True)
class QuarterWave:
    """A closed side branch: duct and branch diameter, length [m]."""

    duct: float
    branch: float
    length: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive({"duct": self.duct, "branch": self.branch, "length": self.length})
        if not found and self.branch > self.duct:
            found["branch"] = (
                f"The branch ({1000 * self.branch:g} mm) cannot be wider than the duct that it sits"
                f" on ({1000 * self.duct:g} mm)."
            )
        return found

    @property
    def end(self) -> float:
        """End correction of the opening in the duct's side [m]: d / 2 (0.8216 - 0.0644 x - 0.694
        x2) up to x = 0.4, d / 2 (0.9326 - 0.6196 x) above, x branch over duct diameter (Ji 2005).
        """
        x = self.branch / self.duct
        share = 0.8216 - 0.0644 * x - 0.694 * x**2 if x <= 0.4 else 0.9326 - 0.6196 * x
        return self.branch / 2 * share

    @property
    def sounding_length(self) -> float:
        """Length with the end correction [m]."""
        return self.length + self.end

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB]: 10 lg(1 + (m tan(k L))2 / 4), m branch over duct area, cut at
        `MOST_LOSS`.
        """
        m = (self.branch / self.duct) ** 2
        k = 2 * np.pi * np.asarray(frequency, float) / sound_speed
        return np.minimum(
            10 * np.log10(1 + 0.25 * (m * np.tan(k * self.sounding_length)) ** 2), MOST_LOSS
        )

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the first cross mode in the duct [Hz]."""
        return CROSS_MODE * sound_speed / self.duct

    def length_for(self, frequency: float, sound_speed: float = SOUND_SPEED) -> float:
        """Length that is tuned to a frequency [m]: a quarter wave less the end correction."""
        return sound_speed / (4 * frequency) - self.end


@dataclass(frozen=True, slots=True)
class PerforatedTube:
    """A perforated tube in a closed chamber: duct and chamber diameter, length, hole diameter, wall
    [m], open share of the tube's surface.
    """

    duct: float
    chamber: float
    length: float
    hole: float
    wall: float
    open_share: float

    def problems(self) -> dict[str, str]:
        """A sentence for each thing that cannot be."""
        found = _positive(
            {
                "duct": self.duct,
                "chamber": self.chamber,
                "length": self.length,
                "hole": self.hole,
                "wall": self.wall,
            }
        )
        if not found and self.chamber <= self.duct + 2 * self.wall:
            found["chamber"] = (
                f"The chamber ({1000 * self.chamber:g} mm) must be wider than the perforated tube"
                f" ({1000 * (self.duct + 2 * self.wall):g} mm)."
            )
        if not 0 < self.open_share <= 0.5:
            found["open_share"] = (
                f"An open share of {100 * self.open_share:g} % cannot be; it lies between 0 and"
                " 50 %."
            )
        return found

    def loss(self, frequency: Array | float, sound_speed: float = SOUND_SPEED) -> Array:
        """Transmission loss [dB] of two plane waves, one in the tube and one around it, that meet
        through the holes: ``zeta = (0.006 + j k (t + 0.75 d)) / sigma`` (Sullivan and Crocker 1978);
        the chamber's ends are hard.
        """
        f = np.atleast_1d(np.asarray(frequency, float))
        k = 2 * np.pi * f / sound_speed
        through = self.open_share / (RESISTANCE + 1j * k * (self.wall + 0.75 * self.hole))
        around = self.chamber**2 - (self.duct + 2 * self.wall) ** 2
        rates = np.zeros((len(f), 4, 4), complex)  # of p, rho c u in the tube; and around it
        rates[:, 0, 1] = rates[:, 2, 3] = -1j * k
        rates[:, 1, 0] = -1j * k - 4 / self.duct * through
        rates[:, 1, 2] = 4 / self.duct * through
        rates[:, 3, 0] = 4 * self.duct / around * through
        rates[:, 3, 2] = -1j * k - 4 * self.duct / around * through
        value, vector = np.linalg.eig(rates * self.length)  # the matrix exponential of each
        whole = (vector * np.exp(value)[:, None, :]) @ np.linalg.inv(vector)
        # no flow at both ends of the chamber: its pressure follows from the tube's state
        outer = -whole[:, 3, :2] / whole[:, 3, 2, None]
        tube = whole[:, :2, :2] + whole[:, :2, 2, None] * outer[:, None, :]
        (a, b), (c, d) = tube[:, 0].T, tube[:, 1].T
        passed = np.abs((a + d - b - c) / 2) / np.abs(a * d - b * c)
        loss = np.minimum(20 * np.log10(np.maximum(passed, 1e-9)), MOST_LOSS)
        return loss if np.ndim(frequency) else loss[0]

    def limit(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the first cross mode in the chamber [Hz]; the waves are not plane above."""
        return CROSS_MODE * sound_speed / self.chamber

    def peak(self, sound_speed: float = SOUND_SPEED) -> float:
        """Frequency of the most loss below the limit [Hz], read off the curve; NaN where it only
        rises towards the limit.
        """
        top = self.limit(sound_speed)
        grid = np.linspace(top / 120, top, 120)
        at = int(self.loss(grid, sound_speed).argmax())
        if at in (0, len(grid) - 1):
            return math.nan
        found = scipy.optimize.minimize_scalar(
            lambda f: -float(self.loss(f, sound_speed)),
            bounds=(grid[at - 1], grid[at + 1]),
            method="bounded",
        )
        return float(found.x)

    def open_share_for(self, frequency: float, sound_speed: float = SOUND_SPEED) -> float:
        """Open share whose peak lies at a frequency; NaN where none up to 50 % does."""

        def rising(share: float) -> float:
            below, above = replace(self, open_share=share).loss(
                np.array([0.999, 1.001]) * frequency, sound_speed
            )
            return float(above - below)

        shares = np.geomspace(*OPEN_SHARES, 24)
        slopes = [rising(share) for share in shares]
        for k in range(len(shares) - 1):
            if slopes[k] < 0 < slopes[k + 1]:
                found = float(scipy.optimize.brentq(rising, shares[k], shares[k + 1], xtol=1e-6))
                peak = replace(self, open_share=found).peak(sound_speed)
                if abs(peak / frequency - 1) < 0.02:
                    return found
        return math.nan


def _positive(lengths: dict[str, float]) -> dict[str, str]:
    return {
        key: f"{key.capitalize()} is {1000 * v:g} mm; it must be above 0."
        for key, v in lengths.items()
        if not v > 0
    }


Silencer = Chamber | QuarterWave | PerforatedTube


def curve(part: Silencer, frequencies: Array, sound_speed: float = SOUND_SPEED) -> Array:
    """Transmission loss over frequency [dB].

    Raises
    ------
    CannotBe : geometry that cannot be
    """
    refuse(part.problems())
    return part.loss(frequencies, sound_speed)
