"""Grids of quads laid as grids: every row and column straight, as wide and high as they are on the surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from jacket.core.flatten.descent import Descent, Held
from jacket.core.flatten.editing import stretch_of
from jacket.core.flatten.overlap import border_crosses
from jacket.core.jit import kernel
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import Floats, Ints
from jacket.core.uv.chart import Chart
from jacket.errors import EditRefused

WAYS = (("whole", "rows and columns"), ("rows", "rows only"), ("border", "the border only"))
"""What of a grid is made straight."""


@dataclass(frozen=True, eq=False)
class Squared:
    """A grid laid straight: (V', 2) places in the surface's scale, its stretch, and how many columns and rows it has."""

    uv: Floats
    stretch: float
    columns: int
    rows: int


def grid_places(chart: Chart) -> Ints:
    """(V', 2) column and row of each point of an island of quads. Raises EditRefused where rows do not run through it, or run
    into themselves."""
    mesh = chart.mesh
    if not mesh.is_quads:
        raise EditRefused("Only islands of quads can be squared up; this one has other faces.")
    topology = mesh.topology
    inner = ~topology.border_points
    if (topology.valence[inner] != 4).any():
        count = int((topology.valence[inner] != 4).sum())
        raise EditRefused(f"{count} pole{'s lie' if count > 1 else ' lies'} inside this island, so its rows do not run through; "
                          "cut through there, or straighten held edges.")  # fmt: skip
    places, sound = _walked(mesh.corners, topology.next, topology.twin, mesh.face_of_corner, mesh.n_points)
    if not sound:
        raise EditRefused("The rows of this island run into themselves; cut it once more, across a row.")
    if len(np.unique(places, axis=0)) < len(places):
        raise EditRefused("Laid as a grid this island would lie over itself; cut it in two first.")
    return np.asarray(places - places.min(axis=0))


@kernel
def _walked(corners, following, twin, face, n_points):
    n_faces = len(corners) // 4
    at = np.zeros((n_points, 2), np.int64)
    known = np.zeros(n_points, np.bool_)
    done = np.zeros(n_faces, np.bool_)
    own = np.zeros((len(corners), 2), np.int64)
    stack = np.empty(n_faces, np.int64)
    own[1, 0], own[2, 0], own[2, 1], own[3, 1] = 1, 1, 1, 1
    done[0] = True
    stack[0] = 0
    top, sound = 1, True
    while top > 0:
        top -= 1
        f = stack[top]
        for k in range(4):
            c = 4 * f + k
            p = corners[c]
            if known[p]:
                sound = sound and at[p, 0] == own[c, 0] and at[p, 1] == own[c, 1]
            else:
                known[p] = True
                at[p] = own[c]
            t = twin[c]
            if t < 0:
                continue
            # The far side runs the other way: its first point is the end of this half-edge.
            d = c + 1 if k < 3 else c - 3
            a, b = own[d], own[c]
            x, y = b[0] - a[0], b[1] - a[1]
            second = following[t]
            third = following[second]
            fourth = following[third]
            g = face[t]
            if done[g]:
                sound = sound and own[t, 0] == a[0] and own[t, 1] == a[1] and own[second, 0] == b[0] and own[second, 1] == b[1]
                continue
            done[g] = True
            own[t], own[second] = a, b
            own[third, 0], own[third, 1] = b[0] - y, b[1] + x
            own[fourth, 0], own[fourth, 1] = a[0] - y, a[1] + x
            stack[top] = g
            top += 1
    return at, sound


def squared_up(chart: Chart, way: str = "whole") -> Squared:
    """An island of quads laid as a grid: columns and rows as wide and high as the mean of their edges on the surface; or only
    its rows, or its border, straight and the rest as true as that leaves it. Raises EditRefused as `grid_places` does."""
    at = grid_places(chart)
    ends = chart.mesh.topology.edge_points
    length = edge_lengths(chart.mesh)
    steps = at[ends]
    lines = []
    for axis in range(2):
        along = steps[:, 0, axis] != steps[:, 1, axis]
        first = steps[along][:, :, axis].min(axis=1)
        count = int(at[:, axis].max())
        total, number = np.bincount(first, length[along], count), np.bincount(first, minlength=count)
        lines.append(np.concatenate([[0.0], np.cumsum(total / np.maximum(number, 1))]))
    uv = np.stack([lines[0][at[:, 0]], lines[1][at[:, 1]]], axis=1)
    if way != "whole":
        uv = _eased(chart, uv, at, way)
    if border_crosses(chart, uv):
        raise EditRefused("Laid as a grid this island would lie over itself; cut it in two first.")
    return Squared(uv, stretch_of(chart, uv), len(lines[0]) - 1, len(lines[1]) - 1)


def _eased(chart: Chart, uv: Floats, at: Ints, way: str) -> Floats:
    """The grid with what need not be straight as true as it can be."""
    n = len(uv)
    number = np.arange(2 * n)
    border = chart.mesh.topology.border_points
    if way == "rows":
        number[1::2] = 2 * n + at[:, 1]
    else:
        # Sides of the outline: points in one line of the grid that border edges join.
        ends = chart.mesh.topology.edge_points[chart.mesh.topology.border_edges]
        for axis in range(2):
            row = number[axis::2].copy()
            for a, b in ends[at[ends[:, 0], axis] == at[ends[:, 1], axis]].tolist():
                low, high = sorted((int(row[a]), int(row[b])))
                row[row == high] = low
            number[axis::2] = np.where(border, row, number[axis::2])
    descent = Descent(chart, uv, Held(np.zeros(n, bool), alike=number))
    descent.run(30, False, 1e-6)
    return descent.uv
