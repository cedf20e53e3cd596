"""Measures of stretch, per island and per face."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.tables import finite_rows
from jacket.core.uv.chart import Chart, island_charts


@dataclass(frozen=True)
class StretchFigures:
    """Area means over all mapped islands, each island at equal surface and flat area.

    dirichlet   (σ₁² + σ₂² + σ₁⁻² + σ₂⁻²) / 4, Smith and Schaefer 2015; 1 is perfect
    l2, linf    stretch of the texture → surface map, Sander et al. 2001
    angle       (σ₁/σ₂ + σ₂/σ₁) / 2; 1 is conformal
    """

    dirichlet: float
    l2: float
    linf: float
    angle: float
    islands: int
    unmapped_faces: int

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a JSON report."""
        return asdict(self)


def singular_values(chart: Chart, uv: Floats) -> Floats:
    """(T, 2) larger and smaller singular value of surface → flat, at equal total area; the smaller
    is negative on flipped triangles. NaN where a triangle has no area."""
    inverse, area = chart.rest
    values, flat = _singular_values(uv, chart.triangles, inverse, chart.weights * area)
    values *= np.sqrt(chart.area / flat) if flat > 0 else 1.0
    values[chart.weights == 0] = np.nan
    return np.asarray(values)


@kernel
def _singular_values(uv, triangles, inverse, weight):
    """(T, 2) both values of each triangle as it lies, and the flat area of all by their weights (T,)."""
    out, flat = np.empty((len(triangles), 2)), 0.0
    for t in range(len(triangles)):
        i, j, k = triangles[t, 0], triangles[t, 1], triangles[t, 2]
        ax, ay, bx, by = uv[j, 0] - uv[i, 0], uv[j, 1] - uv[i, 1], uv[k, 0] - uv[i, 0], uv[k, 1] - uv[i, 1]
        m00, m01 = ax * inverse[t, 0, 0] + bx * inverse[t, 1, 0], ax * inverse[t, 0, 1] + bx * inverse[t, 1, 1]
        m10, m11 = ay * inverse[t, 0, 0] + by * inverse[t, 1, 0], ay * inverse[t, 0, 1] + by * inverse[t, 1, 1]
        # Half the sum and half the difference of the two, signed: lengths of the turning and the mirroring part.
        root, other = np.hypot(m00 + m11, m10 - m01), np.hypot(m00 - m11, m10 + m01)
        out[t, 0], out[t, 1] = (root + other) / 2, (root - other) / 2
        flat += abs(m00 * m11 - m01 * m10) * weight[t]
    return out, flat


def measure_stretch(mesh: PolyMesh, uv: Floats) -> StretchFigures:
    """Figures over every fully mapped island; others count in `unmapped_faces`. uv (C, 2) in units that are as long
    across as up, such as pixel places."""
    rows, weights, worst, unmapped, count = [], [], 0.0, 0, 0
    for chart in island_charts(mesh, uv):
        corner_uv = uv[chart.corners]
        if not np.isfinite(corner_uv).all():
            unmapped += len(chart.faces)
            continue
        count += 1
        values = singular_values(chart, _to_points(chart, corner_uv))
        good = finite_rows(values)
        s1, s2 = np.maximum(np.abs(values[good].T), 1e-12)
        rows.append(np.stack([(s1**2 + s2**2 + s1**-2 + s2**-2) / 4, (s1**-2 + s2**-2) / 2,
                              (s1 / s2 + s2 / s1) / 2], axis=1))  # fmt: skip
        weights.append((chart.weights * chart.rest[1])[good])
        worst = max(worst, float((1 / s2).max(initial=0.0)))
    if not rows:
        return StretchFigures(np.inf, np.inf, np.inf, np.inf, 0, unmapped)
    mean = np.average(np.concatenate(rows), axis=0, weights=np.concatenate(weights))
    return StretchFigures(float(mean[0]), float(np.sqrt(mean[1])), worst, float(mean[2]), count, unmapped)


def _to_points(chart: Chart, corner_uv: Floats) -> Floats:
    uv = np.zeros((chart.mesh.n_points, 2))
    uv[chart.mesh.corners] = corner_uv
    return uv


def face_stretch(mesh: PolyMesh, uv: Floats) -> Floats:
    """(F,) log₂ of the area each face gets on the sheet against its island's mean: below 0 squeezed,
    above 0 stretched; NaN for unmapped faces."""
    from jacket.core.mesh.geometry import face_areas
    from jacket.core.mesh.walks import face_parts
    from jacket.core.uv.areas import face_uv_areas
    from jacket.core.uv.sets import apart_flags, cut_flags

    count, labels = face_parts(mesh, cut_flags(mesh) | apart_flags(mesh, uv))
    flat, real = np.abs(face_uv_areas(mesh, uv)), face_areas(mesh)
    known = np.isfinite(flat)
    total_flat = np.bincount(labels, np.where(known, flat, 0.0), minlength=count)
    total_real = np.bincount(labels, np.where(known, real, 0.0), minlength=count)
    mean = total_flat / np.maximum(total_real, 1e-300)
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.log2(flat / real / mean[labels])


