"""What other weights make of the same figures, against brute force."""

import math
import unittest

import numpy as np

from hauch.core.judge.schemes import (
    CONSTRAINT,
    FRONT,
    RANK_POINTS,
    SINGLE,
    SUM,
    WEIGHTED,
    Limit,
    front_numbers,
)
from hauch.core.judge.standing import Term
from hauch.core.judge.what_if import Wish, moves, ordered, passed, reaches

LABELS = ("air", "noise", "power")


def wish(scheme=WEIGHTED, weights=(1.0, 1.0, 1.0), limits=(None, None, None)):
    terms = (
        Term("air", weights[0], 1, True, 0.03),
        Term("noise", weights[1], -1, False, 50.0, "loudness"),
        Term("power", weights[2], -1, True, 4.0),
    )
    return Wish(scheme, terms, limits)


def figures(entries, seed, missing=0):
    random = np.random.default_rng(seed)
    out = [random.normal(0, s, entries) for s in (0.1, 2.0, 0.1)]
    for k in range(missing):
        out[k % 3][k] = np.nan
    return out


def by_hand(one, deltas, entry):
    """Score of the weighted percent, straight from its definition."""
    air, noise, power = (d[entry] for d in deltas)
    gains = (
        100 * (math.exp(air) - 1),
        -100 * (2 ** (noise / 10) - 1),
        -100 * (math.exp(power) - 1),
    )
    weights = [t.weight for t in one.terms]
    return 100 + sum(w * g for w, g in zip(weights, gains, strict=True)) / sum(weights)


class OrderTests(unittest.TestCase):
    def test_by_hand(self):
        for seed in range(20):
            one, deltas = wish(weights=(1.0, 0.5, 2.0)), figures(9, seed)
            found = ordered(one, deltas)
            scores = [by_hand(one, deltas, e) for e in range(9)]
            self.assertEqual(found.entries.tolist(), sorted(range(9), key=lambda e: -scores[e]))
            self.assertTrue(np.allclose(found.score, sorted(scores, reverse=True)))
            self.assertTrue(np.allclose(100 + found.parts.sum(axis=0), found.score))

    def test_rank_points_sum_and_fronts(self):
        deltas = figures(8, 3)
        good = [deltas[0], -deltas[1], -deltas[2]]
        points = sum(np.argsort(np.argsort(g)) + 1 for g in good)
        self.assertTrue(np.allclose(ordered(wish(RANK_POINTS), deltas).score, -np.sort(-points)))
        summed = 0.03 * np.exp(deltas[0]) - (50 + deltas[1]) - 4 * np.exp(deltas[2])
        self.assertTrue(np.allclose(ordered(wish(SUM), deltas).score, -np.sort(-summed)))
        fronts = ordered(wish(FRONT), deltas)
        self.assertEqual(fronts.score.tolist(), sorted(front_numbers(np.array(good).T)))

    def test_limits_come_last_and_what_lacks_a_figure_is_not_ranked(self):
        deltas = figures(8, 5, missing=2)
        limit = Limit("power", 3.0, -1, True)
        found = ordered(wish(CONSTRAINT, (1.0, 0.0, 0.0), (None, None, limit)), deltas)
        self.assertEqual(set(found.entries.tolist()), set(range(8)) - {0})
        broken = [bool(100 * np.expm1(deltas[2][e]) > 3.0) for e in found.entries]
        self.assertEqual(found.outside.tolist(), broken)
        self.assertEqual(broken, sorted(broken))
        self.assertIsNone(found.place_of(0))

    def test_equal_figures_share_a_place(self):
        found = ordered(wish(), [np.zeros(4)] * 3)
        self.assertEqual(found.place.tolist(), [1, 1, 1, 1])

    def test_what_cannot_rank_says_why(self):
        for one, words in (
            (wish(weights=(0.0, 0.0, 0.0)), "score no test"),
            (wish(SINGLE), "ranks by one test"),
            (wish(CONSTRAINT, (1.0, 0.0, 0.0)), "at least one limit"),
        ):
            with self.assertRaisesRegex(ValueError, words):
                ordered(one, figures(3, 1))

    def test_nobody_and_one(self):
        self.assertEqual(ordered(wish(), [np.zeros(0)] * 3).entries.size, 0)
        one = [np.zeros(1)] * 3
        self.assertEqual(ordered(wish(), one).place.tolist(), [1])
        self.assertEqual(reaches(wish(), one, ordered(wish(), one)), [])


