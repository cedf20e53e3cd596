"""Suggested seams on quad jackets and triangle meshes, organic, mirrored, hard-edged and mixed."""

from __future__ import annotations

import time

import numpy as np

from bench.data import bunny, demo, finer, sample_data, spot
from bench.parts import parts
from bench.sculpts import SCULPTS, sculpt
from jacket.commands.display import Colouring, Display
from jacket.core.derive import lying_at, sky_of, turning_of, ways_from
from jacket.core.flatten.stretch import measure_stretch
from jacket.core.flatten.unwrap import unwrap
from jacket.core.layout.pack import PackSettings, pack
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.seams.cuts import cut_edges
from jacket.core.seams.foreseen import foresee
from jacket.core.seams.measure import seam_figures
from jacket.core.seams.sky import open_sky
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.turning import path_from
from jacket.core.seams.ways import loop_between
from jacket.core.seams.work import SuggestSettings
from jacket.core.uv.chart import charts_of
from jacket.core.uv.islands import Islands
from jacket.core.uv.sets import cut_flags
from jacket.core.uv.sheets import Sheet
from jacket.document.state import JacketObject, State
from jacket.formats.mesh.registry import read_mesh
from jacket.qt.scene.form import Kept, form_scene
from jacket.qt.theme import DAY

WANTED = 3000


def run() -> None:
    """Islands, turns, how much is seen, stretch and seconds of each; worst and median of the organic and the hard ones."""
    organic: list[tuple[str, PolyMesh | None, str]] = [
        ("spot", finer(spot(), 2), ""), ("spot mirrored", finer(spot(), 2), "x"), ("bunny", bunny(), ""),
        ("whelk lantern", demo("whelk-lantern"), ""), ("barnacled bollard", demo("barnacled-bollard"), ""),
        *((name, read_mesh(path), "") for name, path in sample_data().items()),
    ]  # fmt: skip
    hard = [("porthole latch", demo("porthole-latch"), ""), *((name, mesh, "") for name, mesh in parts().items())]
    for kind, rows in (("organic", organic), ("hard-edged", hard)):
        kept = []
        for name, mesh, mirror in rows:
            if mesh is not None:
                quads = automatic_quads(mesh, AutoSettings(quads=WANTED if kind == "organic" else 2000, mirror=mirror)).mesh
                kept.append((name, _case(name, quads, mirror)))
        for k, figure in enumerate(("islands", "turns", "seen", "energy", "seconds", "share on sharp edges")):
            values = sorted((row[k], name) for name, row in kept if row[0] > 1 or k != 5)
            worst = values[0] if figure.startswith("share") else values[-1]
            print(f"  {kind}, {figure}: median {values[len(values) // 2][0]:.3g}, worst {worst[0]:.3g} ({worst[1]})")
    for name in SCULPTS:
        quads = automatic_quads(sculpt(name), AutoSettings(quads=WANTED)).mesh
        _case(f"{name} (sculpted)", quads, "")
        # What the sheet would be used for if nobody cared for it, and as it is.
        told = [_used(quads, SuggestSettings(longest=longest)) for longest in (np.inf, SuggestSettings().longest)]
        print(f"    after 10 s at 8 px {' → '.join(f'{100 * use:.1f} % ({count} islands)' for use, count in told)}", flush=True)
    for wanted in (3000, 10_000):
        _hands(wanted)
    for name, mesh in (("spot, 5,856 triangles", spot()), ("box of triangles", parts()["box, 12 triangles"])):
        _case(name, mesh, "")


def _case(name: str, mesh: PolyMesh, mirror: str) -> tuple[float, ...]:
    mesh = mesh.detached().with_cuts(np.zeros((0, 2)))
    begin = time.perf_counter()
    cut = suggest_seams(mesh, SuggestSettings(mirror=mirror))
    seconds = time.perf_counter() - begin
    figures = seam_figures(cut, cut_flags(cut), open_sky(cut))
    flat, islands = unwrap(cut)
    stretch = measure_stretch(flat, Islands.of(flat).places)
    unmapped = sum(len(i.faces) for i in islands if not i.flat)
    print(
        f"  {name}: {mesh.n_faces:,} faces, {seconds:.1f} s, {figures.islands} islands, length {figures.length:.2f} √area, "
        f"{figures.turns:.1f} turns per 100 edges, seen {figures.seen:.2f}, {100 * figures.sharp:.0f} % on sharp edges, energy "
        f"{stretch.dirichlet:.4f}, {unmapped} faces unmapped, {sum(i.overlaps for i in islands)} islands overlap themselves",
        flush=True,
    )
    return figures.islands, figures.turns, figures.seen, stretch.dirichlet, seconds, figures.sharp


def _used(mesh: PolyMesh, settings: SuggestSettings) -> tuple[float, int]:
    """Share of a sheet that the islands use, and how many those are."""
    islands = Islands.of(unwrap(suggest_seams(mesh, settings))[0], (Sheet(width=1024, height=1024, margin=8),))
    return pack(islands, PackSettings(steps=10**9, seconds=10.0)).use, islands.count


def _ms(values: list[float]) -> str:
    return f"median {1000 * float(np.median(values)):.1f} ms, largest {1000 * max(values):.1f} ms"


def _hands(wanted: int) -> None:
    """What happens between a pointer event and its picture in the Seams stage, without the drawing."""
    mesh = automatic_quads(finer(spot(), 2), AutoSettings(quads=wanted)).mesh
    cut = suggest_seams(mesh)
    flat = cut.with_uv(unwrap(cut)[0].uv)
    state = State((), (JacketObject(1, "j", flat),), active=1, next_id=2)
    display = Display(colouring=Colouring.ISLANDS)
    kept, spans = Kept(), []
    form_scene(state, display, DAY, "seams", kept=kept)
    rng = np.random.default_rng(1)
    for edge in rng.integers(0, mesh.topology.n_edges, 12).tolist():
        begin = time.perf_counter()
        state = state.with_jacket_mesh(cut_edges(state.jacket.mesh, np.array([edge])))  # type: ignore[union-attr]
        form_scene(state, display, DAY, "seams", kept=kept)
        spans.append(time.perf_counter() - begin)
    print(f"  {mesh.n_faces:,} quads, an edge cut: islands, colours, scene of the form {_ms(spans)}")
    ways, paths = [], []
    for start in rng.integers(0, mesh.n_points, 6).tolist():
        begin = time.perf_counter()
        lengths, before = ways_from(flat, start, "straight")
        ways.append(time.perf_counter() - begin)
        for end in rng.integers(0, mesh.n_points, 20).tolist():
            begin = time.perf_counter()
            path_from(turning_of(flat), lengths, before, end)
            paths.append(time.perf_counter() - begin)
    print(f"  {mesh.n_faces:,} quads, all ways from a clicked point {_ms(ways)}; the path to the pointer {_ms(paths)}")
    largest = charts_of(flat)[int(np.argmax([len(c.faces) for c in charts_of(flat)]))]
    sky, seen = sky_of(flat), []
    for face in rng.choice(largest.faces, 12).tolist():
        loop = loop_between(flat, turning_of(flat), int(flat.topology.edge[flat.starts[face]]), cut_flags(flat), True)
        now = lying_at(flat, loop)
        begin = time.perf_counter()
        foresee(flat, cut_flags(flat), loop, sky, now)
        seen.append(time.perf_counter() - begin)
    print(f"  {mesh.n_faces:,} quads, what a loop would free of an island of {len(largest.faces):,} faces {_ms(seen)}")
