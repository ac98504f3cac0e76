"""Drawings: dimensions stand clear of what they measure, and say which field they belong to."""

from __future__ import annotations

import io
import re
import unittest
from xml.etree import ElementTree

import ezdxf
import numpy as np

from hauch.core.geometry.drawing import Dimension, Drawing
from hauch.core.geometry.envelope import PARTS, Envelope, envelope_drawing
from hauch.core.measure.rigs import RIGS, rig_drawing
from hauch.desk.tools import TOOLS
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg

SVG = "{http://www.w3.org/2000/svg}"
FILLED = {"body", "hollow", "stalled", "heat"}


def mm(metres: float) -> str:
    return f"{1000 * metres:.4g} mm"


def ezdxf_dimensions(data: bytes) -> int:
    return len(ezdxf.read(io.StringIO(data.decode())).modelspace().query("DIMENSION"))


def inside(x: float, y: float, points: list[tuple[float, float]]) -> bool:
    """Ray casting (Shimrat 1962)."""
    found = False
    for (x0, y0), (x1, y1) in zip(points, [*points[1:], points[0]], strict=True):
        if (y0 > y) != (y1 > y) and x < x0 + (y - y0) / (y1 - y0) * (x1 - x0):
            found = not found
    return found


def lines_of(root: ElementTree.Element) -> list[np.ndarray]:
    """Points on the line of each dimension, without its ends."""
    found = []
    for group in root.iter(f"{SVG}g"):
        text = group.find(f"{SVG}path").attrib["d"]
        x, y, way, to = re.search(r"M(\S+) (\S+?)([HV])([^HVM]+)$", text).groups()
        x, y, to = float(x), float(y), float(to)
        along = np.linspace(0.02, 0.98, 49)[:, None]
        end = (to, y) if way == "H" else (x, to)
        found.append(np.array([x, y]) * (1 - along) + np.array(end) * along)
    return found


class ClearTests(unittest.TestCase):
    def drawings(self):
        for key, tool in TOOLS.items():
            yield key, tool.answer(tool.start(), None).drawing
        for key, kind in RIGS.items():
            yield key, rig_drawing(kind, {})
        for key in PARTS:
            yield key, envelope_drawing(Envelope.from_json(key, {}))

    def test_no_dimension_lies_in_a_part_or_outside_the_picture(self):
        count = 0
        for key, drawing in self.drawings():
            with self.subTest(key):
                root = ElementTree.fromstring(to_svg(drawing, mm))
                x0, y0, width, height = (float(v) for v in root.attrib["viewBox"].split())
                shapes = [
                    [tuple(map(float, p.split(","))) for p in one.attrib["points"].split()]
                    for one in root.iter(f"{SVG}polygon")
                    if one.attrib["class"] in FILLED
                ]
                for line in lines_of(root):
                    count += 1
                    low, high = line.min(axis=0), line.max(axis=0)
                    self.assertTrue(low[0] >= x0 and low[1] >= y0)
                    self.assertTrue(high[0] <= x0 + width and high[1] <= y0 + height)
                    hit = [p for p in line for shape in shapes if inside(*p, shape)]
                    self.assertEqual(hit, [])
        self.assertGreater(count, 30)

    def test_what_is_in_the_way_moves_it_out_and_not_into_another(self):
        d = Drawing("x")
        d.box(0, 0, 1, 1, "body")
        d.box(-0.2, -0.15, 1.4, 0.1, "body")  # below the first level
        d.dimensions += [
            Dimension((0, 0), (1, 0), "below", 1.0),
            Dimension((0.2, 0), (0.8, 0), "below", 0.6),
        ]
        lines = lines_of(ElementTree.fromstring(to_svg(d, mm, 400, 400)))
        places = [line[0, 1] for line in lines]
        bars = [
            max(float(p.split(",")[1]) for p in one.attrib["points"].split())
            for one in ElementTree.fromstring(to_svg(d, mm, 400, 400)).iter(f"{SVG}polygon")
            if one.attrib["class"] == "body"
        ]
        self.assertGreater(min(places), max(bars))
        self.assertGreaterEqual(abs(places[0] - places[1]), 23)

    def test_each_says_its_field_and_those_of_a_field_are_in_no_file(self):
        for key, tool in TOOLS.items():
            with self.subTest(key):
                drawing = tool.answer(tool.start(), None).drawing
                fields = {item.key for item in tool.inputs} | {
                    f"{rows.key}_{i}" for rows in tool.rows for i in range(rows.most)
                }
                named = [d.of for d in (*drawing.dimensions, *drawing.paths) if d.of]
                self.assertTrue(set(named) <= fields, set(named) - fields)
        rotor = TOOLS["rotor"].answer(TOOLS["rotor"].start(), None).drawing
        self.assertIn("dimension quiet", to_svg(rotor, mm))
        self.assertNotIn("dimension quiet", to_svg(rotor, mm, alone=True))
        loud = sum(not one.quiet for one in rotor.dimensions)
        self.assertEqual(ezdxf_dimensions(to_dxf(rotor)), loud)
