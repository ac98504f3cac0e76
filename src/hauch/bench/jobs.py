"""Background work of the bench."""

from __future__ import annotations

from procrastinate.contrib.django import app

from hauch.bench.actions import carry_over
from hauch.bench.signals import results_changed
from hauch.people.models import User
from hauch.rounds.models import Test


@app.task(name="bench.carry_over")
def carry_over_later(user_id: int, old_id: int, new_id: int) -> None:
    """Make the runs of a large test count for its successor; safe to run twice."""
    old, new = Test.objects.get(pk=old_id), Test.objects.select_related("round").get(pk=new_id)
    carry_over(User.objects.get(pk=user_id), old, new)
    results_changed.send(Test, round=new.round)
