"""How figures of a working reach a page."""

from django.template import Context, Template
from django.test import RequestFactory, SimpleTestCase

from hauch.people.models import User
from hauch.ui.templatetags.figures import in_columns

STEP = {
    "name": "Operating point",
    "formula": "Δp(Q) = k Q^m",
    "value": 0.04,
    "unit": "m3/s",
    "note": "",
    "source": "",
    "inputs": [
        ["q1", 0.01, "m3/s"],
        ["q2", 0.02, "m3/s"],
        ["q3", 0.03, "m3/s"],
        ["p1", 90.0, "Pa"],
        ["p2", 80.0, "Pa"],
        ["p3", 70.0, "Pa"],
        ["m", 2.0, ""],
    ],
}


class WorkingStepTests(SimpleTestCase):
    def test_numbered_inputs_stand_in_columns(self):
        given = in_columns(STEP["inputs"])
        self.assertEqual((given["columns"], given["plain"]), (["q", "p"], [["m", 2.0, ""]]))
        self.assertEqual([number for number, _ in given["rows"]], ["1", "2", "3"])
        self.assertEqual(given["rows"][1][1], [(0.02, "m3/s"), (80.0, "Pa")])

    def test_two_of_a_kind_stay_in_line_and_gaps_stay_empty(self):
        self.assertEqual(in_columns([["n1", 1.0, ""], ["n2", 2.0, ""]])["rows"], [])
        given = in_columns(
            [
                ["q1", 1.0, ""],
                ["q2", 2.0, ""],
                ["q4", 3.0, ""],
                ["p1", 1.0, ""],
                ["p2", 1.0, ""],
                ["p3", 1.0, ""],
            ]
        )
        self.assertEqual(
            [(number, [cell and cell[0] for cell in cells]) for number, cells in given["rows"]][2:],
            [("4", [3.0, None]), ("3", [None, 1.0])],
        )

    def test_they_follow_the_persons_units(self):
        request = RequestFactory().get("/")
        for units, shown in (
            ("workshop", ("36", "m³/h", "9.177", "mmH2O")),
            ("inch", ("21.19", "cfm", "inH2O")),
        ):
            request.user = User(preset=units)
            html = Template('{% include "parts/working_step.html" %}').render(
                Context({"step": STEP, "request": request})
            )
            for part in shown:
                self.assertIn(part, html, units)
            self.assertEqual(html.count("<tr>"), 4)
