"""Everything that is told of one recording, from its samples and what is known of it.

References
----------
ISO 3744:2010, 8.2.3 (background, band by band); ISO 1996-1:2016, 3.6.1 and 3.6.4 (equivalent level,
    percentage exceedance level).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from hauch.core.sound.bands import (
    REFERENCE_PRESSURE,
    Array,
    Courses,
    courses,
    exceeded,
    fast,
    level,
)
from hauch.core.sound.doubt import Level, doubts, without
from hauch.core.sound.faults import Fault, Found, faults, stretch
from hauch.core.sound.level import LEAST_DIFFERENCE, level_of_difference
from hauch.core.sound.loudness import Loudness, TooLoud, loudness, loudness_level
from hauch.core.sound.loudness_filters import loudness_levels
from hauch.core.sound.loudness_time import RUN_IN, loudness_over_time
from hauch.core.sound.modulation import Modulation, modulations
from hauch.core.sound.naming import Sources, name_rate, name_tones, other_blades
from hauch.core.sound.roughness import SLOW_FRAME, fluctuation_strength, roughness
from hauch.core.sound.spectrum import Spectrum, grid, spectrum
from hauch.core.sound.told import Analysis, Band, Pictures, Weighted
from hauch.core.sound.tones import Tone, tonal_adjustment, tones
from hauch.core.sound.weighting import gain

FULL_SCALE = REFERENCE_PRESSURE * math.sqrt(2)
"""Pascals of one unit in a recording that is not calibrated: a sine that just fills the scale reads
0 dB then.
"""

PERCENTS = (5, 10, 50, 90, 95)
"""Levels that are exceeded in so much of the time [%]."""


LEAST_SECONDS = 1.0
"""A shorter recording tells nothing."""

LEAST_RATE = 4000.0
"""A lower sampling rate tells nothing [1/s]."""

MOST_SECONDS = 3600.0
"""Longer ones are refused."""


class NothingToHear(ValueError):
    """A recording from which nothing can be told; the message says why."""


@dataclass(frozen=True, slots=True)
class Given:
    """What is known of a recording.

    Parameters
    ----------
    pascals : of one unit of its samples; None where it is not calibrated
    sources : what turns and switches
    chosen : stretch that somebody chose [s]; None for the longest one without a fault
    background : analysis of the room without the part, recorded in the same way
    meter : A-weighted level that a meter read at the same spot and time [dB]; then the pascals
        follow from it
    """

    pascals: float | None = None
    sources: Sources = field(default_factory=Sources)
    chosen: tuple[float, float] | None = None
    background: Analysis | None = None
    meter: float | None = None


Tell = Callable[[float], None]


def analyse(
    samples: NDArray[np.floating], rate: float, given: Given, tell: Tell = lambda share: None
) -> tuple[Analysis, Pictures]:
    """Analyse a recording.

    Parameters
    ----------
    samples : shape (n,), full scale 1
    rate : samples a second
    given : what is known of it
    tell : is told the share that is done; what it raises ends the work

    Raises
    ------
    NothingToHear : too short, too long, too low a rate, samples that are no numbers, or silence

    Notes
    -----
    Ten minutes at 48 kHz take a few seconds; the samples may be 32-bit floats and are not copied as
    a whole.
    """
    samples = _checked(samples, rate)
    seconds = len(samples) / rate
    whole = courses(samples, rate)
    tell(0.35)
    lines = spectrum(samples, rate)
    found = faults(samples, rate, whole, lines)
    if any(one.fault is Fault.SILENT for one in found):
        raise NothingToHear("There is no sound in this recording: all samples are zero.")
    tell(0.45)
    used = _within(given.chosen, seconds) if given.chosen else stretch(seconds, found)
    own = samples[round(used[0] * rate) : round(used[1] * rate)]
    levels = whole.between(*used)
    pascals = _pascals(given, float(levels.weighted["A"].mean()))
    unit = FULL_SCALE if pascals is None else pascals
    lines = _scaled(spectrum(own, rate), unit)
    tell(0.6)
    pictures = Pictures(
        grid(samples, rate, unit),
        _thin(level(unit**2 * fast(whole.weighted["A"], whole.step)), 2000),
        whole.step * max(-(-len(whole.times) // 2000), 1),
        level(np.maximum(lines.density, 1e-30)).astype(np.float32),
    )
    tell(0.75)
    swings = _swings(own, rate, pascals)
    tell(0.9)
    return _told(
        lines, levels, pascals, given, found, swings, seconds, rate, used, samples
    ), pictures


@dataclass(frozen=True, slots=True)
class _Swings:
    """How a stretch rises and falls."""

    modulations: list[Modulation]
    roughness: float | None
    fluctuation: float | None
    loudness: float | None


def _swings(own: NDArray[np.floating], rate: float, pascals: float | None) -> _Swings:
    found = modulations(own, rate)
    if pascals is None:
        return _Swings(found, None, None, None)
    pressure = own * np.float32(pascals)
    slow = fluctuation_strength(pressure, rate) if len(own) >= SLOW_FRAME * rate else None
    return _Swings(found, roughness(pressure, rate), slow, _exceeded(pressure, rate))


def _exceeded(pressure: NDArray[np.floating], rate: float) -> float | None:
    if len(pressure) < (RUN_IN + LEAST_SECONDS) * rate:
        return None
    try:
        return loudness_over_time(pressure, rate).exceeded()
    except TooLoud:
        return None


def _pascals(given: Given, mean: float) -> float | None:
    """Pascals of one unit, where a calibrator or a meter tells them.

    Raises
    ------
    NothingToHear : a stretch without sound
    """
    if not mean > 0:
        raise NothingToHear("There is no sound in the stretch that is used.")
    if given.meter is None:
        return given.pascals
    return float(FULL_SCALE * 10 ** ((given.meter - float(level(FULL_SCALE**2 * mean))) / 20))


def _checked(samples: NDArray[np.floating], rate: float) -> NDArray[np.floating]:
    """Samples that can be analysed."""
    seconds = len(samples) / rate if rate > 0 else 0.0
    if rate < LEAST_RATE:
        raise NothingToHear(
            f"It was sampled {rate:g} times a second; below {LEAST_RATE:g} nothing can be told."
        )
    if seconds < LEAST_SECONDS:
        raise NothingToHear(
            f"It lasts {seconds:.2g} s; at least {LEAST_SECONDS:g} s are needed, and ten are better."
        )
    if seconds > MOST_SECONDS:
        raise NothingToHear(
            f"It lasts {seconds / 3600:.1f} h; more than {MOST_SECONDS / 3600:g} h are not analysed."
            " Cut out what matters."
        )
    if not np.isfinite(samples).all():
        bad = int(np.count_nonzero(~np.isfinite(samples)))
        raise NothingToHear(
            f"{bad:,} of its samples are no numbers. Export it again from the program that made it."
        )
    return samples


def _within(chosen: tuple[float, float], seconds: float) -> tuple[float, float]:
    start, end = max(chosen[0], 0.0), min(chosen[1], seconds)
    if end - start < LEAST_SECONDS:
        raise NothingToHear(
            f"The stretch from {chosen[0]:g} to {chosen[1]:g} s has less than {LEAST_SECONDS:g} s of"
            " the recording. Choose a longer one."
        )
    return start, end


def _scaled(lines: Spectrum, unit: float) -> Spectrum:
    return Spectrum(lines.spacing, lines.density * unit**2, lines.windows, lines.freedom)


def _thin(values: Array, most: int) -> NDArray[np.float32]:
    """The loudest of neighbours, at most so many."""
    each = max(-(-len(values) // most), 1)
    return np.maximum.reduceat(values, np.arange(0, len(values), each)).astype(np.float32)


def _told(
    lines: Spectrum,
    levels: Courses,
    pascals: float | None,
    given: Given,
    found: list[Found],
    swings: _Swings,
    seconds: float,
    rate: float,
    used: tuple[float, float],
    samples: NDArray[np.floating],
) -> Analysis:
    """Figures of the stretch."""
    calibrated = pascals is not None
    unit = FULL_SCALE if pascals is None else pascals
    tonal = tones(lines, calibrated)
    named = name_tones(tonal, given.sources, _tones_of(given.background))
    bands = _bands(levels, unit, given.background)
    loud = _loudness(lines) if calibrated else None
    background = given.background.weighted["A"].mean if given.background else None
    weighted = {
        name: _weighted(name, course, levels.step, unit, bands, given.background)
        for name, course in levels.weighted.items()
    }
    return Analysis(
        seconds=seconds,
        rate=rate,
        pascals=pascals,
        used=used,
        by_hand=given.chosen is not None,
        faults=tuple(found),
        weighted=weighted,
        background=background,
        limit=background is not None and weighted["A"].mean - background < LEAST_DIFFERENCE,
        bands=bands,
        tones=tuple(named),
        adjustment=tonal_adjustment([n.tone for n in named if not n.in_background]),
        loudness=float(loud.total[0]) if loud else None,
        phon=float(loudness_level(loud.total[0])) if loud else None,
        sharpness=float(loud.sharpness[0]) if loud and loud.total[0] > 0 else None,
        loudness_exceeded=swings.loudness if loud else None,
        roughness=swings.roughness,
        fluctuation=swings.fluctuation,
        modulations=tuple(
            replace(one, name=name_rate(one.rate, given.sources)) for one in swings.modulations
        ),
        other_blades=_other(tonal, given.sources),
        peak=float(np.max(np.abs(samples))),
        spacing=lines.spacing,
        windows=lines.windows,
        sources=given.sources,
    )


def _tones_of(background: Analysis | None) -> list[Tone]:
    return [named.tone for named in background.tones] if background else []


def _other(tonal: list[Tone], sources: Sources) -> int | None:
    return other_blades(tonal, sources.rotors[0]) if len(sources.rotors) == 1 else None


def _loudness(lines: Spectrum) -> Loudness | None:
    try:
        return loudness(loudness_levels(lines))
    except TooLoud:
        return None


def _bands(levels: Courses, unit: float, background: Analysis | None) -> tuple[Band, ...]:
    """Band levels with the background taken off where there is one."""
    mean = level(unit**2 * np.maximum(levels.band.mean(axis=1), 1e-30))
    unsure = doubts(levels.band, levels.step)
    room = {band.number: band for band in background.bands} if background else {}
    out = []
    for number, own, doubt in zip(levels.bands, mean.tolist(), unsure.tolist(), strict=True):
        other = room.get(number)
        if other is None:
            out.append(Band(number, own, own, doubt=doubt))
            continue
        difference = own - other.level
        if difference < LEAST_DIFFERENCE:  # an upper limit: half of it at least is the room's
            out.append(Band(number, own, own - 3.02 if difference > 0 else own, True, doubt))
        else:
            source = level_of_difference(own, other.level)
            unsure_of_it = without(Level(own, doubt), Level(other.level, other.doubt))
            out.append(Band(number, own, source, doubt=unsure_of_it))
    return tuple(out)


def _weighted(
    name: str,
    course: Array,
    step: float,
    unit: float,
    bands: tuple[Band, ...],
    background: Analysis | None,
) -> Weighted:
    """Levels of one weighting. The background is taken off by what it takes off the sum of the
    weighted bands.
    """
    mean = float(level(unit**2 * float(course.mean())))
    weights = gain(name, np.array([band.frequency for band in bands]))
    whole, source = (
        float(np.sum(10 ** ((np.array(values) + weights) / 10)))
        for values in ([b.level for b in bands], [b.source for b in bands])
    )
    over_time = level(unit**2 * np.maximum(fast(course, step), 1e-30))
    doubt = float(doubts(course[None], step)[0])
    if background is not None:
        room = background.weighted[name]
        near = min(room.mean, mean - LEAST_DIFFERENCE)  # nearer is a limit, without a doubt
        doubt = without(Level(mean, doubt), Level(near, room.doubt))
    return Weighted(
        mean,
        mean + 10 * math.log10(source / whole),
        tuple(exceeded(over_time, percent) for percent in PERCENTS),
        float(over_time.max()),
        doubt,
    )
