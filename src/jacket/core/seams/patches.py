"""Seams found by themselves: flat-ish patches grown over the mesh, then merged while they open well.

Patches: variational shape approximation, Cohen-Steiner, Alliez and Desbrun (2004). Merging follows
the measured rule that a union is kept only while it is a disk that lies flat with little stretch.
"""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from jacket.core.flatten.descent import FULL_STEPS, TOLERANCE, Descent
from jacket.core.flatten.overlap import border_crosses
from jacket.core.flatten.unwrap import flat_start
from jacket.core.heap import heap_pop, heap_push
from jacket.core.jit import kernel
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas, face_normals, unit
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts
from jacket.core.seams.laying import solidity, triangle_energy
from jacket.core.uv.chart import Chart, chart_of
from jacket.errors import JacketError
from jacket.progress import Progress, silent

QUICK_STEPS = 12


@dataclass(frozen=True)
class PatchSettings:
    """Limits a merged island must keep: mean and 99th percentile of its energy, and how much of its
    convex hull it fills (branching islands pack badly)."""

    mean: float = 1.06
    p99: float = 1.6
    solidity: float = 0.6


def patch_seams(
    mesh: PolyMesh, settings: PatchSettings = PatchSettings(), progress: Progress = silent
) -> PolyMesh:
    """The mesh with its seams replaced by suggested ones; every island opens without flips."""
    labels = _patches(mesh)
    progress(0.15, "growing patches")
    labels = _opened(mesh, labels)
    labels = _Merger(mesh, labels, settings, progress).run()
    labels = _without_jogs(mesh, labels)
    # Islands were judged after a few steps; whoever overlaps when laid out fully is halved.
    labels = _opened(mesh, labels, FULL_STEPS)
    return mesh.with_cuts(_borders(mesh, labels))


def _borders(mesh: PolyMesh, labels: Ints) -> Ints:
    topology = mesh.topology
    c = np.flatnonzero(topology.twin >= 0)
    apart = labels[mesh.face_of_corner[c]] != labels[mesh.face_of_corner[topology.twin[c]]]
    return topology.edge_points[topology.edge[c[apart]]]


def _patches(mesh: PolyMesh) -> Ints:
    """(F,) patch of each face by a few rounds of growing from seeds and re-seeding."""
    # Patches grow from face to face across edges of two: so are the parts that need a seed.
    count, parts = face_parts(mesh, np.zeros(mesh.topology.n_edges, bool))
    wanted = int(np.clip(mesh.n_faces / 35, 6, 80))
    normals, areas = face_normals(mesh), face_areas(mesh)
    topology = mesh.topology
    neighbour = np.where(topology.twin >= 0, mesh.face_of_corner[topology.twin], -1).astype(np.int32)
    seeds = _first_seeds(mesh, parts, count, wanted)
    means = normals[seeds]
    labels = np.zeros(mesh.n_faces, np.int32)
    for _ in range(8):
        labels = _grow(mesh.starts, neighbour, normals, areas, seeds, means)
        n = len(seeds)
        means = unit(np.stack([np.bincount(labels, normals[:, k] * areas, minlength=n) for k in range(3)], 1))
        error = ((normals - means[labels]) ** 2).sum(axis=1)
        order = np.lexsort((error, labels))
        firsts = np.searchsorted(labels[order], np.arange(n))
        seeds = order[firsts].astype(np.int32)
    return labels


def _first_seeds(mesh: PolyMesh, parts: Ints, count: int, wanted: int) -> Ints:
    """One seed in each part, then farthest faces by position and normal."""
    from jacket.core.mesh.geometry import face_centres

    place = np.concatenate([face_centres(mesh) / max(mesh.diagonal, 1e-300) * 3, face_normals(mesh)], axis=1)
    seeds = [int(np.argmax(parts == k)) for k in range(count)]
    far = np.full(mesh.n_faces, np.inf)
    for s in seeds:
        far = np.minimum(far, ((place - place[s]) ** 2).sum(axis=1))
    while len(seeds) < wanted and far.max() > 1e-6:
        s = int(np.argmax(far))
        seeds.append(s)
        far = np.minimum(far, ((place - place[s]) ** 2).sum(axis=1))
    return np.array(seeds, np.int32)


