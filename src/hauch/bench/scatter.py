"""How a figure scatters from run to run on a rig, as its own history tells: for what was not
repeated, and for single runs.
"""

from __future__ import annotations

import math

import numpy as np
from django.db.models import QuerySet
from django.db.models.functions import TruncDate
from django.utils import timezone

from hauch.bench.models import Run
from hauch.core.judge.band import Scatter
from hauch.core.measure.procedure import Procedure

NEWEST = 1000


def _day() -> TruncDate:
    """The day of a run at the installation's place."""
    return TruncDate("started_at", tzinfo=timezone.get_default_timezone())


def scatter_of(rig_id: int, how: Procedure) -> Scatter | None:
    """Scatter of one repeat in y, pooled over all repeats of one part at one setting within a day,
    in whatever test (ISO 5725-2, 7.4); None where a rig in this state never repeated anything.

    Days are held apart, since rig and weather change in between; carried runs count once. The
    newest `NEWEST` runs tell it: more would say nothing more of the rig as it is, and take long.
    """
    rows: QuerySet[Run] = Run.objects.filter(
        state=Run.State.VALID,
        rig=rig_id,
        test__procedure=how.key,
        result__value__isnull=False,
        carried_from__isnull=True,
    )
    if how.log:
        rows = rows.filter(result__value__gt=0)
    newest = rows.order_by("-started_at").values_list(
        "test", "setting", "specimen", "reference", _day(), "result__value"
    )[:NEWEST]
    # Grouped here: what the database was not told of a table that was just filled makes it join the
    # newest runs with all runs, one by one.
    groups: dict[tuple[object, ...], list[float]] = {}
    for *same, value in newest:
        if value is not None:
            groups.setdefault(tuple(same), []).append(math.log(value) if how.log else value)
    repeated = [np.array(values) for values in groups.values() if len(values) > 1]
    dof = sum(values.size - 1 for values in repeated)
    if not dof:
        return None
    squares = sum(float(np.sum((values - values.mean()) ** 2)) for values in repeated)
    return Scatter(math.sqrt(squares / dof), float(dof))
