"""Judging: differences, brackets and bridges, scores, ranks."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm, studentized_range

from hauch.core.judge.band import Scatter
from hauch.core.judge.difference import judge_difference
from hauch.core.judge.family import apart_factor
from hauch.core.judge.reference import Runs, brackets, compare, interpolation_weights, pooled_sd
from hauch.core.judge.schemes import Limit, judge_rules, rule_problems
from hauch.core.judge.standing import Scores, Term, rank, rank_probabilities, score, set_apart
from tests.simulated import field, prints_compared


def runs(subject, y, time, own=0.0, common=None):
    n = len(y)
    return Runs(
        np.array(subject),
        np.array(y, float),
        np.array(time, float),
        np.full(n, own),
        np.zeros((n, 0)) if common is None else np.array(common, float),
    )


def scores(values, own, shared=None, dof=math.inf):
    values = np.array(values, float)
    shared = np.zeros((values.size, 0)) if shared is None else np.array(shared, float)
    count = shared.shape[1]
    return Scores(
        values,
        np.array([own], float) ** 2,
        shared,
        np.zeros(count, int),
        np.zeros(count, bool),
        np.array([dof]),
    )


class DifferenceTests(unittest.TestCase):
    def test_words_and_probability(self):
        """Normal distribution: two standard uncertainties are 97.7 %."""
        self.assertEqual(judge_difference(2.5, 1.0, math.inf, 1).word, "better")
        self.assertEqual(judge_difference(2.5, 1.0, math.inf, -1).word, "worse")
        close = judge_difference(1.0, 1.0, math.inf, 1)
        self.assertEqual(close.word, "too close to call")
        self.assertAlmostEqual(close.probability, 0.841, delta=0.0005)

    def test_few_degrees_of_freedom_call_later(self):
        """t with 3 degrees of freedom needs 3.18 (GUM table G.2), normal 1.96."""
        self.assertEqual(judge_difference(3.0, 1.0, 3, 1).word, "too close to call")
        self.assertEqual(judge_difference(3.0, 1.0, math.inf, 1).word, "better")

    def test_repeats_that_would_settle_it(self):
        """Size 1, repeat sd 1, nothing else: 1 > 1.96/sqrt(n) from n = 4 on, so one more than 3."""
        self.assertEqual(judge_difference(1.0, 1 / math.sqrt(3), 1e9, 1, 1.0, 3).repeats, 1)
        self.assertIsNone(judge_difference(0.01, 1.0, 1e9, 1, 0.1, 3).repeats)

    def test_no_doubt_at_all(self):
        self.assertEqual(judge_difference(0.0, 0.0, math.inf, 1).word, "too close to call")
        self.assertEqual(judge_difference(0.1, 0.0, math.inf, 1).word, "better")

    @given(st.floats(-5, 5), st.floats(0.01, 3), st.integers(2, 50))
    def test_symmetry(self, delta, u, dof):
        one, other = judge_difference(delta, u, dof, 1), judge_difference(-delta, u, dof, 1)
        self.assertAlmostEqual(one.probability + other.probability, 1.0, places=9)

    def test_impossible_input(self):
        for arguments, words in (
            ((1, -1, 5, 1), "0 or more"),
            ((1, 1, 5, 0), "direction"),
            ((1, 1, 5, 1, 0.1, 0), "at least one repeat"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValueError, words):
                judge_difference(*arguments)


class ReferenceTests(unittest.TestCase):
    def test_brackets_are_reference_runs_with_no_entry_between(self):
        self.assertEqual(
            brackets(np.array([5.0, 15.0]), np.array([1.0, 2.0, 10.0, 20.0])).tolist(), [0, 0, 1, 2]
        )
        self.assertEqual(
            brackets(np.array([5.0, 15.0]), np.array([20.0, 2.0, 10.0, 1.0])).tolist(), [2, 0, 1, 0]
        )

    def test_a_night_between_two_runs_makes_two_brackets(self):
        self.assertEqual(
            brackets(np.array([]), np.array([0.0, 600.0, 40_000.0])).tolist(), [0, 0, 1]
        )

    def test_interpolation_in_time(self):
        weights = interpolation_weights(
            np.array([0.0, 5.0, 2.5, 12.0]), np.array([0.0, 10.0]), np.array([0, 1])
        )
        self.assertTrue(np.allclose(weights, [[1, 0], [0.5, 0.5], [0.75, 0.25], [0, 1]]))

    def test_linear_drift_is_taken_out_exactly(self):
        """Meter loses 1 % an hour for all; the entry is 5 % above the reference throughout."""
        times = np.arange(0, 8.0)
        reference = runs([0, 0, 0], np.log(100 * (1 - 0.01 * np.array([0, 4, 8.0]))), [0, 4, 8])
        entry_times = times[[1, 2, 3, 5, 6, 7]]
        drifted = np.log(105 * np.interp(entry_times, [0, 4, 8], [1, 0.96, 0.92]))
        c = compare(runs([0] * 6, drifted, entry_times), reference, 1, 0)
        self.assertAlmostEqual(
            100 * math.expm1(c.delta[0]), 5.0, delta=0.03
        )  # straight in the logarithm, curved by 0.02 in the figure
        self.assertAlmostEqual(c.drift[0], math.log(0.92), places=9)

    def test_common_causes_cancel_and_own_ones_stay(self):
        """Both read 2 % high by the same meter: the ratio knows nothing of it; an offset cancels in
        part.
        """
        entries = runs([0], [math.log(110)], [1], common=[[0.02, 0.5 / 110]])
        reference = runs([0], [math.log(100)], [0], common=[[0.02, 0.5 / 100]])
        c = compare(entries, reference, 1, 0)
        self.assertAlmostEqual(abs(c.shared[0, -2]), 0.0, places=12)
        self.assertAlmostEqual(abs(c.shared[0, -1]), 0.5 / 100 - 0.5 / 110, places=12)

    def test_bridge_between_two_specimens(self):
        """Specimen 1 moves 3 % more than specimen 0; an entry run beside specimen 1 is still judged
        against specimen 0.
        """
        reference = runs(
            [0, 0, 1, 0, 1, 1],
            np.log([100, 100, 103, 100, 103, 103]),
            [0, 1, 2, 3, 4, 10],
            own=0.01,
        )
        c = compare(
            runs([0, 1], np.log([106.0, 106.0]), [0.5, 9.0]),
            reference,
            2,
            0,
            known=Scatter(0.01, 20),
        )
        self.assertTrue(np.allclose(np.expm1(c.delta), 0.06))
        self.assertAlmostEqual(c.bridges[1][0], math.log(1.03), places=9)
        self.assertGreater(c.u[1], c.own_u[1])

    def test_without_a_bridge_nothing_is_compared(self):
        reference = runs([0, 1], np.log([100, 103]), [0, 10])
        c = compare(
            runs([0, 1], np.log([106.0, 106.0]), [1.0, 9.0]),
            reference,
            2,
            0,
            known=Scatter(0.01, 20),
        )
        self.assertTrue(math.isnan(c.delta[1]))
        self.assertEqual(c.unbridged, {1})

    def test_no_reference_is_an_error(self):
        with self.assertRaisesRegex(ValueError, "no run of the reference"):
            compare(runs([0], [0.0], [1]), runs([1], [0.0], [0]), 1, 0)

    def test_pooled_sd_by_hand(self):
        """Groups (1, 3) and (10, 10, 13): squares 2 and 6, degrees of freedom 1 and 2."""
        squares, dof = pooled_sd(np.array([1.0, 3, 10, 10, 13]), np.array([0, 0, 1, 1, 1]))
        self.assertAlmostEqual(squares, 8.0)
        self.assertEqual(dof, 3)

    def test_more_repeats_halve_the_own_doubt(self):
        random = np.random.default_rng(2)
        times = np.arange(64.0)
        many = runs([0] * 60 + [1] * 4, random.normal(0, 0.01, 64), times + 0.5)
        c = compare(many, runs([0] * 8, random.normal(0, 0.01, 8), np.arange(0, 64, 8)), 2, 0)
        self.assertAlmostEqual(c.own_u[1] / c.own_u[0], math.sqrt(15), places=6)

    def test_doubt_is_honest(self):
        """Simulated rounds: the true difference lies within the 95 % interval in 95 of 100 cases
        (binomial 1 % points 89 and 99).
        """
        inside = 0
        for seed in range(200):
            random = np.random.default_rng(seed)
            order = random.permutation(np.repeat(np.arange(4), 3))
            times = np.arange(order.size) + 0.5
            reference = runs([0] * 5, random.normal(0, 0.01, 5), [0, 3, 6, 9, 12])
            c = compare(
                runs(order, 0.03 * order + random.normal(0, 0.01, order.size), times),
                reference,
                4,
                0,
            )
            inside += (
                abs(c.delta[2] - 0.06) < 2.13 * c.u[2]
            )  # t for 15 degrees of freedom, GUM table G.2
        self.assertGreaterEqual(inside, 178)
        self.assertLessEqual(inside, 199)


class PrintTests(unittest.TestCase):
    """Two prints of one version are two parts: each counts the same, and what they differ by is no
    scatter of anybody's repeats.
    """

    def test_a_difference_between_prints_is_not_told_as_scatter_of_all(self):
        random = np.random.default_rng(3)
        c = prints_compared(random, [2, 1, 1, 1], apart=0.2)
        self.assertLess(c.repeat_sd, 0.02)
        self.assertGreater(c.own_u[0], 5 * c.own_u[1])
        self.assertEqual((c.prints.tolist(), c.print_dof), ([2, 1, 1, 1], 1))

    def test_each_print_counts_the_same(self):
        """Three runs of a print at 0.3 and one of another at 0.1: 0.2, not 0.25."""
        entries = replace(
            runs([0] * 4, [0.3, 0.3, 0.3, 0.1], [1, 2, 3, 4]), part=np.array([0, 0, 0, 1])
        )
        c = compare(entries, runs([0, 0], [0.0, 0.0], [0, 5]), 1, 0)
        self.assertAlmostEqual(c.delta[0], 0.2)
        self.assertAlmostEqual(c.print_sd, 0.1 * math.sqrt(2))


class UntoldTests(unittest.TestCase):
    def test_without_repeats_and_history_nothing_is_told(self):
        c = compare(runs([0, 1], [0.1, 0.2], [1, 2]), runs([0], [0.0], [0.0]), 2, 0)
        self.assertFalse(c.has_doubt)
        self.assertTrue(np.isnan(c.u).all())
        np.testing.assert_allclose(c.delta, [0.1, 0.2])

    def test_history_comes_with_its_own_degrees_of_freedom(self):
        entries, reference = runs([0, 1], [0.1, 0.2], [1, 2]), runs([0], [0.0], [0.0])
        c = compare(entries, reference, 2, 0, known=Scatter(0.02, 5))
        self.assertTrue(c.has_doubt and c.history)
        np.testing.assert_allclose(c.u, 0.02 * math.sqrt(2))
        np.testing.assert_allclose(c.effective_dof, 5)

    def test_repeats_of_the_test_go_before_history(self):
        c = compare(
            runs([0, 0, 0], [0.1, 0.11, 0.09], [1, 2, 3]),
            runs([0], [0.0], [0.0]),
            1,
            0,
            known=Scatter(9.0, 50),
        )
        self.assertEqual((c.history, c.dof), (False, 2.0))
        self.assertAlmostEqual(c.repeat_sd, 0.01)


class ScoreTests(unittest.TestCase):
    def compared(self, deltas, log=True):
        entries = runs(
            range(len(deltas)),
            [math.log(1 + d) if log else d for d in deltas],
            np.arange(len(deltas)) + 1.0,
        )
        return compare(entries, runs([0], [0.0], [0.0]), len(deltas), 0, known=Scatter(0.001, 20))

    def test_weighted_percent_by_hand(self):
        """Air +10 % with weight 2, power +4 % (less is better) with weight 1: 100 + (2*10 - 4)/3 =
        105.33 %.
        """
        terms = [Term("air", 2, 1, True), Term("power", 1, -1, True)]
        _, s = score(terms, [self.compared([0.10]), self.compared([0.04])])
        self.assertAlmostEqual(s.score[0], 105.33, delta=0.005)

    def test_levels_as_percent_and_as_loudness(self):
        """-2 dB of 50 dB are 4 %; as loudness 1 - 2^-0.2 = 12.9 % (Stevens 1955)."""
        c = self.compared([-2.0], log=False)
        self.assertAlmostEqual(
            score([Term("noise", 1, -1, False, 50.0)], [c])[1].score[0], 104.0, delta=0.05
        )
        self.assertAlmostEqual(
            score([Term("noise", 1, -1, False, 50.0, "loudness")], [c])[1].score[0],
            112.9,
            delta=0.05,
        )

    def test_an_entry_without_a_figure_is_left_out(self):
        c = compare(
            runs([0, 2], [0.1, 0.2], [1, 2]), runs([0], [0.0], [0.0]), 3, 0, known=Scatter(0.01, 20)
        )
        complete, s = score([Term("air", 1, 1, True)], [c])
        self.assertEqual(complete.tolist(), [0, 2])
        self.assertEqual(s.score.size, 2)

    def test_schemes_that_cannot_rank(self):
        for terms, scheme, words in (
            ([], "weighted_percent", "score no test"),
            ([Term("air", 0, 1, True)], "weighted_percent", "weight of “air” is 0"),
            ([Term("air", 1, 0, True)], "weighted_percent", "direction"),
            (
                [Term("air", 1, 1, True), Term("noise", 1, -1, False)],
                "best_single",
                "but 2 have a weight",
            ),
        ):
            with self.subTest(words):
                self.assertRegex(" ".join(rule_problems(scheme, terms)), words)

    def test_best_single_metric_follows_that_metric(self):
        _, s = score([Term("air", 1, 1, True)], [self.compared([0.05, 0.20, 0.10])])
        self.assertEqual(rank(s, draws=1000).order.tolist(), [1, 2, 0])


class FamilyTests(unittest.TestCase):
    """Entries are set apart by one rule for the whole field (Tukey, Kramer, Hayter)."""

    def test_factor_against_tables(self):
        """q 0.05 over sqrt 2: Harter 1960: q(3; 20) 3.578, q(8; 4) 7.347, q(20; inf) 5.012."""
        for entries, dof, q in ((3, 20, 3.578), (8, 4, 7.347), (20, math.inf, 5.012)):
            self.assertAlmostEqual(apart_factor(entries, dof), q / math.sqrt(2), delta=5e-4)
        self.assertAlmostEqual(apart_factor(2, 4), 2.776, delta=5e-4)  # Student's t, two-sided
        self.assertEqual(apart_factor(1, 4), 0.0)

    def test_factor_against_another_program(self):
        for entries, dof in ((3, 1), (5, 7), (60, 3), (500, 12)):
            expected = studentized_range.ppf(0.95, entries, dof) / math.sqrt(2)
            self.assertAlmostEqual(apart_factor(entries, dof) / expected, 1, delta=1e-3)

    def test_many_at_once_are_as_each_alone_by_the_formula(self):
        """u^2 from own variances and what is not shared; degrees of freedom by JCGM 100, G.2b."""
        random = np.random.default_rng(11)
        comparisons = [field(random, 12, list(random.normal(0, 0.02, 12))) for _ in range(2)]
        _, s = score([Term("air", 2, 1, True), Term("power", 1, -1, True)], comparisons)
        found = set_apart(s, 0, np.arange(1, 12))
        for other in range(1, 12):
            across = (s.shared[0] - s.shared[other]) ** 2
            own = s.own_variance[:, 0] + s.own_variance[:, other]
            u = math.sqrt(own.sum() + across.sum())
            scatter = [
                own[t] + across[s.scatter & (s.shared_test == t)].sum() for t in range(own.size)
            ]
            dof = u**4 / sum(v * v / d for v, d in zip(scatter, s.dof, strict=True))
            gap = abs(s.score[0] - s.score[other])
            self.assertEqual(found[other - 1], gap > apart_factor(12, dof) * u)
        self.assertTrue(found.any() and not found.all())

    def test_a_limit_that_nobody_breaks_changes_no_rank(self):
        """One rule whichever way the score is worked out: gap 1.75 u at 4 degrees is no difference."""
        s = scores([101.75, 100.0], [1 / math.sqrt(2)] * 2, dof=4)
        self.assertFalse(set_apart(s, 0, np.array([1]))[0])
        random = np.random.default_rng(7)
        for gap in (0.0, 0.015, 0.03, 0.06):
            comparison = field(random, 4, [gap, 0, 0, 0])
            term = Term("air", 1, 1, True)
            plain = rank(score([term], [comparison])[1], draws=4000).rank
            limit = Limit("air", 90.0, 1, True)
            drawn = judge_rules(
                "weighted_percent", [term], [comparison], [limit], [comparison], draws=4000
            )
            self.assertEqual(plain.tolist(), drawn.standing.rank.tolist())


class RankTests(unittest.TestCase):
    def test_probability_of_two_normal_scores(self):
        """P(A > B) = Phi(1 / sqrt(2)) = 0.760 for a gap of 1 and doubts of 1 each."""
        s = scores([101.0, 100.0], [1.0, 1.0])
        exact = norm.cdf(1 / math.sqrt(2))
        self.assertAlmostEqual(rank_probabilities(s, 50_000, 1)[0, 0], exact, delta=0.006)

    def test_shared_causes_move_all_and_change_no_order(self):
        s = scores([101.0, 100.0], [0.1, 0.1], [[5.0], [5.0]])
        self.assertGreater(rank_probabilities(s, 5000, 1)[0, 0], 0.999)
        self.assertGreater(s.u[0], 5)

    def test_few_degrees_of_freedom_widen_the_draws(self):
        wide = rank_probabilities(scores([102.0, 100.0], [1.0, 1.0], dof=2), 40_000, 1)[0, 0]
        narrow = rank_probabilities(scores([102.0, 100.0], [1.0, 1.0]), 40_000, 1)[0, 0]
        self.assertLess(wide, narrow - 0.02)

    def test_too_close_shares_the_rank(self):
        standing = rank(scores([105.0, 104.9, 100.0], [0.5] * 3), "too_close", 2000)
        self.assertEqual(standing.rank.tolist(), [1, 1, 3])
        self.assertEqual(
            rank(scores([105.0, 104.9, 100.0], [0.5] * 3), "equal_score", 2000).rank.tolist(),
            [1, 2, 3],
        )

    def test_ties_are_symmetric(self):
        p = rank_probabilities(scores([100.0, 100.0], [1.0, 1.0]), 40_000, 3)
        self.assertAlmostEqual(p[0, 0], 0.5, delta=0.01)
        self.assertEqual(
            rank(scores([100.0, 100.0], [0.0, 0.0]), "equal_score", 1000).rank.tolist(), [1, 1]
        )

    def test_same_seed_same_digits(self):
        s = scores([103, 102, 101.5, 99], [1, 1, 1, 1], [[0.3], [0.2], [0.1], [0.4]], dof=9)
        self.assertTrue(
            np.array_equal(rank_probabilities(s, 5000, 42), rank_probabilities(s, 5000, 42))
        )
        self.assertFalse(
            np.array_equal(rank_probabilities(s, 5000, 42), rank_probabilities(s, 5000, 43))
        )

    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.floats(80, 120), min_size=2, max_size=6))
    def test_probabilities_are_doubly_stochastic(self, values):
        p = rank_probabilities(scores(values, [1.0] * len(values)), 1000, 1)
        self.assertTrue(np.allclose(p.sum(axis=0), 1))
        self.assertTrue(np.allclose(p.sum(axis=1), 1))

    @settings(max_examples=25, deadline=None)
    @given(
        st.lists(st.floats(80, 120), min_size=2, max_size=6, unique_by=lambda v: round(v, 3)),
        st.randoms(),
    )
    def test_order_of_entries_does_not_matter(self, values, random):
        shuffled = values[:]
        random.shuffle(shuffled)
        one = rank(scores(values, [0.0] * len(values)), draws=1000)
        other = rank(scores(shuffled, [0.0] * len(values)), draws=1000)
        self.assertEqual([values[i] for i in one.order], [shuffled[i] for i in other.order])

    @settings(max_examples=25, deadline=None)
    @given(st.lists(st.floats(-0.2, 0.2), min_size=2, max_size=6, unique_by=lambda v: round(v, 4)))
    def test_ranks_survive_a_monotone_change_of_the_metric(self, deltas):
        values = [math.exp(d) for d in deltas]
        squared = [v * v for v in values]
        order = rank(scores(values, [0.0] * len(values)), draws=1000).order.tolist()
        self.assertEqual(
            order, rank(scores(squared, [0.0] * len(values)), draws=1000).order.tolist()
        )