@kernel
def _grow(starts, neighbour, normals, areas, seeds, means):
    n = len(starts) - 1
    labels = np.full(n, -1, np.int32)
    cost = np.empty(len(neighbour) + len(seeds) + 8)
    item = np.empty((len(neighbour) + len(seeds) + 8, 4), np.int32)
    size = 0
    for k in range(len(seeds)):
        size = heap_push(cost, item, size, 0.0, seeds[k], k, 0, 0)
    while size > 0:
        c, f, k = cost[0], item[0, 0], item[0, 1]
        size = heap_pop(cost, item, size)
        if labels[f] >= 0:
            continue
        labels[f] = k
        for j in range(starts[f], starts[f + 1]):
            g = neighbour[j]
            if g >= 0 and labels[g] < 0:
                d = 0.0
                for i in range(3):
                    d += (normals[g, i] - means[k, i]) ** 2
                size = heap_push(cost, item, size, 0.2 * c + d, g, k, 0, 0)
    return labels


def _opened(mesh: PolyMesh, labels: Ints, steps: int = QUICK_STEPS) -> Ints:
    """Patches that are no disks, or do not open, halved until they are."""
    labels = _renumbered_parts(mesh, labels)
    todo = list(range(int(labels.max()) + 1))
    fresh = len(todo)
    while todo:
        k = todo.pop()
        faces = np.flatnonzero(labels == k)
        if len(faces) <= 1 or _try(mesh, faces, PatchSettings(2.5, np.inf, 0.0), steps) is not None:
            continue
        far = _halves(mesh, faces)
        labels[faces[far]] = fresh
        pieces = _renumbered_parts(mesh, labels)
        for piece in np.unique(pieces[faces]).tolist():
            members = faces[pieces[faces] == piece]
            labels[members] = fresh
            todo.append(fresh)
            fresh += 1
    return _renumbered_parts(mesh, labels)


def _without_jogs(mesh: PolyMesh, labels: Ints) -> Ints:
    """Faces that stick out of their island into one other, by all but one of their sides, join it."""
    topology = mesh.topology
    out = labels.copy()
    other = np.where(topology.twin >= 0, mesh.face_of_corner[np.maximum(topology.twin, 0)], -1)
    for _ in range(3):
        across = np.where(other >= 0, out[other], -1)
        mine = out[mesh.face_of_corner]
        changed = False
        for f in np.unique(mesh.face_of_corner[(across >= 0) & (across != mine)]).tolist():
            sides = across[mesh.starts[f] : mesh.starts[f + 1]]
            foreign, counts = np.unique(sides[(sides >= 0) & (sides != out[f])], return_counts=True)
            if len(foreign) == 1 and counts[0] >= mesh.sizes[f] - 1 and (labels == out[f]).sum() > 8:
                out[f] = foreign[0]
                changed = True
        if not changed:
            break
    return out


def _halves(mesh: PolyMesh, faces: NDArray[np.signedinteger]) -> NDArray[np.bool_]:
    from jacket.core.mesh.geometry import face_centres

    centred = face_centres(mesh)[faces]
    centred = centred - centred.mean(axis=0)
    _, _, axes = np.linalg.svd(centred, full_matrices=False)
    along = centred @ axes[0]
    half = along > np.median(along)
    return half if half.any() and not half.all() else np.arange(len(faces)) >= len(faces) // 2


def _renumbered_parts(mesh: PolyMesh, labels: Ints) -> Ints:
    topology = mesh.topology
    cut = np.zeros(topology.n_edges, bool)
    c = np.flatnonzero(topology.twin >= 0)
    apart = labels[mesh.face_of_corner[c]] != labels[mesh.face_of_corner[topology.twin[c]]]
    cut[topology.edge[c[apart]]] = True
    return face_parts(mesh, cut)[1].copy()


