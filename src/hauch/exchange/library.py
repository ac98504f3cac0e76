"""The stores' library: rigs and instruments out as JSON or CSV, and in again."""

from __future__ import annotations

import csv
import io
import json
from typing import Any

from django.core.exceptions import ValidationError
from django.db import IntegrityError, transaction

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.rigs import RIGS, check_constants
from hauch.exchange import schema
from hauch.exchange.plain import StoresImporter, instrument_content, rig_content
from hauch.formats.bundle import BundleRefused
from hauch.formats.json_in import read_json
from hauch.formats.tables import to_csv
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.stores.actions import save_instrument
from hauch.stores.actions_rigs import add_rig
from hauch.stores.models import Instrument, Rig

SCHEMA, SCHEMA_VERSION = "hauch.library", 1
MOST_BYTES = 10_000_000
INSTRUMENT_COLUMNS = (
    "name",
    "channel",
    "serial",
    "resolution",
    "accuracy",
    "accuracy_share",
    "low",
    "high",
    "response_time",
    "recalibrate_after",
)
RIG_COLUMNS = ("rig", "kind", "constant", "value", "standard_uncertainty")


def export_library() -> str:
    """All rigs with all their states, and all instruments with their calibrations, as JSON in SI
    units.
    """
    rigs = (
        Rig.objects.select_related("previous")
        .prefetch_related("meters__instrument", "calibrations")
        .order_by("state", "name")
    )
    instruments = Instrument.objects.prefetch_related("calibrations").order_by("name")
    content = {
        "schema": SCHEMA,
        "schema_version": SCHEMA_VERSION,
        "units": "SI",
        "instruments": [instrument_content(i) for i in instruments],
        "rigs": [rig_content(r) for r in rigs],
    }
    return json.dumps(content, ensure_ascii=False, indent=1, sort_keys=True, allow_nan=False)


def instruments_csv() -> str:
    """One line for each instrument, SI units of its channel."""
    return to_csv(
        INSTRUMENT_COLUMNS,
        (
            [getattr(i, name) for name in INSTRUMENT_COLUMNS]
            for i in Instrument.objects.order_by("name")
        ),
    )


def rigs_csv() -> str:
    """One line for each constant of each rig in its present state, SI units."""
    rows = [
        [rig.name, rig.kind, name, *pair]
        for rig in Rig.objects.current().order_by("name")
        for name, pair in sorted(rig.pairs.items())
    ]
    return to_csv(RIG_COLUMNS, rows)


@transaction.atomic
def import_library(user: User, data: bytes) -> list[str]:
    """Read a library as JSON, or instruments or rigs as CSV; all or nothing. Gives the names of
    what is new.

    Raises
    ------
    PermissionDenied, BundleRefused : with the reason; nothing is saved then
    """
    require(user, "stores.change")
    if len(data) > MOST_BYTES:
        raise BundleRefused(
            f"The file has {len(data) / 1e6:.0f} MB; a library has at most"
            f" {MOST_BYTES / 1e6:.0f} MB."
        )
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as problem:
        raise BundleRefused(
            "The file is no text in UTF-8, so it is neither JSON nor CSV of a library."
        ) from problem
    try:
        with transaction.atomic():
            names = (
                _from_json(user, text) if text.lstrip().startswith("{") else _from_csv(user, text)
            )
    except BundleRefused:
        raise
    except (
        LookupError,
        TypeError,
        ValueError,
        ArithmeticError,
        AttributeError,
        ValidationError,
        IntegrityError,
    ) as problem:
        raise BundleRefused(f"The library cannot be read: {_words(problem)}") from problem
    record(user, "stores.import", "library", names=names[:200])
    return names


def _words(problem: Exception) -> str:
    if isinstance(problem, ValidationError):
        return " ".join(problem.messages)
    if isinstance(problem, KeyError):
        return f"“{problem.args[0]}” is missing."
    if isinstance(problem, IntegrityError):
        return schema.contradiction(problem)
    return str(problem)[:300]


