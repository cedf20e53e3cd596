"""Pieces that come apart, together, mirrored and turned."""

from __future__ import annotations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from jacket.core.mesh.cleaning import near_merged
from jacket.core.mesh.pieces import mirrored_copy, put_side_by_side, split_off, turned_copy
from jacket.errors import EditRefused
from tests.conftest import cube, grid


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
