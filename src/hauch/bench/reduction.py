"""From a stored run to what the core takes, and from what the core gives to a stored result."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Collection, Sequence
from dataclasses import asdict, replace
from typing import Any

from django.db.models import prefetch_related_objects

from hauch.bench.models import Run, StoredMark
from hauch.bench.traces import trace_of
from hauch.core import CORE_VERSION
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import channels_of, without_meter
from hauch.core.measure.rigs import RIGS, outlets
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.measure.taking import HIGHEST, HOLD
from hauch.core.quantity import significant
from hauch.core.trace import beside, trouble
from hauch.core.trace.marks import Mark, known_of
from hauch.core.trace.reduce import RISE_RESOLUTION, Chosen, Reduced, marks_of, steady_readings
from hauch.core.trace.source import Trace
from hauch.rounds.models import HELD_EQUAL, Round, Test
from hauch.workshop.models import Specimen

OUTLETS = outlets.RIG.key


def chosen_of(run: Run) -> Chosen:
    """What people chose in the run's recording."""
    out = [
        (e.channel, e.from_s, e.to_s)
        for e in (run.carried_from or run).exclusions.all()
        if e.stands and e.from_s is not None and e.to_s is not None
    ]
    windows = [(low, high) for low, high in run.windows]
    if not windows and run.test.how.by_point and (tare := run.beside.get(beside.TARE)):
        windows = [(tare[1], math.inf)]  # the sweep of the bare drive is none of the part's
    return Chosen(windows, out)


def reduced_of(run: Run, meters: dict[str, Meter], trace: Trace | None) -> Reduced | None:
    """Steady part of the run's recording, on the channels that its procedure uses and the throttle,
    which says what was wanted.
    """
    if run.recording is None:
        return None
    trace = trace or trace_of(run.recording)
    reduced = steady_readings(
        trace,
        meters,
        str(run.uid),
        run.test.resolution or RISE_RESOLUTION,
        channels={*channels_taken(run.test, meters), "throttle"},
        chosen=chosen_of(run),
        by_point=run.test.how.by_point,
        places=places_of(run.test, run.specimen) if run.windows else 0,
    )
    if stretch := run.beside.get(beside.BACKGROUND):
        low, high = stretch
        quiet = trace.window(low, high, ["sound_level"])
        beside.with_background(quiet.times, quiet.channels, reduced.readings, (low, high))
    if stretch := run.beside.get(beside.TARE):
        low, high = stretch
        bare = trace.window(low, high, ["torque", "speed"])
        beside.with_tare(
            bare.times, bare.channels, reduced.readings, reduced.positions, (low, high)
        )
    if run.test.soak == Test.Soak.MINUTES:
        reduced.steady.pop(
            "load_temperature", None
        )  # what it shows after the agreed minutes counts, not where it would end
        return reduced
    settling = reduced.settling
    if settling is not None and not settling.settled:
        wait = (
            f"about {settling.seconds_to_go / 60:.0f} min to go"
            if settling.seconds_to_go < 36_000
            else "no end in sight"
        )
        raise NoResult(
            f"Not settled: the load was heading for {settling.end:.1f} °C"
            f" ({settling.rise:.1f} K above the room), {wait}. Let it soak longer and record again.",
            reduced.marks,
        )
    return reduced


def meters_of(run: Run) -> dict[str, Meter]:
    """The rig's meters as they were on the day; one that reads the part also reads what is read
    without it.
    """
    prefetch_related_objects([run.rig], "meters__instrument__calibrations")
    meters = {
        meter.channel: meter.instrument.meter(run.started_at) for meter in run.rig.meters.all()
    }
    for without, channel in (("background_level", "sound_level"), ("tare_torque", "torque")):
        if without not in meters and channel in meters:
            meters[without] = meters[channel]
    return meters


