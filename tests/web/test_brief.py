"""The brief: from a usual round to open, its rules and their versions, questions, envelope, sheet,
people, audit trail.
"""

from dataclasses import replace
from datetime import timedelta
from unittest import mock
from urllib.parse import quote

from django.core.exceptions import PermissionDenied, ValidationError
from django.db import transaction
from django.test import TestCase, override_settings
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Run
from hauch.bench.plan import plan_of
from hauch.bench.results import runs_by_test
from hauch.bench.runs import Subject, record_dnf
from hauch.entries.actions import add_entry
from hauch.pages.rules import swaps, what_if
from hauch.people.models import AuditEntry, User
from hauch.people.permissions import OPERATOR, VIEWER, allowed
from hauch.rounds import actions, invitations
from hauch.rounds.checks import problems_of
from hauch.rounds.drafts import TestDraft, draft_of, effects
from hauch.rounds.models import Invitation, Membership, Round, RuleVersion, Test
from hauch.rounds.queries import current_rules, round_tests
from hauch.rounds.sheet import rule_sheet
from hauch.rounds.starts import STARTS
from hauch.stores.models import Instrument, Rig, RigMeter
from hauch.verdict.compute import judge, judge_draft
from hauch.verdict.judging import judge_round
from tests.builder import PASSWORD, build


class BriefCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def post(self, name, data, *args, who="host", **more):
        self.sign_in(who)
        return self.client.post(reverse(name, args=args), data, **more)


class BeginTests(BriefCase):
    def test_every_usual_round_can_be_begun(self):
        for start in STARTS.values():
            with self.subTest(start.key):
                round, left_out = actions.begin_round(
                    self.built.host, start, f"A {start.key} round"
                )
                self.assertEqual((round.part, round.state), (start.part, "brief"))
                self.assertEqual(round.memberships.get().role, "host")
                self.assertEqual(round.tests.count() + len(left_out), len(start.tests))
                self.assertEqual(current_rules(round).brief["question"], start.question)

    def test_with_rigs_for_all_its_tests_its_rules_have_no_problem(self):
        """Every start ranks and is fed once there is a rig of each kind with all its meters."""
        from hauch.core.measure.rigs import RIGS

        Rig.objects.filter(tests=None).delete()
        meters = {
            key: Instrument.objects.get_or_create(
                channel=key, defaults={"name": f"meter for {key}"}
            )[0]
            for kind in RIGS.values()
            for key in kind.channels
        }
        for kind in RIGS.values():
            rig = Rig.objects.create(
                name=f"0 {kind.label}",
                kind=kind.key,
                constants={
                    c.key: [c.typical, 0.0] for c in kind.constants if c.typical == c.typical
                },
            )
            RigMeter.objects.bulk_create(
                RigMeter(rig=rig, channel=key, instrument=meters[key]) for key in kind.channels
            )
        for start in STARTS.values():
            with self.subTest(start.key):
                round, left_out = actions.begin_round(self.built.host, start, f"Full {start.key}")
                self.assertEqual(left_out, [])
                self.assertEqual(draft_of(round).problems(), [])
                sentences = " ".join(one.text for one in problems_of(round))
                self.assertIn("No reference is set for", sentences)
                self.assertIn("Look at it and save it", sentences)

    def test_titles_make_addresses(self):
        for title, slug in (
            ("Drying rack", "drying-rack-2"),
            ("Ünïcode <b>", "unicode-b"),
            ("!!!", "round"),
        ):
            self.assertEqual(
                actions.begin_round(self.built.host, STARTS["airflow"], title)[0].slug, slug
            )
        with self.assertRaisesRegex(ValidationError, "Give the round a title"):
            actions.begin_round(self.built.host, STARTS["airflow"], "  ")

    def test_over_the_web(self):
        answer = self.post(
            "rounds:begin", {"title": "Hay loft", "place": "", "start": "cooling"}, follow=True
        )
        self.assertContains(
            answer, "There is no rig yet for: Temperature rise of the hot block, Noise at 1 m"
        )
        self.assertContains(
            self.post("rounds:begin", {"title": "", "start": "aura"}),
            "This field is required",
            status_code=422,
        )
        self.assertEqual(
            self.post(
                "rounds:begin", {"title": "X", "start": "airflow"}, who="designer"
            ).status_code,
            403,
        )


