"""Long random sessions with the hand tools: whatever is done, the jacket stays sound and on its source."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from jacket.core.fit.lifted import lifted_points
from jacket.core.fit.relax import lines_of, relaxed, square_aims, untangled
from jacket.core.mesh.geometry import face_areas, scaled_jacobian
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.space.bvh import Bvh
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import EditRefused
from jacket.stages.layout.tools.place import Place
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.darn import Darn
from jacket.stages.topology.tools.draft import Draft
from jacket.stages.topology.tools.ladder import Ladder
from jacket.stages.topology.tools.moving import Lift, Move
from jacket.stages.topology.tools.rows import Rows
from jacket.stages.topology.tools.sleeve import Sleeve
from jacket.stages.topology.tools.tidying import TIDYINGS, Tidy
from jacket.stages.topology.tools.weave import Weave
from jacket.stages.topology.values import TopologyValues
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.holding import Hold
from jacket.tools.mirror import on_plane, partner_edge, partner_faces, partners, reflected
from jacket.tools.view import FlatCamera, FormCamera
from tests.conftest import icosphere


@pytest.fixture(scope="module")
def ball_and_jacket() -> tuple[PolyMesh, PolyMesh]:
    ball = icosphere(4)
    return ball, automatic_quads(ball, AutoSettings(quads=240)).mesh


KINDS: tuple[tuple[type[Tool], float], ...] = (
    (Draft, 0.42), (Relax, 0.06), (Nudge, 0.06), (Unpick, 0.04), (Ladder, 0.08), (Weave, 0.05), (Sleeve, 0.04),
    (Darn, 0.06), (Rows, 0.07), (Hold, 0.03), (Move, 0.04), (Lift, 0.02), (Tidy, 0.03),
)  # fmt: skip


@pytest.mark.parametrize(("seed", "mirror"), [(1, ""), (3, "x"), (13, ""), (6, "x"), (21, "x")])
def test_random_sessions_keep_the_jacket_sound(
    seed: int, mirror: str, ball_and_jacket: tuple[PolyMesh, PolyMesh]
) -> None:
    """500 random gestures with all tools: consistent arrays, no repeated point in a face, no bad join, every point that
    is not lifted on the source within 1e-6 of its diagonal (measured by libigl), and undo to the start gives the same
    bytes."""
    ball, jacket = ball_and_jacket
    document = Document(State((SourceObject(1, "s", ball),), (JacketObject(2, "j", jacket),), active=2, mirror=mirror))
    rng = np.random.default_rng(seed)
    settings = ToolSettings(brush=70)
    tools = [kind(document, settings) for kind, _ in KINDS]
    camera = FormCamera(np.zeros(3), 5.5, yaw=10, pitch=5, width=500, height=500)
    begin = _bytes(jacket)
    done = 0
    for _ in range(500):
        camera = camera.turned(float(rng.normal(scale=40)), float(rng.normal(scale=15)))
        tool = tools[rng.choice(len(KINDS), p=[p for _, p in KINDS])]
        before = document.state
        try:
            _gesture(tool, camera, rng, document)
        except EditRefused:
            tool.cancel()
            assert document.state.jackets == before.jackets
        mesh = document.require_jacket().mesh
        done += document.state.jackets != before.jackets
        PolyMesh.checked(mesh.points, mesh.corners, mesh.starts)
        assert len(mesh.topology.nonmanifold_edges) == 0, tool.id
        assert all(len(set(mesh.face(f).tolist())) == mesh.sizes[f] for f in range(mesh.n_faces)), tool.id
        if mesh.n_faces > 700 or mesh.n_faces < 60:
            document.undo()  # keep the session at the size of a hand-made jacket
    assert done > 150
    mesh = document.require_jacket().mesh
    low = mesh.points[~lifted_points(mesh)]
    square, _, _ = igl.point_mesh_squared_distance(low, ball.points, ball.triangle_points.astype(np.int64))
    assert np.sqrt(square.max()) < 1e-6 * ball.diagonal
    while document.undo():
        pass
    assert _bytes(document.require_jacket().mesh) == begin


def _bytes(mesh: PolyMesh) -> bytes:
    return mesh.points.tobytes() + mesh.corners.tobytes() + mesh.starts.tobytes()


def _gesture(tool: Tool, camera: FormCamera, rng: np.random.Generator, document: Document) -> None:
    """One random gesture with a tool: hovering, a click or a drag, now and then Space, Backspace, the wheel, Enter,
    Escape, or a button of Tidy."""
    keys = {"shift": bool(rng.random() < 0.15), "ctrl": bool(rng.random() < 0.15)}
    x, y = rng.uniform(130, 370, 2)
    far = 60 if isinstance(tool, (Ladder, Weave, Sleeve)) else 25
    stops = [np.array([x, y]) + k * rng.normal(scale=far, size=2) for k in (0, 1, 1)]
    pointers = [Pointer(float(a), float(b), form=camera, **keys) for a, b in stops]
    tool.hover(pointers[0])
    if rng.random() < 0.08:
        tool.remove(pointers[0])
        return
    if rng.random() < 0.2:
        tool.step()
    if rng.random() < 0.1:
        tool.wheel(float(rng.choice([-1.0, 1.0])))
    if isinstance(tool, Tidy) and document.state.held.parts:
        action = TIDYINGS[str(rng.choice(list(TIDYINGS)))]
        mesh = document.require_jacket().mesh
        if action.id != "dissolve-idle":
            document.edit_jacket(action.step, action.run(document, TopologyValues()))
        assert document.require_jacket().mesh is not mesh or action.id == "dissolve-idle"
        return
    # Loops on a closed jacket may wind over all of it; keep the session small.
    if tool.ghost.what.startswith("Insert") and document.require_jacket().mesh.n_faces > 500:
        return
    tool.press(pointers[0])
    if rng.random() < 0.6:
        for pointer in pointers[1:]:
            for t in (0.3, 0.6, 1.0):
                tool.move(Pointer(float(x + t * (pointer.x - x)), float(y + t * (pointer.y - y)), form=camera, **keys))
    tool.cancel() if rng.random() < 0.1 else tool.release(pointers[-1])
    if tool.pending and rng.random() < 0.5:
        tool.accept()


def test_partners_edges_and_faces_across_a_plane() -> None:
    ball = icosphere(2)
    table = partners(ball, "x")
    assert (table >= 0).all() and np.array_equal(table[table], np.arange(ball.n_points))
    assert np.allclose(ball.points[table], reflected(ball.points, "x"))
    on = np.flatnonzero(table == np.arange(ball.n_points))
    assert np.abs(ball.points[on, 0]).max() < 1e-9
    for edge in range(0, ball.topology.n_edges, 17):
        other = partner_edge(ball, edge, "x")
        ends = ball.points[ball.topology.edge_points[[edge, other]]]
        assert np.allclose(np.sort(reflected(ends[0], "x"), axis=0), np.sort(ends[1], axis=0))
    faces = partner_faces(ball, np.array([0, 5]), "x")
    centres = ball.points[ball.corners.reshape(-1, 3)].mean(axis=1)
    assert np.allclose(np.sort(reflected(centres[[0, 5]], "x"), axis=0), np.sort(centres[faces], axis=0))
    assert on_plane(np.ones((2, 3)), "y")[:, 1].tolist() == [0, 0]
    lopsided = ball.with_points(ball.points + np.linspace(0, 0.3, ball.n_points)[:, None])
    assert (partners(lopsided, "x") < 0).mean() > 0.9


def test_squares_are_fixed_points_of_relaxing() -> None:
    """The best-fitting regular polygon of a regular polygon is itself."""
    for n in (3, 4, 5, 6):
        angle = np.arange(n) * 2 * np.pi / n + 0.3
        ring = np.stack([np.cos(angle), np.sin(angle), 0.2 * np.ones(n)], axis=1)
        mesh = PolyMesh.from_faces(ring, [list(range(n))])
        for evenness in (0.0, 0.5, 1.0):
            assert np.allclose(square_aims(mesh.points, mesh.corners, mesh.starts, evenness), ring, atol=1e-12)


def test_relaxing_on_a_sphere_evens_and_stays(ball_and_jacket: tuple[PolyMesh, PolyMesh]) -> None:
    ball, jacket = ball_and_jacket
    surface = Bvh.build(ball.points, ball.triangle_points)
    rng = np.random.default_rng(0)
    rough = jacket.with_points(surface.project(jacket.points + rng.normal(scale=0.03, size=jacket.points.shape)))
    even = relaxed(rough, surface, 15)
    assert surface.closest(even.points)[2].max() < 1e-12
    assert np.std(face_areas(even)) < np.std(face_areas(rough))
    assert (1 - scaled_jacobian(even)).mean() < 0.5 * (1 - scaled_jacobian(rough)).mean()
    held = np.zeros(jacket.n_points, bool)
    held[:40] = True
    assert np.array_equal(relaxed(rough, surface, 5, held=held).points[:40], rough.points[:40])


def test_untangling_opens_a_fold(ball_and_jacket: tuple[PolyMesh, PolyMesh]) -> None:
    ball, jacket = ball_and_jacket
    surface = Bvh.build(ball.points, ball.triangle_points)
    points = jacket.points.copy()
    a, b = jacket.topology.edge_points[10]
    points[[a, b]] = points[[b, a]]
    folded = jacket.with_points(points)
    assert (scaled_jacobian(folded) <= 0).any()
    assert (scaled_jacobian(untangled(folded, surface, None)) > 0).all()


def test_points_on_lines_slide_along_them() -> None:
    segments = np.array([[[0.0, 0, 0], [1, 0, 0]], [[1, 0, 0], [1, 1, 0]]])
    mesh = PolyMesh.from_faces([[0, 0, 0], [0.5, 0, 0], [1, 0, 0], [0.5, 0.5, 0]], [[0, 1, 3], [1, 2, 3]])
    lines = lines_of(mesh, segments, np.array([[1.0, 0, 0]]), 1e-3)
    assert (
        lines is not None
        and lines.sliding.tolist() == [True, True, True, False]
        and lines.fixed.tolist() == [False, False, True, False]
    )
    assert lines_of(mesh, segments[:0], np.zeros((0, 3)), 0.1) is None


def test_islands_are_moved_turned_and_scaled_by_hand() -> None:
    from jacket.core.derive import islands_of
    from jacket.core.flatten.unwrap import unwrap
    from tests.conftest import grid

    flat, _ = unwrap(grid(4))
    mesh = flat.with_uv(flat.uv / 10 + 0.5)
    document = Document(State(jackets=(JacketObject(1, "j", mesh),), active=1))
    place = Place(document, ToolSettings())
    camera = FlatCamera(np.array([0.5, 0.5]), 400.0, 500, 500)

    def go(dx: float, dy: float, **keys: bool) -> np.ndarray:
        x, y = camera.project(document.require_jacket().mesh.uv.mean(axis=0))[0]
        place.hover(Pointer(x, y, flat=camera, **keys))
        place.press(Pointer(x, y, flat=camera, **keys))
        place.move(Pointer(x + dx, y + dy, flat=camera, **keys))
        place.release(Pointer(x + dx, y + dy, flat=camera, **keys))
        return document.require_jacket().mesh.uv

    assert np.allclose(go(40, -20), mesh.uv + [0.1, 0.05])
    before = document.require_jacket().mesh.uv
    turned = go(180, 0, shift=True)  # half a degree a pixel: a quarter turn clockwise
    middle = (before.min(axis=0) + before.max(axis=0)) / 2
    assert np.allclose(turned - middle, (before - middle) @ np.array([[0, -1], [1, 0]]))
    scaled = go(200 * np.log(2), 0, ctrl=True)
    assert np.allclose(np.ptp(scaled, axis=0), 2 * np.ptp(turned, axis=0))
    assert islands_of(document.require_jacket().mesh).pixel_area[0] == pytest.approx(4 * islands_of(mesh).pixel_area[0])
    assert [s.name for s in document.history.done] == ["move an island", "turn an island", "scale an island"]
    place.press(Pointer(2, 2, flat=camera))
    assert len(document.state.held) == 0  # beside all islands: let go
