"""Numbers that the finding of faults must hold, on seeded traces, and the troubles that are told."""

import math
import unittest

import numpy as np

from hauch.core.measure.meter import Meter
from hauch.core.measure.run import NoResult
from hauch.core.rig.live import LiveRig
from hauch.core.sound.clip import clipping
from hauch.core.trace import trouble
from hauch.core.trace.marks import Mark, find_marks, gaps, never_started, spikes, stuck
from hauch.core.trace.reduce import Chosen, mark_sentence, steady_readings
from hauch.core.trace.source import Held
from tests.simulated import UNIT_SLIPS, ar, on_the_rig

SAMPLES = 100_000


class SpikeNumbers(unittest.TestCase):
    """At most 1 false mark in 10,000 samples, and at least 99 % of spikes of 8 standard deviations."""

    @classmethod
    def setUpClass(cls):
        random = np.random.default_rng(20)
        times = np.arange(SAMPLES) * 0.1
        cls.random = random
        cls.traces = {
            "white": (4 + 0.05 * random.standard_normal(SAMPLES), 0.05, 0.0),
            "gusts": (
                4 + 0.06 * ar(random, SAMPLES) + 0.035 * random.standard_normal(SAMPLES),
                0.0695,
                0.0,
            ),
            "whole revolutions": (np.round(1850 + 2.2 * random.standard_normal(SAMPLES)), 2.2, 1.0),
            "warming": (
                61 - 38 * np.exp(-times / 1860) + 0.05 * random.standard_normal(SAMPLES),
                0.05,
                0.0,
            ),
            "coarse digit": (
                np.round((21.03 + 0.025 * random.standard_normal(SAMPLES)) / 0.1) * 0.1,
                0.0,
                0.1,
            ),
            "a sweep whose scatter grows": (
                (1 + np.floor(times / 2500)) * (1 + 0.01 * random.standard_normal(SAMPLES)),
                0.0,
                0.0,
            ),
        }

    def test_false_marks(self):
        for name, (values, _, resolution) in self.traces.items():
            with self.subTest(name):
                self.assertLessEqual(spikes(values, resolution).sum() / SAMPLES * 10_000, 1.0)

    def test_spikes_of_eight_sigma(self):
        for name, (values, sigma, resolution) in self.traces.items():
            if sigma:
                with self.subTest(name):
                    faulty, at = values.copy(), np.arange(400, SAMPLES, 400)
                    faulty[at] += 8 * sigma * np.where(self.random.random(at.size) < 0.5, 1, -1)
                    self.assertGreaterEqual(spikes(faulty, resolution)[at].mean(), 0.99)

    def test_every_dropout_and_no_other(self):
        values = self.traces["gusts"][0][:20_000].copy()
        lost = [
            (int(a), int(a) + int(n))
            for a, n in zip(range(300, 19_000, 500), self.random.integers(1, 40, 38), strict=False)
        ]
        for a, b in lost:
            values[a:b] = math.nan
        marks = [
            m
            for m in find_marks(np.arange(20_000) * 0.1, {"air_speed": values})
            if m.kind == "dropout"
        ]
        self.assertEqual([(m.first, m.last + 1) for m in marks], lost)

    def test_the_part_spinning_up_is_no_spike(self):
        times = np.arange(1500) / 50
        speed = np.where(
            times < 6,
            0.0,
            np.round(
                1900 * (1 - np.exp(-np.maximum(times - 6, 0) / 0.8))
                + 1.5 * self.random.standard_normal(1500)
            ),
        )
        for end in range(330, 1500, 60):
            with self.subTest(end):
                self.assertEqual(
                    [
                        m
                        for m in find_marks(times[:end], {"speed": speed[:end]})
                        if m.kind == "spike"
                    ],
                    [],
                )


