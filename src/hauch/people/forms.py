"""What a person sets for themselves."""

from __future__ import annotations

from typing import Any

from django import forms

from hauch.core.quantity.units import CHOICES, KINDS
from hauch.people.models import User


class UnitsForm(forms.ModelForm):
    """A preset, and other units for single kinds of figures."""

    class Meta:
        model = User
        fields = ["preset"]
        widgets = {"preset": forms.RadioSelect}

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **kwargs)
        for kind, units in CHOICES.items():
            self.fields[f"unit_{kind}"] = forms.ChoiceField(
                label=KINDS[kind].label,
                required=False,
                choices=[("", "as above"), *((u, u) for u in units)],
                initial=self.instance.own_units.get(kind, ""),
            )

    @property
    def own(self) -> list[Any]:
        """Fields of single kinds."""
        return [self[f"unit_{kind}"] for kind in CHOICES]

    def save(self, commit: bool = True) -> User:
        """Keep the units that differ from the preset."""
        self.instance.own_units = {
            kind: unit for kind in CHOICES if (unit := self.cleaned_data.get(f"unit_{kind}"))
        }
        saved: User = super().save(commit)
        return saved
