"""Rows of a jacket that is there unwound: the whole of it, or a part whose border stays."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from jacket.core.fit.relax import Lines, relaxed, untangled
from jacket.core.fit.tidy import levelled
from jacket.core.mesh.geometry import edge_lengths, face_centres, scaled_jacobian
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.quads.creases import find_creases
from jacket.core.quads.redo import reach_of
from jacket.core.quads.uncrossed import uncrossed
from jacket.core.quads.welding import part_of
from jacket.core.rows.unwind import Unwound, put_together, unwound, windings
from jacket.core.space.bvh import Bvh
from jacket.errors import EditRefused
from jacket.progress import Progress, part, silent

ROUNDS = 3


def rows_unwound(
    jacket: PolyMesh, faces: Ints, surface: Bvh, closeness: float = 0.5, sharp: float = 38.0, mirror: str = "",
    progress: Progress = silent,
) -> tuple[PolyMesh, str]:  # fmt: skip
    """The jacket with shorter rings, and what became of them as a sentence.

    faces      those whose rows are unwound, none for all; the border of a part stays to the bit
    closeness  0 keeps steps even, 1 closes rows at the price of uneven steps
    mirror     "", "x", "y" or "z": the positive side is unwound and its image put on the other

    Raises EditRefused where faces are not quads, or no other rows keep corners and folds as good as they are.
    """
    before = windings(jacket)
    if mirror and len(faces) == 0:
        new = _both_sides(jacket, surface, closeness, sharp, "xyz".index(mirror), progress)
    else:
        rest, region = part_of(jacket, faces if len(faces) else np.arange(jacket.n_faces, dtype=np.int32))
        held = np.zeros(region.topology.n_edges, bool)
        held[region.topology.border_edges] = rest is not None
        shared = np.zeros(region.n_points, bool)
        if rest is not None:
            # The border to the rest stays; where the jacket itself ends its border may be laid anew.
            far = cKDTree(rest.points[rest.topology.border_points]).query(region.points)[0]
            shared = region.topology.border_points & (far <= reach_of(region))
            held &= shared[region.topology.edge_points].all(axis=1)
        new = _region(region, held, surface, closeness, sharp, progress, rest)
        if rest is not None:
            new = _joined(rest, new, reach_of(region), int(shared.sum()))
    after = windings(new)
    if after[0] >= before[0] - 0.5:
        raise EditRefused("No other rows were found here that close better; hold a larger part or let rows close more.")
    return new, (f"The longest ring makes {after[0]:.0f} % of all crossings ({before[0]:.0f} % before); {after[1]:.0f} % of the "
                 f"quads are crossed by their own ring ({before[1]:.0f} %).")  # fmt: skip


def _region(
    region: PolyMesh, held: Bools, surface: Bvh, closeness: float, sharp: float, progress: Progress,
    rest: PolyMesh | None = None,
) -> PolyMesh:  # fmt: skip
    if not region.is_quads:
        raise EditRefused("Rows run over quads only; pair or mend the other faces first (Tidy).")
    step = float(np.median(edge_lengths(region)))
    creases = find_creases(region, sharp, step)
    marked = [region.mark(n) for n in region.marks if n == "sharp"]
    flags = region.topology.edge_flags(np.concatenate([creases, *marked]).astype(np.int32))
    folded = int((scaled_jacobian(region) <= 0).sum())
    # Where closing as far as is wished spoils corners, steps are kept more even.
    for k, share in enumerate((1.0, 0.5, 0.0)):
        span = part(progress, k / 3, (k + 1) / 3)
        found = unwound(region, flags, closeness * share, ROUNDS, part(span, 0.0, 0.7), held if held.any() else None, outside=rest)
        if found is None:
            continue
        span(0.75, "relaxing the quads on the source")
        new, on = _relaxed(region, found, held, surface)
        if rest is None and not held.any():
            new = uncrossed(new, surface, on)
        if int((scaled_jacobian(new) <= 0).sum()) <= folded:
            return new
    if rest is None and not held.any():
        on = np.zeros(region.n_points, bool)
        on[region.topology.edge_points[flags]] = True
        new = uncrossed(region, surface, on)
        if new is not region:
            return new
    raise EditRefused("No other rows were found here that keep the corners; hold another part, or let rows close less.")


def _relaxed(region: PolyMesh, found: Unwound, held: Bools, surface: Bvh) -> tuple[PolyMesh, Bools]:
    """Unwound quads relaxed on the source, and which points (V,) lie on lines; held borders stay, creases and other borders slide
    along themselves."""
    mesh = found.mesh
    old, border = region.topology, np.zeros(mesh.n_points, bool)
    if held.any():
        far = cKDTree(region.points[np.unique(old.edge_points[held])]).query(mesh.points)[0]
        border = far <= 1e-9 * max(float(np.ptp(region.points)), 1e-300)
    on = np.zeros(mesh.n_points, bool)
    on[found.lines] = True
    lines = None
    if len(found.lines):
        flags = _line_flags(region, found)
        curve = Bvh.of_segments(region.points[old.edge_points[flags]])
        points = mesh.points.copy()
        points[on & ~border] = curve.project(points[on & ~border])
        mesh = mesh.with_points(points)
        ends = np.bincount(found.lines.ravel(), minlength=mesh.n_points)
        lines = Lines(curve, on & ~border, border | (on & (ends != 2)) | _bent(mesh, found.lines))
    free = ~(on | border)
    points = mesh.points.copy()
    points[free] = surface.project(points[free])
    mesh = mesh.with_points(points)
    mesh = relaxed(mesh, surface, 90, held=border, lines=lines, evenness=0.2, mending=10.0)
    if border.any():
        lines = Lines(Bvh.of_segments(np.zeros((1, 2, 3))), np.zeros_like(on), border) if lines is None else lines
    mesh = untangled(mesh, surface, lines)
    # Lines of a light jacket are chords of those of the source.
    points = mesh.points.copy()
    points[~border] = surface.project(points[~border])
    return mesh.with_points(points), on


def _line_flags(region: PolyMesh, found: Unwound) -> Bools:
    """(E,) the edges of the old mesh that were lines: those near which the new ones lie."""
    topology = region.topology
    middle = found.mesh.points[found.lines].mean(axis=1)
    far = cKDTree(middle).query(region.points[topology.edge_points].mean(axis=1))[0]
    near = far < 0.75 * edge_lengths(region)
    near[topology.border_edges] = True
    return np.asarray(near)


def _bent(mesh: PolyMesh, lines: Ints) -> Bools:
    """(V,) points at which two edges of lines meet by more than 45°."""
    out = np.zeros(mesh.n_points, bool)
    order = np.argsort(lines.ravel(), kind="stable")
    point, other = lines.ravel()[order], lines[:, ::-1].ravel()[order]
    pair = np.flatnonzero(point[1:] == point[:-1])
    a = mesh.points[other[pair]] - mesh.points[point[pair]]
    b = mesh.points[other[pair + 1]] - mesh.points[point[pair]]
    cosine = np.einsum("ij,ij->i", a, b) / np.maximum(np.linalg.norm(a, axis=1) * np.linalg.norm(b, axis=1), 1e-300)
    out[point[pair][cosine > -np.cos(np.radians(45.0))]] = True
    return out


def _both_sides(
    jacket: PolyMesh, surface: Bvh, closeness: float, sharp: float, axis: int, progress: Progress
) -> PolyMesh:
    """The positive side unwound and doubled; faces across the plane stay, and so do the edges that they share."""
    centre = face_centres(jacket)[:, axis]
    step = float(np.median(edge_lengths(jacket)))
    _, half = part_of(jacket, np.flatnonzero(centre > 1e-3 * step).astype(np.int32))
    topology = half.topology
    in_plane = np.abs(half.points[:, axis]) < 1e-6 * step
    held = np.zeros(topology.n_edges, bool)
    held[topology.border_edges] = True
    held &= ~in_plane[topology.edge_points].all(axis=1)
    new = _region(half, held, surface, closeness, sharp, progress)
    # What of the border is not held lies in the plane.
    stays = half.points[np.unique(topology.edge_points[held])]
    stays = stays[np.abs(stays[:, axis]) >= 1e-6 * step]
    ids = np.flatnonzero(new.topology.border_points)
    if len(stays):
        ids = ids[cKDTree(stays).query(new.points[ids])[0] > 1e-9 * step]
    new = new.with_points(levelled(new.points, ids, axis, 0.0, surface))
    across = np.flatnonzero(np.abs(centre) <= 1e-3 * step).astype(np.int32)
    image = new.points * np.where(np.arange(3) == axis, -1.0, 1.0)
    other = PolyMesh.from_faces(image, new.as_quads()[:, ::-1])
    whole = _joined(new, other, 1e-6 * step, len(ids))
    if len(across) == 0:
        return whole
    rest, _ = part_of(jacket, np.setdiff1d(np.arange(jacket.n_faces, dtype=np.int32), across).astype(np.int32))
    assert rest is not None
    ends = np.unique(rest.topology.edge_points[rest.topology.border_edges])
    near = cKDTree(whole.points[whole.topology.border_points]).query(rest.points[ends])[0] < 1e-6 * step
    return _joined(rest, whole, 1e-6 * step, int(near.sum()))


def _joined(rest: PolyMesh, patch: PolyMesh, reach: float, wanted: int) -> PolyMesh:
    """Two meshes welded in the border points that they share, of which there have to be so many."""
    whole, pairs = put_together(rest, patch, reach)
    # A border that touches nothing joins nothing.
    apart = not (patch.topology.border_points.any() and rest.topology.border_points.any())
    if not apart and not len(pairs) == len(np.unique(pairs[:, 1])) == wanted:
        raise EditRefused("The new rows do not end in the border of the held part; nothing was changed.")
    return whole


