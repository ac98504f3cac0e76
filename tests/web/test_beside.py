"""Versions side by side: figures, curves over each other, read at an equal value."""

import math
from unittest import mock

import numpy as np
from django.test import TestCase
from django.urls import reverse

from hauch.bench.models import Recording, Result, Run
from hauch.bench.runs import NewRun, Subject, Typed, record_run
from hauch.bench.traces import store
from hauch.core.trace.source import Held
from hauch.entries.models import PartCheck, PartFile
from hauch.rounds.models import Test
from tests.builder import ROOM, START, build
from tests.sounds import calibrated, confirm, hand_in


def curve(factor):
    """A stored curve of flow over power."""
    points = [[p, 0.02, factor * 0.02 * p ** (1 / 3), 0.0004] for p in (1.0, 2.0, 4.0, 8.0)]
    return {
        "x_label": "electrical power",
        "x_kind": "power",
        "y_label": "flow",
        "y_kind": "volume_flow",
        "points": points,
        "line": [[p[0], p[2]] for p in points],
        "system": [],
        "at": None,
    }


class BesideTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.at = reverse("verdict:beside", args=[cls.built.round.slug])
        cls.versions = {n: s.version_id for n, s in cls.built.specimens.items()}

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def curves(self):
        """The air test becomes a sweep whose curves are there."""
        Test.objects.filter(round=self.built.round, key="air").update(procedure="flow_at_power")
        for run in Run.objects.filter(test__key="air").select_related("specimen__version__entry"):
            name = run.specimen.version.entry.name if run.specimen else ""
            Result.objects.filter(run=run).update(curve=curve({"Amsel": 1.1}.get(name, 1.0)))

    def test_two_entries_and_what_lies_between_them(self):
        self.sign_in()
        self.assertContains(
            self.client.get(reverse("verdict:standing", args=[self.built.round.slug])), self.at
        )
        page = self.client.get(self.at, {"v": [self.versions["Binse"], self.versions["Amsel"]]})
        self.assertContains(page, "Amsel v1 against Binse v1")
        air = page.context["figures"][0]
        self.assertEqual(air.best, 1)
        self.assertAlmostEqual(air.between.value, 100 * (4.405 / 4.107 - 1), delta=0.3)
        ours, theirs = (cell[1] for cell in (air.cells[1], air.cells[0]))
        self.assertLess(air.between.half, (ours.half**2 + theirs.half**2) ** 0.5)

    def checked(self, name, volume, **figures):
        """A file of a version that was checked, with figures of its geometry."""
        file = PartFile.objects.create(
            version_id=self.versions[name], name=f"{name} {volume}.stl", sha256="0" * 64, size=1
        )
        rows = [("volume", "Mass", "Volume", "body_volume", volume)]
        rows += [(key, "Passages", key.capitalize(), "area", v) for key, v in figures.items()]
        check = PartCheck.objects.create(
            file=file,
            state="done",
            verdict="ready",
            figures=[
                {"key": k, "group": g, "label": label, "kind": kind, "quantity": {"value": v}}
                for k, g, label, kind, v in rows
            ],
        )
        PartFile.objects.filter(pk=file.pk).update(newest_check=check)

    def test_geometry_and_sound_beside_each_other(self):
        self.checked("Amsel", 2e-5, neck=0.002)
        self.checked("Amsel", 1e-6, neck=0.9)  # a small part besides the main one
        self.checked("Binse", 3e-5, neck=0.0025, slot=0.0001)
        session = calibrated(self.built)
        confirm(
            self.built,
            hand_in(self.built, session, "whistle.flac"),
            self.built.specimens["Binse"],
            speed=1850.0,
            blades=7,
        )
        self.sign_in()
        page = self.client.get(self.at, {"v": [self.versions["Amsel"], self.versions["Binse"]]})
        self.assertEqual(
            page.context["geometry"],
            [
                ("Neck", "area", [(0.002, None), (0.0025, None)]),
                ("Slot", "area", [None, (0.0001, None)]),
            ],
        )
        self.assertContains(page, "cm²")
        self.assertContains(page, "As it was recorded")
        self.assertContains(page, "whistle at 2900 Hz")
        self.assertEqual([one is None for one in page.context["sounds"]], [True, False])

    def test_it_agrees_with_the_standing(self):
        """One figure: the change here is that of the standing."""
        self.sign_in()
        page = self.client.get(self.at, {"v": list(self.versions.values())})
        row = self.built.round.rules.get().standing.rows.get(entry__name="Amsel")
        for one in page.context["figures"]:
            change = one.cells[list(self.versions).index("Amsel")][1]
            self.assertAlmostEqual(change.value, row.tests[one.test.key]["change"], places=3)
            self.assertAlmostEqual(
                change.half, row.tests[one.test.key]["change_expanded"], places=3
            )

    def test_curves_over_each_other_and_read_at_an_equal_value(self):
        self.curves()
        self.sign_in()
        both = [self.versions["Amsel"], self.versions["Binse"]]
        page = self.client.get(self.at, {"v": both, "at_air": "4 W"})
        (one, data, said) = page.context["curves"][0]
        self.assertEqual([line["name"] for line in data["lines"]], ["Amsel v1", "Binse v1"])
        self.assertAlmostEqual(one.laws[0].exponent, 1 / 3, places=4)
        self.assertIn("Amsel v1: +10.0 % at 1 W, +10.0 % at 8 W; the same everywhere.", said[0])
        first, second, ground = one.read
        self.assertAlmostEqual(first["change"], 10.0, places=6)
        self.assertAlmostEqual(second["change"], 0.0, places=6)
        self.assertAlmostEqual(ground["value"], 0.02 * 4 ** (1 / 3), places=3)
        far = self.client.get(self.at, {"v": both, "at_air": "20 W"})
        self.assertContains(far, "not measured there")
        Result.objects.filter(curve__isnull=False).update(
            curve=curve(1.0) | {"x_kind": "rotational_speed", "y_kind": "power"}
        )
        far = self.client.get(self.at, {"v": both, "at_air": "20"})
        self.assertContains(far, "forecast by its law, beyond what was measured")
        first = far.context["curves"][0][0].read[0]
        self.assertAlmostEqual(first["value"], 0.02 * 20 ** (1 / 3), places=6)
        wrong = self.client.get(self.at, {"v": both, "at_air": "loud"})
        self.assertContains(wrong, 'class="error"')

    def test_odd_addresses(self):
        self.sign_in()
        for query in ("?v=x&v=-1&v=99999999999", "?v=", f"?v={self.versions['Amsel']}" * 2):
            self.assertEqual(self.client.get(self.at + query).status_code, 200)
        many = "&".join(f"v={pk}" for pk in list(self.versions.values()) * 3)
        self.assertEqual(len(self.client.get(f"{self.at}?{many}").context["chosen"]), 3)

    def test_names_may_be_typed_and_wrong_ones_are_told(self):
        self.sign_in()
        page = self.client.get(self.at, {"v": ["Binse v1", " Amsel  v1 ", "Nobody v9", ""]})
        self.assertEqual([str(v) for v in page.context["chosen"]], ["Binse v1", "Amsel v1"])
        self.assertContains(page, "There is no measured version “Nobody v9”")

    def test_a_large_round_reads_those_that_are_chosen_alone(self):
        self.sign_in()
        both = {"v": [self.versions["Binse"], self.versions["Amsel"]]}
        small = self.client.get(self.at, both).context["figures"]
        with mock.patch("hauch.verdict.accepting.AT_ONCE_UP_TO", 3):
            large = self.client.get(self.at, both).context["figures"]
        for one, other in zip(small, large, strict=True):
            for a, b in zip(one.cells, other.cells, strict=True):
                self.assertAlmostEqual(a[1].value, b[1].value)

    def test_who_may_see_it(self):
        for who, code in (("operator", 200), ("designer", 404), ("viewer", 404)):
            self.sign_in(who)
            self.assertEqual(self.client.get(self.at).status_code, code)

    def test_nothing_yet_and_only_the_reference(self):
        Run.objects.filter(specimen__isnull=False).update(state=Run.State.VOID, reason="x")
        self.sign_in()
        self.assertContains(self.client.get(self.at), "Nothing was run beside the reference yet")


