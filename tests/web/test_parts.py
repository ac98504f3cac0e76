"""Pieces of pages: figures, marks, the line, charts, forms; and rounds with very many entries."""

import json
import re
from unittest import mock

import vl_convert
from django.core.exceptions import ValidationError
from django.http import QueryDict
from django.template import Context, Template
from django.test import RequestFactory, SimpleTestCase, TestCase
from django.urls import reverse

from hauch.bench.forms import subject_of, typed_readings
from hauch.bench.models import Progress
from hauch.bench.plan import plan_of
from hauch.bench.progress import rebuild
from hauch.bench.runs import NewRun, Subject, Typed, record_dnf, record_run, void_run
from hauch.core.quantity.typed import parse_number
from hauch.entries import actions as entry_actions
from hauch.pages.line import counts, stations
from hauch.people.first import add_person, first_people
from hauch.people.models import User
from hauch.rounds.models import Round
from hauch.ui.charts import figure, specs
from hauch.ui.marks import SHAPES, mark_svg
from hauch.verdict.judging import judge_round
from tests.builder import ROOM, START, build


class Reader:
    """A person with a unit system, for templates."""

    is_authenticated = True

    def __init__(self, units):
        self.units = units


def render(text, units="workshop", **context):
    request = RequestFactory().get("/")
    request.user = Reader(units)
    html = Template(text).render(Context({"request": request, **context}))
    return re.sub(r"<[^>]+>", "", html)


class FigureTagTests(SimpleTestCase):
    def test_figures_in_the_units_of_the_person(self):
        text = '{% figure 0.0425 "volume_flow" 0.0005 %}'
        self.assertEqual(render(text, "workshop"), "153.0 ± 1.8 m³/h")
        self.assertEqual(render(text, "si"), "0.0425 ± 0.0005 m³/s")
        self.assertEqual(render(text, "inch"), "90.1 ± 1.1 cfm")

    def test_number_and_unit_for_table_heads(self):
        self.assertEqual(
            render('{% number 0.0425 "volume_flow" 0.0005 %} {% unit "volume_flow" %}'),
            "153.0 m³/h",
        )

    def test_working_figures_are_converted_where_they_have_a_kind(self):
        self.assertEqual(render('{% si 9.80665 "Pa" %}'), "1 mmH2O")
        self.assertEqual(render('{% si 186.04 "s" %}'), "186 s")
        self.assertEqual(render('{% si 0.846 "" %}'), "0.846")

    def test_probabilities_claim_no_certainty(self):
        for value, text in (
            (0.9999, "over 99 %"),
            (0.001, "below 1 %"),
            (0.61, "61 %"),
            (0.0, "below 1 %"),
        ):
            self.assertEqual(render("{{ p|share }}", p=value), text)
        self.assertEqual(render("{{ p|share }}", p=None), "–")

    def test_missing_figures_are_dashes(self):
        self.assertEqual(render('{% figure None "power" %}'), "– W")
        self.assertEqual(render('{% plain None "%" %}'), "– %")


class MarkTests(SimpleTestCase):
    def test_marks_differ_in_shape_and_colour_together(self):
        first = [mark_svg(n) for n in range(8)]
        self.assertEqual(len(set(first)), 8)
        self.assertEqual(
            len({re.search(r'd="([^"]+)"', svg).group(1) for svg in first}), len(SHAPES)
        )
        self.assertEqual(len({re.search(r'class="(m\d)', svg).group(1) for svg in first}), 8)

    def test_then_they_repeat_with_an_outline(self):
        self.assertIn("outlined", mark_svg(8))
        self.assertNotIn("outlined", mark_svg(7))
        self.assertEqual(len({mark_svg(n) for n in range(16)}), 16)

    def test_the_reference_is_a_ring(self):
        self.assertIn("ring", mark_svg(None))


