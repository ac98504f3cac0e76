"""Two people change one thing at once: nothing of either is lost unseen."""

from __future__ import annotations

import re
from html import unescape

from django.test import Client, TestCase
from django.urls import reverse

from hauch.entries.actions import set_papers
from hauch.entries.models import BillItem, Version
from hauch.rounds.models import Round
from hauch.stores.models import Instrument, Material
from hauch.workshop.models import Specimen
from tests.builder import PASSWORD, build
from tests.web.test_fuzz import forms_of


class TwoAtOnceTests(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        Round.objects.update(state="brief")
        cls.slug = cls.built.round.slug

    def setUp(self):
        self.one, self.two = Client(), Client()
        self.one.login(username="host", password=PASSWORD)
        self.two.login(username="host", password=PASSWORD)

    def page(self, client, url, action=None):
        """What a browser would send of the page's form."""
        html = client.get(url).content.decode()
        forms = [f for f in forms_of(html, url, "host") if f.method == "post"]
        forms = [f for f in forms if action is None or f.url == action]
        form = next(f for f in forms if any(name == "began" for name, _ in f.fields))
        return {name: unescape(value) for name, value in form.fields if not name.startswith("do")}

    def test_what_only_the_other_changed_is_taken_over(self):
        url = reverse("rounds:change", args=[self.slug])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        self.two.post(url, theirs | {"title": "Drying loft", "own_parts": "on"})
        answer = self.one.post(url, mine | {"question": "Which is quietest?"}, follow=True)
        self.assertContains(answer, "Kept with it what somebody else changed meanwhile")
        round = Round.objects.get()
        self.assertEqual(
            (round.title, round.question, round.own_parts),
            ("Drying loft", "Which is quietest?", True),
        )

    def test_where_both_changed_the_same_one_is_asked_and_may_insist(self):
        url = reverse("rounds:change", args=[self.slug])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        self.two.post(url, theirs | {"title": "Drying loft", "place": "Upper Quellmoos"})
        answer = self.one.post(url, mine | {"title": "Drying shed"})
        self.assertContains(
            answer, "Somebody changed this to “Drying loft” while you wrote", status_code=422
        )
        self.assertContains(answer, 'value="Drying shed"', status_code=422)
        self.assertContains(answer, 'value="Upper Quellmoos"', status_code=422)
        self.assertEqual(Round.objects.get().title, "Drying loft")
        form = next(
            f
            for f in forms_of(answer.content.decode(), url, "host")
            if any(name == "began" for name, _ in f.fields)
        )
        again = self.one.post(url, dict(form.fields), follow=True)
        self.assertContains(again, "The brief is saved")
        round = Round.objects.get()
        self.assertEqual((round.title, round.place), ("Drying shed", "Upper Quellmoos"))

    def test_the_same_change_twice_and_a_page_of_before(self):
        url = reverse("rounds:change", args=[self.slug])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        for client, data in ((self.two, theirs), (self.one, mine)):
            answer = client.post(url, data | {"title": "Drying loft"}, follow=True)
            self.assertContains(answer, "The brief is saved.")
        without = {k: v for k, v in mine.items() if k != "began"}
        for began in ({}, {"began": "["}, {"began": "[1]"}, {"began": '{"title": 7}'}):
            answer = self.one.post(url, without | {"title": "Drying barn"} | began)
            self.assertIn(answer.status_code, {302, 422})

    def test_a_meter(self):
        vane = Instrument.objects.get(channel="air_speed")
        url = reverse("stores:change_instrument", args=[vane.pk])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        self.two.post(url, theirs | {"resolution": "0.1", "serial": "V-7"})
        self.one.post(url, mine | {"name": "Vane, large"})
        vane.refresh_from_db()
        self.assertEqual((vane.name, vane.serial), ("Vane, large", "V-7"))
        self.assertAlmostEqual(vane.resolution, 0.1 / 3.6)
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        self.two.post(url, theirs | {"resolution": "0.2"})
        answer = self.one.post(url, mine | {"resolution": "0.3"})
        self.assertContains(answer, "Somebody changed this to “0.2”", status_code=422)

    def test_a_rig(self):
        rig = self.built.tests["air"].rig
        url = reverse("stores:change_rig", args=[rig.pk])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        self.two.post(url, theirs | {"c_bore": "126"})
        self.one.post(url, mine | {"note": "Stands by the window."})
        rig.refresh_from_db()
        self.assertEqual(rig.note, "Stands by the window.")
        self.assertAlmostEqual(rig.pairs["bore"][0], 0.126)

    def test_an_envelope_with_its_keep_outs(self):
        url = reverse("rounds:envelope", args=[self.slug])
        mine, theirs = self.page(self.one, url), self.page(self.two, url)
        names = [name for name in mine if name not in {"began"} and not name.startswith("keep")]
        first, second = names[0], names[1]
        self.two.post(url, theirs | {first: str(float(theirs[first]) + 1)})
        answer = self.one.post(url, mine | {second: str(float(mine[second]) + 2)}, follow=True)
        self.assertContains(answer, "Kept with it what somebody else changed meanwhile")
        now = self.page(self.one, url)
        self.assertEqual(float(now[first]), float(mine[first]) + 1)
        self.assertEqual(float(now[second]), float(mine[second]) + 2)
        box = {"keep_name": "rafter", "keep_x": "200", "keep_y": "0", "keep_z": "0"}
        box |= {"keep_dx": "30", "keep_dy": "30", "keep_dz": "30"}
        self.two.post(url, now | box)
        answer = self.one.post(url, now | {first: str(float(now[first]) + 1)})
        self.assertContains(answer, "Somebody changed the keep-outs", status_code=422)

    def test_papers_with_their_bill(self):
        Round.objects.update(state="open")
        entry = self.built.entries["Amsel"]
        version = Version.objects.get(entry=entry)
        url = reverse("entries:edit", args=[self.slug, entry.pk])
        mine = self.page(self.one, url) | {"changed": "A wider tip."}
        bill = [BillItem(name="bush", quantity=1, price=2)]
        papers = {"changed": "A wider tip.", "why": "", "material": None}
        set_papers(self.built.host, version, **papers, bill=bill, steps=[])
        answer = self.one.post(url, mine)
        self.assertContains(answer, "Somebody changed the bill of materials", status_code=422)
        self.assertEqual(version.bill.count(), 1)
        again = self.page(self.one, url) | {"why": "Less swirl."}
        answer = self.one.post(url, again, follow=True)
        self.assertContains(answer, "are saved")
        version.refresh_from_db()
        self.assertEqual((version.why, version.bill.count()), ("Less swirl.", 1))

    def test_rules(self):
        url = reverse("change_rules", args=[self.slug])
        html = self.one.get(url).content.decode()
        based = re.search(r'name="based_on" value="(\w+)"', html).group(1)
        form = next(
            f
            for f in forms_of(html, url, "host")
            if any(name == "based_on" for name, _ in f.fields)
        )
        data = {name: unescape(value) for name, value in form.fields if name != "add_test"}
        weight = next(name for name in data if name.endswith("weight"))
        self.two.post(url, data | {weight: "3"})
        changed = self.one.get(url).content.decode()
        self.assertNotEqual(based, re.search(r'name="based_on" value="(\w+)"', changed).group(1))
        answer = self.one.post(url, data | {weight: "4"})
        self.assertContains(answer, "Somebody changed the rules while you wrote", status_code=422)
        self.assertContains(answer, 'value="4"', status_code=422)
        now = re.search(r'name="based_on" value="(\w+)"', answer.content.decode()).group(1)
        answer = self.one.post(url, data | {weight: "4", "based_on": now})
        self.assertNotContains(answer, "Somebody changed", status_code=answer.status_code)

    def test_materials_and_prints(self):
        material = Material.objects.get(key="petg")
        specimen = self.built.specimens["Amsel"]
        for url, to, mine, theirs, found in (
            (
                reverse("stores:material", args=[material.pk]),
                reverse("stores:material", args=[material.pk]),
                {"label": "PETG, dry"},
                {"price": "31"},
                lambda: Material.objects.values_list("label", "price").get(pk=material.pk),
            ),
            (
                specimen.get_absolute_url(),
                reverse("workshop:change", args=[self.slug, specimen.pk, "print"]),
                {"walls": "7"},
                {"material": "Spool 31"},
                lambda: Specimen.objects.values_list("walls", "material").get(pk=specimen.pk),
            ),
        ):
            one, two = self.page(self.one, url, to), self.page(self.two, url, to)
            with self.subTest(url):
                self.two.post(to, two | theirs)
                answer = self.one.post(to, one | mine, follow=True)
                self.assertContains(answer, "Kept with it what somebody else changed meanwhile")
                self.assertEqual([str(v) for v in found()], [*mine.values(), "31.0"] if to == url
                                 else [*mine.values(), *theirs.values()])  # fmt: skip
                self.two.post(to, self.page(self.two, url, to) | dict.fromkeys(mine, "8"))
                again = self.one.post(to, self.page(self.one, url, to) | {"began": one["began"]}
                                      | dict.fromkeys(mine, "9"))  # fmt: skip
                self.assertContains(again, "Somebody changed this to", status_code=422)

    def test_a_note_that_two_write_holds_both(self):
        specimen = self.built.reference
        url = specimen.get_absolute_url()
        to = reverse("stores:note_reference", args=[specimen.pk])
        one, two = self.page(self.one, url, to), self.page(self.two, url, to)
        self.two.post(to, two | {"note": "Hums at 40 %."})
        answer = self.one.post(to, one | {"note": "A nick in one blade."}, follow=True)
        self.assertContains(answer, "both stand in it now")
        specimen.refresh_from_db()
        self.assertEqual(specimen.note, "Hums at 40 %.\nA nick in one blade.")
        self.one.post(to, self.page(self.one, url, to) | {"note": "Quiet."})
        specimen.refresh_from_db()
        self.assertEqual(specimen.note, "Quiet.")
