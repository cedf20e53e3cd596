"""What a cut would do before it is made: the piece it would free, flat, with its stretch, and what the rest becomes."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from jacket.core.flatten.descent import Descent, flips
from jacket.core.flatten.overlap import border_crosses
from jacket.core.flatten.unwrap import as_it_lies, flat_start, upright
from jacket.core.mesh.geometry import face_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh
from jacket.core.mesh.tables import bounds
from jacket.core.mesh.walks import euler_characteristic, face_parts
from jacket.core.seams.sky import seen
from jacket.core.uv.chart import Chart, chart_of, placed
from jacket.errors import SolveError

STEPS = 3
"""Steps after which a piece is shown: more would be exacter and later."""
LED = 12
"""The same where it has to be led in from a convex outline."""
PATIENT = 20
"""The same of what is there already, which has to be laid out but once."""


@dataclass(frozen=True, eq=False)
class Foreseen:
    """faces     faces of the piece that would be free, or opened further
    lines     (S, 2, 2) its edges laid flat, within the unit square;  outline (S,) which of them lie on its border
    before    mean energy of what the piece is part of now, NaN where that does not open
    after     mean energy of the piece, NaN where it does not open
    seen      how much the cut is seen against a mean edge, NaN where not known
    pieces    how many pieces what is cut or sewn becomes
    sews      whether this is about sewing
    crosses   whether the piece would lie over itself
    problem   why the piece does not open, "" where it does;  rest   the same of the largest other piece
    """

    faces: Ints
    lines: Floats = field(default_factory=lambda: np.zeros((0, 2, 2)))
    outline: Bools = field(default_factory=lambda: np.zeros(0, bool))
    before: float = np.nan
    after: float = np.nan
    seen: float = np.nan
    pieces: int = 1
    sews: bool = False
    crosses: bool = False
    problem: str = ""
    rest: str = ""


@dataclass(frozen=True, eq=False)
class Present:
    """How pieces lie as they are cut now: (C, 2) places of their corners, NaN elsewhere, and their mean energy, NaN where one
    does not open."""

    places: Floats
    energy: float


def foresee(mesh: PolyMesh, cut: Bools, edges: Ints, sky: Floats | None = None, now: Present | None = None) -> Foreseen:
    """What becomes of a mesh that is cut at the edges flagged in `cut` (E,) when `edges` are cut too, or sewn where all of
    them are cut. sky (V,) from `open_sky` where known; `now` from `lying_now`, to go on from."""
    before = now.energy if now is not None else np.nan
    after = cut.copy()
    sews = bool(cut[edges].all())
    after[edges] = not sews
    _, labels = face_parts(mesh, after)
    sides = faces_at(mesh, edges)
    touched = np.unique(labels[sides])
    area = np.bincount(labels, face_areas(mesh))
    touched = touched[np.argsort(area[touched], kind="stable")]
    piece = np.flatnonzero(labels == touched[0]).astype(np.int32)
    flags = np.zeros_like(cut)
    flags[edges] = True
    visible = seen(mesh, flags, sky) if sky is not None else np.nan
    chart = chart_of(mesh, piece, after)
    rest = ""
    if len(touched) > 1:
        rest = why_closed(chart_of(mesh, np.flatnonzero(labels == touched[-1]), after))
    problem = why_closed(chart)
    if problem:
        return Foreseen(piece, before=before, seen=visible, pieces=len(touched), sews=sews, problem=problem, rest=rest)
    flat = quick_flat(chart, STEPS, now.places if now is not None else None)
    if flat is None:
        return Foreseen(piece, before=before, seen=visible, pieces=len(touched), sews=sews,
                        problem="It does not open like this; it needs another cut.", rest=rest)  # fmt: skip
    uv, energy = flat
    lines, outline = _drawn(chart, uv)
    crosses = border_crosses(chart, uv)
    return Foreseen(piece, lines, outline, before, energy, visible, len(touched), sews, crosses, "", rest)


def lying_now(mesh: PolyMesh, cut: Bools, edges: Ints) -> Present:
    """How the pieces at edges lie as they are cut now."""
    _, labels = face_parts(mesh, cut)
    places, total, area = np.full((mesh.n_corners, 2), np.nan), 0.0, 0.0
    for k in np.unique(labels[faces_at(mesh, edges)]).tolist():
        chart = chart_of(mesh, np.flatnonzero(labels == k), cut)
        flat = quick_flat(chart, PATIENT) if not why_closed(chart) else None
        if flat is not None:
            places[chart.corners] = flat[0][chart.mesh.corners]
        total += flat[1] * chart.area if flat is not None else np.nan
        area += chart.area
    return Present(places, total / max(area, 1e-300))


def why_closed(chart: Chart) -> str:
    """Why a piece cannot open flat as it is cut: closed, a ring, a handle; "" where nothing keeps it. What lies in a plane may
    have holes."""
    borders = len(chart.border)
    if borders and as_it_lies(chart) is not None:
        return ""
    handles = (2 - borders - euler_characteristic(chart.mesh)) // 2
    if borders == 0:
        return "It is closed: it needs a cut."
    if handles > 0:
        return "It has a handle: it needs a ring round it." if handles == 1 else f"It has {handles} handles: each needs a ring."
    if borders > 1:
        return "It is a ring: it needs a line from border to border." if borders == 2 else f"It has {borders} borders: they need lines."
    return ""


def quick_flat(chart: Chart, steps: int, start: Floats | None = None) -> tuple[Floats, float] | None:
    """(V', 2) a piece laid flat over one diagonal of each quad, and its energy; None where no start without flips is found.
    start   (C, 2) places of the whole mesh's corners to go on from, where the piece lies there without flips"""
    lying = as_it_lies(chart)
    if lying is not None:
        return upright(chart, lying), 1.0
    fan = Chart(PolyMesh.from_faces(chart.mesh.points, chart.mesh.triangle_points), chart.corners, chart.faces)
    known = placed(chart, start)
    try:
        uv, bad = (known, False) if known is not None and flips(fan, known) == 0 else flat_start(fan)
    except SolveError:
        return None
    descent = Descent(fan, uv)
    descent.run(max(LED, steps) if bad else steps, bad, 1e-3)
    return (upright(fan, descent.uv), descent.energy) if np.isfinite(descent.energy) else None


def faces_at(mesh: PolyMesh, edges: Ints) -> Ints:
    """(K,) faces on both sides of edges."""
    topology = mesh.topology
    corner = topology.edge_corner[edges]
    twin = topology.twin[corner]
    return np.concatenate([mesh.face_of_corner[corner], mesh.face_of_corner[twin[twin >= 0]]])


MOST_LINES = 6000


def _drawn(chart: Chart, uv: Floats) -> tuple[Floats, Bools]:
    """Edges of a flat piece in the unit square, its border always among them."""
    low, high = bounds(uv)
    at = (uv - (low + high) / 2) / max(float((high - low).max()), 1e-300) + 0.5
    topology = chart.mesh.topology
    border = topology.edge_uses == 1
    inner = np.flatnonzero(~border)
    keep = np.concatenate([inner[:: max(1, len(inner) // MOST_LINES)], np.flatnonzero(border)])
    return at[topology.edge_points[keep]], border[keep]
