"""What can be done with entries: hand in, withdraw, take back in."""

from __future__ import annotations

import math
import re
from datetime import datetime

from django.core.exceptions import ValidationError
from django.db import transaction
from django.db.models import Max, Q
from django.utils import timezone

from hauch.core import CORE_VERSION
from hauch.core.measure.procedures import PROCEDURES
from hauch.entries.models import Entry, PartFile, Prediction, Version
from hauch.entries.signals import entries_changed
from hauch.people.audit import record
from hauch.people.keep import keep
from hauch.people.models import User
from hauch.people.permissions import allowed, require
from hauch.rounds.models import Round


def why_closed(user: User, round: Round) -> str:
    """Why the person cannot hand an entry in now; empty where they can. A host may add a late one until publication."""
    if round.state == Round.State.BRIEF:
        return "The brief is still being written. Entries are taken when the round is open."
    if round.is_published:
        return "The round is published; it takes no more entries."
    if allowed(user, "round.change", round):
        return ""
    if round.state != Round.State.OPEN:
        return "The round is on the bench; it takes no more entries. The host may still add one."
    if round.entries_until is not None and timezone.localdate() > round.entries_until:
        return f"Entries were taken until {round.entries_until:%d %B %Y}."
    return ""


@transaction.atomic
def add_entry(user: User, round: Round, name: str, story: str = "", designer_name: str = "") -> Entry:
    """Hand in an entry with its first version.

    Raises
    ------
    PermissionDenied, ValidationError : no name, or one that is in the round already
    """
    require(user, "entry.add", round)
    if closed := why_closed(user, round):
        raise ValidationError(closed)
    Round.objects.select_for_update().get(pk=round.pk)  # one at a time, so that marks differ
    top = round.entries.aggregate(top=Max("mark"))["top"]
    entry = Entry(round=round, name=name.strip(), story=story.strip(), designer=user, designer_name=designer_name.strip() or str(user))
    entry.mark = 0 if top is None else top + 1
    entry.full_clean()
    entry.save()
    Version.objects.create(entry=entry, number=1, changed="First version.")
    record(user, "entry.add", entry, round)
    return entry


def may_change(user: User, entry: Entry) -> bool:
    """Whether a person may add versions, files and predictions: the designer of the entry, and the host."""
    own = entry.designer_id == user.pk and allowed(user, "entry.add", entry.round)
    return (own or allowed(user, "entry.change", entry.round)) and not entry.round.is_published


def _require_change(user: User, entry: Entry) -> None:
    if entry.designer_id != user.pk:
        require(user, "entry.change", entry.round)
    else:
        require(user, "entry.add", entry.round)
    if entry.round.is_published:
        raise ValidationError("The round is published; its entries no longer change.")


@transaction.atomic
def add_version(user: User, entry: Entry, changed: str) -> Version:
    """A next version of an entry, with what it changes."""
    _require_change(user, entry)
    Entry.objects.select_for_update().get(pk=entry.pk)  # one at a time, so that numbers differ
    if not changed.strip():
        raise ValidationError("Say in a few words what the version changes.")
    top = entry.versions.aggregate(top=Max("number"))["top"] or 0
    version = Version.objects.create(entry=entry, number=top + 1, changed=changed.strip())
    record(user, "entry.version", version, entry.round, changed=changed.strip())
    return version


def safe_name(name: str) -> str:
    """A file's name without path, controls, quotes or marks that a header or a shell would take for something else."""
    return re.sub(r"[^\w .()+-]", "_", name.replace("\\", "/").split("/")[-1]).strip(" .")[:120] or "part"


@transaction.atomic
def attach(user: User, version: Version, name: str, data: bytes) -> PartFile:
    """Keep a file with a version; the same name is replaced while the version has no run."""
    _require_change(user, version.entry)
    if version.sealed_at is not None:
        raise ValidationError(f"{version} has been on the bench; add a new version for a changed file.")
    digest, path = keep(data)
    name = safe_name(name)
    file, _ = PartFile.objects.update_or_create(
        version=version, name=name, defaults={"sha256": digest, "size": len(data), "path": path, "added_by": user}
    )
    record(user, "entry.file", version, version.entry.round, file=name, sha256=digest)
    return file


@transaction.atomic
def predict(
    user: User, version: Version, procedure: str, value: float | None, u: float = 0.0, model: str = "", inputs: dict | None = None
) -> Prediction | None:
    """Say what a version should measure, before its first run; a later word replaces an earlier one, None takes it back.

    Raises
    ------
    ValidationError : after the first run, or a figure that is none
    """
    _require_change(user, version.entry)
    version = Version.objects.select_for_update().select_related("entry__round").get(pk=version.pk)
    if version.sealed_at is not None:
        raise ValidationError(
            f"{version} has been on the bench since {timezone.localtime(version.sealed_at):%d %B %Y, %H:%M}; its predictions are fixed."
        )
    if procedure not in PROCEDURES:
        raise ValidationError(f"“{procedure}” is no test that can be foretold.")
    source = Prediction.Source.MODEL if model else Prediction.Source.DESIGNER
    key = {"version": version, "procedure": procedure, "source": source, "model": model}
    if value is None:
        if Prediction.objects.filter(**key).delete()[0]:
            record(user, "entry.predict", version, version.entry.round, procedure=procedure, taken_back=True, model=model)
        return None
    if not math.isfinite(value) or not math.isfinite(u) or u < 0:
        raise ValidationError("A prediction needs a figure, and a doubt that is not negative.")
    made = {"value": value, "u": u, "inputs": inputs or {}, "core_version": CORE_VERSION, "made_by": user, "made_at": timezone.now()}
    prediction, _ = Prediction.objects.update_or_create(**key, defaults=made)
    record(user, "entry.predict", version, version.entry.round, procedure=procedure, model=model)
    return prediction


def seal(version_id: int, at: datetime) -> None:
    """Fix a version's predictions: its first run is recorded. Part of the action that records the run."""
    Version.objects.filter(Q(sealed_at=None) | Q(sealed_at__gt=at), pk=version_id).update(sealed_at=at)


@transaction.atomic
def withdraw(user: User, entry: Entry, reason: str) -> Entry:
    """Take an entry out of the round; its runs stay. Designers may withdraw their own, hosts any."""
    if entry.designer_id != user.pk:
        require(user, "entry.withdraw", entry.round)
    else:
        require(user, "entry.add", entry.round)
    if entry.state == Entry.State.WITHDRAWN:
        raise ValidationError(f"{entry} is withdrawn already.")
    return _set_state(user, entry, Entry.State.WITHDRAWN, "entry.withdraw", reason)


@transaction.atomic
def take_back_in(user: User, entry: Entry) -> Entry:
    """Undo a withdrawal."""
    require(user, "entry.withdraw", entry.round)
    return _set_state(user, entry, Entry.State.IN, "entry.take_back_in", "")


def _set_state(user: User, entry: Entry, state: str, action: str, reason: str) -> Entry:
    entry.state = state
    entry.save(update_fields=["state"])
    record(user, action, entry, entry.round, reason=reason.strip())
    entries_changed.send(Entry, round=entry.round)
    return entry
