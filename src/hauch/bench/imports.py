"""Asking for the import of a large file."""

from __future__ import annotations

import msgspec
from django.db import transaction
from django.utils import timezone

from hauch.bench.importing import Confirmed
from hauch.bench.jobs import defer_import
from hauch.bench.models import LogImport, SourceFile
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.models import Round


@transaction.atomic
def ask_import(user: User, round: Round, source: SourceFile, asked: Confirmed) -> LogImport:
    """Leave an import to the worker. A file whose import waits or runs is not asked for twice.

    Raises
    ------
    PermissionDenied, ValidationError : what can be told before the file is read
    """
    require(user, "run.record", round)
    asked.check(round)
    Round.objects.select_for_update(of=("self",)).get(pk=round.pk)
    if (under_way := LogImport.under_way(round, source)) is not None:
        return under_way
    made = LogImport.objects.create(
        round=round, source=source, by=user, asked=msgspec.to_builtins(asked)
    )
    record(user, "import.ask", made, round, file=source.name)
    defer_import(made.pk)
    return made


@transaction.atomic
def stop_import(user: User, one: LogImport) -> None:
    """End an import that waits or runs; what it has stored so far goes with it."""
    require(user, "run.record", one.round)
    LogImport.objects.filter(pk=one.pk, ended_at=None).update(
        state=LogImport.State.FAILED, problems=["It was stopped by hand."], ended_at=timezone.now()
    )
    record(user, "import.stop", one, one.round)
