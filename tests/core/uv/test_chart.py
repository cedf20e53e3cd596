"""Islands as charts of their own."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.geometry import face_areas
from jacket.core.uv.chart import chart_of, charts_of
from tests.conftest import grid


def test_charts_open_their_inner_seams() -> None:
    """A slit inside one island doubles its inner points and lengthens the border."""
    sheet = grid(4).with_cuts([[6, 11], [11, 16]])
    chart = charts_of(sheet)[0]
    assert chart.mesh.n_points == 25 + 1 and sorted(len(b) for b in chart.border) == [4, 16]
    whole = chart_of(sheet, np.arange(16), np.zeros(sheet.topology.n_edges, bool))
    assert whole.mesh.n_points == 25 and whole.is_disk
    assert chart.area == pytest.approx(16.0) == face_areas(sheet).sum()
