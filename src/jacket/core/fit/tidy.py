"""Tidying points: levelling, straightening, spacing, rounding, flattening, untangling. Each takes positions (V, 3) and
gives new ones; `surface`, where one is given, is where the moved points end."""

from __future__ import annotations

import numpy as np

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import evened, evened_ring, length_along
from jacket.core.strokes.section import surface_sections
from jacket.errors import EditRefused


def levelled(points: Floats, ids: Ints, axis: int, height: float, surface: Bvh | None = None) -> Floats:
    """Points brought to one height along an axis; on a surface they end on the curve in which the plane of that
    height cuts it, so that they are level and on it exactly. Raises EditRefused where the plane misses it."""
    out = points.copy()
    out[ids, axis] = height
    if surface is None:
        return out
    place, normal = np.zeros(3), np.zeros(3)
    place[axis], normal[axis] = height, 1.0
    sections = surface_sections(surface, place, normal)
    if not sections:
        raise EditRefused("The source has nothing at that height; pick another point to level to.")
    segments = np.concatenate([_pieces(s.points, s.closed) for s in sections])
    out[ids] = Bvh.of_segments(segments).project(points[ids])
    out[ids, axis] = height
    return out


def _pieces(path: Floats, closed: bool) -> Floats:
    ahead = np.roll(path, -1, axis=0) if closed else path[1:]
    return np.stack([path[: len(ahead)], ahead], axis=1)


def straightened(points: Floats, path: Ints, even: bool, surface: Bvh | None = None) -> Floats:
    """A path of points laid onto the straight line between its ends, keeping the shares of its length or evened."""
    if len(path) < 3:
        raise EditRefused("A path to straighten needs three points or more.")
    along = length_along(points[path])
    share = np.linspace(0, 1, len(path)) if even else along / max(float(along[-1]), 1e-300)
    out = points.copy()
    out[path] = points[path[0]] + share[:, None] * (points[path[-1]] - points[path[0]])
    inner = path[1:-1]
    if surface is not None:
        out[inner] = surface.project(out[inner])
    return out


def evened_path(points: Floats, path: Ints, closed: bool, surface: Bvh | None = None) -> Floats:
    """A path whose points are spread evenly along itself; its ends stay (of a closed one its first point)."""
    out = points.copy()
    line = points[path]
    out[path] = evened_ring(line, len(path)) if closed else evened(line, len(path))
    if surface is not None:
        out[path[1:]] = surface.project(out[path[1:]])
    return out


def loops_spaced(mesh: PolyMesh, edges: Ints, surface: Bvh | None = None) -> Floats:
    """Chosen loops spread evenly between the outermost of them: every row of points across them is evened along
    itself. Raises EditRefused where no three of the loops lie side by side."""
    chosen = np.zeros(mesh.topology.n_edges, bool)
    chosen[edges] = True
    on = np.zeros(mesh.n_points, bool)
    on[mesh.topology.edge_points[edges]] = True
    ends = mesh.topology.edge_points
    across = ends[~chosen & on[ends].all(axis=1)]
    near: dict[int, list[int]] = {}
    for a, b in across.tolist():
        near.setdefault(a, []).append(b)
        near.setdefault(b, []).append(a)
    out = mesh.points.copy()
    moved: list[int] = []
    seen: set[int] = set()
    for first in sorted(p for p, others in near.items() if len(others) == 1):
        if first in seen:
            continue
        rail = [first]
        while True:
            ahead = [q for q in near[rail[-1]] if q not in rail]
            if not ahead:
                break
            rail.append(ahead[0])
        seen.update(rail)
        if len(rail) > 2:
            out[rail] = evened(mesh.points[rail], len(rail))
            moved += rail[1:-1]
    if not moved:
        raise EditRefused("Hold three loops or more that lie side by side; the outer two stay where they are.")
    if surface is not None:
        ids = np.array(sorted(set(moved)))
        out[ids] = surface.project(out[ids])
    return out


