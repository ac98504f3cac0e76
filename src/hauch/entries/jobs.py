"""Background work of the entries: checking parts."""

from __future__ import annotations

from procrastinate.contrib.django import app

from hauch.entries.checking import run_check


@app.task(name="entries.check_part")
def check_part(check_id: int) -> None:
    """Check a part; a worker that dies leaves it to the next one."""
    run_check(check_id)


def defer_check(check_id: int) -> None:
    """Leave a check to the worker, inside the transaction that asks for it: both are committed, or
    neither is.
    """
    check_part.configure(lock=f"check-{check_id}").defer(check_id=check_id)
