"""A box that is cut, flat and packed, for all formats."""

from __future__ import annotations

import pytest

from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.cuts import cut_edges, sharp_edges
from jacket.core.uv.islands import Islands
from jacket.jobs.pack import sheets_of
from tests.conftest import cube


@pytest.fixture(scope="module")
def packed() -> PolyMesh:
    mesh = cut_edges(cube(), sharp_edges(cube(), 45))
    flat, _ = unwrap(mesh)
    return flat.with_uv(pack(Islands.of(flat, sheets_of(256, margin=4))).uv)
