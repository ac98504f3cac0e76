"""Exported rounds for tests."""

import io
import json
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
    content, entries = made.content, made.content["entries"]
    versions = [version for entry in entries for version in entry["versions"]]
    rows = [
        *entries,
        *versions,
        *(row for v in versions for row in (*v["specimens"], *v["predictions"])),
        *content["runs"],
        *content["recordings"],
        *content["sounds"],
        *(row for session in content["sounds"] for row in session["recordings"]),
    ]
    text = json.dumps(content)
    for row in rows:
        text = text.replace(row["uid"], row["uid"][:-4] + "beef")
    content = json.loads(text)
    content["round"]["uid"] = "6f0c7a52-6f1b-4d3e-9a4e-140140140149"
    change(content)
    traces = {uid[:-4] + "beef": trace for uid, trace in made.traces.items()}
    return bundle.packed(Bundle(content, traces, made.files))