class OpenTests(BriefCase):
    def setUp(self):
        self.round, _ = actions.begin_round(self.built.host, STARTS["airflow"], "Hay loft")

    def test_what_is_missing_is_said_and_then_it_opens(self):
        with self.assertRaisesRegex(ValidationError, "Look at it and save it"):
            actions.open_round(self.built.host, self.round)
        with self.assertRaisesRegex(ValidationError, "still being written"):
            add_entry(self.built.host, self.round, "Early")
        actions.save_envelope(self.built.host, self.round, self.round.what)
        test = self.round.tests.get()
        test.references.create(specimen=self.built.reference)
        self.assertEqual(problems_of(self.round), [])
        self.post("rounds:move", {"to": "open"}, self.round.slug)
        self.round.refresh_from_db()
        self.assertEqual(self.round.state, "open")
        with self.assertRaisesRegex(ValidationError, "open already"):
            actions.open_round(self.built.host, self.round)
        Membership.objects.create(
            round=self.round, user=self.built.people["designer"], role="designer"
        )
        add_entry(self.built.people["designer"], self.round, "In time")
        Round.objects.filter(pk=self.round.pk).update(
            entries_until=timezone.localdate() - timedelta(days=1)
        )
        self.round = Round.objects.get(pk=self.round.pk)
        with self.assertRaisesRegex(ValidationError, "Entries were taken until"):
            add_entry(self.built.people["designer"], self.round, "Late")
        self.post("rounds:move", {"to": "bench"}, self.round.slug)
        self.assertEqual(Round.objects.get(pk=self.round.pk).state, "bench")

    def test_equal_power_needs_power(self):
        self.round.equal = "power"
        sentences = " ".join(one.text for one in problems_of(self.round))
        self.assertIn("does not say which", sentences)
        rig = Rig.objects.create(name="Bare tunnel", kind="tunnel", constants={"bore": [0.1, 0.0]})
        RigMeter.objects.create(
            rig=rig, channel="air_speed", instrument=Instrument.objects.get(name="Vane")
        )
        self.round.tests.update(rig=rig)
        sentences = " ".join(one.text for one in problems_of(self.round))
        self.assertIn("no test reads power", sentences)
        self.assertIn("does not know its profile factor", sentences)

    def test_what_a_test_holds_equal_must_be_what_the_brief_holds_equal(self):
        told = "“Quiet air” is read at equal noise, but the brief compares at"
        self.round.tests.update(procedure="flow_at_noise", label="Quiet air")
        for equal, value, expected in (
            ("throttle", None, True),
            ("power", 2.5, True),
            ("noise", 44.0, False),
        ):
            with self.subTest(equal):
                self.round.equal, self.round.equal_value = equal, value
                sentences = " ".join(one.text for one in problems_of(self.round))
                self.assertEqual(told in sentences, expected, sentences)
                self.assertNotIn("no test reads the sound level", sentences)

    def test_rules_of_an_opened_round_cannot_ask_for_what_its_brief_does_not_hold_equal(self):
        draft = draft_of(self.built.round)
        draft.tests[0] = replace(draft.tests[0], procedure="flow_at_power")
        with self.assertRaisesRegex(
            ValidationError,
            "is read at equal electrical power, but the brief compares at full throttle",
        ):
            actions.change_rules(
                self.built.host, self.built.round, replace(draft, reason="Power counts."), {}
            )

    def test_the_brief_changes_in_place_before_and_by_version_after_opening(self):
        self.round.question = "Which one?"
        actions.save_brief(self.built.host, self.round, ["question"])
        self.assertEqual(
            (self.round.rules.count(), current_rules(self.round).brief["question"]),
            (1, "Which one?"),
        )
        Round.objects.filter(pk=self.round.pk).update(state="open")
        round = Round.objects.get(pk=self.round.pk)
        round.motors = 2
        with self.assertRaisesRegex(ValidationError, "Say why the rules change"):
            actions.save_brief(self.built.host, round, ["motors"], "")
        new = actions.save_brief(self.built.host, round, ["motors"], "Two were asked for.")
        self.assertEqual(
            (new.number, new.brief["motors"], new.terms.count(), new.tests.count()), (2, 2, 1, 1)
        )
        self.assertEqual(
            actions.differences(self.round.rules.get(number=1).brief, new.brief), ["motors"]
        )
        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        self.assertContains(
            self.client.get(reverse("rounds:brief", args=[round.slug])),
            "Different in the brief: motors.",
        )
        round.title = "Only the title"
        self.assertEqual(actions.save_brief(self.built.host, round, ["title"]).number, 2)

    def test_the_form_over_the_web(self):
        data = {
            "title": "Hay loft",
            "question": "Which?",
            "part": "rotor",
            "motors": "0",
            "equal": "power",
            "equal_value": "six",
            "safety": "Guard.",
        }
        answer = self.post("rounds:change", data, self.round.slug)
        self.assertContains(answer, "“six” is not a number", status_code=422)
        answer = self.post("rounds:change", data | {"equal_value": "6,5"}, self.round.slug)
        self.assertContains(answer, "Allow 1 to 12 motors", status_code=422)
        self.post("rounds:change", data | {"equal_value": "6,5", "motors": "2"}, self.round.slug)
        self.round.refresh_from_db()
        self.assertEqual((self.round.equal_value, self.round.motors), (6.5, 2))
        self.post(
            "rounds:change",
            data | {"equal": "throttle", "equal_value": "6,5", "motors": "2"},
            self.round.slug,
        )
        self.round.refresh_from_db()
        self.assertIsNone(self.round.equal_value)


class ArchiveTests(BriefCase):
    def test_a_round_is_put_away_and_taken_up_again(self):
        self.sign_in()
        self.assertContains(self.client.get("/"), self.built.round.title)
        self.post("rounds:move", {"to": "archive"}, self.built.round.slug)
        self.assertNotContains(self.client.get("/"), self.built.round.question)
        self.assertContains(self.client.get("/person/"), "archived")
        self.post("rounds:move", {"to": "take_up"}, self.built.round.slug)
        self.assertContains(self.client.get("/"), self.built.round.question)
        with self.assertRaises(PermissionDenied):
            actions.archive_round(self.built.operator, self.built.round, True)


