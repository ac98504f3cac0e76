"""The Desk's rotor tool: axial, ducted or free, one row or two."""

from __future__ import annotations

from hauch.desk.tools.base import Answer, Setting, Tool, Values, register
from hauch.desk.tools.rotor_ducted import ducted
from hauch.desk.tools.rotor_free import free
from hauch.desk.tools.rotor_inputs import INPUTS, extent, solid
from hauch.desk.tools.spinning import CAUTIONS


def work(values: Values, setting: Setting) -> Answer:
    """Ducted or free."""
    return free(values) if values["placed"] == "free" else ducted(values, setting)


TOOL = register(
    Tool(
        "rotor",
        "Rotor",
        "What does this rotor give, and where does it stall?",
        INPUTS,
        work,
        "Axial rotors in a duct with tips below 100 m/s, sections above a Reynolds number of"
        " 20,000, duties above 45 % of the free flow; free rotors without walls nearby (thrust"
        " within 30 %, mostly too high). Torque within 20 %, pressure within 20 % and a fifth of the"
        " highest of the curve (95 %), more where stations stall. Static pressure is the mean of the"
        " annulus behind the rotor: a tap in the wall there reads more, by the swirl; the end of a"
        " short duct may show less. Comparisons between variants are surer than absolute figures.",
        cautions=(*CAUTIONS, "Never wear or hold a spinning part."),
        solid=solid,
        extent=extent,
        part="rotor",
        rig=True,
        optimises=True,
    )
)
