"""Rounds 2 to 5: on the bench with a drifting reference, with a panel, open with a bridge being
made, and being written.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from hauch.core.geometry.envelope import Envelope
from hauch.core.rig import Bench, Loft140
from hauch.core.rig.room import bag_fill, free_room, outlet_row, panel
from hauch.demo.fans import INLETS, L_02, WORN, blower
from hauch.demo.stores import SPIN, START, members, people, take, uid
from hauch.entries.models import Entry, Version
from hauch.people.models import User
from hauch.rounds.actions import remember_brief
from hauch.rounds.invitations import invite
from hauch.rounds.models import (
    Round,
    RuleQuestion,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.stores.models import ReferenceSpecimen, Rig
from hauch.verdict.judging import refresh
from hauch.workshop.models import Specimen

PLACE = "Quellmoos Drying Loft"

# key, label, procedure, rig, readings, weight, most loss, more fields of the test
TestRow = tuple[str, str, str, str, int, float | None, float | None, dict[str, Any]]
# name, designer, story, what the virtual bench knows of it
EntryRow = tuple[str, str, str, tuple[float, ...]]


@dataclass(frozen=True)
class Plan:
    """A round of the demo as data."""

    number: int
    slug: str
    title: str
    part: str
    question: str
    state: str
    scheme: str
    reference: str
    tests: list[TestRow]
    entries: list[EntryRow] = field(default_factory=list)
    envelope: dict[str, Any] = field(default_factory=dict)
    fields: dict[str, Any] = field(default_factory=dict)
    safety: str = SPIN


def _mm(**values: float) -> dict[str, float]:
    return {name: value / 1000 for name, value in values.items()}


NOISE = {"reporting_distance": 1.0, "baseline": 0.5}
PLANS = [
    Plan(
        2, "hushed-inlet", "Hushed inlet", "intake", "Which inlet is quietest and costs the roof blower at most 3 % of its air?", "bench", "constraint", "I-01",
        [("noise", "Noise at 1 m", "sound_level", "Sound spot behind the stairs", 6, 1, None, NOISE),
         ("air", "Air through the inlet", "airflow", "Tunnel in the east gable", 10, None, 3.0, {})],
        [("Muschel", "Alma", "A spiral mouth: the air turns once before it enters.", INLETS["Muschel"]),
         ("Farn", "Bente", "Leaf-shaped slots, no straight edge.", INLETS["Farn"]),
         ("Moosbett", "Ilvy", "Felt behind a perforated tube.", INLETS["Moosbett"]),
         ("Trichterling", "Tjark", "A plain bell mouth, as large as the roof takes.", INLETS["Trichterling"]),
         ("Lerche", "Jorin", "Two chambers tuned to the blade tone.", INLETS["Lerche"]),
         ("Kiesel", "Bente", "Rounded lips only.", INLETS["Kiesel"])],
        {"values": _mm(mount_square=180, hole_pitch=162, hole=5.2, bore=150, length=220, width=240, height=240, wall=1.6),
         "keep_outs": [{"name": "rafter", "at": [0.125, -0.12, 0.0], "size": [0.06, 0.24, 0.2]}]},
        {"may_vary": "Everything before the mounting plate. The blower stays.", "orientation": "axis upright", "own_parts": True},
        f"{SPIN} The roof blower starts by itself: pull its plug before a hand goes near.",
    ),
    Plan(
        3, "warm-air-splitter", "Warm-air splitter", "duct", "Which splitter dries three shelves most evenly?", "bench", "rank_points", "P-01",
        [("balance", "Balance of the outlets", "imbalance", "Shelf outlets", 9, 1, None, {"baseline": 3.0}),
         ("panel", "Dryness by the panel", "panel_points", "Leaf table", 5, 0.5, None, {"baseline": 1.0, "repeats": 2})],
        [("Gabel", "Ilvy", "Three arms of equal length.", (1.03, 0.99, 0.98, 7.1)), ("Flussdelta", "Alma", "Vanes that share the air by area.", (1.01, 1.0, 0.99, 7.6)),
         ("Efeu", "Tjark", "One trunk, outlets like leaves.", (1.10, 0.97, 0.93, 5.9)), ("Harke", "Jorin", "The stock box with a plate inside.", (1.06, 1.0, 0.94, 6.2))],
        {"values": _mm(mount_square=140, hole_pitch=124.5, hole=4.3, bore=132, length=320, width=660, height=180, wall=1.2)},
        {"may_vary": "The duct from the mounting plate to the three outlets.", "orientation": "as in the cabinet"},
        f"{SPIN} The air is warm: the heater has a thermal cut-out and is never left alone. The panel judges blind.",
    ),
    Plan(
        4, "packing-table-ring", "Packing-table ring", "ring", "Is there a ring that moves more gentle air over the table than an open fan at the same 6 W?", "open",
        "front", "L-02",
        [("jet", "Air speed at 1 m", "jet_speed", "Packing table", 18, 1, None, {"baseline": 2.0}),
         ("bag", "Air into the bag", "bag_flow", "Herb bag", 3, 1, None, {"baseline": 2.0}),
         ("noise", "Noise at 1 m", "sound_level", "Sound spot behind the stairs", 6, 1, None, NOISE),
         ("power", "Electrical power", "electrical_power", "Bench supply", 6, None, None, {})],
        [("Heiligenschein", "Alma", "A thin slot around a wide opening.", ()), ("Brezel", "Jorin", "Two rings, one in the other.", ()),
         ("Nebelring", "Ilvy", "A ring with a long diffuser.", ())],
        {"values": _mm(outer=300, opening=160, depth=90, neck=50, neck_drop=240, wall=1.2),
         "keep_outs": [{"name": "table top", "at": [-0.25, -0.34, -0.1], "size": [0.5, 0.04, 0.3]}]},
        {"may_vary": "Ring, neck and diffuser. The Loft-140 drives it.", "equal": "power", "equal_value": 6.0},
        f"{SPIN} A ring hides a rotor: the guard stays on its inlet.",
    ),
    Plan(
        5, "belt-driven-loft-fan", "Belt-driven loft fan", "rotor", "Which rotor takes least shaft power for 900 m³/h?", "brief", "best_single", "",
        [("shaft", "Shaft power", "shaft_power", "Belt drive in the loft", 6, 1, None, {"common_speed": 620.0})],
        envelope={"values": _mm(mount_square=440, hole_pitch=400, hole=8.5, bore=404, depth=90, shaft=12, hub=90, tip_gap=2, wall=2),
                  "keep_outs": [{"name": "belt", "at": [-0.04, -0.44, 0.1], "size": [0.08, 0.42, 0.03]}]},
        fields={"may_vary": "Rotor and shroud. Shaft, belt and motor stay.", "equal": "duty", "equal_value": 0.25},
        safety=f"{SPIN} Belts and shafts catch: cover them, no loose cloth.",
    ),
]  # fmt: skip


def load_others() -> None:
    """Rounds 2 to 5."""
    who = people()
    rigs = {rig.name: rig for rig in Rig.objects.current()}
    references = {r.serial: r for r in ReferenceSpecimen.objects.select_related("type")}
    for plan in PLANS:
        loader = Loader(plan, who, rigs, references, 14.0 * (plan.number - 1))
        loader.load()
        {2: _inlet, 3: _splitter, 4: _ring, 5: _belt}[plan.number](loader)
        for rules in loader.round.rules.all():
            if plan.state != Round.State.BRIEF:
                refresh(rules)


class Loader:
    """Makes one round with its tests, rules and entries."""

    def __init__(
        self,
        plan: Plan,
        who: dict[str, User],
        rigs: dict[str, Rig],
        references: dict[str, ReferenceSpecimen],
        days: float,
    ):
        self.plan, self.who, self.rigs, self.references = plan, who, rigs, references
        self.bench = Bench(seed=140 + plan.number)
        self.days = days
        self.tests: dict[str, Test] = {}
        self.specimens: list[Specimen] = []

    @classmethod
    def of(cls, plan: Plan, days: float) -> Loader:
        """A round of its own, with what is there of people and stores."""
        rigs = {rig.name: rig for rig in Rig.objects.current()}
        references = {r.serial: r for r in ReferenceSpecimen.objects.select_related("type")}
        return cls(plan, people(), rigs, references, days)

    @property
    def begins(self) -> float:
        """Hours from `START` to the first run of the round."""
        return 24 * self.days

    def load(self) -> None:
        plan = self.plan
        began = START + timedelta(days=self.days - 12)
        self.round = Round.objects.create(
            uid=uid("round", plan.number),
            slug=plan.slug,
            number=plan.number,
            title=plan.title,
            place=PLACE,
            part=plan.part,
            question=plan.question,
            safety=plan.safety,
            state=plan.state,
            created_at=began,
            envelope=Envelope.from_json(plan.part, plan.envelope).as_json(),
            **plan.fields,
        )
        members(self.round, self.who)
        setting = Setting.objects.create(
            round=self.round,
            label="6 W at the supply" if plan.number == 4 else "Full throttle",
            values={"throttle": "100 %"},
        )
        rules = RuleVersion.objects.create(
            round=self.round,
            number=1,
            scheme=plan.scheme,
            created_by=self.who["runa"],
            created_at=began,
            reason="First rules.",
        )
        for order, (key, label, procedure, rig, readings, weight, most_loss, more) in enumerate(
            plan.tests, start=1
        ):
            test = Test.objects.create(
                round=self.round,
                key=key,
                label=label,
                procedure=procedure,
                rig=self.rigs[rig],
                setting=setting,
                order=order,
                readings=readings,
                **more,
            )
            self.tests[key] = test
            if weight is not None or most_loss is not None:
                RuleTerm.objects.create(rules=rules, test=test, weight=weight, most_loss=most_loss)
            if plan.reference:
                TestReference.objects.create(
                    test=test, specimen=self.references[plan.reference], since=began
                )
        rules.tests.set(self.tests.values())
        remember_brief(self.round, rules)
        for mark, (name, designer, story, _) in enumerate(plan.entries):
            self._entry(mark, name, designer, story)

    def _entry(self, mark: int, name: str, designer: str, story: str) -> None:
        handed = START + timedelta(days=self.days - 6, hours=mark)
        entry = Entry.objects.create(
            uid=uid("entry", self.plan.number, name),
            round=self.round,
            name=name,
            designer_name=designer,
            story=story,
            mark=mark,
            designer=self.who.get("alma") if designer == "Alma" else None,
            submitted_at=handed,
        )
        version = Version.objects.create(
            uid=uid("version", self.plan.number, name),
            entry=entry,
            number=1,
            changed="First version.",
            created_at=handed,
        )
        if self.plan.state == Round.State.BENCH:
            self.specimens.append(
                Specimen.objects.create(
                    uid=uid("specimen", self.plan.number, name),
                    version=version,
                    code=f"{self.plan.slug[0].upper()}-{mark + 1:02}",
                    material="PETG",
                    mass=round(0.21 + 0.013 * mark, 3),
                    state=Specimen.State.READY,
                )
            )

    def take(
        self,
        key: str,
        what: Specimen | ReferenceSpecimen,
        hours: float,
        name: str,
        readings: dict[str, Any],
        places: int = 0,
    ) -> None:
        """Record one run of the round."""
        take(
            self.who["odo"],
            self.bench,
            self.tests[key],
            what,
            self.begins + hours,
            f"{self.plan.number}/{key}/{name}",
            readings,
            places,
        )


def _inlet(r: Loader) -> None:
    """Ten days of the stock inlet, whose screen clogs from the fifth on; then four of six entries,
    two still to run.
    """
    stock = r.references["I-01"]
    for day in range(10):
        worn = 1 - 0.0045 * max(day - 4, 0)
        for repeat in range(3):
            hours, name = 24 * (day - 10) + 0.5 * repeat, f"stock/{day}/{repeat}"
            r.take("air", stock, hours, name, r.bench.tunnel(blower(worn, 0), f"air/{name}", hours))
            r.take(
                "noise",
                stock,
                hours + 0.2,
                name,
                r.bench.sound_spot(blower(worn, 0), f"noise/{name}", hours),
            )
    worn = WORN
    for day in range(3):
        for number, key in enumerate(("air", "noise")):
            plan: list[Any] = [stock, *r.specimens[:2], stock, *r.specimens[2:4], stock]
            for index, what in enumerate(plan):
                hours, name = 24 * day + 3 * number + 0.2 * index, f"{day}/{index}"
                known = (
                    (worn, 0.0)
                    if what is stock
                    else (
                        worn * r.plan.entries[r.specimens.index(what)][3][0],
                        r.plan.entries[r.specimens.index(what)][3][1],
                    )
                )
                rig: Callable[..., dict[str, Any]] = (
                    r.bench.tunnel if key == "air" else r.bench.sound_spot
                )
                r.take(key, what, hours, name, rig(blower(*known), f"{key}/{name}", hours))
    rules = r.round.rules.get()
    RuleQuestion.objects.create(
        rules=rules,
        kind="question",
        text="May the felt be glued in from outside the envelope?",
        asked_by=r.who["alma"],
        asked_at=START + timedelta(days=4),
        answer="No: whatever reaches over the envelope is part of the entry and must fit.",
        answered_by=r.who["runa"],
        answered_at=START + timedelta(days=5),
    )
    RuleQuestion.objects.create(
        rules=rules,
        kind="objection",
        text=(
            "3 % is less than the uncertainty of one run in the tunnel. Three repeats should decide, not"
            " one."
        ),
        asked_by=r.who["alma"],
        asked_at=START + timedelta(days=9),
    )


def _splitter(r: Loader) -> None:
    """All four splitters, three times in the balance and twice before the panel, the stock box
    between them.
    """
    stock = r.references["P-01"]
    known: dict[Any, tuple[float, ...]] = {stock: (1.08, 0.98, 0.94, 6.0)}
    known |= {s: row[3] for s, row in zip(r.specimens, r.plan.entries, strict=True)}
    for day in range(3):
        plan: list[Any] = [stock, *r.specimens[:2], stock, *r.specimens[2:], stock]
        for index, what in enumerate(plan):
            *shares, points = known[what]
            hours, name = 24 * day + 0.3 * index, f"{day}/{index}"
            r.take(
                "balance",
                what,
                hours,
                name,
                {"air_speed": outlet_row(r.bench, shares, f"balance/{name}")},
                3,
            )
            if day < 2:
                r.take(
                    "panel",
                    what,
                    hours + 4,
                    name,
                    {"panel_points": panel(r.bench, points, f"panel/{name}")},
                    5,
                )


def _ring(r: Loader) -> None:
    """The open fan first: L-02 until it repeats, and L-03 run in turn with it, so that it can take
    over.
    """
    old, new = r.references["L-02"], r.references["L-03"]
    fans = {
        old: L_02,
        new: Loft140.changed("L-03", flow=0.991, power=0.985, level=-0.1),
    }
    for test in r.tests.values():
        TestReference.objects.create(
            test=test, specimen=new, since=START + timedelta(days=r.days), bridging=True
        )
    for index, what in enumerate([old, old, old, old, new, old, new, old, new, old]):
        hours, name, fan = 0.25 * index, f"open/{index}", fans[what]
        r.take(
            "jet",
            what,
            hours,
            name,
            {"air_speed": free_room(r.bench, fan, f"jet/{name}", hours)},
            9,
        )
        r.take(
            "bag",
            what,
            hours + 0.05,
            name,
            {"fill_time": bag_fill(r.bench, fan, f"bag/{name}", hours)},
        )
        r.take("noise", what, hours + 0.1, name, r.bench.sound_spot(fan, f"noise/{name}", hours))
        r.take("power", what, hours + 0.15, name, r.bench.supply(fan, f"power/{name}", hours))
    invite(r.who["runa"], r.round, "designer", days=60, uses=6, whom="the neighbours' print club")


def _belt(r: Loader) -> None:
    """The brief is still being written: no reference is set yet, and the page says so."""
