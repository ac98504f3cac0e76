"""The export bundle: what goes in comes out, and what is hostile is refused."""

import io
import json
import unittest
import zipfile
from unittest import mock

import numpy as np

from hauch.formats import bundle
from hauch.formats.bundle import Bundle, BundleRefused
from hauch.formats.tables import safe_cell, to_csv

UID = "6f0c7a52-6f1b-5d3e-9a4e-140140140140"


def packed(members):
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return out.getvalue()


class BundleTests(unittest.TestCase):
    def test_round_trip_with_every_digit(self):
        values = np.array([0.1 + 0.2, np.nan, -1e-300, 12345.678901234567])
        made = Bundle(
            {"round": {"title": "Ürfüß <script>"}},
            {UID: {"time": np.arange(4.0), "air_speed": values}},
            {},
        )
        back = bundle.read(bundle.packed(made))
        self.assertEqual(back.content["round"], {"title": "Ürfüß <script>"})
        np.testing.assert_array_equal(back.traces[UID]["air_speed"], values)

    def test_same_content_same_bytes(self):
        made = Bundle({"a": 1}, {}, {})
        self.assertEqual(bundle.packed(made), bundle.packed(made))

    def test_what_is_no_bundle(self):
        good = {"schema": "hauch.round", "schema_version": 1}
        now = good | {"schema_version": bundle.SCHEMA_VERSION}
        for data, words in (
            (b"no zip", "not a readable ZIP"),
            (packed({"other.txt": "x"}), "no round.json"),
            (packed({"round.json": "{"}), "not a readable ZIP"),
            (packed({"round.json": "[]"}), "does not describe a round"),
            (packed({"round.json": '{"schema": NaN}'}), "NaN is no number"),
            (
                packed({"round.json": json.dumps({**good, "schema_version": 99})}),
                "schema version 99",
            ),
            (
                packed({"round.json": json.dumps(now), f"files/{'0' * 64}": b"x"}),
                "does not match its checksum",
            ),
            (
                packed({"round.json": json.dumps(now), f"traces/{UID}.csv": "air_speed\n1\n"}),
                "column “time”",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(BundleRefused, words):
                made = bundle.read(data)
                [*made.traces.values()]

    def test_zip_bomb_and_path_tricks(self):
        good = json.dumps({"schema": "hauch.round", "schema_version": bundle.SCHEMA_VERSION})
        with self.assertRaisesRegex(BundleRefused, "many times its size"):
            bundle.read(packed({"round.json": good, "bomb": b"0" * 30_000_000}))
        with (
            mock.patch.object(bundle, "MOST_ROUND", 10),
            self.assertRaisesRegex(BundleRefused, "more than 0 MB"),
        ):
            bundle.read(packed({"round.json": good}))
        with (  # and nothing goes out that would not come in
            mock.patch.object(bundle, "MOST_ROUND", 10),
            self.assertRaisesRegex(BundleRefused, "A backup of the installation holds it"),
        ):
            bundle.packed(Bundle({"round": {}}))
        for table in ("time,a\n1,2\n1,2,3\n", "time\n1,2\n3,4\n", f"time\n{'9' * 200_000}\n"):
            made = bundle.read(packed({"round.json": good, f"traces/{UID}.csv": table}))
            with self.subTest(table[:20]), self.assertRaisesRegex(BundleRefused, "not a table"):
                made.traces[UID]
        tricked = bundle.read(
            packed({"round.json": good, "../../evil.csv": "x", "files/../../evil": "x"})
        )
        self.assertEqual((dict(tricked.files), dict(tricked.traces)), ({}, {}))


class TableTests(unittest.TestCase):
    def test_formulas_are_defused_and_numbers_are_not(self):
        self.assertEqual(safe_cell("=1+1"), "'=1+1")
        self.assertEqual(
            [safe_cell(c) for c in ("@x", "-x", "+x", "plain")], ["'@x", "'-x", "'+x", "plain"]
        )
        self.assertEqual(safe_cell(-3.5), -3.5)

    def test_floats_keep_all_digits(self):
        self.assertEqual(to_csv(["a", "b"], [[0.1 + 0.2, None]]), "a,b\n0.30000000000000004,\n")
