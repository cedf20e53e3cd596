"""Rings by the lengths of the pieces alone, kept while lengths change: against the rings of the quads that are laid from them."""

from __future__ import annotations

import numba
import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.rows.measure import rings
from jacket.core.rows.metric import Layout, Whole, layout
from jacket.core.rows.rebuild import rebuilt
from jacket.core.rows.tmesh import TMesh, t_mesh
from jacket.core.rows.wires import Wiring, board_of, measured, restore, rewire, rewire_all, score_of, wiring
from tests.conftest import icosphere
from tests.core.rows.shapes import tube


# Not kept on disk: what is kept would go on with the code it was compiled with.
@numba.njit(error_model="numpy")
def changed_back(net, start, new, high, n_quads, bound):  # type: ignore[no-untyped-def]
    """Scores of lengths that a board is changed to, of those it is brought back to, and of the first again within a bound."""
    board = board_of(net, high)
    rewire_all(net, board, start)
    rewire(net, board, new, start)
    there = score_of(net, board, new, n_quads, np.inf, 0.0)
    restore(net, board, start)
    back = score_of(net, board, start, n_quads, np.inf, 0.0)
    rewire(net, board, new, start)
    return there, back, score_of(net, board, new, n_quads, bound, 0.0)


def own(net: Wiring) -> tuple:  # type: ignore[type-arg]
    """The wires with tables of their own."""
    return tuple(np.array(x) if isinstance(x, np.ndarray) else x for x in net.wires)


def some_lengths(plan: Layout, seed: int) -> Whole:
    """Whole lengths that fit together, none under 1."""
    rng = np.random.default_rng(seed)
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    new = start + plan.basis @ (rng.integers(-1, 2, plan.basis.shape[1]) * (rng.random(plan.basis.shape[1]) < 0.2))
    return new if new.min() >= 1 else 3 * start + new - start


@pytest.fixture(scope="module")
def apart() -> tuple[TMesh, Layout, Wiring]:
    ball = icosphere(4)
    bumps = (
        1 + 0.35 * np.sin(3 * ball.points[:, 0]) * np.cos(2.5 * ball.points[:, 1] + 1) + 0.2 * ball.points[:, 2] ** 3
    )
    mesh = automatic_quads(ball.with_points(ball.points * bumps[:, None]), AutoSettings(quads=700, rows=0.0)).mesh
    return both_of(mesh)


def both_of(mesh: PolyMesh) -> tuple[TMesh, Layout, Wiring]:
    tm = t_mesh(mesh, np.zeros(mesh.topology.n_edges, bool))
    assert tm is not None
    plan = layout(tm)
    return tm, plan, wiring(tm, plan)


def told_of(mesh: PolyMesh) -> tuple[float, ...]:
    """The same figures by the rings of quads, which the tests of `measure` hold against networkx."""
    found = rings(mesh)
    lengths = found.crossings[found.crossings > 0].astype(float)
    shares = lengths / (2 * mesh.n_faces)
    return mesh.n_faces, np.log(lengths).mean(), shares.max(), (shares**2).sum(), found.own.mean()


@pytest.mark.parametrize("seed", range(6))
def test_lengths_tell_the_rings_of_the_quads_laid_from_them(apart: tuple[TMesh, Layout, Wiring], seed: int) -> None:
    tm, plan, net = apart
    lengths = some_lengths(plan, seed)
    mesh, _ = rebuilt(tm, plan, lengths)
    assert measured(net, lengths, 700)[1:] == pytest.approx(told_of(mesh), rel=1e-12)


def test_rows_that_end_at_borders_are_rings_too() -> None:
    tm, plan, net = both_of(tube(12, 5))
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    mesh, _ = rebuilt(tm, plan, start)
    assert measured(net, start, 60)[1:] == pytest.approx(told_of(mesh), rel=1e-12)


@pytest.mark.parametrize("seed", range(6))
def test_a_board_follows_a_change_and_goes_back(apart: tuple[TMesh, Layout, Wiring], seed: int) -> None:
    """After a change it says what one made anew says; brought back, what it said before; and a bound that is not reached
    changes nothing, while one that is over is told as over."""
    _, plan, net = apart
    start = np.zeros(len(plan.basis), np.int64)
    start[plan.of] = plan.lengths
    new = some_lengths(plan, seed)
    high = np.maximum(3 * start + 9, new)
    fresh, before = measured(net, new, 700), measured(net, start, 700)
    there, back, again = changed_back(own(net), start, new, high, 700, fresh[0] + 1e-9)
    assert there == pytest.approx(fresh, rel=1e-12) and back == pytest.approx(before, rel=1e-12)
    assert again == pytest.approx(fresh, rel=1e-12)
    under = changed_back(own(net), start, new, high, 700, fresh[0] - 0.05)[2]
    assert under[0] > fresh[0] - 0.05
