"""What can be done at the Desk: keep designs, hand them to entries, send measured values back,
search for a better rotor.
"""

from __future__ import annotations

import hashlib
import math
from collections.abc import Mapping
from typing import Any

from django.core.exceptions import ValidationError
from django.db import transaction
from django.utils import timezone

from hauch.core.geometry.fit import misfits
from hauch.core.geometry.kinds import PART_KINDS
from hauch.core.predict.model import CannotBe
from hauch.desk.jobs import search_later
from hauch.desk.models import Around, Design, MeasuredBack, Search
from hauch.desk.queries import NOTHING
from hauch.desk.search import AIMS, FIGURES
from hauch.desk.tools import TOOLS, Tool
from hauch.desk.tools.base import Answer, Setting
from hauch.desk.tools.rotor_inputs import extent as rotor_extent
from hauch.entries.actions import add_version, attach
from hauch.entries.models import Entry, Version
from hauch.entries.predictions import predict
from hauch.people.audit import record
from hauch.people.models import User
from hauch.people.permissions import require
from hauch.rounds.queries import round_tests
from hauch.stores.models import Rig
from hauch.workshop.models import Measure, Specimen
from hauch.workshop.queries import measured

MOST_SEARCHES = 3
"""Searches of one person that may wait or run at once."""


@transaction.atomic
def save_design(
    user: User,
    tool: Tool,
    name: str,
    values: Mapping[str, Any],
    around: Around = NOTHING,
    over: Design | None = None,
) -> Design:
    """Keep a design under a name; one's own of the same name is replaced.

    Raises
    ------
    ValidationError : no name, or a design that cannot be
    """
    require(user, "desk.use")
    if not name.strip():
        raise ValidationError({"name": "Give the design a name."})
    _answer(tool, values)
    User.objects.select_for_update().get(pk=user.pk)  # sent twice at once, it is kept once
    design = (
        over
        or Design.objects.filter(owner=user, tool=tool.key, name__iexact=name.strip()).first()
        or Design(owner=user, tool=tool.key)
    )
    if design.owner_id != user.pk:
        raise ValidationError("This design belongs to somebody else; keep it under your own name.")
    design.name, design.inputs, design.changed_at = (
        name.strip(),
        tool.complete(values),
        timezone.now(),
    )
    design.rig, design.fit, design.load = around.rig, around.fit, around.load
    design.full_clean()
    design.save()
    return design


def delete_design(user: User, design: Design) -> None:
    """Throw one's own design away; predictions that were made with it stay."""
    require(user, "desk.use")
    if design.owner_id != user.pk:
        raise ValidationError("This design belongs to somebody else.")
    design.delete()


def _answer(tool: Tool, values: Mapping[str, Any], setting: Setting | None = None) -> Answer:
    try:
        return tool.answer(values, setting)
    except CannotBe as problem:
        raise ValidationError(list(problem.problems.values())) from problem


def _same_part(tool: Tool, entry: Entry) -> None:
    """Raise ValidationError where an entry's round is of another kind of part than the tool."""
    if tool.part and entry.round.part not in tool.parts:
        raise ValidationError(
            f"{entry.name} is in {entry.round.title}, a round of {entry.round.kind.plural};"
            f" {tool.label} makes {PART_KINDS[tool.part].plural}. Choose another entry."
        )


@transaction.atomic
def predict_for(
    user: User, tool: Tool, values: Mapping[str, Any], setting: Setting, version: Version
) -> list[str]:
    """Hand what the tool foretells to a version, for each test of its round that it can foretell.
    Gives their labels.

    Raises
    ------
    ValidationError : nothing to foretell in that round, or the version has been on the bench
    """
    answer = _answer(tool, values, setting)
    _same_part(tool, version.entry)
    told = []
    for test in round_tests(version.entry.round):
        key = answer.predicts.get(test.procedure)
        if key is None:
            continue
        figure = answer.figure(key)
        if math.isfinite(figure.quantity.value):
            predict(
                user,
                version,
                test.procedure,
                figure.shown.value,
                figure.shown.u,
                tool.key,
                tool.complete(values),
            )
            told.append(test.label)
    if not told:
        raise ValidationError(
            f"{version.entry.round.title} has no test that this tool foretells; it foretells"
            f" {', '.join(sorted(answer.predicts)).replace('_', ' ') or 'none'}."
        )
    return told


