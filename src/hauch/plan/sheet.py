"""Setting a sheet for the wall as PDF."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from django.contrib.staticfiles import finders
from weasyprint import HTML
from weasyprint.urls import URLFetcher, URLFetcherResponse

FONTS = "hauch://fonts/"
"""How a sheet calls the fonts that ship with Hauch."""


class OwnFonts(URLFetcher):
    """A sheet needs its font, which ships with Hauch, and nothing from anywhere else."""

    def fetch(self, url: str, headers: Any = None) -> URLFetcherResponse:
        """The font of an address; ValueError for any other."""
        name = url.removeprefix(FONTS)
        path = finders.find(f"vendor/fonts/{name}") if url.startswith(FONTS) else None
        if not isinstance(path, str) or "/" in name:
            raise ValueError(f"{url} is not fetched")
        return URLFetcherResponse(url, Path(path).read_bytes(), {"Content-Type": "font/woff2"})


def pdf_of(page: str) -> bytes:
    """A page of HTML as PDF."""
    made: bytes = HTML(string=page, url_fetcher=OwnFonts()).write_pdf()
    return made
