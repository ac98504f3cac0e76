"""The Desk over HTTP: tools, refusals, keeping, handing to entries, measured values, searches, the
record.
"""

import io
import json
import zipfile

from django.core.exceptions import PermissionDenied, ValidationError
from django.db import connection
from django.test import TestCase, TransactionTestCase
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hauch.core.quantity import expanded
from hauch.desk import actions, queries
from hauch.desk.forms import ToolForm
from hauch.desk.jobs import search_later
from hauch.desk.models import Around, Design, MeasuredBack, Search
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from hauch.entries.actions import add_version, attach
from hauch.entries.models import Prediction
from hauch.entries.predictions import predict
from hauch.people.models import AuditEntry
from hauch.stores.models import Rig
from hauch.workshop.models import Specimen
from hauch.workshop.queries import usual_steps
from tests.builder import build
from tests.emptied import Emptied


def posted(tool, **changes):
    """What a browser posts for a tool's start values in SI, with some fields changed as typed."""
    form = ToolForm(TOOLS[tool], None, units="si", initial=TOOLS[tool].start())
    data = {}
    for name in form.fields:
        value = form[name].value()
        data[name] = "" if value is None else value
    return data | {k: str(v) for k, v in changes.items()}


class DeskCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        for user in self.built.people.values():
            user.preset = "si"
            user.save()
        self.client.force_login(self.built.people["designer"])

    def ask(self, tool, **changes):
        return self.client.post(
            reverse("desk:tool", args=[tool]),
            posted(tool, **changes),
            headers={"HX-Request": "true"},
        )


class ToolPageTests(DeskCase):
    def test_every_tool_has_a_page_with_drawing_figures_and_chart(self):
        for key, tool in TOOLS.items():
            with self.subTest(key):
                response = self.client.get(reverse("desk:tool", args=[key]))
                self.assertEqual(response.status_code, 200)
                self.assertContains(response, '<svg class="drawing"')
                self.assertContains(response, tool.question)
                self.assertContains(response, "data-chart")
                self.assertContains(response, tool.valid)
                for caution in tool.cautions:
                    self.assertTrue(caution in response.content.decode(), caution)

    def test_every_tool_answers_what_its_own_form_posts(self):
        for key in TOOLS:
            with self.subTest(key):
                response = self.ask(key)
                self.assertEqual(response.status_code, 200, response.content[:400])
                self.assertTemplateUsed(response, "desk/_answer.html")
                self.assertTemplateNotUsed(response, "desk/tool.html")

    def test_an_answer_asks_few_queries(self):
        with self.assertNumQueries(3):  # session, person, roles
            self.ask("rotor")
        with self.assertNumQueries(8):
            self.client.get(reverse("desk:tool", args=["rotor"]))

    def test_a_refusal_says_why_and_goes_beside_the_last_good_drawing(self):
        for tool, changes, said in (
            ("rotor", {"hub": "0.2"}, "must be larger than the hub"),
            ("rotor", {"blades": "40", "hub": "0.02"}, "overlap at the hub"),
            ("rotor", {"gap": "-0.001"}, "would cut into its bore"),
            ("rotor", {"tip": "wide"}, "“wide” is not a number"),
            ("rotor", {"tip": ""}, "Tip diameter"),
            ("ring", {"slot": "0.1"}, "wider than half the throat"),
            ("ring", {"wall": "-0.001"}, "must be above 0"),
            ("duct", {"wall": "-0.002"}, "must be above 0"),
            ("silencer", {"chamber": "0.03"}, "must be wider than the duct"),
            ("jet", {"gauge": "-0.5"}, "it lies between 0"),
            ("pack", {"cut_off": "1"}, "below which cells are damaged"),
            ("cushion", {"perimeter": "0.2"}, "cannot enclose"),
            ("impeller", {"outer": "0.04"}, "must be larger than the blades"),
            ("intake", {"elements_0_extra": "250"}, "cannot be"),
        ):
            with self.subTest(said):
                response = self.ask(tool, **changes)
                self.assertEqual(response.status_code, 422)
                self.assertEqual(response["HX-Retarget"], "#problems")
                self.assertTrue(said in response.content.decode(), response.content.decode())
                self.assertNotContains(response, "<svg", status_code=422)

    def test_a_refused_design_posted_without_script_keeps_what_was_typed(self):
        response = self.client.post(
            reverse("desk:tool", args=["rotor"]), posted("rotor", hub="0.2")
        )
        self.assertContains(response, 'value="0.2"', status_code=422)
        self.assertContains(response, '<svg class="drawing"', status_code=422)

    def test_figures_are_in_the_persons_units_and_typed_in_them(self):
        designer = self.built.people["designer"]
        designer.preset = "inch"
        designer.save()
        page = self.client.get(reverse("desk:tool", args=["rotor"]))
        self.assertContains(page, "Tip diameter, in")
        self.assertContains(page, 'value="5.276"')  # 134 mm
        self.assertContains(page, "cfm")

    def test_the_working_of_a_figure_opens(self):
        response = self.client.post(
            reverse("desk:working", args=["rotor", "flow"]), posted("rotor")
        )
        self.assertContains(response, "Work by Euler there")
        self.assertContains(response, "blade-element model")
        self.assertEqual(
            self.client.post(
                reverse("desk:working", args=["rotor", "nothing"]), posted("rotor")
            ).status_code,
            404,
        )

    def test_rows_can_be_added_and_left_empty(self):
        with_slots = self.ask(
            "ring",
            slots_0_width="0.0011",
            slots_1_width="0.0016",
            slots_2_width="0.0012",
            slots_3_width="",
        )
        self.assertContains(with_slots, "scatter over 3 places")
        without = posted("intake") | {
            f"elements_{i}_{c}": "" for i in range(7) for c in ("diameter", "length", "extra")
        }
        refused = self.client.post(
            reverse("desk:tool", args=["intake"]), without, headers={"HX-Request": "true"}
        )
        self.assertContains(refused, "no element yet", status_code=422)

    def test_strangers_and_unknown_tools_get_nothing(self):
        self.assertEqual(self.client.get("/desk/kettle/").status_code, 404)
        self.client.force_login(self.built.people["stranger"])
        self.assertEqual(self.client.get("/desk/").status_code, 403)
        self.assertEqual(self.ask("rotor").status_code, 403)
        self.client.logout()
        self.assertEqual(self.client.get("/desk/rotor/").status_code, 302)


