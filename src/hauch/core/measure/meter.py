"""A meter's specification, and a reading with the doubt that comes from it.

References
----------
JCGM 100:2008: 4.2.3 (mean of repeated readings), 4.3.7 (accuracy as a rectangular limit), F.2.2.1
    (resolution).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity import Influence, Quantity, Step, derive, measured
from hauch.core.sound.level import energy_mean


@dataclass(frozen=True, slots=True)
class Meter:
    """What is known of a meter, in the SI unit of its channel.

    Parameters
    ----------
    key, name : identity and name
    resolution : step of the last digit
    accuracy, accuracy_share : half-width of the maker's limit, as an amount and as a share of the
        reading
    slope, offset : correction by calibration, true = slope * indicated + offset
    slope_u : standard uncertainty of the slope
    centre, level_u : indicated value at which slope and level of the line are independent, and the
        line's standard uncertainty there
    low, high : range in which the maker's limits hold
    calibration : identity of the calibration; the same one is a common cause of doubt in two runs,
        another is not
    calibration_dof : degrees of freedom of the line
    principle : for air speed: ``"vane"``, ``"hot_wire"`` (indicates mass flow at
        ``calibration_density``) or ``"pitot"``
    calibration_density : air density [kg/m3] at which a hot wire was adjusted
    """

    key: str
    name: str
    resolution: float = 0.0
    accuracy: float = 0.0
    accuracy_share: float = 0.0
    slope: float = 1.0
    offset: float = 0.0
    slope_u: float = 0.0
    principle: str = ""
    calibration_density: float = 1.2
    centre: float = 0.0
    level_u: float = 0.0
    calibration: str = ""
    calibration_dof: float = math.inf
    low: float = -math.inf
    high: float = math.inf


def read(
    channel_key: str,
    readings: Sequence[float] | np.ndarray,
    meter: Meter,
    run: str,
    *,
    correlation: float = 1.0,
) -> Quantity:
    """Mean of one channel's readings with scatter, resolution, accuracy and calibration of its
    meter.

    Parameters
    ----------
    channel_key : key in `CHANNELS`
    readings : shape (n,), SI unit of the channel
    meter : the meter they were read from
    run : identity of the run, for the doubts that are its own
    correlation : factor by which a dense trace's readings count for fewer independent ones, at
        least 1

    Raises
    ------
    ValueError : no reading

    Notes
    -----
    Levels are averaged by energy. Scatter s/sqrt(n), resolution a/sqrt(12) of one reading (rounding
    of the mean of readings that hardly move does not average out), accuracy a/sqrt(3) common to all
    runs of this meter.
    """
    channel = CHANNELS[channel_key]
    values = np.asarray(readings, dtype=float)
    if values.size == 0:
        raise ValueError(f"{channel.label}: no reading")
    level = channel.kind == "level"
    mean = float(energy_mean(values)) if level else float(np.mean(values))
    own: list[tuple[Influence, float]] = []
    independent = values.size / correlation
    if values.size > 1 and independent > 1:
        scatter = float(np.std(values, ddof=1)) / math.sqrt(independent)
        own.append(
            (
                Influence(
                    f"run:{run}:{channel_key}:scatter",
                    f"scatter of {channel.label.lower()}",
                    "own",
                    "A",
                    max(independent - 1, 1.0),
                ),
                scatter,
            )
        )
    own.append(
        (
            Influence(
                f"run:{run}:{channel_key}:resolution", f"resolution of {meter.name}", "own", "B"
            ),
            meter.resolution / math.sqrt(12),
        )
    )
    formula = "L = 10 lg (1/n Σ 10^(Lᵢ/10))" if level else "x̄ = 1/n Σ xᵢ"
    source = "ISO 3744:2010 eq. 6" if level else "JCGM 100:2008, 4.2.1"
    inputs = [("n", float(values.size), "")]
    if values.size > 1:
        inputs += [
            ("min", float(values.min()), channel.unit),
            ("max", float(values.max()), channel.unit),
        ]
    if outside := _out_of_range(values, meter):
        inputs += [
            (end, limit, channel.unit)
            for end, limit in (("range from", meter.low), ("range to", meter.high))
            if math.isfinite(limit)
        ]
    indicated = measured(mean, channel.unit, own).with_step(
        Step(
            f"{channel.label}: mean of readings",
            formula,
            tuple(inputs),
            mean,
            channel.unit,
            source,
            outside,
        )
    )
    limit = meter.accuracy + meter.accuracy_share * abs(mean)
    line = f"meter:{meter.key}:{meter.calibration}" if meter.calibration else f"meter:{meter.key}"
    dof = meter.calibration_dof
    zero = measured(
        meter.offset,
        channel.unit,
        [
            (
                Influence(
                    f"meter:{meter.key}:accuracy", f"accuracy of {meter.name}", "common", "B"
                ),
                limit / math.sqrt(3),
            ),
            (
                Influence(f"{line}:level", f"calibration of {meter.name}", "common", "B", dof),
                meter.level_u,
            ),
        ],
    )
    slope = measured(
        meter.slope,
        "",
        [
            (
                Influence(
                    f"{line}:slope", f"slope of the calibration of {meter.name}", "common", "B", dof
                ),
                meter.slope_u,
            )
        ],
    )
    if meter.slope == 1 and not zero.parts and meter.offset == 0 and not slope.parts:
        return indicated
    # The line turns about its centre, so that the doubts of its slope and of its level are
    # independent of each other.
    return derive(
        f"{channel.label}: {meter.name} corrected",
        "x = slope × x̄ + offset",
        lambda x, slope, offset: (
            meter.slope * x + offset + (slope - meter.slope) * (x - meter.centre)
        ),
        {"x": indicated, "slope": slope, "offset": zero},
        channel.unit,
        "calibration of the meter, ISO/TS 28037:2010, 6; accuracy as a rectangular limit, JCGM"
        " 100:2008, 4.3.7",
        symbols={"x": "x̄"},
    )


def _out_of_range(values: np.ndarray, meter: Meter) -> str:
    """A sentence on readings where the maker's limits no longer hold; empty where there are none."""
    count = int(np.sum((values < meter.low) | (values > meter.high)))
    if not count:
        return ""
    return (
        f"{count} of {values.size} readings outside the range of {meter.name}, where its limits do"
        " not hold."
    )
