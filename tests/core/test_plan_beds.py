"""Beds: how a part lies, what fits together, and which prints share a plate."""

import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.plan.beds import GAP, MOST_TOGETHER, Bed, Job, Laid, laid, on_bed, plates

SMALL = Bed("small", 0.2, 0.2, 0.2)


def job(key, *parts, minutes=60.0, alike=("petg",)):
    return Job(key, parts, minutes, alike)


class LaidTests(unittest.TestCase):
    def test_the_axis_that_points_up_is_the_height(self):
        size = (0.1, 0.2, 0.3)
        self.assertEqual(laid(size), Laid(0.1, 0.2, 0.3))
        self.assertEqual(laid(size, "x down"), Laid(0.2, 0.3, 0.1))
        self.assertEqual(laid(size, "y up"), Laid(0.1, 0.3, 0.2))

    def test_what_cannot_be(self):
        with self.assertRaisesRegex(ValueError, "up"):
            laid((1, 1, 1), "w")
        for size in ((1, 1), (1, 0, 1), (1, 1, float("nan"))):
            with self.assertRaisesRegex(ValueError, "size"):
                laid(size)


class BedTests(unittest.TestCase):
    def test_one_part_as_large_as_the_bed_fits(self):
        self.assertEqual(len(on_bed([job("a", Laid(0.2, 0.2, 0.2))], SMALL)), 1)
        self.assertIsNone(on_bed([job("a", Laid(0.201, 0.2, 0.2))], SMALL))
        self.assertIsNone(on_bed([job("a", Laid(0.1, 0.1, 0.21))], SMALL))

    def test_a_part_is_turned(self):
        self.assertIsNotNone(on_bed([job("a", Laid(0.15, 0.3, 0.1))], Bed("b", 0.3, 0.15, 0.2)))

    def test_four_quarters_fit_and_a_fifth_does_not(self):
        quarter = Laid(0.097, 0.097, 0.05)
        four = [job(str(n), quarter) for n in range(4)]
        self.assertEqual({spot.job for spot in on_bed(four, SMALL)}, set("0123"))
        self.assertIsNone(on_bed([*four, job("4", quarter)], SMALL))

    @settings(max_examples=80, deadline=None)
    @given(st.lists(st.tuples(st.integers(10, 120), st.integers(10, 120)), min_size=1, max_size=8))
    def test_nothing_overlaps_or_sticks_out(self, sides):
        jobs = [job(str(n), Laid(w / 1000, d / 1000, 0.05)) for n, (w, d) in enumerate(sides)]
        spots = on_bed(jobs, SMALL)
        if spots is None:
            return
        for spot, (w, d) in zip(spots, sides, strict=True):
            self.assertEqual(
                sorted((round(spot.width * 1000), round(spot.depth * 1000))), sorted((w, d))
            )
            self.assertLessEqual(spot.x + spot.width, SMALL.width + 1e-9)
            self.assertLessEqual(spot.y + spot.depth, SMALL.depth + 1e-9)
        for a in spots:
            for b in spots:
                if a is not b:
                    apart = (
                        a.x + a.width + GAP <= b.x + 1e-9
                        or b.x + b.width + GAP <= a.x + 1e-9
                        or a.y + a.depth + GAP <= b.y + 1e-9
                        or b.y + b.depth + GAP <= a.y + 1e-9
                    )
                    self.assertTrue(apart)


class PlateTests(unittest.TestCase):
    def keys(self, *jobs, beds=(SMALL,)):
        return [[one.key for one in plate] for plate in plates(jobs, beds)]

    def test_alike_prints_share_a_bed_while_there_is_room(self):
        half = Laid(0.2, 0.09, 0.05)
        self.assertEqual(
            self.keys(job("a", half), job("b", half), job("c", half)), [["a", "b"], ["c"]]
        )

    def test_another_material_waits(self):
        part = Laid(0.05, 0.05, 0.05)
        self.assertEqual(
            self.keys(job("a", part), job("b", part, alike=("pa",)), job("c", part)),
            [["a", "c"], ["b"]],
        )

    def test_no_longer_than_a_night(self):
        part, long = Laid(0.05, 0.05, 0.05), 0.6 * MOST_TOGETHER
        self.assertEqual(
            self.keys(job("a", part, minutes=long), job("b", part, minutes=long)), [["a"], ["b"]]
        )

    def test_what_was_not_measured_is_printed_alone(self):
        self.assertEqual(self.keys(job("a"), job("b")), [["a"], ["b"]])
