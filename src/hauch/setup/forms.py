"""The forms of a set-up, one for each step, in the person's units."""

from __future__ import annotations

from typing import Any, NamedTuple

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict
from django.utils import timezone

from hauch.core.measure.channels import CHANNELS
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.shelf import ShelfMeter, fitting
from hauch.core.measure.wants import WANTS, wants_for
from hauch.core.quantity.units import KINDS, factor_from_si
from hauch.setup.answers import DECIDE, ONE, SUM, TOGETHER, Answers
from hauch.stores.models import Instrument, Rig
from hauch.ui.fields import FigureField, kept_figure

MOST_PARTS = 40
NAMES = 3
"""Fields for names at first; a further one appears as soon as the last is begun."""


class WantsForm(forms.Form):
    """What to know of the parts."""

    wants = forms.MultipleChoiceField(
        widget=forms.CheckboxSelectMultiple,
        label="What do you want to know?",
        error_messages={"required": "Tick at least one thing."},
    )

    condition = forms.CharField(
        label="Each with and without, where something is put on and off",
        max_length=40,
        required=False,
        help_text="such as the shroud, a lid, six trays; empty where nothing is",
    )

    def __init__(self, *args: Any, said: Answers, **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.fields["condition"].initial = said.condition
        self.offered = wants_for(said.part)
        self.fields["wants"].choices = [(w.key, w.label) for w in self.offered]  # type: ignore[attr-defined]

    def clean_wants(self) -> list[str]:
        """Two things cannot be held equal at once."""
        chosen: list[str] = self.cleaned_data["wants"]
        equals = {WANTS[key].equal for key in chosen} - {""}
        if len(equals) > 1:
            raise ValidationError(
                "Equal power and equal noise cannot be compared in one round. Choose one of them;"
                " the other can be a round of its own."
            )
        return [w.key for w in self.offered if w.key in chosen]


def _meter_label(meter: ShelfMeter, units: str) -> str:
    """A meter of the shelf with its resolution and accuracy, in the person's unit."""
    kind = CHANNELS[meter.channel].kind
    if kind == "temperature":
        kind = "temperature_difference"
    unit = KINDS[kind].shown[units]
    resolution, accuracy = (
        f"{value * factor_from_si(unit, kind):.2g} {unit}"
        for value in (meter.resolution, meter.accuracy)
    )
    share = f"{100 * meter.accuracy_share:g} % of the reading" if meter.accuracy_share else ""
    limit = " ± ".join(text for text in (accuracy if meter.accuracy else "", share) if text)
    return f"{meter.label}: reads to {resolution}{f', ± {limit}' if limit else ''}"


class MeansForm(forms.Form):
    """How each thing is found out: the way, the rig and the meters."""

    def __init__(self, *args: Any, said: Answers, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.said = said
        for want in said.chosen:
            if len(want.ways) > 1:
                field = self.fields[f"way_{want.key}"] = forms.ChoiceField(
                    label="How",
                    choices=[(w.key, w.label) for w in want.ways],
                    initial=said.chosen_ways[want.key].key,
                )
                field.want = want.label  # type: ignore[attr-defined]  # told where a rig has several
        if self.is_bound:
            said.ways = {
                want.key: str(self.data.get(f"way_{want.key}", "")) for want in said.chosen
            }
        here: dict[str, list[Rig]] = {}
        for rig in Rig.objects.current().filter(kind__in=said.rig_kinds).order_by("name"):
            here.setdefault(rig.kind, []).append(rig)
        for kind in said.rig_kinds:
            if rigs := here.get(kind):
                self.fields[f"rig_{kind}"] = forms.TypedChoiceField(
                    label=RIGS[kind].label,
                    choices=[*((rig.pk, str(rig)) for rig in rigs), (0, "another one, new")],
                    coerce=int,
                    initial=said.rigs.get(kind, rigs[0].pk),
                )
        own = list(Instrument.objects.filter(retired=False))
        for channel in said.channels:
            kind = CHANNELS[channel].kind
            mine = [
                (f"own:{m.pk}", m.name)
                for m in own
                if m.channel == channel or (m.reads.kind == kind and not fitting(channel))
            ]
            shelf = [(f"shelf:{m.key}", _meter_label(m, units)) for m in fitting(channel)]
            self.fields[f"meter_{channel}"] = forms.ChoiceField(
                label=CHANNELS[channel].label,
                choices=mine + shelf,
                initial=said.meters.get(channel, ""),
            )

    @property
    def groups(self) -> list[dict[str, Any]]:
        """By kind of rig: its ways, the rig itself, and meters that no group before it asked for."""
        groups: list[dict[str, Any]] = []
        told: set[str] = set()
        for kind in self.said.rig_kinds:
            wants = [w for w in self.said.chosen if self.said.chosen_ways[w.key].how.rig == kind]
            meters = [
                c
                for c in self.said.channels_on(kind)
                if f"meter_{c}" in self.fields and c not in told
            ]
            told |= set(meters)
            groups.append(
                {
                    "kind": RIGS[kind],
                    "wants": wants,
                    "ways": [self[f"way_{w.key}"] for w in wants if f"way_{w.key}" in self.fields],
                    "rig": self[f"rig_{kind}"] if f"rig_{kind}" in self.fields else None,
                    "meters": [self[f"meter_{c}"] for c in meters],
                }
            )
        return groups

    def into(self, said: Answers) -> None:
        """Put what was chosen into the answers."""
        data = self.cleaned_data
        said.ways = {w.key: data.get(f"way_{w.key}", "") for w in said.chosen}
        said.rigs = {kind: data.get(f"rig_{kind}", 0) for kind in said.rig_kinds}
        said.meters = {c: data[f"meter_{c}"] for c in said.channels}


EQUAL = {"power": ("power", "Compared at the power of"), "noise": ("level", "Compared at")}


class SizesForm(forms.Form):
    """Sizes of new rigs, of what spins, and what is held equal."""

    def __init__(self, *args: Any, said: Answers, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.said = said
        if said.equal:
            kind, label = EQUAL[said.equal]
            self.fields["equal_value"] = FigureField(
                kind=kind, units=units, label=label, initial=said.equal_value
            )
        if said.kind.spins:
            self.fields["diameter"] = FigureField(
                kind="length",
                units=units,
                label="Greatest diameter of what spins",
                initial=said.diameter,
                low=0.001,
            )
        for rig in self.new_rigs:
            for c in said.constants_of(rig):
                value, half = said.constants.get(rig, {}).get(c.key, [c.typical, c.doubt])
                self.fields[f"c_{rig}_{c.key}"] = FigureField(
                    kind=c.kind, units=units, label=c.label, initial=value
                )
                if not c.whole:
                    self.fields[f"u_{rig}_{c.key}"] = FigureField(
                        kind=c.kind,
                        units=units,
                        difference=True,
                        label=f"{c.label}, ± (95 %)",
                        required=False,
                        low=0,
                        initial=half,
                    )

    @property
    def new_rigs(self) -> list[str]:
        """Kinds of rigs that are to be made."""
        return [rig for rig in self.said.rig_kinds if not self.said.rigs.get(rig)]

    @property
    def groups(self) -> list[dict[str, Any]]:
        """By kind of rig: its constants as (constant, field of the value, field of the doubt)."""
        return [
            {
                "kind": RIGS[rig],
                "rows": [
                    (
                        c,
                        self[f"c_{rig}_{c.key}"],
                        None if c.whole else self[f"u_{rig}_{c.key}"],
                    )
                    for c in self.said.constants_of(rig)
                ],
            }
            for rig in self.new_rigs
            if self.said.constants_of(rig)
        ]

    def into(self, said: Answers) -> None:
        """Put what was typed into the answers, as far as it can be read."""
        for name in ("equal_value", "diameter"):
            if name in self.fields and name in self.cleaned_data:
                setattr(said, name, kept_figure(self, name))
        for rig in self.new_rigs:
            for c in said.constants_of(rig):
                value = kept_figure(self, f"c_{rig}_{c.key}")
                half = 0.0 if c.whole else kept_figure(self, f"u_{rig}_{c.key}")
                if value is not None:
                    said.constants.setdefault(rig, {})[c.key] = [value, half or 0.0]


class NameRow(NamedTuple):
    """A field for a name, with the mark that the part will have."""

    mark: int
    name: str
    shown: bool


class PartsForm(forms.Form):
    """What is compared with what."""

    reference = forms.CharField(
        label="Compared with",
        max_length=80,
        help_text="the stock part, the open fan, last year's best: it is run first and again after",
        error_messages={"required": "Name what they are compared with, such as the stock part."},
    )
    repeats = forms.IntegerField(
        label="Repeats",
        min_value=1,
        max_value=20,
        initial=2,
        help_text="each part is mounted and read so often; once tells nothing of how well it repeats",
        widget=forms.NumberInput(attrs={"inputmode": "numeric"}),
    )
    decide = forms.ChoiceField(
        label="What makes one better", choices=DECIDE.items(), required=False
    )
    first = forms.ChoiceField(label="The figure that decides", required=False)
    title = forms.CharField(label="Title", max_length=80, required=False)

    def __init__(self, *args: Any, said: Answers, **kwargs: Any):
        super().__init__(*args, **kwargs)
        self.said = said
        self.fields[
            "title"
        ].initial = f"{said.kind.plural.capitalize()}, {timezone.localdate():%d %b}"
        if len(said.chosen) < 2:
            del self.fields["decide"], self.fields["first"]
        else:
            self.fields["decide"].initial = TOGETHER
            self.fields["first"].choices = [(w.key, w.label) for w in said.chosen]  # type: ignore[attr-defined]

    @property
    def names(self) -> list[str]:
        """Names as typed."""
        typed = QueryDict.getlist(self.data, "name") if self.is_bound else []  # type: ignore[arg-type]
        return [name.strip()[:60] for name in typed if name.strip()][:MOST_PARTS]

    @property
    def rows(self) -> list[NameRow]:
        """A field for each name, and further ones that appear as they are needed."""
        names = self.names
        return [
            NameRow(n, names[n] if n < len(names) else "", n < max(NAMES, len(names) + 1))
            for n in range(MOST_PARTS)
        ]

    def clean(self) -> dict[str, Any]:
        """Names that can be told apart."""
        data = super().clean() or {}
        names = self.names
        if not names:
            self.add_error(None, "Name at least one part that is compared.")
        elif len({name.casefold() for name in names}) < len(names):
            self.add_error(None, "Two parts have the same name. Give each its own.")
        data["names"] = names
        if data.get("decide") == SUM and any(
            way.how.direction > 0 for way in self.said.chosen_ways.values()
        ):
            self.add_error(
                "decide",
                "Figures are added only where less is better in all of them. Choose another way.",
            )
        data.setdefault("decide", ONE)
        data["decide"] = data.get("decide") or TOGETHER
        return data
