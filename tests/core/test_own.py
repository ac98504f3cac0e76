"""Figures of one's own: what a formula may say, its units, its figure by hand, and its doubt."""

import math
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.measure.meter import Meter
from hauch.core.measure.own import (
    FUNCTIONS,
    FormulaWrong,
    Own,
    checked,
    names_on,
    own_procedure,
    parsed,
    value_of,
)
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity.written import from_base, to_base

TUBE = {"bore": (0.1252, 0.0), "profile_factor": (0.846, 0.0)}


def run(readings, rig=None, **more):
    meters = {channel: Meter(channel, channel, accuracy=0.1) for channel in readings}
    return RunInput("7", readings, meters, rig or {}, "rig:1", 20.0, 101_325.0, 50.0, **more)


def figure(rig, formula, unit, readings, constants=None, *, log=True):
    own = Own(rig, formula, unit, 1, log)
    checked(own)
    return own_procedure(own, "Mine").reduce(run(readings, constants))


class FormulaTests(unittest.TestCase):
    def refused(self, formula, unit, sentence, rig="tunnel", log=True):
        with self.assertRaisesRegex(FormulaWrong, sentence):
            checked(Own(rig, formula, unit, 1, log))

    def test_what_cannot_be_read(self):
        for formula, sentence in (
            ("", "Write a formula"),
            ("power +", "cannot be read"),
            ("(" * 60 + "power", "cannot be read"),
            ("-" * 60 + "power", "nested too deeply"),
            ("+".join(["power"] * 60), "at most 200 characters"),
            ("+".join(["power"] * 30), "nested too deeply"),
            ("power power", "cannot be read"),
            ("0,5 * power", "with a point"),
            ("power ** 2", r"with \^"),
            ("power ^ power", "plain number"),
            ("power ^ 99", "hardly meant"),
            ("power ^ -(2)", "comes out in"),
            ("9e999 * power", "too large"),
            ("2j * power", "Only numbers"),
            ("True * power", "Only numbers"),
            ("round(power)", "no function"),
            ("sqrt(power, power)", "takes 1 value"),
            ("sqrt(*power)", "Only names"),
            ("power.real", "Only names"),
            ("__import__('os')", "cannot stand"),
            ("power if power else power", "Only names"),
            ("[power]", "cannot stand"),
            ("power, voltage", "Only names"),
            ("torque * 2", "not read on a tunnel"),
            ("2 * pi", "names nothing"),
            ("bore * bore * density", "names nothing"),
        ):
            self.refused(formula, "W", sentence)

    def test_units_that_do_not_go_together(self):
        for rig, formula, unit, sentence in (
            ("tunnel", "power + air_speed", "W", "W and m/s cannot be added"),
            ("tunnel", "max(power, voltage)", "W", "cannot be added"),
            ("tunnel", "air_speed", "m/s²", "comes out in m/s"),
            ("tunnel", "airflow / power", "W", "is something else"),
            ("tunnel", "power", "", "a figure without unit"),
            ("tunnel", "power", "Wat", "something else"),
            ("tunnel", "log10(power)", "", "plain number"),
            ("tunnel", "power / (2 - 2)", "W", "divides by 0"),
            ("tunnel", "power", "W!", "cannot be a unit"),
            ("tunnel", "power", "W//h", "cannot be a unit"),
            ("tunnel", "power", "kilogrammetersquaredpersecond", "at most 16"),
            ("hot_block", "load_temperature - room_temperature", "°C", "given in K"),
        ):
            self.refused(formula, unit, sentence, rig)
        self.refused("load_temperature", "°C", "as a difference", "hot_block")
        checked(Own("hot_block", "load_temperature", "°C", -1, False))

    def test_ways_of_writing_one_thing(self):
        for unit in ("m³/h/W", "m3/h/W", "m^3/h/W", "m³/h per W", "m³ h^-1 W^-1"):
            with self.subTest(unit=unit):
                checked(Own("tunnel", "airflow ÷ power", unit, 1, True))
        for formula in (
            "density × air_speed² / 2",
            "density*air_speed^2/2",
            "0.5 · density · air_speed^2",
        ):
            with self.subTest(formula=formula):
                checked(Own("tunnel", formula, "Pa", 1, True))

    @settings(max_examples=300)
    @given(
        st.text(alphabet="aepowr_()+-*/^., 0123456789√²πxsq[]'\"{}:=\n\x00", max_size=60),
        st.text(max_size=20),
    )
    def test_whatever_is_typed_is_a_formula_or_a_sentence(self, formula, unit):
        try:
            checked(Own("tunnel", formula, unit, 1, True))
        except FormulaWrong as problem:
            self.assertTrue(str(problem).strip())

    @settings(max_examples=100)
    @given(st.floats(0.1, 50), st.floats(0.1, 50), st.integers(-3, 3))
    def test_a_tree_comes_to_what_arithmetic_does(self, a, b, power):
        tree = parsed(f"-a + 2*a^{power} / b - sqrt(b)*max(a, b) + abs(-b)")
        want = -a + 2 * a**power / b - math.sqrt(b) * max(a, b) + b
        got = value_of(tree, {"a": a, "b": b}, FUNCTIONS)
        self.assertAlmostEqual(got, want, delta=1e-9 * (1 + abs(want)))


