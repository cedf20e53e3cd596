"""Checks of seams, flattening and the sheet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.checks.model import Check, graded
from jacket.core.flatten.overlap import flipped_faces, overlapping_faces
from jacket.core.flatten.stretch import StretchFigures, face_stretch, measure_stretch
from jacket.core.flatten.unwrap import as_it_lies
from jacket.core.layout.margins import least_margins
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.sight import seam_shown
from jacket.core.seams.sky import at_edges
from jacket.core.uv.chart import charts_of
from jacket.core.uv.islands import Islands, texel_densities
from jacket.core.uv.sets import apart_flags, cut_flags
from jacket.core.uv.sheets import ONE_SHEET, Sheets


def seam_checks(mesh: PolyMesh) -> list[Check]:
    """Whether every island can open."""
    charts = charts_of(mesh)
    closed = [c.faces for c in charts if not c.border]
    # A plate with holes lies flat as it is.
    pinned = [c.faces for c in charts if c.border and not c.is_disk and as_it_lies(c) is None]
    edges = mesh.topology.find_edges(mesh.cuts)
    apart = np.setdiff1d(np.flatnonzero(apart_flags(mesh, mesh.uv)), edges)
    return [
        Check("islands", "Islands", f"{len(charts):,}", "good", number=len(charts)),
        _faces("closed", "Closed islands", closed, "wrong"),
        _faces("not-disk", "Rings and handles", pinned, "look"),
        Check("seam-edges", "Seam edges", f"{len(edges):,}", "good", "edges", edges, len(edges)),
        # Sewn, but the sheet still shows two sides: flattening lays them together.
        Check("apart", "Sewn but apart", f"{len(apart):,}", "look" if len(apart) else "good", "edges", apart, len(apart)),
    ]


def seen_check(mesh: PolyMesh, shown: NDArray[np.float64]) -> Check:
    """How much of the seams shows, by how much each point does (V,); the seams that show most first."""
    cut = cut_flags(mesh)
    share = seam_shown(mesh, cut, shown)
    value = np.where(cut, at_edges(mesh, shown), 0.0)
    worst = np.argsort(-value, kind="stable")[: int((value > 0).sum())]
    return Check("seen-seams", "Seams seen", f"{100 * share:.0f} %", graded(share, 0.2, 2.0), "edges", worst, share)


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


def flatten_checks(mesh: PolyMesh, sheets: Sheets = ONE_SHEET, figures: StretchFigures | None = None) -> list[Check]:
    """Stretch, flips and unmapped faces of the active UV set."""
    if mesh.uv is None:
        return [unmapped(mesh)]
    places = Islands.of(mesh, sheets).places
    figures = figures or measure_stretch(mesh, places)
    flipped = flipped_faces(mesh, places)
    far = np.flatnonzero(np.abs(np.nan_to_num(face_stretch(mesh, places))) > 1.0)
    value = f"{figures.dirichlet:.3f}" if np.isfinite(figures.dirichlet) else "none"
    if figures.dirichlet > 1000:
        value = "no area" if np.isfinite(figures.dirichlet) else value
    number = figures.dirichlet if np.isfinite(figures.dirichlet) else 0.0
    return [
        unmapped(mesh),
        Check("flipped", "Flipped", f"{len(flipped):,}", "wrong" if len(flipped) else "good", "faces", flipped,
              len(flipped)),
        Check("stretch", "Mean stretch", value, graded(number, 1.15, 1.5), number=number),
        Check("stretched-faces", "Over twice or half", f"{len(far):,} faces", "look" if len(far) else "good", "faces",
              far, len(far)),
    ]  # fmt: skip


def layout_checks(mesh: PolyMesh, sheets: Sheets = ONE_SHEET, islands: Islands | None = None) -> list[Check]:
    """Overlap, outside, margin, density and use of the sheets, over the active UV set."""
    uv = mesh.uv
    if uv is None or not np.isfinite(uv).any():
        return [unmapped(mesh)]
    islands = islands if islands is not None else Islands.of(mesh, sheets)
    pairs = overlapping_faces(mesh, islands.places)
    over = np.unique(pairs)
    outside = _outside(islands)
    margins = least_margins(islands)
    worst = min(margins, key=lambda m: m.pixels - sheets[m.sheet].margin)
    near = np.flatnonzero(np.isin(islands.labels, [k for k in (worst.pair or ()) if k >= 0]))
    short = worst.pixels < sheets[worst.sheet].margin - 1e-6
    shown = f"{max(worst.pixels, 0):.1f} px" if np.isfinite(worst.pixels) else "none"
    density = texel_densities(islands)
    density = density[np.isfinite(density)]
    spread = float(np.percentile(density, 95) / max(np.percentile(density, 5), 1e-300)) if len(density) else 1.0
    uses = [100 * islands.use(k) for k in range(len(sheets))]
    return [
        unmapped(mesh),
        Check("overlap", "Overlapping", f"{len(over):,}", "wrong" if len(over) else "good", "faces", over, len(over)),
        Check("outside", "Outside the sheet", f"{len(outside):,}", "wrong" if len(outside) else "good", "faces",
              outside, len(outside)),
        Check("margin", "Least margin", shown, "wrong" if short else "good", "faces",
              near if short else np.zeros(0, np.int32), worst.pixels),
        Check("density", "Density spread", f"{spread:.2f}×", graded(spread, 1.5, 4.0), number=spread),
        Check("use", "Use of sheets" if len(sheets) > 1 else "Use of sheet", " · ".join(f"{u:.0f} %" for u in uses), "good",
              number=100 * islands.use()),
    ]  # fmt: skip


def _outside(islands: Islands) -> NDArray[np.signedinteger]:
    """Mapped faces that lie on no sheet as a whole."""
    mesh = islands.mesh
    on_one = np.zeros(mesh.n_faces, bool)
    for sheet in islands.sheets:
        at = islands.uv - sheet.origin
        off = ~((at >= -1e-9) & (at <= 1 + 1e-9)).all(axis=1)
        on_one |= np.bincount(mesh.face_of_corner, off, minlength=mesh.n_faces) == 0
    unmapped = np.bincount(mesh.face_of_corner, ~np.isfinite(islands.uv).all(axis=1), minlength=mesh.n_faces) > 0
    return np.flatnonzero(~on_one & ~unmapped).astype(np.int32)
