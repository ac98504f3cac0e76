"""Unit, axis, place, blades, passages and walls of handed-in parts, against what they were drawn
with.
"""

from __future__ import annotations

import itertools
import math
import unittest
from dataclasses import replace

import manifold3d
import numpy as np
import trimesh

from hauch.core.geometry.envelope import Box, Envelope, KeepOut
from hauch.core.part.blades import measure_blades
from hauch.core.part.drawing import cut_open, section_drawing
from hauch.core.part.findings import CheckInput
from hauch.core.part.passage import free_areas, holes_along, openings, screw_hole, steep
from hauch.core.part.pose import (
    find_bore,
    guess_unit,
    place_rotor,
    room_of,
    spin_direction,
)
from hauch.core.part.pose_box import place_in_box
from hauch.core.part.printing import USUAL, annealing, best_way_up, lay, print_figures
from hauch.core.part.rays import Caster, sample, walls
from hauch.core.part.report import check
from hauch.core.part.sections import cylinder_cuts, plane_cuts
from hauch.core.part.size import mass_figures
from hauch.core.part.slot import find_slot
from hauch.core.strength.material import MATERIALS
from tests.core.test_part_figures import TRUTH, part

ROTOR = Envelope.from_json("rotor", {"values": {"shaft": 0.005, "tip_gap": 0.0004}})
DUCT = Envelope.from_json("duct", {})


def placed(name: str, envelope: Envelope = ROTOR):
    mesh = part(name)
    return place_rotor(mesh, envelope, *spin_direction(mass_figures(mesh).inertia))


def turned_part(profile: list[tuple[float, float]]) -> manifold3d.Manifold:
    """A profile (radius, z) [mm] turned about the z axis."""
    section = manifold3d.CrossSection([np.array(profile, float)], manifold3d.FillRule.NonZero)
    return manifold3d.Manifold.revolve(section, 180)


def meshed(body: manifold3d.Manifold) -> trimesh.Trimesh:
    raw = body.to_mesh()
    return trimesh.Trimesh(raw.vert_properties[:, :3], raw.tri_verts)


class Units(unittest.TestCase):
    def test_millimetres_are_sure(self):
        self.assertTrue(guess_unit(134.4, 135.2).sure)

    def test_a_part_25_times_too_small_is_asked_as_inches(self):
        guess = guess_unit(134.4 / 25.4, 135.2)
        self.assertEqual((guess.unit, guess.sure), ("inch", False))
        self.assertIn("Is that so?", guess.why)

    def test_metres_and_centimetres(self):
        self.assertEqual(guess_unit(0.1344, 135.2).unit, "m")
        self.assertEqual(guess_unit(13.44, 135.2).unit, "cm")

    def test_what_no_unit_explains(self):
        guess = guess_unit(7e6, 135.2)
        self.assertFalse(guess.sure)
        self.assertIn("in no usual unit", guess.why)

    def test_room_of_each_kind(self):
        self.assertAlmostEqual(room_of(ROTOR), 135.2)
        self.assertAlmostEqual(room_of(DUCT), 200.0)
        self.assertAlmostEqual(room_of(Envelope.from_json("ring", {})), 330.0)


