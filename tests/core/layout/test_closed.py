"""Pieces that are closed, flat to a line or not mapped on the sheet: a sentence or a check, never a failure."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.stretch import measure_stretch
from jacket.core.layout.margins import least_margins
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.errors import MeshError
from jacket.formats.deliver.picture import layout_png
from jacket.jobs.checks import delivery_checks
from jacket.jobs.pack import pack
from jacket.jobs.unwrap import unwrap
from tests.conftest import icosphere


def seen_from_above(flat: float = 1.0) -> PolyMesh:
    """A closed ball mapped by its shadow: one island without a border, half of it turned over."""
    ball = icosphere(2)
    return ball.with_uv(ball.points[ball.corners][:, :2] * [0.4, 0.4 * flat] + 0.5)


def test_a_closed_piece_is_a_sentence_to_pack_and_to_flatten_and_a_failed_check() -> None:
    ball = seen_from_above()
    with pytest.raises(MeshError, match="closed and without a border"):
        pack(ball)
    with pytest.raises(MeshError, match="closed and cannot open"):
        unwrap(ball)
    levels = {c.id: c.level for c in delivery_checks(ball, None, None)}
    assert levels["overlap"] == levels["flipped"] == "wrong"
    assert layout_png([(ball, None)])[:4] == b"\x89PNG"
    assert least_margins(Islands.of(ball))[0].pixels == pytest.approx(0.1 * 1024, abs=1e-6)


@pytest.mark.parametrize("flat", [0.0, np.nan])
def test_what_has_no_area_on_the_sheet_is_a_sentence_everywhere(flat: float) -> None:
    ball = seen_from_above(flat)
    with pytest.raises(MeshError, match="flatten"):
        pack(ball)
    levels = {c.id: c.level for c in delivery_checks(ball, None, None)}
    assert levels["unmapped" if np.isnan(flat) else "stretch"] in ("look", "wrong")
    assert layout_png([(ball, None)])[:4] == b"\x89PNG"
    assert not np.isnan(measure_stretch(ball, ball.uv).dirichlet)