class FileTests(DeskCase):
    def get_file(self, tool, kind, **changes):
        return self.client.post(reverse("desk:file", args=[tool, kind]), posted(tool, **changes))

    def test_every_offered_file_can_be_had(self):
        starts = {
            "svg": b"<svg",
            "dxf": b"  0",
            "json": b"{",
            "csv": b"\xef\xbb\xbffigure",
            "stl": b"",
            "3mf": b"PK",
        }
        for tool, kinds in (("rotor", starts), ("pack", ["svg", "json", "csv"])):
            for kind in kinds:
                with self.subTest(f"{tool} {kind}"):
                    response = self.get_file(tool, kind)
                    self.assertEqual(response.status_code, 200)
                    self.assertTrue(response.content.startswith(starts[kind]))
                    self.assertIn("attachment", response["Content-Disposition"])
        self.assertEqual(self.get_file("pack", "stl").status_code, 404)
        self.assertEqual(self.get_file("rotor", "exe").status_code, 404)

    def test_the_3mf_says_its_unit_and_the_stl_is_in_millimetres(self):
        with zipfile.ZipFile(io.BytesIO(self.get_file("ring", "3mf").content)) as archive:
            model = archive.read(
                next(n for n in archive.namelist() if n.endswith(".model"))
            ).decode()
        self.assertTrue('unit="millimeter"' in model)
        import trimesh

        mesh = trimesh.load(io.BytesIO(self.get_file("silencer", "stl").content), file_type="stl")
        self.assertTrue(mesh.is_watertight)
        self.assertAlmostEqual(mesh.extents[0], 90 + 2 * 1.6, delta=0.1)

    def test_a_refused_design_gives_no_file(self):
        self.assertContains(
            self.get_file("rotor", "stl", hub="0.3"), "must be larger", status_code=422
        )

    def test_the_print_is_shown_with_its_size(self):
        response = self.client.post(reverse("desk:preview", args=["rotor"]), posted("rotor"))
        self.assertContains(response, "data:image/png;base64,")
        self.assertContains(response, "watertight")
        hub = self.client.post(
            reverse("desk:preview", args=["rotor"]), posted("rotor", shaft="0.049")
        )
        self.assertContains(hub, "do not fit into a hub", status_code=422)
        self.assertEqual(
            self.client.post(reverse("desk:preview", args=["pack"]), posted("pack")).status_code,
            404,
        )

    def test_a_design_travels_as_json(self):
        data = json.loads(self.get_file("rotor", "json", blades="9").content)
        self.assertEqual(data["inputs"]["blades"], 9)
        self.assertTrue(data["figures"]["flow"]["working"])
        upload = io.BytesIO(json.dumps(data | {"name": "Carried"}).encode())
        upload.name = "design.json"
        response = self.client.post(reverse("desk:load", args=["rotor"]), {"do_file": upload})
        self.assertRedirects(
            response,
            Design.objects.get(name="Carried").get_absolute_url(),
            fetch_redirect_response=False,
        )
        self.assertEqual(Design.objects.get().inputs["blades"], 9)

    def test_a_file_that_is_no_design_is_refused_with_a_sentence(self):
        good = json.loads(self.get_file("rotor", "json").content)
        for content, said in (
            (b"\xff\x00", "no design that the Desk has written"),
            (b"[1]", "no design that the Desk has written"),
            (json.dumps(good | {"tool": "ring"}).encode(), "another tool"),
            (json.dumps(good | {"inputs": {"pitch": "steep"}}).encode(), "do not have the shape"),
            (json.dumps(good | {"inputs": {**good["inputs"], "hub": 9}}).encode(), "cannot be"),
            (
                json.dumps(good | {"inputs": {**good["inputs"], "hub": float("nan")}}).encode(),
                "no design that the Desk has written",
            ),
            (
                json.dumps(good | {"inputs": {**good["inputs"], "pitch": [0.5, 0.4]}}).encode(),
                "needs 5 points",
            ),
            (b"x" * 300_000, "too large"),
        ):
            with self.subTest(said):
                upload = io.BytesIO(content)
                upload.name = "design.json"
                response = self.client.post(
                    reverse("desk:load", args=["rotor"]), {"do_file": upload}, follow=True
                )
                self.assertContains(response, said)
        self.assertEqual(Design.objects.count(), 0)

    def test_the_table_escapes_formulas(self):
        Design.objects.create(
            owner=self.built.people["designer"], tool="duct", name="x", inputs=TOOLS["duct"].start()
        )
        response = self.get_file("duct", "csv", branches_0_name="=1+1")
        self.assertTrue(
            "=1+1" not in [c.split(",")[0] for c in response.content.decode().splitlines()]
        )
        self.assertContains(response, "Flow of =1+1")


