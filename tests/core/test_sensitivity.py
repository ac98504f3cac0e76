"""Single steps of a design: what each does, within what fits and what its models hold for."""

import unittest

from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import CannotBe, Setting
from hauch.desk.tools.sensitivity import SHAPE, STEP, steps


class StepTests(unittest.TestCase):
    def test_each_step_is_one_change_and_what_the_tool_answers(self):
        for key in ("ring", "impeller"):
            tool = TOOLS[key]
            start = tool.complete(tool.start())
            base = tool.answer(start)
            found = steps(tool, start)
            self.assertGreater(len(found), 5)
            self.assertEqual(len({one.key for one in found}), len(found))
            for one in found:
                with self.subTest(key=key, step=one.label):
                    differ = [k for k in start if one.values[k] != start[k]]
                    self.assertEqual(len(differ), 1)
                    answer = tool.answer(one.values)
                    for procedure, (before, after) in one.changes.items():
                        figure = answer.predicts[procedure]
                        self.assertEqual(base.figure(figure).quantity.value, before)
                        self.assertEqual(answer.figure(figure).quantity.value, after)

    def test_only_the_shape_of_the_part_moves(self):
        tool = TOOLS["impeller"]
        start = tool.complete(tool.start())
        moved = {k for one in steps(tool, start) for k in start if one.values[k] != start[k]}
        groups = {i.group for i in tool.inputs if i.key in moved}
        self.assertLessEqual(groups, set(SHAPE["impeller"]))
        self.assertNotIn("speed", moved)

    def test_a_tenth_and_one_blade(self):
        tool = TOOLS["impeller"]
        found = {one.key: one.values for one in steps(tool, tool.start())}
        self.assertEqual(found["blades:+"]["blades"], 12)
        self.assertAlmostEqual(found["eye:-"]["eye"], 0.05 * (1 - STEP))

    def test_what_does_not_fit_is_no_step(self):
        tool = TOOLS["rotor"]
        start = tool.start()
        free = {one.key for one in steps(tool, start)}
        self.assertIn("tip:+", free)
        fits = tool.extent(tool.complete(start))
        inside = Setting(envelope=tuple(sorted(fits.items())), envelope_of="Loft")
        held = {one.key for one in steps(tool, start, inside)}
        self.assertNotIn("tip:+", held)
        self.assertIn("tip:-", held)

    def test_rows_are_moved_one_by_one(self):
        tool = TOOLS["duct"]
        found = [one for one in steps(tool, tool.start()) if one.key.startswith("branches.")]
        self.assertTrue(any("middle" in one.label for one in found))
        for one in found:
            rows = zip(tool.start()["branches"], one.values["branches"], strict=True)
            self.assertEqual(sum(a != b for a, b in rows), 1)

    def test_a_design_that_cannot_be(self):
        tool = TOOLS["impeller"]
        with self.assertRaises(CannotBe):
            steps(tool, tool.start() | {"outer": -1.0})
