"""Ring, duct, intake, silencer, slit, cushion, pack, record: published or hand-worked figures,
limits, refusals.
"""

import math
from dataclasses import replace

import numpy as np
from django.test import SimpleTestCase
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.predict.cushion import (
    Cushion,
    gap_at_power,
    jet_hover,
    jet_share,
    plenum_hover,
)
from hauch.core.predict.duct import (
    Branch,
    Splitter,
    balancing_outlets,
    fed_by,
    share_flow,
    wall_mass,
)
from hauch.core.predict.intake import (
    KINDS,
    Element,
    chain_losses,
    choke_places,
    free_area,
    steep_places,
)
from hauch.core.predict.model import CannotBe, cause
from hauch.core.predict.optimise import Found, Search, front
from hauch.core.predict.pack import (
    Pack,
    c_rate,
    charge_time,
    draw,
    power_at,
    pulse_of,
    run_time,
    throttle_of,
)
from hauch.core.predict.record import Pair, record_of, rig_factor
from hauch.core.predict.rig_loss import tunnel_resistance
from hauch.core.predict.ring import (
    Mixing,
    Ring,
    driven,
    entrain,
    jet_flow_at,
    jet_speed_at,
    open_fan,
    slot_scatter,
)
from hauch.core.predict.silencer import Chamber, PerforatedTube, QuarterWave, curve
from hauch.core.predict.slit import CRITICAL, Slit, blow, drain_time
from hauch.core.predict.source import FanSource
from hauch.core.predict.spread import spread
from hauch.core.quantity import measured

PLAIN = Ring(
    0.18,
    0.0012,
    0.18,
    0.18,
    0.05,
    0.05,
    inlet_loss=0,
    mixing_loss=0,
    slot_loss=0,
    neck_loss=0,
    diffuser_efficiency=0,
)
FAN = FanSource(420.0, 0.022)


