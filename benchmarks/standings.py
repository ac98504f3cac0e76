"""Standings of a round with 1,000 entries x 5 tests x 5 repeats and 20,000 draws, against bare
sorting of the same draws.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from benchmarks.harness import Row, row, seconds
from hauch.core.judge.reference import Runs, compare
from hauch.core.judge.standing import Term, rank, score

ENTRIES, TESTS, REPEATS, DRAWS = 1000, 5, 5, 20_000


def _test(random: np.random.Generator) -> tuple[Runs, Runs]:
    count = ENTRIES * REPEATS
    subject = np.repeat(np.arange(ENTRIES), REPEATS)
    true = random.normal(0, 0.08, ENTRIES)
    times = random.permutation(count) * 300.0
    entries = Runs(
        subject,
        true[subject] + random.normal(0, 0.01, count),
        times,
        np.full(count, 0.002),
        np.full((count, 4), 0.01),
    )
    brackets = np.repeat(np.linspace(0, count * 300.0, 50), 2)
    reference = Runs(
        np.zeros(100, int),
        random.normal(0, 0.01, 100),
        brackets,
        np.full(100, 0.002),
        np.full((100, 4), 0.01),
    )
    return entries, reference


def run() -> Iterator[Row]:
    random = np.random.default_rng(140)
    data = [_test(random) for _ in range(TESTS)]
    terms = [Term(str(number), 1.0, 1, True) for number in range(TESTS)]

    def standing():
        comparisons = [compare(entries, reference, ENTRIES, 0) for entries, reference in data]
        _, scores = score(terms, comparisons)
        return scores, rank(scores, draws=DRAWS)

    scores, _ = standing()
    draws = scores.score + scores.u * random.standard_normal((DRAWS, ENTRIES))
    ours, bare = seconds(standing), seconds(lambda: np.argsort(draws, axis=1))
    yield row("standings: whole computation", ours, "s")
    yield row("standings: bare argsort of the draws", bare, "s")
    yield row("standings: ratio", ours / bare, "x", 3.0)
