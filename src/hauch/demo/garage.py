"""A story of the garage: one shroud in three versions whose gap is bracketed, decided one by one, with
a grille put on and taken off; and guesses of who wins the second round.
"""

from __future__ import annotations

import secrets
from datetime import timedelta

import numpy as np

from hauch.core.rig import Loft140
from hauch.core.rig.fan import Fan
from hauch.demo.fans import L_02
from hauch.demo.others import Loader, Plan
from hauch.demo.stores import START, take, uid
from hauch.entries.models import Version
from hauch.rounds.models import Round, Setting
from hauch.verdict.judging import refresh
from hauch.verdict.models import Criterion, Decision, Guess, Guessing
from hauch.workshop.models import Measure, Specimen

DAYS = 58.0
"""From the first run of the loft to the garage's."""

PLAN = Plan(
    number=8,
    slug="garage-gap",
    title="Garage gap",
    part="shroud",
    question="How small may the gap round the rotor be?",
    state=Round.State.BENCH,
    scheme="best_single",
    reference="L-02",
    tests=[
        (
            "pressure",
            "Static pressure before the trays",
            "static_pressure",
            "Plenum box",
            8,
            1.0,
            None,
            {},
        ),
    ],
    entries=[("Reifen", "Tjark", "A ring round the tips, so that less air turns back.", ())],
    fields={"quick": True, "may_vary": "The gap alone."},
    safety="The rotor runs behind its guard; stand out of its plane.",
)

# gap [m], pressure against the reference, what changed, the word and why
TRIED = [
    (0.0012, 1.006, "1.2 mm all round.", "rejected", "No more than the stock frame has."),
    (0.0006, 1.045, "0.6 mm all round.", "accepted", "It gains, and nothing touches."),
    (0.0002, 1.022, "0.2 mm all round.", "rejected", "It touches when it is warm, and gains less."),
]
GRILLE = 0.94
"""What a grille before it leaves of the pressure."""

GUESSES = {
    "Bente": (1, 2, 3, 4, 5, 6),
    "Jorin": (2, 1, 4, 3, 6, 5),
    "a visitor": (6, 5, 4, 3, 2, 1),
    "Imme": (3, 1, 2, 5, 4, 6),
}
"""Places of the second round's entries by name, as they were guessed before its first run."""


def load_garage() -> None:
    """The garage's round, and the guesses of the second one."""
    loader = Loader.of(PLAN, DAYS)
    loader.load()
    _versions(loader)
    for rules in loader.round.rules.all():
        refresh(rules)
    _guesses()


def _versions(r: Loader) -> None:
    """Three versions between runs of the reference, a day each; then the grille in turn."""
    test, stock = r.tests["pressure"], r.references["L-02"]
    for against, most in (("reference", -1.0), ("before", 0.0)):
        Criterion.objects.create(
            round=r.round,
            test=test,
            against=against,
            most=most,
            set_at=START + timedelta(days=DAYS - 5),
            by=r.who["runa"],
        )
    entry = r.round.entries.get()
    for number, (gap, gain, changed, word, reason) in enumerate(TRIED, 1):
        made = START + timedelta(days=DAYS + number - 2)
        if number == 1:
            version, print_ = entry.versions.get(), r.specimens[0]
            Version.objects.filter(pk=version.pk).update(changed=changed)
        else:
            version = Version.objects.create(
                uid=uid("version", PLAN.number, f"Reifen {number}"),
                entry=entry,
                number=number,
                changed=changed,
                created_at=made,
            )
            print_ = Specimen.objects.create(
                uid=uid("specimen", PLAN.number, f"Reifen {number}"),
                version=version,
                code=f"G-{number:02}",
                material="PETG",
                mass=0.21,
                state=Specimen.State.READY,
            )
        Measure.objects.create(specimen=print_, kind="tip_gap", value=gap, by=r.who["odo"], at=made)
        fan = Loft140.changed(f"Reifen {number}", flow=gain**0.5, pressure=gain)
        for repeat in range(3):
            hours = 24.0 * (number - 1) + 0.5 * repeat
            r.take(
                "pressure", stock, hours, f"stock/{number}/{repeat}", _read(r, L_02, number, repeat)
            )
            r.take(
                "pressure",
                print_,
                hours + 0.2,
                f"reifen/{number}/{repeat}",
                _read(r, fan, number, repeat),
            )
        r.take(
            "pressure",
            stock,
            24.0 * (number - 1) + 1.6,
            f"stock/{number}/3",
            _read(r, L_02, number, 3),
        )
        Decision.objects.create(
            version=version,
            word=word,
            reason=reason,
            by=r.who["runa"],
            at=START + timedelta(days=DAYS + number - 1, hours=3),
        )
        if word == Decision.Word.ACCEPTED:
            _grille(r, print_, fan, gain, number)


def _read(r: Loader, fan: Fan, number: int, repeat: int) -> dict[str, np.ndarray]:
    """What the plenum box reads of a fan."""
    hours = 24.0 * (number - 1) + 0.5 * repeat
    return r.bench.chamber(fan, f"garage/{fan.name}/{number}/{repeat}", r.begins + hours)


def _grille(r: Loader, print_: Specimen, fan: Fan, gain: float, number: int) -> None:
    """Without, with, without, with, without."""
    grille = Setting.objects.create(round=r.round, label="grille on", values={"grille": "on"})
    shut = Loft140.changed("Reifen, grille", flow=(gain * GRILLE) ** 0.5, pressure=gain * GRILLE)
    for turn in range(5):
        on = turn % 2 == 1
        hours = r.begins + 24.0 * (number - 1) + 3 + 0.2 * turn
        take(
            r.who["odo"],
            r.bench,
            r.tests["pressure"],
            print_,
            hours,
            f"{PLAN.number}/grille/{turn}",
            r.bench.chamber(shut if on else fan, f"grille/{turn}", hours),
            setting=grille if on else None,
        )


def _guesses() -> None:
    """Guesses of the second round's order."""
    round = Round.objects.get(uid=uid("round", 2))
    before = round.created_at + timedelta(days=4)
    guessing = Guessing.objects.create(
        round=round,
        secret=secrets.token_urlsafe(24),
        opened_by=round.memberships.get(role="host").user,
        opened_at=before,
    )
    entries = list(round.entries.order_by("name").values_list("pk", flat=True))
    Guess.objects.bulk_create(
        Guess(
            guessing=guessing,
            name=name,
            given={str(pk): place for pk, place in zip(entries, places, strict=True)},
            at=before + timedelta(hours=n),
        )
        for n, (name, places) in enumerate(GUESSES.items())
    )
