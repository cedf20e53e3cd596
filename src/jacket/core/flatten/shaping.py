"""Shapes given to islands: squares, straight edges, round loops; the rest of the island follows with least stretch."""

from __future__ import annotations

import numpy as np

from jacket.core.flatten.carrying import carried
from jacket.core.flatten.editing import Laying
from jacket.core.flatten.squares import Squared, squared_up
from jacket.core.mesh.choosing import edge_paths
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.uv.chart import Chart
from jacket.core.uv.islands import Islands
from jacket.errors import EditRefused

DIRECTIONS = (("own", "along itself"), ("across", "across the sheet"), ("down", "down the sheet"))
SPACINGS = (("kept", "spacing as it is"), ("even", "evenly spaced"), ("surface", "spaced as on the form"))


def squared(mesh: PolyMesh, islands: Islands, island: int, way: str) -> tuple[Floats, Squared]:
    """The coordinates (C, 2) with an island of quads laid as a grid where it lay, at the quarter turn nearest to how it lay.
    Raises EditRefused where it is no grid or not mapped."""
    laying = Laying.of(mesh, islands, island)
    result = squared_up(laying.chart, way)
    new, old = result.uv @ [1, 1j], laying.uv @ [1, 1j]
    new, middle = new - new.mean(), old.mean()
    turns = [new * 1j**k for k in range(4)]
    best = min(turns, key=lambda t: float((np.abs(t + middle - old) ** 2).sum())) + middle
    places = np.stack([best.real, best.imag], axis=1)
    return laying.put(islands.uv, places, np.ones(len(places), bool)), result


def straightened(
    mesh: PolyMesh, islands: Islands, edges: Ints, direction: str = "own", spacing: str = "kept"
) -> tuple[Floats, float]:
    """The coordinates with each chain of edges laid straight, and the least share of the way that was reached before a face
    would have turned over. Raises EditRefused where no chain lies on a mapped island."""

    def line(laying: Laying, path: Ints, closed: bool) -> tuple[Ints, Floats]:
        if closed:
            raise EditRefused("A closed loop cannot be laid straight; let go of one of its edges, or round it.")
        at = laying.uv[path]
        middle = at.mean(axis=0)
        if direction == "own":
            way = np.linalg.svd(at - middle, full_matrices=False)[2][0]
        else:
            way = np.array([1.0, 0.0]) if direction == "across" else np.array([0.0, 1.0])
        if (at[-1] - at[0]) @ way < 0:
            way = -way
        along = (at - middle) @ way
        steps = _steps(laying.chart, path, closed)
        if spacing == "even":
            along = np.linspace(along[0], along[-1], len(path))
        elif spacing == "surface":
            along = np.concatenate([[0.0], np.cumsum(steps)])
            along -= along.mean()
        else:
            # In order, even where they had run back.
            along = np.maximum.accumulate(along)
            along += np.linspace(0, 1e-6 * float(steps.sum()), len(path))
        return path, middle + along[:, None] * way

    return _shaped(mesh, islands, edges, line)


def rounded(mesh: PolyMesh, islands: Islands, edges: Ints) -> tuple[Floats, float]:
    """The coordinates with each closed loop of edges laid as a circle as long as it is on the form, its points spaced as
    there; and the share of the way reached. Raises EditRefused where a chain is not closed."""

    def circle(laying: Laying, path: Ints, closed: bool) -> tuple[Ints, Floats]:
        if not closed:
            raise EditRefused("Only a closed loop can be made round; hold a whole loop of edges.")
        at, steps = laying.uv[path], _steps(laying.chart, path, closed)
        total = float(steps.sum())
        angle = 2 * np.pi * np.concatenate([[0.0], np.cumsum(steps[:-1])]) / max(total, 1e-300)
        middle = at.mean(axis=0)
        out, ahead = at - middle, np.roll(at, -1, axis=0) - middle
        spin = float(np.sign((out[:, 0] * ahead[:, 1] - out[:, 1] * ahead[:, 0]).sum())) or 1.0
        unit = np.exp(1j * spin * angle)
        turn = (unit.conj() * ((at - middle) @ [1, 1j])).sum()
        round_ = unit * (turn / abs(turn) if abs(turn) > 0 else 1.0) * total / (2 * np.pi)
        return path, middle + np.stack([round_.real, round_.imag], axis=1)

    return _shaped(mesh, islands, edges, circle)


def _steps(chart: Chart, path: Ints, closed: bool) -> Floats:
    """Lengths on the surface between points of a path, the way back to the first one too where it is closed."""
    at = chart.mesh.points[path]
    following = np.roll(at, -1, axis=0) if closed else at[1:]
    return np.asarray(np.linalg.norm(following - (at if closed else at[:-1]), axis=1))


def _shaped(mesh: PolyMesh, islands: Islands, edges: Ints, shape) -> tuple[Floats, float]:  # type: ignore[no-untyped-def]
    """Every island on which some of the edges lie, its chains carried to where `shape(laying, path, closed)` wants them."""
    uv, reached, done = islands.uv, 1.0, 0
    flags = np.zeros(mesh.topology.n_edges, bool)
    flags[edges] = True
    for island in np.unique(islands.labels[mesh.face_of_corner[flags[mesh.topology.edge]]]).tolist():
        if not islands.mapped[island]:
            continue
        laying = Laying.of(mesh, islands, island)
        own = laying.chart.mesh.topology
        whole = np.empty(own.n_edges, np.int64)
        whole[own.edge] = mesh.topology.edge[laying.chart.corners]
        ids, targets = [], []
        for path, closed in edge_paths(laying.chart.mesh, np.flatnonzero(flags[whole]).astype(np.int32)):
            if len(path) >= 3:
                where, to = shape(laying, path, closed)
                ids.append(where)
                targets.append(to)
        if not ids:
            continue
        where, to = np.concatenate(ids), np.concatenate(targets)
        where, first = np.unique(where, return_index=True)
        new, share = carried(laying, where, to[first], laying.pins(mesh))
        uv = laying.put(uv, new, np.abs(new - laying.uv).max(axis=1) > 0)
        reached, done = min(reached, share), done + 1
    if done == 0:
        raise EditRefused("Hold two edges in a row or more on an island that is flat.")
    return uv, reached
