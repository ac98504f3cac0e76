"""Vibration velocity from an accelerometer.

References
----------
ISO 20816-1:2016, 4.2.2: r.m.s. of the velocity from 10 Hz to 1000 Hz; v = a / (2π f) for each
    spectral line.
"""

from __future__ import annotations

import numpy as np

BAND = (10.0, 1000.0)
"""Band of the r.m.s. value [Hz]."""


def velocity_rms(acceleration: np.ndarray, rate: float, band: tuple[float, float] = BAND) -> float:
    """Velocity r.m.s. [m/s] in a band, from acceleration [m/s2].

    Parameters
    ----------
    acceleration : shape (n,), evenly sampled
    rate : samples a second [Hz], at least 2.2 times the upper end of the band
    band : lower and upper frequency [Hz]

    Raises
    ------
    ValueError : sampled too slowly, or shorter than five periods of the lowest frequency

    Notes
    -----
    Each line of the spectrum is divided by 2π f; a Hann window keeps strong lines out of the
    others, with its power made good (3/8). NaN in gives NaN out.
    """
    x = np.asarray(acceleration, dtype=float)
    low, high = band
    if rate < 2.2 * high:
        raise ValueError(
            f"{rate:g} samples a second are too few for {high:g} Hz: take at least {2.2 * high:g}"
        )
    if x.size < 5 * rate / low:
        raise ValueError(f"{x.size / rate:.2g} s are too short: take at least {5 / low:.2g} s")
    window = np.hanning(x.size)
    spectrum = np.fft.rfft((x - x.mean()) * window)
    frequency = np.fft.rfftfreq(x.size, 1 / rate)
    inside = (frequency >= low) & (frequency <= high)
    power = 2 * np.abs(spectrum[inside]) ** 2 / (x.size**2 * np.mean(window**2))
    return float(np.sqrt(np.sum(power / (2 * np.pi * frequency[inside]) ** 2)))
