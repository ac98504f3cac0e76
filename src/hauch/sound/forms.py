"""Forms of sound, in the person's units."""

from __future__ import annotations

from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.db.models import QuerySet
from django.http import QueryDict

from hauch.bench.models import Run
from hauch.bench.queries import runs
from hauch.bench.runs import Subject
from hauch.core.quantity.typed import parse_number
from hauch.people.requests import whole
from hauch.rounds.models import Round
from hauch.sound.actions import BLADES, POLES, SPEEDS, SWITCHING, TURNS, Confirmed, Turns
from hauch.sound.models import Calibration, Mounting, RecordingSession, SoundRecording
from hauch.stores.models import Instrument, ReferenceSpecimen
from hauch.ui.fields import FigureField
from hauch.ui.meanwhile import Meanwhile
from hauch.workshop.models import Specimen

DISTANCES = (0.02, 50.0)
"""Distances of a microphone from a part [m]."""

LEVELS = (-20.0, 160.0)
"""Levels that a meter or a calibrator can have [dB]."""


class NumberField(forms.CharField):
    """A number, typed with a point or a comma, with or without its unit behind the label."""

    def __init__(self, low: float, high: float, unit: str = "", whole: bool = False, **kwargs: Any):
        super().__init__(max_length=40, required=False, **kwargs)
        self.low, self.high, self.unit, self.whole = low, high, unit, whole
        self.widget.attrs |= {"inputmode": "decimal", "autocomplete": "off"}

    def prepare_value(self, value: Any) -> Any:
        """As it stands in the field."""
        return f"{value:.12g}" if isinstance(value, float) else value

    def clean(self, value: Any) -> float | None:
        """The number, or None for nothing typed."""
        text = str(super().clean(value)).strip()
        if not text:
            return None
        try:
            number = parse_number(text)
        except ValueError as problem:
            raise ValidationError(str(problem)) from problem
        if not self.low <= number <= self.high:
            unit = f" {self.unit}" if self.unit else ""
            raise ValidationError(
                f"{text}{unit} cannot be; between {self.low:,g} and {self.high:,g}."
            )
        if self.whole and number != int(number):
            raise ValidationError(f"{text} is no whole number.")
        return int(number) if self.whole else number


class SessionForm(Meanwhile, forms.Form):
    """How recordings were made, and what makes their levels true."""

    mounting = forms.ChoiceField(choices=Mounting.choices, label="The part ran")
    room = forms.CharField(max_length=80, required=False, label="Room")
    microphone = forms.ModelChoiceField(
        Instrument.objects.none(),
        required=False,
        label="Microphone or meter of the stores",
        empty_label="another one",
    )
    device = forms.CharField(
        max_length=80, required=False, label="Recorder or phone, where it is another one"
    )
    mains = forms.TypedChoiceField(
        choices=[(50, "50 Hz"), (60, "60 Hz")], coerce=int, label="Mains", initial=50
    )
    calibration = forms.ChoiceField(choices=Calibration.choices, label="Calibrated by")
    tone_level = NumberField(
        *LEVELS, "dB", label="Level of the calibrator, dB", help_text="94 or 114 as a rule"
    )
    meter_level = NumberField(*LEVELS, "dB", label="What the meter read, dB(A)")
    read_beside = forms.ModelChoiceField(
        SoundRecording.objects.none(),
        required=False,
        label="While this was recorded",
        empty_label="hand the recording in first",
    )
    note = forms.CharField(
        max_length=2000, required=False, label="Note", widget=forms.Textarea(attrs={"rows": 2})
    )
    field_order = ["mounting", "distance", "spacing", "room", "microphone", "device", "mains"]

    def __init__(
        self, *args: Any, units: str, session: RecordingSession | None = None, **kwargs: Any
    ):
        if session is not None:
            kwargs["initial"] = {name: getattr(session, name) for name in FIELDS} | {
                "microphone": session.microphone_id,
                "read_beside": session.read_beside_id,
            }
        super().__init__(*args, **kwargs)
        for name, label in (
            ("distance", "Distance from the part"),
            ("spacing", "Free space before and behind it"),
        ):
            self.fields[name] = FigureField(
                kind="length", units=units, label=label, required=False, low=0
            )
        self._offer(
            "microphone",
            Instrument.objects.filter(channel="sound_level", retired=False).order_by("name"),
        )
        if session is not None:
            self._offer(
                "read_beside", session.recordings.standing().filter(kind=SoundRecording.Kind.PART)
            )
        self.order_fields(self.field_order)
        self.begin(new=session is None)

    def _offer(self, name: str, rows: QuerySet[Any]) -> None:
        """What a choice offers."""
        field = self.fields[name]
        if isinstance(field, forms.ModelChoiceField):
            field.queryset = rows

    def clean(self) -> dict[str, Any]:
        """What belongs together."""
        cleaned = super().clean() or self.cleaned_data
        distance = cleaned.get("distance")
        if distance is not None and not DISTANCES[0] <= distance <= DISTANCES[1]:
            self.add_error(
                "distance",
                f"A distance is between {DISTANCES[0]:g} and {DISTANCES[1]:g} m. Type it with its unit,"
                " such as 1 m.",
            )
        if cleaned.get("calibration") == Calibration.TONE and cleaned.get("tone_level") is None:
            self.add_error("tone_level", "Enter the level that stands on the calibrator.")
        if cleaned.get("calibration") == Calibration.METER and cleaned.get("meter_level") is None:
            self.add_error("meter_level", "Enter what the meter read.")
        return cleaned

    def values(self) -> dict[str, Any]:
        """As fields of a session."""
        return {name: self.cleaned_data.get(name) for name in FIELDS}


