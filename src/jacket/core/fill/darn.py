"""Filling a closed border with quads.

A border of any even number of sides is filled as a grid between four corners that are chosen on it; regions of three,
five or six sides get one irregular point in the middle, from which a row of quads runs to the middle of each side
(midpoint subdivision: Li, McKeag and Armstrong, "Hexahedral meshing using midpoint subdivision and integer
programming", 1995). With c_i rows along the spoke of side i the side has c_(i−1) + c_(i+1) edges.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.mesh.geometry import unit
from jacket.core.mesh.joining import grid_faces
from jacket.core.mesh.polymesh import Floats
from jacket.errors import EditRefused


@dataclass(frozen=True, eq=False)
class Patch:
    """inner (K, 3) new points; faces over them: an index under n means a border point, n + k inner point k."""

    inner: Floats
    faces: list[list[int]]


def grid_corners(ring: Floats, wanted: int = 0) -> tuple[int, int]:
    """(offset, span): the best place of the first corner on a border (n, 3) of an even number of sides, and the
    number of edges to the second; the third and fourth lie half the border farther.

    Corners are liked where the border turns by about a right angle, and where sides across are of like length;
    `wanted` steps to the next best.
    """
    n = len(ring)
    if n < 4 or n % 2:
        raise EditRefused(odd_sentence(n))
    turn = corner_turns(ring)
    half = n // 2
    lengths = np.linalg.norm(np.roll(ring, -1, axis=0) - ring, axis=1)
    total = np.concatenate([[0.0], np.cumsum(np.tile(lengths, 2))])
    scores = []
    for span in range(1, half):
        for offset in range(half):
            at = [offset, offset + span, offset + half, (offset + half + span) % n]
            sides = [total[span + offset] - total[offset], total[offset + half] - total[offset + span],
                     total[offset + half + span] - total[offset + half], total[offset + n] - total[offset + half + span]]  # fmt: skip
            uneven = abs(sides[0] - sides[2]) / (sides[0] + sides[2]) + abs(sides[1] - sides[3]) / (sides[1] + sides[3])
            thin = 0.3 * max(0.0, 1.0 - min(sides) / (max(sides) + 1e-300) * 2.5)
            scores.append((float(sum(turn[a] for a in at)) - 0.8 * uneven - thin, offset, span))
    scores.sort(key=lambda s: (-round(s[0], 9), s[1], s[2]))
    _, offset, span = scores[wanted % len(scores)]
    return offset, span


def odd_sentence(n: int) -> str:
    """Why a border cannot be filled."""
    if n % 2:
        return f"This border has {n} edges; quads need an even number. Insert a row through one of its edges first."
    return f"A border of {n} edges is too small to be filled with quads."


def corner_turns(ring: Floats) -> Floats:
    """(n,) how much like a corner of a quad each border point is: 1 where it turns inward by a right angle, 0
    where it runs straight, less where it turns outward."""
    ahead, behind = unit(np.roll(ring, -1, axis=0) - ring), unit(ring - np.roll(ring, 1, axis=0))
    normal = unit(np.cross(ring - ring.mean(axis=0), np.roll(ring, -1, axis=0) - ring.mean(axis=0)).sum(axis=0)[None])[
        0
    ]
    sine = (np.cross(behind, ahead) * normal).sum(axis=1)
    cosine = (behind * ahead).sum(axis=1)
    angle = np.arctan2(sine, cosine)
    return 1.0 - np.abs(angle - np.pi / 2) / (np.pi / 2)


def grid_patch(ring: Floats, offset: int, span: int) -> Patch:
    """A grid between corners at `offset`, `offset` + `span` and half the border farther (transfinite
    interpolation: Gordon and Hall 1973)."""
    n = len(ring)
    if n < 4 or n % 2 or not 1 <= span < n // 2:
        raise EditRefused(odd_sentence(n))
    other = n // 2 - span
    at = [(offset + k) % n for k in range(n)]
    table = np.full((other + 1, span + 1), -1)
    table[0, :] = at[: span + 1]
    table[:, span] = at[span : span + other + 1]
    table[other, ::-1] = at[span + other : 2 * span + other + 1]
    table[::-1, 0] = [*at[2 * span + other :], at[0]]
    inner = n + np.arange((other - 1) * (span - 1)).reshape(other - 1, span - 1)
    table[1:-1, 1:-1] = inner
    places = _coons(ring[table[0]], ring[table[-1]], ring[table[:, 0]], ring[table[:, -1]])
    return Patch(places[1:-1, 1:-1].reshape(-1, 3), grid_faces(table))


def _coons(top: Floats, bottom: Floats, left: Floats, right: Floats) -> Floats:
    """(m, n, 3) places between four sides."""
    m, n = len(left), len(top)
    u, v = np.linspace(0, 1, n)[None, :, None], np.linspace(0, 1, m)[:, None, None]
    ruled = (1 - v) * top[None] + v * bottom[None] + (1 - u) * left[:, None] + u * right[:, None]
    corners = (1 - u) * (1 - v) * top[0] + u * (1 - v) * top[-1] + (1 - u) * v * bottom[0] + u * v * bottom[-1]
    return ruled - corners


def spoke_rows(sides: list[int]) -> list[int] | None:
    """Rows along the spoke of each side of a region of 3, 5 or 6 sides; None where they do not come out whole
    and positive. From l_i = c_(i−1) + c_(i+1)."""
    k = len(sides)
    if sum(sides) % 2:
        return None
    if k in (3, 5):
        # Stepping by two visits every side once: c at positions 0, 2, 4 … alternates in sign.
        order = [(1 + 2 * j) % k for j in range(k)]
        out = [0] * k
        # l at order[j] joins spokes order[j] − 1 and order[j] + 1, neighbours in the walk by twos.
        total = sum((-1) ** j * sides[order[j]] for j in range(k))
        if total % 2:
            return None
        out[0] = total // 2
        for j in range(k - 1):
            a, b = (order[j] - 1) % k, (order[j] + 1) % k
            out[b] = sides[order[j]] - out[a]
        return out if all(c >= 1 for c in out) else None
    if k == 6:
        out = [0] * 6
        for first in (0, 1):
            # Sides 0, 2, 4 tie spokes 1, 3, 5 (and the other way round), like a region of three sides.
            three = spoke_rows([sides[first], sides[(first + 2) % 6], sides[(first + 4) % 6]])
            if three is None:
                return None
            for j in range(3):
                # Side first + 2j joins spokes first + 2j − 1 and + 1; in the region of three, spokes j − 1 and j + 1.
                out[(first + 2 * j + 3) % 6] = three[j]
        good = all(sides[i] == out[i - 1] + out[(i + 1) % 6] for i in range(6))
        return out if good and all(c >= 1 for c in out) else None
    return None


def spoke_patch(ring: Floats, corners: list[int]) -> Patch:
    """Quads over a region of 3, 5 or 6 sides between border points `corners` (ascending), one irregular point in
    the middle. Raises EditRefused with the side that needs an edge more or less."""
    n, k = len(ring), len(corners)
    sides = [(corners[(i + 1) % k] - corners[i]) % n for i in range(k)]
    rows = spoke_rows(sides)
    if rows is None:
        raise EditRefused(_sides_sentence(sides))
    inner: list[Floats] = [ring.mean(axis=0)]
    centre = n
    spokes: list[list[int]] = []
    for i in range(k):
        middle = (corners[i] + rows[i - 1]) % n
        count = rows[i]
        ids = [middle]
        for j in range(1, count):
            inner.append(ring[middle] + (inner[0] - ring[middle]) * j / count)
            ids.append(n + len(inner) - 1)
        spokes.append([*ids, centre])
    faces: list[list[int]] = []
    for i in range(k):
        # The quad at corner i: along side i to its middle, in along its spoke, out along the spoke before.
        a, b = rows[i - 1], rows[i]
        top = [(corners[i] + j) % n for j in range(a + 1)]
        left = [(corners[i] - j) % n for j in range(b + 1)]
        right, bottom = spokes[i], spokes[i - 1]
        table = np.full((b + 1, a + 1), -1)
        table[0, :], table[:, 0], table[:, a], table[b, :] = top, left, right, bottom
        first = n + len(inner)
        table[1:-1, 1:-1] = first + np.arange((b - 1) * (a - 1)).reshape(b - 1, a - 1)
        known = np.concatenate([ring, np.array(inner)])
        places = _coons(known[table[0]], known[table[-1]], known[table[:, 0]], known[table[:, -1]])
        inner += list(places[1:-1, 1:-1].reshape(-1, 3))
        faces += grid_faces(table)
    return Patch(np.array(inner), faces)


def _sides_sentence(sides: list[int]) -> str:
    text = " + ".join(map(str, sides))
    if sum(sides) % 2:
        longest = int(np.argmax(sides)) + 1
        return f"Sides of {text} edges add up to an odd number; side {longest} needs one more."
    longest = int(np.argmax(sides)) + 1
    return f"Sides of {text} edges cannot meet in one point: side {longest} is too long beside the others."


def best_corners(ring: Floats, count: int) -> list[int]:
    """The `count` border points that look most like corners and lie apart, ascending, such that the region can be
    filled; raises EditRefused where none can."""
    n = len(ring)
    turn = corner_turns(ring)
    order = np.argsort(-turn, kind="stable")[: min(n, 12 + count)]
    best, found = -np.inf, None
    from itertools import combinations

    for some in combinations(sorted(order.tolist()), count):
        sides = [(some[(i + 1) % count] - some[i]) % n for i in range(count)]
        if min(sides) < 2 or spoke_rows(sides) is None:
            continue
        score = float(turn[list(some)].sum()) - 0.4 * float(np.std(sides)) / max(float(np.mean(sides)), 1e-9)
        if score > best:
            best, found = score, list(some)
    if found is None:
        raise EditRefused(f"No choice of {count} corners on this border comes out even; try another number of sides.")
    return found
