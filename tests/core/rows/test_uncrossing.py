"""Rings parted where they cross themselves, against networkx and Euler's formula."""

from __future__ import annotations

import networkx as nx
import numpy as np
import pytest

from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.poles import irregular_count
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import euler_characteristic
from jacket.core.quads.uncrossed import AIM, REACHED, Reached, uncrossed
from jacket.core.rows.measure import rings
from jacket.core.rows.uncrossing import parted, partings
from jacket.core.rows.unwind import windings
from jacket.core.space.bvh import Bvh
from tests.core.rows.conftest import bumpy_ball
from tests.core.rows.test_measure import plain


def test_a_quad_that_closes_up_makes_two_rings_of_one(winding: PolyMesh) -> None:
    """The rings before and after by networkx: one is gone, two have come whose crossings are its own but for the two in that quad;
    the surface stays a ball (Euler: 2), and no irregular points come but those that were told."""
    nothing = np.zeros(winding.n_points, bool)
    before, found = [c for c, _ in plain(winding)], partings(winding, nothing, 5.0)
    assert len(found) > 20
    longest = max(before)
    for one in [found[k] for k in np.random.default_rng(3).choice(len(found), 12, replace=False)]:
        made = parted(winding, one, nothing)
        if made is None:
            continue
        new, to = made
        after = [c for c, _ in plain(new)]
        gone, come = list(before), list(after)
        for crossings in before:
            if crossings in come:
                gone.remove(crossings)
                come.remove(crossings)
        assert gone == [longest] and sum(come) == longest - 2 and len(come) == (2 if min(come) > 0 else 1)
        # What is told counts the quad that goes as one of the longer ring's.
        assert one.longest * 2 * winding.n_faces / 100 == pytest.approx(max(come) + 1)
        assert euler_characteristic(new) == 2 and new.n_faces == winding.n_faces - 1
        assert irregular_count(new) == irregular_count(winding) + one.odd
        assert to[one.stays] == to[one.goes] and len(np.unique(to)) == new.n_points


def test_points_that_stay_are_never_joined_to_each_other(winding: PolyMesh) -> None:
    """With all points but one independent set held, what goes is never held, and what is held does not move."""
    graph = nx.Graph(winding.topology.edge_points.tolist())
    stay = np.zeros(winding.n_points, bool)
    stay[list(nx.maximal_independent_set(graph, seed=1))] = True
    for one in partings(winding, stay, 5.0)[:20]:
        assert not stay[one.goes]
        made = parted(winding, one, stay)
        if made is not None:
            new, to = made
            np.testing.assert_array_equal(new.points[to[np.flatnonzero(stay)]], winding.points[stay])


def test_long_rings_are_parted_until_none_is_too_long(winding: PolyMesh) -> None:
    """Rows that wind through half of a ball are within the figures of the trade afterwards (a tenth, as in `quality.md`); corners
    stay as they are, and irregular points that are more were paid for."""
    source = bumpy_ball()
    surface = Bvh.build(source.points, source.triangle_points)
    assert max(windings(winding)) > 25
    new = uncrossed(winding, surface, np.zeros(winding.n_points, bool))
    assert max(windings(new)) < 0.75 * max(windings(winding))
    assert rings(new).crossings.sum() == 2 * new.n_faces
    assert scaled_jacobian(new).mean() > scaled_jacobian(winding).mean() - 0.01 and scaled_jacobian(new).min() > 0.4
    assert surface.closest(new.points)[2].max() < 1e-6
    again = uncrossed(new, surface, np.zeros(new.n_points, bool))
    assert (again is new) == (max(windings(new)) <= REACHED or irregular_count(new) >= irregular_count(again)) and AIM < REACHED


def test_tips_that_were_reached_stay_so(winding: PolyMesh) -> None:
    """The bumps' highest points by NumPy: with them asked for within a little more than they are off now, none is farther after."""
    source = bumpy_ball()
    surface = Bvh.build(source.points, source.triangle_points)
    own = Bvh.build(winding.points, winding.triangle_points)
    high = source.points[np.argsort(-np.linalg.norm(source.points, axis=1))[:400]]
    far = 1.05 * float(own.closest(high)[2].max())
    nothing = np.zeros(winding.n_points, bool)
    new = uncrossed(winding, surface, nothing, 0.02, 30, Reached(high, far))
    assert max(windings(new)) < 0.75 * max(windings(winding))
    assert float(Bvh.build(new.points, new.triangle_points).closest(high)[2].max()) <= far * (1 + 1e-9)
