"""A script of what goes wrong at simulated meters, and when: so that anyone can replay it.

One line for each: seconds after the start, bench, meter, command. ``#`` begins a remark::

    10.0  1  anemometer  RIG:FAULT air_speed,unit,3
    25.0  1  anemometer  RIG:OFFLINE 3
"""

from __future__ import annotations

import asyncio
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from hauch.instruments.standins import DEVICES, HANDS, Bench

SHIPPED = Path(__file__).with_name("faults.txt")
"""Every fault of a bench that Hauch knows, one after the other."""

LONGEST = 24 * 3600.0
"""No script is longer than a day [s]."""

COMMANDS = {*HANDS, "RIG:OFFLINE", "SOUR:THR"}
"""What a script may do."""


class ScriptWrong(ValueError):
    """A script that cannot be played; with the line and what is wrong in it."""


@dataclass(frozen=True, slots=True)
class Fault:
    """A command to a meter of a bench, so many seconds after the start."""

    at: float
    bench: int
    meter: str
    command: str


def read_script(text: str, benches: int = 1) -> list[Fault]:
    """The faults of a script in order of time.

    Raises
    ------
    ScriptWrong : with the number of the line and a sentence
    """
    found = []
    for number, line in enumerate(text.splitlines(), 1):
        words = line.partition("#")[0].split(maxsplit=3)
        if not words:
            continue
        if len(words) < 4:
            raise ScriptWrong(f"Line {number}: give seconds, bench, meter and command.")
        try:
            at, bench = float(words[0]), int(words[1])
        except ValueError as problem:
            raise ScriptWrong(
                f"Line {number}: begin with the seconds and the number of the bench."
            ) from problem
        if not 0 <= at <= LONGEST:
            raise ScriptWrong(f"Line {number}: {words[0]} s is not between 0 and a day.")
        if not 1 <= bench <= benches:
            raise ScriptWrong(f"Line {number}: there is no bench {bench}; there are {benches}.")
        meters = [device.key for device in DEVICES]
        if words[2] not in meters:
            raise ScriptWrong(
                f"Line {number}: there is no meter “{words[2]}”; there are {', '.join(meters)}."
            )
        command = words[3].strip()
        if command.split()[0].upper() not in COMMANDS:
            raise ScriptWrong(
                f"Line {number}: “{command}” is no fault; there are {', '.join(sorted(COMMANDS))}."
            )
        found.append(Fault(at, bench, words[2], command))
    if not found:
        raise ScriptWrong("The script holds no line.")
    return sorted(found, key=lambda fault: fault.at)


async def play(
    script: Sequence[Fault], benches: Sequence[Bench], say: Callable[[str], None]
) -> None:
    """Make what a script says go wrong, and say it; ends with the last line."""
    begun = asyncio.get_running_loop().time()
    for fault in script:
        await asyncio.sleep(max(begun + fault.at - asyncio.get_running_loop().time(), 0.0))
        benches[fault.bench - 1].meters[fault.meter].answer(fault.command)
        say(f"{fault.at:7.1f} s  bench {fault.bench}, {fault.meter}: {fault.command}")
    say("The script of faults has ended.")