class RingTests(SimpleTestCase):
    def test_momentum_balance_of_the_plain_ring(self):
        # hand: slot 1.2 mm on 180 mm at 22 m/s: A_j 6.786e-4, A 0.025447: v_s 4.08 m/s satisfies
        # A_j v_j2 + A_s v_s2 / 2 ... ; total 7.77 times the jet
        streams = entrain(PLAIN, 22.0)
        self.assertAlmostEqual(streams.entrained, 4.08, delta=0.005)
        self.assertAlmostEqual(streams.ratio, 7.77, delta=0.005)
        self.assertAlmostEqual(
            entrain(replace(PLAIN, inlet_loss=0.3), 22.0).ratio, 7.08, delta=0.005
        )

    def test_mass_and_momentum_are_kept(self):
        s = entrain(PLAIN, 22.0)
        self.assertAlmostEqual(s.total_flow, s.jet_flow + s.entrained_flow, places=12)
        jet, area = PLAIN.slot_area, PLAIN.throat_area
        before = (
            jet * 22.0**2 + (area - jet) * s.entrained**2 - s.entrained**2 * area / 2
        )  # momentum and the suction of the throat
        self.assertAlmostEqual(before, area * s.mixed**2, places=9)

    @settings(max_examples=60, deadline=None)
    @given(st.floats(0.0003, 0.004), st.floats(5, 60), st.floats(0, 1), st.floats(1.0, 1.15))
    def test_energy_never_grows(self, slot, jet, loss, widening):
        ring = replace(
            PLAIN,
            slot=slot,
            inlet_loss=loss,
            exit=0.18 * widening,
            depth=0.12,
            diffuser_efficiency=0.8,
        )
        s = entrain(ring, jet)
        self.assertLess(
            s.total_flow * s.out**2, s.jet_flow * (jet**2 + 2 * s.suction / 1.2) * (1 + 1e-9)
        )
        self.assertGreaterEqual(s.ratio, 1.0)

    def test_losses_and_diffuser_work_as_they_must(self):
        self.assertLess(
            entrain(replace(PLAIN, mixing_loss=0.2), 22.0).ratio, entrain(PLAIN, 22.0).ratio
        )
        self.assertGreater(
            entrain(replace(PLAIN, exit=0.19, diffuser_efficiency=0.8), 22.0).ratio,
            entrain(PLAIN, 22.0).ratio,
        )
        self.assertEqual(
            entrain(replace(PLAIN, exit=0.24, diffuser_efficiency=0.8), 22.0).ratio,
            entrain(replace(PLAIN, exit=0.24), 22.0).ratio,
        )  # separated

    def test_on_a_fan_the_pressures_agree(self):
        ring = replace(PLAIN, slot_loss=1.25, neck_loss=1.0)
        s = driven(ring, FAN)
        left = FAN.pressure(s.jet_flow)
        suction = Mixing.of(ring).exit ** 2 * s.ideal.suction
        right = (
            (2.25 + ring.slot_friction(s.jet)) * 0.6 * s.jet**2
            + 0.6 * (s.jet_flow / ring.neck_area) ** 2
            - suction
        )
        self.assertAlmostEqual(left, right, places=6)

    def test_free_jet(self):
        # Rajaratnam 1976: 6.2 d / x; entrained flow 0.32 x / d: at 10 d speed 0.62, flow 3.2 times
        self.assertAlmostEqual(jet_speed_at(10.0, 0.1, 1.0), 6.2)
        self.assertAlmostEqual(jet_flow_at(0.1, 0.1, 1.0), 0.32)
        self.assertEqual(jet_speed_at(10.0, 0.1, 0.3), 10.0)
        self.assertEqual(jet_flow_at(0.1, 0.1, 0.0), 0.1)

    def test_the_open_fan_is_an_actuator_disc(self):
        # hand: 1.5 W of air power, 150 mm: A 0.017671, v = (1.5 / (2.4 * 0.017671))^(1/3) = 3.2827
        # m/s, Q 0.05801, stream 6.565 m/s
        fan = open_fan(6.0, 0.25, 0.15)
        self.assertAlmostEqual(fan.flow, 0.05801, places=5)
        self.assertAlmostEqual(fan.speed, 6.5653, places=3)
        self.assertAlmostEqual(
            0.5 * 1.2 * fan.flow * fan.speed**2, 1.5, places=9
        )  # the stream carries the air power away

    def test_what_cannot_be(self):
        for ring, key in (
            (replace(PLAIN, slot=0.1), "slot"),
            (replace(PLAIN, wall=-0.001), "wall"),
            (replace(PLAIN, exit=0.1), "exit"),
            (replace(PLAIN, slot_diameter=0.3), "slot_diameter"),
            (replace(PLAIN, neck=0.0), "neck"),
        ):
            with self.subTest(key), self.assertRaises(CannotBe) as caught:
                driven(ring, FAN)
            self.assertIn(key, caught.exception.problems)
        with self.assertRaises(CannotBe):
            driven(PLAIN, FanSource(-1.0, 0.02))
        with self.assertRaises(CannotBe):
            open_fan(0.0, 0.3, 0.1)
        with self.assertRaises(ValueError):
            slot_scatter([0.001])
        mean, deviation = slot_scatter([0.0010, 0.0014, 0.0012])
        self.assertAlmostEqual(mean, 0.0012)
        self.assertAlmostEqual(deviation, 0.0002)


def branch(name="b", **changes):
    return replace(Branch(name, 0.03, 0.03, 0.2, 0.0, 1.5, 0.0, 6e-4), **changes)


