"""The numbers behind the hand tools: smoothing, choosing, tidying, cleaning, shifting, pieces."""

from __future__ import annotations

import igl
import networkx as nx
import numpy as np
import pytest
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation

from jacket.core.fit.shift import FALLOFFS, Shift, falloff, shifted, step_weights
from jacket.core.fit.tidy import (
    best_circle,
    evened_path,
    flattened,
    levelled,
    loops_spaced,
    made_planar,
    out_of_plane,
    rounded,
    straightened,
)
from jacket.core.mesh.choosing import (
    as_kind,
    chains,
    every_nth,
    grown,
    inverted,
    linked,
    loops_through,
    outline,
    rings_through,
    shrunk,
    similar,
)
from jacket.core.mesh.cleaning import idle_loops, near_merged, near_pairs, triangle_pairs, triangles_paired
from jacket.core.mesh.pieces import mirrored_copy, put_side_by_side, split_off, turned_copy
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.rows import edge_turned, edges_dissolved
from jacket.core.mesh.smooth import limit_points, smoothed, with_sharpness
from jacket.core.mesh.walks import edge_loop
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused
from tests.conftest import cube, grid, icosphere, torus

# ---- smoothing ------------------------------------------------------------------------------------


def big_cube() -> PolyMesh:
    return cube().with_points(2 * cube().points - 1)


def test_one_round_on_a_cube_is_the_published_rule() -> None:
    """Catmull and Clark 1978, on the cube ±1: corners go to (Q + 2R) / 3 = 5/9, edges to 3/4, faces to 1."""
    new = smoothed(big_cube(), 1).mesh
    assert (new.n_points, new.n_faces) == (8 + 12 + 6, 24)
    assert np.allclose(np.abs(new.points[:8]), 5 / 9)
    assert np.allclose(np.sort(np.abs(new.points[8:20]), axis=1), [0, 0.75, 0.75])
    assert np.allclose(np.sort(np.abs(new.points[20:]), axis=1), [0, 0, 1])


def test_many_rounds_come_to_the_limit(spot: PolyMesh) -> None:
    """Halstead et al. 1993 give the limit in closed form; six rounds come near it, and nearer than five."""
    box = big_cube()
    goal = limit_points(box)
    off = [np.abs(smoothed(box, k).mesh.points[:8] - goal).max() for k in (2, 4, 6)]
    assert off[0] > 4 * off[1] > 16 * off[2] and off[2] < 1e-3
    assert np.allclose(np.abs(goal), np.abs(goal)[0, 0])


def test_sharp_edges_stay_and_weights_fade() -> None:
    """DeRose et al. 1998: edges sharp for ever keep a cube a cube; a weight of 1 is one sharp round, then smooth."""
    box = big_cube()
    every = np.arange(12)
    hard = smoothed(with_sharpness(box, every, 10), 3).mesh
    assert np.allclose(np.abs(hard.points[:8]), 1)
    assert np.allclose(np.abs(hard.points).max(axis=1), 1)
    once = smoothed(with_sharpness(box, every, 1), 1).mesh
    assert np.allclose(np.abs(once.points[:8]), 1)
    twice = smoothed(with_sharpness(box, every, 1), 2).mesh
    assert np.abs(twice.points[:8]).max() < 1
    assert len(with_sharpness(with_sharpness(box, every, 1), every, 0).marks.get("weight:1", [])) == 0


def test_borders_smooth_as_curves() -> None:
    """A border is a cubic B-spline of its own: (a + 6 S + b) / 8, whatever lies inside."""
    flat = grid(3)
    new = smoothed(flat, 1)
    assert np.allclose(new.mesh.points[1], (flat.points[0] + 6 * flat.points[1] + flat.points[2]) / 8)
    ends = new.mesh.points[new.lines]
    assert len(ends) == 2 * flat.topology.n_edges
    assert (new.mesh.topology.find_edges(new.lines) >= 0).all()


# ---- choosing -------------------------------------------------------------------------------------


def point_graph(mesh: PolyMesh) -> nx.Graph:
    graph = nx.Graph()
    graph.add_nodes_from(range(mesh.n_points))
    graph.add_edges_from(mesh.topology.edge_points.tolist())
    return graph


def test_growing_and_links_agree_with_networkx(spot: PolyMesh) -> None:
    graph = point_graph(spot)
    some = np.array([3, 500, 501])
    ball = set().union(*(nx.ego_graph(graph, int(p), 2).nodes for p in some))
    twice = grown(spot, "points", grown(spot, "points", some))
    assert set(twice.tolist()) == ball
    assert set(some.tolist()) <= set(shrunk(spot, "points", twice).tolist()) <= ball
    two = put_side_by_side([spot, spot])
    parts = [set(c) for c in nx.connected_components(point_graph(two))]
    assert set(linked(two, "points", np.array([4])).tolist()) in parts
    faces = grown(spot, "faces", np.array([7]))
    touching = nx.ego_graph(
        nx.Graph([(("f", f), int(p)) for f in range(spot.n_faces) for p in spot.face(f)]), ("f", 7), 2
    )
    assert set(faces.tolist()) == {n[1] for n in touching if isinstance(n, tuple)}


