"""The Desk: a rotor's curve against a bare call of the section model, a search with eight
parameters, the generator, an answer over HTTP.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from django.test import Client

from benchmarks.harness import Row, row, seconds
from hauch.core.geometry.solids import Hub, rotor_solid
from hauch.core.predict.rotor import rotor_curve
from hauch.core.predict.section_network import lift_and_drag
from hauch.demo.load import load_demo
from hauch.desk.forms import ToolForm
from hauch.desk.search import AIMS, search
from hauch.desk.tools import TOOLS
from hauch.desk.tools.base import Setting
from hauch.desk.tools.rotor_inputs import blading, installed
from hauch.people.first import DEMO_PEOPLE, add_person
from hauch.people.models import User

FLOWS, STATIONS = 15, 25
POINTS = STATIONS * 21 + FLOWS * STATIONS
"""Section evaluations of one curve: a table of angles for each station, and each station at each
flow.
"""


def run() -> Iterator[Row]:
    rotor = TOOLS["rotor"]
    start = rotor.start()
    turning = installed(start)
    side = np.full((8, POINTS), 0.15)
    angles, reynolds = np.linspace(-14, 26, POINTS), np.full(POINTS, 6e4)
    bare = seconds(lambda: lift_and_drag(side, -side / 2, 0.004, angles, reynolds, 5.0), 15)
    speeds = iter(np.linspace(1800, 2000, 400))
    curve = seconds(
        lambda: rotor_curve(replace(turning, speed=float(next(speeds))), FLOWS, STATIONS), 15
    )
    yield row(f"rotor curve, {FLOWS} flows x {STATIONS} stations", 1000 * curve, "ms", 30.0)
    yield row(f"rotor curve against {POINTS} bare section evaluations", curve / bare, "x")

    begin = time.perf_counter()
    found = search(start, Setting(), AIMS["efficiency"], {}, {}, lambda share, best: True)
    best = found.run()
    yield row("search with 8 parameters", time.perf_counter() - begin, "s", 20.0)
    first = found.judge(found.start)
    if best is None or first is None:
        raise RuntimeError("the search found nothing")
    yield row("efficiency that it gained", best.aim - first[0], "%")

    solid: list[int] = []
    taken = seconds(lambda: solid.append(len(rotor_solid(blading(start), Hub(), 72, 31).faces)), 3)
    yield row(f"generator, rotor of {solid[0]:,} triangles", taken, "s", 2.0)

    for username, (name, _) in DEMO_PEOPLE.items():
        add_person(username, name, staff=username == "runa")
    load_demo()
    client = Client(SERVER_NAME="localhost")
    client.force_login(
        User.objects.get(username="runa"), backend="django.contrib.auth.backends.ModelBackend"
    )
    for key, tool in TOOLS.items():
        form = ToolForm(tool, None, units="workshop", initial=tool.start())
        data = {
            name: "" if form[name].value() is None else form[name].value() for name in form.fields
        }
        moved = next(
            i.key
            for i in tool.inputs
            if i.kind not in {"choice", "count"} and i.points == 1 and i.start
        )
        times = []
        for n in range(12):
            data[moved] = (
                f"{float(form.fields[moved].prepare_value(tool.start()[moved])) * (1 + 0.002 * n):.6g}"
            )
            at = time.perf_counter()
            if (
                client.post(f"/desk/{key}/", data, headers={"HX-Request": "true"}).status_code
                != 200
            ):
                raise RuntimeError(key)
            times.append(time.perf_counter() - at)
        yield row(
            f"answer of {tool.label.lower()} over HTTP, median",
            1000 * float(np.median(times)),
            "ms",
        )
