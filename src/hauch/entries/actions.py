"""What can be done with entries: hand in, withdraw, take back in."""

from __future__ import annotations

import re

from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction
from django.db.models import Max, Sum

from hauch.core.geometry.kinds import PART_KINDS
from hauch.entries.jobs import defer_check
from hauch.entries.models import (
    AssemblyStep,
    BillItem,
    Entry,
    PartCheck,
    PartFile,
    Version,
)
from hauch.entries.signals import entries_changed, version_added, version_named
from hauch.people.audit import record
from hauch.people.clock import house_day
from hauch.people.keep import keep, read_kept
from hauch.people.models import User
from hauch.people.permissions import allowed, require
from hauch.rounds.models import Round
from hauch.stores.models import Material

MOST_ENTRIES = 5
"""Entries of one designer in one round; the host may add any number."""
MOST_FILES, MOST_OF_AN_ENTRY = 40, 400_000_000
"""Files of a version, and bytes of all files of an entry."""


def why_closed(user: User, round: Round) -> str:
    """Why the person cannot hand an entry in now; empty where they can. A host may add a late one
    until publication.
    """
    if round.state == Round.State.BRIEF:
        return "The brief is still being written. Entries are taken when the round is open."
    if round.is_published:
        return "The round is published; it takes no more entries."
    if allowed(user, "round.change", round):
        return ""
    if round.state != Round.State.OPEN:
        return "The round is on the bench; it takes no more entries. The host may still add one."
    if round.entries_until is not None and house_day() > round.entries_until:
        return f"Entries were taken until {round.entries_until:%d %B %Y}."
    return ""


@transaction.atomic
def add_entry(
    user: User, round: Round, name: str, story: str = "", designer_name: str = ""
) -> Entry:
    """Hand in an entry with its first version.

    Raises
    ------
    PermissionDenied, ValidationError : no name, or one that is in the round already
    """
    require(user, "entry.add", round)
    if closed := why_closed(user, round):
        raise ValidationError(closed)
    Round.objects.select_for_update().get(pk=round.pk)  # one at a time, so that marks differ
    if (
        not allowed(user, "round.change", round)
        and round.entries.filter(designer=user).count() >= MOST_ENTRIES
    ):
        raise ValidationError(
            f"A designer hands in at most {MOST_ENTRIES} entries to a round. Withdrawn ones count;"
            " ask the host to add a further one."
        )
    top = round.entries.aggregate(top=Max("mark"))["top"]
    entry = Entry(
        round=round,
        name=name.strip(),
        story=story.strip(),
        designer=user,
        designer_name=designer_name.strip() or str(user),
    )
    entry.mark = 0 if top is None else top + 1
    entry.full_clean()
    entry.save()
    version = Version.objects.create(entry=entry, number=1, changed="First version.")
    record(user, "entry.add", entry, round)
    version_added.send(Version, user=user, version=version)
    return entry


def may_change(user: User, entry: Entry) -> bool:
    """Whether a person may add versions, files and predictions: the designer of the entry, and the
    host.
    """
    own = entry.designer_id == user.pk and allowed(user, "entry.add", entry.round)
    return (own or allowed(user, "entry.change", entry.round)) and not entry.round.is_published


def require_change(user: User, entry: Entry) -> None:
    """Raise where a person may not change an entry, or its round is published."""
    if entry.designer_id != user.pk:
        require(user, "entry.change", entry.round)
    else:
        require(user, "entry.add", entry.round)
    if entry.round.is_published:
        raise ValidationError("The round is published; its entries no longer change.")


