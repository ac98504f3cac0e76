"""What must not depend on how a part lies, how it is written, or how finely it is faceted."""

from __future__ import annotations

import math
import unittest
from dataclasses import replace

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.geometry.envelope import Envelope
from hauch.core.part.blades import measure_blades
from hauch.core.part.findings import CheckInput
from hauch.core.part.pose import (
    FILE_TURNS,
    UNITS,
    guess_unit,
    place_rotor,
    spin_direction,
    turn_to_z,
)
from hauch.core.part.pose_box import place_in_box
from hauch.core.part.printing import USUAL, annealing, print_figures
from hauch.core.part.rays import Caster, sample, walls
from hauch.core.part.report import check
from hauch.core.part.sections import cylinder_cuts, plane_cuts, shoelace
from hauch.core.part.size import mass_figures
from hauch.core.part.soundness import edges_of, facing, look, mend
from hauch.core.strength.material import MATERIALS
from tests.core.test_part_figures import part

ROTOR = Envelope.from_json("rotor", {"values": {"shaft": 0.005, "tip_gap": 0.0004}})
SMALL = part("name with ü & <script>.stl")


def turned(mesh: trimesh.Trimesh, angles: tuple[float, float, float]) -> trimesh.Trimesh:
    made = mesh.copy()
    made.apply_transform(trimesh.transformations.euler_matrix(*angles))
    return made


class Turning(unittest.TestCase):
    @given(st.tuples(*[st.floats(-3.1, 3.1)] * 3))
    @settings(max_examples=12, deadline=None)
    def test_mass_figures_turn_with_the_part(self, angles):
        before, after = mass_figures(SMALL), mass_figures(turned(SMALL, angles))
        self.assertAlmostEqual(after.volume / before.volume, 1, delta=1e-9)
        np.testing.assert_allclose(
            np.linalg.eigvalsh(after.inertia), np.linalg.eigvalsh(before.inertia), rtol=1e-6
        )

    @given(st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.1))
    @settings(max_examples=40, deadline=None)
    def test_a_direction_is_brought_to_z_by_a_rotation(self, axis):
        matrix = turn_to_z(np.array(axis))
        np.testing.assert_allclose(matrix @ matrix.T, np.eye(3), atol=1e-12)
        self.assertAlmostEqual(float(np.linalg.det(matrix)), 1.0)
        np.testing.assert_allclose(
            matrix @ np.array(axis) / np.linalg.norm(axis), [0, 0, 1], atol=1e-12
        )

    def test_turns_of_file_axes_are_rotations(self):
        for name, matrix in FILE_TURNS.items():
            with self.subTest(name):
                self.assertAlmostEqual(float(np.linalg.det(matrix)), 1.0)
                axis = np.zeros(3)
                axis["xyz".index(name[-1])] = -1.0 if name.startswith("-") else 1.0
                np.testing.assert_allclose(matrix @ axis, [0, 0, 1])

    def test_a_rotor_is_the_same_however_it_lies(self):
        """Blades, sweep and depth do not change when the part is laid along another file axis and
        moved.
        """
        mesh = part("rotor_unbalanced.stl")
        found = []
        for matrix in (np.eye(3), FILE_TURNS["x"].T, FILE_TURNS["y"].T, FILE_TURNS["-z"].T):
            other = mesh.copy()
            pose = np.eye(4)
            pose[:3, :3], pose[:3, 3] = matrix, (11.0, -5.0, 40.0)
            other.apply_transform(pose)
            placed = place_rotor(other, ROTOR, *spin_direction(mass_figures(other).inertia))
            blades = measure_blades(placed.mesh)
            found.append(
                (
                    blades.count,
                    round(blades.tip, 2),
                    round(float(placed.mesh.extents[2]), 2),
                    round(math.degrees(blades.stations[10].pitch), 1),
                )
            )
            self.assertEqual(placed.misfits, ())
        self.assertEqual(len(set(found)), 1, found)

    def test_a_long_part_finds_its_place_from_each_of_its_sides(self):
        narrow = Envelope.from_json(
            "duct",
            {
                "values": {
                    "width": 0.06,
                    "height": 0.04,
                    "length": 0.2,
                    "bore": 0.03,
                    "mount_square": 0.05,
                    "hole_pitch": 0.04,
                }
            },
        )
        for order in (
            (50.0, 30.0, 150.0),
            (150.0, 50.0, 30.0),
            (30.0, 150.0, 50.0),
            (50.0, 150.0, 30.0),
        ):
            with self.subTest(order):
                self.assertEqual(place_in_box(trimesh.creation.box(order), narrow).misfits, ())

    def test_said_axes_are_obeyed_even_where_another_would_fit(self):
        envelope = Envelope.from_json("duct", {})
        found = place_in_box(trimesh.creation.box((220.0, 20, 20)), envelope, "x")
        self.assertEqual(len(found.misfits), 1)
        self.assertIn("far end", found.misfits[0])
        with self.assertRaisesRegex(ValueError, "no axis"):
            place_in_box(trimesh.creation.box((20.0, 20, 20)), envelope, "w")


