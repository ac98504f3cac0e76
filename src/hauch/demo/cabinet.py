"""Round 1, the cabinet rotor: published, with a reference that was bridged and all the troubles of
a bench.
"""

from __future__ import annotations

from datetime import timedelta

import numpy as np
from django.utils import timezone

from hauch.bench.logs import NewRecording, import_log
from hauch.bench.models import Run
from hauch.bench.runs import Subject, record_dnf, void_run
from hauch.core.geometry.envelope import Envelope
from hauch.core.rig import Bench, Fan, Faults, Loft140, Shift
from hauch.demo.desk import predict_cabinet
from hauch.demo.fans import CABINET, L_02
from hauch.demo.stores import START, make_stores, members, people, room_at, take, uid
from hauch.entries.models import Entry, Version
from hauch.formats.logger_csv import Log
from hauch.rounds.actions import remember_brief
from hauch.rounds.models import Round, RuleTerm, RuleVersion, Setting, Test, TestReference
from hauch.stores.models import ReferenceSpecimen
from hauch.verdict.accepting import judgements
from hauch.verdict.judging import refresh
from hauch.verdict.models import Criterion, Decision
from hauch.verdict.publishing import keep_publication
from hauch.workshop.models import Specimen

SLUG = "cabinet-rotor"

# name, designer, story
ENTRIES: list[tuple[str, str, str]] = [
    ("Distel", "Alma", "Nine narrow blades with a swept tip, so that the gap leaks less."),
    ("Schwalbe", "Ilvy", "Five wide blades, more pitch at the hub: moves more at the same speed."),
    ("Kamm", "Tjark", "Serrated trailing edge against the rustling."),
    ("Weidenkorb", "Alma", "Blades woven into a ring, no tip gap at all."),
    ("Zaunkönig", "Bente", "Seven blades, unevenly spaced, to spread the tone."),
    ("Mohn", "Jorin", "A copy of the reference with thinner blades."),
    ("Löffel", "Ilvy", "Spoon-shaped tips that fold the air inwards."),
    ("Pusteblume", "Bente", "Fifteen blades, as light as they print."),
]  # fmt: skip
RUBS = ("Ringelnatter", "Tjark", "Largest diameter that the bore takes.")

SECOND = {
    "Distel": "Got the mounting holes.",
    "Zaunkönig": "Blades unevenly spaced, after the first print was heard on the evening before.",
}
"""What the second version of an entry changed."""

TESTS: list[tuple[str, str, str, str, int]] = [
    ("air", "Air through six trays", "airflow", "Tunnel in the east gable", 10),
    ("pressure", "Static pressure before the trays", "static_pressure", "Plenum box", 8),
    ("noise", "Noise at 1 m", "sound_level", "Sound spot behind the stairs", 6),
    ("rise", "Temperature rise of the hot block", "temperature_rise", "Hot block", 1),
    ("power", "Electrical power", "electrical_power", "Bench supply", 6),
]

RULES: list[tuple[int, dict[str, float], str]] = [
    (1, {"air": 3, "pressure": 2, "noise": 1, "power": 1}, "First rules, agreed before the pilot."),
    (2, {"air": 4, "pressure": 1, "noise": 2, "rise": 1, "power": 1},
     "After the pilot: the loft is next to a bedroom, so noise counts as it is heard, and the rise counts too."),
]  # fmt: skip


