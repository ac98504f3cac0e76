"""The demo's season: all rounds of the drying loft, in their order."""

from __future__ import annotations

from hauch.rounds.models import Round
from hauch.season.models import Season, SeasonRound

LAST = 5
"""Rounds of the year; what comes after is there to show rigs and benches."""


def load_season(first: Round) -> None:
    """Put the rounds of the loft in a row, under the host of the first one."""
    host = first.memberships.get(role="host").user
    season = Season.objects.create(title="Quellmoos year", slug="quellmoos-year", created_by=host)
    rounds = Round.objects.filter(place=first.place, number__lte=LAST).order_by("number")
    SeasonRound.objects.bulk_create(
        SeasonRound(season=season, round=round, order=order)
        for order, round in enumerate(rounds, 1)
    )
