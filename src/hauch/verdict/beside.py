"""Two to four versions beside each other: figures, curves over the reference's, what they are."""

from __future__ import annotations

import math
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from hauch.bench.models import Run
from hauch.bench.queries import counting
from hauch.core.judge.field import mean_value
from hauch.core.judge.overlay import Laid, Law, Over, laid, law_of, over
from hauch.core.measure.curves import OutsideRange
from hauch.core.quantity import expanded
from hauch.core.quantity.show import Shown, show_plain
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.entries.models import Entry, PartFile, Version
from hauch.entries.queries import check_of, parts_of
from hauch.rounds.models import Round, Test
from hauch.verdict.accepting import Change, Measured

MOST = 4
"""So many are held beside each other."""

NEWEST = 12
"""So many curves of each part are laid over each other."""

WAYS = {
    "same": "the same everywhere",
    "grows": "more towards {high}",
    "falls": "less towards {high}",
    "turns": "it turns back in between",
    "crosses": "it crosses at {at}",
}


def measured_versions(round: Round) -> list[Version]:
    """Versions of a round with a run that counts, by entry."""
    runs = counting().filter(test__round=round, state=Run.State.VALID)
    return list(
        Version.objects.filter(pk__in=runs.values("specimen__version"), entry__state=Entry.State.IN)
        .select_related("entry")
        .order_by("entry__name", "number")
    )


@dataclass(frozen=True)
class Figures:
    """A test's figures: of each part its value and change, of the first pair the change between."""

    test: Test
    ground: float | None
    cells: list[tuple[float, Change] | None]
    between: Change | None

    @property
    def best(self) -> int | None:
        """Index of the best by its figure, whether or not it can be told from the others."""
        known = [(i, cell[1]) for i, cell in enumerate(self.cells) if cell is not None]
        if len(known) < 2:
            return None
        return max(known, key=lambda one: one[1].value * self.test.how.direction)[0]


def figures_of(
    versions: Sequence[Version], tests: Sequence[Test], measured: Measured
) -> list[Figures]:
    """The figures of versions, test by test."""
    out = []
    for test in tests:
        data = measured.data.get(test.key)
        if data is None or data.comparison is None:
            continue
        cells: list[tuple[float, Change] | None] = []
        for version in versions:
            change = measured.change(test, version.pk)
            values = data.values.get(version.pk)
            cells.append(
                (mean_value(test.how.log, values.values()), change) if change and values else None
            )
        pair = None
        if len(versions) == 2:
            pair = measured.change(test, versions[1].pk, versions[0].pk)
        if any(cells):
            ground = data.reference.y[data.base_runs].mean()
            level = math.exp(ground) if test.how.log else float(ground)
            out.append(Figures(test, level, cells, pair))
    return out


@dataclass
class Curves:
    """A test's curves: of each part, of the reference; what is read at a place that was asked for."""

    test: Test
    kinds: dict[str, str]
    labels: dict[str, str]
    laid: list[Laid | None]
    laws: list[Law | None]
    reference: Laid | None
    over: list[Over | None]
    ground_law: Law | None = None
    asked: str = ""
    at: float | None = None
    problem: str = ""

    @property
    def forecasts(self) -> bool:
        """Whether its law may be read beyond what was measured: over speed, where fan laws hold."""
        return self.kinds["x"] == "rotational_speed" and (self.at or 0.0) > 0

    @property
    def read(self) -> list[dict[str, Any]]:
        """What each has at the place that was asked for: figure, half-width, change."""
        if self.at is None:
            return []
        ground = None
        if self.reference is not None:
            try:
                ground = self.reference.at(self.at)
            except OutsideRange:
                ground = None
        rows = []
        laws = [*(self.laws or [None] * len(self.laid)), self.ground_law]
        if ground is None and self.forecasts and self.ground_law is not None:
            ground = self.ground_law.forecast(self.at)
        for one, law in zip([*self.laid, self.reference], laws, strict=True):
            row: dict[str, Any] = {"value": None, "half": None, "change": None, "why": ""}
            if one is not None:
                try:
                    row["value"], row["half"] = one.at(self.at)
                except OutsideRange:
                    row["why"] = "not measured there"
                    if self.forecasts and law is not None:
                        row["value"], row["half"] = law.forecast(self.at)
                        row["why"] = "forecast by its law, beyond what was measured"
            if row["value"] is not None and ground is not None and one is not self.reference:
                ratio = self.kinds["y"] != "level" and ground[0] > 0
                row["change"] = (
                    100 * (row["value"] / ground[0] - 1) if ratio else row["value"] - ground[0]
                )
            rows.append(row)
        return rows


