"""A second round after the small one, for tests of seasons."""

from __future__ import annotations

import copy
from datetime import timedelta

from hauch.bench.runs import NewRun, Subject, Typed, record_run
from hauch.entries.models import Entry, Version
from hauch.rounds.models import Membership, Round, RuleTerm, RuleVersion, TestReference
from hauch.verdict.judging import judge_round
from hauch.workshop.models import Specimen
from tests.builder import ROOM, START

LATER = START + timedelta(days=30)


def another_round(built, title="Drying rack, second", reference=None, rig=None, setting=None):
    """A round as the first one, with other entries: Distel by the same designer, and Hasel."""
    round = Round.objects.create(
        slug=title.lower().replace(" ", "-").replace(",", ""),
        number=built.round.number + 1,
        title=title,
        question="Which rotor moves more air?",
        part="rotor",
        state=Round.State.BENCH,
    )
    for row in built.round.memberships.all():
        Membership.objects.create(round=round, user=row.user, role=row.role)
    test = copy.copy(built.tests["air"])
    setting = round.settings.create(
        label=setting or "Full throttle", values={"throttle": setting or "100 %"}
    )
    test.pk, test.round, test.setting, test.rig = None, round, setting, rig or test.rig
    test._state.adding = True
    test.save()
    reference = reference or built.reference
    TestReference.objects.create(test=test, specimen=reference, since=LATER)
    rules = RuleVersion.objects.create(round=round, number=1, created_by=built.host, draws=2000)
    RuleTerm.objects.create(rules=rules, test=test, weight=1)
    rules.tests.set([test])
    specimens = {}
    for number, (name, who) in enumerate((("Distel", "designer"), ("Hasel", None))):
        entry = Entry.objects.create(
            round=round,
            name=name,
            mark=number + 3,
            designer=built.people[who] if who else None,
            designer_name="" if who else "Ilvy",
        )
        version = Version.objects.create(entry=entry, number=1)
        specimens[name] = Specimen.objects.create(version=version, code="D-1", state="ready")
    return round, test, specimens


def run(built, test, subject, minutes, speed):
    record_run(
        built.operator,
        NewRun(
            test,
            subject,
            ROOM,
            LATER + timedelta(minutes=minutes),
            {"air_speed": [Typed(speed, str(speed), "m/s")] * 2},
        ),
    )


def measure(built, test, reference, specimens, beside=None, speeds=(4.3, 4.6), champion=4.4):
    """Three turns of the reference, whoever is run beside it, and all entries."""
    minute = 0.0
    for wobble in (0.0, 0.01, -0.008):
        run(built, test, Subject(reference=reference), minute, 4.0 + wobble)
        if beside is not None:
            run(built, test, Subject(reference=beside), minute + 2, champion + wobble)
        for n, specimen in enumerate(specimens.values(), 2):
            run(built, test, Subject(specimen=specimen), minute + 2 * n, speeds[n - 2] - wobble)
        minute += 10
    judge_round(test.round_id)
