"""Two to four versions side by side."""

from __future__ import annotations

from typing import Any

from django.db.models import prefetch_related_objects
from django.http import Http404, HttpResponse
from django.shortcuts import render

from hauch.core.quantity import expanded
from hauch.core.quantity.show import show
from hauch.entries.models import Version
from hauch.people.permissions import allowed
from hauch.people.requests import Request
from hauch.rounds.models import Round
from hauch.rounds.queries import round_for, round_tests
from hauch.sound.models import SoundRecording
from hauch.sound.queries import visible_to as sounds_visible_to
from hauch.verdict.accepting import Measured
from hauch.verdict.beside import (
    MOST,
    Curves,
    curves_of,
    facts_of,
    figures_of,
    geometry_of,
    measured_versions,
    sentences,
)
from hauch.verdict.rising import Rise, Rises, rises_of


def beside(request: Request, slug: str) -> HttpResponse:
    """Figures, curves and facts of versions beside each other; which, the address says."""
    round = round_for(request.user, slug)
    if not allowed(request.user, "verdict.view_early", round):
        raise Http404("The standing is not published yet.")
    tests = round_tests(round)
    offered = measured_versions(round)
    chosen = _chosen(request, offered)
    context: dict[str, Any] = {
        "round": round,
        "offered": offered,
        "chosen": chosen,
        "choosers": [str(chosen[i]) if i < len(chosen) else "" for i in range(MOST)],
        "unknown": [text for text in _asked(request) if text not in _by_name(offered)],
    }
    if chosen:
        prefetch_related_objects(chosen, "specimens", "bill", "material")
        entries = list({version.entry_id: version.entry for version in chosen}.values())
        for entry in entries:
            entry.round = round
        measured = Measured.of(entries, tests)
        units = request.user.units
        facts, sounds = facts_of(chosen), _sounds(request, round, chosen)
        listens = [sounds[version.pk].pk for version in chosen if version.pk in sounds][:2]
        curves = curves_of(chosen, tests, request.GET, units)
        context |= {
            "figures": figures_of(chosen, tests, measured),
            "curves": [
                (one, _chart(one, chosen), sentences(one, chosen, _shower(one, units)))
                for one in curves
            ],
            "rises": [(one, _rise_chart(one, chosen)) for one in rises_of(chosen, tests)],
            "facts": facts,
            "geometry": geometry_of(facts),
            "pictured": any(fact.part is not None for fact in facts),
            "sounds": [
                _heard(sounds[version.pk]) if version.pk in sounds else None for version in chosen
            ]
            if sounds
            else [],
            "listens": listens if len(listens) > 1 else [],
        }
    return render(request, "verdict/beside.html", context)


def _chosen(request: Request, offered: list[Version]) -> list[Version]:
    """What the address names, each once; else the first two entries."""
    by_name = _by_name(offered)
    named = [by_name[text] for text in _asked(request) if text in by_name]
    named = list(dict.fromkeys(named))[:MOST]
    if named:
        return named
    first = {version.entry_id: version for version in offered}
    return list(first.values())[:2]


def _asked(request: Request) -> list[str]:
    """Versions that the address asks for, as they were typed."""
    return [text for one in request.GET.getlist("v")[:20] if (text := " ".join(one.split())[:120])]


def _by_name(offered: list[Version]) -> dict[str, Version]:
    """Versions by what may be typed for them: their name, or their number in links."""
    return {str(v): v for v in offered} | {str(v.pk): v for v in offered}


def _shower(one: Curves, units: str) -> Any:
    def told(value: float, axis: str) -> str:
        shown = show(value, one.kinds[axis], units)
        return f"{shown.number} {shown.unit}".strip()

    return told


def _chart(one: Curves, chosen: list[Version]) -> dict[str, Any]:
    ground = one.reference
    return {
        "x_label": one.labels["x"],
        "x_kind": one.kinds["x"],
        "y_label": one.labels["y"],
        "y_kind": one.kinds["y"],
        "lines": [
            {
                "name": f"{version.entry.name} v{version.number}",
                "mark": version.entry.mark,
                "x": mine.x.tolist(),
                "y": mine.y.tolist(),
            }
            for version, mine in zip(chosen, one.laid, strict=True)
            if mine is not None
        ],
        "reference": None
        if ground is None
        else {
            "x": ground.x.tolist(),
            "y": ground.y.tolist(),
            "low": ground.low.tolist(),
            "high": ground.high.tolist(),
        },
        "at": one.at,
    }


def _rise_chart(one: Rises, chosen: list[Version]) -> dict[str, Any]:
    ground = one.reference

    def drawn(rise: Rise) -> dict[str, list[float]]:
        return {"x": rise.times.round(1).tolist(), "y": rise.rise.round(3).tolist()}

    return {
        "x_label": "time",
        "x_kind": "duration",
        "y_label": "above the room",
        "y_kind": "temperature_difference",
        "lines": [
            {"name": f"{v.entry.name} v{v.number}", "mark": v.entry.mark, **drawn(rise)}
            for v, rise in zip(chosen, one.of, strict=True)
            if rise is not None
        ],
        "reference": None
        if ground is None
        else {**(line := drawn(ground)), "low": line["y"], "high": line["y"]},
        "at": None,
    }


def _sounds(request: Request, round: Round, chosen: list[Version]) -> dict[int, SoundRecording]:
    """The newest analysed recording of each version that the person may hear."""
    rows = (
        sounds_visible_to(request.user, round)
        .filter(specimen__version__in=chosen, state=SoundRecording.State.DONE)
        .filter(analysis__isnull=False)
        .order_by("recorded_at", "pk")
    )
    newest = dict(rows.values_list("specimen__version", "pk"))  # the last one of each stays
    found = rows.filter(pk__in=newest.values()).select_related("analysis")
    return {
        row.specimen.version_id: row
        for row in found
        if row.specimen is not None and row.analysis.is_current
    }


def _heard(one: SoundRecording) -> dict[str, Any]:
    """What a recording tells in a cell: its level with the half of its interval, and the tone that
    stands out most.
    """
    told = one.analysis.told
    tones = [tone for tone in told.tones if tone.audible and not tone.in_background]
    return {
        "recording": one,
        "level": told.level if told.calibrated and told.spoilt is None else None,
        "half": expanded(told.sure.doubt),
        "tone": max(tones, key=lambda tone: tone.tone.audibility, default=None),
    }