def curves_of(
    versions: Sequence[Version], tests: Sequence[Test], asked: Mapping[str, str], units: str
) -> list[Curves]:
    """Curves of versions, for the tests that have them."""
    out = []
    for test in tests:
        if test.how.curve is None:
            continue
        found = _stored(test, versions)
        first = next((c for runs in found.values() for c in runs), None)
        if first is None:
            continue
        kinds = {"x": first["x_kind"], "y": first["y_kind"]}
        points = {key: [c["points"] for c in runs] for key, runs in found.items()}
        mine = [laid(points.get(v.pk, [])) for v in versions]
        ground = laid(points.get(None, []))
        log = kinds["y"] != "level"
        one = Curves(
            test,
            kinds,
            {"x": first["x_label"], "y": first["y_label"]},
            mine,
            [law_of(points.get(v.pk, [])) for v in versions]
            if log and kinds["x"] != "level"
            else [],
            ground,
            [over(m, ground, log) if m and ground else None for m in mine],
            law_of(points.get(None, [])) if log and kinds["x"] != "level" else None,
            asked.get(f"at_{test.key}", "")[:40],
        )
        if one.asked.strip():
            unit = KINDS[kinds["x"]].shown[units]
            try:
                one.at = typed_figure(one.asked, kinds["x"], unit)[0]
            except ValueError as problem:
                one.problem = str(problem)
        out.append(one)
    return out


def _stored(test: Test, versions: Sequence[Version]) -> dict[int | None, list[dict[str, Any]]]:
    """Stored curves of the newest runs, by version; those of the reference under None."""
    rows = (
        counting()
        .filter(test=test, state=Run.State.VALID, result__curve__isnull=False)
        .order_by("-started_at")
        .values_list("specimen__version", "reference", "result__curve")
    )
    keys = {version.pk for version in versions}
    found: dict[int | None, list[dict[str, Any]]] = defaultdict(list)
    for version, reference, curve in rows.filter(reference__isnull=False)[:NEWEST]:
        if reference is not None and version is None and curve:
            found[None].append(curve)
    for version, _, curve in rows.filter(specimen__version__in=keys)[: NEWEST * MOST]:
        if curve:
            found[version].append(curve)
    return found


GEOMETRY = ("Size", "Walls", "Passages", "Spinning")
"""Groups of a check's figures that are the part's geometry; a size along an axis of the file is none."""

OF_THE_FILE = ("size_x", "size_y", "size_z")


@dataclass(frozen=True)
class Fact:
    """What a version is: the mass of its prints, cost, material, and its main part as it was checked.

    Parameters
    ----------
    part : the file with the most volume, None where none was checked
    """

    version: Version
    mass: float | None
    part: PartFile | None

    @property
    def figures(self) -> dict[str, dict[str, Any]]:
        """Figures of its geometry, by key."""
        check = self.part.newest_check if self.part is not None else None
        return {
            one["key"]: one
            for one in (check.figures if check is not None else [])
            if one["group"] in GEOMETRY and one["key"] not in OF_THE_FILE
        }


def facts_of(versions: Sequence[Version]) -> list[Fact]:
    """What versions are."""
    return [
        Fact(
            version,
            sum(masses) / len(masses) if masses else None,
            next((file for file in parts_of(version) if check_of(file) is not None), None),
        )
        for version in versions
        for masses in [[s.mass for s in version.specimens.all() if s.mass]]
    ]


Size = tuple[float, float | None] | None
"""A size with the half-width of its 95 % interval, None where nothing is told."""


def geometry_of(facts: Sequence[Fact]) -> list[tuple[str, str, list[Size]]]:
    """Label, kind and each version's figure, of what at least one was checked for."""
    known: dict[str, tuple[str, str]] = {}
    for fact in facts:
        for key, one in fact.figures.items():
            known.setdefault(key, (one["label"], one["kind"]))
    return [
        (
            label,
            kind,
            [_size(fact.figures.get(key)) for fact in facts],
        )
        for key, (label, kind) in known.items()
    ]


def _size(figure: Mapping[str, Any] | None) -> Size:
    if figure is None:
        return None
    told = figure["quantity"]
    u = told.get("u") or 0.0
    return told["value"], expanded(u, told.get("dof") or math.inf) if u > 0 else None


def sentences(one: Curves, versions: Sequence[Version], show: Any) -> list[str]:
    """What each curve does against the reference's, in words.

    Parameters
    ----------
    show : takes a value and its axis, and gives it in the person's units
    """
    out = []
    unit = "dB" if one.kinds["y"] == "level" else "%"
    for version, held in zip(versions, one.over, strict=True):
        if held is None:
            continue
        low, high = show(held.x[0], "x"), show(held.x[-1], "x")
        at = " and ".join(show(place, "x") for place in held.crossings[:3])
        way = WAYS[held.course].format(high=high, at=at)
        out.append(
            f"{version}: {_words(show_plain(held.change[0], unit, sign=True))} at {low},"
            f" {_words(show_plain(held.change[-1], unit, sign=True))} at {high}; {way}."
        )
    return out


def _words(shown: Shown) -> str:
    return f"{shown.number} {shown.unit}".strip()
