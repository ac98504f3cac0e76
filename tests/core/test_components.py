"""Parts of the scatter: found again in simulated rigs, and none invented."""

import math
import unittest

import numpy as np

from hauch.core.judge.components import DAY, PART_DAY, PRINT, RUN, Runs, components


def rig(
    seed, versions=4, prints=3, days=6, repeats=2, run=0.01, part_day=0.0, day=0.0, between=0.0
):
    """Every print on each of a few days, repeated."""
    random = np.random.default_rng(seed)
    of_day = day * random.standard_normal(days)
    rows = []
    for v in range(versions):
        for p in range(prints):
            own = between * random.standard_normal()
            for d in random.permutation(days)[: max(days // 2, 2)]:
                there = part_day * random.standard_normal()
                for _ in range(repeats):
                    e = run * random.standard_normal()
                    rows.append((0.3 * v + own + of_day[d] + there + e, v, 100 * v + p, d))
    y, group, part, at = np.array(rows).T
    return Runs(y, group.astype(int), part.astype(int), at.astype(int))


def told(runs):
    return {one.name: one for one in components(runs)}


class ComponentTests(unittest.TestCase):
    def test_found_again(self):
        """Root mean squares over simulated rigs within a few percent of what was put in."""
        found = {name: [] for name in (RUN, PART_DAY, DAY, PRINT)}
        for seed in range(40):
            for name, one in told(rig(seed, part_day=0.008, day=0.012, between=0.02)).items():
                found[name].append(one.sd**2)
        for name, sd in ((RUN, 0.01), (PART_DAY, 0.008), (DAY, 0.012), (PRINT, 0.02)):
            self.assertEqual(len(found[name]), 40)
            self.assertAlmostEqual(math.sqrt(np.mean(found[name])) / sd, 1, delta=0.12, msg=name)

    def test_intervals_hold(self):
        held = [
            one.low <= 0.01 <= one.high
            for seed in range(80)
            if (one := told(rig(seed, between=0.02))[RUN])
        ]
        self.assertAlmostEqual(np.mean(held), 0.95, delta=0.06)

    def test_what_is_not_there_is_small(self):
        """Of rigs that scatter from run to run alone, the others come out far below it."""
        for seed in range(20):
            for name, one in told(rig(seed)).items():
                if name != RUN:
                    self.assertLess(one.sd, 0.009, name)
        none = [one.sd == 0 for seed in range(20) for n, one in told(rig(seed)).items() if n != RUN]
        self.assertGreater(np.mean(none), 0.3)

    def test_a_balanced_nest_by_hand(self):
        """One-way nest: the classical estimates of ISO 5725."""
        random = np.random.default_rng(5)
        own = np.repeat(0.02 * random.standard_normal(8), 4)
        y = own + 0.01 * random.standard_normal(32)
        part = np.repeat(np.arange(8), 4)
        runs = Runs(y, np.zeros(32, int), part, np.zeros(32, int))
        found = told(runs)
        table = y.reshape(8, 4)
        within = table.var(axis=1, ddof=1).mean()
        between = table.mean(axis=1).var(ddof=1) - within / 4
        self.assertAlmostEqual(found[RUN].sd, math.sqrt(within), places=6)
        self.assertAlmostEqual(found[PRINT].sd, math.sqrt(between), places=5)
        self.assertEqual(set(found), {RUN, PRINT})
        self.assertAlmostEqual(found[RUN].dof, 24, delta=0.5)

    def test_what_cannot_be_told_apart_is_left_out(self):
        """One print of each version, all on one day: only what repeats scatter."""
        runs = rig(3, prints=1, days=1, repeats=3)
        self.assertEqual(set(told(runs)), {RUN})
        with self.assertRaisesRegex(ValueError, "nothing was repeated"):
            components(rig(3, prints=1, days=1, repeats=1))
