"""Meshes for benches. Scans are fetched from the npm registry into bench/data and never committed.

- spot: public domain (CC0), Keenan Crane; tests/data/spot.ply
- bunny: npm package "bunny" 1.0.1 (MIT), after the Stanford Computer Graphics Laboratory's scan
- the three demo sources are Jacket's own
"""

from __future__ import annotations

import json
import re
import subprocess
import tarfile
from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.base import _halved_edges
from jacket.formats.registry import read_mesh

ROOT = Path(__file__).resolve().parent.parent
CACHE = ROOT / "bench" / "data_files"
DEMO = ROOT / "src" / "jacket" / "assets" / "demo"


def demo(name: str) -> PolyMesh:
    """One of the three demo sources."""
    return read_mesh(DEMO / f"{name}.ply")


def spot() -> PolyMesh:
    """Spot as it comes: 5,856 triangles."""
    return read_mesh(ROOT / "tests" / "data" / "spot.ply")


def finer(mesh: PolyMesh, times: int) -> PolyMesh:
    """Each triangle split in four, some times over: real coordinates, any density."""
    points, tri = mesh.points, mesh.triangle_points
    for _ in range(times):
        points, tri = _halved_edges(points, tri)
    return PolyMesh.from_faces(points, tri)


def bunny() -> PolyMesh | None:
    """The rabbit scan from npm, or None where the registry is not reached."""
    CACHE.mkdir(parents=True, exist_ok=True)
    file = CACHE / "bunny-1.0.1.tgz"
    if not file.exists():
        done = subprocess.run(["npm", "pack", "bunny@1.0.1"], cwd=CACHE, capture_output=True, text=True)
        if done.returncode:
            print("  bunny: not reached, left out")
            return None
    with tarfile.open(file) as archive:
        member = archive.extractfile("package/index.js")
        text = member.read().decode() if member else ""
    arrays = [json.loads(re.sub(r"\s", "", m)) for m in re.findall(r"=\s*(\[\s*\[.*?\]\s*\])", text, re.S)]
    places = next(a for a in arrays if isinstance(a[0][0], float))
    cells = next(a for a in arrays if a is not places)
    return PolyMesh.from_faces(np.array(places, float), np.array(cells, np.int64))
