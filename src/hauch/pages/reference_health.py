"""The health of references: does each repeat, does it hold, what ties one to the next, what can be
compared.
"""

from __future__ import annotations

import math
from collections import defaultdict
from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
from django.db.models import F, Sum
from django.db.models.functions import Coalesce
from django.utils import timezone

from hauch.bench.models import Run
from hauch.bench.queries import versions_in
from hauch.core.judge.control import Baseline, ControlChart, baseline, control_chart
from hauch.core.judge.field import TestData, compared
from hauch.core.measure.procedure import Procedure
from hauch.core.quantity import expanded
from hauch.core.quantity.show import show_plain
from hauch.people.models import User
from hauch.people.permissions import allowed
from hauch.rounds.models import Round, Test, TestReference
from hauch.rounds.queries import procedures_of, round_tests, rounds_of
from hauch.stores.models import ReferenceSpecimen
from hauch.verdict.compute import entries_in_order, measured_tests, sources_of

DRAWN = 400
"""Most runs that a chart shows; older ones count but are not drawn."""


@dataclass(frozen=True)
class Series:
    """Runs of one specimen on one rig in one state, in one way of testing, in order of time."""

    specimen_id: int
    rig: str
    rig_id: int
    label: str
    how: Procedure
    runs: list[tuple[int, datetime, float]]
    chart: ControlChart

    @property
    def per_y(self) -> float:
        """How much of the unit in which changes are told one unit of y is."""
        return 100.0 if self.how.log else 1.0

    @property
    def sentence(self) -> str:
        """What the chart says."""
        c, unit = self.chart, self.how.change_unit
        if not c.ready:
            return f"{len(self.runs)} runs; limits need at least 8."
        shift = show_plain(
            self.per_y * c.shift, unit, self.per_y * float(c.ewma_half[-1]), sign=True
        )
        if c.since is not None:
            when = self.runs[c.since][1]
            return (
                f"Drifted by {shift} since {timezone.localtime(when):%d %b %Y}: more than its scatter explains. Look"
                " for wear, dirt or a changed rig, or change to another specimen."
            )
        outside = int(c.outside.sum())
        lone = f", {outside} single {'run' if outside == 1 else 'runs'} outside" if outside else ""
        far = int(c.far_off.sum())
        without = f" without {far} far off {'it' if far == 1 else 'them'}" if far else ""
        return f"Holds: {shift} from its first {c.base + far} runs{without}{lone}."

    def drawn(self) -> dict[str, Any]:
        """Data of the chart, as change against the centre."""
        c, first = self.chart, max(len(self.runs) - DRAWN, 0)

        def told(y):
            return self.per_y * (math.expm1(y - c.centre) if self.how.log else y - c.centre)

        points = [
            {
                "n": n + 1,
                "run": pk,
                "at": at.isoformat(),
                "y": told(c.y[n]),
                "ewma": told(c.ewma[n]),
                "low": told(c.centre - c.ewma_half[n]),
                "high": told(c.centre + c.ewma_half[n]),
                "what": "outside" if c.outside[n] else "drifting" if c.drifting[n] else "inside",
            }
            for n, (pk, at, _) in enumerate(self.runs)
            if n >= first
        ]
        return {
            "points": points,
            "limit": self.per_y * c.half,
            "unit": self.how.change_unit,
            "ready": c.ready,
        }


def series_of(
    rounds: list[Round], specimens: list[int] | None = None, *, as_read: bool = False
) -> list[Series]:
    """Control charts of reference specimens over the runs of some rounds, alarms first; one query.

    ``as_read`` takes figures as they were read: then the weather is in them.
    """
    rows = Run.objects.filter(
        test__round__in=rounds,
        reference__isnull=False,
        state=Run.State.VALID,
        result__value__isnull=False,
        carried_from__isnull=True,
    )
    if specimens is not None:
        rows = rows.filter(reference__in=specimens)
    names = ("test__label", "rig__name", "rig__state", "id", "started_at", "figure")
    keys = (
        "reference_id",
        "rig_id",
        "test__procedure",
        "setting__label",
        "test__common_speed",
        "test__reporting_distance",
    )
    groups: dict[tuple, list[tuple]] = defaultdict(list)
    value = F("result__value")
    rows = rows.annotate(figure=Coalesce("result__as_read", value) if as_read else value)
    for row in rows.order_by("started_at", "id").values_list(*keys, *names):
        groups[row[:6]].append(row[6:])
    found = []
    procedures = procedures_of({key[2] for key in groups})
    for key, runs in groups.items():
        how = procedures[key[2]]
        values = np.array([run[5] for run in runs])
        if how.log and not np.all(values > 0):
            continue
        label, rig, state = runs[-1][:3]
        chart = control_chart(np.log(values) if how.log else values)
        found.append(
            Series(
                key[0],
                rig if state == 1 else f"{rig}, state {state}",
                key[1],
                label,
                how,
                [run[3:6] for run in runs],
                chart,
            )
        )
    return sorted(found, key=lambda s: (not s.chart.alarm, s.rig, s.label, s.specimen_id))