class DuctTests(SimpleTestCase):
    TWIN = Splitter(0.06, 0.05, 0.1, (branch("left", split=0.5), branch("right", split=0.5)))

    def test_equal_branches_share_alike_and_mass_is_kept(self):
        shared = share_flow(self.TWIN, 0.02)
        self.assertAlmostEqual(shared.flows[0], 0.01, places=9)
        self.assertAlmostEqual(shared.total, 0.02, places=9)
        self.assertAlmostEqual(shared.imbalance, 0.0, places=6)

    def test_a_straight_branch_by_hand(self):
        # Darcy and outlet: Re 22 060 at 11.1 m/s in 30 mm, K 8e-5/0.03: f from Colebrook 0.0312;
        # loss = 74.1 (f L / D + 1.05 (A/A_o)2) = 74.07 (0.208 + 2.3625)
        loss = branch().resistance(0.01, 0.003) * 0.01**2
        self.assertAlmostEqual(loss, 74.07 * (0.0312 * 0.2 / 0.03 + 1.05 * 2.25), delta=0.6)

    def test_the_pressures_over_all_branches_agree(self):
        duct = replace(
            self.TWIN,
            branches=(branch("a", bend=1.2, length=0.3), branch("b"), branch("c", outlet=4e-4)),
        )
        shared = share_flow(duct, 0.02)
        losses = [
            b.resistance(q, duct.area, total=0.02) * q * q
            for b, q in zip(duct.branches, shared.flows, strict=True)
        ]
        self.assertLess(max(losses) / min(losses), 1.001)
        self.assertLess(shared.flows[0], shared.flows[1])

    def test_the_balancing_outlets_balance(self):
        duct = replace(
            self.TWIN,
            branches=(branch("a", bend=1.2, length=0.3), branch("b"), branch("c", split=0.6)),
        )
        areas = balancing_outlets(duct, 0.02)
        balanced = replace(
            duct,
            branches=tuple(replace(b, outlet=a) for b, a in zip(duct.branches, areas, strict=True)),
        )
        self.assertLess(share_flow(balanced, 0.02).imbalance, 1e-4)
        self.assertAlmostEqual(
            max(a / b.outlet for a, b in zip(areas, duct.branches, strict=True)), 1.0
        )
        uneven = balancing_outlets(duct, 0.02, [2, 1, 1])
        unevened = replace(
            duct,
            branches=tuple(
                replace(b, outlet=a) for b, a in zip(duct.branches, uneven, strict=True)
            ),
        )
        self.assertAlmostEqual(share_flow(unevened, 0.02).flows[0], 0.01, delta=1e-5)

    def test_on_a_fan(self):
        shared = fed_by(self.TWIN, FanSource(300, 0.04))
        self.assertAlmostEqual(
            shared.static, FanSource(300, 0.04).pressure(shared.total), delta=0.05
        )
        head = 0.6 * (shared.total / self.TWIN.area) ** 2
        self.assertAlmostEqual(shared.pressure - shared.static, head)
        # as a diffuser it draws: nothing holds the fan back
        wide = Splitter(0.03, 0.03, 0.0, (branch(width=0.09, height=0.09, outlet=9e-3),))
        self.assertLess(share_flow(wide, 0.04).static, 0)
        self.assertEqual(fed_by(wide, FanSource(300, 0.04)).total, 0.04)

    def test_weight_by_hand(self):
        # one tube 60 x 50, wall 1 mm, 100 mm: (62 * 52 - 3000) mm2 * 100 mm = 22 400 mm3, at 1270
        # kg/m3: 28.45 g; branch (32*32-900)*200 = 24 800: 31.50 g
        duct = Splitter(0.06, 0.05, 0.1, (branch(),), wall=0.001)
        self.assertAlmostEqual(wall_mass(duct, 1270) * 1000, 28.448 + 31.496, delta=0.01)

    def test_what_cannot_be(self):
        for duct in (
            replace(self.TWIN, wall=0.0),
            replace(self.TWIN, branches=()),
            replace(self.TWIN, branches=(branch(bend=4.0),)),
            replace(self.TWIN, branches=(branch(outlet=0.0),)),
            replace(self.TWIN, branches=(branch(bend=1.0, bend_radius=0.2),)),
            replace(self.TWIN, width=-1.0),
        ):
            with self.assertRaises(CannotBe):
                share_flow(duct, 0.02)
        with self.assertRaises(CannotBe):
            share_flow(self.TWIN, 0.0)


