"""Plans: blocks, placing, solving and changing them, against an independent check of every rule."""

import threading
import unittest
from collections import Counter
from dataclasses import replace

from hypothesis import given, settings
from hypothesis import strategies as st

from hauch.core.plan.again import changes, cost_of, put_right
from hauch.core.plan.blocks import Wanted, blocks
from hauch.core.plan.calendar import Calendar, Layers
from hauch.core.plan.check import broken_rules
from hauch.core.plan.house import (
    DAY,
    House,
    Person,
    Piece,
    Pin,
    Place,
    Placed,
    Rank,
    Step,
    Unit,
    joined,
    outside,
    score_of,
    steps_of,
    within,
)
from hauch.core.plan.long import improve_soon
from hauch.core.plan.people import stay
from hauch.core.plan.place import first_plan, in_order, urgency
from hauch.core.plan.solve import improve
from hauch.core.plan.wishes import Rule, faults, impossible
from tests.core.days import big_day, house, made_part, random_day, run_chains, run_pieces


def one(key, *pieces, **more):
    """A unit of one step."""
    return Unit(key, (Step(key, "work", key, pieces or (Piece("work", 30, hands=True),), **more),))


def alone(hours=((480, 1020),), places=(), **more):
    """A house with one person."""
    return House(tuple(places), (Person("anna", "Anna", tuple(hours)),), DAY, tuple(hours), **more)


class WindowTests(unittest.TestCase):
    def test_joined_and_outside(self):
        self.assertEqual(joined([(5, 9), (1, 3), (3, 4), (8, 12), (7, 7)]), ((1, 4), (5, 12)))
        self.assertEqual(outside([(5, 9), (1, 3)], 20), ((0, 1), (3, 5), (9, 20)))
        self.assertEqual(outside([], 7), ((0, 7),))
        self.assertEqual(within((0, 10), ((2, 4), (8, 20))), 4)
        self.assertEqual(within((3, 10), None), 7)

    @given(
        st.lists(st.tuples(st.integers(0, 60), st.integers(1, 9)), max_size=8),
        st.integers(0, 70),
        st.integers(1, 12),
    )
    def test_a_calendar_gives_the_first_free_minute(self, taken, at, minutes):
        calendar, busy = Calendar(), set()
        for begin, length in taken:
            if not busy & set(range(begin, begin + length)):
                calendar.take(begin, begin + length)
                busy |= set(range(begin, begin + length))
        by_hand = next(m for m in range(at, 400) if not busy & set(range(m, m + minutes)))
        self.assertEqual(calendar.next_free(at, minutes), by_hand)

    @given(
        st.lists(st.tuples(st.integers(0, 60), st.integers(1, 30)), max_size=8),
        st.integers(0, 70),
        st.integers(1, 12),
    )
    def test_layers_may_overlap(self, taken, at, minutes):
        layers, busy = Layers(), set()
        for begin, length in taken:
            layers.take(begin, begin + length)
            busy |= set(range(begin, begin + length))
        by_hand = next(m for m in range(at, 400) if not busy & set(range(m, m + minutes)))
        self.assertEqual(layers.next_clear(at, minutes), by_hand)


class BlockTests(unittest.TestCase):
    def test_each_entry_once_a_block(self):
        wanted = [Wanted(entry, repeat) for entry in range(6) for repeat in (1, 2)]
        (chain,) = blocks(wanted, "seed")
        self.assertEqual(sorted(chain[:6], key=lambda r: r.entry), [Wanted(e, 1) for e in range(6)])
        self.assertEqual({run.entry for run in chain[6:]}, set(range(6)))
        self.assertEqual(blocks(wanted, "seed"), [chain])
        self.assertNotEqual(blocks(wanted, "another"), [chain])

    def test_chance_favours_nobody(self):
        """Of four entries each comes first in a quarter of the orders; 2,000 seeds, 3.5 sigma."""
        first = Counter(
            blocks([Wanted(e, 1) for e in range(4)], str(seed))[0][0].entry for seed in range(2000)
        )
        for entry in range(4):
            self.assertAlmostEqual(first[entry], 500, delta=3.5 * (2000 * 0.25 * 0.75) ** 0.5)

    def test_who_is_ready_does_not_wait_for_who_is_not(self):
        wanted = [Wanted(1, 1), Wanted(2, 1, 1), Wanted(3, 1), Wanted(2, 2, 1)]
        now, later = blocks(wanted, "seed")
        self.assertEqual({run.entry for run in now}, {1, 3})
        self.assertEqual([run.repeat for run in later], [1, 2])

    def test_long_ones_are_cut(self):
        made = blocks([Wanted(e, 1) for e in range(30)], "seed", most=12)
        self.assertEqual([len(chain) for chain in made], [12, 12, 6])
        with self.assertRaisesRegex(ValueError, "most"):
            blocks([], "seed", most=0)


