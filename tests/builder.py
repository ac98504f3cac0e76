"""A small round for tests: three entries, a reference, airflow and power, everybody's roles."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from django.db import transaction

from hauch.bench.runs import NewRun, Room, Subject, Typed, record_run
from hauch.core.measure.channels import CHANNELS
from hauch.entries.models import Entry, Version
from hauch.people.models import User
from hauch.people.permissions import DESIGNER, HOST, OPERATOR, VIEWER
from hauch.rounds.models import (
    Membership,
    Round,
    RuleTerm,
    RuleVersion,
    Setting,
    Test,
    TestReference,
)
from hauch.stores.models import Instrument, ReferenceSpecimen, ReferenceType, Rig, RigMeter
from hauch.verdict.judging import judge_round
from hauch.workshop.models import Specimen

START = datetime(2026, 5, 4, 9, 0, tzinfo=UTC)
ROOM = Room(21.0, 96_500.0, 48.0)
PASSWORD = "straw-bale-12"
METERS = {
    "air_speed": (0.01, 0.02, "Vane"),
    "voltage": (0.001, 0.01, "Supply, volts"),
    "current": (0.001, 0.002, "Supply, amps"),
    "sound_level": (0.1, 1.0, "Sound meter"),
    "load_temperature": (0.01, 0.3, "Block thermometer"),
    "room_temperature": (0.01, 0.3, "Room thermometer"),
    "speed": (1.0, 1.0, "Tacho"),
    "static_pressure": (0.1, 0.3, "Manometer"),
}


@dataclass
class Built:
    """What tests need to get at."""

    round: Round
    tests: dict[str, Test]
    entries: dict[str, Entry]
    specimens: dict[str, Specimen]
    reference: ReferenceSpecimen
    people: dict[str, User]
    meters: dict[str, Instrument]

    @property
    def host(self) -> User:
        return self.people["host"]

    @property
    def operator(self) -> User:
        return self.people["operator"]

    def air(
        self, what: Specimen | ReferenceSpecimen, minutes: float, values: tuple[float, ...], **more
    ):
        """Record a tunnel run with these air speeds."""
        return self.record("air", what, minutes, {"air_speed": values}, **more)

    def power(self, what: Specimen | ReferenceSpecimen, minutes: float, amps: float, **more):
        """Record a power run."""
        return self.record(
            "power", what, minutes, {"voltage": (12.0, 12.0), "current": (amps, amps)}, **more
        )

    def record(self, test, what, minutes, values, **more):
        subject = Subject(specimen=what) if isinstance(what, Specimen) else Subject(reference=what)
        readings = {
            key: [Typed(v, str(v), CHANNELS[key].unit) for v in row] for key, row in values.items()
        }
        moment = START + timedelta(minutes=minutes)
        return record_run(
            self.operator, NewRun(self.tests[test], subject, ROOM, moment, readings, **more)
        )

    @transaction.atomic
    def measure_all(self):
        """Reference, every entry three times, reference again; Amsel best, Binse and Kiebitz close
        together.
        """
        speeds = {"Amsel": 4.4, "Binse": 4.102, "Kiebitz": 4.1}
        minute = 0.0
        for repeat in range(3):
            wobble = (0.0, 0.01, -0.008)[repeat]
            self.air(self.reference, minute, (4.0 + wobble, 4.01 + wobble))
            self.power(self.reference, minute + 1, 0.400 + wobble / 20)
            for number, (name, speed) in enumerate(speeds.items()):
                minute += 5
                self.air(
                    self.specimens[name],
                    minute,
                    (speed + wobble * (1 - number), speed + 0.01 + wobble),
                )
                self.power(self.specimens[name], minute + 1, 0.405 + wobble / 25)
            minute += 5
        self.air(self.reference, minute, (4.0, 4.0))
        self.power(self.reference, minute + 1, 0.400)

    def measure_and_judge(self):
        """All runs, and the standing that follows from them."""
        self.measure_all()
        judge_round(self.round.pk)


def build(published: bool = False, kinds: tuple[str, ...] = ("air", "power")) -> Built:
    """Make the round and its people in an empty database."""
    people = {
        name: User.objects.create_user(
            name, password=PASSWORD, first_name=name.capitalize(), is_staff=name == "host"
        )
        for name in ("host", "operator", "designer", "viewer", "stranger")
    }
    round = Round.objects.create(
        slug="drying-rack",
        number=4,
        title="Drying rack",
        place="Quellmoos Drying Loft",
        question="Which rotor dries most for its power?",
        part="rotor",
        safety="Printed rotors can burst.",
        state="published" if published else "bench",
        published_at=START + timedelta(days=9) if published else None,
    )
    for name, role in (
        ("host", HOST),
        ("operator", OPERATOR),
        ("designer", DESIGNER),
        ("viewer", VIEWER),
    ):
        Membership.objects.create(round=round, user=people[name], role=role)
    meters = {
        key: Instrument.objects.create(
            name=name, channel=key, resolution=resolution, accuracy=accuracy
        )
        for key, (resolution, accuracy, name) in METERS.items()
    }
    meters["background_level"] = meters["sound_level"]
    constants = {
        "bore": [0.1252, 0.0001],
        "profile_factor": [0.846, 0.0076],
        "standby_power": [0.4, 0.01],
    }
    rig = Rig.objects.create(name="Rack rig", kind="tunnel", constants=constants)
    RigMeter.objects.bulk_create(
        RigMeter(rig=rig, channel=key, instrument=meter) for key, meter in meters.items()
    )
    setting = Setting.objects.create(
        round=round, label="Full throttle", values={"throttle": "100 %"}
    )
    procedures = {
        "air": "airflow",
        "power": "electrical_power",
        "noise": "sound_level",
        "rise": "temperature_rise",
        "pressure": "static_pressure",
    }
    reference = ReferenceSpecimen.objects.create(
        type=ReferenceType.objects.create(name="Loft-140"), serial="L-02", state="in_use"
    )
    tests = {}
    for order, key in enumerate(kinds, start=1):
        tests[key] = Test.objects.create(
            round=round,
            key=key,
            label=f"{key.capitalize()} test",
            procedure=procedures[key],
            rig=rig,
            setting=setting,
            order=order,
            readings=2,
        )
        TestReference.objects.create(test=tests[key], specimen=reference, since=START)
    rules = RuleVersion.objects.create(round=round, number=1, created_by=people["host"], draws=2000)
    for key, weight in (("air", 2), ("power", 1)):
        if key in tests:
            RuleTerm.objects.create(rules=rules, test=tests[key], weight=weight)
    rules.tests.set(tests.values())
    entries, specimens = {}, {}
    for number, name in enumerate(("Amsel", "Binse", "Kiebitz")):
        entries[name] = Entry.objects.create(
            round=round,
            name=name,
            mark=number,
            designer=people["designer"] if name == "Amsel" else None,
            designer_name="Ilvy",
            story="Because.",
        )
        version = Version.objects.create(entry=entries[name], number=1)
        specimens[name] = Specimen.objects.create(
            version=version, code=f"R-{number + 1}", state="ready"
        )
    return Built(round, tests, entries, specimens, reference, people, meters)
