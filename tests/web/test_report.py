"""The bench report of an entry: everything that was found, left out and seen, for those who may see
it.
"""

from __future__ import annotations

import io

from django.db import connection
from django.test import TestCase
from django.test.utils import CaptureQueriesContext
from PIL import Image

from hauch.bench import exclusions
from hauch.bench.models import Result, Run
from hauch.bench.observations import observe
from hauch.bench.runs import Subject, record_dnf
from hauch.entries.models import Entry
from hauch.rounds.models import Setting
from hauch.stores.pictures import keep_picture
from tests.builder import PASSWORD, START, build


class ReportTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()

    def path(self, name="Amsel"):
        return f"/rounds/{self.built.round.slug}/entries/{self.built.entries[name].pk}/report/"

    def read(self, name="Amsel", who="host", status=200):
        self.client.login(username=who, password=PASSWORD)
        answer = self.client.get(self.path(name))
        self.assertEqual(answer.status_code, status)
        return answer.content.decode()

    def test_figures_runs_and_working_stand_in_it(self):
        html = self.read()
        for words in (
            "Bench report of",
            "Amsel",
            "Air test",
            "Power test",
            "than the reference",
            "Volume flow",
            "How the figure came about",
            "JCGM 100:2008",
        ):
            self.assertIn(words, html)
        for run in Run.objects.filter(specimen=self.built.specimens["Amsel"]):
            self.assertIn(f'href="{run.get_absolute_url()}"', html)

    def test_what_was_found_left_out_and_seen_stands_in_it(self):
        air = self.built.tests["air"]
        run = Run.objects.filter(specimen=self.built.specimens["Amsel"], test=air).first()
        out = io.BytesIO()
        Image.new("RGB", (60, 40), "teal").save(out, "PNG")
        picture = keep_picture(self.built.operator, out.getvalue())
        observe(
            self.built.operator,
            self.built.round,
            run=run,
            text="<b>tufts</b> point back",
            tags=["tufts"],
            picture=picture,
        )
        exclusions.exclude(
            self.built.operator, run, "read too early", reading_pk=run.readings.first().pk
        )
        record_dnf(
            self.built.operator,
            air,
            Subject(specimen=self.built.specimens["Amsel"]),
            "two blades rub",
            START,
        )
        html = self.read()
        for words in (
            "&lt;b&gt;tufts&lt;/b&gt; point back",
            "tufts</small>",
            "read too early",
            "Did not finish: two blades rub",
            "did not finish</span>",
        ):
            self.assertIn(words, html)
        self.assertIn(f'src="/stores/pictures/{run.observations.get().picture.sha256}', html)
        exclusions.restore(self.built.operator, run.exclusions.get())
        self.assertNotIn("read too early", self.read())

    def test_a_run_without_a_figure_says_why_and_other_settings_are_named(self):
        air = self.built.tests["air"]
        run = Run.objects.filter(specimen=self.built.specimens["Amsel"], test=air).last()
        Result.objects.filter(run=run).update(
            value=None, missing="Not settled: about 4 min to go.", troubles=[]
        )
        html = self.read()
        self.assertIn("No result. Not settled: about 4 min to go.", html)
        other = Setting.objects.create(round=self.built.round, label="Hanging")
        hung = Run.objects.filter(
            specimen=self.built.specimens["Amsel"], test=air, result__value__isnull=False
        ).last()
        Run.objects.filter(pk=hung.pk).update(setting=other)
        html = self.read()
        self.assertIn("Hanging</td>", html)
        self.assertNotIn(
            f"How run {hung.pk} came about", html
        )  # the one at the setting that is scored is told

    def test_long_workings_are_not_folded_on_paper(self):
        run = (
            Run.objects.filter(specimen=self.built.specimens["Amsel"], test=self.built.tests["air"])
            .order_by("started_at")
            .last()
        )
        steps = [{**run.result.working[0], "name": f"Step number {n}"} for n in range(40)]
        Result.objects.filter(run=run).update(working=steps)
        html = self.read()
        self.assertNotIn("<summary>", html[html.index('class="report"') :])
        self.assertTrue(all(f"Step number {n}<" in html for n in range(40)))

    def test_a_designer_sees_the_own_entry_only_and_no_place_before_publication(self):
        own = self.read("Amsel", "designer")
        self.assertNotIn("Rank ", own)
        self.assertNotIn(
            "The reference at those moments", own
        )  # as the working of a cell, not before publication
        self.assertIn("Air test", own)
        self.assertIn("Volume flow", own)
        self.read("Kiebitz", "designer", 404)
        self.read("Amsel", "stranger", 404)
        self.client.logout()
        self.assertEqual(self.client.get(self.path()).status_code, 302)

    def test_an_entry_that_was_not_run_says_so(self):
        Entry.objects.create(round=self.built.round, name="Dohle", mark=9, designer_name="Ilvy")
        self.built.entries["Dohle"] = Entry.objects.get(name="Dohle")
        self.assertIn("No run yet. The report fills as the bench goes on.", self.read("Dohle"))
        self.assertNotIn(
            "Report to print",
            self.client.get(self.built.entries["Dohle"].get_absolute_url()).content.decode(),
        )
        self.assertIn(
            "Report to print",
            self.client.get(self.built.entries["Amsel"].get_absolute_url()).content.decode(),
        )

    def test_more_runs_cost_no_more_queries(self):
        self.client.login(username="host", password=PASSWORD)

        def queries() -> int:
            with CaptureQueriesContext(connection) as made:
                self.client.get(self.path())
            return len(made)

        queries()
        before = queries()
        for minute in range(300, 330, 5):
            run = self.built.air(self.built.specimens["Amsel"], minute, (4.4, 4.5))
            observe(self.built.operator, self.built.round, run=run, text="whistles")
        self.assertEqual(queries(), before)
        self.assertLess(before, 40)
