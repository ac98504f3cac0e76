"""A printable tube for a tunnel: closed, in its sizes, and its parts go together."""

import math
import unittest
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.geometry.tube import (
    BED,
    GAP,
    PLUG,
    PROBED,
    SEGMENT,
    STRAIGHTENER,
    Tube,
    tube_solid,
)
from hauch.core.predict.model import CannotBe

USUAL = Tube(0.125, 1.5, 0.0125, 0.08)


class TubeTests(unittest.TestCase):
    def test_segments_make_the_length_and_plug_into_one_another(self):
        segment = tube_solid(USUAL, SEGMENT)
        self.assertEqual(USUAL.count, 8)
        self.assertAlmostEqual(segment.extents[2], 1.5 / 8 + PLUG, delta=1e-6)
        self.assertLessEqual(segment.extents[2], BED + PLUG)
        points = segment.vertices
        mouth = points[points[:, 2] > segment.bounds[1][2] - 1e-6]
        inner = min(math.hypot(x, y) for x, y, _ in mouth)
        self.assertAlmostEqual(inner, 0.0625 + USUAL.wall + GAP, delta=1e-5)

    def test_its_volume_by_hand(self):
        """Wall between 125 and 128.2 mm over 183.9 mm, and the sleeve's: within 3 % of the two rings."""
        segment = tube_solid(USUAL, SEGMENT)
        long, wall, r = 1.5 / 8, USUAL.wall, 0.0625
        ring = math.pi * ((r + wall) ** 2 - r**2) * long
        sleeve = math.pi * ((r + 2 * wall + GAP) ** 2 - (r + wall + GAP) ** 2) * PLUG
        self.assertAlmostEqual(segment.volume / (ring + sleeve), 1.0, delta=0.03)

    def test_the_hole_for_the_probe_goes_through_one_wall(self):
        plain, probed = tube_solid(USUAL, SEGMENT), tube_solid(USUAL, PROBED)
        hole = math.pi * (USUAL.probe / 2) ** 2 * USUAL.wall
        self.assertAlmostEqual((plain.volume - probed.volume) / hole, 1.0, delta=0.05)

    def test_the_straightener_fits_into_the_bore_and_lets_the_air_through(self):
        made = tube_solid(USUAL, STRAIGHTENER)
        self.assertTrue(0.1240 < max(made.extents[:2]) < 0.125)
        self.assertAlmostEqual(made.extents[2], 0.08, delta=1e-6)
        blocked = made.volume / (math.pi / 4 * 0.125**2 * 0.08)
        self.assertLess(blocked, 0.12)

    @given(
        st.floats(0.02, 0.2),
        st.floats(0.1, 3.0),
        st.floats(0.05, 0.5),
        st.floats(0.01, 0.2),
    )
    @settings(max_examples=25, deadline=None)
    def test_whatever_the_sizes_it_is_closed_or_a_sentence(self, bore, length, share, deep):
        tube = Tube(bore, length, share * bore, deep)
        for part in (SEGMENT, PROBED, STRAIGHTENER):
            try:
                made = tube_solid(tube, part)
            except CannotBe as problem:
                self.assertTrue(all(problem.problems.values()))
            else:
                self.assertTrue(made.is_watertight and made.volume > 0)

    def test_what_cannot_be_printed(self):
        for changed, key in (
            ({"bore": 0.4}, "bore"),
            ({"cell": 0.001}, "cell"),
            ({"cell": 0.0025}, "cell"),
            ({"straightener_length": 0.3}, "straightener_length"),
        ):
            with self.subTest(key):
                self.assertIn(key, replace(USUAL, **changed).problems())
