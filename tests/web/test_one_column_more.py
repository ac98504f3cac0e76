"""A file says more than its test needs, comes in twice, or was read wrongly: no figure is lost by
it, and nothing is blocked.
"""

from __future__ import annotations

from pathlib import Path
from unittest import mock

from django.core.exceptions import PermissionDenied, ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from hauch.bench import logs
from hauch.bench.files import keep_file
from hauch.bench.jobs import recompute_rig
from hauch.bench.logs import NewRecording, import_log
from hauch.bench.models import Chunk, Recording, Run
from hauch.bench.runs import Subject, void_run
from hauch.formats import bundle
from hauch.formats.logger_csv import inspect, read_log
from hauch.formats.logger_names import guess_mapping
from hauch.people.models import AuditEntry
from hauch.rounds.models import Test
from hauch.stores.actions_rigs import change_rig
from hauch.stores.models import Instrument, Rig, RigMeter
from tests.builder import PASSWORD, ROOM, START, build
from tests.bundles import exported

DATA = Path(__file__).parents[1] / "data" / "logger"
GERMAN, ISO = "bench_b_german.csv", "bench_a_1hz.csv"


class FileCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "power", "noise", "rise"))

    def setUp(self):
        self.rig = self.built.tests["air"].rig
        self.rig = Rig.objects.get(pk=self.rig.pk)
        self.amsel = Subject(specimen=self.built.specimens["Amsel"])

    def without(self, *channels: str) -> None:
        """The rig has no meter for some channels."""
        RigMeter.objects.filter(rig=self.rig, channel__in=channels).delete()

    def named(self, meter: Instrument) -> Rig:
        """Somebody says which meter reads the air speed, and nothing else."""
        meters = {m.channel: m.instrument for m in self.rig.meters.select_related("instrument")}
        constants = {k: v for k, v in self.rig.pairs.items() if k != "standby_power"}
        Rig.objects.filter(pk=self.rig.pk).update(constants={k: [*v] for k, v in constants.items()})
        return change_rig(
            self.built.host, self.rig, constants, meters | {"air_speed": meter}, change=""
        )

    def leaks(self) -> None:
        """The rig is known to leak, so that static pressure improves its flow."""
        self.rig.constants |= {"leak_coefficient": [0.0002, 0.00001], "leak_exponent": [0.6, 0.02]}
        self.rig.save()

    def new(self, name: str = GERMAN, tests=("air",), **more) -> NewRecording:
        data = (DATA / name).read_bytes()
        table = inspect(data)
        mapping = guess_mapping(table)
        return NewRecording(
            self.built.round,
            keep_file(self.built.operator, name, data),
            read_log(table, mapping),
            list(Test.objects.filter(key__in=tests)),  # meters are known by rig once they were read
            self.amsel,
            ROOM,
            START,
            mapping,
            **more,
        )

    def imported(self, name: str = GERMAN, tests=("air",), **more) -> dict[str, Run]:
        made = import_log(self.built.operator, self.new(name, tests, **more))
        return {run.test.key: run for run in made}