class EnvelopePageTests(BriefCase):
    GOOD = {
        "mount_square": "140",
        "hole_pitch": "124.5",
        "hole": "4.3",
        "bore": "136",
        "depth": "26",
        "shaft": "4",
        "hub": "40",
        "tip_gap": "0.8",
        "wall": "1",
    }
    RAIL = {
        "keep_name": "rail",
        "keep_x": "80",
        "keep_y": "0",
        "keep_z": "0",
        "keep_dx": "20",
        "keep_dy": "100",
        "keep_dz": "100",
    }

    def test_bad_dimensions_are_named_and_the_drawing_stays(self):
        url, slug = "rounds:envelope", self.built.round.slug
        live = self.post(url, self.GOOD | {"bore": "150"}, slug, headers={"hx-request": "true"})
        self.assertContains(live, "do not fit the mounting square")
        self.assertContains(live, "⌀ 136 mm")
        good = self.post(url, self.GOOD | {"bore": "130"}, slug, headers={"hx-request": "true"})
        self.assertContains(good, "⌀ 130 mm")
        self.assertEqual(Round.objects.get(pk=self.built.round.pk).envelope, {})
        refused = self.post(url, self.GOOD | {"hub": "200", "reason": "x"}, slug)
        self.assertContains(refused, "larger than the bore", status_code=422)
        self.assertContains(refused, 'value="200"', status_code=422)

    def test_kept_with_keep_outs_as_a_new_version(self):
        slug = self.built.round.slug
        torn = self.post(
            "rounds:envelope", self.GOOD | self.RAIL | {"keep_dz": "", "reason": "x"}, slug
        )
        self.assertContains(torn, "Keep-out “rail”", status_code=422)
        needs = self.post("rounds:envelope", self.GOOD | self.RAIL, slug)
        self.assertContains(needs, "Say why the rules change", status_code=422)
        self.post(
            "rounds:envelope", self.GOOD | self.RAIL | {"reason": "The rail is in the way."}, slug
        )
        round = Round.objects.get(pk=self.built.round.pk)
        self.assertEqual(round.what.keep_outs[0].name, "rail")
        self.assertAlmostEqual(round.what["bore"], 0.136)
        self.assertEqual(
            (round.rules.count(), current_rules(round).brief["envelope"]["keep_outs"][0]["name"]),
            (2, "rail"),
        )

    def test_files(self):
        self.sign_in("viewer")
        for kind, start in (("svg", b"<svg"), ("dxf", b"  0"), ("step", b"ISO-10303-21")):
            answer = self.client.get(
                reverse("rounds:envelope_file", args=[self.built.round.slug, kind])
            )
            self.assertTrue(answer.content.startswith(start), kind)
            self.assertIn(
                f'attachment; filename="drying-rack-envelope.{kind}"', answer["Content-Disposition"]
            )
        self.assertGreater(
            len(
                self.client.get(
                    reverse("rounds:envelope_file", args=[self.built.round.slug, "stl"])
                ).content
            ),
            1000,
        )
        self.assertEqual(
            self.client.get(
                reverse("rounds:envelope_file", args=[self.built.round.slug, "exe"])
            ).status_code,
            404,
        )


