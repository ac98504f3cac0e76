"""Asking a meter once, in a process of its own: PyVISA takes a second to load and what it opens may
hang, so that no web process loads it.

    echo '{"resource": ..., "profile": ..., "channel": ...}' | python -m hauch.instruments.ask
"""

from __future__ import annotations

import json
import subprocess
import sys
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

WAITS = 25.0
"""A meter that has not answered after so long does not answer [s]."""

PATIENT = 5000
"""For so long each answer is waited for at least [ms]: somebody asks once and waits, unlike a
recording, which must go on.
"""


class NoAnswer(Exception):
    """A meter does not answer; says why."""


def ask(resource: str, profile: Mapping[str, Any], channel: str) -> tuple[str, float]:
    """What a meter says that it is (empty where it has no identity), and one reading in SI.

    Raises
    ------
    NoAnswer : it cannot be opened, does not answer, or answers no number
    """
    asked = json.dumps({"resource": resource, "profile": dict(profile), "channel": channel})
    try:
        done = subprocess.run(
            [sys.executable, "-m", "hauch.instruments.ask"],
            check=False,
            input=asked,
            capture_output=True,
            text=True,
            timeout=WAITS,
        )
        said = json.loads(done.stdout.splitlines()[-1])
    except subprocess.TimeoutExpired as late:
        raise NoAnswer(f"nothing came within {WAITS:.0f} s") from late
    except (ValueError, IndexError) as broken:
        raise NoAnswer("the process that asked it ended without a word") from broken
    if "problem" in said:
        raise NoAnswer(said["problem"])
    return said["name"], float(said["value"])


def main() -> None:
    """Ask, and write what it said, or what went wrong."""
    from hauch.instruments.link import TROUBLES, identify, read_once
    from hauch.instruments.profile import Profile, ProfileWrong

    asked = json.load(sys.stdin)
    try:
        profile = Profile.of(asked["profile"], asked["channel"])
        least = max(PATIENT, profile.line.get("timeout_ms", 0))
        profile = replace(profile, line={**profile.line, "timeout_ms": least})
        name = identify(asked["resource"], profile)
        said = {"name": name, "value": read_once(asked["resource"], profile, asked["channel"])}
    except (ProfileWrong, *TROUBLES) as problem:
        said = {"problem": str(problem)[:200] or type(problem).__name__}
    print(json.dumps(said))


if __name__ == "__main__":
    main()
