"""The plan of the day: what is planned from rows, what happened of it, wishes, what goes wrong."""

import csv
import io
from datetime import date, time, timedelta

import icalendar
import time_machine
from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from hauch.bench.durations import run_minutes
from hauch.bench.models import Live, Run
from hauch.bench.runs import Subject, record_dnf
from hauch.core.plan.house import Rank
from hauch.entries.models import Entry, Version
from hauch.people.models import User
from hauch.people.permissions import HOST
from hauch.plan import actions
from hauch.plan.day import shown, told_changes
from hauch.plan.jobs import give_up
from hauch.plan.loading import load
from hauch.plan.models import DayPlan, Deadline, Duty, Machine, Outage, PlannedStep, Wish
from hauch.plan.queries import in_force
from hauch.plan.record import Record
from hauch.plan.sheet import OwnFonts
from hauch.plan.working import KEPT, work_out
from hauch.rounds.models import Membership, Round
from hauch.stores.models import ReferenceSpecimen, Rig, RigMeter
from hauch.workshop.actions import add_specimen, log_print, set_state, tick_step
from hauch.workshop.models import PrintRun, Specimen, WorkStep
from tests.builder import build
from tests.plans import MONDAY, give_hours, made, printer


class PlanCase(TestCase):
    measured = False

    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        if cls.measured:
            cls.built.measure_and_judge()
        with time_machine.travel(MONDAY, tick=False):
            give_hours(cls.built)

    def setUp(self):
        clock = time_machine.travel(MONDAY, tick=False)
        self.clock = clock.start()
        self.addCleanup(clock.stop)
        self.host = self.built.host

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def page(self, status=200, **query):
        answer = self.client.get(reverse("plan:plan"), query)
        self.assertEqual(answer.status_code, status)
        return answer

    def at(self, hours, minutes=0):
        self.clock.move_to(MONDAY.replace(hour=hours, minute=minutes))

    def state_of(self, plan, key):
        seen = shown(self.host, plan)
        return seen.line(next(step for step in seen.steps if step.key == key)).state

    def words(self, answer):
        return " ".join(answer.content.decode().split())


class WorkedOutTests(PlanCase):
    def test_all_runs_that_the_rules_ask_for_with_the_reference_between(self):
        plan = made(self.host)
        self.assertEqual(plan.state, DayPlan.State.DONE)
        self.assertEqual(plan.problems, [])
        for key, test in self.built.tests.items():
            steps = list(plan.steps.filter(test=test).order_by("unit", "order"))
            runs = [step for step in steps if step.kind == "run"]
            self.assertEqual(
                {(s.specimen_id, s.repeat) for s in runs},
                {(s.pk, n) for s in self.built.specimens.values() for n in (1, 2, 3)},
                key,
            )
            kinds = [step.kind for step in steps]
            self.assertEqual((kinds[0], kinds[-1]), ("reference", "reference"))
            self.assertLessEqual(max(map(len, "".join(k[2] for k in kinds).split("f"))), 4)
        self.assertTrue(all(step.begin is not None for step in plan.steps.all()))

    def test_each_block_holds_each_entry_once(self):
        steps = made(self.host).steps.filter(test=self.built.tests["air"], kind="run")
        order = list(steps.order_by("order").values_list("specimen_id", flat=True))
        for first in range(0, 9, 3):
            self.assertEqual(len(set(order[first : first + 3])), 3)

    def test_nothing_is_planned_before_now_or_out_of_hours(self):
        plan = made(self.host)
        first = min(step.begin for step in plan.steps.all())
        self.assertEqual(plan.moment(first), MONDAY.replace(minute=5))
        for step in plan.steps.all():
            for _, begin, end, who in step.pieces:
                if who is not None:
                    self.assertTrue(begin % 1440 >= 8 * 60 and end % 1440 <= 17 * 60)

    def test_the_page_leads_with_what_is_next(self):
        self.sign_in("operator")
        self.assertContains(self.page(), "Make a plan")
        made(self.host)
        text = self.words(self.page())
        self.assertIn("Next at 08:05", text)
        self.assertIn("Loft-140 L-02", text)
        self.assertIn("Rack rig", text)
        self.assertIn('aria-label="The day by bench', text)

    def test_asking_twice_asks_once(self):
        self.sign_in()
        for _ in range(2):
            answer = self.client.post(reverse("plan:ask"), {"days": "3"})
            self.assertRedirects(answer, reverse("plan:plan"))
        self.assertEqual(DayPlan.objects.count(), 1)
        self.assertContains(self.page(), "about to be worked out")
        plan = DayPlan.objects.get()
        state = reverse("plan:state", args=[plan.uid])
        self.assertEqual(self.client.get(state).status_code, 200)
        work_out(plan, 0.2)
        answer = self.client.get(state)
        self.assertEqual((answer.status_code, answer["HX-Refresh"]), (286, "true"))
        work_out(DayPlan.objects.get(), 0.2)  # a second worker changes nothing
        self.assertEqual(DayPlan.objects.get().made_at, MONDAY)

    def test_a_wish_while_one_is_at_work_waits_for_the_next(self):
        first = actions.ask(self.host, 3)
        DayPlan.objects.update(state=DayPlan.State.RUNNING)
        second = actions.ask(self.host, 3)
        self.assertNotEqual(first.pk, second.pk)
        self.assertEqual(actions.ask(self.host, 3).pk, second.pk)
        work_out(DayPlan.objects.get(pk=first.pk), 0.2)
        work_out(DayPlan.objects.get(pk=second.pk), 0.2)
        self.assertEqual(DayPlan.objects.get(pk=second.pk).previous_id, first.pk)

    def test_the_best_so_far_is_taken_when_it_is_stopped(self):
        plan = actions.ask(self.host, 3)
        self.sign_in()
        self.client.post(reverse("plan:stop", args=[plan.uid]))
        work_out(DayPlan.objects.get(), 30)  # ends at once
        self.assertEqual(DayPlan.objects.get().state, DayPlan.State.DONE)

    def test_days_that_cannot_be_planned(self):
        with self.assertRaisesMessage(ValidationError, "how many days"):
            actions.ask(self.host, 5)
        self.sign_in()
        answer = self.client.post(reverse("plan:ask"), {"days": "x"}, follow=True)
        self.assertEqual(DayPlan.objects.get().days, 3)
        self.assertEqual(answer.status_code, 200)

    def test_what_died_is_told(self):
        plan = actions.ask(self.host, 3)
        give_up(plan.pk)
        self.sign_in()
        self.assertContains(self.page(), "It could not be worked out")

    def test_how_long_runs_take_comes_from_the_record(self):
        plan = made(self.host)
        by_rule = plan.steps.filter(kind="run").first()
        self.assertEqual(by_rule.logged, 0)
        self.sign_in()
        answer = self.client.get(reverse("plan:step", args=[by_rule.pk]))
        self.assertContains(answer, "by rule")


