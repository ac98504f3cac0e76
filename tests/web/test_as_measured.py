"""What was measured on a specimen goes into the design that foretold it; what rotors and wheels
tell of sound; lengths in notes of drawings.
"""

from __future__ import annotations

import math

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import SimpleTestCase, TestCase

from hauch.core.geometry.drawing import Drawing, Note
from hauch.desk.actions import design_as_measured
from hauch.desk.models import Design
from hauch.desk.show import chart_data
from hauch.desk.tools import TOOLS
from hauch.desk.tools.noise import sound_figure, tone_figure
from hauch.entries.predictions import predict
from hauch.formats.drawing_dxf import to_dxf
from hauch.formats.drawing_svg import to_svg
from hauch.rounds.models import Round
from hauch.ui.charts import specs
from hauch.workshop.actions import add_measures, add_specimen
from tests.builder import build


class Measured(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        self.operator = self.built.operator
        self.version = self.built.entries["Amsel"].versions.get()

    def foretold(self, tool: str, procedure: str) -> dict:
        start = TOOLS[tool].start()
        predict(self.built.host, self.version, procedure, 1.0, 0.1, tool, start)
        return start

    def specimen(self, part: str = "rotor"):
        Round.objects.filter(pk=self.built.round.pk).update(part=part)
        self.version.entry.round.refresh_from_db()
        return add_specimen(self.operator, self.version, "W-01")

    def test_a_slot_at_four_places(self):
        self.foretold("ring", "airflow")
        specimen = self.specimen("ring")
        add_measures(self.operator, specimen, "slot", {1: 0.0011, 2: 0.0013, 3: 0.0012, 4: 0.0014})
        design = design_as_measured(self.operator, specimen)
        self.assertEqual(
            [row["width"] for row in design.inputs["slots"]], [0.0011, 0.0013, 0.0012, 0.0014]
        )
        self.assertAlmostEqual(design.inputs["slot"], 0.00125)
        more = TOOLS["ring"].answer(design.inputs).figure("total").quantity
        self.assertTrue(math.isfinite(more.value))

    def test_a_rotor_by_its_gap_or_by_its_diameter(self):
        start = self.foretold("rotor", "airflow")
        specimen = self.specimen()
        add_measures(self.operator, specimen, "outer", {1: start["tip"] - 0.001})
        design = design_as_measured(self.operator, specimen)
        self.assertAlmostEqual(design.inputs["tip"], start["tip"] - 0.001)
        self.assertAlmostEqual(design.inputs["gap"], start["gap"] + 0.0005)
        add_measures(
            self.operator, specimen, "tip_gap", {1: 0.002}
        )  # nearer to what leaks, so it goes before
        self.assertAlmostEqual(design_as_measured(self.operator, specimen).inputs["gap"], 0.002)
        self.assertEqual(
            Design.objects.filter(owner=self.operator, name="W-01 as measured").count(), 1
        )

    def test_a_ducts_wall(self):
        self.foretold("duct", "airflow")
        specimen = self.specimen("duct")
        add_measures(self.operator, specimen, "wall", {1: 0.0014, 2: 0.0016})
        self.assertAlmostEqual(design_as_measured(self.operator, specimen).inputs["wall"], 0.0015)

    def test_nothing_foretold_nothing_measured_and_nobodys(self):
        specimen = self.specimen()
        with self.assertRaisesRegex(ValidationError, "No model of the Desk foretold"):
            design_as_measured(self.operator, specimen)
        self.foretold("rotor", "airflow")
        add_measures(self.operator, specimen, "bore", {1: 0.004})  # no input of the rotor's model
        with self.assertRaisesRegex(
            ValidationError, "Nothing was measured on W-01 that rotor knows"
        ):
            design_as_measured(self.operator, specimen)
        with self.assertRaises(PermissionDenied):
            design_as_measured(self.built.people["stranger"], specimen)


class Sound(SimpleTestCase):
    def test_tone_and_rule(self):
        """7 blades at 1,900 1/min pass 221.7 times a second; VDI 2081: 37 + 10 lg 0.05 + 20 lg 40 =
        56.0 dB.
        """
        self.assertAlmostEqual(tone_figure(7, 1900.0).quantity.value, 7 * 1900 / 60)
        self.assertAlmostEqual(sound_figure(0.05, 40.0).quantity.value, 56.03, delta=0.01)
        self.assertTrue(math.isnan(sound_figure(0.05, -1.0).quantity.value))


class Drawings(SimpleTestCase):
    def test_a_note_tells_its_length_in_the_readers_unit(self):
        drawing = Drawing(
            "x", notes=[Note((0.0, 0.0), "slot", "start", 0.0012), Note((0.0, 0.1), "plain")]
        )
        drawing.box(0, 0, 1, 1)
        svg = to_svg(drawing, lambda metres: f"{metres / 0.0254:.3f} in", 300, 200)
        self.assertIn(">slot 0.047 in<", svg)
        self.assertIn(">plain<", svg)
        self.assertIn(
            "slot 1.2 mm",
            to_dxf(drawing).decode() if isinstance(to_dxf(drawing), bytes) else to_dxf(drawing),
        )

    def test_the_rings_slot_is_named_beside_it(self):
        values = TOOLS["ring"].start()
        drawing = TOOLS["ring"].answer(values).drawing
        self.assertIn(("slot", values["slot"]), [(n.text, n.length) for n in drawing.notes])


class Waterfall(SimpleTestCase):
    def test_an_intakes_losses_add_up(self):
        intake = TOOLS["intake"]
        answer = intake.answer(intake.start())
        chart = answer.charts[0]
        self.assertTrue(chart.add_up)
        rows = specs.SPECS["curves"](chart_data(chart, [], "si"), "si")["layer"][0]["data"][
            "values"
        ]
        self.assertEqual(rows[-1]["name"], "all")
        self.assertAlmostEqual(rows[-1]["end"], rows[-2]["end"])
        self.assertAlmostEqual(rows[-1]["end"], sum(value for _, value in chart.bars))
