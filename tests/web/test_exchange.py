"""A round goes out and comes in again, digit for digit."""

import csv
import hashlib
import io
import json
import zipfile
from contextlib import suppress
from datetime import timedelta
from unittest import mock
from uuid import uuid4

import numpy as np
from django.apps import apps
from django.core.management import call_command
from django.db import OperationalError, connection, transaction
from django.test import TestCase, TransactionTestCase
from django.test.utils import CaptureQueriesContext
from django.urls import reverse

from hauch.bench.models import Result, Run
from hauch.bench.queries import runs
from hauch.bench.results import recompute
from hauch.demo.cabinet import Cabinet
from hauch.demo.rigs import NIGHT, load_round
from hauch.demo.stores import make_stores, people
from hauch.entries.actions import add_version, attach
from hauch.entries.models import Entry, Prediction, Version
from hauch.exchange.exporting import content_of, standings_of
from hauch.exchange.importing import import_round
from hauch.exchange.listings import results_csv, standing_csv
from hauch.exchange.plain import FIELDS, LEFT_OUT, LINKS
from hauch.formats import bundle
from hauch.formats.bundle import Bundle, BundleRefused
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.people.models import AuditEntry, User
from hauch.rounds.models import Round, TestReference
from hauch.stores.models import Calibration, Instrument, ReferenceSpecimen, Rig
from tests.builder import START, build
from tests.bundles import as_another, exported
from tests.emptied import Emptied


def empty():
    """An installation in which nothing has ever been; append-only tables can only be truncated
    whole.
    """
    call_command("flush", interactive=False, verbosity=0)


def demo_people():
    for username, (name, _) in DEMO_PEOPLE.items():
        add_person(username, name, staff=username == "runa")


class RoundTripTests(Emptied, TransactionTestCase):
    def test_demo_goes_round_and_comes_back_the_same(self):
        demo_people()
        with transaction.atomic():  # judged once, when all of it is there
            round = Cabinet().load()
        runa = User.objects.get(username="runa")
        standings, results, table = standings_of(round), results_csv(round), standing_csv(round)
        data = exported(runa, round)
        again = exported(runa, round)
        self.assertEqual(data, again)

        empty()
        host = User.objects.create_user("host", is_staff=True)
        back = import_round(host, data)
        self.assertEqual(standings_of(back), standings)
        self.assertEqual((results_csv(back), standing_csv(back)), (results, table))
        self.assertEqual(recompute(runs().filter(state="valid"), write=False).changed, [])
        self.assertEqual(content_of(back)["runs"], bundle.read(data).content["runs"])
        with self.assertRaisesRegex(BundleRefused, "is here already"):
            import_round(host, data)

    def test_the_demo_is_the_same_each_time_it_is_loaded(self):
        found = []
        for _ in range(2):
            empty()
            demo_people()
            with transaction.atomic():
                make_stores(User.objects.get(username="runa"))
                load_round(people(), NIGHT)
            found.append(
                (
                    standings_of(Round.objects.get()),
                    [
                        (run.started_at, run.result.value, run.result.working)
                        for run in runs().with_names().order_by("pk")
                    ],
                )
            )
        self.assertEqual(found[0], found[1])
        self.assertEqual(len(found[0][1]), 6)


class FieldTests(TestCase):
    def test_every_field_of_what_travels_is_carried_or_said_to_stay(self):
        for model, fields in FIELDS.items():
            carried = {*fields, *LINKS.get(model, ())}
            own = {f.name for f in [*model._meta.fields, *model._meta.many_to_many]} - {
                model._meta.pk.name
            }
            left = {name.split(".")[1] for name in LEFT_OUT if name.split(".")[0] == model.__name__}
            with self.subTest(model.__name__):
                self.assertEqual(carried & left, set())
                self.assertEqual(carried | left, own)