@transaction.atomic
def add_version(user: User, entry: Entry, changed: str, why: str = "") -> Version:
    """A next version of an entry, with what it changes and why; material, bill and steps are taken
    over from the one before.
    """
    require_change(user, entry)
    Entry.objects.select_for_update().get(pk=entry.pk)  # one at a time, so that numbers differ
    if not changed.strip():
        raise ValidationError("Say in a few words what the version changes.")
    before = entry.versions.order_by("-number").first()
    version = Version.objects.create(
        entry=entry,
        number=before.number + 1 if before else 1,
        changed=changed.strip(),
        why=why.strip(),
        material=before.material if before else None,
        outlets=before.outlets if before else None,
    )
    if before is not None:
        _take_over(before, version)
    record(user, "entry.version", version, entry.round, changed=changed.strip())
    version_added.send(Version, user=user, version=version)
    return version


def _take_over(before: Version, version: Version) -> None:
    """Bill and steps of one version for another."""
    BillItem.objects.bulk_create(
        BillItem(version=version, order=i.order, name=i.name, quantity=i.quantity, price=i.price)
        for i in before.bill.all()
    )
    AssemblyStep.objects.bulk_create(
        AssemblyStep(version=version, order=s.order, text=s.text, picture=s.picture)
        for s in before.steps.all()
    )


def _open_version(user: User, version: Version) -> Version:
    """A version that may still be changed, locked.

    Raises
    ------
    PermissionDenied, ValidationError : somebody else's, published, or on the bench already
    """
    require_change(user, version.entry)
    version = (
        Version.objects.select_for_update(of=("self",))
        .select_related("entry__round")
        .get(pk=version.pk)
    )
    if version.sealed_at is not None:
        raise ValidationError(f"{version} has been on the bench; add a new version for a change.")
    return version


def safe_name(name: str) -> str:
    """A file's name without path, controls, quotes or marks that a header or a shell would take for
    something else.
    """
    return (
        re.sub(r"[^\w .()+-]", "_", name.replace("\\", "/").split("/")[-1]).strip(" .")[:120]
        or "part"
    )


def may_be_checked(round: Round) -> bool:
    """Whether parts can be checked: a quick comparison may have no envelope to hold them against."""
    return bool(round.envelope) or not round.quick


@transaction.atomic
def attach(
    user: User,
    version: Version,
    name: str,
    data: bytes,
    *,
    place: str | None = None,
    count: int | None = None,
    check: bool = True,
) -> PartFile:
    """Keep a file with a version; the same name is replaced while the version has no run, and what
    was said of it stays. A mesh is checked in the background.

    Raises
    ------
    PermissionDenied, ValidationError : on the bench already, too many or too large files
    """
    version = _open_version(user, version)
    name = safe_name(name)
    others = version.files.exclude(name=name)
    if others.count() >= MOST_FILES:
        raise ValidationError(f"A version holds at most {MOST_FILES} files. Take one away first.")
    held = (
        PartFile.objects.filter(version__entry=version.entry)
        .exclude(version=version, name=name)
        .aggregate(sum=Sum("size"))["sum"]
        or 0
    )
    if held + len(data) > MOST_OF_AN_ENTRY:
        raise ValidationError(
            f"All files of an entry have at most {MOST_OF_AN_ENTRY / 1e6:,.0f} MB together; with"
            f" {name} it would be {(held + len(data)) / 1e6:,.0f} MB."
        )
    digest, path = keep(data)
    values: dict = {"sha256": digest, "size": len(data), "path": path, "added_by": user}
    if place is not None:
        values["place"] = place.strip()[:60]
    if count is not None:
        values["count"] = count
    file, _ = PartFile.objects.update_or_create(version=version, name=name, defaults=values)
    record(user, "entry.file", version, version.entry.round, file=name, sha256=digest)
    if file.is_mesh and check and may_be_checked(version.entry.round):
        ask_check(file)
    return file


@transaction.atomic
def ask_check(file: PartFile) -> PartCheck:
    """Have a part checked by the worker. One that is at work on it is stopped; what earlier ones
    found stays.
    """
    PartFile.objects.select_for_update(of=("self",)).get(pk=file.pk)
    file.checks.at_work().update(state=PartCheck.State.STOPPED, cancel=True)
    row = PartCheck.objects.create(file=file)
    file.newest_check = row
    file.save(update_fields=["newest_check"])
    defer_check(row.pk)
    return row


