"""Drawings as DXF in millimetres, by layers, with real dimensions."""

from __future__ import annotations

import io
from typing import TYPE_CHECKING

from hauch.core.geometry.drawing import Dimension, Drawing

if TYPE_CHECKING:
    import ezdxf.layouts

MM = 1000.0
COLOURS = {
    "part": 7,
    "thin": 8,
    "axis": 8,
    "mount": 7,
    "keep_out": 1,
    "space": 4,
    "sensor": 5,
    "flow": 5,
    "heat": 7,
    "dimension": 8,
    "text": 8,
}
LINETYPES = {"axis": "CENTER", "space": "DASHED"}


def to_dxf(drawing: Drawing) -> bytes:
    """Write a drawing as DXF R2010, 1:1 in millimetres."""
    # Loaded when a drawing is asked for: few processes ever write one.
    import ezdxf
    from ezdxf import units
    from ezdxf.enums import TextEntityAlignment

    document = ezdxf.new("R2010", setup=True)
    document.units = units.MM
    for name, colour in COLOURS.items():
        document.layers.add(name.upper(), color=colour, linetype=LINETYPES.get(name, "CONTINUOUS"))
    space = document.modelspace()
    for path in drawing.paths:
        points = [(MM * x, MM * y) for x, y in path.points]
        space.add_lwpolyline(points, close=path.closed, dxfattribs={"layer": path.layer.upper()})
    for circle in drawing.circles:
        space.add_circle(
            (MM * circle.centre[0], MM * circle.centre[1]),
            MM * circle.radius,
            dxfattribs={"layer": circle.layer.upper()},
        )
    x0, y0, x1, y1 = (MM * v for v in drawing.bounds())
    height = max(x1 - x0, y1 - y0) / 60
    for note in drawing.notes:
        written = note.text if note.length is None else f"{note.text} {MM * note.length:.4g} mm"
        text = space.add_text(written, height=height, dxfattribs={"layer": "TEXT"})
        text.set_placement(
            (MM * note.at[0], MM * note.at[1]), align=TextEntityAlignment.MIDDLE_CENTER
        )
    for dimension in (one for one in drawing.dimensions if not one.quiet):
        _add_dimension(space, dimension, height)
    out = io.StringIO()
    document.write(out)
    return out.getvalue().encode()


def _add_dimension(space: ezdxf.layouts.Modelspace, d: Dimension, height: float) -> None:
    (ax, ay), (bx, by) = d.start, d.end
    reach = 3 * height * d.level / MM
    if d.side in {"below", "above"}:
        base, angle = (ax, min(ay, by) - reach if d.side == "below" else max(ay, by) + reach), 0
    else:
        base, angle = (min(ax, bx) - reach if d.side == "left" else max(ax, bx) + reach, ay), 90
    made = space.add_linear_dim(
        base=(MM * base[0], MM * base[1]),
        p1=(MM * ax, MM * ay),
        p2=(MM * bx, MM * by),
        angle=angle,
        text=f"{d.prefix.replace('⌀', '%%c')}<>",
        override={"dimtxt": height, "dimasz": height, "dimexo": height / 2, "dimexe": height / 2},
        dxfattribs={"layer": "DIMENSION"},
    )
    made.render()
