"""Jobs that keep the worker itself in order."""

from __future__ import annotations

from procrastinate.contrib.django import app

MOST_TRIES = 5


@app.periodic(cron="*/10 * * * * *")
@app.task(name="web.retry_stalled", queueing_lock="retry-stalled", pass_context=True)
async def retry_stalled(context, timestamp: int) -> None:
    """Take up jobs again whose worker died, within half a minute; a job that keeps dying is left
    failed after `MOST_TRIES`.
    """
    manager = context.app.job_manager
    for job in await manager.get_stalled_jobs(seconds_since_heartbeat=20):
        if job.attempts < MOST_TRIES:
            await manager.retry_job(job)
