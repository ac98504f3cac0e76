"""More of the workshop and of checks in the background: steps of parts in pieces, what the line and
Home tell, what a form keeps, jobs and their locks.
"""

from __future__ import annotations

import math
from datetime import timedelta
from importlib import import_module
from unittest import mock

from django.apps import apps
from django.core.exceptions import ValidationError
from django.db import IntegrityError, connection, transaction
from django.test import TestCase
from django.utils import timezone
from procrastinate.contrib.django.models import ProcrastinateJob

from hauch.core.strength.limit import Stressed
from hauch.entries import actions, jobs, queries
from hauch.entries.actions import ask_check, check_older_rotors
from hauch.entries.checking import (
    check_input_of,
    material_of,
    outcome_of,
    run_check,
    speed_of,
    store,
)
from hauch.entries.models import BillItem, PartCheck, PartFile, Version
from hauch.pages.line import stations
from hauch.people.keep import read_kept
from hauch.rounds.models import Round, Test
from hauch.stores.models import Material
from hauch.workshop import actions as shop
from hauch.workshop import queries as looked
from hauch.workshop.models import Balance, Gate, Measure, PrintRun, Specimen, WorkStep
from tests.builder import build
from tests.web.test_entry_parts import ROTOR


class Base(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        self.left_behind = set(ProcrastinateJob.objects.values_list("pk", flat=True))
        self.round, self.operator, self.host = (
            self.built.round,
            self.built.operator,
            self.built.host,
        )
        self.version = self.built.entries["Amsel"].versions.get()

    def sign_in(self, who: str = "operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def attached(self, name: str = "amsel.stl", **more) -> PartFile:
        return actions.attach(self.host, self.version, name, ROTOR, **more)

    def defer_count(self) -> int:
        """Jobs that this test made: tests with a server of their own leave theirs behind."""
        waiting = ProcrastinateJob.objects.filter(task_name="entries.check_part", status="todo")
        return waiting.exclude(pk__in=self.left_behind).count()


class InTheBackground(Base):
    def test_a_check_is_left_to_the_worker_with_the_file_itself(self):
        """Whatever becomes of the process after the commit: the job stands in the database with the
        file.
        """
        with self.captureOnCommitCallbacks() as later:
            file = self.attached()
        self.assertEqual((later, self.defer_count()), ([], 1))
        jobs.check_part(check_id=file.newest_check.pk)
        actions.check_again(self.host, file)
        self.assertEqual(self.defer_count(), 2)

    def test_nothing_is_left_to_the_worker_where_the_change_is_undone(self):
        with (
            self.captureOnCommitCallbacks() as waiting,
            self.assertRaises(ZeroDivisionError),
            transaction.atomic(),
        ):
            self.attached()
            raise ZeroDivisionError
        self.assertEqual((waiting, self.defer_count(), PartFile.objects.count()), ([], 0, 0))

    def test_the_job_runs_the_check_and_may_run_twice(self):
        file = self.attached()
        jobs.check_part(check_id=file.newest_check.pk)
        first = PartCheck.objects.newest().get(file=file)
        self.assertEqual(first.state, "done")
        jobs.check_part(check_id=file.newest_check.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).ended_at, first.ended_at)

    def test_the_worker_that_died_is_followed_by_another(self):
        """The periodic job of the web takes stalled jobs up again; the check itself counts its
        attempts.
        """
        file = self.attached()
        with (
            mock.patch("hauch.entries.checking.apart", side_effect=KeyboardInterrupt),
            self.assertRaises(KeyboardInterrupt),
        ):
            run_check(file.newest_check.pk)
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual((row.state, row.attempts), ("running", 1))
        # Who waits hears at once that nobody works on it.
        self.client.force_login(self.host)
        address = file.get_absolute_url()
        self.assertContains(self.client.get(address), "No worker answers at the moment")
        with connection.cursor() as cursor:
            cursor.execute("insert into procrastinate_workers default values")
        self.assertNotContains(self.client.get(address), "No worker answers")
        with connection.cursor() as cursor:
            cursor.execute(
                "update procrastinate_workers set last_heartbeat = now() - interval '40 s'"
            )
        self.assertContains(self.client.get(address), "No worker answers at the moment")
        run_check(row.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "done")

    def test_a_file_is_replaced_and_checked_anew(self):
        file = self.attached()
        run_check(file.newest_check.pk)
        again = actions.attach(self.host, self.version, "amsel.stl", ROTOR[:-50])
        self.assertEqual(again.pk, file.pk)
        run_check(again.newest_check.pk)
        row = PartCheck.objects.newest().get(file=file)
        self.assertEqual((row.verdict, row.figures, row.view), ("back", [], ""))
        self.assertIn("cut off", row.reasons[0][1])
        earlier = queries.earlier_checks(PartFile.objects.get(pk=file.pk))
        self.assertEqual([(one.state, bool(one.figures)) for one in earlier], [("done", True)])

    def test_a_check_that_was_overtaken_stores_nothing(self):
        """Another one is asked for while the first is at work; the first one's process goes on."""
        file = self.attached()
        first = file.newest_check
        PartCheck.objects.filter(pk=first.pk).update(state="running", attempts=1)
        second = actions.check_again(self.host, file)
        self.assertNotEqual(first.pk, second.pk)
        store(first, outcome_of(file.name, read_kept(file.path), check_input_of(file)))
        self.assertEqual(PartCheck.objects.get(pk=first.pk).state, "stopped")
        run_check(second.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "done")

    def test_what_it_is_held_against(self):
        self.assertEqual(material_of(self.version).key, "petg")
        self.version.material = Material.objects.get(key="pla")
        self.assertEqual(material_of(self.version).key, "pla")
        self.assertEqual(speed_of(self.round), 1900.0)
        Test.objects.filter(round=self.round, key="air").update(common_speed=2400.0)
        self.assertEqual(speed_of(self.round), 2400.0)

    def test_without_materials_it_says_so(self):
        file = self.attached()
        Material.objects.all().delete()
        with self.assertLogs("hauch.entries.checking", "ERROR"):
            run_check(file.newest_check.pk)
        self.assertEqual(PartCheck.objects.newest().get(file=file).state, "failed")

    def test_notes_are_not_checked(self):
        note = actions.attach(self.host, self.version, "note.txt", b"Mind the tips.")
        self.assertIsNone(queries.check_of(note))
        with self.assertRaisesRegex(ValidationError, "no part that can be checked"):
            actions.check_again(self.host, note)
        self.sign_in("host")
        self.assertEqual(self.client.get(note.get_absolute_url()).status_code, 404)

    def test_at_most_so_many_files(self):
        with mock.patch.object(actions, "MOST_FILES", 2):
            actions.attach(self.host, self.version, "a.txt", b"a")
            actions.attach(self.host, self.version, "b.txt", b"b")
            actions.attach(self.host, self.version, "b.txt", b"c")  # replaced, not added
            with self.assertRaisesRegex(ValidationError, "at most 2 files"):
                actions.attach(self.host, self.version, "c.txt", b"c")


class OnTheLine(Base):
    def texts(self) -> dict[str, str]:
        return {s.key: s.text for s in stations(self.round, self.host)}

    def test_what_is_sent_back_counts_once_and_only_in_the_newest_version(self):
        for name in ("one.stl", "two.stl"):
            file = self.attached(name)
            PartCheck.objects.filter(file=file).update(state="done", verdict="back")
        self.assertEqual(self.texts()["entries"], "3 in, 1 sent back")
        actions.add_version(self.host, self.built.entries["Amsel"], "Better.")
        self.assertEqual(self.texts()["entries"], "3 in")

    def test_what_is_late(self):
        shop.add_specimen(
            self.operator,
            self.version,
            "W-01",
            state="planned",
            due=timezone.localdate() - timedelta(days=1),
        )
        self.assertEqual(self.texts()["workshop"], "3 of 4 ready, 1 late")
        shop.set_state(self.operator, Specimen.objects.get(code="W-01"), "broken")
        self.assertEqual(self.texts()["workshop"], "all ready, 1 broken")

    def test_one_query_and_the_role(self):
        with self.assertNumQueries(2):
            self.texts()

    def test_verdict_of_a_list_is_the_worst_of_its_parts(self):
        for name, verdict in (("one.stl", "ready"), ("two.stl", "care"), ("three.stl", "back")):
            file = self.attached(name)
            PartCheck.objects.filter(file=file).update(state="done", verdict=verdict)
            self.assertEqual(queries.checked(self.round)[self.version.entry_id].word, verdict)
        waiting = self.attached("four.stl")
        self.assertEqual(waiting.newest_check.state, "waiting")
        self.assertEqual(queries.checked(self.round)[self.version.entry_id].word, "at work")


class InPieces(Base):
    def test_parts_in_pieces_are_glued_and_sealed(self):
        self.attached("front.stl", count=2)
        self.attached("back.stl")
        texts = [s.text for s in shop.add_specimen(self.operator, self.version, "W-01").steps.all()]
        self.assertIn("Glue or screw the 3 pieces.", texts)
        self.assertTrue(any("gasket at every joint" in t for t in texts))

    def test_ducts_get_a_gasket_and_are_not_turned_by_hand(self):
        Round.objects.filter(pk=self.round.pk).update(part="duct")
        version = Version.objects.select_related("entry__round").get(pk=self.version.pk)
        texts = [s.text for s in shop.add_specimen(self.operator, version, "W-01").steps.all()]
        self.assertTrue(any("gasket at the mounting face" in t for t in texts))
        self.assertFalse(any("does not rub" in t for t in texts))

    def test_the_part_with_the_lowest_limit_limits_the_speed(self):
        """Not computed, 30 m/s at 40 and at 55 mm: 7,162 and 5,209 1/min."""
        for name, outer, volume in (("large.stl", 0.080, 4e-5), ("small.stl", 0.110, 1e-6)):
            file = self.attached(name)
            figures = [
                {"key": key, "quantity": {"value": value}}
                for key, value in (("outer", outer), ("volume", volume))
            ]
            PartCheck.objects.filter(file=file).update(
                state="done",
                verdict="ready",
                figures=figures,
                data={
                    "material": "petg",
                    "up": "z up",
                    "stressed": Stressed(outer / 2, why_not="x").as_json(),
                },
            )
        specimen = shop.add_specimen(
            self.operator, self.version, "W-01", printed_in=Material.objects.get(key="petg")
        )
        self.assertEqual(looked.speed_limit(specimen).cap, 5200.0)
        self.assertEqual(looked.main_check(specimen).file.name, "large.stl")

    def test_limits_of_earlier_versions_are_lowered_and_the_gate_is_passed_anew(self):
        """As the version before left it: a wheel of 100 mm that "may be spun up to 16,006 1/min",
        ready for the bench.
        """
        file = self.attached()
        figures = [
            {"key": key, "label": key, "quantity": {"value": value}}
            for key, value in (
                ("outer", 0.1),
                ("tip_speed", 9.9),
                ("hub_stress", 1.5e5),
                ("margin", 70.0),
                ("cap", 16006.0),
            )
        ]
        told = [
            [
                "well",
                (
                    "At 1,900 1/min strength is 71 times the stress in PETG; it may be spun up to"
                    " 16,006 1/min."
                ),
            ],
            ["well", "It fits."],
        ]
        PartCheck.objects.filter(file=file).update(
            state="done",
            verdict="ready",
            figures=figures,
            reasons=told,
            data={"material": "petg", "up": "z up"},
        )
        specimen = self.built.specimens["Amsel"]
        Specimen.objects.filter(pk=specimen.pk).update(cap=16000.0)
        for app, name, function in (
            ("entries", "0005_speed_limits_taken_out", "take_out"),
            ("workshop", "0003_limits_lowered", "lower"),
        ):
            getattr(import_module(f"hauch.{app}.migrations.{name}"), function)(apps, None)
        check = PartCheck.objects.newest().get(file=file)
        self.assertEqual({f["key"] for f in check.figures}, {"outer", "tip_speed", "hub_stress"})
        self.assertEqual([r[1][:8] for r in check.reasons], ["It fits.", "An earli"])
        specimen.refresh_from_db()
        self.assertEqual(specimen.state, "printed")
        self.assertAlmostEqual(
            specimen.cap, 16000 / math.sqrt(13)
        )  # 4,438: below the 5,730 at which its tips run at 30 m/s
        self.assertIn("passes the safety gate anew", specimen.note)
        self.assertIsNone(looked.speed_limit(specimen).cap)
        self.assertIn("Have the part checked anew", looked.why_no_gate(specimen))
        self.assertEqual(check_older_rotors(), 1)
        self.assertEqual(check_older_rotors(), 0)  # it waits
        run_check(PartFile.objects.get(pk=file.pk).newest_check_id)
        specimen.refresh_from_db()
        self.assertGreater(looked.speed_limit(specimen).cap, 5730.0)  # this one is a rotor

    def test_what_is_above_its_limit_leaves_the_bench_when_its_part_was_checked(self):
        """Checked anew after its cap was told: 16,000 1/min were too many."""
        file = self.attached()
        specimen = self.built.specimens["Amsel"]
        Specimen.objects.filter(pk=specimen.pk).update(cap=16000.0)
        run_check(file.newest_check.pk)
        specimen.refresh_from_db()
        self.assertEqual(specimen.state, "printed")
        self.assertEqual(specimen.cap, looked.speed_limit(specimen).cap)
        self.assertIn("Left the bench: its speed limit is 7,", specimen.note)
        self.assertIn("was 16,000 1/min. It passes the safety gate anew.", specimen.note)
        Specimen.objects.filter(pk=specimen.pk).update(cap=2000.0, state="ready", note="")
        run_check(ask_check(file).pk)
        specimen.refresh_from_db()
        self.assertEqual((specimen.state, specimen.cap, specimen.note), ("ready", 2000.0, ""))

    def test_settings_of_the_print_move_its_limit(self):
        """One wall and no infill hold less than three."""
        run_check(self.attached().newest_check.pk)
        specimen = shop.add_specimen(
            self.operator, self.version, "W-01", printed_in=Material.objects.get(key="abs")
        )
        before = looked.speed_limit(specimen).cap
        specimen.walls, specimen.infill = 1, 0.0
        self.assertLess(looked.speed_limit(specimen).cap, 0.9 * before)

    def test_no_board_move_where_nothing_comes_next(self):
        specimen = self.built.specimens["Amsel"]
        with self.assertRaisesRegex(ValidationError, "nothing that comes next"):
            shop.move_on(self.operator, specimen)

    def test_a_specimen_that_was_ready_comes_back_only_whole(self):
        specimen = self.built.specimens["Amsel"]
        Measure.objects.create(
            specimen=specimen, kind="outer", place=1, value=0.124, by=self.operator
        )
        Gate.objects.create(
            specimen=specimen,
            power="supply",
            cautions=[["code", "x"]],
            cap=4600.0,
            by=self.operator,
        )
        shop.set_state(self.operator, specimen, "printed")
        self.assertEqual(looked.why_not_ready(specimen), "")
        shop.add_step(self.operator, specimen, "glue", "Glue the crack.")
        with self.assertRaisesRegex(ValidationError, "1 step of R-1 is not done yet"):
            shop.set_state(self.operator, specimen, "ready")

    def ready(self) -> Specimen:
        specimen = self.built.specimens["Amsel"]
        Measure.objects.create(
            specimen=specimen, kind="outer", place=1, value=0.124, by=self.operator
        )
        Specimen.objects.filter(pk=specimen.pk).update(state="ready", mass=0.045)
        return Specimen.objects.get(pk=specimen.pk)

    def test_a_step_after_the_gate_takes_it_off_the_bench(self):
        specimen = self.ready()
        shop.add_step(self.operator, specimen, "glue", "Glue the crack.")
        specimen.refresh_from_db()
        self.assertEqual(specimen.state, "printed")
        self.assertIn("Left the bench: 1 step of R-1 is not done yet", specimen.note)

    def test_unbalance_after_the_gate_takes_it_off_the_bench_until_it_is_mended(self):
        """G 6.3 at 2,000 1/min and 45 g: 6.3 / 209.4 * 45 = 1.35 g mm."""
        specimen = self.ready()
        readings = {
            "speed": 2000.0,
            "first": 4.0,
            "first_angle": 0.0,
            "trial": 2.4e-3,
            "trial_radius": 0.01,
            "trial_angle": 0.0,
            "second": 8.0,
            "second_angle": 0.0,
        }
        balance = shop.add_balance(self.operator, specimen, readings)
        specimen.refresh_from_db()
        self.assertEqual(specimen.state, "printed")
        self.assertIn("out of balance: 24 g mm where 1.4 g mm are allowed", specimen.note)
        shop.set_residual(self.operator, balance, 0.3)
        self.assertIn("1.8 g mm where 1.4 g mm", looked.why_no_gate(specimen))
        shop.set_residual(self.operator, balance, 0.2)
        self.assertEqual(looked.why_no_gate(specimen), "")
        Specimen.objects.filter(pk=specimen.pk).update(mass=None)
        specimen.refresh_from_db()
        self.assertIn("not weighed", looked.why_no_gate(specimen))

    def test_limits_in_round_figures_downwards(self):
        file = self.attached()
        run_check(file.newest_check.pk)
        specimen = shop.add_specimen(
            self.operator, self.version, "W-01", printed_in=Material.objects.get(key="petg")
        )
        told = PartCheck.objects.newest().get(file=file).value("cap")
        cap = looked.speed_limit(specimen).cap
        self.assertLessEqual(cap, told)
        self.assertGreater(cap, 0.9 * told)
        self.assertEqual(cap % 10 ** (len(str(int(cap))) - 2), 0)
        Material.objects.filter(key="petg").update(
            key="petg-2"
        )  # the one it was checked with is gone
        specimen.printed_in = None
        self.assertIn("not in the stores any more", looked.speed_limit(specimen).why)


class InTheDatabase(Base):
    """Constraints stand in the database too, so that no other way around the actions breaks them."""

    def refused(self, **values) -> None:
        model = values.pop("model")
        with self.assertRaises(IntegrityError), transaction.atomic():
            model.objects.create(**values)

    def test_what_cannot_be(self):
        specimen = self.built.specimens["Amsel"]
        file = self.attached()
        self.refused(model=BillItem, version=self.version, name="x", quantity=0)
        self.refused(model=BillItem, version=self.version, name="x", quantity=1, price=-1)
        self.refused(model=PartCheck, file=file)  # one check at a time
        self.refused(model=PrintRun, specimen=specimen, machine="x", hours=-1.0)
        self.refused(model=Measure, specimen=specimen, kind="bore", place=9, value=0.004)
        self.refused(model=Measure, specimen=specimen, kind="bore", place=1, value=-0.004)
        self.refused(
            model=Material, key="x", label="X", density=5.0, along=1.0, across=1.0, heat=50.0
        )
        self.refused(
            model=Material,
            key="x",
            label="X",
            density=1200.0,
            along=1.0,
            across=1.0,
            heat=50.0,
            shrinks=0.5,
        )
        reading = {
            "speed": 1.0,
            "first": 1.0,
            "first_angle": 0.0,
            "trial_radius": 0.1,
            "trial_angle": 0.0,
            "second": 1.0,
            "second_angle": 0.0,
        }
        self.refused(model=Balance, specimen=specimen, trial=0.0, **reading)
        with self.assertRaises(IntegrityError), transaction.atomic():
            PartFile.objects.filter(pk=file.pk).update(count=0)
        with self.assertRaises(IntegrityError), transaction.atomic():
            PartCheck.objects.filter(file=file).update(state="done", verdict="")
        with self.assertRaises(IntegrityError), transaction.atomic():
            Specimen.objects.filter(pk=specimen.pk).update(infill=1.5)

    def test_steps_are_in_order_whatever_came_first(self):
        specimen = self.built.specimens["Amsel"]
        for order in (3, 1, 2):
            WorkStep.objects.create(specimen=specimen, order=order, text=str(order))
        self.assertEqual([s.text for s in specimen.steps.all()], ["1", "2", "3"])


class OnThePages(Base):
    def test_a_refused_form_keeps_what_was_typed(self):
        self.sign_in()
        specimen = shop.add_specimen(self.operator, self.version, "W-01")
        page = self.client.post(
            f"/rounds/{self.round.slug}/workshop/{specimen.pk}/log/",
            {"machine": "", "hours": "2", "note": "A long note."},
        )
        self.assertContains(page, "A long note.", status_code=422)
        page = self.client.post(
            f"/rounds/{self.round.slug}/workshop/{specimen.pk}/log/",
            {"machine": "P", "hours": "-2"},
        )
        self.assertContains(page, "greater than or equal", status_code=422)
        page = self.client.post(
            f"/rounds/{self.round.slug}/workshop/{specimen.pk}/step/",
            {"kind": "dance", "text": "x"},
        )
        self.assertEqual(page.status_code, 422)
        self.assertEqual(specimen.prints.count(), 0)

    def test_units_of_the_person(self):
        person = self.built.people["operator"]
        person.preset = "inch"
        person.save()
        self.sign_in()
        specimen = shop.add_specimen(self.operator, self.version, "W-01", mass=0.0283495)
        page = self.client.get(specimen.get_absolute_url())
        self.assertContains(page, "oz")
        self.client.post(
            f"/rounds/{self.round.slug}/workshop/{specimen.pk}/measure/",
            {"kind": "bore", "place_1": "0.157"},
        )
        self.assertAlmostEqual(specimen.measures.get().value, 0.157 * 0.0254)

    def test_rings_measure_slots_and_rotors_gaps(self):
        from hauch.workshop.forms import MeasureForm

        def keys(part):
            return {
                k
                for k, _ in MeasureForm(None, units="workshop", spins=part == "rotor")
                .fields["kind"]
                .choices
            }

        self.assertIn("tip_gap", keys("rotor"))
        self.assertNotIn("slot", keys("rotor"))
        self.assertIn("slot", keys("ring"))
        self.assertNotIn("tip_gap", keys("ring"))

    def test_stores_show_materials_to_everybody_and_let_few_change_them(self):
        self.sign_in("viewer")
        page = self.client.get("/stores/")
        self.assertContains(page, "PETG")
        self.assertNotContains(page, "/stores/materials/new/")
        self.sign_in()
        data = {
            "label": "Straw",
            "key": "straw",
            "density": "600",
            "along": "10",
            "across": "5",
            "stiffness": "900",
            "heat": "60",
            "anneal": "",
            "shrinks": "0",
            "grows": "0",
            "price": "1",
            "cautions": "Burns.",
        }
        self.client.post("/stores/materials/new/", data)
        self.assertEqual(Material.objects.get(key="straw").cautions, "Burns.")
        self.assertContains(
            self.client.post("/stores/materials/new/", data), "already exists", status_code=422
        )
