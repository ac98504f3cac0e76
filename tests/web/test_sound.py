"""Sound recordings: handed in, matched, analysed in a child, told on their page, counted in tests."""

import struct
from datetime import timedelta
from unittest import mock

import numpy as np
import soundfile
from django.core.exceptions import PermissionDenied, ValidationError
from django.test import TestCase
from django.urls import reverse

from hauch.bench.files import keep_file
from hauch.bench.models import Recording, Run, SourceFile, Waveform
from hauch.bench.runs import Subject
from hauch.bench.traces import store
from hauch.core.trace.source import Held
from hauch.exchange.importing import import_round
from hauch.formats.apart import Died
from hauch.formats.sound import wav_bytes
from hauch.people.models import AuditEntry
from hauch.rounds.models import RuleTerm, Setting, Test
from hauch.sound import actions, counting
from hauch.sound.analysing import ask_older, give_up, run_analysis
from hauch.sound.matching import guess
from hauch.sound.models import Calibration, Mounting, SoundAnalysis, SoundRecording
from hauch.sound.queries import side_by_side, unlike
from hauch.stores.models import Rig
from hauch.verdict.judging import refresh
from tests.builder import ROOM, START, build
from tests.bundles import as_another, exported
from tests.sounds import (
    SAMPLES,
    analyse_waiting,
    calibrated,
    confirm,
    hand_in,
    session_of,
    upload,
    wav,
)

Kind, State = SoundRecording.Kind, SoundRecording.State


class SoundCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.slug = cls.built.round.slug
        cls.amsel, cls.binse = (cls.built.specimens[n] for n in ("Amsel", "Binse"))

    def sign_in(self, who="operator"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def at(self, name, *args):
        return reverse(f"sound:{name}", args=[self.slug, *args])


class HandInTests(SoundCase):
    def test_a_session_from_nothing_to_levels(self):
        """As a newcomer does it: begin, hand in all at once, confirm, see the levels."""
        self.sign_in()
        page = self.client.get(self.at("overview"))
        self.assertContains(page, "No recording is in yet")
        begun = self.client.post(
            self.at("begin"),
            {
                "mounting": "loaded",
                "distance": "1 m",
                "mains": "50",
                "calibration": "tone",
                "tone_level": "94",
            },
        )
        session = self.built.round.sound_sessions.get()
        self.assertRedirects(begun, session.get_absolute_url())
        self.assertEqual(session.distance, 1.0)
        names = ("calibrator.flac", "background.flac", "fan.flac", "whistle.flac")
        answer = self.client.post(
            self.at("hand_in", session.pk), {"sound": [upload(n) for n in names]}
        )
        self.assertRedirects(answer, session.get_absolute_url())
        kinds = {r.name: r.kind for r in session.recordings.all()}
        self.assertEqual(kinds["calibrator.flac"], Kind.TONE)
        self.assertEqual(kinds["background.flac"], Kind.BACKGROUND)
        self.assertEqual(kinds["fan.flac"], Kind.PART)
        data = {}
        for row in session.recordings.all():
            data |= {f"kind-{row.pk}": row.kind, f"blades-{row.pk}": "7", f"speed-{row.pk}": "1850"}
            if row.name == "fan.flac":
                data[f"part-{row.pk}"] = f"{self.built.reference}, reference"
            if row.name == "whistle.flac":
                data[f"part-{row.pk}"] = "Amsel, specimen R-1"
        self.client.post(self.at("confirm", session.pk), data)
        self.assertEqual(set(session.recordings.values_list("state", flat=True)), {State.WAITING})
        self.assertContains(self.client.get(self.at("rows", session.pk)), "every 1s")
        for pk in session.recordings.values_list("pk", flat=True):
            run_analysis(pk)  # in children, as the worker does
        analyse_waiting()
        page = self.client.get(session.get_absolute_url())
        self.assertContains(page, "58.3")
        whistle = session.recordings.get(name="whistle.flac")
        page = self.client.get(whistle.get_absolute_url())
        self.assertContains(
            page, "58.3 dB(A), 6.6 ± 0.1 dB more than the reference; a 2,900 Hz whistle is new"
        )
        self.assertContains(page, "whistle=2900.0")
        self.assertEqual(AuditEntry.objects.filter(action="sound.confirm").count(), len(names))

    def test_what_cannot_be_read_is_told_and_the_rest_stays(self):
        self.sign_in()
        session = session_of(self.built)
        files = [
            upload("fan.flac"),
            upload("text.wav", b"this is no sound at all"),
            upload("empty.wav", b""),
            upload("none.wav", wav(np.zeros(0))),
            upload("broken.wav", b"RIFF\x00\x00\x00\x00WAVE"),
        ]
        answer = self.client.post(self.at("hand_in", session.pk), {"sound": files})
        self.assertEqual(answer.status_code, 422)
        for words in (
            "text.wav: It is no sound that can be read here",
            "empty.wav: The file is empty",
            "none.wav: There is no sound in it: it lasts 0 s",
            "broken.wav: It begins as a sound file does, but cannot be read",
            "The other 1 is in",
        ):
            self.assertContains(answer, words, status_code=422)
        self.assertEqual([r.name for r in session.recordings.all()], ["fan.flac"])
        self.assertEqual(SourceFile.objects.count(), 1)  # nothing of the others is kept

    def test_the_same_twice_and_too_much(self):
        self.sign_in()
        session = session_of(self.built)
        hand_in(self.built, session, "fan.flac")
        answer = self.client.post(self.at("hand_in", session.pk), {"sound": upload("fan.flac")})
        self.assertContains(answer, "in this session already", status_code=422)
        answer = self.client.post(self.at("hand_in", session.pk), {})
        self.assertContains(answer, "Choose a sound file first", status_code=422)
        with mock.patch("hauch.site.uploads.most_bytes", return_value=10):
            answer = self.client.post(self.at("hand_in", session.pk), {"sound": upload("fan.flac")})
        self.assertContains(answer, "larger than 400 MB", status_code=422)

    def test_bad_words_at_confirming_change_nothing(self):
        self.sign_in()
        session = session_of(self.built)
        row = hand_in(self.built, session, "stereo.flac")
        run = self.built.air(self.binse, 1, (4.0, 4.1))
        for changed, words in (
            ({}, "Say what part is heard"),
            ({"part": "Nobody"}, "There is no part “Nobody”"),
            ({"part": "R-1", "speed": "fast"}, "Speed:"),
            ({"part": "R-1", "speed": "-3"}, "The speed must be between 1 and 120,000"),
            ({"part": "R-1", "blades": "6.5"}, "whole number"),
            ({"part": "R-1", "blades": "900"}, "between 1 and 200"),
            ({"run": "999999"}, "There is no run 999999"),
            ({"part": "R-1", "run": str(run.pk)}, "not what is named as heard"),
            ({"part": "R-1", "channel": "3"}, "It has 2 channels"),
            ({"kind": "choir", "part": "R-1"}, "Say what it is"),
        ):
            data = {f"{k}-{row.pk}": v for k, v in ({"kind": "part"} | changed).items()}
            with self.subTest(words):
                answer = self.client.post(self.at("confirm", session.pk), data)
                self.assertContains(answer, words, status_code=422)
                row.refresh_from_db()
                self.assertEqual(row.state, State.NEW)
        data = {
            f"kind-{row.pk}": "part",
            f"run-{row.pk}": f"Run {run.pk}",
            f"channel-{row.pk}": "2",
        }
        self.client.post(self.at("confirm", session.pk), data)
        row.refresh_from_db()
        self.assertEqual((row.run, row.specimen, row.channel), (run, self.binse, 1))

    def test_the_newest_session_is_first(self):
        self.sign_in()
        first, second = (session_of(self.built) for _ in range(2))
        type(first).objects.filter(pk=first.pk).update(note="moves its row")
        page = self.client.get(reverse("sound:overview", args=[self.built.round.slug]))
        self.assertEqual(list(page.context["sessions"]), [second, first])

    def test_a_run_guessed_by_time_gives_way_to_the_part_that_is_named(self):
        self.sign_in()
        session = session_of(self.built)
        run = self.built.air(self.built.reference, 1, (4.0, 4.1))
        row = hand_in(self.built, session, "fan.flac", minutes=1)
        self.assertEqual(row.run, run)
        data = {f"kind-{row.pk}": "part", f"part-{row.pk}": "R-2", f"run-{row.pk}": str(run.pk)}
        self.client.post(self.at("confirm", session.pk), data)
        row.refresh_from_db()
        self.assertEqual((row.specimen, row.run), (self.binse, None))
        own = self.built.air(self.binse, 2, (4.0, 4.1))
        again = hand_in(self.built, session, "whistle.flac", minutes=1)
        self.assertEqual(again.run, run)
        data = {k.replace(str(row.pk), str(again.pk)): v for k, v in data.items()}
        self.client.post(self.at("confirm", session.pk), data)
        again.refresh_from_db()
        self.assertEqual((again.specimen, again.run), (self.binse, own))

    def test_taken_out_before_it_is_confirmed_and_handed_in_again(self):
        self.sign_in()
        session = session_of(self.built)
        row = hand_in(self.built, session, "fan.flac")
        self.client.post(self.at("confirm", session.pk), {"out": row.pk})
        self.assertFalse(session.recordings.standing().exists())
        hand_in(self.built, session, "fan.flac")
        self.assertEqual(session.recordings.count(), 2)

    def test_session_forms_say_what_is_wrong(self):
        self.sign_in()
        usual = {"mounting": "loaded", "mains": "50", "calibration": "none"}
        for changed, words in (
            ({"distance": "1"}, "between 0.02 and 50 m"),
            ({"distance": "far"}, "far"),
            ({"calibration": "tone"}, "Enter the level that stands on the calibrator"),
            ({"calibration": "tone", "tone_level": "9400"}, "cannot be"),
            ({"calibration": "meter"}, "Enter what the meter read"),
            ({"mains": "16"}, "16"),
        ):
            with self.subTest(words):
                answer = self.client.post(self.at("begin"), usual | changed)
                self.assertContains(answer, words, status_code=422)
        self.assertFalse(self.built.round.sound_sessions.exists())


class MatchTests(SoundCase):
    def test_by_name_and_by_time(self):
        run = self.built.air(self.binse, 60, (4.0, 4.1))
        near, far = START + timedelta(minutes=63), START + timedelta(days=3)
        for name, moment, part in (
            ("Amsel R-1.wav", far, self.amsel),
            ("amsel_2.flac", far, self.amsel),
            ("R-2 evening.m4a", far, self.binse),
            ("REC0007.wav", near, self.binse),
            (f"run {run.pk}.wav", far, self.binse),
            ("REC0008.wav", far, None),
        ):
            with self.subTest(name):
                got = guess(self.built.round, name, moment)
                self.assertEqual((got.kind, got.specimen), (Kind.PART, part))
        self.assertEqual(guess(self.built.round, "REC7.wav", near).run, run)
        self.assertEqual(guess(self.built.round, "Amsel.wav", near).run, None)
        for name, kind in (("Background 2.wav", Kind.BACKGROUND), ("94dB tone.wav", Kind.TONE)):
            self.assertEqual(guess(self.built.round, name, near).kind, kind)

    def test_a_word_within_a_name_is_no_room(self):
        self.amsel.version.entry.name = "Mushroom"
        self.amsel.version.entry.save()
        self.binse.version.entry.name = "Room divider"
        self.binse.version.entry.save()
        for name, part in (("mushroom 1.wav", self.amsel), ("Room divider, free.wav", self.binse)):
            got = guess(self.built.round, name, START)
            self.assertEqual((got.kind, got.specimen), (Kind.PART, part), name)
        self.assertEqual(guess(self.built.round, "rooms.wav", START).kind, Kind.BACKGROUND)


class AnalysisTests(SoundCase):
    def test_levels_hang_on_the_tone_and_follow_it(self):
        session = session_of(self.built)
        fan = confirm(self.built, hand_in(self.built, session, "fan.flac"), self.amsel)
        self.assertEqual(fan.state, State.FAILED)
        self.assertIn("No recording of the calibrator's tone is in yet", fan.problem)
        tone = hand_in(self.built, session, "calibrator.flac")
        confirm(self.built, tone, kind=Kind.TONE)
        fan.refresh_from_db()
        self.assertEqual(fan.state, State.WAITING)
        analyse_waiting()
        self.assertAlmostEqual(fan.analysis.level, 51.68, delta=0.2)
        room = hand_in(self.built, session, "background.flac")
        confirm(self.built, room, kind=Kind.BACKGROUND)
        analyse_waiting()
        fan.analysis.refresh_from_db()
        self.assertAlmostEqual(fan.analysis.told.background, 25.34, delta=0.2)
        fields = {"tone_level": 114.0}
        self.assertEqual(actions.change_session(self.built.operator, session, fields), 3)
        analyse_waiting()
        fan = SoundRecording.objects.get(pk=fan.pk)
        self.assertAlmostEqual(fan.analysis.level, 71.68, delta=0.2)

    def test_by_a_meter_read_beside(self):
        session = session_of(self.built, calibration=Calibration.NONE, tone_level=None)
        fan = confirm(self.built, hand_in(self.built, session, "fan.flac"), self.amsel)
        self.assertIsNone(fan.analysis.pascals)
        self.assertIsNone(fan.analysis.loudness)
        other = confirm(self.built, hand_in(self.built, session, "whistle.flac"), self.binse)
        fields = {"calibration": Calibration.METER, "meter_level": 60.0, "read_beside": fan}
        actions.change_session(self.built.operator, session, fields)
        analyse_waiting()
        fan, other = (SoundRecording.objects.get(pk=r.pk) for r in (fan, other))
        self.assertAlmostEqual(fan.analysis.told.weighted["A"].mean, 60.0, delta=0.01)
        self.assertAlmostEqual(other.analysis.level, 60 + 58.309 - 51.685, delta=0.2)
        actions.set_aside(self.built.operator, fan)
        analyse_waiting()
        other.refresh_from_db()
        self.assertEqual(other.state, SoundRecording.State.FAILED)
        self.assertIn("comes first", other.problem)

    def test_a_tone_that_is_none(self):
        session = session_of(self.built)
        confirm(self.built, hand_in(self.built, session, "fan.flac"), kind=Kind.TONE)
        room = hand_in(self.built, session, "background.flac")
        confirm(self.built, room, kind=Kind.BACKGROUND)
        self.assertIn("there is no such tone in it", room.problem)

    def test_another_stretch_with_its_reason(self):
        session = calibrated(self.built)
        fan = confirm(self.built, hand_in(self.built, session, "fan.flac"), self.amsel)
        self.sign_in()
        for data, words in (
            ({"from": "1", "to": "3"}, "Say in a few words why"),
            ({"from": "1", "to": "1.5", "why": "x"}, "at least 1 s long"),
            ({"from": "3", "to": "99", "why": "x"}, "must lie within 0 and 6.0 s"),
            ({"from": "x", "to": "3", "why": "x"}, "Beginning:"),
        ):
            answer = self.client.post(self.at("stretch", fan.pk), data)
            self.assertContains(answer, words, status_code=422)
        self.client.post(
            self.at("stretch", fan.pk), {"from": "1", "to": "3,5", "why": "steady there"}
        )
        analyse_waiting()
        page = self.client.get(fan.get_absolute_url())
        self.assertContains(page, "1.0 to 3.5 s of 6.0 s, by hand: steady there")
        self.client.post(self.at("stretch", fan.pk), {"back": "1"})
        analyse_waiting()
        self.assertContains(
            self.client.get(fan.get_absolute_url()), "the longest one without a fault"
        )

    def test_what_tells_nothing_ends_with_a_sentence(self):
        session = session_of(self.built, calibration=Calibration.NONE, tone_level=None)
        for name, data, words in (
            ("silent.wav", wav(np.zeros(96_000)), "all samples are zero"),
            ("short.wav", wav(np.random.default_rng(1).normal(0, 0.1, 9_600)), "It lasts 0.2 s"),
        ):
            row = confirm(self.built, hand_in(self.built, session, name, data), self.amsel)
            self.assertEqual(row.state, State.FAILED)
            self.assertIn(words, row.problem)
            self.sign_in()
            self.assertContains(self.client.get(row.get_absolute_url()), words)

    def test_a_crash_a_stop_and_a_worker_that_dies(self):
        session = session_of(self.built, calibration=Calibration.NONE, tone_level=None)
        row = hand_in(self.built, session, "fan.flac")
        said = actions.Confirmed(Kind.PART, subject=Subject(specimen=self.amsel))
        actions.confirm(self.built.operator, [(row, said)])
        with mock.patch("hauch.sound.analysing.apart", side_effect=Died("it used too much memory")):
            run_analysis(row.pk)
        row.refresh_from_db()
        self.assertIn("it used too much memory", row.problem)
        actions.analyse_again(self.built.operator, row)
        actions.stop(self.built.operator, row)
        run_analysis(row.pk)  # the job that is still there
        row.refresh_from_db()
        self.assertEqual((row.state, row.problem), (State.FAILED, "It was stopped by hand."))
        actions.analyse_again(self.built.operator, row)
        give_up(row.pk)
        row.refresh_from_db()
        self.assertIn("cut off", row.problem)


class OlderTests(SoundCase):
    def test_what_an_earlier_version_told_is_analysed_anew(self):
        session = calibrated(self.built)
        fan = confirm(self.built, hand_in(self.built, session, "fan.flac"), self.amsel)
        SoundAnalysis.objects.update(core_version="0", figures={"level": "loud"})
        self.sign_in()
        page = self.client.get(fan.get_absolute_url())
        self.assertContains(page, "analysed by an earlier version")
        self.assertContains(self.client.get(session.get_absolute_url()), "fan.flac")
        self.assertEqual(self.client.get(self.at("grid", fan.pk)).status_code, 404)
        self.assertEqual(ask_older(), 3)
        analyse_waiting()
        self.assertContains(self.client.get(fan.get_absolute_url()), "51.7 dB(A)")
        self.assertEqual(ask_older(), 0)


class PageTests(SoundCase):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        session = calibrated(cls.built)
        cls.session = session
        cls.reference = confirm(
            cls.built,
            hand_in(cls.built, session, "fan.flac"),
            cls.built.reference,
            blades=7,
            speed=1850.0,
        )
        cls.own = confirm(
            cls.built,
            hand_in(cls.built, session, "whistle.flac"),
            cls.amsel,
            blades=6,
            speed=1850.0,
        )
        cls.other = confirm(cls.built, hand_in(cls.built, session, "clipped.flac"), cls.binse)

    def test_who_may_hear_what(self):
        for who, seen in (
            ("host", (True, True, True)),
            ("operator", (True, True, True)),
            ("designer", (True, True, False)),
            ("viewer", (True, False, False)),
            ("stranger", (False, False, False)),
        ):
            self.sign_in(who)
            for row, may in zip((self.reference, self.own, self.other), seen, strict=True):
                for name in ("recording", "grid", "copy", "file"):
                    with self.subTest(who=who, row=row.name, page=name):
                        answer = self.client.get(self.at(name, row.pk))
                        self.assertEqual(answer.status_code == 200, may, answer.status_code)
            bench = who in ("host", "operator")
            for name in ("session", "rows"):
                answer = self.client.get(self.at(name, self.session.pk))
                self.assertEqual(answer.status_code == 200, bench)
            self.assertEqual(self.client.get(self.at("begin")).status_code == 200, bench)
            data = {"from": "1", "to": "3", "why": "x"}
            for name in () if bench else ("stretch", "turns", "again", "stop", "take_out", "count"):
                answer = self.client.post(self.at(name, self.own.pk), data)
                self.assertIn(answer.status_code, (403, 404), (who, name))
        self.client.logout()
        self.assertEqual(self.client.get(self.at("overview")).status_code, 302)

    def test_only_a_host_allows_a_comparison(self):
        with self.assertRaises(PermissionDenied):
            actions.allow(self.built.operator, self.session, "why not")

    def test_it_says_what_is_wrong(self):
        self.sign_in()
        page = self.client.get(self.other.get_absolute_url())
        self.assertContains(page, "No level can be told: clipped")
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "The tones are those of 7 blades")
        page = self.client.get(self.at("overview"))
        self.assertContains(page, "clipped</span>")

    def test_queries_and_answers_from_what_is_stored(self):
        self.sign_in()
        self.client.get(self.own.get_absolute_url())
        with self.assertNumQueries(11):
            self.client.get(self.own.get_absolute_url())
        with self.assertNumQueries(8):
            self.client.get(self.at("overview"))

    def test_the_picture_in_detail(self):
        self.sign_in()
        body = self.client.get(self.at("grid", self.own.pk) + "?from=1&to=2&columns=10").content
        low, high, step, rows = struct.unpack("<fffI", body[:16])
        self.assertTrue(low <= 1 and high >= 2 and step >= 0.1)
        self.assertLessEqual((len(body) - 16) // rows, 10)
        for query in ("?from=nan&to=-1&columns=x", "?columns=99999999", "?from=1e300"):
            self.assertEqual(self.client.get(self.at("grid", self.own.pk) + query).status_code, 200)

    def test_the_file_comes_back_as_it_was(self):
        self.sign_in()
        answer = self.client.get(self.at("file", self.own.pk))
        self.assertEqual(b"".join(answer.streaming_content), upload("whistle.flac").read())
        self.assertIn("attachment", answer["Content-Disposition"])
        copy = self.client.get(self.at("copy", self.own.pk))
        self.assertEqual(b"".join(copy.streaming_content)[:4], b"fLaC")

    def test_taking_out_takes_it_from_all_pages(self):
        self.sign_in()
        self.client.post(self.at("take_out", self.own.pk))
        self.assertEqual(self.client.get(self.own.get_absolute_url()).status_code, 404)
        self.assertNotContains(self.client.get(self.at("overview")), "Amsel")

    def test_other_conditions_are_not_compared_unless_a_host_says_so(self):
        session = calibrated(self.built, distance=2.0, mounting=Mounting.FREE)
        far = confirm(self.built, hand_in(self.built, session, "whistle.flac"), self.amsel)
        self.sign_in("host")
        page = self.client.get(far.get_absolute_url())
        self.assertContains(page, "Not compared with")
        self.assertContains(page, "one distance is 2 m, the other 1 m")
        self.assertNotContains(page, "than the reference")
        self.client.post(self.at("allow", session.pk), {"why": "the same duct"})
        page = self.client.get(far.get_absolute_url())
        self.assertContains(page, "6.6 ± 0.6 dB more than the reference")
        self.assertContains(page, "A host allowed the comparison: the same duct")

    def test_other_microphones_and_settings_are_not_compared(self):
        session = calibrated(self.built, device="phone")
        row = confirm(self.built, hand_in(self.built, session, "whistle.flac"), self.amsel)
        self.sign_in()
        page = self.client.get(row.get_absolute_url())
        self.assertContains(page, "the microphones differ")
        self.own.run = self.built.air(self.amsel, 1, (4.0, 4.1))
        lid = Setting.objects.create(round=self.built.round, label="lid off")
        self.own.save()
        self.reference.run = self.built.air(self.built.reference, 1, (4.0, 4.1))
        self.reference.save()
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "more than the reference")
        Run.objects.filter(pk=self.own.run_id).update(setting=lid)
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "they ran with different settings")
        self.assertNotContains(page, "than the reference;")

    def test_several_recordings_of_the_reference(self):
        """The second one, 1 dB louder, widens the doubt, and the page says what it is of."""
        self.sign_in()
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "One recording of each")
        samples, rate = soundfile.read(SAMPLES / "fan.flac")
        again = hand_in(self.built, self.session, "again.wav", wav(samples * 10**0.05, rate))
        confirm(self.built, again, self.built.reference)
        page = self.client.get(self.own.get_absolute_url())
        # 58.31 less the mean of 51.68 and 52.69; t of one degree of freedom, s = 0.71 dB
        self.assertContains(page, "6.1 ± 11")
        self.assertContains(page, "against 2 recordings of the reference")
        parts = side_by_side(self.session)
        self.assertEqual([len(p.recordings) for p in parts], [2, 1])
        self.assertIsNone(parts[0].change)
        self.assertFalse(parts[1].change.clear)
        self.assertTrue(parts[1].change.repeated)
        page = self.client.get(self.at("session", self.session.pk))
        self.assertContains(page, "Parts, the quietest first")
        self.assertContains(page, "not told apart")
        again.refresh_from_db()
        SoundRecording.objects.filter(pk=self.reference.pk).update(speed=1850.0)
        SoundRecording.objects.filter(pk=again.pk).update(speed=900.0)
        self.assertEqual(len(side_by_side(self.session)), 3)  # another speed is no repeat

    def test_what_turned_can_be_corrected(self):
        self.sign_in()
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "6 blades at")
        at = self.at("turns", self.own.pk)
        self.assertEqual(self.client.post(at, {"blades": "7", "speed": "1850"}).status_code, 302)
        analyse_waiting()
        page = self.client.get(self.own.get_absolute_url())
        self.assertContains(page, "7 blades at")
        self.assertNotContains(page, "The tones are those of")
        self.assertContains(page, "Blade passing")
        self.assertTrue(AuditEntry.objects.filter(action="sound.turns").exists())
        for sent, said in (
            ({"blades": "2.5"}, "2.5 is no whole number"),
            ({"blades": "0"}, "0 cannot be; between 1 and 200"),
            ({"poles": "7"}, "an even number of poles"),
            ({"second_blades": "5"}, "Give the second rotor&#x27;s speed too"),
            ({"speed": "quick"}, 'class="error"'),
        ):
            with self.subTest(sent):
                answer = self.client.post(at, {"blades": "7", **sent})
                self.assertContains(answer, said, status_code=422)
        self.own.refresh_from_db()
        self.assertEqual((self.own.blades, self.own.poles), (7, None))
        answer = self.client.post(
            at,
            {
                **{"blades": "7", "speed": "1850", "second_blades": "5"},
                **{"second_speed": "2000", "poles": "14", "switching": "16000"},
            },
        )
        self.assertEqual(answer.status_code, 302)
        analyse_waiting()
        page = self.client.get(self.own.get_absolute_url())
        for words in ("Rotor 2: 5 blades", "motor of 14 poles", "switching at"):
            self.assertContains(page, words)

    def test_exposure_is_told_from_85_db_on(self):
        actions.change_session(self.built.operator, self.session, {"tone_level": 125.0})
        analyse_waiting()
        self.sign_in()
        page = self.client.get(self.own.get_absolute_url())
        # 58.31 + 31 = 89.3 dB(A): 8 h / 2^(4.3 / 3.01) = 3.0 h
        self.assertContains(page, "hearing protection")
        self.assertContains(page, "3.0")

    def test_at_another_distance_with_what_it_assumes(self):
        self.sign_in()
        at = self.own.get_absolute_url()
        page = self.client.get(at + "?distance=2+m")  # 58.3 - 6.02
        self.assertContains(page, "52.3")
        self.assertContains(page, "small source in the open")
        for text in ("0", "far", "-1 m", "²"):
            self.assertContains(self.client.get(at, {"distance": text}), 'class="error"')

    def test_the_run_shows_its_recordings(self):
        run = self.built.air(self.amsel, 1, (4.0, 4.1))
        self.own.run = run
        self.own.save()
        self.sign_in()
        self.assertContains(self.client.get(run.get_absolute_url()), self.at("of_run", run.pk))
        self.assertContains(self.client.get(self.at("of_run", run.pk)), "whistle.flac")


