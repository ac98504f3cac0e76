"""Each prediction lies inside its told uncertainty of what solvers computed for the same geometry,
or the page says why not.
"""

from __future__ import annotations

import unittest

from tests.solvers.cases import STORED, rows


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
