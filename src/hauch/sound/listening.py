"""Sounds that are heard together: at their true relative level, or equally loud."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from hauch.sound.models import SoundAnalysis

PHON_OF_LEVEL = 1.0
"""So many phon a decibel makes around the levels of fans (ISO 532-1, eq. 3: 10 phon double it)."""


def gains(analyses: Sequence[SoundAnalysis]) -> list[dict[str, float]]:
    """Factors on the copies by which they are heard, by what they are equal in: ``level`` as much
    louder as they are, ``loudness`` equally loud. The loudest is not turned up.

    Notes
    -----
    Where a recording is not calibrated its full scale stands for the pressure, and the level for the
    loudness.
    """
    true = [one.copy_scale * (one.pascals or 1.0) for one in analyses]
    loud = [
        one.told.phon if one.told.phon is not None else one.told.weighted["A"].mean
        for one in analyses
    ]
    quietest = min(loud)
    even = [
        factor * 10 ** (-(level - quietest) / PHON_OF_LEVEL / 20)
        for factor, level in zip(true, loud, strict=True)
    ]
    return [
        {"level": t / max(true), "loudness": e / max(even)} for t, e in zip(true, even, strict=True)
    ]


def sounds_of(
    analyses: Sequence[SoundAnalysis], names: Sequence[str], urls: Sequence[str], equal: str
) -> dict[str, Any]:
    """What the player is told."""
    return {
        "equal": equal,
        "sounds": [
            {"name": name, "url": url, "gain": gain}
            for name, url, gain in zip(names, urls, gains(analyses), strict=True)
        ],
    }
