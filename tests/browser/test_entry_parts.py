"""Handing in and the workshop as a person does them, in Chromium."""

from __future__ import annotations

import tempfile
from pathlib import Path

from playwright.sync_api import expect

from hauch.entries.actions import add_version, attach
from hauch.entries.checking import run_check
from hauch.entries.models import PartCheck, PartFile, Upload
from hauch.rounds.models import Round
from hauch.workshop import actions
from hauch.workshop.models import Specimen
from tests.browser.base import BrowserTests
from tests.web.test_entry_parts import DATA, ROTOR


class HandingInTests(BrowserTests):
    measured = False

    def setUp(self):
        super().setUp()
        Round.objects.update(state="open")
        self.entry = self.built.entries["Amsel"]
        self.version = self.entry.versions.get()

    def path(self, name: str, data: bytes) -> Path:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        path = Path(folder.name) / name
        path.write_bytes(data)
        return path

    def work(self):
        """What the worker does."""
        for row in PartCheck.objects.filter(state="waiting"):
            run_check(row.pk)

    def edit(self, who="designer"):
        page = self.sign_in(who)
        page.goto(self.in_round(f"entries/{self.entry.pk}/edit/"))
        return page

    def test_a_part_goes_up_is_checked_and_turned_by_keys(self):
        page = self.edit()
        page.set_input_files("#files", self.path("amsel.stl", ROTOR))
        expect(page.get_by_role("link", name="amsel.stl")).to_be_visible()
        page.get_by_role("link", name="amsel.stl").click()
        expect(page.get_by_text("Waits for the worker")).to_be_visible()
        self.work()
        expect(page.locator(".part3d[data-ready=yes]")).to_be_visible()
        expect(page.get_by_text("Not to be spun above").first).to_be_visible()
        stage = page.locator(".part3d-stage")
        before = stage.screenshot()
        stage.focus()
        page.keyboard.press("ArrowLeft")
        page.keyboard.press("+")
        self.changes_from(before, stage)
        page.get_by_label("What its colour shows").select_option("thickness")
        expect(page.get_by_text("amber: thinner than")).to_be_visible()
        page.get_by_label("Where it is cut open").fill("40")
        page.keyboard.press("w")
        page.get_by_role("button", name="Volume").click()
        expect(page.get_by_role("dialog", name="Volume")).to_contain_text(
            "What the facets leave out"
        )
        page.keyboard.press("Escape")
        expect(page.get_by_role("dialog", name="Volume")).to_have_count(0)

    def test_a_lost_connection_waits_and_goes_on(self):
        page = self.edit()
        lost = {"left": 2}

        def sometimes(route):
            if lost["left"] and route.request.headers.get("upload-offset"):
                lost["left"] -= 1
                return route.abort()
            return route.continue_()

        page.route("**/upload/**", sometimes)
        page.set_input_files("#files", self.path("amsel.stl", ROTOR))
        expect(page.get_by_text("no connection; goes on by itself")).to_be_visible()
        expect(page.get_by_role("link", name="amsel.stl")).to_be_visible()
        self.assertEqual(PartFile.objects.get().size, len(ROTOR))
        self.assertEqual(Upload.objects.count(), 0)
        self.troubles = [t for t in self.troubles if "ERR_FAILED" not in t]

    def test_what_is_no_part_is_said_beside_the_file(self):
        page = self.edit()
        page.set_input_files(
            "#files",
            [self.path("a.exe", b"x"), self.path("nan.stl", (DATA / "nan.stl").read_bytes())],
        )
        expect(page.get_by_text("neither a part")).to_be_visible()
        expect(page.get_by_role("link", name="nan.stl")).to_be_visible()
        self.work()
        page.goto(self.url(PartFile.objects.get(name="nan.stl").get_absolute_url()))
        expect(
            page.get_by_text("5 of 1,160 triangles have corners that are not numbers")
        ).to_be_visible()

    def test_papers_that_were_not_sent_are_still_there(self):
        page = self.edit()
        page.get_by_label("Why that should be better").fill("A long reason.")
        page.get_by_label("Thing 1").fill("bush")
        page.reload()
        expect(
            page.get_by_text("What you typed here before and did not send is back")
        ).to_be_visible()
        expect(page.get_by_label("Thing 1")).to_have_value("bush")
        page.get_by_label("Price 1").fill("0,80")
        page.get_by_label("What it changes").fill("Swept tips.")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_text("Now 0.80 together")).to_be_visible()
        expect(
            page.get_by_text("What you typed here before and did not send is back")
        ).to_be_hidden()

    def part(self, name: str = "amsel.stl", data: bytes = ROTOR):
        file = attach(self.built.people["designer"], self.version, name, data)
        self.work()
        return file

    def test_without_webgl_the_picture_stays(self):
        file = self.part()
        self.sign_in("designer")
        self.page.add_init_script("HTMLCanvasElement.prototype.getContext = () => null")
        self.page.goto(self.url(file.get_absolute_url()))
        picture = self.page.get_by_role("img", name="amsel.stl, seen from above")
        expect(picture).to_be_visible()
        self.assertGreater(picture.evaluate("(image) => image.naturalWidth"), 100)
        expect(self.page.get_by_text("Not to be spun above").first).to_be_visible()
        self.troubles = [t for t in self.troubles if "WebGL" not in t]

    def test_the_question_of_the_unit_is_answered_with_one_click(self):
        import io

        import trimesh

        mesh = trimesh.load(io.BytesIO(ROTOR), file_type="stl")
        mesh.apply_scale(1 / 25.4)
        file = self.part("inch.stl", mesh.export(file_type="stl"))
        page = self.sign_in("designer")
        page.goto(self.url(file.get_absolute_url()))
        page.get_by_role("button", name="Inches").click()
        expect(page.get_by_text("Waits for the worker")).to_be_visible()
        self.work()
        expect(page.get_by_text("In inches, as its designer says")).to_be_attached()
        expect(page.get_by_text("In which unit is it drawn?")).to_have_count(0)

    def test_a_check_is_stopped_and_asked_again(self):
        file = attach(self.built.people["designer"], self.version, "amsel.stl", ROTOR)
        page = self.sign_in("designer")
        page.goto(self.url(file.get_absolute_url()))
        page.get_by_role("button", name="Stop the check").click()
        expect(page.get_by_text("Nothing is known of this part")).to_be_visible()
        page.get_by_role("button", name="Check again").click()
        expect(page.get_by_text("Waits for the worker")).to_be_visible()
        self.work()
        expect(page.locator(".part3d[data-ready=yes]")).to_be_visible()

    def test_a_mended_copy_is_handed_in_with_one_click(self):
        count = int.from_bytes(ROTOR[80:84], "little") - 1
        file = self.part("holed.stl", ROTOR[:80] + count.to_bytes(4, "little") + ROTOR[134:])
        page = self.sign_in("designer")
        page.goto(self.url(file.get_absolute_url()))
        expect(page.get_by_text("The surface is not closed")).to_be_visible()
        page.get_by_role("button", name="Hand in the mended copy").click()
        expect(page.get_by_role("link", name="holed-mended.stl")).to_be_visible()
        expect(page.get_by_role("link", name="holed.stl")).to_be_visible()

    def test_steps_with_pictures_and_a_line_that_cannot_be(self):
        import io

        from PIL import Image

        out = io.BytesIO()
        Image.new("RGB", (60, 40), "teal").save(out, "PNG")
        page = self.edit()
        page.get_by_label("What it changes").fill("Swept tips.")
        page.get_by_label("Step 1", exact=True).fill("Press the bush in.")
        page.locator("[name=step_file_1]").set_input_files(self.path("step.png", out.getvalue()))
        page.get_by_label("Thing 1").fill("bush")
        page.get_by_label("Quantity 1").fill("two")
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_text("“two” is not a number")).to_be_visible()
        expect(page.get_by_label("Step 1", exact=True)).to_have_value("Press the bush in.")
        page.get_by_label("Quantity 1").fill("2")
        page.locator("[name=step_file_1]").set_input_files(self.path("step.png", out.getvalue()))
        page.get_by_role("button", name="Save").click()
        expect(page.get_by_alt_text("Picture of step 1")).to_be_visible()
        page.get_by_role("link", name="To the entry").click()
        page.get_by_text("Assembly in 1 step").click()
        expect(page.get_by_alt_text("Step 1")).to_be_visible()

    def test_a_stranger_comes_by_a_link_and_hands_in(self):
        from hauch.rounds.invitations import invite

        _, secret = invite(self.built.host, self.built.round, "designer", uses=2)
        page = self.page
        page.goto(self.url(f"/invitations/{secret}/"))
        page.locator("[name=username]").fill("wren")
        page.locator("[name=first_name]").fill("Wren")
        page.locator("[name=password]").fill("straw-bale-12")
        page.get_by_role("button", name="Join the round").click()
        expect(page.get_by_role("heading", name="Your entries")).to_be_visible()
        page.get_by_label("Name", exact=True).fill("Zaunwinde")
        page.get_by_role("button", name="Hand in").click()
        page.set_input_files("#files", self.path("zaunwinde.stl", ROTOR))
        expect(page.get_by_role("link", name="zaunwinde.stl")).to_be_visible()
        self.assertEqual(PartFile.objects.get().version.entry.name, "Zaunwinde")

    def test_parts_on_a_phone_in_the_dark(self):
        file = self.part()
        page = self.new_page(viewport={"width": 390, "height": 844}, color_scheme="dark")
        self.sign_in("designer", page)
        for path in (
            file.get_absolute_url(),
            f"/rounds/{self.built.round.slug}/entries/{self.entry.pk}/compare/",
            self.entry.get_absolute_url(),
        ):
            page.goto(self.url(path))
            page.wait_for_load_state("networkidle")
            expect(page.locator(".part3d:not([data-ready=yes])")).to_have_count(0)
            wide = page.evaluate(
                "document.documentElement.scrollWidth - document.documentElement.clientWidth"
            )
            self.assertLessEqual(wide, 0, path)
        self.assertEqual(
            page.evaluate("getComputedStyle(document.body).backgroundColor"), "rgb(12, 25, 31)"
        )

    def test_the_entry_shows_its_part_and_leads_to_it(self):
        self.part()
        page = self.sign_in("host")
        page.goto(self.url(self.entry.get_absolute_url()))
        expect(page.get_by_role("img", name="amsel.stl; open its turning view")).to_be_visible()
        page.get_by_role("img", name="amsel.stl; open its turning view").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("amsel.stl")
        expect(page.locator(".part3d[data-ready=yes]")).to_be_visible()
        page.get_by_role("button", name="Tip up").click()
        page.get_by_role("checkbox", name="envelope").uncheck()
        page.get_by_label("blade sections").check()
        page.get_by_role("button", name="Back").click()

    def test_several_files_go_up_in_one_go_and_one_is_taken_out(self):
        page = self.edit()
        page.get_by_label("What it changes").fill("A wider tip.")
        page.set_input_files(
            "#files", [self.path("front.stl", ROTOR), self.path("note.txt", b"Mind the tips.")]
        )
        expect(page.get_by_role("link", name="front.stl")).to_be_visible()
        expect(page.get_by_role("link", name="note.txt")).to_be_visible()
        page.get_by_role("button", name="remove").click()
        expect(page.get_by_text("note.txt is taken out of")).to_be_visible()
        # The check ends; nothing but the list changes.
        page.get_by_label("Why that should be better").focus()
        page.keyboard.type("Less ")
        self.work()
        expect(page.locator("#files-in .verdict")).to_be_visible()
        page.keyboard.type("swirl.")
        expect(page.get_by_text("note.txt is taken out of")).to_be_visible()
        expect(page.get_by_label("What it changes")).to_have_value("A wider tip.")
        expect(page.get_by_label("Why that should be better")).to_have_value("Less swirl.")
        self.assertEqual([f.name for f in PartFile.objects.all()], ["front.stl"])

    def test_two_versions_turn_together(self):
        attach(self.built.people["designer"], self.version, "one.stl", ROTOR)
        second = add_version(self.built.people["designer"], self.entry, "The same again.")
        attach(self.built.people["designer"], second, "two.stl", ROTOR)
        self.work()
        page = self.sign_in("host")
        page.goto(self.in_round(f"entries/{self.entry.pk}/compare/"))
        expect(page.locator(".part3d[data-ready=yes]")).to_have_count(2)
        first, other = page.locator(".part3d-stage").nth(0), page.locator(".part3d-stage").nth(1)
        before = other.screenshot()
        first.focus()
        for _ in range(3):
            page.keyboard.press("ArrowUp")
        self.changes_from(before, other)


