"""Recorded first, judged after: whatever judging makes of it, a reading stays, and the standing
says how far it is.
"""

import threading
from unittest import mock
from uuid import uuid4

from django.db import connection
from django.test import Client, TestCase, TransactionTestCase
from django.urls import reverse
from procrastinate.contrib.django.models import ProcrastinateJob

from hauch.bench.models import Run
from hauch.bench.runs import Subject, record_dnf
from hauch.rounds.models import RuleTerm, RuleVersion
from hauch.verdict.actions import results_have_changed
from hauch.verdict.jobs import sweep
from hauch.verdict.judging import judge_round
from hauch.verdict.models import Standing
from tests.builder import START, build
from tests.emptied import Emptied

ROOM = {"temperature": "21", "pressure": "965", "humidity": "48"}


def readings(kind="air"):
    if kind == "air":
        return {"air_speed": ["4.0", "4.01"], "unit-air_speed": "m/s"}
    return {"voltage": ["12.0"], "unit-voltage": "V", "current": ["0.4"], "unit-current": "A"}


class FirstRunTests(TestCase):
    """The first run that the bench proposes is the reference's: nothing can be ranked then, and
    nothing may be lost.
    """

    def setUp(self):
        self.built = build()
        self.client.force_login(self.built.operator)

    def send(self, test, subject):
        values = (
            ROOM
            | {f"r-{k}" if not k.startswith("unit") else k: v for k, v in readings(test).items()}
            | {"form_key": str(uuid4()), "subject": subject}
        )
        values["started_at"] = "2026-05-04T11:00"
        address = reverse("bench:capture", args=[self.built.round.slug, self.built.tests[test].pk])
        with self.captureOnCommitCallbacks(execute=True):
            return self.client.post(f"{address}?subject={subject}", values)

    def test_under_each_scheme(self):
        rules = self.built.round.rules.get()
        for scheme in RuleVersion.Scheme.values:
            with self.subTest(scheme):
                self.under(rules, scheme)
                before = Run.objects.count()
                answer = self.send("air", f"r{self.built.reference.pk}")
                self.assertIn(answer.status_code, {200, 302}, answer.content[:300])
                self.assertEqual(Run.objects.count(), before + 1)
                standing = Standing.objects.get(rules=rules)
                self.assertEqual((standing.failure, standing.stale), ("", False))
                self.assertEqual(set(standing.rows.values_list("state", flat=True)), {"incomplete"})

    def under(self, rules, scheme):
        rules.scheme = scheme
        rules.save()
        rules.terms.all().delete()
        air, power = self.built.tests["air"], self.built.tests["power"]
        RuleTerm.objects.create(rules=rules, test=air, weight=1)
        if scheme == RuleVersion.Scheme.CONSTRAINT:
            RuleTerm.objects.create(rules=rules, test=power, most_loss=3)
        elif scheme != RuleVersion.Scheme.SINGLE:
            RuleTerm.objects.create(rules=rules, test=power, weight=1)

    def test_an_entry_first_and_one_test_missing(self):
        rules = self.built.round.rules.get()
        for test, subject in (
            ("air", f"s{self.built.specimens['Amsel'].pk}"),
            ("power", f"r{self.built.reference.pk}"),
        ):
            self.send(test, subject)
            self.assertEqual(Standing.objects.get(rules=rules).failure, "")
        self.assertEqual(Run.objects.count(), 2)


class ApartTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()

    def record_one(self):
        with self.captureOnCommitCallbacks(execute=True):
            return self.built.air(self.built.specimens["Amsel"], 200, (4.4, 4.41))

    def test_what_goes_wrong_in_judging_touches_no_run_and_is_told(self):
        before = Standing.objects.get().rows.count()
        with (
            mock.patch("hauch.verdict.judging.judge", side_effect=ValueError("a shape")),
            self.assertLogs("hauch.verdict.judging", "ERROR"),
        ):
            run = self.record_one()
        self.assertTrue(Run.objects.filter(pk=run.pk, result__value__isnull=False).exists())
        standing = Standing.objects.get()
        self.assertEqual(
            (standing.failure, standing.stale, standing.rows.count()),
            ("ValueError: a shape", True, before),
        )
        self.client.force_login(self.built.host)
        page = self.client.get(reverse("verdict:standing", args=[self.built.round.slug]))
        self.assertContains(page, "Nothing that was recorded is lost")
        self.record_one()
        self.assertEqual(
            (Standing.objects.get().failure, Standing.objects.get().stale), ("", False)
        )

    def test_the_worker_has_the_job_from_the_same_commit(self):
        """Whatever becomes of the process after the commit: the job stands in the database with the
        run.
        """
        known = set(ProcrastinateJob.objects.values_list("pk", flat=True))
        self.built.air(self.built.specimens["Amsel"], 200, (4.4, 4.41))
        self.built.air(self.built.specimens["Amsel"], 205, (4.4, 4.41))
        made = ProcrastinateJob.objects.exclude(pk__in=known).filter(
            task_name="verdict.refresh_standings"
        )
        self.assertEqual(
            [job.args for job in made], [{"round_id": self.built.round.pk}]
        )  # one for both: the standing was stale already
        self.assertTrue(Standing.objects.get().stale)

    def test_a_change_while_it_is_judged_leaves_it_stale_and_is_judged_next(self):
        from hauch.verdict import judging

        real, passes = judging.judge, []

        def judge(rules):
            judged = real(rules)
            passes.append(len(passes))
            if len(passes) == 1:
                results_have_changed(self.built.round)  # another bench, meanwhile
            return judged

        results_have_changed(self.built.round)
        with mock.patch.object(judging, "judge", judge):
            judge_round(self.built.round.pk)
        self.assertEqual((len(passes), Standing.objects.get().stale), (2, False))

    def test_what_nobody_judges_any_more_is_swept_up(self):
        results_have_changed(self.built.round)
        sweep(0)
        self.assertTrue(Standing.objects.get().stale)  # its job may still come
        Standing.objects.update(changed_at=START)
        sweep(0)
        self.assertFalse(Standing.objects.get().stale)


class TwiceAtOnceTests(Emptied, TransactionTestCase):
    def test_did_not_finish_sent_twice_at_once_is_one_row(self):
        built = build()
        address = reverse("bench:dnf", args=[built.round.slug, built.tests["air"].pk])
        key, answers = str(uuid4()), []
        clients = [Client(), Client()]
        for client in clients:
            client.force_login(built.operator)

        def send(client):
            try:
                values = {
                    "subject": f"s{built.specimens['Amsel'].pk}",
                    "reason": "two blades rub",
                    "form_key": key,
                }
                answers.append(client.post(address, values).status_code)
            finally:
                connection.close()

        threads = [threading.Thread(target=send, args=(client,)) for client in clients]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join(30)
        self.assertEqual(answers, [302, 302])
        self.assertEqual(Run.objects.filter(state="dnf").count(), 1)

    def test_two_that_did_not_finish_count_up(self):
        built = build()
        subject = Subject(specimen=built.specimens["Amsel"])
        made = [
            record_dnf(built.operator, built.tests["air"], subject, "burst", START)
            for _ in range(2)
        ]
        self.assertEqual([run.replicate for run in made], [1, 2])
