"""Rotors: sections, cascade, ducted and free rotors, drive, wheel. Sources stand at each
figure.
"""

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.predict.blading import Blading
from hauch.core.predict.cascade import cascade_factor, lattice_factor
from hauch.core.predict.drive import Gear, Motor, reached_speed
from hauch.core.predict.free_rotor import free_rotor, least_power, prandtl_loss
from hauch.core.predict.impeller import Impeller, impeller_curve, wiesner_slip
from hauch.core.predict.model import CannotBe
from hauch.core.predict.rotor import Installed, blade_tones, rotor_curve, sound_power
from hauch.core.predict.section import (
    ANGLES,
    beyond_stall,
    camber_shape,
    outline,
    section_forces,
    thickness_shape,
)
from hauch.core.predict.section_network import lift_and_drag

DATA = Path(__file__).parents[1] / "data" / "predict"

ROW = Blading(
    7,
    0.050,
    0.134,
    (0.028, 0.031, 0.034, 0.036, 0.037),
    tuple(np.radians([42, 34, 28, 24, 21])),
    (0.06, 0.06, 0.055, 0.05, 0.045),
    (0.0025, 0.0022, 0.0019, 0.0016, 0.0014),
    gap=0.001,
)
DUCTED = Installed((ROW,), 1900.0)


def one(value):
    return np.array([float(value)])


class SectionTests(SimpleTestCase):
    def test_thickness_and_camber_of_the_four_digit_family(self):
        # NACA Report 460: ordinates of the 0012 at 30 % and 60 % of the chord: 6.002 and 4.563 % of
        # the chord
        x = np.array([0.3, 0.6])
        for value, printed in zip(
            0.12 * thickness_shape("arc", x), (0.06002, 0.04563), strict=True
        ):
            self.assertAlmostEqual(value, printed, delta=0.0002)
        self.assertAlmostEqual(
            float(camber_shape("forward", one(0.4))[0]), 1.0
        )  # greatest camber at 40 %
        self.assertEqual([float(v) for v in camber_shape("arc", np.array([0.0, 1.0]))], [0.0, 0.0])

    def test_network_gives_what_the_package_gives(self):
        """240 sections, angles and Reynolds numbers, computed once with NeuralFoil 0.3.3, size
        "medium", n_crit 5, tail 0.004 (`get_aero_from_kulfan_parameters`).
        """
        table = np.loadtxt(DATA / "section_network.csv", delimiter=",", skiprows=1)
        upper, lower, (angle, reynolds, cl, cd) = table.T[:8], table.T[8:16], table.T[16:]
        lift, drag = lift_and_drag(upper, lower, 0.004, angle, reynolds, 5.0)
        np.testing.assert_allclose(lift, cl, rtol=1e-8, atol=1e-9)
        np.testing.assert_allclose(drag, cd, rtol=1e-8)

    def test_a_mirrored_section_has_the_mirrored_lift(self):
        upper, lower = np.full((8, 3), 0.2), np.full((8, 3), -0.1)
        angle, reynolds = np.array([-5.0, 0.0, 8.0]), np.full(3, 1e5)
        lift, drag = lift_and_drag(upper, lower, 0.004, angle, reynolds, 5.0)
        turned, same = lift_and_drag(-lower, -upper, 0.004, -angle, reynolds, 5.0)
        np.testing.assert_allclose(turned, -lift, atol=1e-12)
        np.testing.assert_allclose(same, drag, rtol=1e-12)

    def test_lift_and_drag_of_the_4412_against_the_wind_tunnel(self):
        # I. H. Abbott, A. E. von Doenhoff, NACA Report 824 (1945), NACA 4412 at Re 3e6: zero lift
        # at -3.8 to -4 deg, cl(0) = 0.41, least cd = 0.006
        angle = np.array([-4.0, 0.0, 4.0])
        lift, drag = section_forces(
            "forward", np.full(3, 0.12), np.full(3, 0.04), angle, np.full(3, 3e6)
        )
        self.assertAlmostEqual(lift[0], 0.0, delta=0.05)
        self.assertAlmostEqual(
            lift[1], 0.41, delta=0.09
        )  # the network, as the panel code it learnt from, lies 0.07 above the tunnel
        self.assertAlmostEqual(
            (lift[2] - lift[0]) / 8, 0.105, delta=0.01
        )  # per degree, thin airfoil theory 2 pi = 0.110
        self.assertAlmostEqual(drag.min(), 0.006, delta=0.0015)

    def test_no_camber_no_lift_and_turned_over_lift_turned_over(self):
        lift, _ = section_forces(
            "arc", np.full(3, 0.1), np.zeros(3), np.array([-5.0, 0.0, 5.0]), np.full(3, 2e5)
        )
        self.assertAlmostEqual(lift[1], 0.0, delta=0.01)
        self.assertAlmostEqual(lift[0], -lift[2], delta=0.02)

    def test_far_beyond_stall_it_is_a_flat_plate(self):
        # Hoerner 1975: normal force 2 sin(a): at 45 degrees lift and drag are both 2 sin cos = 1
        lift, drag = beyond_stall(one(45), one(9.9), one(9.9))
        self.assertAlmostEqual(lift[0], 1.0)
        self.assertAlmostEqual(drag[0], 1.02)
        kept, _ = beyond_stall(one(8), one(0.7), one(0.02))
        self.assertEqual(kept[0], 0.7)

    def test_the_outline_is_closed_and_as_thick_and_cambered_as_told(self):
        shape = outline("arc", 0.10, 0.05, 65)
        self.assertAlmostEqual(
            shape[:, 1].max(), 0.10, delta=0.003
        )  # half the thickness on the camber line
        self.assertAlmostEqual(shape[0, 0], 1.0)
        self.assertAlmostEqual(shape[-1, 0], 1.0)


