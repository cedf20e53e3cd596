"""Plane sections of a triangle mesh, as closed or open polylines."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.space.bvh import Bvh
from jacket.core.space.segments import inside_outline
from jacket.core.strokes.path import evened_ring, length_along, tangent_frames


@dataclass(frozen=True, eq=False)
class Section:
    """points (K, 3) in order; closed or cut off by a border."""

    points: Floats
    closed: bool

    @property
    def length(self) -> float:
        """Round the whole section."""
        ring = np.concatenate([self.points, self.points[:1]]) if self.closed else self.points
        return float(length_along(ring)[-1])


def plane_sections(points: Floats, triangles: Ints, place: Floats, normal: Floats) -> list[Section]:
    """All curves in which a plane cuts a surface. Points that lie in the plane count as above it, so every
    curve runs through edges only."""
    normal = np.asarray(normal, float) / np.linalg.norm(normal)
    where, starts = _cut(points, np.ascontiguousarray(triangles, np.int32), normal, float(np.dot(place, normal)))
    out = []
    for a, b, closed in starts:
        curve = where[a:b]
        # Neighbours at one spot come from edges that the plane touches at a point.
        far = np.linalg.norm(curve - np.roll(curve, 1, axis=0), axis=1)
        curve = curve[far > 1e-12 * max(float(np.ptp(curve, axis=0).max()), 1e-300)]
        if len(curve) >= (3 if closed else 2):
            out.append(Section(curve, bool(closed)))
    return out


@inline
def _height(points, p, normal, offset):
    return points[p, 0] * normal[0] + points[p, 1] * normal[1] + points[p, 2] * normal[2] - offset


@inline
def _crossing(points, p, q, normal, offset, out):
    """Where the plane cuts an edge."""
    a, b = _height(points, p, normal, offset), _height(points, q, normal, offset)
    t = a / (a - b)
    for d in range(3):
        out[d] = points[p, d] + t * (points[q, d] - points[p, d])


@kernel
def _cut(points, triangles, normal, offset):
    """Crossing places in order along all curves, and (start, end, closed) of each curve."""
    count = len(triangles)
    above = np.empty((count, 3), np.bool_)
    n = 0
    for t in range(count):
        for j in range(3):
            above[t, j] = _height(points, triangles[t, j], normal, offset) >= 0
        n += not (above[t, 0] == above[t, 1] and above[t, 1] == above[t, 2])
    enter = np.empty(n, np.int64)
    leave = np.empty(n, np.int64)
    k = 0
    for t in range(count):
        up = above[t]
        if up[0] == up[1] and up[1] == up[2]:
            continue
        for j in range(3):
            p, q = triangles[t, j], triangles[t, (j + 1) % 3]
            key = (np.int64(min(p, q)) << 32) | np.int64(max(p, q))
            if up[j] and not up[(j + 1) % 3]:
                enter[k] = key
            elif up[(j + 1) % 3] and not up[j]:
                leave[k] = key
        k += 1
    order = np.argsort(enter)
    ranked = enter[order]
    following = np.full(n, -1, np.int64)
    has_before = np.zeros(n, np.bool_)
    for k in range(n):
        at = np.searchsorted(ranked, leave[k])
        if at < n and ranked[at] == leave[k]:
            following[k] = order[at]
            has_before[order[at]] = True
    where = np.empty((n + n, 3))
    spans = np.empty((n + 1, 3), np.int64)
    seen = np.zeros(n, np.bool_)
    used, curves = 0, 0
    for turn in range(2):
        for first in range(n):
            if seen[first] or (turn == 0 and has_before[first]):
                continue
            begin = used
            k = first
            last = first
            while k >= 0 and not seen[k]:
                seen[k] = True
                key = enter[k]
                p, q = np.int64(key >> 32), np.int64(key & 0xFFFFFFFF)
                _crossing(points, p, q, normal, offset, where[used])
                used += 1
                last = k
                k = following[k]
            closed = k == first
            if not closed:
                key = leave[last]
                p, q = np.int64(key >> 32), np.int64(key & 0xFFFFFFFF)
                _crossing(points, p, q, normal, offset, where[used])
                used += 1
            spans[curves, 0], spans[curves, 1], spans[curves, 2] = begin, used, closed
            curves += 1
    return where[:used].copy(), spans[:curves].copy()


def surface_sections(surface: Bvh, place: Floats, normal: Floats) -> list[Section]:
    """`plane_sections` of a surface, looking only at triangles near the plane."""
    return plane_sections(surface.points, surface.triangles[surface.across_plane(place, normal)], place, normal)


def limb_section(
    surface: Bvh, middle: Floats, axis: Floats, normal: Floats, snap: float = np.radians(10.0), light: Bvh | None = None
) -> tuple[Section, Floats] | None:
    """The cross-section of a limb about a place inside it, and its plane's normal: of all planes about the place that
    hold the line along `axis` (3,), give or take an angle `snap`, the one whose section round the place is shortest,
    which on a limb cuts it square. `normal` (3,), across `axis`, is preferred where several are as short (as on a
    ball). The plane is looked for on `light`, a lighter copy of the surface where there is one. None where no plane
    meets a closed section.
    """
    found = _limb_plane(surface if light is None else light, middle, axis, normal, snap)
    if found is None or light is None or light is surface:
        return found
    section = _about(surface, middle, found[1])
    return None if section is None else (section, found[1])


def _limb_plane(
    surface: Bvh, middle: Floats, axis: Floats, normal: Floats, snap: float
) -> tuple[Section, Floats] | None:  # fmt: skip
    axis, normal = axis / np.linalg.norm(axis), normal / np.linalg.norm(normal)
    found = _shortest(surface, middle, normal, np.cross(axis, normal), np.radians(72.0), np.radians(24.0))
    if found is None:
        return None
    section, normal = found
    if snap > 0:
        section, normal = _shortest(surface, middle, normal, axis, snap, snap) or (section, normal)
        step = np.radians(4.0)
        return _shortest(surface, middle, normal, np.cross(axis, normal), step, step) or (section, normal)
    return section, normal


def _shortest(
    surface: Bvh, middle: Floats, normal: Floats, side: Floats, reach: float, step: float
) -> tuple[Section, Floats] | None:
    """Of the planes whose normal is turned towards `side` the one with the shortest section about a place: steps
    over ± reach, then the vertex of the parabola through the best and its neighbours."""
    known: dict[float, Section | None] = {}

    def cost(angle: float) -> float:
        if angle not in known:
            known[angle] = _about(surface, middle, normal * np.cos(angle) + side * np.sin(angle))
        section = known[angle]
        return np.inf if section is None else section.length * (1 + 1e-3 * abs(angle))

    count = round(reach / step)
    best = min((k * step for k in range(-count, count + 1)), key=lambda a: (cost(a), abs(a)))
    if not np.isfinite(cost(best)):
        return None
    low, here, high = cost(best - step), cost(best), cost(best + step)
    bend = low - 2 * here + high
    if np.isfinite(bend) and bend > 0:
        vertex = best + float(np.clip(0.5 * step * (low - high) / bend, -step, step))
        best = min((best, vertex), key=cost)
    section = known[best]
    assert section is not None
    return section, normal * np.cos(best) + side * np.sin(best)


def _about(surface: Bvh, middle: Floats, normal: Floats) -> Section | None:
    """The shortest closed section in a plane that goes round a place in it."""
    found = [s for s in closed_sections(surface_sections(surface, middle, normal)) if _goes_round(s, middle, normal)]
    return min(found, key=lambda s: s.length, default=None)


def _goes_round(section: Section, middle: Floats, normal: Floats) -> bool:
    """Whether a closed section turns about a place: the angles along it add up to a full turn."""
    arm = section.points - middle
    following = np.roll(arm, -1, axis=0)
    turn = np.arctan2(np.cross(arm, following) @ normal, (arm * following).sum(axis=1)).sum()
    return bool(abs(turn) > np.pi)


def forks(surface: Bvh, start: Floats, end: Floats, planes: int = 12) -> bool:
    """Whether a limb forks on the way between the middles of two of its rings: whether in two planes that follow one
    another two sections or more on one side lie within the outline of the one section on the other."""
    axis = end - start
    length = float(np.linalg.norm(axis))
    if length == 0:
        return False
    axis = axis / length
    across, ahead = tangent_frames(axis[None])
    frame = np.stack([across[0], ahead[0]], axis=1)
    rows: list[tuple[Floats, list[Floats]]] = []
    before: Floats | None = None
    for share in np.linspace(0.02, 0.98, planes):
        place = start + share * (end - start)
        found = closed_sections(surface_sections(surface, place, axis))
        main = min(found, key=lambda s: _off(s, place, before), default=None)
        if main is None:
            continue
        before = main.points.mean(axis=0)
        outline = main.points @ frame
        others = [s.points.mean(axis=0) @ frame for s in found if s is not main and s.length > 0.2 * main.length]
        # What lies within the main section itself is an inner shell, not a branch.
        rows.append((outline, [o for o in others if not inside_outline(outline, o[None])[0]]))
    return any(
        any(inside_outline(one, o[None])[0] for o in others)
        for k in range(len(rows) - 1)
        for one, others in ((rows[k + 1][0], rows[k][1]), (rows[k][0], rows[k + 1][1]))
    )


def _off(section: Section, place: Floats, before: Floats | None) -> float:
    middle = section.points.mean(axis=0)
    return float(np.linalg.norm(middle - (place if before is None else before)))


def closed_sections(sections: list[Section], most: float = 0.35) -> list[Section]:
    """Closed sections, and those that holes of the surface cut open: open pieces are joined end to nearest end and
    closed where the gaps make up at most the share `most` of the whole way round."""
    out = [s for s in sections if s.closed]
    pieces = [s.points for s in sections if not s.closed]
    while pieces:
        ring, crossed = pieces.pop(0), 0.0
        while True:
            gap = float(np.linalg.norm(ring[-1] - ring[0]))
            ways = [(float(np.linalg.norm(p[end] - ring[-1])), k, end) for k, p in enumerate(pieces) for end in (0, -1)]
            nearest = min(ways, default=(np.inf, -1, 0))
            if nearest[0] >= gap:
                break
            piece = pieces.pop(nearest[1])
            ring = np.concatenate([ring, piece if nearest[2] == 0 else piece[::-1]])
            crossed += nearest[0]
        whole = float(length_along(np.concatenate([ring, ring[:1]]))[-1])
        if len(ring) >= 3 and crossed + gap <= most * whole:
            out.append(Section(ring, True))
    return out


def nearest_section(sections: list[Section], place: Floats) -> Section | None:
    """The section that comes nearest to a place, closed ones before open ones at the same spot."""
    best, found = np.inf, None
    for section in sections:
        far = float(np.linalg.norm(section.points - place, axis=1).min())
        far += 0.0 if section.closed else 1e-9
        if far < best:
            best, found = far, section
    return found


def ring_points(section: Section, count: int, like: Floats | None = None) -> Floats:
    """(count, 3) places evenly round a closed section; turned and run so that they lie nearest to `like`
    (count, 3), a neighbouring ring, which keeps tubes from twisting."""
    ring = section.points
    if like is None or len(like) != count:
        return evened_ring(ring, count)
    best, found = np.inf, evened_ring(ring, count)
    along = length_along(np.concatenate([ring, ring[:1]]))
    for way in (ring, ring[::-1]):
        for k in range(count):
            # Begin where the ring is nearest to each of the neighbour's points in turn, moved by its middle.
            aim = like[k] - like.mean(axis=0) + ring.mean(axis=0)
            at = int(np.argmin(np.linalg.norm(way - aim, axis=1)))
            share = along[at] / along[-1] if way is ring else 1.0 - along[len(ring) - 1 - at] / along[-1]
            share = share if way is ring else _share(way, at)
            candidate = evened_ring(way, count, share - k / count)
            centred = candidate - candidate.mean(axis=0) - (like - like.mean(axis=0))
            off = float((centred**2).sum())
            if off < best:
                best, found = off, candidate
    return found


def _share(ring: Floats, index: int) -> float:
    along = length_along(np.concatenate([ring, ring[:1]]))
    return float(along[index] / along[-1])
