"""How a plan may go: against a simulation of single days by hand, and its probabilities against what
happens in simulated rounds.
"""

import math
import random
import unittest

import numpy as np

from hauch.core.plan.chance import Doubt, simulate
from hauch.core.plan.durations import duration
from hauch.core.plan.house import DAY, House, Person, Piece, Place, Step, Unit
from hauch.core.plan.place import first_plan
from tests.core.days import big_day, house, random_day


def doubts_of(units, known=None):
    """Each piece by hand and each print as the rule has it; prints fail."""
    made = {}
    for unit in units:
        for step in unit.steps:
            pieces = tuple(
                duration(max(piece.minutes, 0.5)) if piece.hands or piece.what == "print" else None
                for piece in step.pieces
            )
            made[step.key] = Doubt(pieces, 0.1 if step.kind == "print" else 0.0)
    return made


class Worker:
    """A day gone through piece by piece, one draw at a time, with plain loops."""

    def __init__(self, made, units, placed, minutes):
        self.made, self.placed, self.minutes = made, placed, minutes
        self.rows = sorted(
            (
                (placed[step.key].pieces[index][0], index, step, unit)
                for unit in units
                for step in unit.steps
                if step.key in placed
                for index in range(len(step.pieces))
            ),
            key=lambda row: row[:2],
        )
        self.free = {}
        self.ends = {}

    def first(self, at, minutes, windows):
        longest = max(b - a for a, b in windows)
        for a, b in windows:
            if max(at, a) + min(minutes, longest) <= b:
                return max(at, a)
        return math.inf

    def go(self):
        people = {person.key: person.hours for person in self.made.people}
        for _, index, step, unit in self.rows:
            plan, piece = self.placed[step.key], step.pieces[index]
            who, place = plan.people[index], self.made.by_key.get(plan.place)
            minutes = self.minutes[step.key][index]
            needs = [f"step {step.key}"] if index else []
            if index == 0:
                needs += [f"step {key}" for key in step.after]
                needs += [f"part {step.part}"] if step.part else []
                needs += [f"place {plan.place}"] if plan.place else []
                needs += [f"meter {m}" for m in step.meters]
                needs += ["loud", "quiet"] if step.quiet else []
            needs += [f"who {who}"] if who else []
            loud = place is not None and place.loud and not step.quiet
            needs += ["quiet"] if loud else []
            at = max(
                [self.free.get(need, 0) for need in needs] + [step.earliest if index == 0 else 0]
            )
            if index == 0 and unit.chained and step is unit.steps[0]:
                at = self.first(at, unit.minutes, self.made.days)
            if index == 0 and step.quiet and self.made.quiet is not None:
                at = self.first(at, step.minutes, self.made.quiet)
            if place is not None and place.open is not None:
                at = self.first(at, minutes, place.open)
            if who:
                at = self.first(at, minutes, people[who])
            elif piece.watched:
                at = self.first(at, minutes, self.made.on_duty)
            end = at + minutes
            holds = [f"step {step.key}"] + ([f"who {who}"] if who else [])
            holds += [f"place {plan.place}"] if plan.place else []
            holds += [f"part {step.part}"] if step.part else []
            holds += [f"meter {m}" for m in step.meters]
            holds += ["quiet"] if step.quiet else ["loud"] if loud else []
            for hold in holds:
                self.free[hold] = max(self.free.get(hold, 0), end)
            self.ends[step.key] = end
        return self.ends