def places_of(test: Test, specimen: Specimen | None = None) -> int:
    """How many places a test reads in turn: as many as its rig says, or as the print has outlets; 0
    where it reads one.
    """
    if not test.how.places:
        return 0
    own = specimen.version.outlets if specimen is not None and test.how.rig == OUTLETS else None
    return own or int(test.rig.pairs.get("places", (0, 0))[0])


def _constants(run: Run) -> dict[str, tuple[float, float]]:
    """What is known of the rig that a run was made on; as many outlets as the print has."""
    constants = run.rig.pairs
    if run.test.how.rig == OUTLETS and run.specimen is not None and run.specimen.version.outlets:
        return {**constants, "places": (float(run.specimen.version.outlets), 0.0)}
    return constants


HELD_BY = {Round.Equal.POWER: (("power",), ("voltage", "current"))}
"""What a round holds equal -> channels that show it, the first group that the rig has meters for."""


def channels_taken(test: Test, metered: Collection[str]) -> tuple[str, ...]:
    """Channels that are read in a test on a rig with such meters: what its procedure uses, and what
    shows whether the round's equal figure was held.
    """
    used = channels_of(test.how)
    if test.how.equal or test.round.equal_value is None:
        return used
    if not RIGS[test.how.rig].power_of_part:
        return used
    groups = HELD_BY.get(Round.Equal(test.round.equal), ())
    held = next((group for group in groups if set(group) <= set(metered)), ())
    return tuple(dict.fromkeys((*used, *held)))


def _not_held(test: Test, given: RunInput) -> str:
    """Whether the power that the round compares at was not held while a plain run was read."""
    agreed = test.round.equal_value
    if test.round.equal != Round.Equal.POWER or test.how.equal or agreed is None:
        return ""
    if test.how.by_point or not RIGS[test.how.rig].power_of_part:
        return ""
    if not (given.has("power") or (given.has("voltage") and given.has("current"))):
        return ""
    return trouble.not_held(given.electrical_input(), agreed, test.how.kind)


def equal_of(test: Test) -> float | None:
    """What the round holds equal for a test's figure."""
    return (
        test.round.equal_value
        if test.how.equal and HELD_EQUAL[test.how.equal] == test.round.equal
        else None
    )


def run_input(run: Run, trace: Trace | None = None) -> tuple[RunInput, Reduced | None]:
    """All that a run was read with, as the core takes it, and what its recording gave.

    Parameters
    ----------
    trace : of the recording, where it is at hand; else it is read from the database
    """
    test, rig = run.test, run.rig
    meters = meters_of(run)
    source = run.carried_from or run
    left_out = {e.reading_id for e in source.exclusions.all() if e.stands and e.reading_id}
    values: dict[str, list[float]] = defaultdict(list)
    positions: dict[str, list[int]] = defaultdict(list)
    for reading in source.readings.all():
        if reading.pk not in left_out:
            values[reading.channel].append(reading.value)
            positions[reading.channel].append(reading.position)
    reduced = reduced_of(run, meters, trace)
    readings: dict[str, Any] = {**(reduced.readings if reduced else {}), **values}
    places: dict[str, Any] = {**(reduced.positions if reduced else {}), **positions}
    if run.temperature is None or run.pressure is None or run.humidity is None:
        raise NoResult(
            "The air of the room was not written down, so nothing can be brought to standard air."
        )
    given = RunInput(
        run=str(run.uid),
        readings=readings,
        meters=meters,
        rig=_constants(run),
        rig_key=rig.key,
        temperature=run.temperature,
        pressure=run.pressure,
        humidity=run.humidity,
        positions=places,
        correlation=reduced.correlation if reduced else {},
        steady=reduced.steady if reduced else {},
        common_speed=test.common_speed,
        reporting_distance=test.reporting_distance,
        equal=equal_of(test),
        highest=test.how.decides if test.taking == HIGHEST else frozenset(),
        hold=_hold(test, reduced),
    )
    return given, reduced