def check_older_rotors() -> int:
    """Have rotors checked anew whose newest check did not compute their stress; how many. A new
    version of Hauch asks for it when it starts.
    """
    files = PartFile.objects.filter(
        version__entry__round__part__in=[k.key for k in PART_KINDS.values() if k.spins],
        newest_check__state=PartCheck.State.DONE,
        newest_check__figures__contains=[{"key": "tip_speed"}],
    ).exclude(newest_check__data__has_key="stressed")
    found = list(files)
    for file in found:
        ask_check(file)
    return len(found)


@transaction.atomic
def check_again(user: User, file: PartFile) -> PartCheck:
    """Check a part anew: after a changed envelope, or when it was stopped. Also for the host, on a
    sealed version.
    """
    require_change(user, file.version.entry)
    if not file.is_mesh:
        raise ValidationError(f"{file} is no part that can be checked.")
    if not may_be_checked(file.version.entry.round):
        raise ValidationError(
            "This comparison has no envelope, so there is nothing to check the part against. Enter"
            " the envelope in the brief first."
        )
    return ask_check(file)


@transaction.atomic
def stop_check(user: User, file: PartFile) -> None:
    """Stop a check that waits or is at work."""
    require_change(user, file.version.entry)
    waiting = PartCheck.objects.filter(file=file, state=PartCheck.State.WAITING).update(
        state=PartCheck.State.STOPPED, cancel=True
    )
    if not waiting:
        PartCheck.objects.filter(file=file, state=PartCheck.State.RUNNING).update(cancel=True)


@transaction.atomic
def describe_part(
    user: User, file: PartFile, *, place: str, count: int, unit: str, axis: str
) -> PartFile:
    """Say where a part sits, how many there are, in which unit it is drawn and which of its axes
    lies along the flow. Checked anew where the last two change.
    """
    version = _open_version(user, file.version)
    anew = (file.unit, file.axis) != (unit, axis)
    file.place, file.count, file.unit, file.axis = place.strip(), count, unit, axis
    file.full_clean(exclude=["version", "added_by"])
    file.save(update_fields=["place", "count", "unit", "axis"])
    record(
        user,
        "entry.part",
        version,
        version.entry.round,
        file=file.name,
        count=count,
        unit=unit,
        axis=axis,
    )
    if anew and file.is_mesh:
        ask_check(file)
    return file


@transaction.atomic
def take_mended(user: User, file: PartFile) -> PartFile:
    """Hand in the mended copy of a part beside the original, which stays.

    Raises
    ------
    ValidationError : there is none
    """
    row = file.newest_check
    if row is None or not row.mended:
        raise ValidationError(f"There is no mended copy of {file}.")
    stem = file.name.rsplit(".", 1)[0]
    made = attach(
        user,
        file.version,
        f"{stem[:100]}-mended.stl",
        read_kept(row.mended),
        place=file.place,
        count=file.count,
    )
    made.unit, made.axis = file.unit, file.axis
    made.save(update_fields=["unit", "axis"])
    return made


@transaction.atomic
def remove_file(user: User, file: PartFile) -> None:
    """Take a file out of a version that was not on the bench."""
    version = _open_version(user, file.version)
    record(
        user, "entry.file_removed", version, version.entry.round, file=file.name, sha256=file.sha256
    )
    file.delete()


