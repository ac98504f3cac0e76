"""From a stored run to what the core takes, and from what the core gives to a stored result."""

from __future__ import annotations

from collections import defaultdict
from typing import Any

from hauch.bench.models import Run
from hauch.core import CORE_VERSION
from hauch.core.measure.procedures import channels_of
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.trace.marks import Mark
from hauch.core.trace.reduce import RISE_RESOLUTION, Reduced, steady_readings


def trace_of(run: Run, meters: dict) -> Reduced | None:
    """Steady part of the run's recording, on the channels that its procedure uses."""
    if run.recording is None:
        return None
    times, channels = run.recording.arrays()
    used = {key: values for key, values in channels.items() if key in channels_of(run.test.how)}
    reduced = steady_readings(times, used, meters, str(run.uid), run.test.resolution or RISE_RESOLUTION)
    settling = reduced.settling
    if settling is not None and not settling.settled:
        wait = f"about {settling.seconds_to_go / 60:.0f} min to go" if settling.seconds_to_go < 36_000 else "no end in sight"
        raise NoResult(f"Not settled: the load was heading for {settling.end:.1f} °C, {wait}. Let it soak longer and record again.", reduced.marks)
    return reduced


def run_input(run: Run) -> tuple[RunInput, list[Mark]]:
    """All that a run was read with, as the core takes it, and the marks of its recording."""
    test, rig = run.test, run.rig
    meters = {meter.channel: meter.instrument.meter(run.started_at) for meter in rig.meters.all()}
    values: dict[str, list[float]] = defaultdict(list)
    positions: dict[str, list[int]] = defaultdict(list)
    for reading in (run.carried_from or run).readings.all():
        values[reading.channel].append(reading.value)
        positions[reading.channel].append(reading.position)
    reduced = trace_of(run, meters)
    readings: dict[str, Any] = {**(reduced.readings if reduced else {}), **values}
    given = RunInput(
        run=str(run.uid),
        readings=readings,
        meters=meters,
        rig=rig.pairs,
        rig_key=rig.key,
        temperature=run.temperature,
        pressure=run.pressure,
        humidity=run.humidity,
        positions=positions,
        correlation=reduced.correlation if reduced else {},
        steady=reduced.steady if reduced else {},
        common_speed=test.common_speed,
        reporting_distance=test.reporting_distance,
    )
    return given, reduced.marks if reduced else []


def compute(run: Run) -> dict[str, Any]:
    """The fields of the run's result: a figure with doubt and working, or the reason why there is none."""
    marks: list[Mark] = []
    fields: dict[str, Any] = {
        "value": None, "u": None, "dof": None, "unit": "", "parts": [], "working": [], "missing": "", "core_version": CORE_VERSION,
    }  # fmt: skip
    try:
        given, marks = run_input(run)
        fields |= run.test.how.reduce(given).as_json()
    except NoResult as reason:
        fields["missing"] = str(reason)
        marks = list(reason.marks) or marks
    except ValueError as problem:
        fields["missing"] = f"The readings cannot be reduced: {problem}."
    fields["marks"] = [[m.channel, m.kind, round(m.from_s, 3), round(m.to_s, 3), m.samples] for m in marks]
    return fields
