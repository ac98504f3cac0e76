"""What was published stays as it was, on a page that anybody may read; later runs make a
provisional standing beside it.
"""

from unittest import mock

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import Client, TestCase
from django.urls import reverse

from hauch.rounds.models import Round, RuleTerm, RuleVersion
from hauch.verdict.actions import publish
from hauch.verdict.jobs import sweep
from hauch.verdict.judging import judge_round, refresh
from hauch.verdict.models import Publication, Standing
from tests.builder import START, build


class PublishingTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.address = reverse("published", args=[cls.built.round.slug])

    def public(self):
        """The page as a stranger sees it, without the token of the visit."""
        return Client().get(self.address).content.partition(b"<main")[2]

    def test_nobody_reads_it_before_it_is_published(self):
        self.assertEqual(Client().get(self.address).status_code, 404)

    def test_anybody_reads_it_without_signing_in(self):
        publish(self.built.host, self.built.round)
        page = Client().get(self.address)
        self.assertContains(page, "Amsel leads with")
        self.assertContains(page, "Which rotor dries most for its power?")
        self.assertContains(page, "Ilvy")
        self.assertContains(
            page, '<small class="amber">too close to call</small>', count=2
        )  # Binse and Kiebitz share their rank
        self.assertContains(page, "≈ ref")
        self.assertNotContains(page, "Sign out")
        self.assertEqual(
            Client().get(reverse("verdict:standing", args=[self.built.round.slug])).status_code, 302
        )

    def test_later_runs_change_the_standing_and_not_what_was_published(self):
        publish(self.built.host, self.built.round)
        before = self.public()
        for repeat in range(3):  # made before it was published, and written down only now
            self.built.air(self.built.specimens["Binse"], 300 + repeat, (9.0, 9.0))
        judge_round(self.built.round.pk)
        self.assertEqual(Standing.objects.get().rows.first().entry.name, "Binse")
        self.assertEqual(self.public(), before)
        self.client.force_login(self.built.people["viewer"])
        page = self.client.get(reverse("verdict:standing", args=[self.built.round.slug]))
        self.assertContains(page, "What stands here is provisional")
        self.assertContains(page, "it has 3 runs that were recorded since")
        self.assertContains(page, self.address)

    def test_under_every_scheme(self):
        rules = self.built.round.rules.get()
        for scheme in RuleVersion.Scheme.values:
            rules.scheme = scheme
            rules.save()
            rules.terms.all().delete()
            RuleTerm.objects.create(rules=rules, test=self.built.tests["air"], weight=1)
            if scheme == RuleVersion.Scheme.CONSTRAINT:
                RuleTerm.objects.create(rules=rules, test=self.built.tests["power"], most_loss=-30)
            elif scheme != RuleVersion.Scheme.SINGLE:
                RuleTerm.objects.create(rules=rules, test=self.built.tests["power"], weight=1)
            Round.objects.update(state="bench", published_at=None)
            with self.subTest(scheme):
                publish(self.built.host, self.built.round)
                self.assertContains(Client().get(self.address), "Amsel")

    def test_it_holds_all_changes_up_to_its_moment(self):
        for repeat in range(3):
            self.built.air(self.built.specimens["Binse"], 300 + repeat, (9.0, 9.0))
        self.assertTrue(Standing.objects.get().stale)
        publish(self.built.host, self.built.round)
        self.assertEqual(
            Publication.objects.get().content["opening"]["leader"]["entry"]["name"], "Binse"
        )

    def test_what_cannot_be_published(self):
        with self.assertRaises(PermissionDenied):
            publish(self.built.operator, self.built.round)
        wrong = mock.patch("hauch.verdict.judging.judge", side_effect=ArithmeticError)
        with (
            wrong,
            self.assertLogs("hauch.verdict.actions", "ERROR"),
            self.assertRaisesRegex(ValidationError, "cannot be computed"),
        ):
            publish(self.built.host, self.built.round)
        self.assertEqual((Publication.objects.count(), Round.objects.get().state), (0, "bench"))
        empty = Round.objects.create(
            slug="empty", number=9, title="Empty", question="?", part="rotor", state="brief"
        )
        empty.memberships.create(user=self.built.host, role="host")
        with self.assertRaisesRegex(ValidationError, "no rules yet"):
            publish(self.built.host, empty)
        for state, words in (("brief", "still being written"), ("open", "can still come in")):
            Round.objects.filter(pk=self.built.round.pk).update(state=state)
            with self.subTest(state), self.assertRaisesRegex(ValidationError, words):
                publish(self.built.host, self.built.round)

    def test_it_is_published_once(self):
        publish(self.built.host, self.built.round)
        with self.assertRaisesRegex(ValidationError, "published already"):
            publish(self.built.host, self.built.round)
        self.assertEqual(Publication.objects.count(), 1)

    def test_rounds_that_were_published_before_publications_were_kept(self):
        refresh(self.built.round.rules.get())
        Round.objects.update(state="published", published_at=START)
        self.assertEqual(Client().get(self.address).status_code, 404)
        sweep(0)
        sweep(0)
        self.assertEqual(Publication.objects.get().at, START)
        self.assertContains(Client().get(self.address), "4 May 2026")