FIELDS = (
    *("mounting", "distance", "spacing", "room", "microphone", "device", "mains"),
    *("calibration", "tone_level", "meter_level", "read_beside", "note"),
)


class TurnsForm(forms.Form):
    """What turned and switched while a recording was made."""

    blades = NumberField(*BLADES, whole=True, label="Blades")
    speed = NumberField(*SPEEDS, "1/min", label="Speed, 1/min")
    second_blades = NumberField(*BLADES, whole=True, label="Blades of a second rotor")
    second_speed = NumberField(*SPEEDS, "1/min", label="Its speed, 1/min")
    poles = NumberField(*POLES, whole=True, label="Poles of the motor")
    switching = NumberField(*SWITCHING, "Hz", label="Switching of the controller, Hz")

    def turns(self) -> Turns:
        """As it was typed."""
        return Turns(**{name: self.cleaned_data.get(name) for name in TURNS})


MOST_OFFERED = 500
"""So many parts are offered by name; all others by typing their code."""


def label_of(subject: Subject | None) -> str:
    """A part as it is typed and offered."""
    if subject is None:
        return ""
    if subject.specimen is not None:
        return f"{subject.specimen.version.entry.name}, specimen {subject.specimen.code}"
    return f"{subject.reference}, reference"


class Parts:
    """The parts of a round by their labels, for fields that offer and take them."""

    def __init__(self, round: Round):
        prints = (
            Specimen.objects.filter(version__entry__round=round)
            .select_related("version__entry")
            .order_by("version__entry__name", "code")
        )
        references = (
            ReferenceSpecimen.objects.filter(tests__test__round=round)
            .select_related("type")
            .distinct()
        )
        found = [Subject(reference=one) for one in references]
        found += [Subject(specimen=one) for one in prints[:MOST_OFFERED]]
        self.round = round
        self.by_label = {label_of(one): one for one in found}

    def find(self, text: str) -> Subject | None:
        """The part of a label or of a specimen's code.

        Raises
        ------
        ValidationError : there is none, or there are several
        """
        text = " ".join(text.split())[:200]
        if not text:
            return None
        if text in self.by_label:
            return self.by_label[text]
        code = text.rpartition("specimen ")[2]
        found = list(
            Specimen.objects.filter(version__entry__round=self.round, code__iexact=code)
            .select_related("version__entry")
            .order_by("pk")[:2]
        )
        if len(found) == 1:
            return Subject(specimen=found[0])
        raise ValidationError(
            f"There is no part “{text[:60]}” in this round. Choose one of those that are offered, or"
            " type the code on the print."
        )


def _figure(text: str, what: str) -> float | None:
    text = text.strip()[:40]
    if not text:
        return None
    try:
        return parse_number(text)
    except ValueError as problem:
        raise ValidationError(f"{what}: {problem}") from problem


def read_said(sent: QueryDict, row: SoundRecording, parts: Parts) -> Confirmed:
    """What a row of the table says of a recording.

    Raises
    ------
    ValidationError : in a sentence
    """

    def text(name: str) -> str:
        return str(sent.get(f"{name}-{row.pk}", ""))

    run_text = text("run").strip().casefold().removeprefix("run").strip()
    run: Run | None = None
    if run_text:
        number = whole(run_text)
        run = (
            runs().filter(pk=number, test__round=parts.round).with_names().first()
            if number is not None
            else None
        )
        if run is None:
            raise ValidationError(f"There is no run {run_text[:20]} in this round.")
    blades = _figure(text("blades"), "Blades")
    if blades is not None and blades != int(blades):
        raise ValidationError("The number of blades is a whole number.")
    channel = whole(text("channel"))
    return Confirmed(
        kind=text("kind"),
        channel=(channel or 1) - 1,
        subject=parts.find(text("part")),
        run=run,
        speed=_figure(text("speed"), "Speed"),
        blades=int(blades) if blades is not None else None,
    )
