"""The print plan with its beds, spools and prototypes, labels in order, and the parts to buy."""

import csv
import io
from datetime import date, time, timedelta
from decimal import Decimal

from django.core.exceptions import PermissionDenied, ValidationError
from django.urls import reverse

from hauch.entries.models import BillItem, Version
from hauch.plan import actions
from hauch.plan.models import DayPlan, PrototypeMaterial, Spool, Stock
from hauch.plan.parts import parts_of
from hauch.plan.prints import prints_of
from hauch.plan.record import Record
from hauch.stores.models import Material
from hauch.verdict.models import Decision
from hauch.workshop.actions import add_specimen, set_state
from hauch.workshop.models import Specimen
from tests.plans import MONDAY, checked, give_hours, made, printer
from tests.web.test_plan import PlanCase


class PrintCase(PlanCase):
    def setUp(self):
        super().setUp()
        self.petg = Material.objects.get(key="petg")
        self.versions = {
            name: Version.objects.get(entry__name=name) for name in ("Amsel", "Binse", "Kiebitz")
        }
        for version in self.versions.values():
            checked(version)
        give_hours(self.built, "operator", shifts=((time(7), time(19)),))

    def planned(self, *names, material=None):
        return [
            add_specimen(
                self.host,
                self.versions[name],
                state="planned",
                printed_in=material or self.petg,
            )
            for name in names
        ]

    def prints(self):
        return prints_of(self.host, made(self.host))


class BedTests(PrintCase):
    def test_alike_prints_share_a_bed(self):
        printer(width=0.2, depth=0.2, material=self.petg)
        Specimen.objects.update(state=Specimen.State.BROKEN)
        amsel, binse = self.planned("Amsel", "Binse")
        found = self.prints()
        (plate,) = found.plates
        self.assertEqual(plate.specimens, [amsel, binse])
        self.assertEqual({one for _, one in plate.spots}, {amsel, binse})
        self.assertAlmostEqual(plate.grams, 1.06 * 0.1)
        self.assertAlmostEqual(plate.cost, 1.06 * 0.1 * self.petg.price)
        plan = DayPlan.objects.first()
        runs = plan.steps.filter(kind="run", specimen__in=[amsel, binse])
        self.assertGreaterEqual(min(run.begin for run in runs), plate.line.step.end)

    def test_another_material_is_another_print(self):
        printer()
        self.planned("Amsel")
        self.planned("Binse", material=Material.objects.get(key="pa"))
        self.assertEqual([len(plate.specimens) for plate in self.prints().plates], [1, 1])

    def test_a_part_that_fits_no_bed(self):
        printer(width=0.05)
        self.planned("Amsel")
        plan = made(self.host)
        self.assertIn("is 90 × 80 × 30 mm as it lies, and fits no bed", str(plan.problems))

    def test_the_printer_that_has_the_material(self):
        other = printer(name="Other")
        loaded = printer(name="Loaded", material=self.petg)
        self.planned("Amsel")
        (plate,) = self.prints().plates
        self.assertEqual(plate.machine, loaded)
        actions.report(self.host, machine=loaded)
        (plate,) = self.prints().plates
        self.assertIsNone(
            plate.machine
        )  # of those that are loaded none works, and none is reloaded
        loaded.material = None
        loaded.save()
        (plate,) = self.prints().plates
        self.assertEqual(plate.machine, other)

    def test_a_print_that_is_late_goes_first(self):
        """Two prints of six hours on one printer: what should have been ready is so today."""
        printer()
        for name in ("Amsel", "Binse"):
            checked(self.versions[name], "hub.stl", hours=4)
        (first,) = self.planned("Amsel")
        (late,) = self.planned("Binse", material=Material.objects.get(key="pa"))
        Specimen.objects.filter(pk=late.pk).update(due=date(2026, 5, 9))
        plates = self.prints().plates
        self.assertEqual([plate.specimens for plate in plates], [[late], [first]])

    def test_one_of_a_plate_is_on_the_printer(self):
        printer()
        amsel, binse = self.planned("Amsel", "Binse")
        plan = made(self.host)
        for one in (amsel, binse):
            set_state(self.host, one, Specimen.State.PRINTING)
        key = plan.steps.get(kind="print").key
        self.assertEqual(self.state_of(plan, key), "going")
        again = made(self.host)
        places = [step.place for step in again.steps.filter(kind="print").order_by("pk")]
        self.assertEqual(sorted(bool(place) for place in places), [False, True])
        for one in (amsel, binse):
            set_state(self.host, one, Specimen.State.PRINTED)
        self.assertEqual(self.state_of(plan, key), "done")

    def test_one_part_in_two_formats_is_printed_once(self):
        checked(self.versions["Amsel"], "rotor.step")
        checked(self.versions["Amsel"], "hub.stl", mass=0.01, count=2)
        self.assertAlmostEqual(Record().mass(self.versions["Amsel"].pk), 0.07)

    def test_the_page(self):
        printer(material=self.petg)
        self.sign_in()
        url = reverse("plan:prints")
        self.assertContains(self.client.get(url), "No plan is in force yet")
        self.planned("Amsel", "Binse")
        made(self.host)
        text = self.words(self.client.get(url))
        self.assertIn("How the parts lie on the bed of Printer at the window", text)
        self.assertIn("not weighed yet", text)
        labels = self.client.get(reverse("plan:labels"))
        self.assertContains(labels, "print-label", 2)
        self.sign_in("designer")
        for name in ("plan:prints", "plan:labels", "plan:parts", "plan:parts_table"):
            self.assertEqual(self.client.get(reverse(name)).status_code, 403)