def _try(
    mesh: PolyMesh, faces: NDArray[np.signedinteger], limits: PatchSettings, steps: int = QUICK_STEPS
) -> float | None:
    """Mean energy of a set of faces as one island, or None when it breaks a limit."""
    nothing = np.zeros(mesh.topology.n_edges, bool)
    chart = chart_of(mesh, faces, nothing)
    if not chart.is_disk:
        return None
    try:
        # The very start that flattening takes: what opens here opens there.
        uv, bad = flat_start(chart)
        descent = Descent(chart, uv)
        descent.run(steps, bad, 1e-3 if steps == QUICK_STEPS else TOLERANCE)
    except JacketError:
        return None
    energy = descent.energy
    if not energy <= limits.mean or border_crosses(chart, descent.uv):
        return None
    if limits.p99 < np.inf and _energy_p99(chart, descent.uv) > limits.p99:
        return None
    if limits.solidity > 0 and solidity(chart, descent.uv) < limits.solidity:
        return None
    return energy


def _energy_p99(chart: Chart, uv: Floats) -> float:
    energy = triangle_energy(chart, uv)
    return float(np.percentile(energy[np.isfinite(energy)], 99))


class _Merger:
    """Patches joined pair by pair, the pair with most border in common for its size first."""

    def __init__(self, mesh: PolyMesh, labels: Ints, settings: PatchSettings, progress: Progress) -> None:
        self.mesh, self.labels, self.settings, self.progress = mesh, labels.copy(), settings, progress
        topology = mesh.topology
        c = np.flatnonzero((topology.twin >= 0) & (topology.edge_corner[topology.edge] == np.arange(mesh.n_corners)))
        self.edge_a = mesh.face_of_corner[c]
        self.edge_b = mesh.face_of_corner[topology.twin[c]]
        length = edge_lengths(mesh)[topology.edge[c]]
        # A border along a sharp edge hides a seam well, so it counts less towards merging.
        sharp = np.clip(dihedral_angles(mesh)[topology.edge[c]] / 60.0, 0, 1)
        self.worth = length * (1.0 - 0.75 * sharp)
        self.refused: set[tuple[int, int, int, int]] = set()
        self.version: dict[int, int] = {int(k): 0 for k in np.unique(labels)}

    def run(self) -> Ints:
        tests = 0
        start = len(self.version)
        while True:
            pair = self._next_pair()
            if pair is None:
                break
            a, b = pair
            faces = np.flatnonzero((self.labels == a) | (self.labels == b))
            tests += 1
            if _try(self.mesh, faces, self.settings) is not None:
                self.labels[faces] = a
                self.version[a] += 1
                del self.version[b]
            else:
                self.refused.add((a, self.version[a], b, self.version[b]))
            self.progress(0.15 + 0.85 * (1 - np.exp(-tests / (2.0 * start))), "joining patches into islands")
        return self.labels

    def _next_pair(self) -> tuple[int, int] | None:
        a, b = self.labels[self.edge_a], self.labels[self.edge_b]
        outer = a != b
        low, high = np.minimum(a, b)[outer].astype(np.int64), np.maximum(a, b)[outer].astype(np.int64)
        if len(low) == 0:
            return None
        keys, where = np.unique(low << 32 | high, return_inverse=True)
        shared = np.bincount(where, self.worth[outer])
        total: dict[int, float] = {}
        for side in (low, high):
            for k, v in zip(*_summed(side, self.worth[outer]), strict=True):
                total[int(k)] = total.get(int(k), 0.0) + float(v)
        heap: list[tuple[float, int, int]] = []
        for key, s in zip(keys.tolist(), shared.tolist(), strict=True):
            p, q = key >> 32, key & 0xFFFFFFFF
            if (p, self.version[p], q, self.version[q]) not in self.refused:
                heapq.heappush(heap, (-s / max(min(total[p], total[q]), 1e-300), p, q))
        if not heap:
            return None
        _, p, q = heap[0]
        return p, q


def _summed(keys: NDArray[np.signedinteger], values: Floats) -> tuple[NDArray[np.signedinteger], Floats]:
    unique, where = np.unique(keys, return_inverse=True)
    return unique, np.asarray(np.bincount(where, values), np.float64)
