"""The whole job without hands: source → quads → seams → flat islands → sheet, with a report."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.model import Check
from jacket.core.checks.topology import topology_checks
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.islands import Islands
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoResult, AutoSettings, automatic_quads
from jacket.core.seams.suggest import suggest_seams
from jacket.core.space.bvh import Bvh
from jacket.progress import Progress, part, silent


@dataclass(frozen=True, eq=False)
class JobResult:
    """The finished jacket, how its quads came out, and its checks."""

    mesh: PolyMesh
    auto: AutoResult
    checks: list[Check]
    figures: dict[str, Any]


def whole_job(source: PolyMesh, auto: AutoSettings, sheet: PackSettings, progress: Progress = silent) -> JobResult:
    """Everything `jacket run` does, from arrays to arrays."""
    surface = Bvh.build(source.points, source.triangle_points)
    result = automatic_quads(source, auto, part(progress, 0.0, 0.45), surface)
    cut = suggest_seams(result.mesh, progress=part(progress, 0.45, 0.75))
    flat, _ = unwrap(cut, progress=part(progress, 0.75, 0.85))
    packed = pack(Islands.of(flat), sheet, part(progress, 0.85, 0.97))
    mesh = flat.with_uv(packed.uv)
    progress(0.97, "checking the result")
    checks = delivery_checks(mesh, source, surface, sheet.size, sheet.margin)
    figures = {
        "quads": result.figures.as_dict(),
        "field_singularities": result.field_singularities,
        "stretch": measure_stretch(mesh, packed.uv).as_dict(),
        "sheet": {"size": sheet.size, "margin": sheet.margin, "use": packed.use, "density": packed.density},
        "notes": list(result.notes),
    }
    return JobResult(mesh, result, checks, figures)


def delivery_checks(
    mesh: PolyMesh, source: PolyMesh | None, surface: Bvh | None, size: int, margin: float
) -> list[Check]:
    """The checks of all stages in order, each once."""
    rows = topology_checks(mesh, source, surface) + seam_checks(mesh) + flatten_checks(mesh)
    rows += layout_checks(mesh, size, margin)
    return list({check.id: check for check in rows}.values())