class ChanceTests(unittest.TestCase):
    def test_where_all_goes_as_planned_it_ends_as_planned_or_sooner(self):
        made, units = big_day()
        placed = first_plan(made, units, seconds=0.2).placed
        outcome = simulate(house(9), units, placed, {}, draws=4)
        for key, ends in zip(outcome.keys, outcome.ends, strict=True):
            self.assertLessEqual(ends.max(), placed[key].end, key)

    def test_draw_by_draw_as_by_plain_loops(self):
        """Fixed minutes that differ from the plan: the draws of all at once and one by one agree."""
        for seed in range(25):
            made, units = random_day(seed)
            placed = first_plan(made, units, seconds=0.02).placed
            chance = random.Random(seed)
            longer = {
                step.key: [piece.minutes * chance.uniform(0.7, 1.5) for piece in step.pieces]
                for unit in units
                for step in unit.steps
            }
            later = house(
                14,
                people=len(made.people),
                printers=sum(p.kind == "printer" for p in made.places),
                quiet=made.quiet is not None,
            )
            fixed = {key: Doubt(tuple(_exactly(m) for m in row)) for key, row in longer.items()}
            outcome = simulate(later, units, placed, fixed, draws=2)
            by_hand = Worker(later, units, placed, longer).go()
            for key, ends in zip(outcome.keys, outcome.ends, strict=True):
                self.assertAlmostEqual(ends[0], by_hand[key], delta=0.05, msg=f"{seed} {key}")

    def test_one_step_ends_as_its_duration_says(self):
        anna = Person("anna", "Anna", ((480, 5000),))
        made = House((), (anna,), 2 * DAY, ((480, 5000),))
        step = Step("a", "work", "a", (Piece("work", 60, hands=True),))
        units, known = [Unit("a", (step,))], duration(60.0, [55, 60, 70, 62, 58])
        placed = first_plan(made, units, seconds=0.05).placed
        outcome = simulate(made, units, placed, {"a": Doubt((known,))}, draws=20_000)
        low, high = np.quantile(outcome.end_of(["a"]) - 480, [0.1, 0.9])
        self.assertAlmostEqual(low / known.low, 1.0, delta=0.02)
        self.assertAlmostEqual(high / known.high, 1.0, delta=0.02)
        self.assertAlmostEqual(outcome.probability(["a"], 480 + known.minutes), 0.5, delta=0.02)

    def test_a_print_that_fails_is_made_again(self):
        """With one in four failing it is made 1 / 0.75 times in the mean."""
        printer = Place("printer", "printer", "Printer")
        made = House((printer,), (Person("anna", "Anna", ((0, 9000),)),), 9000, ((0, 9000),))
        step = Step(
            "a",
            "print",
            "a",
            (Piece("start", 5, hands=True), Piece("print", 300)),
            places=("printer",),
        )
        units = [Unit("a", (step,))]
        placed = first_plan(made, units, seconds=0.05).placed
        outcome = simulate(made, units, placed, {"a": Doubt((None, None), 0.25)}, draws=20_000)
        self.assertAlmostEqual(outcome.end_of(["a"]).mean(), 5 + 300 / 0.75, delta=4)

    def test_what_it_hangs_on(self):
        made, units = big_day()
        placed = first_plan(made, units, seconds=0.2).placed
        held = simulate(house(9), units, placed, doubts_of(units), draws=300).held_by
        self.assertIn("quiet", held)  # 44 noise readings in four hours a day
        self.assertTrue(all(minutes >= 0 for minutes in held.values()))

    def test_probabilities_of_an_end_hold(self):
        """Rounds of chance: of those that are told to end in time with so many percent, so many do. The
        minutes come from the distributions, the day from plain loops.
        """
        told, came = [], []
        for seed in range(90):
            made, units = random_day(seed)
            placed = first_plan(made, units, seconds=0.02).placed
            if not placed:
                continue
            later = house(
                14,
                people=len(made.people),
                printers=sum(p.kind == "printer" for p in made.places),
                quiet=made.quiet is not None,
            )
            known, keys = doubts_of(units), list(placed)
            outcome = simulate(later, units, placed, known, draws=400, seed=seed)
            by = float(
                np.quantile(outcome.end_of(keys), 0.1 + 0.8 * (seed % 9) / 8, method="inverted_cdf")
            )
            chance = np.random.default_rng(10_000 + seed)
            for _ in range(6):
                minutes = {
                    key: _drawn(chance, step, known[key]) for key, step in _steps(units).items()
                }
                ends = Worker(later, units, placed, minutes).go()
                told.append(outcome.probability(keys, by))
                came.append(max(ends[key] for key in keys) <= by)
        told, came = np.array(told), np.array(came, dtype=float)
        for low, high in ((0.0, 0.35), (0.35, 0.65), (0.65, 1.01)):
            inside = (told >= low) & (told < high)
            sigma = math.sqrt(0.25 / inside.sum())
            self.assertAlmostEqual(came[inside].mean(), told[inside].mean(), delta=3.2 * sigma)


def _steps(units):
    return {step.key: step for unit in units for step in unit.steps}


def _exactly(minutes):
    """A duration that is always the same."""
    known = duration(max(minutes, 1e-3))
    return type(known)(minutes, minutes, minutes, 1, math.log(max(minutes, 1e-9)), 0.0, 1e3)


def _drawn(chance, step, doubt):
    longest = max(range(len(step.pieces)), key=lambda i: step.pieces[i].minutes)
    row = []
    for index, (piece, known) in enumerate(zip(step.pieces, doubt.pieces, strict=True)):
        minutes = piece.minutes if known is None else float(known.draw(chance, 1)[0])
        if doubt.again and index == longest:
            minutes *= chance.geometric(1 - doubt.again)
        row.append(minutes)
    return row
