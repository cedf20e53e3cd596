"""Closer steps where a first result left out a tail."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.geometry import face_areas, face_centres
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads import covering
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.missed import closer_there, farthest
from jacket.core.quads.subdivide import split_to_quads
from tests.conftest import icosphere


def tailed(long: float) -> PolyMesh:
    """A ball of radius 1 whose cap round +x is drawn out into a tail."""
    ball = icosphere(4)
    share = np.clip((ball.points[:, 0] - 0.95) / 0.05, 0, 1)
    return ball.with_points(ball.points + np.stack([long * share, 0 * share, 0 * share], axis=1))


def test_steps_are_closer_around_a_tail_that_is_missing_and_their_number_stays() -> None:
    base, quads, length = tailed(1.5), split_to_quads(icosphere(3)), 0.1
    assert farthest(quads, base) == pytest.approx(1.5, abs=0.15)
    density, areas = closer_there(quads, base, None, length, 2.2), face_areas(base)
    # The mean of the logarithm over the area is 0: of what is won in one place as much is lost in others.
    assert float((np.log(density) * areas).sum()) == pytest.approx(0.0, abs=1e-9)
    centres = face_centres(base)
    tail, far = centres[:, 0] > 1.6, centres[:, 0] < 0
    assert np.median(density[tail]) / np.median(density[far]) == pytest.approx(2.2, rel=0.02)
    assert density[far].std() < 1e-6
    before = np.exp(0.3 * np.sin(5 * centres[:, 1]))
    on_top = closer_there(quads, base, before, length, 2.2)
    assert np.allclose(on_top[far] / before[far], (on_top[far] / before[far])[0])
    nothing = closer_there(split_to_quads(base), base, None, length, 2.2)
    assert np.allclose(nothing, 1.0)


@pytest.mark.parametrize(("after", "taken"), [(1.0, True), (9.0, False)])
def test_closer_steps_are_taken_where_they_reach_further(
    monkeypatch: pytest.MonkeyPatch, after: float, taken: bool
) -> None:
    """What lies off is said by the test: 10 at first, then so much that the second try is worth it, or not."""
    source, asked = tailed(0.3), AutoSettings(quads=300, rows=0.0)
    plain = automatic_quads(source, asked).mesh
    told: list[PolyMesh] = []

    def off(quads: PolyMesh, base: PolyMesh) -> float:
        if not any(q is quads for q in told):
            told.append(quads)
        return 10.0 if told[0] is quads else after

    monkeypatch.setattr(covering, "farthest", off)
    monkeypatch.setattr(covering, "CLOSER", (2.2,))
    monkeypatch.setattr(
        covering,
        "closer_there",
        lambda quads, base, density, length, times: np.where(face_centres(base)[:, 0] > 0.9, 2.0, 1.0),
    )
    new = automatic_quads(source, asked).mesh
    same = new.n_points == plain.n_points and np.array_equal(new.points, plain.points)
    assert same != taken and len(told) == 2
