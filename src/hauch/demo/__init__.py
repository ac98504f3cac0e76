"""The demo: the six rounds of the Quellmoos Drying Loft, measured on the virtual bench. Nobody and
nothing in it exists.

Runs go through the same actions as a person's, so that what the demo shows is what the application
does.
"""

from __future__ import annotations

from collections.abc import Callable

from django.db import transaction

from hauch.demo.cabinet import SLUG, Cabinet
from hauch.demo.desk import load_desk
from hauch.demo.others import load_others
from hauch.demo.parts import hand_in_parts
from hauch.demo.rigs import load_rigs
from hauch.demo.stores import uid
from hauch.rounds.models import Round

__all__ = ["SLUG", "load_demo"]


@transaction.atomic
def load_demo(say: Callable[[str], None] = lambda text: None) -> Round | None:
    """Load the demo rounds unless they are there; gives the first when they were loaded now."""
    if Round.objects.filter(uid=uid("round", 1)).exists():
        return None
    say("Loading the demo, once; this takes about a minute.")
    first = Cabinet().load()
    load_others()
    load_rigs()
    load_desk()
    hand_in_parts()
    return first
