"""All procedures: what each way of testing must be given, and the reduction that makes its
comparable figure. Each stands in the file of its rig.
"""

from __future__ import annotations

from hauch.core.measure.channels import CHANNELS, SPEEDS
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs import MODULES
from hauch.core.measure.run import RunInput

PROCEDURES: dict[str, Procedure] = {
    procedure.key: procedure for module in MODULES for procedure in module.PROCEDURES
}


def channels_of(procedure: Procedure) -> tuple[str, ...]:
    """All channels that a procedure can use, in order."""
    read = [c for group in procedure.needs for c in group] + list(procedure.optional)
    return tuple(dict.fromkeys(read + (list(SPEEDS) if "speed" in read else [])))


def without_meter(procedure: Procedure, run: RunInput) -> list[str]:
    """Sentences for channels that were read and that the procedure could use, were their meter
    known.
    """
    return [
        f"{CHANNELS[c].label} was read, but this rig has no meter for it: it is shown and not used."
        " Choose its meter in Stores, and the run is computed again with it."
        for c in channels_of(procedure)
        if len(run.readings.get(c, ()))
        and c not in run.meters
        and c not in run.steady
        and not CHANNELS[c].computed
    ]


def fed_by(procedure: Procedure, channels: set[str]) -> bool:
    """Whether the channels at hand are enough for the procedure."""
    return any(set(group) <= channels for group in procedure.needs)
