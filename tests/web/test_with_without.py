"""With and without: what a setting costs, of runs of one print in turn."""

import copy
from datetime import timedelta

from django.test import TestCase
from django.urls import reverse

from hauch.bench.runs import NewRun, Subject, Typed, record_run
from hauch.core.judge.difference import NOT_REPEATED
from hauch.rounds.actions import add_setting
from hauch.verdict.with_without import costs_of, subjects_of
from tests.builder import ROOM, START, build


class WithWithoutTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.air = cls.built.tests["air"]
        cls.amsel = cls.built.specimens["Amsel"]
        cls.guarded = add_setting(cls.built.host, cls.built.round, "guard = on")

    def run_at(self, minute, speed, setting=None, part=None, test=None):
        return record_run(
            self.built.operator,
            NewRun(
                test or self.air,
                part or Subject(self.amsel),
                ROOM,
                START + timedelta(minutes=minute),
                {"air_speed": [Typed(speed, str(speed), "m/s")] * 2},
                setting=setting,
            ),
        )

    def in_turn(self, lost=0.96, scatter=0.002):
        """Without, with, without, with, without; the bench drifts upwards."""
        for n, on in enumerate((0, 1, 0, 1, 0)):
            wobble = 1 + scatter * (-1) ** n * (n % 3)
            speed = 4.4 * (1 + 0.004 * n) * wobble * (lost if on else 1)
            self.run_at(8 * n, round(speed, 4), self.guarded if on else None)

    def page(self, who="host", **query):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )
        return self.client.get(reverse("verdict:with_without", args=[self.built.round.slug]), query)

    def test_nothing_at_two_settings_yet(self):
        self.assertContains(self.page(), "Nothing was run at two settings yet")
        self.run_at(0, 4.4)
        self.assertContains(self.page(), "name it like “guard = off”")

    def test_what_the_guard_costs(self):
        self.in_turn()
        (held,) = costs_of(Subject(self.amsel), [self.air])
        (line,) = held.lines
        self.assertAlmostEqual(line.change, -4.0, delta=0.5)
        self.assertLess(abs(line.change + 4.0), line.half)
        self.assertEqual((line.word, held.drift_free), ("worse", True))
        page = self.page()
        self.assertContains(page, "It changes air test −")
        self.assertContains(page, "guard on")
        self.assertNotContains(page, "was not run before and after")

    def test_one_after_the_other_says_so(self):
        self.built.measure_all()  # how a run scatters is known of these
        self.run_at(200, 4.4)
        self.run_at(208, 4.2, self.guarded)
        page = self.page(of=f"s{self.amsel.pk}")
        self.assertContains(page, "was not run before and after the other")

    def test_too_small_to_be_told(self):
        self.in_turn(lost=0.9995, scatter=0.01)
        self.assertContains(self.page(), "Nothing that it changes can be told from nothing")

    def test_two_tests_that_read_the_same_are_one_series(self):
        other = copy.copy(self.air)
        other.pk, other.key, other.label, other.setting = None, "guarded", "Guarded", self.guarded
        other._state.adding = True
        other.save()
        for n, test in enumerate((self.air, other, self.air, other, self.air)):
            self.run_at(8 * n, 4.4 if test is self.air else 4.2, test=test)
        (held,) = costs_of(Subject(self.amsel), [self.air, other])
        self.assertAlmostEqual(held.lines[0].change, 100 * (4.2 / 4.4 - 1), places=4)

    def test_days_apart_nothing_is_told(self):
        self.run_at(0, 4.4)
        self.run_at(60 * 30, 4.2, self.guarded)
        self.assertEqual(costs_of(Subject(self.amsel), [self.air]), [])
        self.assertContains(self.page(), "more than four hours apart")

    def test_the_reference_and_who_may_see_it(self):
        reference = Subject(reference=self.built.reference)
        for n, on in enumerate((0, 1, 0)):
            self.run_at(8 * n, 4.0, self.guarded if on else None, reference)
        offered = subjects_of(self.built.round, [self.air])
        self.assertEqual([label for label, _ in offered.values()], ["Loft-140 L-02"])
        self.assertContains(self.page(of="nobody"), "Loft-140 L-02")
        self.assertEqual(self.page("designer").status_code, 404)
        self.assertEqual(self.page("stranger").status_code, 404)

    def test_once_each_tells_nothing_and_one_repeat_little(self):
        self.run_at(0, 4.4)
        self.run_at(8, 4.3, self.guarded)
        ((once,),) = [held.lines for held in costs_of(Subject(self.amsel), [self.air])]
        self.assertEqual((once.half, once.word), (None, NOT_REPEATED))
        self.assertContains(self.page(), NOT_REPEATED)
        self.run_at(16, 4.38)
        ((again,),) = [held.lines for held in costs_of(Subject(self.amsel), [self.air])]
        # the repeat without it is all that is known of the scatter: one degree of freedom
        self.assertAlmostEqual(again.found.dof, 1.0, delta=0.2)
        self.assertEqual(again.word, "too close to call")

    def test_the_page_of_a_run_leads_to_it(self):
        self.in_turn()
        run = self.run_at(50, 4.4)
        self.client.force_login(
            self.built.people["host"], backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertContains(self.client.get(run.get_absolute_url()), "with-without/?of=s")
