"""The whole check: verdicts, balance, strength; balancing in one plane; cautions."""

from __future__ import annotations

import math
import unittest

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.geometry.envelope import Envelope
from hauch.core.geometry.solids import Hub, impeller_solid, rotor_solid
from hauch.core.part.balance import correction
from hauch.core.part.cautions import POWER, cautions
from hauch.core.part.findings import CheckInput, Stopped
from hauch.core.part.report import check
from hauch.core.strength.material import MATERIALS
from tests.core.test_part_figures import TRUTH, part, without
from tests.core.test_predict_rotor import ROW, ImpellerTests

PETG = MATERIALS["petg"]
ROTOR = Envelope.from_json("rotor", {"values": {"shaft": 0.005, "tip_gap": 0.0004}})


def checked(mesh, kind: str = "rotor", **more):
    envelope = ROTOR if kind == "rotor" else Envelope.from_json(kind, {})
    return check(mesh, CheckInput(envelope, PETG, **more))


def texts(report, level: str) -> str:
    return " ".join(r.text for r in report.reasons if r.level == level)


class Verdicts(unittest.TestCase):
    def test_a_good_rotor(self):
        report = checked(part("rotor_ok.3mf"), file_unit=1.0)
        self.assertEqual(report.verdict, "ready", texts(report, "care") + texts(report, "back"))
        self.assertEqual(report.data["blades"]["count"], 7)

    def test_too_large_is_sent_back(self):
        report = checked(part("rotor_big.stl"))
        self.assertEqual(report.verdict, "back")
        self.assertIn("sticks out by 2.40 mm", texts(report, "back"))

    def test_unbalance_with_where_to_add(self):
        """Static unbalance and direction of the drawing; what is added lies on the other side."""
        exact = TRUTH["rotor_unbalanced.stl"]
        report = checked(part("rotor_unbalanced.stl"))
        found = next(f for f in report.figures if f.key == "unbalance").quantity
        mass = next(f for f in report.figures if f.key == "mass").quantity.value
        self.assertAlmostEqual(
            found.value / (mass * exact["static_unbalance_mm4"] / exact["volume_mm3"] * 1e-3),
            1,
            delta=0.02,
        )
        self.assertAlmostEqual(
            report.data["balance"]["towards"], exact["unbalance_direction_deg"], delta=1.0
        )
        self.assertIn("towards 183°", texts(report, "back"))

    def test_two_parts_in_a_file_are_sent_back_without_nonsense(self):
        report = checked(part("two_bodies.stl"))
        self.assertIn("2 bodies beside one another", texts(report, "back"))
        self.assertEqual(report.verdict, "back")
        self.assertFalse(any(f.group == "Spinning" for f in report.figures))

    def test_holes_are_mended_in_a_copy(self):
        report = checked(without(part("rotor_ok.3mf"), [5, 6, 7000]), file_unit=1.0)
        self.assertEqual(report.verdict, "care")
        self.assertIn("A mended copy is offered", texts(report, "care"))

    def test_an_open_surface_tells_no_mass(self):
        tube = trimesh.creation.cylinder(radius=40, height=20, sections=900)
        report = checked(
            without(tube, [int(i) for i in np.flatnonzero(tube.face_normals[:, 2] > 0.9)])
        )
        self.assertEqual(report.verdict, "back")
        self.assertFalse(any(f.group in {"Mass", "Spinning"} for f in report.figures))

    def test_inches_are_asked_and_then_taken_at_their_word(self):
        mesh = part("rotor_unbalanced.stl")
        mesh.apply_scale(1 / 25.4)
        self.assertIn("inches", texts(checked(mesh), "care"))
        said = checked(mesh, said_unit="inch")
        self.assertNotIn("inches", texts(said, "care"))
        self.assertAlmostEqual(
            next(f for f in said.figures if f.key == "outer").quantity.value, 0.1344, delta=2e-5
        )

    def test_a_neck_that_chokes_its_slot(self):
        report = checked(part("ring.stl"), "ring")
        self.assertIn("the neck chokes it", texts(report, "care"))
        self.assertIn("0.34 mm", texts(report, "care"))  # 132.7 / (2 pi 62.5)

    def test_a_duct_without_holes_for_its_screws(self):
        self.assertIn("No mounting hole", texts(checked(part("duct3.stl"), "duct"), "care"))

    def test_it_can_be_stopped_at_each_stage(self):
        for at in range(6):
            with self.subTest(at), self.assertRaises(Stopped):
                check(
                    part("rotor_ok.3mf"), CheckInput(ROTOR, PETG), lambda stage, at=at: stage < at
                )

    def test_what_was_handed_in_is_not_changed(self):
        mesh = part("rotor_big.stl")
        before = mesh.vertices.copy()
        checked(mesh, said_unit="inch")
        np.testing.assert_array_equal(mesh.vertices, before)

    def test_every_figure_that_decides_shows_its_working(self):
        report = checked(part("rotor_ok.3mf"), file_unit=1.0)
        for key in ("volume", "mass", "time", "unbalance", "cap", "wall", "tone"):
            self.assertTrue(next(f for f in report.figures if f.key == key).quantity.working, key)


