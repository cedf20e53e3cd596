"""Meshes that nobody would send on purpose and everybody sends in the end, made from formulas."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh


def ball(n: int = 16, m: int = 24) -> PolyMesh:
    """A closed ball of latitudes and longitudes, outward."""
    t = np.linspace(0, np.pi, n + 1)[1:-1]
    u = np.arange(m) * 2 * np.pi / m
    ring = np.stack([np.outer(np.sin(t), np.cos(u)), np.outer(np.sin(t), np.sin(u)), np.outer(np.cos(t), np.ones(m))], -1)
    points = np.concatenate([[[0.0, 0, 1]], ring.reshape(-1, 3), [[0.0, 0, -1]]])
    faces = [[0, 1 + j, 1 + (j + 1) % m] for j in range(m)]
    for i in range(n - 2):
        for j in range(m):
            a, b = 1 + i * m + j, 1 + i * m + (j + 1) % m
            faces += [[a, a + m, b], [b, a + m, b + m]]
    last = len(points) - 1
    faces += [[last, 1 + (n - 2) * m + (j + 1) % m, 1 + (n - 2) * m + j] for j in range(m)]
    return PolyMesh.from_faces(points, np.array(faces))


def _faces_of(mesh: PolyMesh) -> np.ndarray:
    return np.asarray(mesh.corners).reshape(-1, 3).copy()


def tetrahedron() -> PolyMesh:
    """Four points, four faces."""
    points = np.array([[1.0, 1, 1], [1, -1, -1], [-1, 1, -1], [-1, -1, 1]])
    return PolyMesh.from_faces(points, np.array([[0, 1, 2], [0, 3, 1], [0, 2, 3], [1, 3, 2]]))


def inside_out() -> PolyMesh:
    """A ball whose faces all look inwards."""
    return PolyMesh.from_faces(ball().points, _faces_of(ball())[:, ::-1])


def half_flipped() -> PolyMesh:
    """A ball of which every other face is turned over."""
    faces = _faces_of(ball())
    faces[::2] = faces[::2, ::-1]
    return PolyMesh.from_faces(ball().points, faces)


def slivers() -> PolyMesh:
    """A ball among whose edges a third carries a face of no width."""
    mesh = ball()
    faces = _faces_of(mesh)
    extra = [[a, b, a] for a, b, _ in faces[::3].tolist()]
    points = np.concatenate([mesh.points, 0.5 * (mesh.points[faces[::3, 0]] + mesh.points[faces[::3, 1]])])
    extra = [[a, len(mesh.points) + k, b] for k, (a, b, _) in enumerate(faces[::3].tolist())]
    return PolyMesh.from_faces(points, np.concatenate([faces, extra]))


def many_parts(count: int = 2000) -> PolyMesh:
    """Equal cubes side by side, apart."""
    cube = np.array([[x, y, z] for z in (0, 1) for y in (0, 1) for x in (0, 1)], float)
    quads = np.array([[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]])
    side = int(np.ceil(count ** (1 / 3)))
    at = np.array([[i % side, i // side % side, i // side**2] for i in range(count)]) * 2.0
    points = (cube[None] + at[:, None]).reshape(-1, 3)
    return PolyMesh.from_faces(points, (quads[None] + 8 * np.arange(count)[:, None, None]).reshape(-1, 4))


def one_place() -> PolyMesh:
    """All points of a ball in one place."""
    return ball().with_points(np.zeros_like(ball().points) + 3.0)


def nonmanifold() -> PolyMesh:
    """Three fins on one edge, and two balls that share a point."""
    mesh = ball()
    fins = np.array([[0.0, 0, 3], [0, 0, 4], [1, 0, 3], [-1, 1, 3], [-1, -1, 3]])
    k = mesh.n_points
    rows = [[k, k + 1, k + 2], [k, k + 1, k + 3], [k, k + 1, k + 4]]
    other = mesh.points + [0, 0, 2.0]
    points = np.concatenate([mesh.points, fins, other])
    twin = _faces_of(mesh) + k + 5
    twin[twin == k + 5 + len(other) - 1] = 0
    return PolyMesh.from_faces(points, np.concatenate([_faces_of(mesh), rows, twin]))


def noisy() -> PolyMesh:
    """A ball whose points are thrown about by a third of its radius."""
    mesh = ball()
    return mesh.with_points(mesh.points + np.random.default_rng(1).normal(size=mesh.points.shape) * 0.3)


def line_like() -> PolyMesh:
    """A strip a thousand times as long as wide."""
    x = np.linspace(0, 1000, 401)
    points = np.concatenate([np.stack([x, 0 * x, 0 * x], 1), np.stack([x, 0 * x + 1, 0 * x], 1)])
    n = len(x)
    return PolyMesh.from_faces(points, np.array([[k, k + 1, n + k + 1, n + k] for k in range(n - 1)]))


def single() -> PolyMesh:
    """One triangle."""
    return PolyMesh.from_faces(np.eye(3), np.array([[0, 1, 2]]))


def moebius(n: int = 60) -> PolyMesh:
    """A band with one side."""
    t = np.arange(n) * 2 * np.pi / n
    rows = []
    for w in (-0.3, 0.0, 0.3):
        r = 1 + w * np.cos(t / 2)
        rows.append(np.stack([r * np.cos(t), r * np.sin(t), w * np.sin(t / 2)], 1))
    points = np.concatenate(rows)
    quads = []
    for k in range(n):
        j = (k + 1) % n
        for s in range(2):
            a, b = s * n + k, (s + 1) * n + k
            c, d = ((s + 1) * n + j, s * n + j) if j else ((1 - s) * n, (2 - s) * n)
            quads.append([a, d, c, b])
    return PolyMesh.from_faces(points, np.array(quads))


def far_away() -> PolyMesh:
    """A ball a million units from the origin."""
    return ball().with_points(ball().points + [1e6, -1e6, 1e6])


def huge() -> PolyMesh:
    """A ball of 1e40 units."""
    return ball().with_points(ball().points * 1e40)


def tiny() -> PolyMesh:
    """A ball of 1e-40 units."""
    return ball().with_points(ball().points * 1e-40)


def repeated() -> PolyMesh:
    """A ball every face of which is there three times."""
    return PolyMesh.from_faces(ball().points, np.tile(_faces_of(ball()), (3, 1)))


def stray() -> PolyMesh:
    """A ball with one small face a thousand radii away."""
    far = np.array([[1000.0, 0, 0], [1000.01, 0, 0], [1000, 0.01, 0]])
    mesh = ball()
    return PolyMesh.from_faces(np.concatenate([mesh.points, far]),
                               np.concatenate([_faces_of(mesh), [[mesh.n_points + k for k in range(3)]]]))  # fmt: skip


def holed() -> PolyMesh:
    """A ball that lacks every seventh face."""
    faces = _faces_of(ball())
    return PolyMesh.from_faces(ball().points, faces[np.arange(len(faces)) % 7 != 0])


def shell() -> PolyMesh:
    """A ball in a ball a hair smaller, turned inwards: a thin wall."""
    mesh = ball()
    return PolyMesh.from_faces(np.concatenate([mesh.points, 0.99 * mesh.points]),
                               np.concatenate([_faces_of(mesh), _faces_of(mesh)[:, ::-1] + mesh.n_points]))  # fmt: skip


MESHES: dict[str, Callable[[], PolyMesh]] = {
    f.__name__: f
    for f in (ball, tetrahedron, inside_out, half_flipped, slivers, many_parts, one_place, nonmanifold, noisy, line_like,
              single, moebius, far_away, huge, tiny, repeated, stray, holed, shell)
}  # fmt: skip
