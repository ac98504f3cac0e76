"""Background work of the entries: checking parts."""

from __future__ import annotations

from contextlib import suppress

from django.db import transaction
from procrastinate.contrib.django import app
from procrastinate.exceptions import AlreadyEnqueued

from hauch.entries.checking import run_check


@app.task(name="entries.check_part")
def check_part(check_id: int) -> None:
    """Check a part; a worker that dies leaves it to the next one."""
    run_check(check_id)


def defer_check(check_id: int) -> None:
    """Leave a check to the worker, unless it waits there already."""
    with suppress(AlreadyEnqueued), transaction.atomic():  # the refusal undoes only itself
        check_part.configure(queueing_lock=f"check-{check_id}").defer(check_id=check_id)
