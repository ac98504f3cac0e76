"""Reading entries: which ones a person may see."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from django.db.models import OuterRef, QuerySet, Subquery
from django.http import Http404

from hauch.core.measure.rigs import outlets
from hauch.core.quantity import expanded
from hauch.entries.models import Entry, PartCheck, PartFile, Version
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import round_for


def visible_to(user: User, round: Round) -> QuerySet[Entry]:
    """Entries of a round that a person may see: all for host and operator, own ones before
    publication, all after.
    """
    entries = round.entries.all()
    if allowed(user, "entry.view_all", round):
        return entries
    return entries.filter(designer=user)


def entry_for(user: User, round: Round, pk: int) -> Entry:
    """One entry, or Http404 where this person may not know of it."""
    entry = visible_to(user, round).filter(pk=pk).select_related("designer").first()
    if entry is None:
        raise Http404("There is no such entry, or it is not published yet.")
    entry.round = round
    return entry


def newest_version(user: User, slug: str, pk: int) -> Version:
    """The newest version of an entry that the person may see, with its bill and steps, or Http404."""
    entry = entry_for(user, round_for(user, slug), pk)
    version = entry.versions.order_by("-number").prefetch_related("bill", "steps__picture").first()
    if version is None:
        raise Http404("The entry has no version.")
    version.entry = entry
    return version


def part_for(user: User, round: Round, entry_pk: int, pk: int) -> PartFile:
    """A file of an entry that the person may see, with its check."""
    entry = entry_for(user, round, entry_pk)
    found = (
        PartFile.objects.filter(version__entry=entry, pk=pk)
        .select_related("version__material", "newest_check")
        .first()
    )
    if found is None:
        raise Http404("There is no such file.")
    found.version.entry = entry
    return found


def check_of(file: PartFile) -> PartCheck | None:
    """The check of a part, if one was asked for."""
    return file.newest_check


def earlier_checks(file: PartFile) -> list[PartCheck]:
    """Checks of a part before its newest one that came to an end, the last one first."""
    ended = file.checks.filter(newest_of=None, ended_at__isnull=False)
    return list(ended.only("file", "state", "verdict", "reasons", "ended_at", "core_version"))


def parts_of(version: Version) -> list[PartFile]:
    """The meshes of a version with their checks, the greatest first."""
    files = [f for f in version.files.select_related("newest_check") if f.is_mesh]
    return sorted(files, key=lambda f: -((c.value("volume") or 0.0) if (c := check_of(f)) else 0.0))


GROUPS = ("Size", "Mass", "Walls", "Passages", "Print", "Spinning")


def grouped(check: PartCheck) -> list[tuple[str, list[dict[str, Any]]]]:
    """Figures of a check by group, in the order of the page."""
    return [
        (g, rows)
        for g in GROUPS
        if (
            rows := [
                f | {"expanded": expanded(f["quantity"]["u"], f["quantity"]["dof"])}
                for f in check.figures
                if f["group"] == g
            ]
        )
    ]


def differences(first: PartCheck | None, second: PartCheck | None) -> list[dict[str, Any]]:
    """Figures of two checks side by side, with the change in percent."""
    keys = dict.fromkeys(f["key"] for c in (first, second) if c for f in c.figures)
    rows = []
    for key in keys:
        a, b = (c.figure(key) if c else None for c in (first, second))
        known = a or b or {}
        change = None
        if a and b and a["quantity"]["value"]:
            change = 100 * (b["quantity"]["value"] / a["quantity"]["value"] - 1)
        rows.append(
            {
                "label": known["label"],
                "kind": known["kind"],
                "first": a and a["quantity"]["value"],
                "second": b and b["quantity"]["value"],
                "change": change,
            }
        )
    return rows


@dataclass(frozen=True)
class Checked:
    """What the checks of an entry's newest version come to: the worst word, and the part whose picture
    stands for it (None where there is none).
    """

    word: str
    still: int | None


def checked(round: Round) -> dict[int, Checked]:
    """What the checks of each entry's newest version come to, by entry; in one query."""
    rank = {"back": 3, "care": 2, "ready": 1, "": 0}
    newest = (
        Version.objects.filter(entry=OuterRef("file__version__entry"))
        .order_by("-number")
        .values("pk")[:1]
    )
    rows = (
        PartCheck.objects.newest()
        .filter(file__version__entry__round=round, file__version=Subquery(newest))
        .order_by("file__name")
        .values_list("file__version__entry", "file", "verdict", "state", "still")
    )
    found: dict[int, Checked] = {}
    for entry, file, verdict, state, still in rows:
        word = (
            verdict
            if state == PartCheck.State.DONE
            else "at work"
            if state in {"waiting", "running"}
            else "back"
        )
        before = found.get(entry, Checked("", None))
        worse = rank.get(word, 4) >= rank.get(before.word, 4 if entry in found else 0)
        picture = before.still or (file if still else None)
        found[entry] = Checked(word if worse else before.word, picture)
    return found


def reads_outlets(round: Round) -> bool:
    """Whether a round reads rows of outlets, of which parts may have different numbers."""
    return Test.objects.current().filter(round=round, rig__kind=outlets.RIG.key).exists()
