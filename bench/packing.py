"""Packing sets of islands from open meshes: use of the sheet at 4 px on 1,024, proven by shapely and a conservative raster."""

from __future__ import annotations

import time

import numpy as np

from bench.islands import CASES, islands_mesh
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pack import PackSettings, pack_layers
from jacket.core.layout.pieces import Bonds, Layer
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.jobs.pack import sheets_of

SIZE, MARGIN = 1024, 4.0
WANTED = {"organic": 0.72, "hard-edged": 0.78, "branching": 0.56, "many": 0.66, "crowd": 0.64}


def run(seconds: float = 10.0, names: tuple[str, ...] = ()) -> None:
    """Use after so many seconds, the first layout, the margin kept and rectangles beside it."""
    rows: dict[str, list[float]] = {}
    for name, case in CASES.items():
        if names and name not in names:
            continue
        mesh = islands_mesh(name)
        if mesh is not None:
            rows.setdefault(case.kind, []).append(_case(f"{name} ({case.kind})", mesh, seconds))
    for kind, uses in rows.items():
        print(f"  {kind}: least {min(uses):.3f}, median {np.median(uses):.3f}, asked {WANTED[kind]}")


def _case(name: str, mesh: PolyMesh, seconds: float) -> float:
    islands = Islands.of(mesh, sheets_of(SIZE, margin=MARGIN))
    layers = [Layer(islands, Bonds.none(islands.count))]
    begin = time.perf_counter()
    first = pack_layers(layers, PackSettings(steps=0))
    valid = time.perf_counter() - begin
    begin = time.perf_counter()
    done = pack_layers(layers, PackSettings(steps=10**9, seconds=seconds))
    took = time.perf_counter() - begin
    margin = least_margin(islands.with_uv(done.uv)).pixels
    boxes = rectangles(islands)
    print(f"  {name}, {int(islands.mapped.sum())} islands: {done.use:.3f} after {took:.1f} s and {done.steps} steps, first {first.use:.3f} "
          f"in {valid:.2f} s, margin {margin:.4f}; as rectangles {boxes:.3f}, {done.use / boxes:.2f} times", flush=True)
    return done.use


def rectangles(islands: Islands) -> float:
    """Use of the sheet when rectpack places the islands' smallest boxes, as large as it can."""
    import rectpack

    from jacket.core.layout.pieces import pieces_of

    pieces = pieces_of([Layer(islands, Bonds.none(islands.count))], True, True)
    spans = np.array([np.ptp(p.segments.reshape(-1, 2), axis=0) for p in pieces])
    area = sum(p.area for p in pieces)
    low, high = 0.0, SIZE / np.sqrt(area)
    for _ in range(14):
        scale = (low + high) / 2
        packer = rectpack.newPacker(rotation=True)
        for k, span in enumerate(spans):
            packer.add_rect(*(int(np.ceil((s * scale + MARGIN) * 16)) for s in span), k)
        packer.add_bin(int((SIZE - MARGIN) * 16), int((SIZE - MARGIN) * 16))
        packer.pack()
        low, high = (scale, high) if len(packer.rect_list()) == len(spans) else (low, scale)
    return float(area * low**2 / SIZE**2)


if __name__ == "__main__":
    import sys

    run(float(sys.argv[1]) if len(sys.argv) > 1 else 10.0, tuple(sys.argv[2:]))
