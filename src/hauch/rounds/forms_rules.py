"""Forms of the rules: a row for each test, and what is around them."""

from __future__ import annotations

from typing import Any

from django import forms
from django.http import QueryDict

from hauch.core.measure.own import KEY, LONGEST, Name, Own, names_on
from hauch.core.measure.procedures import PROCEDURES
from hauch.core.measure.rigs import RIGS
from hauch.core.measure.taking import HIGHEST, MEAN, WHY
from hauch.core.quantity.written import LONGEST as LONGEST_UNIT
from hauch.rounds.drafts import RuleDraft, TestDraft
from hauch.rounds.models import Round, RuleVersion, Test
from hauch.stores.models import Rig
from hauch.ui.fields import FigureField, kept_figure, offer

RATIO, DIFFERENCE = "ratio", "difference"
OWN_FIELDS = ("formula", "unit", "better", "compared")


class TestRowForm(forms.Form):
    """One test of the rules."""

    label = forms.CharField(max_length=80, required=False)
    rig = forms.TypedChoiceField(required=False, coerce=int, empty_value=None)
    order = forms.IntegerField(min_value=1, max_value=99, required=False)
    repeats = forms.IntegerField(min_value=1, max_value=99, required=False)
    readings = forms.IntegerField(min_value=1, max_value=999, required=False)
    soak = forms.ChoiceField(choices=Test.Soak.choices, required=False)
    dropped = forms.BooleanField(label="Drop", required=False)

    def __init__(self, *args: Any, units: str, rigs: list[Rig], draft: TestDraft, **kwargs: Any):
        self.draft, how = draft, draft.how
        start = {
            name: getattr(draft, name)
            for name in ("label", "order", "repeats", "readings", "soak", "dropped")
        }
        kwargs["initial"] = {**start, "rig": draft.rig.pk if draft.rig else None}
        super().__init__(*args, **kwargs)
        self.rigs = {
            rig.pk: rig
            for rig in rigs
            if rig.kind == how.rig or (draft.rig is not None and rig.pk == draft.rig.pk)
        }
        offer(self, "rig", [("", "none"), *((pk, str(rig)) for pk, rig in self.rigs.items())])
        more: dict[str, FigureField] = {
            "soak_minutes": FigureField(
                label="minutes", required=False, initial=draft.soak_minutes
            ),
            "baseline": FigureField(
                label=f"Reference repeats to ± {how.change_unit}",
                required=False,
                initial=draft.baseline,
            ),
            "weight": FigureField(label="Weight", required=False, initial=draft.weight),
            "most_loss": FigureField(
                label=f"Most loss, {how.change_unit}", required=False, initial=draft.most_loss
            ),
        }
        if how.decides:
            self.fields["taking"] = forms.ChoiceField(
                label="Counts",
                choices=Test._meta.get_field("taking").choices or (),
                initial=draft.taking,
                help_text=WHY[HIGHEST] if draft.taking == HIGHEST else "",
                required=False,
            )
        if how.by_speed:
            more["common_speed"] = FigureField(
                kind="rotational_speed",
                units=units,
                label="Converted to",
                required=False,
                initial=draft.common_speed,
            )
        if how.kind == "level":
            more["reporting_distance"] = FigureField(
                kind="length",
                units=units,
                label="Told for a distance",
                required=False,
                initial=draft.reporting_distance,
            )
        if how.kind == "temperature_difference":
            more["resolution"] = FigureField(
                kind="temperature_difference",
                units=units,
                difference=True,
                label="Settled to",
                required=False,
                initial=draft.resolution,
            )
        self.fields.update(more)
        if draft.own is not None:
            self.fields.update(_fields_of_ones_own(Own.from_json(draft.own)))

    @property
    def own_fields(self) -> list[Any]:
        """Fields of a figure of one's own; none for other tests."""
        return [self[name] for name in OWN_FIELDS if name in self.fields]

    @property
    def own_names(self) -> list[Name]:
        """What its formula may name."""
        own = self.draft.own
        return list(names_on(own["rig"]).values()) if own else []

    @property
    def figures(self) -> list[Any]:
        """Fields besides those in the table's columns."""
        names = (
            "order",
            "soak",
            "soak_minutes",
            "taking",
            "resolution",
            "baseline",
            "common_speed",
            "reporting_distance",
        )
        return [self[name] for name in names if name in self.fields]

    def wanted(self) -> TestDraft:
        """The test as typed; empty counts stay as they were."""
        data, old = self.cleaned_data, self.draft
        counts: dict[str, Any] = {
            name: data.get(name) or getattr(old, name) for name in ("order", "repeats", "readings")
        }
        rig = self.rigs.get(data["rig"]) if data.get("rig") else None
        given = ("weight", "most_loss", "common_speed", "reporting_distance", "resolution")
        figures: dict[str, Any] = {
            name: kept_figure(self, name) if name in self.fields else None for name in given
        }
        if dropped := bool(data.get("dropped")):  # then it scores nothing, whatever stands there
            figures["weight"] = figures["most_loss"] = None
        own, procedure = old.own, old.procedure
        if own is not None:
            made = Own(
                own["rig"],
                " ".join(data["formula"].split()),
                " ".join(data["unit"].split()),
                data["better"],
                data["compared"] == RATIO,
            )
            own, procedure = made.as_json(), made.key
        soak = data.get("soak") or Test.Soak.NONE
        minutes = kept_figure(self, "soak_minutes") if soak == Test.Soak.MINUTES else None
        return TestDraft(
            old.test,
            procedure,
            (data.get("label") or "").strip() or old.label,
            rig,
            soak=soak,
            soak_minutes=minutes,
            dropped=dropped,
            own=own,
            taking=data.get("taking") or (old.taking if old.how.decides else MEAN),
            baseline=kept_figure(self, "baseline") or old.baseline,
            **counts,
            **figures,
        )


