"""Hold, Tidy, Move, Lift, brushes and layers by pointer and command, without a window."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pytest

from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.choosing import edge_paths
from jacket.core.mesh.edits import faces_removed
from jacket.core.mesh.named import choice_names
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.document.edits import layers
from jacket.document.edits import trials as trials_steps
from jacket.document.state import Held, JacketObject
from jacket.errors import EditRefused, JacketError
from jacket.formats.project.records import load_project, save_project
from jacket.stages.topology.held_commands import forget_choice, hold_choice, keep_choice
from jacket.stages.topology.tools.brushes import Nudge, Relax, Unpick
from jacket.stages.topology.tools.moving import Lift, Move
from jacket.stages.topology.tools.tidying import TIDYINGS, Tidy, merge_count
from jacket.stages.topology.values import TopologyValues
from jacket.tools.base import ToolSettings
from jacket.tools.holding import Hold
from jacket.tools.view import FormCamera
from tests.conftest import cube, grid, icosphere
from tests.hands import Hand, document_over
from tests.host import Headless
from tests.stages.topology.test_drawing_tools import off_source

CAMERA = FormCamera(np.zeros(3), 6.0, yaw=0, pitch=0, width=800, height=800)


class Bench(Headless):
    """A program over a document, with one answer for every question."""

    def __init__(self, document: Document, answer: str = "") -> None:
        super().__init__(document)
        self.answer = answer

    def ask_text(self, title: str, label: str, text: str) -> str:
        return self.answer or text

    def run(self, command: str, **values: object) -> None:  # type: ignore[override]
        self.set(**values)
        self.do(command)


def flat_document(n: int = 6, mirror: str = "") -> Document:
    """An n × n grid of 0.3 about the origin over a flat source."""
    ground = grid(20)
    source = PolyMesh.from_faces((ground.points - [10, 10, 0]) * 0.2, ground.triangle_points)
    return document_over(source, grid(n).with_points((grid(n).points - [n / 2, n / 2, 0]) * 0.3), mirror)


def held(document: Document) -> Held:
    return document.state.held


# ---- Hold ----------------------------------------------------------------------------------------


def test_clicks_hold_points_edges_and_faces_together() -> None:
    document = flat_document()
    hand = Hand(document, Hold, CAMERA)
    hand.click((0.15, 0.15, 0))
    assert (held(document).kind, len(held(document))) == ("faces", 1)
    hand.click((0.0, 0.15, 0), ctrl=True)
    hand.click((0.3, 0.3, 0), ctrl=True)
    assert {h.kind: len(h.ids) for h in held(document).parts} == {"faces": 1, "edges": 1, "points": 1}
    hand.click((0.3, 0.3, 0), ctrl=True)
    assert len(held(document).of("points")) == 0
    hand.tool.set_option("kinds", "points")
    hand.click((0.3, 0.3, 0))
    assert (held(document).kind, len(held(document))) == ("points", 1)
    hand.click((2.0, 2.0, 0))
    assert len(held(document)) == 0


def test_shift_widens_to_loop_ring_path_and_part() -> None:
    document = flat_document()
    hand = Hand(document, Hold, CAMERA)
    hand.tool.set_option("kinds", "edges")
    hand.click((0.0, 0.15, 0), shift=True)
    assert len(held(document)) == 6
    hand.space()
    hand.click((0.0, 0.15, 0), shift=True)
    assert len(held(document)) == 7
    hand.tool.set_option("kinds", "points")
    hand.click((-0.9, -0.9, 0))
    hand.tool.wide = 0
    hand.click((0.9, -0.9, 0), shift=True)
    assert len(held(document)) == 7 and np.allclose(
        document.require_jacket().mesh.points[held(document).of("points"), 1], -0.9
    )
    hand.tool.wide = 1
    hand.click((0.0, 0.0, 0), shift=True)
    assert len(held(document)) == 49


@pytest.mark.parametrize("shape", ["box", "lasso", "sweep"])
def test_drags_hold_add_and_let_go(shape: str) -> None:
    document = flat_document()
    hand = Hand(document, Hold, CAMERA, brush=12.0)
    hand.tool.set_option("shape", shape)
    low, high = -0.95, -0.25
    paths = {
        "box": [(low, low, 0), (high, high, 0)],
        "lasso": [(low, low, 0), (high, low, 0), (high, high, 0), (low, high, 0)],
        "sweep": [(-0.75, -0.75, 0), (-0.45, -0.75, 0), (-0.45, -0.45, 0), (-0.75, -0.45, 0)],
    }
    hand.drag(paths[shape])
    assert held(document).kind == "faces" and len(held(document)) == 4
    hand.drag([np.array(p) + [1.2, 1.2, 0] for p in paths[shape]], shift=True)
    assert len(held(document)) == 8
    hand.drag(paths[shape], ctrl=True)
    assert len(held(document)) == 4
    centres = (
        document.require_jacket()
        .mesh.points[document.require_jacket().mesh.as_quads()[held(document).ids]]
        .mean(axis=1)
    )
    assert (centres[:, :2] > 0).all()


def test_what_the_source_hides_is_held_only_when_wanted() -> None:
    ball = icosphere(3)
    document = document_over(ball, ball)
    hand = Hand(document, Hold, CAMERA)
    hand.drag([(-1.2, -1.2, 0), (1.2, 1.2, 0)])
    seen = len(held(document))
    hand.tool.set_option("through", True)
    hand.drag([(-1.2, -1.2, 0), (1.2, 1.2, 0)])
    assert 0.3 * ball.n_faces < seen < 0.55 * ball.n_faces and len(held(document)) == ball.n_faces


def test_choices_are_changed_by_commands_and_kept_through_edits(tmp_path: Path) -> None:
    document = flat_document()
    bench = Bench(document, "rim")
    document.hold("faces", [14, 15])
    bench.run("grow-held")
    assert len(held(document)) == 12
    bench.run("shrink-held")
    assert held(document).ids.tolist() == [14, 15]
    bench.run("outline-held")
    assert (held(document).kind, len(held(document))) == ("edges", 6)
    bench.run("as-points")
    assert len(held(document)) == 6
    bench.run("keep-choice")
    assert choice_names(document.require_jacket().mesh) == ["rim"]
    bench.run("invert-held")
    assert len(held(document)) == 43
    mesh = document.require_jacket().mesh
    corner = int(mesh.face_of_corner[mesh.corners == 15][0])
    document.edit_jacket("cut", faces_removed(mesh, [0, corner]).mesh)
    hold_choice(document, "rim")
    points = document.require_jacket().mesh.points[held(document).ids]
    assert len(points) == 6 and np.ptp(points[:, 0]) == pytest.approx(0.6)
    save_project(document.state, tmp_path / "a.jacket")
    assert choice_names(load_project(tmp_path / "a.jacket").jackets[0].mesh) == ["rim"]
    forget_choice(document, "rim")
    with pytest.raises(EditRefused, match="Nothing is left"):
        hold_choice(document, "rim")
    with pytest.raises(JacketError, match="needs a name"):
        keep_choice(document, " ")
    points = document.require_jacket().mesh.points
    document.hold("points", np.flatnonzero(np.isclose(points[:, 1], 0)))
    bench.run("nth-held", nth=3)
    assert np.sort(points[held(document).ids, 0]) == pytest.approx([-0.9, 0, 0.9])


def test_loops_rings_paths_and_similar() -> None:
    document = flat_document()
    bench = Bench(document)
    mesh = document.require_jacket().mesh
    document.hold("edges", [mesh.topology.find_edge(24, 25)])
    bench.run("rings-held")
    assert len(held(document)) == 7
    document.hold("edges", [mesh.topology.find_edge(24, 25)])
    bench.run("loops-held")
    assert len(held(document)) == 6
    document.hold("points", [0, 48])
    bench.run("path-held")
    assert len(held(document)) == 13
    document.hold("points", [24])
    bench.run("similar-held", similar_by="valence")
    assert len(held(document)) == 25
    bench.run("link-held")
    assert len(held(document)) == 49


# ---- Tidy ----------------------------------------------------------------------------------------


def bumpy(seed: int = 3) -> Document:
    ball = icosphere(5)
    document = document_over(ball)
    from tests.stages.topology.test_drawing_tools import woven_patch

    woven_patch(document, 6).enter()
    mesh = document.require_jacket().mesh
    rng = np.random.default_rng(seed)
    from jacket.core.space.bvh import Bvh

    moved = mesh.points + rng.normal(scale=0.015, size=mesh.points.shape)
    document.edit_jacket("shake", mesh.with_points(Bvh.build(ball.points, ball.triangle_points).project(moved)))
    return document


def test_tidying_keeps_to_the_source_and_is_one_step() -> None:
    document = bumpy()
    ball = document.require_source().mesh
    bench = Bench(document)
    mesh = document.require_jacket().mesh
    row = mesh.points[:, 1].argsort()[21:28]
    document.hold_all(Held.together({"points": row}, "points", int(row[3])))
    bench.run("level")
    new = document.require_jacket().mesh
    assert np.abs(new.points[row, 1] - mesh.points[row[3], 1]).max() < 1e-12 and off_source(new, ball) < 1e-6
    assert held(document).ids.tolist() == sorted(row.tolist()) and len(document.history.done) == 3
    loop = edge_paths(new, np.flatnonzero(new.topology.edge_uses == 1))[0]
    assert loop[1] and len(loop[0]) == 24
    document.hold("edges", new.topology.border_edges)
    for command in ("round-ring", "even-path"):
        bench.run(command, tidy_even=True)
        assert off_source(document.require_jacket().mesh, ball) < 1e-6
    ring = document.require_jacket().mesh.points[loop[0]]
    steps = np.linalg.norm(np.diff(np.vstack([ring, ring[:1]]), axis=0), axis=1)
    assert np.ptp(steps) < 0.05 * steps.mean()
    assert np.ptp(np.linalg.norm(ring - ring.mean(axis=0), axis=1)) < 0.05


def test_flattening_lifts_and_settling_brings_back() -> None:
    document = bumpy()
    ball = document.require_source().mesh
    bench = Bench(document)
    document.hold("faces", np.arange(36))
    bench.run("flatten-own")
    mesh = document.require_jacket().mesh
    assert lifted_points(mesh).sum() > 40
    heights = np.linalg.svd(mesh.points - mesh.points.mean(axis=0))[1]
    assert heights[2] < 1e-9
    # Brushes leave lifted points alone.
    hand = Hand(document, Relax, CAMERA, brush=200.0)
    hand.drag([(0, 0, 0.9), (0.1, 0, 0.9)])
    up = lifted_points(mesh)
    assert np.array_equal(document.require_jacket().mesh.points[up], mesh.points[up])
    bench.run("settle-all")
    assert not lifted_points(document.require_jacket().mesh).any()
    assert off_source(document.require_jacket().mesh, ball) < 1e-6
    with pytest.raises(EditRefused, match="is lifted"):
        bench.run("settle-held")


def test_cleaning_commands() -> None:
    g = grid(4)
    document = document_over(icosphere(2), PolyMesh.from_faces(g.points, g.triangle_points))
    bench = Bench(document)
    bench.run("pair-triangles")
    assert document.require_jacket().mesh.is_quads
    bench.run("dissolve-idle", idle_angle=1.0)
    assert document.require_jacket().mesh.n_faces < 16 and document.require_jacket().mesh.is_quads
    document.edit_jacket("again", grid(4))
    document.hold("edges", [grid(4).topology.find_edge(12, 13)])
    bench.run("dissolve-idle", idle_angle=1.0)
    assert sorted(document.require_jacket().mesh.sizes.tolist())[-1] == 6
    document.undo()
    mesh = document.require_jacket().mesh
    moved = mesh.points.copy()
    document.edit_jacket("x", mesh.with_points(moved))
    assert merge_count(document, bench.values(TopologyValues)) == 0
    with pytest.raises(EditRefused, match="raise the distance"):
        bench.run("merge-near", merge_distance=1e-9)
    with pytest.raises(EditRefused, match="Nothing is folded"):
        bench.run("untangle")
    document.hold("edges", [0])
    bench.run("sharpen", sharp_weight=2.0)
    assert "weight:2" in document.require_jacket().mesh.marks and len(held(document)) == 1


def test_pointing_at_a_button_shows_what_it_would_do() -> None:
    document = bumpy()
    tool = Tidy(document, ToolSettings())
    tool.preview("straighten", TopologyValues())
    assert "Hold a path" in tool.ghost.what and len(tool.ghost.lines) == 0
    document.hold("points", [0, 30])
    before = document.state
    for action in TIDYINGS:
        tool.preview(action, TopologyValues())
        assert tool.ghost.what
    tool.preview("straighten", TopologyValues())
    assert len(tool.ghost.lines) > 0 and document.state is before
    tool.preview("", {})
    assert tool.ghost.what == ""


# ---- Move and Lift -------------------------------------------------------------------------------


def test_handles_and_numbers_move_turn_and_scale() -> None:
    document = flat_document()
    hand = Hand(document, Move, CAMERA)
    document.hold("points", [24])
    lines = hand.tool.handles(CAMERA)
    start = lines["x"][0, 1] * 0.6 + lines["x"][0, 0] * 0.4
    hand.hover(start)
    assert "along X" in hand.tool.ghost.what
    hand.drag([start, start + [0.1, 0.02, 0]])
    place = document.require_jacket().mesh.points[24]
    assert place == pytest.approx([0.1, 0, 0], abs=0.005) and len(document.history.done) == 1
    hand.tool.typed("move", (-float(place[0]), 0.05, 0))
    assert document.require_jacket().mesh.points[24] == pytest.approx([0, 0.05, 0], abs=1e-12)
    document.hold("faces", np.arange(36))
    before = document.require_jacket().mesh.points
    hand.tool.typed("turn", (0, 0, 90))
    centre = before.mean(axis=0)
    arm = before - centre
    assert np.allclose(document.require_jacket().mesh.points - centre, np.stack([-arm[:, 1], arm[:, 0], arm[:, 2]], 1))
    hand.tool.typed("scale", (50, 50, 50))
    assert np.ptp(document.require_jacket().mesh.points[:, 0]) == pytest.approx(0.9)
    with pytest.raises(EditRefused, match="over 0 %"):
        hand.tool.typed("scale", (-1, 1, 1))


def test_moves_reach_on_by_steps_and_mirror() -> None:
    document = flat_document(6, "x")
    hand = Hand(document, Move, CAMERA)
    hand.tool.set_option("steps", 2)
    document.hold("points", [24 + 3])
    before = document.require_jacket().mesh.points
    hand.tool.typed("move", (0, 0.06, 0))
    moved = document.require_jacket().mesh.points[:, 1] - before[:, 1]
    assert moved[27] == pytest.approx(0.06) and moved[21] == pytest.approx(0.06)
    assert 0 < moved[26] < 0.06 and moved[24] == pytest.approx(0.0)
    hand.tool.set_option("stay", False)
    hand.tool.typed("move", (0, 0, 0.1))
    assert lifted_points(document.require_jacket().mesh)[[21, 27]].all()


def test_points_are_lifted_along_normals_and_stay_lifted() -> None:
    ball = icosphere(4)
    document = document_over(ball)
    from tests.stages.topology.test_drawing_tools import woven_patch

    woven_patch(document, 6).enter()
    hand = Hand(document, Lift, CAMERA, brush=70.0)
    hand.drag([(0, 0, 1.0), (0, 0.1, 1.0)])
    mesh = document.require_jacket().mesh
    up = lifted_points(mesh)
    assert up.any() and not up.all()
    high = np.linalg.norm(mesh.points[up], axis=1)
    assert high.max() > 1.05 and high.min() > 0.99
    # A loop through lifted quads stays up between them.
    from jacket.core.fit.lifted import settled
    from jacket.core.mesh.rows import loops_inserted
    from jacket.core.space.bvh import Bvh

    ends = mesh.topology.edge_points
    edge = int(np.flatnonzero(up[ends].all(axis=1))[0])
    new, added = loops_inserted(mesh, edge, 1)
    new = settled(new, Bvh.build(ball.points, ball.triangle_points), added, new=True)
    assert lifted_points(new)[added].any() and not lifted_points(new)[added].all()
    hand.click((0, 0, 1.0), ctrl=True)
    assert off_source(document.require_jacket().mesh, ball) < 1e-6
    with pytest.raises(EditRefused, match="no point here"):
        hand.click((5.0, 5.0))


# ---- brushes and Unpick --------------------------------------------------------------------------


def test_brushes_by_falloff_border_and_held_points() -> None:
    document = flat_document()
    settings = {"brush": 120.0, "strength": 1.0}
    hand = Hand(document, Nudge, CAMERA, **settings)
    mesh = document.require_jacket().mesh
    pointer = hand.at((0.9, 0.0, 0))
    hand.tool.set_option("which", "border")
    weight = hand.tool.weights(mesh, pointer)
    assert weight.any() and not (weight[~mesh.topology.border_points] > 0).any()
    hand.tool.set_option("which", "inside")
    assert not (hand.tool.weights(mesh, pointer)[mesh.topology.border_points] > 0).any()
    hand.tool.set_option("which", "all")
    near = hand.tool.weights(mesh, pointer)
    hand.tool.set_option("falloff", "pointed")
    assert hand.tool.weights(mesh, pointer).sum() < near.sum()
    document.hold("points", [27])
    assert hand.tool.weights(mesh, pointer)[27] == 0
    two = Hand(document, Relax, CAMERA, **settings)
    edge = mesh.points.copy()
    edge[[34, 20], 1] += [0.1, -0.1]
    document.edit_jacket("uneven", mesh.with_points(edge))
    document.hold_all(Held())
    two.drag([(0.9, 0.0, 0), (0.88, 0.02, 0)], shift=True)
    assert document.last_step == "even a border"
    border = document.require_jacket().mesh.points[mesh.topology.border_points]
    assert np.abs(np.abs(border[:, :2]).max(axis=1) - 0.9).max() < 1e-9


def test_relaxed_borders_slide_along_themselves() -> None:
    document = flat_document()
    mesh = document.require_jacket().mesh
    points = mesh.points.copy()
    points[[27, 34, 20]] += [[0, 0.08, 0], [0, 0.08, 0], [0, 0.08, 0]]
    document.edit_jacket("uneven", mesh.with_points(points))
    hand = Hand(document, Relax, CAMERA, brush=150.0, strength=1.0)
    for _ in range(4):
        hand.drag([(0.85, 0.0, 0), (0.8, 0.02, 0)])
    new = document.require_jacket().mesh.points
    right = np.isclose(mesh.points[:, 0], 0.9)
    assert np.abs(new[right, 0] - 0.9).max() < 1e-9
    assert np.ptp(np.diff(np.sort(new[right, 1]))) < np.ptp(np.diff(np.sort(points[right, 1])))


def test_unpick_takes_faces_edges_loops_and_points() -> None:
    document = flat_document()
    hand = Hand(document, Unpick, CAMERA)
    hand.click((0.15, 0.15, 0))
    assert document.require_jacket().mesh.n_faces == 35
    hand.space()
    hand.click((-0.3, -0.45, 0), shift=True)
    assert document.require_jacket().mesh.n_faces < 32
    document.undo()
    hand.click((-0.3, -0.45, 0))
    mesh = document.require_jacket().mesh
    assert mesh.n_faces == 34 and mesh.sizes.max() == 6
    hand.space()
    hand.click((-0.6, 0.3, 0))
    assert document.require_jacket().mesh.n_faces == 30
    bench = Bench(document)
    with pytest.raises(EditRefused, match="No points float"):
        bench.run("remove-loose")


# ---- layers --------------------------------------------------------------------------------------


def test_layers_are_split_joined_copied_named_and_ordered(tmp_path: Path) -> None:
    document = flat_document()
    bench = Bench(document, "part ##")
    document.hold("faces", np.arange(18))
    bench.run("split-layer")
    assert [j.mesh.n_faces for j in document.state.jackets] == [18, 18]
    bench.run("rename-layers")
    assert [j.name for j in document.state.jackets] == ["part 01", "part 02"]
    bench.run("layer-up")
    assert [j.name for j in document.state.jackets] == ["part 02", "part 01"]
    bench.run("lock-layer")
    with pytest.raises(JacketError, match="locked"):
        document.edit_jacket("x", PolyMesh.empty())
    trial = trials_steps.add_trial(document, cube(), {}, {})
    with pytest.raises(JacketError, match="locked"):
        trials_steps.take_trial(document, trial.id)
    document.undo()
    save_project(document.state, tmp_path / "a.jacket")
    assert [j.locked for j in load_project(tmp_path / "a.jacket").jackets] == [True, False]
    with pytest.raises(JacketError, match="locked"):
        bench.run("join-layers")
    bench.run("lock-layer")
    bench.run("join-layers")
    joined = document.require_jacket().mesh
    assert joined.n_faces == 36 and joined.n_points == 49 and len(document.state.jackets) == 1
    bench.run("copy-layer")
    bench.run("mirror-layer-x")
    assert len(document.state.jackets) == 3 and document.require_jacket().name.endswith("mirrored")
    bench.run("remove-layer")
    layers.choose_layer(document, document.state.jackets[0].id)
    while document.undo():
        pass
    assert document.state.jackets[0].mesh.n_faces == 36


def test_copies_round_an_axis_are_welded() -> None:
    quarter = np.array([[1, 0, 0], [2, 0, 0], [0, 0, -2], [0, 0, -1]], float)
    document = document_over(icosphere(2), PolyMesh.from_faces(quarter, [[0, 1, 2, 3]]), mirror="x")
    bench = Bench(document)
    bench.run("radial-layer", copies=4, copy_axis="y")
    mesh = document.require_jacket().mesh
    assert (mesh.n_faces, mesh.n_points) == (4, 8) and len(mesh.topology.border_loops) == 2
    with pytest.raises(JacketError, match="between 2"):
        layers.radial_layers(document, 1, 1, np.zeros(3))
    bench.set(copies=1)
    assert "choose 2 to 360" in bench.said[-1] and bench.values(TopologyValues).copies == 4
    with pytest.raises(JacketError, match="share a name"):
        layers.rename_layers(document, [document.state.active] * 2, "same")
    with pytest.raises(JacketError, match="gone"):
        layers.choose_layer(document, 99)
    document.apply("x", document.state.with_(jackets=(JacketObject(7, "only", cube()),), active=7))
    bench.run("remove-layer")
    assert len(document.state.jackets) == 1 and document.require_jacket().mesh.n_faces == 0
