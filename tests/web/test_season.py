"""Seasons: rounds in a row, the overall table, champions carried on, records."""

import math

from django.core.exceptions import ValidationError
from django.test import TestCase
from django.urls import reverse
from django.utils import timezone

from hauch.bench.models import Run
from hauch.bench.plan import plan_of
from hauch.bench.runs import NewRun, Subject, Typed, record_run
from hauch.entries.models import Entry
from hauch.people.models import User
from hauch.people.permissions import HOST
from hauch.rounds.models import Membership, Round, Test, TestReference
from hauch.season import actions, queries
from hauch.season.models import Champion, Season
from hauch.stores.models import ReferenceSpecimen, ReferenceType, Rig
from hauch.verdict.judging import judge_round
from hauch.workshop.actions import set_state
from hauch.workshop.models import Specimen
from tests.builder import ROOM, build
from tests.seasons import LATER, another_round, measure, run


class SeasonCase(TestCase):
    @classmethod
    def setUpTestData(cls):
        cls.built = build()
        cls.built.measure_and_judge()
        cls.season = actions.begin(cls.built.host, "Loft season", None)
        actions.put_in(cls.built.host, cls.season, cls.built.round)

    def sign_in(self, who="host"):
        self.client.force_login(
            self.built.people[who], backend="django.contrib.auth.backends.ModelBackend"
        )

    def page(self, status=200):
        answer = self.client.get(self.season.get_absolute_url())
        self.assertEqual(answer.status_code, status)
        return answer

    def at(self, name, *args):
        return reverse(f"season:{name}", args=[self.season.slug, *args])

    def second(self, **changes):
        round, test, specimens = another_round(self.built, **changes)
        actions.put_in(self.built.host, self.season, round)
        return round, test, specimens

    def carry(self, into, confirmed=True):
        return actions.carry_on(
            self.built.host, self.season, self.built.specimens["Amsel"], into, confirmed
        )


