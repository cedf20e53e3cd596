"""The seamless integer-grid map: triangles laid flat so that they match across cuts by quarter
turns and whole steps, with singular points, creases and borders on the grid.

Bommes, Zimmer and Kobbelt, "Mixed-integer quadrangulation" (2009), with the constraints eliminated
exactly over the integers beforehand.
"""

from __future__ import annotations

from copy import copy
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import sparse

from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import face_areas, face_normals
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.quads.curvature import ring_average
from jacket.core.quads.cut import CutMesh
from jacket.core.quads.field import Field
from jacket.core.solve.cholesky import Factor
from jacket.core.solve.integers import integer_kernel, with_one
from jacket.errors import SolveError
from jacket.progress import Progress, silent

MANY = 600
"""Integers above which a grid counts as very irregular: a torn or noisy scan."""
MOST_INTEGERS = 6000
"""Whole numbers that are eliminated at most: relations among them are kept whole, and that many take half a gigabyte and minutes."""


@dataclass(frozen=True, eq=False)
class GridMap:
    """uv     (C, 2) grid coordinates of each corner
    turn   (C,) quarter turns across each half-edge
    shift  (C, 2) whole steps across each half-edge: uv across = turned uv + shift
    n_integers  how many integers were rounded
    """

    uv: Floats
    turn: Ints
    shift: Ints
    n_integers: int


@dataclass
class _Affine:
    """A scalar as sign · root + a sum of integer unknowns."""

    sign: int
    root: int
    steps: dict[int, int]


class _Relations:
    """Scalars joined by x = ±y + integers: a union-find that carries signs and integer sums."""

    def __init__(self, count: int) -> None:
        self.parent = [(i, 1, {}) for i in range(count)]  # type: list[tuple[int, int, dict[int, int]]]
        self.rows: list[dict[int, int]] = []
        self.whole: dict[int, int] = {}
        self.n_integers = 0
        self.one = -1

    def integer(self) -> int:
        """A fresh integer unknown."""
        self.n_integers += 1
        return self.n_integers - 1

    def find(self, x: int) -> _Affine:
        sign, steps = 1, {}  # type: tuple[int, dict[int, int]]
        path = []
        while self.parent[x][0] != x:
            path.append(x)
            up, s, extra = self.parent[x]
            steps = _add(steps, extra, sign)
            sign *= s
            x = up
        if len(path) > 1:
            self.parent[path[0]] = (x, sign, steps)
        return _Affine(sign, x, steps)

    def relate(self, x: int, y: int, sign: int, steps: dict[int, int]) -> None:
        """Demand x = sign · y + steps."""
        a, b = self.find(x), self.find(y)
        total = _add(_add(_add({}, steps, 1), b.steps, sign), a.steps, -1)
        if a.root != b.root:
            # a.sign·A = sign·b.sign·B + total
            self.parent[a.root] = (b.root, a.sign * sign * b.sign, _add({}, total, a.sign))
            if a.root in self.whole:
                mine = self.whole.pop(a.root)
                self.demand_whole(a.root)
                again = self.find(a.root)
                row = _add(_add({}, again.steps, 1), {self.whole[again.root]: again.sign}, 1)
                self.rows.append(_add(row, {mine: 1}, -1))
            return
        lead = a.sign - sign * b.sign
        if lead == 0:
            if total:
                self.rows.append(total)
            return
        # lead·A = total with lead = ±2: the root itself becomes an integer.
        self.demand_whole(a.root)
        self.rows.append(_add(total, {self.whole[a.root]: 1}, -lead))

    def demand_whole(self, x: int) -> None:
        """Demand that a scalar is an integer."""
        root = self.find(x).root
        if root not in self.whole:
            self.whole[root] = self.integer()


def _add(a: dict[int, int], b: dict[int, int], factor: int) -> dict[int, int]:
    out = dict(a)
    for k, v in b.items():
        value = out.get(k, 0) + factor * v
        if value:
            out[k] = value
        else:
            out.pop(k, None)
    return out


