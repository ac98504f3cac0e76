"""What a microphone would record on the virtual bench: noise of the flow, blade tones, a whistle, a
flutter, the room with its mains hum.

This module shares no code with the analysis that it is used to check.

References
----------
Frequency weighting A: IEC 61672-1:2013, E.4.2 (here over frequencies relative to its poles).
    Spectra of fans fall by about 5 dB an octave above their peak: W. Neise, ISSA report 1988, ch. 3.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from hauch.core.rig.bench import Bench

Samples = NDArray[np.float64]
HEARD = 2e-5
"""Root mean square of a sound of 0 dB [Pa]."""


@dataclass(frozen=True, slots=True)
class Voice:
    """What a part sounds like beside its level.

    Parameters
    ----------
    blades, speed : of the rotor that is heard, [1/min]
    tones : level of the blade-passing tone and its multiples below the whole sound [dB]
    peak : frequency from which on the noise of the flow falls [Hz]
    whistle : frequency [Hz] and level below the whole sound [dB]
    flutter : rate [1/s] and depth of the noise's rise and fall
    uneven : share of the blade tones' power that uneven spacing puts into multiples of a turn
    """

    blades: int = 7
    speed: float = 1900.0
    tones: tuple[float, ...] = (9.0, 15.0, 19.0)
    peak: float = 350.0
    whistle: tuple[float, float] | None = None
    flutter: tuple[float, float] | None = None
    uneven: float = 0.0


@dataclass(frozen=True, slots=True)
class Microphone:
    """A microphone with its recorder: samples a second, and sound pressure of a full sample [Pa]."""

    rate: int = 32_000
    full: float = 2.3


@dataclass(frozen=True)
class Recorder:
    """The loft's recorder at the sound spot."""

    bench: Bench
    microphone: Microphone = field(default_factory=Microphone)
    mains: float = 50.0

    def part(self, voice: Voice, level: float, name: str, seconds: float = 6.0) -> Samples:
        """A part that runs, in the room; its own A-weighted level is ``level`` [dB]."""
        random = self.bench.random(f"sound/{name}")
        n = int(seconds * self.microphone.rate)
        time = np.arange(n) / self.microphone.rate
        own = _shaped(random.standard_normal(n), self.microphone.rate, voice.peak)
        if voice.flutter is not None:
            rate, depth = voice.flutter
            own = own * (1 + depth * np.sin(2 * np.pi * rate * time))
        wander = 1 + 0.0004 * np.sin(2 * np.pi * 0.21 * time + random.uniform(0, 6))
        turned = np.cumsum(wander) / self.microphone.rate * voice.speed / 60
        tones = np.zeros(n)
        whole = 10 ** (level / 20) * HEARD
        for order, below in enumerate(voice.tones, 1):
            tones += self._blades(voice, order, whole * 10 ** (-below / 20), turned, random)
        if voice.whistle is not None:
            f, below = voice.whistle
            tones += _sine(f * time, whole * 10 ** (-below / 20) / _weight(f), random)
        # The noise makes up what the tones leave of the whole level.
        left = max(whole**2 - _heard(tones, self.microphone.rate) ** 2, 0.05 * whole**2)
        own *= math.sqrt(left) / _heard(own, self.microphone.rate)
        return self._recorded(own + tones + self._room(n, name), random)

    def _blades(
        self,
        voice: Voice,
        order: int,
        strength: float,
        turned: NDArray[np.floating],
        random: np.random.Generator,
    ) -> Samples:
        """One multiple of the blade tone; uneven spacing spreads it over turns beside it."""
        count = order * voice.blades
        f = count * voice.speed / 60
        out = _sine(count * turned, strength / _weight(f) * math.sqrt(1 - voice.uneven), random)
        if voice.uneven:
            for beside in (-2, -1, 1, 2):
                out = out + _sine(
                    (count + beside) * turned,
                    strength / _weight(f) * math.sqrt(voice.uneven / 4),
                    random,
                )
        return np.asarray(out)

    def room(self, name: str, seconds: float = 4.0) -> Samples:
        """The room without the part."""
        random = self.bench.random(f"sound/{name}/room")
        return self._recorded(self._room(int(seconds * self.microphone.rate), name), random)

    def tone(self, level: float = 94.0, seconds: float = 3.0) -> Samples:
        """A calibrator of 1 kHz on the microphone."""
        random = self.bench.random("sound/calibrator")
        n = int(seconds * self.microphone.rate)
        time = np.arange(n) / self.microphone.rate
        pure = _sine(1000.0 * time, HEARD * 10 ** (level / 20), random)
        return self._recorded(pure + 1e-4 * random.standard_normal(n), random)

    def _room(self, n: int, name: str) -> Samples:
        random = self.bench.random(f"sound/{name}/background")
        time = np.arange(n) / self.microphone.rate
        noise = _shaped(random.standard_normal(n), self.microphone.rate, 120.0)
        wanted = HEARD * 10 ** (self.bench.background / 20)
        noise *= wanted / _heard(noise, self.microphone.rate)
        for order, level in ((1, 40.0), (2, 36.0), (3, 27.0)):
            noise += _sine(order * self.mains * time, HEARD * 10 ** (level / 20), random)
        return noise

    def _recorded(self, pressure: Samples, random: np.random.Generator) -> Samples:
        """As samples of the recorder, its own hiss included."""
        hiss = 1e-5 * random.standard_normal(pressure.size)
        return np.asarray(np.clip(pressure / self.microphone.full + hiss, -1.0, 1.0))


def _sine(turns: NDArray[np.floating], rms: float, random: np.random.Generator) -> Samples:
    return np.asarray(math.sqrt(2) * rms * np.sin(2 * np.pi * turns + random.uniform(0, 6.28)))


def _shaped(white: Samples, rate: float, peak: float) -> Samples:
    """Noise that rises to a peak [Hz] and falls by 5 dB an octave of bandwidth above it."""
    lines = np.fft.rfft(white)
    f = np.fft.rfftfreq(white.size, 1 / rate)
    with np.errstate(divide="ignore"):
        shape = (f / 20) ** 2 / (1 + (f / 20) ** 2) / (1 + (f / peak) ** 2) ** 0.65
    return np.asarray(np.fft.irfft(lines * shape, white.size))


def _weights(frequency: NDArray[np.floating]) -> Samples:
    """Weighting A as factors on the pressure."""
    x = np.square(np.asarray(frequency, float))
    factor = x * x / ((x + 424.32) * (x + 1.48699e8) * np.sqrt((x + 11589.09) * (x + 544440.7)))
    return np.asarray(factor * 1.87200e8)


def _weight(frequency: float) -> float:
    return float(_weights(np.array([frequency]))[0])


def _heard(pressure: Samples, rate: float) -> float:
    """Root mean square of a sound with the weighting A [Pa]."""
    lines = np.fft.rfft(pressure) * _weights(np.fft.rfftfreq(pressure.size, 1 / rate))
    return math.sqrt(2 * float(np.sum(np.abs(lines) ** 2))) / pressure.size
