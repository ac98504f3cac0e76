"""Forms of the stores, in the person's units."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict

from hauch.core.measure.channels import CHANNELS, SPEEDS, Channel
from hauch.core.measure.rigs import RIGS, RigKind
from hauch.core.quantity import expanded, standard_of
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.instruments.profile import Profile, ProfileWrong, presets
from hauch.people.clock import house_day
from hauch.stores.models import Instrument, Material, ReferenceSpecimen, Rig, channel_choices
from hauch.ui.fields import FigureField, JsonField, NumberInput, kept_figure
from hauch.ui.meanwhile import Meanwhile

MOST_POINTS = 60
FURTHER = SPEEDS[1:]
"""Speeds of further rotors."""


class NewInstrumentForm(forms.Form):
    """What a new meter reads; its units follow from that."""

    channel = forms.ChoiceField(choices=channel_choices, label="It reads")


class InstrumentForm(Meanwhile, forms.ModelForm):
    """A meter's specification; figures in the person's unit of its channel."""

    accuracy_percent = FigureField(
        kind="percent",
        difference=True,
        label="Stated accuracy, of the reading",
        required=False,
        low=0,
    )

    like = forms.ChoiceField(
        label="Read over a line like",
        required=False,
        help_text="Fills the profile in, where it is empty.",
    )

    class Meta:
        model = Instrument
        fields = [
            "name",
            "serial",
            "principle",
            "recalibrate_after",
            "retired",
            "resource",
            "profile",
            "shared",
        ]
        field_classes = {"profile": JsonField}
        help_texts = {
            "shared": "Else a recording holds it alone. Never what turns something.",
            "recalibrate_after": "",
            "resource": (
                "Such as TCPIP0::127.0.0.1::15140::SOCKET or ASRL/dev/ttyUSB0::INSTR; empty where"
                " it is read by hand."
            ),
            "profile": "JSON: what is sent and what comes back. See the user guide.",
        }
        labels = {
            "recalibrate_after": "Calibrate again after, days",
            "retired": "No longer in use",
            "resource": "VISA resource name",
            "profile": "Reading profile",
            "shared": "Several benches may read it at once",
        }
        widgets = {
            "profile": forms.Textarea(attrs={"rows": 4, "class": "code", "spellcheck": "false"}),
            "resource": forms.TextInput(attrs={"autocomplete": "off"}),
        }

    field_order = [
        "name",
        "serial",
        "resolution",
        "accuracy",
        "accuracy_percent",
        "low",
        "high",
        "response_time",
        "principle",
        "recalibrate_after",
        "retired",
        "resource",
        "like",
        "profile",
        "shared",
    ]

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        kind = self.instance.reads.kind
        step = {"kind": kind, "units": units, "difference": True, "required": False, "low": 0}
        self.fields["resolution"] = FigureField(label="Resolution", **step)
        self.fields["accuracy"] = FigureField(label="Stated accuracy", **step)
        self.fields["low"] = FigureField(kind=kind, units=units, label="Range from", required=False)
        self.fields["high"] = FigureField(kind=kind, units=units, label="Range to", required=False)
        self.fields["response_time"] = FigureField(
            kind="time", units=units, label="Response time", required=False, low=0
        )
        self.order_fields(self.field_order)
        self.fields["profile"].required = False
        fitting = [
            name for name, channels in presets().items() if self.instance.channel in channels
        ]
        self.fields["like"].choices = [("", "none of these"), *((name, name) for name in fitting)]  # type: ignore[attr-defined]
        if kind != "air_speed":
            del self.fields["principle"]
        for name in ("resolution", "accuracy", "low", "high", "response_time", "accuracy_percent"):
            self.fields[name].initial = getattr(self.instance, name) if self.instance.pk else None
        self.begin(new=self.instance.pk is None)

    def clean(self) -> dict[str, Any]:
        """A profile from the presets, where none was typed; one that cannot be used is told."""
        data = super().clean() or {}
        profile = data.get("profile") or {}
        if not profile and data.get("like"):
            profile = presets()[data["like"]][self.instance.channel]
        data["profile"] = profile
        if data.get("resource") and not profile:
            self.add_error(
                "profile",
                "A meter on a line needs a reading profile. Choose one like it, or write one.",
            )
        if profile:
            try:
                Profile.of(profile, self.instance.channel)
            except ProfileWrong as problem:
                self.add_error("profile", str(problem))
        if data.get("shared") and "set" in profile:
            self.add_error("shared", "What turns something is held by one bench alone.")
        return data

    def _post_clean(self) -> None:
        """Bring the figures over before the model looks at its constraints."""
        for name in ("resolution", "accuracy"):
            setattr(self.instance, name, kept_figure(self, name) or 0.0)
        self.instance.accuracy_share = (kept_figure(self, "accuracy_percent") or 0.0) / 100
        for name in ("low", "high", "response_time"):
            setattr(self.instance, name, kept_figure(self, name))
        super()._post_clean()  # type: ignore[misc]  # Django's, and without a type  # type: ignore[misc]


def typed_points(
    data: QueryDict, first: str, second: str, kinds: tuple[str, str], units: str
) -> list[tuple[float, float]]:
    """Pairs of figures from two columns of fields; empty rows are left out.

    Raises
    ------
    ValidationError : a row with one figure, or one that is no number, by its place
    """
    points, problems = [], []
    rows = list(zip(data.getlist(first), data.getlist(second), strict=False))[:MOST_POINTS]
    for number, (one, two) in enumerate(rows, start=1):
        if not one.strip() and not two.strip():
            continue
        try:
            pair = tuple(
                typed_figure(text, kind, KINDS[kind].shown[units])[0]
                for text, kind in ((one, kinds[0]), (two, kinds[1]))
                if text.strip()
            )
        except ValueError as problem:
            problems.append(f"Point {number}: {problem}")
            continue
        if len(pair) < 2:
            problems.append(f"Point {number} has only one figure. Type both, or empty the row.")
            continue
        points.append(pair)
    if problems:
        raise ValidationError({"points": problems})
    return points  # type: ignore[return-value]


class CalibrationForm(forms.Form):
    """What goes with the points of a calibration."""

    at = forms.DateField(
        label="Compared on", widget=forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d")
    )
    standard = forms.CharField(label="Compared with", required=False, max_length=120)
    replaces_limit = forms.BooleanField(
        label="The calibration replaces the stated accuracy",
        required=False,
        help_text="Tick it when the comparison covers the range in which the meter is used.",
    )
    note = forms.CharField(label="Note", required=False, max_length=2000)

    def __init__(self, *args: Any, instrument: Instrument, units: str, **kwargs: Any):
        kwargs["initial"] = {"at": house_day(), **(kwargs.get("initial") or {})}
        super().__init__(*args, **kwargs)
        self.fields["standard_u"] = FigureField(
            kind=instrument.reads.kind,
            units=units,
            difference=True,
            label="Its uncertainty, ± (95 %)",
            required=False,
            low=0,
        )
        self.order_fields(["at", "standard", "standard_u", "replaces_limit", "note"])


def channels_for(kind: RigKind) -> list[Channel]:
    """Channels that a rig of a kind can have a meter for."""
    return [CHANNELS[key] for key in kind.offered]


class RigForm(Meanwhile, forms.Form):
    """A rig: constants with their doubt, a meter for each channel, in the person's units."""

    name = forms.CharField(max_length=80)
    note = forms.CharField(
        label="Note", required=False, max_length=2000, widget=forms.Textarea(attrs={"rows": 2})
    )
    change = forms.CharField(
        label="What is different now?",
        required=False,
        max_length=500,
        help_text=(
            "Empty where you only fill in what was so all along: the runs of this state are then"
            " computed again."
        ),
    )

    def __init__(
        self, *args: Any, kind: RigKind, units: str, rig: Rig | None = None, **kwargs: Any
    ):
        super().__init__(*args, **kwargs)
        self.kind, self.rig = kind, rig
        known = rig.pairs if rig else {}
        for c in kind.constants:
            value, u = known.get(c.key, (None, None))
            self.fields[f"c_{c.key}"] = FigureField(
                kind=c.kind, units=units, label=c.label, required=False, initial=value
            )
            self.fields[f"u_{c.key}"] = FigureField(
                kind=c.kind,
                units=units,
                difference=True,
                label=f"{c.label}, ± (95 %)",
                required=False,
                low=0,
                initial=expanded(u) if u else None,
            )
        meters = list(Instrument.objects.filter(retired=False))
        chosen = {m.channel: m.instrument_id for m in rig.meters.all()} if rig else {}
        for channel in channels_for(kind):
            fitting = [m for m in meters if m.reads.kind == channel.kind]
            self.fields[f"m_{channel.key}"] = forms.TypedChoiceField(
                label=channel.label,
                required=False,
                choices=[("", "none"), *((m.pk, m.name) for m in fitting)],
                coerce=int,
                empty_value=None,
                initial=chosen.get(channel.key),
            )
        self._meters = {m.pk: m for m in meters}
        if rig is not None:
            del self.fields["name"]
        else:
            del self.fields["change"]
        self.begin(new=rig is None)

    @property
    def rows(self) -> list[tuple[Any, Any, Any]]:
        """Constants as (constant, field of the value, field of the doubt)."""
        return [(c, self[f"c_{c.key}"], self[f"u_{c.key}"]) for c in self.kind.constants]

    @property
    def further_rows(self) -> list[tuple[str, Any]]:
        """Channels of further rotors with the fields of their meters."""
        return [(key, self[f"m_{key}"]) for key in self.kind.offered if key in FURTHER]

    @property
    def meter_rows(self) -> list[tuple[str, Any]]:
        """Channels with the fields of their meters."""
        return [(key, self[f"m_{key}"]) for key in self.kind.offered if key not in FURTHER]

    def constants(self) -> dict[str, tuple[float, float]]:
        """Constants that were given, with standard uncertainty [SI]."""
        known = self.rig.pairs if self.rig else {}
        given = {}
        for key in (c.key for c in self.kind.constants):
            value, half = kept_figure(self, f"c_{key}"), kept_figure(self, f"u_{key}")
            if value is not None:
                # What was left alone keeps its last digit, so that it is no change.
                left_alone = key in known and f"u_{key}" not in self.changed_data
                given[key] = (value, known[key][1] if left_alone else standard_of(half or 0.0))
        return given

    def meters(self) -> dict[str, Instrument]:
        """Meters by channel."""
        given = {key: self.cleaned_data.get(f"m_{key}") for key in self.kind.offered}
        return {key: self._meters[pk] for key, pk in given.items() if pk}

    def take_errors(self, problem: ValidationError) -> None:
        """Put an action's sentences at their fields."""
        if not hasattr(problem, "error_dict"):
            self.add_error(None, problem)
            return
        for name, errors in problem.error_dict.items():
            field = (
                f"c_{name}" if f"c_{name}" in self.fields else name if name in self.fields else None
            )
            self.add_error(field, errors)


