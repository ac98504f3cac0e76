"""What is still missing before a round can be opened, each with the place where it is entered."""

from __future__ import annotations

from django.urls import reverse

from hauch.rounds.drafts import RuleDraft, draft_of
from hauch.rounds.models import Round, TestReference
from hauch.ui.missing import Missing


def problems_of(round: Round) -> list[Missing]:
    """What is wrong or missing; empty where the round can be opened."""
    brief = (reverse("rounds:change", args=[round.slug]), "Change the brief")
    envelope = (reverse("rounds:envelope", args=[round.slug]), "Open the envelope")
    found: list[Missing] = []
    try:
        found += [Missing(text, *envelope) for text in round.what.problems().values()]
    except ValueError as problem:
        found.append(Missing(f"The envelope cannot be read: {problem}.", *envelope))
    if not round.envelope and not round.quick:
        found.append(
            Missing(
                "The envelope is still the one it started with. Look at it and save it.", *envelope
            )
        )
    draft = draft_of(round)
    found += problems_of_rules(round, draft, round.equal)
    if not draft.tests:
        return found
    if round.equal in {Round.Equal.POWER, Round.Equal.NOISE} and round.equal_value is None:
        found.append(
            Missing(
                f"The brief asks for {round.get_equal_display()}, but does not say which. Give the"
                " figure.",
                *brief,
            )
        )
    referenced = set(
        TestReference.objects.filter(
            test__round=round, until__isnull=True, bridging=False
        ).values_list("test_id", flat=True)
    )
    without = [
        t.label for t in draft.measured if t.test is not None and t.test.pk not in referenced
    ]
    if without:
        found.append(
            Missing(
                f"No reference is set for {', '.join(f'“{label}”' for label in without)}.",
                reverse("care", args=[round.slug]),
                "Set the reference",
            )
        )
    if not round.safety.strip():
        found.append(
            Missing("There is no safety note. Write what can hurt, and how it is kept off.", *brief)
        )
    return found


def problems_of_rules(round: Round, draft: RuleDraft, equal: str) -> list[Missing]:
    """What keeps rules from ranking or being measured in a round: for opening it, and for every change
    of them.

    Parameters
    ----------
    equal : what is compared at, once it stands
    """
    rules = (reverse("change_rules", args=[round.slug]), "Change the rules")
    if not draft.tests:
        return [Missing("The round has no test. Add one to its rules.", *rules)]
    found = [one if one.url else Missing(one.text, *rules) for one in draft.missing(equal)]
    kinds = {t.procedure for t in draft.measured}
    meters = {m.channel for t in draft.measured if t.rig for m in t.rig.meters.all()}
    if (
        equal == Round.Equal.POWER
        and "electrical_power" not in kinds
        and not {"power", "current"} & meters
    ):
        found.append(
            Missing(
                "The brief asks for equal electrical power, but no test reads power. Add the test"
                " “Electrical power”.",
                *rules,
            )
        )
    if equal == Round.Equal.NOISE and "sound_level" not in kinds | {
        t.how.equal for t in draft.measured
    }:
        found.append(
            Missing(
                "The brief asks for equal noise, but no test reads the sound level. Add one.",
                *rules,
            )
        )
    return found
