"""What people judged travels: panels, blind listening, guesses, limits, decisions, scenarios."""

import io

from PIL import Image

from hauch.bench.runs import Subject
from hauch.exchange.importing import import_round
from hauch.exchange.judgements import judgements_of
from hauch.formats.bundle import BundleRefused
from hauch.panel.actions import add_picture, give, open_sitting
from hauch.panel.results import told
from hauch.rounds.models import Test
from hauch.sound import blind
from hauch.sound.models import Listening
from hauch.stores.models import Rig
from hauch.verdict import accepting, guessing, what_if
from hauch.verdict.guessing import outcome
from tests.bundles import as_another, exported
from tests.sounds import calibrated, confirm, hand_in
from tests.web.test_sound import SoundCase


class JudgedTests(SoundCase):
    def setUp(self):
        super().setUp()
        self.host, self.round = self.built.host, self.built.round

    def panel(self, judged=True):
        rig = Rig.objects.create(
            name="Sheets",
            kind="panel",
            constants={"places": [2, 0], "faces": [1, 0], "top": [10, 0]},
        )
        test = Test.objects.create(
            round=self.round,
            key="looks",
            label="Looks",
            procedure="panel_places",
            rig=rig,
            setting=self.round.settings.first(),
            order=9,
        )
        subjects = [Subject(one) for one in self.built.specimens.values()]
        criteria = [("overhang", 1.0), ("surface", 0.5)]
        sitting, _ = open_sitting(self.host, test, subjects, ["Ilse", "Jost"], criteria)
        if judged:
            out = io.BytesIO()
            Image.new("RGB", (40, 30), (10, 90, 90)).save(out, "PNG")
            samples = list(sitting.samples.all())
            add_picture(self.host, samples[0], 1, out.getvalue())
            for turn, judge in enumerate(sitting.judges.all()):
                give(
                    judge,
                    {
                        (sample.pk, 1, n): 1.0 + (place + turn) % 3
                        for place, sample in enumerate(samples)
                        for n in range(2)
                    },
                )
        return sitting

    def listening(self):
        session = calibrated(self.built)
        rows = [
            confirm(self.built, hand_in(self.built, session, name), part)
            for name, part in (("fan.flac", self.built.reference), ("whistle.flac", self.amsel))
        ]
        made = blind.open_listening(
            self.host, self.round, Listening.Kind.ABX, Listening.Equal.LEVEL, rows
        )
        listener = blind.take_part(made, "Klara")
        for trial in range(1, 11):
            blind.answer(listener, trial, "A")
        return made

    def guesses(self):
        found = guessing.open_guessing(self.host, self.round, None)
        keys = {e.name: e.pk for e in self.built.entries.values()}
        guessing.guess(found, "Lutz", {keys["Amsel"]: 1.0, keys["Binse"]: 2.0})
        return found

    def travelled(self, change=lambda content: None):
        return import_round(self.host, as_another(exported(self.host, self.round), change))

    def test_all_of_it_comes_back(self):
        found = self.guesses()
        self.built.measure_and_judge()
        entry = self.built.entries["Amsel"]
        tests = list(self.round.tests.all())
        accepting.set_criteria(self.host, self.round, {"reference_air": "-3"}, tests)
        accepting.decide(self.host, entry, 1, "accepted", "More air.", "Accepted: …")
        what_if.keep(self.host, self.round, "Louder", what_if.Wondered.of(self.round.rules.get()))
        sitting, heard = self.panel(), self.listening()
        copy = self.travelled()
        ours, theirs = judgements_of(self.round), judgements_of(copy)
        for one in (ours, theirs):  # identities differ, and nothing else
            for row in one["sittings"]:
                for sample in row["samples"]:
                    sample["specimen"] = sample["specimen"][:-4]
            for row in one["listenings"]:
                for played in row["played"]:
                    played["recording"] = played["recording"][:-4]
            one["guesses"]["guesses"][0]["given"] = sorted(
                one["guesses"]["guesses"][0]["given"].values()
            )
        self.assertEqual(theirs, ours)
        back = copy.sittings.get()
        self.assertEqual(
            sorted(told(back).total.means.values()), sorted(told(sitting).total.means.values())
        )
        self.assertEqual(back.samples.filter(pictures__isnull=False).count(), 1)
        self.assertNotEqual(back.judges.first().digest, sitting.judges.first().digest)
        again = copy.listenings.get()
        self.assertEqual(blind.heard(again).right, blind.heard(heard).right)
        self.assertNotEqual(again.secret, heard.secret)
        self.assertEqual(outcome(copy.guessing).scored[0].tau, outcome(found).scored[0].tau)
        decision = copy.entries.get(name="Amsel").versions.get().decisions.get()
        self.assertEqual((decision.word, decision.reason), ("accepted", "More air."))
        self.assertEqual(what_if.kept_as(copy.scenarios.get()).scheme, "weighted_percent")

    def test_guesses_stay_until_they_are_sealed(self):
        self.guesses()
        self.assertIsNone(judgements_of(self.round)["guesses"])
        copy = self.travelled()
        self.assertFalse(hasattr(copy, "guessing"))

    def test_what_contradicts_itself_is_refused_with_a_sentence(self):
        self.panel()

        def sitting(**values):
            return lambda content: content["sittings"][0].update(values)

        def mark(**values):
            return lambda content: content["sittings"][0]["judges"][0]["marks"][0].update(values)

        for change, words in (
            (sitting(criteria=[]), "has no criterion"),
            (sitting(weights=[1.0]), "has 1 weights where it needs 2"),
            (sitting(face_names=["a", "b"]), "has 2 face_names where it needs 1"),
            (sitting(test="nobody"), "cannot be read"),
            (sitting(faces=0), "“sitting sane” of a sitting is broken"),
            (mark(sample="Z99"), "cannot be read"),
            (mark(points=-1.0), "contradicts itself"),
            (
                lambda c: c["scenarios"].append(
                    {"name": "x", "at": "2026-05-04T09:00:00+00:00", "wish": {"scheme": "magic"}}
                ),
                "scenarios",
            ),
        ):
            with self.subTest(words), self.assertRaisesMessage(BundleRefused, words):
                self.travelled(change)