def test_valence_and_borders_agree_with_libigl(spot: PolyMesh) -> None:
    triangles = spot.corners.reshape(-1, 3)
    lists = igl.adjacency_list(triangles)
    assert [len(r) for r in lists] == spot.topology.valence.tolist()
    cap = np.flatnonzero(spot.points[spot.corners.reshape(-1, 3)].mean(axis=1)[:, 1] > 0.3)
    loop = igl.boundary_facets(triangles[cap])
    loop = np.asarray(loop[0] if isinstance(loop, tuple) else loop)
    edges = outline(spot, "faces", cap)
    assert {frozenset(e) for e in loop.tolist()} == {frozenset(e) for e in spot.topology.edge_points[edges].tolist()}


def test_chosen_kinds_turn_into_one_another() -> None:
    g = grid(4)
    assert len(as_kind(g, "faces", np.array([5]), "points")) == 4
    assert len(as_kind(g, "points", g.face(5), "edges")) == 4
    assert as_kind(g, "edges", as_kind(g, "faces", np.array([5, 6]), "edges"), "faces").tolist() == [5, 6]
    assert len(inverted(g, "faces", np.array([5]))) == 15
    assert shrunk(g, "faces", np.arange(16)).tolist() == list(range(16))


def test_every_nth_runs_along_chains() -> None:
    ring = torus(12, 6)
    e = int(ring.topology.find_edge(0, 1))
    across = rings_through(ring, np.array([e]))
    assert len(across) == 12
    third = every_nth(ring, "edges", across, 3)
    assert len(third) == 4
    order = chains(ring, "edges", across)[0]
    assert {order.index(int(x)) % 3 for x in third} == {0}
    assert len(every_nth(ring, "edges", across, 3, 1)) == 4
    around = loops_through(ring, np.array([e]))
    assert len(every_nth(ring, "edges", around, 2)) == len(around) / 2
    with pytest.raises(EditRefused, match="1 or more"):
        every_nth(ring, "edges", across, 0)


def test_similar_elements() -> None:
    ring = torus(12, 6)
    lengths = np.linalg.norm(np.diff(ring.points[ring.topology.edge_points], axis=1)[:, 0], axis=1)
    alike = similar(ring, "edges", np.array([0]), "length", 0.01)
    assert (
        np.allclose(lengths[alike], lengths[0], rtol=0.02)
        and len(alike) == np.isclose(lengths, lengths[0], rtol=0.01).sum()
    )
    flat = similar(cube(), "faces", np.array([0]), "normal", 0.1)
    assert flat.tolist() == [0]
    with pytest.raises(EditRefused, match="compared by area"):
        similar(ring, "points", np.array([0]), "area")


# ---- tidying --------------------------------------------------------------------------------------


def test_levelled_points_are_level_and_on_the_source() -> None:
    ball = icosphere(4)
    surface = Bvh.build(ball.points, ball.triangle_points)
    rng = np.random.default_rng(4)
    points = surface.project(rng.normal(size=(30, 3)) * [1, 0.2, 1] + [0, 0.3, 0])
    new = levelled(points, np.arange(30), 1, 0.37, surface)
    assert np.abs(new[:, 1] - 0.37).max() < 1e-15
    far = igl.point_mesh_squared_distance(new, ball.points, ball.corners.reshape(-1, 3))[0]
    assert np.sqrt(far).max() < 1e-9
    with pytest.raises(EditRefused, match="nothing at that height"):
        levelled(points, np.arange(3), 1, 5.0, surface)


def test_straight_paths_keep_or_even_their_spacing() -> None:
    points = np.array([[0, 0, 0], [1, 0.5, 0], [1.5, -0.2, 0.3], [4, 0, 0]], float)
    kept = straightened(points, np.arange(4), even=False)
    steps = np.linalg.norm(np.diff(points, axis=0), axis=1)
    assert np.allclose(kept[:, 1:], 0) and np.allclose(np.diff(kept[:, 0]) / 4, steps / steps.sum())
    assert np.allclose(straightened(points, np.arange(4), even=True)[:, 0], [0, 4 / 3, 8 / 3, 4])
    spread = evened_path(points, np.arange(4), closed=False)
    assert np.allclose(spread[[0, 3]], points[[0, 3]])