class CascadeTests(SimpleTestCase):
    def test_weinigs_exact_cases(self):
        # Weinig 1964: plates along the axis K = tanh(k)/k, plates in one line K = tan(k)/k, k = pi
        # c / (2 s)
        for solidity in (0.25, 0.5, 1.0, 1.5):
            k = math.pi * solidity / 2
            self.assertAlmostEqual(lattice_factor(solidity, 0.0), math.tanh(k) / k, places=9)
        for solidity in (0.25, 0.5, 0.8):
            k = math.pi * solidity / 2
            self.assertAlmostEqual(lattice_factor(solidity, math.pi / 2), math.tan(k) / k, places=6)

    def test_a_lonely_blade_is_not_changed(self):
        self.assertAlmostEqual(lattice_factor(0.001, 0.8), 1.0, places=5)

    def test_the_table_holds_what_it_was_made_from(self):
        for solidity, stagger in ((0.41, 0.73), (0.93, 0.5), (1.3, 0.2)):
            self.assertAlmostEqual(
                float(cascade_factor(one(solidity), one(stagger))[0]),
                max(lattice_factor(solidity, stagger), 0.6),
                delta=0.004,
            )


class DuctedRotorTests(SimpleTestCase):
    def test_fan_laws_are_exact_where_the_reynolds_number_is_held(self):
        # ISO 5801:2017, 15.3: Q ~ n, p ~ rho n2, P ~ rho n3
        slow = rotor_curve(replace(DUCTED, reynolds_speed=1900.0))
        exact = rotor_curve(replace(DUCTED, speed=2850.0, reynolds_speed=1900.0), slow.flow * 1.5)
        np.testing.assert_allclose(exact.static, slow.static * 2.25, rtol=1e-9, atol=1e-9)
        np.testing.assert_allclose(exact.power, slow.power * 3.375, rtol=1e-9)

    def test_twice_the_size_at_half_the_speed_keeps_pressures_and_gives_four_times_the_flow(self):
        small = rotor_curve(replace(DUCTED, reynolds_speed=1900.0))
        # same tip speed: p stays, Q ~ d2; Reynolds numbers double, so their figures are held by a
        # quarter of the speed
        large = rotor_curve(
            Installed((ROW.scaled(2),), 950.0, reynolds_speed=475.0), small.flow * 4
        )
        np.testing.assert_allclose(large.static, small.static, rtol=1e-6, atol=1e-6)

    def test_grid_convergence(self):
        fine = rotor_curve(DUCTED, 15, 120)
        flow = fine.flow[5:12]
        for stations, tolerance in ((25, 0.012), (50, 0.01)):  # a stalled edge moves by a station
            np.testing.assert_allclose(
                rotor_curve(DUCTED, flow, stations).static,
                fine.static[5:12],
                rtol=tolerance,
                atol=0.05,
            )
        self.assertAlmostEqual(
            rotor_curve(DUCTED, 15).free_flow / rotor_curve(DUCTED, 60).free_flow, 1.0, delta=0.002
        )

    @settings(max_examples=25, deadline=None)
    @given(
        st.integers(3, 11),
        st.floats(0.25, 0.6),
        st.floats(25, 55),
        st.floats(12, 24),
        st.floats(0.0, 0.08),
        st.floats(0.4, 1.1),
        st.booleans(),
    )
    def test_no_rotor_beats_eulers_work(
        self, blades, ratio, hub_pitch, tip_pitch, camber, solidity, counter
    ):
        tip, hub = 0.134, 0.134 * ratio
        chord = tuple(
            solidity * math.pi * (hub + (tip - hub) * k / 4) / blades * 0.6 for k in range(5)
        )
        row = Blading(
            blades,
            hub,
            tip,
            chord,
            tuple(np.radians(np.linspace(hub_pitch, tip_pitch, 5))),
            (camber,) * 5,
            tuple(0.08 * c for c in chord),
            gap=0.0005,
        )
        if row.problems():
            return
        curve = rotor_curve(
            Installed((row, row), 1900.0, (1, -1)) if counter else Installed((row,), 1900.0)
        )
        efficiency = curve.total_efficiency[np.isfinite(curve.total_efficiency)]
        self.assertLess(efficiency.max(initial=0.0), 1.0)
        self.assertTrue((curve.total >= curve.static).all())
        # what passes the blades' work limit: rho u du at most rho (omega R)2 by row
        tip_speed = math.pi * tip * 1900 / 60
        self.assertLess(curve.total.max(), 1.2 * tip_speed**2 * len(curve.rows))

    def test_direction_of_each_geometry_change(self):
        base = rotor_curve(DUCTED)
        steeper = rotor_curve(
            Installed((replace(ROW, pitch=tuple(p + 0.05 for p in ROW.pitch)),), 1900.0)
        )
        wide_gap = rotor_curve(Installed((replace(ROW, gap=0.004),), 1900.0))
        sharp = rotor_curve(replace(DUCTED, inlet="sharp"))
        self.assertGreater(steeper.free_flow, base.free_flow)
        self.assertLess(wide_gap.static[6], rotor_curve(DUCTED, wide_gap.flow).static[6])
        self.assertLess(sharp.free_flow, base.free_flow)

    def test_two_in_series_and_counter_rotating(self):
        single = rotor_curve(DUCTED)
        flow = single.flow
        alike = rotor_curve(Installed((ROW, ROW), 1900.0, (1, 1)), flow)
        struts = rotor_curve(Installed((ROW, ROW), 1900.0, (1, 1), straightened=True), flow)
        counter = rotor_curve(Installed((ROW, ROW), 1900.0, (1, -1)), flow)
        at = 8
        self.assertLess(
            alike.static[at], struts.static[at]
        )  # the second row works in the swirl of the first
        self.assertGreater(
            counter.static[at], struts.static[at]
        )  # and against it, in the other direction
        # the swirl is gone; what is left is that the air comes in faster outside
        self.assertAlmostEqual(struts.rows[1].angle[at, 12], struts.rows[0].angle[at, 12], delta=1)

    def test_stall_is_marked_where_the_angle_is_above_it(self):
        curve = rotor_curve(DUCTED)
        self.assertEqual(curve.stalled[0], 1.0)
        self.assertEqual(curve.stalled[curve.best], 0.0)
        self.assertGreater(curve.rows[0].angle[0, 12], curve.rows[0].angle[10, 12])
        self.assertTrue(set(curve.rows[0].stall[0]) <= set(ANGLES))

    def test_the_duty_is_where_fan_and_system_agree(self):
        curve = rotor_curve(DUCTED)
        flow = curve.meets(8000.0)
        self.assertAlmostEqual(curve.at(flow, "static"), 8000 * flow**2, places=6)
        self.assertTrue(math.isnan(curve.meets(1e9)))
        self.assertAlmostEqual(curve.at(curve.free_flow, "static"), 0.0, places=6)

    def test_tones_and_sound_power(self):
        self.assertEqual(blade_tones(7, 1900, 2), [7 * 1900 / 60, 2 * 7 * 1900 / 60])
        self.assertAlmostEqual(sound_power(1.0, 100.0), 77.0)  # VDI 2081: 37 + 0 + 40
        self.assertTrue(math.isnan(sound_power(1.0, -3.0)))

    def test_geometry_that_cannot_be_is_refused_with_its_reason(self):
        for changes, key, said in (
            ({"hub": 0.2}, "tip", "must be larger than the hub"),
            ({"gap": -0.001}, "gap", "cut into its bore"),
            ({"blades": 0}, "blades", "1 to 60"),
            ({"hub": 0.012, "blades": 14}, "blades", "overlap at the hub"),
            ({"chord": (-0.01,) * 5}, "chord", "must lie between"),
            ({"thickness": (0.02,) * 5}, "thickness", "thicker than 40 %"),
            ({"family": "brick"}, "family", "not known"),
            ({"pitch": (2.0,) * 5}, "pitch", "degrees"),
            ({"hub": 0.0}, "hub", "must be above 0"),
        ):
            with self.subTest(said), self.assertRaises(CannotBe) as caught:
                rotor_curve(Installed((replace(ROW, **changes),), 1900.0))
            self.assertIn(said, caught.exception.problems[key])
        with self.assertRaises(CannotBe):
            rotor_curve(replace(DUCTED, speed=-1.0))
        with self.assertRaises(CannotBe) as caught:
            rotor_curve(replace(DUCTED, speed=16000.0))
        self.assertIn("100 m/s", str(caught.exception))