class IntakeTests(SimpleTestCase):
    def test_losses_against_the_handbook(self):
        # flush sharp entrance K 0.5 to 0.57 (Crane, Rennels), 50 mm at 0.02 m3/s: head 62.25 Pa
        head = 0.6 * (0.02 / (math.pi / 4 * 0.05**2)) ** 2
        sharp = chain_losses([Element("bell", 0.05, 0.0, 0.0)], 0.02)[0].loss
        self.assertTrue(0.5 <= sharp / head <= 0.6, sharp / head)
        rounded = chain_losses([Element("bell", 0.05, 0.0, 0.02)], 0.02)[0].loss
        self.assertAlmostEqual(rounded / head, 0.03, delta=0.0005)  # Idelchik, 3-4, r/d 0.4
        narrowed = chain_losses([Element("straight", 0.04), Element("change", 0.02)], 0.001)[1]
        self.assertAlmostEqual(
            narrowed.loss / (0.6 * narrowed.speed**2), 0.375, delta=0.001
        )  # Crane: 0.5 (1 - (d2 / d1)2)
        bend = chain_losses(
            [Element("straight", 0.05, 0.1), Element("bend", 0.05, 0.0785, math.pi / 2)], 0.02
        )[1].loss
        self.assertTrue(
            0.2 < bend / head < 0.6, bend / head
        )  # r/d 1, 90 deg at Re 3e4: K 0.2 to 0.5

    def test_friction_of_a_smooth_pipe(self):
        # Blasius f = 0.3164 Re^-0.25 at Re 33 700: 0.02334; 1 m of 50 mm: K 0.467; our wall is a
        # little rough: up to 30 % more
        head = 0.6 * (0.02 / (math.pi / 4 * 0.05**2)) ** 2
        loss = chain_losses([Element("straight", 0.05, 1.0)], 0.02)[0].loss / head
        self.assertTrue(0.467 < loss < 0.62, loss)

    def test_every_kind_gives_a_loss_that_grows_with_flow(self):
        extras = {"screen": 0.6, "grid": 0.6, "bell": 0.01, "filter": 40.0, "bend": 1.2}
        for kind in KINDS:
            chain = [
                Element("straight", 0.05, 0.02),
                Element(kind, 0.06, 0.05, extras.get(kind, 0.0)),
            ]
            slow, fast = (chain_losses(chain, q)[1].loss for q in (0.01, 0.02))
            self.assertGreater(slow, 0, kind)
            self.assertGreater(fast / slow, 1.5, kind)

    def test_filter_is_straight_and_screen_knows_its_free_area(self):
        def chain(q):
            return chain_losses([Element("filter", 0.1, 0.0, 40.0)], q)[0].loss

        self.assertAlmostEqual(chain(0.02) / chain(0.01), 2.0, places=3)
        dense, loose = (
            chain_losses([Element("screen", 0.08, 0.0, a)], 0.02)[0].loss for a in (0.3, 0.7)
        )
        self.assertGreater(dense, 4 * loose)
        self.assertAlmostEqual(free_area(Element("screen", 0.1, 0, 0.5)), math.pi / 8 * 0.01)

    def test_chokes_and_steep_places(self):
        chain = [
            Element("straight", 0.07, 0.05),
            Element("change", 0.05, 0.05),
            Element("straight", 0.05, 0.1),
            Element("change", 0.07, 0.02),
        ]
        self.assertEqual(steep_places(chain), [3])
        self.assertEqual(choke_places(chain), [1, 2])
        self.assertEqual(steep_places([*chain[:3], Element("change", 0.07, 0.12)]), [])

    def test_what_cannot_be(self):
        for chain in (
            [],
            [Element("kettle", 0.05)],
            [Element("straight", -0.05)],
            [Element("straight", 0.05, -1.0)],
            [Element("screen", 0.05, 0, 1.4)],
            [Element("bend", 0.05, 0.1, 0.0)],
        ):
            with self.assertRaises(CannotBe):
                chain_losses(chain, 0.02)
        with self.assertRaises(CannotBe):
            chain_losses([Element("straight", 0.05)], -0.02)


