"""Two recordings side by side, and blind listening by one link to its result."""

from django.core.exceptions import PermissionDenied, ValidationError
from django.test import Client
from django.urls import reverse

from hauch.rounds.models import Test
from hauch.sound import actions, blind
from hauch.sound.listening import gains
from hauch.sound.models import Listener, Listening, SoundAnalysis, SoundRecording
from hauch.stores.models import Rig
from tests.builder import ROOM
from tests.sounds import calibrated, confirm, hand_in
from tests.web.test_sound import SoundCase

Kind, Equal = Listening.Kind, Listening.Equal


class ListeningCase(SoundCase):
    @classmethod
    def setUpTestData(cls):
        super().setUpTestData()
        cls.session = calibrated(cls.built)
        cls.fan = confirm(
            cls.built, hand_in(cls.built, cls.session, "fan.flac"), cls.built.reference
        )
        cls.whistle = confirm(cls.built, hand_in(cls.built, cls.session, "whistle.flac"), cls.amsel)
        cls.other = confirm(cls.built, hand_in(cls.built, cls.session, "stereo.flac"), cls.binse)

    def opened(self, kind=Kind.ABX, recordings=None, **more):
        recordings = recordings or [self.fan, self.whistle]
        return blind.open_listening(
            self.built.operator, self.built.round, kind, Equal.LEVEL, recordings, **more
        )

    def link(self, made):
        return reverse("sound:take_part", args=[made.secret])


class TwoTests(ListeningCase):
    def test_true_levels_and_equal_loudness(self):
        """The whistle's level is 6.6 dB above the fan's, as its copy's samples are heard."""
        first, second = (one.analysis for one in (self.fan, self.whistle))
        made = gains([first, second])
        self.assertEqual(max(one["level"] for one in made), 1.0)
        pressure = [one.copy_scale * one.pascals for one in (first, second)]
        self.assertAlmostEqual(made[0]["level"] / made[1]["level"], pressure[0] / pressure[1])
        quieter = made[1]["loudness"] / made[0]["loudness"] * made[0]["level"] / made[1]["level"]
        phon = second.told.phon - first.told.phon
        self.assertAlmostEqual(quieter, 10 ** (-phon / 20))

    def test_the_page(self):
        self.sign_in()
        page = self.client.get(self.at("listen") + f"?b={self.whistle.pk}")
        self.assertContains(page, "a 2,900 Hz whistle is new")
        page = self.client.get(self.at("listen") + f"?a={self.whistle.pk}&b={self.fan.pk}")
        self.assertContains(page, "6.6 ± 0.1 dB less than A")
        for query in ("?a=x&b=²", "?a=999999", f"?a={self.fan.pk}&b={self.fan.pk}"):
            self.assertEqual(self.client.get(self.at("listen") + query).status_code, 200)

    def test_a_viewer_hears_the_reference_alone(self):
        self.sign_in("viewer")
        self.assertContains(
            self.client.get(self.at("listen")), "Two analysed recordings are needed"
        )


class OpenTests(ListeningCase):
    def test_what_cannot_be(self):
        test = Test.objects.get(key="air")
        for kind, recordings, more, words in (
            (Kind.ABX, [self.fan], {}, "needs two recordings; 1 are ticked"),
            (Kind.RANKING, [self.fan], {}, "needs 2 to 12"),
            (Kind.ABX, [self.fan, self.whistle], {"trials": 0}, "sane|violated"),
            (Kind.ABX, [self.fan, self.whistle], {"test": test}, "Only a ranking"),
            ("choir", [self.fan, self.whistle], {}, "choir"),
        ):
            with self.subTest(words), self.assertRaisesRegex(ValidationError, words):
                self.opened(kind, recordings, **more)
        with self.assertRaises(PermissionDenied):
            blind.open_listening(
                self.built.people["designer"], self.built.round, Kind.ABX, Equal.LEVEL, []
            )

    def test_by_its_page(self):
        self.sign_in()
        at = self.at("blind")
        self.assertContains(self.client.get(at), "Blind listening")
        answer = self.client.post(at, {"kind": "abx", "equal": "level", "trials": "5"})
        self.assertContains(answer, "0 are ticked", status_code=422)
        data = {"kind": "abx", "equal": "loudness", "trials": "5"}
        answer = self.client.post(at, data | {"recording": [self.fan.pk, self.whistle.pk]})
        made = Listening.objects.get()
        self.assertRedirects(answer, made.get_absolute_url())
        self.assertContains(self.client.get(made.get_absolute_url()), self.link(made))


