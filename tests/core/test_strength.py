"""Stress of what spins: sections, hub, wheel, what a print holds, speed limits. Sources stand at each
test.
"""

from __future__ import annotations

import itertools
import json
import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.geometry.solids import Hub as HubSizes
from hauch.core.geometry.solids import impeller_solid, rotor_solid
from hauch.core.part.balance import permissible_unbalance
from hauch.core.part.blades import measure_blades
from hauch.core.part.rays import Caster
from hauch.core.part.stressed import stressed
from hauch.core.strength.designs import of_rotor, of_wheel
from hauch.core.strength.hub import Hub, hub_place
from hauch.core.strength.limit import Place, SpeedLimit, Stressed
from hauch.core.strength.material import MATERIALS, Printed
from hauch.core.strength.sections import AIR, LIFT, Foot, Outline, Sections, bending
from hauch.core.strength.wheel import Wheel, flexed
from tests.core.test_predict_rotor import ROW, ImpellerTests

PETG = MATERIALS["petg"]
OMEGA = 2 * math.pi * 100
PER_MINUTE = 60 / (2 * math.pi)


def rectangle(wide: float, tall: float, at: tuple[float, float] = (0.0, 0.0)) -> np.ndarray:
    """A closed outline with points along its sides."""
    corners = np.array([[-1, -1], [1, -1], [1, 1], [-1, 1], [-1, -1]]) * (wide / 2, tall / 2)
    sides = [
        a + (b - a) * np.linspace(0, 1, 24, endpoint=False)[:, None]
        for a, b in itertools.pairwise(corners)
    ]
    return np.concatenate(sides) + at


def bar(wide=0.004, tall=0.008, sweep=0.0, rise=0.0, root=0.02, tip=0.06, stations=81) -> Sections:
    """An even bar of rectangular section; its centroid turns by `sweep` [rad] and rises by `rise`
    [m] from root to tip, evenly.
    """
    radius = np.linspace(root, tip, stations)
    share = (radius - root) / (tip - root)
    rows = [
        Outline.of(rectangle(wide, tall, (r * sweep * s, rise * s)))
        for r, s in zip(radius, share, strict=True)
    ]
    return Sections.of_outlines(radius, rows, tip)


class Outlines(unittest.TestCase):
    @given(st.floats(-3, 3), st.booleans())
    @settings(max_examples=30, deadline=None)
    def test_a_rectangle_turned_by_hand(self, turn, backwards):
        """Area b h, moments b3 h / 12 and b h3 / 12, turned as a tensor."""
        line = rectangle(0.02, 0.006)
        cos, sin = math.cos(turn), math.sin(turn)
        line = line @ np.array([[cos, sin], [-sin, cos]]) + (0.1, -0.05)
        found = Outline.of(line[::-1] if backwards else line)
        along, across = 0.02**3 * 0.006 / 12, 0.02 * 0.006**3 / 12
        self.assertAlmostEqual(found.area, 0.00012, places=12)
        np.testing.assert_allclose(found.centre, (0.1, -0.05), atol=1e-12)
        np.testing.assert_allclose(
            found.moments,
            (
                along * cos**2 + across * sin**2,
                (along - across) * sin * cos,
                along * sin**2 + across * cos**2,
            ),
            atol=1e-16,
        )
        self.assertAlmostEqual(found.chord, 0.02, delta=4e-4)


