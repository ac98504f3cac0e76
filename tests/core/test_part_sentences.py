"""When which sentence is said: thresholds of the check, one solid made for each."""

from __future__ import annotations

import math
import unittest
from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
import trimesh

from hauch.core.geometry.envelope import Box, Envelope, KeepOut
from hauch.core.geometry.solids import (
    Hub,
    Plate,
    bell_mouth_solid,
    ring_solid,
    rotor_solid,
    silencer_solid,
    with_plate,
)
from hauch.core.part.drawing import cut_open, section_drawing
from hauch.core.part.findings import CheckInput, Report
from hauch.core.part.pose_box import place_in_box
from hauch.core.part.report import check
from hauch.core.predict.silencer import Chamber
from hauch.core.strength.material import MATERIALS
from hauch.desk.tools import TOOLS
from hauch.desk.tools.ring import ring_of
from hauch.desk.tools.rotor_inputs import blading
from hauch.formats.drawing_svg import to_svg

PETG = MATERIALS["petg"]


def rotor(shaft: float = 0.004, **changes: Any) -> trimesh.Trimesh:
    """A rotor that fits its place and is right, but for what is changed; in millimetres."""
    values = (
        TOOLS["rotor"].start() | {"tip": 0.134, "gap": 0.001, "thickness": [0.0022] * 5} | changes
    )
    more = {k: values.pop(k) for k in ("shifts", "tip_ring") if k in values}
    made = rotor_solid(
        blading(values), Hub(shaft, 0.0016, 0.022), 8, 11, edge=0.0012, **more
    ).copy()
    made.apply_scale(1000)
    return made


def millimetres(mesh: trimesh.Trimesh) -> trimesh.Trimesh:
    made = mesh.copy()
    made.apply_scale(1000)
    return made


def checked(
    mesh: trimesh.Trimesh,
    kind: str = "rotor",
    envelope: Mapping[str, float] | None = None,
    **more: Any,
) -> Report:
    return check(
        mesh, CheckInput(Envelope.from_json(kind, {"values": dict(envelope or {})}), PETG, **more)
    )


def said(report: Report) -> str:
    return " ".join(f"[{r.level}] {r.text}" for r in report.reasons)


