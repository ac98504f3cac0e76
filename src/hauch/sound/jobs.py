"""Background work of sound: analysing recordings."""

from __future__ import annotations

from procrastinate.contrib.django import app

from hauch.sound.analysing import run_analysis


@app.task(name="sound.analyse")
def analyse(recording_id: int) -> None:
    """Analyse a recording; a worker that dies leaves it to the next one."""
    run_analysis(recording_id)
