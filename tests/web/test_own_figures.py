"""Figures of one's own, from the rules page to the standing, the report and another installation."""

import math

from django.db import IntegrityError, transaction
from django.test import TestCase
from django.urls import reverse

from hauch.bench.models import Run
from hauch.bench.queries import runs
from hauch.bench.results import recompute, runs_by_test
from hauch.core.measure.own import Own
from hauch.entries.models import Prediction
from hauch.entries.predictions import predict
from hauch.exchange.importing import import_round
from hauch.exchange.listings import results_csv
from hauch.formats.bundle import BundleRefused
from hauch.rounds import actions
from hauch.rounds.drafts import TestDraft, draft_of
from hauch.rounds.models import Round, Test
from hauch.rounds.queries import current_rules
from hauch.verdict.judging import judge_round
from tests.builder import START, build
from tests.bundles import as_another, exported

AIR_PER_WATT = Own("tunnel", "airflow / (voltage * current)", "m³/h/W", 1, True)
AREA = math.pi / 4 * 0.1252**2 * 0.846


class OwnFigureCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def add(self, own=AIR_PER_WATT, label="Air per watt", weight=1.0):
        """The figure as the only one that is scored, in the rules."""
        draft = draft_of(self.built.round)
        for test in draft.tests:
            test.weight = None
        draft.tests.append(
            TestDraft(
                None,
                own.key,
                label,
                self.built.tests["air"].rig,
                order=3,
                readings=2,
                weight=weight,
                own=own.as_json(),
            )
        )
        draft.reason = "Air for its power."
        actions.change_rules(
            self.built.host, self.built.round, draft, runs_by_test(self.built.round)
        )
        test = Test.objects.get(label=label)
        self.built.tests[label] = test
        return test

    def measure(self, label="Air per watt"):
        """Reference and entries once each, with speed [m/s] and current [A]."""
        figures = {
            None: (4.0, 0.40),
            "Amsel": (4.4, 0.5),
            "Binse": (4.1, 0.39),
            "Kiebitz": (4.0, 0.41),
        }
        minute = 0
        for repeat in range(2):
            for name, (speed, amps) in figures.items():
                self.built.record(
                    label,
                    self.built.specimens[name] if name else self.built.reference,
                    minute,
                    {
                        "air_speed": (speed, speed + 0.01 * repeat),
                        "voltage": (12.0, 12.0),
                        "current": (amps, amps),
                    },
                )
                minute += 5
        judge_round(self.built.round.pk)


class RulesPageTests(OwnFigureCase):
    def filled(self, answer):
        form = answer.context["form"]
        data = {name: form[name].value() or "" for name in form.fields}
        data["new_procedure"] = [row.draft.added_as for row in form.rows if not row.draft.test]
        for row in form.rows:
            for name, field in row.fields.items():
                value = field.prepare_value(row[name].value())
                if value not in (None, False):
                    data[row.add_prefix(name)] = value
        return data

    def test_added_put_right_and_accepted(self):
        self.sign_in()
        at = reverse("change_rules", args=[self.built.round.slug])
        data = self.filled(self.client.get(at))
        more = {"add": "own:tunnel", "add_label": "Air per watt", "add_test": "yes"}
        answer = self.client.post(at, data | more)
        self.assertContains(answer, "What a formula may name")
        self.assertContains(answer, "<code>profile_factor</code>")
        self.assertContains(answer, "read on a tunnel")
        data = self.filled(answer) | {"reason": "Air for its power."}
        answer = self.client.post(at, data)
        self.assertContains(answer, "“Air per watt”: Write a formula", status_code=422)
        data |= {"new2-formula": "airflow / power", "new2-unit": "W", "new2-weight": "1"}
        answer = self.client.post(at, data)
        self.assertContains(answer, "and “W” is something else", status_code=422)
        self.assertContains(answer, 'value="airflow / power"', status_code=422)
        data |= {"new2-unit": "m³/h/W"}
        answer = self.client.post(at, data)
        self.assertContains(
            answer, "Rack rig has no meter for air speed and electrical power", status_code=422
        )
        data |= {"new2-formula": "airflow / (voltage × current)"}
        answer = self.client.post(at, data)
        self.assertEqual(answer.context["problems"], [])
        answer = self.client.post(at, data | {"accept": "yes"})
        self.assertEqual(answer.status_code, 302)
        made = Test.objects.get(label="Air per watt")
        self.assertEqual(made.how.metric, "air per watt")
        self.assertIn(made, current_rules(self.built.round).tests.all())
        self.assertContains(self.client.get(at), "airflow / (voltage × current)")

    def test_nonsense_that_is_sent_adds_nothing(self):
        self.sign_in()
        at = reverse("change_rules", args=[self.built.round.slug])
        data = self.filled(self.client.get(at))
        for added in ("own:", "own:../etc", "owner", "own:own:tunnel"):
            answer = self.client.post(at, data | {"add": added, "add_test": "yes"})
            self.assertEqual(len(answer.context["form"].rows), 2, added)