class RiseTests(TestCase):
    """How loads warm beside each other, from what was recorded."""

    @classmethod
    def setUpTestData(cls):
        cls.built = build(kinds=("air", "rise"))
        cls.test = cls.built.tests["rise"]
        cls.at = reverse("verdict:beside", args=[cls.built.round.slug])

    def recorded(self, part, top, seconds=1200.0, every=2.0, windows=(), recording=None):
        """A soak towards ``top`` K above a room of 21 deg C, with a time constant of five minutes."""
        times = np.arange(0.0, seconds, every)
        if recording is None:
            load = 21.0 + top * (1 - np.exp(-times / 300.0))
            recording = Recording.objects.create(
                round=self.built.round, started_at=START, rate=None
            )
            channels = {"load_temperature": load, "room_temperature": np.full(times.size, 21.0)}
            store(recording, Held(times, channels))
        readings = {
            "load_temperature": [Typed(21.0 + top, str(21 + top), "°C")],
            "room_temperature": [Typed(21.0, "21", "°C")],
        }
        run = record_run(self.built.operator, NewRun(self.test, part, ROOM, START, readings))
        Run.objects.filter(pk=run.pk).update(recording=recording, windows=list(windows))
        return run

    def page(self):
        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        return self.client.get(self.at)

    def test_the_newest_of_each_over_the_references(self):
        parts = self.built.specimens
        for part, top in (
            (Subject(reference=self.built.reference), 40.0),
            (Subject(parts["Amsel"]), 36.0),
            (Subject(parts["Binse"]), 38.0),
        ):
            self.recorded(part, top)
        page = self.page()
        ((found, chart),) = page.context["rises"]
        self.assertEqual([line["name"] for line in chart["lines"]], ["Amsel v1", "Binse v1"])
        for rise, top in zip([*found.of, found.reference], (36.0, 38.0, 40.0), strict=True):
            self.assertLessEqual(rise.times.size, 241)
            at = np.searchsorted(rise.times, 300.0)
            self.assertAlmostEqual(rise.rise[at], top * (1 - math.exp(-1)), delta=0.3)
        self.assertContains(page, "over time")
        self.assertContains(page, "run ")

    def test_without_recordings_there_is_none(self):
        self.recorded(Subject(self.built.specimens["Amsel"]), 36.0)
        Run.objects.update(recording=None)
        self.assertEqual(self.page().context["rises"], [])

    def test_several_runs_of_one_log_are_told_apart_by_their_windows(self):
        amsel = Subject(self.built.specimens["Amsel"])
        first = self.recorded(amsel, 36.0, windows=[[0.0, 500.0]])
        self.recorded(
            amsel, 36.0, windows=[[600.0, 1100.0]], recording=Run.objects.get(pk=first.pk).recording
        )
        ((found, _),) = self.page().context["rises"]
        rise = found.of[0]
        self.assertLess(rise.times[-1], 501.0)
        self.assertAlmostEqual(rise.rise[0], 36 * (1 - math.exp(-2)), delta=0.3)

    def test_four_logs_of_a_day_are_read_in_bins(self):
        parts = list(self.built.specimens.values())
        runs = [self.recorded(Subject(one), 30.0, 86_400.0, 1.0) for one in parts]
        runs.append(self.recorded(Subject(reference=self.built.reference), 40.0, 86_400.0, 1.0))
        ((found, chart),) = self.page().context["rises"]
        self.assertTrue(all(len(line["x"]) <= 241 for line in chart["lines"]))
        self.assertAlmostEqual(found.reference.times[-1], 86_400.0, delta=400.0)