class ChartTests(SimpleTestCase):
    """Every spec is compiled and drawn by an independent renderer."""

    DATA = {
        "sound_level": {
            "step": 0.5,
            "values": [54.0, 54.2, 61.0, 54.1],
            "used": [0.0, 0.9],
            "marks": [{"kind": "bang", "from": 1.0, "to": 1.2}],
            "unit": "dB(A)",
        },
        "sound_spectrum": {
            "line": {"f": [50.0, 1000.0], "v": [30.0, 20.0]},
            "reference": {"f": [50.0, 1000.0], "low": [31.0, 22.0], "high": [32.0, 23.0]},
            "marks": [{"f": 1000.0, "name": "whistle", "level": 40.0}],
            "unit": "dB in 1 Hz",
        },
        "sound_bands": {
            "bands": [
                {"f": 1000.0, "v": 40.0, "limit": False, "reference": 41.0},
                {"f": 1258.9, "v": 38.0, "limit": True, "reference": None},
            ],
            "unit": "dB",
        },
        "sound_changes": {
            "bands": [
                {"f": 1000.0, "v": -1.0, "low": -1.4, "high": -0.6, "clear": True},
                {"f": 1258.9, "v": 0.1, "low": -0.3, "high": 0.5, "clear": False},
            ]
        },
        "overlay": {
            "x_label": "flow",
            "x_kind": "volume_flow",
            "y_label": "level",
            "y_kind": "level",
            "lines": [{"name": "Amsel v1", "mark": 9, "x": [0.02, 0.04], "y": [40.0, 55.0]}],
            "reference": {"x": [0.02, 0.05], "y": [41, 57], "low": [40, 56], "high": [42, 58]},
            "at": 0.03,
        },
        "panel": {
            "unit": "%",
            "title": "mean place",
            "most": 100,
            "samples": [{"name": "U86 Amsel", "mean": 31.0, "u": 6.0}],
            "points": [
                {"name": "U86 Amsel", "value": 25.0, "judge": "Ilse", "apart": False},
                {"name": "U86 Amsel", "value": 75.0, "judge": "Jost", "apart": True},
            ],
        },
        "guesses": {
            "kind": "volume_flow",
            "label": "Air",
            "entries": ["Amsel"],
            "who": ["measured", "All guesses together"],
            "points": [
                {"name": "Amsel", "who": "measured", "value": 0.045},
                {"name": "Amsel", "who": "All guesses together", "value": 0.041},
            ],
            "spread": [{"name": "Amsel", "low": 0.04, "high": 0.043}],
        },
        "bracket": {
            "kind": "length",
            "name": "slot width",
            "unit": "%",
            "points": [
                {"size": 0.0011, "value": -1.0, "half": 0.6, "label": "v1"},
                {"size": 0.0016, "value": 2.0, "half": 0.5, "label": "v2"},
            ],
            "next": 0.0018,
            "best": None,
        },
        "repeats": {
            "kind": "volume_flow",
            "points": [
                {"label": "run 1", "value": 0.042, "expanded": 0.001, "this": True},
                {"label": "run 2", "value": 0.043, "expanded": 0.001},
            ],
            "reference": (0.041, 0.0004),
        },
        "trace": {
            "kind": "temperature",
            "label": "Load",
            "times": [0.0, 60.0, 120.0, 180.0],
            "values": [21.0, 40.0, None, 60.0],
            "windows": [(120.0, 180.0)],
            "marks": [{"kind": "dropout", "from": 110.0, "to": 130.0}],
            "reference": (61.0, 0.5),
        },
        "gains": [
            {"label": "Air", "gain": 6.0, "expanded": 1.2, "word": "better", "reference": 0.5},
            {
                "label": "Noise",
                "gain": 0.2,
                "expanded": 1.0,
                "word": "too close to call",
                "reference": 0.5,
            },
        ],
        "control": {
            "points": [
                {
                    "n": 1,
                    "run": 5,
                    "at": "2026-09-14",
                    "y": 0.1,
                    "ewma": 0.02,
                    "low": -0.3,
                    "high": 0.3,
                    "what": "inside",
                },
                {
                    "n": 2,
                    "run": 6,
                    "at": "2026-09-14",
                    "y": 2.1,
                    "ewma": 0.4,
                    "low": -0.3,
                    "high": 0.3,
                    "what": "outside",
                },
            ],
            "limit": 1.5,
            "unit": "%",
            "ready": True,
        },
        "residuals": {
            "kind": "air_speed",
            "points": [{"at": 1.0, "off": 0.01}, {"at": 5.0, "off": -0.02}],
            "band": [
                {"at": 1.0, "low": -0.03, "high": 0.03},
                {"at": 5.0, "low": -0.04, "high": 0.04},
            ],
        },
        "profile": {"points": [(0.28, 0.98), (0.96, 0.7)], "factor": 0.85},
        "curves": {
            "x": ("volume_flow", "flow"),
            "y": ("pressure", "pressure"),
            "bars": (),
            "others": [],
            "marks": [("now", 0.02), ("then", 0.03)],
            "points": [("duty", 0.02, 9.0), ("stalled", 0.01, 11.0)],
            "lines": [
                {
                    "label": "fan",
                    "xs": [0.0, 0.02, 0.04],
                    "ys": [12.0, 9.0, float("nan")],
                    "style": "first",
                },
                {"label": "system", "xs": [0.0, 0.04], "ys": [0.0, 20.0], "style": "dashed"},
                {"label": "other", "xs": [0.0, 0.04], "ys": [11.0, 1.0], "style": "other1"},
            ],
        },
        "sweep": {
            "x_label": "flow",
            "x_kind": "volume_flow",
            "y_label": "static pressure",
            "y_kind": "pressure",
            "points": [(0.0, 0.001, 60.0, 1.0), (0.02, 0.001, 50.0, 1.0), (0.04, 0.001, 20.0, 1.0)],
            "line": [(0.0, 60.0), (0.04, 20.0)],
            "system": [(0.0, 0.0), (0.04, 37.0)],
            "at": (0.03, 36.0),
        },
        "record": [
            {"by": "Alma", "metric": "airflow", "error": 4.0, "entry": "Distel"},
            {"by": "Rotor model", "metric": "airflow", "error": -7.0, "entry": "Distel"},
        ],
        "places": {
            "entries": ["Distel", "Mohn"],
            "cells": [
                {"entry": "Distel", "place": 1, "p": 0.8},
                {"entry": "Mohn", "place": 2, "p": 0.8},
            ],
        },
    }

    def drawn(self, name, system="workshop"):
        spec = json.loads(
            json.dumps(specs.SPECS[name](self.DATA[name], system)).replace('"container"', "600")
        )
        return vl_convert.vegalite_to_svg(spec)

    def test_all_draw_in_all_units(self):
        for name in specs.SPECS:
            for system in ("si", "workshop", "inch"):
                with self.subTest(name, system=system):
                    self.assertIn("<svg", self.drawn(name, system))

    def test_the_reference_is_a_band_and_a_dashed_line_in_each_with_figures(self):
        for name in ("repeats", "trace", "gains"):
            with self.subTest(name):
                layers = specs.SPECS[name](self.DATA[name], "si")["layer"]
                marks = [layer["mark"] for layer in layers[:2]]
                self.assertEqual((marks[0]["type"], marks[1]["strokeDash"]), ("rect", [5, 4]))

    def test_bars_stand_where_there_are_no_lines_and_variants_are_ticks(self):
        data = self.DATA["curves"] | {
            "bars": (("top", 0.01), ("bottom", 0.012)),
            "others": [("before", (("top", 0.011),))],
            "y": ("volume_flow", "flow"),
            "add_up": False,
        }
        spec = specs.SPECS["curves"](data, "workshop")
        self.assertEqual(
            [layer["mark"]["type"] for layer in spec["layer"]], ["bar", "text", "tick"]
        )
        self.assertAlmostEqual(spec["layer"][0]["data"]["values"][0]["value"], 36.0)
        added = specs.SPECS["curves"](data | {"add_up": True}, "si")["layer"][0]["data"]["values"]
        self.assertEqual(
            [(row["begin"], row["end"]) for row in added],
            [(0.0, 0.01), (0.01, 0.022), (0.0, 0.022)],
        )

    def test_variants_differ_without_colour(self):
        dashes = specs.SPECS["curves"](self.DATA["curves"], "si")["layer"][0]["encoding"][
            "strokeDash"
        ]["scale"]["range"]
        self.assertEqual(len({tuple(d) for d in dashes}), 3)

    def test_units_reach_the_axis(self):
        self.assertIn("m³/h", self.drawn("repeats"))
        self.assertIn("cfm", self.drawn("repeats", "inch"))
        self.assertIn("too close to call", self.drawn("gains"))

    def test_colours_are_names_that_the_page_resolves(self):
        text = json.dumps([specs.SPECS[name](data, "si") for name, data in self.DATA.items()])
        self.assertEqual(re.findall(r"#[0-9a-fA-F]{3,6}\b", text), [])
        self.assertIn("ink(petrol)", text)

    def test_hostile_names_stay_data(self):
        data = {
            "entries": ["</script><b>"],
            "cells": [{"entry": "</script><b>", "place": 1, "p": 1.0}],
        }
        html = figure("places", data, 'a "label" <x>', "si")
        self.assertEqual(html.count("</script>"), 1)
        self.assertIn("a &quot;label&quot; &lt;x&gt;", html)


class FormTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def test_numbers_as_people_type_them(self):
        for text, value in (("3,5", 3.5), (" 3.5 ", 3.5), ("−2", -2.0), ("1e3", 1000.0)):
            self.assertEqual(parse_number(text), value)
        for text in ("", "3,5,1", "1.234,5", "three"):
            with self.subTest(text), self.assertRaisesRegex(ValueError, "is not a number"):
                parse_number(text)

    def test_readings_with_their_units(self):
        data = QueryDict(
            "r-air_speed=961&r-air_speed=&r-air_speed=x&unit-air_speed=ft/min&r-speed=1900"
        )
        readings, problems = typed_readings(data, ("air_speed", "speed"), "workshop")
        self.assertAlmostEqual(readings["air_speed"][0].value, 961 * 0.00508, places=9)
        self.assertEqual(readings["air_speed"][0].typed, "961")
        self.assertEqual(problems, ["Air speed, reading 3: “x” is not a number."])
        self.assertEqual(readings["speed"][0].value, 1900.0)

    def test_subjects_by_choice_code_or_name(self):
        amsel = self.built.specimens["Amsel"]
        for choice in (f"s{amsel.pk}", "r-1", "AMSEL"):
            self.assertEqual(subject_of(self.built.round, choice).specimen, amsel)
        for choice in (f"r{self.built.reference.pk}", "l-02"):
            self.assertEqual(subject_of(self.built.round, choice).reference, self.built.reference)
        for choice in ("", "s999999", "nobody", "sx", "r-99"):
            with self.subTest(choice), self.assertRaises(ValidationError):
                subject_of(self.built.round, choice)

    def test_a_traverse_needs_no_profile_factor(self):
        readings = {
            "air_speed": [Typed(3.0 + point, str(point), "m/s", point) for point in (1, 2, 3)]
        }
        new = NewRun(
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Amsel"]),
            ROOM,
            START,
            readings,
        )
        run = record_run(self.built.operator, new)
        names = [step["name"] for step in run.result.working]
        self.assertIn("Traverse mean", names)
        self.assertEqual(run.readings.filter(position=2).count(), 1)


class LineTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def texts(self, who="host"):
        return {
            station.key: station.text
            for station in stations(self.built.round, self.built.people[who])
        }

    def test_a_round_as_it_goes_along(self):
        self.assertEqual(
            self.texts(),
            {
                "brief": "rules v1",
                "entries": "3 in",
                "workshop": "all ready",
                "bench": "0 of 18 runs",
                "verdict": "too early",
            },
        )
        self.built.air(self.built.reference, 0, (4.0, 4.0))
        self.built.air(self.built.specimens["Amsel"], 5, (4.4, 4.4))
        self.assertEqual(self.texts()["bench"], "1 of 18 runs")
        self.assertEqual(self.texts()["verdict"], "being computed")
        judge_round(self.built.round.pk)
        self.assertEqual(self.texts()["verdict"], "provisional")
        entry_actions.withdraw(self.built.host, self.built.entries["Binse"], "")
        self.assertEqual(
            (self.texts()["entries"], self.texts()["bench"]), ("2 in, 1 withdrawn", "1 of 12 runs")
        )
        self.built.specimens["Kiebitz"].state = "broken"
        self.built.specimens["Kiebitz"].save()
        self.assertEqual(self.texts()["workshop"], "all ready, 1 broken")

    def test_did_not_finish_is_asked_for_no_more_runs(self):
        record_dnf(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Binse"]),
            "rubs",
            START,
        )
        self.assertEqual(self.texts()["bench"], "0 of 12 runs")

    def test_who_may_go_where(self):
        open_to = {
            who: [s.key for s in stations(self.built.round, self.built.people[who]) if s.open]
            for who in ("operator", "viewer")
        }
        self.assertEqual(open_to["operator"], ["brief", "entries", "workshop", "bench", "verdict"])
        self.assertEqual(open_to["viewer"], ["brief", "entries", "workshop"])

    def test_each_round_has_its_own_counts_in_whatever_order(self):
        other = Round.objects.create(slug="empty", number=77, title="E", question="?", part="duct")
        one, two = counts([self.built.round]), counts([other])
        self.assertNotEqual(one, two)
        self.assertEqual(counts([other, self.built.round]), two + one)
        self.assertEqual(counts([self.built.round, other]), one + two)
        self.assertEqual(counts([]), [])

    def test_all_counts_in_one_query(self):
        with self.assertNumQueries(1):
            counts([self.built.round, self.built.round])

    def test_progress_kept_step_by_step_equals_progress_counted_anew(self):
        self.built.measure_all()
        run = self.built.air(self.built.specimens["Amsel"], 500, (4.4, 4.4))
        void_run(self.built.operator, run, "door")
        kept = sorted(
            Progress.objects.values_list("test", "entry", "counted", "missing", "dnf"), key=str
        )
        rebuild(self.built.round)
        self.assertEqual(
            sorted(
                Progress.objects.values_list("test", "entry", "counted", "missing", "dnf"), key=str
            ),
            kept,
        )


