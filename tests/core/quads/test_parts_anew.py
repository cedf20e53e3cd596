"""Parts made anew and welded, poles cancelled and moved, trials taken in part: exact borders, sound meshes, same rest."""

from __future__ import annotations

import igl
import numpy as np
import pytest

from bench import parts
from jacket.core.mesh.geometry import edge_lengths, face_centres, scaled_jacobian
from jacket.core.mesh.poles import irregular_count, irregular_points, pair_cancelled, pole_moved
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.rows import edge_turned
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.clusters import untied
from jacket.core.quads.redo import part_redone, taken_inside
from jacket.core.quads.relay import pole_relaid
from jacket.core.quads.steering import Guide, Spot
from jacket.core.quads.welding import inner_part, part_of, ring_between, sewn_in
from jacket.core.solve.integers import integer_kernel, with_one
from jacket.core.space.bvh import Bvh
from jacket.document.state import Held, JacketObject, SourceObject, State
from jacket.errors import EditRefused, SolveError
from tests.conftest import grid
from tests.host import Headless, put
from tests.stages.test_commands import box, run


@pytest.fixture(scope="module")
def surface(spot: PolyMesh) -> Bvh:
    return Bvh.build(spot.points, spot.triangle_points)


@pytest.fixture(scope="module")
def jacket(spot: PolyMesh) -> PolyMesh:
    return automatic_quads(spot, AutoSettings(quads=1500)).mesh


def part_near(mesh: PolyMesh, place: Floats, reach: float) -> Ints:
    return np.flatnonzero(np.linalg.norm(face_centres(mesh) - place, axis=1) < reach).astype(np.int32)


def corners(mesh: PolyMesh, faces: Ints | None = None) -> set[bytes]:
    rows = mesh.as_quads() if faces is None else mesh.as_quads()[faces]
    return {np.sort(mesh.points[r].round(9), axis=0).tobytes() for r in rows}


def assert_sound(mesh: PolyMesh, like: PolyMesh) -> None:
    assert mesh.is_quads and euler_characteristic(mesh) == euler_characteristic(like)
    assert len(mesh.topology.nonmanifold_edges) == 0
    assert len(mesh.topology.border_edges) == len(like.topology.border_edges)


def test_solutions_with_a_one_are_exactly_those() -> None:
    """Every y = given + rest z solves the rows and has a 1; a row of even numbers has none (Cohen 1993, section 2.4)."""
    rng = np.random.default_rng(4)
    for _ in range(20):
        rows = rng.integers(-2, 3, (4, 9))
        basis = integer_kernel(rows)
        row = 3
        if np.gcd.reduce(basis[row]) != 1:
            continue
        given, rest = with_one(basis, row)
        assert given[row] == 1 and not rest[row].any() and rest.shape[1] == basis.shape[1] - 1
        assert not (rows @ given).any() and not (rows @ rest).any()
        # The same lattice: its basis has the same determinant up to sign, by Gram's formula.
        both = np.c_[given, rest].astype(float)
        gram = [np.linalg.det(b.T @ b) for b in (basis.astype(float), both)]
        assert gram[0] == pytest.approx(gram[1], rel=1e-6)
    with pytest.raises(SolveError, match="do not add up"):
        with_one(np.array([[2, 4], [1, 0]]), 0)


@pytest.mark.parametrize(("n", "m"), [(12, 12), (20, 16), (9, 15), (30, 12)])
def test_a_ring_takes_every_edge_of_both_borders_once(n: int, m: int) -> None:
    def circle(count: int, radius: float) -> Floats:
        a = np.arange(count) * 2 * np.pi / count
        return np.c_[radius * np.cos(a), radius * np.sin(a), 0 * a]

    quads = ring_between(circle(n, 1.0), circle(m, 0.7))
    outer = [(a[k], a[k + 1]) for a, _ in quads for k in range(len(a) - 1)]
    inner = [(b[k], b[k + 1]) for _, b in quads for k in range(len(b) - 1)]
    assert sorted(outer) == sorted((k, (k + 1) % n) for k in range(n))
    assert sorted(inner) == sorted((k, (k + 1) % m) for k in range(m))
    assert all(len(a) + len(b) == 4 for a, b in quads) and len(quads) == (n + m) // 2