class RecordTests(PlanCase):
    measured = True

    def test_runs(self):
        known = run_minutes(self.built.tests["air"])
        self.assertGreater(known.count, 8)
        self.assertFalse(known.by_rule)
        mount, soak, read = Record().run(self.built.tests["air"])
        self.assertIsNone(soak)
        self.assertAlmostEqual((mount.minutes + read.minutes) / known.minutes, 1.0)
        self.assertAlmostEqual(mount.minutes / read.minutes, 4.0)  # 4 min by hand, 2 readings

    def test_a_fixed_soak_takes_its_minutes(self):
        test = self.built.tests["power"]
        test.soak, test.soak_minutes = "minutes", 20.0
        mount, soak, _ = Record().run(test)
        self.assertIsNone(soak)
        self.assertLess(mount.minutes, 20)
        test.soak = "settled"
        self.assertGreater(Record().run(test)[1].minutes, mount.minutes)

    def test_prints_by_what_they_took(self):
        one = self.built.specimens["Amsel"]
        PrintRun.objects.bulk_create(
            PrintRun(specimen=one, machine="A", hours=hours, failed=failed)
            for hours, failed in ((6.0, False), (6.4, False), (5.8, False), (1.0, True))
        )
        known = Record()
        self.assertAlmostEqual(known.print(one).minutes, 360, delta=20)
        self.assertAlmostEqual(known.prints_fail, 1.5 / 9)

    def test_work_and_what_lies(self):
        one, round = self.built.specimens["Amsel"], self.built.round
        start = MONDAY - timedelta(days=2)
        for minutes in (0, 30, 62, 90, 400):
            WorkStep.objects.create(
                specimen=one, kind="sand", text="Sand.", done_at=start + timedelta(minutes=minutes)
            )
        self.assertEqual(Record()._work["sand"], [30.0, 32.0, 28.0])  # over noon is no work
        with time_machine.travel(start, tick=False) as clock:
            set_state(self.host, one, Specimen.State.OVEN)
            clock.shift(timedelta(hours=5))
            set_state(self.host, one, Specimen.State.PRINTED)
        self.assertEqual(Record()._states["oven"], [300.0])
        self.assertEqual(Record().lying("oven", 240).count, 1)
        self.assertEqual(one.version.entry.round, round)


