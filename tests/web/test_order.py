"""In which order classes are handed to the processes of a parallel run."""

from __future__ import annotations

import unittest

from django.test import TransactionTestCase

from hauch.ops.testrunner import mixed


class OrderTests(unittest.TestCase):
    def suite(self, base, count, name, **attributes):
        made = type(name, (base,), {f"test_{n}": lambda self: None for n in range(count)})
        for key, value in attributes.items():
            setattr(made, key, value)
        return unittest.TestSuite(made(f"test_{n}") for n in range(count))

    def test_while_one_waits_the_other_works(self):
        waiting = [self.suite(TransactionTestCase, 5, f"w{n}", real_time=True) for n in range(4)]
        browser = [self.suite(TransactionTestCase, 9, f"b{n}") for n in range(5)]
        reckoning = [self.suite(unittest.TestCase, 40, f"r{n}") for n in range(12)]
        order = mixed([*reckoning, *waiting, *browser])
        self.assertEqual(len(order), 21)
        self.assertEqual({id(s) for s in order}, {id(s) for s in [*waiting, *browser, *reckoning]})
        self.assertIn(order[0], waiting)
        self.assertIn(order[1], browser)
        free, doing = [0.0, 0.0], [None, None]
        both = 0.0
        for suite in order:
            process = free.index(min(free))
            other = 1 - process
            if suite in waiting and doing[other] in waiting:
                both += max(0.0, free[other] - free[process])
            free[process] += 10.0 * 5 if suite in waiting else 36.0 if suite in browser else 16.0
            doing[process] = suite
        self.assertLess(both, 1.0)
        self.assertEqual(mixed([]), [])
