"""Quantities: doubt, working, units, how they are written."""

import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from hauch.core.quantity import (
    Influence,
    Quantity,
    coverage_factor,
    derive,
    exact,
    measured,
    significant,
)
from hauch.core.quantity.show import show, show_plain
from hauch.core.quantity.typed import parse_number, split_unit, typed_figure
from hauch.core.quantity.units import (
    CHOICES,
    KINDS,
    UnitUnknown,
    factor_from_si,
    from_si,
    system_of,
    to_si,
)


def own(key, dof=math.inf):
    return Influence(key, key, "own", "A", dof)


class TypedTests(unittest.TestCase):
    """Figures as people type them."""

    def test_a_unit_that_is_typed_goes_before_the_one_beside_the_field(self):
        for text, kind, unit, value in (
            ("3.2 m/s", "air_speed", "km/h", 3.2),
            ("3,6", "air_speed", "km/h", 1.0),
            ("12,4 g", "mass", "kg", 0.0124),
            ("1500 1/min", "rotational_speed", "1/min", 1500.0),
            ("−5 Pa", "pressure", "mmH2O", -5.0),
            ("2.5 inH2O", "pressure", "Pa", 622.72),
            ("45dB", "level", "dB(A)", 45.0),
            ("68 °F", "temperature", "°C", 20.0),
            ("1e-3 m", "length", "mm", 0.001),
        ):
            with self.subTest(text):
                found, _, _ = typed_figure(text, kind, unit)
                self.assertAlmostEqual(found, value, delta=1e-4 * max(1, abs(value)))

    def test_the_number_and_the_unit_are_kept_as_they_were_typed(self):
        self.assertEqual(typed_figure("3,2 km/h", "air_speed", "m/s")[1:], ("3,2", "km/h"))
        self.assertEqual(split_unit("7"), ("7", ""))

    def test_a_difference_has_no_offset(self):
        self.assertAlmostEqual(typed_figure("9 °F", "temperature", "°C", difference=True)[0], 5.0)

    def test_what_cannot_be_read_is_told(self):
        for text, words in (
            ("3 kg", "The unit “kg” is not known for air speed"),
            ("abc", "“abc” is not a number"),
            ("1.234,5", "is not a number"),
            ("", "is not a number"),
            ("3 2", "is not a number"),
        ):
            with self.subTest(text), self.assertRaisesRegex(ValueError, words):
                typed_figure(text, "air_speed", "m/s")


class SystemTests(unittest.TestCase):
    """Units by quantity."""

    def test_own_units_stand_beside_the_presets(self):
        system = system_of("workshop", {"air_speed": "m/s", "torque": "N mm"})
        self.assertEqual(KINDS["air_speed"].shown[system], "m/s")
        self.assertEqual(KINDS["volume_flow"].shown[system], "m³/h")
        self.assertEqual(str(show(0.0012, "torque", system)), "1.2 N mm")
        self.assertEqual(str(show(3.25, "air_speed", system, 0.2)), "3.25 ± 0.20 m/s")

    def test_every_choice_is_a_unit_of_its_kind(self):
        for kind, units in CHOICES.items():
            for unit in units:
                with self.subTest(kind=kind, unit=unit):
                    self.assertAlmostEqual(from_si(to_si(7.0, unit, kind), unit, kind), 7.0)
            shown = set(KINDS[kind].shown.values())
            self.assertLessEqual(shown, set(units), f"a preset of {kind} cannot be chosen")

    def test_what_is_no_choice_is_left_out(self):
        self.assertEqual(system_of("si", {"air_speed": "knots", "level": "dB"}), "si")
        with self.assertRaises(KeyError):
            KINDS["length"].shown["furlongs"]


class CoverageTests(unittest.TestCase):
    def test_table_g2_of_the_gum(self):
        """JCGM 100:2008, table G.2, column 95 %."""
        for dof, factor in ((1, 12.71), (2, 4.30), (5, 2.57), (10, 2.23), (20, 2.09), (50, 2.01)):
            with self.subTest(dof=dof):
                self.assertAlmostEqual(coverage_factor(dof), factor, delta=0.005)

    def test_many_degrees_of_freedom_are_normal(self):
        self.assertAlmostEqual(coverage_factor(math.inf), 1.960, delta=0.0005)

    def test_impossible_input_names_itself(self):
        with self.assertRaisesRegex(ValueError, "degrees of freedom must be above 0, got 0"):
            coverage_factor(0)
        with self.assertRaisesRegex(ValueError, "level must be between 0 and 1, got 1.5"):
            coverage_factor(5, 1.5)


