"""Meters on a line in Stores, a second logger's file, and curves that come in with a round."""

from __future__ import annotations

import json
import unittest

import numpy as np
from django.core.exceptions import PermissionDenied, ValidationError
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse

from hauch.bench.logs import NewRecording, import_log
from hauch.bench.models import Recording, Run
from hauch.bench.runs import Subject
from hauch.exchange.importing import import_round
from hauch.formats import bundle
from hauch.formats.logger_csv import Log
from hauch.formats.sound import read_wav, wav_bytes
from hauch.stores.actions import ask_instrument
from hauch.stores.models import Instrument
from tests.builder import PASSWORD, ROOM, START, build
from tests.bundles import exported
from tests.instruments.meters import Meters, profiles_of
from tests.traces import whole

KEY = "0b0b7d2e-8f0d-4a3e-9b53-0d5c11f0a001"


class MeterOnALineTests(TestCase):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.meters = Meters()

    @classmethod
    def tearDownClass(cls):
        cls.meters.stop()
        super().tearDownClass()

    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        self.vane = Instrument.objects.get(channel="air_speed")
        self.client.login(username="host", password=PASSWORD)
        self.url = reverse("stores:change_instrument", args=[self.vane.pk])
        self.data = {
            "name": "Vane",
            "resolution": "0.036",
            "accuracy": "0.072",
            "resource": self.meters.resource("anemometer"),
            "profile": "",
        }

    def test_a_profile_like_another_fills_in_and_the_meter_answers(self):
        self.client.post(self.url, self.data | {"like": "stand-in anemometer"})
        self.vane.refresh_from_db()
        self.assertEqual(self.vane.profile, profiles_of("anemometer")["air_speed"])
        page = self.client.post(reverse("stores:ask_instrument", args=[self.vane.pk]), follow=True)
        self.assertContains(page, "STAND-IN ANEMOMETER,bench 1,1 reads")

    def test_what_cannot_be_is_told_at_its_field(self):
        for change, words in (
            ({}, "A meter on a line needs a reading profile"),
            ({"profile": "{not json"}, "Enter a valid JSON"),
            ({"profile": "[]"}, "needs a reading profile"),
            (
                {
                    "profile": json.dumps({"query": "X?", "set": "X {value}", "unit": "m/s"}),
                    "shared": "on",
                },
                "held by one bench alone",
            ),
            ({"profile": json.dumps({"query": "X?", "unit": "furlong"})}, "furlong"),
            (
                {"profile": json.dumps({"query": "X?", "unit": "m/s", "buffer": 7})},
                "it is a JSON object",
            ),
        ):
            with self.subTest(words):
                self.assertContains(
                    self.client.post(self.url, self.data | change), words, status_code=422
                )
        self.vane.refresh_from_db()
        self.assertEqual(self.vane.resource, "")

    def test_a_meter_that_is_silent_or_on_no_line(self):
        with self.assertRaisesRegex(ValidationError, "on no line"):
            ask_instrument(self.built.host, self.vane)
        Instrument.objects.filter(pk=self.vane.pk).update(
            resource="TCPIP0::127.0.0.1::9::SOCKET", profile=profiles_of("anemometer")["air_speed"]
        )
        self.vane.refresh_from_db()
        with self.assertRaisesRegex(
            ValidationError, "does not answer at TCPIP0::127.0.0.1::9::SOCKET"
        ):
            ask_instrument(self.built.host, self.vane)
        with self.assertRaises(PermissionDenied):
            ask_instrument(self.built.people["viewer"], self.vane)

    def test_addresses_of_meters_do_not_travel(self):
        Instrument.objects.filter(pk=self.vane.pk).update(
            resource="TCPIP0::192.0.2.1::5025::SOCKET",
            profile=profiles_of("anemometer")["air_speed"],
        )
        self.built.air(self.built.reference, 0, (4.0, 4.0))
        self.assertNotIn(
            "192.0.2.1",
            json.dumps(bundle.read(exported(self.built.host, self.built.round)).content),
        )