class Rotors(unittest.TestCase):
    def test_fits_with_bore_and_tip_gap(self):
        found = placed("rotor_unbalanced.stl")
        self.assertEqual(found.misfits, ())
        self.assertAlmostEqual(
            found.bore.diameter,
            TRUTH["rotor_unbalanced.stl"]["design"]["bore_diameter_mm"],
            delta=0.02,
        )
        self.assertAlmostEqual(found.mesh.bounds[0, 2], 0.0)

    def test_too_large_is_said_with_by_how_much(self):
        found = placed("rotor_big.stl")
        self.assertIn("140.00 mm", found.misfits[0])
        self.assertIn("2.40 mm all around", found.misfits[0])  # (140 - 135.2) / 2
        self.assertGreater(found.outside.sum(), 10)
        self.assertTrue((np.hypot(*found.mesh.vertices[found.outside, :2].T) > 67.6).all())

    def test_axis_along_x_and_off_the_origin_is_found(self):
        mesh = part("rotor_unbalanced.stl")
        mesh.apply_transform(trimesh.transformations.rotation_matrix(math.pi / 2, [0, 1, 0]))
        mesh.apply_translation([300.0, -20.0, 7.0])
        name, turn = spin_direction(mass_figures(mesh).inertia)
        self.assertEqual(name, "x")
        found = place_rotor(mesh, ROTOR, name, turn)
        self.assertEqual(found.misfits, ())

    def test_a_tilted_axis_is_found(self):
        mesh = part("impeller.stl")
        tilt = trimesh.transformations.rotation_matrix(0.4, [1, 0.3, 0])
        mesh.apply_transform(tilt)
        _, turn = spin_direction(mass_figures(mesh).inertia)
        self.assertAlmostEqual(abs(turn[2] @ (tilt[:3, :3] @ [0, 0, 1])), 1, delta=1e-4)

    def test_shaft_too_loose_too_tight_and_none(self):
        self.assertIn(
            "cannot centre",
            placed(
                "rotor_unbalanced.stl", replace(ROTOR, values={**ROTOR.values, "shaft": 0.004})
            ).misfits[-1],
        )
        self.assertIn(
            "does not go on",
            placed(
                "rotor_unbalanced.stl", replace(ROTOR, values={**ROTOR.values, "shaft": 0.006})
            ).misfits[-1],
        )
        self.assertIsNone(find_bore(trimesh.creation.cylinder(radius=20, height=10)))

    def test_blades_as_they_were_drawn(self):
        """Pitch and chord of the drawing at radii 24, 40 and 55 mm."""
        drawn = TRUTH["rotor_unbalanced.stl"]["design"]
        found = measure_blades(placed("rotor_unbalanced.stl").mesh)
        self.assertEqual(found.count, drawn["blades"])
        self.assertAlmostEqual(2 * found.hub, drawn["hub_diameter_mm"], delta=1.5)
        radius = [s.radius for s in found.stations]
        outline = np.array(found.stations[5].in_space()[0])
        np.testing.assert_allclose(np.hypot(outline[:, 0], outline[:, 1]), radius[5], atol=0.02)
        for at in ("24.0", "40.0", "55.0"):
            pitch = np.interp(float(at), radius, [math.degrees(s.pitch) for s in found.stations])
            chord = np.interp(float(at), radius, [s.chord for s in found.stations])
            self.assertAlmostEqual(pitch, drawn["pitch_deg_by_station"][at], delta=1.0)
            self.assertAlmostEqual(
                chord, drawn["chord_mm_by_station"][at], delta=0.7
            )  # the farthest pair of points lies a little off the chord line

    def test_blades_on_a_plate_are_counted(self):
        self.assertEqual(
            measure_blades(placed("impeller.stl").mesh).count,
            TRUTH["impeller.stl"]["design"]["blades"],
        )

    def test_no_blades_on_a_disc(self):
        self.assertIsNone(measure_blades(trimesh.creation.annulus(r_min=3, r_max=40, height=5)))