class Writing(unittest.TestCase):
    @given(st.integers(0, 10_000))
    @settings(max_examples=15, deadline=None)
    def test_order_of_faces_and_corners_is_irrelevant(self, seed):
        rng = np.random.default_rng(seed)
        order, names = rng.permutation(len(SMALL.faces)), rng.permutation(len(SMALL.vertices))
        back = np.argsort(names)
        other = trimesh.Trimesh(SMALL.vertices[names], back[SMALL.faces[order]], process=False)
        first, second = look(SMALL)[0], look(other)[0]
        self.assertEqual(
            (first.triangles, first.open_edges, first.flipped),
            (second.triangles, second.open_edges, second.flipped),
        )
        self.assertAlmostEqual(
            mass_figures(other).volume / mass_figures(SMALL).volume, 1, delta=1e-9
        )

    @given(st.integers(1, 500), st.integers(0, 10_000))
    @settings(max_examples=20, deadline=None)
    def test_whichever_faces_are_flipped_they_are_found(self, count, seed):
        wrong = np.random.default_rng(seed).choice(len(SMALL.faces), count, replace=False)
        faces = SMALL.faces.copy()
        faces[wrong] = faces[wrong][:, ::-1]
        made = mend(trimesh.Trimesh(SMALL.vertices, faces, process=False))
        self.assertAlmostEqual(made.mesh.volume, SMALL.volume)
        self.assertTrue(look(made.mesh)[0].watertight)

    @given(st.integers(0, 10_000))
    @settings(max_examples=15, deadline=None)
    def test_a_missing_face_anywhere_is_closed(self, seed):
        gone = int(np.random.default_rng(seed).integers(len(SMALL.faces)))
        made = mend(
            trimesh.Trimesh(SMALL.vertices, np.delete(SMALL.faces, gone, axis=0), process=False)
        )
        self.assertFalse(made.left)
        self.assertAlmostEqual(made.mesh.volume, SMALL.volume, delta=1e-6 * SMALL.volume)

    def test_edges_of_a_closed_mesh_are_three_halves_of_its_faces(self):
        edges = edges_of(np.asarray(SMALL.faces, np.int64), len(SMALL.vertices))
        self.assertEqual(2 * len(edges.first), 3 * len(SMALL.faces))
        self.assertTrue(edges.alike.all())
        label, turned_ = facing(edges, len(SMALL.faces))
        self.assertEqual((label.max(), turned_.any()), (0, False))

    def test_degenerate_faces_are_counted(self):
        faces = np.vstack([SMALL.faces, [[0, 1, 1]]])
        self.assertEqual(
            look(trimesh.Trimesh(SMALL.vertices, faces, process=False))[0].degenerate, 1
        )


class Faceting(unittest.TestCase):
    def test_figures_of_a_cylinder_converge_from_few_facets(self):
        """V = pi r2 h; flat facets lose 1.6 % with 20 sides, the curved figures 0.1 % at most."""
        exact = math.pi * 100 * 8
        for sides in (20, 40, 80):
            with self.subTest(sides):
                mesh = trimesh.creation.cylinder(radius=10, height=8, sections=sides)
                self.assertAlmostEqual(mass_figures(mesh).volume / exact, 1, delta=0.0012)
        self.assertLess(
            mass_figures(
                trimesh.creation.cylinder(radius=10, height=8, sections=20), curved=False
            ).volume
            / exact,
            0.985,
        )

    def test_a_column_with_corners_keeps_them(self):
        """Six and eight sides meet at 60 and 45 degrees: they are meant."""
        for sides in (6, 8):
            column = trimesh.creation.cylinder(radius=10, height=8, sections=sides)
            self.assertAlmostEqual(mass_figures(column).facets, 0.0)

    def test_hollows_are_taken_off(self):
        """A tube's inner facets cut into the bore: the true volume is less there and more outside."""
        tube = trimesh.creation.annulus(r_min=9, r_max=10, height=5, sections=30)
        exact = math.pi * 19 * 5
        self.assertAlmostEqual(mass_figures(tube).volume / exact, 1, delta=0.0012)

    def test_a_torus(self):
        """V = 2 pi2 R r2, curved both ways."""
        torus = trimesh.creation.torus(
            major_radius=20, minor_radius=5, major_sections=48, minor_sections=24
        )
        self.assertAlmostEqual(
            mass_figures(torus).volume / (2 * math.pi**2 * 20 * 25), 1, delta=0.002
        )


