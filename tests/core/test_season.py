"""Rounds in a row: points, the overall table, what compares, records."""

import math
import unittest

from hauch.core.judge.season import (
    doubt_of_points,
    groups,
    points_of,
    record_of,
    totals,
    unlike,
)
from tests.simulated_judging import measured


class PointsTests(unittest.TestCase):
    def test_by_hand(self):
        """Of nine ranked and one that did not finish the first has all nine behind; two who share the
        third place have five and a half (six, five) and the one that did not finish: 6.5 of 9.
        """
        self.assertEqual(points_of(1, 1, 9, 1), 100.0)
        self.assertAlmostEqual(points_of(3, 2, 9, 1), 100 * 6.5 / 9)
        self.assertAlmostEqual(points_of(9, 1, 9, 1), 100 / 9)
        self.assertEqual(points_of(2, 1, 2, 0), 0.0)
        self.assertIsNone(points_of(1, 1, 1, 0))
        self.assertEqual(points_of(1, 1, 1, 1), 100.0)

    def test_all_points_of_a_round_are_half_of_what_there_is(self):
        given = [points_of(rank, tied, 6, 0) for rank, tied in ((1, 1), (2, 3), (2, 3), (2, 3))]
        given += [points_of(5, 2, 6, 0)] * 2
        self.assertAlmostEqual(sum(given), 6 * 50.0)

    def test_doubt_from_places_and_from_their_interval(self):
        """First or second of three with a half each: places 1.5 with 0.5 about it, so 25 points."""
        self.assertAlmostEqual(doubt_of_points([0.5, 0.5, 0.0], 3, 1, 2), 25.0)
        self.assertAlmostEqual(doubt_of_points([], 101, 3, 7), 2 / 1.96, places=4)
        self.assertEqual(doubt_of_points([1.0, 0.0], 2, 1, 1), 0.0)


class TotalTests(unittest.TestCase):
    given = {
        "Ilse": {1: (100.0, 3.0), 2: (50.0, 4.0), 3: (0.0, 0.0)},
        "Jost": {1: (50.0, 0.0), 2: (100.0, 0.0)},
        "Klara": {2: (90.0, 0.0)},
    }

    def test_all_rounds_count(self):
        ilse, jost, klara = totals(self.given, None)
        self.assertEqual((ilse.who, ilse.rank, ilse.points, ilse.u), ("Ilse", 1, 150.0, 5.0))
        self.assertEqual((jost.who, jost.rank, jost.close), ("Jost", 1, True))
        self.assertEqual((klara.rank, klara.close), (3, False))

    def test_the_best_two_and_the_best_one(self):
        found = {one.who: one for one in totals(self.given, 2)}
        self.assertEqual(found["Ilse"].counted, frozenset({1, 2}))
        one = totals(self.given, 1)
        self.assertEqual([(t.who, t.points) for t in one][-1], ("Klara", 90.0))
        self.assertEqual(totals({}, 1), [])


class GroupTests(unittest.TestCase):
    def test_same_rig_and_reference_stand_on_one_ground(self):
        (group,) = groups([measured(1), measured(2)])
        self.assertEqual([one.by for one in group], ["first", "same"])
        self.assertEqual((group[1].offset, group[1].half), (0.0, 0.0))

    def test_another_specimen_of_the_reference_needs_its_bridge(self):
        """In the second round L-03 is the reference; where both were run in turn it read 0.02 above L-02,
        so that changes against L-02 are 0.02 more. It does not matter in which round that was.
        """
        self.assertEqual(len(groups([measured(1), measured(2, reference=3)])), 2)
        for first, second in (
            (measured(1, beside=[(3, 0.02, 0.005)]), measured(2, reference=3)),
            (measured(1), measured(2, reference=3, beside=[(1, -0.02, 0.005)])),
        ):
            (group,) = groups([first, second])
            self.assertEqual(group[1].by, "beside")
            self.assertAlmostEqual(group[1].offset, 0.02)
            self.assertAlmostEqual(group[1].half, 0.005)
        unknown = measured(2, reference=3, beside=[(1, -0.02, None)])
        self.assertEqual(len(groups([measured(1), unknown])), 2)
        elsewhere = measured(2, rig=2, reference=3, beside=[(1, -0.02, 0.005)])
        self.assertEqual(len(groups([measured(1), elsewhere])), 2)

    def test_another_rig_stands_apart_or_is_bridged(self):
        found = groups([measured(1), measured(2, rig=2)])
        self.assertEqual([len(group) for group in found], [1, 1])
        (group,) = groups([measured(1), measured(2, rig=2, carried=[(10, 0.02, 0.02)])])
        joined = group[1]
        self.assertEqual((joined.by, joined.through), ("bridged", 10))
        self.assertAlmostEqual(joined.offset, 0.05 - 0.02)
        self.assertAlmostEqual(joined.half, math.hypot(0.01, 0.02))

    def test_a_chain_of_champions(self):
        second = measured(2, reference=2, carried=[(10, 0.02, 0.01)], figures=[(20, 0.04, 0.01)])
        third = measured(3, reference=3, carried=[(20, 0.01, 0.01)])
        (group,) = groups([measured(1), second, third])
        # 10 leads by 0.03 more in the second, 20 by 0.03 more there than in the third
        self.assertAlmostEqual(group[2].offset, 0.03 + 0.03)
        self.assertAlmostEqual(group[2].half, math.sqrt(4 * 0.01**2))

    def test_a_champion_that_reads_otherwise_bridges_the_same_rig_too(self):
        (held,) = groups([measured(1), measured(2, carried=[(10, 0.045, 0.01)])])
        self.assertEqual((held[1].by, held[1].offset, held[1].half), ("same", 0.0, 0.0))
        self.assertAlmostEqual(held[1].shift[0], 0.005)
        (moved,) = groups([measured(1), measured(2, carried=[(10, 0.0, 0.01)])])
        self.assertEqual(moved[1].by, "bridged")
        self.assertAlmostEqual(moved[1].offset, 0.05)
        self.assertGreater(moved[1].half, 0.01)

    def test_without_a_doubt_nothing_is_bridged(self):
        found = groups([measured(1), measured(2, rig=2, carried=[(10, 0.02, None)])])
        self.assertEqual(len(found), 2)

    def test_other_terms_never_compare(self):
        one, other = measured(1), measured(2, at="half", carried=[(10, 0.05, 0.01)])
        self.assertEqual(len(groups([one, other])), 2)
        self.assertEqual(unlike(other, one), ["at half instead of full"])
        self.assertEqual(unlike(measured(2, speed="900"), one), ["speed 900 instead of none"])

    def test_a_record_and_who_is_next(self):
        first = measured(1, figures=[(10, 0.05, 0.01), (11, 0.049, 0.01)])
        second = measured(2, figures=[(20, 0.09, 0.01), (21, 0.0, None)])
        record = record_of(groups([first, second])[0])
        self.assertEqual((record.best.entry, record.second.entry, record.told), (20, 10, True))
        close = record_of(groups([first])[0])
        self.assertEqual((close.best.entry, close.told), (10, False))
        unknown = record_of(groups([measured(1, figures=[(10, 0.05, None), (11, 0, 0.01)])])[0])
        self.assertFalse(unknown.told)
        self.assertIsNone(record_of(groups([measured(1, figures=[])])[0]))
