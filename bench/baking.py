"""Baking: rays a second, maps by size and samples, memory, the first picture, steps at seams, excess at intake by profile."""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.data import CACHE, DEMO, dragons
from jacket.core.bake.bake import BakeOptions
from jacket.core.bake.dense import Dense
from jacket.core.bake.maps import directions
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import PackSettings
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.settings import AutoSettings
from jacket.core.seams.cuts import cut_as_mapped
from jacket.core.space.rays import RayTree
from jacket.core.store import STORE
from jacket.core.uv.sheets import Sheets
from jacket.formats.deliver.profiles import PROFILES
from jacket.formats.mesh.registry import read_mesh, write_mesh
from jacket.formats.project.records import load_project
from jacket.jobs.bake import Bake, BakeLayer, BakeSettings, bake
from jacket.jobs.deliver import DeliverLayer, DeliverSettings, deliver
from jacket.jobs.intake import take_in
from jacket.jobs.pack import pack, sheets_of
from jacket.jobs.remesh import RemeshSettings, remesh
from jacket.jobs.seams import SeamSettings, seams

SIX = ("normal", "object", "height", "position", "id-part", "occlusion")


def whelk() -> tuple[PolyMesh, PolyMesh, Sheets]:
    """The demo's source and its layer, packed."""
    state = load_project(DEMO / "whelk-lantern.jacket")
    assert state.source is not None
    return state.source.mesh, state.jackets[0].mesh, state.sheets


def dragon() -> tuple[PolyMesh, PolyMesh, Sheets] | None:
    """The torn scan of 871,000 triangles and a jacket of 4,000 quads made for it, kept in the cache."""
    files = dragons()
    path = files.get("dragon 1 (npm)")
    if path is None:
        return None
    source, kept = read_mesh(path), CACHE / "dragon-jacket.obj"
    sheets = sheets_of(2048, margin=8)
    if not kept.exists():
        made = remesh(source, RemeshSettings(AutoSettings(quads=4000))).mesh
        flat, _ = unwrap(seams(made, SeamSettings()))
        write_mesh(pack(flat, sheets, PackSettings(steps=20)).mesh, kept)
    return source, cut_as_mapped(read_mesh(kept)), sheets


def rays(name: str, mesh: PolyMesh) -> None:
    """Million rays a second of one thread: a grid of parallel ones, and occlusion at points."""
    start = time.perf_counter()
    tree = RayTree.build(mesh.points, mesh.triangle_points)
    built = time.perf_counter() - start
    size, middle = mesh.diagonal, mesh.points.mean(axis=0)
    at = np.stack(np.meshgrid(np.linspace(-0.5, 0.5, 400), np.linspace(-0.5, 0.5, 400)), axis=-1).reshape(-1, 2) * size
    origins = np.column_stack([at, np.full(len(at), size)]) + middle
    ways = np.tile([0.0, 0.0, -1.0], (len(at), 1))
    tree.first(origins[:10], ways[:10])
    start = time.perf_counter()
    tree.first(origins, ways)
    parallel = len(at) / (time.perf_counter() - start) / 1e6
    normals, few = point_normals(mesh), slice(0, 8000)
    tree.open_share(mesh.points[:10], normals[:10], 64)
    start = time.perf_counter()
    tree.open_share(mesh.points[few], normals[few], 64, 1e-4 * size)
    sky = 64 * 8000 / (time.perf_counter() - start) / 1e6
    print(f"  {name}: {len(mesh.triangle_points):,} triangles, tree {built:.2f} s, {parallel:.1f} M parallel rays a second, {sky:.1f} M for occlusion")


def baked(name: str, source: PolyMesh, jacket: PolyMesh, sheets: Sheets, maps: tuple[str, ...], size: int, samples: int) -> Bake:
    """One bake with its time, the time to the first picture and the memory of the process."""
    seen: list[float] = []
    STORE.clear()  # a second bake of one source is quicker still: its tree and its occlusion are kept
    start = time.perf_counter()
    settings = BakeSettings(maps, size, options=BakeOptions(samples=samples))
    done = bake([BakeLayer("jacket", jacket)], [BakeLayer("source", source)], sheets, settings,
                seen=lambda s, w: seen.append(time.perf_counter() - start) if not seen else None)  # fmt: skip
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    first = f"first picture {seen[0]:.2f} s" if seen else "nothing seen"
    missed = 100 * max(s.missed for s in done.sheets)
    print(f"  {name}, {size:,}, {samples} × {samples} samples, {len(maps)} maps: {done.seconds:.1f} s, {first}, peak {peak:.2f} GB, missed {missed:.3f} %")
    return done