class SecondLoggerTests(TestCase):
    """Noise logged by one box, speed and pressure by another whose clock is 37 s late."""

    LATE = 37.4

    def speed(self, t):
        return 1800 * (1 - np.exp(-np.maximum(t - 20, 0) / 2)) * np.where(t < 150, 1, 0.8)

    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "noise"))

    def setUp(self):
        random = np.random.default_rng(6)
        times = np.arange(0, 240, 0.5)
        speed = self.speed(times) + 2 * random.standard_normal(times.size)
        air = np.round(self.speed(times) / 440 + 0.01 * random.standard_normal(times.size), 2)
        new = NewRecording(
            self.built.round,
            None,
            Log(START, times, {"air_speed": air, "speed": speed}, 0),
            [self.built.tests["air"]],
            Subject(specimen=self.built.specimens["Amsel"]),
            ROOM,
            START,
        )
        (self.run_,) = import_log(self.built.operator, new)
        other = np.arange(0, 180, 1.0)
        level = (
            20
            + 50 * np.log10(np.maximum(self.speed(other + self.LATE), 200) / 200)
            + 0.1 * random.standard_normal(other.size)
        )
        rows = [
            f"{t:.0f},{a:.2f},{p:.1f}"
            for t, a, p in zip(other, level, 1e-5 * self.speed(other + self.LATE) ** 2, strict=True)
        ]
        self.file = "time [s],noise [dB(A)],static pressure [Pa]\n" + "\n".join(rows)
        self.client.login(username="operator", password=PASSWORD)

    def preview(self, name="second.csv"):
        answer = self.client.post(
            reverse("bench:upload", args=[self.built.round.slug]),
            {
                "log": SimpleUploadedFile(name, self.file.encode()),
                "beside": str(self.run_.recording_id),
            },
        )
        self.assertIn("?beside=", answer["Location"])
        return answer["Location"]

    def columns(self, page):
        return {
            f"{kind}-{c['index']}": c[{"channel": "channel", "unit": "unit"}[kind]]
            for c in page.context["columns"]
            for kind in ("channel", "unit")
        }

    def test_it_is_moved_by_what_both_saw_and_its_channels_join(self):
        url = self.preview()
        page = self.client.get(url)
        self.assertContains(page, "Its clock is brought onto the first one")
        done = self.client.post(
            url, self.columns(page) | {"by": "traces", "form_key": KEY}, follow=True
        )
        self.assertContains(done, "runs beside the first recording now")
        second = Recording.objects.get(beside=self.run_.recording)
        self.assertAlmostEqual(second.shift, self.LATE, delta=0.7)
        self.assertIn("agree to", second.shift_note)
        times, channels = whole(Recording.objects.get(pk=self.run_.recording_id))
        at = float(np.interp(170.0, times, channels["static_pressure"]))
        self.assertAlmostEqual(at, 1e-5 * self.speed(np.array([170.0]))[0] ** 2, delta=0.5)
        self.assertContains(self.client.get(self.run_.get_absolute_url()), "second.csv, moved by")
        back = import_round(
            self.built.host, self.renamed(exported(self.built.host, self.built.round))
        )
        copied = Recording.objects.get(round=back, beside__isnull=False)
        self.assertEqual((copied.shift, copied.beside.round), (second.shift, back))
        self.assertEqual(
            Run.objects.get(test__round=back).result.value,
            Run.objects.get(pk=self.run_.pk).result.value,
        )

    def renamed(self, data):
        """The same round under another identity, so that it can stand beside itself."""
        made = bundle.read(data)
        text = json.dumps(made.content).replace(
            str(self.built.round.uid), "0b0b7d2e-8f0d-4a3e-9b53-0d5c11f0a0ff"
        )
        content = json.loads(text)
        swap = {}
        for kind in ("entries", "recordings", "runs"):
            for row in content[kind]:
                swap[row["uid"]] = row["uid"][:-4] + "beef"
        for entry in content["entries"]:
            for version in entry["versions"]:
                for row in (version, *version["specimens"]):
                    swap[row["uid"]] = row["uid"][:-4] + "beef"
        text = json.dumps(content)
        for old, new in swap.items():
            text = text.replace(old, new)
        return bundle.packed(
            bundle.Bundle(
                json.loads(text),
                {swap.get(uid, uid): trace for uid, trace in made.traces.items()},
                made.files,
            )
        )

    def test_refusals_save_nothing(self):
        url = self.preview()
        page = self.client.get(url)
        for more, words in (
            ({"by": "hand", "seconds": "soon"}, "is not a number"),
            ({"by": "hand", "seconds": "9000"}, "does not overlap"),
            ({"by": "clocks"}, "has no dates"),
        ):
            with self.subTest(words):
                self.assertContains(
                    self.client.post(url, self.columns(page) | more | {"form_key": KEY}),
                    words,
                    status_code=422,
                )
        self.file = "time [s],speed [1/min]\n" + "\n".join(f"{t},{1800}" for t in range(60))
        url = self.preview("third.csv")
        self.assertContains(
            self.client.post(
                url, self.columns(self.client.get(url)) | {"by": "traces", "form_key": KEY}
            ),
            "in the first recording already",
            status_code=422,
        )
        self.assertEqual(Recording.objects.filter(beside__isnull=False).count(), 0)
        self.assertEqual(self.client.get(url.split("?")[0] + "?beside=999999").status_code, 404)

    def test_by_hand_and_twice(self):
        url = self.preview()
        data = self.columns(self.client.get(url)) | {
            "by": "hand",
            "seconds": "37,4",
            "form_key": KEY,
        }
        self.assertContains(self.client.post(url, data, follow=True), "moved by +37.40 s by hand")
        self.assertContains(self.client.post(url, data), "imported before", status_code=422)


class SoundFileTests(unittest.TestCase):
    def test_samples_keep_their_level(self):
        samples = 3.7 * np.sin(np.arange(4800) / 10)  # above 1, which whole numbers could not hold
        back, rate = read_wav(wav_bytes(samples, 48_000))
        self.assertEqual(rate, 48_000)
        np.testing.assert_allclose(back, samples, atol=1e-6)
        with self.assertRaisesRegex(ValueError, "no sound that can be read"):
            read_wav(b"RIFF, but not much more")
