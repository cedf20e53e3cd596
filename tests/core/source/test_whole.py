"""Torn scans made whole: sheets, flaps, handles and insides, against libigl, formulas and known topology."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from bench.parts import torus
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.source.skin import solid_skin, wound
from jacket.core.source.whole import handles_cut, holes_patched, loops_from, sheets_parted, without_flaps
from jacket.core.space.bvh import Bvh
from jacket.core.space.rays import RayTree
from jacket.core.space.sample import seen_gap
from tests.conftest import cube, grid, icosphere


def joined(*meshes: PolyMesh) -> tuple[np.ndarray, np.ndarray]:
    """Points and triangles of meshes side by side, not welded."""
    starts = np.cumsum([0, *(m.n_points for m in meshes[:-1])])
    return (np.concatenate([m.points for m in meshes]),
            np.concatenate([m.triangle_points + k for m, k in zip(meshes, starts, strict=True)]).astype(np.int32))  # fmt: skip


def volume(points: np.ndarray, triangles: np.ndarray) -> float:
    """By the divergence theorem."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->i", a, np.cross(b, c)).sum() / 6)


def closed_and_manifold(points: np.ndarray, triangles: np.ndarray) -> bool:
    """As libigl tells."""
    tri = triangles.astype(np.int64)
    return bool(igl.is_edge_manifold(tri)[0]) and len(igl.boundary_facets(tri)[0]) == 0 and bool(np.all(igl.is_vertex_manifold(tri)))


# ---- flaps and sheets ------------------------------------------------------------------------------------------


def test_flaps_go_and_leaves_stay() -> None:
    """A face and its reverse stuck onto an edge of a ball close it again; a leaf with two sides by itself stays once."""
    ball = icosphere(3)
    a, b = ball.topology.edge_points[7]
    tip = 1.05 * ball.points[[a]]
    points = np.concatenate([ball.points, tip])
    flap = np.array([[a, b, ball.n_points], [b, a, ball.n_points]], np.int32)
    got, tri, gone = without_flaps(points, np.concatenate([ball.triangle_points, flap]))
    assert gone == 2 and len(tri) == ball.n_faces and len(got) == ball.n_points
    leaf = grid(4)
    both = np.concatenate([leaf.triangle_points, leaf.triangle_points[:, ::-1]])
    _, tri, gone = without_flaps(leaf.points, both)
    assert gone == 0 and len(tri) == len(leaf.triangle_points)
    points, beside = joined(ball, leaf.with_points(0.02 * leaf.points + 5))
    _, tri, gone = without_flaps(points, np.concatenate([beside, beside[ball.n_faces :, ::-1]]))
    assert gone == 0 and len(tri) == len(beside)
    _, tri, _ = without_flaps(ball.points, np.concatenate([ball.triangle_points, ball.triangle_points[:5]]))
    assert len(tri) == ball.n_faces


def test_boxes_that_share_an_edge_come_apart_closed() -> None:
    box = cube()
    points, tri = joined(box, box.with_points(box.points + np.ptp(box.points, axis=0) * [1, 1, 0]))
    kept, to = np.unique(points.round(9), axis=0, return_inverse=True)
    assert len(kept) == 14 and not igl.is_edge_manifold(to.ravel()[tri].astype(np.int64))[0]
    apart, new = sheets_parted(kept, to.ravel()[tri].astype(np.int32))
    assert closed_and_manifold(apart, new)
    assert len(apart) == 16 and face_parts(PolyMesh.from_faces(apart, new))[0] == 2
    assert volume(apart, new) == pytest.approx(2 * volume(box.points, box.triangle_points))


