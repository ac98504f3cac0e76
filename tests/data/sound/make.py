"""Makes loudness.json: loudness of arbitrary spectra by another implementation of ISO 532-1, method for
stationary sounds, so that ours is not held against itself.

    python3 -m venv /tmp/other && /tmp/other/bin/pip install mosqito==1.2.1 matplotlib
    /tmp/other/bin/python tests/data/sound/make.py
"""

import json
from pathlib import Path

import numpy as np
from mosqito.sq_metrics.loudness.loudness_zwst._calc_slopes import _calc_slopes
from mosqito.sq_metrics.loudness.loudness_zwst._main_loudness import _main_loudness
from mosqito.sq_metrics.sharpness.sharpness_din.sharpness_din_from_loudness import (
    sharpness_din_from_loudness,
)

random = np.random.default_rng(532)
levels = np.round(random.uniform(0, 85, (28, 60)) + random.uniform(-20, 10, (1, 60)), 1)
out = {"levels": levels.T.tolist()}
for field in ("free", "diffuse"):
    total, specific = _calc_slopes(_main_loudness(levels.copy(), field))
    out[field] = [round(float(n), 4) for n in total]
    out[f"{field}_sharpness"] = [
        round(float(sharpness_din_from_loudness(n, s)), 4)
        for n, s in zip(total, specific.T, strict=True)
    ]
Path(__file__).with_name("loudness.json").write_text(json.dumps(out) + "\n")
