"""Whole recordings, synthesised by others with known levels and tones; comparison in words."""

import unittest
from pathlib import Path

import msgspec
import numpy as np
import soundfile

from hauch.core.rig import Bench
from hauch.core.rig.sound import Recorder, Voice
from hauch.core.sound.analysis import Given, analyse
from hauch.core.sound.compare import compare, hertz, sentence
from hauch.core.sound.faults import Fault
from hauch.core.sound.naming import Kind, Sources, Turning
from hauch.core.sound.spectrum import ROWS, grid
from hauch.core.sound.told import Analysis
from tests.core.sound.made import RATE, noise, pascals, sine

DATA = Path(__file__).parents[2] / "data/sound"
FULL = 2.82842712  # a sine that fills the scale is 100 dB
ROTOR = Sources((Turning(7, 1850.0),))
BLADES = {215.83: 52.5, 431.67: 45.0, 647.5: 41.5, 863.33: 36.0}


def sample(name, pascals=FULL, sources=ROTOR, channel=0, **given):
    samples, rate = soundfile.read(DATA / f"{name}.flac", dtype="float32", always_2d=True)
    return analyse(samples[:, channel], rate, Given(pascals, sources, **given))[0]


class SampleTests(unittest.TestCase):
    """Levels within 0.2 dB of what was synthesised, tones within 0.5 % and 1 dB (truth.json of the
    samples: energy sums of their parts).
    """

    def assert_tones(self, told, expected):
        for f, level in expected.items():
            near = min(told.tones, key=lambda t: abs(t.tone.frequency - f))
            self.assertLess(abs(near.tone.frequency / f - 1), 0.005, f)
            self.assertAlmostEqual(near.tone.level, level, delta=1.0, msg=str(f))

    def test_levels(self):
        for name, full, level in (
            ("calibrator", FULL, 94.0),
            ("fan", FULL, 51.685),
            ("whistle", FULL, 58.309),
            ("background", FULL, 25.344),
            ("stereo", 4.4827549, 51.685),
        ):
            with self.subTest(name):
                self.assertAlmostEqual(sample(name, full).weighted["A"].mean, level, delta=0.2)
        right = sample("stereo", 4.4827549, channel=1)
        self.assertAlmostEqual(right.weighted["A"].mean, 48.496, delta=0.2)

    def test_tones_and_their_names(self):
        fan, whistle = sample("fan"), sample("whistle")
        self.assert_tones(fan, BLADES)
        self.assert_tones(whistle, BLADES | {2900.0: 56.0})
        names = {round(t.tone.frequency): t.kind for t in whistle.tones}
        self.assertEqual(names[2900], Kind.WHISTLE)
        self.assertEqual(names[216], Kind.BLADES)
        self.assertIs(whistle.heard[0].kind, Kind.WHISTLE)
        known = (Kind.BLADES, Kind.MAINS)
        self.assertTrue(all(t.kind in known for t in fan.tones))  # nothing invented

    def test_the_room_has_the_mains_alone(self):
        room = sample("background", sources=Sources())
        self.assertEqual([round(t.tone.frequency) for t in room.tones], [50, 100, 150])
        self.assert_tones(room, {50: 38.0, 100: 33.0, 150: 24.0})
        self.assertTrue(all(t.kind is Kind.MAINS for t in room.tones))

    def test_the_background_is_taken_off(self):
        room = sample("background", sources=Sources())
        fan = sample("fan", background=room)
        self.assertAlmostEqual(fan.level, 51.675, delta=0.2)
        self.assertFalse(fan.limit)
        at_50 = next(b for b in fan.bands if b.number == -13)
        self.assertTrue(at_50.limit)  # the hum is the room's
        again = sample("background", sources=Sources(), background=room)
        self.assertTrue(again.limit)
        self.assertEqual(again.adjustment, 0.0)  # its tones are the room's

    def test_clipped_gives_no_level(self):
        told = sample("clipped", 0.0324746885)
        self.assertIs(told.spoilt.fault, Fault.CLIPPED)
        self.assertRegex(sentence(told, None), "^No level can be told: clipped")

    def test_uncalibrated_tells_levels_below_full_scale(self):
        told = sample("calibrator", None)
        self.assertFalse(told.calibrated)
        self.assertAlmostEqual(told.weighted["Z"].mean, 94.0 - 100.0, delta=0.05)
        self.assertIsNone(told.loudness)
        self.assertIn("below full scale", sentence(told, None))

    def test_stored_and_read_again_it_is_the_same(self):
        told = sample("whistle")
        self.assertEqual(
            msgspec.convert(msgspec.json.decode(msgspec.json.encode(told)), Analysis), told
        )


