"""The keeper's page: how the installation is, and jobs that failed."""

from __future__ import annotations

from django.contrib import messages
from django.http import HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.utils import timezone
from django.views.decorators.http import require_POST
from procrastinate.contrib.django import app
from procrastinate.contrib.django.models import ProcrastinateJob

from hauch.people.permissions import require
from hauch.people.requests import Request
from hauch.site.state import state


def keeper(request: Request) -> HttpResponse:
    """Everything that whoever keeps the installation has to know."""
    require(request.user, "installation.keep")
    return render(request, "site/keeper.html", {"state": state()})


@require_POST
def job(request: Request, pk: int) -> HttpResponse:
    """Try a failed job again, or drop it."""
    require(request.user, "installation.keep")
    found = get_object_or_404(ProcrastinateJob, pk=pk, status="failed")
    manager = app.job_manager
    if request.POST.get("do") == "retry":
        manager.retry_job_by_id(
            found.pk, timezone.now(), found.priority, found.queue_name, found.lock
        )
        messages.success(request, f"Job {found.pk} is tried again.")
    else:
        app.connector.get_sync_connector().execute_query(
            "delete from procrastinate_jobs where id = %(pk)s and status = 'failed'", pk=found.pk
        )
        messages.success(request, f"Job {found.pk} is dropped.")
    return redirect("keeper")
