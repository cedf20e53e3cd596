"""Curves carried between the sheet and the form: drawn flat they lie on the surface, drawn on the surface they lie flat."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import Bools, Floats, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.space.bvh import Bvh
from jacket.core.space.segments import shares_in
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheets

BESIDE = 0.004
"""Sheets past the border of an island up to which a curve still lies on it: pens go over edges."""
PLACES = 400
"""Places along a curve at which it is carried."""
CHORD = 1e-3
"""Diagonals that a carried curve may stray from what it is thinned from."""


def onto_form(curves: Sequence[Floats], mesh: PolyMesh, sheets: Sheets = ONE_SHEET) -> list[Floats]:
    """Curves (K, 2) in UV coordinates as polylines (N, 3) on a mesh, in pieces where they leave an island."""
    if mesh.uv is None:
        return []
    triangles = short_diagonals(mesh)
    triangles = triangles[np.isfinite(mesh.uv[triangles]).all(axis=(1, 2))]
    if len(triangles) == 0:
        return []
    flat = np.column_stack([np.nan_to_num(mesh.uv), np.zeros(mesh.n_corners)])
    tree = Bvh.build(flat, triangles)
    label = Islands.of(mesh, sheets).corner_labels[triangles[:, 0]]
    out = []
    for curve in curves:
        at = _dense(np.asarray(curve, float))
        on, which, off = tree.closest(np.column_stack([at, np.zeros(len(at))]))
        corners = triangles[which]
        places = np.einsum("nk,nkd->nd", shares_in(flat[corners][..., :2], on[:, :2]), mesh.points[mesh.corners[corners]])
        breaks = (off > BESIDE)[1:] | (off > BESIDE)[:-1] | (label[which][1:] != label[which][:-1])
        out += _pieces(places, off <= BESIDE, breaks, CHORD * mesh.diagonal)
    return out


def onto_sheet(
    curves: Sequence[Floats], mesh: PolyMesh, sheets: Sheets = ONE_SHEET, surface: Bvh | None = None, islands: Islands | None = None
) -> list[Floats]:
    """Polylines (N, 3) over a mesh as curves (K, 2) in its UV coordinates, in pieces where they cross a seam. Its surface and
    islands are derived unless they are at hand."""
    if mesh.uv is None or mesh.n_faces == 0:
        return []
    surface = surface or Bvh.build(mesh.points, mesh.triangle_points)
    label = (islands or Islands.of(mesh, sheets)).corner_labels
    out = []
    for curve in curves:
        at = _dense(np.asarray(curve, float))
        on, which, _ = surface.closest(at)
        corners = mesh.triangles[which]
        uv = np.einsum("nk,nkd->nd", shares_in(mesh.points[mesh.corners[corners]], on), mesh.uv[corners])
        good = finite_rows(uv)
        breaks = ~good[1:] | ~good[:-1] | (label[corners[1:, 0]] != label[corners[:-1, 0]]) | _jumps(at, uv)
        out += _pieces(uv, good, breaks, CHORD)
    return out


def _dense(curve: Floats) -> Floats:
    """The curve with places in between, so that pieces are short; its own points stay."""
    step = np.linalg.norm(np.diff(curve, axis=0), axis=1)
    total = float(step.sum())
    if not total > 0:
        return curve
    parts = np.maximum(np.ceil(step / total * PLACES).astype(int), 1)
    rows = [a + (b - a) * (np.arange(n) / n)[:, None] for a, b, n in zip(curve[:-1], curve[1:], parts.tolist(), strict=True)]
    return np.concatenate([*rows, curve[-1:]])


def _jumps(at: Floats, uv: Floats) -> Bools:
    """(N − 1,) where a step on the sheet is far longer than on the form: across a seam that an island has within."""
    there = np.linalg.norm(np.diff(uv, axis=0), axis=1)
    here = np.maximum(np.linalg.norm(np.diff(at, axis=0), axis=1), 1e-300)
    usual = float(np.nanmedian(there / here))
    return np.asarray(there > 8.0 * usual * here)


def _pieces(places: Floats, good: Bools, breaks: Bools, chord: float) -> list[Floats]:
    """The places between breaks, where there are two or more that are good, thinned."""
    out = []
    for ids in np.split(np.arange(len(places)), np.flatnonzero(breaks) + 1):
        if len(ids) > 1 and good[ids].all():
            out.append(thinned(places[ids], chord))
    return out


def thinned(curve: Floats, chord: float) -> Floats:
    """A polyline of some of the points of another one, nowhere farther from it than `chord` (D. Douglas and T. Peucker,
    "Algorithms for the reduction of the number of points required to represent a digitized line", 1973)."""
    keep = np.zeros(len(curve), bool)
    keep[[0, -1]] = True
    todo: list[tuple[int, int]] = [(0, len(curve) - 1)]
    while todo:
        a, b = todo.pop()
        if b - a < 2:
            continue
        far = _off_line(curve[a + 1 : b], curve[a], curve[b])
        k = int(np.argmax(far))
        if far[k] > chord:
            keep[a + 1 + k] = True
            todo += [(a, a + 1 + k), (a + 1 + k, b)]
    return curve[keep]


def _off_line(places: Floats, a: Floats, b: Floats) -> Floats:
    way = b - a
    along = np.clip((places - a) @ way / max(float(way @ way), 1e-300), 0, 1)
    return np.asarray(np.linalg.norm(places - a - along[:, None] * way, axis=1))