class DesignTests(DeskCase):
    def save(self, name, tool="rotor", **changes):
        return self.client.post(
            reverse("desk:save", args=[tool]), posted(tool, do_name=name, **changes)
        )

    def test_kept_designs_come_back_and_are_replaced_by_name(self):
        self.save("First", blades="9")
        design = Design.objects.get()
        page = self.client.get(design.get_absolute_url())
        self.assertContains(page, "Rotor: First")
        self.assertContains(page, 'name="blades" value="9"')
        self.save("first", blades="11")
        self.assertEqual(Design.objects.get().inputs["blades"], 11)
        self.assertContains(self.client.get("/desk/"), "first")

    def test_a_name_is_needed_and_a_design_that_can_be(self):
        self.assertContains(self.save(" "), "Give the design a name", status_code=422)
        self.assertContains(self.save("Bad", hub="0.4"), "must be larger", status_code=422)
        self.assertEqual(Design.objects.count(), 0)

    def test_up_to_three_others_are_compared(self):
        for name, blades in (("Five", 5), ("Nine", 9), ("Eleven", 11), ("Thirteen", 13)):
            self.save(name, blades=blades)
        pks = list(Design.objects.order_by("pk").values_list("pk", flat=True))
        data = posted("rotor") | {"with": pks}
        response = self.client.post(
            reverse("desk:tool", args=["rotor"]), data, headers={"HX-Request": "true"}
        )
        for name in ("Five", "Nine", "Eleven"):
            self.assertContains(response, f"<th>{name}</th>", html=True)
        self.assertNotContains(response, "<th>Thirteen</th>", html=True)

    def test_nobody_opens_changes_or_throws_away_the_design_of_another(self):
        self.save("Mine")
        design = Design.objects.get()
        self.client.force_login(self.built.host)
        self.assertEqual(self.client.get(design.get_absolute_url()).status_code, 404)
        self.assertEqual(
            self.client.post(
                reverse("desk:delete", args=["rotor"]), {"design": design.pk}
            ).status_code,
            404,
        )
        with self.assertRaises(ValidationError):
            actions.delete_design(self.built.host, design)
        with self.assertRaises(ValidationError):
            actions.save_design(
                self.built.host, TOOLS["rotor"], "Mine too", design.inputs, over=design
            )
        self.client.force_login(self.built.people["designer"])
        self.client.post(reverse("desk:delete", args=["rotor"]), {"design": design.pk})
        self.assertEqual(Design.objects.count(), 0)

    def test_the_rig_is_the_system(self):
        rig = Rig.objects.get()
        self.assertGreater(queries.resistance_of(rig), 0)
        response = self.ask("rotor", rig=rig.pk)
        self.assertContains(response, "On Rack rig")
        self.assertEqual(queries.resistance_of(Rig(kind="chamber")), 0.0)

    def test_rows_of_a_file_are_completed_and_checked(self):
        good = json.loads(
            self.client.post(reverse("desk:file", args=["duct", "json"]), posted("duct")).content
        )
        for branches, said in (
            ([{"name": "only"}], "is taken in"),
            ([{"width": -1.0}], "row 1: width"),
            ([{"name": "x" * 50}], "must be a short text"),
        ):
            upload = io.BytesIO(
                json.dumps(good | {"inputs": {**good["inputs"], "branches": branches}}).encode()
            )
            upload.name = "design.json"
            self.assertContains(
                self.client.post(
                    reverse("desk:load", args=["duct"]), {"do_file": upload}, follow=True
                ),
                said,
            )

    def test_the_envelope_of_a_round_is_held_against_the_part(self):
        fits = self.ask("rotor", fit=self.built.round.pk)
        self.assertNotContains(fits, "It sweeps")
        self.assertContains(
            self.ask("rotor", fit=self.built.round.pk, tip="0.136"),
            "It sweeps 136 mm; the bore less its tip gap leaves 134.4 mm in Drying rack.",
        )
        self.assertContains(
            self.ask("rotor", fit=self.built.round.pk, depth="0.04"),
            "It is 40 mm; 26 mm deep is allowed in Drying rack.",
        )
        self.assertContains(
            self.ask("rotor", fit=self.built.round.pk, shaft="0.005"), "4 mm is asked for"
        )
        self.assertContains(self.ask("rotor", fit=999), "Select a valid choice", status_code=422)
        ring = self.client.get(reverse("desk:tool", args=["ring"]))
        self.assertNotIn(
            self.built.round, ring.context["form"].fields["fit"].queryset
        )  # a rotor's round
        self.save("Fitted", fit=self.built.round.pk)
        self.assertEqual(Design.objects.get().fit, self.built.round)

    def test_a_pack_drives_a_rotor_by_its_own_curve(self):
        self.save("Driven")
        rotor = Design.objects.get()
        load = dict(queries.load_of(rotor))
        self.assertAlmostEqual(
            load[0.5] / load[1.0], 0.125, delta=0.03
        )  # the cube, and a little more: the Reynolds number falls
        full = TOOLS["rotor"].answer(rotor.inputs).figure("electrical").quantity.value
        self.assertAlmostEqual(load[1.0] / full, 1.0, delta=0.02)
        with_rotor = self.ask("pack", load=rotor.pk, throttle="100")
        self.assertContains(with_rotor, "Runs for")
        answer = TOOLS["pack"].answer(
            TOOLS["pack"].start() | {"throttle": 100.0},
            queries.setting_for("pack", Around(load=rotor)),
        )
        current = answer.figure("current").quantity.value
        self.assertAlmostEqual(current, full / 0.94 / 12.6, delta=0.01)
        self.client.force_login(self.built.host)
        self.assertContains(
            self.ask("pack", load=rotor.pk), "Select a valid choice", status_code=422
        )


