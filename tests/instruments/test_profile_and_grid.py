"""Reading profiles as data, and samples of several meters on one grid."""

import math
import unittest

import numpy as np

from hauch.core.measure.channels import CHANNELS
from hauch.instruments.grid import Grid, Piece, Samples, joined
from hauch.instruments.profile import Profile, ProfileWrong, presets


class ProfileTests(unittest.TestCase):
    def test_all_presets_hold(self):
        for name, channels in presets().items():
            for channel, data in channels.items():
                with self.subTest(name, channel=channel):
                    self.assertIn(channel, CHANNELS)
                    Profile.of(data, channel)

    def test_answers_become_readings_in_si(self):
        profile = Profile.of({"query": "READ?", "unit": "ft/min", "missing": ["OL"]}, "air_speed")
        self.assertAlmostEqual(profile.value(" 1000.0\r", "air_speed"), 5.08, places=9)
        self.assertAlmostEqual(profile.value("+1.0E3,FPM", "air_speed"), 5.08, places=9)
        self.assertTrue(math.isnan(profile.value("OL", "air_speed")))
        self.assertTrue(math.isnan(profile.value("9.91E37", "air_speed")))
        with self.assertRaises(ValueError):
            profile.value("ERR", "air_speed")

    def test_what_is_wrong_is_told(self):
        good = {"query": "READ?", "unit": "m/s"}
        for data, words in (
            ([], "A profile is a JSON object"),
            (good | {"querry": "x"}, "“querry” is no part"),
            (good | {"unit": "furlong"}, "unit: .*furlong"),
            (good | {"rate": 0}, "between 0.01 and 100"),
            ({"unit": "m/s"}, "say what is sent"),
            (good | {"set": "SOUR:THR"}, "needs {value}"),
            (good | {"buffer": "x"}, "buffer: it is a JSON object"),
            (good | {"query": 5}, "query: it is a text"),
            (good | {"missing": "OL"}, "missing: it is a list"),
            (
                good | {"buffer": {"query": "FETC? {after}", "column": "a"}},
                "column is a whole number",
            ),
            (good | {"query": "READ?\nOUTP ON"}, "query: it is a text"),
            (good | {"buffer": {"query": "FETC?"}}, "needs {after}"),
            (good | {"line": {"parity": "E"}}, "line: “parity”"),
            (good | {"line": {"baud_rate": "9600"}}, "line: “baud_rate”"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ProfileWrong, words):
                Profile.of(data, "air_speed")

    def test_a_setting_is_sent_as_the_profile_says(self):
        profile = Profile.of({"query": "THR?", "unit": "%", "set": "SOUR:THR {value}"}, "throttle")
        self.assertEqual(profile.setting(62.5), "SOUR:THR 62.5")

    def test_a_name_is_no_command(self):
        profile = Profile.of(
            {"query": "THR?", "unit": "%", "mounted": 'RIG:PART "{part}"'}, "throttle"
        )
        self.assertEqual(
            profile.part('Distel"; SOUR:THR 100\nOUTP ON'), 'RIG:PART "Distel SOURTHR 100OUTP ON"'
        )
        self.assertEqual(profile.part("Loft-140 L-02"), 'RIG:PART "Loft-140 L-02"')


class GridTests(unittest.TestCase):
    def grid(self, **more):
        return Grid(["a", "b"], 10.0, 100.0, 0, more.get("periods", {}))

    def feed(self, grid, channel, ticks, values=None):
        ticks = np.asarray(ticks)
        grid.add(
            channel,
            Samples(100.0 + ticks / 10, np.asarray(values if values is not None else ticks, float)),
        )

    def test_rows_wait_for_all_meters_and_lose_none(self):
        grid = self.grid()
        self.feed(grid, "a", range(5))
        self.feed(grid, "b", range(3))
        (piece,) = grid.ready(100.45)
        self.assertEqual((piece.first, piece.rows.tolist()), (0, [[0, 0], [1, 1], [2, 2]]))
        self.feed(grid, "b", range(3, 8))
        (piece,) = grid.ready(100.5)
        self.assertEqual((piece.first, piece.rows[:, 0].tolist()), (3, [3, 4]))

    def test_a_silent_meter_is_not_waited_for_and_fills_in_later(self):
        grid = self.grid()
        self.feed(grid, "a", range(20))
        (piece,) = grid.ready(102.0)
        self.assertEqual(len(piece.rows), 20)
        self.assertTrue(np.isnan(piece.rows[:, 1]).all())
        self.feed(grid, "b", range(25))
        self.feed(grid, "a", range(20, 25))
        late, now = grid.ready(102.5)
        self.assertEqual((late.first, len(late.rows), now.first), (0, 20, 20))
        ticks, rows = joined([piece, late, now], 2)
        self.assertEqual(ticks.tolist(), list(range(25)))
        np.testing.assert_array_equal(rows[:, 1], np.arange(25.0))

    def test_where_no_meter_answered_nothing_was_recorded(self):
        grid = self.grid()
        for channel in "ab":
            self.feed(grid, channel, [0, 1, 2, 8, 9])
        pieces = grid.ready(101.0)
        self.assertEqual([(p.first, len(p.rows)) for p in pieces], [(0, 3), (8, 2)])
        self.assertEqual(joined(pieces, 2)[0].tolist(), [0, 1, 2, 8, 9])

    def test_a_slow_meter_stands_until_its_next_reading_and_not_for_ever(self):
        grid = self.grid(periods={"b": 0.4})
        self.feed(grid, "a", range(30))
        self.feed(grid, "b", [0, 4], [7.0, 8.0])
        rows = np.concatenate([p.rows for p in grid.ready(103.0)])
        self.assertEqual(rows[:15, 1].tolist(), [7.0] * 4 + [8.0] * 11)
        self.assertTrue(np.isnan(rows[15:, 1]).all())

    def test_later_pieces_fill_and_never_erase(self):
        first, second = (
            Piece(3, np.array([[1.0, math.nan], [2.0, 5.0]])),
            Piece(3, np.array([[math.nan, 4.0], [math.nan, math.nan]])),
        )
        ticks, rows = joined([first, second], 2)
        self.assertEqual((ticks.tolist(), rows.tolist()), ([3, 4], [[1.0, 4.0], [2.0, 5.0]]))
        self.assertEqual(joined([], 2)[1].shape, (0, 2))
