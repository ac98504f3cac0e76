"""A whole round judged from values alone."""

import unittest
from dataclasses import replace
from datetime import UTC, datetime, timedelta

from hauch.core.judge.band import Scatter
from hauch.core.judge.field import Entered, Field, MeasuredRun, MeasuredTest
from hauch.core.judge.round import Rules, judge
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.quantity import Contribution

START = datetime(2026, 4, 1, 9, tzinfo=UTC)
REFERENCES = {7: ("L-02", "Loft-140 L-02"), 8: ("L-03", "Loft-140 L-03")}
RULES = Rules("weighted_percent", "too_close", "level", 2000, 140, {"air": (1.0, None)})


def run(number, hours, value, entry=None, reference=None):
    doubt = [
        Contribution("rig:1", "rig", "common", "B", None, 0.02 * value),
        Contribution(f"run:{number}", "scatter", "own", "A", 8, 0.001 * value),
    ]
    return MeasuredRun(number, START + timedelta(hours=hours), entry, reference, value, doubt, 1)


def air(*figures, reference=(100.0, 100.2, 99.8, 100.0), specimen=7):
    """A test with a reference run before, between and after the entries' repeats."""
    runs, number = [], 0
    for turn, of_reference in enumerate(reference):
        runs.append(run(number := number + 1, turn, of_reference, reference=specimen))
        for key, values in figures:
            if turn < len(values):
                runs.append(run(number := number + 1, turn + 0.1, values[turn], entry=key))
    return MeasuredTest("air", "Air test", PROCEDURES["airflow"], runs, (7, 8))


BETTER, WORSE = (1, (110.0, 110.3, 109.8)), (2, (95.0, 95.2, 94.9))
ENTRIES = (Entered(1, "Amsel", 1), Entered(2, "Binse", 2))


class UntoldTests(unittest.TestCase):
    """One run each is no proof."""

    def test_single_runs_are_shown_and_not_ranked(self):
        field = Field(ENTRIES, [air((1, (110.0,)), (2, (95.0,)), reference=(100.0,))], REFERENCES)
        found = judge(RULES, field)
        for row in found.rows:
            self.assertEqual(row["state"], "incomplete")
            self.assertEqual(row["reason"], "Not ranked: air test not repeated by anyone yet.")
            cell = row["tests"]["air"]
            self.assertEqual(cell["word"], "not repeated: cannot be told")
            self.assertIsNone(cell["change_expanded"])
        self.assertAlmostEqual(found.rows[0]["tests"]["air"]["change"], 10.0)
        self.assertRegex(found.notes[0], "nothing was repeated")
        self.assertIsNone(found.reference["air"]["comparable"])
        self.assertIsNone(found.ground)

    def test_many_tests_are_counted_in_a_row_and_named_above(self):
        tests = [
            replace(air((1, (110.0,)), reference=(100.0,)), key=f"t{k}", label=f"Test {k}")
            for k in range(5)
        ]
        terms = {test.key: (1.0, None) for test in tests}
        found = judge(replace(RULES, terms=terms), Field(ENTRIES, tests, REFERENCES))
        self.assertEqual(found.rows[0]["reason"], "Not ranked: 5 tests not repeated by anyone yet.")
        self.assertRegex(found.notes[0], "^Test 0, Test 1, Test 2, Test 3, Test 4: nothing was")

    def test_the_rigs_history_tells_it(self):
        test = replace(
            air((1, (110.0,)), (2, (95.0,)), reference=(100.0,)), history=Scatter(0.004, 12)
        )
        found = judge(RULES, Field(ENTRIES, [test], REFERENCES))
        cell = found.rows[0]["tests"]["air"]
        self.assertEqual((cell["word"], cell["history"], cell["repeat_dof"]), ("better", True, 12))
        self.assertAlmostEqual(cell["change_expanded"], 110 * 2.179 * 0.004 * 2**0.5, delta=0.02)
        self.assertEqual([row["rank"] for row in found.rows], [1, 2])


