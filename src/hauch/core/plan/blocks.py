"""Runs in blocks: each entry once a block, in an order left to chance, with the reference before,
between and after.

A randomised complete block design (R. A. Fisher, "The design of experiments", 1935, ch. IV): drift of
the rig and the time of day fall on all entries alike, since chance and not the planner says who comes
when.
"""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Wanted:
    """A run that the rules ask for: the entry, its repeat from 1, when its part is ready (0: now)."""

    entry: int
    repeat: int
    ready: int = 0


def blocks(wanted: Sequence[Wanted], seed: str, *, most: int = 12) -> list[list[Wanted]]:
    """Runs of one test in chains, block after block.

    Parameters
    ----------
    wanted : all runs that are wanted in the test
    seed : of the order; the same seed and the same runs give the same order
    most : so many runs at most are in one chain, so that it fits into a day

    Notes
    -----
    Block k holds the k-th of the repeats that each entry lacks, so that an entry is in it once at most.
    Parts that come later are in chains of their own, so that nobody who is ready waits for them.
    """
    if most < 1:
        raise ValueError(f"most = {most} must be 1 or more")
    by_entry: dict[int, list[Wanted]] = {}
    for run in sorted(wanted, key=lambda run: (run.entry, run.repeat)):
        by_entry.setdefault(run.entry, []).append(run)
    grouped: dict[tuple[int, int], list[Wanted]] = {}
    for runs in by_entry.values():
        for index, run in enumerate(runs):
            grouped.setdefault((run.ready, index), []).append(run)
    in_order: dict[int, list[Wanted]] = {}
    for (ready, index), block in sorted(grouped.items()):
        random.Random(f"{seed}:{ready}:{index}").shuffle(block)  # noqa: S311 - chance, no secret
        in_order.setdefault(ready, []).extend(block)
    return [
        runs[first : first + most]
        for runs in in_order.values()
        for first in range(0, len(runs), most)
    ]
