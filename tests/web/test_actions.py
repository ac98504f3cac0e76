"""What people can do at the bench and with entries, and what the database refuses."""

import math
import uuid
from datetime import timedelta
from pathlib import Path

from django.core.exceptions import PermissionDenied, ValidationError
from django.db import DatabaseError, IntegrityError, transaction
from django.test import TestCase

from hauch.bench.files import file_place, keep_file
from hauch.bench.logs import NewRecording, import_log
from hauch.bench.models import Chunk, Reading, Recording, Result, Run
from hauch.bench.plan import plan_of
from hauch.bench.queries import runs
from hauch.bench.results import recompute
from hauch.bench.runs import NewRun, Room, Subject, Typed, record_dnf, record_run, void_run
from hauch.entries import actions as entry_actions
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping
from hauch.people.models import AuditEntry
from hauch.rounds.models import RuleTerm, TestReference
from hauch.workshop import actions as workshop_actions
from tests.builder import ROOM, START, build

DATA = Path(__file__).parents[1] / "data" / "logger"


def typed(*values, unit="m/s"):
    return [Typed(v, str(v), unit) for v in values]


class RecordTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def new(self, readings=None, room=ROOM, subject=None, **more):
        subject = subject or Subject(specimen=self.built.specimens["Amsel"])
        return NewRun(
            self.built.tests["air"],
            subject,
            room,
            START,
            readings if readings is not None else {"air_speed": typed(4.1, 4.12)},
            **more,
        )

    def test_a_run_has_result_working_and_audit(self):
        run = record_run(self.built.operator, self.new())
        self.assertEqual(run.replicate, 1)
        self.assertAlmostEqual(run.result.value, 0.846 * math.pi / 4 * 0.1252**2 * 4.11, places=9)
        self.assertIn("Volume flow", [step["name"] for step in run.result.working])
        self.assertEqual(
            AuditEntry.objects.filter(action="run.record", user=self.built.operator).count(), 1
        )

    def test_repeats_count_up_for_each_specimen(self):
        for expected in (1, 2, 3):
            self.assertEqual(record_run(self.built.operator, self.new()).replicate, expected)
        other = record_run(
            self.built.operator, self.new(subject=Subject(reference=self.built.reference))
        )
        self.assertEqual(other.replicate, 1)

    def test_the_same_form_twice_is_one_run(self):
        new = self.new(form_key=uuid.uuid4())
        one, two = (
            record_run(self.built.operator, new),
            record_run(self.built.operator, new),
        )
        self.assertEqual(one.pk, two.pk)
        self.assertEqual(Run.objects.count(), 1)

    def test_bad_input_is_a_sentence_and_saves_nothing(self):
        amsel = Subject(specimen=self.built.specimens["Amsel"])
        for new, words in (
            (self.new(room=Room(None, 96_500.0, 48.0)), "Room temperature is missing"),
            (self.new(room=Room(21.0, 965.0, 48.0)), "Air pressure: 965 Pa cannot be"),
            (self.new(readings={"air_speed": typed(-1.0)}), "Air speed: -1 m/s cannot be"),
            (self.new(readings={"air_speed": typed(math.nan)}), "is not a reading"),
            (self.new(readings={}), "No result without readings of air speed or pitot pressure"),
            (self.new(subject=Subject()), "Choose what is run"),
            (self.new(subject=Subject(amsel.specimen, self.built.reference)), "Choose what is run"),
        ):
            with (
                self.subTest(words),
                self.assertRaisesRegex(ValidationError, words),
                transaction.atomic(),
            ):
                record_run(self.built.operator, new)
        self.assertEqual(
            (Run.objects.count(), Reading.objects.count(), AuditEntry.objects.count()), (0, 0, 0)
        )

    def test_withdrawn_entries_and_broken_specimens_are_not_run(self):
        entry_actions.withdraw(self.built.host, self.built.entries["Amsel"], "changed my mind")
        self.built.specimens["Amsel"].refresh_from_db()
        with self.assertRaisesRegex(ValidationError, "Amsel was withdrawn, so it cannot be run"):
            record_run(self.built.operator, self.new())
        workshop_actions.set_state(self.built.operator, self.built.specimens["Binse"], "broken")
        with self.assertRaisesRegex(ValidationError, "R-2 of Binse is marked broken"):
            record_run(
                self.built.operator,
                self.new(subject=Subject(specimen=self.built.specimens["Binse"])),
            )

    def test_only_host_and_operator_record(self):
        for name in ("designer", "viewer", "stranger"):
            with (
                self.subTest(name),
                self.assertRaisesRegex(PermissionDenied, "You may not record runs"),
            ):
                record_run(self.built.people[name], self.new())

    def test_did_not_finish_needs_a_reason_and_keeps_its_row(self):
        subject = Subject(specimen=self.built.specimens["Binse"])
        with self.assertRaisesRegex(ValidationError, "why it did not finish"):
            record_dnf(self.built.operator, self.built.tests["air"], subject, "  ", START)
        run = record_dnf(
            self.built.operator, self.built.tests["air"], subject, "rubs the frame", START
        )
        self.assertEqual(run.state, Run.State.DNF)
        self.assertNotIn(
            self.built.specimens["Binse"], [due.specimen for due in plan_of(self.built.round).due]
        )

    def test_void_takes_out_of_the_plan_and_keeps_the_readings(self):
        run = record_run(self.built.operator, self.new())
        before = plan_of(self.built.round).total
        with self.assertRaisesRegex(ValidationError, "why the run does not count"):
            void_run(self.built.operator, run, "")
        void_run(self.built.operator, run, "door was open")
        self.assertEqual(plan_of(self.built.round).total, before + 1)
        self.assertEqual(Reading.objects.filter(run=run).count(), 2)
        with self.assertRaisesRegex(ValidationError, "void already: door was open"):
            void_run(self.built.operator, run, "again")

    def test_plan_asks_for_the_reference_first(self):
        plan = plan_of(self.built.round)
        self.assertEqual((plan.due[0].reference, plan.total), (self.built.reference, 18))
        self.assertEqual(plan.due[0].label, "Air test, repeat 1")


class ImportTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "power", "noise", "rise", "pressure"))

    def new(
        self,
        name="bench_b_german.csv",
        tests=("air", "power", "noise", "rise", "pressure"),
        extra=None,
    ):
        data = (DATA / name).read_bytes()
        table = inspect(data)
        mapping = guess_mapping(table)
        extra = {"background_level": typed(36.0, unit="dB(A)")} if extra is None else extra
        return NewRecording(
            self.built.round,
            keep_file(self.built.operator, name, data),
            read_log(table, mapping),
            [self.built.tests[t] for t in tests],
            Subject(specimen=self.built.specimens["Amsel"]),
            ROOM,
            START,
            mapping,
            extra,
        )

    def test_one_file_feeds_five_tests(self):
        """Truth of the file: 3.86 m/s, 38.9 Pa, 48.7 dB(A), 66.3 degC over 21.50, 11.92 V x 0.371 A
        less 0.4 W standby.
        """
        made = {run.test.key: run for run in import_log(self.built.operator, self.new())}
        self.assertAlmostEqual(
            made["air"].result.value, 0.846 * math.pi / 4 * 0.1252**2 * 3.86, delta=1.5e-4
        )
        self.assertAlmostEqual(made["noise"].result.value, 48.5, delta=0.1)
        self.assertAlmostEqual(made["rise"].result.value, 66.3 - 21.505, delta=0.1)
        self.assertAlmostEqual(made["power"].result.as_read, 11.92 * 0.371 - 0.4, delta=0.005)
        self.assertAlmostEqual(
            made["power"].result.value, made["power"].result.as_read * 1.2 / 1.139, delta=0.01
        )
        self.assertIsNone(made["noise"].result.as_read)
        self.assertLess(abs(made["pressure"].result.value - 38.9 * 1.2 / 1.139), 0.4)
        self.assertEqual(Chunk.objects.filter(channel="time").count(), 1)
        spike = [m for m in made["noise"].result.marks if m[1] == "spike"]
        self.assertEqual([(m[0], m[2]) for m in spike], [("sound_level", 1077.0)])

    def test_the_same_file_is_recognised_and_not_doubled(self):
        import_log(self.built.operator, self.new())
        with (
            self.assertRaisesRegex(ValidationError, "imported before.*not taken twice"),
            transaction.atomic(),
        ):
            import_log(self.built.operator, self.new())
        self.assertEqual((Recording.objects.count(), Run.objects.count()), (1, 5))

    def test_a_test_that_the_file_cannot_feed(self):
        with (
            self.assertRaisesRegex(ValidationError, "Noise test also needs background level"),
            transaction.atomic(),
        ):
            import_log(self.built.operator, self.new(extra={}))
        with self.assertRaisesRegex(ValidationError, "at least one test"), transaction.atomic():
            import_log(self.built.operator, self.new(tests=()))
        self.assertEqual(
            (Recording.objects.count(), Run.objects.count(), Chunk.objects.count()), (0, 0, 0)
        )

    def test_a_stalled_rotor_is_no_result_and_says_when(self):
        made = import_log(self.built.operator, self.new("bench_e_1hz.csv", ("air",)))
        self.assertIsNone(made[0].result.value)
        self.assertRegex(made[0].result.missing, "stopped 30[0-3] s after the start")
        self.assertIn("stall", [mark[1] for mark in made[0].result.marks])

    def test_files_are_kept_by_content(self):
        one = keep_file(self.built.operator, "a.csv", b"time_s,power_w\n0,1\n1,1\n")
        two = keep_file(self.built.operator, "../../b <script>.csv", b"time_s,power_w\n0,1\n1,1\n")
        self.assertEqual(one.pk, two.pk)
        self.assertEqual(file_place(one).read_bytes(), b"time_s,power_w\n0,1\n1,1\n")
        other = keep_file(self.built.operator, "../../b <script>.csv", b"other")
        self.assertEqual(other.name, "b <script>.csv")
        self.assertRegex(other.path, r"^[0-9a-f]{2}/[0-9a-f]{64}$")

    def test_recompute_gives_the_same_digits_and_sees_a_changed_one(self):
        import_log(self.built.operator, self.new())
        valid = runs().filter(state="valid")
        self.assertEqual(recompute(valid).changed, [])
        victim = Result.objects.filter(run__test__key="air").get()
        Result.objects.filter(pk=victim.pk).update(value=victim.value * (1 + 1e-11))
        self.assertEqual(recompute(valid, write=False).changed, [victim.run_id])
        self.assertEqual(recompute(valid).changed, [victim.run_id])
        self.assertEqual(Result.objects.get(pk=victim.pk).value, victim.value)


