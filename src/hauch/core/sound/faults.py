"""What is wrong with a recording, and from when to when: clipped, wind, a slam, a gate, an automatic
gain, too little band, a rate that tells too little.

References
----------
Wind on a microphone is sound below about 100 Hz that comes in gusts: IEC 61400-11:2012, 7.2.2 and
    Annex E. The limits are ours, tried on synthesised recordings (docs/method.md).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.bands import Array, Courses, level, mid_band
from hauch.core.sound.clip import clipping
from hauch.core.sound.spectrum import Spectrum


class Fault(StrEnum):
    """Kinds of faults."""

    CLIPPED = "clipped"
    BANG = "bang"
    WIND = "wind"
    GATED = "gated"
    GAIN = "automatic gain"
    SETTLING = "running up or down"
    OFFSET = "offset"
    NARROW = "cut band"
    LOW_RATE = "low rate"
    SILENT = "silent"
    MIXED = "two microphones"


@dataclass(frozen=True, slots=True)
class Found:
    """A fault at a ``place`` from one time to another [s], or of the whole recording. ``text`` says
    what it means and what to do.
    """

    fault: Fault
    text: str
    place: tuple[float, float] | None = None


AROUND = 0.3
"""Before and after a fault so much is left away [s]."""

BANG = 5.0
"""A level F this far above the level in the quarter minute around it is a bang [dB]."""

BANG_LONGEST = 3.0
"""What is louder for longer is no bang [s]."""

WIND_BELOW = 80.0
"""Gusts on a microphone are below this frequency [Hz]."""

GUST = 10.0
"""Sound below `WIND_BELOW` this far above its usual level is a gust [dB], when what lies above does
not rise with it."""

FAINT = 30.0
"""A gust so far below the sound between 400 Hz and 5 kHz does no harm [dB]."""

GATE = 20.0
"""A floor that falls by so much for a moment was shut by the recorder [dB]."""

BREATHING = 1.0
"""All bands rise and fall together by so much (standard deviation) [dB]."""

OFFSET = 0.02
"""A mean of this share of the largest sample is told."""

SETTLED = 2.0
"""At its ends a recording may be so far from its usual level [dB]; else it is running up or down."""


def faults(
    samples: NDArray[np.floating], rate: float, levels: Courses, whole: Spectrum
) -> list[Found]:
    """Everything that is wrong with a recording, in the order of the time.

    Parameters
    ----------
    samples : shape (n,), as they are in the file, largest 1
    rate : samples a second
    levels : its courses, in any unit
    whole : its spectrum, in any unit
    """
    if not np.any(samples):
        return [Found(Fault.SILENT, "There is no sound in it: all samples are zero.")]
    found = [*_offset(samples), *_low_rate(rate), *(_cut_band(whole, rate) or _mixed(whole))]
    found += _clipped(samples, rate)
    a = _smooth(levels.weighted["A"], levels.step)
    found += _bangs(a, levels.step)
    bangs = [one.place for one in found if one.fault is Fault.BANG and one.place is not None]
    found += [
        one
        for one in _gusts(levels)
        if one.place is not None
        and not any(a < one.place[1] and b > one.place[0] for a, b in bangs)
    ]
    found += _gates(levels)
    found += _settling(a, levels.step, found)
    found += _breathing(levels, found)
    return sorted(found, key=lambda one: one.place or (-1.0, 0.0))


def stretch(seconds: float, found: Sequence[Found]) -> tuple[float, float]:
    """The longest stretch without a fault [s]: half a second at each end is left away where there
    are three or more; the whole recording where nothing else is left.

    Parameters
    ----------
    seconds : of the recording
    found : its faults
    """
    edge = 0.5 if seconds >= 3 else 0.0
    cuts = sorted(
        (max(one.place[0] - AROUND, 0.0), min(one.place[1] + AROUND, seconds))
        for one in found
        if one.place is not None
    )
    best, at = (0.0, 0.0), edge
    for start, end in [*cuts, (seconds - edge, seconds)]:
        if start - at > best[1] - best[0]:
            best = (at, start)
        at = max(at, end)
    return best if best[1] - best[0] >= min(1.0, seconds - 2 * edge) else (0.0, seconds)


def _smooth(course: Array, step: float, seconds: float = 0.1) -> Array:
    return np.asarray(
        scipy.ndimage.uniform_filter1d(course, max(round(seconds / step), 1), mode="nearest")
    )


def _usual(levels: Array, step: float, seconds: float = 15.0) -> Array:
    """Running median."""
    size = min(2 * round(seconds / step / 2) + 1, 2 * (levels.size // 2) + 1)
    return np.asarray(scipy.ndimage.median_filter(levels, size, mode="nearest"))


def _runs(mask: NDArray[np.bool_], step: float, join: float = 0.2) -> list[tuple[float, float]]:
    """Stretches where a mask holds [s], joined over short gaps."""
    edges = np.flatnonzero(np.diff(np.concatenate(([False], mask, [False]))))
    out: list[tuple[float, float]] = []
    for start, end in zip((edges[::2] * step).tolist(), (edges[1::2] * step).tolist(), strict=True):
        if out and start - out[-1][1] <= join:
            out[-1] = out[-1][0], end
        else:
            out.append((start, end))
    return out


def _offset(samples: NDArray[np.floating]) -> list[Found]:
    mean, most = float(np.mean(samples, dtype=float)), float(np.max(np.abs(samples)))
    if abs(mean) < OFFSET * most:
        return []
    return [
        Found(
            Fault.OFFSET,
            f"The samples lie {100 * abs(mean) / most:.0f} % of the largest one off zero (DC offset)."
            " It is taken off; the recorder clips earlier on one side.",
        )
    ]


def _low_rate(rate: float) -> list[Found]:
    if rate >= 32_000:
        return []
    return [
        Found(
            Fault.LOW_RATE,
            f"It was sampled {rate / 1000:g} thousand times a second: nothing above"
            f" {0.45 * rate / 1000:.1f} kHz is in it. The A-weighted level is a lower limit, and"
            " whistles above are not told. Record at 44.1 or 48 kHz.",
        )
    ]


def _cut_band(whole: Spectrum, rate: float) -> list[Found]:
    """A recorder, a telephone or a codec that leaves out what is above some frequency."""
    f = whole.frequency
    top = min(0.45 * rate, 16_000.0)
    edges = np.arange(2000.0, top, 250.0)
    power = np.array([whole.power(x, x + 250) for x in edges])
    if power.size < 8 or not np.any(power > 0) or f[-1] < 4000:
        return []
    db = 10 * np.log10(power / power.max() + 1e-15)
    for i in range(4, len(edges) - 2):
        if db[i - 3 : i].mean() - db[i + 1 :].max() > 30:
            return [
                Found(
                    Fault.NARROW,
                    f"Nothing above {edges[i] / 1000:.1f} kHz is in it, though its sampling rate"
                    " could tell it: the recorder cut it off. Levels are lower limits, whistles"
                    " above are not told. Turn off compression, or record as WAV or FLAC.",
                )
            ]
    return []


def _mixed(whole: Spectrum) -> list[Found]:
    """Two microphones, or one and an echo, added into one channel: dips at even distances."""
    f = whole.frequency
    use = (f >= 300) & (f <= min(8000.0, 0.9 * f[-1]))
    if use.sum() < 2000:
        return []
    log = np.log(np.maximum(whole.density[use], 1e-300))
    log -= scipy.ndimage.median_filter(log, 1201, mode="nearest")
    log = np.clip(log, -3, 3) - np.clip(log, -3, 3).mean()
    lines = np.abs(scipy.fft.rfft(log * np.hanning(log.size))) * 4 / log.size
    delay = np.arange(lines.size) / (log.size * whole.spacing)
    usual = (delay >= 0.0012) & (delay <= 0.02)
    if not usual.any():
        return []
    top = int(np.argmax(np.where(usual, lines, 0)))
    # Of a mixed signal the logarithm swings by about twice the ratio of the two.
    if lines[top] < 0.5 or lines[top] < 6 * np.median(lines[usual]):
        return []
    return [
        Found(
            Fault.MIXED,
            f"Its spectrum has dips every {1 / delay[top]:.0f} Hz, as when two microphones are mixed"
            f" into one channel or a wall sends the sound back {1000 * delay[top]:.1f} ms later."
            " Tones and bands are falsified: record one microphone, away from walls.",
        )
    ]


def _clipped(samples: NDArray[np.floating], rate: float) -> list[Found]:
    cut = clipping(samples)
    if not cut.clipped:
        return []
    places = np.array(cut.stretches, float) / rate
    joined: list[list[float]] = []
    for start, end in places.tolist():
        if joined and start - joined[-1][1] <= 0.5:
            joined[-1][1] = end
        else:
            joined.append([start, end])
    share = f"{100 * cut.share:.1f} %" if cut.share >= 0.0005 else f"{cut.samples}"
    return [
        Found(
            Fault.CLIPPED,
            f"{share} of the samples lie at the end of the scale: levels there read low and tones are"
            " false. Choose a higher range or less gain and record again.",
            (start, end),
        )
        for start, end in joined
    ]


def _bangs(a: Array, step: float) -> list[Found]:
    levels = level(np.maximum(a, 1e-30))
    usual = _usual(levels, step)
    spread = 1.4826 * float(np.median(np.abs(levels - usual)))
    limit = max(BANG, 6 * spread)
    out = []
    for start, end in _runs(levels - usual > limit, step):
        if end - start <= BANG_LONGEST:
            top = float((levels - usual)[round(start / step) : max(round(end / step), 1)].max())
            out.append(
                Found(
                    Fault.BANG,
                    f"A bang {top:.0f} dB above the sound around it (a door, a knock, a voice).",
                    (start, end),
                )
            )
    return out


def _part(levels: Courses, low: float, high: float) -> Array:
    """Mean squares between two frequencies [Hz], over a fifth of a second."""
    middle = mid_band(np.array(levels.bands))
    rows = levels.band[(middle >= low) & (middle <= high)]
    return _smooth(rows.sum(axis=0), levels.step, 0.2)


def _gusts(levels: Courses) -> list[Found]:
    if len(levels.bands) < 8:
        return []
    low = level(np.maximum(_part(levels, 0, WIND_BELOW), 1e-30))
    high = level(np.maximum(_part(levels, 400, 5000), 1e-30))
    # Noise of a narrow band wanders by itself: what 5 % of the time falls short of tells how much.
    usual = np.percentile(low, 20)
    wander = usual - np.percentile(low, 5)
    gust = (
        (low - usual > max(GUST, 8 * wander))
        & (high - np.median(high) < GUST / 2)
        & (low > np.median(high) - FAINT)
    )
    return [
        Found(
            Fault.WIND,
            f"A gust on the microphone: below {WIND_BELOW:.0f} Hz"
            f" {float((low - usual)[round(start / levels.step) : round(end / levels.step) + 1].max()):.0f}"
            " dB above the usual. Use a windscreen, or stand outside of the part's stream.",
            (start, end),
        )
        for start, end in _runs(gust, levels.step, 1.0)
        if end - start >= 0.1
    ]


def _gates(levels: Courses) -> list[Found]:
    """Moments at which all that is between 400 Hz and 5 kHz is shut."""
    if levels.band.shape[1] < 50:
        return []
    db = level(np.maximum(_part(levels, 400, 5000), 1e-30))
    usual = _usual(db, levels.step)
    shut = [run for run in _runs(db < usual - GATE, levels.step, 0.1) if run[1] - run[0] >= 0.04]
    return [
        Found(
            Fault.GATED,
            "The recorder shut off what it took for noise here (noise reduction, a gate): fans are"
            " noise to it. Turn it off; until then no level of this recording is one.",
            (start, end),
        )
        for start, end in shut
    ]


def _breathing(levels: Courses, found: Sequence[Found]) -> list[Found]:
    """All bands rising and falling together, slower than in a fifth of a second: an automatic gain,
    or a part whose speed hunts.
    """
    step = levels.step
    each = max(round(0.25 / step), 1)
    count = levels.band.shape[1] // each
    if count < 16 or any(one.fault is Fault.GATED for one in found):
        return []
    middle = mid_band(np.array(levels.bands))
    rows = levels.band[(middle >= 250) & (middle <= 6300)]
    rows = rows[rows.mean(axis=1) > 1e-4 * rows.mean(axis=1).max()]
    keep = np.ones(count, bool)
    keep[: round(1 / step / each)] = keep[-round(1 / step / each) :] = False
    for one in found:
        if one.place is not None:
            first, last = (int(at / step / each) for at in one.place)
            keep[first : last + 2] = False
    if keep.sum() < 12 or len(rows) < 6:
        return []
    db = level(np.maximum(rows[:, : count * each].reshape(len(rows), count, each).mean(2), 1e-30))
    db = db[:, keep] - np.median(db[:, keep], axis=1, keepdims=True)
    together = np.median(db, axis=0)
    swing = float(together.std())
    each_one = float(np.median((db - together).std(axis=1)))
    if swing < BREATHING or swing < 1.5 * each_one:
        return []
    return [
        Found(
            Fault.GAIN,
            f"All bands rise and fall together by {swing:.1f} dB (standard deviation): an automatic"
            " gain in the recorder, or the part's speed hunts. With an automatic gain no level is"
            " true: turn it off and record again.",
        )
    ]


def _settling(course: Array, step: float, found: Sequence[Found]) -> list[Found]:
    """The beginning or the end of a recording at another level than the rest."""
    levels = level(np.maximum(_smooth(course, step, 0.5), 1e-30))
    usual = float(np.median(levels))
    spread = 1.4826 * float(np.median(np.abs(levels - usual)))
    off = np.abs(levels - usual) > max(SETTLED, 5 * spread)
    total = levels.size * step
    out = []
    for mask, at in ((off, "beginning"), (off[::-1], "end")):
        length = float(np.argmin(mask)) * step if not mask.all() else total
        if 0.1 <= length <= total / 2:
            start, end = (0.0, length) if at == "beginning" else (total - length, total)
            known = (one.place for one in found if one.place is not None)
            if not any(a <= start + 0.1 and b >= end - 0.1 for a, b in known):
                out.append(
                    Found(
                        Fault.SETTLING,
                        f"At its {at} the level is another than in the rest: the part was running"
                        " up or down, or something else sounded.",
                        (start, end),
                    )
                )
    return out