class RuleChangeTests(BriefCase):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.built.measure_and_judge()

    def setUp(self):
        self.draft = draft_of(self.built.round)
        self.draft.reason = "Power first."
        self.air, self.power = self.draft.tests

    @property
    def runs(self):
        return runs_by_test(self.built.round)

    def change(self):
        made = actions.change_rules(self.built.host, self.built.round, self.draft, self.runs)
        judge_round(self.built.round.pk)
        return made

    def ranks(self, rules):
        return {row.entry.name: row.rank for row in rules.standing.rows.all()}

    def test_other_weights_keep_all_runs_and_the_old_version(self):
        before = self.ranks(current_rules(self.built.round))
        self.air.weight, self.power.weight = None, 1.0
        new = self.change()
        self.assertEqual((new.number, [t.test.key for t in new.terms.all()]), (2, ["power"]))
        self.assertEqual(self.ranks(self.built.round.rules.get(number=1)), before)
        self.assertNotEqual(self.ranks(new), before)
        self.assertEqual(Test.objects.count(), 2)

    def test_a_conversion_carries_the_runs_over(self):
        self.power.common_speed = None
        self.air.reporting_distance = 2.0  # converted otherwise, though a tunnel has no use for it
        count = self.runs[self.air.test.pk]
        self.assertEqual(self.air.kind, "converted")
        new = self.change()
        successor = new.tests.get(key="air-2")
        self.assertEqual(
            Run.objects.filter(test=successor, carried_from__isnull=False).count(), count
        )
        self.assertEqual(Run.objects.filter(test=successor, readings__isnull=False).count(), 0)
        old = Run.objects.filter(test=self.air.test).order_by("uid").first()
        carried = old.carried_to.get()
        self.assertEqual(carried.result.value, old.result.value)
        self.assertEqual(
            (round_tests(self.built.round)[0], successor.replaces_id), (successor, self.air.test.pk)
        )
        self.assertEqual(self.ranks(new), self.ranks(self.built.round.rules.get(number=1)))
        self.assertEqual(plan_of(self.built.round).total, 0)

    def test_the_highest_steady_value_is_taken_from_the_same_readings(self):
        self.air.taking = "highest"
        self.assertEqual(self.air.kind, "converted")
        new = self.change()
        successor = new.tests.get(key="air-2")
        run = Run.objects.filter(test=successor, specimen__isnull=False).first()
        shown = [r.value for r in run.carried_from.readings.filter(channel="air_speed")]
        ratio = max(shown) / (sum(shown) / len(shown))
        self.assertAlmostEqual(run.result.value / run.carried_from.result.value, ratio, delta=1e-9)
        self.sign_in()
        sheet = self.client.get(reverse("rounds:sheet", args=[self.built.round.slug]))
        self.assertContains(sheet, "The highest steady value tells what a part reached")
        self.setUp_draft()
        self.power.taking = "highest"
        with self.assertRaisesRegex(ValidationError, "no highest value of it can be taken"):
            self.change()

    def test_a_physical_change_asks_for_new_runs(self):
        self.air.soak, self.air.soak_minutes = Test.Soak.MINUTES, 10.0
        new = self.change()
        self.assertEqual(new.tests.get(key="air-2").runs.count(), 0)
        self.assertEqual(new.tests.get(key="air-2").references.get().specimen, self.built.reference)
        self.assertEqual(plan_of(self.built.round).total, 9)
        self.assertTrue(all(row.state == "incomplete" for row in new.standing.rows.all()))

    def test_who_did_not_finish_under_old_conditions_may_try_again(self):
        record_dnf(
            self.built.operator,
            self.air.test,
            Subject(specimen=self.built.specimens["Binse"]),
            "It rubs.",
            timezone.now(),
        )
        self.air.soak, self.air.soak_minutes = Test.Soak.MINUTES, 10.0
        new = self.change()
        self.assertEqual(new.standing.rows.get(entry__name="Binse").state, "incomplete")
        self.assertEqual(
            self.built.round.rules.get(number=1).standing.rows.get(entry__name="Binse").state, "dnf"
        )

    def test_a_void_run_takes_what_was_made_of_it_along(self):
        from hauch.bench.runs import void_run

        self.air.reporting_distance = 2.0
        new = self.change()
        run = Run.objects.filter(test=self.air.test, specimen=self.built.specimens["Amsel"]).first()
        void_run(self.built.operator, run, "The lid was on.")
        judge_round(self.built.round.pk)
        self.assertEqual(run.carried_to.get().state, "void")
        self.assertEqual(new.standing.rows.get(entry__name="Amsel").tests["air-2"]["count"], 2)
        self.sign_in()
        page = self.client.get(run.carried_to.get().get_absolute_url())
        self.assertContains(page, f"Made of the readings of run {run.pk}")
        self.assertContains(page, "Readings as typed")

    def test_who_measures_while_the_rules_change_is_told(self):
        old = self.air.test
        self.air.reporting_distance = 2.0
        self.change()
        url, subject = "bench:capture", f"?subject=s{self.built.specimens['Amsel'].pk}"
        self.sign_in("operator")
        address = reverse(url, args=[self.built.round.slug, old.pk]) + subject
        answer = self.client.post(address, {"r-air_speed": "14"}, headers={"hx-request": "true"})
        self.assertEqual(answer.status_code, 409)
        page = self.client.get(answer["HX-Redirect"])
        self.assertContains(page, "The rules have changed")
        self.assertContains(page, f'data-older="{old.pk}"')
        self.draft = draft_of(self.built.round)
        self.draft.tests[0].dropped, self.draft.tests[0].weight, self.draft.reason = (
            True,
            None,
            "No air.",
        )
        self.change()
        self.assertRedirects(
            self.client.get(address), reverse("bench:overview", args=[self.built.round.slug])
        )

    def test_dropping_and_adding(self):
        self.power.dropped, self.power.weight = True, None
        rig = self.air.rig
        self.draft.tests.append(TestDraft(None, "airflow", "Air again", rig, order=3, weight=1.0))
        new = self.change()
        self.assertEqual({t.key for t in new.tests.all()}, {"air", "air-again"})
        self.assertEqual({t.key for t in round_tests(self.built.round)}, {"air", "air-again"})
        self.assertEqual(
            Run.objects.filter(test=self.power.test).count(), self.runs[self.power.test.pk]
        )
        self.assertEqual(
            new.tests.get(key="air-again").references.get().specimen, self.built.reference
        )

    def test_what_it_means_for_the_runs_is_said(self):
        self.power.repeats = 5
        self.air.common_speed = 1900.0
        told = dict(effects(self.draft, self.runs))
        self.assertRegex(told["Air test"], "13 runs stay valid and are reduced again")
        self.assertRegex(told["Power test"], "13 runs stay valid; 2 more of each entry are due")
        self.air.soak = Test.Soak.SETTLED
        self.assertRegex(dict(effects(self.draft, self.runs))["Air test"], "must be run again")
        self.power.dropped = True
        self.assertRegex(
            dict(effects(self.draft, self.runs))["Power test"],
            "No longer measured; its 13 runs are kept",
        )

    def test_a_look_changes_nothing(self):
        self.air.weight, self.power.weight = None, 1.0
        self.air.reporting_distance = 2.0
        before = (
            RuleVersion.objects.count(),
            Test.objects.count(),
            Run.objects.count(),
            AuditEntry.objects.count(),
        )
        moved = what_if(self.built.round, self.draft, self.runs)
        self.assertEqual({m.name for m in moved}, {"Amsel", "Binse", "Kiebitz"})
        self.assertRegex(swaps(moved), "first place goes from Amsel to")
        self.assertEqual(
            (
                RuleVersion.objects.count(),
                Test.objects.count(),
                Run.objects.count(),
                AuditEntry.objects.count(),
            ),
            before,
        )

    def test_a_look_foretells_what_the_change_makes(self):
        def weigh():
            self.power.weight, self.air.weight = 5.0, 1.0

        def convert():
            self.air.reporting_distance = 2.0

        def again():
            self.air.soak, self.power.weight = Test.Soak.SETTLED, 2.0

        def drop():
            self.power.dropped, self.power.weight = True, None

        def turn_round():
            self.power.order, self.air.order = 1, 2

        def add():
            self.draft.tests.append(
                TestDraft(None, "airflow", "Air again", self.air.rig, order=3, weight=1.0)
            )

        def limit():
            self.draft.scheme = "constraint"
            self.power.weight, self.power.most_loss = None, 1.0

        record_dnf(
            self.built.operator,
            self.built.tests["power"],
            Subject(specimen=self.built.specimens["Kiebitz"]),
            "It rubs.",
            timezone.now(),
        )
        for change in (weigh, convert, again, drop, turn_round, add, limit):
            with self.subTest(change.__name__):
                self.draft = draft_of(self.built.round)
                self.air, self.power = (
                    next(t for t in self.draft.tests if t.procedure == procedure)
                    for procedure in ("airflow", "electrical_power")
                )
                self.draft.reason = "To see."
                change()
                rules = current_rules(self.built.round)
                looked = judge_draft(self.built.round, self.draft, rules.draws, rules.seed)
                with transaction.atomic():
                    made = judge(self.change())
                    transaction.set_rollback(True)
                self.assertEqual(len(looked.rows), len(made.rows))
                for one, other in zip(looked.rows, made.rows, strict=True):
                    self.assertEqual(
                        {k: v for k, v in one.items() if k != "tests"},
                        {k: v for k, v in other.items() if k != "tests"},
                    )
                self.assertEqual((looked.notes, looked.ground), (made.notes, made.ground))

    def test_a_large_round_is_not_judged_in_a_look(self):
        self.assertIsNone(what_if(self.built.round, self.draft, {self.air.test.pk: 2000}))
        with (
            mock.patch("hauch.bench.jobs.CARRIED_AT_ONCE", 3),
            mock.patch("hauch.bench.jobs.carry_over_later.defer") as deferred,
        ):
            self.air.reporting_distance = 2.0
            self.change()
        self.assertEqual(deferred.call_count, 1)
        from hauch.bench.jobs import carry_over_later

        for _ in range(2):  # safe to run twice
            carry_over_later(**deferred.call_args.kwargs)
        self.assertEqual(Run.objects.filter(carried_from__isnull=False).count(), 13)

    def test_rules_that_cannot_be(self):
        for change, words in (
            (lambda: setattr(self.air, "weight", 0.0), "The weight of “Air test” is 0"),
            (lambda: setattr(self.air, "rig", None), "“Air test” has no rig"),
            (lambda: setattr(self.power, "label", "air TEST"), "Two tests are called"),
            (lambda: setattr(self.power, "dropped", True), "which no test would feed"),
            (
                lambda: setattr(self.draft, "scheme", "constraint"),
                "one objective, but 2 have a weight",
            ),
            (lambda: setattr(self.draft, "reason", " "), "Say why the rules change"),
            (lambda: setattr(self.air, "common_speed", -1.0), "common speed must be above 0"),
            (lambda: setattr(self.air, "soak", "minutes"), "give the minutes"),
            (
                lambda: setattr(self.air, "rig", Rig.objects.create(name="Bare", kind="tunnel")),
                "No test feeds “Air test”: Bare has no meter for air speed or pitot pressure",
            ),
        ):
            self.setUp_draft()
            change()
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                self.change()
        self.assertEqual(RuleVersion.objects.count(), 1)

    def filled(self, who="host"):
        """The form of the rules as the page fills it, to be sent back."""
        self.sign_in(who)
        form = self.client.get(reverse("change_rules", args=[self.built.round.slug])).context[
            "form"
        ]
        data = {name: form[name].value() or "" for name in form.fields}
        for row in form.rows:
            for name, field in row.fields.items():
                value = field.prepare_value(row[name].value())
                if value not in (None, False):
                    data[row.add_prefix(name)] = value
        return data

    def test_what_is_missing_leads_to_the_stores_and_back_with_what_was_typed(self):
        at = reverse("change_rules", args=[self.built.round.slug])
        bare = Rig.objects.create(name="Bare", kind="tunnel")
        air = f"t{self.air.test.pk}"
        data = self.filled() | {f"{air}-rig": bare.pk, f"{air}-repeats": "7", "reason": "Larger"}
        answer = self.client.post(at, data)
        place = f"{reverse('stores:change_rig', args=[bare.pk])}?next={at}%3Fresume%3D1"
        self.assertContains(answer, place.replace(at, quote(at, safe="")), status_code=422)
        self.assertContains(answer, "does not know its bore of the tube", status_code=422)
        meter = self.built.meters["air_speed"]
        answer = self.client.post(
            f"{reverse('stores:change_rig', args=[bare.pk])}?next={quote(at)}%3Fresume%3D1",
            {"c_bore": "125", "c_profile_factor": "0.85", "m_air_speed": meter.pk, "note": ""},
        )
        self.assertRedirects(answer, f"{at}?resume=1")
        page = self.client.get(f"{at}?resume=1")
        self.assertContains(page, 'value="7"')
        self.assertContains(page, "Larger")
        self.assertNotContains(page, "has no meter")
        outside = self.client.post(
            f"{reverse('stores:change_rig', args=[bare.pk])}?next=https://elsewhere.test/",
            {"c_bore": "126", "c_profile_factor": "0.85", "m_air_speed": meter.pk, "note": ""},
        )
        self.assertRedirects(outside, bare.get_absolute_url())

    def test_a_test_that_is_dropped_scores_nothing_whatever_stands_there(self):
        power = f"t{self.power.test.pk}"
        data = self.filled() | {f"{power}-dropped": "on", "reason": "Air alone."}
        data["scheme"] = "best_single"
        self.assertTrue(data[f"{power}-weight"])
        answer = self.client.post(
            reverse("change_rules", args=[self.built.round.slug]), data | {"accept": "yes"}
        )
        self.assertEqual(answer.status_code, 302)
        self.power.test.refresh_from_db()
        self.assertTrue(self.power.test.dropped)

    def test_changed_rules_pass_the_checks_of_opening(self):
        bare = Rig.objects.create(name="Bare", kind="tunnel")
        bare.meters.create(channel="air_speed", instrument=self.built.meters["air_speed"])
        self.air.rig = bare
        with self.assertRaisesRegex(ValidationError, "does not know its bore"):
            self.change()

    def setUp_draft(self):
        self.draft = draft_of(self.built.round)
        self.draft.reason = "Power first."
        self.air, self.power = self.draft.tests

    def test_in_other_units_nothing_changes_that_was_left_alone(self):
        self.air.test.reporting_distance = 1.0
        noise = Test.objects.create(
            round=self.built.round,
            key="noise",
            label="Noise",
            procedure="sound_level",
            rig=self.air.rig,
            setting=self.air.test.setting,
            reporting_distance=1.0,
        )
        User.objects.update(preset="inch")
        data = self.filled()
        answer = self.client.post(reverse("change_rules", args=[self.built.round.slug]), data)
        self.assertEqual(answer.context["problems"], [])
        self.assertNotIn(
            "reduced again", " ".join(sentence for _, sentence in answer.context["effects"])
        )
        self.assertEqual(data[f"t{noise.pk}-reporting_distance"], "39.3700787")