def _from_json(user: User, text: str) -> list[str]:
    content: Any = read_json(text)
    if content.get("schema") != SCHEMA or content.get("schema_version") != SCHEMA_VERSION:
        raise BundleRefused(
            "The JSON file is not a library of rigs and instruments that this installation reads."
        )
    # Files of the first installations do not say what was retired.
    content["instruments"] = [{"retired": False} | row for row in content["instruments"]]
    schema.check(content, schema.LibraryFile, "The library")
    stores = StoresImporter(user)
    for row in content["instruments"]:
        stores.instrument(row)
    for row in sorted(content["rigs"], key=lambda row: row["state"]):
        if problems := (
            check_constants(
                RIGS[row["kind"]], {k: (v[0], v[1]) for k, v in row["constants"].items()}
            )
            if row["kind"] in RIGS
            else {}
        ):
            raise BundleRefused(f"{row['name']}: {next(iter(problems.values()))}")
        stores.rig(row)
    return [str(one) for one in stores.new]


def _from_csv(user: User, text: str) -> list[str]:
    rows = csv.DictReader(io.StringIO(text))
    columns = set(rows.fieldnames or ())
    if {"name", "channel"} <= columns:
        return [_instrument(user, number, row) for number, row in enumerate(rows, start=2)]
    if set(RIG_COLUMNS) <= columns:
        return _rigs(user, list(rows))
    raise BundleRefused(
        "The table has neither the columns “name” and “channel” of instruments nor “rig, kind,"
        " constant, value, standard_uncertainty”."
    )


def _number(row: dict[str, str], name: str, line: int) -> float | None:
    text = (row.get(name) or "").strip()
    try:
        return float(text) if text else None
    except ValueError as problem:
        raise BundleRefused(f"Line {line}, {name}: “{text[:40]}” is not a number.") from problem


def _instrument(user: User, line: int, row: dict[str, str]) -> str:
    name, channel = (row["name"] or "").strip().removeprefix("'"), (row["channel"] or "").strip()
    if channel not in CHANNELS:
        raise BundleRefused(
            f"Line {line}: “{channel[:40]}” is no channel. Known are: {', '.join(CHANNELS)}."
        )
    figures = {
        key: _number(row, key, line)
        for key in (
            "resolution",
            "accuracy",
            "accuracy_share",
            "low",
            "high",
            "response_time",
            "recalibrate_after",
        )
    }
    given = {key: value for key, value in figures.items() if value is not None}
    if "recalibrate_after" in given:
        given["recalibrate_after"] = int(given["recalibrate_after"])
    try:
        return str(
            save_instrument(
                user,
                Instrument(
                    name=name, channel=channel, serial=(row.get("serial") or "").strip(), **given
                ),
            )
        )
    except ValidationError as problem:
        raise BundleRefused(
            f"Line {line}, {name or 'no name'}: {' '.join(problem.messages)}"
        ) from problem


def _rigs(user: User, rows: list[dict[str, str]]) -> list[str]:
    by_name: dict[str, tuple[str, dict[str, tuple[float, float]], int]] = {}
    for line, row in enumerate(rows, start=2):
        value = _number(row, "value", line)
        if value is None:
            raise BundleRefused(f"Line {line}: the value is missing.")
        name, kind = row["rig"].strip().removeprefix("'"), row["kind"].strip()
        if kind not in RIGS:
            raise BundleRefused(
                f"Line {line}: “{kind[:40]}” is no kind of rig. Known are: {', '.join(RIGS)}."
            )
        _, constants, _ = by_name.setdefault(name, (kind, {}, line))
        constants[row["constant"].strip()] = (
            value,
            _number(row, "standard_uncertainty", line) or 0.0,
        )
    made = []
    for name, (kind, constants, line) in by_name.items():
        try:
            made.append(str(add_rig(user, Rig(name=name, kind=kind), constants, {})))
        except ValidationError as problem:
            raise BundleRefused(f"{name} (line {line}): {' '.join(problem.messages)}") from problem
    return made
