"""All procedures: what each way of testing must be given, and the reduction that makes its
comparable figure. Each stands in the file of its rig.
"""

from __future__ import annotations

from hauch.core.measure.channels import SPEEDS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs import MODULES

PROCEDURES: dict[str, Procedure] = {
    procedure.key: procedure for module in MODULES for procedure in module.PROCEDURES
}


def channels_of(procedure: Procedure) -> tuple[str, ...]:
    """All channels that a procedure can use, in order."""
    read = [c for group in procedure.needs for c in group] + list(procedure.optional)
    return tuple(dict.fromkeys(read + (list(SPEEDS) if "speed" in read else [])))


def fed_by(procedure: Procedure, channels: set[str]) -> bool:
    """Whether the channels at hand are enough for the procedure."""
    return any(set(group) <= channels for group in procedure.needs)
