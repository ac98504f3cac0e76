"""A panel in the browser: the operator at a computer, two judges on phones without an account."""

from playwright.sync_api import expect

from hauch.bench.models import Run
from hauch.panel.models import Mark, Sitting
from hauch.rounds.models import Test
from hauch.stores.models import Instrument, Rig
from tests.browser.base import BrowserTests
from tests.browser.test_accessible import AXE, FITS, LOOK


class PanelTests(BrowserTests):
    measured = False

    def setUp(self):
        super().setUp()
        constants = {"places": [2, 0.0], "faces": [1, 0.0], "top": [10, 0.0]}
        rig = Rig.objects.create(name="Score sheets", kind="panel", constants=constants)
        sheets = Instrument.objects.create(name="Sheets", channel="panel_points", resolution=1.0)
        rig.meters.create(channel="panel_points", instrument=sheets)
        Test.objects.filter(key="air").update(procedure="panel_points", rig=rig, label="Looks")

    def judge(self, link: str, points: int):
        phone = self.new_page(viewport={"width": 390, "height": 844})
        phone.goto(link)
        expect(phone.get_by_role("heading", name="Sample").first).to_be_visible()
        self.assertTrue(phone.evaluate(FITS))
        phone.evaluate(AXE)
        self.assertEqual(phone.evaluate(LOOK), [])
        fields = phone.locator("input[inputmode=decimal]")
        for n in range(fields.count()):
            fields.nth(n).fill(str(points + n % 2))
            fields.nth(n).press("Tab")
        expect(phone.locator("#progress")).to_contain_text("8 of 8 points given")
        phone.reload()
        expect(fields.first).to_have_value(str(points))
        phone.get_by_role("button", name="I am done").click()
        expect(phone.locator("#progress")).to_contain_text("you are done")

    def test_from_the_bench_to_runs(self):
        page = self.sign_in("operator")
        test = self.built.tests["air"]
        page.goto(self.in_round(f"bench/tests/{test.pk}/?subject=r{self.built.reference.pk}"))
        page.get_by_role("link", name="Judges on their own devices").click()
        page.get_by_label("Judge 1").fill("Ilse")
        page.get_by_label("Judge 2").fill("Jost")
        page.get_by_label("Criterion 1", exact=True).fill("overhang")
        page.get_by_label("Criterion 2", exact=True).fill("surface")
        page.get_by_role("button", name="Open the sitting").click()
        expect(page.get_by_text("Not all judges are done yet")).to_be_visible()
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        links = [page.get_by_label(f"Link of {n}").input_value() for n in ("Ilse", "Jost")]
        for link, points in zip(links, (4, 7), strict=True):
            self.judge(link, points)
        self.assertEqual(Mark.objects.count(), 16)
        page.reload()
        expect(page.get_by_text("All judges are done")).to_be_visible()
        expect(page.get_by_role("columnheader", name="Overhang")).to_be_visible()
        page.get_by_label("Room temperature").fill("21,4")
        page.get_by_label("Air pressure").fill("965")
        page.get_by_label("Relative humidity").fill("48")
        page.get_by_role("button", name="Close, and record the runs").click()
        expect(page.get_by_text("4 runs were recorded")).to_be_visible()
        self.assertIsNotNone(Sitting.objects.get().closed_at)
        self.assertEqual([run.result.value for run in Run.objects.all()], [6.0] * 4)

    def rank(self, link, orders):
        """Places by criterion: codes with the best first; those in a tuple share a place."""
        phone = self.new_page(viewport={"width": 390, "height": 844})
        phone.goto(link)
        for heading, order in orders.items():
            section = phone.locator("section", has=phone.get_by_role("heading", name=heading))
            for place, codes in enumerate(order, 1):
                for code in codes:
                    section.get_by_label(f"Sample {code}").fill(str(place))
                    section.get_by_label(f"Sample {code}").press("Tab")
        self.assertTrue(phone.evaluate(FITS))
        phone.evaluate(AXE)
        self.assertEqual(phone.evaluate(LOOK), [])
        phone.get_by_role("button", name="I am done").click()
        return phone

    def test_ranked_by_criteria_that_do_not_count_alike(self):
        Rig.objects.update(constants={"places": [5, 0.0], "faces": [1, 0.0], "top": [10, 0.0]})
        Test.objects.filter(key="air").update(procedure="panel_places")
        page = self.sign_in("operator")
        page.goto(self.in_round(f"panel/tests/{self.built.tests['air'].pk}/"))
        names = ("Ilse", "Jost", "Klara", "Lutz", "Mona")
        for n, name in enumerate(names, 1):
            page.get_by_label(f"Judge {n}").fill(name)
        page.get_by_label("Criterion 1", exact=True).fill("overhang")
        page.get_by_label("Criterion 2", exact=True).fill("surface")
        page.get_by_label("What criterion 2 counts").fill("half")
        page.get_by_role("button", name="Open the sitting").click()
        expect(page.get_by_text("surface: “half” is not a number")).to_be_visible()
        page.get_by_label("What criterion 2 counts").fill("0.5")
        page.get_by_role("button", name="Open the sitting").click()
        expect(page.get_by_text("They count overhang × 1, surface × 0.5")).to_be_visible()
        links = [page.get_by_label(f"Link of {name}").input_value() for name in names]
        codes = {s.name.split(",")[0]: s.code for s in Sitting.objects.get().samples.all()}
        a, b, k = (codes[name] for name in ("Amsel", "Binse", "Kiebitz"))
        (reference,) = set(codes.values()) - {a, b, k}
        orders = {
            "Overhang": [(a,), (b,), (k,), (reference,)],
            "Surface": [(b, k), (a,), (reference,)],
        }
        phone = self.rank(links[0], orders | {"Surface": [(b,)]})
        expect(phone.locator("#progress")).to_contain_text(
            "Surface: put at least two samples in places"
        )
        for link in links[:4]:
            phone = self.rank(link, orders)
            expect(phone.locator("#progress")).to_contain_text("you are done")
        self.rank(
            links[4],
            {"Overhang": [(reference,), (k,), (b,), (a,)], "Surface": [(reference,), (k,)]},
        )
        page.reload()
        expect(page.get_by_text("Mona stands apart")).to_be_visible()
        expect(page.get_by_text("5 judges judged all samples")).to_be_visible()
        page.evaluate(AXE)
        self.assertEqual(page.evaluate(LOOK), [])
        page.get_by_label("Room temperature").fill("21,4")
        page.get_by_label("Air pressure").fill("965")
        page.get_by_label("Relative humidity").fill("48")
        page.get_by_role("button", name="Close, and record the runs").click()
        expect(page.get_by_text("4 runs were recorded")).to_be_visible()
        run = Run.objects.get(specimen__version__entry__name="Amsel")
        # of four places: the first 12.5 %, the third 62.5 %, the last 87.5 %; overhang counts
        # double, and the fifth left the surface of this one out
        expected = (4 * (2 * 12.5 + 62.5) / 3 + 87.5) / 5
        self.assertAlmostEqual(run.result.value, expected, places=2)
        self.assertIn("overhang × 1, surface × 0.5", run.note)
