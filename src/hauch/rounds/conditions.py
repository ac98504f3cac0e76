"""Conditions of a run as fields: lid = off, gasket = yes; and by which of them two settings differ."""

from __future__ import annotations

import re

from django.core.exceptions import ValidationError

from hauch.rounds.models import Setting

MOST_FIELDS, LONGEST = 8, 40
AS_AGREED = "as agreed"
"""What a field is where a setting does not name it."""


def conditions_of(text: str) -> tuple[str, dict[str, str]]:
    """A setting as it was typed: its label, and its fields where it names some with = or a colon.

    Raises
    ------
    ValidationError : nothing typed, a field without a value, or one that is named twice
    """
    text = " ".join(text.split())
    if not text:
        raise ValidationError("Say what is set, such as “lid = off” or “speed step 2”.")
    parts = [part.strip() for part in re.split(r"[,;]", text) if part.strip()]
    fields: dict[str, str] = {}
    if not any(re.search(r"[=:]", part) for part in parts):
        return text[:80], fields
    for part in parts:
        name, *rest = (one.strip() for one in re.split(r"[=:]", part, maxsplit=1))
        value = rest[0] if rest else ""
        if not (name and value):
            raise ValidationError(f"“{part}” has no value. Write it like lid = off.")
        if name.casefold() in (known.casefold() for known in fields):
            raise ValidationError(f"“{name}” is set twice.")
        fields[name[:LONGEST]] = value[:LONGEST]
    if len(fields) > MOST_FIELDS:
        raise ValidationError(f"At most {MOST_FIELDS} things can be set.")
    return ", ".join(f"{name} {value}" for name, value in fields.items())[:80], fields


def differences(other: Setting, this: Setting, scored: Setting) -> list[str]:
    """Fields in which two settings of a test differ: what, and what it is at the other and at this one.
    What a setting does not name is as at the one that is scored.
    """
    theirs, ours = scored.values | other.values, scored.values | this.values
    names = dict.fromkeys([*theirs, *ours])
    pairs = [(n, theirs.get(n, AS_AGREED), ours.get(n, AS_AGREED)) for n in names]
    return [
        f"{name}: {there} there, {here} here"
        for name, there, here in pairs
        if str(there).casefold() != str(here).casefold()
    ]