@mock.patch("hauch.bench.plan.MOST_CHOICES", 2)
@mock.patch("hauch.workshop.forms.MOST_CHOICES", 2)
class ManyEntriesTests(TestCase):
    """A round with more entries than a list can offer asks for codes and names."""

    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.air(cls.built.reference, 0, (4.0, 4.0))
        judge_round(cls.built.round.pk)

    def setUp(self):
        self.client.force_login(
            self.built.operator, backend="django.contrib.auth.backends.ModelBackend"
        )

    def test_plan_names_what_is_due_all_the_same(self):
        plan = plan_of(self.built.round, 2)
        self.assertTrue(plan.many)
        self.assertEqual((len(plan.due), plan.total), (2, 18))
        self.assertEqual(plan.due[0].specimen, self.built.specimens["Amsel"])

    def test_bench_asks_for_the_code(self):
        slug = self.built.round.slug
        self.assertContains(
            self.client.get(reverse("bench:overview", args=[slug])), "Code on the part, or entry"
        )
        pick = reverse("bench:pick", args=[slug])
        answer = self.client.get(
            pick, {"test": self.built.tests["air"].pk, "subject": "r-2"}, follow=True
        )
        self.assertContains(answer, "Binse, Air test, repeat 1")
        self.assertContains(
            self.client.get(
                pick, {"test": self.built.tests["air"].pk, "subject": "X-9"}, follow=True
            ),
            "Choose what was run",
        )
        self.assertContains(
            self.client.get(pick, {"test": "", "subject": "r-2"}, follow=True),
            "Choose a test and what is run.",
        )

    def test_workshop_asks_for_the_entry(self):
        url = reverse("workshop:add", args=[self.built.round.slug])
        self.assertContains(
            self.client.post(url, {"version": "kiebitz", "code": "R-77"}, follow=True),
            "Specimen R-77 is printed",
        )
        self.assertContains(
            self.client.post(url, {"version": "Nobody", "code": "R-78"}),
            "No entry of this round is named “Nobody”",
            status_code=422,
        )


class FirstPeopleTests(TestCase):
    def test_demo_and_plain_installation(self):
        import tempfile
        from pathlib import Path

        folder = Path(tempfile.mkdtemp())
        first_people(folder, demo=False)
        username, password = (folder / "logins").read_text().split()[:2]
        self.assertTrue(User.objects.get(username=username).check_password(password))
        self.assertTrue(User.objects.get().is_staff)
        before = (folder / "logins").read_text()
        first_people(folder, demo=True)
        self.assertEqual(((folder / "logins").read_text(), User.objects.count()), (before, 1))
        self.assertNotEqual(add_person("a", "A"), add_person("b", "B"))

    def test_home_of_an_installation_without_a_round(self):
        add_person("host", "Host", staff=True)
        self.client.force_login(
            User.objects.get(), backend="django.contrib.auth.backends.ModelBackend"
        )
        page = self.client.get("/")
        self.assertContains(page, "What do you want to compare?")
        self.assertContains(page, "Import a round")
        self.assertContains(self.client.get("/stores/"), "No rig yet")