class BrokenOffTests(TestCase):
    """An import that ends in the middle, of whatever, leaves nothing and can be done again."""

    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.data = as_another(exported(cls.built.host, cls.built.round))

    def counts(self):
        return {model: model.objects.count() for model in apps.get_models()}

    def ending(self, at, problem):
        """Something that ends the import at a query of it."""
        count = 0

        def wrapper(execute, *arguments):
            nonlocal count
            count += 1
            if count == at:
                raise problem
            return execute(*arguments)

        return connection.execute_wrapper(wrapper)

    def test_at_ten_places(self):
        with (
            CaptureQueriesContext(connection) as all_of_it,
            suppress(RuntimeError),
            transaction.atomic(),
        ):
            import_round(self.built.host, self.data)
            raise RuntimeError("only counted")
        before = self.counts()
        for number in range(10):
            at = 1 + number * (len(all_of_it) - 20) // 9
            problem = (
                OperationalError("server closed the connection"),
                KeyboardInterrupt(),
                OSError(28, "No space left on device"),
            )[number % 3]
            with self.subTest(at), self.ending(at, problem), self.assertRaises(type(problem)):
                import_round(self.built.host, self.data)
            self.assertEqual(self.counts(), before)
        made = import_round(self.built.host, self.data)
        self.assertEqual(
            standings_of(made)["1"][0]["score"], standings_of(self.built.round)["1"][0]["score"]
        )

    def test_where_a_file_of_it_cannot_be_kept(self):
        before = self.counts()
        made = bundle.read(self.data)
        digest = hashlib.sha256(b"solid x").hexdigest()
        version = made.content["entries"][0]["versions"][0]
        version["files"] = [
            {"name": "x.stl", "sha256": digest, "size": 7, "place": "", "count": 1, "unit": "mm",
             "axis": "", "added_at": "2026-05-04T09:00:00+00:00"}
        ]  # fmt: skip
        data = bundle.packed(Bundle(made.content, made.traces, {digest: b"solid x"}))
        full = OSError(28, "No space left on device")
        with (
            mock.patch("hauch.exchange.importing.keep", side_effect=full),
            self.assertRaises(OSError),
        ):
            import_round(self.built.host, data)
        self.assertEqual(self.counts(), before)


class SealedTests(TestCase):
    def test_predictions_of_others_leave_with_a_bundle_from_the_first_run_on(self):
        built = build()
        version = built.specimens["Amsel"].version
        Prediction.objects.create(
            version=version,
            procedure="airflow",
            source="designer",
            value=0.01,
            made_by=version.entry.designer,
        )
        for sealed, count in ((None, 0), (START, 1)):
            Version.objects.filter(pk=version.pk).update(sealed_at=sealed)
            data = exported(built.host, built.round)
            found = [
                told
                for entry in bundle.read(data).content["entries"]
                for one in entry["versions"]
                for told in one["predictions"]
            ]
            self.assertEqual(len(found), count)
            said = "left_out.txt" in zipfile.ZipFile(io.BytesIO(data)).namelist()
            self.assertEqual(said, not count)


class ImportTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.data = exported(cls.built.host, cls.built.round)

    def changed(self, change):
        return as_another(self.data, change)

    def test_beside_the_original_it_gets_a_free_address_and_shares_the_stores(self):
        rigs = self.built.tests["air"].rig
        copy = import_round(self.built.host, self.changed(lambda content: None))
        self.assertEqual(copy.slug, "drying-rack-2")
        self.assertEqual(copy.tests.get(key="air").rig, rigs)
        self.assertEqual(
            [row["score"] for row in standings_of(copy)["1"]],
            [row["score"] for row in standings_of(self.built.round)["1"]],
        )

    def test_a_reference_that_is_run_beside_the_one_in_use_comes_back_as_such(self):
        test = self.built.tests["air"]
        beside = ReferenceSpecimen.objects.create(
            type=self.built.reference.type, serial="L-09", state="new"
        )
        TestReference.objects.create(
            test=test, specimen=beside, since=START + timedelta(hours=1), bridging=True
        )
        Instrument.objects.filter(pk=test.rig.meters.first().instrument_id).update(retired=True)
        self.data = exported(self.built.host, self.built.round)
        copy = import_round(self.built.host, self.changed(lambda content: None))
        rows = TestReference.objects.filter(test=copy.tests.get(key="air")).values_list(
            "specimen__serial", "bridging"
        )
        self.assertEqual(list(rows), [("L-02", False), ("L-09", True)])

    def test_a_bundle_of_version_5_says_by_its_order_which_reference_is_beside(self):
        one = {"since": "2026-05-04T09:00:00+00:00", "until": None}
        references = [
            one | {"since": "2026-05-05T09:00:00+00:00"},
            one,
            one | {"until": "2026-05-04T10:00:00+00:00"},
            one,
        ]
        content = bundle.upgraded(
            {
                "tests": [{"references": references}],
                "instruments": [{}],
                "materials": [{}],
                "recordings": [{}],
                "entries": [{"versions": [{}]}],
                "runs": [{"result": None}, {"result": {"value": 4.2}}],
            },
            5,
        )
        self.assertEqual(
            [row["bridging"] for row in content["tests"][0]["references"]],
            [True, False, False, True],
        )
        self.assertEqual(content["instruments"], [{"retired": False}])
        self.assertEqual(
            content["entries"], [{"versions": [{"outlets": None, "named": False, "decisions": []}]}]
        )
        self.assertEqual(
            content["runs"], [{"result": None}, {"result": {"value": 4.2, "as_read": None}}]
        )

    def test_a_bundle_of_version_1_comes_in_with_the_same_standing(self):
        """As the first version wrote it: one line of calibration in a meter, weights by test, no
        states, no brief.
        """

        def older(content):
            for name in (
                "motors",
                "own_parts",
                "orientation",
                "equal",
                "equal_value",
                "envelope",
                "entries_until",
            ):
                content["round"].pop(name)
            for row in content["instruments"]:
                for name in (
                    "serial",
                    "low",
                    "high",
                    "response_time",
                    "recalibrate_after",
                    "calibrations",
                ):
                    row.pop(name)
                row |= {
                    "slope": 1.0,
                    "offset": 0.0,
                    "slope_u": 0.0,
                    "calibrated_on": None,
                    "uid": row["uid"][:-4] + "beef",
                }
            content["instruments"][0] |= {"slope_u": 0.004, "calibrated_on": "2026-05-01"}
            for row in content["rigs"]:
                for name in ("since", "change", "previous", "calibrations"):
                    row.pop(name)
                row |= {
                    "uid": row["uid"][:-4] + "beef",
                    "meters": {c: uid[:-4] + "beef" for c, uid in row["meters"].items()},
                }
            for row in content["tests"]:
                for name in ("soak", "soak_minutes", "baseline", "dropped", "replaces"):
                    row.pop(name)
                row["rig"] = row["rig"][:-4] + "beef"
            for row in content["rules"]:
                row["terms"] = {term["test"]: term["weight"] for term in row["terms"]}
                for name in ("brief", "tests", "questions"):
                    row.pop(name)
            for row in content["runs"]:
                for name in ("rig", "hours", "carried_from"):
                    row.pop(name)
            content["schema_version"] = 1

        copy = import_round(self.built.host, self.changed(older))
        self.assertEqual(
            [row["score"] for row in standings_of(copy)["1"]],
            [row["score"] for row in standings_of(self.built.round)["1"]],
        )
        rig = copy.tests.get(key="air").rig
        self.assertEqual(
            (rig.name, rig.pairs), ("Rack rig (imported)", self.built.tests["air"].rig.pairs)
        )
        self.assertEqual(Calibration.objects.filter(slope_u=0.004).count(), 1)
        self.assertEqual({run.rig for run in Run.objects.filter(test__round=copy)}, {rig})

    def test_rules_limits_questions_and_states_travel(self):
        rules = self.built.round.rules.get()
        rules.questions.create(
            text="Why?", asked_by=self.built.people["designer"], kind="objection"
        )
        rules.terms.filter(test__key="power").update(most_loss=2.5)
        made = bundle.read(exported(self.built.host, self.built.round))
        (row,) = made.content["rules"]
        self.assertEqual(
            [(t["test"], t["weight"], t["most_loss"]) for t in row["terms"]],
            [("air", 2.0, None), ("power", 1.0, 2.5)],
        )
        self.data = bundle.packed(Bundle(made.content, made.traces, made.files))
        copy = import_round(self.built.host, self.changed(lambda content: None))
        question = copy.rules.get().questions.get()
        self.assertEqual((question.kind, question.text), ("objection", "Why?\n(asked by Designer)"))
        self.assertEqual(copy.rules.get().terms.get(test__key="power").most_loss, 2.5)
        self.assertEqual(copy.rules.get().tests.count(), 2)

    def test_what_cannot_be_read_leaves_nothing_behind(self):
        before = (
            Round.objects.count(),
            Entry.objects.count(),
            Run.objects.count(),
            Result.objects.count(),
            AuditEntry.objects.count(),
        )
        for change, words in (
            (lambda c: c.pop("entries"), "“entries” is missing"),
            (lambda c: c["runs"][0].update(temperature="warm"), "cannot be read"),
            (
                lambda c: c["runs"][0].update(started_at="2026-01-01T10:00:00"),
                "a time with a timezone",
            ),
            (
                lambda c: c["tests"][0].update(procedure="divination"),
                "procedure “divination” is not known",
            ),
            (lambda c: c["rules"][0]["terms"][0].update(weight=-1), "A weight must be above 0"),
            (
                lambda c: c["rigs"][0]["constants"].update(bore="wide"),
                "constants, one of them: expected a list",
            ),
            (lambda c: c["rigs"][0]["constants"].update(bore=[0.2, 0.0]), "with other constants"),
            (
                lambda c: c["runs"][0]["readings"][0].update(channel="aura"),
                "unknown channel “aura”",
            ),
            (lambda c: c["runs"].append(c["runs"][0]), "stands in it twice"),
            (
                lambda c: c["round"].update(envelope={"values": {"bore": -1}}),
                "The envelope in round.json cannot be: Bore",
            ),
            (lambda c: c["round"].update(envelope="none"), "cannot be read"),
            (
                lambda c: c["rules"][0].update(brief="none"),
                "rules, no. 1, brief: expected an object",
            ),
            (
                lambda c: c["rules"][0].update(brief={"tests": {"air": {"aura": 1}}}),
                "cannot be read",
            ),
            (lambda c: c["rules"][0].update(brief={"envelope": "none"}), "cannot be read"),
            (
                lambda c: c["instruments"][0]["calibrations"].append({"points": "abc"}),
                "calibrations, no. 1, points: expected a list",
            ),
            (lambda c: c["runs"][0]["result"]["parts"].append(["x"]), "cannot be read"),
            (
                lambda c: c["runs"][0]["result"]["parts"][0].__setitem__(5, "much"),
                "no. 6: expected a number",
            ),
            (
                lambda c: c["runs"][0]["result"]["working"][0].update(value="many"),
                "working, no. 1, value: expected a number, found text",
            ),
            (
                lambda c: c["runs"][0]["result"]["working"][0]["inputs"].append(["x", None, ""]),
                "no. 2: expected a number, found nothing",
            ),
        ):
            with self.subTest(words), self.assertRaisesRegex(BundleRefused, words):
                import_round(self.built.host, self.changed(change))
        after = (
            Round.objects.count(),
            Entry.objects.count(),
            Run.objects.count(),
            Result.objects.count(),
            AuditEntry.objects.count(),
        )
        self.assertEqual(after, before)

    def test_traces_whose_times_cannot_be(self):
        uid = str(uuid4())
        row = {
            "uid": uid,
            "started_at": "2026-05-01T08:00:00+00:00",
            "columns": ["speed"],
            "rate": 50.0,
            "shift": 0.0,
            "shift_note": "",
            "set_aside_at": None,
            "created_at": "2026-05-01T08:00:00+00:00",
            "source": None,
            "beside": None,
            "observations": [],
            "waveforms": [],
        }
        for times, change, words in (
            ([0.0, 2.0, 1.0], {}, "do not rise"),
            ([0.0, float("nan"), 1.0], {}, "do not rise"),
            ([0.0, 1.0, 1e12], {}, "longer than a year"),
            ([0.0, 1.0, 2.0], {"columns": [["speed", "1/min"]]}, "have no names"),
        ):
            recording = row | change
            made = bundle.read(self.changed(lambda c, r=recording: c.update(recordings=[r])))
            trace = {"time": np.array(times), "speed": np.ones(3)}
            data = bundle.packed(Bundle(made.content, {uid: trace}, made.files))
            with self.subTest(words), self.assertRaisesRegex(BundleRefused, words):
                import_round(self.built.host, data)

    def test_what_would_not_come_in_does_not_go_out(self):
        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        Rig.objects.update(constants={"bore": "wide"})
        with self.assertRaisesRegex(BundleRefused, "constants, one of them: expected a list"):
            exported(self.built.host, self.built.round)
        url = reverse("exchange:zip", args=[self.built.round.slug])
        Rig.objects.update(constants={"bore": [1]})
        answer = self.client.get(url)
        self.assertRedirects(
            answer,
            reverse("verdict:standing", args=[self.built.round.slug]),
            fetch_redirect_response=False,
        )

    def test_over_the_web(self):
        from django.core.files.uploadedfile import SimpleUploadedFile

        self.client.force_login(
            self.built.host, backend="django.contrib.auth.backends.ModelBackend"
        )
        url = reverse("exchange:import")
        self.assertContains(self.client.post(url, {}), "Choose the ZIP file", status_code=422)
        bad = SimpleUploadedFile("no.zip", b"nothing")
        self.assertContains(
            self.client.post(url, {"bundle": bad}),
            "no.zip: The file is not a readable ZIP",
            status_code=422,
        )
        good = SimpleUploadedFile("round.zip", self.changed(lambda content: None))
        self.assertContains(
            self.client.post(url, {"bundle": good}, follow=True), "Drying rack is imported"
        )

    def test_a_bundle_of_version_2_is_sealed_by_its_first_runs(self):
        def older(content):
            content["schema_version"] = 2
            for entry in content["entries"]:
                for version in entry["versions"]:
                    for name in ("sealed_at", "files", "predictions"):
                        version.pop(name)

        round = import_round(self.built.host, self.changed(older))
        sealed = Version.objects.get(entry__round=round, entry__name="Amsel").sealed_at
        self.assertEqual(
            sealed,
            Run.objects.filter(test__round=round, specimen__version__entry__name="Amsel")
            .earliest("started_at")
            .started_at,
        )

    def test_predictions_and_files_travel(self):
        def with_more(content):
            version = content["entries"][0]["versions"][0]
            version["predictions"] = [
                {
                    "uid": str(uuid4()),
                    "procedure": "airflow",
                    "source": "model",
                    "model": "rotor",
                    "value": 0.05,
                    "u": 0.002,
                    "inputs": {"blades": 7},
                    "core_version": "2",
                    "made_at": "2026-05-01T08:00:00+00:00",
                    "made_by": "Runa",
                }
            ]
            return version

        def lacking(content):
            with_more(content)["files"] = [
                {
                    "name": "a.stl",
                    "sha256": "0" * 64,
                    "size": 3,
                    "added_at": "2026-05-01T08:00:00+00:00",
                    "place": "",
                    "count": 1,
                    "unit": "",
                    "axis": "",
                }
            ]

        def unknown(content):
            with_more(content)["predictions"][0]["procedure"] = "taste"

        for change, said in ((lacking, "lacks the file a.stl"), (unknown, "is not known here")):
            with self.subTest(said), self.assertRaisesRegex(BundleRefused, said):
                import_round(self.built.host, self.changed(change))
        round = import_round(self.built.host, self.changed(with_more))
        self.assertEqual(Prediction.objects.get(version__entry__round=round).inputs, {"blades": 7})

    def test_a_version_made_at_the_desk_comes_back_with_its_file(self):
        version = add_version(
            self.built.host,
            Entry.objects.get(round=self.built.round, name="Kiebitz"),
            "More pitch.",
        )
        attach(self.built.host, version, "part.stl", b"solid nothing")
        data = exported(self.built.host, self.built.round)
        self.assertIn(b"solid nothing", bundle.read(data).files.values())

    def test_tables_in_the_units_of_a_person_and_in_si(self):
        User.objects.filter(pk=self.built.host.pk).update(
            preset="inch", own_units={"volume_flow": "m³/h"}
        )
        self.client.force_login(
            User.objects.get(pk=self.built.host.pk),
            backend="django.contrib.auth.backends.ModelBackend",
        )
        at = reverse("exchange:csv", args=[self.built.round.slug])

        def rows(**asked):
            text = self.client.get(at, asked).content.decode()
            return list(csv.DictReader(io.StringIO(text.removeprefix("\ufeff"))))

        own, si = rows(table="results"), rows(table="results", units="si")
        flows = [(o, s) for o, s in zip(own, si, strict=True) if s["procedure"] == "airflow"]
        for mine, theirs in flows:
            self.assertEqual((mine["unit"], theirs["unit"]), ("m³/h", "m3/s"))
            for name in ("value", "standard_uncertainty"):
                self.assertAlmostEqual(float(mine[name]), 3600 * float(theirs[name]), delta=1e-6)
            self.assertAlmostEqual(
                float(mine["room temperature [°F]"]),
                32 + 1.8 * float(theirs["room temperature [degC]"]),
            )
        own, si = rows(), rows(units="si")
        self.assertAlmostEqual(
            float(own[0]["air value [m³/h]"]), 3600 * float(si[0]["air value [m3/s]"]), delta=1e-6
        )
        self.assertEqual(own[0]["air change [%]"], si[0]["air change [%]"])

    def test_the_bundle_is_readable_without_hauch(self):
        content = bundle.read(self.data).content
        self.assertEqual((content["schema"], content["schema_version"]), ("hauch.round", 14))
        run = next(row for row in content["runs"] if row["specimen"])
        self.assertEqual(
            {"value", "u", "parts", "working"} & set(run["result"]),
            {"value", "u", "parts", "working"},
        )
        self.assertEqual(run["readings"][0]["unit"], "m/s")
        json.dumps(content, allow_nan=False)