class WorkshopTests(PlanCase):
    def setUp(self):
        super().setUp()
        self.one = add_specimen(
            self.host, self.built.specimens["Amsel"].version, "R-9", state="planned"
        )
        self.built.specimens["Amsel"].state = Specimen.State.BROKEN
        self.built.specimens["Amsel"].save()

    def kinds(self, plan):
        rows = plan.steps.filter(specimen=self.one).exclude(kind="run").order_by("begin")
        return [(step.kind, step.begin is not None) for step in rows]

    def test_print_before_work_before_gate_before_bench(self):
        printer()
        plan = made(self.host)
        self.assertEqual(self.kinds(plan), [("print", True), ("work", True), ("gate", True)])
        gate = plan.steps.get(kind="gate", specimen=self.one)
        for run in plan.steps.filter(kind="run", specimen=self.one):
            self.assertGreaterEqual(run.begin, gate.end)
        self.assertEqual(plan.steps.filter(kind="run", specimen=self.one).count(), 6)

    def test_without_a_printer_the_page_says_so(self):
        plan = made(self.host)
        self.assertIn("no printer is known", plan.problems[0][0])
        self.assertEqual(self.kinds(plan), [(k, False) for k in ("print", "work", "gate")])
        self.sign_in()
        self.assertContains(self.page(), "Printers and ovens</a>")

    def test_it_ticks_itself_off(self):
        printer()
        plan = made(self.host)
        key = f"print:{self.one.pk}"
        self.assertEqual(self.state_of(plan, key), "open")
        set_state(self.host, self.one, Specimen.State.PRINTING)
        self.assertEqual(self.state_of(plan, key), "going")
        log_print(self.host, self.one, "Printer at the window", 3.5, failed=False)
        self.assertEqual(self.state_of(plan, key), "done")
        work = plan.steps.get(kind="work", specimen=self.one)
        for step in self.one.steps.all():
            tick_step(self.host, step, True)
        self.assertEqual(self.state_of(plan, work.key), "done")

    def test_what_prints_now_goes_on(self):
        printer()
        set_state(self.host, self.one, Specimen.State.PRINTING)
        self.at(10)
        plan = made(self.host)
        step = plan.steps.get(key=f"print:{self.one.pk}")
        self.assertEqual(step.begin, plan.now)
        self.assertFalse(step.pinned)
        self.assertEqual([piece[0] for piece in step.pieces], ["print", "take off"])

    def test_glue_sets_and_the_oven_is_watched(self):
        printer()
        oven = Machine.objects.create(name="Oven", kind="oven")
        give_hours(self.built, "operator", shifts=((time(8), time(17)),))  # somebody at noon too
        WorkStep.objects.filter(specimen=self.one).delete()
        for order, kind in enumerate(("glue", "anneal"), 1):
            WorkStep.objects.create(specimen=self.one, order=order, kind=kind, text=kind)
        plan = made(self.host, 7)
        glue = plan.steps.get(kind="work", specimen=self.one)
        self.assertEqual([piece[0] for piece in glue.pieces], ["glue", "cure"])
        self.assertGreaterEqual(glue.end - glue.begin, 12 * 60)
        anneal = plan.steps.get(kind="anneal")
        self.assertEqual(anneal.place, oven.key)
        inside = anneal.pieces[1]
        self.assertEqual(inside[1] // 1440, inside[2] // 1440)  # never over night
        with self.assertRaises(ValidationError):
            actions.save_machine(self.host, Machine(name="Night oven", kind="oven", nights=True))

    def test_an_entry_without_a_print_is_told(self):
        Specimen.objects.filter(version__entry__name="Binse").delete()
        plan = made(self.host)
        self.assertTrue(
            any("1 entry of Drying rack has no print" in row[0] for row in plan.problems)
        )


class HappensTests(PlanCase):
    def setUp(self):
        super().setUp()
        self.plan = made(self.host)
        self.amsel = self.built.specimens["Amsel"]

    def test_accepted_runs_tick_themselves_off(self):
        key = f"run:{self.built.tests['air'].pk}:{self.amsel.pk}:1"
        self.at(9)
        self.built.air(self.amsel, 7 * 24 * 60, (4.4, 4.41))
        self.assertEqual(self.state_of(self.plan, key), "done")
        self.assertEqual(self.state_of(self.plan, key[:-1] + "2"), "open")
        self.built.air(self.built.reference, 7 * 24 * 60 + 5, (4.0, 4.0))
        refs = self.plan.steps.filter(kind="reference", test=self.built.tests["air"])
        first, second = refs.order_by("begin")[:2]
        self.assertEqual(self.state_of(self.plan, first.key), "done")
        self.assertEqual(self.state_of(self.plan, second.key), "open")
        again = made(self.host)
        self.assertFalse(again.steps.filter(key=key).exists())

    def test_a_block_that_was_begun_goes_on_where_it_was(self):
        """Its bench is set up, its reference was run: what is left stays as it was planned."""
        block = list(
            self.plan.steps.filter(unit=self.plan.steps.order_by("begin").first().unit).order_by(
                "order"
            )
        )
        first, second, third = block[:3]
        self.assertEqual(first.pieces[0][0], "set up")
        self.clock.move_to(self.plan.moment(second.end))
        record = self.built.air if first.test.key == "air" else self.built.power
        values = ((4.0, 4.1),) if first.test.key == "air" else (0.4,)
        record(self.built.reference, 7 * 24 * 60, *values)
        record(second.specimen, 7 * 24 * 60 + 8, *values)
        again = made(self.host)
        self.assertFalse(again.steps.filter(key__in=[first.key, second.key]).exists())
        left = again.steps.filter(unit=first.unit).order_by("order")
        self.assertEqual([step.key for step in left], [step.key for step in block[2:]])
        self.assertNotIn("set up", [piece[0] for piece in left[0].pieces])
        self.assertLessEqual(left[0].begin - third.begin, 5)  # now, on whole five minutes

    def test_what_did_not_finish_is_wanted_no_more(self):
        test = self.built.tests["air"]
        record_dnf(self.built.operator, test, Subject(specimen=self.amsel), "rubs", MONDAY)
        key = f"run:{test.pk}:{self.amsel.pk}:1"
        self.assertEqual(self.state_of(self.plan, key), "gone")
        self.sign_in()
        answer = self.page()
        self.assertContains(answer, "The plan does not know yet")
        self.assertContains(answer, "Amsel (R-1): did not finish.")
        before = dict(self.plan.steps.values_list("key", "begin"))
        again = made(self.host)
        self.assertFalse(again.steps.filter(specimen=self.amsel).exists())
        for step in again.steps.filter(kind="run"):
            self.assertEqual(step.begin, before[step.key])
        said = shown(self.host, again).changes()
        self.assertTrue(any("no longer wanted" in text for text in said))

    def test_a_late_step_is_told(self):
        self.at(11)
        self.sign_in()
        self.assertContains(self.page(), "after it should be")
        again = made(self.host)
        self.assertEqual(shown(self.host, again).since().sentences, ())

    def test_a_broken_reference(self):
        self.built.reference.state = ReferenceSpecimen.State.BROKEN
        self.built.reference.save()
        self.sign_in()
        self.assertContains(self.page(), "is broken.")

    def test_the_operator_is_ill(self):
        self.sign_in()
        who = self.built.operator
        answer = self.client.post(
            reverse("plan:out"),
            {"what": f"person:{who.pk}", "hours": "6", "reason": "a cold"},
            follow=True,
        )
        self.assertContains(answer, "Operator is out. The plan is put right.")
        self.assertContains(answer, "a cold")
        work_out(DayPlan.objects.select_related("previous").first(), 0.2)
        again = in_force()
        until = again.minute(MONDAY + timedelta(hours=6))
        for step in again.steps.filter(begin__isnull=False):
            for _, begin, _, person in step.pieces:
                self.assertFalse(person == who.pk and begin < until, step)
        outage = Outage.objects.get()
        answer = self.client.post(reverse("plan:back", args=[outage.pk]), follow=True)
        self.assertContains(answer, "Operator is there again")

    def test_a_bench_is_down_until_further_notice(self):
        actions.report(self.host, rig="Rack rig", reason="belt")
        plan = made(self.host)
        self.assertFalse(plan.steps.filter(kind="run", begin__isnull=False).exists())
        self.assertTrue(plan.missed)
        with self.assertRaisesMessage(ValidationError, "out already"):
            actions.report(self.host, rig="Rack rig")
        with self.assertRaisesMessage(ValidationError, "Choose a bench"):
            actions.report(self.host, rig="No such")
        with self.assertRaisesMessage(ValidationError, "Choose who or what"):
            actions.report(self.host)

    def test_what_is_planned_for_later_is_told_too(self):
        PlannedStep.objects.filter(specimen=self.amsel).update(begin=3000, end=3010)
        set_state(self.host, self.amsel, Specimen.State.BROKEN)
        self.sign_in()
        self.assertContains(self.page(day=0), "Amsel (R-1): the print is broken.")

    def test_a_print_that_broke(self):
        set_state(self.host, self.amsel, Specimen.State.BROKEN)
        self.sign_in()
        self.assertContains(self.page(), "the print is broken.")

    def test_hours_that_are_none(self):
        self.sign_in()
        form = {"what": "bench:Rack rig", "hours": "soon"}
        answer = self.client.post(reverse("plan:out"), form, follow=True)
        self.assertContains(answer, "“soon” is no number of hours")
        self.assertFalse(Outage.objects.exists())

    def test_steps_of_old_plans_are_taken_away(self):
        for _ in range(KEPT):
            made(self.host)
        self.assertFalse(self.plan.steps.exists())
        self.assertEqual(DayPlan.objects.filter(steps__isnull=False).distinct().count(), KEPT)

    def test_what_changed_in_words(self):
        rows = [
            ["Air, repeat 1", "Amsel", "later", 31, 1, ""],
            ["Air, repeat 2", "Binse", "later", 28, 1, ""],
            ["Print", "R-9", "place", 0, 1, "Printer in the shed"],
            ["Gate", "R-9", "left_out", 0, 1, ""],
            ["Gate", "R-8", "earlier", 150, 1, ""],
        ]
        self.assertEqual(
            told_changes(rows),
            [
                "Amsel, Air, repeat 1 and 1 more: 30 min later.",
                "R-9, Print: on Printer in the shed instead.",
                "R-9, Gate: no room any more.",
                "R-8, Gate: 2 h earlier.",
            ],
        )


class WishTests(PlanCase):
    def setUp(self):
        super().setUp()
        self.plan = made(self.host)
        self.first = self.plan.steps.filter(kind="reference").order_by("begin").first()

    def test_a_pin_is_kept(self):
        moment = MONDAY.replace(hour=13, minute=30)
        actions.pin(self.host, self.first, moment)
        again = made(self.host)
        block = again.steps.filter(unit=self.first.unit).order_by("order").first()
        self.assertEqual((again.moment(block.begin), block.pinned), (moment, True))
        self.sign_in()
        self.client.post(reverse("plan:forget", args=[block.pk]))
        self.assertFalse(Wish.objects.exists())

    def test_a_pin_that_cannot_be_names_the_rule(self):
        self.sign_in()
        form = {"on": "2026-05-11", "at": "20:00"}
        self.client.post(reverse("plan:pin", args=[self.first.pk]), form)
        work_out(DayPlan.objects.select_related("previous").first(), 0.2)
        answer = self.page()
        self.assertContains(answer, "cannot begin when it is pinned")
        self.assertContains(answer, "somebody must be on duty for it")

    def test_pins_that_make_no_sense(self):
        self.sign_in()
        for form, said in (
            ({"on": "2026-05-11", "at": "7:00"}, "07:00 has passed"),
            ({"on": "2026-09-11", "at": "9:00"}, "after the last day"),
            ({"on": "2026-05-11", "at": "noon"}, "Type a time"),
            ({"on": "2026-05-11", "at": "25:99"}, "Type a time"),
        ):
            answer = self.client.post(reverse("plan:pin", args=[self.first.pk]), form, follow=True)
            self.assertContains(answer, said)
        self.assertFalse(Wish.objects.exists())

    def test_dragged_by_htmx(self):
        self.sign_in()
        answer = self.client.post(
            reverse("plan:pin", args=[self.first.pk]),
            {"minute": "600"},
            headers={"HX-Request": "true"},
        )
        self.assertEqual((answer.status_code, answer["HX-Redirect"]), (204, "/plan/?day=0"))
        self.assertEqual(Wish.objects.get().at, MONDAY.replace(hour=10, minute=0))

    def test_what_must_be_today(self):
        self.sign_in()
        last = self.plan.steps.filter(kind="run").order_by("-begin").first()
        self.client.post(reverse("plan:want", args=[last.pk]), {"on": "2026-05-11"})
        again = DayPlan.objects.first()
        again.previous = self.plan
        problem = load(again)
        unit = next(unit for unit in problem.units if unit.key == last.unit)
        self.assertEqual({step.rank for step in unit.steps}, {Rank.MUST})
        self.assertEqual({step.due for step in unit.steps}, {24 * 60})
        with self.assertRaisesMessage(ValidationError, "has passed"):
            actions.want_on(self.host, last, date(2026, 5, 10))

    def test_what_is_on_the_bench_cannot_be_pinned(self):
        self.first.kind = "now"
        with self.assertRaisesMessage(ValidationError, "on the bench already"):
            actions.pin(self.host, self.first, MONDAY + timedelta(hours=1))


class DecidesTests(PlanCase):
    measured = True

    def test_what_can_win_goes_before_what_cannot(self):
        """Amsel leads by far, so only its runs decide; more of them are asked for, and of the others."""
        for test in self.built.tests.values():
            test.repeats = 4
            test.save()
        plan = made(self.host)
        runs = {
            s.specimen_id: s for s in plan.steps.filter(kind="run", test=self.built.tests["air"])
        }
        amsel = runs[self.built.specimens["Amsel"].pk]
        self.assertEqual(amsel.urgent, Rank.DECIDES)
        for name in ("Binse", "Kiebitz"):
            other = runs[self.built.specimens[name].pk]
            self.assertEqual(other.urgent, Rank.OTHER)
            self.assertLess(amsel.begin, other.begin)
            self.assertGreater(other.logged, 8)

    def test_the_bench_that_is_used_now_is_held(self):
        Round.objects.filter(pk=self.built.round.pk).update(unattended=60)
        self.assertFalse(Live.objects.exists())


class BadInputTests(PlanCase):
    def test_nobody_on_duty(self):
        Duty.objects.all().delete()
        plan = made(self.host)
        self.assertEqual(plan.state, DayPlan.State.FAILED)
        self.sign_in()
        answer = self.page()
        self.assertContains(answer, "Nobody has said yet when somebody is there.")
        self.assertContains(answer, "/plan/house/#hours")

    def test_nobody_on_duty_in_these_days(self):
        self.clock.move_to(MONDAY + timedelta(days=5))  # Saturday
        plan = made(self.host, 1)
        self.assertEqual(plan.state, DayPlan.State.FAILED)
        self.assertIn("Nobody is on duty in these days", str(plan.problems))

    def test_a_bench_without_its_meter(self):
        RigMeter.objects.filter(channel="air_speed").delete()
        plan = made(self.host)
        self.assertIn("has no meter for “Air test”", plan.problems[0][0])
        self.assertFalse(plan.steps.filter(test=self.built.tests["air"]).exists())
        self.assertTrue(plan.steps.filter(test=self.built.tests["power"]).exists())

    def test_deadlines(self):
        with self.assertRaisesMessage(ValidationError, "has passed"):
            actions.set_deadline(self.host, self.built.round, date(2026, 5, 10))
        with self.assertRaises(PermissionDenied):
            actions.set_deadline(self.built.operator, self.built.round, date(2026, 5, 12))
        actions.set_deadline(self.host, self.built.round, date(2026, 5, 12))
        plan = made(self.host)
        (chance,) = shown(self.host, plan).chances()
        self.assertGreater(chance["probability"], 50)
        self.assertEqual(timezone.localtime(chance["by"]).date(), date(2026, 5, 12))
        Deadline.objects.update(day=date(2026, 5, 1))
        self.assertIn("1 May, has passed", str(made(self.host).problems))

    def test_hours_that_cannot_be(self):
        for rows, said in (
            ([(0, time(9), time(8))], "end after they begin"),
            ([(0, time(9), time(12)), (0, time(11), time(13))], "overlap"),
            ([(0, time(n), time(n + 1)) for n in range(22)], "At most 21"),
        ):
            with self.assertRaisesMessage(ValidationError, said):
                actions.set_hours(self.host, self.host, rows)
        self.assertEqual(self.host.duties.count(), 10)
        with self.assertRaisesMessage(ValidationError, "host or operator of no round"):
            actions.set_hours(self.host, self.built.people["stranger"], [])

    def test_typed_hours(self):
        self.sign_in()
        url = reverse("plan:hours", args=[self.host.pk])
        answer = self.client.post(url, {"from_0": ["9:00", ""], "to_0": ["", ""]})
        self.assertContains(answer, "Monday: “” is no time", status_code=422)
        answer = self.client.post(url, {"from_0": ["9", ""], "to_0": ["12:00", ""]})
        self.assertContains(answer, "“9” is no time", status_code=422)
        answer = self.client.post(url, {"from_0": ["9:00"], "to_0": ["12:30"]}, follow=True)
        self.assertContains(answer, "Mo 9:00–12:30")

    def test_quiet_hours(self):
        self.sign_in()
        url = reverse("plan:quiet")
        answer = self.client.post(url, {"begin": "12:00", "end": "10:00"})
        self.assertContains(answer, "end before they begin", status_code=422)
        answer = self.client.post(url, {"begin": "12:00", "end": ""})
        self.assertContains(answer, "or neither", status_code=422)
        answer = self.client.post(
            url, {"begin": "10:00", "end": "12:00", "loud": ["Rack rig", "x"]}, follow=True
        )
        self.assertContains(answer, "Noise is read from 10:00 to 12:00.")

    def test_machines(self):
        self.sign_in()
        url = reverse("plan:new_machine")
        form = {"name": "Mill", "kind": "printer", "width": "220", "depth": "220", "height": "-1"}
        self.assertContains(self.client.post(url, form), "must be 0 or more", status_code=422)
        form["height"] = "250"
        self.assertContains(self.client.post(url, form, follow=True), "Mill is saved.")
        self.assertAlmostEqual(Machine.objects.get().width, 0.22)
        self.assertContains(self.client.post(url, form), "of this name already", status_code=422)
        change = reverse("plan:machine", args=[Machine.objects.get().pk])
        self.client.post(change, {**form, "retired": "on"})
        self.assertTrue(Machine.objects.get().retired)


class NoiseTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "noise"))
        with time_machine.travel(MONDAY, tick=False):
            give_hours(cls.built)
            spot = Rig.objects.create(name="Sound spot", kind="sound_spot")
            for channel in ("sound_level", "background_level"):
                RigMeter.objects.create(
                    rig=spot, channel=channel, instrument=cls.built.meters["sound_level"]
                )
            cls.built.tests["noise"].rig = spot
            cls.built.tests["noise"].save()
            actions.set_quiet(cls.built.host, time(10), time(12), ["Rack rig"])

    def test_noise_in_quiet_hours_and_nothing_loud_beside(self):
        with time_machine.travel(MONDAY, tick=False):
            plan = made(self.built.host, 7)
        self.assertEqual((plan.problems, plan.missed), ([], []))
        noise = list(plan.steps.filter(test=self.built.tests["noise"], begin__isnull=False))
        self.assertEqual(len([s for s in noise if s.kind == "run"]), 9)
        air = list(plan.steps.filter(test=self.built.tests["air"], begin__isnull=False))
        for step in noise:
            self.assertTrue(step.begin % 1440 >= 600 and step.end % 1440 <= 720)
            for other in air:
                self.assertFalse(other.begin < step.end and step.begin < other.end)