def bench_rounds(user: User) -> list[Round]:
    """Rounds whose bench a person may see."""
    return [round for round in rounds_of(user) if allowed(user, "bench.view", round)]


def hours_of(specimen: ReferenceSpecimen) -> float:
    """Hours that a specimen has run: before, and in all its runs."""
    return specimen.hours + (
        specimen.runs.filter(carried_from__isnull=True).aggregate(sum=Sum("hours"))["sum"] or 0.0
    )


def alarms(rounds: list[Round]) -> list[tuple[ReferenceSpecimen, Series]]:
    """References in use in some rounds that have drifted, in two queries."""
    rows = TestReference.objects.filter(
        test__round__in=rounds, until__isnull=True, bridging=False
    ).select_related("specimen__type")
    in_use = {row.specimen_id: row.specimen for row in rows}
    if not in_use:
        return []
    return [
        (in_use[series.specimen_id], series)
        for series in series_of(rounds, list(in_use))
        if series.chart.alarm
    ]


@dataclass(frozen=True)
class Care:
    """One test's reference: the specimen in use, those beside it, how it repeats, bridges, and what
    cannot be compared.
    """

    test: Test
    active: TestReference | None
    beside: list[TestReference]
    past: list[TestReference]
    base: str
    baseline: Baseline | None
    bridges: list[dict[str, Any]]
    left_out: int
    runs: int

    @property
    def per_y(self) -> float:
        """How much of the unit in which changes are told one unit of y is."""
        return 100.0 if self.test.how.log else 1.0

    @property
    def sentence(self) -> str:
        """Whether the ground line stands."""
        unit, b = self.test.how.change_unit, self.baseline
        if self.active is None and self.past:
            return (
                f"No reference is in use since {self.past[-1].specimen.serial}: runs so far are"
                " compared with it, the next ones with nothing. Bring one in."
            )
        if self.active is None:
            return "No reference is in use: entries cannot be compared. Bring one in."
        if b is None or b.count == 0:
            return (
                f"{self.active.specimen.serial} has no run with a result yet. Run it until it repeats before the"
                " first entry."
            )
        if b.settled:
            return (
                f"{self.active.specimen.serial} repeats: its mean is known to ±"
                f" {self.per_y * b.half_width:.2g} {unit}, {self.per_y * b.goal:g} {unit} are"
                " asked."
            )
        if b.trend:
            return (
                f"{self.active.specimen.serial} still creeps from run to run. Let it run warm, or"
                " look for wear, and repeat."
            )
        known = (
            f"known to ± {self.per_y * b.half_width:.3g} {unit}, "
            if math.isfinite(b.half_width)
            else ""
        )
        more = (
            f"about {b.further} more {'run' if b.further == 1 else 'runs'} of it would do"
            if b.further
            else "more runs alone will not do: look at the rig"
        )
        return (
            f"{self.active.specimen.serial} does not repeat well enough yet:"
            f" {known}{self.per_y * b.goal:g} {unit} are asked; {more}."
        )


def care_of(round: Round) -> list[Care]:
    """The reference of each test of a round."""
    racing = {entry.pk: n for n, entry in enumerate(entries_in_order(round))}
    rows: dict[int, list[TestReference]] = defaultdict(list)
    for row in (
        TestReference.objects.filter(test__round=round)
        .select_related("specimen__type")
        .order_by("since", "id")
    ):
        rows[row.test_id].append(row)
    tests = round_tests(round)
    measured, names = measured_tests(
        sources_of(tests), versions_in(round.entries.filter(pk__in=racing))
    )
    return [
        _care(test, compared(one, racing, names), rows[test.pk], names)
        for test, one in zip(tests, measured, strict=True)
    ]


def _care(
    test: Test, data: TestData, rows: list[TestReference], names: dict[int, tuple[str, str]]
) -> Care:
    active = next((row for row in rows if row.until is None and not row.bridging), None)
    c = data.comparison
    held = None
    if active is not None:
        mine = np.array([pk == active.specimen_id for pk in data.specimens], dtype=bool)
        y = data.reference.y[mine[data.reference.subject]] if data.reference.size else np.zeros(0)
        held = baseline(y, test.baseline / (100.0 if test.how.log else 1.0))
    told = 100.0 if test.how.log else 1.0
    bridges = []
    for index, specimen in enumerate(data.specimens):
        if index == data.base:
            continue
        found = c.bridges.get(index) if c else None
        bridges.append(
            {
                "serial": names[specimen][0],
                "change": told * found[0] if found else None,
                "half": told * expanded(found[1], c.dof) if c and c.has_doubt and found else None,
                "pairs": found[2] if found else 0,
            }
        )
    base = names[data.specimens[data.base]][0] if data.specimens else ""
    open_rows = [row for row in rows if row.until is None and row.bridging]
    past = [row for row in rows if row.until is not None]
    return Care(
        test,
        active,
        open_rows,
        past,
        base,
        held,
        bridges,
        len(c.left_out) if c else data.entries.size,
        data.entries.size,
    )