@transaction.atomic
def new_version(
    user: User, tool: Tool, values: Mapping[str, Any], setting: Setting, entry: Entry, changed: str
) -> Version:
    """Make a part by the generator and hand it in as a new version, one file in millimetres, with
    its prediction.
    """
    from hauch.formats import mesh

    if tool.solid is None:
        raise ValidationError(f"{tool.label} makes no solid.")
    _answer(tool, values, setting)
    _same_part(tool, entry)
    try:
        solid = tool.solid(values)
    except CannotBe as problem:
        raise ValidationError(list(problem.problems.values())) from problem
    extent = tool.extent(values) if tool.extent is not None else {}
    if outside := misfits(extent, dict(entry.round.what.values), entry.round.title):
        raise ValidationError(outside)
    stl = mesh.to_stl(solid)
    Entry.objects.select_for_update(of=("self",)).get(
        pk=entry.pk
    )  # sent twice at once, it is made once
    latest = entry.versions.order_by("-number").first()
    if latest is not None and latest.files.filter(sha256=hashlib.sha256(stl).hexdigest()).exists():
        raise ValidationError(f"{entry.name} v{latest.number} holds this very part already.")
    version = add_version(user, entry, changed)
    file = attach(user, version, f"{entry.round.slug}-{entry.pk}-v{version.number}.stl", stl)
    file.unit = "mm"
    file.save(update_fields=["unit"])
    if any(
        answer_key in {t.procedure for t in round_tests(entry.round)}
        for answer_key in tool.answer(values, setting).predicts
    ):
        predict_for(user, tool, values, setting, version)
    return version


def _with_measured(tool: Tool, values: dict[str, Any], specimen: Specimen) -> dict[str, Any]:
    """The inputs of a design with the sizes of a specimen in their place."""
    sizes = {h.kind: h for h in measured(specimen)}
    kind, changed = Measure.Kind, dict(values)
    if tool.key == "ring" and kind.SLOT in sizes:
        changed["slots"] = [{"width": value} for _, value in sizes[kind.SLOT].places]
        changed["slot"] = sizes[kind.SLOT].mean
    if tool.key == "rotor" and kind.TIP_GAP in sizes:
        changed["tip"] = values["tip"] + 2 * (values["gap"] - sizes[kind.TIP_GAP].mean)
        changed["gap"] = sizes[kind.TIP_GAP].mean
    elif tool.key == "rotor" and kind.OUTER in sizes:
        changed["gap"] = values["gap"] + (values["tip"] - sizes[kind.OUTER].mean) / 2
        changed["tip"] = sizes[kind.OUTER].mean
    if tool.key == "duct" and kind.WALL in sizes:
        changed["wall"] = sizes[kind.WALL].mean
    return changed


def design_as_measured(user: User, specimen: Specimen) -> Design:
    """The design that foretold a specimen's version, with the sizes measured on the specimen; kept
    under the specimen's code.

    Raises
    ------
    ValidationError : no model foretold the version, or nothing was measured that its inputs know
    """
    require(user, "desk.use")
    foretold = specimen.version.predictions.exclude(model="").order_by("-made_at").first()
    if foretold is None:
        raise ValidationError(
            f"No model of the Desk foretold {specimen.version}. Save its prediction from the Desk"
            " first; then the sizes can be put in."
        )
    tool = TOOLS[foretold.model]
    values = tool.complete(foretold.inputs)
    changed = _with_measured(tool, values, specimen)
    if changed == values:
        raise ValidationError(
            f"Nothing was measured on {specimen} that {tool.label.lower()} knows as an input: a"
            " ring's slot, a rotor's tip gap or diameter, a duct's wall."
        )
    return save_design(user, tool, f"{specimen.code} as measured", changed)