def test_a_coarser_patch_is_sewn_into_a_hole() -> None:
    flat = grid(12)
    faces = part_near(flat, np.array([6.0, 6.0, 0.0]), 3.6)
    rest, region = part_of(flat, faces)
    assert rest is not None
    coarse = grid(14).with_points(grid(14).points * 0.85)
    inside = inner_part(coarse, flat, faces, 0.5)
    ground = Bvh.build(flat.points, flat.triangle_points)
    sewn = sewn_in(rest, region, inside, ground)
    assert_sound(sewn, flat)
    assert corners(rest) <= corners(sewn) and float(scaled_jacobian(sewn).min()) > 0.1
    with pytest.raises(EditRefused, match="Hold the faces"):
        part_of(flat, np.zeros(0, np.int32))
    with pytest.raises(EditRefused, match="too narrow"):
        inner_part(coarse, flat, np.array([60], np.int32), 3.0)


def test_a_part_made_anew_ends_in_the_rows_around(spot: PolyMesh, surface: Bvh, jacket: PolyMesh) -> None:
    """All else stays as it is to the bit; new points lie on the source (distances by libigl)."""
    for place, reach in ((spot.points[290], 0.3), (spot.points[1740], 0.45)):
        faces = part_near(jacket, place, reach)
        outside = np.setdiff1d(np.arange(jacket.n_faces), faces)
        new, notes = part_redone(jacket, faces, surface, AutoSettings(quads=0))
        assert_sound(new, jacket)
        assert notes == () and corners(jacket, outside) <= corners(new)
        far = igl.point_mesh_squared_distance(new.points, spot.points, spot.triangle_points.astype(np.int64))[0]
        assert np.sqrt(far.max()) < 1e-6 * spot.diagonal
        assert float(scaled_jacobian(new).min()) > 0.05
        again, _ = part_redone(jacket, faces, surface, AutoSettings(quads=0))
        assert again.points.tobytes() == new.points.tobytes()


def test_a_border_that_no_grid_fits_is_joined_by_a_ring() -> None:
    """A disc of one point with twelve quads around cannot be a regular grid of thrice as many."""
    flat = grid(16)
    faces = part_near(flat, np.array([8.0, 8.0, 0.0]), 4.3)
    new, notes = part_redone(
        flat, faces, Bvh.build(flat.points, flat.triangle_points), AutoSettings(quads=3 * len(faces))
    )
    assert_sound(new, flat)
    assert not notes or "ring of quads" in notes[0]
    outside = np.setdiff1d(np.arange(flat.n_faces), faces)
    assert corners(flat, outside) <= corners(new)
    everything, _ = part_redone(flat, np.arange(flat.n_faces, dtype=np.int32), Bvh.build(flat.points, flat.triangle_points),
                                AutoSettings(quads=0))  # fmt: skip
    assert_sound(everything, flat)


def test_a_trial_is_taken_only_where_faces_are_held(spot: PolyMesh, surface: Bvh, jacket: PolyMesh) -> None:
    trial = automatic_quads(spot, AutoSettings(quads=2200, rows=0.0)).mesh
    faces = part_near(jacket, spot.points[2000], 0.45)
    new, _ = taken_inside(jacket, faces, trial, surface)
    assert_sound(new, jacket)
    outside = np.setdiff1d(np.arange(jacket.n_faces), faces)
    assert corners(jacket, outside) <= corners(new)
    # Denser than what was there, as the trial is: its border alone has the old steps.
    assert new.n_faces - len(outside) > 1.05 * len(faces)
    whole, notes = taken_inside(jacket, np.arange(jacket.n_faces, dtype=np.int32), trial, surface)
    assert whole is trial and notes == ()