class SilencerTests(SimpleTestCase):
    def test_expansion_chamber(self):
        # Munjal eq. 2.105: 40 -> 90 mm, 120 mm, 600 Hz, 343.2 m/s: m 5.0625, kL 1.31812: 8.16 dB
        self.assertAlmostEqual(float(Chamber(0.04, 0.09, 0.12).loss(600.0)), 8.16, delta=0.005)

    def test_limits(self):
        part = Chamber(0.04, 0.09, 0.12)
        self.assertAlmostEqual(
            float(part.loss(343.2 / 0.24)), 0.0, places=9
        )  # half a wave long: nothing
        self.assertAlmostEqual(
            float(part.loss(343.2 / 0.48)),
            10 * math.log10(1 + 0.25 * (5.0625 - 1 / 5.0625) ** 2),
            places=9,
        )
        self.assertAlmostEqual(Chamber.length_for(715.0), 0.12)
        self.assertAlmostEqual(part.limit(), 0.586 * 343.2 / 0.09)
        np.testing.assert_allclose(
            curve(part, np.array([600.0, 300.0])), [float(part.loss(f)) for f in (600.0, 300.0)]
        )

    def test_quarter_wave(self):
        part = QuarterWave(0.05, 0.03, 0.13)
        # Ji 2005: x 0.6: 0.015 (0.9326 - 0.6196 * 0.6) = 8.4126 mm; x 0.3: 0.0075 (0.8216 - 0.0193
        # - 0.0625) = 5.5486 mm
        self.assertAlmostEqual(part.end, 8.4126e-3, places=6)
        self.assertAlmostEqual(QuarterWave(0.05, 0.015, 0.13).end, 5.5486e-3, places=6)
        tuned = 343.2 / (4 * (0.13 + part.end))
        self.assertEqual(float(part.loss(tuned)), 60.0)  # cut
        self.assertAlmostEqual(part.length_for(tuned), 0.13)
        # hand: at half of it k L = pi/4, tan 1, m 0.36: 10 lg(1 + 0.0324) = 0.1385 dB
        self.assertAlmostEqual(float(part.loss(tuned / 2)), 0.1385, places=4)

    TUBE = PerforatedTube(0.04, 0.09, 0.12, 0.003, 0.0016, 0.05)

    def test_a_perforated_tube_of_many_holes_is_an_expansion_chamber(self):
        at = np.array([200.0, 400.0, 600.0, 900.0])
        many = replace(self.TUBE, open_share=0.4).loss(at)
        np.testing.assert_allclose(many, Chamber(0.04, 0.09, 0.12).loss(at), atol=0.3)

    def test_a_short_one_is_a_resonator_beside_the_duct(self):
        """Short against the wave: f0 = c / 2 pi sqrt(G / V), G = sigma pi d L / (t + 0.75 d_h)
        (Beranek and Ver, ch. 10), here 345 Hz with hole resistance and without.
        """
        part = PerforatedTube(0.04, 0.09, 0.02, 0.003, 0.0016, 0.004)
        conductivity = 0.004 * math.pi * 0.04 * 0.02 / (0.0016 + 0.75 * 0.003)
        volume = math.pi / 4 * (0.09**2 - 0.0432**2) * 0.02
        simple = 343.2 / (2 * math.pi) * math.sqrt(conductivity / volume)
        self.assertAlmostEqual(part.peak() / simple, 1, delta=0.02)

    def test_the_peak_is_read_off_the_curve(self):
        grid = np.linspace(20, self.TUBE.limit(), 4000)
        loss = self.TUBE.loss(grid)
        self.assertAlmostEqual(self.TUBE.peak(), grid[loss.argmax()], delta=2)
        self.assertGreater(loss.min(), -1e-9)  # nothing is added
        self.assertLess(loss.max(), 12)  # broad, not 60 dB

    def test_the_open_share_for_a_tone(self):
        for tone in (400.0, 600.0, 800.0):
            share = self.TUBE.open_share_for(tone)
            self.assertAlmostEqual(replace(self.TUBE, open_share=share).peak(), tone, delta=6)
        self.assertTrue(math.isnan(self.TUBE.open_share_for(30.0)))

    def test_what_cannot_be(self):
        for part in (
            Chamber(0.04, 0.03, 0.1),
            Chamber(0.04, 0.09, -0.1),
            QuarterWave(0.04, 0.05, 0.1),
            PerforatedTube(0.04, 0.042, 0.1, 0.003, 0.0016, 0.05),
            PerforatedTube(0.04, 0.09, 0.1, 0.003, 0.0016, 0.9),
        ):
            with self.assertRaises(CannotBe):
                curve(part, np.array([100.0]))


