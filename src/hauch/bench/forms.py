"""Forms of the bench: room readings, readings typed by hand, a log and its columns."""

from __future__ import annotations

import uuid
from datetime import datetime
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict
from django.utils import timezone

from hauch.bench.plan import Plan
from hauch.bench.runs import Room, Subject, Typed
from hauch.core.measure.channels import AMBIENT, CHANNELS
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS, UnitUnknown, from_si
from hauch.formats.logger_table import TIME, Column, Table
from hauch.people.requests import whole
from hauch.rounds.models import Round
from hauch.stores.models import ReferenceSpecimen
from hauch.ui.fields import NumberInput
from hauch.workshop.models import Specimen


class RoomForm(forms.Form):
    """Room readings, in the person's units."""

    temperature = forms.CharField(required=False, max_length=20, widget=NumberInput)
    pressure = forms.CharField(required=False, max_length=20, widget=NumberInput)
    humidity = forms.CharField(required=False, max_length=20, widget=NumberInput)
    started_at = forms.DateTimeField(
        required=False,
        widget=forms.DateTimeInput(attrs={"type": "datetime-local"}, format="%Y-%m-%dT%H:%M"),
        label="Started",
        localize=False,
    )
    note = forms.CharField(
        required=False,
        max_length=4000,
        widget=forms.Textarea(attrs={"rows": 2}),
        label="What was odd?",
    )
    form_key = forms.UUIDField(widget=forms.HiddenInput)

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        kwargs["initial"] = {"form_key": uuid.uuid4(), **(kwargs.get("initial") or {})}
        super().__init__(*args, **kwargs)
        self.units = units
        for name, channel in AMBIENT.items():
            self.fields[name].label = f"{channel.label}, {KINDS[channel.kind].shown[units]}"

    def room(self) -> Room:
        """The room readings in SI; missing ones stay None so that the action names them. Adds
        errors for text.
        """
        values: dict[str, float | None] = {}
        for name, channel in AMBIENT.items():
            text = self.cleaned_data.get(name, "")
            values[name] = None
            if text.strip():
                try:
                    values[name] = typed_figure(
                        text, channel.kind, KINDS[channel.kind].shown[self.units]
                    )[0]
                except ValueError as problem:
                    self.add_error(name, str(problem))
        return Room(**values)

    def moment(self) -> datetime:
        """When the run started; now if left empty."""
        return self.cleaned_data.get("started_at") or timezone.now()


def room_initial(room: Room | None, units: str) -> dict[str, str]:
    """Room readings as they stand in the form."""
    if room is None:
        return {}
    initial = {}
    for name, channel in AMBIENT.items():
        value = getattr(room, name)
        if value is not None:
            initial[name] = f"{from_si(value, KINDS[channel.kind].shown[units], channel.kind):.6g}"
    return initial


def typed_readings(
    data: QueryDict, channels: tuple[str, ...], units: str, places: int = 0
) -> tuple[dict[str, list[Typed]], list[str]]:
    """Readings typed by hand, by channel, and a sentence for each that is no number. Units come
    with the form.

    Where a test reads ``places`` in turn, rows belong to place 1, 2, ... and begin again.
    """
    readings: dict[str, list[Typed]] = {}
    problems: list[str] = []
    for key in channels:
        channel = CHANNELS[key]
        unit = data.get(f"unit-{key}") or KINDS[channel.kind].shown[units]
        for position, text in enumerate(data.getlist(f"r-{key}"), start=1):
            if not text.strip():
                continue
            try:
                value, number, written = typed_figure(text, channel.kind, unit)
            except UnitUnknown as problem:
                problems.append(f"{channel.label}, reading {position}: {problem}")
                continue
            except ValueError as problem:
                problems.append(f"{channel.label}, reading {position}: {problem}")
                continue
            readings.setdefault(key, []).append(
                Typed(
                    value,
                    number[:40],
                    written[:20],
                    (position - 1) % places + 1 if places else 0,
                )
            )
    return readings, problems


def subject_choices(plan: Plan) -> list[tuple[str, str]]:
    """What can be run: reference specimens in use, then specimens of entries that are in; none
    where a code is asked for.
    """
    if plan.many:
        return []
    references = {specimen.pk: specimen for specimen in [*plan.references.values(), *plan.beside]}
    rows = [(f"r{pk}", f"{specimen}, reference") for pk, specimen in references.items()]
    return [
        ("", "Choose"),
        *rows,
        *((f"s{s.pk}", f"{s.version.entry.name}, specimen {s.code}") for s in plan.specimens),
    ]


def subject_of(round: Round, choice: str, plan: Plan | None = None) -> Subject:
    """The subject of a choice, from the plan where it is in it.

    Raises
    ------
    ValidationError : nothing chosen, or not in this round
    """
    kind, number = choice[:1], whole(choice[1:])
    if plan is not None:
        known = {f"s{s.pk}": Subject(specimen=s) for s in plan.specimens} | {
            f"r{r.pk}": Subject(reference=r) for r in [*plan.references.values(), *plan.beside]
        }
        if choice in known:
            return known[choice]
    if number is not None:
        if kind == "s":
            specimen = (
                Specimen.objects.select_related("version__entry")
                .filter(pk=number, version__entry__round=round)
                .first()
            )
            if specimen is not None:
                return Subject(specimen=specimen)
        if kind == "r":
            reference = (
                ReferenceSpecimen.objects.select_related("type")
                .filter(pk=number, tests__test__round=round)
                .distinct()
                .first()
            )
            if reference is not None:
                return Subject(reference=reference)
    if (subject := _by_name(round, choice.strip())) is not None:
        return subject
    raise ValidationError({"subject": "Choose what was run: an entry's specimen or the reference."})


def _by_name(round: Round, text: str) -> Subject | None:
    """The subject of a typed code: of a specimen, of a reference specimen, or the name of an entry
    with one specimen.
    """
    if not text:
        return None
    found = Specimen.objects.select_related("version__entry").filter(version__entry__round=round)
    for specimens in (
        found.filter(code__iexact=text),
        found.filter(version__entry__name__iexact=text),
    ):
        if len(several := list(specimens[:2])) == 1:
            return Subject(specimen=several[0])
    reference = (
        ReferenceSpecimen.objects.select_related("type")
        .filter(serial__iexact=text, tests__test__round=round)
        .first()
    )
    return Subject(reference=reference) if reference else None


def column_choices() -> list[tuple[str, str]]:
    """What a column of a log can be."""
    return [("", "leave out"), (TIME, "Time"), *((c.key, c.label) for c in CHANNELS.values())]


def unit_choices(kind: str, written: str) -> list[str]:
    """Units that a column can be written in: as in the file, as shown to people, in SI."""
    if not kind:
        return [written]
    known = [*KINDS[kind].shown.values(), KINDS[kind].unit]
    return list(dict.fromkeys(([written] if written else []) + known))


def mapping_of(data: QueryDict, table: Table) -> list[Column]:
    """The confirmed mapping of a log's columns."""
    return [
        Column(data.get(f"channel-{i}", ""), data.get(f"unit-{i}", "").strip())
        for i in range(len(table.header))
    ]