class CountTests(SoundCase):
    """A recording becomes runs of the rules' tests; a standing turns because of a tone."""

    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        rig = Rig.objects.create(
            name="Spot", kind="sound_spot", constants={"distance": [1.0, 0.01]}
        )
        for channel in ("sound_level",):
            rig.meters.create(channel=channel, instrument=cls.built.meters[channel])
        cls.tests = {}
        for order, key in enumerate(
            ("sound_level", "rating_level", "loudness", "sharpness", "worst_tone"), start=20
        ):
            cls.tests[key] = Test.objects.create(
                round=cls.built.round,
                key=key,
                label=key,
                procedure=key,
                rig=rig,
                setting=cls.built.round.settings.first(),
                order=order,
                readings=1,
                repeats=1,
            )
        rules = cls.built.round.rules.get()
        rules.tests.add(*cls.tests.values())
        cls.rules = rules
        cls.session = calibrated(cls.built)
        rows = (
            ("fan.flac", cls.built.reference),
            ("whistle.flac", cls.amsel),
            ("stereo.flac", cls.binse),
        )
        cls.rows = {
            name: confirm(
                cls.built, hand_in(cls.built, cls.session, name), part, blades=7, speed=1850.0
            )
            for name, part in rows
        }

    def count(self, name, *keys):
        return counting.count(
            self.built.operator, self.rows[name], [self.tests[k] for k in keys], ROOM
        )

    def test_readings_and_results(self):
        made = {run.test.key: run for run in self.count("whistle.flac", *self.tests)}
        told = self.rows["whistle.flac"].analysis.told
        value = {key: run.result.value for key, run in made.items()}
        self.assertAlmostEqual(value["sound_level"], told.level, delta=0.02)
        self.assertAlmostEqual(value["rating_level"], told.level + 6.0, delta=0.02)
        self.assertAlmostEqual(value["loudness"], told.loudness, delta=0.01)
        self.assertAlmostEqual(value["sharpness"], told.sharpness, delta=0.01)
        self.assertAlmostEqual(value["worst_tone"], told.audibility, delta=0.01)
        # 1 dB(A) of accuracy, as a rectangle 0.58 dB: 4 % of a loudness.
        self.assertAlmostEqual(
            made["loudness"].result.u / value["loudness"], 0.58 * 0.0693, delta=0.004
        )
        self.assertEqual(made["loudness"].result.troubles, [])

    def test_once_only_and_again_when_the_analysis_changed(self):
        (first,) = self.count("whistle.flac", "loudness")
        with self.assertRaisesRegex(ValidationError, "in these tests already"):
            self.count("whistle.flac", "loudness")
        actions.change_session(self.built.operator, self.session, {"tone_level": 97.0})
        analyse_waiting()
        self.rows["whistle.flac"] = SoundRecording.objects.get(pk=self.rows["whistle.flac"].pk)
        (second,) = self.count("whistle.flac", "loudness")
        first.refresh_from_db()
        self.assertEqual(first.state, Run.State.VOID)
        self.assertGreater(second.result.value, 1.15 * first.result.value)

    def test_what_cannot_be_counted(self):
        with self.assertRaisesRegex(ValidationError, "Tick at least one test"):
            self.count("whistle.flac")
        row = confirm(self.built, hand_in(self.built, self.session, "clipped.flac"), self.binse)
        self.rows["clipped.flac"] = row
        with self.assertRaisesRegex(ValidationError, "No level can be told: clipped"):
            self.count("clipped.flac", "loudness")
        loose = session_of(self.built, calibration=Calibration.NONE, tone_level=None)
        self.rows["loose"] = confirm(self.built, hand_in(self.built, loose, "fan.flac"), self.binse)
        with self.assertRaisesRegex(ValidationError, "not calibrated"):
            self.count("loose", "loudness")

    def test_other_conditions_are_refused_or_noted(self):
        self.count("fan.flac", "loudness")
        far = calibrated(self.built, distance=2.0)
        self.rows["far"] = confirm(self.built, hand_in(self.built, far, "whistle.flac"), self.amsel)
        with self.assertRaisesRegex(ValidationError, "one distance is 2 m, the other 1 m"):
            self.count("far", "loudness")
        actions.allow(self.built.host, far, "the duct is long")
        self.rows["far"] = SoundRecording.objects.get(pk=self.rows["far"].pk)
        (run,) = self.count("far", "loudness")
        self.assertIn("a host allowed it: the duct is long", run.note)

    def test_a_standing_turns_because_of_tones(self):
        """Amsel's level is turned down below Binse's, but it whistles: by level it is first, by the
        level with tones adjusted for it is not.
        """
        quiet = calibrated(self.built, tone_level=87.0)  # 7 dB less gain than the other session
        actions.allow(self.built.host, quiet, "the same place")
        self.rows["whistle.flac"] = confirm(
            self.built,
            hand_in(self.built, quiet, "whistle.flac"),
            self.amsel,
            blades=7,
            speed=1850.0,
        )
        plain = np.diff(np.random.default_rng(4).normal(0, 0.0016, 48_000 * 6), prepend=0)
        self.rows["plain"] = confirm(
            self.built, hand_in(self.built, self.session, "plain.wav", wav(plain * 3)), self.binse
        )
        fan, rate = soundfile.read(SAMPLES / "fan.flac")
        again = hand_in(self.built, self.session, "again.wav", wav(fan[: 4 * rate]))
        self.rows["again"] = confirm(self.built, again, self.built.reference)
        for name in ("fan.flac", "again", "whistle.flac", "plain"):
            self.count(name, "sound_level", "rating_level")
        levels = {name: self.rows[name].analysis.level for name in ("whistle.flac", "plain")}
        self.assertLess(levels["whistle.flac"], levels["plain"])
        self.assertLess(levels["plain"], levels["whistle.flac"] + 6)
        first = {}
        for key in ("sound_level", "rating_level"):
            self.rules.terms.all().delete()
            self.rules.tests.set([self.tests[key]])
            RuleTerm.objects.create(rules=self.rules, test=self.tests[key], weight=1)
            rows = refresh(self.rules).rows.filter(state="ranked").select_related("entry")
            first[key] = rows.order_by("place").first().entry.name
        self.assertEqual(first, {"sound_level": "Amsel", "rating_level": "Binse"})

    def test_on_the_page(self):
        self.client.force_login(
            self.built.operator, backend="django.contrib.auth.backends.ModelBackend"
        )
        row = self.rows["whistle.flac"]
        page = self.client.get(row.get_absolute_url())
        self.assertContains(page, "Count it")
        test = self.tests["loudness"].pk
        at = self.at("count", row.pk)
        answer = self.client.post(at, {"test": test, "temperature": "x"})
        self.assertEqual(answer.status_code, 422)
        form = page.context["form"]["form_key"].value()
        data = {
            "test": test,
            "temperature": "21",
            "pressure": "965",
            "humidity": "48",
            "form_key": form,
        }
        self.assertRedirects(self.client.post(at, data), row.get_absolute_url())
        self.assertEqual(row.counts.get().test, self.tests["loudness"])
        self.assertContains(self.client.get(row.get_absolute_url()), f"run {row.counts.get().pk}")