class RuleTests(unittest.TestCase):
    """What each rule does, on days small enough to be told by hand."""

    def placed(self, made, *units):
        found = in_order(made, units)
        self.assertEqual(broken_rules(made, units, found), [])
        return found

    def test_work_is_done_in_somebodys_hours(self):
        found = self.placed(alone(hours=[(480, 500), (600, 700)]), one("a"))
        self.assertEqual((found["a"].begin, found["a"].people), (600, ("anna",)))

    def test_one_person_does_one_thing_at_a_time(self):
        found = self.placed(alone(), one("a"), one("b"))
        self.assertEqual([found["a"].begin, found["b"].begin], [480, 510])

    def test_who_may_not_is_not_asked(self):
        made = House(
            (),
            (Person("anna", "A", ((480, 600),)), Person("ben", "B", ((540, 700),))),
            DAY,
            ((480, 700),),
        )
        self.assertEqual(self.placed(made, one("a", by=("ben",)))["a"].people, ("ben",))

    def test_a_soak_leaves_hands_free_and_is_watched(self):
        bench = Place("bench", "bench", "Bench")
        other = Place("other", "bench", "Other")
        soak = run_pieces(60)
        units = (one("a", *soak, places=("bench",)), one("b", *soak, places=("other",)))
        found = self.placed(alone(places=[bench, other]), *units)
        self.assertEqual(
            found["b"].begin, found["a"].begin + 4
        )  # mounted while the first one soaks
        gone = alone(hours=[(480, 520), (600, 900)], places=[bench])
        self.assertEqual(self.placed(gone, units[0])["a"].begin, 600)  # nobody would watch it

    def test_a_print_runs_through_the_night_and_waits(self):
        printer = Place("printer", "printer", "Printer")
        pieces = (
            Piece("start", 5, hands=True),
            Piece("print", 120, wait=900),
            Piece("off", 5, hands=True),
        )
        made = replace(alone(hours=[(480, 1000)], places=[printer]), horizon=2 * DAY)
        made = replace(
            made, people=(Person("anna", "Anna", ((990, 1000), (DAY + 480, DAY + 900))),)
        )
        found = self.placed(made, one("a", *pieces, places=("printer",)))
        self.assertEqual(found["a"].pieces, ((990, 995), (995, 1115), (DAY + 480, DAY + 485)))
        by_day = replace(
            made, places=(replace(printer, open=((480, 1000), (DAY + 480, DAY + 900))),)
        )
        self.assertEqual(
            self.placed(by_day, one("a", *pieces, places=("printer",)))["a"].begin, DAY + 480
        )

    def test_noise_is_read_in_quiet_hours_with_nothing_loud_beside(self):
        spot, shed = Place("spot", "bench", "Spot"), Place("shed", "bench", "Shed", loud=True)
        quiet = one("quiet", Piece("read", 20, hands=True), places=("spot",), quiet=True)
        loud = one("loud", Piece("run", 60), places=("shed",))
        made = alone(places=[spot, shed], quiet=((500, 700),))
        found = self.placed(made, loud, quiet)
        self.assertEqual((found["loud"].begin, found["quiet"].begin), (0, 500))
        found = self.placed(made, quiet, replace(loud, pin=Pin(490)))
        self.assertEqual(found["quiet"].begin, 550)

    def test_a_meter_is_at_one_bench(self):
        places = [Place("a", "bench", "A"), Place("b", "bench", "B")]
        people = alone(places=places)
        people = replace(people, people=(*people.people, Person("ben", "Ben", ((480, 1020),))))
        units = (
            one("a", places=("a",), meters=("vane",)),
            one("b", places=("b",), meters=("vane",)),
        )
        self.assertEqual(self.placed(people, *units)["b"].begin, 510)

    def test_one_thing_at_a_time_is_done_to_a_part_and_in_order(self):
        units = one("b", part="p", after=("a",)), one("a", part="p")
        found = self.placed(alone(), *units)
        self.assertEqual([found["a"].begin, found["b"].begin], [480, 510])

    def test_a_block_stays_on_one_day_and_its_place_is_its_own(self):
        bench = Place("bench", "bench", "Bench")
        steps = tuple(
            Step(f"r{n}", "run", "run", (Piece("run", 60, hands=True),), places=("bench",))
            for n in range(3)
        )
        hours = [(480, 600), (DAY + 480, DAY + 700)]
        made = replace(alone(hours=hours, places=[bench]), horizon=2 * DAY)
        found = self.placed(made, Unit("block", steps), one("between", places=("bench",)))
        self.assertEqual(found["r0"].begin, DAY + 480)
        self.assertEqual(found["between"].begin, 480)

    def test_a_pin_holds_or_finds_no_room(self):
        unit = one("a")
        self.assertEqual(self.placed(alone(), replace(unit, pin=Pin(555)))["a"].begin, 555)
        self.assertEqual(self.placed(alone(), replace(unit, pin=Pin(10))), {})

    def test_what_decides_makes_what_it_waits_for_urgent(self):
        units = [
            one("late"),
            one("print"),
            one("run", after=("print",), rank=Rank.DECIDES, due=900),
        ]
        self.assertEqual(urgency(units)["print"], (1, 900))
        self.assertEqual(urgency(units)["late"][0], 2)