class TableTests(SeasonCase):
    def test_points_of_two_rounds_by_designer(self):
        _, test, specimens = self.second()
        measure(self.built, test, self.built.reference, specimens)
        rounds = queries.rounds_in(self.built.host, self.season)
        lines = queries.table_of(rounds.shown, None)
        self.assertEqual([line.who for line in lines], ["Ilvy", "Designer"])
        # Amsel 100 and Distel, the second of two, none; Binse and Kiebitz share the second place of
        # three, a quarter of 100, and Hasel leads the two of the second round
        self.assertEqual([line.total.points for line in lines], [125.0, 100.0])
        self.sign_in()
        page = self.page()
        self.assertContains(page, "Ilvy leads with 125 points")
        self.assertContains(page, "All rounds count")
        self.client.post(self.season.get_absolute_url(), {"title": "Loft season", "best": "1"})
        page = self.page()
        self.assertContains(page, "The best 1 of each count")
        self.assertContains(page, "(25)")

    def test_two_people_of_one_name_have_a_line_each(self):
        _, test, specimens = self.second()
        other = User.objects.create_user("another", first_name="Designer")
        Entry.objects.filter(name="Hasel").update(designer=other)
        measure(self.built, test, self.built.reference, specimens)
        rounds = queries.rounds_in(self.built.host, self.season)
        lines = queries.table_of(rounds.shown, None)
        self.assertEqual([line.who for line in lines].count("Designer"), 2)

    def test_a_season_without_anything_to_tell(self):
        empty = actions.begin(self.built.host, "Empty", None)
        self.sign_in()
        self.assertContains(self.client.get(empty.get_absolute_url()), "Put rounds in")
        round, _, _ = another_round(self.built)
        actions.put_in(self.built.host, empty, round)
        self.assertContains(self.client.get(empty.get_absolute_url()), "no standing yet")

    def test_the_newest_of_all_that_one_may_see(self):
        self.second()
        for who, words in (
            ("operator", "after 1 round"),
            ("designer", "that you may see yet"),
            ("viewer", "that you may see yet"),
        ):
            with self.subTest(who):
                self.sign_in(who)
                self.assertContains(self.page(), words)
                self.assertNotContains(self.page(), "Put a round in")
        self.sign_in("stranger")
        self.page(404)
        self.assertContains(self.client.get(reverse("season:seasons")), "No season yet")
        Round.objects.filter(pk=self.built.round.pk).update(
            state=Round.State.PUBLISHED, published_at=timezone.now()
        )
        self.sign_in("viewer")
        self.assertContains(self.page(), "after 1 round")

    def test_what_is_hidden_is_said(self):
        round, test, specimens = self.second()
        measure(self.built, test, self.built.reference, specimens)
        round.memberships.filter(user=self.built.operator).delete()
        self.sign_in("operator")
        self.assertContains(self.page(), "1 round that you are not in is not counted here")
        self.assertNotContains(self.page(), round.title)

    def test_who_may_change_it(self):
        other = User.objects.create_user("otherhost", password="straw-bale-12")
        mine = Round.objects.create(
            slug="mine", number=9, title="Mine", question="?", part="rotor", state="brief"
        )
        Membership.objects.create(round=mine, user=other, role=HOST)
        self.client.force_login(other, backend="django.contrib.auth.backends.ModelBackend")
        self.page(404)
        with self.assertRaisesMessage(Exception, "You may not change this season"):
            actions.put_in(other, self.season, mine)
        self.sign_in("operator")
        for at in (
            self.at("put_in"),
            self.at("take_out", self.built.round.pk),
        ):
            self.assertEqual(self.client.post(at, {"round": self.built.round.pk}).status_code, 403)
        self.assertEqual(
            self.client.post(reverse("season:seasons"), {"title": "Mine"}).status_code, 403
        )
        self.assertEqual(self.season.places.count(), 1)

    def test_bad_words(self):
        self.sign_in()
        for data, words in (
            ({"title": "Loft season"}, "already exists"),
            ({"title": " "}, "cannot be blank"),
            ({"title": "New", "best": "two"}, "“two” rounds cannot count"),
            ({"title": "New", "best": "0"}, "“0” rounds cannot count"),
        ):
            with self.subTest(data):
                answer = self.client.post(reverse("season:seasons"), data)
                self.assertContains(answer, words, status_code=422)
        self.assertEqual(Season.objects.count(), 1)
        answer = self.client.post(self.season.get_absolute_url(), {"title": "", "best": "1"})
        self.assertContains(answer, "cannot be blank", status_code=422)
        answer = self.client.post(self.at("put_in"), {"round": self.built.round.pk})
        self.assertContains(answer, "is in the season already", status_code=422)
        answer = self.client.post(self.at("put_in"), {"round": "x"})
        self.assertContains(answer, "Choose a round", status_code=422)

    def test_taken_out_and_the_others_move_up(self):
        round, _, _ = self.second()
        self.sign_in()
        self.client.post(self.at("take_out", self.built.round.pk))
        self.assertEqual(list(self.season.places.values_list("round", "order")), [(round.pk, 1)])


