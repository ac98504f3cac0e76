"""A sitting of a panel: opened, judged by links without an account, closed into runs."""

import io

from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import Client, TestCase
from django.urls import reverse
from PIL import Image

from hauch.bench.models import Run
from hauch.panel.actions import in_own_order
from hauch.panel.models import FacePicture, Judge, Mark, Sample, Sitting
from hauch.rounds.models import Test
from hauch.stores.models import Instrument, Rig
from tests.builder import build

ROOM = {"temperature": "21", "pressure": "965", "humidity": "48"}
KEY = "6f0c7a52-6f1b-4d3e-9a4e-140140140141"


class PanelCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        constants = {"places": [2, 0.0], "faces": [2, 0.0], "top": [10, 0.0]}
        rig = Rig.objects.create(name="Score sheets", kind="panel", constants=constants)
        sheets = Instrument.objects.create(name="Sheets", channel="panel_points", resolution=1.0)
        rig.meters.create(channel="panel_points", instrument=sheets)
        Test.objects.filter(key="air").update(procedure="panel_points", rig=rig, label="Looks")
        cls.test = Test.objects.get(key="air")
        cls.slug = cls.built.round.slug

    def sign_in(self, who="operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def begin(self, **changed):
        self.sign_in()
        samples = [f"s{s.pk}" for s in self.built.specimens.values()]
        data = {
            "judge": ["Ilse", "Jost"],
            "criterion": ["overhang", "surface", ""],
            "weight": ["1", "", "1"],
            "sample": [f"r{self.built.reference.pk}", *samples],
        }
        at = reverse("panel:begin", args=[self.slug, self.test.pk])
        return self.client.post(at, data | changed)

    def opened(self):
        answer = self.begin()
        sitting = Sitting.objects.get()
        self.assertRedirects(answer, sitting.get_absolute_url())
        links = self.client.session[f"panel-links-{sitting.pk}"]
        return sitting, {name: url.split("testserver")[1] for name, url in links.items()}

    def points(self, sitting, of):
        """All points of a judge: ``of`` gives them by sample."""
        return {
            f"p-{sample.pk}-{face}-{n}": str(of(sample))
            for sample in sitting.samples.all()
            for face in range(1, sitting.faces + 1)
            for n in range(len(sitting.criteria))
        }


class OpenTests(PanelCase):
    def test_the_bench_leads_to_it_and_it_says_what_is_missing(self):
        self.sign_in()
        capture = reverse("bench:capture", args=[self.slug, self.test.pk])
        page = self.client.get(f"{capture}?subject=r{self.built.reference.pk}")
        at = reverse("panel:begin", args=[self.slug, self.test.pk])
        self.assertContains(page, at)
        self.assertContains(self.client.get(at), "Amsel, specimen R-1")
        for changed, words in (
            ({"judge": ["Ilse", ""]}, "has 2 judges, and 1 is named"),
            ({"judge": ["Ilse", " ilse "]}, "Two judges have the same name"),
            ({"criterion": ["fit", "Fit"]}, "Two criteria have the same name"),
            ({"criterion": list("abcdefghi"), "weight": ["1"] * 9}, "8 criteria"),
            ({"weight": ["two", "1"]}, "overhang: “two” is not a number"),
            ({"weight": ["0", "0"]}, "one at least more than nothing"),
            ({"weight": ["-1", "1"]}, "counts between 0 and 10"),
            ({"weight": ["1", "nan"]}, "surface:"),
            ({"faces": "front"}, "has 2 faces or angles, and 1 is named"),
            ({"faces": "front, Front"}, "Two faces or angles have the same name"),
            ({"sample": []}, "Tick at least one sample"),
            ({"sample": ["s999999", "r0", "'"]}, "Tick at least one sample"),
        ):
            with self.subTest(words):
                self.assertContains(self.begin(**changed), words, status_code=422)
        self.assertFalse(Sitting.objects.exists())
        other = reverse("panel:begin", args=[self.slug, self.built.tests["power"].pk])
        self.assertContains(
            self.client.post(other, {"judge": [], "sample": []}),
            "not judged by a panel",
            status_code=422,
        )

    def test_codes_tell_nothing_and_orders_differ(self):
        sitting, _ = self.opened()
        codes = [s.code for s in sitting.samples.all()]
        self.assertEqual(len(set(codes)), 4)
        self.assertTrue(all(len(code) == 3 for code in codes))
        orders = set()
        for seed in range(12):
            judge = sitting.judges.first()
            judge.seed = seed
            orders.add(tuple(s.pk for s in in_own_order(judge)))
        self.assertGreater(len(orders), 4)

    def test_who_may(self):
        sitting, _ = self.opened()
        judge, sample = sitting.judges.first(), sitting.samples.first()
        places = [
            reverse("panel:begin", args=[self.slug, self.test.pk]),
            sitting.get_absolute_url(),
            reverse("panel:link", args=[self.slug, sitting.pk, judge.pk]),
            reverse("panel:add_picture", args=[self.slug, sitting.pk, sample.pk]),
            reverse("panel:close", args=[self.slug, sitting.pk]),
        ]
        for who, status in (("designer", 403), ("viewer", 403), ("stranger", 404)):
            self.sign_in(who)
            for at in places:
                with self.subTest(who=who, at=at):
                    self.assertEqual(self.client.post(at).status_code, status)
        self.client.logout()
        for at in places:
            self.assertEqual(self.client.post(at).status_code, 302)


class JudgeTests(PanelCase):
    def setUp(self):
        self.sitting, self.links = self.opened()
        self.outside = Client()

    def test_a_judge_needs_no_account_and_sees_no_names(self):
        page = self.outside.get(self.links["Ilse"])
        self.assertEqual(page.status_code, 200)
        for sample in self.sitting.samples.all():
            self.assertContains(page, f"Sample {sample.code}")
        for name in ("Amsel", "Binse", "Kiebitz", "R-1", "L-02"):
            self.assertNotContains(page, name)
        self.assertContains(page, "Face 2, surface")
        self.assertEqual(page["Cache-Control"].split(",")[0].strip(), "max-age=0")
        self.assertEqual(self.outside.get("/panel/nobody/").status_code, 404)
        self.assertEqual(self.outside.get(self.sitting.get_absolute_url()).status_code, 302)

    def test_points_are_kept_as_they_come_and_changed(self):
        sample = self.sitting.samples.first()
        at, key = self.links["Ilse"], f"p-{sample.pk}-1-0"
        part = self.outside.post(at, {key: "7,5"}, headers={"HX-Request": "true"})
        self.assertContains(part, "1 of 16 points given")
        self.assertEqual(Mark.objects.get().points, 7.5)
        self.assertContains(self.outside.get(at), 'value="7.5"')
        self.outside.post(at, {key: "8"})
        self.assertEqual(Mark.objects.get().points, 8.0)
        self.outside.post(at, {key: ""})
        self.assertFalse(Mark.objects.exists())

    def test_what_cannot_be_points(self):
        sample, at = self.sitting.samples.first(), self.links["Ilse"]
        other = f"p-{sample.pk}"
        for data, words in (
            ({f"{other}-1-0": "11"}, "Points go from 0 to 10; 11 cannot be"),
            ({f"{other}-1-0": "-1"}, "-1 cannot be"),
            ({f"{other}-1-0": "nan"}, "nan"),
            ({f"{other}-1-0": "good"}, "is not a number"),
            ({f"{other}-3-0": "5"}, "no such sample"),
            ({f"{other}-0-0": "5"}, "no such sample"),
            ({f"{other}-1-2": "5"}, "no such sample"),
            ({"p-999999-1-0": "5"}, "no such sample"),
            ({"finish": "yes"}, "16 places have no points yet"),
        ):
            with self.subTest(data):
                self.assertContains(self.outside.post(at, data), words, status_code=422)
        self.assertFalse(Mark.objects.exists())

    def test_photographs_are_for_the_judges_of_the_sitting(self):
        sample = self.sitting.samples.first()
        out = io.BytesIO()
        Image.new("RGB", (40, 30), (10, 90, 90)).save(out, "PNG")
        at = reverse("panel:add_picture", args=[self.slug, self.sitting.pk, sample.pk])

        def send(face, data=out.getvalue()):
            file = SimpleUploadedFile("face.png", data)
            return self.client.post(at, {"face": face, "picture": file}, follow=True)

        send("2")
        row = FacePicture.objects.get()
        self.assertEqual((row.sample, row.face), (sample, 2))
        inside = f"{self.links['Ilse']}pictures/{row.pk}.jpg"
        self.assertContains(self.outside.get(self.links["Ilse"]), inside)
        self.assertEqual(self.outside.get(inside)["Content-Type"], "image/jpeg")
        self.assertEqual(self.outside.get(f"/panel/nobody/pictures/{row.pk}.jpg").status_code, 404)
        send("2")
        self.assertEqual(FacePicture.objects.count(), 1)
        self.assertContains(send("9"), "faces 1 to 2")
        self.assertContains(send("x"), "Choose a face")
        self.assertContains(send("1", b"no picture"), "picture")
        self.assertEqual(FacePicture.objects.count(), 1)

    def test_judges_stand_in_the_order_in_which_they_were_named(self):
        Judge.objects.filter(name="Ilse").update(done_at=self.sitting.opened_at)  # moves its row
        page = self.client.get(self.sitting.get_absolute_url())
        self.assertEqual([judge.name for judge, _ in page.context["judges"]], ["Ilse", "Jost"])

    def test_a_new_link_shuts_the_old_one(self):
        judge = Judge.objects.get(name="Ilse")
        self.client.post(reverse("panel:link", args=[self.slug, self.sitting.pk, judge.pk]))
        self.assertEqual(self.outside.get(self.links["Ilse"]).status_code, 404)
        new = self.client.session[f"panel-links-{self.sitting.pk}"]["Ilse"].split("testserver")[1]
        self.assertEqual(self.outside.get(new).status_code, 200)
        self.assertEqual(self.outside.get(self.links["Jost"]).status_code, 200)


class CloseTests(PanelCase):
    def setUp(self):
        self.sitting, self.links = self.opened()
        self.outside = Client()

    def close(self, **changed):
        at = reverse("panel:close", args=[self.slug, self.sitting.pk])
        return self.client.post(at, ROOM | {"form_key": KEY} | changed)

    def judged(self):
        best = {s.pk: n for n, s in enumerate(Sample.objects.filter(sitting=self.sitting), 4)}
        for name, more in (("Ilse", 0), ("Jost", 1)):
            data = self.points(self.sitting, lambda sample, more=more: best[sample.pk] + more)
            answer = self.outside.post(self.links[name], data | {"finish": "yes"}, follow=True)
            self.assertContains(answer, "you are done")
        return best

    def test_every_sample_becomes_a_run_with_the_points_of_all(self):
        self.assertContains(self.close(), "Ilse, Jost have not finished yet", status_code=422)
        best = self.judged()
        self.assertContains(self.client.get(self.sitting.get_absolute_url()), "All judges are done")
        self.assertContains(self.close(pressure=""), "Air pressure is missing", status_code=422)
        self.assertFalse(Run.objects.exists())
        self.close()
        for sample in self.sitting.samples.all():
            run = Run.objects.get(specimen=sample.specimen, reference=sample.reference)
            self.assertEqual(run.result.missing, "")
            self.assertAlmostEqual(run.result.value, best[sample.pk] + 0.5)
            self.assertEqual(
                list(run.readings.order_by("pk").values_list("position", flat=True)),
                [1, 1, 1, 1, 2, 2, 2, 2],
            )
            self.assertIn(sample.code, run.note)
        again = self.close()
        self.assertContains(again, "The sitting is closed", status_code=422)
        self.assertEqual(Run.objects.count(), 4)

    def test_nothing_changes_once_it_is_closed(self):
        self.judged()
        self.close()
        sample = self.sitting.samples.first()
        answer = self.outside.post(self.links["Ilse"], {f"p-{sample.pk}-1-0": "1"})
        self.assertContains(answer, "Thank you", status_code=422)
        self.assertFalse(Mark.objects.filter(points=1.0).exists())
        judge = Judge.objects.get(name="Ilse")
        self.client.post(reverse("panel:link", args=[self.slug, self.sitting.pk, judge.pk]))
        self.assertEqual(self.outside.get(self.links["Ilse"]).status_code, 200)

    def test_who_takes_points_back_is_no_longer_done(self):
        self.judged()
        sample = self.sitting.samples.first()
        self.outside.post(self.links["Ilse"], {f"p-{sample.pk}-1-0": ""})
        self.assertContains(self.close(), "Ilse has not finished yet", status_code=422)


class WeighedTests(PanelCase):
    def test_points_by_weights_are_each_judges_own(self):
        self.begin(weight=["1", "0.5", "1"], faces="front, 45°")
        sitting = Sitting.objects.get()
        page = self.client.get(sitting.get_absolute_url())
        self.assertContains(page, "They count overhang × 1, surface × 0.5")
        self.assertContains(page, "(front, 45°)")
        for judge, more in zip(sitting.judges.all(), (0.0, 1.0), strict=True):
            for sample in sitting.samples.all():
                for face in (1, 2):
                    for criterion, points in ((0, 4.0 + face), (1, 1.0)):
                        judge.marks.create(
                            sample=sample, face=face, criterion=criterion, points=points + more
                        )
            judge.done_at = sitting.opened_at
            judge.save()
        at = reverse("panel:close", args=[self.slug, sitting.pk])
        self.client.post(at, ROOM | {"form_key": KEY})
        run = Run.objects.first()
        # (5 + 6 + 0.5 (1 + 1)) / 3 = 4, and one more of the second judge
        self.assertEqual(sorted(r.value for r in run.readings.all()), [4.0, 5.0])
        self.assertAlmostEqual(run.result.value, 4.5)
        page = self.client.get(sitting.get_absolute_url())
        self.assertContains(page, "Overhang, 45°")
        self.assertContains(page, "The judges gave all samples alike")


class PlacesTests(PanelCase):
    def setUp(self):
        Rig.objects.filter(name="Score sheets").update(
            constants={"places": [2, 0.0], "faces": [1, 0.0], "top": [10, 0.0]}
        )
        Test.objects.filter(pk=self.test.pk).update(procedure="panel_places")
        self.begin(criterion=["surface"], weight=["1"])
        self.sitting = Sitting.objects.get()
        links = self.client.session[f"panel-links-{self.sitting.pk}"]
        self.links = {name: url.split("testserver")[1] for name, url in links.items()}
        self.by_name = {s.short_name: s for s in self.sitting.samples.all()}
        self.outside = Client()

    def rank(self, name, finish=True, **places):
        data = {f"p-{self.by_name[who].pk}-1-0": str(place) for who, place in places.items()}
        if finish:
            data["finish"] = "yes"
        return self.outside.post(self.links[name], data, follow=True)

    def test_what_cannot_be_a_place(self):
        page = self.outside.get(self.links["Ilse"])
        self.assertContains(page, "leave out what you cannot judge")
        for place, words in (
            ("0", "Places are whole numbers from 1 to 4; 0 cannot be"),
            ("5", "5 cannot be"),
            ("1.5", "1.5 cannot be"),
            ("best", "not a number"),
        ):
            with self.subTest(place):
                self.assertContains(self.rank("Ilse", Amsel=place), words, status_code=422)
        self.assertFalse(Mark.objects.exists())
        answer = self.rank("Ilse", Amsel=1)
        self.assertContains(answer, "Surface: put at least two samples in places", status_code=422)

    def test_missing_places_and_ties_become_runs(self):
        self.assertContains(self.rank("Ilse", Amsel=1, Binse=2, Kiebitz=2), "you are done")
        self.rank("Jost", Amsel=1, Binse=3)
        page = self.client.get(self.sitting.get_absolute_url())
        self.assertContains(page, "Over what they have in common all agree")
        self.assertContains(page, "not judged")
        at = reverse("panel:close", args=[self.slug, self.sitting.pk])
        answer = self.client.post(at, ROOM | {"form_key": KEY}, follow=True)
        self.assertContains(answer, "3 runs were recorded")
        values = {
            run.specimen.version.entry.name: sorted(r.value for r in run.readings.all())
            for run in Run.objects.all()
        }
        # of three: the first 1/6, the two others share 2.5, so 2/3; of two: 1/4 and 3/4
        for name, there in {
            "Amsel": (16.67, 25.0),
            "Binse": (66.67, 75.0),
            "Kiebitz": (66.67,),
        }.items():
            for value, expected in zip(values[name], there, strict=True):
                self.assertAlmostEqual(value, expected, places=2)
        of_one = Run.objects.get(specimen__version__entry__name="Kiebitz").result
        self.assertEqual((of_one.missing, of_one.u), ("", 30.0))
        self.assertFalse(Run.objects.filter(reference__isnull=False).exists())

    def test_nobody_ranked_and_one_sample_alone(self):
        page = self.client.get(self.sitting.get_absolute_url())
        self.assertNotContains(page, "What they gave")
        alone = [f"s{self.built.specimens['Amsel'].pk}"]
        self.assertContains(
            self.begin(sample=alone), "Places need at least two samples", status_code=422
        )
