"""JSON from outside: only what can be stored comes through."""

from __future__ import annotations

import json
import math
from typing import Any

MOST = 2**63
"""Whole numbers stay below this, which is what the database holds."""


def read_json(text: str | bytes) -> Any:
    """Parse JSON of whatever origin.

    Raises
    ------
    ValueError : no JSON, nested too deeply, NaN or a number beyond what can be held, or text with NUL
        or half a character; with a sentence
    """
    try:
        if isinstance(text, bytes):
            text = text.decode()
        found = json.loads(
            text, parse_constant=_no_constant, parse_float=_finite, parse_int=_bounded
        )
        if "\\u0000" in text or "\\ud" in text.lower():
            _check_texts(found)
    except RecursionError as problem:
        raise ValueError("It is nested too deeply.") from problem
    return found


def _no_constant(name: str) -> float:
    raise ValueError(f"{name} is no number.")


def _finite(text: str) -> float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(f"{text[:20]} is too large a number.")
    return value


def _bounded(text: str) -> int:
    if len(text) > 20 or not -MOST <= int(text) < MOST:
        raise ValueError(f"{text[:20]} is too large a number.")
    return int(text)


def _check_texts(value: Any) -> None:
    if isinstance(value, dict):
        for key, one in value.items():
            _check_texts(key)
            _check_texts(one)
    elif isinstance(value, list):
        for one in value:
            _check_texts(one)
    elif isinstance(value, str):
        if "\x00" in value:
            raise ValueError("A text holds NUL.")
        try:
            value.encode()
        except UnicodeEncodeError as problem:
            raise ValueError("A text holds half a character.") from problem
