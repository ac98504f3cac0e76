"""Exact solids from simple bodies, written as STEP and STL in millimetres by the Open CASCADE
kernel.
"""

from __future__ import annotations

import tempfile
from collections.abc import Sequence
from pathlib import Path

from hauch.core.geometry.envelope import Body, Box, Cylinder

MM = 1000.0
CHORD = 0.05
"""Greatest distance of a facet from the true surface [mm]."""


def _primitive(part: Box | Cylinder):
    from OCP.BRepPrimAPI import (
        BRepPrimAPI_MakeBox,
        BRepPrimAPI_MakeCylinder,
    )  # the kernel takes a moment: only when it is used
    from OCP.gp import gp_Ax2, gp_Dir, gp_Pnt

    at = gp_Pnt(*(MM * v for v in part.at))
    if isinstance(part, Box):
        return BRepPrimAPI_MakeBox(at, *(MM * v for v in part.size)).Shape()
    direction = gp_Dir(0, 1, 0) if part.axis == 1 else gp_Dir(0, 0, 1)
    return BRepPrimAPI_MakeCylinder(
        gp_Ax2(at, direction), MM * part.radius, MM * part.length
    ).Shape()


def _shape(body: Body):
    from OCP.BRepAlgoAPI import BRepAlgoAPI_Cut, BRepAlgoAPI_Fuse

    shape = _primitive(body.add[0])
    for part in body.add[1:]:
        shape = BRepAlgoAPI_Fuse(shape, _primitive(part)).Shape()
    for part in body.cut:
        shape = BRepAlgoAPI_Cut(shape, _primitive(part)).Shape()
    return shape


def _compound(bodies: Sequence[Body]):
    from OCP.BRep import BRep_Builder
    from OCP.TopoDS import TopoDS_Compound

    builder, compound = BRep_Builder(), TopoDS_Compound()
    builder.MakeCompound(compound)
    for body in bodies:
        builder.Add(compound, _shape(body))
    return compound


def volume(bodies: Sequence[Body]) -> float:
    """Volume of all bodies [m3]."""
    from OCP.BRepGProp import BRepGProp
    from OCP.GProp import GProp_GProps

    properties = GProp_GProps()
    BRepGProp.VolumeProperties_s(_compound(bodies), properties)
    return float(properties.Mass()) / MM**3


def to_step(bodies: Sequence[Body], name: str) -> bytes:
    """Write bodies as STEP (AP214), each a solid of its own."""
    from OCP.APIHeaderSection import APIHeaderSection_MakeHeader
    from OCP.IFSelect import IFSelect_ReturnStatus
    from OCP.Interface import Interface_Static
    from OCP.Message import Message, Message_Gravity
    from OCP.STEPControl import STEPControl_StepModelType, STEPControl_Writer
    from OCP.TCollection import TCollection_HAsciiString

    for printer in Message.DefaultMessenger_s().Printers():
        printer.SetTraceLevel(Message_Gravity.Message_Fail)
    writer = STEPControl_Writer()  # makes the settings known, so that they can be set
    Interface_Static.SetCVal_s("write.step.product.name", name)
    writer.Transfer(_compound(bodies), STEPControl_StepModelType.STEPControl_AsIs)
    header = APIHeaderSection_MakeHeader(writer.Model())
    header.SetName(TCollection_HAsciiString(name))
    header.SetOriginatingSystem(TCollection_HAsciiString("Hauch"))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "solid.step"
        if writer.Write(str(path)) != IFSelect_ReturnStatus.IFSelect_RetDone:
            raise OSError("the STEP file could not be written")
        return path.read_bytes()


def to_stl(bodies: Sequence[Body]) -> bytes:
    """Write bodies as one binary STL, facets within `CHORD` of the true surface."""
    from OCP.BRepMesh import BRepMesh_IncrementalMesh
    from OCP.StlAPI import StlAPI_Writer

    compound = _compound(bodies)
    BRepMesh_IncrementalMesh(compound, CHORD, False, 0.2).Perform()
    writer = StlAPI_Writer()
    writer.ASCIIMode = False
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "solid.stl"
        if not writer.Write(compound, str(path)):
            raise OSError("the STL file could not be written")
        return path.read_bytes()
