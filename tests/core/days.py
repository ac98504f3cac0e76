"""Made-up days for the tests and benchmarks of planning."""

from __future__ import annotations

import random

from hauch.core.plan.blocks import Wanted, blocks
from hauch.core.plan.house import DAY, House, Person, Piece, Place, Rank, Step, Unit


def run_pieces(soak: int, *, watched: bool = True) -> tuple[Piece, ...]:
    """A run: mount, soak, read."""
    return (
        Piece("mount", 4, hands=True),
        Piece("soak", soak, watched=watched, wait=30, runs_on=True),
        Piece("read", 5, hands=True),
    )


def run_chains(
    test: str,
    bench: str,
    wanted: list[Wanted],
    soak: int,
    *,
    quiet: bool = False,
    meters: tuple[str, ...] = (),
    after: dict[int, str] | None = None,
    rank: Rank = Rank.OTHER,
) -> list[Unit]:
    """Chains of runs of a test with its reference before, between and after."""
    units = []
    for number, runs in enumerate(blocks(wanted, test)):
        groups = [runs[first : first + 4] for first in range(0, len(runs), 4)]
        steps = []

        def reference(at: int, number: int = number) -> Step:
            return Step(
                f"{test}:ref:{number}:{at}", "reference", "reference", run_pieces(soak),
                part=f"L-{bench}", places=(bench,), quiet=quiet, meters=meters, rank=rank,
            )  # fmt: skip

        steps.append(reference(0))
        for at, group in enumerate(groups, 1):
            for run in group:
                wait = (after or {}).get(run.entry)
                steps.append(
                    Step(
                        f"{test}:{run.entry}:{run.repeat}", "run", f"entry {run.entry}", run_pieces(soak),
                        part=f"p{run.entry}", places=(bench,), quiet=quiet, meters=meters,
                        after=(wait,) if wait else (), rank=rank,
                    )
                )  # fmt: skip
            steps.append(reference(at))
        units.append(Unit(f"{test}:{number}", tuple(steps)))
    return units


def made_part(entry: int, hours: int, printers: tuple[str, ...], oven: bool) -> list[Unit]:
    """A part from the printer over the oven to the gate."""
    part, found = f"p{entry}", []
    pieces = (
        Piece("start", 5, hands=True),
        Piece("print", 60 * hours, wait=14 * 60),
        Piece("take off", 5, hands=True),
    )
    found.append(
        Step(f"print:{entry}", "print", f"print {entry}", pieces, part=part, places=printers)
    )
    found.append(
        Step(f"supports:{entry}", "work", "supports off", (Piece("work", 15, hands=True),), part=part,
             after=(found[-1].key,))
    )  # fmt: skip
    if oven:
        pieces = (
            Piece("load", 5, hands=True),
            Piece("anneal", 120, watched=True, wait=600),
            Piece("unload", 5, hands=True),
        )
        found.append(
            Step(
                f"anneal:{entry}",
                "anneal",
                "anneal",
                pieces,
                part=part,
                places=("oven",),
                after=(found[-1].key,),
            )
        )
    found.append(
        Step(
            f"gate:{entry}",
            "gate",
            "safety gate",
            (Piece("gate", 5, hands=True),),
            part=part,
            after=(found[-1].key,),
        )
    )
    return [Unit(step.key, (step,)) for step in found]


def house(days: int = 3, *, people: int = 2, printers: int = 2, quiet: bool = True) -> House:
    """Three benches, printers, an oven, people from 8 to 17 with an hour at noon in turn."""
    hours = [
        [(d * DAY + a, d * DAY + b) for d in range(days) for a, b in shifts]
        for shifts in (
            [(480, 720), (780, 1080)],
            [(540, 780), (840, 1200)],
        )
    ]
    everyone = tuple(
        Person(f"person{n}", f"Person {n}", tuple(hours[n % 2])) for n in range(people)
    )
    return House(
        (
            Place("tunnel", "bench", "Tunnel", loud=True),
            Place("hot", "bench", "Hot block"),
            Place("spot", "bench", "Sound spot"),
            *(
                Place(f"printer{n}", "printer", f"Printer {n}", loud=n == 0)
                for n in range(printers)
            ),
            Place("oven", "oven", "Oven"),
        ),
        everyone,
        days * DAY,
        tuple((d * DAY + 480, d * DAY + 1200) for d in range(days)),
        tuple((d * DAY + 960, d * DAY + 1200) for d in range(days)) if quiet else None,
    )


def big_day() -> tuple[House, list[Unit]]:
    """A day of 60 runs on 3 benches with 2 printers, 1 oven and 2 people, its references besides."""
    now = [Wanted(e, r) for e in range(8) for r in range(1, 4)]
    late = {8: "gate:8", 9: "gate:9"}
    air = [*now, *(Wanted(e, r, 1) for e in late for r in range(1, 4))]
    units = [
        *run_chains("air", "tunnel", air, 3, after=late, rank=Rank.DECIDES),
        *run_chains("heat", "hot", [Wanted(e, 1) for e in range(10)], 20, after=late),
        *run_chains(
            "noise",
            "spot",
            [Wanted(e, r) for e in range(10) for r in range(1, 3)],
            0,
            quiet=True,
            after=late,
        ),
        *made_part(8, 3, ("printer0", "printer1"), True),
        *made_part(9, 4, ("printer0", "printer1"), False),
        *made_part(10, 5, ("printer1",), True),
    ]
    return house(), units


def random_day(seed: int) -> tuple[House, list[Unit]]:
    """A day that chance made."""
    chance = random.Random(seed)
    made = house(
        chance.randint(1, 3),
        people=chance.randint(1, 3),
        printers=chance.randint(1, 3),
        quiet=chance.random() < 0.7,
    )
    printers = tuple(p.key for p in made.places if p.kind == "printer")
    entries = chance.randint(1, 5)
    late = {e: f"gate:{e}" for e in range(entries) if chance.random() < 0.4}
    wanted = [
        Wanted(e, r, int(e in late))
        for e in range(entries)
        for r in range(1, chance.randint(1, 3) + 1)
    ]
    units: list[Unit] = []
    for entry in late:
        units += made_part(entry, chance.randint(1, 9), printers, chance.random() < 0.5)
    for test, bench in (("air", "tunnel"), ("heat", "hot"), ("noise", "spot")):
        if chance.random() < 0.8:
            units += run_chains(
                test, bench, wanted, chance.choice([0, 3, 20]), quiet=test == "noise", after=late,
                meters=("vane",) if chance.random() < 0.5 else (), rank=chance.choice(list(Rank)),
            )  # fmt: skip
    chance.shuffle(units)
    return made, units
