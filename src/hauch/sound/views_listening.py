"""Listening: two recordings side by side."""

from __future__ import annotations

from django.http import HttpResponse
from django.shortcuts import render
from django.urls import reverse

from hauch.core.sound.compare import compare, sentence
from hauch.people.requests import Request, whole
from hauch.rounds.queries import round_for
from hauch.sound.listening import sounds_of
from hauch.sound.models import SoundRecording
from hauch.sound.queries import apart, recorded_unlike, visible_to

MOST_OFFERED = 200


def listen(request: Request, slug: str) -> HttpResponse:
    """Two recordings of a round, switched without a gap at the same place."""
    round = round_for(request.user, slug)
    offered = list(
        visible_to(request.user, round)
        .filter(
            kind=SoundRecording.Kind.PART,
            state=SoundRecording.State.DONE,
            analysis__isnull=False,
        )
        .select_related("analysis")
        .defer("analysis__figures")
        .order_by("-recorded_at", "pk")[:MOST_OFFERED]
    )
    offered = [one for one in offered if one.analysis.is_current]
    chosen = _chosen(request, offered)
    context = {
        "round": round,
        "offered": offered,
        "choosers": list(zip("ab", [one.pk for one in chosen] or [0, 0], strict=True)),
    }
    if len(chosen) < 2:
        context["problem"] = (
            "Two analysed recordings are needed. Hand them in at the sound sessions."
        )
        return render(request, "sound/listen.html", context)
    first, second = (one.analysis for one in chosen)
    differs = recorded_unlike(*chosen)
    between = apart(chosen[0].session, chosen[1].session)
    held = compare(second.told, [first.told], apart=between)
    context |= {
        "hears": [(n, n.lower(), one.of) for n, one in zip("AB", chosen, strict=True)],
        "choose_equal": True,
        "unlike": differs,
        "sentence": "" if differs else f"B: {sentence(second.told, held, 'A')}",
        "sounds": sounds_of(
            [first, second],
            ["A", "B"],
            [reverse("sound:copy", args=[slug, one.pk]) for one in chosen],
            "level",
        ),
    }
    return render(request, "sound/listen.html", context)


def _chosen(request: Request, offered: list[SoundRecording]) -> list[SoundRecording]:
    """What the address names; else the newest recording and the reference."""
    by_key = {one.pk: one for one in offered}
    if len(offered) < 2:
        return []
    named = [by_key.get(whole(request.GET.get(name)) or 0) for name in "ab"]
    first = named[0] or next(
        (one for one in offered if one.reference_id is not None and one != named[1]), offered[0]
    )
    second = named[1] or next(one for one in offered if one != first)
    return [first, second]