class Cutting(unittest.TestCase):
    @given(st.floats(-3.9, 3.9))
    @settings(max_examples=20, deadline=None)
    def test_areas_of_cuts_add_up_to_the_sphere(self, level):
        """A = pi (R2 - z2)."""
        ball = trimesh.creation.icosphere(subdivisions=4, radius=4.0)
        _, loops = next(plane_cuts(ball, 2, [level]))
        self.assertAlmostEqual(sum(c.area for c in loops), math.pi * (16 - level**2), delta=0.15)

    def test_cuts_beside_the_part_are_empty(self):
        self.assertEqual([loops for _, loops in plane_cuts(SMALL, 0, [500.0, -500.0])], [[], []])
        self.assertEqual([loops for _, loops in cylinder_cuts(SMALL, [500.0])], [[]])

    def test_islands_across_the_back_of_the_circle_are_whole(self):
        """A bar along -x crosses the jump of the angle at 180 degrees; it stays one island of its
        width.
        """
        bar = trimesh.creation.box((20.0, 4, 3))
        bar.apply_translation([-20, 0, 0])
        _, (loop,) = next(cylinder_cuts(bar, [20.0]))
        self.assertFalse(loop.around)
        self.assertAlmostEqual(loop.area, 4 * 3, delta=0.05)

    def test_roundness_and_middle(self):
        _, (loop,) = next(
            plane_cuts(trimesh.creation.cylinder(radius=7, height=4, sections=90), 2, [0.0])
        )
        radius, stray = loop.roundness
        self.assertAlmostEqual(radius, 7.0, delta=0.01)
        self.assertLess(stray, 0.002)
        self.assertAlmostEqual(shoelace(np.array([(0, 0), (2, 0), (2, 3), (0, 3.0)])), 6.0)


class Rays(unittest.TestCase):
    def test_a_plate_is_as_thick_as_it_is(self):
        for thick in (0.4, 1.0, 3.0):
            plate = trimesh.creation.box((60.0, 60, thick))
            found = walls(Caster(plate), sample(plate, 400))
            self.assertAlmostEqual(found.thinnest(0.05), thick, delta=0.01)

    def test_thin_parts_say_where(self):
        fan = part("rotor_ok.3mf")
        strict = replace(ROTOR, values={**ROTOR.values, "wall": 0.0025})
        report = check(fan, CheckInput(strict, MATERIALS["petg"], file_unit=1.0))
        text = " ".join(r.text for r in report.reasons if r.level != "well")
        self.assertRegex(
            text, r"less wall than the 2\.5 mm that are asked, down to .* mm from the axis"
        )


class Figures(unittest.TestCase):
    @given(st.sampled_from(list(UNITS)), st.floats(60, 180))
    @settings(max_examples=60, deadline=None)
    def test_the_unit_that_brings_a_part_to_its_place_is_found(self, unit, room):
        """A part as large as its place, written in each unit; centimetres and inches are told apart
        by what fits better.
        """
        size = 0.99 * room / UNITS[unit][1]
        self.assertEqual(guess_unit(size, room).unit, unit)

    @given(st.floats(1e-7, 1e-4), st.floats(0.0005, 0.02), st.floats(0, 1), st.integers(1, 6))
    @settings(max_examples=40, deadline=None)
    def test_plastic_lies_between_infill_and_solid(self, volume, thick, infill, count):
        made = print_figures(
            volume,
            2 * volume / thick,
            np.full(5, thick),
            0.05,
            0.0,
            replace(USUAL, infill=infill, walls=count),
            1200.0,
            20.0,
        )
        self.assertLessEqual(made.plastic, volume * (1 + 1e-9))
        self.assertGreaterEqual(made.plastic, infill * volume * (1 - 1e-9))
        self.assertGreater(made.time, 0)

    @given(st.floats(0.0005, 0.03))
    @settings(max_examples=20, deadline=None)
    def test_thicker_walls_never_anneal_faster(self, wall):
        thin, thick = annealing(wall, 100.0, 0.01, 0.01), annealing(1.3 * wall, 100.0, 0.01, 0.01)
        self.assertLessEqual(thin.hold, thick.hold)
        self.assertLessEqual(thin.ramp, thick.ramp)

    def test_every_material_can_be_checked_with(self):
        mesh = part("rotor_ok.3mf")
        caps = {}
        for key, material in MATERIALS.items():
            report = check(mesh, CheckInput(ROTOR, material, file_unit=1.0))
            caps[key] = next(f.quantity.value for f in report.figures if f.key == "cap")
        self.assertLessEqual(max(caps.values()), 60 / 0.0672 * 60 / (2 * math.pi) + 1)
        self.assertLess(caps["abs"], caps["pa_cf"] + 1e-9)
