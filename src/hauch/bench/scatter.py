"""How a figure scatters from run to run on a rig, as its own history tells: for what was not
repeated, and for single runs.
"""

from __future__ import annotations

import math

from django.db.models import Count, F, QuerySet, Variance
from django.db.models.functions import Ln, TruncDate

from hauch.bench.models import Run
from hauch.core.judge.band import Scatter
from hauch.core.measure.procedure import Procedure

NEWEST = 1000


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
    y = Ln("result__value") if how.log else F("result__value")
    newest = rows.order_by("-started_at").values("pk")[:NEWEST]
    groups = (
        Run.objects.filter(pk__in=newest)
        .order_by()
        .values("test", "setting", "specimen", "reference", day=TruncDate("started_at"))
        .annotate(count=Count("id"), variance=Variance(y, sample=True))
        .filter(count__gt=1)
        .values_list("count", "variance")
    )
    found = list(groups)
    dof = sum(count - 1 for count, _ in found)
    if not dof:
        return None
    return Scatter(math.sqrt(sum((count - 1) * v for count, v in found) / dof), float(dof))