class QuantityTests(unittest.TestCase):
    def test_end_gauge_of_the_gum(self):
        """JCGM 100:2008, H.1: contributions 25, 9.7, 2.9, 16.6 nm with 18, 25.6, 50, 2 degrees of
        freedom -> 32 nm, 16.
        """
        parts = {
            own("standard", 18): 25.0,
            own("comparator", 25.6): 9.7,
            own("expansion", 50): 2.9,
            own("temperature", 2): 16.6,
        }
        gauge = Quantity(50.000838e6, "nm", parts)
        self.assertAlmostEqual(gauge.u, 32, delta=0.5)
        self.assertEqual(math.floor(gauge.dof), 16)
        self.assertAlmostEqual(
            gauge.expanded, 67, delta=1
        )  # GUM takes k = 2.12 from its table: 2.12 * 32

    def test_common_cause_cancels_in_a_difference_and_stays_in_a_sum(self):
        common = Influence("meter", "meter", "common", "B")
        a, b = measured(10.0, "Pa", [(common, 0.5)]), measured(9.0, "Pa", [(common, 0.5)])
        difference = derive("d", "a - b", lambda a, b: a - b, {"a": a, "b": b}, "Pa")
        total = derive("s", "a + b", lambda a, b: a + b, {"a": a, "b": b}, "Pa")
        self.assertAlmostEqual(difference.u, 0.0, places=9)
        self.assertAlmostEqual(total.u, 1.0, places=9)

    def test_own_causes_add_in_squares(self):
        a, b = measured(3.0, "m", [(own("a"), 0.3)]), measured(4.0, "m", [(own("b"), 0.4)])
        self.assertAlmostEqual(
            derive("s", "a + b", lambda a, b: a + b, {"a": a, "b": b}, "m").u, 0.5, places=9
        )

    def test_product_has_relative_doubts_in_squares(self):
        """JCGM 100:2008, 5.1.6."""
        a, b = measured(10.0, "V", [(own("a"), 0.1)]), measured(2.0, "A", [(own("b"), 0.04)])
        power = derive("P", "U I", lambda a, b: a * b, {"a": a, "b": b}, "W")
        self.assertAlmostEqual(power.u / power.value, math.hypot(0.01, 0.02), places=8)

    def test_a_doubt_of_rounding_errors_alone_is_carried(self):
        """Partial derivative of x^2 at 3 is 6, however small the doubt."""
        for u in (1e-9, 1e-16, 1e-100):
            q = derive(
                "square", "x2", lambda x: x * x, {"x": measured(3.0, "", [(own("x"), u)])}, ""
            )
            self.assertAlmostEqual(q.u, 6 * u, delta=1e-5 * u)
        nothing = derive(
            "square", "x2", lambda x: x * x, {"x": measured(0.0, "", [(own("x"), 5e-324)])}, ""
        )
        self.assertEqual(nothing.u, 0.0)

    def test_working_lists_each_step_once(self):
        a = measured(2.0, "m", [(own("a"), 0.1)])
        twice = derive("twice", "2 a", lambda a: 2 * a, {"a": a}, "m", "by hand")
        both = derive("both", "x + y", lambda x, y: x + y, {"x": twice, "y": twice}, "m")
        self.assertEqual([step.name for step in both.working], ["twice", "both"])
        self.assertEqual(both.working[0].inputs, (("a", 2.0, "m"),))

    def test_as_json_keeps_value_and_parts(self):
        plain = measured(1.23, "Pa", [(own("a", 4), 0.1)]).as_json()
        self.assertEqual((plain["value"], plain["u"], plain["dof"]), (1.23, 0.1, 4.0))
        self.assertEqual(plain["parts"], [["a", "a", "own", "A", 4, 0.1]])

    def test_exact_quantity_has_no_doubt(self):
        self.assertEqual((exact(1900.0, "1/min").u, exact(1900.0, "1/min").dof), (0.0, math.inf))

    @given(st.floats(0.5, 100), st.floats(0.001, 0.1), st.floats(-3, 3))
    def test_power_law_carries_relative_doubt(self, value, relative, exponent):
        q = derive(
            "p",
            "x^k",
            lambda x: x**exponent,
            {"x": measured(value, "", [(own("x"), relative * value)])},
            "",
        )
        self.assertAlmostEqual(q.u / abs(q.value), abs(exponent) * relative, delta=1e-5)

    def test_significant_digits(self):
        self.assertEqual(significant(1234.56789, 3), 1230.0)
        self.assertEqual(significant(0.0), 0.0)
        self.assertTrue(math.isnan(significant(math.nan)))