class SpoolTests(PrintCase):
    def test_what_is_left_against_what_is_planned(self):
        printer()
        self.planned("Amsel", "Binse")
        self.sign_in()
        url = reverse("plan:spool")
        form = {"material": self.petg.pk, "colour": "white", "left": "60"}
        self.assertContains(self.client.post(url, form, follow=True), "PETG, white is noted")
        need = next(need for need in self.prints().needs if need.material == self.petg)
        self.assertAlmostEqual(need.left, 0.06)
        self.assertAlmostEqual(need.short, 1.06 * 0.1 - 0.06)
        self.assertContains(self.client.get(reverse("plan:prints")), "too little")
        self.client.post(url, form | {"left": "900"})
        self.assertEqual(Spool.objects.get().left, 0.9)
        need = next(need for need in self.prints().needs if need.material == self.petg)
        self.assertEqual(need.short, 0)

    def test_bad_input(self):
        self.sign_in()
        for form, said in (
            ({"material": "", "left": "1"}, "Choose a material"),
            ({"material": self.petg.pk, "left": "much"}, "much"),
            ({"material": self.petg.pk, "left": "-5"}, "0 to 50 kg"),
            ({"material": self.petg.pk, "left": "900 kg"}, "0 to 50 kg"),
        ):
            answer = self.client.post(reverse("plan:spool"), form, follow=True)
            self.assertContains(answer, said)
        self.assertFalse(Spool.objects.exists())
        with self.assertRaises(PermissionDenied):
            actions.weigh_spool(self.built.people["designer"], self.petg, "", 0.1)

    def test_prototypes_first(self):
        printer()
        pa = Material.objects.get(key="pa")
        (one,) = self.planned("Amsel", material=pa)
        self.sign_in()
        self.client.post(reverse("plan:prototype"), {"material": self.petg.pk})
        self.assertEqual(PrototypeMaterial.objects.get().material, self.petg)
        self.assertEqual(self.prints().first_prototypes, [(one, self.petg)])
        Decision.objects.create(version=one.version, word="accepted", reason="Good.")
        self.assertEqual(self.prints().first_prototypes, [])
        Decision.objects.all().delete()
        self.client.post(reverse("plan:try_first", args=[one.pk]))
        one.refresh_from_db()
        self.assertEqual(one.printed_in, self.petg)
        self.assertEqual(prints_of(self.host, DayPlan.objects.first()).first_prototypes, [])
        self.client.post(reverse("plan:prototype"), {"material": ""})
        self.assertFalse(PrototypeMaterial.objects.exists())