def test_a_plate_pinched_along_an_edge_becomes_a_ring_without_doubled_edges() -> None:
    """Upper and lower side of a closed plate welded along one inner edge: the solid is cut through there, so that the plate
    has a tunnel (χ = 0), and the two edges that are left between the same two points are told apart."""
    top = grid(6)
    n = top.n_points
    low = top.points - [0, 0, 0.2]
    side = [[p, q, q + n] for c in top.topology.border_loops[0] for p, q in [_ends(top, c)[::-1]]]
    side += [[p, q + n, p + n] for c in top.topology.border_loops[0] for p, q in [_ends(top, c)[::-1]]]
    tri = np.concatenate([top.triangle_points, top.triangle_points[:, ::-1] + n, np.array(side)]).astype(np.int32)
    points = np.concatenate([top.points, low])
    assert closed_and_manifold(points, tri) and abs(volume(points, tri)) == pytest.approx(0.2 * np.prod(np.ptp(top.points, axis=0)[:2]))
    inner = np.flatnonzero(~top.topology.border_points)
    edge = next(e for e in top.topology.edge_points if np.isin(e, inner).all())
    welded = np.where(np.isin(tri, edge + n), tri - n, tri).astype(np.int32)
    parted, new = sheets_parted(points, welded if volume(points, tri) > 0 else welded[:, ::-1].copy())
    used = np.unique(new)
    assert bool(igl.is_edge_manifold(new.astype(np.int64))[0]) and len(igl.boundary_facets(new.astype(np.int64))[0]) == 0
    mesh = PolyMesh.from_faces(parted, new)
    assert len(used) - mesh.topology.n_edges + len(new) == 0


def _ends(mesh: PolyMesh, corner: int) -> tuple[int, int]:
    return int(mesh.corners[corner]), int(mesh.corners[mesh.topology.next[corner]])


# ---- handles ---------------------------------------------------------------------------------------------------


def triangulated(mesh: PolyMesh) -> tuple[np.ndarray, np.ndarray]:
    return mesh.points, mesh.triangle_points


def test_the_loops_of_a_torus_and_what_cutting_makes_of_it() -> None:
    """The shortest loop of a torus that bounds nothing is its tube's: a polygon of n sides of 2 r sin(π / n) each."""
    points, tri = triangulated(torus(1.0, 0.25, 48, 16))
    loops = sorted(loops_from(PolyMesh.from_faces(points, tri), 3))
    girth = 16 * 2 * 0.25 * np.sin(np.pi / 16)
    assert len(loops) == 2 and loops[0][0] == pytest.approx(girth, rel=1e-6)
    assert loops[1][0] > 2 * np.pi * 0.7
    same, _, none = handles_cut(points, tri, 0.99 * girth)
    assert none == 0 and len(same) == len(points)
    opened, cut_tri, count = handles_cut(points, tri, 1.01 * girth)
    assert count == 1 and len(PolyMesh.from_faces(opened, cut_tri).topology.border_loops) == 2
    whole, faces, holes = holes_patched(opened, cut_tri)
    assert holes == 2 and closed_and_manifold(whole, faces) and igl.euler_characteristic(faces.astype(np.int64)) == 2


def test_of_many_small_handles_each_is_cut_once() -> None:
    """A ball with four small straps on it, of genus four by construction, is a ball again; a large ring stays as it is."""
    mesh = _strapped(4)
    assert igl.euler_characteristic(mesh.triangle_points.astype(np.int64)) == 2 - 2 * 4
    # The way there and back is no part of a loop.
    assert min(loops_from(mesh, 0))[0] < 0.5
    points, tri, count = handles_cut(mesh.points, mesh.triangle_points, 0.4)
    points, tri, _ = holes_patched(points, tri)
    assert count == 4 and closed_and_manifold(points, tri)
    assert igl.euler_characteristic(tri.astype(np.int64)) == 2 * face_parts(PolyMesh.from_faces(points, tri))[0]


