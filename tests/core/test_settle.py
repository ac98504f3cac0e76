"""What would settle a round, against brute force and simulated rounds."""

import itertools
import math
import unittest

import numpy as np

from hauch.core.judge.reference import Comparison, Runs, compare
from hauch.core.judge.schemes import (
    CONSTRAINT,
    FRONT,
    RANK_POINTS,
    SINGLE,
    WEIGHTED,
    Limit,
    goodness_of,
)
from hauch.core.judge.settle import DRAWS, Question, _Draws, _Plans, own_u, settle
from hauch.core.judge.standing import Term


def told(deltas, sd=0.01, repeats=3, dof=40.0, reference=0.002) -> Comparison:
    """Entries with so many repeats each; one shared cause from the reference."""
    deltas = np.asarray(deltas, float)
    count = deltas.size
    repeats = np.broadcast_to(repeats, count).astype(int)
    return Comparison(
        delta=deltas,
        own_u=sd / np.sqrt(np.maximum(repeats, 1)),
        shared=np.full((count, 1), reference),
        of_rig=np.zeros((count, 0)),
        counts=repeats,
        prints=np.ones(count, int),
        repeat_sd=sd,
        dof=dof,
        reference_sd=np.ones(1, bool),
        weights=np.ones((count, 1)),
    )


def one_test(deltas, **more):
    return Question(SINGLE, [Term("air", 1.0, 1, True)], [told(deltas, **more)])


def two_tests(first, second, weights=(1.0, 1.0), minutes=(1.0, 1.0), **more):
    terms = [Term("air", weights[0], 1, True), Term("power", weights[1], -1, True)]
    return Question(WEIGHTED, terms, [told(first, **more), told(second, **more)], minutes=minutes)


def chance(question, further, seed=1):
    complete = np.arange(question.all[0].delta.size)
    values = goodness_of(question.scheme, question.terms)([c.delta for c in question.comparisons])
    complete = complete[np.argsort(-values, kind="stable")]
    plans = _Plans(
        question,
        _Draws(question, complete, seed),
        goodness_of(question.scheme, question.terms),
    )
    return float(np.mean(plans.best(plans.parts(np.asarray(further, float))) == 0))


def brute(question, asked, most):
    """The cheapest plan of all with at most so many repeats each."""
    tests, entries = len(question.all), question.all[0].delta.size
    minutes = question.minutes or [1.0] * tests
    best = math.inf
    for plan in itertools.product(range(most + 1), repeat=tests * entries):
        further = np.reshape(plan, (tests, entries))
        cost = float(np.asarray(minutes) @ further.sum(axis=1))
        if cost < best and chance(question, further) >= asked:
            best = cost
    return best