def _relate_all(
    mesh: PolyMesh, field: Field, cut: CutMesh, creases: Ints, unit_border: bool, ways: Floats | None
) -> _Relations:
    relations = _Relations(2 * cut.n_classes)
    if unit_border:
        relations.one = relations.integer()
    topology = mesh.topology
    for segment in cut.segments:
        step = (relations.integer(), relations.integer())
        turn = int(cut.turn[segment[0]])
        pairs = set()
        for c in segment.tolist():
            t = int(topology.twin[c])
            pairs.add((int(cut.corner_class[c]), int(cut.corner_class[topology.next[t]])))
            pairs.add((int(cut.corner_class[topology.next[c]]), int(cut.corner_class[t])))
        for here, there in sorted(pairs):
            _relate_across(relations, here, there, turn, step)
    singular = np.flatnonzero(field.index[mesh.corners] != 0)
    for x in np.unique(cut.corner_class[singular]).tolist():
        relations.demand_whole(2 * x)
        relations.demand_whole(2 * x + 1)
    _relate_lines(mesh, cut, creases, relations, ways)
    return relations


def _relate_across(relations: _Relations, here: int, there: int, turn: int, step: tuple[int, int]) -> None:
    """uv there = (uv here turned by quarters) + step."""
    sources = {
        0: ((2 * here, 1), (2 * here + 1, 1)),
        1: ((2 * here + 1, -1), (2 * here, 1)),
        2: ((2 * here, -1), (2 * here + 1, -1)),
        3: ((2 * here + 1, 1), (2 * here, -1)),
    }[turn]
    for axis, (source, sign) in enumerate(sources):
        relations.relate(2 * there + axis, source, sign, {step[axis]: 1})


def line_axes(mesh: PolyMesh, cut: CutMesh, creases: Ints, ways: Floats | None = None) -> tuple[Ints, Ints]:
    """Half-edges on creases and borders, and the coordinate (0 u, 1 v) that is constant on each."""
    topology = mesh.topology
    flags = topology.edge_flags(creases)
    flags[topology.border_edges] = True
    corner = np.flatnonzero(flags[topology.edge])
    faces = mesh.face_of_corner[corner]
    if ways is None:
        along = mesh.points[mesh.corners[topology.next[corner]]] - mesh.points[mesh.corners[corner]]
    else:
        along = ways[topology.edge[corner]]
    u = np.abs(np.einsum("ij,ij->i", along, cut.frames[faces]))
    v = np.abs(np.einsum("ij,ij->i", along, np.cross(face_normals(mesh)[faces], cut.frames[faces])))
    return corner.astype(np.int32), (u > v).astype(np.int32)


def _relate_lines(mesh: PolyMesh, cut: CutMesh, creases: Ints, relations: _Relations, ways: Floats | None) -> None:
    corners, axes = line_axes(mesh, cut, creases, ways)
    following = mesh.topology.next
    for c, axis in zip(corners.tolist(), axes.tolist(), strict=True):
        here, there = int(cut.corner_class[c]), int(cut.corner_class[following[c]])
        relations.relate(2 * here + axis, 2 * there + axis, 1, {})
        relations.demand_whole(2 * here + axis)
        if relations.one >= 0 and mesh.topology.twin[c] < 0:
            run = 1 - axis
            relations.relate(2 * there + run, 2 * here + run, 1, {relations.one: _way(mesh, cut, c, run)})
            relations.demand_whole(2 * here + run)


def _way(mesh: PolyMesh, cut: CutMesh, corner: int, axis: int) -> int:
    """Whether a half-edge runs up (1) or down (−1) a coordinate of its face."""
    face = int(mesh.face_of_corner[corner])
    along = mesh.points[mesh.corners[mesh.topology.next[corner]]] - mesh.points[mesh.corners[corner]]
    frame = cut.frames[face]
    if axis == 1:
        a, b, c = mesh.points[mesh.triangle_points[face]]
        frame = np.cross(np.cross(b - a, c - a), frame)
    return 1 if float(np.dot(along, frame)) >= 0 else -1


