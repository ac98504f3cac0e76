"""What is typed about the house: machines, hours, deadlines."""

from __future__ import annotations

from django import forms

from hauch.plan.models import Machine
from hauch.stores.models import Material
from hauch.ui.fields import FigureField, offer

SIZES = {
    "width": "Bed, left to right",
    "depth": "Bed, front to back",
    "height": "Height",
}


class MachineForm(forms.ModelForm):
    """A printer or an oven."""

    class Meta:
        model = Machine
        fields = [
            "name",
            "kind",
            "width",
            "depth",
            "height",
            "material",
            "nights",
            "loud",
            "retired",
        ]
        labels = {
            "kind": "It is",
            "material": "Loaded with",
            "nights": "May print with nobody there",
            "loud": "Is heard at noise readings",
            "retired": "No longer in use",
        }
        help_texts = dict.fromkeys(("width", "depth", "height", "material", "nights", "loud"), "")

    def __init__(self, *args, units: str, **kwargs) -> None:
        super().__init__(*args, **kwargs)
        offer(self, "material", Material.objects.filter(retired=False))
        for name, label in SIZES.items():
            self.fields[name] = FigureField(
                kind="length", units=units, label=label, low=0, initial=self.fields[name].initial
            )
