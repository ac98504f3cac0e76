"""The guided set-up: what it makes for every kind of part and everything that can be asked of it, and
that nothing which can hurt reaches a bench without the gate.
"""

from datetime import timedelta

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import SimpleTestCase, TestCase
from django.utils import timezone

from hauch.bench.models import Run
from hauch.bench.plan import plan_of, why_nothing_due
from hauch.bench.runs import NewRun, Room, Subject, Typed, record_run
from hauch.core.geometry.envelope import Envelope
from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.procedures import PROCEDURES, fed_by
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.shelf import SAME_AS, SHELF, fitting
from hauch.core.measure.wants import USUAL, WANTS, wants_for
from hauch.core.part.cautions import cautions
from hauch.entries.actions import add_entry, add_version
from hauch.people.models import AuditEntry, User
from hauch.rounds.actions import save_brief
from hauch.rounds.checks import problems_of
from hauch.rounds.models import Round
from hauch.setup import actions
from hauch.setup.answers import DECIDE, Answers, envelope_around
from hauch.setup.models import SetUp
from hauch.stores.models import Instrument, Rig
from hauch.workshop.actions import add_specimen, set_state
from hauch.workshop.models import Specimen
from tests.builder import PASSWORD

ROOM = Room(21.0, 96_500.0, 48.0)
BRAKED = [2500.0, 3500.0, 4500.0, 6500.0]
"""Speeds at which a machine is braked."""
READ = {
    "air_speed": [3.6, 3.9, 4.1, 4.2],
    "pitot_pressure": [9.0, 9.2, 9.1, 9.1],
    "static_pressure": [31.0, 31.5, 31.2, 31.3],
    "orifice_pressure": [210.0, 340.0, 480.0, 640.0],
    "test_depression": [900.0, 1480.0, 2100.0, 2800.0],
    "sound_level": [48.0, 48.2, 51.0, 53.5],
    "background_level": [31.0, 31.2, 31.1, 31.0],
    "power": [4.0, 5.2, 6.8, 8.4],
    "voltage": [9.0, 10.0, 11.0, 12.0],
    "current": [0.45, 0.52, 0.62, 0.70],
    "load_temperature": [48.0, 48.1, 48.0, 48.0],
    "room_temperature": [21.0, 21.0, 21.0, 21.0],
    "scale_mass": [0.044, 0.045, 0.044, 0.045],
    "fill_time": [3.2, 3.3, 3.25, 3.2],
    "torque": [0.031, 0.032, 0.031, 0.031],
    "tare_torque": [0.004, 0.004, 0.004, 0.004],
    "speed": [1500.0, 1502.0, 1501.0, 1500.0],
    "gap": [0.0012, 0.0013, 0.0012, 0.0012],
    "vibration": [0.0011, 0.0012, 0.0011, 0.0011],
    "print_time": [7200.0],
    "cost": [2.4],
    "panel_points": [6.0, 7.0, 6.0, 8.0],
}
"""Readings that can be true of any part: for a curve each is one point."""


def answered(part: str, wants: list[str], **more) -> Answers:
    """Answers as a newcomer gives them: the first meter of each list, usual sizes."""
    said = Answers(part, list(wants), diameter=0.12 if PART_KINDS[part].spins else None, **more)
    said.meters = {c: f"shelf:{fitting(c)[0].key}" for c in said.channels}
    if said.equal == "power":
        said.equal_value = 6.0
    if said.equal == "noise":
        said.equal_value = 50.0
    said.done = list(said.steps)
    return said


