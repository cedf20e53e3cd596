"""Measures of stretch, per island and per face."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

import numpy as np

from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
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
    tri = chart.triangles
    edge = np.stack([uv[tri[:, 1]] - uv[tri[:, 0]], uv[tri[:, 2]] - uv[tri[:, 0]]], axis=2)
    jacobian = edge @ chart.rest[0]
    det = np.linalg.det(jacobian)
    square = (jacobian**2).sum(axis=(1, 2))
    root = np.sqrt(np.maximum(square + 2 * det, 0.0))
    other = np.sqrt(np.maximum(square - 2 * det, 0.0))
    values = np.stack([(root + other) / 2, (root - other) / 2], axis=1)
    weight = chart.weights * chart.rest[1]
    flat = float((np.abs(det) * weight).sum())
    values *= np.sqrt(chart.area / flat) if flat > 0 else 1.0
    values[chart.weights == 0] = np.nan
    return values


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
        good = np.isfinite(values).all(axis=1)
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
    count, owner = mesh.n_faces, mesh.face_of_corner
    pixels = uv * (np.ones(2) if unit is None else unit)
    sizes = np.maximum(mesh.sizes, 1)[:, None]

    def per_face(values: Floats) -> Floats:
        return np.stack([np.bincount(owner, values[:, k], count) for k in range(values.shape[1])], axis=1)

    points = mesh.points[mesh.corners]
    middle, there, spot = per_face(pixels) / sizes, per_face(points) / sizes, per_face(uv) / sizes
    d, x = pixels - middle[owner], points - there[owner]
    square = per_face(np.stack([d[:, 0] ** 2, d[:, 0] * d[:, 1], d[:, 1] ** 2], axis=1))
    det = square[:, 0] * square[:, 2] - square[:, 1] ** 2
    cross = per_face((x[:, :, None] * d[:, None, :]).reshape(-1, 6)).reshape(-1, 3, 2)
    good = np.isfinite(det) & (det > 1e-18 * np.maximum(square[:, 0] + square[:, 2], 1e-300) ** 2)
    ids = np.flatnonzero(good)
    back = np.stack([square[ids, 2], -square[ids, 1], -square[ids, 1], square[ids, 0]], axis=1).reshape(-1, 2, 2) / det[ids, None, None]
    jacobian = cross[ids] @ back
    values, ways = np.linalg.eigh(np.swapaxes(jacobian, 1, 2) @ jacobian)
    ratio = np.sqrt(np.maximum(values[:, 1], 0) / np.maximum(values[:, 0], 1e-300))
    keep = ratio > least
    ids, ratio, jacobian, way = ids[keep], ratio[keep], jacobian[keep], ways[keep][:, :, 1]
    size = np.sqrt(np.sqrt(np.maximum(det[ids], 0)) / mesh.sizes[ids] * 4)
    way = way * (0.4 * size * np.minimum(2.5 * (ratio - 1), 1.0))[:, None]
    lift = np.einsum("kij,kj->ki", jacobian, way)
    flat = way / (np.ones(2) if unit is None else (unit if unit.ndim == 1 else per_face(unit)[ids] / sizes[ids]))
    ends = np.array([-1.0, 1.0])[None, :, None]
    return Strokes(ids, spot[ids][:, None] + ends * flat[:, None], there[ids][:, None] + ends * lift[:, None], ratio)
