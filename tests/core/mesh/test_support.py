"""Support loops: beside which edges, how far, how many."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.checks.deliver import soft_corners
from jacket.core.mesh.geometry import dihedral_angles
from jacket.core.mesh.support import supported
from jacket.errors import EditRefused
from tests.conftest import cube, grid


def test_a_cube_whose_edges_are_supported_has_no_soft_corner_left() -> None:
    """Every edge of a cube gets a loop on both sides; each loop serves a whole row, so there are two across each of three axes:
    each face becomes three by three quads (common practice: two loops an edge)."""
    mesh = cube()
    sharp = dihedral_angles(mesh) > 80
    assert soft_corners(mesh).sum() == 12
    new, added, loops = supported(mesh, sharp, 0.1)
    assert loops == 6 and new.n_faces == 54 and (new.sizes == 4).all() and len(added) == 48
    assert not soft_corners(new).any()
    size = np.ptp(mesh.points, axis=0).max()
    at = np.unique(np.round((new.points - mesh.points.min(axis=0)) / size, 9))
    assert at == pytest.approx([0, 0.1, 0.9, 1])
    # What has its loops is left alone.
    ids = np.flatnonzero(dihedral_angles(new) > 80)
    again = np.zeros(new.topology.n_edges, bool)
    again[ids] = True
    with_more, _, _ = supported(new, again, 0.5)
    assert with_more.n_faces > new.n_faces


def test_one_edge_in_a_plane_gets_a_loop_on_each_side() -> None:
    mesh = grid(6, 4)
    middle = np.abs(mesh.points[mesh.topology.edge_points][:, :, 0] - 3).max(axis=1) < 1e-9
    new, added, loops = supported(mesh, middle, 0.25)
    assert loops == 2 and sorted(set(np.round(new.points[added][:, 0], 9).tolist())) == [2.75, 3.25]
    border = np.abs(mesh.points[mesh.topology.edge_points][:, :, 0]).max(axis=1) < 1e-9
    new, added, loops = supported(mesh, border, 0.25)
    assert loops == 1 and np.allclose(new.points[added][:, 0], 0.25)
    with pytest.raises(EditRefused, match="quad beside"):
        supported(mesh, np.zeros(mesh.topology.n_edges, bool), 0.2)
