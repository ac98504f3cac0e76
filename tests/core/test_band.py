"""The reference as a band, and that intervals told at 95 % hold the truth that often."""

import math
import re
import unittest
from pathlib import Path

import numpy as np

import hauch
from hauch.core.judge.band import Band, Scatter, of_mean, of_next
from hauch.core.judge.reference import Runs, compare
from hauch.core.judge.standing import Term, score
from hauch.core.quantity import effective_dof, expanded, standard_of

SOURCE = Path(hauch.__file__).parent


class BandTests(unittest.TestCase):
    def test_by_hand(self):
        """1, 2, 3: mean 2, s 1, t(2) 4.303 (GUM table G.2)."""
        mean, coming = of_mean([1.0, 2.0, 3.0]), of_next([1.0, 2.0, 3.0])
        self.assertEqual((mean.value, coming.value), (2.0, 2.0))
        self.assertAlmostEqual(mean.half, 4.303 / math.sqrt(3), places=3)
        self.assertAlmostEqual(coming.half, 4.303 * math.sqrt(4 / 3), places=3)

    def test_one_run_tells_no_scatter(self):
        self.assertEqual(of_mean([2.0]), Band(2.0, None))
        self.assertEqual(of_next([2.0]), Band(2.0, None))
        self.assertIsNone(of_mean([]))

    def test_what_is_known_of_the_scatter_is_used(self):
        """s 2 with 10 degrees of freedom, t 2.228, from four repeats."""
        self.assertAlmostEqual(of_mean([5.0] * 4, Scatter(2.0, 10)).half, 2.228, places=3)
        self.assertAlmostEqual(of_mean([5.0], Scatter(2.0, math.inf)).half, 3.92, places=2)

    def test_one_more_run_lies_inside_as_often_as_told(self):
        random = np.random.default_rng(7)
        values = random.normal(10.0, 1.0, (4000, 5))
        inside = [
            abs(row[-1] - band.value) <= band.half
            for row in values
            if (band := of_next(row[:-1].tolist()))
        ]
        self.assertAlmostEqual(np.mean(inside), 0.95, delta=0.012)


class ExpandedTests(unittest.TestCase):
    def test_normal_where_nothing_is_known_of_the_degrees_of_freedom(self):
        self.assertAlmostEqual(expanded(1.0), 1.95996, places=5)
        self.assertEqual(expanded(1.0, None), expanded(1.0, math.inf))
        self.assertAlmostEqual(expanded(1.0, 10), 2.228, places=3)

    def test_what_is_typed_comes_back(self):
        self.assertAlmostEqual(expanded(standard_of(0.04)), 0.04, places=15)

    def test_effective_degrees_of_freedom_by_hand(self):
        """GUM G.4.1: 3 with 4, 4 without end: (25/9)^2 x 4 = 30.9."""
        self.assertAlmostEqual(effective_dof([(3.0, 4), (-4.0, math.inf)]), 4 * (25 / 9) ** 2)
        self.assertEqual(effective_dof([(1.0, math.inf)]), math.inf)
        self.assertEqual(effective_dof([]), math.inf)

    def test_nobody_has_a_way_of_their_own(self):
        """The factor of an interval stands in one module."""
        own_way = re.compile(r"(?<![\d.])1\.(96|645)\b(?!\s*u)|\b2(\.0)? \* \(?(\w+\.)*(\w+_)?u\b")
        found = [
            f"{path.relative_to(SOURCE)}: {line.strip()}"
            for path in SOURCE.rglob("*.py")
            if path.name != "quantity.py" and "migrations" not in path.parts
            for line in path.read_text().splitlines()
            if own_way.search(line)
        ]
        self.assertEqual(found, [])


def fields(random, count, repeats, tests, sd=(0.01, 0.02), rig=0.0):
    """Rounds of equal entries in several tests, as the standing compares them; ``count`` of them."""
    for _ in range(count):
        comparisons = []
        for number in range(tests):
            entries, size = 4, 4 * repeats
            subject = np.repeat(np.arange(entries), repeats)
            error = random.normal(0, rig)
            entry_runs = Runs(
                subject,
                random.normal(0, sd[number], size),
                np.arange(size, dtype=float),
                np.zeros(size),
                np.full((size, 1), rig),
            )
            reference = Runs(
                np.zeros(repeats, int),
                random.normal(0, sd[number], repeats) - error,
                np.full(repeats, -1.0),
                np.zeros(repeats),
                np.zeros((repeats, 1)),
            )
            comparisons.append(compare(entry_runs, reference, entries, 0))
        yield comparisons


class CoverageTests(unittest.TestCase):
    """Entries that do not differ from the reference: their intervals hold 0 % and 100 % that often."""

    def test_differences(self):
        for repeats, rig in ((2, 0.0), (2, 0.01), (3, 0.02)):
            with self.subTest(repeats=repeats, rig=rig):
                random = np.random.default_rng(11)
                inside = [
                    abs(delta) <= expanded(u, dof)
                    for (c,) in fields(random, 700, repeats, 1, rig=rig)
                    for delta, u, dof in zip(c.delta, c.u, c.effective_dof, strict=True)
                ]
                self.assertAlmostEqual(np.mean(inside), 0.95, delta=0.02)

    def test_scores_of_two_tests(self):
        terms = [Term("air", 1.0, 1, True), Term("power", 1.0, -1, True)]
        random = np.random.default_rng(13)
        inside, normal = [], []
        for comparisons in fields(random, 700, 2, 2):
            _, scores = score(terms, comparisons)
            off = abs(scores.score - 100)
            inside += list(off <= scores.expanded)
            normal += list(off <= expanded(1.0) * scores.u)
        self.assertAlmostEqual(np.mean(inside), 0.95, delta=0.02)
        self.assertLess(np.mean(normal), np.mean(inside) - 0.01, "t makes a difference here")