class OfRotors(unittest.TestCase):
    def test_nothing_speaks_against_a_good_one(self):
        report = checked(rotor())
        self.assertEqual(report.verdict, "ready", said(report))

    def test_bore(self):
        self.assertIn(
            "[back] Its bore is 3.20 mm, the shaft 4 mm: it does not go on.",
            said(checked(rotor(shaft=0.0032))),
        )
        self.assertIn(
            "[back] Its bore is 4.60 mm, the shaft 4 mm: 0.60 mm of play",
            said(checked(rotor(shaft=0.0046))),
        )
        self.assertIn(
            "[well] Its bore of 4.20 mm takes the shaft", said(checked(rotor(shaft=0.0042)))
        )

    def test_hub_and_depth(self):
        self.assertRegex(
            said(checked(rotor(), envelope={"hub": 0.07})),
            r"\[back\] Its hub has 5\d\.\d mm; 70 mm is the least",
        )
        self.assertRegex(
            said(checked(rotor(), envelope={"depth": 0.015})),
            r"\[back\] It is \d+\.\d\d mm deep; 15 mm are allowed",
        )

    def test_walls_from_care_to_sent_back(self):
        thin = said(checked(rotor(), envelope={"wall": 0.0016}))
        self.assertRegex(thin, r"\[care\] \d+ % of the surface has less wall than the 1\.6 mm")
        self.assertRegex(
            said(checked(rotor(), envelope={"wall": 0.004})),
            r"\[back\] \d+ % of the surface has less wall than the 4 mm",
        )

    def test_uneven_blades_are_out_of_balance_by_a_little_or_a_lot(self):
        little = said(checked(rotor(shifts=(0.0, 0.02, 0.01, -0.02))))
        self.assertRegex(little, r"\[care\] Its centre of mass lies \d\.\d\d mm off the axis")
        much = said(checked(rotor(shifts=(0.0, 0.3, 0.2, -0.3))))
        self.assertRegex(
            much, r"\[back\] Its centre of mass lies \d\.\d\d mm off the axis, towards \d+° from x"
        )

    def test_where_mass_is_added_brings_it_back(self):
        """The mass that the sentence names, put where it says, takes the unbalance away."""
        mesh = rotor(shifts=(0.0, 0.05, 0.03, -0.05))
        report = checked(mesh)
        unbalance = next(f for f in report.figures if f.key == "unbalance").quantity.value
        towards = math.radians(report.data["balance"]["towards"] + 180)
        text = next(r.text for r in report.reasons if "Add" in r.text)
        grams, radius = (
            float(text.split("Add ")[1].split(" g")[0]),
            float(text.split("at ")[-1].split(" mm")[0]),
        )
        self.assertAlmostEqual(grams * 1e-3 * radius * 1e-3 / unbalance, 1, delta=0.05)
        middle = mesh.center_mass[:2]
        self.assertAlmostEqual(
            math.cos(math.atan2(-middle[1], -middle[0]) - towards), 1, delta=0.01
        )

    def test_fast_rotors_and_weak_ones(self):
        self.assertRegex(
            said(checked(rotor(), speed=9000.0)),
            r"\[care\] At the 9,000 1/min of the round its tips would run at 63 m/s",
        )
        self.assertRegex(
            said(checked(rotor(), speed=16000.0)),
            r"\[back\] At the 16,000 1/min of the round its tips would run at 112 m/s: nothing would"
            r" be left",
        )

    def test_a_tip_ring_is_followed(self):
        report = checked(rotor(tip_ring=0.0016, gap=0.001))
        self.assertEqual(report.data["blades"]["count"], TOOLS["rotor"].start()["blades"])

    def test_a_disc_is_no_rotor(self):
        disc = trimesh.creation.annulus(r_min=2.0, r_max=66.0, height=6, sections=160)
        self.assertIn("[care] No blades were found", said(checked(disc)))

    def test_a_lying_rotor_is_turned_onto_its_shaft(self):
        mesh = rotor()
        mesh.apply_transform(trimesh.transformations.rotation_matrix(math.pi / 2, [1, 0, 0]))
        report = checked(mesh)
        self.assertIn("[well] Its axis was found along y of the file", said(report))
        self.assertEqual(report.verdict, "ready", said(report))
        self.assertIn(
            "out", "sticks out" if "sticks out" in said(checked(mesh, said_axis="z")) else ""
        )  # said otherwise, it is believed

    def test_bodies_that_stand_within_one_another(self):
        cage, core = (
            trimesh.creation.annulus(r_min=50, r_max=60, height=10, sections=90),
            trimesh.creation.annulus(r_min=2, r_max=30, height=10, sections=90),
        )
        report = checked(trimesh.util.concatenate([cage, core]))
        self.assertIn("[care] There are 2 bodies in the file that are not joined", said(report))