def pole_pairs(mesh: PolyMesh) -> list[tuple[int, int]]:
    odd, valence = irregular_points(mesh), mesh.topology.valence
    pairs = [(float(np.linalg.norm(mesh.points[a] - mesh.points[b])), int(a), int(b)) for a in odd for b in odd
             if a < b and valence[a] + valence[b] == 8]  # fmt: skip
    return [(a, b) for _, a, b in sorted(pairs)]


def test_poles_cancel_and_the_rest_stays(spot: PolyMesh, surface: Bvh, jacket: PolyMesh) -> None:
    """Counts by Euler's formula: Σ (4 − valence) over a closed quad mesh is 4χ, before and after."""
    shares = []
    for a, b in pole_pairs(jacket)[:4]:
        try:
            new = pole_relaid(jacket, a, b, surface)
        except EditRefused:
            continue
        assert_sound(new, jacket)
        assert irregular_count(new) <= irregular_count(jacket) - 2
        assert int((4 - new.topology.valence.astype(int)).sum()) == 8
        shares.append(len(corners(new) & corners(jacket)) / jacket.n_faces)
    # Poles far from one another need a larger part.
    assert len(shares) >= 2 and min(shares) > 0.25 and np.median(shares) > 0.7


def test_a_pole_moves_and_stays_one(surface: Bvh, jacket: PolyMesh) -> None:
    # Those with the most room: beside another one it may come to lie on that.
    odd = irregular_points(jacket)
    apart = np.linalg.norm(jacket.points[odd][:, None] - jacket.points[odd][None], axis=2) + 9.0 * np.eye(len(odd))
    done = 0
    for pole in odd[np.argsort(-apart.min(axis=1))[:5]].tolist():
        edge = int(np.flatnonzero((jacket.topology.edge_points == pole).any(axis=1))[-1])
        goal = int(jacket.topology.edge_points[edge].sum() - pole)
        try:
            new = pole_relaid(jacket, pole, goal, surface)
        except EditRefused:
            continue
        done += 1
        assert_sound(new, jacket)
        assert irregular_count(new) == irregular_count(jacket) and corners(new) != corners(jacket)
    assert done >= 3
    with pytest.raises(EditRefused, match="irregular point"):
        pole_relaid(jacket, goal, pole, surface)


def test_rows_cancel_and_move_poles() -> None:
    """On a cube of 4 × 4 a side every row goes round: corners are poles of three, a row is 16 quads."""
    cube = box(2)
    poles = irregular_points(cube)
    assert len(poles) == 8 and (cube.topology.valence[poles] == 3).all()
    with pytest.raises(EditRefused, match="add up to eight"):
        pair_cancelled(cube, int(poles[0]), int(poles[1]))
    edge = int(np.flatnonzero((cube.topology.edge_points == poles[0]).any(axis=1))[0])
    goal = int(cube.topology.edge_points[edge].sum() - poles[0])
    moved = pole_moved(cube, int(poles[0]), goal)
    assert_sound(moved, cube)
    # A row of 16 goes; the row that comes lies round a box of 4 by 3, 14 quads long.
    assert irregular_count(moved) == 8 and moved.n_faces == cube.n_faces - 16 + 14
    with pytest.raises(EditRefused, match="Hold an irregular point"):
        pole_moved(cube, goal, int(poles[0]))


def test_knots_are_untied_and_regular_meshes_left(jacket: PolyMesh) -> None:
    assert untied(jacket, np.ones(jacket.n_points, bool)) is jacket
    flat = grid(8)
    assert untied(flat, np.zeros(flat.n_points, bool)) is flat
    knotted = flat
    for k in range(40, 80, 3):
        try:
            knotted = edge_turned(knotted, k).mesh
        except EditRefused:
            continue
    free = untied(knotted, np.zeros(knotted.n_points, bool))
    assert_sound(free, flat)
    spread = [int(((m.topology.valence - 4) ** 2)[~m.topology.border_points].sum()) for m in (knotted, free)]
    assert irregular_count(knotted) > 4 and spread[1] < spread[0]