class UnknownMeterTests(FileCase):
    def test_a_channel_without_a_meter_takes_no_figure_away(self):
        """Static pressure would put the leak back; where nobody knows its meter, the flow stays as
        it is without, and the run says what would improve it.
        """
        self.leaks()
        for name in (GERMAN, ISO):
            with self.subTest(name):
                whole = self.imported(name)["air"].result
                void_run(self.built.operator, Run.objects.latest("pk"), "again without the meter")
                self.without("static_pressure")
                run = self.imported(name)["air"]
                self.assertIsNotNone(run.result.value, run.result.missing)
                self.assertLess(run.result.value, whole.value)  # nothing is put back
                self.assertIn("Static pressure was read", " ".join(run.result.troubles))
                self.assertIn("shown and not used", " ".join(run.result.troubles))
                RigMeter.objects.create(
                    rig=self.rig,
                    channel="static_pressure",
                    instrument=self.built.meters["static_pressure"],
                )

    def test_volts_and_amps_do_where_the_wattmeter_is_unknown(self):
        rows = [f"{t / 10:.1f},11.92,0.371,99" for t in range(600)]
        data = ("time [s],supply [V],supply [A],power [W]\n" + "\n".join(rows)).encode()
        table = inspect(data)
        mapping = guess_mapping(table)
        self.assertEqual([c.channel for c in mapping][1:], ["voltage", "current", "power"])
        source = keep_file(self.built.operator, "power.csv", data)
        (run,) = import_log(
            self.built.operator,
            NewRecording(
                self.built.round,
                source,
                read_log(table, mapping),
                [self.built.tests["power"]],
                self.amsel,
                ROOM,
                START,
                mapping,
            ),
        )
        self.assertAlmostEqual(run.result.as_read, 11.92 * 0.371 - 0.4, delta=0.005)
        self.assertIn("Electrical power was read", " ".join(run.result.troubles))

    def test_a_meter_that_decides_is_asked_for_and_the_run_follows_when_it_is_named(self):
        whole = self.imported()["air"].result.value
        void_run(self.built.operator, Run.objects.get(), "again without the meter")
        meter = RigMeter.objects.get(rig=self.rig, channel="air_speed").instrument
        self.without("air_speed")
        run = self.imported()["air"]
        self.assertIn("No meter is set for air speed on this rig", run.result.missing)
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(
            self.client.get(run.get_absolute_url()), f'href="{self.rig.get_absolute_url()}"'
        )
        sent = SimpleUploadedFile("next.csv", (DATA / ISO).read_bytes())
        url = reverse("bench:upload", args=[self.built.round.slug])
        preview = self.client.post(url, {"log": sent}, follow=True)
        self.assertContains(preview, "for air speed: shown, not used")
        rig = self.named(meter)
        self.assertEqual((rig.pk, Rig.objects.count()), (self.rig.pk, 1))  # the same state of it
        self.assertEqual(Run.objects.get(pk=run.pk).result.value, whole)
        self.assertEqual(AuditEntry.objects.filter(action="rig.meters").count(), 1)
        # What is another meter, or a change that is said, is the next state, as before.
        meters = {m.channel: m.instrument for m in rig.meters.select_related("instrument")}
        del meters["air_speed"]
        with self.assertRaisesRegex(ValidationError, "Say what is different"):
            change_rig(self.built.host, rig, rig.pairs, meters, "")
        self.assertEqual(change_rig(self.built.host, rig, rig.pairs, meters, "no vane").state, 2)

    def test_a_constant_that_was_not_known_is_filled_in_for_the_runs_before(self):
        whole = self.imported()["air"].result.value
        void_run(self.built.operator, Run.objects.get(), "again without the bore")
        allowed = {c.key for c in self.rig.how.constants}
        pairs = Rig.objects.get(pk=self.rig.pk).pairs
        known = {name: pair for name, pair in pairs.items() if name in allowed}
        without = {name: pair for name, pair in known.items() if name != "bore"}
        Rig.objects.filter(pk=self.rig.pk).update(
            constants={name: list(pair) for name, pair in without.items()}
        )
        run = self.imported()["air"]
        self.assertIn("bore of the tube", run.result.missing)
        self.client.login(username="operator", password=PASSWORD)
        change = reverse("stores:change_rig", args=[self.rig.pk])
        self.assertContains(
            self.client.get(run.get_absolute_url()), f"{change}?next={run.get_absolute_url()}"
        )
        rig = Rig.objects.get(pk=self.rig.pk)
        meters = {m.channel: m.instrument for m in rig.meters.select_related("instrument")}
        now = change_rig(self.built.host, rig, known, meters, "")
        self.assertEqual((now.pk, Rig.objects.count()), (self.rig.pk, 1))
        self.assertEqual(Run.objects.get(pk=run.pk).result.value, whole)
        kept = AuditEntry.objects.get(action="rig.constants").detail["added"]
        self.assertEqual(kept, {"bore": list(known["bore"])})
        # Another figure for what was known is a change, and asks for a word.
        with self.assertRaisesRegex(ValidationError, "Say what is different"):
            change_rig(self.built.host, now, known | {"bore": (0.2, 0.0001)}, meters, "")

    def test_many_runs_are_left_to_the_worker(self):
        meter = RigMeter.objects.get(rig=self.rig, channel="air_speed").instrument
        self.without("air_speed")
        run = self.imported()["air"]
        with mock.patch("hauch.bench.jobs.RECOMPUTED_AT_ONCE", 0):
            self.named(meter)
        self.assertIsNone(Run.objects.get(pk=run.pk).result.value)
        recompute_rig(self.rig.pk)
        self.assertIsNotNone(Run.objects.get(pk=run.pk).result.value)