class FigureTests(unittest.TestCase):
    def test_by_hand(self):
        """100 W from 10 V and 10 A; 0.01 m3/s is 36 m3/h; 2 N m at 300 1/min is 62.8 W."""
        self.assertAlmostEqual(
            figure(
                "tunnel", "voltage * current", "kW", {"voltage": [10.0], "current": [10.0]}
            ).value,
            0.1,
        )
        self.assertAlmostEqual(
            figure(
                "drive", "2 * pi * torque * speed", "W", {"torque": [2.0], "speed": [300.0]}
            ).value,
            20 * math.pi,
        )
        self.assertAlmostEqual(
            figure(
                "tunnel", "air_speed * pi * bore^2 / 4", "m³/h", {"air_speed": [1.0]}, TUBE
            ).value,
            3600 * math.pi * 0.1252**2 / 4,
        )
        self.assertAlmostEqual(
            figure(
                "hot_block",
                "(load_temperature - room_temperature) / power",
                "K/W",
                {"load_temperature": [62.0], "room_temperature": [20.0], "power": [21.0]},
            ).value,
            2.0,
        )
        self.assertAlmostEqual(
            figure(
                "hot_block", "load_temperature", "°F", {"load_temperature": [100.0]}, log=False
            ).value,
            212.0,
        )

    def test_another_figure_of_the_rig_comes_with_its_conversions_and_doubt(self):
        readings = {"air_speed": [4.0, 4.1, 3.9], "power": [6.0, 6.1]}
        constants = {**TUBE, "profile_factor": (0.846, 0.02)}
        mine = figure("tunnel", "airflow / power", "m³/h/W", readings, constants)
        flow = PROCEDURES["airflow"].reduce(run(readings, constants))
        self.assertAlmostEqual(mine.value, flow.value * 3600 / 6.05, delta=1e-9)
        share = math.hypot(flow.u / flow.value, run(readings).mean("power").u / 6.05)
        self.assertAlmostEqual(mine.u / mine.value, share, delta=1e-4 * share)
        self.assertIn("rig:rig:1:profile_factor", {cause.key for cause in mine.parts})
        self.assertEqual([s.name for s in mine.working][-1], "Mine")

    def test_one_name_alone_is_the_channel_s_own_mean(self):
        readings = {"voltage": [11.9, 12.1, 12.0]}
        mine, mean = figure("power", "voltage", "V", readings), run(readings).mean("voltage")
        self.assertAlmostEqual(mine.value, mean.value)
        self.assertAlmostEqual(mine.u, mean.u)
        self.assertAlmostEqual(mine.dof, mean.dof)

    def test_readings_without_a_unit_are_taken_as_stated(self):
        lux = figure("other", "reading", "lx", {"reading": [450.0]})
        self.assertEqual((lux.value, lux.unit), (450.0, "lx"))
        self.assertIn("as stated", lux.working[-1].note)
        kilo = figure("other", "reading / reading_2", "kPa", {"reading": [9.0], "reading_2": [3.0]})
        self.assertEqual(kilo.value, 3.0)

    def test_what_gives_nothing(self):
        for formula, readings, sentence in (
            ("voltage / current", {"voltage": [1.0], "current": [0.0]}, "divided by 0"),
            ("sqrt(voltage - 2 * voltage)", {"voltage": [4.0]}, "root or logarithm"),
            ("voltage - 2 * voltage", {"voltage": [4.0]}, "cannot be compared as a share"),
            ("voltage", {"current": [4.0]}, "was not read"),
        ):
            own = Own("power", formula, "V" if formula != "voltage / current" else "Ω", 1, True)
            if formula.startswith("sqrt"):
                own = Own("power", "sqrt((voltage - 2 * voltage) * voltage)", "V", 1, True)
            checked(own)
            with self.subTest(formula=formula), self.assertRaisesRegex(NoResult, sentence):
                own_procedure(own, "Mine").reduce(run(readings))
        wrong = own_procedure(Own("power", "volts", "V", 1, True), "Mine")
        with self.assertRaisesRegex(NoResult, "not read on a power supply"):
            wrong.reduce(run({"voltage": [1.0]}))

    def test_what_feeds_it(self):
        how = own_procedure(Own("tunnel", "airflow / power", "m³/h/W", 1, True), "Air per watt")
        self.assertEqual(
            {frozenset(group) for group in how.needs},
            {frozenset(("air_speed", "power")), frozenset(("pitot_pressure", "power"))},
        )
        self.assertEqual(
            (how.metric, how.change_unit, how.kind), ("air per watt", "%", "own:m³/h/W")
        )
        self.assertIn("static_pressure", how.optional)

    def test_the_same_figure_has_the_same_key_whatever_it_is_called(self):
        one, same = (Own("tunnel", "airflow / power", "m³/h/W", 1, True) for _ in range(2))
        self.assertEqual(one.key, same.key)
        self.assertEqual(one, Own.from_json(one.as_json()))
        self.assertNotEqual(one.key, Own("tunnel", "airflow / power", "m³/h/W", -1, True).key)
        self.assertLessEqual(len(one.key), 30)

    def test_every_name_of_every_rig_makes_a_formula(self):
        """What is read alone, what is known beside a channel that cancels; each in its own unit."""
        count = 0
        for rig, kind in RIGS.items():
            for name in names_on(rig).values():
                unit = {"degC": "°C", "m/s r.m.s.": "m/s"}.get(name.unit, name.unit)
                read = kind.channels[0]
                known = name.needs == ((),)
                formula = f"{name.key} * {read} / {read}" if known else name.key
                with self.subTest(rig=rig, name=name.key):
                    checked(Own(rig, formula, unit, 1, False))
                    count += 1
        self.assertGreater(count, 150)

    def test_units_there_and_back(self):
        for unit in ("m³/h/W", "°C", "°F", "cfm", "inH2O", "dB", "%", "N mm", "1/min", "€/kg", ""):
            with self.subTest(unit=unit):
                self.assertAlmostEqual(from_base(to_base(12.5, unit), unit), 12.5, delta=1e-9)
