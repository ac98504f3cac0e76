"""What is asked in a session of practice, and what is told of it afterwards. No database."""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from typing import Any

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.meter import Meter
from hauch.core.measure.run import NoResult
from hauch.core.rig.practice import (
    EARLY,
    LEAK,
    NONE,
    SPIKE,
    STALL,
    STUCK,
    UNIT,
    PracticeRun,
    Session,
    practice_session,
)
from hauch.core.trace import trouble
from hauch.core.trace.marks import Mark
from hauch.core.trace.reduce import STEADY_SHARE, steady_readings
from hauch.core.trace.source import Held

DRIFTS, STEADY = "drifts", "steady"


@dataclass(frozen=True, slots=True)
class Fault:
    """A fault as it is offered, how it is seen, and what is done about it."""

    label: str
    seen: str
    done: str


WORDS = {
    NONE: Fault(
        "Nothing: it counts",
        "All three meters come to rest and stay there.",
        "Accept it.",
    ),
    SPIKE: Fault(
        "Some samples are far off",
        "Single samples of the air speed stand high above their neighbours, while speed and pressure stay.",
        "They are left out, and the run counts: a knock at the meter or its cable is no air.",
    ),
    STALL: Fault(
        "The part stopped",
        "Speed, air and pressure fall to nothing together.",
        "Close the throttle before a hand goes in, and record that it did not finish.",
    ),
    UNIT: Fault(
        "A meter changed its unit",
        "The air speed jumps by 3.6, from m/s to km/h, while speed and pressure stay.",
        "Set the meter back and run again. Nothing after the jump may be averaged with what was before.",
    ),
    EARLY: Fault(
        "It was read too early",
        "Everything still rises when the recording ends.",
        "Wait until nothing changes any more, then read.",
    ),
    LEAK: Fault(
        "A joint opened",
        "Air and pressure fall together at once, while the speed stays or even rises a little.",
        "Look for the open joint, close it and run again. The speed alone would not have shown it.",
    ),
    STUCK: Fault(
        "A meter hangs",
        "The air speed draws a line without any scatter, while the others go on.",
        "Restart the meter and run again: a steady figure without scatter is no good figure.",
    ),
}

METERS = {
    "air_speed": Meter("practice:air", "Vane", resolution=0.01),
    "speed": Meter("practice:speed", "Tachometer", resolution=1.0),
    "static_pressure": Meter("practice:pressure", "Manometer", resolution=0.1),
}


@lru_cache(maxsize=64)
def session_of(seed: int) -> Session:
    """The session of a seed."""
    return practice_session(seed)


def name_of(run: PracticeRun) -> str:
    """What was mounted, in words."""
    return "the reference" if run.subject == "reference" else f"part {run.subject}"


def charts(run: PracticeRun, marks: list[Mark] | None = None) -> list[dict[str, Any]]:
    """Data of the charts of a run, with what was found where it is told already."""
    window = ((1 - STEADY_SHARE) * float(run.times[-1]), float(run.times[-1]))
    return [
        {
            "key": key,
            "label": CHANNELS[key].label,
            "kind": CHANNELS[key].kind,
            "times": run.times.tolist(),
            "values": values.tolist(),
            "windows": [window],
            "marks": [
                {"kind": m.kind, "word": m.kind, "from": m.from_s, "to": m.to_s}
                for m in marks or []
                if m.channel in {key, "time"}
            ],
            "reference": None,
            "height": 118,
        }
        for key, values in run.channels.items()
    ]


def plain_mean(run: PracticeRun) -> float:
    """Mean air speed of the last part [m/s], as somebody would take it who looks at nothing else."""
    last = run.times > (1 - STEADY_SHARE) * run.times[-1]
    return float(np.mean(run.channels["air_speed"][last]))


def found_by_itself(run: PracticeRun) -> tuple[list[str], list[Mark]]:
    """What the reduction of recordings says of a run by itself, with its marks."""
    try:
        reduced = steady_readings(Held(run.times, run.channels), METERS, "practice")
    except NoResult as reason:
        return [str(reason)], list(reason.marks)
    found = trouble.of_marks(reduced.marks) + trouble.still_changing(reduced.readings)
    return found, reduced.marks


@dataclass(frozen=True, slots=True)
class Answer:
    """One run in the answer: what was said, what was there, and what is found without anybody."""

    number: int
    name: str
    said: Fault
    there: Fault
    right: bool
    word: str
    found: list[str]
    charts: list[dict[str, Any]]


def answers_to(session: Session, answers: list[str]) -> list[Answer]:
    """The answer for each run."""
    rows = []
    for number, (run, said) in enumerate(zip(session.runs, answers, strict=False), 1):
        found, marks = found_by_itself(run)
        right = said == run.fault
        if right:
            word = "right"
        elif run.fault == NONE:
            word = "false alarm"
        else:
            word = "missed" if said == NONE else "seen, taken for something else"
        rows.append(
            Answer(
                number, name_of(run), WORDS[said], WORDS[run.fault], right, word, found,
                charts(run, marks),
            )
        )  # fmt: skip
    return rows
