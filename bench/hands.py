"""Hand tools from pointer event to geometry ready to draw, without a window: a jacket over 0.96 million triangles."""

from __future__ import annotations

import time
from collections.abc import Callable

import numpy as np

from bench.data import demo
from jacket.commands.display import Display
from jacket.core.derive import surface_of
from jacket.core.mesh.geometry import unit
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.mesh.walks import edge_ring
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.quads.subdivide import split_to_quads
from jacket.demo.forms import whelk_lantern
from jacket.document.document import Document
from jacket.document.state import JacketObject, SourceObject, State
from jacket.qt.scene.form import Kept, form_scene
from jacket.qt.scene.source import prepare_drawing
from jacket.qt.theme import DAY
from jacket.stages.topology.tools.brushes import Nudge, Relax
from jacket.stages.topology.tools.draft import Draft
from jacket.stages.topology.tools.rows import Rows
from jacket.stages.topology.tools.sleeve import Sleeve
from jacket.stages.topology.tools.weave import Weave
from jacket.tools.base import Tool, ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FormCamera


class Bench:
    """A document, a camera on it, and how long things take."""

    def __init__(self, source: PolyMesh, jacket: PolyMesh) -> None:
        self.source = source
        self.document = Document(
            State((SourceObject(1, "s", source),), (JacketObject(2, "j", jacket),), active=2, next_id=3)
        )
        self.camera = FormCamera(np.zeros(3), 3.0, 35, 25, width=560, height=620).framing(source.points[::50])
        self.settings = ToolSettings()
        self.display, self.kept = Display(), Kept()
        self.rng = np.random.default_rng(5)
        surface_of(jacket)

    @property
    def mesh(self) -> PolyMesh:
        return self.document.require_jacket().mesh

    def tool(self, kind: type[Tool]) -> Tool:
        return kind(self.document, self.settings)

    def at(self, x: float, y: float) -> Pointer:
        return Pointer(float(x), float(y), form=self.camera)

    def drawn(self) -> None:
        """What the window hands to the renderer."""
        form_scene(self.document.state, self.display, DAY, "topology", kept=self.kept)

    def places(self, count: int) -> np.ndarray:  # type: ignore[type-arg]
        """Pixels over the jacket."""
        surface = surface_of(self.mesh)
        out: list[tuple[float, float]] = []
        while len(out) < count:
            x, y = self.rng.uniform(100, 460), self.rng.uniform(100, 520)
            if surface.ray(*self.camera.ray(x, y)) is not None:
                out.append((x, y))
        return np.array(out)

    def timed(self, name: str, times: int, prepare: Callable[[int], object], act: Callable[[int], object]) -> None:
        """Median and 95th percentile of an action, in ms, after one to warm up."""
        ms = []
        for k in range(times + 1):
            prepare(k)
            start = time.perf_counter()
            act(k)
            ms.append(1000 * (time.perf_counter() - start))
        print(f"  {name:34s} median {np.median(ms[1:]):6.1f}   95 % {np.percentile(ms[1:], 95):6.1f} ms")


def _nothing(_: int) -> None:
    return None


def _hovers(b: Bench) -> None:
    at = b.places(61)
    for kind in (Draft, Rows, Relax, Sleeve):
        tool = b.tool(kind)
        b.timed(f"hover, {tool.label}", 60, _nothing, lambda k, t=tool: t.hover(b.at(*at[k])))  # type: ignore[misc]


