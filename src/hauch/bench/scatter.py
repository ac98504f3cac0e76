"""How a figure scatters from run to run on a rig, as its own history tells: for what was not
repeated, and for single runs.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from django.db.models import QuerySet
from django.db.models.functions import TruncDate
from django.utils import timezone

from hauch.bench.models import Run
from hauch.core.judge.band import Scatter
from hauch.core.judge.components import Component, Runs, components
from hauch.core.measure.procedure import Procedure
from hauch.stores.models import Rig

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


NEWEST_OF_PARTS = 400
"""So many runs tell the parts of the scatter: their covariance is worked with as a whole."""


def components_of(rig: Rig, how: Procedure) -> list[Component]:
    """What a procedure's figures on a rig scatter by, run to run, day to day, print to print, in y;
    empty where nothing was repeated.

    States of a rig are taken together by its name: a changed state has means of its own.
    """
    rows: QuerySet[Run] = Run.objects.filter(
        state=Run.State.VALID,
        rig__name=rig.name,
        test__procedure=how.key,
        result__value__isnull=False,
        carried_from__isnull=True,
    )
    if how.log:
        rows = rows.filter(result__value__gt=0)
    newest = list(
        rows.order_by("-started_at").values_list(
            "rig",
            "test",
            "setting",
            "specimen__version",
            "reference__type",
            "specimen",
            "reference",
            _day(),
            "result__value",
        )[:NEWEST_OF_PARTS]
    )
    if len(newest) < 2:
        return []
    groups = _numbers([row[:5] for row in newest])
    parts, days = _numbers([row[5:7] for row in newest]), _numbers([row[7] for row in newest])
    values = np.array([float(row[8] or 0.0) for row in newest])
    try:
        return components(Runs(np.log(values) if how.log else values, groups, parts, days))
    except ValueError:
        return []


def _numbers(keys: list[Any]) -> np.ndarray:
    """A number for each different key."""
    known: dict[Any, int] = {}
    return np.array([known.setdefault(key, len(known)) for key in keys])