class Strength(unittest.TestCase):
    def value(self, report, key):
        return next(f for f in report.figures if f.key == key).quantity.value

    def test_no_speed_is_promised_above_sixty_metres_a_second(self):
        """Whatever the speed of the round; never "may be spun up to"."""
        slow, fast = (
            checked(part("rotor_ok.3mf"), file_unit=1.0, speed=n) for n in (1000.0, 2000.0)
        )
        ratio = self.value(fast, "stress_blade") / self.value(slow, "stress_blade")
        self.assertAlmostEqual(ratio, 4.0)
        self.assertAlmostEqual(self.value(slow, "cap"), self.value(fast, "cap"))
        tips = 2 * math.pi / 60 * self.value(fast, "cap") * self.value(fast, "outer") / 2
        self.assertLessEqual(tips, 60.0 + 1e-9)
        self.assertIn("Not to be spun above", texts(fast, "well"))
        self.assertNotIn("may be spun up to", texts(fast, "well"))

    def test_an_open_wheel_is_held_far_below_its_burst(self):
        """Computed with finite elements it gives way near 9,700 1/min; half of that is asked."""
        report = checked(part("impeller.stl"))
        self.assertLess(self.value(report, "cap"), 9700 / 2)
        self.assertIn("The blades' foot on the plate", texts(report, "well"))

    def test_what_cannot_be_computed_says_so_and_is_held_low(self):
        """A ring around the tips; a cover over a wheel's blades; no blades at all."""
        ring = rotor_solid(ROW, Hub(0.005, 0.0016, 0.024), tip_ring=0.002)
        ring.apply_scale(1000)
        plate = trimesh.creation.annulus(r_min=20, r_max=50, height=2)
        plate.apply_translation((0, 0, 17))
        wheel = impeller_solid(ImpellerTests.WHEEL, 0.005, 0.002)
        wheel.apply_scale(1000)
        covered = trimesh.boolean.union([wheel, plate], engine="manifold")
        disc = trimesh.creation.annulus(r_min=2.5, r_max=50, height=4, sections=128)
        for mesh, why in (
            (ring, "a ring joins them"),
            (covered, "a cover lies over its blades"),
            (disc, "no blades were found"),
        ):
            with self.subTest(why):
                report = checked(mesh)
                self.assertIn(why, texts(report, "care"))
                tips = (
                    2 * math.pi / 60 * self.value(report, "cap") * self.value(report, "outer") / 2
                )
                self.assertTrue(27.0 < tips <= 30.0, tips)
                self.assertFalse([f for f in report.figures if f.key.startswith("stress_")])

    def test_growth_is_told_against_the_gap(self):
        """The wheel's blades bend over by tenths of a millimetre long before they break."""
        slow = checked(part("rotor_ok.3mf"), file_unit=1.0, speed=2000.0)
        self.assertLess(self.value(slow, "growth"), 2e-5)
        self.assertNotIn("its tips grow", texts(slow, "care"))
        near = Envelope.from_json("rotor", {"values": {"shaft": 0.005, "bore": 0.1346}})
        fast = check(part("rotor_ok.3mf"), CheckInput(near, PETG, file_unit=1.0, speed=6000.0))
        self.assertIn("its tips grow by 0.06 mm of a gap of 0.10 mm", texts(fast, "care"))

    def test_a_round_that_asks_for_more_says_so(self):
        report = checked(part("impeller.stl"), speed=4000.0)
        self.assertIn(
            "At the 4,000 1/min of the round its tips would run at", texts(report, "care")
        )
        fast = checked(part("rotor_ok.3mf"), file_unit=1.0, speed=24000.0)
        self.assertIn("nothing would be left of the margin", texts(fast, "back"))


