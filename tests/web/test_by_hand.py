"""A run by hand: what a round holds equal is read beside, and where a soak is heading is told."""

import math
from uuid import uuid4

from django.test import TestCase
from django.urls import reverse

from hauch.bench.models import Run
from hauch.bench.views_soak import LONGEST, MOST_POINTS
from hauch.core.trace.settle import LEAST_POINTS
from hauch.entries.actions import add_version
from hauch.rounds.conditions import differences
from hauch.rounds.models import Round, Setting, Test
from hauch.stores.models import Instrument, Rig, RigMeter
from tests.builder import build


class ByHandCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "power", "rise"))

    def sign_in(self, who="operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def at(self, test="air", name="Amsel"):
        return (
            reverse("bench:capture", args=[self.built.round.slug, self.built.tests[test].pk])
            + f"?subject=s{self.built.specimens[name].pk}"
        )


class HeldTests(ByHandCase):
    def setUp(self):
        Round.objects.update(equal=Round.Equal.POWER, equal_value=4.8)
        self.sign_in()

    def send(self, test="air", **readings):
        units = {"air_speed": "m/s", "voltage": "V", "current": "A"}
        data = {"temperature": "21", "pressure": "965", "humidity": "48", "form_key": str(uuid4())}
        for key, value in readings.items():
            data |= {f"r-{key}": value, f"unit-{key}": units[key]}
        answer = self.client.post(self.at(test), data | {"show": "1"})
        self.assertEqual(answer.status_code, 302, answer.content[:2000])
        return Run.objects.latest("pk")

    def test_volts_and_amps_are_asked_for_and_power_where_it_is_read(self):
        page = self.client.get(self.at())
        self.assertContains(page, 'Voltage, V <span class="quiet">to hold</span>', html=False)
        self.assertContains(page, 'data-agreed="4.8"')
        meter = Instrument.objects.create(name="Wall meter", channel="power", resolution=0.1)
        RigMeter.objects.create(rig=self.built.tests["air"].rig, channel="power", instrument=meter)
        page = self.client.get(self.at())
        self.assertContains(page, 'Electrical power, W <span class="quiet">to hold</span>')
        self.assertNotContains(page, "Voltage, V")
        form = self.client.get(reverse("bench:form", args=[self.built.round.slug]))
        self.assertContains(form, "Electrical power")

    def test_what_was_not_held_is_told_with_what_it_does(self):
        """12 V at 0.44 A is 5.28 W, 10 % too much; the cube root makes 3.2 % more flow."""
        held = self.send(air_speed=["4.0", "4.1"], voltage="12.0", current="0.40")
        self.assertEqual(held.result.troubles, [])
        off = self.send(
            air_speed=["4.0", "4.1"], voltage=["12.0", "12.0"], current=["0.44", "0.44"]
        )
        text = " ".join(off.result.troubles)
        self.assertIn(
            "Power not held: 5.28 W, where the round compares at 4.8 W, 10 % too much", text
        )
        self.assertIn(f"{100 * (1.1 ** (1 / 3) - 1):+.1f} %", text)
        self.assertEqual(off.result.value, held.result.value)

    def test_the_heat_of_a_block_is_not_the_power_of_the_part(self):
        test = self.built.tests["rise"]
        heater = Instrument.objects.create(name="Heater", channel="power", resolution=0.1)
        rig = test.rig
        rig.kind = "hot_block"
        RigMeter.objects.create(rig=rig, channel="power", instrument=heater)
        self.assertNotContains(self.client.get(self.at("rise")), "to hold")

    def test_a_round_that_holds_nothing_equal_asks_for_nothing_more(self):
        Round.objects.update(equal=Round.Equal.THROTTLE, equal_value=None)
        self.assertNotContains(self.client.get(self.at()), "to hold")


class SoakTests(ByHandCase):
    def setUp(self):
        Test.objects.filter(key="rise").update(soak=Test.Soak.SETTLED, resolution=1.0)
        self.url = reverse("bench:soak", args=[self.built.round.slug, self.built.tests["rise"].pk])

    def ask(self, points, who="operator"):
        self.sign_in(who)
        return self.client.get(
            self.url, {"at": [at for at, _ in points], "value": [value for _, value in points]}
        )

    def warming(self, count, tau=240.0, end=62.0):
        return [
            (60 * n, f"{end - (end - 21) * math.exp(-60 * n / tau):.2f}")
            for n in range(1, count + 1)
        ]

    def test_from_a_few_points_to_settled(self):
        self.assertContains(self.ask(self.warming(3)), f"3 of {LEAST_POINTS} points")
        early = self.ask(self.warming(10))
        self.assertContains(early, "Heading for")
        self.assertContains(early, "min</b> to go")
        end = early.context["found"].end
        self.assertLess(abs(end - 62.0), early.context["half"])
        late = self.ask(self.warming(30))
        self.assertContains(late, "Settled")
        self.assertAlmostEqual(late.context["found"].end, 62.0, delta=0.5)

    def test_the_end_s_interval_holds_it(self):
        """40 soaks from 10 points each: at most two miss."""
        missed = 0
        for n in range(40):
            end = 40.0 + n
            answer = self.ask(self.warming(10, 60.0 * 1.07**n, end))
            missed += abs(answer.context["found"].end - end) > answer.context["half"]
        self.assertLessEqual(missed, 2)

    def test_what_cannot_be_a_point(self):
        good = self.warming(8)
        for points, words in (
            ([*good, ("x", "30")], "at no time of this soak"),
            ([*good, ("-1", "30")], "at no time of this soak"),
            ([*good, ("inf", "30")], "at no time of this soak"),
            ([*good, (LONGEST + 1, "30")], "at no time of this soak"),
            ([*good, (600, "warm")], "is not a number"),
            ([(n, "30") for n in range(MOST_POINTS + 1)], "At most"),
        ):
            with self.subTest(words):
                self.assertContains(self.ask(points), words)
        self.assertContains(self.ask([(60, "30")] * 9), "noted at once")
        still = self.ask([(60 * n, "30.00") for n in range(9)])
        self.assertContains(still, "Settled")
        self.assertGreater(still.context["half"], 0.0)
        for who, status in (("viewer", 403), ("stranger", 404)):
            self.assertEqual(self.ask(good, who).status_code, status)

    def test_the_page_offers_it_where_a_temperature_is_waited_for(self):
        self.sign_in()
        self.assertContains(self.client.get(self.at("rise")), "data-soak-url")
        self.assertNotContains(self.client.get(self.at("air")), "data-soak-url")


class OutletTests(ByHandCase):
    """A rig reads four outlets; one part has three."""

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        rig = Rig.objects.create(name="Row", kind="outlets", constants={"places": [4, 0.0]})
        rig.meters.create(channel="air_speed", instrument=cls.built.meters["air_speed"])
        Test.objects.filter(key="air").update(procedure="imbalance", rig=rig)
        cls.built.tests["air"].refresh_from_db()
        version = cls.built.specimens["Amsel"].version
        version.outlets = 3
        version.save()

    def run_of(self, name, speeds):
        self.sign_in()
        data = {"temperature": "21", "pressure": "965", "humidity": "48", "form_key": str(uuid4())}
        data |= {"r-air_speed": speeds, "unit-air_speed": "m/s", "show": "1"}
        self.client.post(self.at("air", name), data)
        return Run.objects.latest("pk")

    def test_each_part_is_read_at_the_outlets_that_it_has(self):
        self.sign_in()
        self.assertContains(self.client.get(self.at("air", "Amsel")), 'data-places="3"')
        self.assertContains(self.client.get(self.at("air", "Binse")), 'data-places="4"')
        three = self.run_of("Amsel", ["4.0", "5.0", "6.0", "4.0", "5.0", "6.0"])
        self.assertAlmostEqual(three.result.value, 40.0)
        self.assertEqual([r.position for r in three.readings.order_by("pk")], [1, 2, 3, 1, 2, 3])
        four = self.run_of("Binse", ["4.0", "5.0", "6.0"])
        self.assertIn("Nothing was read at place 4 of 4", four.result.missing)
        self.assertAlmostEqual(self.run_of("Binse", ["4", "5", "6", "5"]).result.value, 40.0)

    def test_the_number_is_among_the_papers_and_goes_on_to_the_next_version(self):
        version = self.built.specimens["Amsel"].version
        self.sign_in("designer")
        at = reverse("entries:edit", args=[self.built.round.slug, version.entry_id])
        page = self.client.get(at)
        self.assertEqual(page.context["form"]["outlets"].value(), 3)
        for typed, kept in (("5", 5), ("1", 5), ("61", 5), ("", None)):
            data = {"changed": "Fewer holes", "outlets": typed}
            with self.subTest(typed):
                self.client.post(at, data)
                version.refresh_from_db()
                self.assertEqual(version.outlets, kept)
        version.outlets = 6
        version.save()
        made = add_version(self.built.people["designer"], version.entry, "One more")
        self.assertEqual(made.outlets, 6)
        Test.objects.filter(key="air").update(rig=self.built.tests["power"].rig)
        self.sign_in("host")
        other = self.built.entries["Binse"].pk
        page = self.client.get(reverse("entries:edit", args=[self.built.round.slug, other]))
        self.assertNotIn("outlets", page.context["form"].fields)


class MachineTests(ByHandCase):
    """A machine on a brake breathes through the stock part and through a prototype."""

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        constants = {
            "gear": [1.0, 0.0],
            "band_low": [3000.0, 0.0],
            "band_high": [5000.0, 0.0],
            "pressure_exponent": [1.2, 0.0],
            "temperature_exponent": [0.6, 0.0],
        }
        rig = Rig.objects.create(name="Brake", kind="brake", constants=constants)
        for channel in ("torque", "speed"):
            meter = Instrument.objects.create(
                name=f"{channel} of the brake", channel=channel, resolution=0.01
            )
            rig.meters.create(channel=channel, instrument=meter)
        Test.objects.filter(key="air").update(procedure="power_delivered", rig=rig)
        cls.built.tests["air"].refresh_from_db()

    def pull(self, subject, torques):
        self.sign_in()
        data = {"temperature": "21", "pressure": "965", "humidity": "48", "form_key": str(uuid4())}
        data |= {"r-torque": torques, "unit-torque": "N m", "unit-speed": "1/min", "show": "1"}
        data["r-speed"] = [str(2000 + 1000 * n) for n in range(len(torques))]
        at = reverse("bench:capture", args=[self.built.round.slug, self.built.tests["air"].pk])
        self.client.post(f"{at}?subject={subject}", data)
        return Run.objects.latest("pk")

    def test_stock_against_prototype_at_each_speed(self):
        alone = self.pull(f"s{self.built.specimens['Amsel'].pk}", ["2.0", "2.1", "2.2", "2.1"])
        page = self.client.get(alone.get_absolute_url())
        self.assertEqual(
            (page.context["curve"]["gains"], page.context["curve"]["other"]), ([], None)
        )
        stock = self.pull(f"r{self.built.reference.pk}", ["2.0", "2.0", "2.0", "2.0"])
        self.assertIsNotNone(stock.result.value, stock.result.missing)
        self.assertIsNone(self.client.get(stock.get_absolute_url()).context["curve"]["other"])
        run = self.pull(f"s{self.built.specimens['Amsel'].pk}", ["2.0", "2.1", "2.2", "2.1"])
        page = self.client.get(run.get_absolute_url())
        self.assertEqual(
            [round(row["change"], 6) for row in page.context["curve"]["gains"]],
            [0.0, 5.0, 10.0, 5.0],
        )
        self.assertContains(page, "Point by point, against the reference")
        self.assertGreater(run.result.value, stock.result.value)
        self.assertContains(page, "power delivered")


class ConditionTests(ByHandCase):
    def test_what_is_set_is_kept_as_fields_and_told_where_it_differs(self):
        self.sign_in()
        at = reverse("bench:add_setting", args=[self.built.round.slug, self.built.tests["air"].pk])
        answer = self.client.post(at, {"label": " Lid = off,  gasket: yes "})
        self.assertIn("setting=", answer["Location"])
        off = Setting.objects.get(label="Lid off, gasket yes")
        self.assertEqual(off.values, {"Lid": "off", "gasket": "yes"})
        self.client.post(at, {"label": "lid=off; gasket=yes"})
        self.client.post(at, {"label": "on its head"})
        self.assertEqual(Setting.objects.get(label="on its head").values, {})
        for typed, words in (
            ("", "Say what is set"),
            ("lid = ", "has no value"),
            ("lid = off, gasket", "“gasket” has no value"),
            ("lid = off, LID = on", "is set twice"),
            (",".join(f"a{n}={n}" for n in range(9)), "At most 8"),
        ):
            with self.subTest(words):
                self.assertContains(self.client.post(at, {"label": typed}, follow=True), words)
        self.assertEqual(Setting.objects.count(), 3)
        on = Setting(label="Lid on, gasket yes", values={"lid": "on", "gasket": "Yes"})
        plain = Setting(values={"throttle": "100 %"})
        self.assertEqual(
            differences(on, Setting(values={"lid": "off", "gasket": "yes"}), plain),
            ["lid: on there, off here"],
        )
        self.assertEqual(
            differences(Setting(values={}), off, plain),
            ["Lid: as agreed there, off here", "gasket: as agreed there, yes here"],
        )

    def test_a_run_is_held_against_the_other_condition_by_name(self):
        amsel = self.built.specimens["Amsel"]
        lid = Setting.objects.create(round=self.built.round, label="lid off", values={"lid": "off"})
        self.built.air(amsel, 0, (4.0, 4.0))
        self.built.air(amsel, 5, (4.2, 4.2), setting=lid)
        run = self.built.air(amsel, 10, (4.0, 4.0))
        self.sign_in()
        page = self.client.get(run.get_absolute_url())
        self.assertContains(page, "“lid off” (lid: off there, as agreed here)")
