"""Cut, Sew and Hold on seams, driven by plain events."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.stages.seams.tools.cut import Cut, Sew
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.holding import Hold
from jacket.tools.view import FormCamera
from tests.conftest import grid

CAMERA = FormCamera(np.array([0.0, 0.0, 0.0]), 6.0, yaw=0, pitch=0, width=800, height=800)


def sheet_document(n: int = 6, mirror: str = "") -> Document:
    """An n × n grid about the origin over a flat source, seen straight on."""
    points = grid(n).points - [n / 2, n / 2, 0]
    jacket = grid(n).with_points(points * 0.3)
    ground = grid(20)
    source = PolyMesh.from_faces((ground.points - [10, 10, 0]) * 0.2, ground.triangle_points)
    return Document(
        State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, mirror=mirror, next_id=3)
    )


def at(x: float, y: float, **keys: bool) -> Pointer:
    px, py, _ = CAMERA.project(np.array([x, y, 0.0]))[0]
    return Pointer(float(px), float(py), form=CAMERA, **keys)


def click(tool, x: float, y: float, **keys: bool) -> None:  # type: ignore[no-untyped-def]
    tool.hover(at(x, y, **keys))
    tool.press(at(x, y, **keys))
    tool.release(at(x, y, **keys))


def mesh_of(document: Document) -> PolyMesh:
    return document.require_jacket().mesh


def test_hold_and_cut_and_sew() -> None:
    document = sheet_document(6)
    hold = Hold(document, ToolSettings())
    click(hold, 0.15, 0.0, shift=True)
    assert document.state.held.kind == "edges" and len(document.state.held) == 6 and not document.history.done
    cut, sew = Cut(document, ToolSettings()), Sew(document, ToolSettings())
    click(cut, 0.15, 0.0, shift=True)
    assert len(mesh_of(document).cuts) == 6
    click(sew, 0.15, 0.0)
    assert len(mesh_of(document).cuts) == 5
    click(cut, -0.6, -0.6)
    cut.hover(at(-0.6, 0.6))
    assert cut.ghost.what == "Cut the path" and len(cut.ghost.lines) == 4
    click(cut, -0.6, 0.6)
    assert len(mesh_of(document).cuts) == 9
    assert [s.name for s in document.history.done] == ["cut the loop", "sew the edge", "cut the path"]