class QuestionTests(BriefCase):
    def test_asked_answered_once_and_kept_with_the_version(self):
        slug = self.built.round.slug
        self.post(
            "rounds:ask", {"kind": "objection", "text": "Too <b>loud</b>."}, slug, who="designer"
        )
        rules = current_rules(self.built.round)
        question = rules.questions.get()
        self.assertContains(
            self.client.get(reverse("rounds:brief", args=[slug])), "Too &lt;b&gt;loud"
        )
        self.assertEqual(
            self.post(
                "rounds:answer", {"answer": "No."}, slug, question.pk, who="designer"
            ).status_code,
            403,
        )
        self.post("rounds:answer", {"answer": "No."}, slug, question.pk)
        with self.assertRaisesRegex(ValidationError, "answered already"):
            actions.answer(self.built.host, question, "Yes.")
        question.refresh_from_db()
        self.assertEqual(
            (question.kind, question.answer, question.answered_by),
            ("objection", "No.", self.built.host),
        )
        self.assertEqual(
            self.post(
                "rounds:ask", {"kind": "question", "text": "x"}, slug, who="viewer"
            ).status_code,
            403,
        )
        self.post("rounds:ask", {"kind": "question", "text": "  "}, slug, who="designer")
        self.assertEqual(rules.questions.count(), 1)


