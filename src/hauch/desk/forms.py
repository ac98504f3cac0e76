"""Forms of the Desk: the inputs of a tool, written and read in the person's units."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict

from hauch.core.quantity import standard_of
from hauch.core.quantity.units import KINDS
from hauch.desk.models import Around
from hauch.desk.queries import designs_of, fitting_rounds, rigs
from hauch.desk.search import AIMS, FIGURES
from hauch.desk.tools.base import Input, Rows, Tool
from hauch.people.models import User
from hauch.ui.fields import FigureField, offer

MOST_COMPARED = 3
END = ("hub", "", "middle", "", "tip")
"""Names of the five points along the radius."""


def _field(item: Input, units: str) -> forms.Field:
    if item.kind == "choice":
        return forms.ChoiceField(label=item.label, choices=item.choices)
    if item.kind == "text":
        return forms.CharField(label=item.label, max_length=20, required=False)
    kind = "number" if item.kind == "count" else item.kind
    return FigureField(kind=kind, units=units, label=item.label, help_text=item.note)


class ToolForm(forms.Form):
    """The inputs of a tool. ``values()`` gives them in SI; what is left out or wrong becomes a
    sentence by its input.
    """

    def __init__(
        self,
        tool: Tool,
        data: QueryDict | None,
        *,
        units: str,
        initial: dict[str, Any],
        rounded: bool = False,
        user: User | None = None,
    ):
        self.tool, self.units, self.start, self.rounded = tool, units, initial, rounded
        super().__init__(data)
        for item in tool.inputs:
            if item.points > 1:
                for k in range(item.points):
                    self.fields[f"{item.key}_{k}"] = self._with_start(
                        _field(item, units), initial[item.key][k]
                    )
                    self.fields[f"{item.key}_{k}"].label = f"{item.label}, {END[k] or k + 1}"
            else:
                self.fields[item.key] = self._with_start(_field(item, units), initial[item.key])
        for key, item_of in self._row_fields(initial if data is None else None):
            self.fields[key] = item_of
        if tool.rig:
            self.fields["rig"] = forms.ModelChoiceField(
                rigs(), required=False, label="On the rig", empty_label="none: the system below"
            )
        if user is not None and tool.extent is not None:
            self.fields["fit"] = forms.ModelChoiceField(
                fitting_rounds(user, tool.parts),
                required=False,
                label="Must fit",
                empty_label="no envelope",
            )
        if user is not None and tool.drives:
            self.fields["load"] = forms.ModelChoiceField(
                designs_of(user, "rotor"),
                required=False,
                label="Drives the rotor",
                empty_label="none: the power below",
            )

    def _with_start(self, field: forms.Field, start: Any) -> forms.Field:
        """A start value in the person's unit: four digits of a tool's, six of a design's, which
        changes none by more than a millionth.
        """
        if isinstance(field, FigureField) and start is not None:
            start = f"{float(field.prepare_value(start)):.{4 if self.rounded else 6}g}"
        field.initial = start
        return field

    def _row_fields(self, initial: dict[str, Any] | None) -> list[tuple[str, forms.Field]]:
        made = []
        for rows in self.tool.rows:
            for i in range(self.count(rows, initial)):
                for column in rows.columns:
                    field = self._with_start(
                        _field(column, self.units),
                        (
                            initial[rows.key][i][column.key]
                            if initial and i < len(initial[rows.key])
                            else None
                        ),
                    )
                    field.required = False
                    made.append((f"{rows.key}_{i}_{column.key}", field))
        return made

    def count(self, rows: Rows, initial: dict[str, Any] | None) -> int:
        """How many rows the form shows: those that are there and an empty one to add to."""
        if initial is not None:
            return min(len(initial[rows.key]) + 1, rows.most)
        first = rows.columns[0].key
        return next(
            (i for i in range(rows.most) if f"{rows.key}_{i}_{first}" not in self.data), rows.most
        )

    def groups(self) -> list[tuple[str, list[dict[str, Any]]]]:
        """Inputs by group as the template shows them."""
        found: dict[str, list[dict[str, Any]]] = {}
        for item in self.tool.inputs:
            shown = (
                ""
                if item.shown_with is None
                else f"{item.shown_with[0]}={','.join(item.shown_with[1])}"
            )
            entry: dict[str, Any]
            if item.points > 1:
                unit = KINDS[item.kind].shown[self.units]
                entry = {
                    "curve": item.key,
                    "label": item.label,
                    "unit": unit,
                    "points": [self[f"{item.key}_{k}"] for k in range(item.points)],
                    "shown": shown,
                }
            else:
                entry = {"field": self[item.key], "shown": shown}
            found.setdefault(item.group, []).append(entry)
        return list(found.items())

    def tables(self) -> list[dict[str, Any]]:
        """Rows of inputs as the template shows them."""
        made = []
        for rows in self.tool.rows:
            units = [
                KINDS[c.kind].shown[self.units] if c.kind in KINDS else "" for c in rows.columns
            ]
            count = self.count(rows, None if self.is_bound else self.start)
            cells = [[self[f"{rows.key}_{i}_{c.key}"] for c in rows.columns] for i in range(count)]
            made.append(
                {"rows": rows, "heads": list(zip(rows.columns, units, strict=True)), "cells": cells}
            )
        return made

    def values(self) -> tuple[dict[str, Any], dict[str, str]]:
        """Values in SI, and a sentence for each input that cannot be read."""
        self.is_valid()
        problems = {
            key: f"{self.fields[key].label}: {errors[0]}" for key, errors in self.errors.items()
        }
        values: dict[str, Any] = {}
        for item in self.tool.inputs:
            if item.points > 1:
                values[item.key] = [
                    self.cleaned_data.get(f"{item.key}_{k}") for k in range(item.points)
                ]
            else:
                values[item.key] = self.cleaned_data.get(item.key)
        for rows in self.tool.rows:
            values[rows.key] = self._rows_of(rows)
        return values, problems

    def _rows_of(self, rows: Rows) -> list[dict[str, Any]]:
        made = []
        figures = [c for c in rows.columns if c.kind not in {"choice", "text"}]
        for i in range(self.count(rows, None)):
            row = {c.key: self.cleaned_data.get(f"{rows.key}_{i}_{c.key}") for c in rows.columns}
            given = [row[c.key] for c in figures if row[c.key] is not None]
            if given or any(f"{rows.key}_{i}_{c.key}" in self.errors for c in figures):
                made.append(
                    {
                        key: (
                            next(c.start for c in rows.columns if c.key == key)
                            if value is None
                            else value
                        )
                        for key, value in row.items()
                    }
                )
        return made

    def around(self) -> Around:
        """The chosen rig, envelope and rotor, each None where there is none."""
        return Around(*(self.cleaned_data.get(key) for key in ("rig", "fit", "load")))

    def choices(self) -> list[Any]:
        """The fields of what surrounds a design."""
        return [self[key] for key in ("rig", "fit", "load") if key in self.fields]


class SearchForm(forms.Form):
    """What a search aims at and what it must keep."""

    aim = forms.ChoiceField(label="Aim", choices=[(a.key, a.label) for a in AIMS.values()])

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        labels = {
            "power": "At most this electrical power",
            "sound": "At most this sound power",
            "flow": "At least this flow",
            "pressure": "At least this pressure",
        }
        for key, label in labels.items():
            self.fields[f"limit_{key}"] = FigureField(
                kind=FIGURES[key][0], units=units, label=label, required=False, low=0
            )
        self.fields["limit_depth"] = FigureField(
            kind="length", units=units, label="Blades at most this deep", required=False, low=0
        )

    def limits(self) -> dict[str, float]:
        """Limits that were set, SI."""
        return {
            k.removeprefix("limit_"): v
            for k, v in self.cleaned_data.items()
            if k.startswith("limit_") and v is not None
        }


class MeasuredForm(forms.Form):
    """A measured value for one figure of a design, on a rig."""

    measured_rig = forms.ModelChoiceField(rigs(), label="Measured on", empty_label=None)
    figure = forms.ChoiceField(label="Figure")

    def __init__(self, *args: Any, units: str, figures: list[tuple[str, str, str]], **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.kinds = {key: kind for key, _, kind in figures}
        self.units = units
        shown = [(key, f"{label}, {KINDS[kind].shown[units]}") for key, label, kind in figures]
        offer(self, "figure", shown)
        self.fields["measured"] = forms.CharField(
            label="Measured", max_length=40, error_messages={"required": "Type what was measured."}
        )
        self.fields["half"] = forms.CharField(label="± (95 %)", max_length=40, required=False)

    def clean(self) -> dict[str, Any]:
        """Bring the figures to SI by the unit of the chosen figure."""
        data = super().clean() or {}
        kind = self.kinds.get(data.get("figure", ""), "number")
        for name in ("measured", "half"):
            try:
                data[name] = FigureField(
                    kind=kind, units=self.units, required=False, difference=name == "half"
                ).clean(data.get(name) or "")
            except ValidationError as problem:
                self.add_error(name, problem)
        return data


class PredictionForm(forms.Form):
    """A designer's own prediction for one kind of test."""

    def __init__(self, *args: Any, units: str, procedures: list[Any], **kwargs: Any):
        super().__init__(*args, **kwargs)
        for how in procedures:
            self.fields[how.key] = FigureField(
                kind=how.kind, units=units, label=how.metric.capitalize(), required=False
            )
            self.fields[f"{how.key}_half"] = FigureField(
                kind=how.kind, units=units, label="±", required=False, difference=True, low=0
            )

    def entered(self) -> dict[str, tuple[float | None, float]]:
        """Value and standard uncertainty by procedure; None where a field was left empty."""
        keys = [k for k in self.fields if not k.endswith("_half")]
        return {
            k: (self.cleaned_data.get(k), standard_of(self.cleaned_data.get(f"{k}_half") or 0.0))
            for k in keys
        }
