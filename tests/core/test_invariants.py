"""What must hold whatever the numbers are: conservation, symmetry, order, scale."""

import math
import unittest
from dataclasses import replace

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.judge.band import Scatter
from hauch.core.judge.reference import Runs, bridge_weights, compare, interpolation_weights
from hauch.core.judge.standing import Term, score
from hauch.core.measure.meter import Meter
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.run import RunInput
from hauch.core.quantity import Influence, derive, measured
from hauch.core.rig import Bench, Loft140
from hauch.core.trace.marks import spikes
from hauch.core.trace.settle import fit_settling

KNOWN = Scatter(0.01, 20)
rounds = st.builds(
    lambda seed, entries, repeats, brackets: (seed, entries, repeats, brackets),
    st.integers(0, 10_000),
    st.integers(1, 6),
    st.integers(1, 4),
    st.integers(1, 5),
)


def made(seed, entries, repeats, brackets):
    """A random round: entry runs and reference runs in random order of time."""
    random = np.random.default_rng(seed)
    subject = random.permutation(np.repeat(np.arange(entries), repeats))
    times = np.sort(random.uniform(0, 7200, subject.size))
    n, m = subject.size, 2 * brackets
    entry = Runs(
        subject, random.normal(0, 0.1, n), times, np.full(n, 0.002), random.normal(0, 0.01, (n, 2))
    )
    reference = Runs(
        np.zeros(m, int),
        random.normal(0, 0.02, m),
        np.sort(random.uniform(0, 7200, m)),
        np.full(m, 0.002),
        random.normal(0, 0.01, (m, 2)),
    )
    return entry, reference


def shuffled(runs, order):
    return Runs(
        runs.subject[order], runs.y[order], runs.time[order], runs.own[order], runs.common[order]
    )