class FreeRotorTests(SimpleTestCase):
    def test_the_hovering_rotor_of_caradonna_and_tung(self):
        # F. X. Caradonna, C. Tung, NASA TM-81232 (1981): two untwisted blades NACA 0012, R 1.143 m,
        # chord 0.191 m, 1250 1/min; thrust coefficient T / (rho A (omega R)2) 0.00213, 0.00459,
        # 0.00796 at 5, 8 and 12 degrees
        omega, radius = 2 * math.pi * 1250 / 60, 1.143
        for degrees, measured in ((5, 0.00213), (8, 0.00459), (12, 0.00796)):
            row = Blading(
                2,
                2 * 0.2,
                2 * radius,
                (0.191,) * 5,
                (math.radians(degrees),) * 5,
                (0.0,) * 5,
                (0.12 * 0.191,) * 5,
            )
            made = free_rotor(row, 1250.0, stations=60)
            told = made.thrust / (1.2 * math.pi * radius**2 * (omega * radius) ** 2)
            # blade-element momentum knows nothing of the tip vortex that passes below the next
            # blade: 26 to 41 % too much, at most the doubt told (30 %) and a half
            self.assertTrue(1.0 < told / measured < 1.45, f"{degrees} degrees: {told:.5f}")

    def test_least_power_of_a_disc(self):
        # hand: T 10 N, A 0.05 m2, rho 1.2: v = sqrt(10 / 0.12) = 9.1287 m/s, P = 91.287 W; at 5
        # m/s: v = -2.5 + sqrt(6.25 + 83.33) = 6.9649, P = 119.65 W
        self.assertAlmostEqual(least_power(10, 0.05, 0.0, 1.2), 91.287, places=3)
        self.assertAlmostEqual(least_power(10, 0.05, 5.0, 1.2), 119.649, delta=0.001)
        self.assertEqual(least_power(-1, 0.05), 0.0)

    @settings(max_examples=15, deadline=None)
    @given(st.integers(2, 6), st.floats(8, 30), st.floats(0.0, 0.08), st.floats(0.0, 6.0))
    def test_no_free_rotor_beats_momentum(self, blades, pitch, camber, advance):
        row = Blading(
            blades,
            0.05,
            0.25,
            (0.03,) * 5,
            tuple(np.radians(np.linspace(pitch + 12, pitch, 5))),
            (camber,) * 5,
            (0.003,) * 5,
        )
        made = free_rotor(row, 3000.0, advance)
        if made.thrust > 0.01 and made.power > 0:
            self.assertLess(made.merit, 1.0)

    def test_prandtls_factor(self):
        # hand: B 3, r/R 0.9, phi 10 deg: f = 1.5 * 0.1 / (0.9 * 0.17365) = 0.95980, 2/pi
        # acos(exp(-f)) = 0.7497; hub far away
        value = float(prandtl_loss(3, one(0.9), 1.0, 0.01, np.radians(one(10)))[0])
        self.assertAlmostEqual(value, 0.7497, delta=0.0005)
        self.assertAlmostEqual(
            float(prandtl_loss(3, one(0.5), 1.0, 0.01, np.radians(one(2)))[0]), 1.0, places=6
        )

    def test_thrust_goes_with_the_square_of_speed(self):
        row = Blading(
            3,
            0.05,
            0.25,
            (0.03,) * 5,
            tuple(np.radians([32, 24, 18, 14, 12])),
            (0.05,) * 5,
            (0.003,) * 5,
        )
        slow, fast = free_rotor(row, 3000.0), free_rotor(row, 6000.0)
        self.assertAlmostEqual(
            fast.thrust / slow.thrust, 4.0, delta=0.4
        )  # the Reynolds number helps a little
        self.assertAlmostEqual(fast.flow / slow.flow, 2.0, delta=0.1)

    def test_what_cannot_be(self):
        with self.assertRaises(CannotBe):
            free_rotor(replace(ROW, hub=0.3), 1900.0)
        with self.assertRaises(CannotBe):
            free_rotor(ROW, 0.0)