class CompareTests(unittest.TestCase):
    def made(self, *parts, level=0.004):
        x = noise(level=level) + sum(sine(f, pascals(db)) for f, db in parts)
        return analyse(x.astype(np.float32), RATE, Given(1.0, ROTOR))[0]

    def test_gone_new_moved_louder(self):
        theirs = self.made((215.83, 62), (1240, 62), (3000, 60))
        ours = self.made((215.83, 67), (1340, 62), (5000, 58))
        held = compare(ours, [theirs])
        self.assertEqual([round(t.tone.frequency) for t in held.gone], [3000])
        self.assertEqual([round(t.tone.frequency) for t in held.new], [5000])
        self.assertEqual(
            [
                (round(p.theirs.tone.frequency, -1), round(p.ours.tone.frequency, -1))
                for p in held.moved
            ],
            [(1240, 1340)],
        )
        said = sentence(ours, held)
        for words in (
            "the 3,000 Hz whistle,",
            "is gone",
            "a 5,000 Hz whistle is new",
            "the whistle at 1,240 Hz has moved to 1,340 Hz",
            "the 216 Hz tone of blade passing is 5 dB louder",
        ):
            self.assertIn(words, said)

    def test_alike(self):
        one = self.made((215.83, 62))
        said = sentence(one, compare(one, [one]))
        self.assertRegex(said, r"not told apart from the reference \(0\.0 ± 0\.\d dB\)")

    def test_bands_and_limits(self):
        quiet, loud = self.made(level=0.004), self.made(level=0.008)
        held = compare(loud, [quiet])
        self.assertAlmostEqual(held.level.value, 6.02, delta=0.05)
        self.assertTrue(held.level.clear)
        self.assertTrue(all(abs(v.value - 6.02) < 0.2 for _, v in held.bands[5:]))

    def test_several_of_the_reference(self):
        quiet, loud = self.made(level=0.004), self.made(level=0.008)
        other = self.made(level=0.0045)
        held = compare(loud, [quiet, other])
        self.assertEqual(held.recordings, 2)
        self.assertTrue(held.level.repeated)
        self.assertAlmostEqual(held.level.value, 6.02 - 0.51, delta=0.05)
        self.assertGreater(held.level.doubt, compare(loud, [quiet]).level.doubt)
        self.assertTrue(all(c.repeated for _, c in held.bands))

    def test_hertz(self):
        self.assertEqual([hertz(f) for f in (215.6, 1238.0)], ["216 Hz", "1,240 Hz"])


class BenchTests(unittest.TestCase):
    """The virtual bench and the analysis share no code: each checks the other."""

    def test_what_goes_in_comes_out(self):
        recorder = Recorder(Bench(seed=7))
        full = recorder.microphone.full
        room, _ = analyse(recorder.room("r"), 32_000, Given(full))
        self.assertAlmostEqual(room.level, recorder.bench.background, delta=0.2)
        voice = Voice(whistle=(1240.0, 6.0), flutter=(140.0, 0.35))
        x = recorder.part(voice, 54.0, "a", 10.0)
        sources = Sources((Turning(voice.blades, voice.speed),))
        told, _ = analyse(x, 32_000, Given(full, sources, background=room))
        self.assertAlmostEqual(told.level, 54.0, delta=0.2)
        self.assertIn("whistle", [t.name for t in told.heard])
        self.assertIn(140, [round(m.rate) for m in told.modulations])
        tone, _ = analyse(recorder.tone(), 32_000, Given(full))
        self.assertAlmostEqual(tone.level, 94.0, delta=0.05)

    def test_the_doubt_of_a_tones_audibility(self):
        """Ten seconds of one whistle, many times: what `TONE_DOUBT` of the sound spot says."""
        recorder = Recorder(Bench(seed=8))
        heard = [
            analyse(
                recorder.part(Voice(whistle=(1240.0, 8.0)), 54.0, str(i), 10.0),
                32_000,
                Given(recorder.microphone.full),
            )[0].audibility
            for i in range(8)
        ]
        self.assertLess(np.std(heard, ddof=1), 0.3)


class GridTests(unittest.TestCase):
    def test_a_tone_stands_in_its_row_at_its_level(self):
        made = grid(sine(1000, pascals(70)).astype(np.float32), RATE)
        self.assertEqual(made.cells.shape[1], ROWS)
        row = int(np.argmax(made.cells[10]))
        self.assertAlmostEqual(20 * 1000 ** (row / (ROWS - 1)), 1000, delta=30)
        self.assertAlmostEqual(-40 + made.cells[10, row] * 0.5, 70, delta=1)

    def test_thinning_keeps_what_is_loud_and_cuts_at_columns(self):
        x = noise(20)
        x[10 * RATE : 10 * RATE + 2000] *= 50
        made = grid(x, RATE)
        thin, start, end = made.thinned(0, 20, 50)
        self.assertLessEqual(len(thin.cells), 50)
        self.assertEqual(thin.cells.max(), made.cells.max())
        part, start, end = made.thinned(9.5, 10.5, 400)
        self.assertTrue(start <= 9.5 and end >= 10.5)
        self.assertAlmostEqual(len(part.cells), 24, delta=2)
        beyond, _, _ = made.thinned(100, 200, 10)
        self.assertEqual(len(beyond.cells), 1)
