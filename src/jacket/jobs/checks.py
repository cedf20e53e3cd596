"""The checks of a finished jacket, all stages in order."""

from __future__ import annotations

from collections.abc import Sequence

from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.model import Check
from jacket.core.checks.topology import topology_checks
from jacket.core.layout.pieces import Bonds
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.uv.identity import IslandRecord, island_numbers
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheets


def delivery_checks(
    mesh: PolyMesh, source: PolyMesh | None, surface: Bvh | None, sheets: Sheets = ONE_SHEET,
    beside: Sequence[PolyMesh] = (), records: Sequence[IslandRecord] = (),
) -> list[Check]:
    """The checks of all stages in order, each once; `beside` are other layers that go out with this one,
    `records` what is known of its islands."""
    rows = topology_checks(mesh, source, surface, beside, True) + seam_checks(mesh) + flatten_checks(mesh, sheets)
    islands = Islands.of(mesh, sheets)
    rows += layout_checks(mesh, sheets, islands, Bonds.of(islands, island_numbers(mesh), records).stack)
    return list({check.id: check for check in rows}.values())
