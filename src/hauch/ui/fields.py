"""Form fields for figures, written and read in the person's units."""

from __future__ import annotations

import math
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.forms.fields import InvalidJSONInput
from django.http import HttpRequest, QueryDict

from hauch.core.quantity.typed import parse_number, typed_figure
from hauch.core.quantity.units import KINDS, factor_from_si, from_si
from hauch.formats.json_in import read_json


def sent(request: HttpRequest) -> QueryDict | None:
    """What a form is bound to: everything that was posted, even nothing; None while it is only
    looked at.
    """
    return request.POST if request.method == "POST" else None


class NumberInput(forms.TextInput):
    """A text field with the number keys of a phone."""

    def __init__(self, attrs=None):
        super().__init__({"inputmode": "decimal", "autocomplete": "off", **(attrs or {})})


class JsonField(forms.JSONField):
    """Typed JSON, as far as it can be stored."""

    def to_python(self, value: Any) -> Any:
        """The parsed value; a sentence for what is none, or nested without end."""
        if not self.disabled and isinstance(value, str) and value not in self.empty_values:
            try:
                read_json(value)
            except ValueError as problem:
                raise ValidationError(
                    self.error_messages["invalid"], code="invalid", params={"value": value[:40]}
                ) from problem
        return super().to_python(value)

    def bound_data(self, data: Any, initial: Any) -> Any:
        """What was typed, as it was typed where it cannot be parsed."""
        try:
            return super().bound_data(data, initial)
        except (ValueError, RecursionError):
            return InvalidJSONInput(data)


LONGEST = 40
"""Characters of a typed figure."""


class FigureField(forms.Field):
    """A figure of a kind: shown and typed in the person's unit, clean value in SI (None when
    empty).

    ``difference`` converts without an offset, for doubts and limits.
    """

    widget = NumberInput

    def __init__(
        self,
        *,
        kind: str = "number",
        units: str = "workshop",
        difference: bool = False,
        low: float | None = None,
        **kwargs: Any,
    ):
        self.kind, self.written, self.difference, self.low = (
            kind,
            KINDS[kind].shown[units],
            difference,
            low,
        )
        label = kwargs.pop("label", KINDS[kind].label)
        super().__init__(label=f"{label}, {self.written}" if self.written else label, **kwargs)
        self.widget.attrs["maxlength"] = LONGEST

    def prepare_value(self, value: Any) -> Any:
        """SI value -> as it stands in the field; what was typed stays as it is."""
        if value is None or isinstance(value, str):
            return value
        shown = (
            value * factor_from_si(self.written, self.kind)
            if self.difference
            else float(from_si(value, self.written, self.kind))
        )
        return f"{shown:.9g}"

    def has_changed(self, initial: Any, data: Any) -> bool:
        """Whether something else was typed than what stood there; a figure that was left alone
        keeps all its digits.
        """
        return str(self.prepare_value(initial) or "") != (data or "").strip()

    def to_python(self, value: Any) -> float | None:  # type: ignore[override]
        """Text -> SI value."""
        text = str(value or "").strip()
        if not text:
            return None
        if len(text) > LONGEST:
            raise ValidationError(f"“{text[:12]}…” is too long for a figure.")
        try:
            value, number, _ = typed_figure(
                text, self.kind, self.written, difference=self.difference
            )
        except ValueError as problem:
            raise ValidationError(str(problem)) from problem
        if not math.isfinite(value):
            raise ValidationError(f"“{text}” is not a number.")
        if self.low is not None and parse_number(number) < self.low:
            raise ValidationError(f"{text} cannot be; it must be {self.low:g} or more.")
        return value


def kept_figure(form: forms.BaseForm, name: str) -> float | None:
    """A figure of a form: as typed, or with all the digits that it had where it was left alone."""
    if name in form.changed_data:
        return form.cleaned_data.get(name)
    return form.get_initial_for_field(form.fields[name], name)


def offer(form: forms.BaseForm, name: str, what: Any) -> None:
    """Set what a field of choices offers: pairs, or rows for a field of rows."""
    field = form.fields[name]
    if isinstance(field, forms.ModelChoiceField):
        field.queryset = what
    elif isinstance(field, forms.ChoiceField):
        field.choices = what
    else:
        raise TypeError(f"{name} offers no choices")