class Balancing(unittest.TestCase):
    def test_by_hand(self):
        """Reading 4 at 0, trial 1 g at 10 mm at 0 gives 8 at 0: the influence is 4 for 10 g mm, so
        10 g mm go to 180 degrees.
        """
        found = correction(4.0, 0.0, 1e-3, 0.01, 0.0, 8.0, 0.0)
        self.assertAlmostEqual(found.unbalance, 1e-5)
        self.assertAlmostEqual(found.angle, math.pi)
        self.assertAlmostEqual(found.mass_at(0.02), 5e-4)

    @given(
        st.floats(0.1, 50),
        st.floats(0, 6.28),
        st.floats(1e-4, 1e-2),
        st.floats(0.005, 0.2),
        st.floats(0, 6.28),
        st.floats(0.2, 5),
        st.floats(0, 6.28),
    )
    @settings(max_examples=60, deadline=None)
    def test_it_takes_a_made_up_unbalance_away(self, first, angle, trial, radius, at, gain, lag):
        """A linear rotor with a known influence: unbalance and correction sum to nothing."""
        import cmath

        influence = cmath.rect(gain * first / (trial * radius), lag)
        before = cmath.rect(first, angle)
        after = before + influence * cmath.rect(trial * radius, at)
        found = correction(first, angle, trial, radius, at, abs(after), cmath.phase(after))
        left = before + influence * cmath.rect(found.unbalance, found.angle)
        self.assertLess(abs(left), 1e-6 * first)

    def test_a_trial_that_says_nothing(self):
        with self.assertRaisesRegex(ValueError, "changed nothing"):
            correction(4.0, 0.3, 1e-3, 0.01, 0.0, 4.0, 0.3)
        self.assertIn("only", correction(4.0, 0.0, 1e-3, 0.01, 0.0, 4.1, 0.0).doubt)
        with self.assertRaisesRegex(ValueError, "above 0"):
            correction(4.0, 0.0, 0.0, 0.01, 0.0, 5.0, 0.0)


class Cautions(unittest.TestCase):
    def test_each_power_has_its_own_and_local_codes_come_first(self):
        for power in POWER:
            found = cautions("rotor", power, 13.0, 9000.0, "", heater=False)
            self.assertEqual(found[0].key, "code")
            self.assertIn(power, [c.key for c in found])

    def test_what_applies(self):
        keys = {
            c.key for c in cautions("ring", "cells", None, None, "Dust.", heater=True, level=90.0)
        }
        self.assertEqual(keys, {"code", "inside", "cells", "heater", "loud", "material"})
        rotor = " ".join(
            c.text for c in cautions("rotor", "supply", 13.0, 9000.0, "", heater=False)
        )
        self.assertIn("9,000 1/min", rotor)
        self.assertIn(
            "No speed limit",
            " ".join(c.text for c in cautions("rotor", "supply", None, None, "", heater=False)),
        )


class WhatTheGeneratorMakes(unittest.TestCase):
    def test_it_passes_the_check(self):
        from hauch.desk.tools import TOOLS

        for key, kind in (("rotor", "rotor"), ("impeller", "rotor"), ("ring", "ring")):
            with self.subTest(key):
                solid = TOOLS[key].solid(TOOLS[key].start()).copy()
                solid.apply_scale(1000)
                report = check(solid, CheckInput(Envelope.from_json(kind, {}), PETG))
                self.assertEqual(
                    report.verdict, "ready", texts(report, "back") + texts(report, "care")
                )
