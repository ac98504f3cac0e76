"""The generator: watertight solids with the volumes and sizes that their figures say; profiles;
drawings of the Desk.
"""

import io
import math
import time

import numpy as np
import trimesh
from django.test import SimpleTestCase

from hauch.core.geometry.profiles import neck_radius, ring_profile, turn_area
from hauch.core.geometry.solids import (
    Hub,
    bell_mouth_solid,
    blade_depth,
    blade_rings,
    branch_paths,
    impeller_solid,
    ring_solid,
    rotor_solid,
    silencer_solid,
    splitter_solid,
)
from hauch.core.predict.duct import Branch, Splitter
from hauch.core.predict.model import CannotBe
from hauch.core.predict.ring import Ring
from hauch.core.predict.silencer import Chamber, PerforatedTube, QuarterWave
from hauch.desk.tools import TOOLS
from hauch.formats import mesh
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg
from tests.core.test_predict_rotor import ROW, ImpellerTests

RING = Ring(0.1788, 0.0012, 0.18, 0.19, 0.08, 0.05, wall=0.0016)


class SolidTests(SimpleTestCase):
    def closed(self, solid, bodies=1):
        self.assertTrue(solid.is_watertight)
        self.assertTrue(solid.is_winding_consistent)
        self.assertGreater(solid.volume, 0)
        self.assertEqual(solid.body_count, bodies)
        return solid

    def test_the_rotor_is_as_large_as_its_tip_and_stays_in_its_bore(self):
        solid = self.closed(rotor_solid(ROW, Hub()))
        radius = np.hypot(solid.vertices[:, 0], solid.vertices[:, 1]).max()
        self.assertAlmostEqual(radius, ROW.tip / 2, delta=1e-5)
        low, high = blade_depth(ROW)
        self.assertAlmostEqual(solid.bounds[1][2], max(high, 0.01), delta=3e-4)
        self.assertAlmostEqual(solid.bounds[0][2], min(low, -0.01), delta=3e-4)

    def test_the_rotors_volume_is_that_of_hub_and_blades(self):
        hub = Hub(0.004, 0.0016, 0.02)
        solid = rotor_solid(ROW, hub)
        cup = math.pi * (0.025**2 * 0.02 - 0.0234**2 * 0.0184)
        boss = (
            math.pi * (0.004**2 * 0.016 - 0.002**2 * 0.016)
            - math.pi * (0.004**2 - 0.002**2) * 0.0016
        )
        at = ROW.stations(200)
        blades = 7 * float((at.section_area * at.width).sum())
        self.assertAlmostEqual(
            solid.volume / (cup + boss - math.pi * 0.002**2 * 0.0016 + blades), 1.0, delta=0.012
        )

    def test_seven_blades_turn_into_one_another(self):
        solid = rotor_solid(ROW, Hub())
        self.assertLess(np.abs(solid.center_mass[:2]).max(), 1e-5)  # balanced by its symmetry

    def test_the_convex_side_meets_the_air_and_the_nose_leads(self):
        ring = blade_rings(ROW, 3, 17)[
            1
        ]  # half way up the blade: tail, upper side, nose at 16, lower side
        tail, nose = ring[0], ring[16]
        self.assertLess(nose[2], tail[2])  # the air comes from below
        middle = (ring[8] + ring[24]) / 2
        self.assertLess(middle[2], (nose[2] + tail[2]) / 2)

    def test_sixty_thousand_triangles_in_two_seconds(self):
        rotor_solid(ROW, Hub(), 10, 9)
        start = time.perf_counter()
        solid = rotor_solid(ROW, Hub(), 72, 31)
        self.assertGreater(len(solid.faces), 60_000)
        self.assertLess(
            time.perf_counter() - start, 8.0
        )  # 2 s in the benchmark; here only against a slip by far

    def test_the_ring_has_its_slot_all_around(self):
        solid = self.closed(ring_solid(RING))
        shape = ring_profile(RING)
        self.assertAlmostEqual(solid.bounds[1][0], shape.outer_radius, delta=1e-4)
        section = solid.section(plane_origin=(0, 0, shape.slot_end - 1e-3), plane_normal=(0, 0, 1))
        circles = sorted({round(float(np.hypot(*p.T[:2]).mean()), 4) for p in section.discrete})
        self.assertTrue(any(abs(c - RING.throat / 2) < 2e-4 for c in circles), circles)
        self.assertTrue(
            any(abs(c - (RING.throat / 2 - RING.slot)) < 2e-4 for c in circles), circles
        )

    def test_the_rings_volume_is_its_profiles_and_its_neck(self):
        shape = ring_profile(RING)
        solid = ring_solid(RING, 0.05)
        turned = turn_area(shape.solid) - turn_area(shape.hollow)
        bore = neck_radius(RING)
        neck = math.pi * ((bore + RING.wall) ** 2 - bore**2) * 0.05
        self.assertAlmostEqual(solid.volume / (turned + neck), 1.0, delta=0.06)

    def test_bell_mouth_by_pappus(self):
        solid = self.closed(bell_mouth_solid(0.06, 0.015, 0.02, 0.0016, 0.0))
        self.assertAlmostEqual(solid.bounds[1][2], 0.035, delta=1e-6)
        inner = np.hypot(*solid.vertices[:, :2].T).min()
        self.assertAlmostEqual(inner, 0.03, delta=1e-5)

    def test_silencers_hold_the_air_that_they_are_computed_with(self):
        part = Chamber(0.04, 0.09, 0.12)
        solid = self.closed(silencer_solid(part, 0.0016, 0.03))
        outer = math.pi / 4 * (0.0932**2 * 0.1232 + 0.0432**2 * 0.06)
        air = math.pi / 4 * (0.09**2 * 0.12 + 0.04**2 * (0.06 + 0.0032))
        self.assertAlmostEqual(solid.volume / (outer - air), 1.0, delta=0.01)
        self.closed(silencer_solid(QuarterWave(0.05, 0.03, 0.13)))
        perforated = PerforatedTube(0.04, 0.09, 0.08, 0.003, 0.0016, 0.05)
        with_holes = self.closed(silencer_solid(perforated))
        nearly_closed = silencer_solid(PerforatedTube(0.04, 0.09, 0.08, 0.003, 0.0016, 0.0008))
        removed = nearly_closed.volume - with_holes.volume
        self.assertAlmostEqual(
            removed / (0.0492 * math.pi * 0.0416 * 0.08 * 0.0016), 1.0, delta=0.15
        )

    def test_duct_and_wheel(self):
        duct = Splitter(
            0.06,
            0.05,
            0.1,
            (
                Branch("a", 0.03, 0.03, 0.15, 0.6, 1.5, 0.6, 6e-4),
                Branch("b", 0.03, 0.03, 0.1, 0, 1.5, 0, 6e-4),
                Branch("c", 0.03, 0.03, 0.15, 0.6, 1.5, 0.6, 6e-4),
            ),
        )
        solid = self.closed(splitter_solid(duct))
        self.assertAlmostEqual(solid.bounds[0][0], -solid.bounds[1][0], delta=1e-6)  # symmetrical
        ends = [path[-1] for path in branch_paths(duct)]
        self.assertAlmostEqual(ends[0][2], 0.0, delta=1e-9)  # bent back by as much as it leaves
        self.assertGreater(ends[0][0], 0)
        wheel = self.closed(impeller_solid(ImpellerTests.WHEEL))
        self.assertAlmostEqual(wheel.bounds[1][0], 0.05, delta=1e-4)

    def test_what_cannot_be_made(self):
        for act in (
            lambda: rotor_solid(ROW, Hub(shaft=0.05)),
            lambda: rotor_solid(ROW, Hub(wall=-0.001)),
            lambda: rotor_solid(ROW, Hub(depth=0.001)),
            lambda: silencer_solid(Chamber(0.04, 0.09, 0.1), wall=0.0),
            lambda: ring_solid(Ring(0.18, 0.1, 0.18, 0.19, 0.08, 0.05)),
            lambda: ring_solid(Ring(0.1788, 0.0012, 0.18, 0.19, 0.01, 0.05, wall=0.003)),
            lambda: silencer_solid(PerforatedTube(0.1, 0.2, 0.5, 0.001, 0.001, 0.4)),
        ):
            with self.assertRaises(CannotBe):
                act()

    def test_every_tools_start_is_a_closed_part(self):
        for key, tool in TOOLS.items():
            if tool.solid is not None:
                with self.subTest(key):
                    self.closed(tool.solid(tool.start()))

    def test_whatever_is_asked_gives_a_closed_part_or_a_sentence(self):
        """Random figures within what the tools take, seeded."""
        random = np.random.default_rng(11)
        made = refused = 0
        for key, tool in TOOLS.items():
            for _ in range(12):
                values = tool.start()
                for item in tool.inputs:
                    if item.kind not in {"choice", "count"} and random.random() < 0.5:
                        shaken = [
                            float(np.clip(v * random.uniform(0.4, 2.0), item.low, item.high))
                            for v in (values[item.key] if item.points > 1 else [values[item.key]])
                        ]
                        values[item.key] = shaken if item.points > 1 else shaken[0]
                with self.subTest(key, values=values):
                    try:
                        answer = tool.answer(values)
                        self.assertTrue("nan" not in to_svg(answer.drawing, str))
                        if tool.solid is not None:
                            self.assertTrue(tool.solid(values).is_watertight)
                        made += 1
                    except CannotBe as problem:
                        self.assertTrue(all(len(text) > 10 for text in problem.problems.values()))
                        refused += 1
        self.assertGreater(made, 40)
        self.assertGreater(refused, 3)


