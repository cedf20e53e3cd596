"""Laying islands flat: which start to take, how far to go, what to say when it cannot be done."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.flatten.descent import FULL_STEPS, Descent, flips
from jacket.core.flatten.overlap import lies_over_itself
from jacket.core.flatten.starts import conformal, convex, convex_faces, scaled_to_area
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.mesh.tables import bounds
from jacket.core.uv.chart import Chart, charts_of, placed
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import ONE_SHEET, Sheets, from_pixel_places
from jacket.errors import SolveError
from jacket.progress import Progress, silent


@dataclass(frozen=True)
class IslandFlat:
    """How one island came out: its faces, whether it lies flat, and a sentence when it does not."""

    faces: NDArray[np.signedinteger]
    flat: bool
    energy: float
    overlaps: bool
    problem: str = ""


def flatten_chart(chart: Chart, steps: int = FULL_STEPS, start: Floats | None = None) -> tuple[Floats, float]:
    """(V, 2) flat positions without flips at the surface's own scale, and their energy.

    From `start` (V, 2) where that has no flips and is not far off; else conformal first, and where that flips or is far off
    Tutte's map and reweighted steps lead in.
    Raises SolveError for closed islands and where no start without flips exists.
    """
    if not chart.border:
        raise SolveError("This island is closed and cannot open flat; cut it with a seam.")
    lying = as_it_lies(chart)
    if lying is not None:
        return upright(chart, lying), 1.0
    known = scaled_to_area(chart, start) if start is not None and flips(chart, start) == 0 else None
    if known is not None and Descent(chart, known).energy < NEAR:
        uv, bad = known, False
    else:
        uv, bad = flat_start(chart)
    descent = Descent(chart, uv)
    descent.run(steps, from_bad_start=bad)
    return scaled_to_area(chart, upright(chart, descent.uv)), descent.energy


NEAR = 3.0
"""Mean energy up to which a start is gone on from."""


def as_it_lies(chart: Chart) -> Floats | None:
    """(V, 2) the places of an island that lies in a plane already, none of its triangles turned over; None for others."""
    points, tri = chart.mesh.points, chart.triangles
    a, b, c = (points[tri[:, k]] for k in range(3))
    areas = np.cross(b - a, c - a)
    normal = areas.sum(axis=0)
    length = float(np.linalg.norm(normal))
    if not length > 0:
        return None
    normal = normal / length
    away = (points - points.mean(axis=0)) @ normal
    size = float(np.ptp(points, axis=0).max())
    if np.abs(away).max() > 1e-9 * size or (areas @ normal < 0).any() or (chart.rest[1] <= 0).any():
        return None
    across = np.eye(3)[int(np.argmin(np.abs(normal)))]
    across = across - normal * (across @ normal)
    across /= np.linalg.norm(across)
    return np.asarray(np.stack([points @ across, points @ np.cross(normal, across)], axis=1))


def flat_start(chart: Chart) -> tuple[Floats, bool]:
    """Flat positions without flips to descend from, and whether they are far from good. Conformal ones where they do; else
    a convex outline: over triangles, of which only those of one diagonal of each quad are sure to come out unflipped (Floater
    2003), over faces, or over one diagonal and then eased until both lie well. Raises SolveError where there are none."""
    conform = None
    try:
        uv = conformal(chart)
        if flips(chart, uv) == 0:
            conform = uv
            if Descent(chart, uv).energy < NEAR:
                return uv, False
    except SolveError:
        pass
    for start in (convex, convex_faces, _eased):
        uv = start(chart)
        if flips(chart, uv) == 0:
            return uv, True
    if conform is not None:
        return conform, True
    raise SolveError("This island has handles or touches itself and cannot open flat; cut it once more.")


EASING = 15
"""Steps over one diagonal of each quad before both are looked at."""


def _eased(chart: Chart) -> Floats:
    """A convex start over one diagonal of each quad, descended a little."""
    fan = Chart(PolyMesh.from_faces(chart.mesh.points, chart.mesh.triangle_points), chart.corners, chart.faces)
    uv = convex(fan)
    if flips(fan, uv):
        return uv
    descent = Descent(fan, uv)
    descent.run(EASING, from_bad_start=True)
    return descent.uv


def upright(chart: Chart, uv: Floats) -> Floats:
    """Turned so that the surface's up (Y) points up where the island has one, else by its long side."""
    up = mean_up(chart, uv)
    size = float(np.hypot(*up))
    if size > 0.25:
        angle = np.pi / 2 - np.arctan2(up[1], up[0])
    else:
        centred = uv - uv.mean(axis=0)
        values, vectors = np.linalg.eigh(centred.T @ centred)
        long = vectors[:, int(np.argmax(values))]
        angle = -np.arctan2(long[1], long[0])
    s, c = np.sin(angle), np.cos(angle)
    return uv @ np.array([[c, s], [-s, c]])