class GridSolver:
    """The map's system of one field and cut, reduced and factorised once, for any step length.

    values = P · (real roots) + Q · (free integers) + what is given; only the pull towards the field depends on the
    length, so trying several lengths costs little.
    """

    def __init__(
        self, mesh: PolyMesh, field: Field, cut: CutMesh, creases: Ints, progress: Progress = silent,
        density: Floats | None = None, unit_border: bool = False, ways: Floats | None = None,
        painted: Floats | None = None,
    ) -> None:  # fmt: skip
        """`density` (F,): how many times as close the steps of each face are to be. `unit_border`: each border edge of
        the mesh is one step, exactly. Raises SolveError where no grid has such a border, or there are more than
        `MOST_INTEGERS` whole numbers to choose. `ways`: as for `smooth_field`.
        `painted` (F,): factors of density to be reached on top of that."""
        self.mesh, self.field, self.cut, self.density, self.painted = mesh, field, cut, density, painted
        relations = _relate_all(mesh, field, cut, creases, unit_border, ways)
        progress(0.2, "eliminating the whole-number constraints")
        n = 2 * cut.n_classes
        found = [relations.find(x) for x in range(n)]
        if relations.n_integers > MOST_INTEGERS:
            raise SolveError("The surface is too broken here for a grid of quads; mend or smooth the source, or reduce it first.")
        to_free = integer_kernel(_dense(relations.rows, relations.n_integers))
        given = np.zeros(relations.n_integers, np.int64)
        if unit_border:
            given, to_free = with_one(to_free, relations.one)
        self.n_free = to_free.shape[1]
        roots = sorted({a.root for a in found if a.root not in relations.whole})
        column = {root: k for k, root in enumerate(roots)}
        real: tuple[list[int], list[int], list[int]] = ([], [], [])
        whole: tuple[list[int], list[int], list[int]] = ([], [], [])
        for x, a in enumerate(found):
            steps = a.steps
            if a.root in column:
                _put(real, x, column[a.root], a.sign)
            else:
                steps = _add(steps, {relations.whole[a.root]: a.sign}, 1)
            for k, v in steps.items():
                _put(whole, x, k, v)
        self.real = _matrix(real, (n, len(roots)))
        integers = _matrix(whole, (n, relations.n_integers))
        self.whole = integers @ sparse.csr_array(to_free.astype(float))
        self.given = np.asarray(integers @ given.astype(float))
        progress(0.5, "laying the grid over the surface")
        self._factorise()

    def with_density(self, density: Floats) -> GridSolver:
        """The same grid with other steps: `density` (F,) as above."""
        other = copy(self)
        other.density = density
        other._factorise()
        return other

    def _factorise(self) -> None:
        weights = self.density
        if self.painted is not None:
            weights = self.painted if weights is None else weights * self.painted
        energy = _Energy(self.mesh, self.cut, weights)
        stiffness, self.right = energy.stiffness(), energy.right(self.density)
        k_rr = (self.real.T @ stiffness @ self.real).tocsc()
        self.k_ri = (self.real.T @ stiffness @ self.whole).toarray()
        k_ii = (self.whole.T @ stiffness @ self.whole).toarray()
        self.drag = stiffness @ self.given
        # A whisper of regularity fixes the drift of pieces that nothing anchors.
        tiny = 1e-9 * max(float(k_rr.diagonal().mean()) if k_rr.shape[0] else 1.0, 1e-300)
        self.factor = Factor(k_rr + tiny * sparse.identity(k_rr.shape[0], format="csc"))
        self.reach = self.factor.solve(self.k_ri) if self.n_free else np.zeros((k_rr.shape[0], 0))
        self.schur = k_ii - self.k_ri.T @ self.reach
        if self.painted is not None:
            self.right = self._tuned(energy)

    def _tuned(self, energy: _Energy) -> Floats:
        """The right side for which the map, its integers not rounded yet, has the density that is wanted, painted factors
        among it. Changing density needs a map with curl, of which a least-squares map reaches only a part; what is missing
        is asked for once more, some times over."""
        assert self.painted is not None
        share = face_areas(self.mesh) / face_areas(self.mesh).sum()
        wanted = np.log(self.painted) if self.density is None else np.log(self.painted * self.density)
        wanted = wanted - float(wanted @ share)
        asked = wanted.copy()
        for _ in range(TUNINGS):
            got = np.log(energy.reached(self._unrounded(energy.right(np.exp(asked)))))
            got = got - float(got @ share)
            asked = np.clip(asked + 0.8 * _evened(self.mesh, wanted - got), -MOST_ASKED, MOST_ASKED)
        return energy.right(np.exp(asked))

    def _unrounded(self, right: Floats) -> Floats:
        b_r, b_i = self.real.T @ right, self.whole.T @ right
        n = self.n_free
        free = np.zeros(0)
        if n:
            regular = self.schur + np.eye(n) * 1e-9 * max(float(np.trace(self.schur)) / n, 1e-300)
            free = np.linalg.solve(regular, b_i - self.reach.T @ b_r)
        real = self.factor.solve(b_r - self.k_ri @ free) if len(b_r) else np.zeros(0)
        return np.asarray(self.real @ real + self.whole @ free)

    def solve(self, length: float, progress: Progress = silent) -> GridMap:
        """The map whose steps have `length` on the surface, integers rounded one after another."""
        right = self.right / length - self.drag
        b_r, b_i = self.real.T @ right, self.whole.T @ right
        progress(0.1, "rounding the grid")
        free = _round_greedily(self.schur, b_i - self.reach.T @ b_r, progress)
        real = self.factor.solve(b_r - self.k_ri @ free) if len(b_r) else np.zeros(0)
        values = self.real @ real + self.whole @ free + self.given
        uv = values[2 * self.cut.corner_class[:, None] + np.arange(2)]
        return GridMap(uv, self.cut.turn, _shifts(self.mesh, self.cut, values), self.n_free)


