"""The models of a round."""

from hauch.rounds.models.round import (
    BRIEF_FIELDS,
    HELD_EQUAL,
    Invitation,
    Membership,
    Round,
    part_choices,
)
from hauch.rounds.models.rules import RuleQuestion, RuleTerm, RuleVersion
from hauch.rounds.models.tests import (
    PHYSICAL,
    Setting,
    Test,
    TestReference,
    how_of,
    procedure_choices,
)

__all__ = [
    "BRIEF_FIELDS",
    "HELD_EQUAL",
    "PHYSICAL",
    "Invitation",
    "Membership",
    "Round",
    "RuleQuestion",
    "RuleTerm",
    "RuleVersion",
    "Setting",
    "Test",
    "TestReference",
    "how_of",
    "part_choices",
    "procedure_choices",
]