class NewRigForm(forms.Form):
    """Which kind of rig."""

    kind = forms.ChoiceField(choices=[(k.key, k.label) for k in RIGS.values()], label="Kind of rig")


class ReferenceForm(forms.Form):
    """A new reference specimen."""

    type_name = forms.CharField(label="Type", max_length=80)
    serial = forms.CharField(label="Serial", max_length=40)
    hours = FigureField(label="Hours it has run before", required=False, low=0)
    note = forms.CharField(label="Note", required=False, max_length=2000)


class NoteForm(Meanwhile, forms.Form):
    """The note of a reference specimen."""

    note = forms.CharField(
        required=False, max_length=2000, widget=forms.Textarea(attrs={"rows": 3}), label="Note"
    )

    def __init__(self, data: Any = None, *, specimen: ReferenceSpecimen):
        super().__init__(data, initial={"note": specimen.note})
        self.begin()

    def to_keep(self) -> tuple[str, bool]:
        """The note to keep, and whether it holds two: where both changed it, both stand in it."""
        typed = self.data.get("note", "").replace("\r\n", "\n").strip()
        theirs = self.both.get("note", "")
        return (f"{theirs}\n{typed}".strip()[:2000], True) if theirs else (typed[:2000], False)


class MaterialForm(Meanwhile, forms.ModelForm):
    """A material; figures in the person's units."""

    KINDS = (
        ("density", "density", "Density"),
        ("along", "stress", "Strength along the layers"),
        ("across", "stress", "Strength across the layers"),
        ("stiffness", "stress", "Young's modulus"),
        ("heat", "temperature", "Heat that it stands"),
        ("anneal", "temperature", "Annealed at (empty: not)"),
    )

    class Meta:
        model = Material
        fields = ["key", "label", "shrinks", "grows", "price", "cautions", "retired"]
        labels = {
            "key": "Short name",
            "label": "Name",
            "shrinks": "Shrinks by annealing along the layers, share",
            "grows": "Grows across them, share",
            "price": "Price of a kilogram",
            "cautions": "What to mind",
            "retired": "No longer in use",
        }
        widgets = {
            "cautions": forms.Textarea(attrs={"rows": 3}),
            **{k: NumberInput() for k in ("shrinks", "grows", "price")},
        }
        help_texts = {"shrinks": "", "grows": "", "price": "", "key": "Letters, digits and - only."}

    field_order = [
        "label",
        "key",
        "density",
        "along",
        "across",
        "stiffness",
        "heat",
        "anneal",
        "shrinks",
        "grows",
        "price",
        "cautions",
        "retired",
    ]

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        for name, kind, label in self.KINDS:
            self.fields[name] = FigureField(
                kind=kind,
                units=units,
                label=label,
                required=name != "anneal",
                initial=getattr(self.instance, name),
            )
        self.order_fields(self.field_order)
        self.begin(new=self.instance.pk is None)

    def _post_clean(self) -> None:
        """Bring the figures over before the model looks at its constraints."""
        for name, _, _ in self.KINDS:
            if name not in self.errors:
                setattr(self.instance, name, kept_figure(self, name))
        super()._post_clean()  # type: ignore[misc]  # Django's, and without a type
