"""Soaks by hand: where a load is heading, from the points that somebody notes while waiting."""

from __future__ import annotations

import math

import numpy as np
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, render

from hauch.core.measure.channels import CHANNELS
from hauch.core.quantity import expanded
from hauch.core.quantity.typed import typed_figure
from hauch.core.quantity.units import KINDS
from hauch.core.trace.reduce import RISE_RESOLUTION
from hauch.core.trace.settle import LEAST_POINTS, Settling, fit_settling
from hauch.people.requests import Request
from hauch.rounds.models import Test
from hauch.rounds.queries import round_for
from hauch.stores.models import RigMeter

MOST_POINTS = 300
LONGEST = 48 * 3600.0
"""Seconds from the first point to the last."""
SHORTEST = 30.0
"""Seconds that points must lie apart in all."""
DIGIT = 0.1
"""Steps of a thermometer of which nothing is known [K]."""


def soak_channel(test: Test) -> str:
    """The temperature that a test waits for; empty where it waits for none."""
    if test.soak != Test.Soak.SETTLED:
        return ""
    read = (c for group in test.how.needs for c in group)
    return next((c for c in read if CHANNELS[c].kind == "temperature"), "")


def soak(request: Request, slug: str, test_pk: int) -> HttpResponse:
    """Where the noted points are heading, and how long still; nothing is stored."""
    round = round_for(request.user, slug, "run.record")
    test = get_object_or_404(Test.objects.select_related("rig"), pk=test_pk, round=round)
    channel = soak_channel(test)
    context: dict[str, object] = {"least": LEAST_POINTS, "resolution": resolution_of(test)}
    try:
        at, values = _points(request, KINDS["temperature"].shown[request.user.units])
        context["count"] = len(at)
        if channel and len(at) >= LEAST_POINTS:
            found = forecast(test, channel, at, values)
            wait = wait_until(found, values[int(np.argmax(at))], resolution_of(test))
            context |= {"found": found, "half": expanded(found.u, found.dof), "there": wait == 0}
            context["minutes"] = math.ceil(wait / 60) if wait < LONGEST else None
    except ValueError as problem:
        context["problem"] = str(problem)
    return render(request, "bench/_soak.html", context)


def resolution_of(test: Test) -> float:
    """To what a soak must settle [K]."""
    return test.resolution or RISE_RESOLUTION


def forecast(test: Test, channel: str, at: list[float], values: list[float]) -> Settling:
    """Where a load is heading, from a few points [s, °C].

    Raises
    ------
    ValueError : all points at one moment
    """
    if max(at) - min(at) < SHORTEST:
        raise ValueError("All points were noted at once. Note one about every minute.")
    meter = (
        RigMeter.objects.filter(rig=test.rig_id, channel=channel)
        .select_related("instrument")
        .first()
    )
    digit = meter.instrument.resolution if meter else DIGIT
    order = np.argsort(at)
    return fit_settling(
        np.array(at)[order],
        np.array(values)[order],
        resolution_of(test),
        least=LEAST_POINTS,
        digit=digit,
    )


def wait_until(found: Settling, last: float, resolution: float) -> float:
    """How long until what is read is where it ends, to within the resolution [s]; 0 when it is.

    What is read by hand counts as it stands, unlike a recorded soak, whose fitted end counts: so the
    rest that is still to come and the doubt of the end together must be below the resolution.
    """
    rest, half = abs(found.end - last), expanded(found.u, found.dof)
    if rest + half <= resolution:
        return 0.0
    room = max(resolution - half, resolution / 2)
    come = found.tau * math.log(rest / room) if rest > room else 0.0
    return max(found.seconds_to_go, come, 60.0)


def _points(request: Request, unit: str) -> tuple[list[float], list[float]]:
    times, typed = request.GET.getlist("at"), request.GET.getlist("value")
    if len(times) != len(typed) or len(times) > MOST_POINTS:
        raise ValueError(f"At most {MOST_POINTS} points can be noted.")
    at, values = [], []
    for moment, text in zip(times, typed, strict=True):
        try:
            seconds = float(moment)
        except ValueError:
            seconds = math.nan
        if not 0 <= seconds <= LONGEST:
            raise ValueError("A point was noted at no time of this soak. Start the clock again.")
        at.append(seconds)
        values.append(typed_figure(text[:20], "temperature", unit)[0])
    return at, values