class Blade(unittest.TestCase):
    def test_a_straight_bar_by_hand(self):
        """sigma = rho omega2 (R2 - r2) / 2 (Den Hartog, ch. II), no bending but the air's."""
        found = bending(bar(), 1270.0)
        self.assertAlmostEqual(found.own[0] / ((0.06**2 - 0.02**2) / 2), 1, delta=1e-3)
        self.assertAlmostEqual(found.pull[0], found.own[0], places=9)
        self.assertGreater(found.air[0], 0)

    def test_a_leaning_bar_by_hand(self):
        """Centroid k (r - r0) above the root's: M = A k int r (r - r0) dr, sigma = M / (b h2 / 6)."""
        rise, length = 0.01, 0.04
        integral = (0.06**3 - 0.02**3) / 3 - 0.02 * (0.06**2 - 0.02**2) / 2
        moment = 0.004 * 0.008 * rise / length * integral
        expected = (0.06**2 - 0.02**2) / 2 + moment / (0.004 * 0.008**2 / 6)
        self.assertAlmostEqual(bending(bar(rise=rise), 1270.0).own[0] / expected, 1, delta=2e-3)

    def test_a_swept_bar_by_hand(self):
        """Turned by a small angle k (r - r0): M = A r0 k int r (r - r0) dr about the axis, since the
        pull goes through it.
        """
        sweep, length = 0.01, 0.04
        integral = (0.06**3 - 0.02**3) / 3 - 0.02 * (0.06**2 - 0.02**2) / 2
        moment = 0.004 * 0.008 * 0.02 * sweep / length * integral
        expected = (0.06**2 - 0.02**2) / 2 + moment / (0.008 * 0.004**2 / 6)
        found = bending(bar(sweep=sweep), 1270.0)
        self.assertAlmostEqual(found.own[0] / expected, 1, delta=2e-3)

    def test_the_air_by_hand(self):
        """Flat bar in the plane of rotation: LIFT rho/2 omega2 int c r2 (r - r0) dr over b h2 / 6."""
        wide, tall = 0.02, 0.002
        blade = bar(wide=wide, tall=tall)
        moment = (
            LIFT
            * AIR
            / 2
            * blade.chord[0]
            * ((0.06**4 - 0.02**4) / 4 - 0.02 * (0.06**3 - 0.02**3) / 3)
        )
        found = bending(blade, 1270.0)
        self.assertAlmostEqual(found.air[0] / (moment / (wide * tall**2 / 6)), 1, delta=2e-3)

    @given(st.floats(0.05, 0.4), st.floats(0.001, 0.012), st.sampled_from([1, -1]))
    @settings(max_examples=20, deadline=None)
    def test_sweep_and_lean_bend_to_either_side(self, sweep, lean, way):
        straight = of_rotor(ROW, 0.0016, 0.024, 1270.0).places[0].own
        swept = of_rotor(replace(ROW, sweep=way * sweep), 0.0016, 0.024, 1270.0).places[0].own
        leaning = of_rotor(replace(ROW, lean=way * lean), 0.0016, 0.024, 1270.0).places[0].own
        self.assertGreater(swept, 1.05 * straight)
        self.assertGreater(leaning, 0.9 * straight)  # a little lean may undo what the twist bends

    def test_a_blade_that_turns_the_other_way_is_as_strong(self):
        for sweep, lean in ((0.2, 0.0), (0.0, 0.005), (0.2, 0.005)):
            one = bending(bar(sweep=sweep, rise=lean), 1270.0)
            other = bending(bar(sweep=-sweep, rise=-lean), 1270.0)
            np.testing.assert_allclose(one.own, other.own, rtol=1e-6)

    @given(st.floats(0.3, 3.0))
    @settings(max_examples=10, deadline=None)
    def test_twice_as_large_twice_as_fast_at_the_tip(self, factor):
        """Stress over density goes with the square of the tip's speed."""
        one = of_rotor(ROW, 0.0016, 0.024, 1270.0)
        other = of_rotor(ROW.scaled(factor), 0.0016 * factor, 0.024 * factor, 1270.0)
        for a, b in zip(one.places, other.places, strict=True):
            self.assertAlmostEqual(b.own / a.own, factor**2, delta=1e-6 * factor**2)
            self.assertAlmostEqual(b.air / a.air, factor**2, delta=1e-6 * factor**2)


