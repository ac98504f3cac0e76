"""Each prediction lies inside its told uncertainty of what solvers computed for the same geometry,
or the page says why not.
"""

from __future__ import annotations

import math
import unittest

from hauch.core.strength.limit import NOTCH, SpeedLimit
from hauch.core.strength.material import MATERIALS, Printed
from tests.solvers.cases import STORED, rows, spinning


class AgainstSolvers(unittest.TestCase):
    def test_every_figure_is_inside_or_says_why(self):
        for row in rows():
            with self.subTest(row.case):
                if row.remark:
                    self.assertFalse(row.inside, "its remark is no longer needed")
                else:
                    self.assertTrue(
                        row.inside,
                        f"told {row.told:.4g} ± {row.u:.2g} {row.unit}, computed {row.solver:.4g}:"
                        f" {row.apart:.1f} standard uncertainties apart",
                    )

    def test_what_was_computed_stays_far_below_the_strength_at_the_limit(self):
        """Four times are asked; with a stress that is told too low by its 95 % it is 4 / 1.5. Before
        bending was computed 0.8 and less were left.
        """
        printed = Printed(MATERIALS["petg"])
        for key, found, place in spinning():
            with self.subTest(key):
                limit = SpeedLimit(found, printed)
                computed = STORED["values"][f"stress/{key}"][0] * (limit.speed / 6000) ** 2
                at = next(p for p in found.places if p.key == place)
                held = printed.held(at.thickness, axial=at.axial)
                self.assertGreater(held / (NOTCH * computed), 4 / 1.5)
                self.assertLessEqual(limit.speed * found.tip * 2 * math.pi / 60, 60.0)

    def test_uncertainties_are_not_wider_than_they_need_to_be(self):
        """About 95 % within two of them, and not all within half of one."""
        apart = [row.apart for row in rows()]
        self.assertGreater(sum(a > 0.5 for a in apart) / len(apart), 0.25)

    def test_every_stored_value_is_held(self):
        told = {row.case for row in rows()}
        self.assertLessEqual(set(STORED["values"]), told)
        self.assertGreaterEqual(len(STORED["rings"]), 6)


if __name__ == "__main__":
    unittest.main()
