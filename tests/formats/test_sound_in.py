"""Sound files of all kinds, and files that only look like one."""

import tempfile
import unittest
from pathlib import Path

import av
import numpy as np
import soundfile

from hauch.formats.apart import Refused
from hauch.formats.sound_in import glance, read_channel

RATE = 48_000


class Files(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        cls.tone = (0.3 * np.sin(2 * np.pi * 440 * np.arange(2 * RATE) / RATE)).astype(np.float32)

    def at(self, name, data=None):
        path = self.folder / name
        if data is not None:
            path.write_bytes(data)
        return path

    def film(self, name, codec):
        """A film's sound, by the library that phones use."""
        path = self.at(name)
        with av.open(str(path), "w") as film:
            stream = film.add_stream(codec, rate=RATE)
            stream.layout = "mono"
            frame = av.AudioFrame.from_ndarray(self.tone[None, :], format="fltp", layout="mono")
            frame.sample_rate = RATE
            for packet in [*stream.encode(frame), *stream.encode(None)]:
                film.mux(packet)
        return path


class ReadTests(Files):
    def test_what_recorders_write(self):
        for kind, subtype, told in (
            ("WAV", "PCM_16", "WAV, 16 bit"),
            ("WAV", "PCM_24", "WAV, 24 bit"),
            ("WAV", "PCM_32", "WAV, 32 bit"),
            ("WAV", "FLOAT", "WAV, 32 bit float"),
            ("FLAC", "PCM_24", "FLAC, 24 bit"),
            ("AIFF", "PCM_16", "AIFF, 16 bit"),
            ("OGG", "VORBIS", "OGG"),
            ("MP3", "MPEG_LAYER_III", "MP3"),
        ):
            path = self.at(f"{kind}-{subtype}")
            soundfile.write(path, self.tone, RATE, format=kind, subtype=subtype)
            samples, rate, info = read_channel(path, 0)
            with self.subTest(told):
                self.assertEqual((rate, info.kind, info.channels), (RATE, told, 1))
                self.assertEqual(info.lossy, kind in ("OGG", "MP3"))
                self.assertAlmostEqual(float(samples.std()), float(self.tone.std()), delta=0.01)

    def test_what_phones_and_cameras_make(self):
        for name, codec, lossy in (
            ("a.m4a", "aac", True),
            ("a.mp4", "aac", True),
            ("a.mov", "pcm_s16le", False),
            ("a.webm", "libopus", True),
        ):
            samples, rate, info = read_channel(self.film(name, codec), 0)
            with self.subTest(name):
                self.assertEqual((rate, info.lossy), (RATE, lossy))
                self.assertAlmostEqual(info.seconds, 2.0, delta=0.1)
                self.assertAlmostEqual(float(samples.std()), float(self.tone.std()), delta=0.02)

    def test_channels(self):
        path = self.at("stereo.wav")
        soundfile.write(path, np.stack([self.tone, 0.5 * self.tone], axis=1), RATE)
        left, right = (read_channel(path, i)[0] for i in (0, 1))
        self.assertAlmostEqual(float(right.std() / left.std()), 0.5, delta=0.001)
        with self.assertRaisesRegex(Refused, "no channel 3; the file has 2"):
            read_channel(path, 2)

    def test_a_file_that_breaks_off_gives_what_it_has(self):
        path = self.at("whole.flac")
        soundfile.write(path, np.random.default_rng(1).normal(0, 0.1, 10 * RATE), RATE)
        cut = self.at("cut.flac", path.read_bytes()[: path.stat().st_size // 2])
        samples, rate, info = read_channel(cut, 0)
        self.assertTrue(1 < len(samples) / rate < 8)
        self.assertAlmostEqual(info.seconds, 10.0)


class RefusedTests(Files):
    def test_what_is_no_sound(self):
        whole = self.film("b.m4a", "aac").read_bytes()
        playlist = b"#EXTM3U\n#EXTINF:1\nfile:///etc/passwd\n"
        for data, words in (
            (b"", "The file is empty"),
            (b"just words", "no sound that can be read"),
            (playlist, "no sound that can be read"),
            (b"ffconcat version 1.0\nfile '/etc/passwd'\n", "no sound that can be read"),
            (b"RIFF\x10\x00\x00\x00WAVEfmt ", "begins as a sound file does"),
            (b"\xff\xfb" + bytes(40), "begins as a sound file does"),
            (whole[: len(whole) // 2], "begins as a film"),
            (b"\x1a\x45\xdf\xa3" + bytes(60), "begins as a film"),
        ):
            with self.subTest(data[:12]), self.assertRaisesRegex(Refused, words):
                glance(self.at("bad.wav", data))

    def test_too_long_too_slow_too_many(self):
        for frames, rate, channels, words in (
            (4 * 3600 * 4000, 4000, 1, "lasts 4.0 h; at most 1 h"),
            (10, 2000, 1, "sampled 2,000 times"),
            (10, RATE, 20, "has 20 channels"),
        ):
            path = self.at("odd.wav")
            soundfile.write(path, np.zeros((frames, channels), np.int16), rate, subtype="PCM_16")
            with self.subTest(words), self.assertRaisesRegex(Refused, words):
                glance(path)

    def test_nothing_in_it(self):
        path = self.at("none.wav")
        soundfile.write(path, np.zeros(0), RATE)
        with self.assertRaisesRegex(Refused, "lasts 0 s"):
            read_channel(path, 0)

    def test_a_film_without_sound(self):
        path = self.at("silent.mp4")
        with av.open(str(path), "w") as film:
            stream = film.add_stream("mpeg4", rate=10)
            stream.width = stream.height = 64
            stream.pix_fmt = "yuv420p"
            frame = av.VideoFrame(64, 64, "yuv420p")
            for packet in [*stream.encode(frame), *stream.encode(None)]:
                film.mux(packet)
        with self.assertRaisesRegex(Refused, "no sound in this film"):
            glance(path)
