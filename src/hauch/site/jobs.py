"""Jobs that keep the worker itself in order."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable
from typing import Any

from asgiref.sync import sync_to_async
from procrastinate.contrib.django import app
from procrastinate.jobs import Status

from hauch.bench import importing
from hauch.entries import checking
from hauch.people.keep import sweep
from hauch.plan import jobs as planning
from hauch.sound import analysing

log = logging.getLogger(__name__)

MOST_DEATHS = 3
"""A job with which so many workers died is set aside: one file must not keep all of them from
working.
"""
GIVE_UP: dict[str, Callable[..., None]] = {
    "bench.import_log": importing.give_up,
    "entries.check_part": checking.give_up,
    "plan.work_out": planning.give_up,
    "sound.analyse": analysing.give_up,
}
"""What tells whoever waits for such a job, by its name."""


@app.periodic(cron="* * * * * */10")  # the seconds are the last field
@app.task(name="web.retry_stalled", queueing_lock="retry-stalled", pass_context=True)
async def retry_stalled(context: Any, timestamp: int) -> None:
    """Take up jobs again whose worker died, within half a minute; what `MOST_DEATHS` workers died
    of is left failed, for the keeper to see.
    """
    manager = context.app.job_manager
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=20):
        if job.attempts + 1 < MOST_DEATHS:
            await manager.retry_job(job)
            continue
        await manager.finish_job(job, Status.FAILED, delete_job=False)
        if (told := GIVE_UP.get(job.task_name)) is not None:
            await sync_to_async(told)(**job.task_kwargs)


@app.periodic(cron="41 4 * * *")
@app.task(name="web.sweep_files", queueing_lock="sweep-files")
def sweep_files(timestamp: int) -> None:
    """Take kept files away that no row names, such as those of an import that broke off."""
    if gone := sweep(time.time()):
        log.info("%d files that nothing names are taken away.", gone)


KEPT_HOURS = 72
"""For so long jobs that succeeded are kept; one each ten seconds would be three million a year."""


@app.periodic(cron="23 * * * *")
@app.task(name="web.forget_jobs", queueing_lock="forget-jobs", pass_context=True)
async def forget_jobs(context: Any, timestamp: int) -> None:
    """Take jobs away that succeeded long ago, with their events; failed ones wait for the keeper."""
    await context.app.job_manager.delete_old_jobs(nb_hours=KEPT_HOURS)