class FileAgainTests(FileCase):
    def test_a_file_whose_runs_are_void_comes_in_again_read_otherwise(self):
        run = self.imported()["air"]
        with self.assertRaisesRegex(ValidationError, "not taken twice. It can feed further tests"):
            self.imported()
        void_run(self.built.operator, run, "wrong part")
        self.amsel = Subject(specimen=self.built.specimens["Binse"])
        again = self.imported()["air"]
        self.assertEqual(again.result.value, run.result.value)
        old = Recording.objects.get(pk=run.recording_id)
        self.assertEqual((old.set_aside_by, old.chunks.exists()), (self.built.operator, True))
        self.assertEqual(AuditEntry.objects.filter(action="recording.set_aside").count(), 1)
        with self.assertRaisesRegex(ValidationError, "not taken twice"):
            self.imported()
        # It travels, with the recording that counts no more.
        content = bundle.read(exported(self.built.host, self.built.round)).content
        self.assertEqual(
            sorted(bool(row["set_aside_at"]) for row in content["recordings"]), [False, True]
        )

    def test_a_file_that_is_in_feeds_further_tests(self):
        first = self.imported()["air"]
        recording = first.recording
        (power,) = logs.feed(self.built.operator, recording, [self.built.tests["power"]])
        self.assertEqual((power.recording_id, power.specimen), (recording.pk, first.specimen))
        self.assertEqual(power.temperature, first.temperature)
        # The same as if it had fed both at once.
        self.assertAlmostEqual(power.result.as_read, 11.92 * 0.371 - 0.4, delta=0.005)
        with self.assertRaisesRegex(ValidationError, "Power test has a run from this file"):
            logs.feed(self.built.operator, recording, [self.built.tests["power"]])
        with self.assertRaisesRegex(ValidationError, "needs background level"):
            logs.feed(self.built.operator, recording, [self.built.tests["noise"]])
        with self.assertRaisesRegex(ValidationError, "at least one test"):
            logs.feed(self.built.operator, recording, [])
        with self.assertRaises(PermissionDenied):
            logs.feed(self.built.people["designer"], recording, [self.built.tests["rise"]])
        # A run that was voided is made again, and again.
        for _ in range(2):
            void_run(self.built.operator, power, "wrong standby")
            (power,) = logs.feed(self.built.operator, recording, [self.built.tests["power"]])
        self.assertEqual(Run.objects.filter(test=self.built.tests["power"]).count(), 3)
        self.assertEqual(Chunk.objects.filter(channel="time").count(), 1)

    def test_in_the_browser_of_who_sends_it_twice(self):
        self.client.login(username="operator", password=PASSWORD)
        run = self.imported()["air"]
        url = reverse("bench:upload", args=[self.built.round.slug])
        data = (DATA / GERMAN).read_bytes()
        page = self.client.post(url, {"log": SimpleUploadedFile("once more.csv", data)})
        self.assertContains(page, "Feed further tests", status_code=409)
        self.assertContains(page, "Power test", status_code=409)
        self.assertNotContains(page, "Air test</label>", status_code=409, html=False)
        feed = reverse("bench:feed", args=[self.built.round.slug, run.recording_id])
        noise = {"tests": [str(self.built.tests["noise"].pk)]}
        answer = self.client.post(feed, noise, follow=True)
        self.assertContains(answer, "also needs background level")
        answer = self.client.post(feed, noise | {"r-background_level": "36"}, follow=True)
        self.assertContains(answer, "now feeds Noise test too")
        self.assertContains(self.client.get(run.get_absolute_url()), "Feed further tests from")
        for one in Run.objects.all():
            void_run(self.built.operator, one, "columns were mixed up")
        answer = self.client.post(url, {"log": SimpleUploadedFile("again.csv", data)})
        self.assertEqual(answer.status_code, 302)
        self.assertIn("/files/", answer["Location"])
        self.client.login(username="viewer", password=PASSWORD)
        self.assertIn(self.client.post(feed, noise).status_code, (403, 404))