class SheetTests(BriefCase):
    def sentences(self, units="si", **changed):
        rules = current_rules(self.built.round)
        for name, value in changed.items():
            setattr(rules, name, value)
        return " ".join(
            s for section in rule_sheet(self.built.round, rules, units) for s in section.sentences
        )

    def test_it_is_written_from_the_data(self):
        text = self.sentences()
        self.assertIn(
            "Air test on Rack rig: 3 runs, read air speed, speed, static pressure; more is better.",
            text,
        )
        self.assertIn("with the weights air test 2, power test 1", text)
        self.assertIn("Printed rotors can burst.", text)
        self.assertIn("Local codes and licensed practice come first.", text)
        self.assertIn("bore 0.136 m", text)
        self.assertIn("bore 5.354 in", self.sentences("inch"))

    def test_each_scheme_has_its_words(self):
        for scheme, words in (
            ("front", "no single score"),
            ("rank_points", "best of N entries"),
            ("sum", "smaller sum"),
            ("best_single", "follows air test alone"),
        ):
            self.assertIn(words, self.sentences(scheme=scheme))
        term = current_rules(self.built.round).terms.get(test__key="power")
        term.most_loss, term.weight = 3.0, None
        term.save()
        self.assertIn(
            "power test may be worse than the reference by at most 3.0 %",
            self.sentences(scheme="constraint"),
        )

    def test_an_older_version_keeps_its_own_words(self):
        """Brief, envelope, repeats and what was never run yet stand in the sheet of a version as
        they were agreed then.
        """
        first = current_rules(self.built.round)
        actions.remember_brief(self.built.round, first)
        before = self.sentences()
        self.built.round.may_vary = "Everything."
        actions.save_brief(self.built.host, self.built.round, ["may_vary"], "More freedom.")
        draft = draft_of(self.built.round)
        draft.reason, draft.tests[0].repeats, draft.tests[1].soak = "Sharper.", 7, Test.Soak.SETTLED
        new = actions.change_rules(self.built.host, self.built.round, draft, {})
        text = " ".join(
            s
            for section in rule_sheet(self.built.round, self.built.round.rules.get(number=1), "si")
            for s in section.sentences
        )
        self.assertEqual(text, before)
        now = " ".join(
            s for section in rule_sheet(self.built.round, new, "si") for s in section.sentences
        )
        for words in ("Everything.", "7 runs", "It is read when it has settled."):
            self.assertIn(words, now)
            self.assertNotIn(words, text)

    def test_page_of_an_older_version(self):
        RuleVersion.objects.create(round=self.built.round, number=2, created_by=self.built.host)
        self.sign_in("viewer")
        self.assertContains(
            self.client.get(reverse("rounds:sheet", args=[self.built.round.slug]) + "?rules=1"),
            "Rules v1",
        )