class ChampionTests(SeasonCase):
    def test_carried_on_it_is_run_beside_the_reference_of_the_round(self):
        Specimen.objects.filter(pk=self.built.specimens["Amsel"].pk).update(cap=4200.0)
        round, test, _ = self.second()
        self.sign_in()
        self.assertContains(self.page(), "Amsel, R-1, up to 4200 1/min")
        data = {"print": self.built.specimens["Amsel"].pk, "into": round.pk}
        answer = self.client.post(self.at("carry_on"), data)
        self.assertContains(answer, "Look the print over first", status_code=422)
        answer = self.client.post(self.at("carry_on"), data | {"confirmed": "yes"}, follow=True)
        self.assertContains(answer, "Amsel is a second reference of Drying rack, second")
        champion = Champion.objects.get()
        self.assertEqual(champion.reference.cap, 4200.0)
        self.assertEqual(plan_of(round, 1).beside, [champion.reference])
        answer = self.client.post(self.at("carry_on"), data | {"confirmed": "yes"})
        self.assertContains(answer, "is a second reference of", status_code=422)
        capture = reverse("bench:capture", args=[round.slug, test.pk])
        page = self.client.get(f"{capture}?subject=r{champion.reference.pk}")
        self.assertContains(page, "capped at")
        self.assertContains(self.client.get(champion.reference.get_absolute_url()), "Not above")

    def test_who_may_not_see_the_standing_does_not_see_the_champion(self):
        round, *_ = self.second()
        self.carry(round)
        self.sign_in("host")
        self.assertContains(self.page(), "Champions carried on")
        for who in ("designer", "viewer"):
            self.sign_in(who)
            self.assertNotContains(self.page(), "Amsel")

    def test_what_cannot_be_carried(self):
        round, test, specimens = self.second()
        host, carry = self.built.host, actions.carry_on
        for specimen, into, words in (
            (self.built.specimens["Binse"], round, "must be a print of who won"),
            (specimens["Distel"], self.built.round, "must be a print of who won"),
            (self.built.specimens["Amsel"], self.built.round, "does not come after"),
        ):
            with self.subTest(words), self.assertRaisesMessage(ValidationError, words):
                carry(host, self.season, specimen, into, True)
        TestReference.objects.filter(test=test).delete()
        with self.assertRaisesMessage(ValidationError, "has no reference in use yet"):
            self.carry(round)
        Test.objects.filter(pk=test.pk).update(procedure="sound_level")
        with self.assertRaisesMessage(ValidationError, "nothing can be bridged"):
            self.carry(round)
        self.assertFalse(Champion.objects.exists())
        self.assertEqual(ReferenceType.objects.count(), 1)

    def test_a_print_that_breaks_is_no_reference_any_more(self):
        round, *_ = self.second()
        champion = self.carry(round)
        print_ = Specimen.objects.get(pk=self.built.specimens["Amsel"].pk)
        print_.cap = 3000.0
        print_.save()
        champion.reference.refresh_from_db()
        self.assertEqual((champion.reference.cap, champion.reference.may_run), (3000.0, True))
        set_state(self.built.host, print_, Specimen.State.BROKEN)
        champion.reference.refresh_from_db()
        self.assertEqual(champion.reference.state, ReferenceSpecimen.State.BROKEN)
        self.assertEqual(plan_of(round, 1).beside, [])
        self.sign_in()
        self.assertContains(self.page(), "broken")

    def test_a_run_above_its_limit_says_so(self):
        round, test, _ = self.second()
        champion = self.carry(round)
        ReferenceSpecimen.objects.filter(pk=champion.reference_id).update(cap=1000.0)
        champion.reference.refresh_from_db()
        readings = {"air_speed": [4.4, 4.4], "speed": [1800.0, 1800.0]}
        made = record_run(
            self.built.operator,
            NewRun(
                test,
                Subject(reference=champion.reference),
                ROOM,
                LATER,
                {
                    key: [Typed(v, str(v), "m/s" if key == "air_speed" else "1/min") for v in row]
                    for key, row in readings.items()
                },
            ),
        )
        self.assertIn("above the 1,000 1/min of its safety gate", Run.objects.get(pk=made.pk).note)