class RoundTests(unittest.TestCase):
    def test_better_than_the_reference_is_first(self):
        found = judge(RULES, Field(ENTRIES, [air(BETTER, WORSE)], REFERENCES))
        self.assertEqual(
            [(row["entry_id"], row["rank"], row["state"], row["version"]) for row in found.rows],
            [(1, 1, "ranked", 1), (2, 2, "ranked", 2)],
        )
        self.assertAlmostEqual(found.rows[0]["score"], 110.0, delta=0.2)
        self.assertEqual(found.rows[0]["tests"]["air"]["word"], "better")
        self.assertEqual(found.rows[0]["tests"]["air"]["count"], 3)
        self.assertEqual((found.ground, found.notes), (100.0, []))
        self.assertAlmostEqual(found.reference["air"]["value"], 100.0, delta=0.2)

    def test_doubt_of_a_score_that_is_linear_is_no_draw(self):
        """With one test the score's doubt is the change's."""
        field = Field(ENTRIES, [air(BETTER, WORSE)], REFERENCES)
        for scheme in ("weighted_percent", "best_single"):
            few, many = (judge(replace(RULES, scheme=scheme, draws=n), field) for n in (1000, 5000))
            for row, other in zip(few.rows, many.rows, strict=True):
                self.assertEqual(row["u"], other["u"])
                cell = row["tests"]["air"]
                parts = [cell[f"from_{name}"] for name in ("repeats", "reference", "rig")]
                self.assertAlmostEqual(row["u"], sum(p**2 for p in parts) ** 0.5, places=9)

    def test_a_scheme_that_nobody_knows_is_no_percentage(self):
        with self.assertRaises(KeyError):
            judge(replace(RULES, scheme="weighted"), Field(ENTRIES, [air(BETTER)], REFERENCES))

    def test_the_order_of_entries_and_their_keys_change_nothing(self):
        field = Field(ENTRIES, [air(BETTER, WORSE)], REFERENCES)
        one = judge(RULES, field)
        other = judge(RULES, replace(field, entries=ENTRIES[::-1]))
        self.assertEqual(
            [(row["entry_id"], row["score"], row["u"]) for row in one.rows],
            [(row["entry_id"], row["score"], row["u"]) for row in other.rows],
        )

    def test_what_is_not_ranked_keeps_its_row_and_says_why(self):
        entries = (*ENTRIES, Entered(3, "Cosel", 1, dnf="two blades rub"), Entered(4, "Dohle"))
        found = judge(RULES, Field(entries, [air(BETTER)], REFERENCES))
        self.assertEqual(
            [
                (row["place"], row["entry_id"], row["state"], row.get("reason"))
                for row in found.rows
            ],
            [
                (1, 1, "ranked", ""),
                (2, 2, "incomplete", "Not complete: air test missing for version 2."),
                (3, 4, "incomplete", "Not complete: air test missing."),
                (4, 3, "dnf", "Did not finish: two blades rub"),
            ],
        )

    def test_without_a_reference_nothing_is_compared(self):
        test = air(BETTER, reference=())
        test = replace(test, runs=[run(1, 0.0, 110.0, entry=1)])
        found = judge(RULES, Field(ENTRIES, [test], REFERENCES))
        self.assertEqual([row["state"] for row in found.rows], ["incomplete", "incomplete"])
        self.assertIn("no run of the reference with a result yet", found.notes[0])
        self.assertIsNone(found.ground)

    def test_a_round_without_anything(self):
        found = judge(RULES, Field((), [], {}))
        self.assertEqual(
            (found.rows, found.reference, found.notes, found.ground), ([], {}, [], None)
        )

    def test_a_specimen_that_was_never_bridged_is_told(self):
        test = air(BETTER)
        late = [run(90, 40.0, 101.0, reference=8), run(91, 40.1, 111.0, entry=2)]
        found = judge(RULES, Field(ENTRIES, [replace(test, runs=[*test.runs, *late])], REFERENCES))
        self.assertTrue(any("L-03 was never run beside Loft-140 L-02" in n for n in found.notes))

    def test_a_limit_that_is_broken_is_told_with_its_numbers(self):
        power = replace(
            air((1, (4.6, 4.61, 4.59)), (2, (4.4, 4.41, 4.39)), reference=(4.4, 4.41, 4.39, 4.4)),
            key="power",
            label="Power test",
            how=PROCEDURES["electrical_power"],
        )
        rules = replace(RULES, terms={"air": (1.0, None), "power": (None, 2.0)})
        found = judge(rules, Field(ENTRIES, [air(BETTER, WORSE), power], REFERENCES))
        self.assertEqual([row["entry_id"] for row in found.rows], [2, 1])
        self.assertTrue(found.rows[1]["outside"])
        self.assertRegex(found.rows[1]["reason"], "power changed by .* where a loss of 2 %")


if __name__ == "__main__":
    unittest.main()