class MeasuredTests(OwnFigureCase):
    def setUp(self):
        self.test = self.add()
        self.measure()

    def test_by_hand_and_who_wins(self):
        """36 m3/h and more of air over 4.8 W: 4.0 m/s through the tube, at 12 V and 0.40 A."""
        run = Run.objects.filter(test=self.test, reference__isnull=False).earliest("started_at")
        self.assertAlmostEqual(run.result.value, 4.0 * AREA * 3600 / 4.8, delta=1e-6)
        self.assertEqual(run.result.unit, "m³/h/W")
        rows = current_rules(self.built.round).standing.rows.order_by("-score")
        self.assertEqual(rows[0].entry.name, "Binse")

    def test_every_page_that_shows_it_has_its_unit(self):
        self.sign_in()
        run = Run.objects.filter(test=self.test, specimen__isnull=False).first()
        slug = self.built.round.slug
        for at in (
            run.get_absolute_url(),
            reverse("verdict:standing", args=[slug]),
            reverse("entry_report", args=[slug, run.specimen.version.entry_id]),
            reverse("rounds:brief", args=[slug]),
            reverse("rounds:sheet", args=[slug]),
            run.specimen.version.entry.get_absolute_url(),
            reverse("bench:overview", args=[slug]),
            reverse("care", args=[slug]),
            f"{reverse('bench:capture', args=[slug, self.test.pk])}?subject=s{run.specimen_id}",
        ):
            with self.subTest(at):
                answer = self.client.get(at)
                self.assertEqual(answer.status_code, 200)
                self.assertContains(answer, "Air per watt")
        self.assertContains(self.client.get(run.get_absolute_url()), "m³/h/W")
        self.assertContains(self.client.get(run.get_absolute_url()), AIR_PER_WATT.formula)

    def test_another_formula_is_reduced_anew_from_the_same_readings(self):
        draft = draft_of(self.built.round)
        mine = next(t for t in draft.tests if t.test == self.test)
        other = Own("tunnel", "airflow / voltage", "m³/h/V", 1, True)
        mine.own, mine.procedure, draft.reason = other.as_json(), other.key, "Volts will do."
        self.assertEqual(mine.kind, "converted")
        actions.change_rules(
            self.built.host, self.built.round, draft, runs_by_test(self.built.round)
        )
        successor = Test.objects.get(replaces=self.test)
        run = Run.objects.filter(test=successor, reference__isnull=False).earliest("started_at")
        self.assertAlmostEqual(run.result.value, 4.0 * AREA * 3600 / 12.0, delta=1e-6)
        self.assertEqual(Run.objects.filter(test=self.test).count(), 8)

    def test_it_travels(self):
        before = results_csv(self.built.round)
        version = self.built.specimens["Amsel"].version
        version.sealed_at = None
        version.save()
        predict(self.built.people["designer"], version, self.test.procedure, 30.0, 1.0)
        version.sealed_at = START
        version.save()
        data = exported(self.built.host, self.built.round)
        back = import_round(self.built.host, as_another(data))
        self.assertEqual(results_csv(back), before)
        its = back.tests.get(label="Air per watt")
        self.assertEqual((its.own, its.procedure), (AIR_PER_WATT.as_json(), AIR_PER_WATT.key))
        foretold = Prediction.objects.get(version__entry__round=back)
        self.assertEqual((foretold.procedure, foretold.value), (AIR_PER_WATT.key, 30.0))
        values = [
            [run.result.value for run in runs().filter(test=test).order_by("started_at")]
            for test in (self.test, its)
        ]
        self.assertEqual(*values)
        own = runs().filter(test=self.test)
        self.assertEqual(recompute(own, write=False).changed, [])

    def test_a_file_with_a_formula_that_cannot_be_is_refused(self):
        data = exported(self.built.host, self.built.round)
        for change, words in (
            ({"formula": "power.real"}, "Only names"),
            ({"unit": "K"}, "something else"),
            ({"formula": "airflow"}, "something else"),
            ({"direction": 0}, "direction"),
            ({"rig": "moon"}, "no kind of rig"),
        ):

            def put(content, change=change):
                next(t for t in content["tests"] if t["own"])["own"].update(change)

            with self.subTest(words), self.assertRaisesRegex(BundleRefused, words):
                import_round(self.built.host, as_another(data, put))
        self.assertEqual(Round.objects.count(), 1)

    def test_the_database_holds_key_and_formula_together(self):
        for values in ({"own": None}, {"procedure": "airflow"}):
            with self.assertRaises(IntegrityError), transaction.atomic():
                Test.objects.filter(pk=self.test.pk).update(**values)
