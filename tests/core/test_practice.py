"""Sessions of practice: what is hidden in them can be seen, and is found where Hauch says so."""

import unittest
from collections import Counter

import numpy as np

from hauch.core.rig.practice import EARLY, FAULTS, LEAK, NONE, ORDER, UNIT, practice_session
from hauch.core.trace.trouble import still_changing
from hauch.practice.exercise import WORDS, answers_to, found_by_itself, plain_mean


class SessionTests(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.sessions = [practice_session(seed) for seed in range(60)]

    def test_the_same_seed_is_the_same_session(self):
        again = practice_session(7)
        for one, other in zip(self.sessions[7].runs, again.runs, strict=True):
            self.assertEqual((one.fault, one.at), (other.fault, other.at))
            for key, values in one.channels.items():
                np.testing.assert_array_equal(values, other.channels[key])

    def test_three_or_four_faults_of_different_kinds_and_a_sound_beginning(self):
        drifting = 0
        for session in self.sessions:
            faults = [run.fault for run in session.runs]
            self.assertEqual((faults[0], len(faults)), (NONE, len(ORDER)))
            hidden = [fault for fault in faults if fault != NONE]
            self.assertIn(len(hidden), {3, 4})
            self.assertEqual(len(set(hidden)), len(hidden))
            drifting += session.drifts
        self.assertTrue(15 < drifting < 45)

    def test_what_hauch_finds_by_itself(self):
        """All but a joint that opens, which no single channel shows; sound runs are left alone."""
        found, count = Counter(), Counter()
        for session in self.sessions:
            for run in session.runs:
                count[run.fault] += 1
                found[run.fault] += bool(found_by_itself(run)[0])
        self.assertEqual(set(count), {NONE, *FAULTS})
        for fault in set(FAULTS) - {LEAK}:
            self.assertEqual(found[fault], count[fault], fault)
        self.assertLess(found[NONE] / count[NONE], 0.02)

    def test_each_fault_does_to_the_meters_what_is_said_of_it(self):
        for session in self.sessions:
            for run in (run for run in session.runs if run.fault != NONE):
                air, speed = run.channels["air_speed"], run.channels["speed"]
                before, after = run.times < run.at - 3, run.times > run.at + 3
                if run.fault == LEAK:
                    steady = before & (run.times > 12)
                    self.assertLess(air[after].mean() / air[steady].mean(), 0.93)
                    self.assertGreater(speed[after].mean(), speed[steady].mean())
                if run.fault == UNIT:
                    self.assertGreater(air[after].mean(), 3 * air[before & (run.times > 12)].mean())
                if run.fault == EARLY:
                    self.assertGreater(speed[-10:].mean(), 1.02 * speed[-80:-70].mean())

    def test_the_answer(self):
        session = next(s for s in self.sessions if s.drifts)
        rows = answers_to(session, [NONE] * len(ORDER))
        self.assertEqual([row.right for row in rows], [run.fault == NONE for run in session.runs])
        self.assertEqual({row.word for row in rows}, {"right", "missed"})
        alarms = answers_to(session, [EARLY] * len(ORDER))
        self.assertEqual(alarms[0].word, "false alarm")
        self.assertEqual(set(WORDS), {NONE, *FAULTS})
        sound = [
            plain_mean(r) for r in session.runs if r.subject == "reference" and r.fault == NONE
        ]
        if len(sound) > 1:
            self.assertLess(sound[-1], sound[0])


class StillChangingTests(unittest.TestCase):
    def test_what_rises_is_told_and_what_only_scatters_is_not(self):
        random = np.random.default_rng(5)
        at = np.linspace(0, 1, 200)
        for share, said in ((0.0, False), (0.01, False), (0.05, True), (-0.05, True)):
            values = 4.0 * (1 + share * at) + 0.03 * random.standard_normal(200)
            self.assertEqual(bool(still_changing({"air_speed": values})), said, share)
        self.assertIn("falls, by 5 %", still_changing({"power": 6 * (1 - 0.05 * at)})[0])

    def test_false_calls_on_air_that_gusts(self):
        """400 stretches of 300 samples, gusts of 2 % that last 10 samples: fewer than 1 % are told."""
        random = np.random.default_rng(6)
        called = 0
        for _ in range(400):
            gusts = np.convolve(random.standard_normal(309), np.ones(10) / np.sqrt(10), "valid")
            called += bool(still_changing({"air_speed": 4 * (1 + 0.02 * gusts)}))
        self.assertLess(called, 4)

    def test_what_cannot_be_told_is_not(self):
        for values in ([4.0, 5.0], [0.0] * 50, [np.nan] * 50, [-1.0, 1.0] * 20):
            self.assertEqual(still_changing({"air_speed": values}), [])
        self.assertEqual(still_changing({"load_temperature": np.linspace(20, 60, 100)}), [])
