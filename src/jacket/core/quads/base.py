"""The even, light triangle mesh on which the field and the map are computed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np

from jacket.core.jit import inline, kernel
from jacket.core.mesh.geometry import edge_lengths, triangle_areas
from jacket.core.mesh.polymesh import Bools, Floats, Ints, PolyMesh, sorted_pairs
from jacket.core.mesh.walks import face_parts
from jacket.core.quads.creases import NARROW, find_creases, without_twins
from jacket.core.quads.steering import Guide, embedded
from jacket.core.quads.subdivide import edges_split
from jacket.core.quads.torn import shut
from jacket.core.source.health import degenerate_faces, inside_out
from jacket.core.source.holes import find_holes, patches_over
from jacket.core.source.simplify import simplify
from jacket.core.source.skin import Tears, tears_of
from jacket.core.source.weld import compact, joined_triangles
from jacket.core.source.whole import sheets_parted, without_flaps
from jacket.core.source.winding import uneven_faces
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import sample_surface
from jacket.errors import MeshError
from jacket.progress import Progress, part, silent


@dataclass(frozen=True, eq=False)
class Base:
    """A manifold triangle mesh with its creases as point pairs (K, 2), and what was left out."""

    mesh: PolyMesh
    creases: Ints
    dropped_parts: int
    dropped_faces: int
    tears: Tears | None = None
    """Set where the source was torn and mended in place, or a closed skin was put in its place."""
    bridge: tuple[Floats, Ints] | None = None
    """Points and triangles of the mended surface or skin where it spans holes of the source."""
    mended: tuple[int, int] | None = None
    """Holes closed and handles cut; None where there was no need, or where a skin by distance was put in its place."""
    slivers: int = 0
    """Faces without area that were left out."""
    turned: int = 0
    """Faces that were turned over."""
    outside: PolyMesh | None = None
    """Where a skin was put in the place of a torn source: what of the source can be seen, with ends that the skin rounds off."""
    crumbs: PolyMesh | None = None
    """Parts smaller than twelve quads, together, where they are too much of the whole to be left out."""

    pinholes: int = 0
    """Holes too small for a row of quads to go round that were closed."""

    asked: Floats = field(default_factory=lambda: np.zeros((0, 3)))
    """Places of a source that is not too large, before it was evened: evening rounds off tips."""

    among: float = 0.0
    """The length of which gaps are told in % where it is smaller; 0 where they are told in % of its diagonal whatever that is."""

    @property
    def size(self) -> float:
        """The length of which gaps are told in %: the diagonal."""
        return max(self.mesh.diagonal, self.among)

    @property
    def form(self) -> PolyMesh:
        """What the quads are to reach everywhere."""
        return self.mesh if self.outside is None else self.outside


MOST_ASKED, SAMPLES = 60_000, 20_000
"""Points up to which a source keeps the places that are asked whether they are reached, and how many places between them."""


PINHOLE = 2.0
"""Steps round a hole up to which it is closed: no grid has a border that short."""


def make_base(
    source: PolyMesh, surface: Bvh, wanted: int, quad_area: float, sharp: float, progress: Progress = silent,
    guides: Sequence[Guide] = (), skinned: bool = True, shortest: float = 8.0, anyway: bool = False,
) -> Base:  # fmt: skip
    """Weld, open non-manifold edges, drop crumbs, then bring to about `wanted` even triangles.

    `quad_area` is the area one quad will have; parts smaller than twelve of them are crumbs.
    `sharp` is the angle in degrees above which edges count as creases; 180 keeps none;
    runs of under `shortest` quads are left out. Hard `guides` become creases. Where `skinned`
    a torn source is mended in place, or where that is not enough replaced by a closed skin over it; `anyway` even where it is not torn.
    """
    points, triangles, flaps = without_flaps(*joined_triangles(source))
    points, triangles, slivers, turned = _readied(points, triangles)
    points, triangles = sheets_parted(points, triangles)
    (points, triangles), (parts, faces), crumbs = _without_crumbs(points, triangles, 12 * quad_area)
    if len(triangles) == 0:
        raise MeshError("The source has no surface left to cover; ask for more quads.")
    tears = replace(tears_of(PolyMesh.from_faces(points, triangles)), flaps=flaps)
    skin = shut(points, triangles, surface, float(np.sqrt(quad_area)), part(progress, 0.0, 0.3)) if skinned and (tears.torn or anyway) else None
    if skin is not None:
        (points, triangles), _, _ = _without_crumbs(skin.points, skin.triangles, 12 * quad_area)
        # The base keeps to the skin, not to the shreds under it; the quads are laid onto the scan at the end.
        surface, crumbs = skin.surface, None
    pinholes = 0
    if skin is None:
        points, triangles, pinholes = without_pinholes(points, triangles, PINHOLE * float(np.sqrt(quad_area)))
    asked = np.zeros((0, 3))
    if skin is None and len(points) <= MOST_ASKED:
        asked = np.concatenate([points, sample_surface(points, triangles, SAMPLES)])
    while len(triangles) < wanted / 3:
        points, triangles = _halved_edges(points, triangles)
    points, triangles = simplify(points, triangles, max(wanted, 60), part(progress, 0.0, 0.7))
    area = float(triangle_areas(points, triangles).sum())
    # 2.6 times the side of the even triangles that so many of them would be.
    longest = 2.6 * float(np.sqrt(2.31 * area / max(wanted, 60)))
    points, triangles = _without_long_edges(points, triangles, longest)
    mesh = PolyMesh.from_faces(points, triangles)
    creases = find_creases(mesh, sharp, float(np.sqrt(quad_area)), shortest)
    creases = without_twins(mesh, creases, NARROW * float(np.sqrt(quad_area)))
    hard = [g for g in guides if g.hard]
    for step in range(6):
        progress(0.7 + 0.05 * step, "evening the base mesh")
        points, triangles = _improved(points, triangles, creases, surface)
        if step == 2 and hard:
            points, creases = _with_guides(PolyMesh.from_faces(points, triangles), creases, hard, surface)
    mesh = _without_ears(PolyMesh.from_faces(points, triangles), creases)
    base = Base(mesh, creases, parts, faces, slivers=slivers, turned=turned, crumbs=crumbs, asked=asked, pinholes=pinholes)
    if skin is None:
        return base
    return replace(base, tears=tears, bridge=(skin.points, skin.spans), mended=skin.mended, outside=skin.outside)


def without_pinholes(points: Floats, triangles: Ints, longest: float) -> tuple[Floats, Ints, int]:
    """Points and triangles with holes closed whose border is no longer than a length, and how many those were."""
    mesh = PolyMesh.from_faces(points, triangles)
    small = [hole for hole in find_holes(mesh) if hole.perimeter <= longest] if len(mesh.topology.border_edges) else []
    if not small:
        return points, triangles, 0
    every, patch = patches_over(mesh, small)
    return every, np.concatenate([triangles, patch]).astype(np.int32), len(small)


def evened(points: Floats, triangles: Ints, creases: Ints, surface: Bvh, rounds: int = 6) -> PolyMesh:
    """Triangles flipped and smoothed along a surface some rounds over; creases and borders stay."""
    for _ in range(rounds):
        points, triangles = _improved(points, triangles, creases, surface)
    return PolyMesh.from_faces(points, triangles)


def _with_guides(mesh: PolyMesh, creases: Ints, guides: Sequence[Guide], surface: Bvh) -> tuple[Floats, Ints]:
    """Points moved onto hard guides, and the creases with the edges along them."""
    for guide in guides:
        taken = mesh.topology.border_points.copy()
        taken[creases.ravel()] = True
        moved, pairs = embedded(mesh, guide, surface, taken)
        held = np.zeros(mesh.n_points, bool)
        kept = _kept_upright(mesh.points, moved.points, mesh.triangle_points, held)
        mesh = mesh.with_points(kept)
        creases = sorted_pairs(np.concatenate([creases, pairs]))
    return mesh.points, creases


def _readied(points: Floats, triangles: Ints) -> tuple[Floats, Ints, int, int]:
    """Triangles without those that have no area, neighbours wound alike and closed parts outward: otherwise the surface
    would come apart at every fault. With how many were left out and how many turned over."""
    flat = degenerate_faces(PolyMesh.from_faces(points, triangles))
    if len(flat):
        points, triangles = compact(points, np.delete(triangles, flat, axis=0))
    if len(triangles) == 0:
        raise MeshError("The source has no surface to cover; none of its faces has an area.")
    mesh = PolyMesh.from_faces(points, triangles)
    flip = np.zeros(len(triangles), bool)
    if len(mesh.topology.nonmanifold_edges):
        flip = uneven_faces(mesh)
        mesh = PolyMesh.from_faces(points, np.where(flip[:, None], triangles[:, ::-1], triangles))
    count, labels = face_parts(mesh)
    flip ^= inside_out(mesh, count, labels)[labels]
    turned = np.where(flip[:, None], triangles[:, ::-1], triangles)
    return points, np.ascontiguousarray(turned), len(flat), int(flip.sum())


CRUMBS = 0.01
"""Share of the area up to which small parts are left out together."""


def _without_crumbs(
    points: Floats, triangles: Ints, least: float
) -> tuple[tuple[Floats, Ints], tuple[int, int], PolyMesh | None]:
    """What is left without parts of less than an area; how many parts and faces are left out; and those parts where they
    are more than crumbs together, so that they are not left out."""
    mesh = PolyMesh.from_faces(points, triangles)
    count, labels = face_parts(mesh)
    if count == 1:
        return (points, triangles), (0, 0), None
    areas = np.bincount(labels, triangle_areas(points, triangles), minlength=count)
    keep = areas >= least
    keep[int(np.argmax(areas))] = True
    stays = keep[labels]
    kept, small = compact(points, triangles[stays]), triangles[~stays]
    if areas[~keep].sum() <= CRUMBS * areas.sum():
        return kept, (int((~keep).sum()), int((~stays).sum())), None
    return kept, (0, 0), PolyMesh.from_faces(*compact(points, small))


def _halved_edges(points: Floats, triangles: Ints) -> tuple[Floats, Ints]:
    """Each triangle split in four, for sources too coarse to carry the wanted quads."""
    return edges_split(points, triangles, np.ones(PolyMesh.from_faces(points, triangles).topology.n_edges, bool))


def _without_long_edges(points: Floats, triangles: Ints, longest: float) -> tuple[Floats, Ints]:
    """Edges over a length split, and split again: a flat end of a few long triangles cannot bear a field."""
    for _ in range(8):
        mesh = PolyMesh.from_faces(points, triangles)
        marks = edge_lengths(mesh) > longest
        if not marks.any() or len(triangles) > 400_000:
            break
        points, triangles = edges_split(points, triangles, marks)
    return points, triangles


def _without_ears(mesh: PolyMesh, creases: Ints) -> PolyMesh:
    """Triangles with two sides on creases or borders cut in two from the corner between these, so that each side has a
    triangle of its own."""
    topology = mesh.topology
    flags = topology.edge_flags(creases)
    flags[topology.border_edges] = True
    on = flags[topology.edge.reshape(-1, 3)]
    marks = np.zeros(topology.n_edges, bool)
    marks[topology.edge.reshape(-1, 3)[(on.sum(axis=1) == 2)[:, None] & ~on]] = True
    return PolyMesh.from_faces(*edges_split(mesh.points, mesh.triangle_points, marks)) if marks.any() else mesh


def _improved(points: Floats, triangles: Ints, creases: Ints, surface: Bvh) -> tuple[Floats, Ints]:
    """One round of edge flips and smoothing along the surface, creases and borders held."""
    for _ in range(3):
        mesh = PolyMesh.from_faces(points, triangles)
        topology = mesh.topology
        triangles, flips = _flip_pass(
            points, triangles.copy(), topology.edge_corner, topology.twin,
            topology.edge_flags(creases), topology.ring_start, topology.ring,
        )  # fmt: skip
        if flips == 0:
            break
    mesh = PolyMesh.from_faces(points, triangles)
    held = mesh.topology.border_points.copy()
    held[creases.ravel()] = True
    moved = _smoothed(points, triangles, held)
    moved[~held] = surface.project(moved[~held])
    return _kept_upright(points, moved, triangles, held), triangles


@inline
def _worst_cosine(points, a, b, c):
    """Largest cosine among a triangle's corners: high for slivers."""
    worst = -1.0
    for k in range(3):
        p, q, r = a, b, c
        if k == 1:
            p, q, r = b, c, a
        elif k == 2:
            p, q, r = c, a, b
        ux, uy, uz = points[q, 0] - points[p, 0], points[q, 1] - points[p, 1], points[q, 2] - points[p, 2]
        vx, vy, vz = points[r, 0] - points[p, 0], points[r, 1] - points[p, 1], points[r, 2] - points[p, 2]
        size = np.sqrt((ux * ux + uy * uy + uz * uz) * (vx * vx + vy * vy + vz * vz))
        worst = max(worst, (ux * vx + uy * vy + uz * vz) / size if size > 0 else 1.0)
    return worst


