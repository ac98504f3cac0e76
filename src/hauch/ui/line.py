"""The line with its stations, as base templates draw it. What stands under a station is known
above: an app provides it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True, slots=True)
class Station:
    """One station: where it leads, what stands under it, how far it is (0 to 1), and whether
    something is wrong.
    """

    key: str
    label: str
    url: str
    text: str
    done: float
    wrong: bool = False
    open: bool = True


Provider = Callable[[Any, Any], list[Station]]
"""Gives the stations of a round as a person sees them."""

_providers: list[Provider] = []


def provide(provider: Provider) -> None:
    """Say where stations come from; once, when the apps are ready."""
    _providers[:] = [provider]


def stations(round: Any, user: Any) -> list[Station]:
    """The stations of a round as a person sees them; none where nobody provides them."""
    return _providers[0](round, user) if _providers else []
