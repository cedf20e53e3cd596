"""Quads fitted to a source: what may be untied, and ends that are reached part of the way."""

from __future__ import annotations

import pytest

from jacket.core.quads import fitting
from jacket.core.quads.base import make_base
from jacket.core.quads.fitting import fitted
from jacket.core.rows.unwind import windings
from jacket.core.space.bvh import Bvh
from tests.core.rows.shapes import torus


def test_rows_that_close_are_not_untied_into_rows_that_wind(monkeypatch: pytest.MonkeyPatch) -> None:
    """A torus whose rings close, and as what would come of untying it one whose lines come back three quads further round, so
    that they all are one ring (greatest common divisor of 16 and 3): taken only where rows need not stay."""
    plain, wound = torus(16, 24), torus(16, 24, 3)
    assert max(windings(wound)) > max(windings(plain)) + 20
    source = torus(48, 72)
    surface = Bvh.build(source.points, source.triangle_points)
    base = make_base(source, surface, 4000, 0.3, 60.0)
    monkeypatch.setattr(fitting, "untied", lambda quads, on_crease: wound)
    assert windings(fitted(plain, base, surface, rows_stay=True)) == windings(plain)
    assert windings(fitted(plain, base, surface)) == windings(wound)
