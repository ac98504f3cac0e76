"""What the side panel shows of a figure, from a quantity as it is stored."""

from __future__ import annotations

from typing import Any

from hauch.core.quantity import contributions, expanded


def drawer(label: str, kind: str, stored: dict[str, Any], note: str = "") -> dict[str, Any]:
    """The context of `parts/drawer.html`: figure, steps, and the shares of its doubt."""
    causes = sorted(contributions(stored["parts"]), key=lambda one: -(one.u**2))
    total = sum(one.u**2 for one in causes)
    return {
        "label": label,
        "kind": kind,
        "value": stored["value"],
        "expanded": expanded(stored["u"], stored["dof"]),
        "steps": stored["working"],
        "doubt": (
            [{"name": one.name, "scope": "", "share": one.u**2 / total} for one in causes]
            if total
            else []
        ),
        "note": note,
    }
