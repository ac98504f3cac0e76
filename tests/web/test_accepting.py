"""Accept or reject: versions against the reference and the one before, limits, decisions, brackets."""

from datetime import timedelta

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from hauch.entries.models import Version
from hauch.people.models import AuditEntry
from hauch.rounds.queries import round_tests
from hauch.verdict.accepting import (
    Measured,
    bracketed,
    decide,
    judgements,
    of_design,
    set_criteria,
    sizes_of,
)
from hauch.verdict.judging import refresh
from hauch.verdict.models import Criterion, Decision
from hauch.workshop.models import Measure, Specimen
from tests.builder import build


class AcceptingTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.round, cls.entry = cls.built.round, cls.built.entries["Amsel"]
        cls.tests = round_tests(cls.round)
        first = cls.built.specimens["Amsel"]
        second = Specimen.objects.create(
            version=Version.objects.create(entry=cls.entry, number=2, changed="A wider slot"),
            code="R-9",
            state="ready",
        )
        cls.parts = [first, second]
        # Version 1: air as the reference; version 2: 8 % less air, 10 % less power.
        for n in range(3):
            w = (0.0, 0.008, -0.008)[n]
            cls.built.air(cls.built.reference, 60 * n, (4.0 + w, 4.0 + w))
            cls.built.power(cls.built.reference, 60 * n + 2, 0.400 + w / 20)
            for k, (air, amps) in enumerate(((4.02, 0.400), (3.68, 0.360))):
                cls.built.air(cls.parts[k], 60 * n + 10 + 20 * k, (air - w, air - w))
                cls.built.power(cls.parts[k], 60 * n + 12 + 20 * k, amps + w / 25)
        refresh(cls.round.rules.get())
        cls.at = reverse("verdict:accept", args=[cls.round.slug, cls.entry.pk])
        cls.set_at = reverse("verdict:criteria", args=[cls.round.slug, cls.entry.pk])

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def limits(self, **typed):
        set_criteria(self.built.host, self.round, typed, self.tests)

    def test_rejected_in_a_sentence_with_the_numbers(self):
        self.limits(reference_air="3", before_power="0")
        second, first = judgements(self.entry, self.tests)
        self.assertEqual(second.word, "rejected")
        self.assertRegex(
            second.sentence,
            r"^Rejected: Air test fell by (7\.9|8\.0)\d* ± 0\.\d+ % against the reference where a loss",
        )
        self.assertEqual((second.before, first.before), (first.version, None))
        # A first version has none before it: it is held against the reference alone.
        self.assertEqual((first.word, len(first.findings)), ("accepted", 1))
        power = next(c for c in second.against_before if c.test.key == "power")
        self.assertAlmostEqual(power.value, -10.9, delta=0.3)  # 0.4 W of it is standby
        self.assertTrue(power.clear and power.good)

    def test_accepted_and_open(self):
        self.limits(reference_air="15", before_power="0")
        self.assertEqual(judgements(self.entry, self.tests)[0].word, "accepted")
        self.limits(reference_air="8")
        one = judgements(self.entry, self.tests)[0]
        self.assertEqual(one.word, "open")
        self.assertIn("cannot be told", one.sentence)

    def test_what_both_versions_share_cancels(self):
        """Against the version before the doubt is smaller than the two against the reference."""
        measured = Measured.of([self.entry], self.tests)
        air = next(t for t in self.tests if t.key == "air")
        old, new = (part.version_id for part in self.parts)
        _, u, _ = measured.difference(air, new, old)
        alone = [measured.difference(air, v)[1] for v in (old, new)]
        self.assertLess(u, (alone[0] ** 2 + alone[1] ** 2) ** 0.5)

    def test_the_last_accepted_version_is_the_one_before(self):
        third = Specimen.objects.create(
            version=Version.objects.create(entry=self.entry, number=3), code="R-10", state="ready"
        )
        for n in range(2):
            self.built.air(third, 300 + n, (4.1, 4.1 + 0.01 * n))
        self.assertEqual(judgements(self.entry, self.tests)[0].before.number, 2)
        decide(self.built.host, self.entry, 1, "accepted", "the stock of now on", "")
        decide(self.built.host, self.entry, 2, "rejected", "too little air", "")
        self.assertEqual(judgements(self.entry, self.tests)[0].before.number, 1)

    def test_the_page_from_limits_to_a_decision(self):
        self.sign_in()
        entry = self.client.get(reverse("entry", args=[self.round.slug, self.entry.pk]))
        self.assertContains(entry, self.at)
        self.assertContains(self.client.get(self.at), "No limit is set yet")
        answer = self.client.post(self.set_at, {"reference_air": "3", "before_power": "0,5"})
        self.assertRedirects(answer, self.at)
        page = self.client.get(self.at)
        self.assertContains(page, "Rejected: Air test fell by")
        self.assertContains(page, "Of one print: it speaks of this print")
        made = self.client.post(
            reverse("verdict:decide", args=[self.round.slug, self.entry.pk, 2]),
            {"word": "rejected", "reason": "The dryer needs its air."},
        )
        self.assertRedirects(made, self.at)
        decision = Decision.objects.get()
        self.assertIn("Rejected: Air test fell by", decision.said)
        self.assertContains(self.client.get(self.at), "The dryer needs its air.")
        for action in ("criteria.set", "version.decide"):
            self.assertEqual(AuditEntry.objects.filter(action=action).count(), 1)
        self.client.post(self.set_at, {"reference_air": "", "before_power": "0.5"})
        self.assertEqual(Criterion.objects.get().against, "before")

    def test_a_limit_that_was_set_too_late_says_so(self):
        self.limits(reference_air="3")
        Version.objects.filter(entry=self.entry).update(sealed_at=timezone.now() - timedelta(1))
        self.sign_in()
        self.assertContains(self.client.get(self.at), "after this version’s first run")
        Criterion.objects.update(set_at=timezone.now() - timedelta(2))
        self.assertNotContains(self.client.get(self.at), "after this version’s first run")

    def test_who_may_do_what(self):
        for who, page, decides in (
            ("host", 200, 302),
            ("operator", 200, 403),
            ("designer", 200, 302),
            ("viewer", 404, 404),
            ("stranger", 404, 404),
        ):
            self.sign_in(who)
            self.assertEqual(self.client.get(self.at).status_code, page, who)
            answer = self.client.post(
                reverse("verdict:decide", args=[self.round.slug, self.entry.pk, 1]),
                {"word": "accepted", "reason": "x"},
            )
            self.assertEqual(answer.status_code, decides, who)
            code = self.client.post(self.set_at, {"reference_air": "1"}).status_code
            self.assertEqual(code == 302, who == "host", who)
        with self.assertRaises(PermissionDenied):
            decide(self.built.operator, self.entry, 1, "accepted", "x", "")

    def test_bad_words(self):
        self.sign_in()
        at = reverse("verdict:decide", args=[self.round.slug, self.entry.pk, 2])
        for data, words in (
            ({"word": "accepted", "reason": " "}, "Say why in a few words"),
            ({"word": "perhaps", "reason": "x"}, "Accept it or reject it"),
        ):
            self.assertContains(self.client.post(at, data), words, status_code=422)
        again = self.client.post(at, {"word": "perhaps", "reason": "too loud for us"})
        self.assertContains(again, 'value="too loud for us"', status_code=422)
        far = reverse("verdict:decide", args=[self.round.slug, self.entry.pk, 9])
        answer = self.client.post(far, {"word": "accepted", "reason": "x"})
        self.assertContains(answer, "There is no such version", status_code=422)
        for text in ("much", "nan", "1e9"):
            answer = self.client.post(self.set_at, {"reference_air": text, "before_air": "1"})
            self.assertEqual(answer.status_code, 422)
            self.assertContains(answer, f'value="{text}"', status_code=422)
        self.assertFalse(Criterion.objects.exists())
        with self.assertRaises(ValidationError):
            self.limits(reference_air="x")

    def test_no_runs_one_run_and_no_figure(self):
        self.limits(reference_air="3")
        other = self.built.entries["Binse"]
        self.assertEqual(judgements(other, self.tests), [])
        self.sign_in()
        page = self.client.get(reverse("verdict:accept", args=[self.round.slug, other.pk]))
        self.assertContains(page, "No version of it was run beside the reference yet")
        self.limits(reference_air="", reference_power="3")
        self.built.air(self.built.specimens["Binse"], 400, (4.0, 4.1))
        (one,) = judgements(other, self.tests)
        self.assertEqual(one.word, "open")
        self.assertIn("Power test against the reference has no figure yet", one.sentence)

    def test_what_one_print_says_of_the_design(self):
        """Prints of version 1 differ by a few percent: the change of the design is less sure."""
        version = self.parts[0].version
        at = reverse("verdict:design", args=[self.round.slug, self.entry.pk, 1])
        self.sign_in()
        self.assertContains(self.client.get(at), "one print says nothing of another")
        for k in range(5):
            other = Specimen.objects.create(version=version, code=f"P-{k}", state="ready")
            for n in range(2):
                speed = 4.02 * (1 + (0.03, -0.03, 0.02, -0.02, 0.0)[k]) + 0.004 * n
                self.built.air(other, 200 + 10 * k + n, (speed, speed))
        second = self.parts[1].version
        (air,) = [
            d for d in of_design(self.entry, second, self.tests) if d.change.test.key == "air"
        ]
        self.assertAlmostEqual(air.print_sd, 2.3, delta=0.7)
        self.assertGreater(air.half, 2 * air.change.half)
        (mean,) = [
            d for d in of_design(self.entry, version, self.tests) if d.change.test.key == "air"
        ]
        self.assertAlmostEqual(mean.half, mean.change.half)  # six prints: it is in it already
        page = self.client.get(reverse("verdict:design", args=[self.round.slug, self.entry.pk, 2]))
        self.assertContains(page, "prints of one version differ by")
        rig = self.client.get(reverse("rig_scatter", args=[self.built.tests["air"].rig_id]))
        self.assertContains(rig, "from print to print of one version")
        self.assertContains(rig, "from run to run")
        of_round = self.client.get(reverse("round_scatter", args=[self.round.slug]))
        self.assertContains(of_round, "Air test")
        self.assertContains(of_round, "from print to print of one version")

    def test_a_size_is_bracketed(self):
        self.assertEqual(sizes_of(self.entry), {})
        for part, size in zip(self.parts, (0.0011, 0.0016), strict=True):
            Measure.objects.create(specimen=part, kind="slot", value=size + 0.001)
            Measure.objects.create(specimen=part, kind="slot", value=size)  # the later one counts
        sizes = sizes_of(self.entry)
        self.assertEqual([round(v, 4) for v in sizes["slot"].values()], [0.0011, 0.0016])
        air = next(t for t in self.tests if t.key == "air")
        found, rows = bracketed(self.entry, air, sizes["slot"])
        self.assertEqual([row["version"] for row in rows], [1, 2])
        self.assertIsNone(found.low)
        self.assertAlmostEqual(found.next, 0.0011 - 0.00025, places=6)
        self.sign_in()
        page = self.client.get(self.at, {"size": "slot", "test": "air"})
        self.assertContains(page, "The smallest is the best so far")
        self.assertContains(page, "Try")
        self.assertEqual(self.client.get(self.at, {"size": "x", "test": "y"}).status_code, 200)
