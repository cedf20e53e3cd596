"""Flattening disks against libigl's SLIM from the same start in the same run."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

import igl
import numpy as np

from bench.data import bunny, demo, dragons, finer, sample_data, spot
from jacket.core.flatten.descent import Descent, flips
from jacket.core.flatten.squares import squared_up
from jacket.core.flatten.starts import convex
from jacket.core.flatten.unwrap import flatten_chart, unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.chart import Chart, charts_of
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
from jacket.formats.mesh.registry import read_mesh
from jacket.stages.flatten.tools.brushes import FlatNudge, FlatRelax, Pinch, Refine
from jacket.stages.flatten.tools.carrying import Carry
from jacket.tools.base import ToolSettings
from jacket.tools.events import Pointer
from jacket.tools.view import FlatCamera


def grid(n: int) -> PolyMesh:
    """n × n quads in a plane."""
    points = np.array([[i, j, 0.0] for j in range(n + 1) for i in range(n + 1)])
    w = n + 1
    return PolyMesh.from_faces(points, np.array([[j * w + i, j * w + i + 1, (j + 1) * w + i + 1, (j + 1) * w + i]
                                                 for j in range(n) for i in range(n)]))  # fmt: skip


def disk_of(mesh: PolyMesh) -> Chart | None:
    """The largest disk that a plane across an axis cuts off a mesh; None where there is none."""
    middle, best = mesh.points[mesh.triangle_points].mean(axis=1), None
    for axis in range(3):
        for share in (0.5, 0.35, 0.65, 0.25, 0.75):
            for side in (1, -1):
                level = np.quantile(middle[:, axis], share)
                tri = mesh.triangle_points[side * (middle[:, axis] - level) > 0]
                used, new = np.unique(tri, return_inverse=True)
                if len(used) == 0:
                    continue
                half = PolyMesh.from_faces(mesh.points[used], new.reshape(-1, 3))
                for chart in charts_of(half):
                    if chart.is_disk and (best is None or len(chart.faces) > len(best.faces)):
                        best = chart
    return best


def run() -> None:
    """Disks of 2,000 to 50,000 triangles: halves of spot at three densities, and the largest that a plane cuts off open meshes."""
    warm = disk_of(finer(spot(), 0))
    assert warm is not None
    flatten_chart(warm)
    rows = [(f"spot {4**times} times", finer(spot(), times)) for times in (0, 1, 2)]
    rabbit = bunny()
    rows += [("bunny", rabbit)] if rabbit is not None else []
    rows += [(name, read_mesh(path)) for name, path in (*sample_data().items(), *dragons().items())]
    rows += [("whelk lantern", demo("whelk-lantern")), ("porthole latch", demo("porthole-latch"))]
    rows = [(name, finer(mesh, 1) if len(mesh.triangle_points) < 3_500 else mesh) for name, mesh in rows if len(mesh.triangle_points) <= 120_000]
    shares, gains, firsts = [], [], list[float]()
    for name, mesh in rows:
        chart = disk_of(mesh)
        if chart is None or not 1_500 <= len(chart.faces) <= 60_000:
            continue
        with _watched() as falling:
            start = time.perf_counter()
            uv, energy = flatten_chart(chart)
            ours = time.perf_counter() - start
        seconds, theirs = _slim(chart)
        passed = next((at - start for at, value in falling if value <= theirs), None)
        firsts.append(np.inf if passed is None else passed / seconds)
        shares.append(ours / seconds)
        gains.append(energy / theirs)
        print(f"  {name}, {len(chart.faces):,} triangles: Jacket {ours:.2f} s, energy {energy:.5f}, flips {flips(chart, uv)}; "
              f"libigl SLIM, 30 iterations, {seconds:.2f} s, energy {theirs:.5f}; {ours / seconds:.2f} of the time, "
              + ("their energy not reached" if passed is None else f"their energy passed at {passed / seconds:.2f}"), flush=True)  # fmt: skip
    print(f"  {len(shares)} disks: median {np.median(shares):.2f} of the time, worst {max(shares):.2f}; their energy passed at a median of {np.median(firsts):.2f}, at a quarter of their time or before on {sum(f <= 0.25 for f in firsts)}; energy at most {max(gains):.5f} times theirs")
    hands()


@contextmanager
def _watched() -> Iterator[list[tuple[float, float]]]:
    """When steps ended and at which energy, that towards shapes in between not counted."""
    rows: list[tuple[float, float]] = []
    step = Descent.step

    def watched(self: Descent, reweighted: bool, stale: bool = False) -> float:
        gain = step(self, reweighted, stale)
        rows.append((time.perf_counter(), self.energy if self.inverse is self.pattern.inverse else np.inf))
        return gain

    Descent.step = watched  # type: ignore[method-assign]
    try:
        yield rows
    finally:
        Descent.step = step  # type: ignore[method-assign]


def _slim(chart: Chart) -> tuple[float, float]:
    """Seconds and energy of 30 iterations from Tutte's map."""
    begin = time.perf_counter()
    start = convex(chart)
    none = np.zeros(0, np.int32), np.zeros((0, 2), order="F")
    points, tri = np.asfortranarray(chart.mesh.points), np.asfortranarray(chart.mesh.triangle_points.astype(np.int32))
    energy = igl.MappingEnergyType.SYMMETRIC_DIRICHLET
    data = igl.slim_precompute(points, tri, np.asfortranarray(start), energy, *none, 0.0)
    uv = np.asarray(igl.slim_solve(data, 30))[:, :2]
    seconds = time.perf_counter() - begin
    return seconds, Descent(chart, uv).energy


def hands() -> None:
    """Dabs, a carried point and squares over the sheet, the work alone without drawing."""
    for n in (50, 71, 100):
        sheet = grid(n)
        points = sheet.points.copy()
        points[:, 2] = 0.1 * n * np.sin(points[:, 0] / n * 5) * np.cos(points[:, 1] / n * 4)
        mesh, _ = unwrap(sheet.with_points(points))
        mesh = mesh.with_uv(mesh.uv * (0.7 / n) + 0.5)
        camera = FlatCamera(np.array([0.5, 0.5]), 600.0, width=800, height=800)
        spans: dict[str, list[float]] = {}
        for kind in (FlatNudge, FlatRelax, Pinch, Refine, Carry):
            document = Document(State((), (JacketObject(1, "j", mesh),), active=1, next_id=2))
            tool = kind(document, ToolSettings(brush=60))
            tool.press(Pointer(400.0, 400.0, flat=camera))
            for k in range(12):
                begin = time.perf_counter()
                tool.move(Pointer(400.0 + k, 400.0 + k / 2, flat=camera))
                spans.setdefault(tool.label, []).append(time.perf_counter() - begin)
            tool.release(Pointer(412.0, 406.0, flat=camera))
        told = ", ".join(f"{name} {1000 * float(np.median(v)):.1f} ms" for name, v in spans.items())
        print(f"  {mesh.n_faces:,} quads, a dab: {told}")
    chart = charts_of(grid(30))[0]
    squared_up(chart)
    for way in ("whole", "rows", "border"):
        begin = time.perf_counter()
        squared_up(chart, way)
        print(f"  900 quads squared up, {way}: {1000 * (time.perf_counter() - begin):.0f} ms")