TUNINGS = 8
MOST_ASKED = 3.0
"""Logarithm up to which density is asked for to reach what is painted."""


def _evened(mesh: PolyMesh, values: Floats) -> Floats:
    blur, total = ring_average(mesh)
    for _ in range(3):
        values = (blur @ values) / total
    return np.asarray(values)


def _dense(rows: list[dict[int, int]], n: int) -> NDArray[np.signedinteger]:
    out = np.zeros((len(rows), n), np.int64)
    for r, row in enumerate(rows):
        for k, v in row.items():
            out[r, k] = v
    return out


def _put(entries: tuple[list[int], list[int], list[int]], row: int, column: int, value: int) -> None:
    entries[0].append(row)
    entries[1].append(column)
    entries[2].append(value)


def _matrix(entries: tuple[list[int], list[int], list[int]], shape: tuple[int, int]) -> sparse.csr_array:
    rows, columns, values = (np.array(part, np.int64) for part in entries)
    return sparse.coo_array((values.astype(float), (rows, columns)), shape=shape).tocsr()


class _Energy:
    """∫ |∇u − d X|² + |∇v − d Y|² over the cut mesh, u and v interleaved; d (F,) is the density, 1 without."""

    def __init__(self, mesh: PolyMesh, cut: CutMesh, density: Floats | None = None) -> None:
        normals = face_normals(mesh)
        self.gradients = hat_gradients(mesh.points, mesh.triangle_points, normals)
        self.classes = cut.corner_class.reshape(-1, 3)
        self.n = cut.n_classes
        self.areas = face_areas(mesh)
        if density is not None:
            # Errors count by the share of the step where steps are long: sparse places would give way to all others.
            self.areas = self.areas * np.maximum(density**-2.0, 1.0)
        self.frames = np.stack([cut.frames, np.cross(normals, cut.frames)], axis=1)

    def stiffness(self) -> sparse.csr_array:
        """The quadratic form."""
        local = np.einsum("fik,fjk,f->fij", self.gradients, self.gradients, self.areas)
        rows = np.repeat(self.classes[:, :, None], 3, axis=2).ravel()
        columns = np.repeat(self.classes[:, None, :], 3, axis=1).ravel()
        laplacian = sparse.coo_array((local.ravel(), (rows, columns)), shape=(self.n, self.n)).tocsr()
        return sparse.kron(laplacian, sparse.identity(2), format="csr")

    def right(self, density: Floats | None) -> Floats:
        """Its right side, to be divided by the step length."""
        weight = self.areas if density is None else self.areas * density
        push = np.einsum("fik,fak,f->fia", self.gradients, self.frames, weight)
        out = np.zeros((self.n, 2))
        for k in range(2):
            out[:, k] = np.bincount(self.classes.ravel(), push[:, :, k].ravel(), minlength=self.n)
        return out.ravel()

    def reached(self, values: Floats) -> Floats:
        """(F,) the linear density that a map has: the root of how it stretches areas."""
        uv = values[2 * self.classes[:, :, None] + np.arange(2)]
        slope = np.einsum("fik,fia->fak", self.gradients, uv)
        along = np.einsum("fak,fbk->fab", slope, self.frames)
        return np.asarray(np.sqrt(np.maximum(np.abs(np.linalg.det(along)), 1e-300)))


def hat_gradients(points: Floats, triangles: Ints, normals: Floats) -> Floats:
    """(T, 3, 3) gradient of each corner's linear hat function; zero on triangles without area."""
    corner = points[triangles]
    opposite = corner[:, [2, 0, 1]] - corner[:, [1, 2, 0]]
    double = np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1)
    turned = np.cross(normals[:, None, :], opposite)
    return np.divide(turned, double[:, None, None], out=np.zeros_like(turned), where=double[:, None, None] > 0)