class DatabaseTests(TestCase):
    """The database itself keeps the rules, whoever writes to it."""

    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.run_ = cls.built.air(cls.built.specimens["Amsel"], 0, (4.0, 4.1))

    def refused(self, change, error=IntegrityError):
        with self.assertRaises(error), transaction.atomic():
            change()

    def test_raw_data_is_append_only(self):
        self.refused(lambda: Reading.objects.update(value=9.9), DatabaseError)
        self.refused(
            lambda: Reading.objects.filter(run=self.run_)._raw_delete("default"), DatabaseError
        )
        self.refused(lambda: AuditEntry.objects.update(action="nothing"), DatabaseError)

    def test_constraints(self):
        self.refused(lambda: Run.objects.filter(pk=self.run_.pk).update(temperature=None))
        self.refused(
            lambda: Run.objects.filter(pk=self.run_.pk).update(reference=self.built.reference)
        )
        self.refused(lambda: Run.objects.filter(pk=self.run_.pk).update(state="void", reason=""))
        self.refused(lambda: Result.objects.filter(run=self.run_).update(u=-1))
        self.refused(lambda: Result.objects.filter(run=self.run_).update(value=None))
        self.refused(lambda: RuleTerm.objects.update(weight=0))
        self.refused(
            lambda: TestReference.objects.create(
                test=self.built.tests["air"],
                specimen=self.built.reference,
                since=START + timedelta(days=1),
            )
        )

    def test_a_repeat_number_is_given_once(self):
        second = self.built.air(self.built.specimens["Amsel"], 5, (4.0, 4.1))
        self.refused(lambda: Run.objects.filter(pk=second.pk).update(replicate=1))


class EntryTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def test_names_are_once_in_a_round_and_may_be_odd(self):
        self.built.round.state = "open"
        entry = entry_actions.add_entry(
            self.built.people["designer"], self.built.round, " <script>Ürsel</script> "
        )
        self.assertEqual((entry.name, entry.mark), ("<script>Ürsel</script>", 3))
        for name, words in (("AMSEL", "in the round already"), ("  ", "blank")):
            with (
                self.subTest(name),
                self.assertRaisesRegex(ValidationError, words),
                transaction.atomic(),
            ):
                entry_actions.add_entry(self.built.host, self.built.round, name)

    def test_designers_withdraw_their_own_only(self):
        with self.assertRaises(PermissionDenied):
            entry_actions.withdraw(self.built.people["designer"], self.built.entries["Binse"], "")
        entry_actions.withdraw(self.built.people["designer"], self.built.entries["Amsel"], "")
        with self.assertRaises(PermissionDenied):
            entry_actions.take_back_in(self.built.people["designer"], self.built.entries["Amsel"])

    def test_specimens(self):
        version = self.built.entries["Binse"].versions.get()
        workshop_actions.add_specimen(self.built.operator, version, "R-9", "PETG", 0.031)
        for code, mass, words in (
            ("r-9", 0.03, "is on another specimen"),
            ("R-10", -1.0, "above 0 g"),
        ):
            with (
                self.subTest(code),
                self.assertRaisesRegex(ValidationError, words),
                transaction.atomic(),
            ):
                workshop_actions.add_specimen(self.built.operator, version, code, "", mass)
        made = [workshop_actions.add_specimen(self.built.operator, version) for _ in range(2)]
        self.assertEqual([specimen.code for specimen in made], ["B1", "B2"])
