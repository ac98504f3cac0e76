"""What the verdict page makes of a stored standing: scale, band, sentences, gains, workings."""

import math

from django.test import SimpleTestCase, TestCase

from hauch.core.quantity import coverage_factor
from hauch.rounds.models import RuleTerm, RuleVersion
from hauch.ui.templatetags.parts import NARROW, WIDTH, score_dot
from hauch.verdict import queries
from hauch.verdict.judging import refresh
from hauch.verdict.models import StandingRow
from tests.builder import build


def row(score=None, u=0.5, count=3, **more):
    return StandingRow(score=score, u=u, expanded=2 * u, tests={"air": {"count": count}}, **more)


class ScaleTests(SimpleTestCase):
    def test_all_rows_and_the_band_are_inside(self):
        scale = queries.scale_of([row(112.3), row(91.0), row(None)], 100.0, 1.5)
        self.assertLessEqual(scale["low"], 91.0 - 0.98)
        self.assertGreaterEqual(scale["high"], 112.3 + 0.98)
        self.assertEqual(scale["step"], 5)

    def test_without_any_ranked_row_the_band_alone_gives_a_scale(self):
        scale = queries.scale_of([row(None)], 100.0, 0.7)
        self.assertLess(scale["low"], 100)
        self.assertGreater(scale["high"], 100)

    def test_far_scores_get_a_coarse_step(self):
        self.assertEqual(queries.scale_of([row(100.0), row(380.0)], 100.0, 1.0)["step"], 50)

    def test_many_tests_leave_the_score_little_room(self):
        for tests, narrow in ((4, False), (5, True)):
            scale = queries.scale_of([row(100.0)], 100.0, 1.0, tests)
            self.assertEqual(scale["narrow"], narrow)
            dot = score_dot(scale, 100.0, 1.0, None, True)
            self.assertIn(f'width="{NARROW if narrow else WIDTH}"', dot)


class SettleTests(SimpleTestCase):
    def test_repeats_that_would_tell_two_apart_by_hand(self):
        """Gap 1 %, doubts 0.5 % each from 3 repeats: 1 > 1.960 sqrt(0.5 * 3/(3 + n)) from n = 3 on
        (n = 2: 1.074); among eight entries 3.031 stands for 1.960: n = 11.
        """
        self.assertEqual(queries.repeats_to_settle(row(101.0), row(100.0), 2), 3)
        self.assertEqual(queries.repeats_to_settle(row(101.0), row(100.0), 8), 11)

    def test_equal_scores_never_come_apart(self):
        self.assertIsNone(queries.repeats_to_settle(row(100.0), row(100.0), 2))


class GainTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "power", "noise"))
        built = cls.built
        for minute, what, level in (
            (0, built.reference, 50.0),
            (5, built.specimens["Amsel"], 48.0),
            (10, built.reference, 50.0),
        ):
            built.air(what, minute, (4.0, 4.0) if what is built.reference else (4.4, 4.4))
            built.power(what, minute + 1, 0.4 if what is built.reference else 0.38)
            built.record(
                "noise",
                what,
                minute + 2,
                {"sound_level": (level, level), "background_level": (20.0,)},
            )
        cls.rules = built.round.rules.get()
        RuleTerm.objects.create(rules=cls.rules, test=built.tests["noise"], weight=1)

    def judged(self, **changes):
        for name, value in changes.items():
            setattr(self.rules, name, value)
        self.rules.save()
        standing = refresh(self.rules)
        return standing, standing.rows.get(entry=self.built.entries["Amsel"])

    def gains(self, **changes):
        standing, found = self.judged(**changes)
        tests = list(self.built.round.tests.all())
        return {
            g["label"]: g for g in queries.gains_of(self.rules, tests, found, standing.reference)
        }

    def test_right_is_better_whatever_the_direction(self):
        """+10 % air; 12 V * 0.38 A - 0.4 W against 12 V * 0.40 A - 0.4 W: 4.16/4.40, 5.5 % less; 2
        of 50 dB less: 4 %.
        """
        gains = self.gains()
        self.assertAlmostEqual(gains["Air test"]["gain"], 10.0, delta=0.05)
        self.assertAlmostEqual(gains["Power test"]["gain"], 5.45, delta=0.05)
        self.assertAlmostEqual(gains["Noise test"]["gain"], 4.0, delta=0.05)

    def test_levels_as_loudness(self):
        """1 - 2^(-2/10) = 12.9 %."""
        self.assertAlmostEqual(
            self.gains(level_as=RuleVersion.LevelAs.LOUDNESS)["Noise test"]["gain"], 12.9, delta=0.1
        )

    def test_score_is_one_hundred_plus_the_weighted_mean_of_the_gains(self):
        _, found = self.judged()
        gains = self.gains()
        expected = (
            100
            + (
                2 * gains["Air test"]["gain"]
                + gains["Power test"]["gain"]
                + gains["Noise test"]["gain"]
            )
            / 4
        )
        self.assertAlmostEqual(found.score, expected, delta=1e-6)

    def test_doubt_of_the_reference_adds_the_repeatability_of_all_scored_tests(self):
        """Each test's share as a standard uncertainty, with its degrees of freedom (GUM G.4.1)."""
        standing, _ = self.judged()
        shares = {
            "air": 0.5,
            "power": 0.25,
            "noise": 0.25 * 100 / standing.reference["noise"]["value"],
        }
        parts = []
        for key, share in shares.items():
            ground = standing.reference[key]
            u = ground["repeat_expanded"] / coverage_factor(dof := ground["dof"] or math.inf)
            parts.append((share * u, dof))
        total = sum(u**2 for u, _ in parts)
        spread = sum(u**4 / each for u, each in parts)
        dof = total**2 / spread if spread else math.inf
        self.assertAlmostEqual(
            standing.ground_expanded, coverage_factor(dof) * math.sqrt(total), places=9
        )

    def test_working_of_a_level_is_in_decibels(self):
        standing, found = self.judged()
        steps = queries.cell_working(
            self.built.tests["noise"], found.tests["noise"], standing.reference["noise"]
        )
        self.assertEqual((steps[2]["unit"], steps[2]["formula"]), ("dB", "x − x_ref"))
        self.assertAlmostEqual(steps[2]["value"], -2.0, delta=0.01)
        self.assertEqual(steps[0]["name"], "Mean of 1 repeat")
