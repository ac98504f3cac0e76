"""Standings from stored runs: who leads, what is too close, what is missing, and whether the truth
is found.
"""

import math
from datetime import timedelta
from unittest import mock

from django.test import TestCase
from procrastinate.contrib.django.models import ProcrastinateJob

from hauch.bench.models import Run
from hauch.bench.runs import Subject, record_dnf, void_run
from hauch.core.rig import Bench, Loft140
from hauch.demo.cabinet import ENTRIES, Cabinet
from hauch.demo.fans import CABINET
from hauch.entries import actions as entry_actions
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.rounds.models import RuleTerm, RuleVersion
from hauch.stores.models import ReferenceSpecimen
from hauch.verdict import queries
from hauch.verdict.actions import results_have_changed
from hauch.verdict.jobs import refresh_standings
from hauch.verdict.judging import judge_round, refresh
from hauch.verdict.models import Standing, StandingRow
from tests.builder import START, build


class StandingTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_all()

    def rows(self, rules=None):
        rules = rules or self.built.round.rules.first()
        return {row.entry.name: row for row in refresh(rules).rows.select_related("entry")}

    def test_clear_leader_and_a_pair_too_close_to_call(self):
        rows = self.rows()
        self.assertEqual(
            [(rows[name].rank, rows[name].state) for name in ("Amsel", "Binse", "Kiebitz")],
            [(1, "ranked"), (2, "ranked"), (2, "ranked")],
        )
        self.assertGreater(rows["Amsel"].first, 0.99)
        self.assertEqual(rows["Amsel"].tests["air"]["word"], "better")
        self.assertAlmostEqual(sum(rows["Binse"].probabilities), 1.0, places=9)

    def test_change_against_the_reference_by_hand(self):
        """4.4 m/s against 4.0: +10 %; the rig's profile factor (0.9 %) is in both and cancels."""
        cell = self.rows()["Amsel"].tests["air"]
        self.assertAlmostEqual(cell["change"], 10.0, delta=0.3)
        self.assertLess(cell["change_expanded"], 0.9)
        self.assertGreater(2 * cell["u"] / cell["value"], 0.018)

    def test_opening_sentence(self):
        rules = self.built.round.rules.first()
        standing = refresh(rules)
        self.assertEqual(queries.opening(rules, queries.leaders(standing))["kind"], "clear")
        close = queries.leaders(standing)[1:3]
        self.assertEqual(queries.opening(rules, close)["kind"], "close")
        self.assertEqual(queries.opening(rules, close[:1])["kind"], "alone")
        self.assertEqual(queries.opening(rules, [])["kind"], "none")

    def test_did_not_finish_is_last_and_incomplete_before_it(self):
        built = self.built
        record_dnf(
            built.operator,
            built.tests["air"],
            Subject(specimen=built.specimens["Amsel"]),
            "burst",
            START,
        )
        for run in Run.objects.filter(specimen=built.specimens["Binse"], test=built.tests["power"]):
            void_run(built.operator, run, "wrong supply")
        rows = self.rows()
        self.assertEqual(
            [(rows[n].place, rows[n].state) for n in ("Kiebitz", "Binse", "Amsel")],
            [(1, "ranked"), (2, "incomplete"), (3, "dnf")],
        )
        self.assertEqual(rows["Binse"].reason, "Not complete: power test missing.")
        self.assertIsNone(rows["Amsel"].score)

    def test_withdrawing_takes_an_entry_out_at_once(self):
        judge_round(self.built.round.pk)
        with self.captureOnCommitCallbacks(execute=True):
            entry_actions.withdraw(self.built.host, self.built.entries["Amsel"], "")
        names = set(StandingRow.objects.values_list("entry__name", flat=True))
        self.assertEqual(names, {"Binse", "Kiebitz"})

    def test_without_a_reference_nothing_is_ranked_and_it_says_so(self):
        for run in Run.objects.filter(reference=self.built.reference, test=self.built.tests["air"]):
            void_run(self.built.operator, run, "wrong specimen")
        standing = refresh(self.built.round.rules.first())
        self.assertIn("there is no run of the reference with a result yet", standing.notes[0])
        self.assertFalse(standing.rows.filter(state="ranked").exists())

    def test_an_unbridged_reference_is_told(self):
        other = ReferenceSpecimen.objects.create(
            type=self.built.reference.type, serial="L-09", state="new"
        )
        self.built.air(other, 60 * 24, (4.2, 4.2))
        standing = refresh(self.built.round.rules.first())
        self.assertIn("Loft-140 L-09 was never run beside Loft-140 L-02", standing.notes[0])

    def test_best_single_metric(self):
        rules = RuleVersion.objects.create(
            round=self.built.round,
            number=2,
            scheme="best_single",
            created_by=self.built.host,
            draws=1000,
        )
        rules.tests.set(self.built.tests.values())
        RuleTerm.objects.create(rules=rules, test=self.built.tests["power"], weight=1)
        rows = self.rows(rules)
        self.assertEqual(rows["Kiebitz"].rank, 1)
        self.assertLess(rows["Amsel"].score, 100)

    def test_runs_at_another_setting_do_not_count(self):
        setting = self.built.round.settings.create(
            label="Throttle 75 %", values={"throttle": "75 %"}
        )
        before = self.rows()["Amsel"].tests["air"]["value"]
        self.built.air(self.built.specimens["Amsel"], 500, (2.0, 2.0), setting=setting)
        self.assertEqual(self.rows()["Amsel"].tests["air"]["value"], before)

    def test_a_large_round_is_left_to_the_worker(self):
        judge_round(self.built.round.pk)
        with (
            mock.patch("hauch.verdict.actions.AT_ONCE_UP_TO", 3),
            self.captureOnCommitCallbacks(execute=True) as called,
        ):
            results_have_changed(self.built.round)
            results_have_changed(self.built.round)
        self.assertEqual(called, [])
        self.assertTrue(Standing.objects.get().stale)
        job = ProcrastinateJob.objects.filter(task_name="verdict.refresh_standings").latest("pk")
        refresh_standings(**job.args)
        self.assertFalse(Standing.objects.get().stale)

    def test_working_of_a_cell_adds_up(self):
        rules = self.built.round.rules.first()
        standing = refresh(rules)
        row = standing.rows.get(entry=self.built.entries["Amsel"])
        cell, ground = row.tests["air"], standing.reference["air"]
        steps = queries.cell_working(self.built.tests["air"], cell, ground)
        self.assertAlmostEqual(
            steps[2]["value"], 100 * (cell["value"] / cell["reference"] - 1), places=6
        )
        self.assertAlmostEqual(
            sum(part["share"] for part in queries.cell_doubt(cell)), 1.0, places=9
        )
        parts = math.hypot(cell["from_repeats"], cell["from_reference"], cell["from_rig"])
        self.assertAlmostEqual(cell["change_expanded"] / parts, 2.2, delta=0.3)


