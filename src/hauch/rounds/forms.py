"""Forms of the brief, in the person's units."""

from __future__ import annotations

import itertools
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict

from hauch.core.geometry.envelope import PARTS, Box, Envelope, KeepOut
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.people.permissions import ROLES
from hauch.rounds.models import Round, RuleQuestion
from hauch.rounds.starts import STARTS
from hauch.ui.fields import FigureField, kept_figure
from hauch.ui.meanwhile import Meanwhile

MOST_KEEP_OUTS = 12


class BeginForm(forms.Form):
    """A new round from a usual one."""

    title = forms.CharField(max_length=80)
    place = forms.CharField(max_length=80, required=False)
    start = forms.ChoiceField(
        label="Begin with",
        choices=[(s.key, s.label) for s in STARTS.values()],
        widget=forms.RadioSelect,
        initial="airflow",
    )


class BriefForm(Meanwhile, forms.ModelForm):
    """What is asked, what may vary, what equal means, what can hurt."""

    reason = forms.CharField(
        label="Why does it change?",
        required=False,
        max_length=500,
        help_text=(
            "What entrants must keep to becomes the next version of the rules; the reason stays"
            " with it."
        ),
    )

    class Meta:
        model = Round
        fields = [
            "title",
            "place",
            "question",
            "part",
            "quick",
            "may_vary",
            "motors",
            "own_parts",
            "orientation",
            "equal",
            "entries_until",
            "safety",
            "presence",
            "unattended",
        ]
        labels = {
            "part": "Kind of part",
            "quick": "Quick comparison",
            "may_vary": "What may vary, what stays",
            "motors": "Most motors",
            "own_parts": "Own parts are allowed, with a bill of materials",
            "orientation": "Tested in which orientation",
            "equal": "Compared at",
            "entries_until": "Entries until",
            "safety": "Safety note",
            "presence": "Throttle closes when nobody is there for, s",
            "unattended": "A soak may run with nobody there for, min",
        }
        widgets = {
            "may_vary": forms.Textarea(attrs={"rows": 3}),
            "safety": forms.Textarea(attrs={"rows": 3}),
            "entries_until": forms.DateInput(attrs={"type": "date"}, format="%Y-%m-%d"),
        }
        help_texts = {
            "quick": (
                "no envelope is asked for, and prints that neither spin nor hold compressed air go"
                " straight to the bench"
            ),
            "orientation": "such as “axis upright”; empty where it does not matter",
            "presence": "there is whoever may run the bench and has its page open",
            "unattended": (
                "empty: never. Only in a soak, and never in a part's first run since the safety"
                " gate; what can burn or break while nobody looks is yours to judge"
            ),
        }

    def __init__(self, *args: Any, units: str, **kwargs: Any):
        super().__init__(*args, **kwargs)
        equal = self.data.get("equal") if self.is_bound else self.instance.equal
        kind = {"power": "power", "noise": "level", "duty": "volume_flow"}.get(
            equal or "", "number"
        )
        self.fields["equal_value"] = FigureField(
            kind=kind,
            units=units,
            label="namely",
            required=False,
            initial=self.instance.equal_value,
        )
        self.order_fields(
            [
                "title",
                "place",
                "question",
                "part",
                "quick",
                "may_vary",
                "motors",
                "own_parts",
                "orientation",
                "equal",
                "equal_value",
            ]
        )
        self.fields["presence"].required = False
        if self.instance.is_draft:
            del self.fields["reason"]
        self.begin()

    def clean_presence(self) -> int:
        """What stands, where nothing is typed: there is no bench without the rule."""
        typed: int | None = self.cleaned_data["presence"]
        return self.instance.presence if typed is None else typed

    def _post_clean(self) -> None:
        """The figure goes with what is held equal."""
        self.instance.equal_value = (
            None
            if self.cleaned_data.get("equal") == Round.Equal.THROTTLE
            else kept_figure(self, "equal_value")
        )
        super()._post_clean()  # type: ignore[misc]