class MeterTests(SoundCase):
    """What a meter recorded over its line during a run."""

    def test_waveforms_become_recordings(self):
        rig = Rig.objects.create(
            name="Spot", kind="sound_spot", constants={"distance": [1.5, 0.01]}
        )
        rig.meters.create(channel="sound_level", instrument=self.built.meters["sound_level"])
        run = self.built.air(self.amsel, 1, (4.0, 4.1))
        recording = Recording.objects.create(round=self.built.round, started_at=START)
        store(recording, Held(np.arange(60.0), {"speed": np.ones(60)}))
        run.recording, run.rig = recording, rig
        run.windows, run.beside = [[20.0, 40.0]], {"background": [0.0, 10.0]}
        run.save()
        fan, rate = soundfile.read(SAMPLES / "fan.flac")
        room, _ = soundfile.read(SAMPLES / "background.flac")
        for at, samples in ((5.0, room), (30.0, fan), (55.0, fan[::-1])):
            data = wav_bytes(samples[: 3 * rate] * 2.82842712, rate)
            Waveform.objects.create(
                recording=recording,
                channel="sound_level",
                at_s=at,
                seconds=3.0,
                rate=rate,
                source=keep_file(self.built.operator, f"{at}.wav", data),
            )
        self.sign_in()
        page = self.client.get(self.at("of_run", run.pk))
        self.assertContains(page, "2 recordings")  # the last one is of what was not read
        answer = self.client.post(self.at("from_meter", run.pk))
        session = self.built.round.sound_sessions.get()
        self.assertRedirects(answer, session.get_absolute_url())
        self.assertEqual((session.distance, session.calibration), (1.5, Calibration.WAVEFORM))
        analyse_waiting()
        part = session.recordings.get(kind=Kind.PART)
        self.assertEqual((part.run, part.specimen), (run, self.amsel))
        self.assertAlmostEqual(part.analysis.level, 51.68, delta=0.2)
        self.assertAlmostEqual(part.analysis.told.background, 25.34, delta=0.3)
        self.client.post(self.at("from_meter", run.pk))  # twice
        self.assertEqual(session.recordings.count(), 2)
        self.sign_in("designer")
        self.assertEqual(self.client.post(self.at("from_meter", run.pk)).status_code, 403)