class StuckTests(unittest.TestCase):
    def setUp(self):
        self.random = np.random.default_rng(3)
        self.times = np.arange(3000) * 0.1

    def test_a_meter_that_repeats_itself_is_found_to_the_sample(self):
        values = np.round(4 + 0.05 * self.random.standard_normal(3000), 2)
        values[1000:1100] = values[999]
        found = np.flatnonzero(stuck(self.times, values))
        self.assertTrue(set(range(1000, 1100)) <= set(found.tolist()))
        self.assertLessEqual(len(found), 103)

    def test_a_settled_thermometer_and_a_supply_that_holds_are_not_blamed(self):
        load = np.round(
            40 - 15 * np.exp(-self.times / 40) + 0.01 * self.random.standard_normal(3000), 1
        )
        self.assertFalse(stuck(self.times, load).any())
        self.assertFalse(stuck(self.times, np.full(3000, 12.0)).any())

    def test_meters_of_a_part_that_stands_still_are_not_blamed(self):
        speed = np.where(self.times < 60, 0.0, 1900 + 2 * self.random.standard_normal(3000))
        air = np.where(
            self.times < 60, 0.0, np.round(4 + 0.05 * self.random.standard_normal(3000), 2)
        )
        self.assertEqual(
            [m.kind for m in find_marks(self.times, {"speed": speed, "air_speed": air})], []
        )

    def test_an_anemometer_that_shows_nothing_while_the_part_turns_is(self):
        speed = 1900 + 2 * self.random.standard_normal(3000)
        air = np.round(4 + 0.05 * self.random.standard_normal(3000), 2)
        air[2000:2200] = 0.0
        self.assertIn(
            "stuck", [m.kind for m in find_marks(self.times, {"speed": speed, "air_speed": air})]
        )

    def test_a_meter_that_never_moved_while_the_part_started_is_stuck_from_end_to_end(self):
        speed = np.where(self.times < 60, 0.0, 1900 + 2 * self.random.standard_normal(3000))
        air = np.full(3000, 2.31)
        air[40] = np.nan
        marks = [
            m
            for m in find_marks(self.times, {"speed": speed, "air_speed": air})
            if m.kind == "stuck"
        ]
        self.assertEqual(
            [(m.channel, m.first, m.last) for m in marks],
            [("air_speed", 0, 39), ("air_speed", 41, 2999)],
        )

    def test_one_reading_throughout_is_no_fault_where_it_may_be_true(self):
        starts = np.where(self.times < 60, 0.0, 1900 + 2 * self.random.standard_normal(3000))
        runs = 1900 + 2 * self.random.standard_normal(3000)
        for name, channel, value, speed in (
            ("a weak part that the meter does not feel", "air_speed", 0.0, starts),
            ("a coarse digit at one speed", "air_speed", 2.3, runs),
            ("a room that drowns the part", "sound_level", 45.0, starts),
            ("a supply", "voltage", 12.0, starts),
            ("no tachometer", "air_speed", 2.3, np.full(3000, np.nan)),
        ):
            with self.subTest(name):
                marks = find_marks(self.times, {"speed": speed, channel: np.full(3000, value)})
                self.assertEqual([m for m in marks if m.kind == "stuck"], [])


class OtherMarkTests(unittest.TestCase):
    def test_a_pause_and_a_clock_that_was_set_back_are_gaps(self):
        times = np.concatenate([np.arange(50) * 0.1, 9 + np.arange(50) * 0.1])
        self.assertEqual(gaps(times), [(49, 50)])
        times[70] = times[69]
        self.assertEqual(gaps(times), [(49, 50), (69, 70)])

    def test_readings_outside_the_range_are_kept_and_told_where_they_are_read(self):
        times, values = (
            np.arange(100.0),
            np.full(100, 20.0) + np.random.default_rng(1).normal(0, 0.1, 100),
        )
        values[10:24] = 31.0
        marks = find_marks(times, {"air_speed": values}, {}, {"air_speed": (0.3, 30.0)})
        self.assertIn(("over_range", 10, 23), [(m.kind, m.first, m.last) for m in marks])
        self.assertNotIn(
            "over_range",
            [m.kind for m in steady_readings(Held(times, {"air_speed": values}), {}, "r").marks],
        )

    def test_a_stop_on_purpose_is_no_stall(self):
        times = np.arange(1000) * 0.1
        throttle = np.where((times > 40) & (times < 60), 0.0, 100.0)
        speed = np.where(throttle > 0, 1900.0, 0.0) + np.random.default_rng(1).normal(0, 2, 1000)
        self.assertEqual(
            [
                m
                for m in find_marks(times, {"speed": speed, "throttle": throttle})
                if m.kind == "stall"
            ],
            [],
        )
        self.assertEqual(
            [m.kind for m in find_marks(times, {"speed": speed}) if m.kind == "stall"], ["stall"]
        )

    def test_never_started(self):
        marks = find_marks(np.arange(100.0), {"speed": np.zeros(100)})
        self.assertTrue(never_started(marks, 100))
        self.assertFalse(never_started(marks, 101))

    def test_what_is_left_out_by_hand_is_left_out_and_told(self):
        times = np.arange(100.0)
        values = np.where(times < 95, 5.0, 9.0) + np.random.default_rng(1).normal(0, 0.01, 100)
        reduced = steady_readings(
            Held(times, {"air_speed": values}),
            {},
            "r",
            chosen=Chosen([(80, 99)], [("air_speed", 95, 99)]),
        )
        self.assertAlmostEqual(reduced.readings["air_speed"].mean(), 5.0, delta=0.02)
        self.assertEqual(reduced.left_out["air_speed"], 5)
        self.assertEqual(
            mark_sentence(reduced.marks[-1]),
            "Air speed: left out by hand from 95.0 to 99.0 s (5 samples left out).",
        )