class HubAndWheel(unittest.TestCase):
    def test_a_hub_by_hand(self):
        """R2 + B N / 2 pi A + B M_t 6 / (2 pi t d2) + 3 M_c / (c t2): 4e-4 + 7 * 1e-7 / (2 pi 1e-4)
        + 7 * 1e-9 * 6 / (2 pi 0.002 * 0.02^2) + 3 * 1e-9 / (0.03 * 0.002^2).
        """
        foot = Foot(1e-7, 1e-9, 0.0, 2e-6, 0.03, 0.0)
        found = hub_place(Hub(0.02, 0.002, 0.02, 1e-4), 7, foot)
        self.assertAlmostEqual(found.own, 4e-4 + 1.11408e-3 + 8.3556e-3 + 0.025, delta=1e-6)
        self.assertAlmostEqual(found.air, 3 / (0.03 * 0.002**2) * 2e-6)

    def disc(self, bore=0.02, rim=0.0672, plate=0.004, rings=60, blades=0.0) -> Wheel:
        edges = np.linspace(bore, rim, rings + 1)
        low, high = np.zeros(rings), np.full(rings, plate)
        levels = high[:, None] + 0.01 * np.linspace(0, 1, 3)
        return Wheel(edges, low, high, levels, np.full((rings, 2), blades), np.zeros(rings), 8)

    def test_a_plain_disc_against_the_closed_form(self):
        """Held at its bore, 20 to 67.2 mm, PETG at 6,000 1/min: grows by 0.00897 mm (Timoshenko and
        Goodier, Theory of Elasticity, rotating discs).
        """
        found = flexed(self.disc())
        growth = 1270 * OMEGA**2 / 2.1e9 * found.growth
        self.assertAlmostEqual(growth / 0.00897e-3, 1, delta=0.01)
        self.assertAlmostEqual(found.shift, 0.0, places=12)

    def test_blades_beside_the_plate_turn_it_over(self):
        one = flexed(self.disc(blades=0.1))
        self.assertGreater(one.places[0].own, 1.2 * flexed(self.disc()).places[0].own)
        self.assertLess(one.shift, 0)  # towards its even side

    def test_finer_rings_change_little(self):
        coarse, fine = (flexed(self.disc(blades=0.1, rings=n)).places[0].own for n in (30, 120))
        self.assertAlmostEqual(coarse / fine, 1, delta=0.03)

    def test_blades_bent_over_by_hand(self):
        """Strips: 6 sin(lean) r t h2 / 2 / t2 at the rim: 3 sin(lean) r h2 / t."""
        rings, tall = 200, 0.02
        edges = np.linspace(0.02, 0.05, rings + 1)
        r = (edges[1:] + edges[:-1]) / 2
        lean = np.full(rings, math.radians(50))
        high = np.full(rings, 0.003)
        share = 9 * 0.002 / np.cos(lean) / (2 * math.pi * r)
        wheel = Wheel(
            edges,
            np.zeros(rings),
            high,
            high[:, None] + tall * np.linspace(0, 1, 9),
            np.repeat(share[:, None], 8, axis=1),
            lean,
            9,
        )
        foot = flexed(wheel).places[1]
        expected = 3 * math.sin(lean[0]) * r[-1] * tall**2 / 0.002
        self.assertAlmostEqual(foot.own / expected, 1, delta=1e-6)
        self.assertTrue(foot.axial)


class DeskAndCheck(unittest.TestCase):
    """One figure, whichever way it comes: from the Desk's inputs, or measured on the mesh made of
    them.
    """

    def measured(self, mesh, bore: float) -> Stressed:
        mesh.apply_scale(1000)
        return stressed(mesh, Caster(mesh), measure_blades(mesh), bore, 1270.0)

    def alike(self, desk: Stressed, mesh: Stressed, within: float):
        self.assertEqual(mesh.why_not, "")
        for a, b in zip(desk.places, mesh.places, strict=True):
            self.assertEqual(a.key, b.key)
            self.assertAlmostEqual(b.own / a.own, 1, delta=within, msg=a.label)
            self.assertAlmostEqual(b.thickness / a.thickness, 1, delta=0.1)

    def test_rotors(self):
        for change in ({}, {"sweep": 0.3}, {"lean": 0.01}, {"sweep": -0.2, "lean": -0.005}):
            with self.subTest(change):
                row = replace(ROW, **change)
                mesh = self.measured(rotor_solid(row, HubSizes(0.004, 0.0016, 0.024)), 4.0)
                self.alike(of_rotor(row, 0.0016, 0.024, 1270.0), mesh, 0.12)

    def test_wheels_either_way_up(self):
        for turned in (False, True):
            solid = impeller_solid(ImpellerTests.WHEEL, 0.004, 0.002)
            if turned:
                solid.apply_transform(np.diag([1.0, -1.0, -1.0, 1.0]))
            mesh = self.measured(solid, 4.0)
            self.alike(of_wheel(ImpellerTests.WHEEL, 0.004, 0.002), mesh, 0.1)


