"""The bench report of an entry: test by test the figure, its runs, what was found, left out and
seen, and how the figure came about.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from hauch.bench.models import Exclusion, Observation, Result, Run
from hauch.bench.queries import observations_by_run, runs
from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.rounds.models import Round, Test
from hauch.verdict.queries import cell_doubt, cell_working


@dataclass(frozen=True)
class RunReport:
    """One run with all that is to be told of it."""

    run: Run
    result: Result | None
    left_out: list[Exclusion]
    observations: list[Observation]

    @property
    def noteworthy(self) -> bool:
        """Whether there is more to tell than the figure."""
        troubles = self.result.troubles if self.result else []
        plain = self.run.state == Run.State.VALID and self.has_figure and not troubles
        return bool(
            not plain or self.left_out or self.observations or self.run.note or self.run.picture
        )

    @property
    def has_figure(self) -> bool:
        """Whether a figure came out."""
        return self.result is not None and self.result.value is not None


@dataclass(frozen=True)
class Section:
    """One test: its cell of the standing with how that came about, its runs, and the newest run
    that has a figure.
    """

    test: Test
    cell: dict[str, Any] | None
    steps: list[dict[str, Any]]
    doubt: list[dict[str, Any]]
    made: list[RunReport]
    newest: RunReport | None


def sections_of(user: User, round: Round, entry: Entry, known: dict[str, Any]) -> list[Section]:
    """Sections of the tests in which an entry was run, in the order of the tests; ``known`` as
    `queries.evidence` gives it.
    """
    found = (
        runs()
        .visible_to(user, round)
        .with_names()
        .filter(specimen__version__entry=entry)
        .select_related("picture", "carried_from", "test__rig")
    )
    made = list(
        found.prefetch_related(
            "exclusions__by",
            "exclusions__reading",
            "carried_from__exclusions__by",
            "carried_from__exclusions__reading",
        ).order_by("test__order", "started_at", "pk")
    )
    seen, cells = observations_by_run(made), {test.pk: cell for test, cell in known["cells"]}
    by_test: dict[int, list[Run]] = {}
    for run in made:
        run.test.round = round
        by_test.setdefault(run.test_id, []).append(run)
    sections = []
    for own in by_test.values():
        test = own[0].test
        cell, ground = cells.get(test.pk), known["reference"].get(test.key)
        told = [
            RunReport(run, getattr(run, "result", None), _left_out(run), seen[run.pk])
            for run in own
        ]
        counted = [one for one in told if one.run.state == Run.State.VALID and one.has_figure]
        newest = next(
            (one for one in reversed(counted) if one.run.setting_id == test.setting_id),
            counted[-1] if counted else None,
        )
        # Who may not see the standing yet may not see how its figures came about either.
        steps: list[dict[str, Any]] = []
        doubt: list[dict[str, Any]] = []
        if known["row"] is not None and cell and ground:
            steps, doubt = cell_working(test, cell, ground), cell_doubt(cell)
        sections.append(Section(test, cell, steps, doubt, told, newest))
    return sections


def _left_out(run: Run) -> list[Exclusion]:
    return [one for one in (run.carried_from or run).exclusions.all() if one.stands]
