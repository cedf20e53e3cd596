"""Flattening disks against libigl's SLIM from the same start in the same run."""

from __future__ import annotations

import time

import igl
import numpy as np

from bench.data import finer, spot
from jacket.core.flatten.descent import Descent, flips
from jacket.core.flatten.starts import convex
from jacket.core.flatten.unwrap import flatten_chart
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.chart import Chart, charts_of


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