def _fields_of_ones_own(own: Own) -> dict[str, forms.Field]:
    """Fields of a figure of one's own, as it stands."""
    return {
        "formula": forms.CharField(
            label="Formula",
            initial=own.formula,
            max_length=LONGEST,
            required=False,
            widget=forms.TextInput(
                attrs={
                    "class": "wide",
                    "spellcheck": "false",
                    "placeholder": "such as airflow / power",
                }
            ),
        ),
        "unit": forms.CharField(
            label="Unit",
            initial=own.unit,
            max_length=LONGEST_UNIT,
            required=False,
            widget=forms.TextInput(attrs={"placeholder": "m³/h/W"}),
        ),
        "better": forms.TypedChoiceField(
            label="Better is",
            coerce=int,
            choices=[(1, "more"), (-1, "less")],
            initial=own.direction,
        ),
        "compared": forms.ChoiceField(
            label="Compared as",
            choices=[(RATIO, "a ratio, in %"), (DIFFERENCE, "a difference, in its unit")],
            initial=RATIO if own.log else DIFFERENCE,
        ),
    }


def _added(added: str, label: str, rigs: dict[str, Rig], order: int) -> TestDraft | None:
    """A test that is added: by the key of its procedure, or a figure of one's own by its kind of
    rig; None for neither.
    """
    if added in PROCEDURES:
        how = PROCEDURES[added]
        return TestDraft(None, added, label or how.label, rigs.get(how.rig), order=order)
    rig = added.removeprefix(KEY)
    if not added.startswith(KEY) or rig not in RIGS:
        return None
    own = Own(rig, "", "", 1, True)
    label = label or "Figure of your own"
    return TestDraft(None, own.key, label, rigs.get(rig), order=order, own=own.as_json())


class RulesForm(forms.Form):
    """Scheme, ties, and one row for each test."""

    scheme = forms.ChoiceField(choices=RuleVersion.Scheme.choices, label="Ranked by")
    tie_rule = forms.ChoiceField(choices=RuleVersion.Ties.choices, label="Ties")
    level_as = forms.ChoiceField(choices=RuleVersion.LevelAs.choices, label="Noise counts as")
    reason = forms.CharField(label="Why do the rules change?", required=False, max_length=500)
    add = forms.ChoiceField(
        choices=[
            ("", "no further test"),
            *((p.key, p.label) for p in PROCEDURES.values()),
            (
                "A figure of your own, read on",
                [(f"{KEY}{rig.key}", f"{rig.label}: your formula") for rig in RIGS.values()],
            ),
        ],
        label="Add a test",
        required=False,
    )
    add_label = forms.CharField(label="called", required=False, max_length=80)

    def __init__(
        self, data: QueryDict | None = None, *, round: Round, present: RuleDraft, units: str
    ):
        added = ("", "")
        if (
            data is not None and "add_test" in data
        ):  # taken up once: the fields are empty again in the answer
            added = (data.get("add", ""), data.get("add_label", "").strip())
            data = data.copy()
            data["add"] = data["add_label"] = ""
        super().__init__(
            data,
            initial={name: getattr(present, name) for name in ("scheme", "tie_rule", "level_as")},
        )
        self.present = present
        rigs = list(Rig.objects.current().order_by("name").prefetch_related("meters"))
        drafts = list(present.tests)
        if data is not None:
            drafts += self._new_ones(data, added, rigs, len(drafts))
        self.rows = [
            self._row(data, f"t{d.test.pk}" if d.test else f"new{n}", d, rigs, units)
            for n, d in enumerate(drafts)
        ]

    @staticmethod
    def _row(
        data: QueryDict | None, prefix: str, draft: TestDraft, rigs: list[Rig], units: str
    ) -> TestRowForm:
        """One row; a test that was added just now does not stand in the data yet and shows what it
        starts with.
        """
        there = data if data is not None and f"{prefix}-order" in data else None
        return TestRowForm(there, prefix=prefix, units=units, rigs=rigs, draft=draft)

    def _new_ones(
        self, data: QueryDict, added: tuple[str, str], rigs: list[Rig], count: int
    ) -> list[TestDraft]:
        """New tests: those that stand in the form already, and the one that is added now."""
        wanted = [*((p, "") for p in data.getlist("new_procedure")), added]
        first = {rig.kind: rig for rig in reversed(rigs)}
        made: list[TestDraft] = []
        for p, label in wanted:
            draft = _added(p, label[:80], first, count + len(made) + 1)
            if draft is not None:
                made.append(draft)
        return made

    def is_valid(self) -> bool:
        """Whether all rows can be read."""
        return super().is_valid() and all(row.is_valid() for row in self.rows if row.is_bound)

    def wanted(self) -> RuleDraft:
        """The rules as typed."""
        data = self.cleaned_data
        tests = [row.wanted() if row.is_bound else row.draft for row in self.rows]
        return RuleDraft(data["scheme"], data["tie_rule"], data["level_as"], tests, data["reason"])

    @property
    def problems(self) -> list[str]:
        """What could not be read, by test and field."""
        found = [str(e) for e in self.non_field_errors()]
        for row in self.rows:
            found += [
                f"{row.draft.label}, {row[name].label.lower()}: {text}"
                for name, texts in row.errors.items()
                for text in texts
            ]
        return found