class SlitTests(SimpleTestCase):
    def test_choked_and_not(self):
        # hand, ISO 9300 ideal gas: 0.04 mm x 300 mm, 20 degC, Cd 0.8: 3 bar(g) 9.09 g/s, 0.5 bar(g)
        # 3.27 g/s
        choked, free = blow(Slit(4e-5, 0.3, 3e5)), blow(Slit(4e-5, 0.3, 0.5e5))
        self.assertAlmostEqual(choked.mass_flow * 1000, 9.09, delta=0.005)
        self.assertAlmostEqual(free.mass_flow * 1000, 3.27, delta=0.005)
        self.assertTrue(choked.choked)
        self.assertFalse(free.choked)
        self.assertAlmostEqual(CRITICAL, 0.5283, places=4)

    def test_a_land_takes_flow_by_friction(self):
        """Fanno flow by tables (Shapiro, appendix): Re 3,400, f 0.0104, 4 f L / D_h 0.52 for 1 mm:
        Mach 0.59 at its beginning, A* / A 0.84.
        """
        bare = blow(Slit(4e-5, 0.3, 3e5, discharge=0.8)).mass_flow
        for land, share in ((0.0, 1.0), (0.0005, 0.90), (0.001, 0.835), (0.002, 0.75)):
            with_land = blow(Slit(4e-5, 0.3, 3e5, discharge=0.8, land=land)).mass_flow
            self.assertAlmostEqual(with_land / bare, share, delta=0.012)
        unchoked = [
            blow(Slit(4e-5, 0.3, 0.5e5, land=land)).mass_flow for land in (0.0, 0.0005, 0.002)
        ]
        self.assertEqual(unchoked, sorted(unchoked, reverse=True))
        with self.assertRaises(CannotBe):
            blow(Slit(4e-5, 0.3, 1e5, land=-0.001))

    def test_it_is_continuous_where_it_chokes_and_bernoulli_at_little_pressure(self):
        at = 101325 / CRITICAL - 101325
        self.assertAlmostEqual(
            blow(Slit(4e-5, 0.3, at * 0.9999)).mass_flow
            / blow(Slit(4e-5, 0.3, at * 1.0001)).mass_flow,
            1.0,
            delta=3e-4,
        )
        self.assertAlmostEqual(
            blow(Slit(4e-5, 0.3, 100.0)).speed, math.sqrt(200 / 1.2041), delta=0.02
        )
        self.assertEqual(blow(Slit(4e-5, 0.3, 0.0)).mass_flow, 0.0)

    def test_choked_speed_is_that_of_sound_and_flow_goes_with_gap_and_pressure(self):
        made = blow(Slit(4e-5, 0.3, 3e5))
        self.assertAlmostEqual(made.speed, math.sqrt(1.4 * 287.05 * made.temperature), places=6)
        self.assertAlmostEqual(blow(Slit(8e-5, 0.3, 3e5)).mass_flow / made.mass_flow, 2.0)
        self.assertAlmostEqual(
            blow(Slit(4e-5, 0.3, 6e5)).mass_flow / made.mass_flow, 701325 / 401325
        )

    def test_free_air_and_drain(self):
        made = blow(Slit(4e-5, 0.3, 3e5))
        self.assertAlmostEqual(made.free_air, made.mass_flow * 287.05 * 293.15 / 1e5)
        # hand: 5 bar of 24 l at 20 degC hold 5e5 * 0.024 / (287.05 * 293.15) = 142.6 g, at 9.094
        # g/s 15.68 s
        self.assertAlmostEqual(drain_time(Slit(4e-5, 0.3, 3e5), 0.024, 8e5, 3e5), 15.68, delta=0.01)

    def test_what_cannot_be(self):
        for slit in (
            Slit(-1e-5, 0.3, 1e5),
            Slit(0.4, 0.3, 1e5),
            Slit(4e-5, 0.0, 1e5),
            Slit(4e-5, 0.3, -1.0),
            Slit(4e-5, 0.3, 3e7),
            Slit(4e-5, 0.3, 1e5, discharge=1.5),
        ):
            with self.assertRaises(CannotBe):
                blow(slit)
        with self.assertRaises(CannotBe):
            drain_time(Slit(4e-5, 0.3, 3e5), 0.024, 1e5, 0.0)
        with self.assertRaises(CannotBe):
            drain_time(Slit(4e-5, 0.3, 3e5), 0.0, 8e5, 3e5)


class CushionTests(SimpleTestCase):
    CARRIED = Cushion(1.2, 0.09, 1.2, 0.3)

    def test_plenum_by_hand(self):
        # p = 1.2 * 9.80665 / 0.09 = 130.755 Pa; v = sqrt(2 p / 1.2) = 14.762 m/s; 2 mm: Q = 0.6 *
        # 0.002 * 1.2 * 14.762 = 0.021258 m3/s; P = 9.265 W
        made = plenum_hover(self.CARRIED, 0.002)
        self.assertAlmostEqual(made.cushion, 130.755, places=3)
        self.assertAlmostEqual(made.flow, 0.021258, places=6)
        self.assertAlmostEqual(made.power, 9.265, delta=0.001)

    def test_peripheral_jet_by_hand(self):
        # t = h, 30 deg inwards: x = 1.5; p_c / P_j = 1 - e^-3 = 0.95021; P_j 137.61 Pa; Q = 1.2 *
        # 0.002 / 1.5 * sqrt(2 * 137.61 / 1.2) (1 - e^-1.5) = 0.018823; a real one: fan 137.61 /
        # (1 - 0.28 sin 30) = 160.01 Pa, 0.88 of the flow
        made = jet_hover(self.CARRIED, 0.002, 0.002, math.radians(30))
        self.assertAlmostEqual(jet_share(1.5), 0.95021, places=5)
        self.assertAlmostEqual(made.supply, 160.01, places=2)
        self.assertAlmostEqual(made.flow, 0.88 * 0.018823, delta=2e-5)

    def test_the_gap_holds_the_power(self):
        self.assertAlmostEqual(
            plenum_hover(self.CARRIED, gap_at_power(self.CARRIED, 9.0)).power, 9.0, places=6
        )
        gap = gap_at_power(self.CARRIED, 9.0, 0.003, 0.5)
        self.assertAlmostEqual(jet_hover(self.CARRIED, gap, 0.003, 0.5).power, 9.0, places=6)
        self.assertGreater(
            gap_at_power(self.CARRIED, 9.0, 0.003, 0.7), gap_at_power(self.CARRIED, 9.0, 0.003, 0.0)
        )

    def test_what_cannot_be(self):
        for act in (
            lambda: plenum_hover(Cushion(0.0, 0.09, 1.2), 0.002),
            lambda: plenum_hover(Cushion(1.0, 0.09, 0.2), 0.002),
            lambda: plenum_hover(self.CARRIED, 0.0),
            lambda: jet_hover(self.CARRIED, 0.002, -0.1, 0.0),
            lambda: jet_hover(self.CARRIED, 0.002, 0.002, 2.0),
            lambda: gap_at_power(self.CARRIED, 0.0),
            lambda: gap_at_power(Cushion(5000.0, 0.01, 1.0), 0.01),
            lambda: gap_at_power(Cushion(0.0001, 50.0, 40.0), 1e5),
            lambda: plenum_hover(replace(self.CARRIED, efficiency=1.2), 0.002),
        ):
            with self.assertRaises(CannotBe):
                act()