class HandingTests(DeskCase):
    def hand(self, who="designer", tool="rotor", **changes):
        self.client.force_login(self.built.people[who])
        return self.client.post(
            reverse("desk:to_entry", args=[tool]),
            posted(tool, do_entry=self.built.entries["Amsel"].pk, **changes),
            follow=True,
        )

    def test_an_answer_becomes_predictions_for_the_tests_of_the_round(self):
        response = self.hand()
        self.assertContains(response, "has a prediction for: Air test, Power test")
        rows = {p.procedure: p for p in Prediction.objects.all()}
        self.assertEqual(set(rows), {"airflow", "electrical_power"})
        self.assertEqual(rows["airflow"].model, "rotor")
        self.assertGreater(rows["airflow"].u, 0)
        self.assertEqual(rows["airflow"].inputs["blades"], 7)
        self.assertEqual(Design.objects.get().name, "Amsel v1")
        self.hand(blades="9")
        self.assertEqual(Prediction.objects.count(), 2)
        self.assertTrue(AuditEntry.objects.filter(action="entry.predict").exists())

    def test_a_part_becomes_a_new_version_with_files(self):
        response = self.hand(do_make="1", do_changed="Made at the Desk.")
        self.assertContains(response, "has version 2, with its files")
        version = self.built.entries["Amsel"].versions.get(number=2)
        self.assertEqual(version.changed, "Made at the Desk.")
        (made,) = version.files.all()  # one part, in one file, whose unit is known
        self.assertEqual((made.name[-4:], made.unit), (".stl", "mm"))
        specimen = Specimen.objects.create(version=version, code="R-9")
        self.assertNotIn("Glue", " ".join(text for _, text in usual_steps(specimen)))
        # One part in two formats that somebody handed in is one piece too.
        attach(self.built.people["designer"], version, made.name[:-4] + ".3mf", b"x", check=False)
        self.assertNotIn("Glue", " ".join(text for _, text in usual_steps(specimen)))
        attach(self.built.people["designer"], version, "spinner.stl", b"x", check=False)
        self.assertIn("Glue or screw the 2 pieces", " ".join(t for _, t in usual_steps(specimen)))
        self.assertEqual(version.predictions.count(), 2)
        got = self.client.get(reverse("desk:part_file", args=[made.pk]))
        self.assertEqual(len(got.content), made.size)
        self.assertContains(
            self.hand(do_make="1", do_changed="Pressed twice."),
            "Amsel v2 holds this very part already",
            status_code=422,
        )
        self.client.force_login(self.built.people["viewer"])
        self.assertEqual(
            self.client.get(reverse("desk:part_file", args=[made.pk])).status_code, 404
        )

    def test_names_of_files_are_made_harmless(self):
        version = add_version(self.built.people["designer"], self.built.entries["Amsel"], "x")
        for name, kept in (
            ("../../etc/pass\r\nwd", "pass__wd"),
            ('a"b<c>.stl', "a_b_c_.stl"),
            ("..", "part"),
            ("Rotor ü (2).3mf", "Rotor ü (2).3mf"),
        ):
            file = attach(self.built.people["designer"], version, name, b"x")
            self.assertEqual(file.name, kept)
            self.assertEqual(
                self.client.get(reverse("desk:part_file", args=[file.pk])).status_code, 200
            )
        self.built.air(
            Specimen.objects.create(version=version, code="R-9", state="ready"), 5, (4.0, 4.1)
        )
        version.refresh_from_db()
        with self.assertRaisesMessage(ValidationError, "add a new version for a change"):
            attach(self.built.people["designer"], version, "late.stl", b"x")

    def test_a_version_wants_a_word_and_nothing_is_half_kept(self):
        response = self.hand(do_make="1", do_changed=" ")
        self.assertContains(response, "Say in a few words", status_code=422)
        self.assertEqual(self.built.entries["Amsel"].versions.count(), 1)
        self.assertEqual(Design.objects.count(), 0)

    def test_a_part_that_does_not_fit_is_not_handed_in(self):
        response = self.hand(do_make="1", do_changed="Larger.", tip="0.136")
        self.assertContains(response, "It sweeps 136 mm", status_code=422)
        self.assertEqual(self.built.entries["Amsel"].versions.count(), 1)

    def test_after_the_first_run_predictions_are_fixed(self):
        version = self.built.specimens["Amsel"].version
        self.built.air(self.built.specimens["Amsel"], 5, (4.0, 4.1))
        version.refresh_from_db()
        self.assertIsNotNone(version.sealed_at)
        self.assertContains(self.hand(), "its predictions are fixed", status_code=422)
        with self.assertRaises(ValidationError):
            predict(self.built.people["designer"], version, "airflow", 0.05)

    def test_a_ring_is_not_offered_to_a_round_of_rotors(self):
        designer = self.built.people["designer"]
        self.client.force_login(designer)
        for key, offered in (("rotor", True), ("impeller", True), ("ring", False), ("jet", True)):
            page = self.client.get(reverse("desk:tool", args=[key]))
            self.assertIs("Amsel, Drying rack" in page.content.decode(), offered, key)
        self.assertContains(self.hand(tool="ring"), "a round of rotors", status_code=422)
        ring, entry = TOOLS["ring"], self.built.entries["Amsel"]
        with self.assertRaisesRegex(ValidationError, "a round of rotors; .* makes bladeless rings"):
            actions.new_version(designer, ring, ring.start(), Setting(), entry, "a ring")
        with self.assertRaisesRegex(ValidationError, "Choose another entry"):
            actions.predict_for(
                designer, ring, ring.start(), Setting(), self.built.specimens["Amsel"].version
            )

    def test_designs_are_compared_on_one_system(self):
        designer = self.built.people["designer"]
        self.client.force_login(designer)
        rotor = TOOLS["rotor"]
        values = rotor.start()
        actions.save_design(designer, rotor, "Same", values)
        same = Design.objects.get(name="Same")
        actions.save_design(designer, rotor, "Other system", values | {"system_pressure": 60.0})
        other = Design.objects.get(name="Other system")
        url = reverse("desk:tool", args=["rotor"])
        page = self.client.get(url, {"design": same.pk, "with": other.pk})
        self.assertContains(page, "Other system was kept for another system and is shown on this")
        row = next(r for r in page.context["rows"] if r["figure"].key == "flow")
        self.assertEqual(row["others"][0]["change"], 0.0)
        page = self.client.get(url, {"design": other.pk, "with": same.pk})
        self.assertContains(page, "Same was kept for another system")
        page = self.client.get(url, {"design": same.pk, "with": same.pk})
        self.assertNotContains(page, "kept for another system")

    def test_only_designer_and_host_hand_in(self):
        for who, found in (
            ("designer", True),
            ("host", True),
            ("operator", False),
            ("viewer", False),
        ):
            self.assertEqual(
                self.built.entries["Amsel"] in queries.entries_to_predict(self.built.people[who]),
                found,
                who,
            )
        self.assertNotIn(
            self.built.entries["Binse"], queries.entries_to_predict(self.built.people["designer"])
        )
        self.assertContains(self.hand("operator"), "Choose the entry", status_code=422)
        for who in ("operator", "viewer", "stranger"):
            with self.assertRaises(PermissionDenied):
                predict(
                    self.built.people[who], self.built.specimens["Amsel"].version, "airflow", 0.05
                )
            with self.assertRaises(PermissionDenied):
                add_version(self.built.people[who], self.built.entries["Amsel"], "x")

    def test_a_tool_that_foretells_nothing_of_the_round_says_so(self):
        self.assertContains(
            self.hand(tool="cushion"),
            "has no test that this tool foretells; it foretells hover gap",
            status_code=422,
        )
        with self.assertRaises(ValidationError):
            predict(
                self.built.people["designer"], self.built.specimens["Amsel"].version, "taste", 1.0
            )
        with self.assertRaises(ValidationError):
            predict(
                self.built.people["designer"],
                self.built.specimens["Amsel"].version,
                "airflow",
                float("inf"),
            )