class EnvelopeForm(Meanwhile, forms.Form):
    """Critical dimensions and keep-outs."""

    def __init__(self, data: QueryDict | None = None, *, round: Round, units: str):
        super().__init__(data)
        self.part, self.units, stored = round.part, units, round.what
        for p in PARTS[self.part]:
            self.fields[p.key] = FigureField(
                kind="length", units=units, label=p.label, initial=stored[p.key], required=False
            )
        reason = forms.CharField(label="Why does it change?", required=False, max_length=500)
        if not round.is_draft:
            self.fields["reason"] = reason
        self.stored = stored
        self.begin()

    def beside(self) -> dict[str, str]:
        """The keep-outs, as a whole."""
        return {"the keep-outs": "\n".join(str(one) for one in self.stored.keep_outs)}

    @property
    def keep_out_rows(self) -> list[dict[str, Any]]:
        """Rows of keep-outs: as typed, or as stored, and an empty one."""
        names = ("name", "x", "y", "z", "dx", "dy", "dz")
        if self.is_bound:
            sent = self.data if isinstance(self.data, QueryDict) else QueryDict()
            columns = [sent.getlist(f"keep_{name}") for name in names]
            rows = [
                dict(zip(names, row, strict=True))
                for row in itertools.zip_longest(*columns, fillvalue="")
            ]
            rows = [row for row in rows if any(text.strip() for text in row.values())]
        else:
            field = FigureField(kind="length", units=self.units, difference=True)
            rows = [
                dict(
                    zip(
                        names,
                        (k.name, *(field.prepare_value(v) for v in (*k.box.at, *k.box.size))),
                        strict=True,
                    )
                )
                for k in self.stored.keep_outs
            ]
        return [*rows, dict.fromkeys(names, "")]

    def envelope(self) -> Envelope:
        """The envelope as typed; a missing dimension is NaN, so that the core names it.

        Raises
        ------
        ValidationError : a keep-out with something that is no number
        """
        values = {
            p.key: v if (v := kept_figure(self, p.key)) is not None else float("nan")
            for p in PARTS[self.part]
        }
        keep_outs, problems = [], []
        unit = KINDS["length"].shown[self.units]
        for number, row in enumerate(self.keep_out_rows[:-1][:MOST_KEEP_OUTS], start=1):
            name = row["name"].strip()[:40] or f"keep-out {number}"
            try:
                x, y, z, dx, dy, dz = (
                    typed_figure(row[key], "length", unit)[0]
                    for key in ("x", "y", "z", "dx", "dy", "dz")
                )
                keep_outs.append(KeepOut(name, Box((x, y, z), (dx, dy, dz))))
            except ValueError as problem:
                problems.append(
                    f"Keep-out “{name}”: {problem} It needs six figures: place and size."
                )
        if problems:
            raise ValidationError({"keep_outs": problems})
        return Envelope(self.part, values, tuple(keep_outs))


class QuestionForm(forms.ModelForm):
    """A question about the rules, or an objection."""

    class Meta:
        model = RuleQuestion
        fields = ["kind", "text"]
        widgets = {"text": forms.Textarea(attrs={"rows": 3}), "kind": forms.RadioSelect}
        labels = {"kind": "This is a", "text": "What you ask, or what you object to and why"}


class InviteForm(forms.Form):
    """A link for people to join."""

    role = forms.ChoiceField(choices=ROLES, initial="designer")
    whom = forms.CharField(label="For whom", max_length=80, required=False)
    days = forms.IntegerField(label="Holds, days", min_value=1, max_value=60, initial=14)
    uses = forms.IntegerField(label="Can be used, times", min_value=1, max_value=500, initial=1)


class JoinForm(forms.Form):
    """A new person who comes by an invitation."""

    username = forms.CharField(
        max_length=150, label="Username", widget=forms.TextInput(attrs={"autocomplete": "username"})
    )
    first_name = forms.CharField(max_length=150, label="What others call you")
    password = forms.CharField(
        widget=forms.PasswordInput(attrs={"autocomplete": "new-password"}),
        label="Password",
        help_text="at least 8 characters",
    )