class PackTests(SimpleTestCase):
    PACK = Pack(3, 2, 2.5 * 3600, 0.03, cable_length=0.5, controller_efficiency=1.0)

    def test_draw_by_hand(self):
        # full: 12.6 V; R = 0.03 * 3 / 2 + 1.724e-8 / 0.75e-6 = 0.045 + 0.022987; 20 W: I = (12.6 -
        # sqrt(158.76 - 5.4389)) / 0.135973 = 1.60113 A
        now = draw(self.PACK, 20.0)
        self.assertAlmostEqual(now.current, 1.6011, delta=0.0003)
        self.assertAlmostEqual(now.load_voltage * now.current, 20.0, places=9)
        self.assertAlmostEqual(now.pack_heat, now.current**2 * 0.045)
        self.assertTrue(math.isnan(draw(self.PACK, 900.0).current))

    def test_run_time_between_its_bounds(self):
        # 5 Ah at 10.8 to 12.6 V hold about 56 Wh; at 20 W between 2.4 and 2.9 h
        made = run_time(self.PACK, 20.0)
        self.assertTrue(2.4 < made.time / 3600 < 2.9, made.time / 3600)
        self.assertAlmostEqual(run_time(self.PACK, 20.0, 2000).time / made.time, 1.0, delta=0.01)
        self.assertLess(run_time(replace(self.PACK, cut_off=3.5), 20.0).time, made.time)
        self.assertGreater(run_time(replace(self.PACK, cut_off=3.5), 20.0).left, 0.05)
        self.assertEqual(run_time(replace(self.PACK, resistance=2.0), 30.0).time, 0.0)

    def test_rates_pulses_and_charging(self):
        self.assertAlmostEqual(c_rate(self.PACK, 10.0), 2.0)
        self.assertAlmostEqual(charge_time(self.PACK, 2.0) / 3600, 3.125)
        self.assertEqual(
            [round(1000 * pulse_of(t), 6) for t in (0, 0.5, 1)], [1.0, 1.5, 2.0]
        )  # 1.0 to 2.0 ms -> 0 to 100 %
        self.assertAlmostEqual(throttle_of(pulse_of(0.37)), 0.37)
        self.assertEqual((throttle_of(0.0005), throttle_of(0.003)), (0.0, 1.0))
        self.assertAlmostEqual(power_at(0.5, 80.0), 10.0)
        with self.assertRaisesMessage(ValueError, "throttle must be between 0 and 1, got 1.2"):
            pulse_of(1.2)

    def test_what_cannot_be(self):
        for changes in (
            {"series": 0},
            {"parallel": 40},
            {"capacity": 0.0},
            {"cut_off": 2.0},
            {"resistance": -1.0},
            {"cable_area": 0.0},
            {"controller_efficiency": 0.1},
            {"cable_length": -1.0},
        ):
            with self.assertRaises(CannotBe):
                run_time(replace(self.PACK, **changes), 20.0)
        with self.assertRaises(CannotBe):
            charge_time(self.PACK, 0.0)


