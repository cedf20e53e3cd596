"""The whole job without hands: source → quads → seams → flat islands → sheets, with a report."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

from jacket.core.checks.model import Check
from jacket.core.derive import sky_of
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import PackSettings
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoResult
from jacket.core.seams.measure import seam_figures
from jacket.core.space.bvh import Bvh
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags
from jacket.core.uv.sheets import ONE_SHEET, Sheets, checked_sheets
from jacket.jobs.checks import delivery_checks
from jacket.jobs.pack import pack
from jacket.jobs.remesh import RemeshSettings, remesh
from jacket.jobs.seams import SeamSettings, seams
from jacket.progress import Progress, part, silent


@dataclass(frozen=True)
class RunSettings:
    """What each step of the whole job is done with."""

    remesh: RemeshSettings = field(default_factory=RemeshSettings)
    seams: SeamSettings = field(default_factory=SeamSettings)
    pack: PackSettings = field(default_factory=PackSettings)
    sheets: Sheets = ONE_SHEET

    def checked(self) -> RunSettings:
        """The settings themselves; raises MeshError with a sentence where one makes no sense."""
        self.remesh.checked()
        self.seams.checked()
        checked_sheets(self.sheets)
        return self


@dataclass(frozen=True, eq=False)
class Run:
    """The finished jacket, how its quads came out, its checks and figures."""

    mesh: PolyMesh
    auto: AutoResult
    checks: list[Check]
    figures: dict[str, Any]


def whole_job(source: PolyMesh, settings: RunSettings, progress: Progress = silent) -> Run:
    """Everything `jacket run` does, from arrays to arrays. Raises MeshError where the settings make no sense or a step
    cannot be done."""
    settings.checked()
    surface = Bvh.build(source.points, source.triangle_points)
    result = remesh(source, settings.remesh, part(progress, 0.0, 0.45), surface)
    cut = seams(result.mesh, settings.seams, part(progress, 0.45, 0.75))
    flat, _ = unwrap(cut, progress=part(progress, 0.75, 0.85))
    done = pack(flat, settings.sheets, settings.pack, part(progress, 0.85, 0.97))
    mesh = done.mesh
    progress(0.97, "checking the result")
    checks = delivery_checks(mesh, source, surface, settings.sheets)
    figures = {
        "quads": result.figures.as_dict(),
        "field_singularities": result.field_singularities,
        "stretch": measure_stretch(mesh, Islands.of(mesh, settings.sheets).places).as_dict(),
        "seams": seam_figures(mesh, cut_flags(mesh), sky_of(mesh)).as_dict(),
        "sheets": sheet_figures(settings.sheets, done.result.uses),
        "sheet": {"size": settings.sheets[0].width, "margin": settings.sheets[0].margin, "use": done.result.use,
                  "density": done.result.density},
        "notes": list(result.notes),
    }  # fmt: skip
    return Run(mesh, result, checks, figures)


def sheet_figures(sheets: Sheets, uses: tuple[float, ...]) -> list[dict[str, Any]]:
    """Plain values of sheets and their use for a report."""
    return [{"name": s.name, "tile": s.tile, "width": s.width, "height": s.height, "margin": s.margin, "use": u}
            for s, u in zip(sheets, uses, strict=True)]  # fmt: skip
