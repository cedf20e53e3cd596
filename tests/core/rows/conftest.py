"""A mesh whose rows wind."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from tests.conftest import icosphere


def bumpy_ball() -> PolyMesh:
    """A ball with bumps and hollows."""
    ball = icosphere(4)
    bumps = 1 + 0.35 * np.sin(3 * ball.points[:, 0]) * np.cos(2.5 * ball.points[:, 1] + 1) + 0.2 * ball.points[:, 2] ** 3
    return ball.with_points(ball.points * bumps[:, None])


@pytest.fixture(scope="package")
def winding() -> PolyMesh:
    """Quads of a bumpy ball as the grid's rounding leaves them: rows that wind."""
    return automatic_quads(bumpy_ball(), AutoSettings(quads=900, rows=0.0)).mesh
