"""The hand tools, driven by pointer and key actions over sources with known shapes."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.errors import EditRefused, JacketError
from jacket.stages.topology.tools.darn import Darn
from jacket.stages.topology.tools.draft import Draft
from jacket.stages.topology.tools.ladder import Ladder
from jacket.stages.topology.tools.rows import Rows
from jacket.stages.topology.tools.sleeve import Sleeve
from jacket.stages.topology.tools.weave import Weave
from jacket.tools.view import FormCamera
from tests.conftest import cube, grid, icosphere
from tests.hands import Hand, document_over, tube

CAMERA = FormCamera(np.zeros(3), 6.0, yaw=0, pitch=0, width=800, height=800)


@pytest.fixture(scope="module")
def ball() -> PolyMesh:
    return icosphere(5)


@pytest.fixture(scope="module")
def pipe() -> PolyMesh:
    return tube()


def off_source(mesh: PolyMesh, source: PolyMesh) -> float:
    """Largest distance of unlifted points to the source over its diagonal, measured by libigl."""
    low = mesh.points[~lifted_points(mesh)]
    square = igl.point_mesh_squared_distance(low, source.points, source.triangle_points.astype(np.int64))[0]
    return float(np.sqrt(np.max(square)) / source.diagonal)


def outward_share(mesh: PolyMesh) -> float:
    """Share of faces about the origin whose normal points away from it."""
    from jacket.core.mesh.geometry import face_centres, face_normals

    return float(((face_normals(mesh) * face_centres(mesh)).sum(axis=1) > 0).mean())


def woven_patch(document: Document, cells: int, half: float = 0.5) -> Hand:
    hand = Hand(document, Weave, CAMERA)
    for t in np.linspace(-half, half, cells + 1):
        hand.drag([(-half - 0.06, t, 0.8), (half + 0.06, t, 0.8)])
    for t in np.linspace(-half, half, cells + 1):
        hand.drag([(t, -half - 0.06, 0.8), (t, half + 0.06, 0.8)])
    return hand


# ---- how many actions the work takes ------------------------------------------------------------


def test_a_cylinder_of_24_by_10_quads_takes_at_most_six_actions(pipe: PolyMesh) -> None:
    document = document_over(pipe)
    hand = Hand(document, Sleeve, CAMERA)
    hand.tool.set_option("count", 24)
    hand.tool.set_option("rows", 10)
    hand.actions += 2  # two numbers typed on the card
    hand.drag([(-1.2, -1.5, 0), (1.2, -1.5, 0)])
    hand.drag([(-1.2, 1.3, 0), (1.2, 1.3, 0)])
    hand.enter()
    assert hand.actions <= 6
    mesh = hand.mesh
    assert (mesh.n_faces, mesh.n_points) == (240, 264) and mesh.is_quads
    assert len(mesh.topology.border_loops) == 2 and len(mesh.topology.nonmanifold_edges) == 0
    # True sections of a cylinder: level rings, evenly spaced, no twist along the tube.
    rings = mesh.points.reshape(11, 24, 3)
    assert np.ptp(rings[:, :, 1], axis=1).max() < 0.01
    angles = np.unwrap(np.arctan2(rings[:, :, 2], rings[:, :, 0]), axis=0)
    assert np.ptp(angles, axis=0).max() < 0.02
    assert off_source(mesh, pipe) < 1e-6 and outward_share(mesh) == 1
    assert [s.name for s in document.history.done] == ["draw a sleeve"]


def test_a_patch_of_8_by_8_takes_at_most_twenty_actions(ball: PolyMesh) -> None:
    document = document_over(ball)
    hand = woven_patch(document, 8)
    assert document.history.done == [] and hand.mesh.n_faces == 0
    hand.enter()
    assert hand.actions <= 20
    mesh = hand.mesh
    assert (mesh.n_faces, mesh.n_points) == (64, 81) and mesh.is_quads
    assert off_source(mesh, ball) < 1e-6 and outward_share(mesh) == 1
    assert scaled_jacobian(mesh).min() > 0.6
    document.undo()
    assert hand.mesh.n_faces == 0


def test_an_eye_ring_of_5_loops_by_16_takes_at_most_twelve_actions(ball: PolyMesh) -> None:
    document = document_over(ball)
    hand = Hand(document, Weave, CAMERA)
    hand.tool.set_option("spans", 16)
    for radius in (0.15, 0.6):
        angle = np.linspace(0, 2 * np.pi, 25)
        hand.drag([(radius * np.cos(a), 0.7 * radius * np.sin(a), 0.8) for a in angle], steps=3)
    hand.drag([(0.1, 0, 0.8), (0.68, 0, 0.8)])
    hand.enter()
    rows = Hand(document, Rows, CAMERA)
    rows.tool.set_option("count", 4)
    spoke = next(e for e in range(hand.mesh.topology.n_edges) if hand.mesh.topology.edge_uses[e] == 2)
    rows.click(hand.mesh.points[hand.mesh.topology.edge_points[spoke]].mean(axis=0))
    assert hand.actions + rows.actions + 2 <= 12
    mesh = rows.mesh
    assert mesh.n_faces == 80 and mesh.is_quads and len(mesh.topology.border_loops) == 2
    assert off_source(mesh, ball) < 1e-6 and outward_share(mesh) == 1


# ---- Ladder --------------------------------------------------------------------------------------


def test_a_ladder_joins_what_it_starts_and_ends_at(ball: PolyMesh) -> None:
    document = document_over(ball)
    hand = Hand(document, Ladder, CAMERA)
    hand.drag([(-0.6, 0.3, 0.7), (-0.6, -0.3, 0.7)])
    hand.drag([(0.6, 0.3, 0.7), (0.6, -0.3, 0.7)])
    before = hand.mesh
    assert len(before.topology.border_loops) == 2
    borders = before.points[before.topology.edge_points[before.topology.border_edges]].mean(axis=1)
    left = borders[(borders[:, 0] > -0.58) & (borders[:, 0] < 0)]
    right = borders[(borders[:, 0] < 0.58) & (borders[:, 0] > 0)]
    start = left[np.argmin(np.abs(left[:, 1]))]
    end = right[np.argmin(np.abs(right[:, 1] - start[1]))]
    hand.drag([start, end])
    mesh = hand.mesh
    assert mesh.is_quads and len(mesh.topology.border_loops) == 1
    assert len(mesh.topology.nonmanifold_edges) == 0 and off_source(mesh, ball) < 1e-6
    assert outward_share(mesh) == 1


def test_a_ladder_from_click_to_click_and_its_width_by_the_wheel(ball: PolyMesh) -> None:
    hand = Hand(document_over(ball), Ladder, CAMERA)
    for place in ((-0.5, 0, 0.8), (0, 0.3, 0.9), (0.5, 0, 0.8)):
        hand.click(place)
    wide = hand.tool.ghost.what
    hand.wheel(-4)
    assert "quads" in wide and hand.tool.ghost.what != wide and hand.tool.pending
    hand.enter()
    assert hand.mesh.is_quads and not hand.tool.pending
    assert hand.mesh.n_faces > 8


def test_a_ladder_beside_a_border_shares_its_points(ball: PolyMesh) -> None:
    hand = Hand(document_over(ball), Ladder, CAMERA)
    hand.drag([(-0.5, 0, 0.8), (0.5, 0.0, 0.8)])
    top = hand.mesh.points[hand.mesh.points[:, 1] > 0.02]
    top = top[np.argsort(top[:, 0])]
    count = hand.mesh.n_faces
    hand.drag([(top[0] + top[1]) / 2, top[-1]], shift=True)
    assert hand.mesh.n_faces == 2 * count and hand.mesh.n_points == 3 * (count + 1)


def test_paths_off_the_source_draw_nothing(ball: PolyMesh) -> None:
    document = document_over(ball)
    hand = Hand(document, Ladder, CAMERA)
    hand.drag([(5.0, 5.0), (60.0, 5.0)])
    assert hand.mesh.n_faces == 0 and document.history.done == []
    empty = Document()
    with pytest.raises(JacketError, match="no jacket"):
        Hand(empty, Ladder, CAMERA).click((0, 0, 0))
    empty.apply("x", document.state.with_(sources=()))
    with pytest.raises(JacketError, match="no source"):
        Hand(empty, Ladder, CAMERA).click((0, 0, 0))


def test_ladders_are_mirrored(ball: PolyMesh) -> None:
    document = document_over(ball, mirror="x")
    hand = Hand(document, Ladder, CAMERA)
    hand.drag([(0.3, -0.3, 0.8), (0.3, 0.4, 0.8)])
    mesh = hand.mesh
    image = mesh.points * [-1, 1, 1]
    assert np.abs(image[:, None] - mesh.points[None]).sum(axis=2).min(axis=1).max() < 1e-12
    assert outward_share(mesh) == 1 and off_source(mesh, ball) < 1e-6
    assert len(document.history.done) == 1


# ---- Weave ---------------------------------------------------------------------------------------


def test_strokes_can_be_taken_away_and_odd_cells_are_said(ball: PolyMesh) -> None:
    hand = woven_patch(document_over(ball), 3)
    assert hand.tool.ghost.what == "Weave 9 quads"
    hand.backspace((0.0, 0.5, 0.85))
    assert hand.tool.ghost.what == "Weave 6 quads"
    hand.drag([(-0.62, -0.25, 0.75), (-0.25, -0.62, 0.75)])
    assert "triangle" in hand.tool.ghost.what and "larger" in hand.tool.ghost.what
    hand.space()
    assert "left open" in hand.tool.ghost.what
    hand.enter()
    assert hand.mesh.is_quads
    with pytest.raises(EditRefused, match="four sides"):
        hand.tool.accept()


def test_strokes_snap_to_what_is_there(ball: PolyMesh) -> None:
    document = document_over(ball)
    first = woven_patch(document, 3, 0.3)
    first.enter()
    edge = first.mesh.points[np.argsort(-first.mesh.points[:, 0])[:4]]
    hand = Hand(document, Weave, CAMERA)
    for place in edge:
        hand.drag([place, place + [0.25, 0, -0.15]])
    for x in (0.42, 0.5):
        hand.drag([(x, -0.36, 0.8), (x, 0.36, 0.8)])
    up = edge[np.argsort(edge[:, 1])]
    hand.drag([up[0], *up[1:]])
    hand.enter()
    assert hand.mesh.is_quads and len(hand.mesh.topology.border_loops) == 1
    assert hand.mesh.n_faces == 9 + 6


# ---- Sleeve --------------------------------------------------------------------------------------


@pytest.mark.parametrize("pitch", [0, 35, 60])
def test_sections_are_square_to_the_limb_from_any_view(pipe: PolyMesh, pitch: float) -> None:
    """The true cross-section of a cylinder about y is level, however steeply one looks at it."""
    camera = FormCamera(np.zeros(3), 8.0, yaw=0, pitch=pitch, width=800, height=800)
    hand = Hand(document_over(pipe), Sleeve, camera)
    hand.drag([(-1.2, 0.2, 0), (1.2, 0.2, 0)])
    ring = hand.tool.rings[0].points
    assert np.ptp(ring[:, 1]) < 0.12 and np.allclose(np.hypot(ring[:, 0], ring[:, 2]), 1, atol=0.01)


def test_of_several_limbs_the_one_under_the_drag_is_cut() -> None:
    one = tube(0.4)
    two = PolyMesh.from_faces(
        np.concatenate([one.points - [1, 0, 0], one.points + [1, 0, 0]]),
        np.concatenate([one.triangle_points, one.triangle_points + one.n_points]),
    )
    hand = Hand(document_over(two), Sleeve, CAMERA)
    hand.drag([(0.45, 0, 0), (1.55, 0, 0)])
    assert hand.tool.rings[0].points[:, 0].mean() == pytest.approx(1, abs=1e-3)


def test_sleeves_join_borders_close_with_quads_and_refuse_forks(pipe: PolyMesh) -> None:
    document = document_over(pipe)
    hand = Hand(document, Sleeve, CAMERA)
    hand.tool.set_option("count", 12)
    hand.drag([(-1.2, -1.5, 0), (1.2, -1.5, 0)])
    hand.drag([(-1.2, -0.5, 0), (1.2, -0.5, 0)])
    hand.enter()
    border = hand.mesh.points[hand.mesh.topology.edge_points[hand.mesh.topology.border_edges]].mean(axis=1)
    front = border[(border[:, 1] > -0.6) & (border[:, 2] > 0.5)][0]
    hand.click(front)
    hand.drag([(-1.2, 1.0, 0), (1.2, 1.0, 0)])
    hand.space()
    assert "with caps" in hand.tool.ghost.what
    hand.enter()
    mesh = hand.mesh
    assert mesh.is_quads and len(mesh.topology.border_loops) == 1 and len(mesh.topology.nonmanifold_edges) == 0


def limbs(ends: list[tuple[float, float]]) -> PolyMesh:
    """Round limbs of radius 0.35 from the origin to places in the plane z = 0, as one surface."""
    from skimage.measure import marching_cubes

    axis = np.linspace(-2.2, 2.2, 89)
    at = np.stack(np.meshgrid(axis, axis, axis, indexing="ij"), axis=-1)
    field = np.full(at.shape[:3], np.inf)
    for x, y in ends:
        way = np.array([x, y, 0.0])
        share = np.clip((at @ way) / (way @ way), 0, 1)
        field = np.minimum(field, np.linalg.norm(at - share[..., None] * way, axis=-1) - 0.35)
    points, faces, _, _ = marching_cubes(field, 0.0, spacing=(axis[1] - axis[0],) * 3)
    return PolyMesh.from_faces(points - 2.2, faces[:, ::-1].astype(np.int64))


def test_forks_are_refused_and_bends_are_not() -> None:
    """A limb that splits in two between the rings is refused; one that bends as much is not."""
    fork = Hand(document_over(limbs([(0, -1.8), (-1.2, 1.4), (1.2, 1.4)])), Sleeve, CAMERA)
    fork.drag([(-0.5, -1.2, 0), (0.5, -1.2, 0)])
    with pytest.raises(EditRefused, match="forks"):
        fork.drag([(-1.2, 0.6, 0), (-0.4, 1.2, 0)])
    assert len(fork.tool.rings) == 1
    bend = Hand(document_over(limbs([(0, -1.8), (-1.2, 1.4)])), Sleeve, CAMERA)
    bend.drag([(-0.5, -1.2, 0), (0.5, -1.2, 0)])
    bend.drag([(-1.2, 0.6, 0), (-0.4, 1.2, 0)])
    bend.enter()
    assert bend.mesh.is_quads and len(bend.mesh.topology.border_loops) == 2
    with pytest.raises(EditRefused, match="no closed section"):
        bend.drag([(3.0, 3.0), (60.0, 3.0)])


def test_rings_are_moved_tilted_widened_and_lifted(pipe: PolyMesh) -> None:
    hand = Hand(document_over(pipe), Sleeve, CAMERA)
    hand.tool.set_option("count", 12)
    hand.drag([(-1.2, -1.0, 0), (1.2, -1.0, 0)])
    hand.drag([(-1.2, 1.0, 0), (1.2, 1.0, 0)])
    top = hand.tool.rings[1].points
    front = top[np.argmax(top[:, 2])]
    hand.drag([front, front + [0, 0.3, 0]])
    assert hand.tool.rings[1].points[:, 1].mean() == pytest.approx(1.3, abs=0.02)
    front = hand.tool.rings[1].points[np.argmax(hand.tool.rings[1].points[:, 2])]
    hand.drag([front, front + [0.3, 0, 0]], ctrl=True)
    assert hand.tool.rings[1].grown > 1.1
    hand.enter()
    up = lifted_points(hand.mesh)
    assert up.any() and not up.all() and off_source(hand.mesh, pipe) < 1e-6


# ---- Darn ----------------------------------------------------------------------------------------


def holed_patch(ball: PolyMesh) -> tuple[Document, np.ndarray]:  # type: ignore[type-arg]
    document = document_over(ball)
    hand = woven_patch(document, 6)
    hand.enter()
    from jacket.core.mesh.edits import faces_removed
    from jacket.core.mesh.geometry import face_centres

    near = np.flatnonzero(np.abs(face_centres(hand.mesh)[:, :2]).max(axis=1) < 0.18)
    document.edit_jacket("hole", faces_removed(hand.mesh, near).mesh)
    mesh = hand.mesh
    borders = mesh.points[mesh.topology.edge_points[mesh.topology.border_edges]].mean(axis=1)
    return document, borders[np.argmin(np.abs(borders[:, :2]).max(axis=1))]


def test_a_hole_is_darned_and_bridged(ball: PolyMesh) -> None:
    document, at = holed_patch(ball)
    hand = Hand(document, Darn, CAMERA)
    before = hand.mesh.n_faces
    hand.hover(at)
    assert "Fill with" in hand.tool.ghost.what
    hand.click(at)
    mesh = hand.mesh
    assert mesh.is_quads and mesh.n_faces > before and len(mesh.topology.border_loops) == 1
    assert off_source(mesh, ball) < 1e-6 and outward_share(mesh) == 1 and scaled_jacobian(mesh).min() > 0.3
    document.undo()
    assert hand.mesh.n_faces == before


def test_an_odd_border_says_so_and_offers_a_row(ball: PolyMesh) -> None:
    from jacket.core.mesh.edits import faces_removed, points_welded

    document, _ = holed_patch(ball)
    hand = Hand(document, Darn, CAMERA)
    mesh = hand.mesh
    # Two neighbours of the hole's border become one: it now has an odd number of edges.
    loop = min(mesh.topology.border_loops, key=len)
    points = mesh.corners[loop]
    document.edit_jacket("odd", points_welded(mesh, [[int(points[0]), int(points[1])]]).mesh)
    mesh = hand.mesh
    loop = min(mesh.topology.border_loops, key=len)
    assert len(loop) % 2 == 1
    ends = mesh.topology.edge_points[mesh.topology.edge[loop]]
    hand.hover(mesh.points[ends[2]].mean(axis=0))
    assert "even number" in hand.tool.ghost.what and "row" in hand.tool.ghost.how
    hand.click(mesh.points[ends[2]].mean(axis=0))
    loop = min(hand.mesh.topology.border_loops, key=len)
    assert len(loop) % 2 == 0 and faces_removed is not None


@pytest.mark.parametrize(("around", "bulge"), [((12, 12), 0.0), ((12, 12), 100.0), ((12, 8), 0.0)])
def test_two_borders_are_bridged(around: tuple[int, int], bulge: float) -> None:
    """Equal numbers give plain rows, unequal even sums stay quads; bulging bridges leave the straight line."""
    from jacket.core.mesh.pieces import put_side_by_side
    from jacket.core.mesh.polymesh import PolyMesh as Mesh

    def band(n: int, low: float, high: float) -> PolyMesh:
        t = tube(1.0, 1.0, n, 1)
        points = t.points.copy()
        points[:, 1] = np.where(points[:, 1] < 0, low, high)
        quads = np.array([[i, (i + 1) % n, n + (i + 1) % n, n + i] for i in range(n)])
        return Mesh.from_faces(points, quads)

    two = put_side_by_side([band(around[0], -1.5, -1.0), band(around[1], 1.0, 1.5)])
    document = document_over(tube(1.0, 4.0), two)
    hand = Hand(document, Darn, CAMERA)
    hand.tool.set_option("bulge", bulge)
    hand.tool.set_option("stay", bulge == 0.0)
    mesh = hand.mesh
    middle = mesh.points[mesh.topology.edge_points[mesh.topology.border_edges]].mean(axis=1)
    front = middle[middle[:, 2] > 0.7]
    low = front[np.isclose(front[:, 1], -1.0)][0]
    high = front[np.isclose(front[:, 1], 1.0)][0]
    hand.drag([low, high])
    new = hand.mesh
    assert new.is_quads and len(new.topology.border_loops) == 2 and len(new.topology.nonmanifold_edges) == 0
    if bulge:
        assert lifted_points(new).any()
    else:
        assert off_source(new, tube(1.0, 4.0)) < 1e-6


def test_borders_of_odd_sum_are_not_bridged() -> None:
    from jacket.core.mesh.pieces import put_side_by_side

    one = grid(2).with_points(grid(2).points * 0.3 - [1.2, 0.3, 0])
    three = PolyMesh.from_faces(np.array([[0.5, -0.3, 0], [1.1, -0.3, 0], [0.8, 0.3, 0]]), [[0, 1, 2]])
    flat = grid(20)
    source = PolyMesh.from_faces((flat.points - [10, 10, 0]) * 0.3, flat.triangle_points)
    hand = Hand(document_over(source, put_side_by_side([one, three])), Darn, CAMERA)
    hand.tool.hover(hand.at((-0.6, -0.15, 0)))
    hand.tool.press(hand.at((-0.6, -0.15, 0)))
    hand.tool.move(hand.at((0.65, 0.0, 0)))
    assert "odd number" in hand.tool.ghost.what
    with pytest.raises(EditRefused, match="odd number"):
        hand.tool.release(hand.at((0.65, 0.0, 0)))


# ---- Rows ----------------------------------------------------------------------------------------


def test_rows_insert_slide_even_collapse_and_take_out(ball: PolyMesh) -> None:
    document = document_over(ball)
    woven_patch(document, 4).enter()
    hand = Hand(document, Rows, CAMERA)

    def across() -> np.ndarray:  # type: ignore[type-arg]
        m = hand.mesh
        ends = m.points[m.topology.edge_points[m.topology.edge_uses == 2]]
        level = ends[np.abs(ends[:, 0, 1] - ends[:, 1, 1]) < 0.02].mean(axis=1)
        return level[np.argmin(np.abs(level[:, :2]).sum(axis=1))]

    start = hand.mesh
    hand.hover(across())
    hand.wheel(1)
    hand.click(across())
    assert hand.mesh.n_faces == 16 + 2 * 4 and hand.mesh.is_quads
    document.undo()
    at = across()
    hand.drag([at, at + [0.0, 0.06, 0]])
    assert document.last_step == "slide a loop" and hand.mesh.n_faces == 16
    assert off_source(hand.mesh, ball) < 1e-6
    hand.space()
    hand.click(across())
    assert "even" in document.last_step
    hand.space()
    hand.click(across())
    assert hand.mesh.n_faces == 12
    document.undo()
    hand.backspace(across())
    assert hand.mesh.n_faces == 12 and hand.mesh.is_quads
    while document.last_step != "weave":
        document.undo()
    assert hand.mesh is start


# ---- Draft ---------------------------------------------------------------------------------------


def test_a_corner_of_two_border_edges_is_filled(ball: PolyMesh) -> None:
    document = document_over(ball)
    woven_patch(document, 2).enter()
    from jacket.core.mesh.edits import faces_removed
    from jacket.core.mesh.geometry import face_centres

    mesh = document.require_jacket().mesh
    corner = int(np.argmax(face_centres(mesh)[:, :2].sum(axis=1)))
    centre = face_centres(mesh)[corner]
    document.edit_jacket("L", faces_removed(mesh, [corner]).mesh)
    hand = Hand(document, Draft, CAMERA)
    hand.hover(centre)
    assert "Fill the corner" in hand.tool.ghost.what
    hand.click(centre)
    assert hand.mesh.n_faces == 4 and hand.mesh.n_points == 9 and off_source(hand.mesh, ball) < 1e-6


def test_triangles_are_offered_only_when_wanted(ball: PolyMesh) -> None:
    hand = Hand(document_over(ball), Draft, CAMERA)
    for place in ((-0.2, 0, 0.9), (0.2, 0, 0.9), (0, 0.3, 0.9)):
        hand.click(place, ctrl=True)
    hand.hover((0, 0.1, 0.95))
    assert not any(o.kind == "triangle" for o in hand.tool.offers)
    hand.tool.set_option("triangles", True)
    hand.hover((0, 0.1, 0.95))
    while hand.tool.offer.kind != "triangle":
        hand.space()
    hand.tool.press(hand.at((0, 0.1, 0.95)))
    hand.tool.release(hand.at((0, 0.1, 0.95)))
    assert hand.mesh.sizes.tolist() == [3] and outward_share(hand.mesh) == 1


def test_a_weld_that_would_break_the_surface_is_refused_with_its_reason() -> None:
    flat = grid(20)
    source = PolyMesh.from_faces((flat.points - [10, 10, 0]) * 0.3, flat.triangle_points)
    strip = grid(3, 1).with_points((grid(3, 1).points - [1.5, 0.5, 0]) * 0.5)
    hand = Hand(document_over(source, strip), Draft, CAMERA)
    before = hand.mesh
    a, b = before.points[0], before.points[5]
    hand.drag([a, b])
    assert "not welded" in hand.tool.note and "pinch" in hand.tool.note
    assert hand.mesh.n_faces == before.n_faces and hand.document.last_step == "move a point"
    assert cube().n_faces == 6


@pytest.mark.parametrize(("sides", "irregular"), [((4, 4, 4), 3), ((3, 5, 4), 3), ((4, 4, 4, 4), 4), ((4, 4, 4, 4, 4), 5),
                                                  ((4, 3, 5, 4, 4), 5)])  # fmt: skip
def test_regions_of_three_to_five_sides_are_filled_as_their_shape_asks(sides: tuple[int, ...], irregular: int) -> None:
    """A triangle gets one inner point of valence 3 where its rows meet, a pentagon one of 5, a quadrangle
    none (Takayama, Panozzo and Sorkine-Hornung 2014: patterns with the least irregular points)."""
    k = len(sides)
    corner = np.array([[np.sin(2 * np.pi * i / k), np.cos(2 * np.pi * i / k), 0] for i in range(k)]) * 1.2
    border = np.concatenate(
        [corner[i] + (corner[(i + 1) % k] - corner[i]) * np.linspace(0, 1, n, endpoint=False)[:, None]
         for i, n in enumerate(sides)]
    )  # fmt: skip
    n = len(border)
    outer = border * 1.25
    frame = PolyMesh.from_faces(
        np.concatenate([border, outer]), np.array([[i, n + i, n + (i + 1) % n, (i + 1) % n] for i in range(n)])
    )
    flat = grid(20)
    source = PolyMesh.from_faces((flat.points - [10, 10, 0]) * 0.3, flat.triangle_points)
    hand = Hand(document_over(source, frame), Darn, CAMERA)
    hand.click(border[:2].mean(axis=0))
    mesh = hand.mesh
    assert mesh.is_quads and scaled_jacobian(mesh).min() > 0.2
    inside = np.ones(mesh.n_points, bool)
    inside[: 2 * n] = False
    valence = mesh.topology.valence[inside]
    odd = valence[valence != 4].tolist()
    assert odd == ([] if irregular == 4 else [irregular])