def test_loops_are_spaced_between_the_outer_two() -> None:
    g = grid(6, 2)
    points = g.points.copy()
    points[:, 0] = np.round(points[:, 0]) ** 2
    bent = g.with_points(points)
    chosen = [bent.topology.find_edge(int(np.flatnonzero((g.points == [x, 0, 0]).all(1))[0]),
                                      int(np.flatnonzero((g.points == [x, 1, 0]).all(1))[0])) for x in (1, 2, 3, 4)]  # fmt: skip
    edges = np.concatenate([edge_loop(bent, e) for e in chosen])
    new = loops_spaced(bent, edges)
    at = {x: new[np.isclose(g.points[:, 0], x)][:, 0] for x in range(7)}
    assert [float(at[x][0]) for x in range(7)] == pytest.approx([0, 1, 6, 11, 16, 25, 36])
    with pytest.raises(EditRefused, match="three loops"):
        loops_spaced(bent, edges[:2])


def test_best_circles_agree_with_scipy() -> None:
    rng = np.random.default_rng(1)
    turn = Rotation.from_euler("xyz", [0.4, 1.0, -0.3]).as_matrix()
    angle = np.sort(rng.uniform(0, 2 * np.pi, 24))
    flat = np.stack([3 * np.cos(angle) + 1, 3 * np.sin(angle) - 2, 0 * angle], axis=1) + rng.normal(
        scale=0.05, size=(24, 3)
    ) * [1, 1, 0]
    centre, normal, radius = best_circle(flat @ turn.T)
    fit = least_squares(
        lambda v: np.hypot(flat[:, 0] - v[0], flat[:, 1] - v[1]) - v[2], [0.5, -1, 2], xtol=1e-15, ftol=1e-15
    )
    assert centre == pytest.approx(turn @ [fit.x[0], fit.x[1], 0], abs=1e-6) and radius == pytest.approx(
        fit.x[2], abs=1e-6
    )
    assert abs(normal @ turn[:, 2]) == pytest.approx(1)
    ring = rounded(flat, np.arange(24), even=True)
    assert np.allclose(
        np.linalg.norm(np.diff(np.vstack([ring, ring[:1]]), axis=0), axis=1), 2 * radius * np.sin(np.pi / 24), atol=1e-6
    )


def test_flattening_and_planar_faces() -> None:
    rng = np.random.default_rng(2)
    bumpy = grid(3).with_points(grid(3).points + rng.normal(scale=0.05, size=(16, 3)))
    new = flattened(bumpy.points, np.array([0, 5]), np.zeros(3), np.array([0, 0, 1.0]))
    assert np.allclose(new[[0, 5], 2], 0) and np.array_equal(new[1], bumpy.points[1])
    faces = np.array([0, 4, 8])
    before = out_of_plane(bumpy, faces).max()
    after = out_of_plane(bumpy.with_points(made_planar(bumpy, faces)), faces).max()
    assert before > 0.01 and after < 1e-6


# ---- shifting -------------------------------------------------------------------------------------


def test_shifts_are_rigid_at_full_weight() -> None:
    rng = np.random.default_rng(3)
    points, axis = rng.normal(size=(9, 3)), np.array([1.0, 2, -1])
    pivot = np.array([0.2, 0, 1])
    new = shifted(points, np.ones(9), Shift(pivot, np.array([1.0, 0, 0]), axis, 0.8))
    turn = Rotation.from_rotvec(0.8 * axis / np.linalg.norm(axis))
    assert np.allclose(new, turn.apply(points - pivot) + pivot + [1, 0, 0])
    half = shifted(points, np.full(9, 0.5), Shift(pivot, np.zeros(3), axis, 0.8))
    assert np.allclose(half, Rotation.from_rotvec(0.4 * axis / np.linalg.norm(axis)).apply(points - pivot) + pivot)
    grownup = shifted(points, np.ones(9), Shift(pivot, np.zeros(3), axis, 0.0, np.array([2.0, 1, 1])))
    assert np.allclose(grownup - pivot, (points - pivot) * [2, 1, 1])


def test_falloff_counts_steps() -> None:
    g = grid(8)
    far = nx.single_source_shortest_path_length(point_graph(g), 40)
    weight = step_weights(g, np.array([40]), 3)
    assert all((weight[p] > 0) == (d <= 3) for p, d in far.items()) and weight[40] == 1
    for curve in FALLOFFS:
        values = falloff(np.linspace(0, 1, 11), curve)
        assert values[0] == 1 and values[-1] == 0 and (np.diff(values) <= 0).all()


# ---- cleaning -------------------------------------------------------------------------------------