class MeasuredBackTests(DeskCase):
    def send(self, measured, figure="flow", who="operator", **changes):
        self.client.force_login(self.built.people[who])
        rig = Rig.objects.get()
        data = posted(
            "rotor", rig=rig.pk, measured_rig=rig.pk, figure=figure, measured=measured, **changes
        )
        return self.client.post(reverse("desk:measured", args=["rotor"]), data, follow=True)

    def predicted(self):
        rig = Rig.objects.get()
        return (
            TOOLS["rotor"]
            .answer(TOOLS["rotor"].start(), Setting(rig.name, queries.resistance_of(rig)))
            .figure("flow")
            .quantity.value
        )

    def test_measured_values_make_a_factor_that_the_model_then_uses(self):
        value = self.predicted()
        response = self.send(1.10 * value, half=0.02 * value)
        self.assertContains(response, "multiplied by 1.1")
        self.send(1.06 * value)
        rig = Rig.objects.get()
        factor = queries.factors_of("rotor", rig)["flow"]
        self.assertEqual(factor.count, 2)
        self.assertAlmostEqual(factor.value, (1.10 * 1.06) ** 0.5, places=4)
        answer = TOOLS["rotor"].answer(
            TOOLS["rotor"].start(), queries.setting_for("rotor", Around(rig))
        )
        self.assertAlmostEqual(answer.figure("flow").quantity.value / value, factor.value, places=4)
        self.assertEqual(
            answer.figure("flow").quantity.working[-1].name, f"Measured back on {rig.name}"
        )
        self.assertEqual(MeasuredBack.objects.count(), 2)

    def test_a_withdrawn_value_no_longer_counts(self):
        self.send(1.10 * self.predicted())
        row = MeasuredBack.objects.get()
        self.client.force_login(self.built.people["designer"])
        self.assertEqual(
            self.client.post(reverse("desk:withdraw_measured", args=[row.pk])).status_code, 403
        )
        self.client.force_login(self.built.operator)
        self.client.post(reverse("desk:withdraw_measured", args=[row.pk]))
        self.assertEqual(queries.factors_of("rotor", Rig.objects.get()), {})

    def test_what_cannot_be_is_refused(self):
        for measured, said in (
            ("", "Type what was measured"),
            ("-1", "must be above 0"),
            ("many", "is not a number"),
            (str(40 * self.predicted()), "Check the unit"),
        ):
            with self.subTest(said):
                self.assertContains(self.send(measured), said, status_code=422)
        self.assertEqual(self.send(0.05, who="designer").status_code, 403)
        self.assertEqual(MeasuredBack.objects.count(), 0)