class TroubleTests(unittest.TestCase):
    def test_many_marks_of_a_kind_are_told_together(self):
        marks = [Mark("speed", "spike", i, i, float(i), float(i)) for i in range(5)] + [
            Mark("time", "gap", 7, 8, 7.0, 9.0)
        ]
        self.assertEqual(
            trouble.of_marks(marks),
            [
                "Speed: spiked 5 times, 5 samples in all.",
                (
                    "All channels: nothing recorded from 7.0 to 9.0 s (nothing can be said of that"
                    " time)."
                ),
            ],
        )

    def test_speed_not_reached_under_load(self):
        readings = {"speed": np.full(5, 1702.0), "throttle": np.full(5, 100.0)}
        self.assertIn(
            "1,702 1/min under load at full throttle, where 1,850",
            trouble.speed_short(readings, 1850.0),
        )
        self.assertEqual(trouble.speed_short(readings, 1710.0), "")
        self.assertEqual(trouble.speed_short(readings | {"throttle": np.full(5, 60.0)}, 1850.0), "")
        self.assertEqual(trouble.speed_short(readings, None), "")

    def test_one_rotor_of_two_that_lags(self):
        self.assertIn(
            "Speed of rotor 2 is 900 1/min",
            trouble.rotors_apart({"speed": [1900.0], "speed_2": [900.0]}),
        )
        self.assertEqual(trouble.rotors_apart({"speed": [1900.0], "speed_2": [1870.0]}), "")

    def test_a_wrong_unit_is_told_by_its_factor(self):
        for value, usual, channels, words in (
            (4.1 * 196.85, 4.0, ["air_speed"], "air speed in ft/min taken for m/s"),
            (4.1 / 3.6, 4.0, ["air_speed"], "air speed in m/s taken for km/h"),
            (46.0 / 9.80665, 46.0, ["static_pressure"], "in mmH2O taken for Pa"),
            # The flow goes with the root of what a pitot tube shows.
            (0.05 * 9.80665**0.5, 0.05, ["pitot_pressure"], "in Pa taken for mmH2O"),
            (4500.0, 4.5, ["voltage", "current"], "voltage in mV taken for V"),
        ):
            self.assertIn(words, trouble.wrong_unit(value, usual, channels))
        # Ten times as much is no slip of an anemometer; and units that are near each other say nothing.
        for value, usual, channels in (
            (40.0, 4.0, ["air_speed"]),
            (4.1 * 1.94, 4.0, ["air_speed"]),
            (4.4, 4.0, ["air_speed"]),
            (float("nan"), 4.0, ["air_speed"]),
            (9.8, 1.0, ["sound_level"]),
        ):
            self.assertEqual(trouble.wrong_unit(value, usual, channels), "")


class ClippingTests(unittest.TestCase):
    def test_a_cut_sine_is_found_with_its_share_and_a_whole_one_is_not(self):
        at = np.arange(48_000) / 48_000
        sine = np.sin(2 * np.pi * 215.8 * at)
        self.assertFalse(clipping(sine).clipped)
        cut = clipping(np.clip(1.2 * sine, -0.9, 0.9))
        # A sine of 1.2 lies above 0.9 for 2 acos(0.75) of 2 pi on each side: 46.0 % of the time.
        self.assertAlmostEqual(cut.share, 2 * math.acos(0.75) / math.pi, delta=0.01)

    def test_short_tops_count_once_the_limit_is_known(self):
        """Noise cut at 1.5 standard deviations: 13.36 % of it lie beyond, most as single samples."""
        noise = np.random.default_rng(4).normal(0, 1, 48_000)
        for low, high, share in ((-1.5, 1.5, 0.1336), (-9, 1.5, 0.0668), (-1.5, 9, 0.0668)):
            cut = clipping(np.round(np.clip(noise, low, high), 4))
            self.assertAlmostEqual(cut.share, share, delta=0.005)
            self.assertEqual(sum(b - a + 1 for a, b in cut.stretches), cut.samples)

    def test_a_quiet_tone_in_coarse_digits_is_not_cut(self):
        """Digits of 1/200 of the top make equal neighbours on tops; 8 % of such were taken for cut."""
        random, at = np.random.default_rng(5), np.arange(48_000) / 480
        for _ in range(100):
            sound = np.sin(2 * np.pi * at) * random.uniform(0.1, 1) + random.normal(
                0, 0.01, at.size
            )
            sound = np.round(sound / np.abs(sound).max() * random.uniform(100, 1800))
            self.assertFalse(clipping(sound).clipped)

    def test_a_click_beyond_a_limit_does_not_hide_it(self):
        cut = np.round(np.clip(np.random.default_rng(4).normal(0, 1, 48_000), -1.5, 9), 4)
        cut[777] = -2.4
        self.assertAlmostEqual(clipping(cut).share, 0.0668, delta=0.005)

    def test_noise_silence_and_one_flat_top_are_not(self):
        noise = np.random.default_rng(1).normal(0, 0.1, 48_000)
        self.assertFalse(clipping(noise).clipped)
        self.assertFalse(clipping(np.zeros(100)).clipped)
        self.assertFalse(clipping(np.zeros(0)).clipped)
        noise[100:105] = 2.0
        self.assertFalse(clipping(noise).clipped)


