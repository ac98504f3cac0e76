"""Kinds of rigs, envelopes and their drawings."""

import io
import math
import re
import unittest
from xml.etree import ElementTree

import ezdxf
import trimesh

from hauch.core.geometry.envelope import (
    PARTS,
    Box,
    Envelope,
    KeepOut,
    envelope_drawing,
    reference_bodies,
)
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import PROCEDURES, channels_of
from hauch.core.measure.rigs import RIGS, check_constants, rig_drawing
from hauch.core.quantity.units import KINDS
from hauch.formats import solid
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg


def mm(value):
    return f"{1000 * value:g} mm"


def envelope(part="rotor", keep_outs=(), **changed):
    start = Envelope.from_json(part, {})
    return Envelope(part, {**start.values, **changed}, tuple(keep_outs))


def metered(group):
    """Channels of a group that a meter of the rig shows; the others come out of a recording."""
    return {channel for channel in group if not CHANNELS[channel].computed}


class RigTests(unittest.TestCase):
    def test_every_kind_is_whole(self):
        for kind in RIGS.values():
            with self.subTest(kind.key):
                self.assertTrue(set(kind.channels) <= set(CHANNELS))
                self.assertTrue({c.kind for c in kind.constants} <= set(KINDS))
                self.assertTrue(kind.what.endswith("."))
                self.assertTrue(kind.caution)
                for constant in kind.constants:
                    self.assertFalse(
                        constant.typical < constant.low or constant.typical > constant.high,
                        constant.key,
                    )

    def test_every_procedure_has_its_rig_and_channels(self):
        for procedure in PROCEDURES.values():
            with self.subTest(procedure.key):
                rig = RIGS[procedure.rig]
                self.assertTrue(
                    any(metered(group) <= set(rig.channels) for group in procedure.needs)
                )
                self.assertTrue(set(channels_of(procedure)) <= set(CHANNELS))
                self.assertEqual(procedure.places, rig.constant("places") is not None)

    def test_what_cannot_be(self):
        for kind, constants, key, words in (
            ("tunnel", {}, "bore", "is missing"),
            ("tunnel", {"bore": (-0.1, 0.0)}, "bore", "cannot be"),
            ("tunnel", {"bore": (125.0, 0.0)}, "bore", "Check the sign"),
            (
                "tunnel",
                {"bore": (0.1, 0.0), "length": (1.0, 0.0), "sensor_at": (1.2, 0.0)},
                "sensor_at",
                "beyond the end",
            ),
            (
                "tunnel",
                {"bore": (0.1, 0.0), "straightener_at": (0.9, 0.0), "sensor_at": (0.8, 0.0)},
                "straightener_at",
                "behind the sensor",
            ),
            (
                "tunnel",
                {
                    "bore": (0.1, 0.0),
                    "straightener_at": (0.7, 0.0),
                    "straightener_length": (0.2, 0.0),
                    "sensor_at": (0.8, 0.0),
                },
                "straightener_length",
                "reaches over",
            ),
            ("tunnel", {"bore": (0.1, 0.08)}, "bore", "more than half"),
            ("tunnel", {"bore": (0.1, -0.01)}, "bore", "uncertainty of -0.01 cannot be"),
            ("tunnel", {"bore": (math.nan, 0.0)}, "bore", "not a number"),
            ("tunnel", {"bore": (0.1, 0.0), "aura": (1.0, 0.0)}, "aura", "no constant"),
            (
                "flow_bench",
                {"orifice": (0.1, 0.0), "pipe": (0.1, 0.0), "orifice_coefficient": (0.6, 0.0)},
                "orifice",
                "as wide as its pipe",
            ),
            ("panel", {"places": (2.5, 0.0)}, "places", "not a whole number"),
        ):
            with self.subTest(kind, key=key):
                self.assertRegex(check_constants(RIGS[kind], constants)[key], words)

    def test_a_good_rig_has_no_problem(self):
        good = {
            "bore": (0.1252, 0.0001),
            "length": (1.6, 0.002),
            "straightener_at": (0.4, 0.0),
            "straightener_length": (0.08, 0.0),
            "sensor_at": (1.2, 0.0),
        }
        self.assertEqual(check_constants(RIGS["tunnel"], good), {})

    def test_typical_sizes_stand_together(self):
        for kind in RIGS.values():
            typical = {c.key: (c.typical, 0.0) for c in kind.constants if not math.isnan(c.typical)}
            with self.subTest(kind.key):
                self.assertEqual(
                    {k: v for k, v in check_constants(kind, typical).items() if "missing" not in v},
                    {},
                )


