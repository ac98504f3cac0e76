"""The care of the reference: health, bridge, change, retirement, a break in mid-round."""

from datetime import timedelta

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse

from hauch.bench.forms import subject_choices, subject_of
from hauch.bench.plan import plan_of
from hauch.bench.runs import Subject
from hauch.pages.reference_health import alarms, care_of, series_of
from hauch.people.models import AuditEntry
from hauch.rounds import references
from hauch.rounds.models import TestReference
from hauch.stores.models import ReferenceSpecimen
from hauch.verdict.judging import judge_round
from tests.builder import START, build


class ReferenceCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.old = cls.built.reference
        cls.new = ReferenceSpecimen.objects.create(type=cls.old.type, serial="L-03")

    @property
    def tests(self):
        return list(self.built.tests.values())

    def care(self, key="air"):
        return next(c for c in care_of(self.built.round) if c.test.key == key)

    def bring_in(self):
        references.bring_in(self.built.operator, self.built.round, self.new, self.tests, START)
        self.new.refresh_from_db()

    def post(self, data, who="operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )
        return self.client.post(
            reverse("change_reference", args=[self.built.round.slug]), data, follow=True
        )


class HealthTests(ReferenceCase):
    def test_repeat_until_it_repeats(self):
        self.assertIn("has no run with a result yet", self.care().sentence)
        self.built.air(self.old, 0, (4.0, 4.0))
        self.assertIn("about 2 more runs", self.care().sentence)
        for minutes, speed in ((5, 4.01), (10, 4.0), (15, 4.005)):
            self.built.air(self.old, minutes, (speed, speed))
        self.assertRegex(
            self.care().sentence, "L-02 repeats: its mean is known to ± 0.1. %, 1 % are asked"
        )
        self.built.tests["air"].baseline = 0.01
        self.built.tests["air"].save()
        self.assertIn("does not repeat well enough yet", self.care().sentence)

    def test_no_reference_is_said(self):
        TestReference.objects.all().delete()
        self.assertIn("No reference is in use", self.care().sentence)

    def test_a_drift_raises_an_alarm_and_shows_at_home(self):
        for number in range(24):
            speed = 4.0 + (0.01, -0.01, 0.004)[number % 3] - 0.02 * max(number - 11, 0)
            self.built.air(self.old, 60 * number, (speed, speed))
        (found,) = series_of([self.built.round])
        self.assertTrue(found.chart.alarm)
        self.assertRegex(found.sentence, "Drifted by −.* % since 0. May 2026")
        self.assertEqual(len(found.drawn()["points"]), 24)
        self.assertEqual([specimen for specimen, _ in alarms([self.built.round])], [self.old])
        self.client.force_login(
            self.built.operator, backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertContains(self.client.get(reverse("attention")), "References that do not hold")
        page = self.client.get(self.old.get_absolute_url())
        self.assertContains(page, "It has drifted on 1 of 1 rig and test")
        self.client.force_login(
            self.built.people["viewer"], backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertNotContains(self.client.get(reverse("attention")), "References that do not hold")
        self.assertContains(
            self.client.get(self.old.get_absolute_url()), "seen by hosts and bench operators"
        )

    def test_series_are_by_rig_state_and_specimen(self):
        from hauch.stores.models import Rig

        self.built.air(self.old, 0, (4.0, 4.0))
        test = self.built.tests["air"]
        test.rig = Rig.objects.create(
            name="Rack rig", state=2, kind="tunnel", previous=test.rig, constants=test.rig.constants
        )
        for meter in test.rig.previous.meters.all():
            test.rig.meters.create(channel=meter.channel, instrument=meter.instrument)
        test.save()
        self.built.air(self.old, 5, (4.0, 4.0))
        self.bring_in()
        self.built.air(self.new, 6, (4.0, 4.0))
        self.assertEqual(
            sorted(s.rig for s in series_of([self.built.round])),
            ["Rack rig", "Rack rig, state 2", "Rack rig, state 2"],
        )


class BridgeTests(ReferenceCase):
    def test_beside_then_change(self):
        self.built.measure_all()
        self.bring_in()
        self.assertEqual(self.new.state, "in_use")
        plan = plan_of(self.built.round)
        self.assertEqual(
            (plan.references[self.built.tests["air"].pk], plan.beside), (self.old, [self.new])
        )
        self.assertIn((f"r{self.new.pk}", "Loft-140 L-03, reference"), subject_choices(plan))
        self.assertEqual(subject_of(self.built.round, "L-03"), Subject(reference=self.new))
        for index, (what, speed) in enumerate(
            [(self.old, 4.0), (self.new, 4.08), (self.old, 4.0), (self.new, 4.08), (self.old, 4.0)]
        ):
            self.built.air(what, 200 + 5 * index, (speed, speed))
            self.built.power(what, 201 + 5 * index, 0.4)
        (bridge,) = self.care().bridges
        self.assertAlmostEqual(bridge["change"], 100 * 0.0198, delta=0.02)
        self.assertEqual((bridge["serial"], bridge["pairs"]), ("L-03", 1))
        references.change_to(
            self.built.operator,
            self.built.round,
            self.new,
            self.tests,
            "L-02 hums.",
            START + timedelta(minutes=240),
        )
        references.take_out(self.built.operator, self.built.round, self.old, "Hums.", broken=False)
        self.old.refresh_from_db()
        self.assertEqual((self.old.state, self.care().active.specimen), ("retired", self.new))
        judge_round(self.built.round.pk)
        before = self.built.round.rules.get().standing.rows.get(entry__name="Amsel").tests["air"]
        self.built.air(self.new, 260, (4.08, 4.08))
        self.built.air(self.built.specimens["Amsel"], 265, (4.4, 4.4))
        self.built.air(self.new, 270, (4.08, 4.08))
        judge_round(self.built.round.pk)
        after = self.built.round.rules.get().standing.rows.get(entry__name="Amsel").tests["air"]
        self.assertAlmostEqual(after["change"], before["change"], delta=0.15)
        self.assertGreater(after["from_reference"], 0)
        with self.assertRaisesRegex(ValidationError, "is marked retired"):
            self.built.air(self.old, 300, (4.0, 4.0))

    def test_a_break_in_mid_round_shows_what_can_still_be_compared(self):
        self.built.measure_all()
        references.take_out(
            self.built.operator, self.built.round, self.old, "Fell off the bench.", broken=True
        )
        self.assertIn("No reference is in use since", self.care().sentence)
        self.assertEqual((self.care().left_out, self.care().runs), (0, 9))
        references.change_to(
            self.built.operator, self.built.round, self.new, self.tests, "The old one broke."
        )
        self.built.air(self.new, 900, (4.1, 4.1))
        self.built.air(self.built.specimens["Amsel"], 905, (4.4, 4.4))
        care = self.care()
        self.assertEqual((care.left_out, care.runs), (1, 10))
        self.assertEqual([b["pairs"] for b in care.bridges], [0])
        self.client.force_login(
            self.built.operator, backend="django.contrib.auth.backends.ModelBackend"
        )
        page = self.client.get(reverse("care", args=[self.built.round.slug]))
        self.assertContains(page, "1 of 19 runs of entries cannot be compared now")
        self.assertContains(page, "was never run beside another that leads to L-02")

    def test_a_specimen_brought_in_where_none_is_in_use_is_the_reference(self):
        TestReference.objects.all().delete()
        self.bring_in()
        self.assertEqual(self.care().active.specimen, self.new)
        self.bring_in()
        self.assertEqual(TestReference.objects.count(), 2)

    def test_what_cannot_be(self):
        broken = ReferenceSpecimen.objects.create(type=self.old.type, serial="L-09", state="broken")
        change = references.change_to
        for act, words in (
            (
                lambda: references.bring_in(
                    self.built.operator, self.built.round, broken, self.tests
                ),
                "is broken",
            ),
            (
                lambda: references.bring_in(self.built.operator, self.built.round, self.new, []),
                "at least one test",
            ),
            (
                lambda: change(self.built.operator, self.built.round, self.new, self.tests, " "),
                "why the reference changes",
            ),
            (
                lambda: change(
                    self.built.operator,
                    self.built.round,
                    self.new,
                    self.tests,
                    "x",
                    START - timedelta(days=1),
                ),
                "only since",
            ),
            (
                lambda: references.take_out(
                    self.built.operator, self.built.round, self.old, "", broken=True
                ),
                "what happened",
            ),
            (
                lambda: references.take_out(
                    self.built.operator, self.built.round, broken, "x", broken=True
                ),
                "is broken",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                act()
        with self.assertRaises(PermissionDenied):
            references.bring_in(
                self.built.people["designer"], self.built.round, self.new, self.tests
            )

    def test_over_the_web(self):
        tests = [str(t.pk) for t in self.tests]
        self.assertContains(
            self.post({"what": "bring_in", "specimen": self.new.pk, "tests": tests}),
            "can be run beside the reference in use",
        )
        self.assertContains(
            self.post({"what": "change_to", "specimen": self.new.pk, "tests": tests, "reason": ""}),
            "Say in a few words",
        )
        self.assertContains(
            self.post(
                {"what": "change_to", "specimen": self.new.pk, "tests": tests, "reason": "Worn."}
            ),
            "is the reference from now on",
        )
        self.assertContains(
            self.post({"what": "broken", "specimen": self.old.pk, "reason": "Fell."}),
            "is out. Its runs stay and count",
        )
        for data, words in (
            ({"what": "x", "specimen": self.new.pk}, "Choose what is to be done"),
            ({"what": "retire"}, "Choose a reference specimen"),
        ):
            self.assertContains(self.post(data), words)
        self.assertEqual(self.post({"what": "retire"}, who="designer").status_code, 403)
        self.assertEqual(
            set(
                AuditEntry.objects.filter(action__startswith="reference.").values_list(
                    "action", flat=True
                )
            ),
            {"reference.bring_in", "reference.change", "reference.broken"},
        )
