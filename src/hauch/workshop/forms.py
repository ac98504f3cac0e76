"""Forms of the workshop, in the person's units."""

from __future__ import annotations

import math
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict

from hauch.core.part.printing import USUAL
from hauch.entries.models import Entry, Version
from hauch.stores.models import Material
from hauch.ui.fields import FigureField, kept_figure, offer
from hauch.ui.meanwhile import Meanwhile
from hauch.workshop.models import Measure, Specimen, WorkStep

MOST_CHOICES = 100
"""Rounds with more versions ask for the entry's name instead of offering a list."""
PLACES = 4


class VersionChoice(forms.ModelChoiceField):
    def label_from_instance(self, version):
        return f"{version.entry.name}, version {version.number}"


class SpecimenForm(forms.Form):
    version = VersionChoice(Version.objects.none(), label="Printed of")
    code = forms.CharField(
        max_length=20,
        label="Code on the part",
        required=False,
        help_text="empty: the next one of its entry",
    )
    state = forms.ChoiceField(
        choices=[(s.value, s.label) for s in (Specimen.State.PRINTED, Specimen.State.PLANNED)],
        required=False,
        label="It is",
    )
    printed_in = forms.ModelChoiceField(
        Material.objects.filter(retired=False),
        required=False,
        label="Printed in",
        empty_label="as its designer wishes",
    )
    material = forms.CharField(max_length=40, required=False, label="Spool")
    mass_g = forms.FloatField(required=False, label="Mass, g", min_value=0.001, max_value=99_999)
    due = forms.DateField(
        required=False,
        label="Due on",
        widget=forms.DateInput(format="%Y-%m-%d", attrs={"type": "date"}),
    )

    def __init__(self, *args, round, **kwargs):
        super().__init__(*args, **kwargs)
        self.round = round
        if Version.objects.filter(entry__round=round).count() > MOST_CHOICES:
            self.fields["version"] = forms.CharField(
                max_length=60, label="Printed of: name of the entry"
            )
            return
        versions = Version.objects.filter(
            entry__round=round, entry__state=Entry.State.IN
        ).select_related("entry")
        offer(self, "version", versions.order_by("entry__name", "number"))

    def clean_version(self):
        """The chosen version, or the newest one of a typed entry."""
        version = self.cleaned_data["version"]
        if isinstance(version, Version):
            return version
        entries = Version.objects.filter(
            entry__round=self.round,
            entry__state=Entry.State.IN,
            entry__name__iexact=version.strip(),
        )
        newest = entries.select_related("entry").order_by("-number").first()
        if newest is None:
            raise forms.ValidationError(f"No entry of this round is named “{version}”.")
        return newest

    def clean_state(self):
        """Printed, unless it is planned."""
        return self.cleaned_data["state"] or Specimen.State.PRINTED


class OwnIds(forms.BaseForm):
    """For forms that stand together on one page: each has ids of its own, so that a label finds its
    field.
    """

    ids = ""

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.auto_id = f"{self.ids}_%s"


class PrintForm(OwnIds, Meanwhile, forms.ModelForm):
    """Material, settings, mass, due day and note; figures in the person's units."""

    ids = "print"
    FIGURES = (
        ("layer", "length", "Layer"),
        ("line", "length", "Line"),
        ("mass", "mass", "Mass as weighed"),
    )

    class Meta:
        model = Specimen
        fields = ["printed_in", "material", "walls", "due", "note"]
        labels = {
            "printed_in": "Printed in",
            "material": "Spool",
            "walls": "Walls",
            "due": "Due on",
        }
        widgets = {
            "note": forms.Textarea(attrs={"rows": 2}),
            "due": forms.DateInput(format="%Y-%m-%d", attrs={"type": "date"}),
        }

    infill = FigureField(kind="percent", label="Infill", low=0)
    field_order = [
        "printed_in",
        "material",
        "layer",
        "line",
        "walls",
        "infill",
        "mass",
        "due",
        "note",
    ]

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        for name, kind, label in self.FIGURES:
            self.fields[name] = FigureField(
                kind=kind,
                units=units,
                label=label,
                required=name != "mass",
                initial=getattr(self.instance, name),
            )
        self.fields["infill"].initial = 100 * self.instance.infill
        self.order_fields(self.field_order)
        self.begin()

    def values(self) -> dict[str, Any]:
        """What was typed, in SI."""
        made = {name: self.cleaned_data[name] for name in self.Meta.fields}
        made |= {name: kept_figure(self, name) for name, _, _ in self.FIGURES}
        infill = kept_figure(self, "infill")
        return made | {"infill": USUAL.infill if infill is None else infill / 100}

    def _post_clean(self) -> None:
        """The action looks at the constraints, once for page and job."""


class PrintRunForm(OwnIds, forms.Form):
    ids = "log"
    machine = forms.CharField(max_length=60, label="Machine")
    hours = forms.FloatField(required=False, min_value=0.01, max_value=1999, label="Hours")
    failed = forms.BooleanField(required=False, label="It failed")
    note = forms.CharField(max_length=300, required=False, label="What was odd")


class StepForm(OwnIds, forms.Form):
    ids = "step"
    kind = forms.ChoiceField(choices=WorkStep.Kind.choices, label="Step")
    text = forms.CharField(max_length=300, label="In words")


class MeasureForm(OwnIds, forms.Form):
    """One size at up to four places."""

    ids = "measure"
    kind = forms.ChoiceField(choices=Measure.Kind.choices, label="Size")

    def __init__(self, data: QueryDict | None, *, units: str, spins: bool):
        super().__init__(data)
        rotor = {
            Measure.Kind.BORE,
            Measure.Kind.TIP_GAP,
            Measure.Kind.OUTER,
            Measure.Kind.DEPTH,
            Measure.Kind.WALL,
        }
        fitting = rotor if spins else set(Measure.Kind) - {Measure.Kind.TIP_GAP}
        offer(self, "kind", [(k.value, k.label) for k in Measure.Kind if k in fitting])
        for k in range(1, PLACES + 1):
            self.fields[f"place_{k}"] = FigureField(
                kind="length", units=units, label=f"Place {k}", required=False, low=0
            )

    def clean(self) -> dict[str, Any]:
        """At least one place."""
        data = super().clean() or {}
        if not self.errors and not self.values():
            raise ValidationError("Type at least one size.")
        return data

    def values(self) -> dict[int, float]:
        """Sizes by place [m]."""
        found = {k: self.cleaned_data.get(f"place_{k}") for k in range(1, PLACES + 1)}
        return {k: v for k, v in found.items() if v is not None}


class BalanceForm(OwnIds, forms.Form):
    """Readings without and with a trial mass."""

    ids = "balance"
    ANGLES = ("first_angle", "trial_angle", "second_angle")

    def __init__(self, data: QueryDict | None, *, units: str):
        super().__init__(data)
        for name, kind, label in (
            ("speed", "rotational_speed", "Speed"),
            ("first", "number", "Reading as it is"),
            ("first_angle", "angle", "… its angle"),
            ("trial", "mass", "Trial mass"),
            ("trial_radius", "length", "… its radius"),
            ("trial_angle", "angle", "… its angle"),
            ("second", "number", "Reading with it"),
            ("second_angle", "angle", "… its angle"),
        ):
            self.fields[name] = FigureField(
                kind=kind, units=units, label=label, low=None if name in self.ANGLES else 0
            )

    def values(self) -> dict[str, float]:
        """What was typed, in SI; angles within a turn."""
        return {
            n: v % (2 * math.pi) if n in self.ANGLES else v for n, v in self.cleaned_data.items()
        }