def _strapped(count: int) -> PolyMesh:
    """A ball some pairs of whose faces are joined by a tube of three sides."""
    ball = icosphere(4)
    centres = ball.points[ball.triangle_points].mean(axis=1)
    gone, tubes = [], []
    for way in np.array([[1, 0, 0], [0, 1, 0], [-1, 0.2, 0], [0, -1, 0.3]], float)[:count]:
        a = int(np.argmax(centres @ way))
        near = np.argsort(np.linalg.norm(centres - centres[a], axis=1))
        b = next(int(f) for f in near if not np.isin(ball.triangle_points[f], ball.triangle_points[near[:20]]).any())
        p, q = ball.triangle_points[a], ball.triangle_points[b][::-1]
        shift = min(range(3), key=lambda k: float(np.linalg.norm(ball.points[p] - ball.points[np.roll(q, k)], axis=1).sum()))
        q = np.roll(q, shift)
        gone += [a, b]
        for k in range(3):
            tubes += [[p[k], p[(k + 1) % 3], q[k]], [p[(k + 1) % 3], q[(k + 1) % 3], q[k]]]
    return PolyMesh.from_faces(ball.points, np.concatenate([np.delete(ball.triangle_points, gone, axis=0), np.array(tubes)]).astype(np.int32))


# ---- insides ---------------------------------------------------------------------------------------------------


def test_what_is_wound_round_is_what_libigl_says() -> None:
    """Cells of two balls that run through one another, against libigl's winding numbers at the places of their columns."""
    one = icosphere(3)
    points, tri = joined(one, one.with_points(one.points * 0.8 + [0.9, 0.3, 0.1]))
    cells = (points - points.min(axis=0) + 0.31234) / 0.17
    shape = np.ceil(cells.max(axis=0)).astype(int) + 2
    got = wound(np.ascontiguousarray(cells), tri, *(int(n) for n in shape))
    at = np.stack(np.meshgrid(*(np.arange(n, dtype=float) for n in shape), indexing="ij"), axis=-1).reshape(-1, 3)
    inside = np.zeros(len(at))
    for x in (-0.25, 0.25):
        for y in (-0.25, 0.25):
            for z in (-0.375, -0.125, 0.125, 0.375):
                inside += igl.winding_number(cells, tri.astype(np.int64), at + [x, y, z]) > 0.5
    assert np.abs(got.ravel() - inside / 16).max() <= 0.5
    assert np.abs(got.ravel() - inside / 16).mean() < 0.01


def test_the_skin_of_two_balls_is_their_union() -> None:
    """V = 2 · 4/3 π r³ − π (4 r + d) (2 r − d)² / 12 for equal balls at a distance d (E. Weisstein, MathWorld,
    "Sphere-sphere intersection")."""
    ball = icosphere(5)
    points, tri = joined(ball, ball.with_points(ball.points + [1.0, 0, 0]))
    skin = solid_skin(points, tri, 0.04)
    assert skin is not None and closed_and_manifold(*skin) and euler_characteristic(PolyMesh.from_faces(*skin)) == 2
    wanted = 2 * 4 / 3 * np.pi - np.pi * 5 / 12
    assert volume(*skin) == pytest.approx(wanted, rel=0.01)


def test_a_pocket_behind_a_slit_is_inside_and_a_bowl_is_not() -> None:
    """A hollow ball with a slit thinner than a cell is full; one with a wide mouth stays hollow."""
    outer, inner = icosphere(5), icosphere(4)
    slit = _hollow(outer, inner, 0.9995)
    skin = solid_skin(*slit, 0.05)
    assert skin is not None and volume(*skin) == pytest.approx(4 / 3 * np.pi, rel=0.03)
    wide = _hollow(outer, inner, 0.8)
    skin = solid_skin(*wide, 0.05)
    assert skin is not None and volume(*skin) == pytest.approx(volume(*wide), rel=0.06)