class Cabinet:
    """Builds the round and runs it on the virtual bench."""

    def __init__(self) -> None:
        self.people = people()
        self.bench = Bench(shift=Shift(speed_per_hour=0.0005))
        self.fans: dict[object, Fan] = {}

    def load(self) -> Round:
        self._stores()
        self._round()
        self._entries()
        predict_cabinet(self.round)
        self._evening_before()
        for day in range(3):
            self._day(day)
        self._troubles()
        ReferenceSpecimen.objects.filter(pk=self.references["L-01"].pk).update(
            state=ReferenceSpecimen.State.RETIRED
        )
        for rules in self.round.rules.all():
            refresh(rules)
        published = self.round.published_at or timezone.now()
        keep_publication(self.round, self.people["runa"], published)
        self._accepted()
        return self.round

    def _accepted(self) -> None:
        """Limits for new versions, set before the first run, and what was decided by them."""
        runa = self.people["runa"]
        for key, against, most in (("air", "before", 1.0), ("air", "reference", 3.0)):
            Criterion.objects.create(
                round=self.round,
                test=self.tests[key],
                against=against,
                most=most,
                set_at=START - timedelta(days=30),
                by=runa,
            )
        entry = self.round.entries.get(name="Zaunkönig")
        tests = list(self.tests.values())
        second = judgements(entry, tests)[0]
        Decision.objects.create(
            version=second.version,
            word=Decision.Word.ACCEPTED,
            reason="The tone is spread, and the air that it costs is allowed.",
            said=second.sentence,
            by=runa,
            at=self.round.published_at or timezone.now(),
        )

    def _stores(self) -> None:
        self.rigs, self.references = make_stores(self.people["runa"])
        self.fans[self.references["L-01"]] = Loft140
        self.fans[self.references["L-02"]] = L_02

    def _round(self) -> None:
        self.round = Round.objects.create(
            uid=uid("round", 1),
            slug=SLUG,
            number=1,
            title="Cabinet rotor",
            place="Quellmoos Drying Loft",
            part="rotor",
            question="Which rotor moves most air through six trays for its noise?",
            may_vary=(
                "The rotor only: the frame and the motor of the Loft-140 stay. 136 mm bore, 26 mm"
                " deep."
            ),
            safety=(
                "Printed rotors can burst. Run behind the guard, wear eye protection, stand out of"
                " the plane of the rotor, start low. The heater of the hot block has a thermal"
                " cut-out and is never left alone."
            ),
            orientation="axis level",
            envelope=Envelope.from_json("rotor", {}).as_json(),
            state=Round.State.PUBLISHED,
            created_at=START - timedelta(days=30),
            published_at=START + timedelta(days=5),
        )
        members(self.round, self.people)
        full = Setting.objects.create(
            round=self.round,
            label="Full throttle, six trays",
            values={"throttle": "100 %", "trays": "6"},
        )
        self.tests = {}
        for order, (key, label, procedure, rig, readings) in enumerate(TESTS, start=1):
            self.tests[key] = Test.objects.create(
                round=self.round,
                key=key,
                label=label,
                procedure=procedure,
                rig=self.rigs[rig],
                setting=full,
                order=order,
                readings=readings,
                reporting_distance=1.0 if key == "noise" else None,
                resolution=0.5 if key == "rise" else None,
                soak=Test.Soak.SETTLED if key == "rise" else Test.Soak.NONE,
                baseline=0.5 if key == "noise" else 1.0,
            )
            change = START + timedelta(days=1, hours=11)
            TestReference.objects.create(
                test=self.tests[key], specimen=self.references["L-01"], since=START, until=change
            )
            TestReference.objects.create(
                test=self.tests[key], specimen=self.references["L-02"], since=change
            )
        for number, weights, reason in RULES:
            rules = RuleVersion.objects.create(
                round=self.round,
                number=number,
                reason=reason,
                created_by=self.people["runa"],
                created_at=START - timedelta(days=30 - 27 * (number - 1)),
                level_as=RuleVersion.LevelAs.LOUDNESS if number == 2 else RuleVersion.LevelAs.LEVEL,
            )
            rules.tests.set(self.tests.values())
            remember_brief(self.round, rules)
            for key, weight in weights.items():
                RuleTerm.objects.create(rules=rules, test=self.tests[key], weight=weight)

    def _entries(self) -> None:
        self.specimens: list[Specimen] = []
        for mark, (name, designer, story) in enumerate([*ENTRIES, RUBS]):
            entry = Entry.objects.create(
                uid=uid("entry", name),
                round=self.round,
                name=name,
                designer_name=designer,
                story=story,
                mark=mark,
                designer=self.people.get("alma") if designer == "Alma" else None,
                submitted_at=START - timedelta(days=9, hours=mark),
            )
            changed = "First print: found the dimensions."
            version = Version.objects.create(
                uid=uid("version", name, 1),
                entry=entry,
                number=1,
                changed=changed,
                created_at=entry.submitted_at,
            )
            if name in SECOND:
                if name == "Zaunkönig":
                    self._first_print(version)
                version = Version.objects.create(
                    uid=uid("version", name, 2),
                    entry=entry,
                    number=2,
                    changed=SECOND[name],
                    created_at=entry.submitted_at + timedelta(days=3),
                )
            specimen = Specimen.objects.create(
                uid=uid("specimen", name),
                version=version,
                code=f"S-{mark + 1:02}",
                material="PETG",
                mass=round(0.031 + 0.0013 * mark, 4),
                state=Specimen.State.READY,
            )
            self.fans[specimen] = Loft140.changed(name, *CABINET[name])
            self.specimens.append(specimen)

    def _first_print(self, version: Version) -> None:
        self.first_print = Specimen.objects.create(
            uid=uid("specimen", version.entry.name, 1),
            version=version,
            code="S-05A",
            material="PETG",
            mass=0.0371,
            state=Specimen.State.READY,
        )
        self.fans[self.first_print] = Loft140.changed("even", 0.972, 0.97, 0.8, 1.01)

    def _evening_before(self) -> None:
        """Three runs of a version that its designer improved then: they are kept and do not count,
        since its second version takes part.
        """
        before = self.references["L-01"]
        plan: list[Specimen | ReferenceSpecimen] = [before, *3 * [self.first_print], before]
        for index, what in enumerate(plan):
            self._run("air", what, 0.1 * index - 15, "evening", index)

    def _day(self, day: int) -> None:
        """One day: every test in turn, the reference before, between and after the entries."""
        racing = self.specimens[:-1]
        before = self.references["L-01"] if day < 2 else self.references["L-02"]
        for number, key in enumerate(self.tests):
            hours = 24 * day + 2.0 * number
            order = racing[day:] + racing[:day]
            plan: list[Specimen | ReferenceSpecimen] = [before, before] if day == 0 else [before]
            for index, specimen in enumerate(order, start=1):
                plan.append(specimen)
                if index in {3, 6} or index == len(order):
                    plan.append(before)
            if (
                day == 1
            ):  # the old reference begins to hum: bridge to the next specimen before it is retired
                plan += [
                    self.references["L-02"],
                    self.references["L-01"],
                    self.references["L-02"],
                    self.references["L-01"],
                    self.references["L-02"],
                ]
            for index, what in enumerate(plan):
                faults = (
                    Faults(dropout=(212, 231), spike=395)
                    if key == "rise" and day == 0 and what is racing[2]
                    else Faults()
                )
                self._run(key, what, hours + 0.11 * index, str(day), index, faults)

    def _run(
        self,
        key: str,
        what: Specimen | ReferenceSpecimen,
        hours: float,
        day: str,
        index: int,
        faults: Faults | None = None,
    ) -> Run:
        faults = faults or Faults()
        name = f"{key}/{what}/{day}/{index}"
        fan = self.fans[what]
        test, moment, user = self.tests[key], START + timedelta(hours=hours), self.people["odo"]
        if key == "rise":
            subject = (
                Subject(specimen=what) if isinstance(what, Specimen) else Subject(reference=what)
            )
            times, channels = self.bench.hot_block(fan, name, hours, interval=2.0, faults=faults)
            log = Log(moment, times, channels, int(np.isnan(channels["load_temperature"]).sum()))
            new = NewRecording(
                self.round,
                None,
                log,
                [test],
                subject,
                room_at(self.bench, hours),
                moment,
                uid=uid("run", name),
            )
            return import_log(user, new)[0]
        rig = {"air": self.bench.tunnel, "pressure": self.bench.chamber, "power": self.bench.supply}
        readings = (
            self.bench.sound_spot(fan, name, hours, faults=faults)
            if key == "noise"
            else rig[key](fan, name, hours)
        )
        return take(user, self.bench, test, what, hours, name, readings)  # type: ignore[arg-type]

    def _troubles(self) -> None:
        """What went wrong in the round, and what was done about it."""
        odo, by_name = self.people["odo"], {s.version.entry.name: s for s in self.specimens}
        loud = self._run("noise", by_name["Mohn"], 27.9, "trouble", 1, Faults(background=18.0))
        loud.note = "The hay blower next door was running."
        loud.save(update_fields=["note"])
        cut = self._run("rise", by_name["Kamm"], 31.2, "trouble", 2, Faults(cut_short=0.28))
        void_run(odo, cut, "Stopped after four minutes; it had not settled. Repeated later.")
        self._run("power", by_name[RUBS[0]], 9.6, "trouble", 3)
        record_dnf(
            odo,
            self.tests["air"],
            Subject(specimen=by_name[RUBS[0]]),
            "two blades rub the frame above 1,150 1/min.",
            START + timedelta(hours=3, minutes=42),
            uid=uid("run", "dnf"),
        )
        by_name[RUBS[0]].state = Specimen.State.BROKEN
        by_name[RUBS[0]].save(update_fields=["state"])