class RecordTests(SeasonCase):
    def record_lines(self):
        rounds = queries.rounds_in(self.built.host, self.season)
        return queries.records_of(self.season, rounds.shown).held[0][1]

    def other_reference(self):
        kind = ReferenceType.objects.create(name="Loft-92")
        return ReferenceSpecimen.objects.create(type=kind, serial="K-1", state="in_use")

    def test_rounds_on_one_rig_against_one_reference_compare(self):
        _, test, specimens = self.second()
        measure(self.built, test, self.built.reference, specimens)
        (line,) = self.record_lines()
        self.assertEqual((line.entry.name, line.second.name), ("Hasel", "Amsel"))
        self.assertTrue(line.record.told)
        self.assertAlmostEqual(line.change, 15, delta=0.5)
        self.assertEqual(line.rounds, [1, 2])
        self.sign_in()
        page = self.page()
        self.assertContains(page, "before Amsel")
        self.assertContains(page, "against Loft-140")

    def test_another_reference_stands_apart_until_the_champion_is_run(self):
        reference = self.other_reference()
        round, test, specimens = self.second(reference=reference)
        champion = self.carry(round)
        measure(self.built, test, reference, specimens)
        first, apart = self.record_lines()
        self.assertEqual((first.entry.name, apart.entry.name), ("Amsel", "Hasel"))
        self.assertEqual(
            apart.apart,
            [
                "reference: Loft-92 K-1 instead of Loft-140 L-02, never run in turn",
                "no champion was run in both",
            ],
        )
        Run.objects.filter(test=test).update(state=Run.State.VOID, reason="anew")
        # the other reference moves less air: 3.8 where Amsel, a tenth above L-02, reads 4.4
        minute = 0.0
        for wobble in (0.0, 0.01, -0.008):
            run(self.built, test, Subject(reference=reference), minute, 3.8 + wobble)
            run(self.built, test, Subject(reference=champion.reference), minute + 2, 4.4 + wobble)
            for n, (name, speed) in enumerate((("Distel", 4.3), ("Hasel", 4.5)), 2):
                run(self.built, test, Subject(specimen=specimens[name]), minute + 2 * n, speed)
            minute += 10
        judge_round(round.pk)
        (line,) = self.record_lines()
        self.assertEqual(line.entry.name, "Hasel")
        # 4.5 of 4.4, on the ground of a change of Amsel of a tenth
        self.assertAlmostEqual(line.change, 100 * (1.1 * 4.5 / 4.4 - 1), delta=0.5)
        self.assertIn("bridged by Amsel", line.through[0])

    def test_another_specimen_of_the_same_type_is_no_same_ground(self):
        other = ReferenceSpecimen.objects.create(
            type=self.built.reference.type, serial="L-03", state="in_use"
        )
        _, test, specimens = self.second(reference=other)
        measure(self.built, test, other, specimens)
        _, apart = self.record_lines()
        self.assertIn("L-03 instead of Loft-140 L-02", apart.apart[0])
        # run in turn: L-02 moves a twentieth more than L-03, so that changes against it are less
        TestReference.objects.create(
            test=test, specimen=self.built.reference, since=LATER, bridging=True
        )
        Run.objects.filter(test=test).update(state=Run.State.VOID, reason="anew")
        measure(self.built, test, other, specimens, self.built.reference, champion=4.2)
        (line,) = self.record_lines()
        self.assertEqual(line.entry.name, "Amsel")  # a tenth above L-02; 4.6 of 4.2 is less
        self.assertAlmostEqual(
            100 * (math.exp(line.record.second.change) - 1), 100 * (4.6 / 4.2 - 1), delta=0.5
        )
        self.assertIn("is bridged to the reference of the others", line.through[0])

    def test_the_champion_on_the_same_ground_is_held_against_itself(self):
        round, test, specimens = self.second()
        champion = self.carry(round)
        measure(self.built, test, self.built.reference, specimens, champion.reference)
        (line,) = self.record_lines()
        self.assertIn("they agree", line.through[0])
        Run.objects.filter(test=test).update(state=Run.State.VOID, reason="anew")
        measure(self.built, test, self.built.reference, specimens, champion.reference, champion=4.0)
        (line,) = self.record_lines()
        self.assertIn("more than its doubt", line.through[0])

    def test_another_rig_and_another_setting_are_told(self):
        rig = Rig.objects.get(pk=self.built.tests["air"].rig_id)
        meters = list(rig.meters.all())
        rig.pk, rig.uid, rig.name = None, "6f0c7a52-6f1b-4d3e-9a4e-140140140777", "Attic rig"
        rig._state.adding = True
        rig.save()
        for meter in meters:
            rig.meters.create(channel=meter.channel, instrument=meter.instrument)
        _, test, specimens = self.second(rig=rig)
        measure(self.built, test, self.built.reference, specimens)
        _, apart = self.record_lines()
        self.assertEqual(apart.apart[0], "rig: Attic rig instead of Rack rig")
        test.setting.values = {"throttle": "50 %"}
        test.setting.save()
        _, apart = self.record_lines()
        self.assertEqual(apart.apart, ["at throttle 50 % instead of throttle 100 %"])
        self.sign_in()
        self.assertContains(self.page(), "Does not compare with the above: at throttle 50 %")

    def test_a_new_state_of_the_rig_is_the_same_rig(self):
        _, test, specimens = self.second()
        measure(self.built, test, self.built.reference, specimens)
        rig, first = test.rig, Rig.objects.get(pk=test.rig_id)
        rig.pk, rig.uid, rig.previous = None, "6f0c7a52-6f1b-4d3e-9a4e-140140140778", first
        rig.state = first.state + 1
        rig._state.adding = True
        rig.save()
        Test.objects.filter(pk=test.pk).update(rig=rig)
        self.assertEqual(len(self.record_lines()), 1)