def face_angles(mesh: PolyMesh, uv: Floats) -> Floats:
    """(F,) distortion of angles of each face, (σ₁/σ₂ + σ₂/σ₁)/2 − 1 as the area mean over its triangles; NaN for unmapped
    faces."""
    total, weight = np.zeros(mesh.n_faces), np.zeros(mesh.n_faces)
    for chart in island_charts(mesh, uv):
        corner_uv = uv[chart.corners]
        if not np.isfinite(corner_uv).all():
            continue
        s1, s2 = np.maximum(np.abs(singular_values(chart, _to_points(chart, corner_uv))), 1e-12).T
        value = (s1 / s2 + s2 / s1) / 2 - 1
        area = np.where(np.isfinite(value), chart.rest[1] * chart.weights, 0.0)
        sizes = chart.mesh.sizes
        owner = chart.faces[np.repeat(np.arange(len(sizes)), np.where(sizes == 4, 4, sizes - 2))]
        total += np.bincount(owner, area * np.nan_to_num(value), mesh.n_faces)
        weight += np.bincount(owner, area, mesh.n_faces)
    return np.where(weight > 0, total / np.maximum(weight, 1e-300), np.nan)


@dataclass(frozen=True, eq=False)
class Strokes:
    """Where and which way pictures are stretched on the surface, for the faces (K,) where it shows.

    flat    (K, 2, 2) ends of a stroke through the middle of each on the sheet;  form (K, 2, 3) the same on the surface
    ratio   (K,) the larger singular value of the map texture → surface by the smaller
    """

    faces: Ints
    flat: Floats
    form: Floats
    ratio: Floats


def stretch_strokes(mesh: PolyMesh, uv: Floats, unit: Floats | None = None, least: float = 1.04) -> Strokes:
    """Strokes along the direction in which the map texture → surface stretches most, found by least squares over the corners of
    each face (exact on triangles), longer where it stretches more; faces below a ratio of `least` have none. uv (C, 2) NaN where
    unmapped; `unit` (2,) or (C, 2) is how long a unit of it is across and up, where sheets are not square."""
    scale = np.broadcast_to(np.ones(2) if unit is None else unit, uv.shape)
    ids, flat, form, ratio = _strokes(mesh.points, mesh.corners, mesh.starts, uv, np.ascontiguousarray(scale), least)
    return Strokes(ids, flat, form, ratio)


@kernel
def _strokes(points, corners, starts, uv, scale, least):
    n = len(starts) - 1
    ids, flat, form, ratios = np.empty(n, np.int64), np.empty((n, 2, 2)), np.empty((n, 2, 3)), np.empty(n)
    count = 0
    spot, middle, unit, there = np.empty(2), np.empty(2), np.empty(2), np.empty(3)
    cross, jacobian, lift = np.empty((3, 2)), np.empty((3, 2)), np.empty(3)
    for f in range(n):
        first, end = starts[f], starts[f + 1]
        corner_count = end - first
        spot[:], middle[:], unit[:], there[:], cross[:] = 0.0, 0.0, 0.0, 0.0, 0.0
        for c in range(first, end):
            for k in range(2):
                spot[k] += uv[c, k] / corner_count
                middle[k] += uv[c, k] * scale[c, k] / corner_count
                unit[k] += scale[c, k] / corner_count
            for k in range(3):
                there[k] += points[corners[c], k] / corner_count
        a = b = d = 0.0
        for c in range(first, end):
            x, y = uv[c, 0] * scale[c, 0] - middle[0], uv[c, 1] * scale[c, 1] - middle[1]
            a, b, d = a + x * x, b + x * y, d + y * y
            for k in range(3):
                cross[k, 0] += (points[corners[c], k] - there[k]) * x
                cross[k, 1] += (points[corners[c], k] - there[k]) * y
        det = a * d - b * b
        # Also false where a corner is unmapped.
        if not (np.isfinite(det) and det > 1e-18 * max(a + d, 1e-300) ** 2):
            continue
        e = g = h = 0.0
        for k in range(3):
            jacobian[k, 0] = (cross[k, 0] * d - cross[k, 1] * b) / det
            jacobian[k, 1] = (cross[k, 1] * a - cross[k, 0] * b) / det
            e, g, h = e + jacobian[k, 0] ** 2, g + jacobian[k, 0] * jacobian[k, 1], h + jacobian[k, 1] ** 2
        # Eigenvalues of JᵀJ = (e g; g h), and the direction of the larger.
        spread = np.sqrt((0.5 * (e - h)) ** 2 + g * g)
        larger = 0.5 * (e + h) + spread
        smaller = max(0.5 * (e + h) - spread, 0.0)
        ratio = np.sqrt(max(larger, 0.0) / max(smaller, 1e-300))
        if not ratio > least:
            continue
        angle = 0.5 * np.arctan2(2 * g, e - h)
        size = np.sqrt(np.sqrt(det) / corner_count * 4)
        long = 0.4 * size * min(2.5 * (ratio - 1), 1.0)
        way_x, way_y = long * np.cos(angle), long * np.sin(angle)
        for k in range(3):
            lift[k] = jacobian[k, 0] * way_x + jacobian[k, 1] * way_y
            form[count, 0, k], form[count, 1, k] = there[k] - lift[k], there[k] + lift[k]
        flat[count, 0, 0], flat[count, 1, 0] = spot[0] - way_x / unit[0], spot[0] + way_x / unit[0]
        flat[count, 0, 1], flat[count, 1, 1] = spot[1] - way_y / unit[1], spot[1] + way_y / unit[1]
        ids[count], ratios[count] = f, ratio
        count += 1
    return ids[:count].copy(), flat[:count].copy(), form[:count].copy(), ratios[:count].copy()