class DriveTests(SimpleTestCase):
    def test_the_speed_where_both_lines_meet(self):
        # hand: T = 0.04 (1 - n/2000), rotor 0.01 (n/1000)2: n = 1236.07 (n2/1e8 + 2e-5 n - 0.04 =
        # 0)
        found = reached_speed(Motor(0.04, 2000.0), Gear(), 0.01, 1000.0)
        self.assertAlmostEqual(found.speed, 1236.07, places=2)
        self.assertAlmostEqual(found.torque, 0.01 * 1.23607**2, places=6)

    def test_a_gear_changes_speed_and_torque(self):
        # two motor turns for one: 2 * 0.04 (1 - 2n/2000) * 0.9 = 0.01 (n/1000)2 -> n = 888.73
        # (hand, quadratic)
        found = reached_speed(Motor(0.04, 2000.0), Gear(2.0, 0.9), 0.01, 1000.0)
        left = 0.072 * (1 - 2 * found.speed / 2000)
        self.assertAlmostEqual(left, 0.01 * (found.speed / 1000) ** 2, places=9)
        self.assertLess(found.speed, 1000.0)

    def test_friction_holds_it(self):
        found = reached_speed(Motor(0.004, 2000.0), Gear(friction=0.005), 0.01, 1000.0)
        self.assertFalse(found.starts)
        self.assertIn(
            "will not start: 4 N mm reach the rotor at rest, 5 N mm are needed", found.reason
        )

    def test_what_cannot_be(self):
        with self.assertRaises(CannotBe):
            reached_speed(Motor(0.0, 2000.0), Gear(), 0.01, 1000.0)
        with self.assertRaises(CannotBe):
            reached_speed(Motor(0.1, 2000.0), Gear(ratio=0.0), 0.01, 1000.0)