def _round_greedily(schur: Floats, right: Floats, progress: Progress = silent) -> Floats:
    """Integers that nearly minimise ½ yᵀ S y − gᵀ y: the surest are fixed, the rest solved again."""
    n = len(right)
    out = np.zeros(n)
    if n == 0:
        return out
    regular = schur + np.eye(n) * 1e-9 * max(float(np.trace(schur)) / n, 1e-300)
    free, push = np.arange(n), right.copy()
    # Many integers are rounded a few at a time: the surest fortieth (of very many the surest tenth, or a torn scan
    # would take minutes), never one that is unsure.
    few = 40 if n <= MANY else 10
    while len(free):
        own = np.ascontiguousarray(regular[np.ix_(free, free)])
        values, fixed = _surest(own, np.linalg.inv(own), push[free], int(AFRESH * len(free)), few)
        done = free[fixed]
        out[done] = values[fixed]
        push -= regular[:, done] @ out[done]
        free = free[~fixed]
        progress(1.0 - len(free) / n, "rounding the grid")
    return out


AFRESH = 0.75
"""Share of the integers left with which the inverse is made afresh: taking one after another out of it makes it drift."""

DRIFT = 1e-4
"""Share of the largest value by which refining may change one."""


@kernel
def _surest(matrix, inverse, push, least, few):
    """Fix the surest integers until no more than `least` are left or the inverse has drifted: their values (N,), and which they
    are. `inverse` and `push` are worked on: what is fixed is taken out of both."""
    n = len(push)
    out, value, off = np.zeros(n), np.zeros(n), np.empty(n)
    fixed = np.zeros(n, np.bool_)
    left, sound = n, True
    while sound and (left > least or left == n):
        _times(inverse, push, fixed, value)
        # Refined once, as the inverse is that of fewer and fewer.
        rest = push.copy()
        for i in range(n):
            if not fixed[i]:
                for j in range(n):
                    rest[i] -= matrix[i, j] * value[j]
        more = np.zeros(n)
        _times(inverse, rest, fixed, more)
        count, drift, size = 0, 0.0, 1.0
        for i in range(n):
            drift, size = max(drift, abs(more[i])), max(size, abs(value[i]))
        if left < n and not drift < DRIFT * size:
            break
        for i in range(n):
            value[i] += more[i]
            if not fixed[i]:
                off[count] = abs(value[i] - np.rint(value[i]))
                count += 1
        order = np.sort(off[:count])
        limit = max(order[0], min(order[left // few], 0.15), 0.01)
        for i in range(n):
            if fixed[i] or abs(value[i] - np.rint(value[i])) > limit:
                continue
            out[i], fixed[i] = np.rint(value[i]), True
            left -= 1
            column = matrix[i]
            for j in range(n):
                push[j] -= column[j] * out[i]
            row = inverse[i].copy()
            if not row[i] > 0.0:
                sound = False
                continue
            for a in range(n):
                if a != i and not fixed[a]:
                    share, goal = row[a] / row[i], inverse[a]
                    for b in range(n):
                        goal[b] -= share * row[b]
        for i in range(n):
            if fixed[i]:
                value[i] = 0.0
    return out, fixed


@inline
def _times(matrix, x, without, out):
    """A matrix times a vector, for the rows and columns that are not left out; 0 for others."""
    n = len(x)
    own = np.where(without, 0.0, x)
    for i in range(n):
        out[i] = 0.0
        if not without[i]:
            row, total = matrix[i], 0.0
            for j in range(n):
                total += row[j] * own[j]
            out[i] = total


def _shifts(mesh: PolyMesh, cut: CutMesh, values: Floats) -> Ints:
    """Whole shifts across cut half-edges, read back from the solved values."""
    topology = mesh.topology
    shift = np.zeros((mesh.n_corners, 2), np.int32)
    c = np.flatnonzero(cut.cut)
    t = topology.twin[c]
    here = values[2 * cut.corner_class[c][:, None] + np.arange(2)]
    there = values[2 * cut.corner_class[topology.next[t]][:, None] + np.arange(2)]
    shift[c] = np.rint(there - turned(here, cut.turn[c])).astype(np.int32)
    return shift


def turned(uv: NDArray[np.float64], turn: NDArray[np.signedinteger]) -> NDArray[np.float64]:
    """(K, 2) vectors turned counter-clockwise by (K,) quarters."""
    u, v = uv[:, 0], uv[:, 1]
    return np.stack([np.choose(turn, [u, -v, -u, v]), np.choose(turn, [v, u, -v, -u])], axis=1)


def flipped_share(mesh: PolyMesh, grid: GridMap) -> float:
    """Share of the surface whose triangles are turned over in the map."""
    uv = grid.uv.reshape(-1, 3, 2)
    a, b = uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    over = a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0] <= 0
    areas = face_areas(mesh)
    return float(areas[over].sum() / max(areas.sum(), 1e-300))
