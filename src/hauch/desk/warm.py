"""Load the section model ahead of the first question, so that nobody waits for it."""

from __future__ import annotations

import os
import threading


def warm_up() -> None:
    """In the web server only, in a thread of its own; `HAUCH_WARM` is set by the command that
    starts it.
    """
    if os.environ.get("HAUCH_WARM") == "1":
        threading.Thread(target=_load, name="desk-warm-up", daemon=True).start()


def _load() -> None:
    from hauch.desk.tools import TOOLS

    for tool in TOOLS.values():
        tool.answer(tool.start())
