"""Islands at one density."""

from __future__ import annotations

import numpy as np
import pytest

from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.cuts import (
    cut_edges,
    sharp_edges,
)
from jacket.core.uv.islands import Islands, density_scales
from tests.conftest import cube


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


def test_even_density() -> None:
    flat, _ = unwrap(cut_edges(box(), sharp_edges(box(), 45)))
    labels = Islands.of(flat).corner_labels
    odd = flat.with_uv(flat.uv * np.where(labels == 3, 2.5, 1.0)[:, None])
    scales = density_scales(Islands.of(odd))
    assert scales[3] == pytest.approx(scales[0] / 2.5)
