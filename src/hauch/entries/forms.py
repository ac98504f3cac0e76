"""Forms of the entries."""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from typing import Any

from django import forms
from django.core.exceptions import ValidationError
from django.http import QueryDict
from django.utils.datastructures import MultiValueDict

from hauch.entries.models import MOST_OUTLETS, AssemblyStep, BillItem, PartFile, Version
from hauch.entries.queries import reads_outlets
from hauch.people.models import User
from hauch.people.requests import whole
from hauch.stores.models import Material, Picture
from hauch.stores.pictures import keep_picture
from hauch.ui.fields import offer
from hauch.ui.meanwhile import Meanwhile

MOST_LINES = 60
EMPTY_LINES = 3


class EntryForm(forms.Form):
    name = forms.CharField(max_length=60, label="Name")
    designer_name = forms.CharField(
        max_length=60, required=False, label="Designer", help_text="Empty: you."
    )
    story = forms.CharField(
        widget=forms.Textarea(attrs={"rows": 3}),
        required=False,
        max_length=4000,
        label="Why should it work?",
    )


class EntryVersionForm(forms.Form):
    """Begin the next version; stands beside the form of the present one, with ids of its own."""

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **{"auto_id": "next_%s", **kwargs})

    changed = forms.CharField(max_length=300, label="What the next version changes")
    why = forms.CharField(
        required=False,
        max_length=2000,
        widget=forms.Textarea(attrs={"rows": 2}),
        label="Why the next one should be better",
    )


class PartForm(forms.ModelForm):
    """What a designer says of a part."""

    class Meta:
        model = PartFile
        fields = ["place", "count", "unit", "axis"]
        help_texts = dict.fromkeys(fields, "")  # the labels say it
        labels = {
            "place": "Where it sits",
            "count": "How many",
            "unit": "Drawn in",
            "axis": "Axis of the file along the flow",
        }

    def __init__(self, *args: Any, **kwargs: Any):
        super().__init__(*args, **kwargs)
        for name, found, field in (
            ("unit", "as the file says, or found", PartFile._meta.get_field("unit")),
            ("axis", "found", PartFile._meta.get_field("axis")),
        ):
            offer(self, name, [("", found), *(field.choices or ())])


class PapersForm(Meanwhile, forms.Form):
    """What a version changes and why, its material, bill of materials and steps of assembly."""

    changed = forms.CharField(max_length=300, label="What it changes")
    why = forms.CharField(
        required=False,
        max_length=2000,
        widget=forms.Textarea(attrs={"rows": 2}),
        label="Why that should be better",
    )
    material = forms.ModelChoiceField(
        Material.objects.filter(retired=False),
        required=False,
        label="Material you wish",
        empty_label="whatever the workshop has",
    )

    outlets = forms.IntegerField(
        required=False,
        min_value=2,
        max_value=MOST_OUTLETS,
        label="Outlets",
        help_text="where it has not as many as the rig reads",
    )

    def __init__(
        self, version: Version, data: QueryDict | None = None, files: MultiValueDict | None = None
    ):
        self.version = version
        names = ("changed", "why", "outlets")
        start = {name: getattr(version, name) for name in names} | {"material": version.material_id}
        super().__init__(data, files, initial=start)
        if version.outlets is None and not reads_outlets(version.entry.round):
            del self.fields["outlets"]
        self.line_problems: list[str] = []
        self.begin()

    def beside(self) -> dict[str, str]:
        """Bill and steps, each as a whole."""
        bill = [f"{i.name} {i.quantity} {i.price}" for i in self.version.bill.all()]
        steps = [f"{s.text} {s.picture_id}" for s in self.version.steps.all()]
        return {"the bill of materials": "\n".join(bill), "the steps": "\n".join(steps)}

    def bill_rows(self) -> list[dict[str, str]]:
        """Lines of the bill as they stand in the page: as typed, else as kept, and a few empty
        ones.
        """
        if self.is_bound:
            rows = [
                {k: self.data.get(f"bill_{k}_{n}", "") for k in ("name", "quantity", "price")}
                for n in self._numbers("bill_name")
            ]
        else:
            rows = [
                {"name": i.name, "quantity": f"{float(i.quantity):g}", "price": f"{i.price:.2f}"}
                for i in self.version.bill.all()
            ]
        return rows + [{"name": "", "quantity": "", "price": ""}] * EMPTY_LINES

    def step_rows(self) -> list[dict[str, Any]]:
        """Steps as they stand in the page, with the pictures that are kept."""
        pictures = {
            s.picture_id: s.picture
            for s in self.version.steps.select_related("picture")
            if s.picture_id
        }
        if self.is_bound:
            rows = [
                {
                    "text": self.data.get(f"step_{n}", ""),
                    "picture": pictures.get(self._picture(n) or 0),
                }
                for n in self._numbers("step")
            ]
        else:
            rows = [
                {"text": s.text, "picture": s.picture}
                for s in self.version.steps.select_related("picture")
            ]
        return rows + [{"text": "", "picture": None}] * EMPTY_LINES

    def _numbers(self, prefix: str) -> list[int]:
        found = sorted(
            int(m.group(1))
            for key in self.data
            if (m := re.fullmatch(rf"{prefix}_(\d{{1,3}})", key))
        )
        return [n for n in found[:MOST_LINES] if self.data.get(f"{prefix}_{n}", "").strip()]

    def _picture(self, n: int) -> int | None:
        return whole(self.data.get(f"step_picture_{n}"))

    def bill(self) -> list[BillItem]:
        """The typed bill. Lines that cannot be are told in `line_problems`."""
        made: list[BillItem] = []
        for n in self._numbers("bill_name"):
            name = self.data[f"bill_name_{n}"].strip()[:80]
            try:
                quantity = _decimal(self.data.get(f"bill_quantity_{n}", "") or "1")
                price = _decimal(self.data.get(f"bill_price_{n}", "") or "0")
            except ValueError as problem:
                self.line_problems.append(f"Bill, “{name}”: {problem}")
                continue
            if not 0 < quantity < 100_000 or not 0 <= price < 1_000_000:
                self.line_problems.append(
                    f"Bill, “{name}”: a quantity is above 0, and a price is not negative."
                )
                continue
            made.append(BillItem(name=name, quantity=quantity, price=price))
        return made

    def steps(self, user: User) -> list[AssemblyStep]:
        """The typed steps; pictures that come with them are kept. A picture that cannot be read is
        told in `line_problems`.
        """
        known: dict[int, Picture | None] = {
            s.picture_id: s.picture
            for s in self.version.steps.select_related("picture")
            if s.picture_id
        }
        made: list[AssemblyStep] = []
        for n in self._numbers("step"):
            picture = known.get(self._picture(n) or 0)
            upload = self.files.get(f"step_file_{n}")
            if upload is not None:
                try:
                    picture = keep_picture(user, upload.read())
                except ValidationError as problem:
                    self.line_problems.append(f"Step {len(made) + 1}: {' '.join(problem.messages)}")
            made.append(AssemblyStep(text=self.data[f"step_{n}"].strip()[:300], picture=picture))
        return made


def _decimal(text: str) -> Decimal:
    try:
        value = Decimal(text.strip().replace(",", "."))
    except InvalidOperation as problem:
        raise ValueError(f"“{text.strip()[:20]}” is not a number.") from problem
    if not value.is_finite():
        raise ValueError(f"“{text.strip()[:20]}” is not a number.")
    return round(value, 2)
