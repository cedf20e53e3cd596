"""Guide and Density, the tools that steer a trial."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.steering import guide_curve
from jacket.core.space.bvh import Bvh
from jacket.document.document import Document
from jacket.errors import EditRefused
from jacket.formats.project.records import load_project, save_project
from jacket.stages.topology.tools.steer import Density, Guide
from jacket.tools.view import FormCamera
from tests.conftest import icosphere
from tests.hands import Hand, document_over
from tests.stages.topology.test_holding_tidying import Bench

CAMERA = FormCamera(np.zeros(3), 6.0, yaw=0, pitch=0, width=800, height=800)


@pytest.fixture(scope="module")
def ball() -> PolyMesh:
    return icosphere(5)


def test_guides_are_drawn_shaped_and_taken_out(ball: PolyMesh, tmp_path: Path) -> None:
    document = document_over(ball)
    hand = Hand(document, Guide, CAMERA)
    for place in ((-0.5, 0, 0.8), (0, 0.3, 0.9), (0.5, 0, 0.8)):
        hand.click(place)
    assert hand.tool.pending
    hand.enter()
    hand.drag([(-0.4, -0.5, 0.7), (0.0, -0.6, 0.75), (0.4, -0.5, 0.7)])
    angle = np.linspace(0, 2 * np.pi, 30)
    hand.drag([(0.2 * np.cos(a), -0.1 + 0.15 * np.sin(a), 0.95) for a in angle], steps=3)
    assert [g.closed for g in document.state.guides] == [False, False, True]
    assert [s.name for s in document.history.done] == ["draw a guide"] * 3
    first = document.state.guides[0]
    hand.drag([first.points[1], first.points[1] + [0, 0.15, 0]])
    assert document.state.guides[0].points[1][1] > first.points[1][1] + 0.08
    assert np.linalg.norm(document.state.guides[0].points, axis=1) == pytest.approx(1, abs=0.01)
    middle = guide_curve(document.state.guides[1], Bvh.build(ball.points, ball.triangle_points))[70]
    hand.click(middle, shift=True)
    assert [g.hard for g in document.state.guides] == [True, False, True]
    save_project(document.state, tmp_path / "g.jacket")
    again = load_project(tmp_path / "g.jacket").guides
    assert [g.hard for g in again] == [True, False, True] and np.allclose(
        again[0].points, document.state.guides[0].points
    )
    hand.backspace(middle)
    assert len(document.state.guides) == 2
    hand.backspace(document.state.guides[0].points[1])
    assert len(document.state.guides[0].points) == 2
    with pytest.raises(EditRefused, match="two points"):
        hand.tool.accept()
    for place in ((-0.5, 0.5, 0.7), (0, 0.8, 0.6), (0.5, 0.5, 0.7), (-0.5, 0.5, 0.7)):
        hand.click(place)
    assert document.state.guides[-1].closed and len(document.state.guides[-1].points) == 3
    Bench(document).run("clear-guides")
    assert document.state.guides == ()


def test_guides_and_paint_are_mirrored(ball: PolyMesh) -> None:
    document = document_over(ball, mirror="x")
    hand = Hand(document, Guide, CAMERA)
    hand.drag([(0.3, -0.4, 0.8), (0.4, 0.0, 0.9), (0.3, 0.4, 0.8)])
    assert len(document.state.guides) == 2
    assert np.allclose(document.state.guides[0].points * [-1, 1, 1], document.state.guides[1].points)
    brush = Hand(document, Density, CAMERA, brush=60.0, strength=1.0)
    brush.drag([(0.5, 0.3, 0.8), (0.52, 0.3, 0.8)])
    paint = document.state.paint
    assert paint is not None
    assert paint.values[paint.places[:, 0] < -0.2].max() == pytest.approx(paint.values.max(), abs=0.1)


def test_density_is_painted_smoothed_and_taken_away(ball: PolyMesh, tmp_path: Path) -> None:
    document: Document = document_over(ball)
    hand = Hand(document, Density, CAMERA, brush=80.0, strength=1.0)
    hand.tool.set_option("factor", 4.0)
    hand.drag([(0, 0, 1), (0.05, 0, 1)])
    paint = document.state.paint
    assert paint is not None and paint.values.max() == pytest.approx(2.0, abs=0.1) and paint.values.min() == 0
    assert (paint.values[paint.places[:, 2] < 0] == 0).all() and [s.name for s in document.history.done] == [
        "paint density"
    ]
    hand.drag([(0, 0, 1), (0.05, 0, 1)], shift=True)
    smooth = document.state.paint
    assert smooth is not None and 0 < smooth.values.max() < paint.values.max()
    save_project(document.state, tmp_path / "p.jacket")
    again = load_project(tmp_path / "p.jacket").paint
    assert again is not None and np.allclose(again.values, smooth.values)
    for _ in range(6):
        hand.drag([(0, 0, 1), (0.05, 0, 1), (0, 0.05, 1)], ctrl=True)
    assert document.state.paint.values.max() < smooth.values.max()  # type: ignore[union-attr]
    Bench(document).run("clear-paint")
    assert document.state.paint is None
    document.undo()
    assert document.state.paint is not None