class CheckTests(unittest.TestCase):
    """The check finds what is wrong, whatever is wrong."""

    def setUp(self):
        self.house, self.units = big_day()
        self.placed = first_plan(self.house, self.units, seconds=0.1).placed

    def broken(self, key, **change):
        return broken_rules(
            self.house, self.units, {**self.placed, key: replace(self.placed[key], **change)}
        )

    def test_a_sound_plan_breaks_nothing(self):
        self.assertEqual(broken_rules(self.house, self.units, self.placed), [])
        self.assertEqual(len(self.placed), len(steps_of(self.units)))

    def test_each_change_is_found(self):
        key = "air:0:1"
        at = self.placed[key]
        moved = tuple((a + 1, b + 1) for a, b in at.pieces)
        night = tuple((a - at.begin + 100, b - at.begin + 100) for a, b in at.pieces)
        self.assertTrue(self.broken(key, pieces=moved))
        self.assertTrue(any("nobody" in text for text in self.broken(key, pieces=night)))
        self.assertTrue(any("does not take it" in text for text in self.broken(key, place="hot")))
        self.assertTrue(self.broken(key, people=("", *at.people[1:])))
        longer = (*at.pieces[:-1], (at.pieces[-1][0], at.pieces[-1][1] + 1))
        self.assertTrue(any("another time" in text for text in self.broken(key, pieces=longer)))
        without = {k: v for k, v in self.placed.items() if k != key}
        self.assertTrue(
            any("in part only" in t for t in broken_rules(self.house, self.units, without))
        )

    def test_noise_in_the_morning_is_found(self):
        key = "noise:0:1"
        at = self.placed[key]
        early = tuple((a - at.begin + 600, b - at.begin + 600) for a, b in at.pieces)
        self.assertTrue(any("quiet hours" in text for text in self.broken(key, pieces=early)))

    def test_two_on_one_printer_are_found(self):
        other = self.placed["print:9"]
        told = self.broken("print:8", place=other.place, pieces=other.pieces)
        self.assertTrue(any("are both on" in text for text in told))


