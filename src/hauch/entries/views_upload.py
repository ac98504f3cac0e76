"""Files handed in piece by piece, or at once from a page without scripts."""

from __future__ import annotations

import uuid

from django.contrib import messages
from django.core.exceptions import ValidationError
from django.http import HttpResponse, JsonResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_http_methods, require_POST

from hauch.entries import actions, uploads
from hauch.entries.models import Upload, Version
from hauch.entries.queries import newest_version
from hauch.formats.mesh_in import MOST_BYTES
from hauch.people.permissions import require
from hauch.people.requests import Request, whole


@require_POST
def begin(request: Request, slug: str, pk: int) -> HttpResponse:
    """Begin an upload in pieces (name and size), or take whole files from a plain form."""
    version = newest_version(request.user, slug, pk)
    if getattr(request, "upload_too_large", False):
        messages.error(
            request,
            f"The files have more than {MOST_BYTES / 1e6:,.0f} MB together. Hand them in one by"
            " one, or export them with coarser facets.",
        )
        return redirect("entries:edit", slug, pk)
    if request.FILES.getlist("files"):
        return _at_once(request, version)
    try:
        row = uploads.begin(
            request.user,
            version,
            request.POST.get("name", ""),
            whole(request.POST.get("size")) or 0,
        )
    except ValidationError as problem:
        return JsonResponse({"problem": " ".join(problem.messages)}, status=422)
    return JsonResponse({"key": str(row.key), "received": row.received})


def _at_once(request: Request, version: Version) -> HttpResponse:
    for file in request.FILES.getlist("files")[: actions.MOST_FILES]:
        name = file.name or ""
        try:
            if problem := uploads.why_not(name, file.size or 0):
                raise ValidationError(problem)
            made = actions.attach(request.user, version, name, file.read())
        except ValidationError as problem:
            messages.error(request, " ".join(problem.messages))
        else:
            messages.success(request, f"{made.name} is handed in.")
    return redirect("entries:edit", version.entry.round.slug, version.entry_id)


@require_http_methods(["GET", "POST"])
def piece(request: Request, slug: str, pk: int, key: uuid.UUID) -> HttpResponse:
    """How much of a file is here (GET), or the next piece of it (POST, the bytes as body)."""
    version = newest_version(request.user, slug, pk)
    require(request.user, "entry.add", version.entry.round)
    row = Upload.objects.filter(key=key, user=request.user, version__entry=pk).first()
    if row is None:
        return JsonResponse(
            {"problem": "This upload is finished or too old. Choose the file again."}, status=410
        )
    if request.method == "GET":
        return JsonResponse({"received": row.received, "size": row.size})
    start = whole(request.headers.get("Upload-Offset"))
    try:
        row, file = uploads.add_piece(
            request.user,
            key,
            -1 if start is None else start,
            request.body,
        )
    except ValidationError as problem:
        return JsonResponse({"problem": " ".join(problem.messages)}, status=422)
    return JsonResponse(
        {
            "received": row.received,
            "size": row.size,
            "file": file.get_absolute_url() if file and file.is_mesh else None,
            "whole": file is not None,
        }
    )