@transaction.atomic
def send_back(
    user: User,
    tool: Tool,
    figure: str,
    rig: Rig,
    design_name: str,
    values: Mapping[str, Any],
    measured: float,
    u_measured: float,
    resistance: float = 0.0,
) -> MeasuredBack:
    """Send a measured value back: with others on the same rig it makes the factor of the model
    there.

    Raises
    ------
    ValidationError : a figure that is none, or not above 0
    """
    require(user, "desk.measure")
    answer = _answer(
        tool, values, Setting(rig.name, resistance)
    )  # without earlier factors: the model's own word
    if figure not in answer.predicts.values():
        raise ValidationError({"figure": "This figure is not one that a bench measures."})
    predicted = answer.figure(figure).quantity.value
    if not (math.isfinite(predicted) and predicted > 0):
        raise ValidationError(
            {
                "figure": (
                    "The model gives no figure above 0 here, so there is nothing to hold the"
                    " measurement against."
                )
            }
        )
    if not (measured and math.isfinite(measured) and measured > 0):
        raise ValidationError({"measured": "The measured value must be above 0."})
    if not 0.2 <= measured / predicted <= 5:
        raise ValidationError(
            {
                "measured": (
                    f"The measured value is {measured / predicted:.2g} times the predicted one."
                    " Check the unit, the rig and the design; so large a factor would hide a"
                    " mistake."
                )
            }
        )
    row = MeasuredBack.objects.create(
        tool=tool.key,
        figure=figure,
        rig=rig,
        design_name=design_name[:60] or tool.label,
        predicted=predicted,
        measured=measured,
        u_measured=u_measured,
        sent_by=user,
    )
    record(user, "desk.measured", row, tool=tool.key, predicted=predicted, measured=measured)
    return row


@transaction.atomic
def withdraw_measured(user: User, row: MeasuredBack) -> None:
    """Take a measured value out of the factor; it stays in the list, crossed out."""
    require(user, "desk.measure")
    row.withdrawn = True
    row.save(update_fields=["withdrawn"])
    record(user, "desk.measured_withdrawn", row)


@transaction.atomic
def start_search(
    user: User, values: Mapping[str, Any], around: Around, aim: str, limits: Mapping[str, float]
) -> Search:
    """Leave a search for a better rotor to the worker.

    Raises
    ------
    ValidationError : a start that cannot be, an unknown aim, too many searches at once
    """
    require(user, "desk.use")
    tool = TOOLS["rotor"]
    if aim not in AIMS:
        raise ValidationError({"aim": "Choose what to aim at."})
    if values.get("placed") == "free":
        raise ValidationError("A search needs a duty: place the rotor in a duct or frame.")
    if unknown := set(limits) - set(FIGURES) - {"depth"}:
        raise ValidationError(f"No limit can be set on {', '.join(sorted(unknown))}.")
    _answer(tool, values)
    if around.fit is not None:
        fixed = {
            key: size
            for key, size in rotor_extent(values).items()
            if key in {"swept", "hub", "shaft"}
        }
        if outside := misfits(fixed, dict(around.fit.what.values), around.fit.title):
            raise ValidationError(
                [
                    *outside,
                    (
                        "A search moves only pitch, chord and camber: bring these sizes into the"
                        " envelope first."
                    ),
                ]
            )
    User.objects.select_for_update().get(pk=user.pk)
    if (
        Search.objects.filter(
            owner=user, state__in=[Search.State.WAITING, Search.State.RUNNING]
        ).count()
        >= MOST_SEARCHES
    ):
        raise ValidationError(
            f"{MOST_SEARCHES} of your searches are at work already. Stop one, or wait for it."
        )
    made = Search.objects.create(
        owner=user,
        inputs=tool.complete(values),
        rig=around.rig,
        fit=around.fit,
        aim=aim,
        limits=dict(limits),
    )
    search_later.defer(search_id=made.pk)
    return made


def cancel_search(user: User, search: Search) -> None:
    """Stop one's own search; the best so far stays."""
    if search.owner_id != user.pk:
        raise ValidationError("This search belongs to somebody else.")
    waiting = Search.objects.filter(pk=search.pk, state=Search.State.WAITING).update(
        state=Search.State.CANCELLED, cancel=True
    )
    if not waiting:
        Search.objects.filter(pk=search.pk).update(cancel=True)
