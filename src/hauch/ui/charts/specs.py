"""All charts by name."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from hauch.ui.charts import desk, sound
from hauch.ui.charts.bench import overlay, repeats, sweep, trace
from hauch.ui.charts.standing import bracket, gains, guesses, panel, places
from hauch.ui.charts.stores import control, profile, residuals
from hauch.ui.charts.theme import Spec

SPECS: dict[str, Callable[[Any, str], Spec]] = {
    "repeats": repeats,
    "trace": trace,
    "sweep": sweep,
    "overlay": overlay,
    "gains": gains,
    "places": places,
    "bracket": bracket,
    "panel": panel,
    "guesses": guesses,
    "control": control,
    "residuals": residuals,
    "profile": profile,
    "curves": desk.curves,
    "record": desk.record,
    "sound_level": sound.level,
    "sound_changes": sound.changes,
    "sound_spectrum": sound.spectrum,
    "sound_bands": sound.bands,
}