class PlanTests(unittest.TestCase):
    @settings(max_examples=60, deadline=None)
    @given(st.integers(0, 10**6))
    def test_no_plan_breaks_a_rule(self, seed):
        made, units = random_day(seed)
        placed = first_plan(made, units, seconds=0.02, seed=seed).placed
        self.assertEqual(broken_rules(made, units, placed), [])
        manned = stay(made, units, placed)
        self.assertEqual(broken_rules(made, units, manned), [])

    @settings(max_examples=8, deadline=None)
    @given(st.integers(0, 10**6))
    def test_no_better_plan_breaks_one_either(self, seed):
        made, units = random_day(seed)
        first = first_plan(made, units, seconds=0.02, seed=seed)
        found = improve(made, units, first, seconds=0.5)
        self.assertEqual(broken_rules(made, units, found.placed), [])
        self.assertLessEqual(found.score, first.score + 1e-6)
        if found.bound is not None:
            self.assertLessEqual(found.bound, found.score + 1e-6)

    def test_a_small_day_is_proven_best(self):
        """Two prints of two hours on one printer, one person from 8:00: the second ends 4 h 20 min later."""
        printer = (Place("printer", "printer", "Printer"),)
        made = alone(hours=[(480, 1200)], places=printer)
        pieces = (Piece("start", 5, hands=True), Piece("print", 120), Piece("off", 5, hands=True))
        units = [one("a", *pieces, places=("printer",)), one("b", *pieces, places=("printer",))]
        found = improve(made, units, first_plan(made, units), seconds=5)
        self.assertEqual(max(at.end for at in found.placed.values()), 480 + 260)
        self.assertAlmostEqual(found.gap, 0.0)

    def test_what_must_be_today_goes_first(self):
        units = [one(f"w{n}", Piece("work", 200, hands=True)) for n in range(3)]
        units.append(one("must", Piece("work", 60, hands=True), rank=Rank.MUST, due=600))
        found = first_plan(alone(hours=[(480, 1200)]), units)
        self.assertLessEqual(found.placed["must"].end, 600)

    def test_the_better_plan_is_told_and_can_be_stopped(self):
        made, units = big_day()
        first, told = first_plan(made, units, seconds=0.1), []
        improve(
            made, units, first, seconds=20, told=lambda s: told.append(s.score) or len(told) < 2
        )
        self.assertEqual(len(told), 2)

    def test_it_is_told_in_the_callers_thread(self):
        """The solver's own threads would each take a connection to the database."""
        made, units = big_day()
        threads = set()

        def told(schedule):
            threads.add(threading.current_thread())
            return len(threads) < 1

        improve(made, units, first_plan(made, units, seconds=0.1), seconds=5, told=told)
        self.assertEqual(threads, {threading.current_thread()})

    def test_scores_go_as_they_should(self):
        units = [one("a", rank=Rank.DECIDES), one("b")]
        at = lambda begin: Placed(((begin, begin + 30),), "", ("anna",))  # noqa: E731
        both = score_of(units, {"a": at(480), "b": at(510)}, DAY)
        self.assertLess(both, score_of(units, {"a": at(510), "b": at(480)}, DAY))
        self.assertLess(both, score_of(units, {"a": at(480)}, DAY))


class AgainTests(unittest.TestCase):
    def setUp(self):
        self.house, self.units = big_day()
        self.placed = first_plan(self.house, self.units, seconds=0.3).placed

    def test_nothing_happened_so_nothing_moves(self):
        again = put_right(self.house, self.units, self.placed)
        self.assertEqual(changes(self.placed, again.placed, list(steps_of(self.units))), [])

    def test_what_does_not_finish_leaves_the_rest_where_it_is(self):
        units = []
        for unit in self.units:
            steps = tuple(step for step in unit.steps if step.part != "p3")
            units.append(replace(unit, steps=steps))
        again = put_right(self.house, units, self.placed)
        told = changes(self.placed, again.placed, list(steps_of(units)))
        self.assertEqual({change.what for change in told}, {"gone"})

    def test_somebody_is_ill(self):
        ill = replace(
            self.house.people[1], hours=tuple(w for w in self.house.people[1].hours if w[0] >= DAY)
        )
        fewer = replace(self.house, people=(self.house.people[0], ill))
        again = put_right(fewer, self.units, self.placed)
        better = improve(fewer, self.units, again, seconds=1, before=self.placed)
        for found in (again, better):
            self.assertEqual(broken_rules(fewer, self.units, found.placed), [])
        self.assertLessEqual(
            cost_of(self.units, better.placed, fewer.horizon, self.placed),
            cost_of(self.units, again.placed, fewer.horizon, self.placed) + 1e-6,
        )
        told = changes(self.placed, again.placed, list(steps_of(self.units)))
        self.assertNotIn("earlier", {change.what for change in told})

    def test_what_is_new_comes_last(self):
        units = [*self.units, one("new")]
        told = changes(
            self.placed, put_right(self.house, units, self.placed).placed, list(steps_of(units))
        )
        self.assertEqual([(change.key, change.what) for change in told], [("new", "new")])


