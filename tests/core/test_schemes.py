"""Schemes: rank points, limits, sums, fronts; and comparison over rig states and chains of bridges."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.judge.reference import Comparison, Runs, bridge_weights, compare
from hauch.core.judge.schemes import Limit, front_numbers, judge_rules, rule_problems
from hauch.core.judge.standing import Term, rank, score


def compared(delta, own=0.001, shared=None):
    delta = np.array(delta, float)
    shared = np.zeros((delta.size, 0)) if shared is None else np.array(shared, float)
    count = shared.shape[1]
    return Comparison(
        delta=delta,
        own_u=np.full(delta.size, own),
        shared=shared,
        of_rig=np.zeros((delta.size, 0)),
        counts=np.full(delta.size, 3),
        prints=np.ones(delta.size, int),
        repeat_sd=own,
        dof=math.inf,
        reference_sd=np.zeros(count, bool),
        weights=np.zeros((delta.size, 0)),
    )


AIR, NOISE, RISE = (
    Term("air", 1, 1, True, 0.05),
    Term("noise", 1, -1, False, 50.0),
    Term("rise", 1, -1, True, 40.0),
)


def judged(scheme, terms, comparisons, **more):
    return judge_rules(scheme, terms, comparisons, draws=2000, **more)


class RankPointTests(unittest.TestCase):
    def test_by_hand(self):
        """Three entries: air 3, 2, 1 points; noise (less is better) 1, 3, 2 points; noise counts
        half: 3.5, 3.5, 2.0.
        """
        half = Term("noise", 0.5, -1, False, 50.0)
        out = judged(
            "rank_points", [AIR, half], [compared([0.2, 0.1, 0.0]), compared([1.0, -3.0, -1.0])]
        )
        self.assertEqual(out.score.tolist(), [3.5, 3.5, 2.0])
        self.assertEqual(out.standing.rank.tolist(), [1, 1, 3])
        self.assertTrue(math.isnan(out.ground))

    def test_points_of_a_single_entry_are_no_score(self):
        out = judged("rank_points", [AIR, NOISE], [compared([0.2]), compared([1.0])])
        self.assertIsNone(out.score)
        self.assertEqual(out.standing.rank.tolist(), [1])
        self.assertIsNotNone(judged("sum", [AIR, NOISE], [compared([0.2]), compared([1.0])]).score)

    def test_equal_figures_share_their_points(self):
        out = judged(
            "rank_points", [AIR, NOISE], [compared([0.1, 0.1, 0.0]), compared([0.0, -1.0, -2.0])]
        )
        self.assertEqual(out.score.tolist(), [2.5 + 1, 2.5 + 2, 1 + 3])

    @given(st.floats(0.2, 5.0))
    @settings(max_examples=20)
    def test_stretching_a_figure_changes_nothing(self, factor):
        delta = np.array([0.03, 0.01, -0.02, 0.05])
        one = judged(
            "rank_points", [AIR, NOISE], [compared(delta), compared([1.0, 2.0, -1.0, 0.5])]
        )
        other = judged(
            "rank_points", [AIR, NOISE], [compared(factor * delta), compared([1.0, 2.0, -1.0, 0.5])]
        )
        self.assertEqual(one.score.tolist(), other.score.tolist())


class LimitTests(unittest.TestCase):
    LIMIT = Limit("air", 3.0, 1, True)

    def test_who_breaks_it_comes_last(self):
        """-4.0 dB with 6 % less air loses against -1.0 dB with 1 % less, where 3 % are allowed."""
        air = compared([math.log(0.94), math.log(0.99), math.log(1.02)])
        out = judged(
            "constraint",
            [NOISE],
            [compared([-4.0, -1.0, -0.5])],
            limits=[self.LIMIT],
            limited=[air],
        )
        self.assertEqual(out.standing.order.tolist(), [1, 2, 0])
        self.assertEqual(out.breaks.tolist(), [[True], [False], [False]])
        self.assertEqual(out.standing.rank[0], 3)
        self.assertLess(out.kept[0], 0.001)
        self.assertGreater(out.kept[1], 0.999)

    def test_on_the_edge_it_is_kept_with_half_the_probability(self):
        air = compared([math.log(0.97)], own=0.01)
        out = judged("constraint", [NOISE], [compared([-1.0])], limits=[self.LIMIT], limited=[air])
        self.assertAlmostEqual(out.kept[0], 0.5, delta=0.04)

    def test_a_limit_below_zero_asks_for_a_gain(self):
        limit = Limit("noise", -1.0, -1, False)
        self.assertEqual(limit.broken(np.array([-0.5, -1.5, 0.0])).tolist(), [True, False, True])

    def test_no_rank_is_shared_across_a_limit(self):
        air = compared([math.log(0.969), math.log(0.99)], own=0.05)
        out = judged(
            "constraint",
            [NOISE],
            [compared([-1.0, -1.0], own=0.5)],
            limits=[self.LIMIT],
            limited=[air],
        )
        self.assertEqual(out.standing.rank.tolist(), [2, 1])


class SumTests(unittest.TestCase):
    def test_by_hand(self):
        """40 K and 50 dB(A) of the reference; 36 K and 51 dB(A) make 87, 44 K and 47 dB(A) make 91:
        the smaller is first.
        """
        out = judged(
            "sum", [RISE, NOISE], [compared([math.log(0.9), math.log(1.1)]), compared([1.0, -3.0])]
        )
        for got, expected in zip(out.score, (87.0, 91.0), strict=True):
            self.assertAlmostEqual(got, expected, places=9)
        self.assertAlmostEqual(out.ground, 90.0, places=9)
        self.assertEqual(out.standing.order.tolist(), [0, 1])


class FrontTests(unittest.TestCase):
    def test_by_hand(self):
        """(3, 1), (1, 3) and (2, 2) are beaten by nobody; (1, 1) is beaten by all but (1, 3)'s
        first; (0, 0) by all.
        """
        gains = np.array([[3.0, 1.0], [1.0, 3.0], [2.0, 2.0], [1.0, 1.0], [0.0, 0.0]])
        self.assertEqual(front_numbers(gains).tolist(), [1, 1, 1, 2, 3])

    def test_equal_entries_do_not_beat_each_other(self):
        self.assertEqual(front_numbers(np.array([[1.0, 1.0], [1.0, 1.0]])).tolist(), [1, 1])

    def test_ranks_and_no_score(self):
        out = judged(
            "front", [AIR, NOISE], [compared([0.2, 0.1, 0.05]), compared([1.0, -2.0, -1.0])]
        )
        self.assertIsNone(out.score)
        self.assertEqual(out.standing.rank.tolist(), [1, 1, 3])
        self.assertGreater(out.standing.first[0], 0.99)
        self.assertLess(out.standing.first[2], 0.01)

    def test_one_test_alone_is_the_plain_order(self):
        gains = np.array([0.3, 0.1, 0.2])[:, None]
        self.assertEqual(front_numbers(gains).tolist(), [1, 3, 2])

    @given(st.lists(st.tuples(st.floats(-2, 2), st.floats(-2, 2)), min_size=1, max_size=12))
    @settings(max_examples=50)
    def test_nobody_on_the_first_front_is_beaten(self, rows):
        gains = np.array(rows)
        numbers = front_numbers(gains)
        first = gains[numbers == 1]
        for row in first:
            self.assertFalse(np.any(np.all(gains >= row, axis=1) & np.any(gains > row, axis=1)))
        self.assertEqual(set(numbers.astype(int).tolist()), set(range(1, int(numbers.max()) + 1)))


class SameAsBeforeTests(unittest.TestCase):
    def test_percent_by_drawing_agrees_with_the_linear_way(self):
        comparisons = [compared([0.02, 0.01, -0.01], 0.01), compared([-0.5, -1.0, 0.2], 0.3)]
        _, linear = score([AIR, NOISE], comparisons)
        plain = rank(linear, draws=20_000)
        drawn = judge_rules("weighted_percent", [AIR, NOISE], comparisons, draws=20_000)
        self.assertTrue(np.allclose(drawn.score, linear.score))
        self.assertTrue(np.allclose(drawn.u, linear.u, rtol=0.03))
        self.assertTrue(np.allclose(drawn.standing.probability, plain.probability, atol=0.02))

    def test_shared_causes_cancel_when_drawn(self):
        """A doubt of 5 % that both share leaves the order sure."""
        common = compared([0.02, 0.00], 0.001, [[0.05], [0.05]])
        out = judge_rules("rank_points", [AIR, NOISE], [common, compared([-1.0, 0.0])], draws=4000)
        self.assertGreater(out.standing.first[0], 0.999)

    def test_the_seed_decides(self):
        comparisons = [compared([0.02, 0.019], 0.01), compared([0.0, 0.1], 0.2)]
        one, same, other = (
            judge_rules("rank_points", [AIR, NOISE], comparisons, draws=3000, seed=s)
            for s in (1, 1, 2)
        )
        self.assertEqual(one.standing.first.tolist(), same.standing.first.tolist())
        self.assertNotEqual(one.standing.first.tolist(), other.standing.first.tolist())

    def test_incomplete_and_empty(self):
        out = judged("rank_points", [AIR, NOISE], [compared([0.1, math.nan]), compared([0.0, 0.0])])
        self.assertEqual(out.complete.tolist(), [0])
        nobody = judged("front", [AIR, NOISE], [compared([math.nan]), compared([0.0])])
        self.assertEqual(nobody.standing.order.size, 0)


class LittleRepeatedTests(unittest.TestCase):
    """One repeat more than none: the t distribution of one degree of freedom has tails beyond every
    number, which once ended the process that drew them.
    """

    def test_every_scheme_ranks_with_finite_doubt(self):
        rise = replace(compared([-0.3, -0.1, 0.0], own=0.4), dof=1.0, repeat_sd=0.4)
        noise = replace(compared([1.0, 0.5, 0.0], own=3.0), dof=1.0, repeat_sd=3.0)
        loud = replace(NOISE, level_as="loudness")
        for scheme in ("sum", "front", "rank_points", "weighted_percent", "constraint"):
            with self.subTest(scheme=scheme), np.errstate(all="raise"):
                terms, limits = [RISE, NOISE if scheme == "sum" else loud], []
                comparisons, limited = [rise, noise], []
                if scheme == "constraint":
                    terms, limits = [RISE], [Limit("noise", 2.0, -1, log=False)]
                    comparisons, limited = [rise], [noise]
                out = judge_rules(scheme, terms, comparisons, limits, limited, draws=20_000, seed=4)
                self.assertEqual(out.standing.rank[0], 1)
                self.assertTrue(np.allclose(out.standing.probability.sum(axis=1), 1.0))
                if out.u is not None:
                    self.assertTrue(np.isfinite([*out.u, *out.expanded]).all())
                    self.assertTrue((out.u < out.expanded).all())

    def test_a_figure_without_measure_is_refused(self):
        with self.assertRaisesRegex(ValueError, "too large to rank by"):
            judged("sum", [RISE, NOISE], [compared([1e6, 0.0]), compared([0.0, 0.0])])


class ProblemTests(unittest.TestCase):
    def test_sentences(self):
        limit = Limit("air", 3.0, 1, True)
        for scheme, terms, limits, words in (
            ("constraint", [NOISE], [], "needs at least one limit"),
            (
                "constraint",
                [NOISE, RISE],
                [limit],
                "one objective, but 2 have a weight: noise, rise",
            ),
            ("constraint", [AIR], [limit], "both the objective and a limit"),
            ("front", [AIR], [], "choose “best single metric”"),
            ("weighted_percent", [Term("air", -1, 1, True)], [], "The weight of “air” is -1"),
            ("rank_points", [], [], "score no test"),
        ):
            with self.subTest(words):
                self.assertRegex(" ".join(rule_problems(scheme, terms, limits)), words)
        self.assertEqual(rule_problems("constraint", [NOISE], [limit]), [])
        with self.assertRaisesRegex(ValueError, "score no test"):
            judged("front", [], [])


def runs(subject, y, time, group=None):
    n = len(y)
    return Runs(
        np.array(subject),
        np.array(y, float),
        np.array(time, float),
        np.zeros(n),
        np.zeros((n, 0)),
        None if group is None else np.array(group),
    )


class ChainTests(unittest.TestCase):
    HOUR = 3600.0

    def test_a_third_is_tied_through_the_second(self):
        """0 beside 1 (0.1 more), later 1 beside 2 (0.2 more): 2 lies 0.3 above 0."""
        reference = runs(
            [0, 1, 0, 1, 2, 1, 2],
            [0.0, 0.1, 0.0, 0.1, 0.3, 0.1, 0.3],
            [
                0,
                1,
                2,
                100 * self.HOUR,
                100 * self.HOUR + 1,
                100 * self.HOUR + 2,
                100 * self.HOUR + 3,
            ],
        )
        bracket = np.array([0, 0, 0, 1, 1, 1, 1])
        weights, pairs = bridge_weights(reference, bracket, 3, 0)
        self.assertTrue(np.allclose(weights @ reference.y, [0.0, 0.1, 0.3]))
        self.assertEqual(pairs.tolist(), [0, 2, 1])

    def test_two_specimens_as_the_mean_of_their_pairs(self):
        reference = runs([0, 1, 1, 0], [0.0, 0.2, 0.5, 0.1], [0, 1, 2, 3])
        weights, _ = bridge_weights(reference, np.array([0, 0, 1, 1]), 2, 0)
        self.assertTrue(np.allclose(weights[1], [-0.5, 0.5, 0.5, -0.5]))

    def test_the_doubt_of_a_chain_adds_up(self):
        """Each link is a difference of single runs: variance 2 + 2 of one run."""
        reference = runs([0, 1, 1, 2], [0.0] * 4, [0, 1, 2, 3])
        weights, _ = bridge_weights(reference, np.array([0, 0, 1, 1]), 3, 0)
        self.assertAlmostEqual(float(np.sum(weights[2] ** 2)), 4.0)

    def test_an_island_stays_untied(self):
        reference = runs([0, 1, 2, 1], [0.0] * 4, [0, 1, 2, 3])
        _, pairs = bridge_weights(reference, np.array([0, 1, 1, 1]), 3, 0)
        self.assertEqual(pairs.tolist(), [0, 0, 0])


class StateTests(unittest.TestCase):
    def test_what_the_rig_did_between_its_states_cancels(self):
        """The changed rig reads 0.5 more of everything; each state has its own reference runs."""
        entries = runs([0, 0], [0.1, 0.6], [10, 1010], [1, 2])
        reference = runs([0, 0, 0, 0], [0.0, 0.0, 0.5, 0.5], [0, 20, 1000, 1020], [1, 1, 2, 2])
        c = compare(entries, reference, 1, 0)
        self.assertAlmostEqual(c.delta[0], 0.1)
        self.assertAlmostEqual(c.repeat_sd, 0.0, places=12)
        self.assertAlmostEqual(c.drift[0], 0.0)

    def test_runs_in_a_state_without_reference_are_left_out(self):
        entries = runs([0, 1], [0.1, 0.7], [10, 1010], [1, 2])
        reference = runs([0, 0], [0.0, 0.0], [0, 20], [1, 1])
        c = compare(entries, reference, 2, 0)
        self.assertEqual(c.left_out, (1,))
        self.assertTrue(math.isnan(c.delta[1]))
        self.assertAlmostEqual(c.delta[0], 0.1)

    def test_one_state_is_as_without_states(self):
        entries = runs([0, 1, 0], [0.1, 0.2, 0.15], [10, 20, 30])
        reference = runs([0, 0, 0], [0.0, 0.02, 0.01], [0, 25, 40])
        one = compare(entries, reference, 2, 0)
        same = compare(
            runs([0, 1, 0], [0.1, 0.2, 0.15], [10, 20, 30], [7, 7, 7]),
            runs([0, 0, 0], [0.0, 0.02, 0.01], [0, 25, 40], [7, 7, 7]),
            2,
            0,
        )
        self.assertTrue(np.allclose(one.delta, same.delta) and np.allclose(one.u, same.u))