def seam_steps(jacket: PolyMesh, done: Bake) -> np.ndarray:
    """(K,) degrees between what both sides of UV seams read of the object normals."""
    found = done.of("object")
    assert found is not None and jacket.uv is not None
    image, topology = directions(found), jacket.topology
    a = topology.edge_corner
    b = topology.twin[a]
    good = b >= 0
    a, b = a[good], b[good]
    uv = jacket.uv
    ends = np.stack([uv[a], uv[topology.next[a]]], axis=1), np.stack([uv[topology.next[b]], uv[b]], axis=1)
    apart = np.abs(ends[0] - ends[1]).max(axis=(1, 2)) > 1e-9
    along = np.linspace(0.05, 0.95, 11)[None, :, None]
    one, two = (_read(image, (e[apart][:, :1] * (1 - along) + e[apart][:, 1:] * along).reshape(-1, 2)) for e in ends)
    return np.asarray(np.degrees(2 * np.arcsin(np.clip(np.linalg.norm(one - two, axis=1) / 2, 0, 1))))


def told_steps(jacket: PolyMesh, done: Bake) -> None:
    """The mean and the 99th percentile of them."""
    off = seam_steps(jacket, done)
    print(f"    step across seams {off.mean():.3f}° mean, {np.percentile(off, 99):.2f}° 99th percentile")


def _read(image: np.ndarray, uv: np.ndarray) -> np.ndarray:
    size = len(image)
    x, y = uv[:, 0] * size - 0.5, (1 - uv[:, 1]) * size - 0.5
    i, j = np.floor(x).astype(int), np.floor(y).astype(int)
    fx, fy = (x - i)[:, None], (y - j)[:, None]
    i, j = np.clip(i, 0, size - 2), np.clip(j, 0, size - 2)
    v = (image[j, i] * (1 - fx) + image[j, i + 1] * fx) * (1 - fy) + (image[j + 1, i] * (1 - fx) + image[j + 1, i + 1] * fx) * fy
    return v / np.linalg.norm(v, axis=1, keepdims=True)


def intake(source: PolyMesh, jacket: PolyMesh, sheets: Sheets) -> None:
    """The excess over the floor of every shipped profile."""
    made = bake([BakeLayer("jacket", jacket)], [BakeLayer("source", source)], sheets, BakeSettings(("normal", "occlusion"), 2048))
    for name in PROFILES:
        with tempfile.TemporaryDirectory() as folder:
            start = time.perf_counter()
            deliver([DeliverLayer("jacket", jacket)], Path(folder), DeliverSettings(name, sheets, "jacket"), bake=made)
            middle = time.perf_counter()
            taken = take_in(Path(folder), [BakeLayer("source", source)])
            print(f"  {name}: without maps {taken.bare:.2f}°, delivered {taken.error:.3f}°, floor {taken.floor:.3f}°, excess {taken.excess:.3f}° "
                  f"(delivered in {middle - start:.1f} s, taken in {time.perf_counter() - middle:.1f} s)")


def run() -> None:
    """Everything; kernels are warmed by a small bake first."""
    source, jacket, sheets = whelk()
    bake([BakeLayer("jacket", jacket)], [BakeLayer("source", source)], sheets, BakeSettings(SIX, 64, options=BakeOptions(rays=1)))
    rays("whelk", source)
    told_steps(jacket, baked("whelk", source, jacket, sheets, SIX, 1024, 2))
    for size, samples in ((2048, 1), (2048, 2), (4096, 1)):
        baked("whelk", source, jacket, sheets, SIX, size, samples)
    intake(source, jacket, sheets)
    large = dragon()
    if large is not None:
        rays("dragon 1", large[0])
        baked("dragon 1", *large, SIX, 2048, 2)
        start = time.perf_counter()
        Dense.of([("dragon", large[0])])
        print(f"    of which the source was made ready in {time.perf_counter() - start:.1f} s")