class MoveTests(unittest.TestCase):
    def test_who_moves_by_what(self):
        # Entry 0 leads in air, entry 1 in noise; then noise counts more.
        deltas = [np.array([0.2, 0.0]), np.array([0.0, -3.0]), np.zeros(2)]
        before = ordered(wish(weights=(3.0, 1.0, 1.0)), deltas)
        after = ordered(wish(weights=(1.0, 3.0, 1.0)), deltas)
        up, down = moves(before, after)
        self.assertEqual((up.entry, up.before, up.after), (1, 2, 1))
        past, by = passed(before, after, up)
        self.assertEqual(past, [0])
        self.assertIn(LABELS[by], ("air", "noise"))
        self.assertEqual(passed(before, after, up, alike=False), ([0], None))
        self.assertEqual((down.entry, down.before, down.after), (0, 1, 2))

    def test_the_test_that_carries_it_is_the_largest_change(self):
        for seed in range(40):
            deltas = figures(6, seed)
            one, other = wish(), wish(weights=(1.0, 4.0, 1.0))
            before, after = ordered(one, deltas), ordered(other, deltas)
            for move in moves(before, after):
                past, by = passed(before, after, move)
                if not past:
                    continue
                lead = []
                for order, which in ((before, one), (after, other)):
                    whole = sum(t.weight for t in which.terms)
                    gains = [
                        t.direction * t.percent(d) for t, d in zip(which.terms, deltas, strict=True)
                    ]
                    lead.append(
                        [
                            t.weight / whole * (g[move.entry] - np.mean([g[p] for p in past]))
                            for t, g in zip(which.terms, gains, strict=True)
                        ]
                    )
                    self.assertIsNotNone(order.place_of(move.entry))
                change = np.subtract(lead[1], lead[0])
                sign = 1 if move.after < move.before else -1
                self.assertEqual(by, int(np.argmax(sign * change)))

    def test_leaving_and_coming(self):
        deltas = figures(5, 2)
        deltas[2][4] = np.nan
        before, after = ordered(wish(), deltas), ordered(wish(weights=(1.0, 1.0, 0.0)), deltas)
        self.assertEqual(next(m for m in moves(before, after) if m.entry == 4).before, None)
        self.assertEqual(next(m for m in moves(after, before) if m.entry == 4).after, None)


class ReachTests(unittest.TestCase):
    def test_against_a_scan(self):
        """Just inside of a reach the first place and the order stay, just outside they do not."""
        for scheme in (WEIGHTED, RANK_POINTS, SUM):
            for seed in range(30):
                deltas = figures(7, seed)
                one = wish(scheme, weights=(1.0, 1.5, 0.7))
                order = ordered(one, deltas)
                for reach in reaches(one, deltas, order):

                    def at(weight, reach=reach, one=one, deltas=deltas):
                        weights = [t.weight for t in one.terms]
                        weights[reach.test] = weight
                        return ordered(wish(one.scheme, weights), deltas)

                    for end, whole, sign in (
                        (reach.low, False, -1),
                        (reach.high, False, 1),
                        (reach.order_low, True, -1),
                        (reach.order_high, True, 1),
                    ):
                        if end <= 0 or math.isinf(end):
                            continue
                        inner, outer = at(end - sign * 1e-7), at(end + sign * 1e-7)
                        if whole:
                            self.assertEqual(inner.entries.tolist(), order.entries.tolist())
                            self.assertNotEqual(outer.entries.tolist(), order.entries.tolist())
                            continue
                        self.assertEqual(inner.place_of(order.entries[0]), 1)
                        self.assertNotEqual(outer.place_of(order.entries[0]), 1)
                        taker = reach.below if sign < 0 else reach.above
                        self.assertEqual(outer.place_of(taker), 1)

    def test_nobody_takes_over_what_leads_everywhere(self):
        deltas = [np.array([0.2, 0.0]), np.array([-3.0, 0.0]), np.array([-0.2, 0.0])]
        for reach in reaches(wish(), deltas, ordered(wish(), deltas)):
            self.assertEqual((reach.low, reach.high), (0.0, math.inf))
            self.assertEqual((reach.below, reach.above), (None, None))

    def test_a_test_that_is_not_scored_yet(self):
        deltas = [np.array([0.2, 0.0]), np.array([0.0, -3.0]), np.zeros(2)]
        one = wish(weights=(1.0, 0.0, 1.0))
        found = {r.test: r for r in reaches(one, deltas, ordered(one, deltas))}
        self.assertEqual(found[1].above, 1)
        deltas[1][1] = np.nan
        self.assertNotIn(1, {r.test for r in reaches(one, deltas, ordered(one, deltas))})
