"""Suggested seams."""

from __future__ import annotations

import pytest

from jacket.core.checks.layout import flatten_checks, seam_checks
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.subdivide import split_to_quads
from jacket.core.seams.suggest import suggest_seams
from tests.conftest import cube, icosphere, torus


def box(levels: int = 2) -> PolyMesh:
    mesh = cube()
    for _ in range(levels):
        mesh = split_to_quads(mesh)
    return mesh


@pytest.mark.parametrize("make", [lambda: box(3), lambda: torus(36, 18), lambda: split_to_quads(icosphere(2))])
def test_suggested_islands_all_open(make) -> None:  # type: ignore[no-untyped-def]
    mesh = suggest_seams(make())
    flat, islands = unwrap(mesh)
    assert len(islands) >= 2 and all(i.flat and not i.overlaps for i in islands)
    assert not [c for c in seam_checks(flat) + flatten_checks(flat) if c.level == "wrong"]