@inline
def _normal(points, a, b, c):
    ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
    vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
    nx, ny, nz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
    size = np.sqrt(nx * nx + ny * ny + nz * nz) + 1e-300
    return nx / size, ny / size, nz / size


@kernel
def _flip_pass(points, tris, edge_corner, twin, fixed, ring_start, ring):
    locked = np.zeros(len(points), np.bool_)
    old = tris.copy()
    flips = 0
    for e in range(len(edge_corner)):
        h = edge_corner[e]
        if fixed[e] or twin[h] < 0:
            continue
        f, g = h // 3, twin[h] // 3
        i, j = h % 3, twin[h] % 3
        a, b, c = old[f, i], old[f, (i + 1) % 3], old[f, (i + 2) % 3]
        d = old[g, (j + 2) % 3]
        if locked[a] or locked[b] or locked[c] or locked[d] or c == d:
            continue
        before = max(_worst_cosine(points, a, b, c), _worst_cosine(points, b, a, d))
        after = max(_worst_cosine(points, c, d, b), _worst_cosine(points, d, c, a))
        if after >= before - 1e-3:
            continue
        nx, ny, nz = _normal(points, a, b, c)
        mx, my, mz = _normal(points, b, a, d)
        px, py, pz = _normal(points, c, d, b)
        qx, qy, qz = _normal(points, d, c, a)
        sx, sy, sz = nx + mx, ny + my, nz + mz
        size = np.sqrt(sx * sx + sy * sy + sz * sz)
        if size < 1.0:
            continue
        if min(px * sx + py * sy + pz * sz, qx * sx + qy * sy + qz * sz) < 0.8 * size:
            continue
        exists = False
        for k in range(ring_start[c], ring_start[c + 1]):
            t = ring[k] // 3
            if old[t, 0] == d or old[t, 1] == d or old[t, 2] == d:
                exists = True
        if exists:
            continue
        tris[f, 0], tris[f, 1], tris[f, 2] = c, d, b
        tris[g, 0], tris[g, 1], tris[g, 2] = d, c, a
        locked[a] = locked[b] = locked[c] = locked[d] = True
        flips += 1
    return tris, flips