class RightsTests(PlanCase):
    def test_who_may_see_and_change(self):
        plan = made(self.host)
        step = plan.steps.first()
        urls = ["plan:plan", "plan:house", "plan:calendar", "plan:table"]
        for who, status in (
            ("operator", 200),
            ("designer", 403),
            ("viewer", 403),
            ("stranger", 403),
        ):
            self.sign_in(who)
            for url in urls:
                self.assertEqual(self.client.get(reverse(url)).status_code, status, (who, url))
        self.sign_in("designer")
        for url in (
            reverse("plan:ask"),
            reverse("plan:stop", args=[plan.uid]),
            reverse("plan:pin", args=[step.pk]),
            reverse("plan:want", args=[step.pk]),
            reverse("plan:forget", args=[step.pk]),
            reverse("plan:out"),
            reverse("plan:quiet"),
            reverse("plan:hours", args=[self.host.pk]),
            reverse("plan:new_machine"),
        ):
            form = {"at": "13:00", "on": "2026-05-11", "what": "bench:Rack rig", "name": "x"}
            self.assertEqual(self.client.post(url, form).status_code, 403, url)
        self.assertEqual(DayPlan.objects.count(), 1)

    def test_others_see_that_a_bench_is_taken_and_not_by_whom(self):
        made(self.host)
        other = User.objects.create_user("otherhost", password="x", first_name="Other")
        round = Round.objects.create(
            slug="other", number=9, title="Other round", part="rotor", question="?", state="bench"
        )
        Membership.objects.create(round=round, user=other, role=HOST)
        self.client.force_login(other, backend="django.contrib.auth.backends.ModelBackend")
        for name in ("plan:plan", "plan:table", "plan:calendar"):
            answer = self.client.get(reverse(name))
            self.assertContains(answer, "another round")
            self.assertNotContains(answer, "Amsel")
            self.assertNotContains(answer, "Air test")
        step = PlannedStep.objects.filter(kind="run").first()
        answer = self.client.get(reverse("plan:step", args=[step.pk]))
        self.assertNotContains(answer, step.subject)

    def test_what_is_missing_in_a_round_is_told_to_those_in_it(self):
        RigMeter.objects.filter(channel="air_speed").delete()
        Duty.objects.filter(user=self.built.operator).delete()
        other = User.objects.create_user("otherhost", password="x", first_name="Other")
        round = Round.objects.create(
            slug="other", number=9, title="Other round", part="rotor", question="?", state="bench"
        )
        Membership.objects.create(round=round, user=other, role=HOST)
        self.assertIn("no meter", str(made(self.host).problems))
        self.sign_in()
        self.assertContains(self.page(), "has no meter for")
        self.client.force_login(other, backend="django.contrib.auth.backends.ModelBackend")
        self.assertNotContains(self.page(), "has no meter for")

    def test_nobody_pins_what_they_may_not_see(self):
        plan = made(self.host)
        other = User.objects.create_user("otherhost", password="x", first_name="Other")
        round = Round.objects.create(
            slug="other", number=9, title="Other round", part="rotor", question="?", state="bench"
        )
        Membership.objects.create(round=round, user=other, role=HOST)
        step = plan.steps.filter(kind="run").first()
        with self.assertRaises(PermissionDenied):
            actions.pin(other, step, MONDAY + timedelta(hours=2))

    def test_only_who_may_work_in_a_round_is_planned_for_it(self):
        other = User.objects.create_user("otherhost", password="x", first_name="Other")
        round = Round.objects.create(
            slug="other", number=9, title="Other round", part="rotor", question="?", state="bench"
        )
        Membership.objects.create(round=round, user=other, role=HOST)
        Duty.objects.all().delete()
        actions.set_hours(other, other, [(day, time(8), time(17)) for day in range(5)])
        plan = made(other)
        self.assertIn("Nobody who is on duty may work in Drying rack", str(plan.problems))
        self.assertFalse(plan.steps.exists())