def _hollow(outer: PolyMesh, inner: PolyMesh, mouth: float) -> tuple[np.ndarray, np.ndarray]:
    """A shell between balls of radius 1 and 0.7 with a round mouth at the top, its rim joined by nearest points."""
    theta = np.concatenate([np.linspace(np.arccos(mouth), np.pi, 40), np.linspace(np.pi, np.arccos(mouth), 40)])
    radius = np.concatenate([np.full(40, 1.0), np.full(40, 0.7)])
    turns = 48
    phi = np.arange(turns) * 2 * np.pi / turns
    ring = np.stack([np.sin(theta) * radius, np.cos(theta) * radius], axis=1)
    points = np.stack([ring[:, None, 0] * np.cos(phi), np.repeat(ring[:, 1:], turns, 1), ring[:, None, 0] * np.sin(phi)], axis=-1).reshape(-1, 3)
    i, j = (a.ravel() for a in np.meshgrid(np.arange(80), np.arange(turns), indexing="ij"))
    a, b = i * turns + j, i * turns + (j + 1) % turns
    c, d = (i + 1) % 80 * turns + j, (i + 1) % 80 * turns + (j + 1) % turns
    tri = np.concatenate([np.stack([a, b, d], 1), np.stack([a, d, c], 1)]).astype(np.int32)
    return (points, tri) if volume(points, tri) > 0 else (points, tri[:, ::-1].copy())


def test_what_nothing_outside_sees_is_told_apart() -> None:
    """The inner wall of a hollow ball is hidden, its outer one seen, and so is the inside of a bowl."""
    ball = icosphere(3)
    points, tri = joined(ball, ball.with_points(ball.points * 0.6))
    hidden = RayTree.build(points, tri).hidden(points, 3.0)
    assert not hidden[: ball.n_points].any() and hidden[ball.n_points :].all()
    bowl = ball.triangle_points[(ball.points[ball.triangle_points][..., 1] < 0.2).all(axis=1)]
    assert not RayTree.build(ball.points, bowl).hidden(ball.points[np.unique(bowl)], 3.0).any()
    tree = RayTree.build(points, tri)
    mixed = np.random.default_rng(1).permutation(len(points))
    assert np.array_equal(tree.hidden(points[mixed[:300]], 3.0), hidden[mixed[:300]])
    assert np.array_equal(tree.hidden(points[mixed], 3.0), hidden[mixed]), "what was asked before and what was not"
    both = PolyMesh.from_faces(points, tri)
    found, far = seen_gap(both, Bvh.build(ball.points, ball.triangle_points), lambda: RayTree.build(points, tri), 2000)
    assert found.largest < 0.01 and far == pytest.approx(100 * 0.4 / both.diagonal, rel=0.05)


def test_a_torn_ball_keeps_its_thin_horns() -> None:
    """Horns as thin as a step at half their length, on a ball with thirty holes and folded faces: they are reached, the holes
    are closed, and nothing is folded."""
    ball = icosphere(5)
    points = ball.points.copy()
    for way in np.array([[1.0, 0, 0], [-0.5, 0.8, 0.2], [-0.3, -0.6, 0.7]]):
        way = way / np.linalg.norm(way)
        close = np.clip((points @ way / np.linalg.norm(points, axis=1) - 0.9) / 0.1, 0, 1)
        points = points * (1 + 1.2 * close**2.5)[:, None]
    rng = np.random.default_rng(3)
    middle = ball.points[ball.triangle_points].mean(axis=1)
    gone = np.zeros(ball.n_faces, bool)
    for _ in range(30):
        gone[np.argsort(-(middle @ rng.normal(size=3)))[:6]] = True
    torn = PolyMesh.from_faces(points, ball.triangle_points[~gone])
    result = automatic_quads(torn, AutoSettings(quads=1500, rows=0.0))
    f = result.figures
    assert "torn" in result.notes[0] and "closed" in result.notes[0]
    assert f.gap_in_largest < 1.5 and f.folded == 0 and f.open_edges == 0 and f.euler == 2 and f.nonmanifold_edges == 0
