"""Rankings of judges put together: mean places, Kendall's W, and who stands apart."""

import unittest

import numpy as np
import scipy

from hauch.core.judge.agreement import _of_pairs, agreement, alike
from tests.simulated_judging import like_called_apart, panel


class AgreementTests(unittest.TestCase):
    def test_kendalls_example(self):
        """Kendall and Gibbons 1990, 6.5: three observers rank six, W = 0.16 (s = 25.5)."""
        ranks = ([5, 4, 1, 6, 3, 2], [2, 3, 1, 5, 6, 4], [4, 1, 6, 3, 2, 5])
        names = list("abcdef")
        told = agreement([dict(zip(names, row, strict=True)) for row in ranks], names)
        self.assertAlmostEqual(told.w, 0.162, delta=0.001)
        self.assertEqual(told.complete, 3)

    def test_all_alike_and_ties(self):
        same = agreement([{"a": 1, "b": 2, "c": 3}] * 4, list("abc"))
        self.assertAlmostEqual(same.w, 1.0)
        # 3! of the 3!^4 ways in which four judges may rank three; told from 999 draws
        self.assertAlmostEqual(same.p, 6 / 6**4, delta=0.006)
        self.assertAlmostEqual(same.places["a"], 1 / 6)
        self.assertEqual(same.u["a"], 0.0)
        tied = agreement([{"a": 1, "b": 1, "c": 3}] * 4, list("abc"))
        self.assertAlmostEqual(tied.w, 1.0)
        self.assertEqual(tied.places["a"], tied.places["b"])
        same = agreement([{"a": 1, "b": 1, "c": 1}] * 2, list("abc"))
        self.assertIsNone(same.w)

    def test_missing_ones(self):
        told = agreement([{"a": 1, "b": 2, "c": 3}, {"a": 2, "b": 1}, {}], list("abc"))
        self.assertEqual(told.judges, {"a": 2, "b": 2, "c": 1})
        self.assertAlmostEqual(told.places["a"], (1 / 6 + 3 / 4) / 2)
        # the two have a and b in common, and put them the other way round: -1 + 2/2
        self.assertEqual((told.complete, told.w, told.whole), (1, 0.0, False))
        self.assertIsNone(agreement([{"a": 1, "b": 2}], list("ab")).w)
        self.assertIsNone(agreement([], list("ab")).w)
        self.assertIsNone(agreement([{"a": 1}, {"b": 1}], list("ab")).w)

    def test_pairs_come_to_the_same_w_where_none_is_missing(self):
        """Kendall and Gibbons 1990, 6.4: the mean of all pairs is (m W - 1) / (m - 1)."""
        random, names = np.random.default_rng(5), list("abcdef")
        ranks = np.array([random.permutation(6) + 1.0 for _ in range(5)])
        told = agreement([dict(zip(names, row, strict=True)) for row in ranks], names)
        pairs = [
            scipy.stats.spearmanr(ranks[a], ranks[b]).statistic for a in range(5) for b in range(a)
        ]
        self.assertAlmostEqual((5 * told.w - 1) / 4, np.mean(pairs))
        self.assertAlmostEqual(_of_pairs(ranks)[0], told.w)

    def test_a_large_panel_with_gaps_is_told_in_time(self):
        """Five hundred listeners who leave two of twelve out: W as without gaps, in a second or two."""
        random, names = np.random.default_rng(9), range(12)
        thought = random.normal(size=12)
        full = [
            dict(zip(names, scipy.stats.rankdata(thought + random.normal(size=12)), strict=True))
            for _ in range(500)
        ]
        gaps = [
            {k: v for k, v in one.items() if k not in random.choice(12, 2, replace=False)}
            for one in full
        ]
        told = agreement(gaps, names)
        self.assertFalse(told.whole)
        self.assertAlmostEqual(told.w, agreement(full, names).w, delta=0.03)
        self.assertLess(told.p, 0.01)

    def test_the_draws_come_to_what_friedmans_test_has(self):
        """Nineteen judges are drawn for; the chi-squared distribution holds well for as many."""
        random, names = np.random.default_rng(6), list("abcde")
        ranks = [random.permutation(np.arange(5.0)) for _ in range(19)]
        told = agreement([dict(zip(names, row, strict=True)) for row in ranks], names)
        self.assertAlmostEqual(
            told.p, scipy.stats.friedmanchisquare(*np.array(ranks).T).pvalue, delta=0.03
        )

    def test_without_preference_w_is_seldom_called_one(self):
        """Eight listeners who rank five at random: p below 5 % in at most 7 % of 600."""
        random, names = np.random.default_rng(2), list("abcde")
        called = 0
        for _ in range(600):
            rankings = [
                dict(zip(names, random.permutation(5) + 1.0, strict=True)) for _ in range(8)
            ]
            called += agreement(rankings, names).p < 0.05
        self.assertLess(called / 600, 0.07)


class AlikeTests(unittest.TestCase):
    def test_by_hand(self):
        """The third: 1 - 6 (2^2 + 1 + 1) / (3 (3^2 - 1)) = -1/2 with the others; the first: the others
        have 4, 3, 5 together, so 1 - 6 (1 + 1) / 24 = 1/2.
        """
        rows = alike([{"a": 1, "b": 2, "c": 3}] * 2 + [{"a": 3, "b": 1, "c": 2}], list("abc"))
        for row, there in zip(rows, (0.5, 0.5, -0.5), strict=True):
            self.assertAlmostEqual(row.correlation, there)
        self.assertEqual([one.p is None for one in rows], [True, True, False])
        self.assertFalse(rows[2].apart)  # three judges of three samples can tell nothing

    def test_who_ranks_too_little_is_not_held(self):
        rows = alike([{"a": 1, "b": 2, "c": 3}] * 3 + [{"a": 1, "b": 2}, {}], list("abc"))
        self.assertEqual([one.correlation for one in rows[3:]], [None, None])
        self.assertEqual(alike([], list("ab")), [])

    def test_like_judges_with_gaps_are_seldom_called_apart(self):
        """At most 5 % of panels, and two of its standard errors."""
        random, called = np.random.default_rng(7), 0
        for _ in range(80):
            totals = panel(random, 5, 6, 0.6)
            for row in totals:
                row.pop(int(random.integers(6)))
            called += any(one.apart for one in alike(totals, range(6)))
        self.assertLess(called / 80, 0.1)

    def test_three_and_four_judges_are_as_seldom(self):
        for judges, samples, like in ((3, 5, 0.3), (4, 4, 0.3), (4, 8, 0.8)):
            with self.subTest(judges=judges, samples=samples):
                self.assertLess(like_called_apart(judges, samples, like, 150), 0.08)