def test_settings_of_trials_come_back_from_plain_values() -> None:
    import json

    settings = AutoSettings(
        quads=321, sharp=20.0, form=0.3, mirror="x", across=True,
        guides=(Guide(np.eye(3), False, True, True),), spots=(Spot((0.0, 1.0, 2.0), 0.5, 2.0),),
    )  # fmt: skip
    plain = json.loads(json.dumps(settings.as_dict()))
    again = AutoSettings.from_dict(plain)
    assert again.as_dict() == settings.as_dict() and again.unguided().guides == ()
    assert AutoSettings.from_dict({"quads": 50, "guides": 2, "painted": True}).quads == 50


def test_trials_are_made_again_and_taken_in_part(spot: PolyMesh, jacket: PolyMesh) -> None:
    faces = part_near(jacket, spot.points[2000], 0.45)
    host = Headless(
        State(
            (SourceObject(1, "s", spot),),
            (JacketObject(2, "j", jacket),),
            active=2,
            next_id=3,
            held=Held("faces", faces),
        )
    )
    put(host, quads=1500)
    run(host, "make-trial", "again-trial")
    first, second = host.document.state.trials
    assert first.mesh.points.tobytes() == second.mesh.points.tobytes() and first.settings == second.settings
    assert any(name == "watch_field" for name, _ in host.front.calls)
    taken = run(host, "take-inside")
    assert_sound(taken, jacket)
    host.document.undo()
    host.document.hold("faces", faces)
    anew = run(host, "redo-part")
    assert_sound(anew, jacket)
    assert [s.name for s in host.document.history.done][-1] == "make a part anew"
    host.document.undo()
    assert host.document.require_jacket().mesh is jacket


def test_guides_are_told_against_the_result_without_them() -> None:
    ball = parts.torus(1.0, 0.4, 48, 24)
    a = np.linspace(0, 2 * np.pi, 30, endpoint=False)
    ring = Guide(np.c_[1.4 * np.cos(a), 1.4 * np.sin(a), 0 * a], True, True)
    result = automatic_quads(ball, AutoSettings(quads=400, guides=(ring,)))
    (note,) = [n for n in result.notes if n.startswith("Guide 1")]
    assert "without it" in note and "carried by edges" in note and "largest gap there" in note
    share = float(note.split("carried")[0].split(",")[-1].strip(" %"))
    assert share >= 98 and "worse" not in note


def test_edges_marked_sharp_become_rows() -> None:
    """A mark on a smooth torus is carried by edges as a crease would be."""
    ring = parts.torus(1.0, 0.4, 48, 24)
    top = np.flatnonzero(np.abs(ring.points[:, 2] - 0.4) < 1e-9)
    ends = ring.topology.edge_points
    marked = ends[np.isin(ends, top).all(axis=1)]
    mesh = automatic_quads(ring.with_mark("sharp", marked), AutoSettings(quads=400)).mesh
    lines = Bvh.of_segments(mesh.points[mesh.topology.edge_points])
    assert lines.closest(ring.points[top])[2].max() < 0.01


def test_a_row_across_the_mirror_plane(spot: PolyMesh) -> None:
    result = automatic_quads(spot, AutoSettings(quads=800, mirror="x", across=True))
    mesh = result.mesh
    assert mesh.is_quads and euler_characteristic(mesh) == 2 and len(mesh.topology.border_edges) == 0
    image = mesh.points * [-1, 1, 1]
    assert {p.tobytes() for p in mesh.points + 0.0} == {p.tobytes() for p in image + 0.0}
    assert np.abs(mesh.points[:, 0]).min() > 0.1 * float(edge_lengths(mesh).min())
    across = mesh.points[mesh.as_quads()][:, :, 0]
    assert ((across > 0).sum(axis=1) == 2).sum() > 20