class RecordTests(DeskCase):
    def setUp(self):
        super().setUp()
        version = self.built.specimens["Amsel"].version
        predict(self.built.people["designer"], version, "airflow", 0.05, 0.002)
        actions.predict_for(
            self.built.people["designer"],
            TOOLS["rotor"],
            TOOLS["rotor"].start(),
            Setting(),
            version,
        )

    def test_sealed_until_the_first_run_then_shown(self):
        fragment = reverse("desk:entry", args=[self.built.entries["Amsel"].pk])
        self.client.force_login(self.built.operator)
        self.assertContains(self.client.get(fragment), "3 sealed predictions")
        self.client.force_login(self.built.people["designer"])
        self.assertContains(self.client.get(fragment), "0.05")
        self.built.measure_and_judge()
        self.client.force_login(self.built.operator)
        page = self.client.get(fragment)
        self.assertNotContains(page, "sealed")
        self.assertContains(page, "Rotor model")

    def test_bias_and_scatter_by_designer_and_model(self):
        self.built.measure_and_judge()
        held = queries.held_against(Prediction.objects.all(), self.built.host)
        lines = {(line.by, line.procedure.key): line for line in queries.lines_of(held)}
        own = lines[str(self.built.people["designer"]), "airflow"]
        measured = next(h.measured for h in held if h.procedure.key == "airflow")
        self.assertAlmostEqual(own.record.bias, 100 * (0.05 / measured - 1), places=9)
        self.assertIn(("Rotor model", "electrical_power"), lines)
        self.client.force_login(self.built.host)
        page = self.client.get(reverse("desk:record"))
        self.assertContains(page, "Rotor model")
        designer = self.built.people["designer"]
        self.assertContains(
            self.client.get(reverse("desk:designer", args=[designer.pk])),
            "predictions against the bench",
        )
        self.client.force_login(self.built.people["viewer"])
        self.assertContains(
            self.client.get(reverse("desk:record")),
            "Nobody has predicted anything that you may see",
        )
        self.assertEqual(
            self.client.get(reverse("desk:designer", args=[designer.pk])).status_code, 403
        )

    def test_a_prediction_by_a_tool_that_is_not_here_is_still_shown(self):
        version = self.built.specimens["Amsel"].version
        Prediction.objects.create(
            version=version, procedure="airflow", source="model", model="kettle", value=0.05
        )
        self.assertContains(
            self.client.get(reverse("desk:entry", args=[self.built.entries["Amsel"].pk])),
            "kettle model",
        )

    def test_a_designer_predicts_on_the_entrys_page_and_takes_it_back(self):
        fragment = reverse("desk:entry", args=[self.built.entries["Amsel"].pk])
        self.client.post(
            fragment, {"airflow": "0.061", "airflow_half": "0.004", "electrical_power": ""}
        )
        mine = Prediction.objects.get(source="designer")
        self.assertEqual(mine.value, 0.061)
        self.assertAlmostEqual(expanded(mine.u), 0.004, places=12)
        self.assertContains(
            self.client.post(fragment, {"airflow": "lots"}, follow=True),
            "The prediction is not kept",
        )
        self.client.post(fragment, {"airflow": "", "airflow_half": ""})
        self.assertFalse(Prediction.objects.filter(source="designer").exists())
        self.client.force_login(self.built.people["viewer"])
        self.assertEqual(self.client.get(fragment).status_code, 404)

    def test_the_fragment_and_the_record_ask_few_queries(self):
        self.built.measure_and_judge()
        with self.assertNumQueries(11):
            self.client.get(reverse("desk:entry", args=[self.built.entries["Amsel"].pk]))
        for who in ("designer", "host"):
            self.client.force_login(self.built.people[who])
            with self.subTest(who), CaptureQueriesContext(connection) as queries_made:
                self.client.get(reverse("desk:record"))
            self.assertLessEqual(len(queries_made), 8)


