"""A bundle of whatever origin is unpacked by a child process into a folder, so that one which is
made to hurt takes nothing else with it.
"""

from __future__ import annotations

import io
import json
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import numpy as np

from hauch.formats import apart
from hauch.formats.bundle import Bundle, BundleRefused, Lazily
from hauch.formats.bundle import read as read_bundle

LIMITS = apart.Limits(memory=6 * apart.GIB, processor=900, seconds=3600.0)
MOST_VALUES = 200_000_000
"""Readings in all traces of a bundle: a day of six channels at 50 Hz holds 26 million."""

apart.preload(__name__)


@contextmanager
def opened(source: bytes | BinaryIO) -> Iterator[Bundle]:
    """A bundle, as `bundle.read` gives it, as long as the context lasts.

    Raises
    ------
    BundleRefused : not a bundle, damaged, too large, of a later schema, or with a wrong checksum
    """
    with tempfile.TemporaryDirectory(prefix="hauch-bundle-") as name:
        folder = Path(name)
        with (folder / "bundle.zip").open("wb") as out:
            shutil.copyfileobj(io.BytesIO(source) if isinstance(source, bytes) else source, out)
        try:
            made, _ = apart.apart(unpack, folder, tell=lambda stage: True, limits=LIMITS)
        except apart.Refused as refusal:
            raise BundleRefused(str(refusal)) from refusal
        except apart.Died as problem:
            raise BundleRefused(f"The file could not be read: {problem}.") from problem
        columns: dict[str, list[str]] = made["traces"]

        def trace(uid: str) -> dict[str, np.ndarray]:
            values = np.fromfile(folder / f"trace-{uid}").reshape(len(columns[uid]), -1)
            return dict(zip(columns[uid], values, strict=True))

        yield Bundle(
            json.loads((folder / "round.json").read_bytes()),
            Lazily(columns, trace),
            Lazily(made["files"], lambda digest: (folder / f"file-{digest}").read_bytes()),
        )


def unpack(tell: Callable[[int], None], folder: Path) -> apart.Made:
    """The child's part: content, traces and files of ``bundle.zip``, each as a file of its own."""
    traces: dict[str, list[str]] = {}
    count = 0
    try:
        with (folder / "bundle.zip").open("rb") as source:
            bundle = read_bundle(source)
            (folder / "round.json").write_text(json.dumps(bundle.content))
            for uid in bundle.traces:
                columns = bundle.traces[uid]
                count += sum(values.size for values in columns.values())
                if count > MOST_VALUES:
                    raise BundleRefused(
                        f"The bundle holds more than {MOST_VALUES:,} readings; it is not read."
                    )
                with (folder / f"trace-{uid}").open("wb") as out:
                    for values in columns.values():
                        values.tofile(out)
                traces[uid] = list(columns)
            for digest in bundle.files:
                (folder / f"file-{digest}").write_bytes(bundle.files[digest])
    except BundleRefused as refusal:
        raise apart.Refused(str(refusal)) from refusal
    return {"traces": traces, "files": list(bundle.files)}, {}