class InvitationTests(BriefCase):
    def test_a_link_makes_a_person_who_may_what_the_role_may(self):
        _, secret = invitations.invite(
            self.built.host, self.built.round, "designer", uses=1, whom="the club"
        )
        self.assertNotIn(secret, str(Invitation.objects.values()))
        url = reverse("rounds:join", args=[secret])
        self.assertContains(self.client.get(url), "You are invited as designer")
        short = self.client.post(
            url, {"username": "ilvy", "first_name": "Ilvy", "password": "short"}
        )
        self.assertContains(short, "too short", status_code=422)
        taken = self.client.post(
            url, {"username": "host", "first_name": "Ilvy", "password": "straw-bale-13"}
        )
        self.assertContains(taken, "Somebody has this username", status_code=422)
        self.assertEqual(User.objects.filter(first_name="Ilvy").count(), 0)
        answer = self.client.post(
            url, {"username": "ilvy", "first_name": "Ilvy", "password": "straw-bale-13"}
        )
        self.assertRedirects(answer, reverse("rounds:brief", args=[self.built.round.slug]))
        ilvy = User.objects.get(username="ilvy")
        self.assertTrue(
            allowed(ilvy, "entry.add", self.built.round)
            and not allowed(ilvy, "run.record", self.built.round)
        )
        self.client.logout()
        self.assertContains(self.client.get(url), "does not hold any more", status_code=410)

    def test_a_form_that_came_twice_and_somebody_who_has_an_account(self):
        _, secret = invitations.invite(self.built.host, self.built.round, "designer", uses=2)
        url = reverse("rounds:join", args=[secret])
        data = {"username": "ilvy", "first_name": "Ilvy", "password": "straw-bale-13"}
        for _ in range(2):  # the second from a browser that did not get the first one's answer
            answer = self.client_class().post(url, data)
            self.assertRedirects(
                answer,
                reverse("rounds:brief", args=[self.built.round.slug]),
                fetch_redirect_response=False,
            )
        self.assertEqual(Invitation.objects.get().uses_left, 1)
        known = {"username": "stranger", "first_name": "x", "password": PASSWORD}
        client = self.client_class()
        wrong = client.post(url, known | {"password": "straw-bale-14"})
        self.assertContains(wrong, "with another password", status_code=422)
        self.assertEqual(client.post(url, known).status_code, 302)
        stranger = self.built.people["stranger"]
        self.assertEqual(client.session["_auth_user_id"], str(stranger.pk))
        self.assertEqual(invitations.accept(stranger, secret).role, "designer")  # used up by itself
        with self.assertRaisesRegex(ValidationError, "does not hold"):
            invitations.accept(self.built.people["host"], "wrong")

    @override_settings(AXES_ENABLED=True)
    def test_guesses_at_an_invitation_are_counted_as_those_at_the_sign_in(self):
        _, secret = invitations.invite(self.built.host, self.built.round, "designer", uses=2)
        url = reverse("rounds:join", args=[secret])
        guess = {"username": "host", "first_name": "x"}
        for number in range(9):
            self.client.post(url, guess | {"password": f"straw-bale-2{number}"})
        right = self.client.post(url, guess | {"password": PASSWORD})
        self.assertNotEqual(right.status_code, 302)
        self.assertNotIn("_auth_user_id", self.client.session)

    def test_somebody_signed_in_joins_once_and_never_loses_rights(self):
        _, secret = invitations.invite(self.built.host, self.built.round, VIEWER, uses=3)
        operator = self.built.operator
        self.assertEqual(invitations.accept(operator, secret).role, OPERATOR)
        self.assertEqual(Invitation.objects.get().uses_left, 3)
        _, stronger = invitations.invite(self.built.host, self.built.round, OPERATOR, uses=3)
        self.assertEqual(invitations.accept(self.built.people["viewer"], stronger).role, OPERATOR)
        self.assertEqual(invitations.accept(self.built.people["stranger"], secret).role, VIEWER)
        self.assertRedirects(
            self.post("rounds:join", {}, stronger, who="designer"),
            reverse("rounds:brief", args=[self.built.round.slug]),
        )

    def test_old_revoked_and_wrong_links(self):
        made, secret = invitations.invite(self.built.host, self.built.round, VIEWER)
        Invitation.objects.update(expires_at=timezone.now() - timedelta(minutes=1))
        for link in (secret, "wrong"):
            with self.assertRaisesRegex(ValidationError, "does not hold any more"):
                invitations.accept(self.built.people["stranger"], link)
        made, secret = invitations.invite(self.built.host, self.built.round, VIEWER)
        self.post("rounds:revoke", {}, self.built.round.slug, made.pk)
        self.assertIsNone(invitations.find(secret))

    def test_limits_and_permission(self):
        for more, words in (
            ({"days": 0}, "1 to 60 days"),
            ({"uses": 501}, "1 to 500 times"),
            ({"role": "king"}, "Choose a role"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                invitations.invite(self.built.host, self.built.round, **{"role": VIEWER, **more})
        with self.assertRaises(PermissionDenied):
            invitations.invite(self.built.operator, self.built.round, VIEWER)

    def test_roles_and_the_last_host(self):
        host = self.built.round.memberships.get(user=self.built.host)
        with self.assertRaisesRegex(ValidationError, "is the only host"):
            invitations.change_role(self.built.host, host, VIEWER)
        viewer = self.built.round.memberships.get(user=self.built.people["viewer"])
        self.post("rounds:role", {"role": "host"}, self.built.round.slug, viewer.pk)
        self.post("rounds:role", {"role": ""}, self.built.round.slug, host.pk)
        self.assertEqual(
            self.built.round.memberships.filter(role="host").get().user, self.built.people["viewer"]
        )
        self.assertEqual(AuditEntry.objects.filter(action="people.change").count(), 2)

    def test_page(self):
        answer = self.post(
            "rounds:people",
            {"role": "viewer", "days": "3", "uses": "2", "whom": "all"},
            self.built.round.slug,
        )
        self.assertContains(answer, "/invitations/")
        self.assertNotContains(
            self.client.get(reverse("rounds:people", args=[self.built.round.slug])),
            "/invitations/ey",
        )


class AuditTests(BriefCase):
    def test_newest_first_and_by_kind(self):
        actions.ask(self.built.host, current_rules(self.built.round), "question", "Why?")
        invitations.invite(self.built.host, self.built.round, VIEWER)
        self.sign_in()
        page = self.client.get(reverse("rounds:audit", args=[self.built.round.slug]))
        self.assertContains(page, "people.invite")
        only = self.client.get(
            reverse("rounds:audit", args=[self.built.round.slug]) + "?what=rules"
        )
        self.assertContains(only, "rules.ask")
        self.assertNotContains(only, "people.invite")

    def test_a_change_names_what_changed_old_and_new_in_words(self):
        round, host = self.built.round, self.built.host
        draft = draft_of(round)
        draft.tests[0].weight, draft.tests[0].repeats = 3.0, 5
        draft.tests[1].dropped, draft.tests[1].weight = True, None
        draft.tie_rule, draft.reason = "equal_score", "The neighbours complained."
        actions.change_rules(host, round, draft, {})
        said = AuditEntry.objects.filter(action="rules.change").latest("pk").detail["changed"]
        for words in (
            "ties: shared rank while too close to call → shared rank for equal scores only",
            "Air test, weight: 2 → 3",
            "Air test, repeats: 3 → 5",
            "Power test: no longer measured",
        ):
            self.assertIn(words, said)
        round.refresh_from_db()
        round.motors, round.presence = 2, 90
        actions.save_brief(host, round, ["motors", "presence"], "two motors")
        said = AuditEntry.objects.filter(action="round.change").latest("pk").detail["changed"]
        self.assertEqual(said, "motors: 1 → 2; presence: 60 → 90")

    def test_every_change_of_rules_people_and_references_is_there(self):
        from django.db import DatabaseError, transaction

        actions.ask(self.built.host, current_rules(self.built.round), "question", "Why?")
        with self.assertRaises(DatabaseError), transaction.atomic():
            AuditEntry.objects.all().delete()
