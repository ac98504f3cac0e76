"""What of the readings counts: the mean, or the highest steady value with its own scatter."""

import unittest
from dataclasses import replace

import numpy as np

from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.run import RunInput
from hauch.core.measure.taking import highest, largest_of

PLAIN = Meter("vane", "Vane")


class LargestTests(unittest.TestCase):
    def test_of_the_tables(self):
        """David and Nagaraja, table 4.9.1: n = 2, 5, 10."""
        for count, mean, sd in ((2, 0.5642, 0.8256), (5, 1.1630, 0.6690), (10, 1.5388, 0.5868)):
            found = largest_of(count)
            self.assertAlmostEqual(found[0], mean, delta=1e-4)
            self.assertAlmostEqual(found[1], sd, delta=1e-4)
        self.assertEqual(largest_of(1), (0.0, 1.0))


class HighestTests(unittest.TestCase):
    def test_by_hand(self):
        """The highest of 4.0, 4.2 and 4.1 is 4.2; s = 0.1; 0.1 × 0.748 of scatter."""
        q = highest("air_speed", [4.0, 4.2, 4.1], PLAIN, "r")
        self.assertEqual(q.value, 4.2)
        self.assertAlmostEqual(q.u, 0.1 * largest_of(3)[1])
        self.assertEqual(q.dof, 2.0)
        self.assertIn("above their mean by scatter alone", q.working[0].note)

    def test_the_meter_s_own_doubts_and_correction_stay(self):
        meter = Meter("vane", "Vane", resolution=0.1, accuracy=0.2, slope=1.05, offset=0.1)
        q = highest("air_speed", [4.0, 4.2, 4.1], meter, "r")
        self.assertAlmostEqual(q.value, 1.05 * 4.2 + 0.1)
        self.assertEqual(
            {cause.key.rsplit(":", 1)[-1] for cause in q.parts},
            {"highest", "resolution", "accuracy"},
        )

    def test_in_a_recording_a_value_must_hold(self):
        """A gust of one sample is no steady value: 10 samples make one."""
        values = np.full(100, 4.0)
        values[37], values[60:70] = 6.0, 4.3
        q = highest("air_speed", values, PLAIN, "r", hold=10)
        self.assertAlmostEqual(q.value, 4.3)

    def test_its_doubt_is_its_scatter_from_run_to_run(self):
        """600 runs of 8 values: the stated scatter is the one there is, within 7 %."""
        random = np.random.default_rng(8)
        found = [
            highest("air_speed", 4 + 0.1 * random.standard_normal(8), PLAIN, "r")
            for _ in range(600)
        ]
        there = np.std([q.value for q in found])
        stated = np.sqrt(np.mean([q.u**2 for q in found]))
        self.assertAlmostEqual(stated / there, 1.0, delta=0.07)

    def test_one_reading_and_levels(self):
        one = highest("air_speed", [4.0], PLAIN, "r")
        self.assertEqual((one.value, one.u), (4.0, 0.0))
        self.assertIn("not known", one.working[0].note)
        loud = highest("sound_level", [50.0, 60.0, 40.0, 41.0], PLAIN, "r", hold=2)
        self.assertAlmostEqual(loud.value, 10 * np.log10((10**5 + 10**6) / 2))

    def test_a_run_takes_it_where_it_is_agreed_and_nowhere_else(self):
        how = PROCEDURES["airflow"]
        given = RunInput(
            "r",
            {"air_speed": [4.0, 4.2, 4.1], "static_pressure": [10.0, 30.0]},
            {"air_speed": PLAIN, "static_pressure": PLAIN},
            {"bore": (0.1252, 0.0), "profile_factor": (0.846, 0.0)},
            "rig:1",
            20.0,
            101_325.0,
            50.0,
        )
        top = how.reduce(replace(given, highest=how.decides))
        self.assertAlmostEqual(top.value / how.reduce(given).value, 4.2 / 4.1)
        self.assertEqual(
            {key for key, p in PROCEDURES.items() if p.decides},
            {
                *("airflow", "static_pressure", "plate_pressure", "thrust"),
                *("sound_level", "hover_gap", "vibration"),
            },
        )
