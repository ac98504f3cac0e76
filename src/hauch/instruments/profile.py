"""A reading profile: what to send to a meter and what comes back. Data, not code, so that a new
meter needs no release.

A profile is a JSON object::

    {"query": "MEAS:VEL?", "unit": "m/s"}

``query`` asks for one reading. ``unit`` is what the meter answers in. All else may be left out:
``rate`` readings a second (10 where left out), ``missing`` texts for no reading, ``identify``
(``*IDN?``), ``set`` with ``{value}`` to turn what can be turned, ``mounted`` with ``{part}`` to
tell a stand-in what is on it, ``wave`` for a waveform, ``line`` for the settings of a serial line.

A meter that keeps its samples is asked for all of them since the last time, so that none is lost
while the line is down::

    {"buffer": {"query": "FETC:BUFF? {after}", "column": 0}, "query": "MEAS:VEL?", "unit": "m/s"}

The answer is a binary block of little-endian 64-bit floats: the meter's clock now [s], samples a
second, number of the first sample, number of columns, then the samples row by row. ``after`` is the
number of the last sample that was received; after a number that is yet to come there are no
samples. Sample n was taken when the meter's clock showed n divided by the samples a second.
"""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import dataclass, field
from importlib.resources import files
from typing import Any

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity.units import UnitUnknown, to_si

LINE_SETTINGS = {
    "read_termination": str,
    "write_termination": str,
    "baud_rate": int,
    "data_bits": int,
    "timeout_ms": int,
}
"""Settings of a line that a profile may give."""

NOT_A_NUMBER = 9.9e37
"""SCPI's own way to say that there is no reading (9.91E37; IEEE 488.2 and SCPI-1999, 7.2)."""


class ProfileWrong(ValueError):
    """A profile that cannot be used; says what is wrong in it."""


@dataclass(frozen=True, slots=True)
class Profile:
    """How one channel of a meter is read."""

    unit: str
    query: str = ""
    rate: float = 10.0
    buffer: str = ""
    column: int = 0
    missing: tuple[str, ...] = ()
    identify: str = "*IDN?"
    set: str = ""
    mounted: str = ""
    wave: str = ""
    wave_rate: float = 0.0
    line: Mapping[str, Any] = field(default_factory=dict)

    @classmethod
    def of(cls, data: Any, channel: str) -> Profile:
        """A profile from its JSON, checked for the channel that it reads.

        Raises
        ------
        ProfileWrong : with a sentence
        """
        if not isinstance(data, dict):
            raise ProfileWrong(
                'A profile is a JSON object, such as {"query": "MEAS:VEL?", "unit": "m/s"}.'
            )
        known = {
            "query",
            "unit",
            "rate",
            "buffer",
            "missing",
            "identify",
            "set",
            "mounted",
            "wave",
            "line",
        }
        if unknown := set(data) - known:
            raise ProfileWrong(
                f"“{sorted(unknown)[0]}” is no part of a profile. It knows"
                f" {', '.join(sorted(known))}."
            )
        rate = data.get("rate", 10.0)
        if not isinstance(rate, int | float) or not 0.01 <= rate <= 100:
            raise ProfileWrong("rate: a meter is asked between 0.01 and 100 times a second.")
        buffer, wave, line = (
            data.get("buffer") or {},
            data.get("wave") or {},
            data.get("line") or {},
        )
        _check_shapes(data, buffer, wave, line)
        kind = CHANNELS[channel].kind
        unit = data.get("unit", "")
        try:
            to_si(1.0, unit, kind)
        except UnitUnknown as problem:
            raise ProfileWrong(f"unit: {problem}") from problem
        if buffer and "{after}" not in buffer.get("query", ""):
            raise ProfileWrong(
                "buffer: its query needs {after}, where the number of the last sample goes."
            )
        if not data.get("query") and not buffer:
            raise ProfileWrong("query: say what is sent to get a reading, such as MEAS:VEL?")
        if data.get("set") and "{value}" not in data["set"]:
            raise ProfileWrong("set: it needs {value}, where the setting goes.")
        for name, value in line.items():
            if name not in LINE_SETTINGS or not isinstance(value, LINE_SETTINGS[name]):
                raise ProfileWrong(
                    f"line: “{name}” must be one of {', '.join(LINE_SETTINGS)}, of its kind."
                )
        return cls(
            unit,
            data.get("query", ""),
            float(rate),
            buffer.get("query", ""),
            int(buffer.get("column", 0)),
            tuple(data.get("missing", ())),
            data.get("identify", "*IDN?"),
            data.get("set", ""),
            data.get("mounted", ""),
            wave.get("query", ""),
            float(wave.get("rate", 0)),
            dict(line),
        )

    def value(self, answer: str, channel: str) -> float:
        """A reading in SI from the meter's answer; NaN where it says that there is none.

        Raises
        ------
        ValueError : the answer is no number
        """
        text = answer.strip()
        if text in self.missing:
            return float("nan")
        number = float(text.split(",")[0])
        return (
            float("nan")
            if number > NOT_A_NUMBER
            else float(to_si(number, self.unit, CHANNELS[channel].kind))
        )

    def part(self, name: str) -> str:
        """What is sent to say what is mounted. Names come from strangers: nothing in them may
        become a command.
        """
        return self.mounted.replace(
            "{part}", "".join(c for c in name if c.isalnum() or c in " -.")[:60]
        )

    def setting(self, value: float) -> str:
        """What is sent to set a value."""
        return self.set.replace("{value}", f"{value:g}")


def _check_shapes(data: dict[str, Any], buffer: Any, wave: Any, line: Any) -> None:
    """Raise ProfileWrong where a part of a profile is not of its kind."""
    for name, part in (("buffer", buffer), ("wave", wave), ("line", line)):
        if not isinstance(part, dict):
            raise ProfileWrong(f"{name}: it is a JSON object.")
    for name, text in (
        *((n, data.get(n, "")) for n in ("query", "unit", "identify", "set", "mounted")),
        ("buffer", buffer.get("query", "")),
        ("wave", wave.get("query", "")),
    ):
        if not isinstance(text, str) or len(text) > 200 or not text.isprintable():
            raise ProfileWrong(f"{name}: it is a text of up to 200 characters.")
    if not isinstance(data.get("missing", []), list) or not all(
        isinstance(text, str) for text in data.get("missing", [])
    ):
        raise ProfileWrong("missing: it is a list of texts.")
    if (
        not isinstance(buffer.get("column", 0), int)
        or not 0 <= buffer.get("column", 0) < 64
        or not isinstance(wave.get("rate", 0), int | float)
    ):
        raise ProfileWrong(
            "buffer and wave: column is a whole number from 0 on, rate a number of samples a"
            " second."
        )


def presets() -> dict[str, dict[str, Any]]:
    """Profiles that ship: name -> channel -> profile."""
    return json.loads((files("hauch.instruments") / "profiles.json").read_text())
