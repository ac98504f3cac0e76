"""Everything that is told of one recording, as values."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from hauch.core.sound.bands import (
    mid_band,
)
from hauch.core.sound.doubt import Level, batches
from hauch.core.sound.faults import Fault, Found
from hauch.core.sound.modulation import Modulation
from hauch.core.sound.naming import Named, Sources
from hauch.core.sound.spectrum import Grid
from hauch.core.sound.tones import Heard

NO_TONE = -20.0
"""Audibility of what has no tone [dB]: fainter ones are told apart by nobody."""


@dataclass(frozen=True, slots=True)
class Band:
    """A one-third-octave band.

    Parameters
    ----------
    number : x of 1000 Hz 10^(x/10)
    level : as recorded [dB]
    source : without the background [dB]; an upper limit where ``limit``
    limit : whether the background is too close
    doubt : standard uncertainty of ``source`` from the scatter within the stretch [dB]
    """

    number: int
    level: float
    source: float
    limit: bool = False
    doubt: float = 0.0

    @property
    def frequency(self) -> float:
        """Mid-band frequency [Hz]."""
        return float(mid_band(self.number))


@dataclass(frozen=True, slots=True)
class Weighted:
    """Levels of one weighting over the stretch [dB]: the mean by energy, without the background, and
    the level F that is exceeded in `PERCENTS` of the time; and the standard uncertainty of the second
    from the scatter within the stretch.
    """

    mean: float
    source: float
    percentiles: tuple[float, ...]
    most: float
    doubt: float = 0.0


@dataclass(frozen=True, slots=True)
class Analysis:
    """What a recording tells.

    Parameters
    ----------
    seconds, rate : of the recording [s], [1/s]
    pascals : of one unit of the samples; None where levels are relative to a sine that fills the
        scale
    used : stretch that figures are of [s]
    by_hand : whether somebody chose it
    faults : everything that is wrong
    weighted : levels by weighting
    background : A-weighted level of the room [dB]; None without a background recording
    limit : whether the background is so close that the A-weighted level is an upper limit
    bands : one-third octaves
    tones : by frequency, named
    adjustment : for audible tones [dB] (ISO 1996-2, Annex C)
    loudness, phon, sharpness : of stationary sound [sone], [phon], [acum]; None where it is not
        calibrated or the method does not hold
    loudness_exceeded : loudness over time that is exceeded in 5 % of it, N5 [sone]; None as before,
        or where it is too short
    roughness, fluctuation : [asper], [vacil]; None where it is not calibrated or too short
    modulations : steady ones that are heard
    other_blades : number of blades that the tones tell instead of the stated one
    peak : largest sample over the end of the scale (1)
    spacing, windows : of the narrow-band spectrum's lines [Hz], and how many windows it averages
    sources : what turned and switched
    """

    seconds: float
    rate: float
    pascals: float | None
    used: tuple[float, float]
    by_hand: bool
    faults: tuple[Found, ...]
    weighted: dict[str, Weighted]
    background: float | None
    limit: bool
    bands: tuple[Band, ...]
    tones: tuple[Named, ...]
    adjustment: float
    loudness: float | None
    phon: float | None
    sharpness: float | None
    loudness_exceeded: float | None
    roughness: float | None
    fluctuation: float | None
    modulations: tuple[Modulation, ...]
    other_blades: int | None
    peak: float
    spacing: float
    windows: int
    sources: Sources

    @property
    def calibrated(self) -> bool:
        """Whether levels are sound pressure levels."""
        return self.pascals is not None

    @property
    def level(self) -> float:
        """A-weighted level without the background [dB]."""
        return self.weighted["A"].source

    @property
    def sure(self) -> Level:
        """The same with its standard uncertainty."""
        return Level(self.level, self.weighted["A"].doubt)

    @property
    def freedom(self) -> float:
        """Degrees of freedom of what the scatter within the stretch tells."""
        return batches(self.used[1] - self.used[0]) - 1.0

    @property
    def spoilt(self) -> Found | None:
        """Why its level may not stand as a result: clipped within the stretch, a gate, an automatic
        gain; None where it may.
        """
        return next((one for one in self.faults if self._spoils(one)), None)

    def _spoils(self, one: Found) -> bool:
        if one.fault in (Fault.GATED, Fault.GAIN, Fault.SILENT):
            return True
        if one.fault is not Fault.CLIPPED or one.place is None:
            return False
        return one.place[1] >= self.used[0] and one.place[0] <= self.used[1]

    @property
    def audibility(self) -> float:
        """Level of the tone that stands out most above its masking threshold [dB]; tones of the room
        and below the threshold of hearing do not count. At least 20 dB below where there is none.
        """
        own = (
            t.tone.audibility
            for t in self.tones
            if not t.in_background and t.tone.heard is not Heard.TOO_LOW
        )
        return max([NO_TONE, *own])

    @property
    def heard(self) -> list[Named]:
        """Tones that are heard, the one that stands out most first."""
        return sorted((t for t in self.tones if t.audible), key=lambda t: -t.tone.audibility)


@dataclass(frozen=True, slots=True)
class Pictures:
    """What is drawn of a recording: spectrogram, level F over time [dB(A)] with its step [s], and
    the density of the spectrum [dB in 1 Hz].
    """

    grid: Grid
    level: NDArray[np.float32]
    level_step: float
    density: NDArray[np.float32]
