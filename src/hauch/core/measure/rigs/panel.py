"""The print panel: its constants, its drawing, and what is measured on it."""

from __future__ import annotations

import math

import numpy as np

from hauch.core.geometry.drawing import Note
from hauch.core.measure.procedure import Procedure
from hauch.core.measure.rigs.base import Constant, RigKind, Sketch
from hauch.core.measure.rigs.common import mean_place
from hauch.core.measure.run import NoResult, RunInput
from hauch.core.quantity import Influence, Quantity, Step, measured


def _draw(r: Sketch) -> None:
    judges, faces = max(int(r["places"]), 1), max(int(r["faces"]), 1)
    for judge in range(judges):
        r.d.notes.append(Note((-0.06, -judge * 0.05 - 0.01), f"judge {judge + 1}", "end"))
        for face in range(faces):
            r.d.box(face * 0.06, -judge * 0.05 - 0.025, 0.05, 0.035, "thin")
    r.d.notes.append(
        Note((faces * 0.03, 0.04), f"{faces} faces or angles, {r['top']:g} points at most, blind")
    )
    r.sensor("panel_points", faces * 0.06 + 0.03, -0.01)


RIG = RigKind(
    key="panel",
    label="Print panel",
    what=(
        "Test prints made with a cooling duct, or dried leaves: faces and angles are given points,"
        " or are ranked, blind by several judges."
    ),
    constants=(
        Constant("places", "Judges", "number", 1, 60, 5, needed=True, whole=True),
        Constant("faces", "Faces or angles each", "number", 1, 60, 4, whole=True),
        Constant("top", "Most points", "points", 1, 100, 10),
    ),
    channels=("panel_points",),
    caution="Judges do not know whose part made the sample, and do not see each other's points.",
    draw=_draw,
)


WHOLE_POINTS = 1.0
"""Steps in which judges give points where no scale is named as the meter."""


def panel_points(run: RunInput) -> Quantity:
    """Mean points [points] of the judges, each judge's own mean counting once; doubt from how far
    they disagree, and from the steps in which points are given, so that five judges who agree to
    the step are not without doubt.
    """
    places = int(run.rig.get("places", (0.0, 0.0))[0])
    positions, values = (
        np.asarray(run.positions.get("panel_points", ())),
        np.asarray(run.readings.get("panel_points", ()), float),
    )
    judges = [
        float(values[positions == p].mean()) for p in sorted(set(positions.tolist())) if p >= 1
    ]
    if len(judges) < max(places, 1):
        raise NoResult(
            f"{len(judges)} of {places} judges gave points. Enter the points of every judge, in"
            " order."
        )
    mean = float(np.mean(judges))
    scatter = float(np.std(judges, ddof=1)) / math.sqrt(len(judges)) if len(judges) > 1 else 0.0
    cause = Influence(
        f"run:{run.run}:panel:scatter", "judges disagree", "own", "A", max(len(judges) - 1.0, 1.0)
    )
    meter = run.meters.get("panel_points")
    step = (meter.resolution if meter else WHOLE_POINTS) / math.sqrt(12 * len(judges))
    steps = Influence(f"run:{run.run}:panel:step", "steps in which points are given", "own", "B")
    note = (
        f"{len(judges)} judges, {min(judges):g} to {max(judges):g} points"
        if len(judges) > 1
        else "one judge: how far others would disagree is not in the uncertainty"
    )
    return measured(mean, "points", [(cause, scatter), (steps, step)]).with_step(
        Step(
            "Mean of the judges",
            "x̄ = 1/J Σ x̄ⱼ",
            (("J", float(len(judges)), ""),),
            mean,
            "points",
            "JCGM 100:2008, 4.2.1",
            note,
        )
    )


def panel_places(run: RunInput) -> Quantity:
    """Mean place that the judges gave blind [%], over criteria and faces by their weights: 0 the best
    end, 100 the other.
    """
    return mean_place(
        run,
        "panel_place",
        "judges",
        "Nobody has ranked it. Open a sitting, and close it into runs.",
    )


PROCEDURES = (
    Procedure(
        rig=RIG.key,
        key="panel_points",
        label="Points of a blind panel",
        short="Panel",
        metric="points",
        kind="points",
        direction=+1,
        log=False,
        change_unit="points",
        needs=(("panel_points",),),
        optional=(),
        places=True,
        by_speed=False,
        reduce=panel_points,
    ),
    Procedure(
        rig=RIG.key,
        key="panel_places",
        label="Places by a blind panel",
        short="Panel places",
        metric="place by judges",
        kind="percent",
        direction=-1,
        log=False,
        change_unit="%",
        needs=(("panel_place",),),
        optional=(),
        places=True,
        by_speed=False,
        reduce=panel_places,
    ),
)
