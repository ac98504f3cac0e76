"""Stores: instruments, calibrations, rigs and their states, guided calibration, pictures,
libraries.
"""

import hashlib
import io
import json
import uuid
from datetime import date, timedelta
from unittest import mock
from uuid import uuid4

from django.core.exceptions import PermissionDenied, ValidationError
from django.core.files.base import ContentFile
from django.core.files.uploadedfile import SimpleUploadedFile
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone
from PIL import Image

from hauch.bench.models import Run
from hauch.bench.queries import runs
from hauch.bench.results import recompute
from hauch.exchange.library import export_library, import_library, instruments_csv, rigs_csv
from hauch.formats.bundle import BundleRefused
from hauch.people.keep import keep, place_of
from hauch.people.models import AuditEntry, User
from hauch.rounds.models import Round
from hauch.stores import actions, actions_rigs
from hauch.stores.models import Calibration, Instrument, ReferenceSpecimen, Rig, RigCalibration
from hauch.stores.pictures import clean_picture
from hauch.stores.queries import due_of, states_of
from hauch.verdict.judging import judge_round
from tests.builder import START, build
from tests.formats import works

SHAPE = [0.97, 0.93, 0.90, 0.82, 0.60]
TRAVERSE = {"method": "log_linear", "speeds": [[5 * v for v in SHAPE]] * 4, "centre": [5.0] * 4}


def constants(rig, **changed):
    return {**{k: v for k, v in rig.pairs.items() if k != "standby_power"}, **changed}


class StoresCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.rig = cls.built.tests["air"].rig
        cls.meters = {
            m.channel: m.instrument
            for m in cls.rig.meters.all()
            if m.channel in cls.rig.how.channels
        }

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def post(self, name, data, *args, who="host", **more):
        self.sign_in(who)
        return self.client.post(reverse(name, args=args), data, **more)