class DemoTests(TestCase):
    """The demo obeys its story, and the analysis finds the physics that the virtual bench used."""

    @classmethod
    def setUpTestData(cls):
        for username, (name, _) in DEMO_PEOPLE.items():
            add_person(username, name, staff=username == "runa")
        cls.round = Cabinet().load()
        cls.rows = {
            row.entry.name: row
            for row in StandingRow.objects.filter(standing__rules__number=2).select_related(
                "entry", "standing"
            )
        }

    def test_the_true_change_of_airflow_lies_in_the_interval(self):
        """The virtual bench knows the flow of each fan through the trays; meter, drift and bridge
        must not hide it.
        """
        bench = Bench()
        truth = Loft140.working_flow(bench.resistance, 1900, 1.14)
        for name, _, _ in ENTRIES:
            fan = Loft140.changed(name, *CABINET[name])
            true_change = 100 * (fan.working_flow(bench.resistance, 1900, 1.14) / truth - 1)
            cell = self.rows[name].tests["air"]
            with self.subTest(name):
                self.assertLess(abs(cell["change"] - true_change), 1.5 * cell["change_expanded"])

    def test_the_true_change_of_noise_lies_in_the_interval(self):
        inside = sum(
            abs(self.rows[name].tests["noise"]["change"] - CABINET[name][2])
            < self.rows[name].tests["noise"]["change_expanded"]
            for name, _, _ in ENTRIES
        )
        self.assertGreaterEqual(inside, 7)

    def test_its_troubles_are_there(self):
        self.assertEqual(self.round.entries.count(), 9)
        self.assertEqual(self.rows["Ringelnatter"].state, "dnf")
        self.assertIn("rub the frame", self.rows["Ringelnatter"].reason)
        reference = self.rows["Distel"].standing.reference
        self.assertEqual(len(reference["air"]["bridges"]), 1)
        self.assertLess(reference["air"]["drift"] + reference["air"]["drift_expanded"], 0)
        self.assertTrue(Run.objects.filter(result__missing__contains="upper limit").exists())
        self.assertTrue(
            Run.objects.filter(result__missing__contains="Not settled", state="void").exists()
        )
        kinds = {
            mark[1]
            for run in Run.objects.filter(test__key="rise", state="valid").select_related("result")
            for mark in run.result.marks
        }
        self.assertEqual(kinds, {"dropout", "spike"})
        self.assertIn(
            "too close to call",
            {cell["word"] for row in self.rows.values() for cell in row.tests.values()},
        )

    def test_the_rule_change_swaps_first_and_second(self):
        for number, names in ((1, ["Schwalbe", "Distel"]), (2, ["Distel", "Schwalbe"])):
            rows = StandingRow.objects.filter(
                standing__rules__number=number, standing__rules__round__slug="cabinet-rotor"
            )[:2]
            self.assertEqual([row.entry.name for row in rows], names)

    def test_all_runs_are_in_the_past_and_in_order(self):
        first, last = (
            *Run.objects.filter(test__round__slug="cabinet-rotor").order_by("started_at")[:1],
            Run.objects.filter(test__round__slug="cabinet-rotor").latest("started_at"),
        )
        self.assertLess(last.started_at - first.started_at, timedelta(days=3, hours=16))
