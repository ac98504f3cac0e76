"""Files by their content: kept once, and taken away when nothing names them."""

from __future__ import annotations

import os
import tempfile
import time
from pathlib import Path

from django.db import models
from django.test import TestCase, override_settings

from hauch.entries.actions import attach
from hauch.entries.models import PartFile
from hauch.people.keep import LONELY, KeptPath, keep, place_of, read_kept, sweep
from hauch.rounds.models import Round
from hauch.site.jobs import sweep_files
from tests.builder import build

LATER = LONELY + 60


class SweepTests(TestCase):
    def setUp(self):
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.enterContext(override_settings(MEDIA_ROOT=folder))
        self.folder, self.now = Path(folder), time.time()
        built = build()
        Round.objects.update(state="open")
        version = built.specimens["Kiebitz"].version
        version.sealed_at = None
        version.save()
        attach(built.host, version, "note.txt", b"Mind the tips.")
        self.named = PartFile.objects.get(name="note.txt").path

    def files(self):
        return {
            p.relative_to(self.folder).as_posix() for p in self.folder.rglob("*") if p.is_file()
        }

    def test_what_no_row_names_goes_after_two_days(self):
        _, lonely = keep(b"of an import that broke off")
        half = place_of(lonely).with_name(".coming-abc")
        half.write_bytes(b"of a process that was killed")
        others = {"uploads/12/piece", "ab/notes.txt", lonely[:2] + "/" + "0" * 64}
        for name in others:
            place = self.folder / name
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(b"not by this hand")
        before = self.files()
        self.assertEqual(sweep(self.now), 0)
        self.assertEqual(self.files(), before)
        self.assertEqual(sweep(self.now + LATER), 2)
        self.assertEqual(self.files(), {self.named, *others})
        self.assertEqual(read_kept(self.named), b"Mind the tips.")

    def test_one_that_is_kept_again_waits_again(self):
        _, path = keep(b"twice")
        os.utime(place_of(path), (self.now - LATER, self.now - LATER))
        self.assertEqual(keep(b"twice")[1], path)
        self.assertEqual(sweep(self.now), 0)
        os.utime(place_of(path), (self.now - LATER, self.now - LATER))
        with self.assertLogs("hauch.site.jobs", "INFO") as log:
            sweep_files(0)
        self.assertIn("1 files that nothing names", log.output[0])
        self.assertFalse(place_of(path).exists())

    def test_it_is_text_to_the_database(self):
        _, path, _, options = KeptPath(blank=True).deconstruct()
        self.assertEqual(
            (path, options), ("django.db.models.CharField", {"blank": True, "max_length": 200})
        )
        self.assertIsInstance(PartFile._meta.get_field("path"), models.CharField)
