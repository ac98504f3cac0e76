"""What is still missing before a round can be opened, in sentences."""

from __future__ import annotations

from hauch.rounds.drafts import draft_of
from hauch.rounds.models import Round, TestReference


def problems_of(round: Round) -> list[str]:
    """Sentences on what is wrong or missing; empty where the round can be opened."""
    found: list[str] = []
    try:
        found += round.what.problems().values()
    except ValueError as problem:
        found.append(f"The envelope cannot be read: {problem}.")
    if not round.envelope and not round.quick:
        found.append("The envelope is still the one it started with. Look at it and keep it.")
    draft = draft_of(round)
    if not draft.tests:
        found.append("The round has no test. Add one to its rules.")
        return found
    found += draft.problems(round.equal)
    kinds = {t.procedure for t in draft.kept}
    meters = {m.channel for t in draft.kept if t.rig for m in t.rig.meters.all()}
    if (
        round.equal == Round.Equal.POWER
        and "electrical_power" not in kinds
        and not {"power", "current"} & meters
    ):
        found.append(
            "The brief asks for equal electrical power, but no test reads power. Add the test"
            " “Electrical power”."
        )
    if round.equal == Round.Equal.NOISE and "sound_level" not in kinds | {
        t.how.equal for t in draft.kept
    }:
        found.append("The brief asks for equal noise, but no test reads the sound level. Add one.")
    if round.equal in {Round.Equal.POWER, Round.Equal.NOISE} and round.equal_value is None:
        found.append(
            f"The brief asks for {round.get_equal_display()}, but does not say which. Give the"
            " figure."
        )
    for t in draft.kept:
        if t.rig is not None:
            lacking = [
                c.label.lower()
                for c in t.rig.how.constants
                if c.needed and c.key not in t.rig.constants
            ]
            if lacking:
                found.append(
                    f"{t.rig} does not know its {' and '.join(lacking)}, so “{t.label}” would have"
                    " no result. Enter or calibrate it in Stores."
                )
    referenced = set(
        TestReference.objects.filter(
            test__round=round, until__isnull=True, bridging=False
        ).values_list("test_id", flat=True)
    )
    without = [t.label for t in draft.kept if t.test is not None and t.test.pk not in referenced]
    if without:
        found.append(
            f"No reference is set for {', '.join(f'“{label}”' for label in without)}. Set it at the"
            " Bench, under Reference."
        )
    if not round.safety.strip():
        found.append("There is no safety note. Write what can hurt, and how it is kept off.")
    return found
