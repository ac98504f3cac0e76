"""What a recording holds, for tests that look at its samples."""

import math

import numpy as np

from hauch.bench.models import Recording
from hauch.bench.traces import trace_of


def whole(
    recording: Recording, low: float = -math.inf, high: float = math.inf
) -> tuple[np.ndarray, dict[str, np.ndarray]]:
    """Seconds and values by channel of a stretch, with the loggers that ran beside it."""
    stretch = trace_of(recording).window(low, high)
    return stretch.times, stretch.channels
