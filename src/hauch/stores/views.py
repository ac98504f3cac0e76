"""Stores: what is there to measure with."""

from __future__ import annotations

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from hauch.core.measure.channels import CHANNELS
from hauch.stores.models import RIG_CONSTANTS, Instrument, ReferenceSpecimen, Rig


def stores(request: HttpRequest) -> HttpResponse:
    """Rigs with their constants and meters, instruments, reference specimens."""
    rigs = []
    for rig in Rig.objects.prefetch_related("meters__instrument"):
        constants = [(*RIG_CONSTANTS.get(name, (name, "", "number"))[::2], value, 2 * u) for name, (value, u) in rig.constants.items()]
        rigs.append({"rig": rig, "constants": constants, "meters": [(CHANNELS[m.channel].label, m.instrument) for m in rig.meters.all()]})
    instruments = [(i, CHANNELS[i.channel]) for i in Instrument.objects.all()]
    return render(
        request, "stores/stores.html", {"rigs": rigs, "instruments": instruments, "references": ReferenceSpecimen.objects.select_related("type")}
    )  # fmt: skip
