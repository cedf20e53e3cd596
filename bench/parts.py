"""Parts made from formulas, each hard for automatic quads in its own way. Ours; no licence needed."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh


def prism(outline: list[tuple[float, float]], height: float) -> PolyMesh:
    """A convex outline pulled up to a solid, as coarse as can be."""
    base = np.array(outline, float)
    n = len(base)
    points = np.concatenate([np.c_[base, np.zeros(n)], np.c_[base, np.full(n, height)]])
    faces: list[list[int]] = []
    for k in range(n):
        a, b = k, (k + 1) % n
        faces += [[a, b, b + n], [a, b + n, a + n]]
    for k in range(1, n - 1):
        faces += [[0, k + 1, k], [n, n + k, n + k + 1]]
    return PolyMesh.from_faces(points, faces)


def box(x: float = 2.0, y: float = 1.2, z: float = 0.8) -> PolyMesh:
    """Twelve triangles."""
    return prism([(0, 0), (x, 0), (x, y), (0, y)], z)


def wedge(degrees: float = 25.0) -> PolyMesh:
    """A prism over a triangle with one acute corner: three creases meet where two run at a small angle."""
    a = np.radians(degrees)
    return prism([(0, 0), (2, 0), (2 * float(np.cos(a)), 2 * float(np.sin(a)))], 1.0)


def star(points: int = 5) -> PolyMesh:
    """A flat star-shaped plate with acute tips, open all round."""
    angle = np.arange(2 * points) * np.pi / points
    reach = np.where(np.arange(2 * points) % 2 == 0, 1.0, 0.45)
    rim = np.c_[reach * np.cos(angle), reach * np.sin(angle), 0 * angle]
    rows = [[2 * points, k, (k + 1) % (2 * points)] for k in range(2 * points)]
    return PolyMesh.from_faces(np.concatenate([rim, [[0, 0, 0]]]), rows)


def plate(holes: int = 2, n: int = 60) -> PolyMesh:
    """A flat open plate with round holes."""
    x, y = np.meshgrid(np.linspace(0, 2, 2 * n + 1), np.linspace(0, 1, n + 1), indexing="ij")
    points = np.stack([x, y, 0 * x], axis=2).reshape(-1, 3)
    i, j = np.meshgrid(np.arange(2 * n), np.arange(n), indexing="ij")
    a = (i * (n + 1) + j).ravel()
    rows = np.concatenate([np.c_[a, a + n + 1, a + n + 2], np.c_[a, a + n + 2, a + 1]])
    centre = points[rows].mean(axis=1)
    keep = np.ones(len(rows), bool)
    for k in range(holes):
        keep &= np.hypot(centre[:, 0] - (0.5 + k), centre[:, 1] - 0.5) > 0.22
    used, local = np.unique(rows[keep], return_inverse=True)
    mesh = PolyMesh.from_faces(points[used], local.reshape(-1, 3))
    points = mesh.points.copy()
    for k in range(holes):
        middle = np.array([0.5 + k, 0.5, 0.0])
        away = points - middle
        reach = np.linalg.norm(away, axis=1)
        rim = mesh.topology.border_points & (reach < 0.3)
        points[rim] = middle + 0.22 * away[rim] / reach[rim, None]
    return mesh.with_points(points)


def tube(caps: bool = True, around: int = 48, along: int = 40, radius: float = 0.5, length: float = 2.0) -> PolyMesh:
    """A cylinder, shut or open at its ends."""
    t = np.arange(around) * 2 * np.pi / around
    z = np.linspace(0, length, along)
    points = np.stack([np.c_[radius * np.cos(t), radius * np.sin(t), np.full(around, h)] for h in z]).reshape(-1, 3)
    rows = []
    for k in range(along - 1):
        for i in range(around):
            a, b = k * around + i, k * around + (i + 1) % around
            rows += [[a, b, b + around], [a, b + around, a + around]]
    if caps:
        n = len(points)
        points = np.concatenate([points, [[0, 0, 0], [0, 0, length]]])
        last = (along - 1) * around
        for i in range(around):
            j = (i + 1) % around
            rows += [[n, j, i], [n + 1, last + i, last + j]]
    return PolyMesh.from_faces(points, rows)


def revolved(profile: np.ndarray, around: int) -> PolyMesh:
    """A closed profile (K, 2) of radius and height turned round the axis: a ring-shaped body."""
    t = np.arange(around) * 2 * np.pi / around
    points = np.stack([np.c_[profile[:, 0] * np.cos(a), profile[:, 0] * np.sin(a), profile[:, 1]] for a in t])
    k = len(profile)
    rows = []
    for i in range(around):
        for j in range(k):
            a, b = i * k + j, i * k + (j + 1) % k
            c, d = ((i + 1) % around) * k + j, ((i + 1) % around) * k + (j + 1) % k
            rows += [[a, c, d], [a, d, b]]
    return PolyMesh.from_faces(points.reshape(-1, 3), rows)


def torus(large: float = 1.0, small: float = 0.4, around: int = 72, along: int = 36) -> PolyMesh:
    """The usual ring."""
    t = np.arange(along) * 2 * np.pi / along
    return revolved(np.c_[large + small * np.cos(t), small * np.sin(t)], around)


def shell(thick: float = 0.02) -> PolyMesh:
    """A thin-walled cup, pierced at the bottom: inside and outside lie a hundredth of its size apart."""
    t = np.linspace(0.15, 0.5 * np.pi, 40)
    outer = np.c_[np.sin(t), -np.cos(t)]
    inner = np.c_[(1 - thick) * np.sin(t), -(1 - thick) * np.cos(t)]
    return revolved(np.concatenate([outer, inner[::-1]]), 96)


def urchin(spikes: int = 12, n: int = 5) -> PolyMesh:
    """A ball with long thin spikes."""
    from jacket.core.quads.base import _halved_edges

    g = (1 + 5**0.5) / 2
    points = np.array([[0, s, t * g] for s in (-1, 1) for t in (-1, 1)], float)
    points = np.concatenate([points, points[:, [1, 2, 0]], points[:, [2, 0, 1]]])
    points /= np.linalg.norm(points[0])
    from scipy.spatial import ConvexHull

    tri = ConvexHull(points).simplices
    way = np.einsum("ij,ij->i", np.cross(points[tri[:, 1]] - points[tri[:, 0]], points[tri[:, 2]] - points[tri[:, 0]]),
                    points[tri].mean(axis=1))  # fmt: skip
    tri = np.where((way < 0)[:, None], tri[:, ::-1], tri).astype(np.int32)
    tips = points[:spikes].copy()
    for _ in range(n):
        points, tri = _halved_edges(points, tri)
        points /= np.linalg.norm(points, axis=1)[:, None]
    near = np.arccos(np.clip(points @ tips.T, -1, 1)).min(axis=1)
    return PolyMesh.from_faces(points * (1 + 1.4 * np.exp(-((near / 0.16) ** 2)))[:, None], tri)


def parts() -> dict[str, PolyMesh]:
    """Every part by name."""
    return {
        "box, 12 triangles": box(), "wedge of 25°": wedge(25.0), "wedge of 12°": wedge(12.0), "star plate, open": star(),
        "plate with two holes": plate(), "tube with caps": tube(), "tube, open": tube(caps=False), "torus": torus(),
        "thin cup": shell(), "urchin of twelve spikes": urchin(),
    }  # fmt: skip