class WishTests(unittest.TestCase):
    def test_a_circle_a_bed_a_deadline_and_nobody(self):
        units = [
            one("a", after=("b",)),
            one("b", after=("a",)),
            one("c", nowhere="C fits no bed."),
            one("d", due=0),
            one("e", after=("x",)),
        ]
        told = [fault.text for fault in faults(House((), (), DAY, ()), units)]
        self.assertIn("C fits no bed.", told)
        self.assertTrue(
            any("in a circle: a, b" in text or "in a circle: b, a" in text for text in told)
        )
        self.assertTrue(any("has passed" in text for text in told))
        self.assertTrue(any("Nobody is on duty" in text for text in told))
        self.assertTrue(any("waits for x" in text for text in told))
        self.assertEqual(faults(*big_day()), [])

    def test_a_circle_ends_no_plan(self):
        self.assertEqual(in_order(alone(), [one("a", after=("b",)), one("b", after=("a",))]), {})

    def missed(self, made, *units):
        return [(m.unit, m.wish, m.rules) for m in impossible(made, units, in_order(made, units))]

    def test_the_rule_that_stands_against_a_wish(self):
        spot = Place("spot", "bench", "Spot")
        quiet = one("q", Piece("read", 20, hands=True), places=("spot",), quiet=True)
        made = alone(places=[spot], quiet=((600, 700),))
        self.assertEqual(
            self.missed(made, replace(quiet, pin=Pin(490))), [("q", "pin", (Rule.QUIET,))]
        )
        self.assertEqual(
            self.missed(made, replace(one("w"), pin=Pin(1100))), [("w", "pin", (Rule.HOURS,))]
        )

    def test_others_are_in_the_way(self):
        first, second = replace(one("a"), pin=Pin(500)), replace(one("b"), pin=Pin(510))
        self.assertEqual(self.missed(alone(), first, second), [("b", "pin", (Rule.OTHERS,))])

    def test_what_follows_from_it_is_not_told_again(self):
        long = one("a", Piece("work", 2000, hands=True))
        self.assertEqual(
            [unit for unit, _, _ in self.missed(alone(), long, one("b", after=("a",)))], ["a"]
        )

    def test_what_is_late_since_another_is_late_is_not_told_again(self):
        first, second = one("a", due=300), one("b", after=("a",), due=600)
        third = one("c", after=("b",), due=300)
        self.assertEqual(
            [unit for unit, _, _ in self.missed(alone(), first, second, third)], ["a", "c"]
        )
        self.assertEqual(
            [
                unit
                for unit, _, _ in self.missed(
                    alone(), first, replace(second, steps=(replace(second.steps[0], due=300),))
                )
            ],
            ["a"],
        )

    def test_nights(self):
        printer = Place("printer", "printer", "Printer", open=((480, 1020),))
        made = replace(alone(places=[printer]), horizon=2 * DAY)
        made = replace(
            made, people=(Person("anna", "Anna", ((480, 1020), (DAY + 480, DAY + 1020))),)
        )
        long = one(
            "p",
            Piece("start", 5, hands=True),
            Piece("print", 900, wait=900),
            Piece("off", 5, hands=True),
            places=("printer",),
        )
        self.assertEqual(self.missed(made, long), [("p", "horizon", (Rule.NIGHT,))])


class LongTests(unittest.TestCase):
    def test_weeks_are_placed_and_their_first_days_solved(self):
        wanted = [Wanted(entry, repeat) for entry in range(60) for repeat in (1, 2)]
        units = [
            *run_chains("air", "tunnel", wanted, 3, rank=Rank.DECIDES),
            *run_chains("heat", "hot", wanted, 20),
        ]
        units += made_part(900, 20, ("printer0",), True)
        made = house(21)
        first = first_plan(made, units, seconds=0.1)
        self.assertEqual(len(first.placed), len(steps_of(units)))
        found = improve_soon(made, units, first, seconds=3)
        self.assertEqual(broken_rules(made, units, found.placed), [])
        self.assertLessEqual(found.score, first.score + 1e-6)