class BundleTests(SoundCase):
    def test_sessions_files_and_what_they_are_of_travel(self):
        session = calibrated(self.built, microphone=self.built.meters["sound_level"])
        run = self.built.air(self.amsel, 1, (4.0, 4.1))
        row = confirm(
            self.built,
            hand_in(self.built, session, "whistle.flac"),
            self.amsel,
            run=run,
            blades=7,
            speed=1850.0,
        )
        actions.choose_stretch(self.built.operator, row, (1.0, 4.0), "steady")
        hand_in(self.built, session, "stereo.flac")  # not confirmed yet
        fields = {"calibration": Calibration.METER, "meter_level": 60.0, "read_beside": row}
        actions.change_session(self.built.operator, session, fields)
        data = as_another(exported(self.built.host, self.built.round))
        copy = import_round(self.built.host, data)
        back = copy.sound_sessions.get()
        self.assertEqual(unlike(back, session), "")
        self.assertEqual(back.microphone, session.microphone)
        whistle = back.recordings.get(name="whistle.flac")
        self.assertEqual(back.read_beside, whistle)
        self.assertEqual(whistle.specimen.version.entry.name, "Amsel")
        self.assertEqual(whistle.run.test.round, copy)
        self.assertEqual((whistle.from_s, whistle.blades, whistle.speed), (1.0, 7, 1850.0))
        self.assertEqual(whistle.source.sha256, row.source.sha256)
        self.assertEqual(back.recordings.get(name="stereo.flac").state, State.NEW)
        self.assertEqual(whistle.state, State.WAITING)
        analyse_waiting()
        whistle.refresh_from_db()
        self.assertAlmostEqual(whistle.analysis.told.weighted["A"].mean, 60.0, delta=0.01)

    def test_a_meters_waveform_travels(self):
        recording = Recording.objects.create(round=self.built.round, started_at=START)
        store(recording, Held(np.arange(3.0), {"speed": np.ones(3)}))
        source = keep_file(self.built.operator, "wave.wav", wav(noise_of(1)))
        Waveform.objects.create(
            recording=recording,
            channel="sound_level",
            at_s=2,
            seconds=1,
            rate=48_000,
            source=source,
        )
        data = as_another(exported(self.built.host, self.built.round))
        copy = import_round(self.built.host, data)
        (wave,) = copy.recordings.get().waveforms.all()
        self.assertEqual((wave.source, wave.at_s), (source, 2.0))


def noise_of(seconds):
    return np.random.default_rng(3).normal(0, 0.1, int(48_000 * seconds))