def best_circle(places: Floats) -> tuple[Floats, Floats, float]:
    """(centre, unit normal, radius) of the circle nearest to places (N, 3): the plane of least squares, in it the
    algebraic fit (Kåsa 1976) refined by Gauss–Newton on the distances."""
    middle = places.mean(axis=0)
    _, _, axes = np.linalg.svd(places - middle, full_matrices=False)
    flat = (places - middle) @ axes[:2].T
    system = np.concatenate([2 * flat, np.ones((len(flat), 1))], axis=1)
    solution = np.linalg.lstsq(system, (flat**2).sum(axis=1), rcond=None)[0]
    centre, radius = solution[:2], float(np.sqrt(max(solution[2] + solution[:2] @ solution[:2], 0.0)))
    for _ in range(30):
        arm = flat - centre
        far = np.maximum(np.linalg.norm(arm, axis=1), 1e-300)
        jacobian = np.concatenate([-arm / far[:, None], -np.ones((len(flat), 1))], axis=1)
        step = np.linalg.lstsq(jacobian, -(far - radius), rcond=None)[0]
        centre, radius = centre + step[:2], radius + float(step[2])
        if np.abs(step).max() < 1e-14 * max(radius, 1e-300):
            break
    return middle + centre @ axes[:2], axes[2], radius


def rounded(points: Floats, ring: Ints, even: bool, surface: Bvh | None = None) -> Floats:
    """A closed ring of points laid onto its best circle, each in its own direction from the centre or evenly."""
    if len(ring) < 3:
        raise EditRefused("A ring to round needs three points or more.")
    centre, normal, radius = best_circle(points[ring])
    arm = points[ring] - centre
    arm -= np.outer(arm @ normal, normal)
    u = unit(arm[:1])[0]
    v = np.cross(normal, u)
    angle = np.unwrap(np.arctan2(arm @ v, arm @ u))
    if even:
        step = 2 * np.pi / len(ring) * (1 if angle[-1] >= angle[0] else -1)
        ideal = np.arange(len(ring)) * step
        angle = ideal + float(np.mean(angle - ideal))
    out = points.copy()
    out[ring] = centre + radius * (np.cos(angle)[:, None] * u + np.sin(angle)[:, None] * v)
    if surface is not None:
        out[ring] = surface.project(out[ring])
    return out


def best_plane(places: Floats) -> tuple[Floats, Floats]:
    """(place, unit normal) of the plane of least squares through places (N, 3)."""
    middle = places.mean(axis=0)
    return middle, np.linalg.svd(places - middle, full_matrices=False)[2][2]


def flattened(points: Floats, ids: Ints, place: Floats, normal: Floats) -> Floats:
    """Points laid onto a plane along its normal."""
    out = points.copy()
    out[ids] -= ((points[ids] - place) @ normal)[:, None] * normal
    return out


def made_planar(mesh: PolyMesh, faces: Ints, rounds: int = 200) -> Floats:
    """Positions with which the chosen faces come out flat: each face's corners go to its best plane, each point to
    the mean of what its faces want, over and over (Bouaziz et al., "Shape-Up", 2012). Points that other faces share
    move too."""
    points = mesh.points.copy()
    rings = [mesh.face(int(f)) for f in faces]
    used = np.unique(np.concatenate(rings)) if rings else np.zeros(0, int)
    by_size: dict[int, list[Ints]] = {}
    for ring in rings:
        if len(ring) > 3:
            by_size.setdefault(len(ring), []).append(ring)
    tables = [np.array(rows) for rows in by_size.values()]
    for _ in range(rounds):
        total, count = np.zeros_like(points), np.zeros(len(points))
        worst = 0.0
        for table in tables:
            corner = points[table]
            middle = corner.mean(axis=1, keepdims=True)
            normal = np.linalg.svd(corner - middle)[2][:, 2]
            off = ((corner - middle) * normal[:, None]).sum(axis=2)
            worst = max(worst, float(np.abs(off).max()))
            np.add.at(total, table, corner - off[..., None] * normal[:, None])
            np.add.at(count, table, 1)
        some = used[count[used] > 0]
        points[some] = total[some] / count[some, None]
        if worst < 1e-9 * mesh.diagonal:
            break
    return points


def out_of_plane(mesh: PolyMesh, faces: Ints) -> Floats:
    """(K,) how far the corners of each face lie from its best plane at most, in the mesh's units."""
    out = np.zeros(len(faces))
    for k, f in enumerate(np.asarray(faces).tolist()):
        corner = mesh.points[mesh.face(f)]
        if len(corner) > 3:
            place, normal = best_plane(corner)
            out[k] = float(np.abs((corner - place) @ normal).max())
    return out