def _moves(b: Bench) -> None:
    tool = b.tool(Draft)
    mesh = b.mesh
    screen = b.camera.project(mesh.points)
    surface = surface_of(b.source)
    inside = (np.abs(screen[:, :2] - [280, 310]) < 120).all(axis=1)
    ids = [p for p in np.flatnonzero(inside) if _seen(b, surface, mesh.points[p])]
    x, y, _ = screen[ids[len(ids) // 2]]
    tool.hover(b.at(x, y))
    tool.press(b.at(x, y))

    def step(k: int) -> None:
        tool.move(b.at(x + 4 + 6 * np.sin(k), y + 4 * np.cos(k)))
        b.drawn()

    b.timed("point moved", 40, _nothing, step)
    tool.cancel()


def _seen(b: Bench, surface, point) -> bool:  # type: ignore[no-untyped-def]
    away = point - b.camera.eye
    far = float(np.linalg.norm(away))
    hit = surface.ray(b.camera.eye, away / far)
    return hit is None or hit.distance > far * 0.998


def _loops(b: Bench) -> None:
    tool = b.tool(Rows)
    mesh = b.mesh
    # A spiral shell has rows that wind over all of it; a row of about 60 to 200 quads is what a hand inserts.
    wanted = 100.0 if mesh.n_faces < 10_000 else 300.0
    some = list(range(0, mesh.topology.n_edges, max(1, mesh.topology.n_edges // 3000)))
    edges = sorted(some, key=lambda e: abs(len(edge_ring(mesh, e)) - wanted))[:21]

    def insert(k: int) -> None:
        tool.edge, tool.start, tool.moved = edges[k % len(edges)], b.at(1, 1), False  # type: ignore[attr-defined]
        b.document.begin("insert a loop")
        tool._click()  # type: ignore[attr-defined]
        b.document.commit()
        b.drawn()

    def back(k: int) -> None:
        if k:
            b.document.undo()

    b.timed(f"loop of {np.mean([len(edge_ring(mesh, e)) for e in edges]):.0f} quads inserted", 20, back, insert)
    b.document.undo()

    def again(k: int) -> None:
        b.document.redo()
        b.drawn()

    def undo(k: int) -> None:
        b.document.undo()
        b.drawn()

    insert(0)
    b.timed("undo", 20, lambda k: again(k) if k else None, undo)


def _brushes(b: Bench) -> None:
    mesh = b.mesh
    at = b.places(31)
    for kind in (Relax, Nudge):
        tool = b.tool(kind)
        b.settings.brush = 40.0
        x, y = at[0]
        for _ in range(30):
            count = int((tool.weights(mesh, b.at(x, y)) > 0).sum())  # type: ignore[attr-defined]
            if 380 <= count <= 420:
                break
            b.settings.brush *= float(np.clip(np.sqrt(400 / max(count, 20)), 0.6, 1.6))
        tool.hover(b.at(x, y))
        tool.press(b.at(x, y))

        def dab(k: int, tool: Tool = tool, x: float = x, y: float = y) -> None:
            tool.move(b.at(x + 2 * np.sin(k), y + 2 * np.cos(k)))
            b.drawn()

        b.timed(f"dab of {tool.label} on {count} points", 30, _nothing, dab)
        tool.cancel()


def _smooth_place(b: Bench, half: float) -> tuple[float, float]:
    """Of some places the one about which the source is seen least bent."""
    surface = surface_of(b.source)
    grid = np.stack(np.meshgrid(np.linspace(-half, half, 7), np.linspace(-half, half, 7)), axis=-1).reshape(-1, 2)

    def bend(place: np.ndarray) -> float:  # type: ignore[type-arg]
        hits = [surface.ray(*b.camera.ray(*(place + g))) for g in grid]
        if any(h is None for h in hits):
            return np.inf
        corner = surface.points[surface.triangles[[h.triangle for h in hits if h is not None]]]
        normal = unit(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]))
        return float(-np.linalg.norm(normal.mean(axis=0)))

    x, y = min(b.places(60), key=bend)
    return float(x), float(y)


def _weave(b: Bench) -> None:
    tool = b.tool(Weave)
    x, y = _smooth_place(b, 80.0)
    half = 80.0
    for k in range(13):
        t = -half + 2 * half * k / 12
        for a, c in (((x - half - 8, y + t), (x + half + 8, y + t)), ((x + t, y - half - 8), (x + t, y + half + 8))):
            tool.press(b.at(*a))
            for s in np.linspace(0, 1, 40)[1:]:
                tool.move(b.at(a[0] + s * (c[0] - a[0]), a[1] + s * (c[1] - a[1])))
            tool.release(b.at(*c))
    print(f"  {tool.ghost.what}")

    def clear(_: int) -> None:
        tool._woven = None  # type: ignore[attr-defined]

    b.timed("Weave of 12 by 12 strokes", 12, clear, lambda k: tool._result())  # type: ignore[attr-defined]


def _sleeve(b: Bench) -> None:
    tool = b.tool(Sleeve)
    at = b.places(13)

    def ring(k: int) -> None:
        x, y = at[k]
        tool._cut(b.at(x - 60, y), b.at(x + 60, y + 5))  # type: ignore[attr-defined]

    tool.hover(b.at(*at[0]))
    b.timed("Sleeve ring", 12, _nothing, ring)


def run() -> None:
    """6,000 and 50,000 quads."""
    source = whelk_lantern(900_000)
    print(f"  source: {source.n_faces:,} triangles")
    prepare_drawing(source, True, lambda f, w: None)
    small = automatic_quads(demo("whelk-lantern"), AutoSettings(quads=6000)).mesh
    small = small.with_points(surface_of(source).project(small.points))
    large = split_to_quads(automatic_quads(demo("whelk-lantern"), AutoSettings(quads=12500)).mesh)
    large = large.with_points(surface_of(source).project(large.points))
    for jacket in (small, large):
        print(f"  -- {jacket.n_faces:,} quads")
        b = Bench(source, jacket)
        for part in (_hovers, _moves, _loops, _brushes, _weave, _sleeve):
            part(b)
