"""Exported rounds for tests."""

import io
from collections.abc import Callable
from typing import Any

from hauch.exchange.exporting import export_round
from hauch.formats import bundle
from hauch.formats.bundle import Bundle
from hauch.people.models import User
from hauch.rounds.models import Round


def exported(user: User, round: Round) -> bytes:
    """A round as the bytes of its bundle."""
    out = io.BytesIO()
    export_round(user, round, out)
    return out.getvalue()


def as_another(
    data: bytes, change: Callable[[dict[str, Any]], None] = lambda content: None
) -> bytes:
    """The same round under other identities, so that it can be imported beside itself, changed."""
    made = bundle.read(data)
    made.content["round"]["uid"] = "6f0c7a52-6f1b-4d3e-9a4e-140140140149"
    for key in ("entries", "runs", "recordings"):
        for row in made.content[key]:
            row["uid"] = row["uid"][:-4] + "beef"
    for entry in made.content["entries"]:
        for version in entry["versions"]:
            for row in (version, *version["specimens"], *version["predictions"]):
                row["uid"] = row["uid"][:-4] + "beef"
    for run in made.content["runs"]:
        for key in ("specimen", "recording"):
            run[key] = run[key] and run[key][:-4] + "beef"
    change(made.content)
    traces = {uid[:-4] + "beef": trace for uid, trace in made.traces.items()}
    return bundle.packed(Bundle(made.content, traces, made.files))