class RecordTests(SimpleTestCase):
    def test_bias_and_scatter(self):
        # hand: errors +10, 0, -4 %: mean 2, standard deviation sqrt((64 + 4 + 36) / 2) = 7.211;
        # t(2) 4.303: half 17.91
        found = record_of([Pair(1.1, 1.0), Pair(2.0, 2.0), Pair(0.96, 1.0)])
        self.assertAlmostEqual(found.bias, 2.0)
        self.assertAlmostEqual(found.scatter, 7.2111, places=4)
        self.assertAlmostEqual(found.half, 17.914, delta=0.01)
        self.assertTrue(math.isnan(record_of([Pair(1.1, 1.0)]).scatter))
        self.assertAlmostEqual(record_of([Pair(51.0, 50.0, log=False)]).bias, 1.0)

    def test_factor_of_a_rig(self):
        found = rig_factor([Pair(1.0, 1.21), Pair(1.0, 1.0)])
        self.assertAlmostEqual(found.value, 1.1)
        # logs 0.19062 and 0: standard deviation 0.13479, times sqrt(1.5)
        self.assertAlmostEqual(found.u, 0.13479 * math.sqrt(1.5), places=4)
        alone = rig_factor([Pair(2.0, 2.2, 0.022)])
        self.assertAlmostEqual(alone.u, math.hypot(0.15 * math.sqrt(2), 0.01))

    @settings(max_examples=30, deadline=None)
    @given(st.lists(st.tuples(st.floats(0.1, 10), st.floats(0.1, 10)), min_size=2, max_size=6))
    def test_order_does_not_matter(self, rows):
        pairs = [Pair(a, b) for a, b in rows]
        self.assertAlmostEqual(rig_factor(pairs).value, rig_factor(pairs[::-1]).value)
        self.assertAlmostEqual(record_of(pairs).bias, record_of(pairs[::-1]).bias)

    def test_what_cannot_be(self):
        for act in (
            lambda: record_of([]),
            lambda: rig_factor([]),
            lambda: rig_factor([Pair(0.0, 1.0)]),
            lambda: record_of([Pair(1, 1), Pair(1, 1, log=False)]),
        ):
            with self.assertRaises(ValueError):
                act()


class ToolsOfTheToolsTests(SimpleTestCase):
    def test_spread_carries_each_cause(self):
        # z = x y: u2 = (3 * 0.1)2 + (2 * 0.2)2 = 0.25
        inputs = {
            "x": measured(2.0, "", [(cause("a", "a"), 0.1)]),
            "y": measured(3.0, "", [(cause("b", "b"), 0.2)]),
        }
        made = spread(lambda x, y: {"z": x * y}, inputs, {"z": ("", "product", "x y", "")})["z"]
        self.assertAlmostEqual(made.value, 6.0)
        self.assertAlmostEqual(made.u, 0.5)

    def test_tunnel_resistance(self):
        # an open tube takes its stream's head and its friction: 0.1 m, no length: rho/2 / A2 = 0.6
        # / 6.1685e-5 = 9726.9
        self.assertAlmostEqual(tunnel_resistance(0.1, 0.0, 0.0, 0.0), 9726.9, delta=1)
        self.assertGreater(
            tunnel_resistance(0.1, 1.5, 0.08, 0.008), tunnel_resistance(0.1, 1.5, 0.0, 0.0)
        )
        with self.assertRaises(ValueError):
            tunnel_resistance(0.0, 1.0, 0.0, 0.0)

    def test_front_keeps_what_nothing_beats(self):
        found = [Found((0,), 3, 5), Found((1,), 2, 1), Found((2,), 1, 2), Found((3,), 3, 4)]
        self.assertEqual([f.parameters[0] for f in front(found)], [3, 1])

    def test_search_finds_the_top_of_a_hill_and_stops_when_told(self):
        def hill(p):
            return (-((p[0] - 0.3) ** 2) - (p[1] + 0.2) ** 2, p[0]) if p[0] < 0.9 else None

        run = Search([(-1, 1), (-1, 1)], (0.8, 0.8), hill, lambda share, best: True, rounds=60)
        best = run.run()
        self.assertAlmostEqual(best.parameters[0], 0.3, delta=0.05)
        self.assertAlmostEqual(best.parameters[1], -0.2, delta=0.05)
        again = Search(
            [(-1, 1), (-1, 1)], (0.8, 0.8), hill, lambda share, best: True, rounds=60
        ).run()
        self.assertEqual(best, again)  # seeded
        stopped = Search([(-1, 1), (-1, 1)], (0.8, 0.8), hill, lambda share, best: False, rounds=60)
        stopped.run()
        self.assertLess(len(stopped.tried), 20)
