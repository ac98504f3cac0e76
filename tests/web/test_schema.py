"""The types of a bundle: what strangers write is told by its place, and other programs get a schema."""

import copy
import json
import unittest
from pathlib import Path

from django.test import TestCase

from hauch.exchange import schema
from hauch.exchange.exporting import content_of
from hauch.exchange.plain import FIELDS
from hauch.formats.bundle import BundleRefused
from tests.builder import build

CURVE = {
    "x_label": "flow",
    "x_kind": "volume_flow",
    "y_label": "pressure",
    "y_kind": "pressure",
    "points": [[0.0, 0.0, 1.0, 0.1]],
    "line": [[0.0, 1.0]],
    "system": [],
    "at": [0.0, 1.0],
}


class StrangersTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.content = json.loads(json.dumps(content_of(cls.built.round)))

    def test_what_goes_out_comes_in(self):
        schema.check(self.content)

    def test_curves_and_stretches(self):
        good = copy.deepcopy(self.content)
        run = good["runs"][0]
        run["result"]["curve"] = CURVE
        run |= {"windows": [[1, 2.0]], "beside": {"tare": [0.0, 1.0]}}
        schema.check(good)
        for change, words in (
            (lambda r: r["result"]["curve"].update(points=[[1.0, 2.0]]), "curve, points, no. 1"),
            (lambda r: r["result"]["curve"].update(line=[["a", 1.0]]), "line, no. 1, no. 1: exp"),
            (lambda r: r["result"]["curve"].update(at=[1.0]), "curve, at: "),
            (lambda r: r["result"]["curve"].update(y_label=7), "y_label: expected text"),
            (lambda r: r.update(windows=[[1.0]]), "windows, no. 1: "),
            (lambda r: r.update(windows=["ab"]), "windows, no. 1: expected a list, found text"),
            (lambda r: r.update(beside={"tare": [0.0, "x"]}), "beside, "),
            (lambda r: r.update(beside={"magic": [0.0, 1.0]}), "magic"),
            (lambda r: r.update(uid="7"), "uid: "),
        ):
            with self.subTest(words):
                bad = copy.deepcopy(good)
                change(bad["runs"][0])
                with self.assertRaisesRegex(BundleRefused, f"runs, no. 1, .*{words}|{words}"):
                    schema.check(bad)


class SchemaTests(unittest.TestCase):
    def test_the_published_schema_is_the_one_that_is_read(self):
        """Written anew by `./hauch manage bundle_schema > docs/round.schema.json`."""
        published = json.loads(
            (Path(__file__).parents[2] / "docs" / "round.schema.json").read_text()
        )
        self.assertEqual(published, schema.json_schema())

    def test_every_model_that_travels_has_a_type(self):
        known = schema.json_schema()["$defs"]
        for model, fields in FIELDS.items():
            with self.subTest(model.__name__):
                self.assertLessEqual(set(fields), set(known[model.__name__]["properties"]))

    def test_in_words(self):
        for said, words in (
            (
                "Expected `float | null`, got `str` - at `$.u`",
                "u: expected a number or nothing, found text.",
            ),
            ("Expected `object`, got `array`", "expected an object, found a list."),
            (
                "Object missing required field `uid` - at `$.rigs[0]`",
                "rigs, no. 1: “uid” is missing.",
            ),
        ):
            self.assertEqual(schema.in_words(said), words)
