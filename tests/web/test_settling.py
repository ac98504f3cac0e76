"""What would settle the first place: worked out, told, put on the bench and taken off again."""

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse

from hauch.bench.durations import run_minutes
from hauch.bench.models import AskedRepeats, Run
from hauch.bench.plan import plan_of, wanted_repeats
from hauch.bench.runs import Subject, record_dnf, void_run
from hauch.pages.line import stations
from hauch.people.models import AuditEntry
from hauch.rounds.models import RuleVersion, Test
from hauch.verdict.judging import refresh
from hauch.verdict.models import Settling
from hauch.verdict.settling import ask, put_on_bench, take_off_bench, work_out
from tests.builder import START, build


class SettlingTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        air = cls.built.air
        # Amsel leads Binse by little, Kiebitz is far behind; the reference between them.
        for n, minutes in enumerate((0, 60, 120)):
            air(cls.built.reference, minutes, (4.00 + 0.004 * n, 4.00))
            air(cls.built.specimens["Amsel"], minutes + 10, (4.10 + 0.025 * n,) * 2)
            air(cls.built.specimens["Binse"], minutes + 20, (4.135 - 0.025 * n,) * 2)
            air(cls.built.specimens["Kiebitz"], minutes + 30, (3.5, 3.51))
        cls.round = cls.built.round
        cls.rules = cls.round.rules.get()
        cls.rules.terms.exclude(test=cls.built.tests["air"]).delete()
        cls.rules.scheme = RuleVersion.Scheme.SINGLE
        cls.rules.save()
        Test.objects.filter(round=cls.round, key="power").update(dropped=True)
        cls.standing = refresh(cls.rules)
        cls.at = reverse("verdict:settling", args=[cls.round.slug])

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def worked(self, asked=0.9):
        row = ask(self.built.host, self.standing, asked)
        work_out(row.pk)
        row.refresh_from_db()
        return row

    def test_from_the_standing_to_the_bench_and_off_again(self):
        self.sign_in()
        self.assertContains(
            self.client.get(reverse("verdict:standing", args=[self.round.slug])), self.at
        )
        self.assertContains(self.client.get(self.at), "Say how sure the first place is to be")
        self.client.post(reverse("verdict:ask", args=[self.round.slug]), {"asked": "0.9"})
        self.assertContains(self.client.get(self.at), "It is being worked out")
        row = Settling.objects.get()
        work_out(row.pk)
        polled = self.client.get(self.at, headers={"HX-Request": "true"})
        self.assertEqual(polled.headers["HX-Refresh"], "true")
        page = self.client.get(self.at)
        self.assertContains(page, "Amsel is first with")
        row.refresh_from_db()
        self.assertContains(page, "Put it on the bench")
        steps = row.result["steps"]
        self.assertTrue(row.result["reached"])
        names = {self.round.entries.get(pk=step["entry"]).name for step in steps}
        self.assertTrue(names <= {"Amsel", "Binse"}, names)
        # a run's minutes each, and a run of the reference to every four
        minutes = {key: 1.25 * run_minutes(test).minutes for key, test in self.built.tests.items()}
        told = sum(minutes[step["test"]] * step["repeats"] for step in steps)
        self.assertAlmostEqual(row.result["minutes"], told, 6)
        before = plan_of(self.round).total
        self.client.post(reverse("verdict:to_bench", args=[self.round.slug]))
        asked = sum(step["repeats"] for step in steps)
        plan = plan_of(self.round, 50)
        self.assertEqual(plan.total, before + asked)
        self.assertTrue(
            {due.name for due in plan.due if due.specimen} <= {"Amsel", "Binse"}, plan.due
        )
        self.assertContains(self.client.get(self.at), "Asked for at the bench")
        entry = steps[0]["entry"]
        specimen = next(s for s in self.built.specimens.values() if s.version.entry_id == entry)
        self.assertEqual(wanted_repeats(self.built.tests["air"], specimen), 3 + steps[0]["repeats"])
        self.assertEqual(wanted_repeats(self.built.tests["air"], None), 3)
        self.client.post(reverse("verdict:to_bench", args=[self.round.slug]), {"off": "1"})
        self.assertEqual(plan_of(self.round).total, before)
        self.assertFalse(AskedRepeats.objects.exists())
        self.assertEqual(AuditEntry.objects.filter(action__startswith="settling.").count(), 2)

    def test_a_run_makes_it_old(self):
        self.worked()
        self.built.air(self.built.specimens["Amsel"], 200, (4.13, 4.12))
        refresh(self.rules)
        row = Settling.objects.get()
        self.assertFalse(row.current)
        with self.assertRaisesMessage(ValidationError, "Runs have come in since"):
            put_on_bench(self.built.host, row)
        self.sign_in()
        page = self.client.get(self.at)
        self.assertContains(page, "Have it worked out again")
        self.assertNotContains(page, "Put it on the bench")

    def bench(self):
        """What the line tells of the bench."""
        return next(s.text for s in stations(self.round, self.built.host) if s.key == "bench")

    def test_the_line_tells_what_is_asked_for_and_a_later_answer_takes_its_place(self):
        self.assertEqual(self.bench(), "9 of 9 runs")
        row = self.worked()
        air, binse = self.built.tests["air"], self.built.entries["Binse"]
        AskedRepeats.objects.create(test=air, entry=self.built.entries["Kiebitz"], repeats=9)
        self.assertEqual(self.bench(), "9 of 9 runs, 6 more asked for")
        asked = put_on_bench(self.built.host, row)
        self.assertEqual(self.bench(), f"9 of 9 runs, {asked} more asked for")
        self.sign_in()
        page = self.client.get(self.at)
        self.assertContains(page, "To the bench")
        self.assertNotContains(page, "Put it on the bench")
        AskedRepeats.objects.exclude(entry=binse).delete()
        AskedRepeats.objects.update(repeats=5)
        self.assertContains(self.client.get(self.at), "Put it on the bench")
        self.built.air(self.built.specimens["Binse"], 200, (4.13, 4.12))
        self.assertEqual(self.bench(), "9 of 9 runs, 1 more asked for")
        subject = Subject(specimen=self.built.specimens["Binse"])
        record_dnf(self.built.operator, air, subject, "rubs", START)
        self.assertEqual(self.bench(), "6 of 6 runs")
        self.assertNotContains(self.client.get(self.at), "Asked for at the bench")

    def test_more_runs_of_one_entry_stand_for_none_of_anothers(self):
        self.built.air(self.built.specimens["Amsel"], 200, (4.13, 4.12))
        void_run(self.built.operator, Run.objects.filter(specimen__code="R-3").first(), "rubs")
        self.assertEqual(self.bench(), "8 of 9 runs")

    def test_who_may_do_what(self):
        for who, code in (("operator", 200), ("viewer", 404), ("designer", 404)):
            self.sign_in(who)
            self.assertEqual(self.client.get(self.at).status_code, code)
        row = self.worked()
        with self.assertRaises(PermissionDenied):
            put_on_bench(self.built.operator, row)
        with self.assertRaises(PermissionDenied):
            take_off_bench(self.built.operator, self.round)

    def test_bad_words_and_rules_that_settle_nothing(self):
        self.sign_in()
        for sent in ("", "2", "0", "nan", "often"):
            answer = self.client.post(
                reverse("verdict:ask", args=[self.round.slug]), {"asked": sent}, follow=True
            )
            self.assertContains(answer, "Choose one of the probabilities")
        self.rules.terms.update_or_create(test=self.built.tests["power"], defaults={"weight": 1.0})
        Test.objects.filter(key="power").update(dropped=False)
        RuleVersion.objects.filter(pk=self.rules.pk).update(scheme="front")
        for n in range(3):
            self.built.power(self.built.reference, 300 + n, 0.5)
            for k, name in enumerate(("Amsel", "Binse", "Kiebitz")):
                self.built.power(self.built.specimens[name], 310 + 10 * n + k, 0.5 + 0.01 * k)
        self.worked()
        self.assertContains(self.client.get(self.at), "On a front several are first")

    def test_nothing_to_settle_yet(self):
        built = self.built
        Test.objects.filter(round=self.round, key="power").update(dropped=False)
        self.rules.terms.update_or_create(test=built.tests["power"], defaults={"weight": 1.0})
        RuleVersion.objects.filter(pk=self.rules.pk).update(scheme="weighted_percent")
        self.worked()
        self.sign_in()
        self.assertContains(self.client.get(self.at), "Nobody can be ranked yet")


class DurationTests(TestCase):
    def test_by_rule_and_by_record(self):
        built = build()
        test = built.tests["air"]
        by_rule = run_minutes(test)
        self.assertTrue(by_rule.by_rule)
        self.assertAlmostEqual(by_rule.minutes, 4.0 + 0.5 * test.readings)
        for minutes in (0, 6, 12, 20, 600, 607):
            built.air(built.reference, minutes, (4.0, 4.1))
        told = run_minutes(test)
        # 6, 6, 8 and 7 minutes, the night between is no run: mean of the logarithms 1.90222. The rule
        # of 5 min, logarithm 1.60944, counts as a quarter of a run: 8.01123 / 4.25 = 1.88500.
        self.assertEqual(told.count, 4)
        self.assertAlmostEqual(told.minutes, 6.586, 3)
