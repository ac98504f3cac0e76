"""The tools of the Desk, in the order in which they are offered."""

from hauch.desk.tools import cushion, duct, impeller, intake, jet, pack, ring, rotor, silencer
from hauch.desk.tools.base import Tool

TOOLS: dict[str, Tool] = {
    m.TOOL.key: m.TOOL for m in (rotor, impeller, ring, duct, intake, silencer, jet, cushion, pack)
}

__all__ = ["TOOLS"]