class FilesTests(SimpleTestCase):
    def test_stl_and_3mf_are_read_back_in_millimetres(self):
        solid = silencer_solid(Chamber(0.04, 0.09, 0.12))
        for kind, data in (("stl", mesh.to_stl(solid)), ("3mf", mesh.to_3mf(solid, "Chamber"))):
            back = trimesh.load(io.BytesIO(data), file_type=kind, force="mesh")
            self.assertAlmostEqual(back.volume / solid.volume / 1e9, 1.0, places=4)
            self.assertTrue(back.is_watertight, kind)

    def test_the_picture_is_a_png_with_the_part_in_it(self):
        from PIL import Image

        image = Image.open(io.BytesIO(mesh.picture(rotor_solid(ROW, Hub(), 12, 11), 200, 140)))
        self.assertEqual((image.format, image.size), ("PNG", (200, 140)))
        covered = np.asarray(image)[:, :, 3] > 0
        self.assertTrue(0.15 < covered.mean() < 0.9, covered.mean())


class DrawingTests(SimpleTestCase):
    def test_every_tool_draws_and_its_drawing_goes_to_svg_and_dxf(self):
        for key, tool in TOOLS.items():
            with self.subTest(key):
                drawing = tool.answer(tool.start()).drawing
                svg = to_svg(drawing, lambda m: f"{1000 * m:.4g} mm")
                self.assertTrue(svg.startswith("<svg"))
                self.assertTrue("nan" not in svg)
                self.assertTrue(b"SECTION" in to_dxf(drawing))

    def test_arrows_are_as_wide_as_the_flows(self):
        tool = TOOLS["duct"]
        answer = tool.answer(tool.start())
        wide = [a.width for a in answer.drawing.arrows if a.width]
        self.assertAlmostEqual(wide[0], sum(wide[1:]), places=9)

    def test_stalled_sections_are_marked(self):
        tool = TOOLS["rotor"]
        values = tool.start() | {"system_pressure": 200.0}
        layers = [p.layer for p in tool.answer(values).drawing.paths]
        self.assertIn("stalled", layers)
        self.assertNotIn("stalled", [p.layer for p in tool.answer(tool.start()).drawing.paths])
