"""Our style sheet: no rule for what no page has."""

import re
import unittest
from pathlib import Path

import hauch

SOURCE = Path(hauch.__file__).parent
SHEET = SOURCE / "ui" / "static" / "ui" / "hauch.css"
MADE_ELSEWHERE = re.compile(r"m[0-7]|errorlist|htmx-request|vg-tooltip-element")
"""Classes and ids that Python, Django, htmx or the charts put together."""


class StyleTests(unittest.TestCase):
    def test_every_class_and_id_is_used(self):
        sheet = re.sub(r"/\*.*?\*/", "", SHEET.read_text(encoding="utf-8"), flags=re.DOTALL)
        named = {
            name
            for selector in re.findall(r"([^{}]+)\{", sheet)
            for name in re.findall(r"[.#]([a-zA-Z][\w-]*)", selector)
        }
        used: set[str] = set()
        for path in SOURCE.rglob("*"):
            if path.suffix in {".html", ".js", ".py"} and "vendor" not in path.parts:
                used |= set(re.findall(r"[\w-]+", path.read_text(encoding="utf-8")))
        self.assertEqual(sorted(n for n in named - used if not MADE_ELSEWHERE.fullmatch(n)), [])
