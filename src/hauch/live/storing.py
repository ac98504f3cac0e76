"""What a recorder writes down of its benches: rows, seconds, waveforms."""

from __future__ import annotations

import json
import math
from contextlib import suppress

import numpy as np
from django.db import connection, transaction

from hauch.bench.files import keep_file
from hauch.bench.models import Live, Piece, Waveform
from hauch.bench.traces import keep_minutes
from hauch.core.sound.clip import clipping
from hauch.core.trace.vibration import velocity_rms
from hauch.formats.sound import wav_bytes
from hauch.instruments.grid import Piece as Rows
from hauch.live.held import Held
from hauch.live.protocol import RECORDED

MOST_PAYLOAD = 7_500
"""PostgreSQL passes at most 8000 bytes with a notice."""


def insert(waiting: dict[int, Held]) -> None:
    """Store the rows of some benches in one transaction, and tell whoever watches."""
    with transaction.atomic():
        Piece.objects.bulk_create(
            Piece(
                recording_id=held.recording,
                first=piece.first,
                count=len(piece.rows),
                data=np.ascontiguousarray(piece.rows, "<f8").tobytes(),
            )
            for held in waiting.values()
            for piece in held.unsaved
        )
        with connection.cursor() as cursor:
            for pk, held in waiting.items():
                for piece in held.unsaved:
                    cursor.execute(
                        "select pg_notify(%s, %s)", [RECORDED, rows_notice(pk, piece, held)]
                    )
    for held in waiting.values():
        held.unsaved.clear()


def keep_over(held: Held) -> None:
    """Keep minutes that are over by the second."""
    stale = held.session.stale_minutes
    for number, minute in held.session.minutes_over():
        stale.add(number)  # until it is kept
        keep_minutes(held.recording, minute)
        stale.discard(number)


def keep_waves(pk: int, held: Held) -> None:
    """Store waveforms that came, and say what is wrong with them."""
    while held.waves:
        channel, at, rate, samples = held.waves[0]
        operator = Live.objects.select_related("operator").get(pk=pk).operator
        cut = clipping(samples).share if channel == "sound_level" else 0.0
        name = f"{channel}-{pk}-{at:.1f}s.wav"
        try:
            source = keep_file(operator, name, wav_bytes(samples, rate))
        except OSError as problem:  # a full disk is no lost database
            held.waves.pop(0)
            held.session.events.append(
                f"The waveform at {at:.0f} s could not be kept ({problem.strerror}). The"
                " readings are stored all the same."
            )
            continue
        Waveform.objects.create(
            recording_id=held.recording,
            channel=channel,
            at_s=round(at, 2),
            seconds=samples.size / rate,
            rate=rate,
            source=source,
            clipped=cut,
        )
        if cut:
            held.session.events.append(
                f"The sound recorded at {at:.0f} s was clipped ({100 * cut:.1f} % of its"
                " samples at the end of the scale). Choose a higher range and read again."
            )
        elif channel == "vibration":
            with suppress(ValueError):
                held.session.events.append(
                    f"Vibration from the waveform at {at:.0f} s:"
                    f" {1000 * velocity_rms(samples, rate):.2f} mm/s r.m.s., 10 to 1000 Hz."
                )
        held.waves.pop(0)


def rows_notice(pk: int, piece: Rows, held: Held) -> str:
    """Rows for the screen, or only where they are when they are too many for a notice."""
    rows = [
        [None if math.isnan(v) else float(f"{v:.5g}") for v in row] for row in piece.rows.tolist()
    ]
    newest = held.origin + (piece.first + len(rows) - 1) / held.session.rate
    text = json.dumps(
        {"live": pk, "first": piece.first, "rows": rows, "at": round(newest, 3)},
        separators=(",", ":"),
    )
    return (
        text
        if len(text) <= MOST_PAYLOAD
        else json.dumps({"live": pk, "first": piece.first, "many": len(rows)})
    )