class SettleTests(unittest.TestCase):
    def test_against_brute_force(self):
        """At most 1.1 times the minutes of the best plan of all, over small rounds."""
        ours, theirs = [], []
        for gap in (0.007, 0.008, 0.009):
            question = one_test([gap, 0.0], repeats=[2, 3])
            found = settle(question, 0.9)
            ours.append(found.minutes)
            theirs.append(brute(question, 0.9, 8))
        for gap in (0.009, 0.011):
            question = one_test([gap, 0.0, -0.001], repeats=2)
            found = settle(question, 0.9)
            ours.append(found.minutes)
            theirs.append(brute(question, 0.9, 5))
        for first, second in ((0.008, 0.004), (0.014, 0.0), (0.004, 0.008)):
            question = two_tests([first, 0.0], [0.0, second], minutes=(1.0, 2.5), repeats=2)
            found = settle(question, 0.85)
            ours.append(found.minutes)
            theirs.append(brute(question, 0.85, 4))
        told = list(zip(ours, theirs, strict=True))
        self.assertTrue(all(math.isfinite(best) and best > 0 for best in theirs), told)
        for found, best in told:
            self.assertGreaterEqual(found, best, told)
        self.assertLessEqual(sum(ours), 1.1 * sum(theirs))

    def test_settled_already(self):
        found = settle(one_test([0.1, 0.0, -0.1]))
        self.assertTrue(found.reached)
        self.assertEqual((found.leader, found.steps), (0, ()))
        self.assertGreater(found.first, 0.95)

    def test_equal_entries_are_not_worth_more_runs(self):
        found = settle(one_test([0.0, 0.0]))
        self.assertFalse(found.reached)
        self.assertEqual(found.steps, ())
        self.assertAlmostEqual(found.first, 0.5, delta=0.05)

    def test_runs_go_to_those_who_may_win(self):
        found = settle(one_test([0.02, 0.012, -0.3, -0.3]))
        self.assertTrue(found.reached)
        self.assertEqual({step.entry for step in found.steps}, {0, 1})
        self.assertGreaterEqual(found.then, 0.95)
        self.assertTrue(0.4 < found.works < 0.95, found.works)

    def test_the_test_that_scatters_is_run_again(self):
        terms = [Term("air", 1.0, 1, True), Term("power", 1.0, -1, True)]
        question = Question(
            WEIGHTED,
            terms,
            [told([0.01, 0.0], sd=0.02), told([0.0, 0.0], sd=0.0005)],
            minutes=(5.0, 5.0),
        )
        found = settle(question)
        self.assertEqual({step.test for step in found.steps}, {0})
        self.assertAlmostEqual(found.minutes, 5.0 * found.repeats)

    def test_the_cheap_test_is_preferred(self):
        cheap, dear = (
            settle(two_tests([0.012, 0.0], [0.0, 0.006], minutes=m))
            for m in ((1.0, 20.0), (20.0, 1.0))
        )
        share = [
            sum(s.repeats for s in found.steps if s.test == 0) / found.repeats
            for found in (cheap, dear)
        ]
        self.assertGreater(share[0], share[1])

    def test_limits_rank_points_and_fronts(self):
        terms = [Term("air", 1.0, 1, True)]
        limit = Limit("noise", 1.0, -1, False)
        question = Question(
            CONSTRAINT, terms, [told([0.05, 0.02])], [limit], [told([3.0, 0.0], sd=0.5)]
        )
        self.assertEqual(settle(question).leader, 1)
        points = [Term("air", 1.0, 1, True), Term("power", 1.0, -1, True)]
        found = settle(Question(RANK_POINTS, points, [told([0.03, 0.0])] * 2))
        self.assertIn(found.leader, (0, 1))
        with self.assertRaisesRegex(ValueError, "several are first"):
            settle(Question(FRONT, points, [told([0.1, 0.0])] * 2))
        with self.assertRaisesRegex(ValueError, "up to 60 entries"):
            settle(Question(RANK_POINTS, points, [told(np.zeros(61))] * 2))

    def test_nobody_one_and_untold(self):
        self.assertIsNone(settle(one_test([np.nan, np.nan])).leader)
        alone = settle(one_test([0.1]))
        self.assertEqual((alone.leader, alone.first, alone.reached), (0, 1.0, True))
        untold = told([0.1, 0.0], dof=0.0)
        self.assertIsNone(settle(Question(SINGLE, [Term("air", 1.0, 1, True)], [untold])).leader)
        with self.assertRaises(ValueError):
            settle(one_test([0.1, 0.0]), 1.0)

    def test_a_thousand_entries(self):
        random = np.random.default_rng(3)
        found = settle(one_test(random.normal(0, 0.03, 1000)), 0.9)
        self.assertIsNotNone(found.leader)

    def test_prints_that_differ_stay_apart(self):
        """More repeats of the prints that there are do not tell what other prints would do."""
        c = told([0.0, 0.0], repeats=4)
        several = Comparison(
            **{
                **{name: getattr(c, name) for name in c.__dataclass_fields__},
                "prints": np.array([2, 1]),
                "print_sd": 0.02,
                "print_dof": 1000,
                "own_u": np.array([math.hypot(0.005, 0.02 / math.sqrt(2)), 0.005]),
            }
        )
        after = own_u(several, np.array([1e6, 1e6]))
        self.assertAlmostEqual(after[0], 0.02 / math.sqrt(2), delta=1e-4)
        self.assertAlmostEqual(after[1], 0.0, delta=1e-4)

    def test_the_forecast_comes_true(self):
        """Rounds are played on: of those that were told to be settled by their plan with such a
        probability, about so many are."""
        random = np.random.default_rng(8)
        said, was = [], []
        sd, n = 0.01, 4
        for _ in range(150):
            true = random.normal(0, 0.02, 3)
            means = true + random.normal(0, sd / math.sqrt(n), 3)
            found = settle(
                one_test(means, repeats=n, dof=1e6, reference=1e-6),
                0.9,
                seed=int(random.integers(1e6)),
            )
            if not found.reached or not found.steps:
                continue
            further = np.zeros(3)
            for step in found.steps:
                further[step.entry] += step.repeats
            later = (
                n * means
                + further * (true + random.normal(0, 1, 3) * sd / np.sqrt(np.maximum(further, 1)))
            ) / (n + further)
            now = settle(
                one_test(later, repeats=n + further.astype(int), dof=1e6, reference=1e-6), 0.9
            )
            said.append(found.works)
            was.append(now.first >= 0.9)
        self.assertGreater(len(said), 30)
        self.assertAlmostEqual(np.mean(said), np.mean(was), delta=0.15)


class OwnRunsTests(unittest.TestCase):
    def test_a_comparison_of_more_runs_has_the_doubt_that_was_foretold(self):
        """`own_u` against `compare` on runs that are really there."""

        def compared(repeats):
            y = np.zeros(2 * repeats)
            y[::2] = 0.01
            y += np.tile([0.004, -0.004], repeats)[: 2 * repeats]
            runs = Runs(
                np.repeat([0, 1], repeats),
                y,
                np.arange(2.0 * repeats),
                np.full(2 * repeats, 0.002),
                np.zeros((2 * repeats, 0)),
            )
            reference = Runs(
                np.zeros(4, int),
                np.array([0.004, -0.004] * 2),
                np.array([-2.0, -1.0, 50.0, 51.0]),
                np.full(4, 0.002),
                np.zeros((4, 0)),
            )
            return compare(runs, reference, 2, 0)

        few, many = compared(2), compared(6)
        scale = many.repeat_sd / few.repeat_sd
        foretold = own_u(few, np.array([4.0, 4.0]))
        self.assertAlmostEqual(foretold[0] / many.own_u[0], 1 / scale, delta=0.06)

    def test_draws_are_shared(self):
        question = one_test([0.01, 0.0])
        self.assertEqual(chance(question, [[0, 0]]), chance(question, [[0, 0]]))
        self.assertGreaterEqual(chance(question, [[50, 50]]), chance(question, [[0, 0]]))
        self.assertEqual(DRAWS, 4000)
