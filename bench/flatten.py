"""Flattening disks against libigl's SLIM from the same start in the same run."""

from __future__ import annotations

import time

import igl
import numpy as np

from bench.data import finer, spot
from jacket.core.flatten.descent import Descent, flips
from jacket.core.flatten.squares import squared_up
from jacket.core.flatten.starts import convex
from jacket.core.flatten.unwrap import flatten_chart, unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.chart import Chart, charts_of
from jacket.document.document import Document
from jacket.document.state import JacketObject, State
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


def run() -> None:
    """Spot's head and body halves at 2,900 to 46,000 triangles."""
    for times in (0, 1, 2):
        mesh = finer(spot(), times)
        middle = mesh.points[mesh.triangle_points].mean(axis=1)
        tri = mesh.triangle_points[middle[:, 0] > 0]
        used, new = np.unique(tri, return_inverse=True)
        half = PolyMesh.from_faces(mesh.points[used], new.reshape(-1, 3))
        chart = max(charts_of(half), key=lambda c: len(c.faces))
        start = time.perf_counter()
        uv, energy = flatten_chart(chart)
        ours = time.perf_counter() - start
        print(f"  {len(chart.faces):,} triangles: Jacket {ours:.2f} s, energy {energy:.5f}, flips {flips(chart, uv)}; "
              + _slim(chart))  # fmt: skip
    hands()


def _slim(chart: Chart) -> str:
    begin = time.perf_counter()
    start = convex(chart)
    none = np.zeros(0, np.int32), np.zeros((0, 2), order="F")
    points, tri = np.asfortranarray(chart.mesh.points), np.asfortranarray(chart.mesh.triangle_points.astype(np.int32))
    energy = igl.MappingEnergyType.SYMMETRIC_DIRICHLET
    data = igl.slim_precompute(points, tri, np.asfortranarray(start), energy, *none, 0.0)
    uv = np.asarray(igl.slim_solve(data, 30))[:, :2]
    seconds = time.perf_counter() - begin
    return f"libigl SLIM, 30 iterations, {seconds:.2f} s, energy {Descent(chart, uv).energy:.5f}"


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
