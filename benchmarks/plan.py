"""Planning: a day of 60 runs on 3 benches with 2 printers, an oven and 2 people; putting it right when
somebody is ill; 500 entries over weeks; and the demo's week against doing it entry by entry.
"""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from django.db import transaction
from django.test import Client

from benchmarks.harness import Row, row, seconds
from hauch.core.plan.again import put_right
from hauch.core.plan.blocks import Wanted
from hauch.core.plan.check import broken_rules
from hauch.core.plan.house import DAY, House, Placed, Rank, Step, Unit, steps_of
from hauch.core.plan.long import improve_soon
from hauch.core.plan.place import first_plan, in_order
from hauch.core.plan.solve import improve
from hauch.demo.load import load_demo
from hauch.entries.models import Entry, Version
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.plan import actions
from hauch.plan.loading import load
from hauch.plan.queries import in_force
from hauch.plan.working import work_out
from hauch.workshop.models import Specimen
from tests.builder import build
from tests.core.days import big_day, house, run_chains
from tests.plans import give_hours


def run() -> Iterator[Row]:
    made, units = big_day()
    began = time.monotonic()
    first = first_plan(made, units)
    yield row("plan: a day of 60 runs, first valid plan", time.monotonic() - began, "s", 2.0)
    _sound(made, units, first.placed)
    found = improve(made, units, first, seconds=30)
    _sound(made, units, found.placed)
    gap = 100.0 if found.gap is None else 100 * found.gap
    yield row("plan: above what is proven, after 30 s", gap, "%", 5.0)
    yield row("plan: the first plan against that of 30 s", first.score / found.score, "x")
    yield row("plan: put right, somebody is ill", _ill(made, units, found.placed), "s", 5.0)
    yield row("plan: 500 entries over weeks", _weeks(), "s", 60.0)
    with transaction.atomic():
        yield from _many_entries()
        transaction.set_rollback(True)  # the demo has a Loft-140 of its own
    yield from _demo()


def _sound(made: House, units: Sequence[Unit], placed: Mapping[str, Placed]) -> None:
    if broken := broken_rules(made, units, placed):
        raise RuntimeError(broken[0])


def _ill(made: House, units: Sequence[Unit], placed: Mapping[str, Placed]) -> float:
    """Seconds until there is a plan without the second person on the first day."""
    first, second = made.people
    later = replace(second, hours=tuple(w for w in second.hours if w[0] >= DAY))
    fewer = replace(made, people=(first, later))
    began = time.monotonic()
    right = put_right(fewer, units, placed)
    found = improve(fewer, units, right, seconds=2, before=placed)
    taken = time.monotonic() - began
    _sound(fewer, units, found.placed)
    return taken


def _weeks() -> float:
    """Seconds for 500 entries in three tests: the weeks, then the first days with the solver."""
    wanted = [Wanted(entry, repeat) for entry in range(500) for repeat in (1, 2)]
    units = [
        *run_chains("air", "tunnel", wanted, 3, rank=Rank.DECIDES),
        *run_chains("heat", "hot", [Wanted(entry, 1) for entry in range(500)], 20),
        *run_chains("noise", "spot", wanted, 0, quiet=True),
    ]
    made = house(84)
    began = time.monotonic()
    found = improve_soon(made, units, first_plan(made, units), seconds=30)
    taken = time.monotonic() - began
    _sound(made, units, found.placed)
    return taken


ENTRIES = 500


def _many_entries() -> Iterator[Row]:
    """A round of 500 entries in the database: planned over weeks as the worker does, and its page."""
    built = build()
    entries = Entry.objects.bulk_create(
        Entry(round=built.round, name=f"Entry {n}", mark=n % 8, designer_name="Ilvy")
        for n in range(ENTRIES)
    )
    versions = Version.objects.bulk_create(Version(entry=entry, number=1) for entry in entries)
    Specimen.objects.bulk_create(
        Specimen(version=version, code=f"N-{n}", state=Specimen.State.READY)
        for n, version in enumerate(versions)
    )
    give_hours(built)
    asked = actions.ask(built.host, 84)
    began = time.monotonic()
    work_out(asked)
    yield row("plan: a round of 503 entries, in the worker", time.monotonic() - began, "s", 60.0)
    client = Client(SERVER_NAME="localhost")
    client.force_login(built.host, backend="django.contrib.auth.backends.ModelBackend")
    taken = seconds(lambda: client.get("/plan/").content, 3)
    yield row("plan: its page", 1000 * taken, "ms", 1500.0)


def _demo() -> Iterator[Row]:
    """The loft's week: the last run and the last of all by the plan, and entry by entry."""
    for username, (name, _) in DEMO_PEOPLE.items():
        add_person(username, name, staff=username == "runa")
    load_demo()
    plan = in_force()
    if plan is None:
        raise RuntimeError("the demo has no plan")
    plan.anew = True
    problem = load(plan)
    placed = first_plan(problem.later, problem.units).placed
    list_ = _entry_by_entry(problem.later, problem.units)
    _sound(problem.later, problem.units, placed)
    ours, theirs = (max(one.end for one in made.values()) - plan.now for made in (placed, list_))
    yield row("plan: the demo's week, from now to the end", ours / 60, "h")
    yield row("plan: the same entry by entry", theirs / 60, "h")
    yield row("plan: ends earlier by", (theirs - ours) / 60, "h")


def _entry_by_entry(made: House, units: Sequence[Unit]) -> dict[str, Placed]:
    """All that is done to one part, in a row, then all that is done to the next: runs of a part in a
    bracket of their own, none begun before the one in the list before it.
    """
    steps = list(steps_of(units).values())
    order: list[Unit] = []
    for part in dict.fromkeys(
        step.part for step in steps if step.part and step.kind != "reference"
    ):
        own = [step for step in steps if step.part == part and step.kind not in {"run", "now"}]
        order += [Unit(step.key, (step,)) for step in own]
        order += _brackets(part, units)
    rest = [unit for unit in units if not any(step.part for step in unit.steps)]
    begun = 0
    placed: dict[str, Placed] = {}
    done: list[Unit] = []
    for unit in [*rest, *order]:
        done.append(unit)
        begins = {one.key: begun for one in done}
        placed = in_order(made, done, lambda one, b=begins: b[one.key], keep=placed)  # type: ignore[misc]
        if unit.steps[0].key in placed:
            begun = max(begun, placed[unit.steps[0].key].begin)
    return placed


def _brackets(part: str, units: Sequence[Unit]) -> Iterator[Unit]:
    for unit in units:
        runs = [step for step in unit.steps if step.part == part and step.kind == "run"]
        references = [step for step in unit.steps if step.kind == "reference"]
        if not runs:
            continue
        key = f"{unit.key}:{part}"
        first, last = (replace(references[0], key=f"{key}:{end}") for end in ("first", "last"))
        last = replace(last, pieces=references[-1].pieces)
        chain: list[Step] = [first, *runs, last]
        yield Unit(key, tuple(chain))