class WorkshopTests(BrowserTests):
    measured = False

    def test_from_the_printer_to_the_bench_by_keys(self):
        version = self.built.entries["Amsel"].versions.get()
        specimen = actions.add_specimen(self.built.operator, version, "W-01", state="planned")
        page = self.sign_in("operator")
        page.goto(self.in_round("workshop/"))
        page.keyboard.press("j")
        page.keyboard.press("m")  # on the printer
        expect(page.get_by_text("W-01 is on the printer.")).to_be_visible()
        page.keyboard.press("j")
        page.keyboard.press("m")
        expect(page.get_by_text("W-01 is printed.")).to_be_visible()
        page.keyboard.press("j")
        page.keyboard.press("Enter")
        for n in range(specimen.steps.count()):
            page.get_by_role("button", name="Done", exact=True).first.click()
            expect(page.get_by_text(f"Step {n + 1} is done.")).to_be_visible()
        expect(page.get_by_text("No speed limit can be told for W-01.")).to_be_visible()
        page.get_by_text("Measure a size at up to four places").click()
        page.get_by_label("Size").select_option(label="outer diameter")
        page.get_by_label("Place 1, mm").fill("124")
        page.locator("form[action$='/measure/'] button").click()
        expect(page.get_by_text("Nothing is left to do but the safety gate.")).to_be_visible()
        page.keyboard.press("m")
        expect(page.get_by_role("heading", level=1)).to_contain_text("go onto the bench?")
        page.get_by_label("What drives it").select_option("cells")
        expect(page.get_by_text("Lithium cells: protection board")).to_be_visible()
        page.get_by_role("button", name="I have confirmed all of them").click()
        expect(page.get_by_text("Not confirmed: Local codes")).to_be_visible()
        for box in page.get_by_role("checkbox").all():
            box.check()
        page.get_by_role("button", name="I have confirmed all of them").click()
        expect(page.get_by_text("W-01 is ready for the bench")).to_be_visible()
        self.assertEqual(Specimen.objects.get(pk=specimen.pk).state, "ready")
        self.assertEqual(specimen.gates.get().power, "cells")

    def test_sizes_balance_and_label(self):
        version = self.built.entries["Amsel"].versions.get()
        specimen = actions.add_specimen(self.built.operator, version, "W-01")
        page = self.sign_in("operator")
        page.goto(self.url(specimen.get_absolute_url()))
        page.get_by_text("Measure a size at up to four places").click()
        page.get_by_label("Place 1, mm").fill("3,9")
        page.get_by_label("Place 2, mm").fill("x")
        page.locator("form[action$='/measure/'] button").click()
        expect(page.get_by_text("“x” is not a number")).to_be_visible()
        expect(page.get_by_label("Place 1, mm")).to_have_value("3,9")
        page.get_by_label("Place 2, mm").fill("4.1")
        page.locator("form[action$='/measure/'] button").click()
        expect(page.get_by_role("row", name="Bore")).to_contain_text("4")
        page.get_by_text("Readings without and with a trial mass").click()
        for label, text in (
            ("Speed, 1/min", "1500"),
            ("Reading as it is", "4"),
            ("Trial mass, g", "1"),
            ("… its radius, mm", "10"),
            ("Reading with it", "8"),
        ):
            page.get_by_label(label).fill(text)
        for field in page.get_by_label("… its angle, °").all():
            field.fill("0")
        page.get_by_role("button", name="Work it out").click()
        expect(page.get_by_text("or take as much off on the other side")).to_contain_text("180")
        page.get_by_role("link", name="Label").click()
        expect(page.get_by_role("img", name="Code that leads to W-01")).to_be_visible()

    def test_the_list_holds_what_the_board_holds(self):
        version = self.built.entries["Amsel"].versions.get()
        actions.add_specimen(self.built.operator, version, "W-01", state="planned", mass=0.034)
        page = self.sign_in("operator")
        page.goto(self.in_round("workshop/"))
        page.get_by_role("link", name="As a list").click()
        expect(page.get_by_role("row", name="W-01")).to_contain_text("to be printed")
        expect(page.get_by_role("row", name="W-01")).to_contain_text("34 g")
        page.get_by_role("link", name="W-01").click()
        page.get_by_text("Log a print").click()
        page.get_by_label("Machine").fill("Printer at the window")
        page.get_by_label("Hours").fill("2.5")
        page.get_by_role("button", name="Log", exact=True).click()
        expect(page.get_by_text("The print on Printer at the window is logged.")).to_be_visible()
        self.assertEqual(Specimen.objects.get(code="W-01").state, "printed")

    def test_pages_fit_narrow_and_wide(self):
        version = self.built.entries["Amsel"].versions.get()
        specimen = actions.add_specimen(self.built.operator, version, "W-01")
        page = self.new_page(viewport={"width": 390, "height": 844})
        self.sign_in("operator", page)
        for rest in (
            "workshop/",
            f"workshop/{specimen.pk}/",
            f"workshop/{specimen.pk}/label/",
            f"workshop/{specimen.pk}/gate/",
            f"entries/{version.entry_id}/edit/",
        ):
            page.goto(self.in_round(rest))
            page.wait_for_load_state("networkidle")
            wide = page.evaluate(
                "document.documentElement.scrollWidth - document.documentElement.clientWidth"
            )
            self.assertLessEqual(wide, 0, rest)