class ShelfTests(SimpleTestCase):
    def test_every_way_can_be_read_with_what_is_on_the_shelf(self):
        for want in WANTS.values():
            for way in want.ways:
                with self.subTest(want=want.key, way=way.key):
                    self.assertTrue(fed_by(way.how, set(way.channels)))
                    self.assertLessEqual(set(way.channels), set(RIGS[way.how.rig].channels))
                    for channel in way.channels:
                        self.assertTrue(fitting(channel), channel)

    def test_meters_of_the_shelf_are_such_as_can_be(self):
        for meter in SHELF.values():
            with self.subTest(meter=meter.key):
                channel = CHANNELS[meter.channel]
                self.assertGreater(meter.resolution, 0)
                self.assertLess(meter.accuracy_share, 0.2)
                if meter.low is not None and meter.high is not None:
                    self.assertLess(meter.low, meter.high)
                    self.assertLessEqual(channel.low, meter.low)
                    self.assertLessEqual(meter.high, channel.high * 1.0001)

    def test_every_kind_of_part_has_something_usual_to_ask(self):
        self.assertEqual(set(USUAL), set(PART_KINDS))
        for part, usual in USUAL.items():
            with self.subTest(part=part):
                offered = [want.key for want in wants_for(part)]
                self.assertEqual(tuple(offered[: len(usual)]), usual)

    def test_what_every_rig_must_know_has_a_usual_figure_with_a_doubt(self):
        for rig in RIGS.values():
            for c in rig.constants:
                if c.needed:
                    with self.subTest(rig=rig.key, constant=c.key):
                        self.assertTrue(c.low <= c.typical <= c.high)
                        self.assertTrue(c.whole or c.doubt > 0)

    def test_the_envelope_around_a_diameter_can_be_at_every_size(self):
        for part in (kind.key for kind in PART_KINDS.values() if kind.spins):
            for diameter in (0.02, 0.04, 0.12, 0.5, 2.0):
                with self.subTest(part=part, diameter=diameter):
                    envelope = Envelope.from_json(part, envelope_around(part, diameter))
                    self.assertEqual(envelope.problems(), {})
                    self.assertAlmostEqual(2 * envelope.swept_radius, diameter)


class SetUpTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.host = User.objects.create_user("host", password=PASSWORD, is_staff=True)
        cls.guest = User.objects.create_user("guest", password=PASSWORD)

    def made(self, part, wants, names=("Amsel", "Binse"), decide="together", **more) -> Round:
        set_up = actions.begin(self.host, part)
        actions.keep(set_up, answered(part, wants, **more), "parts")
        parts = actions.Parts("", "Stock part", names, 2, decide, wants[0])
        return actions.make(self.host, set_up, parts)

    def run_of(self, test, subject) -> Run:
        channels = {m.channel for m in test.rig.meters.all()}
        read = READ | ({"speed": BRAKED} if test.how.rig == "brake" else {})
        readings = {
            c: [
                Typed(
                    v,
                    str(v),
                    CHANNELS[c].unit,
                    n + 1 if test.how.places or test.how.by_point else 0,
                )
                for n, v in enumerate(read[c] * 3 if test.how.places else read[c])
            ]
            for c in channels
        }
        moment = timezone.now() - timedelta(minutes=5)
        return record_run(self.host, NewRun(test, subject, ROOM, moment, readings))

    def test_whatever_is_asked_of_whatever_part_can_be_measured_from_nothing(self):
        asked = [(part, list(usual)) for part, usual in USUAL.items()]
        for n, want in enumerate(WANTS.values()):  # each want of one part, another one each time
            parts = sorted(want.parts or PART_KINDS)
            asked.append((parts[n % len(parts)], [want.key]))
        for part, wants in asked:
            with self.subTest(part=part, wants=wants):
                round = self.made(part, wants, names=["Amsel"])
                self.assertEqual(round.state, Round.State.BENCH)
                self.assertEqual(problems_of(round), [])
                for test in round.tests.all():
                    reference = test.references.get().specimen
                    subjects = [Subject(reference=reference)]
                    if round.straight_to_the_bench:
                        print = Specimen.objects.get(version__entry__round=round)
                        subjects.append(Subject(specimen=print))
                    for subject in subjects:
                        self.assertEqual(self.run_of(test, subject).result.missing, "")

    def test_what_is_usual_can_be_judged_in_every_way(self):
        for decide in DECIDE:
            for part in ("rotor", "silencer", "ring"):
                with self.subTest(part=part, decide=decide):
                    round = self.made(part, list(USUAL[part]), decide=decide)
                    self.assertEqual(problems_of(round), [])
                    self.assertEqual(round.tests.count(), len(USUAL[part]))

    def test_the_bench_says_that_the_reference_comes_first(self):
        plan = plan_of(self.made("duct", ["air", "noise"]))
        self.assertEqual([due.name for due in plan.due][:3], ["Stock part 1", "Amsel", "Binse"])
        self.assertEqual(plan.total, 8)

    def test_every_print_has_a_code_and_a_part_that_hurts_nobody_is_ready(self):
        round = self.made("duct", ["air"])
        found = Specimen.objects.filter(version__entry__round=round)
        self.assertEqual([(s.code, s.state) for s in found], [("A1", "ready"), ("B1", "ready")])
        entry = round.entries.get(name="Amsel")
        add_version(self.host, entry, "A wider mouth")
        self.assertEqual(
            [s.code for s in Specimen.objects.filter(version__entry=entry)], ["A1", "A2"]
        )
        late = add_entry(self.host, round, "Kiebitz")
        self.assertEqual(Specimen.objects.get(version__entry=late).code, "C1")
        self.assertEqual(add_specimen(self.host, late.versions.get()).code, "C2")

    def test_what_spins_or_holds_compressed_air_keeps_the_gate(self):
        for part in (kind.key for kind in PART_KINDS.values() if kind.needs_gate):
            with self.subTest(part=part):
                round = self.made(part, list(USUAL[part]))
                specimen = Specimen.objects.filter(version__entry__round=round).first()
                self.assertEqual(specimen.state, Specimen.State.PRINTED)
                with self.assertRaisesMessage(ValidationError, "has not passed the safety gate"):
                    set_state(self.host, specimen, Specimen.State.READY)
                test = round.tests.first()
                with self.assertRaisesMessage(ValidationError, "through the safety gate"):
                    self.run_of(test, Subject(specimen=specimen))
                self.assertTrue(all(due.waits for due in plan_of(round).due if due.specimen))

    def test_the_gate_asks_for_every_caution_of_what_spins_or_holds_compressed_air(self):
        for kind in PART_KINDS.values():
            keys = {c.key for c in cautions(kind.key, "supply", None, 5000.0, "", False)}
            with self.subTest(kind.key):
                self.assertEqual({"guard", "cap", "wear"} <= keys, kind.spins)
                self.assertEqual("air" in keys, kind.pressurised)
                said = answered(kind.key, list(USUAL[kind.key])).safety
                self.assertEqual("burst" in said, kind.spins)
                self.assertEqual(
                    said.count("Run behind the guard"), min(1, said.count("guard, stand"))
                )
                self.assertTrue(said)

    def test_prints_leave_the_bench_when_the_brief_makes_them_spin(self):
        round = self.made("duct", ["air"])
        round.part = "rotor"
        save_brief(self.host, round, ["part"], "They spin after all.")
        states = Specimen.objects.filter(version__entry__round=round).values_list(
            "state", flat=True
        )
        self.assertEqual(set(states), {"printed"})
        self.assertIn("the brief changed", Specimen.objects.first().note)
        round = self.made("intake", ["noise"])
        round.quick = False
        save_brief(self.host, round, ["quick"], "Now it is a competition.")
        states = Specimen.objects.filter(version__entry__round=round).values_list(
            "state", flat=True
        )
        self.assertEqual(set(states), {"printed"})

    def test_one_meter_reads_what_it_reads_twice(self):
        round = self.made("intake", ["noise"])
        meters = {m.channel: m.instrument for m in round.tests.get().rig.meters.all()}
        self.assertEqual(meters["sound_level"], meters["background_level"])
        self.assertEqual(SAME_AS["background_level"], "sound_level")
        self.assertEqual(Instrument.objects.count(), 1)

    def test_a_second_comparison_takes_the_rig_and_the_meters_of_the_first(self):
        first = self.made("duct", ["air"])
        rig = first.tests.get().rig
        second = self.made("duct", ["air"], rigs={"tunnel": rig.pk})
        self.assertEqual(second.tests.get().rig, rig)
        self.assertEqual((Rig.objects.count(), Rig.objects.get().state), (1, 1))
        self.assertNotEqual(first.slug, second.slug)

    def test_sent_twice_it_is_made_once_and_what_is_wrong_makes_nothing(self):
        set_up = actions.begin(self.host, "duct")
        actions.keep(set_up, answered("duct", ["air"]), "parts")
        for parts, said in (
            (actions.Parts("", " ", ["A"], 2, "one", "air"), "Name what they are compared with"),
            (actions.Parts("", "Stock", ["A", "a "], 2, "one", "air"), "the same name"),
            (actions.Parts("", "Stock", [" "], 2, "one", "air"), "at least one part"),
        ):
            with self.assertRaisesMessage(ValidationError, said):
                actions.make(self.host, set_up, parts)
        self.assertEqual(
            (Round.objects.count(), Rig.objects.count(), Instrument.objects.count()), (0, 0, 0)
        )
        good = actions.Parts("", "Stock", ["A"], 2, "one", "air")
        self.assertEqual(
            actions.make(self.host, set_up, good), actions.make(self.host, set_up, good)
        )
        self.assertEqual(Round.objects.count(), 1)

    def test_who_may_not_begin_a_round_sets_none_up(self):
        with self.assertRaises(PermissionDenied):
            actions.begin(self.guest, "duct")
        set_up = actions.begin(self.host, "duct")
        self.client.force_login(self.guest)
        self.assertEqual(self.client.get("/set-up/").status_code, 403)
        self.assertEqual(self.client.get(f"/set-up/{set_up.pk}/wants/").status_code, 403)
        other = User.objects.create_user("other", password=PASSWORD, is_staff=True)
        self.client.force_login(other)
        self.assertEqual(self.client.get(f"/set-up/{set_up.pk}/wants/").status_code, 404)
        self.assertEqual(self.client.post(f"/set-up/{set_up.pk}/discard/").status_code, 404)

    def test_it_stands_in_the_audit_what_was_made(self):
        self.made("duct", ["air"])
        actions_kept = set(AuditEntry.objects.values_list("action", flat=True))
        self.assertLessEqual(
            {"round.begin", "round.open", "rig.add", "instrument.add", "specimen.add"},
            actions_kept,
        )

    def test_the_steps_are_taken_in_order_and_can_be_taken_up_again(self):
        self.client.force_login(self.host)
        answer = self.client.post("/set-up/", {"part": "ring"})
        set_up = SetUp.objects.get()
        at = f"/set-up/{set_up.pk}/"
        self.assertRedirects(answer, f"{at}wants/")
        self.assertRedirects(self.client.get(f"{at}parts/"), f"{at}wants/")
        self.assertRedirects(self.client.get(f"{at}nowhere/"), f"{at}wants/")
        self.assertContains(
            self.client.post(f"{at}wants/", {}), "Tick at least one thing", status_code=422
        )
        both = self.client.post(f"{at}wants/", {"wants": ["air_at_power", "air_at_noise"]})
        self.assertContains(both, "cannot be compared in one round", status_code=422)
        self.client.post(f"{at}wants/", {"wants": ["air_at_power", "noise"]})
        self.assertContains(self.client.get("/attention/"), "Comparison of bladeless rings")
        means = {
            "way_air_at_power": "flow_at_power:air_speed+power",
            "meter_air_speed": "shelf:vane",
            "meter_power": "shelf:wall_meter",
            "meter_sound_level": "shelf:sound_class_2",
        }
        wrong = self.client.post(f"{at}means/", means | {"meter_power": "shelf:vane"})
        self.assertEqual(wrong.status_code, 422)
        self.assertRedirects(self.client.post(f"{at}means/", means), f"{at}sizes/")
        sizes = {"equal_value": "6", "c_tunnel_bore": "-3", "c_tunnel_profile_factor": "0.85"}
        wrong = self.client.post(f"{at}sizes/", sizes | {"c_sound_spot_distance": "1000"})
        self.assertContains(wrong, "cannot be", status_code=422)
        sizes |= {"c_tunnel_bore": "125", "c_sound_spot_distance": "500"}
        self.assertRedirects(self.client.post(f"{at}sizes/", sizes), f"{at}parts/")
        parts = {"reference": "Open fan", "name": ["Ring"], "repeats": "2", "title": "Rings"}
        made = self.client.post(f"{at}parts/", parts | {"decide": "limits", "first": "noise"})
        self.assertRedirects(made, "/rounds/rings/bench/")
        round = Round.objects.get()
        self.assertEqual((round.equal, round.equal_value), ("power", 6.0))
        self.assertEqual(round.tests.get(procedure="sound_level").reporting_distance, 0.5)
        terms = {t.test.procedure: (t.weight, t.most_loss) for t in round.rules.get().terms.all()}
        self.assertEqual(terms, {"sound_level": (1.0, None), "flow_at_power": (None, 2.0)})
        self.assertRedirects(self.client.get(f"{at}means/"), "/rounds/rings/bench/")
        self.assertNotContains(self.client.get("/attention/"), "Set-ups that you began")

    def test_the_bench_says_what_it_waits_for(self):
        round = self.made("duct", ["air"])
        Specimen.objects.filter(version__entry__round=round).update(state="broken")
        missing = why_nothing_due(round, plan_of(round))
        self.assertIn("2 entries have no print", missing.text)
        self.client.force_login(self.host)
        page = self.client.get(f"/rounds/{round.slug}/bench/")
        self.assertContains(page, "Nothing can be run yet")
        self.assertContains(page, "Add one in the workshop")
        round.entries.update(state="withdrawn")
        self.assertIn("No entry is in yet", why_nothing_due(round, plan_of(round)).text)
        self.assertTrue(PROCEDURES[round.tests.get().procedure])
