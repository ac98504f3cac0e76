"""Parts handed in: files in pieces, the check in the background, papers, versions side by side,
copies to other rounds.
"""

from __future__ import annotations

import io
import json
from datetime import timedelta
from decimal import Decimal
from pathlib import Path
from unittest import mock

from django.core.exceptions import PermissionDenied, ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone
from PIL import Image

from hauch.core.geometry.solids import Hub, rotor_solid
from hauch.desk.tools import TOOLS
from hauch.desk.tools.rotor_inputs import blading
from hauch.entries import actions, queries, uploads
from hauch.entries.checking import give_up, run_check
from hauch.entries.models import Entry, PartCheck, PartFile, Upload
from hauch.formats import mesh
from hauch.formats.apart import Broke
from hauch.rounds.models import Membership, Round
from hauch.stores.models import Material
from tests.builder import build

DATA = Path(__file__).parents[1] / "data" / "parts"


def rotor_stl() -> bytes:
    values = TOOLS["rotor"].start() | {"tip": 0.134, "gap": 0.001, "thickness": [0.0022] * 5}
    return mesh.to_stl(rotor_solid(blading(values), Hub(0.004, 0.0016, 0.022), 8, 11, edge=0.0011))


ROTOR = rotor_stl()


class Parts(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        self.round = self.built.round
        Round.objects.filter(pk=self.round.pk).update(state=Round.State.OPEN)
        self.round.refresh_from_db()
        self.entry = self.built.entries["Amsel"]
        self.version = self.entry.versions.get()
        self.designer = self.built.people["designer"]
        self.client.force_login(self.designer, backend="django.contrib.auth.backends.ModelBackend")

    def at(self, rest: str = "") -> str:
        return f"/rounds/{self.round.slug}/entries/{self.entry.pk}/{rest}"

    def attached(
        self, name: str = "amsel.stl", data: bytes = ROTOR, *, run: bool = True
    ) -> PartFile:
        with self.captureOnCommitCallbacks(execute=True):
            file = actions.attach(self.designer, self.version, name, data)
        if run:
            run_check(file.newest_check.pk)
            file = PartFile.objects.select_related("newest_check", "version__entry__round").get(
                pk=file.pk
            )
        return file

    def texts(self, file: PartFile) -> str:
        return " ".join(r[1] for r in file.newest_check.reasons)

    def say(self, file: PartFile, what: str, **data):
        return self.client.post(self.at(f"parts/{file.pk}/{what}/"), data, follow=True)


class Checks(Parts):
    def test_a_part_waits_for_the_worker_and_is_checked(self):
        file = self.attached(run=False)
        self.assertEqual(file.newest_check.state, "waiting")
        page = self.client.get(file.get_absolute_url())
        self.assertContains(page, "Waits for the worker")
        self.assertEqual(
            self.client.get(
                self.at(f"parts/{file.pk}/check/"), headers={"HX-Request": "true"}
            ).status_code,
            200,
        )
        run_check(file.newest_check.pk)
        done = self.client.get(self.at(f"parts/{file.pk}/check/"), headers={"HX-Request": "true"})
        self.assertEqual((done.status_code, done["HX-Refresh"]), (204, "true"))
        page = self.client.get(file.get_absolute_url())
        self.assertContains(page, "Not to be spun above")
        self.assertContains(page, "data-glb")
        self.assertContains(page, "Cut through its axis")

    def test_views_and_workings_are_for_those_who_may_see_the_entry(self):
        file = self.attached()
        for rest, kind in (("view.glb", "model/gltf-binary"), ("still.png", "image/png")):
            self.assertEqual(
                self.client.get(self.at(f"parts/{file.pk}/{rest}"))["Content-Type"], kind
            )
        self.assertContains(
            self.client.get(self.at(f"parts/{file.pk}/working/cap/")), "Tips at the most allowed"
        )
        self.assertEqual(
            self.client.get(self.at(f"parts/{file.pk}/working/nothing/")).status_code, 404
        )
        self.client.force_login(
            self.built.people["viewer"], backend="django.contrib.auth.backends.ModelBackend"
        )
        for rest in ("", "view.glb", "still.png", "check/"):
            self.assertEqual(self.client.get(self.at(f"parts/{file.pk}/{rest}")).status_code, 404)

    def test_what_people_also_send(self):
        for name, words in (
            ("zero_bytes.stl", "empty"),
            ("nan.stl", "not numbers"),
            ("text_renamed.stl", "no STL"),
        ):
            with self.subTest(name):
                file = self.attached(name, (DATA / name).read_bytes())
                self.assertEqual(file.newest_check.verdict, "back")
                self.assertIn(words, self.texts(file))
                self.assertContains(self.client.get(file.get_absolute_url()), "Sent back")

    def test_a_hostile_name_is_harmless(self):
        name = "name with ü & <script>.stl"
        file = self.attached(name, (DATA / name).read_bytes())
        self.assertEqual(file.name, "name with ü _ _script_.stl")
        self.assertNotContains(self.client.get(self.at("edit/")), "<script>.stl")

    def test_it_is_asked_in_which_unit_it_was_drawn(self):
        import trimesh

        part = trimesh.load(io.BytesIO(ROTOR), file_type="stl")
        part.apply_scale(1 / 25.4)
        file = self.attached("inch.stl", part.export(file_type="stl"))
        self.assertContains(self.client.get(file.get_absolute_url()), "In which unit is it drawn?")
        with self.captureOnCommitCallbacks(execute=True):
            self.say(file, "unit", unit="inch")
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual(row.state, "waiting")
        run_check(row.pk)
        row.refresh_from_db()
        self.assertAlmostEqual(row.value("outer"), 0.134, delta=1e-4)
        self.assertNotContains(
            self.client.get(file.get_absolute_url()), "In which unit is it drawn?"
        )

    def test_holes_are_mended_in_a_copy_and_the_original_stays(self):
        from hauch.formats.mesh_in import FACET

        file = self.attached(
            "holed.stl",
            ROTOR[:80]
            + (int.from_bytes(ROTOR[80:84], "little") - 1).to_bytes(4, "little")
            + ROTOR[84 + FACET.itemsize :],
        )
        self.assertContains(self.client.get(file.get_absolute_url()), "Hand in the mended copy")
        self.say(file, "mended")
        names = set(self.version.files.values_list("name", flat=True))
        self.assertEqual(names, {"holed.stl", "holed-mended.stl"})
        run_check(PartCheck.objects.newest().get(file__name="holed-mended.stl").pk)
        self.assertTrue(
            PartCheck.objects.newest()
            .get(file__name="holed-mended.stl")
            .data["surface"]["open_edges"]
            == 0
        )

    def test_stopped_and_taken_up_again(self):
        file = self.attached(run=False)
        self.say(file, "stop")
        run_check(file.newest_check.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "stopped")
        self.say(file, "again")
        row = PartCheck.objects.newest().get(file=file)
        PartCheck.objects.filter(pk=row.pk).update(cancel=True)  # while it is at work
        run_check(row.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "stopped")

    def test_a_check_whose_worker_died_begins_anew_and_is_given_up_in_the_end(self):
        file = self.attached(run=False)
        PartCheck.objects.filter(file=file).update(state="running", stage=3, attempts=1)
        run_check(file.newest_check.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "done")
        PartCheck.objects.filter(file=file).update(state="running", attempts=3)
        give_up(file.newest_check.pk)
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual(row.state, "failed")
        self.assertIn("was cut off 3 times", row.reasons[0][1])

    def test_what_nobody_thought_of_becomes_a_sentence(self):
        file = self.attached(run=False)
        odd = Broke("Traceback …\n  File …\nArithmeticError: odd")
        with (
            mock.patch("hauch.entries.checking.apart", side_effect=odd),
            self.assertLogs("hauch.entries.checking", "ERROR"),
        ):
            run_check(file.newest_check.pk)
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual(row.state, "failed")
        self.assertIn("could not finish (ArithmeticError)", row.reasons[0][1])

    def test_nested_files_break_the_reader_and_nothing_else(self):
        """A bracket in a bracket, 200,000 deep, overflows the stack of the kernel that reads STEP:
        each is a sentence, and the process goes on.
        """
        deep = 200_000
        head = b"ISO-10303-21;\nHEADER;\nFILE_DESCRIPTION((''),'2;1');\nFILE_NAME('','',(''),(''),'','','');\nFILE_SCHEMA(('AP214'));\nENDSEC;\nDATA;\n#1=X("  # noqa: E501
        nested = head + b"(" * deep + b")" * deep + b");\nENDSEC;\nEND-ISO-10303-21;\n"
        for number in range(3):
            file = self.attached(f"nested-{number}.step", nested + b"\n" * number, run=False)
            with self.assertLogs("hauch.entries.checking", "WARNING"):
                run_check(file.newest_check.pk)
            row = PartCheck.objects.newest().get(file=file)
            self.assertEqual((row.state, row.attempts), ("failed", 1))
            self.assertIn("broke the program that reads it", row.reasons[0][1])
        good = self.attached("good.stl", ROTOR)
        self.assertEqual(PartCheck.objects.newest().get(file=good).state, "done")
        self.assertContains(
            self.client.get(file.get_absolute_url()), "Export the part anew, simpler"
        )

    def test_a_sealed_version_is_checked_again_but_not_changed(self):
        file = self.attached()
        self.version.sealed_at = timezone.now()
        self.version.save()
        self.assertIn(
            "has been on the bench", self.say(file, "describe", place="x", count=1).content.decode()
        )
        self.assertIn("is checked anew", self.say(file, "again").content.decode())
        with self.assertRaises(ValidationError):
            actions.attach(self.designer, self.version, "b.stl", ROTOR)
        with self.assertRaises(ValidationError):
            actions.remove_file(self.designer, file)

    def test_place_count_and_limits(self):
        file = self.attached()
        self.say(file, "describe", place="in front", count=2, unit="", axis="")
        file.refresh_from_db()
        self.assertEqual((file.place, file.count), ("in front", 2))
        self.assertContains(
            self.say(file, "describe", place="", count=0, unit="", axis=""), "1 to 200"
        )
        with self.assertRaisesRegex(ValidationError, "at most 400 MB together"):
            PartFile.objects.filter(pk=file.pk).update(size=399_999_999)
            actions.attach(self.designer, self.version, "b.stl", ROTOR)

    def test_a_replaced_file_keeps_what_was_said_of_it(self):
        file = self.attached(run=False)
        self.say(file, "describe", place="in front", count=5, unit="", axis="")
        again = self.attached("amsel.stl", ROTOR[:-50], run=False)
        self.assertEqual((again.pk, again.place, again.count), (file.pk, "in front", 5))

    def test_a_check_that_is_overtaken_stores_nothing(self):
        """The unit is said while the check is at work: the old check must not end as the new one's
        result.
        """
        file = self.attached(run=False)

        def overtaken(work, *arguments, tell):
            actions.describe_part(self.designer, file, place="", count=1, unit="inch", axis="")
            self.assertFalse(tell(1))
            raise Broke("goes on all the same")

        with (
            mock.patch("hauch.entries.checking.apart", side_effect=overtaken),
            self.assertLogs("hauch.entries.checking", "ERROR"),
        ):
            run_check(file.newest_check.pk)
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual((row.state, row.stage, row.reasons), ("waiting", 0, []))
        run_check(row.pk)
        row.refresh_from_db()
        self.assertEqual((row.state, row.data["unit"]["unit"]), ("done", "inch"))

    def test_the_check_of_a_part_taken_away_ends_quietly(self):
        file = self.attached(run=False)
        check = file.newest_check.pk
        actions.remove_file(self.designer, file)
        run_check(check)
        self.assertFalse(PartCheck.objects.filter(pk=check).exists())

    def test_others_may_not(self):
        file = self.attached()
        for who in ("operator", "viewer", "stranger"):
            with self.subTest(who), self.assertRaises(PermissionDenied):
                actions.check_again(self.built.people[who], file)

    def test_the_list_tells_verdicts_in_one_query(self):
        self.attached()
        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertContains(self.client.get(f"/rounds/{self.round.slug}/entries/"), "no part yet")
        with self.assertNumQueries(1):
            told = queries.checked(self.round)[self.entry.pk]
        self.assertIn(told.word, {"ready", "care", "back"})
        page = self.client.get(f"/rounds/{self.round.slug}/entries/")
        still = reverse("entries:still", args=[self.round.slug, self.entry.pk, told.still])
        self.assertContains(page, f'src="{still}"')


class InPieces(Parts):
    def begin(self, name="big.stl", size=len(ROTOR)):
        return self.client.post(self.at("upload/"), {"name": name, "size": size})

    def piece(self, key: str, start: int, data: bytes):
        return self.client.post(
            self.at(f"upload/{key}/"),
            data,
            content_type="application/octet-stream",
            headers={"Upload-Offset": str(start)},
        )

    def test_pieces_a_lost_answer_and_going_on(self):
        key = self.begin().json()["key"]
        half = len(ROTOR) // 2
        self.assertEqual(self.piece(key, 0, ROTOR[:half]).json()["received"], half)
        self.assertEqual(
            self.piece(key, 0, ROTOR[:half]).json()["received"], half
        )  # its answer was lost, so it is sent again
        again = self.begin().json()  # after a reload
        self.assertEqual((again["key"], again["received"]), (key, half))
        self.assertEqual(
            self.client.get(self.at(f"upload/{key}/")).json(),
            {"received": half, "size": len(ROTOR)},
        )
        last = self.piece(key, half, ROTOR[half:]).json()
        self.assertTrue(last["whole"])
        file = self.version.files.get()
        self.assertEqual((file.name, file.size), ("big.stl", len(ROTOR)))
        self.assertEqual(last["file"], file.get_absolute_url())
        self.assertEqual(Upload.objects.count(), 0)
        self.assertEqual(self.piece(key, 0, b"x").status_code, 410)

    def test_refused_before_a_byte_is_sent(self):
        self.assertIn("at most 134 MB", self.begin(size=300_000_000).json()["problem"])
        self.assertIn("neither a part", self.begin("a.exe", 5).json()["problem"])
        self.assertIn("empty", self.begin("a.stl", 0).json()["problem"])

    def test_longer_than_announced_and_somebody_elses(self):
        key = self.begin(size=10).json()["key"]
        self.assertIn("longer than announced", self.piece(key, 0, b"x" * 11).json()["problem"])
        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertEqual(self.piece(key, 0, b"x").status_code, 410)

    def test_not_to_somebody_elses_entry(self):
        self.entry = self.built.entries["Binse"]
        self.assertEqual(self.begin().status_code, 404)

    def test_what_was_never_finished_is_thrown_away(self):
        key = self.begin().json()["key"]
        self.piece(key, 0, ROTOR[:100])
        Upload.objects.update(began_at=timezone.now() - timedelta(days=3))
        self.begin("other.stl")
        self.assertEqual([u.name for u in Upload.objects.all()], ["other.stl"])

    def test_a_page_without_scripts(self):
        files = [
            SimpleUploadedFile("a.stl", ROTOR),
            SimpleUploadedFile("b.exe", b"x"),
            SimpleUploadedFile("note.txt", b"hello"),
        ]
        page = self.client.post(self.at("upload/"), {"files": files}, follow=True)
        self.assertContains(page, "a.stl is handed in")
        self.assertContains(page, "b.exe is neither")
        self.assertEqual(
            set(self.version.files.values_list("name", flat=True)), {"a.stl", "note.txt"}
        )

    def test_limits_of_one_person(self):
        for n in range(uploads.MOST_OPEN):
            self.begin(f"{n}.stl")
        self.assertIn("still on their way", self.begin("more.stl").json()["problem"])


class Papers(Parts):
    def picture(self) -> SimpleUploadedFile:
        out = io.BytesIO()
        Image.new("RGB", (40, 30), "teal").save(out, "PNG")
        return SimpleUploadedFile("step.png", out.getvalue())

    def keep(self, **more):
        data = {
            "changed": "Swept tips.",
            "why": "Less leak.",
            "material": Material.objects.get(key="pla").pk,
            "bill_name_1": "bush",
            "bill_quantity_1": "2",
            "bill_price_1": "0,80",
            "bill_name_3": "screw",
            "bill_quantity_3": "4",
            "bill_price_3": "0.05",
            "step_1": "Press the bush in.",
            "step_2": "Screws.",
        }
        return self.client.post(self.at("edit/"), data | more)

    def test_bill_steps_and_material(self):
        self.assertEqual(self.keep(step_file_1=self.picture()).status_code, 302)
        self.version.refresh_from_db()
        self.assertEqual(self.version.cost, Decimal("1.80"))
        self.assertEqual(
            [s.text for s in self.version.steps.all()], ["Press the bush in.", "Screws."]
        )
        picture = self.version.steps.first().picture
        self.assertIsNotNone(picture)
        self.assertEqual(self.version.material.key, "pla")
        self.keep(step_picture_1=picture.pk)  # kept without being sent again
        self.assertEqual(self.version.steps.first().picture, picture)
        self.assertContains(self.client.get(self.at("parts/")), "One part costs 1.80")

    def test_a_line_that_cannot_be_loses_nothing(self):
        page = self.keep(
            bill_quantity_1="two", step_file_1=SimpleUploadedFile("x.png", b"no picture")
        )
        self.assertEqual(page.status_code, 422)
        self.assertContains(page, "“two” is not a number", status_code=422)
        self.assertContains(page, "no picture that can be read", status_code=422)
        self.assertContains(page, 'value="bush"', status_code=422)
        self.assertEqual(self.version.bill.count(), 0)
        self.assertContains(self.keep(bill_price_1="-1"), "not negative", status_code=422)
        self.assertEqual(self.keep(changed=" ").status_code, 422)

    def test_the_next_version_takes_them_over(self):
        self.keep()
        self.client.post(self.at("versions/add/"), {"changed": "Wider hub.", "why": "Stiffer."})
        second = self.entry.versions.latest("number")
        self.assertEqual(
            (second.number, second.why, second.cost, second.material.key),
            (2, "Stiffer.", Decimal("1.80"), "pla"),
        )
        self.assertEqual(second.steps.count(), 2)

    def test_two_versions_side_by_side(self):
        self.attached()
        actions.add_version(self.designer, self.entry, "Smaller.")
        self.version = self.entry.versions.latest("number")
        self.attached("amsel-2.stl")
        page = self.client.get(self.at("compare/"))
        self.assertContains(page, "data-linked", 2)
        self.assertContains(page, "Mass of the print")
        self.assertContains(page, "0.0")
        self.assertEqual(self.client.get(self.at("compare/?a=77&b=x")).status_code, 200)

    def test_to_another_round(self):
        self.attached()
        self.keep()
        other = Round.objects.create(
            slug="second", number=9, title="Second", question="?", part="rotor", state="open"
        )
        duct = Round.objects.create(
            slug="third", number=10, title="Third", question="?", part="duct", state="open"
        )
        for r in (other, duct):
            Membership.objects.create(round=r, user=self.designer, role="designer")
        self.assertContains(self.client.get(self.at("parts/")), "Hand it in to")
        self.client.post(self.at("copy/"), {"to": "second"})
        copy = Entry.objects.get(round=other)
        self.assertEqual(copy.versions.get().files.get().sha256, self.version.files.get().sha256)
        self.assertEqual(copy.versions.get().cost, Decimal("1.80"))
        self.assertEqual(copy.versions.get().files.get().newest_check.state, "waiting")
        self.assertContains(
            self.client.post(self.at("copy/"), {"to": "third"}, follow=True), "another kind of part"
        )
        self.assertEqual(self.client.post(self.at("copy/"), {"to": "nowhere"}).status_code, 404)

    def test_a_designer_hands_in_so_many_entries(self):
        for n in range(actions.MOST_ENTRIES - 1):
            actions.add_entry(self.designer, self.round, f"Fink {n}")
        with self.assertRaisesRegex(ValidationError, "at most 5 entries"):
            actions.add_entry(self.designer, self.round, "One more")
        actions.add_entry(self.built.host, self.round, "By the host")


class Stored(Parts):
    def test_a_check_is_json_without_nan(self):
        file = self.attached()
        json.dumps(
            [file.newest_check.figures, file.newest_check.data, file.newest_check.reasons],
            allow_nan=False,
        )
        self.assertEqual(
            file.newest_check.data["blades"]["count"], round(TOOLS["rotor"].start()["blades"])
        )
