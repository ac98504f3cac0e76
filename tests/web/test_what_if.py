"""What if: other rules on the same figures, seen, kept, dropped and proposed."""

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse

from hauch.people.models import AuditEntry
from hauch.rounds.models import RuleVersion
from hauch.rounds.queries import round_tests
from hauch.verdict.judging import refresh
from hauch.verdict.models import StandingFigures, StandingRow
from hauch.verdict.what_if import Figures, Wondered, drop, keep, kept_as, told
from tests.builder import build


class WhatIfCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_all()
        cls.round = cls.built.round
        cls.rules = cls.round.rules.get()
        cls.standing = refresh(cls.rules)
        cls.address = reverse("verdict:what_if", args=[cls.round.slug])

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )


class FigureTests(WhatIfCase):
    def test_the_order_is_that_of_the_standing(self):
        """One formula: what-if by the rules as they are is the stored order, with its scores."""
        tests = round_tests(self.round, self.rules)
        now = Wondered.of(self.rules)
        figures = Figures.of(self.standing, tests)
        entries = self.round.entries.in_bulk(figures.entries)
        found = told(figures, now, now, entries)
        rows = self.standing.rows.filter(state=StandingRow.State.RANKED)
        self.assertGreater(rows.count(), 1)
        self.assertEqual(
            [row["before"]["entry"].pk for row in found["rows"]],
            [row.entry_id for row in rows],
        )
        for mine, row in zip(found["rows"], rows, strict=True):
            self.assertAlmostEqual(mine["after"]["score"], row.score, places=4)
        self.assertFalse(found["moved"])

    def test_a_standing_that_keeps_no_differences_yet(self):
        StandingFigures.objects.all().delete()
        tests = round_tests(self.round, self.rules)
        figures = Figures.of(self.standing, tests)
        self.assertEqual(len(figures.tests), len(tests))

    def test_an_address_and_back(self):
        tests = round_tests(self.round, self.rules)
        first, second = tests[0].key, tests[1].key
        one = Wondered.of(self.rules).changed(
            {"scheme": "rank_points", f"w_{first}": "2,5", f"w_{second}": "0", f"l_{second}": "-1"},
            tests,
        )
        self.assertEqual(one.weights[first], 2.5)
        self.assertNotIn(second, one.weights)
        self.assertEqual(one.limits, {second: -1.0})
        self.assertEqual(Wondered.of(self.rules).changed(one.asked(tests), tests), one)
        with self.assertRaises(ValidationError) as caught:
            one.changed({f"w_{first}": "-1", f"l_{second}": "much"}, tests)
        self.assertEqual(len(caught.exception.messages), 2)


class PageTests(WhatIfCase):
    def test_as_it_is_and_otherwise(self):
        self.sign_in("operator")
        standing = self.client.get(reverse("verdict:standing", args=[self.round.slug]))
        self.assertContains(standing, self.address)
        page = self.client.get(self.address)
        self.assertContains(page, "These are the rules as they are")
        self.assertContains(page, "The first place stays with")
        self.assertNotContains(page, "Propose it")  # an operator changes no rules
        tests = round_tests(self.round, self.rules)
        other = {f"w_{t.key}": "0" for t in tests} | {f"w_{tests[-1].key}": "1"}
        page = self.client.get(self.address, other, headers={"HX-Request": "true"})
        self.assertNotContains(page, "<html")
        self.assertContains(page, 'hx-swap-oob="true"')
        self.assertContains(page, "place")

    def test_who_may_see_it(self):
        for who, code in (
            ("host", 200),
            ("operator", 200),
            ("designer", 404),
            ("viewer", 404),
            ("stranger", 404),
        ):
            self.sign_in(who)
            self.assertEqual(self.client.get(self.address).status_code, code, who)
        for who in ("operator", "designer"):
            self.sign_in(who)
            answer = self.client.post(self.address + "keep/", {"name": "x"})
            self.assertIn(answer.status_code, (403, 404))
        with self.assertRaises(PermissionDenied):
            keep(self.built.operator, self.round, "x", Wondered.of(self.rules))

    def test_bad_words(self):
        self.sign_in()
        tests = round_tests(self.round, self.rules)
        key = tests[0].key
        for asked, said in (
            ({f"w_{t.key}": "0" for t in tests}, "The rules score no test"),
            ({f"w_{key}": "heavy"}, "The weight of"),
            ({f"w_{key}": "-2"}, "must be between 0 and 1,000,000"),
            ({f"w_{key}": "nan"}, "The weight of"),
            ({"scheme": "constraint"}, "one objective"),
        ):
            with self.subTest(asked):
                self.assertContains(self.client.get(self.address, asked), said)
        self.assertContains(self.client.get(self.address, {"scheme": "luck"}), "as they are")
        far = {f"l_{key}": "-1000"}
        self.assertContains(self.client.get(self.address, far), "outside")

    def test_kept_dropped_and_proposed(self):
        self.sign_in()
        tests = round_tests(self.round, self.rules)
        asked = {f"w_{tests[0].key}": "3"}
        page = self.client.get(self.address, asked)
        self.assertContains(page, "Propose it")
        kept = self.client.post(self.address + "keep/", {**asked, "name": " Air   first "})
        self.assertEqual(kept.status_code, 302)
        scenario = self.round.scenarios.get()
        self.assertEqual(scenario.name, "Air first")
        self.assertEqual(kept_as(scenario).weights[tests[0].key], 3.0)
        self.client.post(self.address + "keep/", {f"w_{tests[0].key}": "4", "name": "Air first"})
        self.assertEqual(kept_as(self.round.scenarios.get()).weights[tests[0].key], 4.0)
        self.assertContains(self.client.get(self.address), "Air first")
        nameless = self.client.post(self.address + "keep/", {**asked, "name": ""}, follow=True)
        self.assertContains(nameless, "Give the scenario a name")
        rules = self.client.get(
            reverse("change_rules", args=[self.round.slug]), asked | {"scheme": self.rules.scheme}
        )
        self.assertContains(rules, "as you wondered")
        row = next(r for r in rules.context["form"].rows if r.draft.test == tests[0])
        self.assertEqual(row.draft.weight, 3.0)
        self.assertEqual(RuleVersion.objects.filter(round=self.round).count(), 1)
        self.client.post(reverse("verdict:drop_scenario", args=[self.round.slug, scenario.pk]))
        self.assertFalse(self.round.scenarios.exists())
        self.assertEqual(AuditEntry.objects.filter(action__startswith="scenario.").count(), 3)
        with self.assertRaises(PermissionDenied):
            drop(self.built.operator, keep(self.built.host, self.round, "y", kept_as(scenario)))


class NothingYetTests(TestCase):
    def test_before_the_first_run(self):
        built = build()
        self.client.force_login(built.host, backend="django.contrib.auth.backends.ModelBackend")
        address = reverse("verdict:what_if", args=[built.round.slug])
        self.assertContains(self.client.get(address), "no standing yet to wonder about")
        refresh(built.round.rules.get())
        page = self.client.get(address)
        self.assertContains(page, "no figure can be compared with the reference yet")

    def test_one_entry(self):
        built = build()
        for n in range(2):
            built.air(built.reference, n, (4.0, 4.1))
            built.air(built.specimens["Amsel"], 10 + n, (4.2, 4.3))
        rules = built.round.rules.get()
        rules.terms.exclude(test=built.tests["air"]).delete()
        refresh(rules)
        self.client.force_login(built.host, backend="django.contrib.auth.backends.ModelBackend")
        page = self.client.get(reverse("verdict:what_if", args=[built.round.slug]))
        self.assertEqual(page.status_code, 200)