class SecondFileTests(FileCase):
    def second(self, rows: str) -> Recording:
        first = self.run_.recording
        data = ("time [s],static pressure [Pa]\n" + rows).encode()
        table = inspect(data)
        mapping = guess_mapping(table)
        source = keep_file(self.built.operator, "second.csv", data)
        return logs.add_second(
            self.built.operator, first, source, read_log(table, mapping), mapping, "hand", 0.0
        )

    def setUp(self):
        super().setUp()
        self.leaks()
        rows = "\n".join(f"{t},{4.0 + 0.01 * (t % 3):.2f}" for t in range(400))
        data = f"time [s],air speed [m/s]\n{rows}".encode()
        table = inspect(data)
        mapping = guess_mapping(table)
        (self.run_,) = import_log(
            self.built.operator,
            NewRecording(
                self.built.round,
                keep_file(self.built.operator, "first.csv", data),
                read_log(table, mapping),
                [self.built.tests["air"]],
                self.amsel,
                ROOM,
                START,
                mapping,
            ),
        )

    def figure(self) -> float | None:
        return Run.objects.get(pk=self.run_.pk).result.value

    def test_it_takes_no_figure_away_and_is_taken_out_again(self):
        before = self.figure()
        self.without("static_pressure")
        rows = "\n".join(f"{t},{40 + t % 2}" for t in range(400))
        second = self.second(rows)
        self.assertEqual(self.figure(), before)
        RigMeter.objects.create(
            rig=self.rig,
            channel="static_pressure",
            instrument=self.built.meters["static_pressure"],
        )
        logs.take_out(self.built.operator, second)
        again = self.second(rows)  # the same file, once it is out
        self.assertGreater(self.figure(), before)
        with self.assertRaises(PermissionDenied):
            logs.take_out(self.built.people["designer"], again)
        self.client.login(username="operator", password=PASSWORD)
        self.assertContains(
            self.client.get(self.run_.get_absolute_url()), "Take second.csv out", html=False
        )
        answer = self.client.post(
            reverse("bench:take_out", args=[self.built.round.slug, again.pk]), follow=True
        )
        self.assertContains(answer, "second.csv was taken out")
        self.assertEqual(self.figure(), before)
        self.assertNotContains(
            self.client.get(self.run_.get_absolute_url()), "Take second.csv out", html=False
        )
        self.assertTrue(again.chunks.exists())
        self.assertEqual(AuditEntry.objects.filter(action="recording.set_aside").count(), 2)
        with self.assertRaisesRegex(ValidationError, "Only the file of a second logger"):
            logs.take_out(self.built.operator, self.run_.recording)
        with self.assertRaisesRegex(ValidationError, "was taken out, or ran beside"):
            logs.feed(self.built.operator, again, [self.built.tests["power"]])
