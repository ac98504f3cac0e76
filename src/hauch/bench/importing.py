"""A logger's file becomes a recording with its runs: at once, or by the worker where it is large."""

from __future__ import annotations

import logging
from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
from django.core.exceptions import PermissionDenied, ValidationError
from django.db import InterfaceError, OperationalError, transaction
from django.utils import timezone

from hauch.bench.files import file_place
from hauch.bench.logs import NewRecording, add_second, check_fed, import_log, remember_mapping
from hauch.bench.models import LogImport, Recording, Run, SourceFile
from hauch.bench.runs import Room, Subject, Typed
from hauch.formats.apart import Stopped
from hauch.formats.logger_apart import read_apart
from hauch.formats.logger_csv import Log, LogRefused
from hauch.formats.logger_table import Column, Table
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen

logger = logging.getLogger(__name__)

AT_ONCE = 5_000_000
"""A file of up to so many bytes is imported in the request that confirms its columns."""


class Second(msgspec.Struct, frozen=True):
    """A logger that ran beside a recording: which one, and how its clock is brought onto the
    first one's.
    """

    recording: int
    by: str
    seconds: float = 0.0


class Confirmed(msgspec.Struct, frozen=True):
    """What was confirmed of a file: its columns, and either what was run, the room and the tests
    that it feeds, or which recording it ran beside.
    """

    columns: list[tuple[str, str]]
    day_first: bool
    started_at: datetime
    room: Room
    tests: list[int] = []
    specimen: int | None = None
    reference: int | None = None
    extra: dict[str, list[Typed]] = {}
    note: str = ""
    beside: Second | None = None
    zone: str = ""
    """In which zone times without one of their own are (the reader's who confirmed it)."""

    @property
    def mapping(self) -> list[Column]:
        """The columns as the reader takes them."""
        return [Column(channel, unit) for channel, unit in self.columns]

    def tests_of(self, round: Round) -> list[Test]:
        """The tests that it feeds."""
        found = Test.objects.filter(round=round, pk__in=self.tests)
        return list(found.select_related("round", "rig", "setting").order_by("order", "pk"))

    def check(self, round: Round) -> None:
        """Raise ValidationError for what can be told before the file is read."""
        if self.beside is None:
            self.subject.check(round)
            self.room.check()
            at_hand = {channel for channel, _ in self.columns if channel}
            check_fed(
                self.tests_of(round), at_hand | {k for k, typed in self.extra.items() if typed}
            )

    @property
    def subject(self) -> Subject:
        """What was run."""
        if self.specimen is not None:
            found = Specimen.objects.select_related("version__entry").filter(pk=self.specimen)
            return Subject(specimen=found.first())
        known = ReferenceSpecimen.objects.select_related("type").filter(pk=self.reference or 0)
        return Subject(reference=known.first())


def read_confirmed(
    source: SourceFile, asked: Confirmed, tell: Callable[[int], bool] = lambda stage: True
) -> tuple[Table, Log]:
    """A kept file as it was confirmed.

    Parameters
    ----------
    tell : called about twice a second; False stops the reading

    Raises
    ------
    LogRefused : with the rows that cannot be read
    Stopped : when ``tell`` gave False
    """
    zone = ZoneInfo(asked.zone) if asked.zone else timezone.get_default_timezone()
    return read_apart(file_place(source), asked.mapping, zone, day_first=asked.day_first, tell=tell)


@transaction.atomic
def store_confirmed(
    user: User, round: Round, source: SourceFile, asked: Confirmed, table: Table, log: Log
) -> tuple[Recording, list[Run]]:
    """Store the recording of a file with its runs and their results, and remember what its columns
    mean.

    Raises
    ------
    PermissionDenied, ValidationError : nothing is saved then
    """
    mapping = asked.mapping
    if asked.beside is not None:
        first = Recording.objects.get(pk=asked.beside.recording, round=round)
        recording = add_second(
            user, first, source, log, mapping, asked.beside.by, asked.beside.seconds
        )
        made = list(first.runs.select_related("result").order_by("pk"))
    else:
        tests = asked.tests_of(round)
        made = import_log(
            user,
            NewRecording(
                round,
                source,
                log,
                tests,
                asked.subject,
                asked.room,
                log.start or asked.started_at,
                mapping,
                asked.extra,
                note=asked.note,
            ),
        )
        recording = Recording.objects.get(runs=made[0])
    remember_mapping(user, table.fingerprint, mapping, asked.day_first)
    return recording, made


def summary(source: SourceFile, recording: Recording, made: Sequence[Run]) -> str:
    """What an import came to, in a sentence."""
    if recording.beside_id is not None:
        return (
            f"{source.name} runs beside the first recording now, moved by {recording.shift:+.2f} s"
            f" {recording.shift_note}. Its runs were computed again."
        )
    rows = recording.chunks.filter(channel="time").values_list("count", flat=True)
    figures = ", ".join(
        f"{run.test.how.short.lower()}{'' if run.result.value is not None else ' (no result)'}"
        for run in made
    )
    count = f"{len(made)} run" + ("" if len(made) == 1 else "s")
    return f"{source.name}: {sum(rows):,} rows imported as {count}: {figures}."


def run_import(pk: int) -> None:
    """Do an import that was left to the worker, and keep what became of it; safe to run twice."""
    row = LogImport.objects.select_related("round", "source", "by").get(pk=pk)
    if row.ended:
        return
    mine = LogImport.objects.filter(pk=pk)

    def say(stage: str, share: float) -> None:
        mine.update(state=LogImport.State.RUNNING, stage=stage, progress=share)

    def ended(state: LogImport.State, **more: Any) -> int:
        going_on = mine.filter(ended_at=None)
        return going_on.update(state=state, progress=1.0, ended_at=timezone.now(), **more)

    asked = msgspec.convert(row.asked, Confirmed)
    try:
        say("Reading the file", 0.05)
        table, log = read_confirmed(
            row.source, asked, lambda stage: mine.filter(ended_at=None).exists()
        )
        say("Storing what it holds and computing the figures", 0.5)
        with transaction.atomic():  # that it is done is committed with what was done
            recording, made = store_confirmed(row.by, row.round, row.source, asked, table, log)
            sentence = summary(row.source, recording, made)
            if not ended(LogImport.State.DONE, recording=recording, told=sentence):
                raise Stopped
    except Stopped:
        return
    except LogRefused as refusal:
        ended(
            LogImport.State.FAILED,
            problems=[str(refusal)],
            rows=[[problem.line, problem.reason] for problem in refusal.problems],
        )
    except ValidationError as problem:
        ended(LogImport.State.FAILED, problems=list(problem.messages))
    except PermissionDenied:
        ended(
            LogImport.State.FAILED,
            problems=[f"{row.by} may no longer record runs in this round; nothing was imported."],
        )
    except (OperationalError, InterfaceError):
        raise  # the worker does it again when the database is back
    except Exception:  # it must not seem to go on for ever
        logger.exception("the import %s failed", pk)
        ended(
            LogImport.State.FAILED,
            problems=[
                "Something went wrong here that the file may not be to blame for; nothing"
                " was imported. It stands in the log of the worker."
            ],
        )


def give_up(import_id: int) -> None:
    """End an import whose worker died too often, with a sentence; nothing of it is stored."""
    LogImport.objects.filter(pk=import_id, ended_at=None).update(
        state=LogImport.State.FAILED,
        problems=[
            "It was cut off again and again while it worked on this file; nothing was imported."
            " Split the file, or log at a lower rate."
        ],
        ended_at=timezone.now(),
    )
