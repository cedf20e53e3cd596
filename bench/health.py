"""Counts of `inspect` beside libigl's on open meshes, and every file of Debian's assimp-testmodels beside trimesh."""

from __future__ import annotations

import logging
import time
import warnings

import igl
import numpy as np

from bench.data import ROOT, assimp_models, bunny, demo, dragons, pyvista_examples, spot
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.source.health import examine, welded_copy, whole_faces, winding_edges
from jacket.core.source.winding import uneven_faces
from jacket.errors import FormatError
from jacket.formats.mesh.registry import read_mesh


def compared(mesh: PolyMesh) -> tuple[dict[str, tuple[float, float]], float]:
    """Our figure and libigl's for each count, and our seconds. libigl traces borders only where edges are
    manifold; elsewhere its border edges are compared."""
    start = time.perf_counter()
    health = examine(mesh)
    seconds = time.perf_counter() - start
    joined, _ = whole_faces(welded_copy(mesh))
    if len(winding_edges(joined)):
        joined = faces_turned(joined, uneven_faces(joined))
    tri = joined.triangle_points.astype(np.int64)
    manifold, per_face, _, edge_manifold, _ = _edge_manifold(tri)
    del per_face
    out: dict[str, tuple[float, float]] = {
        "edges manifold": (health.nonmanifold_edges == 0, manifold),
        "components": (
            health.parts,
            len(
                np.unique(
                    igl.facet_components(tri)[1]
                    if isinstance(igl.facet_components(tri), tuple)
                    else igl.facet_components(tri)
                )
            ),
        ),
        "Euler": (health.euler, _euler(tri)),
        "area": (health.area, float(igl.doublearea(joined.points, tri).sum() / 2)),
    }
    if manifold:
        loops = igl.boundary_loop_all(tri)
        points = igl.is_vertex_manifold(tri)
        used = np.zeros(joined.n_points, bool)
        used[tri.ravel()] = True
        ours_ok = health.nonmanifold_points == 0
        theirs = bool(np.asarray(points).ravel()[used[: len(np.asarray(points).ravel())]].all())
        out["points manifold"] = (ours_ok, theirs)
        if theirs:
            out["borders"] = (health.borders, len(loops))
        else:
            out["border edges"] = (len(joined.topology.border_edges), len(igl.boundary_facets(tri)[0]))
    else:
        out["border edges"] = (len(joined.topology.border_edges), len(igl.boundary_facets(tri)[0]))
    del edge_manifold
    return out, seconds


def _edge_manifold(tri: np.ndarray) -> tuple:  # type: ignore[type-arg]
    result = igl.is_edge_manifold(tri)
    return result if isinstance(result, tuple) else (bool(result), None, None, None, None)


def _euler(tri: np.ndarray) -> int:  # type: ignore[type-arg]
    edges = igl.edges(tri)
    return len(np.unique(tri)) - len(edges) + len(tri)


def run() -> None:
    """Both comparisons."""
    meshes: dict[str, PolyMesh] = {"spot (CC0)": spot()}
    rabbit = bunny()
    if rabbit is not None:
        meshes["bunny (npm)"] = rabbit
    for name, path in {**pyvista_examples(), **dragons()}.items():
        meshes[name] = read_mesh(path)
    for path in assimp_models():
        if path.stem in (
            "Wuson",
            "sphereWithHole",
            "3DSMaxExport",
            "Spider_binary",
            "2CylinderEngine",
        ) and path.suffix.lower() in (".stl", ".glb"):
            if "draco" not in str(path):
                meshes[f"{path.name} (assimp)"] = read_mesh(path)
    meshes["barnacled bollard"] = demo("barnacled-bollard")
    wrong = 0
    for name, mesh in meshes.items():
        rows, seconds = compared(PolyMesh.from_faces(mesh.points, mesh.triangle_points))
        bad = {k: v for k, v in rows.items() if not np.isclose(float(v[0]), float(v[1]), rtol=1e-9)}
        wrong += bool(bad)
        shown = ", ".join(f"{k} {v[0]:g}" for k, v in rows.items() if k not in ("area",))
        print(f"  {name}: {mesh.n_faces:,} faces, {seconds:.2f} s; {shown}" + (f"; DIFFERS {bad}" if bad else ""))
    print(f"  {len(meshes)} meshes, {wrong} differ from libigl")
    _files()


def _files() -> None:
    import trimesh

    logging.disable(logging.CRITICAL)
    warnings.simplefilter("ignore")
    same = differ = refused = both = 0
    for path in assimp_models():
        try:
            ours = len(read_mesh(path).triangle_points)
        except FormatError:
            ours = -1
        try:
            theirs = len(trimesh.load(path, force="mesh", process=False).faces)
        except Exception:
            theirs = -1
        if ours < 0:
            refused += 1
            both += theirs <= 0
        elif ours == theirs:
            same += 1
        else:
            differ += 1
            print(
                f"    {path.relative_to(ROOT / 'bench' / 'data_files' / 'assimp')}: {ours} triangles, trimesh {theirs}"
            )
    print(
        f"  {same} files alike, {differ} not; {refused} refused with a sentence, of which trimesh opens {refused - both}"
    )
