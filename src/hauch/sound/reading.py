"""A sound file analysed in a child process. No Django here: nothing but the file and what is known of
the recording.
"""

from __future__ import annotations

import io
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path

import msgspec
import numpy as np

from hauch.core.sound.analysis import Given, NothingToHear, analyse
from hauch.core.sound.spectrum import Grid
from hauch.core.sound.told import Pictures
from hauch.formats import apart
from hauch.formats.sound import flac_bytes
from hauch.formats.sound_in import glance, read_channel

LIMITS = apart.Limits(memory=6 * apart.GIB, processor=900)
"""An hour at 48 kHz takes about 3 GB and half a minute."""

GLANCE = apart.Limits(memory=4 * apart.GIB, processor=60, seconds=300)

apart.preload(__name__, "scipy.signal", "scipy.ndimage", "scipy.stats")

COPIED, COPY_PEAK = 60.0, 0.9
"""So much of the stretch that is used is copied to listen to [s], at this largest sample."""

CUT_OFF = 0.5
"""A file that is shorter than it says by more than this is cut off [s]; codings pad a little."""


def look(tell: Callable[[int], None], path: str) -> apart.Made:
    """What a file says of itself, see `SoundInfo`."""
    return asdict(glance(Path(path))), {}


def listen(tell: Callable[[int], None], path: str, channel: int, given: Given) -> apart.Made:
    """Analyse one channel of a file.

    Parameters
    ----------
    tell : called with the percentage that is done
    path, channel : of the file
    given : what is known of it

    Returns
    -------
    ``figures``, see `Analysis`, ``cut_off``, and from where a copy to listen to begins and by what
    its samples are to be multiplied; the copy, and under ``pictures`` what is drawn, see
    `pictures_in`

    Raises
    ------
    Refused : no sound in it, or nothing that can be told from it
    """
    samples, rate, info = read_channel(Path(path), channel)
    tell(10)
    try:
        told, pictures = analyse(samples, rate, given, lambda share: tell(10 + int(85 * share)))
    except NothingToHear as problem:
        raise apart.Refused(str(problem)) from problem
    start, end = told.used
    end = min(end, start + COPIED)
    own = samples[round(start * rate) : round(end * rate)]
    scale = max(float(np.max(np.abs(own))) / COPY_PEAK, 1e-9)
    return {
        "figures": msgspec.to_builtins(told),
        "cut_off": len(samples) / rate < info.seconds - CUT_OFF,
        "copy_from": start,
        "copy_scale": scale,
    }, {"pictures": packed(pictures), "copy": flac_bytes(own / scale, rate)}


def packed(pictures: Pictures) -> bytes:
    """What is drawn, as bytes to keep."""
    out = io.BytesIO()
    np.savez(
        out,
        cells=pictures.grid.cells,
        step=pictures.grid.step,
        level=pictures.level,
        level_step=pictures.level_step,
        density=pictures.density,
    )
    return out.getvalue()


def pictures_in(place: Path) -> Pictures:
    """The same, back from a file of ours."""
    with np.load(place, allow_pickle=False) as held:
        return Pictures(
            Grid(float(held["step"]), held["cells"]),
            held["level"],
            float(held["level_step"]),
            held["density"],
        )