class SearchTests(Emptied, TransactionTestCase):
    def setUp(self):
        self.built = build()
        self.designer = self.built.people["designer"]
        self.designer.preset = "si"
        self.designer.save()
        self.client.force_login(self.designer)
        self.start = TOOLS["rotor"].start()

    def begin(self, aim="efficiency", **limits):
        return actions.start_search(self.designer, self.start, queries.NOTHING, aim, limits)

    def test_a_search_finds_a_better_rotor_within_its_limits(self):
        import hauch.desk.search as module

        row = self.begin(power=3.2)
        full = module.ROUNDS
        try:
            module.ROUNDS = 4
            search_later(row.pk)
        finally:
            module.ROUNDS = full
        row.refresh_from_db()
        self.assertEqual(row.state, Search.State.DONE, row.reason)
        self.assertGreaterEqual(row.best["figures"]["efficiency"], row.best["before"]["efficiency"])
        self.assertLessEqual(row.best["figures"]["power"], 3.2)
        self.assertTrue(row.front)
        page = self.client.get(reverse("desk:search", args=[row.uid]))
        self.assertContains(page, "Save as a design")
        self.client.post(
            reverse("desk:stop_search", args=[row.uid]),
            {"keep": "1", "do_name": "Found", "of": "0"},
        )
        self.assertTrue(Design.objects.filter(name="Found", owner=self.designer).exists())
        again = self.client.get(
            reverse("desk:search", args=[row.uid]), headers={"HX-Request": "true"}
        )
        self.assertEqual(again.status_code, 286)

    def test_a_waiting_search_is_stopped_at_once_and_a_stopped_one_does_nothing(self):
        row = self.begin()
        self.client.post(reverse("desk:stop_search", args=[row.uid]))
        row.refresh_from_db()
        self.assertEqual(row.state, Search.State.CANCELLED)
        search_later(row.pk)
        row.refresh_from_db()
        self.assertEqual((row.state, row.tried), (Search.State.CANCELLED, 0))

    def test_a_running_search_stops_when_asked(self):
        row = self.begin()
        Search.objects.filter(pk=row.pk).update(state=Search.State.RUNNING, cancel=True)
        search_later(row.pk)
        row.refresh_from_db()
        self.assertEqual(row.state, Search.State.CANCELLED)
        self.assertLess(row.tried, 100)

    def test_limits_that_nothing_keeps_end_with_a_sentence(self):
        row = self.begin(flow=9.0)
        import hauch.desk.search as module

        full = module.ROUNDS
        try:
            module.ROUNDS = 1
            search_later(row.pk)
        finally:
            module.ROUNDS = full
        row.refresh_from_db()
        self.assertEqual(row.state, Search.State.FAILED)
        self.assertIn("Loosen a limit", row.reason)

    def test_what_cannot_be_searched_is_refused(self):
        with self.assertRaises(ValidationError):
            actions.start_search(
                self.designer, self.start | {"placed": "free"}, queries.NOTHING, "flow", {}
            )
        with self.assertRaises(ValidationError):
            self.begin("beauty")
        with self.assertRaises(ValidationError):
            self.begin("flow", colour=1.0)
        with self.assertRaises(PermissionDenied):
            actions.start_search(
                self.built.people["stranger"], self.start, queries.NOTHING, "flow", {}
            )
        for _ in range(3):
            self.begin()
        with self.assertRaises(ValidationError):
            self.begin()
        self.client.force_login(self.built.host)
        self.assertEqual(
            self.client.get(reverse("desk:search", args=[Search.objects.first().uid])).status_code,
            404,
        )
        with self.assertRaises(ValidationError):
            actions.cancel_search(self.built.host, Search.objects.first())

    def test_a_search_stays_in_the_envelope(self):
        import hauch.desk.search as module

        with self.assertRaises(ValidationError) as caught:
            actions.start_search(
                self.designer,
                self.start | {"tip": 0.1355},
                Around(fit=self.built.round),
                "flow",
                {},
            )
        self.assertIn("A search moves only pitch, chord and camber", caught.exception.messages[-1])
        row = actions.start_search(
            self.designer, self.start, Around(fit=self.built.round), "flow", {"depth": 0.024}
        )
        full = module.ROUNDS
        try:
            module.ROUNDS = 2
            search_later(row.pk)
        finally:
            module.ROUNDS = full
        row.refresh_from_db()
        self.assertEqual(row.state, Search.State.DONE, row.reason)
        self.assertLessEqual(TOOLS["rotor"].extent(row.best["inputs"])["depth"], 0.024 + 1e-6)

    def test_the_form_starts_one_and_says_what_is_wrong(self):
        response = self.client.post(
            reverse("desk:start_search", args=["rotor"]),
            posted("rotor", aim="flow", limit_power="-3"),
        )
        self.assertContains(response, "cannot be", status_code=422)
        response = self.client.post(
            reverse("desk:start_search", args=["rotor"]),
            posted("rotor", aim="flow", limit_power="4"),
        )
        self.assertRedirects(response, reverse("desk:search", args=[Search.objects.get().uid]))
