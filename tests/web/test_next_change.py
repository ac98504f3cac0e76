"""What to change next: by a model, by sizes, by the check, by what was seen; begun as a version."""

from datetime import timedelta

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Observation, Run
from hauch.desk import suggesting
from hauch.desk.actions import predict_for
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from hauch.entries.models import PartCheck, PartFile, Prediction, Version
from hauch.rounds.models import Round, RuleTerm
from hauch.workshop.models import Specimen
from tests.builder import START, build

TOOL = TOOLS["impeller"]


class NextCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.entry = cls.built.entries["Amsel"]
        cls.version = cls.entry.versions.get()

    def sign_in(self, who="designer"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def foretell(self):
        predict_for(self.built.host, TOOL, TOOL.start(), Setting(), self.version)

    def found(self):
        return suggesting.next_of(self.entry, "workshop")

    def page(self, status=200):
        at = reverse("desk:next", args=[self.entry.pk])
        self.assertEqual(self.client.get(at).status_code, status)
        return self.client.get(at, headers={"HX-Request": "true"})

    def begin(self, key, **more):
        at = reverse("desk:begin_next", args=[self.entry.pk])
        return self.client.post(at, {"key": key} | more, follow=True)


class SourceTests(NextCase):
    def test_nothing_is_known_yet(self):
        self.sign_in()
        page = self.page()
        self.assertContains(page, "Nothing is known yet that would make it better")
        self.assertContains(page, "No model of the Desk has foretold a version of it yet")

    def test_by_the_model_and_the_weights_of_the_rules(self):
        self.foretell()
        found = self.found()
        self.assertEqual(found.model, TOOL.label)
        best = found.found[0]
        changes = {
            p: 100 * (after / before - 1)
            for step in suggesting.steps(TOOL, TOOL.start())
            if f"model:{step.key}" == best.key
            for p, (before, after) in step.changes.items()
        }
        # the rules weigh air 2 and power 1, of which less is better
        self.assertAlmostEqual(
            best.gain, (2 * changes["airflow"] - changes["electrical_power"]) / 3, places=6
        )
        gains = [one.gain for one in found.found]
        self.assertEqual(gains, sorted(gains, reverse=True))
        self.assertGreater(gains[-1], 0)
        kinds = [one.key.rpartition(":")[0] for one in found.found]
        self.assertEqual(len(set(kinds)), len(kinds))  # the better direction of each

    def test_with_other_weights_another_change_is_first(self):
        self.foretell()
        before = [one.key for one in self.found().found]
        RuleTerm.objects.filter(test=self.built.tests["air"]).update(weight=0.01)
        self.assertNotEqual(before, [one.key for one in self.found().found])

    def test_the_limit_of_the_rules_stands_beside_a_loss_alone(self):
        self.foretell()
        limited = RuleTerm.objects.filter(test=self.built.tests["power"])
        self.assertNotIn("may lose", str([one.told for one in self.found().found]))
        limited.update(most_loss=5.0)
        label = self.built.tests["power"].label
        told = [words for one in self.found().found for words in one.told if label in words]
        self.assertTrue(any("+" in words for words in told))
        for words in told:
            self.assertEqual("may lose 5.0 % to the reference at most" in words, "+" in words)

    def test_what_broke_and_what_was_seen(self):
        self.foretell()
        specimen = self.built.specimens["Amsel"]
        run = self.built.air(specimen, 1, (4.4, 4.4))
        Run.objects.filter(pk=run.pk).update(state="dnf", reason="the hub slipped")
        other = self.built.air(specimen, 2, (4.4, 4.4))
        Observation.objects.create(
            run=other, text="from the trailing edge", tags=["whistle", "smoke"], by=self.built.host
        )
        found = self.found().found
        self.assertIn("the hub slipped", found[0].change)
        self.assertTrue(found[0].first)
        seen = next(one for one in found if one.key == "seen:whistle")
        self.assertIn("“from the trailing edge”", seen.why)
        self.assertIsNone(seen.gain)
        self.sign_in()
        page = self.page()
        self.assertContains(page, "first")
        self.assertContains(page, "gain cannot be told")
        self.assertNotContains(page, "Seen at the bench as smoke")

    def test_what_the_check_asks_for(self):
        file = PartFile.objects.create(
            version=self.version, name="amsel.stl", sha256="0" * 64, size=1
        )
        check = PartCheck.objects.create(
            file=file,
            state="done",
            verdict="care",
            reasons=[["care", "The wall is 0.6 mm thin."], ["well", "It is closed."]],
            figures=[{"key": "time", "quantity": {"value": 7200.0}}],
        )
        PartFile.objects.filter(pk=file.pk).update(newest_check=check)
        found = self.found()
        self.assertEqual(
            [one.change for one in found.found], ["amsel.stl: The wall is 0.6 mm thin."]
        )
        self.assertEqual(found.hours, 2.0)
        self.sign_in()
        self.assertContains(self.page(), "a print of 2.0 h")

    def test_the_next_size_of_those_that_were_tried(self):
        self.built.measure_all()
        second = Version.objects.create(entry=self.entry, number=2, changed="Smaller gap")
        other = Specimen.objects.create(version=second, code="R-9", state="ready")
        for minute, speed in ((60, 4.2), (61, 4.21), (62, 4.19)):
            self.built.air(other, minute, (speed, speed))
        for specimen, gap in ((self.built.specimens["Amsel"], 0.001), (other, 0.0005)):
            specimen.measures.create(kind="tip_gap", value=gap, at=START + timedelta(hours=1))
        one = next(one for one in self.found().found if one.key == "size:tip_gap")
        self.assertIn("Tip gap", one.change)
        self.assertIn("tried in v2, v1", one.why)
        self.assertIn("size=tip_gap", one.link)

    def test_a_design_that_cannot_be_worked_out_any_more(self):
        self.foretell()
        Prediction.objects.update(inputs=TOOL.start() | {"outer": -1.0})
        self.assertIn("cannot be worked out any more", self.found().no_model)


class BeginTests(NextCase):
    def test_it_becomes_the_next_version_with_what_is_expected(self):
        self.foretell()
        best = self.found().found[0]
        self.sign_in()
        answer = self.begin(best.key)
        self.assertContains(answer, "is begun")
        version = self.entry.versions.get(number=2)
        self.assertEqual(version.changed, best.change)
        self.assertIn("Expected: Air test", version.why)
        self.assertEqual(
            set(version.predictions.values_list("procedure", flat=True)),
            {"airflow", "electrical_power"},
        )

    def test_with_the_part_made_by_the_generator(self):
        self.foretell()
        best = self.found().found[0]
        self.assertTrue(best.makes)
        self.sign_in()
        self.assertContains(self.page(), "with the part made")
        self.begin(best.key, make="yes")
        version = self.entry.versions.get(number=2)
        self.assertEqual(version.files.count(), 1)
        self.assertEqual(version.predictions.count(), 2)

    def test_what_is_suggested_no_more(self):
        self.sign_in()
        self.assertContains(self.begin("model:eye:+"), "This is suggested no more")
        self.assertContains(self.begin("'; --"), "This is suggested no more")
        self.assertEqual(self.entry.versions.count(), 1)

    def test_who_may(self):
        self.foretell()
        for who, status in (("operator", 403), ("viewer", 404), ("stranger", 404)):
            with self.subTest(who):
                self.sign_in(who)
                self.page(status)
                self.assertEqual(self.begin("model:eye:+").status_code, status)
        Round.objects.update(state="published", published_at=timezone.now())
        self.sign_in()
        page = self.page()
        self.assertContains(page, "copy the entry to another round")
        self.assertNotContains(page, "Begin v2")
        self.assertContains(self.begin(self.found().found[0].key), "The round is published")