class Prints(unittest.TestCase):
    def test_layers(self):
        flat, standing = Printed(PETG, warm=23.0), Printed(PETG, flat=False, warm=23.0)
        self.assertEqual((flat.held(0.01), standing.held(0.01)), (42e6, 20e6))
        self.assertEqual(
            (flat.held(0.01, axial=True), standing.held(0.01, axial=True)), (20e6, 42e6)
        )

    def test_infill_counts_only_inside_the_shell(self):
        printed = Printed(PETG, shell=0.0012, infill=0.3)
        self.assertEqual(printed.solid(0.0024), 1.0)
        self.assertAlmostEqual(printed.solid(0.0048), 1 - 0.91 * 0.5)
        self.assertLess(printed.solid(0.02), printed.solid(0.01))

    def test_warmth_by_hand(self):
        """PETG stands 70 °C: at 46.5 °C, half way from 23, three quarters are left."""
        self.assertAlmostEqual(Printed(PETG, warm=46.5).warmth, 0.75)
        self.assertEqual(Printed(PETG, warm=-10.0).warmth, 1.0)
        self.assertEqual(Printed(PETG, warm=70.0).warmth, 0.5)
        self.assertEqual(Printed(PETG, warm=71.0).warmth, 0.0)

    def test_what_cannot_be(self):
        for values in ({"shell": 0.0}, {"infill": 1.2}):
            with self.assertRaisesRegex(ValueError, "infill a share"):
                Printed(PETG, **values)


class Limits(unittest.TestCase):
    PLACE = Place("blade", "The blades' section at 44 mm diameter", 1e-3, 0.0, 0.002)

    def limit(self, place=PLACE, tip=0.062, printed=None, measured=0.0, **more) -> SpeedLimit:
        printed = printed or Printed(PETG, warm=23.0)
        return SpeedLimit(Stressed(tip, (place,), **more), printed, measured)

    def test_strength_by_hand(self):
        """sqrt(42e6 / (4 * 1.5 * 1270 * 1e-3)) = 2,347.7 rad/s = 22,419 1/min; tips first:
        60 / 0.062 = 967.7 rad/s = 9,241 1/min.
        """
        limit = self.limit()
        self.assertAlmostEqual(limit.of_strength, 22419, delta=1)
        self.assertAlmostEqual(limit.of_tip, 9241.2, delta=0.1)
        self.assertEqual(limit.speed, 9200.0)  # in round figures downwards
        self.assertIn("60 m/s", limit.why)
        self.assertEqual(limit.quantity().u, 0.0)  # a rule

    def test_a_weak_one(self):
        limit = self.limit(replace(self.PLACE, own=1e-2))
        self.assertAlmostEqual(limit.of_strength, 22419 / math.sqrt(10), delta=1)
        self.assertEqual(limit.speed, 7000.0)
        self.assertIn("at 44 mm diameter decides", limit.why)
        self.assertEqual(limit.quantity().u, 0.0)

    def test_the_weaker_place_for_its_layers_decides(self):
        foot = Place("foot", "The blades' foot", 1e-3, 0.0, 0.002, axial=True)
        limit = SpeedLimit(Stressed(0.02, (self.PLACE, foot)), Printed(PETG))
        self.assertEqual(limit.worst.key, "foot")
        self.assertEqual(replace(limit, printed=Printed(PETG, flat=False)).worst.key, "blade")

    def test_nothing_computed_nothing_promised(self):
        limit = SpeedLimit(Stressed(0.062, why_not="no blades were found on it."), Printed(PETG))
        self.assertAlmostEqual(limit.of_tip, 4620.6, delta=0.05)
        self.assertEqual(limit.speed, 4600.0)
        self.assertIn("not computed: no blades", limit.why)
        self.assertAlmostEqual(limit.quantity().value, limit.speed)

    def test_what_softens_is_not_spun(self):
        limit = self.limit(printed=Printed(MATERIALS["pla"], warm=60.0))
        self.assertEqual(limit.speed, 0.0)
        self.assertIn("softens at 55 °C", limit.why)

    @given(st.floats(1.0, 1.5))
    def test_a_part_larger_than_its_model_is_slower(self, factor):
        weak = replace(self.PLACE, own=1e-2)
        as_modelled, larger = self.limit(weak), self.limit(weak, measured=0.062 * factor)
        self.assertAlmostEqual(larger.of_strength * factor / as_modelled.of_strength, 1, places=9)

    def test_there_and_back(self):
        told = Stressed(0.062, (self.PLACE,), "", 1e-6, -2e-6)
        self.assertEqual(Stressed.from_json(json.loads(json.dumps(told.as_json()))), told)

    def test_no_tips(self):
        with self.assertRaisesRegex(ValueError, "radius of the tips"):
            Stressed(0.0)


class Unbalance(unittest.TestCase):
    def test_permissible(self):
        # ISO 21940-11: G 6.3, 45 g, 3200 1/min -> 0.846 g mm
        self.assertAlmostEqual(permissible_unbalance(0.0063, 0.045, 3200) * 1e6, 0.846, places=3)


if __name__ == "__main__":
    unittest.main()
