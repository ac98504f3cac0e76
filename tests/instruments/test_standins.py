"""Simulated meters over TCP, read through PyVISA."""

import time
import unittest
from unittest import mock

import numpy as np

from hauch.core.rig.live import CHANNELS, LiveRig, bench_rig
from hauch.demo.fans import fans
from hauch.instruments.grid import Grid
from hauch.instruments.link import BEYOND, Link, block_of, identify, open_line, read_once
from tests.instruments.meters import Meters, columns_of, profile_objects


def until(condition, seconds=60.0):
    end = time.time() + seconds
    while time.time() < end:
        if condition():
            return True
        time.sleep(0.02)
    return False


class RigTests(unittest.TestCase):
    def at_full(self, **more):
        rig = LiveRig(**more)
        rig.start(1000.0)
        rig.set_throttle(100.0)
        rig.advance(1012.0)
        return rig

    def test_laws_of_the_virtual_bench(self):
        """Fan laws: half the speed, half the flow, a quarter of the pressure; 50 lg n in sound."""
        rig = self.at_full(background=0.0)
        full = {c: rig.now(c) for c in CHANNELS}
        rig.set_throttle(100 * 0.5 ** (1 / 0.92))
        rig.advance(1024.0)
        self.assertAlmostEqual(rig.now("speed") / full["speed"], 0.5, delta=0.01)
        self.assertAlmostEqual(rig.now("air_speed") / full["air_speed"], 0.5, delta=0.04)
        self.assertAlmostEqual(
            rig.now("static_pressure") / full["static_pressure"], 0.25, delta=0.02
        )
        self.assertAlmostEqual(full["sound_level"] - rig.now("sound_level"), 15.05, delta=1.2)

    def test_samples_are_numbered_and_kept(self):
        rig = self.at_full()
        first, values = rig.since("speed", 50_010)
        self.assertEqual((first, first + len(values) - 1), (50_011, rig.tick))
        again = LiveRig()
        again.start(1000.0)
        again.set_throttle(100.0)
        again.advance(1012.0)
        np.testing.assert_array_equal(
            again.since("air_speed", -1)[1], rig.since("air_speed", -1)[1]
        )

    def test_faults_on_request(self):
        rig = self.at_full()
        rig.fault("air_speed", "dropout", 0.5)
        rig.fault("speed", "stuck", 1.0)
        rig.fault("voltage", "spike", size=5.0)
        rig.fault("static_pressure", "unit", 0.5, 0.10197)
        tick = rig.tick
        rig.advance(1014.0)
        self.assertEqual(np.isnan(rig.since("air_speed", tick)[1]).sum(), 25)
        self.assertEqual(len(set(rig.since("speed", tick)[1][:50].tolist())), 1)
        self.assertGreater(rig.since("voltage", tick)[1][0], 16.0)
        self.assertLess(rig.since("static_pressure", tick)[1][:20].max(), 6.0)
        rig.fault("", "stall")
        rig.advance(1018.0)
        self.assertEqual(rig.now("speed"), 0.0)
        self.assertGreater(rig.now("current"), 0.7)
        rig.set_throttle(0.0)
        rig.set_throttle(80.0)
        rig.advance(1026.0)
        self.assertGreater(rig.now("speed"), 1400)
        for wrong in (
            lambda: rig.fault("gap", "spike"),
            lambda: rig.fault("speed", "magic"),
            lambda: rig.set_throttle(120.0),
        ):
            with self.assertRaises(ValueError):
                wrong()

    def test_head_down_battery_and_other_parts(self):
        rig = bench_rig(2)
        rig.turned_over = rig.only_upright = True
        rig.start(0.0)
        rig.set_throttle(100.0)
        rig.advance(8.0)
        self.assertEqual(rig.now("speed"), 0.0)
        flat = self.at_full(battery=2.0)
        self.assertLess(flat.now("speed"), 1600)
        rig.mount("Distel")
        name, flow = rig.fan.name, rig.fan.free_flow
        rig.mount("Distel")
        self.assertEqual((name, rig.fan.free_flow), ("Distel", flow))


class LineTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.meters = Meters()

    @classmethod
    def tearDownClass(cls):
        cls.meters.stop()

    def line(self, device):
        line = open_line(self.meters.resource(device), next(iter(profile_objects(device).values())))
        self.addCleanup(line.close)
        return line

    def test_ten_meters_say_who_they_are_and_read(self):
        for device in self.meters.bench.ports:
            with self.subTest(device):
                profiles = profile_objects(device)
                channel, profile = next(iter(profiles.items()))
                self.assertRegex(
                    identify(self.meters.resource(device), profile),
                    r"^Hauch,STAND-IN .*,bench 1,1$",
                )
                self.assertTrue(
                    np.isfinite(read_once(self.meters.resource(device), profile, channel))
                )

    def test_errors_are_queued_as_scpi_has_it(self):
        line = self.line("anemometer")
        line.write("NO:SUCH")
        self.assertEqual(line.query("SYST:ERR?"), '-113,"Undefined header"')
        self.assertEqual(line.query("SYST:ERR?"), '0,"No error"')
        motor = self.line("motor")
        motor.write("SOUR:THR 300")
        self.assertIn("-224", motor.query("SYST:ERR?"))
        motor.write("SOUR:THR 40; *CLS")
        self.assertEqual(motor.query("SOUR:THR?"), "40")
        motor.write("OUTP OFF")

    def test_hands_at_the_bench_change_what_its_meters_show(self):
        rig, motor = self.meters.bench.rig, self.line("motor")
        motor.write('RIG:SUPPLY 14.4;RIG:AIR 0.27;RIG:PART "Loft-140 L-02"')
        self.assertEqual(motor.query("SYST:ERR?"), '0,"No error"')
        self.addCleanup(motor.write, "RIG:SUPPLY 12;RIG:AIR 1;OUTP OFF")
        motor.write("SOUR:THR 100")
        speed = self.line("tachometer")
        self.assertTrue(until(lambda: float(speed.query("MEAS:RPM? (@1)")) > 2260))
        # The fan laws: a fifth more volts, a fifth more speed, 1.2 cubed the power of the air; a
        # quarter of it where the meter stands.
        self.assertAlmostEqual(rig.speed, 1900 * 14.4 / 12, delta=25)
        self.assertGreater(float(self.line("supply").query("MEAS:POW?")), 6.3)
        tunnel = (
            rig.fan.working_flow(rig.resistance, rig.speed, 1.2)
            / (np.pi / 4 * rig.bore**2)
            / rig.profile_factor
        )
        self.assertAlmostEqual(
            float(self.line("anemometer").query("MEAS:VEL?")), 0.27 * tunnel, delta=0.2
        )

    def test_waveforms_come_as_blocks(self):
        sound = self.line("sound").query_binary_values(
            "SENS:WAV? 0.5", datatype="f", container=np.array
        )
        self.assertEqual(sound.size, 24_000)
        self.assertEqual(
            self.line("accelerometer")
            .query_binary_values("SENS:WAV? 1", datatype="f", container=np.array)
            .size,
            6_400,
        )
        line = self.line("anemometer")
        line.write("SENS:WAV? 0.5")
        self.assertEqual(line.read(), "")
        self.assertIn("no waveform", line.query("SYST:ERR?"))

    def collect(self, link, channels, grid, seconds):
        end, pieces = time.time() + seconds, []
        while time.time() < end:
            time.sleep(0.05)
            for channel, samples in link.take().items():
                grid.add(channel, samples)
            pieces += grid.ready(time.time())
        return pieces

    def test_every_sample_arrives_though_the_line_drops(self):
        now = time.time()
        link = Link(self.meters.resource("supply"), profile_objects("supply"), now)
        grid = Grid(columns_of("supply"), 50.0, now, 0, {})
        link.start()
        self.addCleanup(link.stop)
        pieces = self.collect(link, columns_of("supply"), grid, 0.8)
        self.line("supply").write("RIG:OFFLINE 1")
        self.assertTrue(until(lambda: link.problem))
        pieces += self.collect(link, columns_of("supply"), grid, 2.6)
        self.assertEqual(link.problem, "")
        from hauch.instruments.grid import joined

        ticks, rows = joined(pieces, 3)
        self.assertGreater(len(ticks), 120)
        self.assertEqual(np.diff(ticks).max(), 1)
        self.assertFalse(np.isnan(rows[1:]).any())

    def test_a_meter_is_read_by_one_installation_of_the_machine(self):
        where, profiles = self.meters.resource("scale"), profile_objects("scale")
        first, second = (Link(where, profiles, time.time(), owner=who) for who in "ab")
        self.addCleanup(first.stop)
        self.addCleanup(second.stop)
        first.start()
        self.assertTrue(until(lambda: first.answered))
        second.start()
        self.assertTrue(until(lambda: "another installation" in second.problem))
        self.assertFalse(second.answered)
        first.stop()
        self.assertTrue(until(lambda: second.answered))
        third = Link(where, profiles, time.time(), owner="b")  # as where the other one hangs
        self.addCleanup(third.stop)
        third.start()
        self.assertTrue(until(lambda: third.answered))

    def test_a_long_memory_is_not_read_from_its_beginning(self):
        time.sleep(2.5)  # what came before is in its memory too
        wanted = time.time() - 1.0
        link = Link(self.meters.resource("thermometer"), profile_objects("thermometer"), wanted)
        with mock.patch("hauch.instruments.link.block_of", wraps=block_of) as asked:
            line = open_line(link.resource, profile_objects("thermometer")["load_temperature"])
            self.addCleanup(line.close)
            link._fetch(line, "FETC:BUFF? {after}")
            link._fetch(line, "FETC:BUFF? {after}")
        after = [int(call.args[1].split()[1]) for call in asked.call_args_list]
        samples = link.take()["load_temperature"]
        self.assertEqual((after[0], len(after)), (BEYOND, 3))
        self.assertLess(samples.times[0] - wanted, 0.03)
        self.assertGreater(samples.times[0], wanted)
        self.assertAlmostEqual(after[1], 50 * samples.times[0], delta=5)
        self.assertEqual(set(np.rint(50 * np.diff(samples.times)).astype(int).tolist()), {1})

    def test_a_meter_whose_clock_began_with_its_power_is_asked_from_the_right_sample(self):
        """Ours shows 5000 s where the meter's shows 40 s; wanted is all after 4998 s, which is its
        sample 1900 at 50 a second.
        """
        profile, asked = profile_objects("scale"), []
        link = Link("TCPIP0::127.0.0.1::9::SOCKET", profile, 4998.0, clock=lambda: 5000.0)

        def answer(line, query, kind):
            after = int(query.split()[1])
            asked.append(after)
            rows = np.arange(after + 1, 2001, dtype=float) if after < 2000 else np.zeros(0)
            return np.concatenate(([40.0, 50.0, after + 1, 1], rows))

        with mock.patch("hauch.instruments.link.block_of", answer):
            link._fetch(None, "FETC:BUFF? {after}")
        samples = link.take()["scale_mass"]
        self.assertEqual(asked[0], BEYOND)
        self.assertIn(asked[1], (1898, 1899))
        self.assertEqual((samples.values[0], samples.values[-1]), (1901.0, 2000.0))
        self.assertAlmostEqual(samples.times[0], 4998.02, places=6)

    def test_a_meter_that_is_asked_one_by_one(self):
        profile = profile_objects("tachometer")["speed"]
        from dataclasses import replace

        link = Link(
            self.meters.resource("tachometer"),
            {"speed": replace(profile, buffer="", rate=20.0)},
            0.0,
        )
        link.start()
        self.addCleanup(link.stop)
        self.assertTrue(
            until(lambda: link.readers["speed"].pending and len(link.readers["speed"].pending) > 12)
        )
        samples = link.take()["speed"]
        self.assertAlmostEqual(float(np.median(np.diff(samples.times))), 0.05, delta=0.02)

    def test_a_wrong_address_is_told(self):
        link = Link("TCPIP0::127.0.0.1::9::SOCKET", profile_objects("supply"), 0.0)
        link.start()
        self.addCleanup(link.stop)
        self.assertFalse(link.silent)
        self.assertTrue(until(lambda: link.problem))
        self.assertFalse(link.silent)  # its line may only be held by the one before
        link.since -= 6.0
        self.assertTrue(link.silent)
        link.answered, link.since = True, time.monotonic()
        self.assertTrue(link.silent)  # one that answered and does so no more is told at once


class KnownPartTests(unittest.TestCase):
    def test_the_demos_parts_show_what_their_history_tells(self):
        """On the bench again, a part does what it did in its round, against the reference in use."""
        known = fans()
        flows = {}
        for name in ("Loft-140 L-02", "Schwalbe", "Pusteblume"):
            rig = LiveRig(parts=known)
            rig.start(0.0)
            rig.mount(name)
            rig.set_throttle(100.0)
            rig.advance(20.0)
            self.assertIs(rig.fan, known[name])
            flows[name] = rig.since("air_speed", 500)[1].mean()
        for name, more in (("Schwalbe", True), ("Pusteblume", False)):
            share = known[name].working_flow(23_500.0, 1900.0, 1.2) / known[
                "Loft-140 L-02"
            ].working_flow(23_500.0, 1900.0, 1.2)
            self.assertAlmostEqual(flows[name] / flows["Loft-140 L-02"], share, delta=0.01)
            self.assertIs(share > 1.03, more)
        rig = LiveRig(parts=known)
        rig.mount("Somebody's own")
        self.assertIsNotNone(rig.fan)
