"""Checks of seams, flattening and the sheet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.checks.model import Check, graded
from jacket.core.flatten.chart import charts_of
from jacket.core.flatten.overlap import flipped_faces, overlapping_faces
from jacket.core.flatten.stretch import StretchFigures, face_stretch, measure_stretch
from jacket.core.layout.islands import Islands, texel_densities
from jacket.core.layout.margins import least_margin
from jacket.core.mesh.polymesh import PolyMesh


def seam_checks(mesh: PolyMesh) -> list[Check]:
    """Whether every island can open."""
    charts = charts_of(mesh)
    closed = [c.faces for c in charts if not c.border]
    pinned = [c.faces for c in charts if c.border and not c.is_disk]
    edges = mesh.topology.find_edges(mesh.mark("seam"))
    return [
        Check("islands", "Islands", f"{len(charts):,}", "good", number=len(charts)),
        _faces("closed", "Closed islands", closed, "wrong"),
        _faces("not-disk", "Rings and handles", pinned, "look"),
        Check("seam-edges", "Seam edges", f"{len(edges):,}", "good", "edges", edges, len(edges)),
    ]


def _faces(id_: str, label: str, groups: list[NDArray[np.signedinteger]], level: str) -> Check:
    faces = np.concatenate(groups) if groups else np.zeros(0, np.int32)
    return Check(id_, label, f"{len(groups):,}", level if groups else "good", "faces", faces, len(groups))  # type: ignore[arg-type]


def unmapped(mesh: PolyMesh) -> Check:
    """Faces with no place on the sheet."""
    uv = mesh.uv
    bad = np.arange(mesh.n_faces)
    if uv is not None:
        bad = np.unique(mesh.face_of_corner[~np.isfinite(uv).all(axis=1)])
    return Check("unmapped", "Unmapped", f"{len(bad):,}", "wrong" if len(bad) else "good", "faces", bad, len(bad))


def flatten_checks(mesh: PolyMesh, figures: StretchFigures | None = None) -> list[Check]:
    """Stretch, flips and unmapped faces."""
    uv = mesh.uv
    if uv is None:
        return [unmapped(mesh)]
    figures = figures or measure_stretch(mesh, uv)
    flipped = flipped_faces(mesh, uv)
    far = np.flatnonzero(np.abs(np.nan_to_num(face_stretch(mesh, uv))) > 1.0)
    value = f"{figures.dirichlet:.3f}" if np.isfinite(figures.dirichlet) else "none"
    number = figures.dirichlet if np.isfinite(figures.dirichlet) else 0.0
    return [
        unmapped(mesh),
        Check("flipped", "Flipped", f"{len(flipped):,}", "wrong" if len(flipped) else "good", "faces", flipped,
              len(flipped)),
        Check("stretch", "Mean stretch", value, graded(number, 1.15, 1.5), number=number),
        Check("stretched-faces", "Over twice or half", f"{len(far):,} faces", "look" if len(far) else "good", "faces",
              far, len(far)),
    ]  # fmt: skip


def layout_checks(mesh: PolyMesh, size: int, margin: float) -> list[Check]:
    """Overlap, outside, margin, density and use of the sheet."""
    uv = mesh.uv
    if uv is None or not np.isfinite(uv).any():
        return [unmapped(mesh)]
    islands = Islands.of(mesh)
    pairs = overlapping_faces(mesh, uv)
    over = np.unique(pairs)
    outside = np.unique(mesh.face_of_corner[((uv < -1e-9) | (uv > 1 + 1e-9)).any(axis=1)])
    kept, pair = least_margin(islands, size)
    near = np.flatnonzero(np.isin(islands.labels, [k for k in (pair or ()) if k >= 0]))
    short = kept < margin - 1e-6
    density = texel_densities(islands, size)
    density = density[np.isfinite(density)]
    spread = float(np.percentile(density, 95) / max(np.percentile(density, 5), 1e-300)) if len(density) else 1.0
    use = 100 * float(islands.sheet_area.sum())
    return [
        unmapped(mesh),
        Check("overlap", "Overlapping", f"{len(over):,}", "wrong" if len(over) else "good", "faces", over, len(over)),
        Check("outside", "Outside the sheet", f"{len(outside):,}", "wrong" if len(outside) else "good", "faces",
              outside, len(outside)),
        Check("margin", "Least margin", f"{max(kept, 0):.1f} px", "wrong" if short else "good", "faces",
              near if short else np.zeros(0, np.int32), kept),
        Check("density", "Density spread", f"{spread:.2f}×", graded(spread, 1.5, 4.0), number=spread),
        Check("use", "Use of sheet", f"{use:.0f} %", "good", number=use),
    ]  # fmt: skip
