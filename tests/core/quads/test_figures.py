"""The figures of a jacket whose answer is known."""

from __future__ import annotations

import pytest

from jacket.core.quads.auto import measure_quads
from jacket.core.space.bvh import Bvh
from tests.conftest import cube


def test_figures_of_an_exact_jacket() -> None:
    """A box over itself: no gap, right angles, eight irregular points of 26."""
    from jacket.core.quads.subdivide import split_to_quads

    mesh = split_to_quads(cube())
    figures = measure_quads(mesh, cube(), Bvh.build(cube().points, cube().triangle_points))
    assert figures.gap_out_largest < 1e-9 and figures.gap_in_largest < 1e-9
    assert figures.jacobian_least == pytest.approx(1.0) and figures.irregular_percent == pytest.approx(100 * 8 / 26)
    assert figures.quads == 24 and figures.euler == 2 and figures.open_edges == 0