class CalibrationTests(StoresCase):
    def setUp(self):
        self.vane = Instrument.objects.get(name="Vane")

    def test_it_holds_for_runs_from_its_day_on(self):
        run = self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        before = run.result.value
        actions.add_calibration(
            self.built.operator,
            self.vane,
            START.date() - timedelta(days=9),
            [(1, 0.9), (5, 4.5), (10, 9.0)],
        )
        self.assertEqual(recompute(runs().filter(pk=run.pk)).changed, [])  # it was at once
        run.result.refresh_from_db()
        self.assertAlmostEqual(run.result.value / before, 0.9, places=6)
        later = START.date() + timedelta(days=20)
        actions.add_calibration(
            self.built.operator, self.vane, later, [(1, 0.8), (5, 4.0), (10, 8.0)]
        )
        self.assertEqual(recompute(runs().filter(pk=run.pk)).changed, [])
        self.assertAlmostEqual(
            Instrument.objects.get(pk=self.vane.pk).meter(START + timedelta(days=30)).slope, 0.8
        )

    def test_the_first_stands_for_what_was_before_it(self):
        actions.add_calibration(
            self.built.operator, self.vane, date(2026, 6, 1), [(1, 0.9), (5, 4.5)]
        )
        self.assertAlmostEqual(Instrument.objects.get(pk=self.vane.pk).meter(START).slope, 0.9)

    def test_the_limit_counts_besides_unless_it_is_replaced(self):
        self.assertEqual(self.vane.meter().accuracy, 0.02)
        actions.add_calibration(
            self.built.operator,
            self.vane,
            date(2026, 4, 1),
            [(1, 1.0), (5, 5.0)],
            replaces_limit=True,
        )
        self.assertEqual(Instrument.objects.get(pk=self.vane.pk).meter().accuracy, 0.0)

    def test_withdrawn_it_no_longer_counts_and_stays_on_record(self):
        made = actions.add_calibration(
            self.built.operator, self.vane, date(2026, 4, 1), [(1, 0.9), (5, 4.5)]
        )
        with self.assertRaisesRegex(ValidationError, "in a few words"):
            actions.withdraw_calibration(self.built.operator, made, " ")
        actions.withdraw_calibration(self.built.operator, made, "The standard was broken.")
        self.assertEqual(Instrument.objects.get(pk=self.vane.pk).meter().slope, 1.0)
        self.assertEqual(Calibration.objects.count(), 1)
        self.assertTrue(
            AuditEntry.objects.filter(action="instrument.withdraw_calibration").exists()
        )

    def test_what_cannot_be(self):
        for points, at, words in (
            ([(1, 1)], date(2026, 4, 1), "through one point"),
            ([(1, 2), (2, 1)], date(2026, 4, 1), "The line falls"),
            ([(1, 1), (2, 2)], timezone.localdate() + timedelta(days=2), "lies ahead"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                actions.add_calibration(self.built.operator, self.vane, at, points)
        self.assertEqual(Calibration.objects.count(), 0)

    def test_when_it_is_due(self):
        self.assertEqual(due_of(self.vane).word, "")
        self.vane.recalibrate_after = 365
        self.assertEqual(due_of(self.vane).word, "never")
        for days, word in ((400, "late"), (350, "soon"), (100, "")):
            Calibration.objects.all().delete()
            Calibration.objects.create(
                instrument=self.vane, at=timezone.localdate() - timedelta(days=days)
            )
            self.assertEqual(due_of(self.vane).word, word)

    def test_over_the_web_with_a_look_before_it_is_kept(self):
        url, data = (
            "stores:calibrate",
            {
                "indicated": ["3,6", "18", "36", ""],
                "true": ["3,24", "16,2", "32,4", ""],
                "at": "2026-04-01",
                "standard": "pitot",
            },
        )
        look = self.post(url, data, self.vane.pk, headers={"hx-request": "true"})
        self.assertContains(look, "0.900000")
        self.assertEqual(Calibration.objects.count(), 0)
        self.assertRedirects(
            self.post(url, data | {"keep": "yes"}, self.vane.pk), self.vane.get_absolute_url()
        )
        made = Calibration.objects.get()
        self.assertAlmostEqual(made.slope, 0.9, places=9)
        self.assertEqual([round(x, 6) for x in made.points[1]], [5.0, 4.5])
        half = self.post(
            url,
            {"indicated": ["3.6", "x"], "true": ["", "1"], "at": "2026-04-01", "keep": "yes"},
            self.vane.pk,
        )
        self.assertContains(half, "Point 1 has only one figure", status_code=422)
        self.assertContains(half, "Point 2: “x” is not a number", status_code=422)

    def test_the_form_keeps_digits_that_were_left_alone(self):
        Instrument.objects.filter(pk=self.vane.pk).update(
            accuracy=0.0213987654321, accuracy_share=0.0123456789
        )
        self.sign_in()
        page = self.client.get(reverse("stores:change_instrument", args=[self.vane.pk]))
        data = {
            name: page.context["form"][name].value() or ""
            for name in page.context["form"].fields
            if name != "profile"
        }
        shown = {
            name: page.context["form"].fields[name].prepare_value(v) if v != "" else ""
            for name, v in data.items()
        }
        shown |= {"serial": "V-7", "retired": ""}
        self.client.post(
            reverse("stores:change_instrument", args=[self.vane.pk]),
            {k: v for k, v in shown.items() if v not in ("", None, False)},
        )
        self.vane.refresh_from_db()
        self.assertEqual(
            (self.vane.serial, self.vane.accuracy, self.vane.accuracy_share),
            ("V-7", 0.0213987654321, 0.0123456789),
        )


class RigStateTests(StoresCase):
    def test_a_rig_without_runs_changes_in_place(self):
        now = actions_rigs.change_rig(
            self.built.operator, self.rig, constants(self.rig, bore=(0.13, 0.0001)), self.meters, ""
        )
        self.assertEqual((now.pk, now.state, now.pairs["bore"][0]), (self.rig.pk, 1, 0.13))

    def test_with_runs_it_gets_a_new_state_and_old_runs_keep_theirs(self):
        old = self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        figure = old.result.value
        with self.assertRaisesRegex(ValidationError, "Say what is different now"):
            actions_rigs.change_rig(
                self.built.operator,
                self.rig,
                constants(self.rig, bore=(0.14, 0.0001)),
                self.meters,
                " ",
            )
        now = actions_rigs.change_rig(
            self.built.operator,
            self.rig,
            constants(self.rig, bore=(0.14, 0.0001)),
            self.meters,
            "A wider tube.",
        )
        self.assertEqual(
            (now.state, now.previous_id, [s.state for s in states_of(now)]),
            (2, self.rig.pk, [2, 1]),
        )
        test = self.built.tests["air"]
        test.refresh_from_db()
        self.assertEqual(test.rig_id, now.pk)
        self.assertEqual(recompute(runs().filter(pk=old.pk)).changed, [])
        new = self.built.air(self.built.specimens["Amsel"], 5, (4.0, 4.0))
        self.assertAlmostEqual(new.result.value / figure, (0.14 / 0.1252) ** 2, places=6)
        self.assertEqual((old.rig_id, new.rig_id), (self.rig.pk, now.pk))
        with self.assertRaisesRegex(ValidationError, "was changed since"):
            actions_rigs.change_rig(
                self.built.operator, self.rig, constants(self.rig), self.meters, "again"
            )

    def test_published_rounds_keep_their_rig(self):
        self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        self.built.round.state, self.built.round.published_at = "published", START
        self.built.round.save()
        actions_rigs.change_rig(
            self.built.operator,
            self.rig,
            constants(self.rig, bore=(0.14, 0.0001)),
            self.meters,
            "A wider tube.",
        )
        self.built.tests["air"].refresh_from_db()
        self.assertEqual(self.built.tests["air"].rig_id, self.rig.pk)

    def test_standing_leaves_out_what_has_no_reference_in_its_state(self):
        self.built.measure_all()
        test = self.built.tests["air"]
        now = actions_rigs.change_rig(
            self.built.operator,
            self.rig,
            constants(self.rig, bore=(0.14, 0.0001)),
            self.meters,
            "A wider tube.",
        )
        test.rig = now
        self.built.air(self.built.specimens["Amsel"], 500, (4.4, 4.4))
        judge_round(self.built.round.pk)
        standing = self.built.round.rules.get().standing
        self.assertRegex(
            " ".join(standing.notes),
            "Air test: 1 run has no run of the reference in the same state",
        )
        before = standing.rows.get(entry__name="Amsel").tests["air"]["change"]
        self.built.air(self.built.reference, 505, (4.0, 4.0))
        judge_round(self.built.round.pk)
        standing.refresh_from_db()
        self.assertEqual(standing.notes, [])
        self.assertAlmostEqual(
            standing.rows.get(entry__name="Amsel").tests["air"]["change"], before, delta=0.3
        )

    def test_nothing_changed_is_no_new_state(self):
        self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        rig = Rig.objects.create(name="Box", kind="chamber", constants={"depth": [0.5, 0.0]})
        same = actions_rigs.change_rig(self.built.operator, rig, rig.pairs, {}, "", "a note")
        self.assertEqual((same.state, same.note), (1, "a note"))

    def test_impossible_geometry_is_refused_by_field(self):
        with self.assertRaises(ValidationError) as refused:
            actions_rigs.add_rig(
                self.built.host,
                Rig(name="T", kind="tunnel"),
                {"bore": (-0.1, 0.0), "length": (1.0, 0.0), "sensor_at": (1.5, 0.0)},
                {},
            )
        self.assertEqual(set(refused.exception.message_dict), {"bore", "sensor_at"})
        self.assertFalse(Rig.objects.filter(name="T").exists())

    def test_the_form_keeps_digits_that_were_left_alone(self):
        rig = Rig.objects.create(
            name="Tube",
            kind="tunnel",
            constants={
                "bore": [0.12521234567891, 0.00012345678901],
                "profile_factor": [0.845446040123, 0.005],
            },
        )
        self.built.tests["air"].rig = rig
        (
            self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
            if rig.meters.exists()
            else None
        )
        self.sign_in()
        form = self.client.get(reverse("stores:change_rig", args=[rig.pk])).context["form"]
        data = {
            name: form.fields[name].prepare_value(form[name].value()) or "" for name in form.fields
        }
        self.client.post(reverse("stores:change_rig", args=[rig.pk]), data | {"note": "dusted"})
        rig.refresh_from_db()
        self.assertEqual(
            (rig.note, rig.pairs["bore"]), ("dusted", (0.12521234567891, 0.00012345678901))
        )
        self.assertEqual(Rig.objects.filter(name="Tube").count(), 1)

    def test_drawing_follows_while_typing_and_names_what_cannot_be(self):
        url = "stores:rig_drawing"
        good = self.post(
            url, {"c_bore": "200", "c_length": "2000"}, "tunnel", headers={"hx-request": "true"}
        )
        self.assertContains(good, "⌀ 200 mm")
        bad = self.post(url, {"c_bore": "-200"}, "tunnel", headers={"hx-request": "true"})
        self.assertContains(bad, "cannot be")
        self.assertContains(bad, "<svg")
        self.assertEqual(Rig.objects.count(), 1)


class SeveralRotorsTests(StoresCase):
    def test_a_rig_that_reads_one_speed_can_read_that_of_each_rotor(self):
        rig = self.built.tests["air"].rig
        second = Instrument.objects.create(name="Tacho 2", channel="speed_2", resolution=1.0)
        self.client.force_login(self.built.host)
        change = reverse("stores:change_rig", args=[rig.pk])
        page = self.client.get(change)
        self.assertContains(page, "Several rotors, a speed for each")
        form = page.context["form"]
        data = {
            name: field.prepare_value(form[name].value())
            for name, field in form.fields.items()
            if form[name].value() not in (None, "")
        }
        self.client.post(change, data | {"m_speed_2": second.pk})
        rig.refresh_from_db()
        self.assertIn("speed_2", [m.channel for m in rig.meters.all()])
        self.assertContains(self.client.get(rig.get_absolute_url()), "Speed of rotor 2")
        air = reverse("bench:capture", args=[self.built.round.slug, self.built.tests["air"].pk])
        page = self.client.get(f"{air}?subject=s{self.built.specimens['Amsel'].pk}")
        self.assertContains(page, "Speed of rotor 2")


class UnusedTests(StoresCase):
    """What nothing was measured with can be deleted; what is used says what for."""

    def test_a_rig_and_a_meter_that_nothing_needs(self):
        host, tunnel = self.built.host, self.built.tests["air"].rig
        for thing, why in (
            (tunnel, "It is the rig of “Air test” in Drying rack"),
            (self.built.meters["air_speed"], f"It reads on {tunnel}"),
        ):
            with self.assertRaisesRegex(ValidationError, why):
                actions_rigs.delete_unused(host, thing)
        rig = actions_rigs.add_rig(host, Rig(name="Spare", kind="power"), {}, {})
        meter = actions.save_instrument(host, Instrument(name="Spare", channel="power"))
        self.client.force_login(self.built.people["viewer"])
        for thing in (rig, meter):
            self.assertEqual(
                self.client.post(f"{thing.get_absolute_url()}delete/").status_code, 403
            )
        self.client.force_login(host)
        for thing in (rig, meter):
            self.assertContains(self.client.get(thing.get_absolute_url()), "Delete it")
            answer = self.client.post(f"{thing.get_absolute_url()}delete/", follow=True)
            self.assertContains(answer, "Spare is deleted")
        self.assertNotContains(self.client.get(tunnel.get_absolute_url()), "Delete it")
        kept = AuditEntry.objects.filter(action__endswith=".delete").values_list(
            "action", flat=True
        )
        self.assertEqual(set(kept), {"rig.delete", "instrument.delete"})


class GuidedCalibrationTests(StoresCase):
    def setUp(self):
        self.rig = Rig.objects.create(
            name="Tube", kind="tunnel", constants={"bore": [0.1252, 0.0001]}
        )

    def test_a_traverse_gives_the_profile_factor(self):
        now = actions_rigs.calibrate_rig(
            self.built.operator, self.rig, RigCalibration.Kind.TRAVERSE, TRAVERSE, "six trays"
        )
        self.assertAlmostEqual(now.pairs["profile_factor"][0], sum(SHAPE) / 5, places=9)
        made = RigCalibration.objects.get()
        self.assertEqual(
            (made.rig_id, made.note, made.by), (now.pk, "six trays", self.built.operator)
        )

    def test_a_blank_plate_gives_the_leak(self):
        readings = {
            "pressures": [20.0, 80.0, 300.0],
            "flows": [2e-5 * p**0.65 for p in (20.0, 80.0, 300.0)],
        }
        now = actions_rigs.calibrate_rig(
            self.built.operator, self.rig, RigCalibration.Kind.BLANK_PLATE, readings
        )
        self.assertAlmostEqual(now.pairs["leak_exponent"][0], 0.65, places=9)

    def test_over_the_web(self):
        data = {"method": "log_linear", "points": "5"}
        for r in range(4):
            data[f"centre-{r}"] = "18"
            data |= {f"v-{r}-{p}": f"{18 * v:.4f}" for p, v in enumerate(SHAPE)}
        args = (self.rig.pk, "traverse")
        look = self.post("stores:calibrate_rig", data, *args, headers={"hx-request": "true"})
        self.assertContains(look, "0.844")
        self.assertEqual(RigCalibration.objects.count(), 0)
        gap = self.post(
            "stores:calibrate_rig",
            {k: v for k, v in data.items() if k != "v-1-2"} | {"keep": "yes"},
            *args,
        )
        self.assertContains(gap, "Radius 2: a speed is missing", status_code=422)
        self.assertContains(gap, 'value="18"', status_code=422)
        self.post("stores:calibrate_rig", data | {"keep": "yes"}, *args)
        self.rig.refresh_from_db()
        self.assertAlmostEqual(self.rig.pairs["profile_factor"][0], 0.844, places=4)
        plate = self.post(
            "stores:calibrate_rig",
            {"pressure": ["2", "9"], "flow": ["0,4", "9"], "keep": "yes"},
            self.rig.pk,
            "blank_plate",
        )
        self.assertContains(plate, "leaks have 0.5 to 1", status_code=422)


class ReferenceAndPictureTests(StoresCase):
    def picture(self, kind="PNG", size=(40, 30)):
        out = io.BytesIO()
        Image.new("RGB", size, "teal").save(
            out, kind, **({"exif": b"Exif\x00\x00secret place"} if kind == "JPEG" else {})
        )
        return out.getvalue()

    def test_a_new_specimen(self):
        made = actions.add_reference(self.built.operator, "Loft-140", "L-03", 12.5)
        self.assertEqual((made.type.name, made.state, made.hours), ("Loft-140", "new", 12.5))
        for type_name, serial, hours, words in (
            ("Loft-140", "L-03", 0, "exists already"),
            ("", "L-4", 0, "Give the type"),
            ("Loft-140", "L-4", -1, "0 or more"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                actions.add_reference(self.built.operator, type_name, serial, hours)

    def test_hours_are_counted_from_runs(self):
        from hauch.pages.reference_health import hours_of

        self.built.air(self.built.reference, 0, (4.0, 4.0))
        self.built.air(self.built.reference, 5, (4.0, 4.0))
        self.assertAlmostEqual(hours_of(self.built.reference), 2 * 3 / 60)

    def test_a_picture_is_written_anew(self):
        data, width, height = clean_picture(self.picture("JPEG", (3200, 1600)))
        self.assertEqual((width, height), (1600, 800))
        self.assertNotIn(b"secret place", data)
        specimen = self.built.reference
        sent = SimpleUploadedFile("../../evil.svg", self.picture(), "image/svg+xml")
        self.post("stores:note_reference", {"note": "Hums.", "picture": sent}, specimen.pk)
        specimen.refresh_from_db()
        self.assertEqual(specimen.note, "Hums.")
        answer = self.client.get(reverse("stores:picture", args=[specimen.picture.sha256]))
        self.assertEqual((answer["Content-Type"], answer.content[:2]), ("image/jpeg", b"\xff\xd8"))

    def test_what_is_no_picture(self):
        for data in (b"", b"GIF89a" + b"0" * 50, b"<svg onload='x'/>", self.picture()[:60]):
            with (
                self.subTest(data[:8]),
                self.assertRaisesRegex(ValidationError, "no picture that can be read"),
            ):
                clean_picture(data)
        with self.assertRaisesRegex(ValidationError, "at most 20 MB"):
            clean_picture(b"0" * 20_000_001)
        with (
            mock.patch("hauch.stores.pictures.clean", works.crash_with),
            self.assertRaisesRegex(ValidationError, "could not be read"),
        ):
            clean_picture(self.picture())

    def test_a_file_is_kept_whole_or_not_at_all(self):
        """A disk that is full in the middle leaves nothing under its name, nor beside it."""

        content = (uuid4().bytes, b"01")

        class Ending(ContentFile):
            left = 3

            def chunks(self, chunk_size=None):
                for block in content:
                    self.left -= 1
                    if not self.left:
                        raise OSError(28, "No space left on device")
                    yield block

        with self.assertRaises(OSError):
            keep(Ending(b""))
        digest = hashlib.sha256(b"".join(content)).hexdigest()
        place = place_of(f"{digest[:2]}/{digest}")
        self.assertFalse(place.exists())
        self.assertEqual([p for p in place.parent.iterdir() if p.name.startswith(".coming")], [])
        self.assertEqual(keep(b"".join(content)), (digest, f"{digest[:2]}/{digest}"))
        self.assertEqual(place.read_bytes(), b"".join(content))


class LibraryTests(StoresCase):
    def test_json_goes_out_and_comes_in_elsewhere(self):
        actions.add_calibration(
            self.built.operator,
            Instrument.objects.get(name="Vane"),
            date(2026, 4, 1),
            [(1, 0.9), (5, 4.5)],
        )
        tube = Rig.objects.create(name="Tube", kind="tunnel", constants={"bore": [0.1252, 0.0001]})
        actions_rigs.calibrate_rig(
            self.built.operator, tube, RigCalibration.Kind.TRAVERSE, TRAVERSE
        )
        Rig.objects.exclude(pk=tube.pk).filter(tests=None).delete()
        content = json.loads(export_library())
        content["rigs"] = [r for r in content["rigs"] if r["name"] == "Tube"]
        before = json.dumps(content)
        tube.delete()
        self.assertEqual(import_library(self.built.host, before.encode()), ["Tube"])
        again = Rig.objects.get(name="Tube")
        self.assertEqual(again.calibrations.count(), 1)
        self.assertEqual(import_library(self.built.host, before.encode()), [])

    def test_csv_goes_out_and_comes_in(self):
        self.assertIn("Vane,air_speed,,0.01,0.02,0", instruments_csv())
        names = import_library(
            self.built.host,
            b"name,channel,resolution,accuracy\nHot wire H1,air_speed,0.001,0.01\n'=cmd,power,1,\n",
        )
        self.assertEqual(names, ["Hot wire H1", "=cmd"])
        self.assertIn("'=cmd", instruments_csv())
        table = b"rig,kind,constant,value,standard_uncertainty\nBag,bag_fill,bag_volume,0.12,0.001\nBag,bag_fill,mouth,0.3,\n"  # noqa: E501
        self.assertEqual(import_library(self.built.host, table), ["Bag"])
        self.assertIn("Bag,bag_fill,bag_volume,0.12,0.001", rigs_csv())

    def test_what_cannot_be_read_leaves_nothing_behind(self):
        for data, words in (
            (b"\xff\xfe", "no text in UTF-8"),
            (b"a,b\n1,2", "neither the columns"),
            (b"{}", "not a library"),
            (b"{", "cannot be read"),
            (b"name,channel\nX,aura", "Line 2: “aura” is no channel"),
            (
                b"name,channel,resolution\nX,power,much",
                "Line 2, resolution: “much” is not a number",
            ),
            (
                b"name,channel,resolution\nX,power,1\nY,power,-1",
                "Line 3, Y: Resolution and limits must be 0 or more",
            ),
            (
                b"rig,kind,constant,value,standard_uncertainty\nX,tunnel,bore,-1,0",
                "X .line 2.: Bore of the tube: -1 m cannot be",
            ),
            (b"rig,kind,constant,value,standard_uncertainty\nX,aura,bore,1,0", "is no kind of rig"),
            (
                json.dumps(
                    {
                        "schema": "hauch.library",
                        "schema_version": 1,
                        "instruments": [],
                        "rigs": [{"name": "X"}],
                    }
                ).encode(),
                "rigs, no. 1: “uid” is missing",
            ),
        ):
            before = (Instrument.objects.count(), Rig.objects.count(), AuditEntry.objects.count())
            with self.subTest(words), self.assertRaisesRegex(BundleRefused, words):
                import_library(self.built.host, data)
            self.assertEqual(
                (Instrument.objects.count(), Rig.objects.count(), AuditEntry.objects.count()),
                before,
            )

    def test_over_the_web(self):
        sent = SimpleUploadedFile("meters.csv", b"name,channel\nHot wire H1,air_speed\n")
        answer = self.post("exchange:import_library", {"library": sent}, follow=True)
        self.assertContains(answer, "New in the stores: Hot wire H1.")
        self.assertContains(
            self.post("exchange:import_library", {}), "Choose the JSON or CSV file", status_code=422
        )
        for table, start in (("instruments", b"name,channel"), ("rigs", b"rig,kind"), ("", b"{")):
            self.assertTrue(
                self.client.get(reverse("exchange:library") + f"?table={table}").content.startswith(
                    start
                )
            )


class PermissionTests(StoresCase):
    def test_only_those_who_work_with_rigs_change_the_stores(self):
        vane = Instrument.objects.get(name="Vane")
        for who in ("designer", "viewer", "stranger"):
            user = self.built.people[who]
            for action in (
                lambda user=user: actions.save_instrument(
                    user, Instrument(name="X", channel="power")
                ),
                lambda user=user: actions.add_calibration(
                    user, vane, date(2026, 4, 1), [(1, 1), (2, 2)]
                ),
                lambda user=user: actions_rigs.add_rig(user, Rig(name="X", kind="lift"), {}, {}),
                lambda user=user: actions_rigs.change_rig(user, self.rig, {}, {}, "x"),
                lambda user=user: actions_rigs.calibrate_rig(user, self.rig, "traverse", TRAVERSE),
                lambda user=user: actions.add_reference(user, "T", "1"),
                lambda user=user: actions.change_reference(user, self.built.reference, note="x"),
                lambda user=user: import_library(user, b"{}"),
            ):
                with self.assertRaises(PermissionDenied):
                    action()
        self.assertEqual((Run.objects.count(), ReferenceSpecimen.objects.count()), (0, 1))


class TubeTests(StoresCase):
    def test_the_tube_of_a_tunnel_is_had_as_files(self):
        self.sign_in("viewer")
        page = self.client.get(self.rig.get_absolute_url())
        self.assertContains(page, "Print its tube")
        self.assertContains(page, "8 segments")
        for part in ("segment", "segment_with_hole", "straightener"):
            for kind, start in (("stl", b""), ("3mf", b"PK")):
                answer = self.client.get(
                    reverse("stores:tube_file", args=[self.rig.pk, part, kind])
                )
                self.assertEqual(answer.status_code, 200)
                self.assertTrue(answer.content.startswith(start))
                self.assertGreater(len(answer.content), 2000)
        for part, kind in (("propeller", "stl"), ("segment", "exe")):
            at = reverse("stores:tube_file", args=[self.rig.pk, part, kind])
            self.assertEqual(self.client.get(at).status_code, 404)

    def test_one_that_no_printer_makes_says_so(self):
        self.sign_in()
        wide = Rig.objects.create(name="Wide", kind="tunnel", constants={"bore": [0.5, 0.0]})
        self.assertContains(self.client.get(wide.get_absolute_url()), "wider than most printers")
        at = reverse("stores:tube_file", args=[wide.pk, "segment", "stl"])
        self.assertRedirects(self.client.get(at), wide.get_absolute_url())
        chamber = Rig.objects.create(name="Box", kind="chamber")
        self.assertNotContains(self.client.get(chamber.get_absolute_url()), "Print its tube")
        at = reverse("stores:tube_file", args=[chamber.pk, "segment", "stl"])
        self.assertEqual(self.client.get(at).status_code, 404)


class ReliedOnTests(StoresCase):
    """Meters that other rounds rely on: who may change them, and who hears of it."""

    def setUp(self):
        self.meter = Instrument.objects.get(channel="air_speed")
        self.stranger = User.objects.create_user("elsewhere", password="x")
        other = Round.objects.create(
            slug="other", number=8, title="Other", question="?", part="rotor", state="bench"
        )
        other.memberships.create(user=self.stranger, role="host")
        self.theirs = actions.add_calibration(
            self.built.host, self.meter, START.date(), [(1, 1.1), (2, 2.2), (5, 5.5)]
        )

    def test_who_has_no_say_in_all_of_its_rounds_does_not_change_it(self):
        self.meter.accuracy = 0.5
        for user, may in ((self.stranger, False), (self.built.operator, True)):
            with self.subTest(str(user)):
                if may:
                    actions.save_instrument(user, self.meter)
                    continue
                with self.assertRaisesRegex(PermissionDenied, "relied on by 1 round"):
                    actions.save_instrument(user, self.meter)
                with self.assertRaisesRegex(PermissionDenied, "relied on by 1 round"):
                    actions.withdraw_calibration(user, self.theirs, "no")
        self.client.force_login(self.stranger)
        page = self.client.get(self.meter.get_absolute_url())
        self.assertContains(page, "1 round in which you are neither host nor operator")
        self.assertNotContains(page, reverse("stores:change_instrument", args=[self.meter.pk]))
        self.assertNotContains(page, "Withdraw the calibration")
        form = self.client.get(reverse("stores:change_instrument", args=[self.meter.pk]))
        self.assertEqual(form.status_code, 403)

    def test_a_calibration_of_ones_own_and_who_keeps_the_installation(self):
        own = actions.add_calibration(
            self.stranger, self.meter, START.date(), [(1, 1.2), (2, 2.4), (5, 6.0)]
        )
        actions.withdraw_calibration(self.stranger, own, "slipped")
        with self.assertRaisesRegex(ValidationError, "already"):
            actions.withdraw_calibration(self.stranger, own, "slipped")
        self.stranger.is_staff = True
        actions.withdraw_calibration(self.stranger, self.theirs, "drifted")

    def test_its_rounds_hear_of_it_and_their_runs_are_computed_again(self):
        run = self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        before = run.result.value
        actions.withdraw_calibration(self.built.operator, self.theirs, "drifted")
        run.result.refresh_from_db()
        self.assertNotEqual(run.result.value, before)
        told = AuditEntry.objects.filter(
            round=self.built.round, action="instrument.withdraw_calibration"
        ).get()
        self.assertEqual(told.detail["reason"], "drifted")

    def test_one_that_an_import_brings_counts_as_one_that_is_typed(self):
        content = json.loads(export_library())
        content["rigs"] = []
        [row] = [one for one in content["instruments"] if one["uid"] == str(self.meter.uid)]
        row["calibrations"].insert(
            0, row["calibrations"][0] | {"uid": str(uuid.uuid4()), "slope": 0.5, "points": []}
        )
        run = self.built.air(self.built.specimens["Amsel"], 0, (4.0, 4.0))
        before = run.result.value
        data = json.dumps(content).encode()
        for count in (1, 1):  # the second time it brings nothing
            self.assertEqual(import_library(self.built.operator, data), [])
            run.result.refresh_from_db()
            self.assertNotEqual(run.result.value, before)
            told = AuditEntry.objects.filter(
                round=self.built.round, action="instrument.calibrate", detail__imported=1
            )
            self.assertEqual(told.count(), count)
