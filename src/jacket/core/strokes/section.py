"""Plane sections of a triangle mesh, as closed or open polylines."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.space.bvh import Bvh
from jacket.core.strokes.path import evened_ring, length_along


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
    height = points @ normal - float(np.dot(place, normal))
    where, ahead, starts = _cut(points, np.ascontiguousarray(triangles, np.int32), height)
    del ahead
    out = []
    for a, b, closed in starts:
        curve = where[a:b]
        # Neighbours at one spot come from edges that the plane touches at a point.
        far = np.linalg.norm(curve - np.roll(curve, 1, axis=0), axis=1)
        curve = curve[far > 1e-12 * max(float(np.ptp(curve, axis=0).max()), 1e-300)]
        if len(curve) >= (3 if closed else 2):
            out.append(Section(curve, bool(closed)))
    return out


@kernel
def _cut(points, triangles, height):
    """Crossing places in order along all curves, and (start, end, closed) of each curve."""
    n = 0
    for t in range(len(triangles)):
        a, b, c = height[triangles[t, 0]] >= 0, height[triangles[t, 1]] >= 0, height[triangles[t, 2]] >= 0
        n += not (a == b and b == c)
    enter = np.empty(n, np.int64)
    leave = np.empty(n, np.int64)
    k = 0
    for t in range(len(triangles)):
        up = height[triangles[t, 0]] >= 0, height[triangles[t, 1]] >= 0, height[triangles[t, 2]] >= 0
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
                t = height[p] / (height[p] - height[q])
                for d in range(3):
                    where[used, d] = points[p, d] + t * (points[q, d] - points[p, d])
                used += 1
                last = k
                k = following[k]
            closed = k == first
            if not closed:
                key = leave[last]
                p, q = np.int64(key >> 32), np.int64(key & 0xFFFFFFFF)
                t = height[p] / (height[p] - height[q])
                for d in range(3):
                    where[used, d] = points[p, d] + t * (points[q, d] - points[p, d])
                used += 1
            spans[curves, 0], spans[curves, 1], spans[curves, 2] = begin, used, closed
            curves += 1
    return where[:used].copy(), following, spans[:curves].copy()


def surface_sections(surface: Bvh, place: Floats, normal: Floats) -> list[Section]:
    """`plane_sections` of a surface, looking only at triangles near the plane."""
    triangles = surface.triangles[surface.across_plane(place, normal)]
    used, local = np.unique(triangles, return_inverse=True)
    return plane_sections(surface.points[used], local.reshape(-1, 3), place, normal)


def limb_section(surface: Bvh, middle: Floats, axis: Floats, normal: Floats) -> tuple[Section, Floats] | None:
    """The cross-section of a limb about a place inside it, and its plane's normal: of all planes through the line
    along `axis` (3,) the one whose section round the place is shortest, which on a limb cuts it square. `normal`
    (3,), across `axis`, is preferred where several are as short; None where no plane meets a closed section.
    """
    axis, normal = axis / np.linalg.norm(axis), normal / np.linalg.norm(normal)
    side = np.cross(axis, normal)
    best: tuple[float, float, Section] | None = None
    step = np.radians(12.0)
    angles = [k * step for k in range(-6, 7)]
    for _ in range(3):
        for angle in angles:
            section = _about(surface, middle, normal * np.cos(angle) + side * np.sin(angle))
            if section is None:
                continue
            score = section.length * (1 + 0.02 * abs(angle))
            if best is None or score < best[0]:
                best = (score, angle, section)
        if best is None:
            return None
        step /= 3
        angles = [best[1] - step, best[1] + step]
    assert best is not None
    return best[2], normal * np.cos(best[1]) + side * np.sin(best[1])


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
