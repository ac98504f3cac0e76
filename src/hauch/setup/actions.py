"""What can be done with a set-up: begin it, answer a step, make the round of it, discard it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.shelf import SAME_AS, SHELF
from hauch.entries.actions import add_entry
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.actions import begin_round, open_round, start_bench
from hauch.rounds.models import Round
from hauch.rounds.references import bring_in
from hauch.setup.answers import Answers
from hauch.setup.models import SetUp
from hauch.stores.actions import add_reference, save_instrument
from hauch.stores.actions_rigs import add_rig, change_rig
from hauch.stores.models import Instrument, ReferenceSpecimen, Rig

MOST_OPEN = 20
"""Set-ups that one person may leave lying about."""


def require_set_up(user: User) -> None:
    """Raise PermissionDenied unless the person may make all that a set-up makes."""
    require(user, "round.create")
    require(user, "stores.change")


@transaction.atomic
def begin(user: User, part: str) -> SetUp:
    """Begin a set-up for a kind of part.

    Raises
    ------
    PermissionDenied, ValidationError : no such kind
    """
    require_set_up(user)
    if part not in PART_KINDS:
        raise ValidationError("Choose what you compare.")
    left = user.set_ups.filter(round=None).values_list("pk", flat=True)[MOST_OPEN - 1 :]
    SetUp.objects.filter(pk__in=list(left)).delete()
    return SetUp.objects.create(user=user, answers=Answers(part).as_json())


def keep(set_up: SetUp, said: Answers, step: str) -> None:
    """Keep the answers of a step."""
    if step not in said.done:
        said.done.append(step)
    set_up.answers = said.as_json()
    set_up.save(update_fields=["answers"])


def discard(set_up: SetUp) -> None:
    """Throw a set-up away; what was made of it stays."""
    set_up.delete()


@dataclass(frozen=True)
class Parts:
    """The last step: what is compared with what, how often, and what decides."""

    title: str
    reference: str
    names: Sequence[str]
    repeats: int
    decide: str
    first: str


@transaction.atomic
def make(user: User, set_up: SetUp, parts: Parts) -> Round:
    """Make all that was answered, in one go: meters, rigs, reference, round, rules, entries and their
    prints. Sent twice it is made once.

    Raises
    ------
    PermissionDenied, ValidationError : with a sentence for each thing that cannot be; nothing is
        made then
    """
    require_set_up(user)
    set_up = SetUp.objects.select_for_update(of=("self",)).get(pk=set_up.pk)
    if set_up.round is not None:
        return set_up.round
    said = set_up.said
    names = [name.strip() for name in parts.names if name.strip()]
    problems = {}
    if not parts.reference.strip():
        problems["reference"] = "Name what they are compared with, such as the stock part."
    if not names:
        problems["names"] = "Name at least one part."
    if len({name.casefold() for name in names}) < len(names):
        problems["names"] = "Two parts have the same name. Give each its own."
    if problems:
        raise ValidationError(problems)
    meters = _meters(user, said)
    rigs = {kind: _rig(user, said, kind, meters) for kind in said.rig_kinds}
    title = parts.title.strip() or f"{said.kind.plural.capitalize()}, {timezone.localdate():%d %b}"
    start = said.start(parts.decide, parts.first, parts.repeats)
    round, left_out = begin_round(user, start, title, rigs=rigs)
    if left_out:
        raise ValidationError(f"There is no rig for: {', '.join(left_out)}.")
    bring_in(user, round, _reference(user, parts.reference.strip()), list(round.tests.all()))
    round = open_round(user, round)
    for name in names:
        add_entry(user, round, name)
    round = start_bench(user, round)
    set_up.round = round
    set_up.save(update_fields=["round"])
    return round


def _free(taken: set[str], wanted: str) -> str:
    """A name that nothing has yet."""
    name, number = wanted, 2
    while name in taken:
        name, number = f"{wanted} {number}", number + 1
    return name


def _meters(user: User, said: Answers) -> dict[str, Instrument]:
    """A meter for every channel that is read: one of the stores, or a new one from the shelf."""
    found: dict[str, Instrument] = {}
    taken = set(Instrument.objects.values_list("name", flat=True))
    for channel in said.channels:
        kind, _, key = said.meters.get(channel, "").partition(":")
        if kind == "own":
            found[channel] = Instrument.objects.get(pk=int(key))
        elif kind == "shelf":
            meter = SHELF[key]
            found[channel] = save_instrument(
                user,
                Instrument(
                    name=_free(taken, meter.label),
                    channel=meter.channel,
                    resolution=meter.resolution,
                    accuracy=meter.accuracy,
                    accuracy_share=meter.accuracy_share,
                    low=meter.low,
                    high=meter.high,
                    response_time=meter.response_time,
                    principle=meter.principle,
                ),
            )
            taken.add(found[channel].name)
    for channel, same in SAME_AS.items():
        if same in found:
            found.setdefault(channel, found[same])
    return found


def _rig(user: User, said: Answers, kind: str, meters: dict[str, Instrument]) -> Rig:
    """The rig of a kind: the one that was chosen, with a meter for what it lacks, or a new one."""
    wanted = {c: meters[c] for c in said.channels_on(kind) if c in meters}
    if pk := said.rigs.get(kind):
        rig = Rig.objects.current().get(pk=pk)
        has = {m.channel: m.instrument for m in rig.meters.select_related("instrument")}
        return change_rig(user, rig, rig.pairs, wanted | has, "")
    name = _free(set(Rig.objects.values_list("name", flat=True)), RIGS[kind].label)
    return add_rig(user, Rig(name=name, kind=kind), said.pairs(kind), wanted)


def _reference(user: User, name: str) -> ReferenceSpecimen:
    """The reference of a name: one that is in the stores and can be run, or a new one."""
    here = ReferenceSpecimen.objects.select_related("type").filter(
        type__name__iexact=name, state__in=["new", "in_use"]
    )
    if (found := here.first()) is not None:
        return found
    number = ReferenceSpecimen.objects.filter(type__name=name).count() + 1
    return add_reference(user, name, str(number))
