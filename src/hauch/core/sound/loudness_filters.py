"""The one-third-octave filters that loudness is defined with, and levels behind them.

Their skirts are part of the method: what leaks into the neighbouring bands is loudness.

References
----------
ISO 532-1:2017, tables A.1 and A.2 (coefficients at 48 kHz), 6.3 (levels).
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np
import scipy
from numpy.typing import NDArray

from hauch.core.sound.bands import Array, level
from hauch.core.sound.spectrum import Spectrum

RATE = 48_000.0
"""Sampling rate of the coefficients [1/s]."""

_NUMERATORS = ((1.0, 2.0, 1.0), (1.0, 0.0, -1.0), (1.0, -2.0, 1.0))

_ROWS = np.array(
    [
        (
            -6.70260e-04,
            6.59453e-04,
            -3.75071e-04,
            3.61926e-04,
            -3.06523e-04,
            2.97634e-04,
            4.30764e-11,
        ),
        (
            -8.47258e-04,
            8.30131e-04,
            -4.76448e-04,
            4.55616e-04,
            -3.88773e-04,
            3.74685e-04,
            8.59340e-11,
        ),
        (
            -1.07210e-03,
            1.04496e-03,
            -6.06567e-04,
            5.73553e-04,
            -4.94004e-04,
            4.71677e-04,
            1.71424e-10,
        ),
        (
            -1.35836e-03,
            1.31535e-03,
            -7.74327e-04,
            7.22007e-04,
            -6.29154e-04,
            5.93771e-04,
            3.41944e-10,
        ),
        (
            -1.72380e-03,
            1.65564e-03,
            -9.91780e-04,
            9.08866e-04,
            -8.03529e-04,
            7.47455e-04,
            6.82035e-10,
        ),
        (
            -2.19188e-03,
            2.08388e-03,
            -1.27545e-03,
            1.14406e-03,
            -1.02976e-03,
            9.40900e-04,
            1.36026e-09,
        ),
        (
            -2.79386e-03,
            2.62274e-03,
            -1.64828e-03,
            1.44006e-03,
            -1.32520e-03,
            1.18438e-03,
            2.71261e-09,
        ),
        (
            -3.57182e-03,
            3.30071e-03,
            -2.14252e-03,
            1.81258e-03,
            -1.71397e-03,
            1.49082e-03,
            5.40870e-09,
        ),
        (
            -4.58305e-03,
            4.15355e-03,
            -2.80413e-03,
            2.28135e-03,
            -2.23006e-03,
            1.87646e-03,
            1.07826e-08,
        ),
        (
            -5.90655e-03,
            5.22622e-03,
            -3.69947e-03,
            2.87118e-03,
            -2.92205e-03,
            2.36178e-03,
            2.14910e-08,
        ),
        (
            -7.65243e-03,
            6.57493e-03,
            -4.92540e-03,
            3.61318e-03,
            -3.86007e-03,
            2.97240e-03,
            4.28228e-08,
        ),
        (
            -1.00023e-02,
            8.29610e-03,
            -6.63788e-03,
            4.55999e-03,
            -5.15982e-03,
            3.75306e-03,
            8.54316e-08,
        ),
        (
            -1.31230e-02,
            1.04220e-02,
            -9.02274e-03,
            5.73132e-03,
            -6.94543e-03,
            4.71734e-03,
            1.70009e-07,
        ),
        (
            -1.73693e-02,
            1.30947e-02,
            -1.24176e-02,
            7.20526e-03,
            -9.46002e-03,
            5.93145e-03,
            3.38215e-07,
        ),
        (
            -2.31934e-02,
            1.64308e-02,
            -1.73009e-02,
            9.04761e-03,
            -1.30358e-02,
            7.44926e-03,
            6.71990e-07,
        ),
        (
            -3.13292e-02,
            2.06370e-02,
            -2.44342e-02,
            1.13731e-02,
            -1.82108e-02,
            9.36778e-03,
            1.33531e-06,
        ),
        (
            -4.28261e-02,
            2.59325e-02,
            -3.49619e-02,
            1.43046e-02,
            -2.57855e-02,
            1.17912e-02,
            2.65172e-06,
        ),
        (
            -5.91733e-02,
            3.25054e-02,
            -5.06072e-02,
            1.79513e-02,
            -3.69401e-02,
            1.48094e-02,
            5.25477e-06,
        ),
        (
            -8.26348e-02,
            4.05894e-02,
            -7.40348e-02,
            2.24476e-02,
            -5.34977e-02,
            1.85371e-02,
            1.03780e-05,
        ),
        (
            -1.17018e-01,
            5.08116e-02,
            -1.09516e-01,
            2.81387e-02,
            -7.85097e-02,
            2.32872e-02,
            2.04870e-05,
        ),
        (
            -1.67714e-01,
            6.37872e-02,
            -1.63378e-01,
            3.53729e-02,
            -1.16419e-01,
            2.93723e-02,
            4.05198e-05,
        ),
        (
            -2.42528e-01,
            7.98576e-02,
            -2.45161e-01,
            4.43370e-02,
            -1.73972e-01,
            3.70015e-02,
            7.97914e-05,
        ),
        (
            -3.53142e-01,
            9.96330e-02,
            -3.69163e-01,
            5.53535e-02,
            -2.61399e-01,
            4.65428e-02,
            1.56511e-04,
        ),
        (
            -5.16316e-01,
            1.24177e-01,
            -5.55473e-01,
            6.89403e-02,
            -3.93998e-01,
            5.86715e-02,
            3.04954e-04,
        ),
        (
            -7.56635e-01,
            1.55023e-01,
            -8.34281e-01,
            8.58123e-02,
            -5.94547e-01,
            7.43960e-02,
            5.99157e-04,
        ),
        (
            -1.10165e00,
            1.91713e-01,
            -1.23939e00,
            1.05243e-01,
            -8.91666e-01,
            9.40354e-02,
            1.16544e-03,
        ),
        (-1.58477e00, 2.39049e-01, -1.80505e00, 1.28794e-01, -1.32500e00, 1.21333e-01, 2.27488e-03),
        (-2.50630e00, 1.42308e-01, -2.19464e00, 2.76470e-01, -1.90231e00, 1.47304e-01, 3.91006e-03),
    ]
)
"""For each band: of three sections what a1 and a2 lie below -2 and 1, then the gain."""


def sections(band: int) -> NDArray[np.float64]:
    """Second-order sections of a band, 0 for 25 Hz, shape (3, 6), with its gain in the first one."""
    row = _ROWS[band]
    out = np.array(
        [
            (*numerator, 1.0, -2.0 - row[2 * i], 1.0 - row[2 * i + 1])
            for i, numerator in enumerate(_NUMERATORS)
        ]
    )
    out[0, :3] *= row[6]
    return out


def power_gains(frequency: Array) -> Array:
    """Share of the power of a tone that each band lets through, shape (28, frequencies); frequencies
    beyond 24 kHz [Hz] are let through by none.
    """
    inside = frequency < RATE / 2
    at = 2 * np.pi * np.where(inside, frequency, 0.0) / RATE
    gains = np.empty((len(_ROWS), frequency.size))
    for band in range(len(_ROWS)):
        _, response = scipy.signal.sosfreqz(sections(band), at)
        gains[band] = np.abs(response) ** 2 * inside
    return gains


@lru_cache(maxsize=4)
def _gains_of(spacing: float, lines: int) -> Array:
    """The same at evenly spaced lines; recordings of one rate share them."""
    return power_gains(np.asarray(np.arange(lines) * spacing, float))


def loudness_levels(spectrum: Spectrum) -> Array:
    """Levels of the 28 bands that loudness is computed from [dB], shape (28,).

    Parameters
    ----------
    spectrum : density [Pa2/Hz]; bands that it does not reach have no sound
    """
    gains = _gains_of(spectrum.spacing, spectrum.density.size)
    power = gains @ (spectrum.density * spectrum.spacing)
    return level(power)
