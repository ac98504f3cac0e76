"""Results and standings of a round as tables of comma-separated values."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from hauch.bench.queries import runs
from hauch.core.quantity import significant
from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.formats.tables import to_csv
from hauch.rounds.models import Round, Test
from hauch.verdict.models import StandingRow


@dataclass(frozen=True, slots=True)
class InUnits:
    """Figures for a table: in SI as they are stored, or in a person's units."""

    system: str | None = None

    def unit(self, kind: str) -> str:
        """The unit that a kind is written in."""
        return KINDS[kind].shown[self.system] if self.system else KINDS[kind].unit

    def value(self, value: float | None, kind: str) -> float | None:
        """A figure [SI]."""
        if value is None or self.system is None:
            return value
        return significant(float(from_si(value, self.unit(kind), kind)))

    def spread(self, value: float | None, kind: str) -> float | None:
        """A difference or an uncertainty [SI]."""
        if value is None or self.system is None:
            return value
        return significant(value * factor_from_si(self.unit(kind), kind))


def results_csv(round: Round, units: str | None = None) -> str:
    """One line for each run: what was run, and its result with doubt; in SI, or in a system of
    units.
    """
    shown = InUnits(units)
    header = [
        "test",
        "procedure",
        "setting",
        "entry",
        "version",
        "specimen",
        "reference",
        "repeat",
        "started_at",
        "state",
        "reason",
        f"room temperature [{shown.unit('temperature')}]",
        f"room pressure [{shown.unit('air_pressure')}]",
        "room humidity [%]",
        "value",
        "standard_uncertainty",
        "unit",
        "as_read",
        "missing",
        "core_version",
    ]
    rows = []
    for run in (
        runs().with_names().filter(test__round=round).order_by("test__order", "started_at", "uid")
    ):
        result, kind = getattr(run, "result", None), run.test.how.kind
        figures = (
            [
                shown.value(result.value, kind),
                shown.spread(result.u, kind),
                shown.unit(kind) if result.value is not None else "",
                shown.value(result.as_read, kind),
                result.missing,
                result.core_version,
            ]
            if result
            else [None] * 6
        )
        rows.append(
            [
                run.test.key,
                run.test.procedure,
                run.setting.label,
                run.specimen.version.entry.name if run.specimen else "",
                run.specimen.version.number if run.specimen else "",
                run.specimen.code if run.specimen else "",
                str(run.reference) if run.reference else "",
                run.replicate,
                run.started_at.isoformat(),
                run.state,
                run.reason,
                shown.value(run.temperature, "temperature"),
                shown.value(run.pressure, "air_pressure"),
                run.humidity,
                *figures,
            ]
        )
    return to_csv(header, rows)


def standing_csv(round: Round, units: str | None = None) -> str:
    """One line for each entry and version of the rules; in SI, or in a system of units. A change is
    in percent, or in the unit that the test compares in.
    """
    shown, tests = InUnits(units), list(round.tests.all())
    header = [
        "rules",
        "place",
        "rank",
        "entry",
        "state",
        "score_percent",
        "score_u",
        "first_probability",
        "place_low",
        "place_high",
        "reason",
        *(f"{test.key} {column}" for test in tests for column in _columns(test, shown)),
    ]
    rows = []
    query = StandingRow.objects.filter(standing__rules__round=round).select_related(
        "entry", "standing__rules"
    )
    for row in query.order_by("-standing__rules__number", "place"):
        cells = [
            cell for test in tests for cell in _cells(row.tests.get(test.key, {}), test, shown)
        ]
        rows.append(
            [
                row.standing.rules.number,
                row.place,
                row.rank,
                row.entry.name,
                row.state,
                row.score,
                row.u,
                row.first,
                row.low,
                row.high,
                row.reason,
                *cells,
            ]
        )
    return to_csv(header, rows)


def _columns(test: Test, shown: InUnits) -> tuple[str, ...]:
    unit, change = shown.unit(test.how.kind), test.how.change_unit
    written = f" [{unit}]" if unit else ""
    return (
        f"value{written}",
        f"standard uncertainty{written}",
        f"change [{change}]",
        f"change, 95 % [{change}]",
        "word",
    )


def _cells(cell: dict[str, Any], test: Test, shown: InUnits) -> list[Any]:
    kind = test.how.kind
    return [
        shown.value(cell.get("value"), kind),
        shown.spread(cell.get("u"), kind),
        cell.get("change"),
        cell.get("change_expanded"),
        cell.get("word"),
    ]
