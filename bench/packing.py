"""Packing sets of islands from open meshes: use of the sheet at 4 px on 1,024, proven by shapely and a conservative raster."""

from __future__ import annotations

import time

import numpy as np

from bench.islands import CASES, islands_mesh
from jacket.commands.display import Display
from jacket.core.derive import islands_of
from jacket.core.layout.margins import least_margin
from jacket.core.layout.pack import PackSettings, pack_layers
from jacket.core.layout.pieces import Bonds, Layer
from jacket.core.layout.twins import find_twins
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.islands import Islands
from jacket.document.document import Document
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, State
from jacket.jobs.pack import sheets_of
from jacket.qt.scene.form import Kept
from jacket.qt.scene.sheet import sheet_layers, too_near
from jacket.qt.theme import DAY
from jacket.stages.layout.tools.place import Place
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera

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
            rows.setdefault(case.kind, []).append(_case(f"{name} ({case.kind})", mesh, seconds * (3 if name == "crowd" else 1)))
    for kind, uses in rows.items():
        print(f"  {kind}: least {min(uses):.3f}, median {np.median(uses):.3f}, asked {WANTED[kind]}")
    if not names:
        hands()


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


def hands() -> None:
    """An island dragged among some 250, scenes, checks of closeness and all; twins among 500 islands."""
    mesh = islands_mesh("scraps of three")
    if mesh is not None:
        sheets = sheets_of(SIZE, margin=MARGIN)
        islands = Islands.of(mesh, sheets)
        packed = mesh.with_uv(pack_layers([Layer(islands, Bonds.none(islands.count))], PackSettings(steps=0)).uv)
        document = Document(with_island_numbers(State(), State((), (JacketObject(1, "j", packed),), active=1, next_id=2, sheets=sheets)))
        tool, camera = Place(document, ToolSettings()), FlatCamera(np.array([0.5, 0.5]), 800.0, width=900, height=900)
        islands = islands_of(packed, sheets)
        x, y = camera.project((islands.boxes[40][:2] + islands.boxes[40][2:])[None] / 2)[0]
        display, kept, spans = Display(), Kept(), []
        tool.press(Pointer(x, y, flat=camera))
        for k in range(24):
            begin = time.perf_counter()
            tool.move(Pointer(x + k, y + k / 2, flat=camera))
            state = document.state
            assert state.jacket is not None
            near = tuple(too_near(state.jacket.mesh, state))
            kept.layers("sheets", k, lambda s=state, n=near: sheet_layers(s, display, DAY, 800.0, n))
            spans.append(time.perf_counter() - begin)
        print(f"  an island dragged among {islands.count} with the flat scene: median {1000 * np.median(spans):.0f} ms, longest {1000 * max(spans[1:]):.0f} ms")
    for many in (False, True):
        whole = copies(500, many)
        begin = time.perf_counter()
        groups = find_twins(Islands.of(whole), 0.01)
        print(f"  twins among 500 islands of {whole.n_faces // 500} quads, {'all of one shape' if many else 'of 50 shapes'}: "
              f"{time.perf_counter() - begin:.2f} s, {len(groups)} groups")  # fmt: skip


def copies(count: int, alike: bool) -> PolyMesh:
    """Bent square patches of 36 quads, turned at random, each tenth or every one of one shape."""
    rng = np.random.default_rng(5)
    side = np.arange(7)
    base = np.stack([*np.meshgrid(side, side), np.zeros((7, 7))], axis=-1).reshape(-1, 3)
    quads = np.array([[7 * j + i, 7 * j + i + 1, 7 * j + i + 8, 7 * j + i + 7] for j in range(6) for i in range(6)])
    points = []
    for k in range(count):
        bent = base.copy()
        bent[:, 2] = 0.01 * (1 if alike else 1 + k % 50) * bent[:, 0] ** 2 + 0.02 * bent[:, 0] * bent[:, 1]
        turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
        points.append(bent @ turn + [0, 0, 20.0 * k])
    mesh = PolyMesh.from_faces(np.concatenate(points), (quads[None] + 49 * np.arange(count)[:, None, None]).reshape(-1, 4))
    return mesh.with_uv(mesh.points[mesh.corners][:, :2] / 100)


if __name__ == "__main__":
    import sys

    run(float(sys.argv[1]) if len(sys.argv) > 1 else 10.0, tuple(sys.argv[2:]))