class TrialTests(ListeningCase):
    def test_a_listener_who_hears_and_one_who_guesses(self):
        made = self.opened(trials=10)
        for name in ("Ilse", "Jost"):
            phone = Client()
            page = phone.post(self.link(made), {"name": name}, follow=True)
            self.assertContains(page, "Trial 1 of 10")
            self.assertNotContains(page, "whistle")  # nothing tells what is played
            listener = Listener.objects.get(name=name)
            for trial in range(1, 11):
                x = "AB"[blind.x_of(listener, trial)]
                wrong = name == "Jost" and trial % 2
                said = ("B" if x == "A" else "A") if wrong else x
                page = phone.post(self.link(made), {"trial": trial, "said": said}, follow=True)
            self.assertContains(
                page, "10 of 10 were right" if name == "Ilse" else "5 of 10 were right"
            )
        told = blind.heard(made)
        self.assertEqual((told.right, told.answers), (15, 20))
        self.assertAlmostEqual(told.p, 0.0207, delta=0.0001)
        self.sign_in()
        page = self.client.get(made.get_absolute_url())
        self.assertContains(page, "15 of 20 answers are right")
        self.assertContains(page, "the two are told apart")

    def test_x_is_one_of_the_two_and_differs_between_listeners(self):
        made = self.opened(trials=20)
        rows = [
            [blind.x_of(Listener(listening=made, seed=seed), n) for n in range(20)]
            for seed in range(50)
        ]
        self.assertGreater(len({tuple(row) for row in rows}), 45)
        self.assertTrue(0.4 < sum(map(sum, rows)) / 1000 < 0.6)

    def test_twice_out_of_turn_and_closed(self):
        made = self.opened(trials=2)
        phone = Client()
        phone.post(self.link(made), {"name": "Ilse"})
        listener = Listener.objects.get()
        right = "AB"[blind.x_of(listener, 1)]
        wrong = "B" if right == "A" else "A"
        phone.post(self.link(made), {"trial": "1", "said": right})
        phone.post(self.link(made), {"trial": "1", "said": wrong})  # with Back: the first stays
        self.assertEqual([one.said for one in listener.answers.all()], [right])
        for data, words in (
            ({"trial": "7", "said": "A"}, "no such trial"),
            ({"trial": "2", "said": "C"}, "whether X is A or B"),
        ):
            self.assertContains(phone.post(self.link(made), data), words, status_code=422)
        again = Client().post(self.link(made), {"name": " ilse "})
        self.assertEqual(again.status_code, 302)  # another person
        again = Client().post(self.link(made), {"name": "Ilse"})
        self.assertContains(again, "Take another name", status_code=422)
        blind.close(self.built.operator, made)
        self.assertContains(phone.get(self.link(made)), "This listening is closed")
        answer = phone.post(self.link(made), {"trial": "2", "said": "A"})
        self.assertContains(answer, "closed", status_code=422)

    def test_analysed_by_an_earlier_version(self):
        made, phone = self.opened(), Client()
        phone.post(self.link(made), {"name": "Ilse"})
        self.assertContains(phone.get(self.link(made)), "Trial 1 of")
        SoundAnalysis.objects.update(core_version="0", figures={"level": "loud"})
        self.assertContains(phone.get(self.link(made)), "being analysed again")
        again = SoundRecording.objects.get(pk=self.fan.pk), self.whistle
        with self.assertRaisesRegex(ValidationError, "not analysed yet"):
            self.opened(recordings=list(again))

    def test_sounds_by_the_link_alone(self):
        made = self.opened(trials=3)
        sound = reverse("sound:played", args=[made.secret, 2])
        phone = Client()
        self.assertEqual(phone.get(sound + "?trial=1").status_code, 404)
        phone.post(self.link(made), {"name": "Ilse"})
        listener = Listener.objects.get()
        for trial in (1, 2, 3):
            heard = b"".join(phone.get(f"{sound}?trial={trial}").streaming_content)
            n = blind.x_of(listener, trial)
            same = reverse("sound:played", args=[made.secret, n])
            self.assertEqual(heard, b"".join(phone.get(same).streaming_content))
        wrong = reverse("sound:played", args=[made.secret, 9])
        self.assertEqual(phone.get(wrong).status_code, 404)
        self.assertEqual(phone.get(reverse("sound:take_part", args=["nobody"])).status_code, 404)