@kernel
def _smoothed(points, tris, held):
    """Each free point half-way to the area-weighted mean of its triangles' centres."""
    n = len(points)
    total = np.zeros((n, 3))
    weight = np.zeros(n)
    for t in range(len(tris)):
        a, b, c = tris[t, 0], tris[t, 1], tris[t, 2]
        ux, uy, uz = points[b, 0] - points[a, 0], points[b, 1] - points[a, 1], points[b, 2] - points[a, 2]
        vx, vy, vz = points[c, 0] - points[a, 0], points[c, 1] - points[a, 1], points[c, 2] - points[a, 2]
        area = np.sqrt((uy * vz - uz * vy) ** 2 + (uz * vx - ux * vz) ** 2 + (ux * vy - uy * vx) ** 2)
        for k in range(3):
            m = (points[a, k] + points[b, k] + points[c, k]) / 3.0
            total[a, k] += area * m
            total[b, k] += area * m
            total[c, k] += area * m
        weight[a] += area
        weight[b] += area
        weight[c] += area
    out = points.copy()
    for p in range(n):
        if not held[p] and weight[p] > 0:
            for k in range(3):
                out[p, k] += 0.6 * (total[p, k] / weight[p] - points[p, k])
    return out


def _kept_upright(before: Floats, after: Floats, triangles: Ints, held: Bools) -> Floats:
    """Moved points, with those put back whose triangles would turn over."""
    out = np.where(held[:, None], before, after)
    for _ in range(4):
        old = np.cross(
            before[triangles[:, 1]] - before[triangles[:, 0]], before[triangles[:, 2]] - before[triangles[:, 0]]
        )
        new = np.cross(out[triangles[:, 1]] - out[triangles[:, 0]], out[triangles[:, 2]] - out[triangles[:, 0]])
        dot = np.einsum("ij,ij->i", old, new)
        bad = dot < 0.3 * np.linalg.norm(old, axis=1) * np.linalg.norm(new, axis=1)
        if not bad.any():
            break
        back = np.unique(triangles[bad].ravel())
        out[back] = before[back]
    return out
