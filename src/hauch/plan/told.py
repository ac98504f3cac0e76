"""A step of a plan with what a person is told of it, and what is not certain of it."""

from __future__ import annotations

from dataclasses import dataclass

from hauch.core.plan.chance import Doubt
from hauch.core.plan.durations import Duration
from hauch.core.plan.house import Piece
from hauch.plan.record import whole
from hauch.rounds.models import Round, Test
from hauch.stores.models import ReferenceSpecimen
from hauch.workshop.models import Specimen, WorkStep


@dataclass(frozen=True)
class Told:
    """What belongs to a step: its round, what is run or made, on what its durations rest."""

    kind: str
    label: str
    subject: str
    round: Round | None = None
    test: Test | None = None
    specimen: Specimen | None = None
    reference: ReferenceSpecimen | None = None
    work: WorkStep | None = None
    repeat: int | None = None
    durations: tuple[Duration | None, ...] = ()
    again: float = 0.0
    together: tuple[int, ...] = ()

    @property
    def doubt(self) -> Doubt | None:
        """For the draws; None where all is fixed."""
        if not self.again and not any(self.durations):
            return None
        return Doubt(self.durations, self.again)

    @property
    def told_by(self) -> Duration | None:
        """The duration that takes most of it."""
        known = [one for one in self.durations if one is not None]
        return max(known, key=lambda one: one.minutes, default=None)


def piece(
    what: str,
    known: Duration,
    *,
    hands: bool = False,
    watched: bool = False,
    wait: int = 0,
    runs_on: bool = False,
) -> Piece:
    """A piece that takes as long as is known of it."""
    return Piece(what, whole(known.expected), hands, watched, wait, runs_on)


def part_key(specimen: int | None, reference: int | None) -> str:
    """A part as plans know it."""
    return f"specimen:{specimen}" if specimen else f"reference:{reference}"