def mean_up(chart: Chart, uv: Floats) -> Floats:
    """Area mean of the gradient of the surface's Y over the flat island, as a share of one."""
    tri = chart.triangles
    a, b, c = (uv[tri[:, k]] for k in range(3))
    e, f = b - a, c - a
    det = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
    good = (det > 0) & (chart.weights > 0)
    y = chart.mesh.points[:, 1]
    dy1, dy2 = y[tri[:, 1]] - y[tri[:, 0]], y[tri[:, 2]] - y[tri[:, 0]]
    safe = np.where(good, det, 1.0)
    gx = (dy1 * f[:, 1] - dy2 * e[:, 1]) / safe
    gy = (dy2 * e[:, 0] - dy1 * f[:, 0]) / safe
    w = np.where(good, chart.weights * chart.rest[1], 0.0)
    return np.array([(gx * w).sum(), (gy * w).sum()]) / max(float(w.sum()), 1e-300)


def unwrap(
    mesh: PolyMesh, only: NDArray[np.signedinteger] | None = None, progress: Progress = silent,
    sheets: Sheets = ONE_SHEET,
) -> tuple[PolyMesh, list[IslandFlat]]:  # fmt: skip
    """Lay all pieces flat, or those numbered in `only` (`piece_labels`), into the active UV set.

    All of them lie about the origin at the surface's own scale, for `laid_apart` or packing to place. With `only` the
    rest keeps its UVs, and each piece takes the place, direction and size it had in the largest island it was, on its sheet, or goes to the
    right of the first sheet where it was not mapped. What cannot open stays unmapped (NaN) and says why.
    """
    charts = charts_of(mesh, only)
    before = Islands.of(mesh, sheets) if only is not None and mesh.uv is not None else None
    uv = mesh.uv.copy() if before is not None and mesh.uv is not None else np.full((mesh.n_corners, 2), np.nan)
    report = []
    total = max(sum(len(c.faces) for c in charts), 1)
    done = 0
    for chart in charts:
        progress(done / total, "laying islands flat")
        try:
            flat, energy = flatten_chart(chart, start=placed(chart, before.places if before is not None else None))
            laid = flat[chart.mesh.corners]
            uv[chart.corners] = laid if only is None else _in_place(laid, chart, before, sheets)
            report.append(IslandFlat(chart.faces, True, energy, lies_over_itself(chart, flat)))
        except SolveError as error:
            uv[chart.corners] = np.nan
            report.append(IslandFlat(chart.faces, False, np.inf, False, str(error)))
        done += len(chart.faces)
    return mesh.with_uv(uv), report


def _in_place(flat: Floats, chart: Chart, before: Islands | None, sheets: Sheets) -> Floats:
    """(C', 2) UVs of a flattened piece, about where and at the density of what it was."""
    old = _largest(chart, before) if before is not None else -1
    if before is None or old < 0:
        known = before is not None and bool(before.mapped.any())
        scale = float(np.sqrt(before.pixel_area.sum() / max(before.surface_area[before.mapped].sum(), 1e-300))) \
            if before is not None and known else 0.25 * float(sheets[0].width) / np.sqrt(max(chart.area, 1e-300))  # fmt: skip
        at = (flat - bounds(flat)[0]) * scale + sheets[0].size * [1.05, 0.0]
        return sheets[0].coordinates(at)
    which = int(before.sheet_of[old])
    density = np.sqrt(before.pixel_area[old] / max(float(before.surface_area[old]), 1e-300))
    # Turned and shifted to lie as near as it can to where its own corners lay on that island: nothing jumps.
    mine = before.corner_labels[chart.corners] == old
    new, was = (flat * density) @ [1, 1j], before.places[chart.corners] @ [1, 1j]
    from_, to = new[mine].mean(), was[mine].mean()
    turn = ((new[mine] - from_).conj() * (was[mine] - to)).sum()
    turned = (new - from_) * (turn / abs(turn) if abs(turn) > 0 else 1.0) + to
    places = np.stack([turned.real, turned.imag], axis=1)
    return from_pixel_places(places, np.full(len(places), which), sheets)


def _largest(chart: Chart, islands: Islands) -> int:
    """The island with the most area of a piece's faces among the mapped ones; −1 for none."""
    labels = islands.labels[chart.faces]
    labels = labels[islands.mapped[labels] & (islands.pixel_area[labels] > 0)]
    return int(np.argmax(np.bincount(labels))) if len(labels) else -1
