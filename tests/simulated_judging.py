"""Simulations of what people judge and of rounds beside each other: panels, runs in turn, bridges."""

from __future__ import annotations

import math

import numpy as np

from hauch.core.judge.agreement import agreement, alike
from hauch.core.judge.band import Scatter
from hauch.core.judge.season import Figure, Measured, groups, record_of
from hauch.core.judge.with_without import cost


def panel(
    random: np.random.Generator, judges: int, samples: int, like: float, odd: int | None = None
) -> list[dict[int, float]]:
    """Totals of judges whose thoughts correlate by ``like``; the first one thinks the opposite
    (``odd`` -1) or anything (0).
    """
    thought = random.normal(size=samples)
    totals = math.sqrt(like) * thought + math.sqrt(1 - like) * random.normal(size=(judges, samples))
    if odd is not None:
        totals[0] += math.sqrt(like) * (odd - 1) * thought
    return [{n: float(v) for n, v in enumerate(row)} for row in totals]


def like_called_apart(judges: int, samples: int, like: float, count: int) -> float:
    """Share of panels of like judges in which somebody is called apart."""
    random = np.random.default_rng(1000 * judges + samples)
    called = sum(
        any(one.apart for one in alike(panel(random, judges, samples, like), range(samples)))
        for _ in range(count)
    )
    return called / count


def opposite_found(count: int) -> float:
    """Share of panels of five of eight samples in which who judges the other way round is found."""
    random = np.random.default_rng(8)
    rows = (alike(panel(random, 5, 8, 0.8, odd=-1), range(8)) for _ in range(count))
    return sum(row[0].apart for row in rows) / count


def without_preference_called(left_out: int, count: int) -> float:
    """Share of panels of six who rank five by chance, some left out, whose agreement is called with 5 %."""
    random, names, called = np.random.default_rng(3 + left_out), np.arange(5), 0
    for _ in range(count):
        rankings = [
            {
                int(name): float(place)
                for place, name in enumerate(random.permutation(names)[left_out:])
            }
            for _ in range(6)
        ]
        told = agreement(rankings, names.tolist())
        called += told.p is not None and told.p < 0.05
    return called / count


def in_turn_held(known_dof: int, count: int) -> float:
    """Share of intervals of A-B-A-B-A that hold what was changed; each with a drift of its own, by what
    is left over or by a history of the rig.
    """
    random, inside = np.random.default_rng(12 + known_dof), 0
    times, other = np.arange(5) * 600.0, np.array([False, True, False, True, False])
    for _ in range(count):
        y = 4 + random.normal() * times / 12_000 + 0.7 * other + random.normal(0, 0.2, 5)
        known = None
        if known_dof:
            sd = 0.2 * math.sqrt(random.chisquare(known_dof) / known_dof)
            known = Scatter(sd, known_dof)
        found = cost(times, y, other, np.zeros(5), known)
        inside += (
            found is not None and found.half is not None and abs(found.change - 0.7) <= found.half
        )
    return inside / count


def measured(
    round, rig=1, reference=1, carried=(), figures=((10, 0.05, 0.01),), beside=(), **alike
):
    """What a round measured of some entries, of champions that were carried into it, and of other
    specimens of the reference.
    """
    return Measured(
        round,
        100 + round,
        "airflow",
        {"at": "full"} | alike,
        rig,
        reference,
        1,
        [Figure(*row) for row in figures],
        {row[0]: Figure(*row) for row in carried},
        {row[0]: Figure(*row) for row in beside},
    )


def bridged_held(count: int) -> float:
    """Share of intervals of changes that were bridged by a champion that hold the truth. What is read is
    the mean of an entry less that of its round's reference, whose runs both changes share.
    """
    random, u, inside = np.random.default_rng(4), 0.01, 0
    champion, entry, gap, half = 0.05, 0.08, 0.02, 1.96 * u
    for _ in range(count):
        r1, r2, *own = random.normal(0, u / math.sqrt(2), 5)
        first = measured(1, figures=[(10, champion + own[0] - r1, half)])
        second = measured(
            2,
            reference=2,
            carried=[(10, champion - gap + own[1] - r2, half)],
            figures=[(20, entry - gap + own[2] - r2, half)],
        )
        record = record_of(groups([first, second])[0])
        assert record is not None and record.best.half is not None  # for the types
        inside += abs(record.best.change - entry) <= record.best.half
    return inside / count
