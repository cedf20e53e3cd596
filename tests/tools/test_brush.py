"""What a brush takes."""

from __future__ import annotations

import numpy as np

from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.stages.topology.tools.brushes import Relax
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FormCamera
from tests.conftest import icosphere

CAMERA = FormCamera(np.array([0.0, 0.0, 0.0]), 6.0, yaw=0, pitch=0, width=800, height=800)


def at(x: float, y: float, **keys: bool) -> Pointer:
    px, py, _ = CAMERA.project(np.array([x, y, 0.0]))[0]
    return Pointer(float(px), float(py), form=CAMERA, **keys)


def test_ball_brush_sees_the_front_only() -> None:
    ball = icosphere(3)
    document = Document(State((SourceObject(1, "s", ball),), (JacketObject(2, "j", ball),), active=2))
    weight = Relax(document, ToolSettings(brush=500)).weights(ball, at(0, 0))
    assert weight[ball.points[:, 2] < -0.3].max() == 0 and weight[ball.points[:, 2] > 0.8].min() > 0
