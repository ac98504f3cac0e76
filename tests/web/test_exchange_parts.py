"""Parts, papers and the workshop travel in a bundle and come back; older bundles still come in."""

from __future__ import annotations

import io
import json
import zipfile
from datetime import date
from decimal import Decimal

from django.test import TestCase

from hauch.entries.actions import attach, set_papers
from hauch.entries.checking import run_check
from hauch.entries.models import AssemblyStep, BillItem, Entry, PartCheck
from hauch.exchange.importing import import_round
from hauch.formats import bundle
from hauch.formats.bundle import Bundle, BundleRefused
from hauch.rounds.models import Round
from hauch.stores.models import Material
from hauch.stores.pictures import keep_picture
from hauch.workshop import actions, queries
from hauch.workshop.models import Specimen
from tests.builder import build
from tests.bundles import exported
from tests.web.test_entry_parts import ROTOR


def picture() -> bytes:
    from PIL import Image

    out = io.BytesIO()
    Image.new("RGB", (30, 20), "teal").save(out, "PNG")
    return out.getvalue()


class Travelling(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()

    def setUp(self):
        host, operator = self.built.host, self.built.operator
        version = self.built.entries["Amsel"].versions.get()
        attach(host, version, "amsel.stl", ROTOR, place="on the shaft", count=2)
        run_check(PartCheck.objects.get().pk)
        steps = [
            AssemblyStep(text="Press.", picture=keep_picture(host, picture())),
            AssemblyStep(text="Screw."),
        ]
        pla = Material.objects.get(key="pla")
        set_papers(
            host,
            version,
            changed="Swept.",
            why="Less leak.",
            material=pla,
            bill=[BillItem(name="bush", quantity=Decimal(2), price=Decimal("0.80"))],
            steps=steps,
        )
        specimen = actions.add_specimen(
            operator, version, "W-01", due=date(2026, 12, 1), printed_in=pla
        )
        for step in specimen.steps.all():
            actions.tick_step(operator, step, True)
        actions.log_print(operator, specimen, "Printer", 2.5, failed=False, note="fine")
        actions.add_measures(operator, specimen, "bore", {1: 0.0039, 2: 0.0040})
        actions.set_print(operator, specimen, {"mass": 0.05})
        balance = actions.add_balance(
            operator,
            specimen,
            {
                "speed": 1500.0,
                "first": 4.0,
                "first_angle": 0.0,
                "trial": 1e-3,
                "trial_radius": 0.01,
                "trial_angle": 0.0,
                "second": 8.0,
                "second_angle": 0.0,
            },
        )
        actions.set_residual(operator, balance, 0.1)
        actions.pass_gate(
            operator, specimen, "supply", {c.key for c in queries.cautions_for(specimen, "supply")}
        )
        self.data = exported(host, self.built.round)

    def content(self, data: bytes | None = None) -> dict:
        return bundle.read(data or self.data).content

    def changed(self, change=lambda content: None, version: int | None = None) -> bytes:
        """The bundle as of another round: new identities, and what a test changes besides."""
        made = bundle.read(self.data)
        content = made.content
        content["round"]["uid"] = "6f0c7a52-6f1b-4d3e-9a4e-140140140149"
        for entry in content["entries"]:
            for row in (
                entry,
                *entry["versions"],
                *(s for v in entry["versions"] for s in v["specimens"]),
            ):
                row["uid"] = row["uid"][:-4] + "beef"
        change(content)
        data = bundle.packed(Bundle(content, made.traces, made.files))
        return data if version is None else self.of_version(data, version)

    def of_version(self, data: bytes, version: int) -> bytes:
        out = io.BytesIO()
        with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w") as new:
            for item in old.infolist():
                kept = old.read(item)
                if item.filename == "round.json":
                    kept = json.dumps(json.loads(kept) | {"schema_version": version}).encode()
                new.writestr(item, kept)
        return out.getvalue()

    def amsel(self, content: dict) -> dict:
        return next(e for e in content["entries"] if e["name"] == "Amsel")["versions"][0]

    def test_what_is_in_it(self):
        version = self.amsel(self.content())
        self.assertEqual((version["why"], version["material"]), ("Less leak.", "pla"))
        self.assertEqual(version["bill"][0]["price"], "0.80")
        self.assertEqual([s["text"] for s in version["steps"]], ["Press.", "Screw."])
        specimen = next(s for s in version["specimens"] if s["code"] == "W-01")
        self.assertEqual(
            {k: len(specimen[k]) for k in ("prints", "measures", "balances", "gates")},
            {"prints": 1, "measures": 2, "balances": 1, "gates": 1},
        )
        self.assertIsNotNone(specimen["cap"])
        self.assertIn("pla", [m["key"] for m in self.content()["materials"]])

    def test_it_comes_back(self):
        host, data = self.built.host, self.changed()
        before = self.amsel(self.content(data))
        made = import_round(host, data)
        entry = Entry.objects.get(round=made, name="Amsel")
        version = entry.versions.get()
        self.assertEqual(
            (version.cost, version.material.key, version.files.get().count),
            (Decimal("1.60"), "pla", 2),
        )
        self.assertIsNotNone(version.steps.first().picture)
        specimen = Specimen.objects.get(version=version, code="W-01")
        self.assertEqual(
            (specimen.state, specimen.prints.count(), specimen.due),
            ("printed", 1, date(2026, 12, 1)),
        )
        self.assertEqual(queries.balanced(specimen)[0].correction.unbalance, 1e-5)
        self.assertEqual(
            version.files.get().newest_check.state, "waiting"
        )  # checked anew by the core that is here
        after = self.amsel(self.content(exported(host, made)))
        for step in (*before["steps"], *after["steps"]):
            step.pop("picture")  # pictures are written anew when they come in
        for row in (*before["specimens"], *after["specimens"]):
            for name in ("state", "cap", "note"):
                row.pop(name)  # what was ready elsewhere passes the gate anew
        self.assertEqual(after, before)

    def test_a_gate_that_is_none_and_a_picture_that_is_missing(self):
        host = self.built.host

        def odd_gate(content):
            next(s for s in self.amsel(content)["specimens"] if s["code"] == "W-01")["gates"][0][
                "cautions"
            ] = [["x"]]

        def lost_picture(content):
            self.amsel(content)["steps"][0]["picture"] = "0" * 64

        def odd_size(content):
            next(s for s in self.amsel(content)["specimens"] if s["code"] == "W-01")["measures"][0][
                "value"
            ] = -1.0

        for change in (odd_gate, lost_picture, odd_size):
            with self.subTest(change.__name__), self.assertRaises(BundleRefused):
                import_round(host, self.changed(change))
        self.assertEqual(Round.objects.count(), 1)

    def test_version_3_comes_in(self):
        def older(content):
            content.pop("materials")
            for entry in content["entries"]:
                for version in entry["versions"]:
                    for key in ("why", "material", "bill", "steps"):
                        version.pop(key)
                    for file in version["files"]:
                        for key in ("place", "count", "unit", "axis"):
                            file.pop(key)
                    for specimen in version["specimens"]:
                        for key in (
                            "since",
                            "due",
                            "layer",
                            "line",
                            "walls",
                            "infill",
                            "cap",
                            "printed_in",
                            "prints",
                            "steps",
                            "measures",
                            "balances",
                            "gates",
                        ):
                            specimen.pop(key)

        made = import_round(self.built.host, self.changed(older, 3))
        specimen = Specimen.objects.get(version__entry__round=made, code="W-01")
        self.assertEqual(
            (specimen.state, specimen.cap, specimen.steps.count()), ("printed", None, 0)
        )
        self.assertIn(
            "passes the safety gate here", specimen.note
        )  # whatever limit it had elsewhere
