"""Two people change one thing at once: a form carries what it began from, takes over what somebody
else changed meanwhile where this person did not, and asks where both changed the same.
"""

from __future__ import annotations

import json
from typing import Any

from django import forms
from django.core.exceptions import ValidationError

from hauch.formats.json_in import read_json

BEGAN = "began"
"""The hidden field with what the page showed at first."""


class Meanwhile(forms.BaseForm):
    """Before another form among the bases of a form that changes what is there already; its own
    ``__init__`` ends with `begin`.
    """

    fleeting: frozenset[str] = frozenset({"reason", "change"})
    """Fields that are of the change and not of what is changed."""

    def begin(self, *, new: bool = False) -> None:
        """Note what the page begins from; ``new`` where there was nothing before."""
        self.taken_over: list[str] = []
        self.both: dict[str, str] = {}
        if new:
            return
        self.now = {
            name: self._shown(name) for name in self.fields if name not in self.fleeting
        } | self.beside()
        self.fields[BEGAN] = forms.CharField(
            required=False, widget=forms.HiddenInput, initial=json.dumps(self.now)
        )
        if self.is_bound:
            self._merge()

    def beside(self) -> dict[str, str]:
        """What the form changes besides its fields, by what it is called, such as lines of a table."""
        return {}

    def _shown(self, name: str) -> str:
        """What stands in a field that nobody has touched."""
        field = self.fields[name]
        value = field.prepare_value(self.get_initial_for_field(field, name))
        if isinstance(field.widget, forms.CheckboxInput):
            return "on" if value else ""
        shown = field.widget.format_value(value)
        if isinstance(shown, list):
            return "\n".join(str(one) for one in shown)
        return "" if shown is None else str(shown)

    def _typed(self, name: str) -> str:
        field = self.fields[name]
        value = field.widget.value_from_datadict(self.data, self.files, self.add_prefix(name))
        if isinstance(field.widget, forms.CheckboxInput):
            return "on" if value else ""
        return "" if value is None else str(value).replace("\r\n", "\n")

    def _merge(self) -> None:
        try:
            began = read_json(self.data.get(self.add_prefix(BEGAN)) or "{}")
        except ValueError:
            began = {}
        if not isinstance(began, dict) or not began:
            return
        self.data = self.data.copy()  # type: ignore[attr-defined]  # of a request it is a QueryDict
        for name, now in self.now.items():
            before = str(began.get(name, now)).replace("\r\n", "\n")
            if before == now.replace("\r\n", "\n"):
                continue
            if name not in self.fields:
                self.both[name] = ""
            elif self._typed(name) == before:
                self._take_over(name, now)
            elif self._typed(name) != now.replace("\r\n", "\n"):
                self.both[name] = now
        self.data[self.add_prefix(BEGAN)] = json.dumps(self.now)  # type: ignore[index]
        # Saved again, it is meant.

    def _take_over(self, name: str, now: str) -> None:
        key = self.add_prefix(name)
        if isinstance(self.fields[name].widget, forms.CheckboxInput) and not now:
            self.data.pop(key, None)  # type: ignore[attr-defined]
        else:
            self.data[key] = now  # type: ignore[index]
        self.taken_over.append(str(self.fields[name].label or name))

    def clean(self) -> Any:
        """Ask where two people changed the same."""
        cleaned = super().clean()
        self.cleaned_data.pop(BEGAN, None)  # it is of the page and not of what is changed
        for name, now in self.both.items():
            if name in self.fields:
                said = f"“{now[:80]}”" if now else "nothing"
                self.add_error(
                    name,
                    f"Somebody changed this to {said} while you wrote. Save again to put yours in its"
                    " place, or type theirs.",
                )
            else:
                raise ValidationError(
                    f"Somebody changed {name} while you wrote. Look at the page in another tab; save"
                    " again to put yours in its place."
                )
        return cleaned

    @property
    def taken_over_told(self) -> str:
        """What was taken over, in a sentence; empty where nothing was."""
        if not self.taken_over:
            return ""
        return f" Kept with it what somebody else changed meanwhile: {', '.join(self.taken_over)}."
