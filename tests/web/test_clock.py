"""Whose clock: what is shown and typed is in the reader's zone, what decides is the installation's."""

from __future__ import annotations

from datetime import UTC, date, datetime
from unittest import mock
from uuid import uuid4

from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from hauch.bench.files import keep_file
from hauch.bench.importing import Confirmed, read_confirmed
from hauch.bench.models import Run
from hauch.entries.actions import why_closed
from hauch.people.clock import COOKIE, house_day
from hauch.rounds.models import Round
from hauch.stores.models import Calibration, Instrument
from tests.builder import PASSWORD, ROOM, build

NIGHT = datetime(2026, 11, 20, 23, 30, tzinfo=UTC)
"""Still the 20th at the installation, already the 21st in Tonga and not yet the 21st in Chile."""


class ClockTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.run_ = cls.built.air(cls.built.reference, 0, (4.0, 4.0))
        Run.objects.update(started_at=NIGHT)

    def reader(self, zone, who="operator"):
        self.client.login(username=who, password=PASSWORD)
        self.client.cookies[COOKIE] = zone
        return self.client

    def test_moments_are_the_readers(self):
        for zone, words in (
            ("Pacific/Tongatapu", "21 Nov 2026 12:30"),
            ("America/Santiago", "20 Nov 2026 20:30"),
            ("", "20 Nov 2026 23:30"),
            ("../../etc/passwd", "20 Nov 2026 23:30"),
            ("x" * 5000, "20 Nov 2026 23:30"),
            ("Nowhere/Else", "20 Nov 2026 23:30"),
        ):
            with self.subTest(zone[:20]):
                page = self.reader(zone).get(self.run_.get_absolute_url())
                self.assertContains(page, words)
        self.assertEqual(timezone.get_current_timezone_name(), "UTC")  # nothing stays behind

    def test_what_is_typed_is_in_the_readers_zone(self):
        answer = self.reader("Pacific/Tongatapu").post(
            reverse("bench:capture", args=[self.built.round.slug, self.built.tests["air"].pk])
            + f"?subject=r{self.built.reference.pk}",
            {
                "temperature": "21",
                "pressure": "965",
                "humidity": "48",
                "form_key": str(uuid4()),
                "started_at": "2026-05-05T09:00",
                "r-air_speed": ["4.0", "4.1"],
                "unit-air_speed": "m/s",
                "show": "1",
            },
        )
        self.assertEqual(answer.status_code, 302, answer.content[:500])
        self.assertEqual(
            Run.objects.latest("pk").started_at, datetime(2026, 5, 4, 20, 0, tzinfo=UTC)
        )

    def test_entries_are_taken_as_long_for_all(self):
        Round.objects.update(state="open", entries_until=date(2026, 11, 20))
        self.built.round.refresh_from_db()
        for zone in ("Pacific/Tongatapu", "America/Santiago"):
            with timezone.override(zone), mock.patch.object(timezone, "now", return_value=NIGHT):
                self.assertEqual(why_closed(self.built.people["designer"], self.built.round), "")
            late = datetime(2026, 11, 21, 0, 30, tzinfo=UTC)  # still the 20th in Santiago
            with timezone.override(zone), mock.patch.object(timezone, "now", return_value=late):
                self.assertIn(
                    "until 20 November 2026",
                    why_closed(self.built.people["designer"], self.built.round),
                )

    def test_a_calibration_holds_from_a_day_whoever_asks(self):
        vane = Instrument.objects.get(channel="air_speed")
        old, _ = (
            Calibration.objects.create(instrument=vane, at=day, entered_by=self.built.host)
            for day in (date(2026, 1, 1), date(2026, 11, 21))
        )
        for zone in ("UTC", "Pacific/Tongatapu", "America/Santiago"):
            with timezone.override(zone):
                self.assertEqual(house_day(NIGHT), date(2026, 11, 20))
                self.assertEqual(vane.calibration_at(NIGHT), old)

    def test_a_loggers_file_is_read_in_the_zone_of_whoever_confirmed_it(self):
        rows = "".join(f"2026-05-05T09:00:{n:02d},{3 + n / 100}\n" for n in range(30))
        data = ("time,air speed [m/s]\n" + rows).encode()
        source = keep_file(self.built.operator, "log.csv", data)
        for zone, hour in (("Pacific/Tongatapu", 20), ("", 9)):
            asked = Confirmed(
                columns=[("time", ""), ("air_speed", "m/s")],
                day_first=True,
                started_at=NIGHT,
                room=ROOM,
                zone=zone,
            )
            with timezone.override("America/Santiago"):  # a worker's, or another reader's
                self.assertEqual(read_confirmed(source, asked)[1].start.astimezone(UTC).hour, hour)