@transaction.atomic
def set_papers(
    user: User,
    version: Version,
    *,
    changed: str,
    why: str,
    material: Material | None,
    outlets: int | None = None,
    bill: list[BillItem],
    steps: list[AssemblyStep],
) -> Version:
    """Set what a version changes and why, its material, bill of materials and steps of assembly;
    all at once.

    Raises
    ------
    PermissionDenied, ValidationError : on the bench already, or a line that cannot be
    """
    version = _open_version(user, version)
    if not changed.strip():
        raise ValidationError({"changed": "Say in a few words what the version changes."})
    version.changed, version.why, version.material = changed.strip(), why.strip(), material
    version.outlets = outlets
    version.save(update_fields=["changed", "why", "material", "outlets"])
    version.bill.all().delete()
    version.steps.all().delete()
    rows: list[BillItem | AssemblyStep] = []
    for order, item in enumerate(bill, 1):
        item.version, item.order = version, order
        rows.append(item)
    for order, step in enumerate(steps, 1):
        step.version, step.order = version, order
        rows.append(step)
    for row in rows:
        row.full_clean(exclude=["version"])
        row.save()
    record(user, "entry.papers", version, version.entry.round, bill=len(bill), steps=len(steps))
    return version


@transaction.atomic
def copy_entry(user: User, entry: Entry, round: Round) -> Entry:
    """Hand an entry in to another round as it stands now: story, newest version with its files,
    bill and steps; predictions are made anew there.

    Raises
    ------
    PermissionDenied, ValidationError : closed, another kind of part, or an entry of this name in it
    """
    if entry.designer_id != user.pk:
        require(user, "entry.change", entry.round)
    if round.part != entry.round.part:
        raise ValidationError(
            f"{round.title} asks for another kind of part ({round.get_part_display()})."
        )
    latest = entry.versions.order_by("-number").first()
    made = add_entry(user, round, entry.name, entry.story, entry.designer_name)
    version = made.versions.get()
    if latest is not None:
        version.changed, version.material = (
            f"Taken over from {latest} of {entry.round.title}.",
            latest.material,
        )
        version.outlets = latest.outlets
        version.save(update_fields=["changed", "material", "outlets"])
        _take_over(latest, version)
        for file in latest.files.all():
            copy = PartFile.objects.create(
                version=version,
                name=file.name,
                sha256=file.sha256,
                size=file.size,
                path=file.path,
                added_by=user,
                place=file.place,
                count=file.count,
                unit=file.unit,
                axis=file.axis,
            )
            if copy.is_mesh:
                ask_check(copy)
    record(user, "entry.copy", made, round, of=str(entry.uid))
    return made


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


def may_name(user: User, entry: Entry) -> bool:
    """Whether a person may say which version takes part: the host, and its designer until the
    standing is published.
    """
    if allowed(user, "entry.change", entry.round):
        return True
    mine = entry.designer_id == user.pk and allowed(user, "entry.add", entry.round)
    return mine and not entry.round.is_published


@transaction.atomic
def name_version(user: User, entry: Entry, number: int | None) -> Version | None:
    """Say by which version an entry takes part; None for the newest that was run.

    Raises
    ------
    PermissionDenied : neither the host nor its designer before publication
    ValidationError : no such version
    """
    if not may_name(user, entry):
        raise PermissionDenied(
            "Only the host, or its designer until the standing is published, says which version"
            f" of {entry} takes part."
        )
    chosen = entry.versions.filter(number=number).first() if number is not None else None
    if number is not None and chosen is None:
        raise ValidationError(f"{entry} has no version {number}.")
    entry.versions.filter(named=True).update(named=False)
    if chosen is not None:
        chosen.named = True
        chosen.save(update_fields=["named"])
    told = f"version {number}" if chosen else "the newest that was run"
    record(user, "entry.name_version", entry, entry.round, takes_part=told)
    version_named.send(Entry, entry=entry)
    entries_changed.send(Entry, round=entry.round)
    return chosen


def _set_state(user: User, entry: Entry, state: str, action: str, reason: str) -> Entry:
    entry.state = state
    entry.save(update_fields=["state"])
    record(user, action, entry, entry.round, reason=reason.strip())
    entries_changed.send(Entry, round=entry.round)
    return entry