class OtherUnitTests(unittest.TestCase):
    """A key of a meter is pressed for some seconds, or for good."""

    def found(self, times, channels):
        return [m for m in find_marks(times, channels) if m.kind in {"unit", "jump", "spike"}]

    def test_three_seconds_in_another_unit(self):
        for seed in range(18):
            channel, factor, words = UNIT_SLIPS[seed % len(UNIT_SLIPS)]
            with self.subTest(channel=channel, factor=factor, seed=seed):
                times, channels = on_the_rig(seed, fault=(channel, "unit", 3.0, factor))
                near = [m for m in self.found(times, channels) if 29 < m.from_s < 34]
                (mark,) = [m for m in near if m.channel == channel]
                self.assertEqual((mark.kind, mark.note), ("unit", words))
                self.assertAlmostEqual(mark.from_s, 30.0, delta=0.1)
                self.assertAlmostEqual(mark.to_s, 33.0, delta=0.1)

    def test_a_part_that_changes_is_in_no_other_unit(self):
        for rate in (50.0, 10.0, 1.0):
            for seed in range(100, 115):
                times, channels = on_the_rig(seed, rate, turns=True)
                marks = [m for m in self.found(times, channels) if m.kind != "spike"]
                self.assertEqual(marks, [], (rate, seed))

    def test_a_probe_that_was_moved_for_a_moment_is_in_no_other_unit(self):
        for share in (0.5, 0.54, 0.6, 0.62, 0.7, 0.8):
            rig = LiveRig(rate=50.0, seed=9)
            rig.start(0.0)
            rig.set_throttle(100.0)
            for end, air in ((30.0, share), (36.0, 1.0), (60.0, 1.0)):
                rig.advance(end)
                rig.air_share = air
            channels = {c: rig.since(c, -1)[1] for c in ("air_speed", "speed", "current")}
            times = np.arange(channels["speed"].size) / 50.0
            found = [m.kind for m in self.found(times, channels) if m.kind != "spike"]
            self.assertEqual(found, [], share)

    def test_temperature(self):
        times = np.arange(0, 200.0)
        load = 60 - 38 * np.exp(-times / 60)
        load[120:130] = load[120:130] * 1.8 + 32
        (mark,) = self.found(times, {"load_temperature": np.round(load, 1)})
        self.assertEqual((mark.kind, mark.note), ("unit", "°F taken for °C"))
        self.assertEqual((mark.from_s, mark.to_s), (120.0, 129.0))

    def test_a_change_for_good_is_no_result_until_somebody_says_which_side_is_right(self):
        times, channels = on_the_rig(5, fault=("air_speed", "unit", 900.0, 196.85))
        meters = {"air_speed": Meter("m", "Vane", 0.01), "speed": Meter("n", "Tacho", 1.0)}
        kept = {"air_speed": channels["air_speed"], "speed": channels["speed"]}
        trace = Held(times, kept)
        with self.assertRaisesRegex(NoResult, "jumps at 30.0 s and stays.*ft/min taken for m/s"):
            steady_readings(trace, meters, "r")
        chosen = Chosen([(10.0, 20.0)], [("air_speed", 29.9, 70.0)])
        found = steady_readings(trace, meters, "r", chosen=chosen)
        self.assertLess(found.readings["air_speed"].mean(), 5.0)
        # A jump that lies wholly before what was read asks too: all of it may be in feet a minute.
        with self.assertRaisesRegex(NoResult, "jumps at"):
            steady_readings(trace, meters, "r", chosen=Chosen([(40.0, 50.0)]))

    def test_what_lasts_longer_than_the_rest_is_asked_about(self):
        times, channels = on_the_rig(6, fault=("air_speed", "unit", 38.0, 3.6))
        (mark,) = [m for m in self.found(times, channels) if m.kind != "spike"]
        self.assertEqual(mark.kind, "jump")