class RigDrawingTests(unittest.TestCase):
    def test_every_kind_shows_its_sensors(self):
        for kind in RIGS.values():
            with self.subTest(kind.key):
                drawing = rig_drawing(kind, {})
                letters = [sensor.letter for sensor in drawing.sensors]
                self.assertEqual(letters, sorted(set(letters)))
                labels = {CHANNELS[channel].label for channel in kind.channels}
                self.assertTrue({sensor.label for sensor in drawing.sensors} <= labels)
                root = ElementTree.fromstring(to_svg(drawing, mm))
                self.assertIn("sensors:", root.attrib["aria-label"])

    def test_it_is_to_scale(self):
        """A sensor at three quarters of the tube is drawn at three quarters of it."""
        drawing = rig_drawing(
            RIGS["tunnel"], {"bore": (0.2, 0.0), "length": (2.0, 0.0), "sensor_at": (1.5, 0.0)}
        )
        self.assertEqual(next(s.at for s in drawing.sensors if s.label == "Air speed"), (1.5, 0))
        top = drawing.paths[0].points
        self.assertAlmostEqual(top[1][0] - top[0][0], 2.0)

    def test_what_is_not_known_is_marked(self):
        svg = to_svg(rig_drawing(RIGS["tunnel"], {"bore": (0.2, 0.0)}), mm)
        self.assertIn(">⌀ 200 mm<", svg)
        self.assertIn("≈ 1500 mm", svg)

    def test_all_places_of_a_grid_are_drawn(self):
        for places in (1, 7, 9, 12):
            drawing = rig_drawing(RIGS["free_room"], {"places": (float(places), 0.0)})
            self.assertEqual(len(drawing.circles), places)

    def test_text_stays_in_the_picture(self):
        for kind in RIGS:
            root = ElementTree.fromstring(to_svg(rig_drawing(RIGS[kind], {}), mm, 600, 300))
            x0, y0, width, height = (float(v) for v in root.attrib["viewBox"].split())
            for text in root.iter("{http://www.w3.org/2000/svg}text"):
                x, y = float(text.attrib["x"]), float(text.attrib["y"])
                self.assertTrue(x0 <= x <= x0 + width and y0 <= y <= y0 + height, (kind, text.text))


class EnvelopeTests(unittest.TestCase):
    def test_the_start_of_every_part_can_be(self):
        for part in PARTS:
            with self.subTest(part):
                self.assertEqual(envelope(part).problems(), {})

    def test_what_cannot_be(self):
        for part, changed, key, words in (
            ("rotor", {"bore": -0.1}, "bore", "cannot be"),
            ("rotor", {"hub": 0.137}, "hub", "larger than the bore"),
            ("rotor", {"bore": 0.141}, "bore", "do not fit the mounting square"),
            ("rotor", {"hole_pitch": 0.139}, "hole_pitch", "run out of"),
            ("rotor", {"hole_pitch": 0.09}, "hole_pitch", "cut into the bore"),
            ("rotor", {"tip_gap": 0.05}, "tip_gap", "no room for blades"),
            ("rotor", {"shaft": 0.04}, "shaft", "leaves no wall"),
            ("rotor", {"bore": math.nan}, "bore", "is missing"),
            ("duct", {"width": 0.1}, "width", "narrower than the bore"),
            ("ring", {"opening": 0.26}, "opening", "leaves no ring"),
            ("ring", {"neck": 0.3}, "neck", "wider than the ring"),
            ("ring", {"neck_drop": 0.1}, "neck_drop", "inside the ring"),
        ):
            with self.subTest(part, **changed):
                self.assertRegex(envelope(part, **changed).problems()[key], words)

    def test_keep_outs(self):
        rail, beam = (
            KeepOut("rail", Box((0.08, 0, 0), (0.02, 0.1, 0.1))),
            KeepOut("beam", Box((0.09, 0.05, 0.05), (0.05, 0.1, 0.1))),
        )
        self.assertRegex(
            envelope(keep_outs=[rail, beam]).problems()["keep_out_1"], "“rail” and “beam” overlap"
        )
        beside = KeepOut(
            "beam", Box((0.10, 0.05, 0.05), (0.05, 0.1, 0.1))
        )  # touches, and that is allowed
        self.assertEqual(envelope(keep_outs=[rail, beside]).problems(), {})
        self.assertRegex(
            envelope(keep_outs=[KeepOut("flat", Box((0.1, 0, 0), (0, 0.1, 0.1)))]).problems()[
                "keep_out_0"
            ],
            "side of 0 mm",
        )
        self.assertRegex(
            envelope(keep_outs=[KeepOut("plug", Box((0, 0, 0), (0.02, 0.02, 0.02)))]).problems()[
                "keep_out_0"
            ],
            "reaches into the bore",
        )
        broken = KeepOut("torn", Box((math.nan, 0, 0), (1, 1, 1)))
        self.assertRegex(
            envelope(keep_outs=[broken]).problems()["keep_out_0"], "a number is missing"
        )

    def test_overlap_is_symmetric(self):
        a, b = Box((0, 0, 0), (2, 2, 2)), Box((1, 1, 1), (2, 2, 2))
        self.assertTrue(a.overlaps(b) and b.overlaps(a) and a.overlaps(a))
        self.assertFalse(a.overlaps(Box((2, 0, 0), (1, 1, 1))))

    def test_round_trip(self):
        one = envelope("duct", [KeepOut("rail", Box((0.2, 0, 0), (0.02, 0.1, 0.1)))], bore=0.12)
        self.assertEqual(Envelope.from_json("duct", one.as_json()), one)
        with self.assertRaisesRegex(ValueError, "cannot be read"):
            Envelope.from_json("duct", {"keep_outs": [{"name": "x"}]})


