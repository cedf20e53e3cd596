"""Checks of seams, flattening and the sheet."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from jacket.core.checks.model import Check, Level, graded
from jacket.core.flatten.overlap import flipped_faces, overlapping_faces
from jacket.core.flatten.stretch import StretchFigures, face_stretch, measure_stretch
from jacket.core.flatten.unwrap import as_it_lies
from jacket.core.layout.margins import least_margins
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.tables import finite_rows
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
        bad = np.unique(mesh.face_of_corner[~finite_rows(uv)])
    return Check("unmapped", "Unmapped", f"{len(bad):,}", "wrong" if len(bad) else "good", "faces", bad, len(bad))


def flatten_checks(mesh: PolyMesh, sheets: Sheets = ONE_SHEET, figures: StretchFigures | None = None) -> list[Check]:
    """Stretch, flips and unmapped faces of the active UV set."""
    if mesh.uv is None:
        return [unmapped(mesh)]
    islands = Islands.of(mesh, sheets)
    places = islands.places
    figures = figures or measure_stretch(mesh, places)
    flipped, mirrored = _turned_over(islands, flipped_faces(mesh, places))
    far = np.flatnonzero(np.abs(np.nan_to_num(face_stretch(mesh, places))) > 1.0)
    value = f"{figures.dirichlet:.3f}" if np.isfinite(figures.dirichlet) else "none"
    if figures.dirichlet > 1000:
        value = "no area" if np.isfinite(figures.dirichlet) else value
    number = figures.dirichlet if np.isfinite(figures.dirichlet) else 0.0
    return [
        unmapped(mesh),
        _count("flipped", "Flipped", flipped, "wrong"),
        *([_count("mirrored", "Mirrored", mirrored, "look")] if len(mirrored) else []),
        Check("stretch", "Mean stretch", value, graded(number, 1.15, 1.5), number=number),
        Check("stretched-faces", "Over twice or half", f"{len(far):,} faces", "look" if len(far) else "good", "faces",
              far, len(far)),
    ]  # fmt: skip


def _turned_over(
    islands: Islands, flipped: NDArray[np.signedinteger]
) -> tuple[NDArray[np.signedinteger], NDArray[np.signedinteger]]:
    """Faces that lie the other way than their island, and faces of islands that lie on their face as a whole: those are
    islands laid mirrored, as on purpose."""
    faces = np.bincount(islands.labels, minlength=islands.count)
    whole = np.bincount(islands.labels[flipped], minlength=islands.count) == faces
    mirrored = whole[islands.labels[flipped]]
    return flipped[~mirrored], flipped[mirrored]


def layout_checks(
    mesh: PolyMesh, sheets: Sheets = ONE_SHEET, islands: Islands | None = None,
    stacks: NDArray[np.signedinteger] | None = None,
) -> list[Check]:  # fmt: skip
    """Overlap, outside, margin, density and use of the sheets, over the active UV set. Islands of one number in `stacks`
    (count,) lie on one another on purpose; −1 for none."""
    uv = mesh.uv
    if uv is None or not np.isfinite(uv).any():
        return [unmapped(mesh)]
    islands = islands if islands is not None else Islands.of(mesh, sheets)
    over = _overlapping(mesh, islands, stacks)
    outside = _outside(islands)
    thin = _slivers(islands)
    found = [
        unmapped(mesh),
        _count("overlap", "Overlapping", over, "wrong"),
        _count("outside", "Outside the sheet", outside, "wrong"),
        _margin(islands, stacks),
        *_density(islands),
        Check("slivers", "Under a pixel wide", f"{len(thin):,} islands" if len(thin) != 1 else "1 island", "look", "faces",
              np.flatnonzero(np.isin(islands.labels, thin)).astype(np.int32), len(thin)),
        _use(islands),
    ]  # fmt: skip
    return [c for c in found if c.id != "slivers" or c.number]


def _count(id_: str, label: str, faces: NDArray[np.signedinteger], level: Level) -> Check:
    return Check(id_, label, f"{len(faces):,}", level if len(faces) else "good", "faces", faces, len(faces))


def _overlapping(
    mesh: PolyMesh, islands: Islands, stacks: NDArray[np.signedinteger] | None
) -> NDArray[np.signedinteger]:
    """Faces that lie over others, but for those of wanted stacks."""
    pairs = overlapping_faces(mesh, islands.places)
    if stacks is not None and len(pairs):
        one, other = (islands.labels[pairs[:, k]] for k in range(2))
        pairs = pairs[(stacks[one] < 0) | (stacks[one] != stacks[other]) | (one == other)]
    return np.unique(pairs).astype(np.int32)


def _margin(islands: Islands, stacks: NDArray[np.signedinteger] | None) -> Check:
    """The least margin, told at the mip level at which it counts."""
    sheets = islands.sheets
    worst = min(least_margins(islands, stacks), key=lambda m: m.surplus)
    sheet = sheets[worst.sheet]
    short = worst.surplus < -1e-6
    near = np.flatnonzero(np.isin(islands.labels, [k for k in (worst.pair or ()) if k >= 0])).astype(np.int32)
    level = f" at mip {sheet.mip}" if sheet.mip else ""
    shown = f"{max(worst.pixels, 0) / 2**sheet.mip:.1f} px{level}" if np.isfinite(worst.pixels) else "none"
    return Check("margin", "Least margin", shown, "wrong" if short else "good", "faces", near if short else near[:0], worst.pixels)


def _density(islands: Islands) -> list[Check]:
    """How far densities spread, and which islands lie below what their sheet wants."""
    density = texel_densities(islands)
    known = density[np.isfinite(density)]
    spread = float(np.percentile(known, 95) / max(np.percentile(known, 5), 1e-300)) if len(known) else 1.0
    out = [Check("density", "Density spread", f"{spread:.2f}×", graded(spread, 1.5, 4.0), number=spread)]
    least = np.array([s.least for s in islands.sheets])
    if least.any():
        own = least[np.maximum(islands.sheet_of, 0)]
        with np.errstate(divide="ignore", invalid="ignore"):
            mean = np.sqrt(islands.pixel_area / islands.surface_area)
        low = np.flatnonzero(islands.mapped & (mean < own * (1 - 1e-6)))
        faces = np.flatnonzero(np.isin(islands.labels, low)).astype(np.int32)
        out.append(Check("coarse", "Below the wanted density", f"{len(low):,}", "look" if len(low) else "good", "faces", faces,
                         len(low)))  # fmt: skip
    return out


def _slivers(islands: Islands) -> NDArray[np.signedinteger]:
    """Islands narrower than a pixel on their sheet: twice the area over the length of the outline."""
    border = islands.border_corners
    ends = islands.places[islands.mesh.topology.next[border]] - islands.places[border]
    around = np.bincount(islands.corner_labels[border], np.nan_to_num(np.hypot(*ends.T)), minlength=islands.count)
    thin = 2 * islands.pixel_area < around
    return np.flatnonzero(thin & islands.mapped & (islands.pixel_area > 0))


def _use(islands: Islands) -> Check:
    sheets = islands.sheets
    uses = [100 * islands.use(k) for k in range(len(sheets))]
    label = "Use of sheets" if len(sheets) > 1 else "Use of sheet"
    return Check("use", label, " · ".join(f"{u:.0f} %" for u in uses), "good", number=100 * islands.use())


def _outside(islands: Islands) -> NDArray[np.signedinteger]:
    """Mapped faces that lie on no sheet as a whole."""
    mesh = islands.mesh
    on_one = np.zeros(mesh.n_faces, bool)
    for sheet in islands.sheets:
        at = islands.uv - sheet.origin
        off = ~((at >= -1e-9) & (at <= 1 + 1e-9)).all(axis=1)
        on_one |= np.bincount(mesh.face_of_corner, off, minlength=mesh.n_faces) == 0
    unmapped = np.bincount(mesh.face_of_corner, ~finite_rows(islands.uv), minlength=mesh.n_faces) > 0
    return np.flatnonzero(~on_one & ~unmapped).astype(np.int32)
