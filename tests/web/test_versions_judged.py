"""An entry is judged by the version that takes part: the newest that was run. Versions are
different parts, never averaged.
"""

from django.test import TestCase
from django.urls import reverse

from hauch.bench.models import Progress
from hauch.bench.progress import rebuild
from hauch.bench.queries import plan_of
from hauch.bench.runs import Subject, record_dnf, void_run
from hauch.entries.models import Prediction, Version
from hauch.verdict.judging import refresh
from hauch.workshop.models import Specimen
from tests.builder import START, build


class VersionsTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()

    def setUp(self):
        version = Version.objects.create(entry=self.built.entries["Amsel"], number=2)
        self.second = Specimen.objects.create(version=version, code="R-9", state="ready")

    def standing(self):
        standing = refresh(self.built.round.rules.get())
        return standing, {row.entry.name: row for row in standing.rows.select_related("entry")}

    def run_second(self, air=4.8):
        for repeat in range(3):
            self.built.air(self.second, 100 + 2 * repeat, (air, air + 0.01))
            self.built.power(self.second, 101 + 2 * repeat, 0.405)

    def test_the_newest_version_alone_is_judged_and_others_keep_their_doubt(self):
        """4.8 m/s where version 1 had 4.4: the mean of both would be 4.6, and their difference
        would be told as scatter of every entry.
        """
        before, rows = self.standing()
        scatter, others = before.reference["air"]["repeat_sd"], rows["Binse"].tests["air"]
        self.assertEqual(rows["Amsel"].version, 1)
        self.run_second()
        after, rows = self.standing()
        self.assertEqual((rows["Amsel"].version, rows["Amsel"].tests["air"]["count"]), (2, 3))
        flow = rows["Amsel"].tests["air"]["value"] / others["value"]
        self.assertAlmostEqual(flow, 4.805 / 4.102, delta=0.01)
        self.assertLess(after.reference["air"]["repeat_sd"], 1.2 * scatter)
        self.assertLess(
            rows["Binse"].tests["air"]["change_expanded"], 1.2 * others["change_expanded"]
        )

    def test_what_the_newest_lacks_is_not_filled_up_from_an_older_one(self):
        self.built.air(self.second, 100, (4.8, 4.8))
        _, rows = self.standing()
        self.assertEqual(
            (rows["Amsel"].state, rows["Amsel"].reason),
            ("incomplete", "Not complete: power test missing for version 2."),
        )

    def test_a_version_that_was_only_handed_in_changes_nothing(self):
        _, rows = self.standing()
        self.assertEqual((rows["Amsel"].state, rows["Amsel"].version), ("ranked", 1))

    def test_did_not_finish_counts_for_its_own_version(self):
        record_dnf(
            self.built.operator,
            self.built.tests["air"],
            Subject(specimen=self.built.specimens["Amsel"]),
            "burst",
            START,
        )
        self.assertEqual(self.standing()[1]["Amsel"].state, "dnf")
        self.run_second()
        self.assertEqual(self.standing()[1]["Amsel"].state, "ranked")

    def test_a_voided_run_takes_its_version_out_again(self):
        run = self.built.air(self.second, 100, (4.8, 4.8))
        void_run(self.built.operator, run, "wrong part")
        _, rows = self.standing()
        self.assertEqual((rows["Amsel"].state, rows["Amsel"].version), ("ranked", 1))

    def test_progress_and_the_next_run_go_by_it(self):
        amsel = self.built.entries["Amsel"]

        def counted():
            return dict(Progress.objects.filter(entry=amsel).values_list("test__key", "counted"))

        self.assertEqual(counted(), {"air": 3, "power": 3})
        run = self.built.air(self.second, 100, (4.8, 4.8))
        self.assertEqual(counted(), {"air": 1})
        due = [
            (d.test.key, d.specimen.code) for d in plan_of(self.built.round, 40).due if d.specimen
        ]
        self.assertEqual(sorted(set(due)), [("air", "R-9"), ("power", "R-9")])
        Specimen.objects.create(
            version=Version.objects.create(entry=amsel, number=3), code="R-10", state="ready"
        )
        self.assertEqual(
            {d.specimen.code for d in plan_of(self.built.round, 40).due if d.specimen}, {"R-9"}
        )
        void_run(self.built.operator, run, "wrong part")
        self.assertEqual(counted(), {"air": 3, "power": 3})
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

    def test_pages_say_which_version_takes_part(self):
        self.run_second()
        self.standing()
        self.client.force_login(self.built.host)
        self.assertContains(
            self.client.get(reverse("verdict:standing", args=[self.built.round.slug])),
            "version 2 takes part",
        )
        page = self.client.get(
            reverse("entry", args=[self.built.round.slug, self.built.entries["Amsel"].pk])
        )
        self.assertContains(page, "Version 2 takes part")
        self.assertContains(page, "v1, does not count", count=6)

    def test_a_prediction_is_held_against_its_own_version_only(self):
        from hauch.desk.queries import held_against

        first = self.built.specimens["Amsel"].version
        for version in (first, self.second.version):
            Prediction.objects.create(
                version=version, procedure="airflow", source="designer", value=0.05
            )
        self.run_second()
        self.standing()
        held = {
            one.prediction.version.number: one.measured
            for one in held_against(Prediction.objects.all(), self.built.host)
        }
        self.assertIsNone(held[1])
        self.assertIsNotNone(held[2])
