"""An entry is judged by the version that takes part: the newest that was run. Versions are
different parts, never averaged.
"""

from datetime import UTC, datetime, timedelta
from unittest import mock

from django.core.exceptions import ValidationError
from django.test import TestCase
from django.urls import reverse

from hauch.bench.models import Progress, Run
from hauch.bench.plan import plan_of
from hauch.bench.progress import rebuild
from hauch.bench.runs import Subject, record_dnf, void_run
from hauch.bench.scatter import scatter_of
from hauch.entries.actions import name_version, withdraw
from hauch.entries.models import Prediction, Version
from hauch.people.models import AuditEntry
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

    def test_the_next_version_is_due_once_the_one_before_is_measured(self):
        plan = plan_of(self.built.round)
        amsel = [d for d in plan.due if d.specimen and d.specimen.version.entry.name == "Amsel"]
        self.assertEqual({d.specimen.code for d in amsel}, {"R-9"})
        self.assertEqual(plan.total, 6)
        Specimen.objects.filter(pk=self.second.pk).update(state="printed")
        self.assertEqual(plan_of(self.built.round).total, 0)  # nobody means to run it yet
        Specimen.objects.filter(pk=self.second.pk).update(state="ready")
        self.built.air(self.second, 100, (4.8, 4.81))
        self.assertEqual(plan_of(self.built.round).total, 5)

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

    def test_a_named_version_takes_part_whatever_was_run_later(self):
        self.run_second()
        amsel = self.built.entries["Amsel"]
        self.assertEqual(self.standing()[1]["Amsel"].version, 2)
        name_version(self.built.host, amsel, 1)
        _, rows = self.standing()
        self.assertEqual((rows["Amsel"].version, rows["Amsel"].named), (1, True))
        counted = Progress.objects.filter(entry=amsel).values_list("version__number", "counted")
        self.assertEqual(set(counted), {(1, 3)})
        name_version(self.built.host, amsel, None)
        self.assertEqual(self.standing()[1]["Amsel"].version, 2)
        entry = AuditEntry.objects.filter(action="entry.name_version").latest("pk")
        self.assertEqual(entry.detail["takes_part"], "the newest that was run")
        with self.assertRaisesRegex(ValidationError, "has no version 9"):
            name_version(self.built.host, amsel, 9)

    def test_a_named_version_that_was_not_run_is_due_and_counts_for_nothing_yet(self):
        name_version(self.built.host, self.built.entries["Amsel"], 2)
        due = {d.specimen.code for d in plan_of(self.built.round, 40).due if d.specimen}
        self.assertEqual(due, {"R-9"})
        _, rows = self.standing()
        self.assertEqual(
            (rows["Amsel"].state, rows["Amsel"].reason),
            ("incomplete", "Not complete: air test, power test missing for version 2."),
        )

    def test_who_may_name_it(self):
        amsel = self.built.entries["Amsel"]
        address = reverse("entries:name_version", args=[self.built.round.slug, amsel.pk])
        for name, status in (("designer", 302), ("viewer", 404), ("operator", 403), ("host", 302)):
            with self.subTest(name):
                self.client.force_login(self.built.people[name])
                answer = self.client.post(address, {"version": "1"})
                self.assertEqual(answer.status_code, status)
        self.built.round.state, self.built.round.published_at = "published", START
        self.built.round.save()
        self.client.force_login(self.built.people["designer"])
        self.assertEqual(self.client.post(address, {"version": "2"}).status_code, 403)

    def test_it_is_named_on_the_entrys_page_and_shown_in_the_standing(self):
        self.run_second()
        self.client.force_login(self.built.host)
        amsel = self.built.entries["Amsel"]
        page = self.client.get(amsel.get_absolute_url())
        self.assertContains(page, "Name the version that takes part")
        self.client.post(
            reverse("entries:name_version", args=[self.built.round.slug, amsel.pk]),
            {"version": "1"},
        )
        self.standing()
        self.assertContains(
            self.client.get(amsel.get_absolute_url()), "Version 1 takes part: it was named"
        )
        standing = self.client.get(reverse("verdict:standing", args=[self.built.round.slug]))
        self.assertContains(standing, "v1, named")

    def test_two_prints_of_a_version_are_two_parts(self):
        """A second print of version 1 at 4.6 where the first read 4.4: the mean of both, and nobody
        else's doubt grows.
        """
        before, rows = self.standing()
        others = rows["Binse"].tests["air"]["change_expanded"]
        print_two = Specimen.objects.create(
            version=self.built.specimens["Amsel"].version, code="R-1B", state="ready"
        )
        for repeat in range(3):
            self.built.air(print_two, 100 + 2 * repeat, (4.6, 4.6 + 0.01 * repeat))
        after, rows = self.standing()
        cell = rows["Amsel"].tests["air"]
        self.assertEqual((cell["count"], cell["prints"]), (6, 2))
        self.assertAlmostEqual(cell["change"], 100 * (4.5 / 4.0 - 1), delta=0.7)
        scatter = before.reference["air"]["repeat_sd"]
        self.assertLess(after.reference["air"]["repeat_sd"], 1.2 * scatter)
        self.assertLess(rows["Binse"].tests["air"]["change_expanded"], 1.2 * others)
        self.assertGreater(cell["change_expanded"], 5 * others)

    def test_days_are_those_of_the_installations_place(self):
        """Half an hour before and after midnight in London is one day in Berlin."""
        built, rig = self.built, self.built.tests["air"].rig_id
        Run.objects.all().update(state=Run.State.VOID, reason="another day")
        for hour, air in ((23, (4.02, 4.02)), (24, (3.98, 3.98))):
            run = built.air(built.specimens["Kiebitz"], 200 + hour, air)
            moment = datetime(2026, 1, 10, tzinfo=UTC) + timedelta(hours=hour, minutes=30)
            Run.objects.filter(pk=run.pk).update(started_at=moment)
        for zone, found in (("Europe/London", False), ("Europe/Berlin", True)):
            with self.subTest(zone), self.settings(TIME_ZONE=zone):
                known = scatter_of(rig, built.tests["air"].how)
                self.assertEqual(known is not None, found)

    def test_a_single_run_each_is_told_by_the_rigs_history_or_not_at_all(self):
        """Two runs of a withdrawn entry tell how the rig scatters."""
        built = self.built
        Run.objects.all().update(state=Run.State.VOID, reason="another day")
        built.air(built.reference, 200, (4.0, 4.0))
        built.air(built.specimens["Binse"], 205, (4.2, 4.2))
        _, rows = self.standing()
        cell = rows["Binse"].tests["air"]
        self.assertEqual(cell["word"], "not repeated: cannot be told")
        self.client.force_login(built.host)
        page = self.client.get(reverse("verdict:standing", args=[built.round.slug]))
        self.assertContains(page, "not repeated")
        address = reverse(
            "verdict:cell", args=[built.round.slug, 1, built.entries["Binse"].pk, "air"]
        )
        self.assertContains(self.client.get(address), "Not repeated: cannot be told.")
        self.assertIsNone(scatter_of(built.tests["air"].rig_id, built.tests["air"].how))
        for repeat, air in enumerate((4.00, 4.02, 3.98)):
            built.air(built.specimens["Kiebitz"], 210 + repeat, (air, air))
        withdraw(built.host, built.entries["Kiebitz"], "not meant to take part")
        known = scatter_of(built.tests["air"].rig_id, built.tests["air"].how)
        self.assertEqual(known.dof, 2)
        self.assertAlmostEqual(known.sd, 0.005, delta=2e-5)  # 0.02 of 4.0, logarithms
        with mock.patch("hauch.bench.scatter.NEWEST", 2):  # 4.02 and 3.98: the newest tell it
            self.assertEqual(scatter_of(built.tests["air"].rig_id, built.tests["air"].how).dof, 1)
        cell = self.standing()[1]["Binse"].tests["air"]
        self.assertEqual((cell["word"], cell["history"]), ("better", True))
        self.assertContains(self.client.get(address), "from the rig&#x27;s history")

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
