"""Forms with known answers for baking."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh


def grid(n: int, size: float = 2.0) -> tuple[np.ndarray, np.ndarray]:
    """Points and quads of a flat square about the origin, facing Z."""
    x = np.linspace(-size / 2, size / 2, n + 1)
    u, v = np.meshgrid(x, x)
    points = np.stack([u.ravel(), v.ravel(), np.zeros(u.size)], axis=1)
    k = np.arange(n * n)
    a = k // n * (n + 1) + k % n
    return points, np.stack([a, a + 1, a + n + 2, a + n + 1], axis=1)


def mapped_grid(n: int, size: float = 2.0, room: float = 0.1) -> PolyMesh:
    """The flat square with UVs that leave some room at the sheet's edge."""
    points, quads = grid(n, size)
    mesh = PolyMesh.from_faces(points, quads)
    uv = (points[:, :2] / size + 0.5) * (1 - 2 * room) + room
    return mesh.with_uv(uv[mesh.corners])


def boxed(n: int, round_: bool) -> PolyMesh:
    """A cube of n × n quads a side, or the same blown up to the unit ball; six islands, three by two."""
    flat, quads = grid(n)
    flat[:, 2] = 1.0
    turns = [np.eye(3)[[0, 1, 2]], np.diag([-1, 1, -1.0]), np.array([[0, 0, 1], [0, 1, 0], [-1, 0, 0.0]]),
             np.array([[0, 0, -1], [0, 1, 0], [1, 0, 0.0]]), np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]),
             np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0.0]])]  # fmt: skip
    points = np.concatenate([flat @ t.T for t in turns])
    faces = np.concatenate([quads + k * len(flat) for k in range(6)])
    uv = []
    for k in range(6):
        place = (flat[:, :2] / 2 + 0.5) * 0.28 + np.array([0.025 + 0.325 * (k % 3), 0.05 + 0.45 * (k // 3)])
        uv.append(place[quads])
    _, first, same = np.unique(np.round(points, 9), axis=0, return_index=True, return_inverse=True)
    points = points[first]
    if round_:
        points = points / np.linalg.norm(points, axis=1, keepdims=True)
    return PolyMesh.from_faces(points, same.ravel()[faces]).with_uv(np.concatenate(uv).reshape(-1, 2))


def ball(n: int, radius: float = 1.0) -> PolyMesh:
    """A ball as triangles: the blown-up cube."""
    mesh = boxed(n, True)
    return PolyMesh.from_faces(mesh.points * radius, np.asarray(mesh.triangle_points))


def torus(big: float, small: float, n: int, m: int) -> PolyMesh:
    """A torus of n × m quads around Z."""
    u, v = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.arange(m) * 2 * np.pi / m, indexing="ij")
    r = big + small * np.cos(v)
    points = np.stack([r * np.cos(u), r * np.sin(u), small * np.sin(v)], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(n), np.arange(m), indexing="ij")
    a, b = (i * m + j).ravel(), ((i + 1) % n * m + j).ravel()
    c, d = ((i + 1) % n * m + (j + 1) % m).ravel(), (i * m + (j + 1) % m).ravel()
    return PolyMesh.from_faces(points, np.stack([a, b, c, d], axis=1))


def tube(radius: float, n: int, m: int, height: float = 4.0) -> PolyMesh:
    """An open tube of n × m quads around Z."""
    u, z = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(-height / 2, height / 2, m + 1), indexing="ij")
    points = np.stack([radius * np.cos(u), radius * np.sin(u), z], axis=-1).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(n), np.arange(m), indexing="ij")
    a, b = (i * (m + 1) + j).ravel(), ((i + 1) % n * (m + 1) + j).ravel()
    return PolyMesh.from_faces(points, np.stack([a, b, b + 1, a + 1], axis=1))