class ImpellerTests(SimpleTestCase):
    WHEEL = Impeller(11, 0.05, 0.052, 0.1, 0.022, 0.016, math.radians(30), math.radians(42), 0.0016)

    def test_wiesners_slip(self):
        # Wiesner 1967, eq. 4: radial blades, Z 18: 1 - 1 / 18^0.7 = 0.8678
        self.assertAlmostEqual(wiesner_slip(math.pi / 2, 18, 0.4), 0.8678, places=4)
        # beyond the limiting ratio exp(-8.16 sin b / Z) = 0.6355 it is lowered; at 1 nothing is
        # left of the guiding
        self.assertLess(wiesner_slip(math.pi / 2, 18, 0.8), 0.8678)
        self.assertAlmostEqual(wiesner_slip(math.pi / 2, 18, 1.0), 0.0)

    def test_never_more_than_eulers_work(self):
        for outlet in ("volute", "plenum", "diffuser"):
            for angle in (30, 60, 90, 120):
                curve = impeller_curve(
                    replace(self.WHEEL, outlet=outlet, outer_angle=math.radians(angle)), 6000.0
                )
                good = curve.total_efficiency[np.isfinite(curve.total_efficiency)]
                self.assertLess(good.max(), 1.0, f"{outlet} {angle}")
                self.assertLess(curve.static.max(), 1.2 * (math.pi * 0.1 * 100) ** 2)

    def test_directions(self):
        base = impeller_curve(self.WHEEL, 6000.0)

        def at(wheel, speed=6000.0):
            return impeller_curve(wheel, speed, base.flow)

        self.assertGreater(
            at(replace(self.WHEEL, outlet="volute")).static[5],
            at(replace(self.WHEEL, outlet="plenum")).static[5],
        )
        self.assertGreater(
            at(replace(self.WHEEL, outer_angle=math.radians(90))).static[5], base.static[5]
        )
        self.assertGreater(at(self.WHEEL, 7000.0).static[5], base.static[5])

    def test_pressure_at_little_flow_goes_with_the_square_of_speed(self):
        slow = impeller_curve(self.WHEEL, 3000.0, np.array([0.002]))
        fast = impeller_curve(self.WHEEL, 6000.0, np.array([0.004]))
        self.assertAlmostEqual(
            fast.static[0] / slow.static[0], 4.0, delta=0.08
        )  # friction factors shift

    def test_what_cannot_be(self):
        for changes, key in (
            ({"outer": 0.04}, "outer"),
            ({"eye": 0.09}, "eye"),
            ({"blades": 70}, "blades"),
            ({"outer_angle": 3.0}, "outer_angle"),
            ({"thickness": -1.0}, "thickness"),
        ):
            with self.subTest(key), self.assertRaises(CannotBe) as caught:
                impeller_curve(replace(self.WHEEL, **changes), 6000.0)
            self.assertIn(key, caught.exception.problems)
        with self.assertRaises(CannotBe):
            impeller_curve(self.WHEEL, 0.0)