class PartsTests(PrintCase):
    def setUp(self):
        super().setUp()
        printer()
        self.planned("Amsel", "Binse")
        for name, part, count, price in (
            ("Amsel", "Screw M3", 4, "0.05"),
            ("Binse", "screw  m3", 6, "0.05"),
            ("Binse", "Insert M3", 2, "0.10"),
        ):
            BillItem.objects.create(
                version=self.versions[name], name=part, quantity=count, price=Decimal(price)
            )
        made(self.host)

    def part(self, name):
        return next(part for part in parts_of(self.host) if part.name == name)

    def test_bills_of_all_that_is_put_together_against_the_drawer(self):
        screws = self.part("Screw M3")
        self.assertEqual((screws.needed, screws.missing), (10, 10))
        self.assertEqual(screws.entries, {"Amsel", "Binse"})
        actions.set_stock(self.host, "screw m3", Decimal(8), 2)
        screws = self.part("Screw M3")
        self.assertEqual((screws.there, screws.missing), (8, 2))
        work = DayPlan.objects.first().steps.filter(kind="work").order_by("begin").first()
        day = (MONDAY + timedelta(days=work.begin // 1440)).date()
        self.assertEqual((screws.first, screws.order_by), (day, day - timedelta(days=2)))
        self.assertEqual(screws.late, day - timedelta(days=2) < date(2026, 5, 11))
        actions.set_stock(self.host, "Screw M3", Decimal(10), 2)
        self.assertIsNone(self.part("Screw M3").order_by)
        self.assertEqual(Stock.objects.count(), 1)

    def test_what_is_at_the_bench_needs_nothing_more(self):
        Specimen.objects.filter(version=self.versions["Binse"]).update(state="ready")
        self.assertEqual([part.name for part in parts_of(self.host)], ["Screw M3"])

    def test_the_page_and_the_table(self):
        self.sign_in()
        text = self.words(self.client.get(reverse("plan:parts")))
        self.assertIn("2 parts are missing, 0.70 in all", text)
        rows = list(
            csv.DictReader(
                io.StringIO(self.client.get(reverse("plan:parts_table")).content.decode())
            )
        )
        self.assertEqual(
            {row["part"]: row["to buy"] for row in rows}, {"Screw M3": "10.0", "Insert M3": "2.0"}
        )
        answer = self.client.post(
            reverse("plan:stock"), {"name": "Insert M3", "quantity": "2", "days": "5"}, follow=True
        )
        self.assertContains(answer, "1 part is missing")

    def test_bad_input(self):
        self.sign_in()
        for form, said in (
            ({"name": "", "quantity": "1", "days": "1"}, "Say which part"),
            ({"name": "x", "quantity": "many", "days": "1"}, "is no count"),
            ({"name": "x", "quantity": "NaN", "days": "1"}, "is no count"),
            ({"name": "x", "quantity": "-1", "days": "1"}, "0 or more"),
            ({"name": "x", "quantity": "1", "days": "soon"}, "no number of days"),
            ({"name": "x", "quantity": "1", "days": "9000"}, "within a year"),
            ({"name": "x", "quantity": "99999999999", "days": "1"}, "digits"),
        ):
            answer = self.client.post(reverse("plan:stock"), form, follow=True)
            self.assertContains(answer, said)
        self.assertFalse(Stock.objects.exists())
        with self.assertRaises(ValidationError):
            actions.set_stock(self.host, "x", Decimal(1), 400)
