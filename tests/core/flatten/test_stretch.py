"""Stretch of maps whose answer is known."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.stretch import measure_stretch, singular_values
from jacket.core.uv.chart import charts_of
from tests.conftest import grid


def test_singular_values_of_a_known_stretch() -> None:
    """A square stretched by 2 and ½ keeps its area: σ = 2, ½ and energy (4 + ¼ + ¼ + 4) / 4."""
    sheet = grid(3)
    uv = sheet.points[sheet.corners][:, :2] * [2.0, 0.5]
    figures = measure_stretch(sheet.with_uv(uv), uv)
    assert figures.dirichlet == pytest.approx(8.5 / 4) and figures.linf == pytest.approx(2.0)
    assert figures.angle == pytest.approx((4 + 0.25) / 2) and figures.l2 == pytest.approx(np.sqrt((0.25 + 4) / 2))
    chart = charts_of(sheet)[0]
    flipped = chart.mesh.points[:, :2] * [-1, 1]
    assert (singular_values(chart, flipped)[:, 1] < 0).all()
