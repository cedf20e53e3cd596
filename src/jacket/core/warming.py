"""Compiling the kernels before they are needed: run as a process of its own, it fills Numba's cache
on disk while the window stays free. It prints a line before each step: number, count, what."""

from __future__ import annotations

import sys
from collections.abc import Callable

import numpy as np
from scipy import sparse

from jacket.core.bake.bake import BakeOptions, Group, SheetBake, bake_sheet, point_values
from jacket.core.bake.cage import target_of
from jacket.core.bake.dense import Dense
from jacket.core.bake.maps import MAPS
from jacket.core.fit.refit import refit
from jacket.core.fit.relax import relaxed_part
from jacket.core.flatten.energies import put_forward, taken_back
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.layout.twins import find_twins
from jacket.core.mesh.cleaning import near_pairs
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import edge_loop, edge_ring, flood
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.seams.suggest import suggest_seams
from jacket.core.solve.frontal import Fronts
from jacket.core.solve.plan import planned
from jacket.core.source import mend
from jacket.core.source.crossings import crossing_pairs
from jacket.core.source.denoise import noise_smoothed
from jacket.core.source.health import examine
from jacket.core.source.holes import holes_closed
from jacket.core.source.reduce import reduced
from jacket.core.source.simplify import clustered_copy
from jacket.core.space.bvh import Bvh
from jacket.core.space.raster import covered
from jacket.core.space.segments import near_segments
from jacket.core.strokes.section import surface_sections
from jacket.core.uv.islands import Islands
from jacket.core.uv.sheets import Sheet


def _ball(rings: int = 12, sides: int = 16) -> PolyMesh:
    """A small closed mesh to try the tools on."""
    lat = np.linspace(0, np.pi, rings + 1)[1:-1]
    lon = np.linspace(0, 2 * np.pi, sides, endpoint=False)
    grid = np.array([[np.sin(a) * np.cos(b), np.cos(a), np.sin(a) * np.sin(b)] for a in lat for b in lon])
    points = np.concatenate([grid, [[0, 1, 0], [0, -1, 0]]])
    top, bottom, n = len(grid), len(grid) + 1, len(lat)
    faces = [[top, (k + 1) % sides, k] for k in range(sides)]
    for r in range(n - 1):
        for k in range(sides):
            a, b = r * sides + k, r * sides + (k + 1) % sides
            faces += [[a, b, b + sides], [a, b + sides, a + sides]]
    faces += [[bottom, (n - 1) * sides + k, (n - 1) * sides + (k + 1) % sides] for k in range(sides)]
    return PolyMesh.from_faces(points, faces)


def _pick() -> None:
    mesh = _ball()
    surface = Bvh.build(mesh.points, mesh.triangle_points)
    surface.ray(np.array([0, 0, 5.0]), np.array([0, 0, -1.0]))
    surface.closest(mesh.points)
    surface.occluded(mesh.points * 2, -mesh.points, np.ones(mesh.n_points))


def _hands() -> None:
    """What the hand tools do between a pointer event and the next picture."""
    mesh = _ball()
    surface = Bvh.build(mesh.points, mesh.triangle_points)
    surface_sections(surface, np.zeros(3), np.array([0.0, 1.0, 0.0]))
    topology = mesh.topology
    near_segments(mesh.points[:, :2], topology.edge_points, 0.1, 0.1, 0.5)
    covered(mesh.points[:, :2] * 20 + 30, mesh.triangle_points, 64, 64)
    edge_ring(mesh, 0)
    edge_loop(mesh, 0)
    near_pairs(mesh, 0.5)
    start, around = topology.point_edges
    flood(start, around, topology.edge_points, np.ones(mesh.n_points, bool), 0)
    relaxed_part(mesh, surface, np.arange(9), np.ones(9), 1)


def _automatic() -> None:
    automatic_quads(_ball(), AutoSettings(quads=60))


def _flat() -> None:
    mesh = suggest_seams(_ball())
    flat, _ = unwrap(mesh)
    islands = Islands.of(flat, (Sheet(width=256, height=256, margin=2),))
    pack(islands, PackSettings(steps=2))
    find_twins(islands)


def _fronts() -> None:
    """Small systems do without fronts, and small islands without many steps."""
    upper = sparse.csc_matrix(np.triu(3.0 * np.eye(8) + 0.1))
    upper.sort_indices()
    for block, order in ((2, None), (1, np.arange(8))):
        fronts = Fronts(upper, planned(upper, block, order))
        fronts.solve(np.ones(8))
        fronts.solve(np.ones((8, 2)))
    rows = np.eye(2, 8)
    way, along = taken_back(np.ones(8), rows, rows, np.ones(2))
    put_forward(way, rows, rows, np.ones(2), along)


def _sources() -> None:
    """Everything that is done to a source once it is open."""
    mesh = _ball()
    tri = mesh.triangle_points
    holed = PolyMesh.from_faces(mesh.points, tri[16:-20])
    examine(holed)
    clustered_copy(mesh.points, tri, 100)
    surface = Bvh.build(mesh.points, tri)
    crossing_pairs(surface)
    holes_closed(holed, 1e9)
    for step in (mend.turned_outward, mend.nonmanifold_split, mend.repeats_dropped):
        step(holed)
    mend.points_welded(holed, 0.01)
    noise_smoothed(holed, 1, 40.0)
    reduced(holed, 120)
    refit(mesh, surface, mesh.diagonal)


def _maps() -> None:
    """A small bake of every map."""
    mesh = _ball()
    # Any UVs will do to compile by: the ball seen from the side.
    mesh = mesh.with_uv(mesh.points[mesh.corners][:, :2] * 0.4 + 0.5)
    dense, kinds = Dense.of([("ball", mesh)]), tuple(MAPS)
    values = point_values(dense, kinds, BakeOptions(rays=2))
    bake_sheet([Group(target_of(mesh, Sheet(), (16, 16), 0.1), dense, values)], SheetBake.blank(16, 16, kinds), BakeOptions(samples=1))


WARMING: tuple[tuple[str, Callable[[], None]], ...] = (
    ("picking", _pick),
    ("tools of the hand", _hands),
    ("mending sources", _sources),
    ("seams, flattening, packing", _flat),
    ("large islands", _fronts),
    ("automatic quads", _automatic),
    ("baking maps", _maps),
)


def main(arguments: list[str] | None = None) -> None:
    """Compile everything, saying how far it is; with two numbers k and n only every n-th step from the k-th on, so that several
    processes share the work."""
    first, every = (int(a) for a in (arguments or ["0", "1"]))
    own = WARMING[first::every]
    for k, (what, step) in enumerate(own):
        print(k, len(own), what, flush=True)
        step()


if __name__ == "__main__":
    main(sys.argv[1:])