class OfDucts(unittest.TestCase):
    PLATE = Plate(0.140, 0.1245, 0.0043)

    def mouth(self, **more: Any) -> trimesh.Trimesh:
        made = bell_mouth_solid(0.100, 0.015, 0.05, 0.002, 0.004)
        made.apply_transform([[1, 0, 0, 0], [0, -1, 0, 0], [0, 0, -1, 0.065], [0, 0, 0, 1]])
        return millimetres(with_plate(made, more.get("plate", self.PLATE), 0.100))

    def test_mounting_holes(self):
        self.assertIn(
            "[well] All 4 mounting holes of 4.3 mm", said(checked(self.mouth(), "intake"))
        )
        other = said(checked(self.mouth(plate=Plate(0.140, 0.110, 0.0043)), "intake"))
        self.assertIn(
            "[care] None of the 4 mounting holes of 4.3 mm, 124.5 mm apart, was found. The part has 4 holes",
            other,
        )

    def test_an_intake_that_narrows_to_its_mount_is_well(self):
        report = checked(self.mouth(), "intake")
        self.assertEqual(report.verdict, "ready", said(report))
        self.assertGreater(
            report.data["areas"][-1][1], report.data["areas"][0][1]
        )  # it opens towards the lip

    def test_a_narrow_waist_chokes(self):
        profile = np.array(
            [(40, 0), (20, 60), (40, 120), (43, 120), (23, 60), (43, 0), (40, 0)], float
        )
        waist = trimesh.creation.revolve(profile, sections=96)
        if waist.volume < 0:
            waist.invert()
        text = said(checked(waist, "intake"))
        self.assertRegex(
            text, r"\[care\] It narrows to 1[23]\.\d cm² at \d+ mm; at the mounting side it has"
        )
        self.assertRegex(text, r"\[care\] With the flow it widens by 18° a side")  # atan(20 / 60)

    def test_a_step_of_a_chamber_is_no_steep_diffuser(self):
        chamber = millimetres(silencer_solid(Chamber(0.05, 0.09, 0.1), 0.002, 0.02))
        self.assertNotIn("widens", said(checked(chamber, "intake")))

    def test_outlets_that_choke_or_scatter(self):
        def box(outlet: float) -> trimesh.Trimesh:
            profile = np.array(
                [
                    (20, 0),
                    (20, 40),
                    (outlet, 80),
                    (outlet, 100),
                    (outlet + 2, 100),
                    (outlet + 2, 80),
                    (22, 40),
                    (22, 0),
                    (20, 0),
                ],
                float,
            )
            made = trimesh.creation.revolve(profile, sections=96)
            if made.volume < 0:
                made.invert()
            return made

        self.assertRegex(
            said(checked(box(14.0), "duct")),
            r"\[care\] The outlets have 6\.\d cm² together, less than the 12\.\d cm² that feed"
            r" them",
        )
        self.assertIn(
            "[well] The outlets have 1.00 times the area", said(checked(box(20.0), "duct"))
        )
        self.assertRegex(
            said(checked(box(28.0), "duct")),
            r"\[care\] The outlets have 2\.0 times the area of the inlet",
        )

    def test_neighbours_and_the_drawing(self):
        envelope = replace(
            Envelope.from_json("duct", {}),
            keep_outs=(KeepOut("beam", Box((0.01, -0.1, 0.0), (0.05, 0.2, 0.2))),),
        )
        placed = place_in_box(trimesh.creation.box((80.0, 40, 60)), envelope, "z")
        self.assertIn("keep-out “beam”", " ".join(placed.misfits))
        drawing = section_drawing(cut_open(placed)[0], envelope, beside=0.03)
        svg = to_svg(drawing, lambda metres: f"{1000 * metres:g} mm", 600, 200)
        self.assertIn('class="keep_out"', svg)
        self.assertTrue(svg.startswith("<svg"))


class OfRings(unittest.TestCase):
    def ring(self, **changes: float) -> trimesh.Trimesh:
        values = TOOLS["ring"].start() | changes
        return millimetres(ring_solid(ring_of(values), 0.04))

    def test_slot_and_neck(self):
        good = checked(self.ring(), "ring")
        self.assertIn("[well] The slot's 6.", said(good))
        self.assertAlmostEqual(
            next(f for f in good.figures if f.key == "slot").quantity.value, 0.0012, delta=2e-5
        )
        choked = checked(self.ring(neck=0.022), "ring")
        self.assertIn("the neck chokes it", said(choked))

    def test_opening_and_size(self):
        self.assertRegex(
            said(checked(self.ring(), "ring", {"opening": 0.19})),
            r"\[back\] Its free opening is 17\d\.\d mm; 190 mm must stay free",
        )
        self.assertRegex(
            said(checked(self.ring(), "ring", {"depth": 0.05})),
            r"\[back\] It sticks out 30\.00 mm at the far end",
        )

    def test_a_plain_hoop_has_no_slot(self):
        hoop = trimesh.creation.annulus(r_min=90, r_max=96, height=40, sections=120)
        self.assertIn("[back] No slot was found", said(checked(hoop, "ring")))


class OfPrints(unittest.TestCase):
    def test_a_table_is_mostly_support_either_way(self):
        """Two plates on a post: whichever way it is laid, one of them hangs over."""
        post = trimesh.creation.cylinder(radius=4, height=60, sections=32)
        plates = [trimesh.creation.box((90.0, 90, 3)) for _ in range(2)]
        for plate, z in zip(plates, (-30, 30), strict=True):
            plate.apply_translation([0, 0, z])
        report = checked(trimesh.boolean.union([post, *plates], engine="manifold"), "duct")
        self.assertIn("hang over by more than 45°", said(report))
        self.assertIn("need support", said(report))

    def test_dear_material_costs_more(self):
        def cost(price):
            return next(
                f for f in checked(rotor(), price=price).figures if f.key == "cost"
            ).quantity.value

        self.assertAlmostEqual(cost(50.0) / cost(25.0), 2.0)
        self.assertFalse(any(f.key == "cost" for f in checked(rotor()).figures))
