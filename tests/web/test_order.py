"""The order of a parallel run: long classes early, none of them last."""

import itertools
import unittest

from django.test import SimpleTestCase, TransactionTestCase

from hauch.ops.testrunner import SLOW_BY, mixed


def suite(kind: type, count: int) -> unittest.TestSuite:
    """A class with so many tests."""
    made = type("Made", (kind,), {f"test_{n}": lambda self: None for n in range(count)})
    return unittest.TestSuite(made(f"test_{n}") for n in range(count))


class OrderTests(SimpleTestCase):
    def test_slow_classes_are_spread_the_longest_first_and_all_are_there(self):
        slow = [suite(TransactionTestCase, n) for n in (2, 17, 5, 9)]
        quick = [suite(SimpleTestCase, 3) for _ in range(36)]
        order = mixed([*slow, *quick])
        self.assertEqual(len(order), 40)
        self.assertEqual({id(one) for one in order}, {id(one) for one in [*slow, *quick]})
        places = [order.index(one) for one in sorted(slow, key=lambda one: -one.countTestCases())]
        self.assertEqual(places, sorted(places))
        self.assertEqual(places[0], 0)
        self.assertLess(places[-1], SLOW_BY * 40)
        self.assertGreater(min(b - a for a, b in itertools.pairwise(places)), 4)