class ComparisonInvariants(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(rounds, st.integers(0, 1000))
    def test_order_of_rows_is_irrelevant(self, shape, seed):
        entry, reference = made(*shape)
        random = np.random.default_rng(seed)
        one = compare(entry, reference, shape[1], 0, KNOWN)
        other = compare(
            shuffled(entry, random.permutation(entry.size)),
            shuffled(reference, random.permutation(reference.size)),
            shape[1],
            0,
            KNOWN,
        )
        np.testing.assert_allclose(other.delta, one.delta, atol=1e-12)
        np.testing.assert_allclose(other.u, one.u, atol=1e-12)

    @settings(max_examples=60, deadline=None)
    @given(rounds, st.floats(-2, 2))
    def test_a_common_factor_of_meter_or_rig_changes_nothing(self, shape, shift):
        entry, reference = made(*shape)
        one = compare(entry, reference, shape[1], 0, KNOWN)
        other = compare(
            replace(entry, y=entry.y + shift),
            replace(reference, y=reference.y + shift),
            shape[1],
            0,
            KNOWN,
        )
        np.testing.assert_allclose(other.delta, one.delta, atol=1e-9)

    @settings(max_examples=60, deadline=None)
    @given(rounds)
    def test_weights_of_the_reference_add_up_to_one(self, shape):
        entry, reference = made(*shape)
        c = compare(entry, reference, shape[1], 0, KNOWN)
        np.testing.assert_allclose(c.weights.sum(axis=1), 1.0, atol=1e-9)

    @settings(max_examples=60, deadline=None)
    @given(rounds, st.floats(0, 10_000))
    def test_moving_the_clock_changes_nothing(self, shape, later):
        entry, reference = made(*shape)
        one = compare(entry, reference, shape[1], 0, KNOWN)
        other = compare(
            replace(entry, time=entry.time + later),
            replace(reference, time=reference.time + later),
            shape[1],
            0,
            KNOWN,
        )
        np.testing.assert_allclose(other.delta, one.delta, atol=1e-7)

    def test_interpolation_stays_between_its_brackets(self):
        weights = interpolation_weights(
            np.linspace(-5, 25, 61), np.array([0.0, 10.0, 20.0]), np.array([0, 1, 2])
        )
        self.assertTrue(((weights >= 0) & (weights <= 1)).all())
        np.testing.assert_allclose(weights.sum(axis=1), 1.0)

    def test_a_bridge_there_is_the_bridge_back_with_the_other_sign(self):
        reference = Runs(
            np.array([0, 1, 0, 1]),
            np.log([100, 103, 101, 104.0]),
            np.arange(4.0),
            np.zeros(4),
            np.zeros((4, 0)),
        )
        forth, _ = bridge_weights(reference, np.array([0, 0, 1, 1]), 2, 0)
        back, _ = bridge_weights(reference, np.array([0, 0, 1, 1]), 2, 1)
        self.assertAlmostEqual(
            float(forth[1] @ reference.y), -float(back[0] @ reference.y), places=12
        )


class ScoreInvariants(unittest.TestCase):
    @settings(max_examples=40, deadline=None)
    @given(rounds, st.floats(0.1, 20))
    def test_weights_count_only_in_proportion(self, shape, factor):
        entry, reference = made(*shape)
        comparisons = [compare(entry, reference, shape[1], 0, KNOWN)] * 2
        one = score([Term("a", 1, 1, True), Term("b", 2, -1, True)], comparisons)[1]
        other = score([Term("a", factor, 1, True), Term("b", 2 * factor, -1, True)], comparisons)[1]
        np.testing.assert_allclose(other.score, one.score, rtol=1e-9)
        np.testing.assert_allclose(other.u, one.u, rtol=1e-9)

    @settings(max_examples=40, deadline=None)
    @given(rounds)
    def test_opposite_directions_of_one_metric_cancel(self, shape):
        entry, reference = made(*shape)
        c = compare(entry, reference, shape[1], 0, KNOWN)
        _, scores = score([Term("a", 1, 1, True), Term("b", 1, -1, True)], [c, c])
        np.testing.assert_allclose(scores.score, 100.0, atol=1e-9)

    def test_the_reference_itself_scores_one_hundred(self):
        entry = Runs(
            np.array([0]),
            np.array([math.log(40.0)]),
            np.array([5.0]),
            np.zeros(1),
            np.zeros((1, 0)),
        )
        reference = Runs(
            np.zeros(2, int),
            np.full(2, math.log(40.0)),
            np.array([0.0, 10.0]),
            np.zeros(2),
            np.zeros((2, 0)),
        )
        _, scores = score([Term("a", 1, 1, True)], [compare(entry, reference, 1, 0, KNOWN)])
        self.assertAlmostEqual(scores.score[0], 100.0, places=12)


class QuantityInvariants(unittest.TestCase):
    @given(st.floats(1, 100), st.floats(1, 100), st.floats(0.001, 0.5), st.floats(0.001, 0.5))
    def test_sum_and_difference_of_independent_causes_have_the_same_doubt(self, a, b, ua, ub):
        x, y = (
            measured(a, "", [(Influence("x", "x", "own", "B"), ua)]),
            measured(b, "", [(Influence("y", "y", "own", "B"), ub)]),
        )
        plus = derive("s", "x + y", lambda x, y: x + y, {"x": x, "y": y}, "")
        minus = derive("d", "x - y", lambda x, y: x - y, {"x": x, "y": y}, "")
        self.assertAlmostEqual(plus.u, minus.u, places=6)

    @given(st.floats(1, 100), st.floats(0.001, 0.5))
    def test_a_quantity_over_itself_is_exact(self, a, ua):
        x = measured(a, "", [(Influence("x", "x", "own", "B"), ua)])
        self.assertAlmostEqual(
            derive("r", "x / x", lambda p, q: p / q, {"p": x, "q": x}, "").u, 0.0, places=5
        )  # the step of the numerical derivative


class ProcedureInvariants(unittest.TestCase):
    METERS = {
        "air_speed": Meter("V", "V"),
        "speed": Meter("D", "D"),
        "voltage": Meter("U", "U"),
        "current": Meter("I", "I"),
    }

    def given_(self, readings, **more):
        rig = {"bore": (0.1252, 0.0), "profile_factor": (0.846, 0.0)}
        return RunInput("1", readings, self.METERS, rig, "r", 20.0, 1e5, 50.0, **more)

    @given(st.lists(st.floats(0.5, 20), min_size=1, max_size=8), st.randoms())
    def test_order_of_readings_is_irrelevant(self, speeds, random):
        other = speeds[:]
        random.shuffle(other)
        q = PROCEDURES["airflow"].reduce
        self.assertAlmostEqual(
            q(self.given_({"air_speed": speeds})).value,
            q(self.given_({"air_speed": other})).value,
            places=9,
        )

    @given(st.floats(0.5, 20), st.floats(1.1, 3))
    def test_flow_goes_with_speed_of_air_and_of_rotor(self, speed, factor):
        q = PROCEDURES["airflow"].reduce
        one = q(self.given_({"air_speed": [speed], "speed": [1000.0]}, common_speed=1000.0)).value
        self.assertAlmostEqual(
            q(
                self.given_({"air_speed": [factor * speed], "speed": [1000.0]}, common_speed=1000.0)
            ).value
            / one,
            factor,
            places=6,
        )
        self.assertAlmostEqual(
            q(
                self.given_(
                    {"air_speed": [factor * speed], "speed": [factor * 1000.0]}, common_speed=1000.0
                )
            ).value
            / one,
            1.0,
            places=6,
        )

    def test_air_power_never_exceeds_electrical_power_on_the_bench(self):
        """Efficiency below one: measured flow times measured pressure against measured power, on
        the virtual bench.
        """
        bench = Bench()
        meters = {
            key: Meter(key, key)
            for key in ("air_speed", "static_pressure", "voltage", "current", "speed")
        }
        for number in range(5):
            fan = Loft140.changed("x", flow=1 + 0.05 * number, pressure=1 + 0.04 * number)
            readings = {
                **bench.tunnel(fan, str(number), 1.0),
                **bench.chamber(fan, str(number), 1.0),
                **bench.supply(fan, str(number), 1.0),
            }
            run = RunInput(
                "1",
                readings,
                meters,
                {"bore": (0.1252, 0.0), "profile_factor": (0.846, 0.0)},
                "r",
                21.0,
                96_300.0,
                50.0,
            )
            flow, pressure, power = (
                PROCEDURES[key].reduce(run).value
                for key in ("airflow", "static_pressure", "electrical_power")
            )
            self.assertLess(flow * pressure, power)


class TraceInvariants(unittest.TestCase):
    @settings(max_examples=30, deadline=None)
    @given(st.integers(0, 1000), st.floats(-100, 100), st.floats(0.1, 50))
    def test_marks_do_not_depend_on_zero_or_unit(self, seed, offset, factor):
        values = np.random.default_rng(seed).standard_normal(300)
        values[100] += 30
        self.assertEqual(
            np.flatnonzero(spikes(values)).tolist(),
            np.flatnonzero(spikes(offset + factor * values)).tolist(),
        )

    @settings(max_examples=20, deadline=None)
    @given(st.integers(0, 1000), st.floats(-50, 50), st.floats(30, 200))
    def test_settling_moves_with_its_trace(self, seed, offset, tau):
        times = np.arange(0, 900, 2.0)
        values = (
            60
            - 40 * np.exp(-times / tau)
            + 0.05 * np.random.default_rng(seed).standard_normal(times.size)
        )
        one, other = (
            fit_settling(times, values, 0.3),
            fit_settling(times + 1000, values + offset, 0.3),
        )
        self.assertAlmostEqual(other.end - one.end, offset, delta=1e-3)
        self.assertAlmostEqual(other.tau, one.tau, delta=0.05)
        self.assertEqual(other.settled, one.settled)
