"""JSON from outside: what cannot be stored does not come through."""

import unittest

from hauch.formats.json_in import read_json


class JsonInTests(unittest.TestCase):
    def test_what_can_be_stored(self):
        text = '{"a": [1, -2.5, "ü\\ud83c\\udf2c \\\\u0000", null, true], "b": 9223372036854775807}'
        found = read_json(text)
        self.assertEqual(found["a"], [1, -2.5, "ü\U0001f32c \\u0000", None, True])
        self.assertEqual(found["b"], 2**63 - 1)
        self.assertEqual(read_json(text.encode()), found)

    def test_what_cannot(self):
        for text, words in (
            ("[" * 100_000, "deeply"),
            ('{"a":' * 100_000, "deeply"),
            ("NaN", "no number"),
            ("[1, -Infinity]", "no number"),
            ("1e400", "too large"),
            ("9" * 5000, "too large"),
            ("9223372036854775808", "too large"),
            ('["a\\u0000"]', "NUL"),
            ('{"a\\u0000": 1}', "NUL"),
            ('["\\ud800"]', "half a character"),
            ('["\\uDFFF"]', "half a character"),
            ("{", "Expecting"),
            ("", "Expecting"),
            (b"\xff\xfe", "utf-8"),
        ):
            with self.subTest(text[:20]), self.assertRaisesRegex(ValueError, words):
                read_json(text)