def _hold(test: Test, reduced: Reduced | None) -> int:
    """Samples of a recording that make one steady value; 1 where readings were typed."""
    if reduced is None:
        return 1
    counts = [len(reduced.readings[c]) for c in test.how.decides if c in reduced.readings]
    seconds = sum(high - low for low, high in reduced.windows)
    return max(round(HOLD * max(counts) / seconds), 1) if counts and seconds > 0 else 1


def compute(run: Run, trace: Trace | None = None) -> dict[str, Any]:
    """The fields of the run's result: a figure with doubt, working and curve, or the reason why
    there is none; and what was found on the way.

    Parameters
    ----------
    trace : of the recording, where it is at hand; else it is read from the database
    """
    marks: list[Mark] = []
    troubles: list[str] = []
    fields: dict[str, Any] = {
        "value": None,
        "u": None,
        "dof": None,
        "unit": "",
        "as_read": None,
        "parts": [],
        "working": [],
        "missing": "",
        "curve": None,
        "core_version": CORE_VERSION,
    }
    try:
        given, reduced = run_input(run, trace)
        marks = reduced.marks if reduced else []
        troubles = clipping_sentences(run) + without_meter(run.test.how, given)
        troubles += [
            s
            for s in (
                trouble.speed_short(given.readings, run.test.common_speed),
                trouble.rotors_apart(given.readings),
                _not_held(run.test, given),
                trouble.disturbed(reduced.settling if reduced else None),
            )
            if s
        ]
        if reduced is not None and len(reduced.windows) == 1 and not run.test.how.by_point:
            troubles += trouble.still_changing(reduced.readings)
        figure = run.test.how.reduce(given)
        fields |= figure.as_json()
        as_read = run.test.how.reduce(replace(given, as_read=True))
        if len(as_read.working) != len(figure.working):
            fields["as_read"] = significant(as_read.value)
        if run.test.how.curve is not None:
            fields["curve"] = _rounded(asdict(run.test.how.curve(given)))
    except NoResult as reason:
        fields["missing"] = str(reason)
        marks = list(reason.marks) or marks
    except ValueError as problem:
        fields["missing"] = f"The readings cannot be reduced: {problem}."
    fields["marks"] = [list(one) for one in stored(marks)]
    fields["troubles"] = trouble.of_marks(marks) + troubles
    return fields


def stored(marks: Sequence[Mark]) -> list[StoredMark]:
    """Marks as they are kept with a result."""
    return [
        StoredMark(m.channel, m.kind, round(m.from_s, 3), round(m.to_s, 3), m.samples)
        for m in marks
    ]


def clipping_sentences(run: Run) -> list[str]:
    """Sentences for sound that was clipped while the run was read."""
    if run.recording is None:
        return []
    found = [
        w
        for w in run.recording.waveforms.all()
        if w.clipped > 0 and any(low <= w.at_s <= high + w.seconds + 2 for low, high in run.windows)
    ]
    return [
        f"The sound recorded at {w.at_s:.0f} s was clipped: {100 * w.clipped:.1f} % of its samples"
        " lie at the end of the scale."
        for w in found
    ]


def _rounded(value: Any) -> Any:
    """Plain lists and figures of a few digits more than any doubt has."""
    if isinstance(value, float):
        return significant(value)
    if isinstance(value, dict):
        return {key: _rounded(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_rounded(item) for item in value]
    return value


LAST_LOOK = 600.0
"""How much of a recording is looked at for what happened before a part did not finish [s]."""


def marks_in(run: Run) -> list[StoredMark]:
    """Marks of a run that has no result, such as one that did not finish: what happened last."""
    trace = trace_of(run.recording) if run.recording is not None else None
    if trace is None or (extent := trace.extent) is None:
        return []
    stretch = trace.window(extent[1] - LAST_LOOK, extent[1], CHANNELS)
    return stored(marks_of(stretch, meters_of(run), chosen_of(run), known_of(trace.seconds())))
