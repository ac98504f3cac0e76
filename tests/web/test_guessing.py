"""Guesses: opened, made by a link, sealed by the first run, held against the result."""

from datetime import timedelta

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import Client, TestCase
from django.urls import reverse

from hauch.bench.models import Run
from hauch.entries.models import Prediction
from hauch.verdict.guessing import CROWD, DESIGNERS, guess, open_guessing, outcome, sealed
from hauch.verdict.models import Guess, Guessing
from tests.builder import build

NAMES = ("Amsel", "Binse", "Kiebitz")


class GuessingTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.round = cls.built.round
        cls.at = reverse("verdict:guesses", args=[cls.round.slug])
        cls.keys = {name: entry.pk for name, entry in cls.built.entries.items()}

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def opened(self, test=None):
        return open_guessing(self.built.host, self.round, test)

    def given(self, *order):
        return {self.keys[name]: float(place) for place, name in enumerate(order, start=1)}

    def test_from_the_host_to_a_visitor_to_the_result(self):
        self.sign_in()
        self.assertContains(self.client.get(self.at), "Nobody sees the guesses")
        self.client.post(reverse("verdict:open_guesses", args=[self.round.slug]), {"test": ""})
        found = Guessing.objects.get()
        link = reverse("guess", args=[found.secret])
        self.assertContains(self.client.get(self.at), link)
        visitor = Client()
        page = visitor.get(link)
        self.assertContains(page, "place 1 wins")
        typed = {f"g-{self.keys[name]}": str(n) for n, name in enumerate(self.keys, start=1)}
        self.assertContains(visitor.post(link, typed), "Say who guesses", status_code=422)
        self.assertRedirects(visitor.post(link, {**typed, "name": "Ida"}), link)
        self.assertContains(visitor.get(link), "Your guess is kept, Ida")
        visitor.post(link, {**typed, f"g-{self.keys['Kiebitz']}": "1"})
        self.assertEqual(Guess.objects.get().given[str(self.keys["Kiebitz"])], 1.0)
        other = Client()
        taken = other.post(link, {**typed, "name": "Ida"})
        self.assertContains(taken, "Somebody guesses as “Ida” already", status_code=422)
        self.assertContains(taken, 'value="Ida"', status_code=422)
        self.built.measure_and_judge()
        self.assertTrue(sealed(self.round))
        self.assertContains(visitor.get(link), "all guesses are sealed. Yours is kept.")
        late = visitor.post(link, typed)
        self.assertContains(late, "all guesses are sealed", status_code=422)
        page = self.client.get(self.at)
        self.assertContains(page, "How good they were")
        self.assertContains(page, "Ida")
        self.sign_in("viewer")
        page = self.client.get(self.at)
        self.assertNotContains(page, "Ida")
        self.assertContains(page, "to all once the standing is published")

    def test_scores_of_orders_with_designers_beside(self):
        found = self.opened()
        guess(found, "right", self.given("Amsel", "Binse", "Kiebitz"))
        guess(found, "wrong", self.given("Kiebitz", "Binse", "Amsel"))
        for name, value in (("Amsel", 0.05), ("Binse", 0.04), ("Kiebitz", 0.03)):
            Prediction.objects.create(
                version=self.built.specimens[name].version,
                procedure="airflow",
                source="designer",
                value=value,
            )
        self.built.measure_and_judge()
        places = {row.entry.name: row.place for row in self.round.rules.get().standing.rows.all()}
        told = outcome(found)
        by_name = {one.name: one.tau for one in (*told.scored, *told.sources)}
        first = 1.0 if places["Binse"] < places["Kiebitz"] else 1 / 3
        self.assertAlmostEqual(by_name["right"], first)
        self.assertAlmostEqual(by_name["wrong"], -first)
        self.assertIsNone(by_name[CROWD])  # they cancel: all in the same place
        self.assertAlmostEqual(by_name[DESIGNERS], first)
        self.assertEqual(told.rows[0]["crowd"], 2.0)
        # places by what designers foretold, the most air first; the middle half of 1 and 3 is 1.5 to 2.5
        self.assertEqual(
            told.said[DESIGNERS],
            {self.keys[n]: p for n, p in zip(NAMES, (1.0, 2.0, 3.0), strict=True)},
        )
        self.assertEqual(told.middle[self.keys["Amsel"]], (1.5, 2.5))
        self.sign_in()
        chart = self.client.get(self.at).context["chart"]
        self.assertEqual(chart["who"], ["measured", CROWD, DESIGNERS])
        self.assertEqual(len(chart["points"]), 9)

    def test_values(self):
        found = self.opened(self.built.tests["air"])
        page = Client().get(reverse("guess", args=[found.secret]))
        self.assertContains(page, "Air test")
        link, visitor = reverse("guess", args=[found.secret]), Client()
        typed = {f"g-{pk}": "160 m3/h" for pk in self.keys.values()}
        bad = visitor.post(link, {**typed, f"g-{self.keys['Amsel']}": "a lot", "name": "Ida"})
        self.assertContains(bad, "Amsel: ", status_code=422)
        self.assertRedirects(visitor.post(link, {**typed, "name": "Ida"}), link)
        self.assertAlmostEqual(
            Guess.objects.get().given[str(self.keys["Amsel"])], 160 / 3600, places=6
        )
        self.built.measure_and_judge()
        (one,) = outcome(found).scored
        truth = self.round.rules.get().standing.rows.all()
        off = [abs(160 / 3600 / row.tests["air"]["value"] - 1) * 100 for row in truth]
        self.assertAlmostEqual(one.error, sum(off) / 3, places=3)
        self.assertIsNone(one.tau)  # all alike
        self.sign_in()
        page = self.client.get(self.at)
        self.assertContains(page, "Off by")
        self.assertContains(page, "Air test, m³/h")

    def test_bad_words(self):
        found = self.opened()
        link = reverse("guess", args=[found.secret])
        for typed, said in (
            ({}, "Guess at least two entries"),
            ({f"g-{self.keys['Amsel']}": "0"}, "places go from 1 to 3"),
            ({f"g-{self.keys['Amsel']}": "first"}, "places go from 1 to 3"),
            ({f"g-{self.keys['Amsel']}": "²"}, "places go from 1 to 3"),
        ):
            answer = Client().post(link, {**typed, "name": "Ida"})
            self.assertContains(answer, said, status_code=422)
        self.assertEqual(Client().get("/guess/nothing/").status_code, 404)
        self.assertFalse(Guess.objects.exists())

    def test_who_may_open_them_and_when(self):
        with self.assertRaises(PermissionDenied):
            open_guessing(self.built.operator, self.round, None)
        self.opened()
        with self.assertRaisesMessage(ValidationError, "open already"):
            self.opened()
        Guessing.objects.all().delete()
        self.built.entries["Amsel"].__class__.objects.exclude(pk=self.keys["Amsel"]).update(
            state="withdrawn"
        )
        with self.assertRaisesMessage(ValidationError, "1 is in"):
            self.opened()
        self.built.air(self.built.specimens["Amsel"], 5, (4.0, 4.1))
        with self.assertRaisesMessage(ValidationError, "nothing to guess any more"):
            self.opened()
        self.sign_in("stranger")
        self.assertEqual(self.client.get(self.at).status_code, 404)

    def test_a_run_of_the_reference_seals_nothing(self):
        found = self.opened()
        self.built.air(self.built.reference, 5, (4.0, 4.1))
        guess(found, "Ida", self.given("Amsel", "Binse"))
        self.assertIsNone(outcome(found))
        self.assertEqual(Run.objects.count(), 1)
        self.assertLess(found.opened_at, Guess.objects.get().at + timedelta(seconds=1))
