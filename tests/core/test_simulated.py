"""What is stated of simulated figures: simulated anew with few repeats, and told alike on the pages."""

import json
import math
import re
import unittest

from docs.validation import calibrate
from tests.simulated import STATED, Stated

STORED = json.loads(calibrate.FIGURES.read_text(encoding="utf-8"))


def play(stated: Stated, stored: float) -> float:
    """How far a figure of few repeats may lie from the one of many: four standard errors of a share,
    a third of what is no share.
    """
    if stated.unit == "points":
        return 15.0
    if stated.unit != "%" or stated.key == "scatter":
        return max(0.4 * stored, 0.5)
    share = min(max(stored / 100, 0.01), 0.99)
    return 400 * math.sqrt(share * (1 - share) * (1 / stated.quick + 1 / stated.repeats))


class SimulatedTests(unittest.TestCase):
    def test_what_is_stated_is_so(self):
        for stated in STATED:
            with self.subTest(stated.key):
                stored = STORED[stated.key]
                self.assertLessEqual(stated.low, stored)
                self.assertLessEqual(stored, stated.high)
                found = stated.run(stated.quick)
                self.assertAlmostEqual(found, stored, delta=play(stated, stored))

    def test_the_pages_tell_what_was_found(self):
        self.assertEqual(sorted(STORED), sorted(s.key for s in STATED))
        method = calibrate.METHOD.read_text(encoding="utf-8")
        self.assertEqual(calibrate.with_table(method, STORED), method)
        page = (calibrate.HERE.parent / "calibration.md").read_text(encoding="utf-8")
        for group in calibrate.GROUPS:
            self.assertIn(calibrate.table(STORED, group), page)

    def test_no_simulated_figure_stands_anywhere_else_in_the_notes(self):
        method = calibrate.METHOD.read_text(encoding="utf-8")
        prose = method[: method.index("<!-- simulated -->")]
        self.assertEqual(re.findall(r"[^.|]*[Ss]imulated:[^.|]*\d[^.|]*", prose), [])
