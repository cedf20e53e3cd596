"""First flat positions: conformal with a free border, or convex and surely without flips."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from jacket.core.flatten.pattern import Pattern, pattern_of
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.solve.cholesky import Factor
from jacket.core.uv.chart import Chart
from jacket.errors import SolveError


def conformal(chart: Chart) -> Floats:
    """(V, 2) least-squares conformal map with two border points held far apart.

    Lévy, Petitjean, Ray and Maillot, "Least squares conformal maps for automatic texture atlas
    generation" (2002), as Dirichlet energy minus area. Raises SolveError where it has no answer.
    """
    n, pattern = chart.mesh.n_points, pattern_of(chart)
    a, b = _far_pair(chart)
    held = np.array([2 * a, 2 * a + 1, 2 * b, 2 * b + 1])
    far = float(np.linalg.norm(chart.mesh.points[a] - chart.mesh.points[b])) or 1.0
    values = pattern.values(_conformal_parts(pattern))
    mean, right = float(values[pattern.diagonal].mean()), np.zeros(2 * n)
    values[pattern.diagonal] += 1e-10 * mean
    # Held by their weight, so that the pattern is that of all steps that follow.
    values[pattern.diagonal[held]] += HEAVY * mean
    right[held] = HEAVY * mean * np.array([0.0, 0.0, far, 0.0])
    out = Factor(pattern.matrix(values), True, pattern.plan).solve(right)
    if not np.isfinite(out).all():
        raise SolveError("The island could not be laid flat; look for faces without area in it.")
    return scaled_to_area(chart, out.reshape(n, 2))


HEAVY = 1e9
"""How much more than others the two held points weigh."""


def _conformal_parts(pattern: Pattern) -> Floats:
    """(T, 6, 6) of each triangle Dirichlet energy less twice the signed area of its image, a quadratic form over its border."""
    gradients = corner_gradients(pattern.inverse)
    local = np.einsum("tik,tjk,t->tij", gradients, gradients, pattern.area)
    parts = np.zeros((len(local), 6, 6))
    parts[:, ::2, ::2] = parts[:, 1::2, 1::2] = local
    # The determinant is half of the reciprocal of a triangle's area.
    w = pattern.area * pattern.inverse[:, 0, 0] * pattern.inverse[:, 1, 1]
    for i, j in ((0, 1), (1, 2), (2, 0)):
        for row, column, sign in ((2 * i, 2 * j + 1, -1), (2 * j, 2 * i + 1, 1)):
            parts[:, row, column] += sign * w
            parts[:, column, row] += sign * w
    return parts


def corner_gradients(inverse: Floats) -> Floats:
    """(T, 3, 2) gradients of the corner hat functions in each rest shape."""
    ahead = np.stack([inverse[:, 0, :], inverse[:, 1, :]], axis=1)
    return np.concatenate([-ahead.sum(axis=1, keepdims=True), ahead], axis=1)


def _far_pair(chart: Chart) -> tuple[int, int]:
    """Two border points far apart: the farthest from the farthest."""
    points = chart.mesh.points
    ring = np.concatenate(chart.border) if chart.border else np.arange(len(points))
    a = ring[int(np.argmax(np.linalg.norm(points[ring] - points[ring].mean(axis=0), axis=1)))]
    b = ring[int(np.argmax(np.linalg.norm(points[ring] - points[a], axis=1)))]
    if a == b:
        raise SolveError("The island has no extent; remove faces without area.")
    return int(a), int(b)


def convex(chart: Chart) -> Floats:
    """(V, 2) Tutte map to a circle with mean value weights: never a flip on a disk.

    Tutte 1963; Floater, "Mean value coordinates" (2003). Further borders are closed with one
    extra point each for the solve.
    """
    loops = sorted(chart.border, key=lambda loop: -_length(chart.mesh.points[loop]))
    outer = loops[0]
    n = chart.mesh.n_points
    tri = chart.mesh.triangle_points
    points = chart.mesh.points
    for k, loop in enumerate(loops[1:]):
        points = np.concatenate([points, points[loop].mean(axis=0, keepdims=True)])
        cap = np.stack([loop, np.full(len(loop), n + k), np.roll(loop, -1)], axis=1)
        tri = np.concatenate([tri, cap]).astype(np.int32)
    return _laid_on_circle(chart, points, _mean_value_weights(points, tri), outer)


def convex_faces(chart: Chart) -> Floats:
    """(V, 2) the map to a circle in which every point is a mean of those it shares an edge with: faces of any number of
    corners come out convex where the mesh is three-connected, so that no diagonal of theirs is turned over.

    Tutte, "How to draw a graph" (1963). Border loops other than the longest become faces like others.
    """
    outer = max(chart.border, key=lambda loop: _length(chart.mesh.points[loop]))
    a, b = chart.mesh.topology.edge_points.T
    length = np.linalg.norm(chart.mesh.points[a] - chart.mesh.points[b], axis=1)
    weight = 1.0 / np.maximum(length, 0.05 * float(length.mean()) + 1e-300)
    n = chart.mesh.n_points
    half = sparse.csr_array((weight, (a, b)), shape=(n, n))
    return _laid_on_circle(chart, chart.mesh.points, (half + half.T).tocsr(), outer)


def _laid_on_circle(chart: Chart, points: Floats, weights: sparse.csr_array, outer: Ints) -> Floats:
    """(V, 2) one border on a circle, all other points (P, 3) at the mean of their neighbours by weights (P, P)."""
    n = chart.mesh.n_points
    total = np.asarray(weights.sum(axis=1)).ravel()
    matrix = sparse.diags_array(total) - weights
    place = _on_circle(chart.mesh.points[outer])
    free = np.setdiff1d(np.arange(len(points)), outer)
    out = np.zeros((len(points), 2))
    out[outer] = place
    if len(free):
        inner = matrix.tocsr()[free][:, free].tocsc()
        right = -(matrix.tocsr()[free][:, outer] @ place)
        # Mean value weights are not symmetric, so this one solve is by LU.
        from scipy.sparse.linalg import splu

        try:
            out[free] = splu(inner).solve(right)
        except RuntimeError as error:
            raise SolveError("The island could not be laid flat; look for loose points in it.") from error
    return scaled_to_area(chart, out[:n])


def _mean_value_weights(points: Floats, tri: Ints) -> sparse.csr_array:
    corner = points[tri]
    rows, columns, values = [], [], []
    for k in range(3):
        i, j, l = tri[:, k], tri[:, (k + 1) % 3], tri[:, (k + 2) % 3]
        a, b = corner[:, (k + 1) % 3] - corner[:, k], corner[:, (k + 2) % 3] - corner[:, k]
        la, lb = np.linalg.norm(a, axis=1), np.linalg.norm(b, axis=1)
        cosine = np.einsum("ij,ij->i", a, b) / np.maximum(la * lb, 1e-300)
        angle = np.arccos(np.clip(cosine, -1 + 1e-9, 1 - 1e-9))
        half = np.tan(angle / 2)
        rows += [i, i]
        columns += [j, l]
        values += [half / np.maximum(la, 1e-300), half / np.maximum(lb, 1e-300)]
    n = len(points)
    data = np.concatenate(values)
    data = np.clip(data, np.median(data) * 1e-6, np.median(data) * 1e6)
    return sparse.coo_array((data, (np.concatenate(rows), np.concatenate(columns))), shape=(n, n)).tocsr()


def _length(loop: Floats) -> float:
    return float(np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1).sum())


def _on_circle(loop: Floats) -> Floats:
    step = np.linalg.norm(np.roll(loop, -1, axis=0) - loop, axis=1)
    step = np.maximum(step, max(step.mean() * 1e-3, 1e-300))
    angle = 2 * np.pi * np.concatenate([[0], np.cumsum(step)[:-1]]) / step.sum()
    return np.stack([np.cos(angle), np.sin(angle)], axis=1)


def signed_areas(uv: Floats, triangles: NDArray[np.signedinteger]) -> Floats:
    """(T,) signed areas of flat triangles."""
    a, b, c = (uv[triangles[:, k]] for k in range(3))
    return 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])


def scaled_to_area(chart: Chart, uv: Floats) -> Floats:
    """Flat positions about the origin, scaled so that flat and surface area are the same."""
    flat = float((np.abs(signed_areas(uv, chart.triangles)) * chart.weights).sum())
    scale = np.sqrt(chart.area / flat) if flat > 0 else 1.0
    return (uv - uv.mean(axis=0)) * scale
