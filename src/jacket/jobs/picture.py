"""Layout pictures of sheets, one file each."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.quads.steering import guide_curve
from jacket.core.uv.curves import onto_sheet
from jacket.core.uv.sheets import ONE_SHEET, Sheets
from jacket.document.state import State
from jacket.errors import MeshError
from jacket.formats.atomic import write_bytes
from jacket.formats.deliver.picture import PictureSettings, layout_png, layout_svg
from jacket.progress import Progress, silent

WRITERS = {".png": layout_png, ".svg": layout_svg}


def picture_paths(path: Path, sheets: Sheets) -> list[Path]:
    """The files that `layout_pictures` writes: of several sheets each has its tile in its name."""
    if len(sheets) == 1:
        return [path]
    return [path.with_name(f"{path.stem}.{s.tile}{path.suffix}") for s in sheets]


def layout_pictures(
    layers: Sequence[tuple[PolyMesh, Mapping[int, str] | None]], path: Path, sheets: Sheets = ONE_SHEET,
    settings: PictureSettings = PictureSettings(), progress: Progress = silent, curves: Sequence[Floats] = (),
) -> list[Path]:  # fmt: skip
    """Write a picture of every sheet and give the paths; `curves` (N, 3) that lie on the form are drawn where they lie flat. Raises MeshError for an ending that is neither PNG nor SVG, and
    where nothing is mapped or settings make no sense."""
    writer = WRITERS.get(path.suffix.lower())
    if writer is None:
        raise MeshError(f"A layout picture is written as .png or .svg, not as '{path.suffix or path.name}'; name it so.")
    if all(mesh.uv is None for mesh, _ in layers):
        raise MeshError("Nothing is flat yet, so there is no layout to draw; flatten the jacket first.")
    flat = [row for row in layers if row[0].uv is not None]
    drawn = [flat_curve for mesh, _ in flat for flat_curve in onto_sheet(curves, mesh, sheets)] if curves else []
    out = []
    for k, file in enumerate(picture_paths(path, sheets)):
        progress(k / len(sheets), f"drawing {sheets[k].name}")
        write_bytes(file, writer(flat, sheets, k, settings, drawn))
        out.append(file)
    return out


def guide_curves(state: State) -> list[Floats]:
    """Guides on the source as curves (N, 3); those that go round end where they begin."""
    if state.source is None:
        return []
    curves = [(g, guide_curve(g, surface_of(state.source.mesh))) for g in state.guides]
    return [np.concatenate([c, c[:1]]) if g.closed else c for g, c in curves]