class EnvelopeFileTests(unittest.TestCase):
    def frame(self):
        """Volume of the start rotor's frame by hand [m3]: square less bore less four holes, 26 mm
        deep.
        """
        return (0.140**2 - math.pi / 4 * 0.136**2 - 4 * math.pi / 4 * 0.0043**2) * 0.026

    def test_solid_has_the_volume_worked_by_hand(self):
        frame, shaft = reference_bodies(envelope())
        self.assertAlmostEqual(solid.volume([frame]) / self.frame(), 1.0, places=6)
        self.assertAlmostEqual(
            solid.volume([shaft]) / (math.pi / 4 * 0.004**2 * 0.026), 1.0, places=6
        )

    def test_stl_is_watertight_and_in_millimetres(self):
        for part in PARTS:
            bodies = reference_bodies(
                envelope(part, [KeepOut("rail", Box((0.3, 0, 0), (0.02, 0.1, 0.1)))])
            )
            mesh = trimesh.load(io.BytesIO(solid.to_stl(bodies)), file_type="stl")
            with self.subTest(part):
                self.assertTrue(mesh.is_watertight)
                self.assertAlmostEqual(mesh.volume / 1e9 / solid.volume(bodies), 1.0, delta=0.002)

    def test_step_holds_each_body_as_a_solid(self):
        bodies = reference_bodies(
            envelope(keep_outs=[KeepOut("rail", Box((0.3, 0, 0), (0.02, 0.1, 0.1)))])
        )
        text = solid.to_step(bodies, "rotor-envelope").decode()
        self.assertTrue(text.startswith("ISO-10303-21"))
        self.assertEqual(len(re.findall(r"MANIFOLD_SOLID_BREP\(", text)), 3)
        self.assertTrue(".MILLI.,.METRE." in text)
        self.assertTrue("FILE_NAME('rotor-envelope'" in text and "PRODUCT('rotor-envelope" in text)

    def test_dxf_is_in_millimetres_with_layers_and_dimensions(self):
        document = ezdxf.read(io.StringIO(to_dxf(envelope_drawing(envelope())).decode()))
        self.assertEqual(document.units, ezdxf.units.MM)
        radii = {round(circle.dxf.radius, 6) for circle in document.modelspace().query("CIRCLE")}
        self.assertTrue({68.0, 67.2, 2.15, 20.0, 2.0} <= radii)
        self.assertGreater(len(document.modelspace().query("DIMENSION")), 6)
        measured = {round(d.get_measurement(), 4) for d in document.modelspace().query("DIMENSION")}
        self.assertTrue({140.0, 136.0, 26.0, 124.5} <= measured)

    def test_svg_is_well_formed_and_escapes(self):
        one = envelope(keep_outs=[KeepOut("<script>&", Box((0.1, 0, 0), (0.02, 0.1, 0.1)))])
        for alone in (False, True):
            text = to_svg(envelope_drawing(one), mm, alone=alone)
            ElementTree.fromstring(text)
            self.assertNotIn("<script>", text)
            self.assertEqual("<style>" in text, alone)

    def test_units_reach_the_drawing(self):
        self.assertIn(
            "5.512 in", to_svg(envelope_drawing(envelope()), lambda v: f"{v / 0.0254:.4g} in")
        )