class Boxes(unittest.TestCase):
    def test_as_stored_where_that_fits(self):
        found = place_in_box(part("duct3.stl"), DUCT)
        self.assertEqual((found.misfits, found.turned), ((), ""))

    def test_turned_where_only_that_fits(self):
        bar = trimesh.creation.box((150.0, 20, 20))
        narrow = replace(DUCT, values={**DUCT.values, "width": 0.05, "height": 0.05})
        found = place_in_box(bar, narrow)
        self.assertEqual(found.misfits, ())
        self.assertEqual(found.turned.strip("-"), "x")

    def test_sticks_out_at_named_sides(self):
        found = place_in_box(trimesh.creation.box((20.0, 20, 230)), DUCT, "z")
        self.assertEqual(list(found.misfits), ["It sticks out 30.00 mm at the far end."])

    def test_keep_out(self):
        block = replace(
            DUCT, keep_outs=(KeepOut("beam", Box((-0.2, -0.2, 0.05), (0.19, 0.4, 0.05))),)
        )
        found = place_in_box(trimesh.creation.box((40.0, 40, 80)), block, "z")
        self.assertIn("into the keep-out “beam”", found.misfits[0])
        self.assertTrue(found.outside.any())

    def test_a_plate_sets_the_part_on_the_axis(self):
        plate = trimesh.creation.box((100.0, 100, 4))
        plate.apply_translation([0, 0, 2])
        arm = trimesh.creation.box((20.0, 20, 60))
        arm.apply_translation([60, 0, 30])
        found = place_in_box(trimesh.util.concatenate([plate, arm]), DUCT)
        self.assertAlmostEqual(
            found.mesh.vertices[np.abs(found.mesh.vertices[:, 2]) < 0.1][:, 0].min(),
            -50.0,
            delta=10.1,
        )

    def bell(self, pieces: int, up: bool) -> trimesh.Trimesh:
        """A bell mouth with a wide flange on its far end or on its lip, of few or many facets."""
        arc = np.linspace(0, math.pi / 2, max(pieces // 4, 4))
        lip = [(60 + 15 * (1 - math.sin(a)), 15 * (1 - math.cos(a))) for a in arc]
        back = [(62 + 15 * (1 - math.sin(a)), 2 + 15 * (1 - math.cos(a))) for a in arc[::-1]]
        far = [(60, 30), (84, 30), (84, 27), (62, 27)]
        made = trimesh.creation.revolve(np.array([*lip, *far, *back, lip[0]]), sections=pieces)
        if made.volume < 0:
            made.invert()
        if up:
            made.apply_transform(trimesh.transformations.rotation_matrix(math.pi, [1, 0, 0]))
        return made

    def test_facets_do_not_decide_how_a_part_lies(self):
        flat = replace(DUCT, values={**DUCT.values, "length": 0.04})
        for up in (False, True):
            ways = set()
            for pieces in (24, 36, 48, 90, 180, 360):
                stored = self.bell(pieces, up)
                found = place_in_box(stored, DUCT)
                self.assertEqual((found.turned, found.misfits), ("", ()))
                self.assertEqual(len(found.asks), 0 if up else 1, (pieces, found.asks))
                stored.apply_transform(
                    trimesh.transformations.rotation_matrix(math.pi / 2, [0, 1, 0])
                )
                lying = place_in_box(stored, flat)
                self.assertEqual(lying.misfits, ())
                ways.add((lying.turned, *np.round(lying.matrix[:3, :3]).ravel()))
            self.assertEqual(len(ways), 1)

    def test_another_face_is_asked_about_and_not_taken(self):
        found = place_in_box(self.bell(90, up=False), DUCT)
        self.assertIn("if that is its mounting side, say that z of the file", found.asks[0])
        self.assertEqual(place_in_box(self.bell(90, up=False), DUCT, "-z").asks, ())

    def test_a_large_face_through_a_keep_out(self):
        """No corner of the plate lies in the beam that it runs through."""
        block = replace(
            DUCT, keep_outs=(KeepOut("beam", Box((-0.02, -0.02, 0.0), (0.04, 0.04, 0.2))),)
        )
        found = place_in_box(trimesh.creation.box((150.0, 150, 30)), block, "z")
        self.assertIn("into the keep-out “beam”", " ".join(found.misfits))
        self.assertTrue(found.outside.any())


class Cuts(unittest.TestCase):
    def test_a_tube(self):
        """Outer and inner circle with areas of either sign: pi 100 and pi 64; the inner one is a
        hole.
        """
        tube = trimesh.creation.annulus(r_min=8, r_max=10, height=6, sections=200)
        _, loops = next(plane_cuts(tube, 2, [0.5]))
        areas = sorted(c.area for c in loops)
        self.assertAlmostEqual(areas[0], -math.pi * 64, delta=0.2)
        self.assertAlmostEqual(areas[1], math.pi * 100, delta=0.2)
        _, around = next(cylinder_cuts(tube, [9.0]))
        self.assertTrue(all(c.around for c in around))

    def test_material_is_on_the_left_for_any_axis(self):
        box = trimesh.creation.box((4.0, 6, 8))
        for axis, area in enumerate((48.0, 32.0, 24.0)):
            _, (loop,) = next(plane_cuts(box, axis, [0.3]))
            self.assertAlmostEqual(loop.area, area)
            np.testing.assert_allclose(loop.centre, [0, 0], atol=1e-9)

    def test_the_section_drawing_has_red_where_it_sticks_out(self):
        found = placed("rotor_big.stl")
        layers = {p.layer for p in section_drawing(cut_open(found)[0], ROTOR).paths}
        self.assertIn("over", layers)
        good = placed("rotor_unbalanced.stl")
        self.assertNotIn("over", {p.layer for p in section_drawing(cut_open(good)[0], ROTOR).paths})

    def test_what_is_to_be_kept_free_is_drawn_where_the_cut_goes_through_it(self):
        beam = KeepOut("beam", Box((0.02, -0.2, 0.05), (0.10, 0.4, 0.05)))
        beside = replace(DUCT, keep_outs=(beam,))

        def layers(at):
            return {p.layer for p in section_drawing([], beside, at).paths}

        self.assertNotIn("keep_out", layers(0.0))
        self.assertIn("keep_out", layers(0.05))


class Walls(unittest.TestCase):
    def test_a_hollow_box_of_known_walls(self):
        outer, inner = trimesh.creation.box((40.0, 40, 40)), trimesh.creation.box((36.0, 36, 36))
        inner.invert()
        mesh = trimesh.util.concatenate([outer, inner])
        found = walls(Caster(mesh), sample(mesh, 800))
        self.assertAlmostEqual(float(np.nanmedian(found.thickness)), 2.0, delta=0.01)
        self.assertFalse(found.overlapping.any())

    def test_bodies_that_run_through_one_another(self):
        one, two = trimesh.creation.box((20.0, 20, 20)), trimesh.creation.box((20.0, 20, 20))
        two.apply_translation([10.0, 3, 4])
        mesh = trimesh.util.concatenate([one, two])
        self.assertGreater(walls(Caster(mesh), sample(mesh, 800)).overlapping.mean(), 0.05)

    def test_the_same_mesh_gives_the_same_rays(self):
        mesh = part("two_bodies.stl")
        np.testing.assert_array_equal(sample(mesh, 50).points, sample(mesh, 50).points)


class Passages(unittest.TestCase):
    def test_inlet_and_three_outlets(self):
        found = openings(part("duct3.stl"))
        drawn = TRUTH["duct3.stl"]["design"]
        wanted = sorted(
            [drawn["inlet_area_mm2"], *(o["open_area_mm2"] for o in drawn["outlets"])], reverse=True
        )
        self.assertEqual(len(found), 4)
        np.testing.assert_allclose([o.area for o in found], wanted, rtol=0.002)
        self.assertEqual(found[0].direction[2].__round__(3), -1.0)

    def test_slot_and_neck_of_a_ring(self):
        drawn = TRUTH["ring.stl"]["design"]
        mesh = part("ring.stl")
        slot = find_slot(mesh, Caster(mesh))
        self.assertAlmostEqual(slot.mean, drawn["slot_width_mm"], delta=0.002)
        self.assertAlmostEqual(slot.area / drawn["slot_open_area_mm2"], 1, delta=0.003)
        neck = max((o for o in openings(mesh) if o.direction[1] < -0.9), key=lambda o: o.area)
        self.assertAlmostEqual(neck.area / drawn["inlet_area_mm2"], 1, delta=0.01)

    def ring(self, *sizes: float, **more: float) -> trimesh.Trimesh:
        return meshed(self.solid(*sizes, **more))

    def solid(
        self, slot: float, lip: float, ribs: int = 0, thick: float = 0.0, off: float = 0.0
    ) -> manifold3d.Manifold:
        """A ring of 186 mm: plenum, and between lips of some length a slot at 75 mm radius, ribs
        across it; its inner lip off the axis.
        """
        body = turned_part(
            [(73.4 - slot, 0), (93, 0), (93, 40), (75, 40), (75, 12), (73.4 - slot, 12)]
        ) - turned_part(
            [(75, 1.6), (91.4, 1.6), (91.4, 38.4), (76.6, 38.4), (76.6, 12 - lip), (75, 12 - lip)]
        )
        body -= turned_part(
            [(75 - slot, 1.6), (76, 1.6), (76, 12 - lip), (75, 12 - lip), (75, 13), (75 - slot, 13)]
        )
        inner, foot = (
            turned_part([(73.4 - slot, z), (75 - slot, z), (75 - slot, 12), (73.4 - slot, 12)])
            for z in (1.6, 1.5)
        )
        body = body - inner + foot.translate((off, 0, 0))
        bars = [
            manifold3d.Manifold.cube((slot + 1, thick, 11))
            .translate((74.5 - slot, -thick / 2, 1))
            .rotate((0, 0, 360 / ribs * (k + 0.3)))
            for k in range(ribs)
        ]
        return manifold3d.Manifold.batch_boolean([body, *bars], manifold3d.OpType.Add)

    def test_slots_with_short_lips_and_ribs(self):
        """Free area: width times what the ribs leave of the way around."""
        for slot, lip, ribs, thick in itertools.product(
            (0.6, 1.1, 2.5), (0.2, 1.0, 3.0), (0, 12), (1.5, 3.0)
        ):
            with self.subTest(slot=slot, lip=lip, ribs=ribs, thick=thick):
                mesh = self.ring(slot, lip, ribs, thick)
                found = find_slot(mesh, Caster(mesh))
                around = 2 * math.pi * (75 - slot / 2)
                self.assertAlmostEqual(found.mean, slot, delta=0.003)
                self.assertAlmostEqual(found.closed, ribs * thick / around, delta=0.003)
                self.assertAlmostEqual(
                    found.area / (slot * (around - ribs * thick)), 1, delta=0.005
                )

    def test_a_slot_that_is_wider_on_one_side(self):
        mesh = self.ring(1.2, 2.0, off=0.5)
        found = find_slot(mesh, Caster(mesh))
        self.assertAlmostEqual(found.mean, 1.2, delta=0.01)
        self.assertAlmostEqual(max(found.widths), 1.7, delta=0.01)
        self.assertAlmostEqual(min(found.widths), 0.7, delta=0.01)

    def test_a_slot_that_is_closed_over_a_third_is_told(self):
        band = manifold3d.CrossSection([np.array([(73, 1), (76, 1), (76, 12), (73, 12)], float)])
        envelope = Envelope.from_json("ring", {})
        for closed in (False, True):
            solid = self.solid(1.1, 2.0, ribs=12, thick=1.5)
            if closed:
                solid += manifold3d.Manifold.revolve(band, 180, 120.0)
            report = check(meshed(solid), CheckInput(envelope, MATERIALS["petg"], file_unit=1.0))
            said = " ".join(r.text for r in report.reasons)
            (self.assertIn if closed else self.assertNotIn)("% of the way around the ring", said)

    def test_a_groove_and_a_slot_over_a_third_of_the_way_are_no_slots(self):
        groove = meshed(
            turned_part([(75, 0), (93, 0), (93, 40), (75, 40)])
            - turned_part([(74, 15), (84, 15), (84, 18), (74, 18)])
        )
        self.assertIsNone(find_slot(groove, Caster(groove)))
        band = manifold3d.CrossSection([np.array([(73, 1), (76, 1), (76, 12), (73, 12)], float)])
        for closed, there in ((120.0, True), (240.0, False)):
            mesh = meshed(self.solid(1.1, 1.0) + manifold3d.Manifold.revolve(band, 180, closed))
            self.assertEqual(find_slot(mesh, Caster(mesh)) is not None, there)

    def test_screws_go_through_flanges_cones_and_lips(self):
        """Holes along the axis: seen along the screw they are round, whatever they go through."""
        half = 124.5 / 2
        flange = turned_part([(50, 0), (100, 0), (100, 4), (50, 4)])
        cone = turned_part([(50, 50), (100, 0), (103, 0), (53, 50)])  # met 12 mm up
        wide = [(100 - 20 * math.sin(a), 20 - 20 * math.cos(a)) for a in np.linspace(0, 1.5, 20)]
        lip = turned_part([*wide, *((r + 2, z + 2) for r, z in wide[::-1])])
        for name, body in (("flange", flange), ("cone", cone), ("lip", lip)):
            for diameter, shift, there in (
                (4.3, 0.0, True),
                (4.6, 0.3, True),
                (4.3, 1.5, False),
                (8.0, 0.0, False),
                (0.0, 0.0, False),
            ):
                with self.subTest(name, diameter=diameter, shift=shift):
                    pins = [
                        manifold3d.Manifold.cylinder(80, diameter / 2, -1, 48).translate(
                            (x + shift, y, -10)
                        )
                        for x in (-half, half)
                        for y in (-half, half)
                        if diameter
                    ]
                    mesh = meshed(
                        manifold3d.Manifold.batch_boolean([body, *pins], manifold3d.OpType.Subtract)
                    )
                    caster = Caster(mesh)
                    met = [
                        screw_hole(caster, s * half, t * half, 4.3)
                        for s in (-1, 1)
                        for t in (-1, 1)
                    ]
                    self.assertEqual(met, [there] * 4)
                    holes = holes_along(mesh, caster)
                    self.assertEqual(len(holes), 4 if diameter else 0)
                    for one in holes:
                        self.assertAlmostEqual(one.diameter, diameter, delta=0.15)
                        self.assertAlmostEqual(abs(one.y), half, delta=0.1)

    def test_screw_holes_are_no_openings(self):
        mesh, drawn = part("bellmouth.stl"), TRUTH["bellmouth.stl"]["design"]
        self.assertTrue(
            any(abs(o.diameter - drawn["throat_diameter_mm"]) < 0.3 for o in openings(mesh))
        )
        self.assertTrue(all(o.diameter > 100 for o in openings(mesh)))
        holes = holes_along(mesh, Caster(mesh))
        self.assertEqual(len(holes), drawn["screws"])
        for hole in holes:
            self.assertAlmostEqual(hole.diameter, drawn["screw_diameter_mm"], delta=0.15)
            self.assertAlmostEqual(
                2 * math.hypot(hole.x, hole.y), drawn["pitch_circle_mm"], delta=0.2
            )

    def test_a_tube_on_a_plate_is_one_opening_not_two(self):
        tube = trimesh.creation.annulus(r_min=10, r_max=12, height=40, sections=96)
        tube.apply_translation([0, 0, 20])
        plate = trimesh.creation.annulus(r_min=10, r_max=30, height=3, sections=96)
        plate.apply_translation([0, 0, 1.5])
        joined = trimesh.boolean.union([tube, plate], engine="manifold")
        found = openings(joined)
        self.assertEqual(len(found), 2)
        np.testing.assert_allclose([o.diameter for o in found], 20.0, rtol=0.005)

    def test_free_area_and_steep_widening(self):
        """A cone of 20 to 40 mm over 20 mm opens by atan(10/20) = 26.6 degrees a side."""
        profile = np.array([(10, 0), (20, 20), (22, 20), (12, 0), (10, 0)], float)
        cone = trimesh.creation.revolve(profile, sections=128)
        if cone.volume < 0:
            cone.invert()
        cuts = free_areas(cone, 20)
        self.assertAlmostEqual(cuts[0].area, math.pi * (10 + cuts[0].place / 2) ** 2, delta=2)
        self.assertAlmostEqual(math.degrees(steep(cuts, forward=True)[0][1]), 26.6, delta=0.5)
        self.assertEqual(steep(cuts, forward=False), [])


class Printing(unittest.TestCase):
    def test_overhang_of_a_mushroom(self):
        """A disc of 20 mm on a stem of 5 mm: its underside hangs over, upside down nothing does."""
        stem = trimesh.creation.cylinder(radius=5, height=20, sections=64)
        cap = trimesh.creation.cylinder(radius=20, height=4, sections=64)
        cap.apply_translation([0, 0, 12])
        mesh = trimesh.boolean.union([stem, cap], engine="manifold")
        self.assertAlmostEqual(lay(mesh, "z up").overhang, math.pi * (400 - 25), delta=5)
        self.assertAlmostEqual(lay(mesh, "z down").overhang, 0.0, delta=1e-6)
        self.assertEqual(best_way_up(mesh).name, "z down")

    def test_a_solid_wall_is_all_wall_and_a_block_is_mostly_infill(self):
        thin = print_figures(1e-6, 1e-3, np.full(10, 0.002), 0.05, 0.0, USUAL, 1200.0, 20.0)
        self.assertAlmostEqual(thin.mass, 1.2e-3)
        self.assertAlmostEqual(thin.cost, 0.024)
        block = print_figures(1e-3, 0.06, np.full(10, 0.1), 0.1, 0.0, USUAL, 1200.0, 20.0)
        wall = 0.06 * USUAL.walls * USUAL.line
        self.assertAlmostEqual(block.plastic, wall + USUAL.infill * (1e-3 - wall))

    def test_time_goes_with_volume_over_the_rate_of_the_nozzle(self):
        made = print_figures(
            1e-5, 1.0, np.full(4, 1e-5), 0.02, 0.0, replace(USUAL, infill=1.0), 1000.0, 0.0
        )
        self.assertAlmostEqual(
            made.time, 1e-5 / (USUAL.layer * USUAL.line * USUAL.speed) + 0.02 / USUAL.layer * 3.0
        )

    def test_thick_walls_are_annealed_longer(self):
        thin, thick = annealing(0.002, 100.0, 0.01, 0.005), annealing(0.016, 100.0, 0.01, 0.005)
        self.assertEqual(thin.hold, 1800.0)
        self.assertAlmostEqual(thick.hold, 3 * 0.016**2 / 1.1e-7)
        self.assertGreater(thick.ramp, thin.ramp)

    def test_settings_that_cannot_be(self):
        self.assertEqual(
            set(replace(USUAL, layer=0.01, infill=1.2, walls=0).problems()),
            {"layer", "infill", "walls"},
        )