class OutTests(PlanCase):
    def test_calendar(self):
        made(self.host)
        self.sign_in("operator")
        answer = self.client.get(reverse("plan:calendar"))
        self.assertEqual(answer["Content-Type"], "text/calendar; charset=utf-8")
        events = icalendar.Calendar.from_ical(answer.content).walk("VEVENT")
        self.assertEqual(len(events), PlannedStep.objects.filter(begin__isnull=False).count())
        self.assertEqual(events[0]["location"], "Rack rig")
        self.assertGreaterEqual(events[0].decoded("dtstart"), MONDAY)
        mine = icalendar.Calendar.from_ical(
            self.client.get(reverse("plan:calendar"), {"mine": "1"}).content
        ).walk("VEVENT")
        self.assertLess(len(mine), len(events))
        self.assertTrue(all("Operator" in event["description"] for event in mine))

    def test_table_escapes_formulas(self):
        Entry.objects.filter(name="Amsel").update(name="=Amsel")
        made(self.host)
        self.sign_in()
        text = self.client.get(reverse("plan:table")).content.decode()
        rows = list(csv.DictReader(io.StringIO(text)))
        self.assertEqual(len(rows), PlannedStep.objects.filter(begin__isnull=False).count())
        self.assertTrue(any(row["part"].startswith("'=Amsel") for row in rows))

    def test_sheet(self):
        made(self.host)
        self.sign_in()
        with self.assertNoLogs("weasyprint", "WARNING"):  # its own font is found
            answer = self.client.get(reverse("plan:sheet"))
        self.assertEqual(answer["Content-Type"], "application/pdf")
        self.assertTrue(answer.content.startswith(b"%PDF"))
        with self.assertRaisesRegex(ValueError, "not fetched"):
            OwnFonts().fetch("https://elsewhere.example/font.woff2")

    def test_nothing_to_take_out(self):
        self.sign_in()
        for name in ("calendar", "table", "sheet"):
            self.assertEqual(self.client.get(reverse(f"plan:{name}")).status_code, 404)

    def test_home_leads_with_it(self):
        made(self.host)
        self.sign_in()
        self.assertContains(self.client.get("/"), reverse("plan_now"))
        answer = self.client.get(reverse("plan_now"))
        self.assertContains(answer, "Now and next")
        self.assertContains(answer, "Rack rig")
        self.sign_in("viewer")
        self.assertNotContains(self.client.get("/"), reverse("plan_now"))
        self.assertEqual(self.client.get(reverse("plan_now")).status_code, 403)

    def test_questions_to_the_database_do_not_grow_with_the_steps(self):
        made(self.host)
        self.sign_in()
        with self.assertNumQueries(self._count()):
            self.page()
        for name in ("Drossel", "Elster", "Fink"):
            entry = Entry.objects.create(round=self.built.round, name=name, designer_name="I")
            version = Version.objects.create(entry=entry, number=1)
            Specimen.objects.create(version=version, code=f"X-{name}", state="ready")
        before = self._count()
        made(self.host)
        self.assertLessEqual(self._count(), before + 1)
        self.assertEqual(Run.objects.count(), 0)

    def _count(self):
        from django.db import connection
        from django.test.utils import CaptureQueriesContext

        with CaptureQueriesContext(connection) as caught:
            self.page()
        return len(caught)