class RankingTests(ListeningCase):
    def ranked(self, made, *rankings):
        codes = {one.recording_id: one.pk for one in made.played.all()}
        for n, ranking in enumerate(rankings):
            phone = Client()
            phone.post(self.link(made), {"name": f"listener {n}"})
            data = {f"place-{codes[r.pk]}": str(place) for r, place in ranking.items()}
            yield phone.post(self.link(made), data)

    def test_places_ties_missing_ones_and_runs(self):
        rig = Rig.objects.create(
            name="Spot", kind="sound_spot", constants={"distance": [1.0, 0.01]}
        )
        test = Test.objects.create(
            round=self.built.round,
            key="ears",
            label="Ears",
            procedure="listeners",
            rig=rig,
            setting=self.built.round.settings.first(),
            order=30,
        )
        self.built.round.rules.get().tests.add(test)
        three = [self.fan, self.whistle, self.other]
        made = self.opened(Kind.RANKING, three, test=test)
        answers = self.ranked(
            made,
            {self.fan: 1, self.other: 2, self.whistle: 3},
            {self.fan: 1, self.other: 1, self.whistle: 3},
            {self.fan: 1, self.whistle: 2},
        )
        self.assertEqual([answer.status_code for answer in answers], [302] * 3)
        told = blind.ranked(made)
        self.assertEqual(told.complete, 2)
        self.assertGreater(told.w, 0.7)
        actions.set_aside(self.built.operator, self.whistle)
        self.sign_in()
        page = self.client.get(made.get_absolute_url())
        self.assertContains(page, "2 listeners ranked all")
        runs = {run.subject: run for run in blind.close(self.built.operator, made, ROOM)}
        fan = runs[str(self.built.reference)]
        # thirds: 1/6, tied 1/3 (rank 1.5 of 3), of two 1/4: mean 25 %
        self.assertAlmostEqual(fan.result.value, 100 * (1 / 6 + 1 / 3 + 1 / 4) / 3, places=3)
        self.assertNotIn("Amsel", runs)
        self.assertGreater(runs["Binse"].result.value, fan.result.value)
        self.assertEqual(runs["Binse"].readings.count(), 2)
        with self.assertRaisesRegex(ValidationError, "closed"):
            blind.close(self.built.operator, made, ROOM)

    def test_what_cannot_be(self):
        made = self.opened(Kind.RANKING)
        for ranking, words in (
            ({self.fan: 7, self.whistle: 1}, "Places go from 1 to 2"),
            ({self.fan: 1}, "at least two"),
            ({}, "at least two"),
        ):
            (answer,) = self.ranked(made, ranking)
            self.assertContains(answer, words, status_code=422)
            made.listeners.all().delete()

    def test_changed_until_closed(self):
        made = self.opened(Kind.RANKING)
        phone = Client()
        phone.post(self.link(made), {"name": "Ilse"})
        codes = {one.recording_id: one.pk for one in made.played.all()}
        for first, second in ((1, 2), (2, 1)):
            data = {
                f"place-{codes[self.fan.pk]}": first,
                f"place-{codes[self.whistle.pk]}": second,
            }
            phone.post(self.link(made), data)
        places = Listener.objects.get().places.filter(played=codes[self.fan.pk])
        self.assertEqual([one.place for one in places], [2])
        self.assertContains(phone.get(self.link(made)), "You may change it")
