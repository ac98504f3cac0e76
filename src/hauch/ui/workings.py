"""What the side panel shows of a figure, from a quantity as it is stored."""

from __future__ import annotations

from typing import Any

from hauch.core.quantity.quantity import coverage_factor


def drawer(label: str, kind: str, stored: dict[str, Any], note: str = "") -> dict[str, Any]:
    """The context of `parts/drawer.html`: figure, steps, and the shares of its doubt."""
    parts = sorted(
        ((part[1], part[2], part[5] ** 2) for part in stored["parts"]), key=lambda p: -p[2]
    )
    total = sum(square for _, _, square in parts)
    return {
        "label": label,
        "kind": kind,
        "value": stored["value"],
        "expanded": coverage_factor(stored["dof"] or 1e9) * stored["u"],
        "steps": stored["working"],
        "doubt": (
            [{"name": name, "scope": "", "share": square / total} for name, _, square in parts]
            if total
            else []
        ),
        "note": note,
    }