class UnitTests(unittest.TestCase):
    def test_published_factors(self):
        """NIST Special Publication 811 (2008), appendix B.8; conventional water columns."""
        for written, kind, si in (
            ("mmH2O", "pressure", 9.80665),
            ("inH2O", "pressure", 249.08891),
            ("ft/min", "air_speed", 5.08e-3),
            ("km/h", "air_speed", 1 / 3.6),
            ("cfm", "volume_flow", 4.719474e-4),
            ("inHg", "air_pressure", 3.386389e3),
            ("hPa", "air_pressure", 100.0),
            ("psi", "pressure", 6.894757e3),
            ("Hz", "rotational_speed", 60.0),
            ("mA", "current", 1e-3),
        ):
            with self.subTest(written):
                self.assertAlmostEqual(to_si(1.0, written, kind) / si, 1.0, delta=5e-7)

    def test_temperatures(self):
        self.assertAlmostEqual(to_si(32.0, "degF", "temperature"), 0.0, places=9)
        self.assertAlmostEqual(to_si(212.0, "°F", "temperature"), 100.0, places=9)
        self.assertAlmostEqual(to_si(18.0, "Δ°F", "temperature_difference"), 10.0, places=9)
        self.assertAlmostEqual(factor_from_si("°F", "temperature"), 1.8, places=9)

    def test_unknown_unit_says_what_is_known(self):
        with self.assertRaisesRegex(UnitUnknown, "“furlong” is not known for air speed.*ft/min"):
            to_si(1.0, "furlong", "air_speed")

    def test_unit_of_another_kind_is_refused(self):
        with self.assertRaises(UnitUnknown):
            to_si(1.0, "Pa", "air_speed")

    @given(
        st.sampled_from(
            [(k.key, unit) for k in KINDS.values() for unit in {*k.shown.values(), k.unit}]
        ),
        st.floats(-1e5, 1e5),
    )
    def test_round_trip(self, kind_and_unit, value):
        kind, unit = kind_and_unit
        self.assertAlmostEqual(
            to_si(from_si(value, unit, kind), unit, kind), value, delta=1e-9 * max(1, abs(value))
        )


class ShowTests(unittest.TestCase):
    def test_digits_follow_the_doubt(self):
        """JCGM 100:2008, 7.2.6: doubt with one or two digits, the value to the same place."""
        self.assertEqual(str(show(0.17, "volume_flow", "workshop", 0.0025)), "612 ± 9 m³/h")
        self.assertEqual(str(show(16.06, "pressure", "si", 0.123)), "16.06 ± 0.12 Pa")
        self.assertEqual(str(show(161000.0, "pressure", "si", 1300.0)), "161,000 ± 1,300 Pa")

    def test_units_follow_the_person(self):
        self.assertEqual(str(show(5.08, "air_speed", "inch", 0.0508)), "1,000 ± 10 ft/min")
        self.assertEqual(str(show(9.80665, "pressure", "workshop")), "1 mmH2O")
        self.assertEqual(str(show(10.0, "temperature_difference", "inch", 0.5)), "18.0 ± 0.9 Δ°F")

    def test_missing_is_a_dash_and_no_zero(self):
        self.assertEqual(str(show(None, "power", "si")), "– W")
        self.assertEqual(str(show(math.nan, "power", "si")), "– W")

    def test_signs(self):
        self.assertEqual(str(show_plain(-3.14159, "%", 0.5, sign=True)), "−3.1 ± 0.5 %")
        self.assertEqual(str(show_plain(3.14159, "%", 0.5, sign=True)), "+3.1 ± 0.5 %")
        self.assertEqual(str(show_plain(-0.001, "%", 0.5)), "0.0 ± 0.5 %")


class TypedNumberTests(unittest.TestCase):
    def test_what_no_figure_can_be_is_no_number(self):
        self.assertEqual(parse_number(" −3,5e2 "), -350.0)
        for text in ("", "x", "nan", "inf", "-inf", "1e999", "−Infinity", "1,2,3"):
            with self.subTest(text), self.assertRaisesRegex(ValueError, "is not a number"):
                parse_number(text)
