"""Layers that no grid makes and everybody opens in the end, each kind drawn anew from a seed: split hulls whose every point is irregular,
single faces, open sheets, tubes, tori with a twist, shells that touch in a point, many parts or nothing at all."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from scipy.spatial import ConvexHull

from bench.odd_meshes import ball, half_flipped, many_parts, nonmanifold, slivers, tetrahedron
from jacket.core.mesh.pieces import put_side_by_side
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.subdivide import split_to_quads
from tests.core.rows.shapes import torus, tube


def split_hull(rng: np.random.Generator) -> PolyMesh:
    """Triangles over random places on a ball, each split in three quads."""
    places = rng.normal(size=(int(rng.integers(6, 40)), 3))
    places /= np.linalg.norm(places, axis=1)[:, None]
    hull = ConvexHull(places)
    used, local = np.unique(hull.simplices, return_inverse=True)
    faces = local.reshape(-1, 3)
    inwards = np.linalg.det(places[used][faces]) < 0
    return split_to_quads(PolyMesh.from_faces(places[used], np.where(inwards[:, None], faces[:, ::-1], faces)))


def _sizes(rng: np.random.Generator) -> tuple[int, int]:
    return int(rng.integers(3, 13)), int(rng.integers(3, 20))


def _sheet(rng: np.random.Generator) -> PolyMesh:
    m, n = int(rng.integers(1, 12)), int(rng.integers(1, 12))
    x, y = np.meshgrid(np.arange(m + 1.0), np.arange(n + 1.0))
    points = np.stack([x.ravel(), y.ravel(), rng.normal(0, 0.2, x.size)], 1)
    i, j = np.divmod(np.arange(m * n), m)
    a = i * (m + 1) + j
    faces = np.stack([a, a + 1, a + m + 2, a + m + 1], 1)
    return PolyMesh.from_faces(points, faces[rng.random(len(faces)) < 0.9] if len(faces) > 4 else faces)


KINDS: dict[str, Callable[[np.random.Generator], PolyMesh]] = {
    "split hull": split_hull,
    "tube": lambda rng: tube(*_sizes(rng)),
    "torus": lambda rng: torus(*_sizes(rng), int(rng.integers(0, 4))),
    "sheet with holes": _sheet,
    "triangles": lambda rng: ball(int(rng.integers(3, 12)), int(rng.integers(3, 16))),
    "one tetrahedron": lambda rng: tetrahedron(),
    "one face": lambda rng: PolyMesh.from_faces(rng.normal(size=(4, 3)), [[0, 1, 2, 3]]),
    "nothing": lambda rng: PolyMesh.empty(),
    "half flipped": lambda rng: half_flipped(),
    "slivers": lambda rng: slivers(),
    "non-manifold": lambda rng: nonmanifold(),
    "many parts": lambda rng: many_parts(30),
    "hull and tube": lambda rng: put_side_by_side([split_hull(rng), tube(*_sizes(rng))]),
    "quads": lambda rng: automatic_quads(ball(), AutoSettings(quads=int(rng.integers(60, 400)))).mesh,
    "flat": lambda rng: (lambda m: m.with_points(m.points * [1, 1, 0]))(_sheet(rng)),
    "tiny": lambda rng: (lambda m: m.with_points(m.points * 1e-7))(split_hull(rng)),
    "far away": lambda rng: (lambda m: m.with_points(m.points + 1e6))(split_hull(rng)),
}  # fmt: skip
