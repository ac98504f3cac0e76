"""A round out and in over the web."""

from __future__ import annotations

from collections.abc import AsyncIterator
from tempfile import TemporaryFile
from typing import IO, BinaryIO, cast

from asgiref.sync import sync_to_async
from django.contrib import messages
from django.http import HttpResponse, HttpResponseBase, StreamingHttpResponse
from django.shortcuts import redirect, render

from hauch.exchange.exporting import export_round
from hauch.exchange.importing import import_round
from hauch.exchange.library import export_library, import_library, instruments_csv, rigs_csv
from hauch.exchange.listings import results_csv, standing_csv
from hauch.formats.bundle import BundleRefused
from hauch.people.permissions import require
from hauch.people.requests import Request
from hauch.rounds.queries import round_for


def export_zip(request: Request, slug: str) -> HttpResponseBase:
    """The whole round as one ZIP."""
    round = round_for(request.user, slug, "round.export")
    made = TemporaryFile()  # noqa: SIM115 closed when all of it is sent
    try:
        export_round(request.user, round, made)
    except BundleRefused as refusal:
        made.close()
        messages.error(request, f"{round.title} was not exported. {refusal}")
        return redirect("verdict:standing", slug)
    answer = StreamingHttpResponse(_blocks(made), content_type="application/zip")
    answer["Content-Length"] = made.tell()
    answer["Content-Disposition"] = f'attachment; filename="{round.slug}.zip"'
    return answer


BLOCK = 1 << 18
"""Bytes of a file that are sent at once."""


async def _blocks(file: IO[bytes]) -> AsyncIterator[bytes]:
    """A file from its beginning, block by block."""
    try:
        await sync_to_async(file.seek)(0)
        while block := await sync_to_async(file.read)(BLOCK):
            yield block
    finally:
        file.close()


def export_csv(request: Request, slug: str) -> HttpResponse:
    """The standing, or the results of all runs, as CSV: in the person's units, or in SI."""
    round = round_for(request.user, slug, "round.export")
    units = None if request.GET.get("units") == "si" else request.user.units
    if request.GET.get("table") == "results":
        return _attachment(
            results_csv(round, units).encode(),
            f"{round.slug}-results.csv",
            "text/csv; charset=utf-8",
        )
    return _attachment(
        standing_csv(round, units).encode(),
        f"{round.slug}-standing.csv",
        "text/csv; charset=utf-8",
    )


def import_zip(request: Request) -> HttpResponse:
    """Read an exported round."""
    require(request.user, "round.import")
    problem = ""
    if request.method == "POST":
        sent = request.FILES.get("bundle")
        if getattr(request, "upload_too_large", False):
            problem = "The file is too large to be a round and was not read."
        elif sent is None:
            problem = "Choose the ZIP file of an exported round first."
        else:
            try:
                round = import_round(request.user, cast(BinaryIO, sent.file))
            except BundleRefused as refusal:
                problem = f"{sent.name}: {refusal}"
            else:
                messages.success(
                    request,
                    f"{round.title} is imported, with its runs, rules and standings. You are its"
                    " host.",
                )
                return redirect("verdict:standing", round.slug)
    return render(
        request, "exchange/import.html", {"problem": problem}, status=422 if problem else 200
    )


def library(request: Request) -> HttpResponse:
    """Rigs and instruments as JSON, or one of them as CSV."""
    table = request.GET.get("table")
    if table == "instruments":
        return _attachment(instruments_csv().encode(), "instruments.csv", "text/csv; charset=utf-8")
    if table == "rigs":
        return _attachment(rigs_csv().encode(), "rigs.csv", "text/csv; charset=utf-8")
    return _attachment(export_library().encode(), "library.json", "application/json")


def import_stores(request: Request) -> HttpResponse:
    """Read a library of rigs and instruments."""
    require(request.user, "stores.change")
    problem = ""
    if request.method == "POST":
        sent = request.FILES.get("library")
        if sent is None:
            problem = "Choose the JSON or CSV file of a library first."
        else:
            try:
                names = import_library(request.user, sent.read())
            except BundleRefused as refusal:
                problem = f"{sent.name}: {refusal}"
            else:
                messages.success(
                    request,
                    (
                        f"New in the stores: {', '.join(names)}."
                        if names
                        else "Everything in the file is in the stores already."
                    ),
                )
                return redirect("stores:stores")
    return render(
        request,
        "exchange/import_library.html",
        {"problem": problem},
        status=422 if problem else 200,
    )


def _attachment(data: bytes, name: str, kind: str) -> HttpResponse:
    answer = HttpResponse(data, content_type=kind)
    answer["Content-Disposition"] = f'attachment; filename="{name}"'
    return answer