def test_triangles_become_quads_again() -> None:
    """A split grid comes back whole; on an open mesh as many pairs are found as the best matching has, less 10 %."""
    g = grid(6)
    again = triangles_paired(PolyMesh.from_faces(g.points, g.triangle_points))
    assert again.is_quads and again.n_faces == 36
    spot = icosphere(3)
    pairs = triangle_pairs(spot, most_turn=180)
    graph = nx.Graph()
    topology = spot.topology
    for e in range(topology.n_edges):
        c = int(topology.edge_corner[e])
        graph.add_edge(int(spot.face_of_corner[c]), int(spot.face_of_corner[topology.twin[c]]))
    best = len(nx.max_weight_matching(graph, maxcardinality=True))
    assert 0.9 * best < len(pairs) <= best
    quads = edges_dissolved(spot, pairs, thin=False).mesh
    assert (quads.sizes == 4).sum() == len(pairs) and quads.n_faces == spot.n_faces - len(pairs)
    marked = PolyMesh.from_faces(g.points, g.triangle_points).with_cuts([[0, 8]])
    assert triangles_paired(marked).topology.find_edge(0, 8) >= 0


def test_idle_loops_go_and_shape_stays() -> None:
    box = cube()
    for _ in range(2):
        from jacket.core.mesh.rows import loops_inserted

        box, _new = loops_inserted(box, int(box.topology.find_edge(0, 1)), 1) if box.n_faces == 6 else (box, None)
    idle = idle_loops(box, 1.0)
    assert len(idle) == 4
    back = edges_dissolved(box, idle).mesh
    assert (back.n_points, back.n_faces) == (8, 6) and len(idle_loops(back, 1.0)) == 0


def test_near_points_merge_and_bad_pairs_are_left() -> None:
    two = put_side_by_side([grid(2), grid(2).with_points(grid(2).points + [2.001, 0, 0])])
    assert len(near_pairs(two, 0.01)) == 3
    new, merged, refused = near_merged(two, 0.01)
    assert (merged, refused) == (3, 0) and new.n_points == 15 and len(new.topology.nonmanifold_edges) == 0
    with pytest.raises(EditRefused, match="raise the distance"):
        near_merged(new, 0.001)
    stack = put_side_by_side([grid(1), grid(1).with_points(grid(1).points + [0, 0, 0.001]),
                              grid(1).with_points(grid(1).points + [0, 0, 0.002])])  # fmt: skip
    assert len(near_merged(stack, 0.01)[0].topology.nonmanifold_edges) == 0


# ---- pieces ---------------------------------------------------------------------------------------


def test_pieces_come_apart_and_together() -> None:
    g = grid(4).with_cuts([[5, 6], [6, 7], [20, 21]])
    g = g.with_uv(g.points[g.corners][:, :2]).with_(point_data={"lifted": np.arange(25, dtype=np.uint8)})
    rest, apart = split_off(g, np.arange(8))
    assert (rest.n_faces, apart.n_faces) == (8, 8) and (rest.n_points, apart.n_points) == (15, 15)
    whole = put_side_by_side([rest, apart])
    assert whole.n_faces == 16 and len(whole.cuts) == 3 and whole.uv is not None
    assert np.allclose(whole.uv, whole.points[whole.corners][:, :2])
    welded, merged, _ = near_merged(whole, 1e-9)
    assert merged == 5 and welded.n_points == 25
    with pytest.raises(EditRefused, match="not none and not all"):
        split_off(g, np.arange(16))


def test_copies_face_outward() -> None:
    from jacket.core.mesh.geometry import volume

    box = cube()
    assert volume(mirrored_copy(box, 0)) == pytest.approx(1)
    turned = turned_copy(box, 1, np.pi / 2, np.zeros(3))
    assert np.allclose(turned.points, Rotation.from_rotvec([0, np.pi / 2, 0]).apply(box.points.copy()))
    assert volume(turned) == pytest.approx(1)


def test_turned_edges_keep_quads_and_come_round_again() -> None:
    """Each turn takes one from the ends' valence and gives it to the next corners; the hexagon round two quads has three
    such edges, so three turns bring back the first."""
    g = grid(4).with_uv(grid(4).points[grid(4).corners][:, :2])
    a, b = 11, 12
    mesh = edge_turned(g, g.topology.find_edge(a, b)).mesh
    assert mesh.is_quads and mesh.n_faces == 16 and len(mesh.topology.nonmanifold_edges) == 0
    change = mesh.topology.valence - g.topology.valence
    assert change[[a, b]].tolist() == [-1, -1] and sorted(change[change != 0].tolist()) == [-1, -1, 1, 1]
    assert np.allclose(mesh.uv, mesh.points[mesh.corners][:, :2])
    for _ in range(2):
        gained = np.flatnonzero(mesh.topology.valence - g.topology.valence > 0)
        edge = mesh.topology.find_edge(*gained.tolist()) if len(gained) == 2 else -1
        mesh = edge_turned(mesh, edge).mesh
    assert {frozenset(f) for f in mesh.as_quads().tolist()} == {frozenset(f) for f in g.as_quads().tolist()}
    with pytest.raises(EditRefused, match="between two quads"):
        edge_turned(g, int(g.topology.border_edges[0]))
