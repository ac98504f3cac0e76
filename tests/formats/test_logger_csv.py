"""Logger files: what people's loggers write, and what goes wrong in them."""

import unittest
from datetime import UTC, datetime
from pathlib import Path

import numpy as np

from hauch.formats.logger_csv import (
    GLANCE,
    MOST_BYTES,
    LogRefused,
    check_mapping,
    glance,
    inspect,
    read_log,
)
from hauch.formats.logger_names import guess_mapping
from hauch.formats.logger_table import Column

DATA = Path(__file__).parents[1] / "data" / "logger"


def read(name, **more):
    table = inspect((DATA / name).read_bytes())
    return read_log(table, guess_mapping(table), **more)


def refusal(text, mapping=None):
    table = inspect(text if isinstance(text, bytes) else text.encode())
    try:
        read_log(table, mapping or guess_mapping(table))
    except LogRefused as refused:
        return refused
    raise AssertionError("not refused")


class GlanceTests(unittest.TestCase):
    def test_the_beginning_tells_what_the_whole_tells(self):
        rows = "".join(
            f"{i * 0.1:.1f};{4 + i % 7 / 10:.2f}\r\n".replace(".", ",") for i in range(40_000)
        )
        for name, data in (
            ("long", ("Zeit [s];Luft [m/s]\r\n" + rows).encode()),
            ("blank at its end", ("Zeit [s];Luft [m/s]\r\n" + rows + "\r\n\r\n").encode()),
            ("wide characters", ("Zeit [s];Luft [m/s]\r\n" + rows).encode("utf-16")),
            ("short", b"t [s];v [m/s]\n0;1\n1;2\n"),
            ("one long line", b"t [s];v [m/s]\n0;1" + b"1" * GLANCE),
        ):
            with self.subTest(name):
                one, other = glance(data), inspect(data)
                self.assertEqual(
                    (one.header, one.units, one.decimal, one.delimiter, one.count),
                    (other.header, other.units, other.decimal, other.delimiter, other.count),
                )
                self.assertEqual(one.cells(one.last), other.cells(other.last))
                self.assertEqual(one.fingerprint, other.fingerprint)
        self.assertLess(len(glance(("t;v\n" + "1;2\n" * 200_000).encode()).lines), 100_000)

    def test_what_is_no_table_is_refused_at_a_glance(self):
        for data in (b"\x00" * 600_000, b"x" * 600_000, b"a;b\n" * (MOST_BYTES // 4 + 1)):
            with self.assertRaises(LogRefused):
                glance(data)


class RealFileTests(unittest.TestCase):
    def test_iso_comma(self):
        """Last quarter: 4.31 m/s, 46.8 Pa, 51.4 dB(A), 12.04 V, 0.412 A, 1850 1/min."""
        log = read("bench_a_1hz.csv")
        self.assertEqual(log.start.isoformat(), "2026-03-04T14:05:00+01:00")
        self.assertEqual(log.times[-1], 1199.0)
        late = log.times >= 900
        for channel, value, delta in (
            ("air_speed", 4.31, 0.02),
            ("static_pressure", 46.8, 0.15),
            ("sound_level", 51.4, 0.1),
            ("voltage", 12.04, 0.002),
            ("current", 0.412, 0.001),
            ("speed", 1850.0, 0.6),
        ):
            with self.subTest(channel):
                self.assertAlmostEqual(
                    np.nanmedian(log.channels[channel][late]), value, delta=delta
                )

    def test_german(self):
        """Semicolon, decimal comma, Windows-1252, local dates; last 300 s: 3.8526 m/s, 38.789 Pa; 8
        x 5 + 3 cells lost.
        """
        table = inspect((DATA / "bench_b_german.csv").read_bytes())
        self.assertEqual(
            (table.encoding, table.delimiter, table.decimal), ("Windows-1252", ";", ",")
        )
        log = read_log(table, guess_mapping(table))
        self.assertEqual(log.start, datetime(2026, 4, 3, 9, 12, tzinfo=UTC))
        self.assertAlmostEqual(np.nanmean(log.channels["air_speed"][-300:]), 3.8526, places=4)
        self.assertAlmostEqual(
            np.nanmean(log.channels["static_pressure"][-300:]), 38.7892, places=4
        )
        self.assertEqual(log.lost, 43)

    def test_units_in_a_second_row(self):
        """First row: 961 ft/min, 0.2271 inH2O, 74.0 degF."""
        log = read("bench_c_head.tsv")
        self.assertIsNone(log.start)
        self.assertAlmostEqual(log.channels["air_speed"][0], 961 * 0.00508, places=9)
        self.assertAlmostEqual(log.channels["static_pressure"][0], 0.2271 * 249.08891, places=6)
        self.assertAlmostEqual(log.channels["load_temperature"][0], (74.0 - 32) / 1.8, places=9)

    def test_broken_file_lists_each_bad_line_and_imports_nothing(self):
        """The twenty defects that were put in, by line."""
        with self.assertRaises(LogRefused) as caught:
            read("bench_d_broken.csv")
        reasons = {problem.line: problem.reason for problem in caught.exception.problems}
        for line, words in (
            (90, "“OL” in air speed is not a number"),
            (152, "repeats an earlier row"),
            (205, "5 columns instead of 9"),
            (379, "11 columns instead of 9"),
            (457, "“ERR” in sound level"),
            (522, "blank"),
            (708, "goes backwards"),
            (822, "“---” in speed"),
            (1003, "header is repeated"),
            (1204, "“n/a” in load temperature"),
            (1424, "goes backwards"),
        ):
            with self.subTest(line=line):
                self.assertIn(words, reasons[line])
        self.assertEqual(caught.exception.total, 43)
        self.assertIn(
            "43 of 1,802 rows cannot be read, so nothing was imported", str(caught.exception)
        )


class SmallFileTests(unittest.TestCase):
    def test_quotes_and_delimiters_inside_them(self):
        table = inspect(b'"time [s]","air speed, centre [m/s]"\n"0","3.1"\n"1","3.2"\n')
        self.assertEqual(table.header, ("time [s]", "air speed, centre [m/s]"))
        self.assertEqual(
            read_log(table, guess_mapping(table)).channels["air_speed"].tolist(), [3.1, 3.2]
        )

    def test_utf8_with_mark_and_utf16(self):
        for encoding in ("utf-8-sig", "utf-16"):
            with self.subTest(encoding):
                table = inspect(
                    "Zeit [s];Lüfterdrehzahl [1/min]\n0;1800\n1;1801\n".encode(encoding)
                )
                self.assertEqual(guess_mapping(table)[1].channel, "speed")

    def test_comments_before_the_header(self):
        self.assertEqual(
            inspect(b"# logger 4\n# loft\ntime_s,power_w\n0,4.5\n1,4.6\n").header,
            ("time_s", "power_w"),
        )

    def test_slashes_are_read_as_the_person_says(self):
        table = inspect(b"time,power_w\n03/04/2026 10:00:00,4.5\n03/04/2026 10:00:01,4.6\n")
        mapping = guess_mapping(table)
        self.assertEqual(read_log(table, mapping, day_first=True).start.month, 4)
        self.assertEqual(read_log(table, mapping, day_first=False).start.month, 3)

    def test_empty_and_nan_cells_are_lost_samples_and_no_zeros(self):
        table = inspect(b"time_s,power_w\n0,4.5\n1,\n2,NaN\n3,4.6\n")
        log = read_log(table, guess_mapping(table))
        self.assertEqual(log.lost, 2)
        self.assertTrue(np.isnan(log.channels["power"][1:3]).all())

    def test_fingerprint_is_the_layout_and_not_the_data(self):
        one, two = (
            inspect(b"time_s,power_w\n0,4.5\n1,4.6\n"),
            inspect(b"time_s,power_w\n0,9.5\n1,9.6\n2,9.7\n"),
        )
        self.assertEqual(one.fingerprint, two.fingerprint)
        self.assertNotEqual(
            one.fingerprint, inspect(b"time_s,power_mw\n0,4.5\n1,4.6\n").fingerprint
        )


class RefusedTests(unittest.TestCase):
    def test_no_table(self):
        for data, words in (
            (b"", "empty"),
            (b"  \n\n", "empty"),
            (b"\x00\x01\x02\x03" * 50, "binary"),
            (b"just one line of text\nand another\n", "No table"),
            (b"1,2,3\n4,5,6\n", "numbers where column names"),
            (b"a," * 80 + b"b\n" + b"1," * 80 + b"2\n", "81 columns"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LogRefused, words):
                inspect(data)

    def test_too_large_says_how_much(self):
        with self.assertRaisesRegex(LogRefused, "MB; at most 134 MB"):
            inspect(b"x" * (MOST_BYTES + 1))

    def test_infinite_and_script_cells(self):
        refused = refusal("time_s,power_w\n0,inf\n1,<script>alert(1)</script>\n2,4.5\n")
        self.assertEqual([p.line for p in refused.problems], [2, 3])

    def test_wrong_unit_gives_values_that_cannot_be(self):
        refused = refusal("time_s,room temp [K]\n0,21.5\n1,21.6\n")
        self.assertIn("cannot be; check the column's unit", refused.problems[0].reason)

    def test_mappings_that_cannot_be_read(self):
        table = inspect(b"time_s,power_w,power2_w\n0,4.5,1\n1,4.6,1\n")
        time, power, nothing = Column("time", "s"), Column("power", "W"), Column()
        for mapping, words in (
            ([nothing, power, nothing], "which column holds the time"),
            ([time, nothing, nothing], "No column is taken"),
            ([time, power, power], "Two columns are taken for electrical power"),
            ([time, Column("power", "horse"), nothing], "“horse” is not known"),
            ([time, Column("magic", "W"), nothing], "channel “magic”"),
            ([time, power], "names 2 columns, but the file has 3"),
        ):
            with self.subTest(words), self.assertRaisesRegex(LogRefused, words):
                check_mapping(table, mapping)

    def test_one_row_is_no_log(self):
        self.assertIn("fewer than two rows", str(refusal("time_s,power_w\n0,4.5\n")))

    def test_nonsense_times(self):
        self.assertIn(
            "is not a date and time",
            refusal("time,power_w\nyesterday,4.5\n2026-01-01T00:00:00,4.6\n").problems[0].reason,
        )
        self.assertIn(
            "is not known",
            str(
                refusal(
                    "time [fortnight],power_w\n0,4.5\n1,4.6\n",
                    [Column("time", "fortnight"), Column("power", "W")],
                )
            ),
        )
