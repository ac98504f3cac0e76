"""Figures of meshes against exact solids, and what is wrong with a surface. Expected values:
tests/data/parts/truth.json, or worked by hand.
"""

from __future__ import annotations

import json
import unittest
from pathlib import Path

import numpy as np
import trimesh
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.part.size import mass_figures
from hauch.core.part.soundness import look, mend
from hauch.formats.mesh_in import read_part

DATA = Path(__file__).parents[1] / "data" / "parts"
TRUTH = json.loads((DATA / "truth.json").read_text())
Z = np.array([0.0, 0.0, 1.0])


def part(name: str) -> trimesh.Trimesh:
    return read_part(name, (DATA / name).read_bytes()).mesh


def without(mesh: trimesh.Trimesh, gone: list[int]) -> trimesh.Trimesh:
    return trimesh.Trimesh(mesh.vertices, np.delete(mesh.faces, gone, axis=0), process=False)


class ExactSolids(unittest.TestCase):
    def test_volume_inertia_and_box_within_half_a_percent(self):
        for name, exact in TRUTH.items():
            with self.subTest(name):
                mesh = part(name)
                found = mass_figures(mesh)
                self.assertAlmostEqual(found.volume / exact["volume_mm3"], 1, delta=0.005)
                self.assertAlmostEqual(
                    found.about(np.zeros(3), Z) / exact["inertia_about_spin_axis_mm5"],
                    1,
                    delta=0.005,
                )
                if "bbox_mm" in exact:
                    np.testing.assert_allclose(
                        mesh.bounds, exact["bbox_mm"], atol=0.005 * np.ptp(exact["bbox_mm"])
                    )
                reach = float(np.ptp(mesh.bounds, axis=0).max())
                np.testing.assert_allclose(
                    found.centre, exact["centre_of_mass_mm"], atol=0.005 * reach
                )

    def test_what_facets_leave_out_brings_figures_nearer(self):
        for name in ("rotor_big.stl", "rotor_unbalanced.stl", "ring.stl", "bellmouth.stl"):
            with self.subTest(name):
                exact = TRUTH[name]["volume_mm3"]
                flat, curved = (
                    mass_figures(part(name), curved=False).volume,
                    mass_figures(part(name)).volume,
                )
                self.assertLess(abs(curved / exact - 1), 0.6 * abs(flat / exact - 1))

    def test_a_sphere_of_few_facets(self):
        """An icosphere of 320 faces has 3.3 % less volume than its sphere; its inertia is 2/5 m r2."""
        ball = trimesh.creation.icosphere(subdivisions=2, radius=10.0)
        exact = 4 / 3 * np.pi * 1000
        self.assertLess(ball.volume / exact, 0.97)
        found = mass_figures(ball)
        self.assertAlmostEqual(found.volume / exact, 1, delta=0.003)
        self.assertAlmostEqual(found.about(np.zeros(3), Z) / (0.4 * exact * 100), 1, delta=0.006)

    def test_a_box_has_nothing_left_out(self):
        box = trimesh.creation.box((10.0, 20.0, 30.0))
        found = mass_figures(box)
        self.assertAlmostEqual(found.volume, 6000.0)
        self.assertAlmostEqual(found.facets, 0.0)
        self.assertAlmostEqual(found.about(np.zeros(3), Z), 6000 * (100 + 400) / 12)
        self.assertAlmostEqual(
            found.about(np.array([3.0, 4.0, 0.0]), Z), 6000 * (500 / 12 + 25)
        )  # Steiner

    def test_a_flat_ring_that_borders_on_a_rounded_edge_is_not_bulged(self):
        """Faces tilt at one end only where a plane joins a curve: they stay flat."""
        tube = trimesh.creation.annulus(r_min=8, r_max=10, height=4, sections=64)
        exact = np.pi * (100 - 64) * 4
        self.assertAlmostEqual(mass_figures(tube).volume / exact, 1, delta=0.0005)

    @given(st.floats(0.05, 40), st.floats(-50, 50))
    @settings(max_examples=12, deadline=None)
    def test_scale_and_place(self, scale, shift):
        """Volume goes with the cube, inertia about the own centre with the fifth power; moving
        changes neither.
        """
        mesh = part("name with ü & <script>.stl")
        before = mass_figures(mesh)
        mesh.apply_scale(scale)
        mesh.apply_translation([shift, -shift, shift])
        after = mass_figures(mesh)
        self.assertAlmostEqual(after.volume / before.volume / scale**3, 1, delta=1e-6)
        np.testing.assert_allclose(
            after.inertia / scale**5,
            before.inertia,
            rtol=1e-4,
            atol=1e-4 * np.abs(before.inertia).max(),
        )


class Surfaces(unittest.TestCase):
    def setUp(self):
        self.mesh = part("rotor_big.stl")

    def test_a_sound_one(self):
        found, turn = look(self.mesh)
        self.assertTrue(found.watertight)
        self.assertEqual(
            (found.triangles, found.open_edges, found.flipped, len(found.bodies)), (11104, 0, 0, 1)
        )
        self.assertFalse(turn.any())

    def test_holes_are_counted_and_closed(self):
        holed = without(self.mesh, [10, 11, 5000, 9000, 9001, 9002])
        found, _ = look(holed)
        self.assertFalse(found.watertight)
        self.assertGreaterEqual(found.holes, 2)
        made = mend(holed)
        self.assertFalse(made.left)
        self.assertTrue(look(made.mesh)[0].watertight)
        self.assertAlmostEqual(made.mesh.volume / self.mesh.volume, 1, delta=0.002)
        self.assertEqual(
            len(holed.faces), len(self.mesh.faces) - 6
        )  # what was handed in stays as it is

    def test_flipped_faces_are_found_one_by_one(self):
        faces = self.mesh.faces.copy()
        wrong = np.random.default_rng(3).choice(len(faces), 700, replace=False)
        faces[wrong] = faces[wrong][:, ::-1]
        flipped = trimesh.Trimesh(self.mesh.vertices, faces, process=False)
        found, turn = look(flipped)
        self.assertEqual(found.flipped, 700)
        self.assertEqual(set(np.flatnonzero(turn)), set(wrong))
        self.assertAlmostEqual(mend(flipped).mesh.volume, self.mesh.volume)

    def test_inside_out(self):
        found, turn = look(
            trimesh.Trimesh(self.mesh.vertices, self.mesh.faces[:, ::-1], process=False)
        )
        self.assertTrue(found.inside_out)
        self.assertTrue(turn.all())

    def test_a_cavity_is_no_second_body(self):
        outer, inner = trimesh.creation.box((20.0, 20, 20)), trimesh.creation.box((5.0, 5, 5))
        inner.invert()
        found, turn = look(trimesh.util.concatenate([outer, inner]))
        self.assertEqual([p.cavity for p in found.pieces], [False, True])
        self.assertEqual(len(found.bodies), 1)
        self.assertFalse(turn.any())

    def test_two_bodies(self):
        found, _ = look(part("two_bodies.stl"))
        self.assertEqual(len(found.bodies), 2)
        self.assertAlmostEqual(
            sum(b.volume for b in found.bodies) / TRUTH["two_bodies.stl"]["volume_mm3"],
            1,
            delta=0.005,
        )

    def test_a_missing_face_that_is_too_large_is_left(self):
        tube = trimesh.creation.cylinder(radius=10, height=5, sections=900)
        open_ = without(tube, [int(i) for i in np.flatnonzero(tube.face_normals[:, 2] > 0.9)])
        made = mend(open_)
        self.assertIn("too large", made.left[0])


if __name__ == "__main__":
    unittest.main()
