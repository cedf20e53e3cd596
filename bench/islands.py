"""Sets of islands to pack, made from open meshes by Jacket's own quads, seams and flattening; kept in bench/data_files."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from bench.data import CACHE, bunny, demo, finer, more_samples, pyvista_examples, sample_data, spot
from bench.parts import parts
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.seams.patches import _borders, _opened, _patches
from jacket.core.seams.suggest import suggest_seams
from jacket.core.seams.work import SuggestSettings
from jacket.formats.mesh.registry import read_mesh

FOLDER = CACHE / "islands"


@dataclass(frozen=True)
class Case:
    """kind: "organic", "hard-edged", "branching" or "many"; parts: meshes on one sheet; seams: how they are cut."""

    kind: str
    parts: tuple[str, ...]
    seams: Callable[[PolyMesh], PolyMesh]
    quads: int = 3000


def _few(mesh: PolyMesh) -> PolyMesh:
    return suggest_seams(mesh, SuggestSettings(2, 1.4))


def _patchy(mesh: PolyMesh) -> PolyMesh:
    labels = _opened(mesh, _patches(mesh))
    return mesh.with_cuts(_borders(mesh, labels))


CASES = {
    "elephant": Case("organic", ("elephant",), suggest_seams),
    "camel and pig": Case("organic", ("camel", "pig"), suggest_seams),
    "bunny, bear, spot": Case("organic", ("bunny", "bear", "spot"), suggest_seams),
    "five animals": Case("organic", ("elephant", "camel", "pig", "bear", "spot"), suggest_seams),
    "anchor": Case("hard-edged", ("anchor_dense",), suggest_seams),
    "anchor, latch, nut": Case("hard-edged", ("anchor_dense", "porthole-latch", "nut"), suggest_seams),
    "fandisk, joint, rotor": Case("hard-edged", ("fandisk_large", "joint", "rotor"), suggest_seams, 2000),
    "small parts": Case("hard-edged", ("box", "wedge", "star", "plate", "tube", "thin", "porthole-latch"), suggest_seams, 1000),
    "armadillo, two pieces": Case("branching", ("armadillo",), _few),
    "camel and elephant, few": Case("branching", ("camel", "elephant"), _few),
    "hand, bear, diplodocus, few": Case("branching", ("hand", "bear", "diplodocus"), _few),
    "scraps of three": Case("crowd", ("spot", "elephant", "camel"), _patchy),
    "crowd": Case("crowd", ("spot", "elephant", "camel", "bunny", "pig", "bear", "hand", "armadillo", "diplodocus", "spot"), _patchy),
    "scraps of spot and bear": Case("many", ("spot", "bear"), _patchy),
    "scraps of two": Case("many", ("bunny", "pig"), _patchy),
}


def _source(name: str) -> PolyMesh | None:
    if name == "spot":
        return finer(spot(), 2)
    if name == "bunny":
        return bunny()
    if name == "porthole-latch":
        return demo(name)
    for found in (sample_data(), more_samples(), pyvista_examples()):
        for key, path in found.items():
            if key.split()[0] == name:
                return read_mesh(path)
    return next((mesh for key, mesh in parts().items() if key.startswith(name)), None)


def _unit(mesh: PolyMesh) -> PolyMesh:
    low, high = mesh.points.min(axis=0), mesh.points.max(axis=0)
    return mesh.with_points(mesh.points / float(np.linalg.norm(high - low)))


def _beside(rows: list[PolyMesh]) -> PolyMesh:
    """Meshes with UVs and cuts as one."""
    faces, at = [], 0
    for mesh in rows:
        faces += [mesh.corners[a:b] + at for a, b in zip(mesh.starts[:-1], mesh.starts[1:], strict=True)]
        at += len(mesh.points)
    first = np.cumsum([0] + [len(m.points) for m in rows])
    whole = PolyMesh.from_faces(np.concatenate([m.points for m in rows]), faces)
    cuts = np.concatenate([m.cuts + k for m, k in zip(rows, first, strict=False)])
    return whole.with_uv(np.concatenate([m.uv for m in rows])).with_cuts(cuts)


def islands_mesh(name: str) -> PolyMesh | None:
    """The flattened jackets of a case as one mesh, islands not packed; None where a mesh is not reached."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    file = FOLDER / (name.replace(" ", "-").replace(",", "") + ".npz")
    if not file.exists():
        case = CASES[name]
        rows = []
        for key in case.parts:
            mesh = _source(key)
            if mesh is None:
                return None
            jacket = case.seams(automatic_quads(mesh, AutoSettings(quads=case.quads)).mesh)
            rows.append(_unit(unwrap(jacket)[0]))
        whole = _beside(rows)
        np.savez_compressed(file, points=whole.points, corners=whole.corners, starts=whole.starts, uv=whole.uv, cuts=whole.cuts)
    kept = np.load(file)
    mesh = PolyMesh.from_faces(kept["points"], np.split(kept["corners"], kept["starts"][1:-1]))
    return mesh.with_uv(kept["uv"]).with_cuts(kept["cuts"])


if __name__ == "__main__":
    import sys

    from jacket.core.uv.islands import Islands

    for case in sys.argv[1:] or CASES:
        made = islands_mesh(case)
        print(case, None if made is None else (made.n_faces, Islands.of(made).count, int(Islands.of(made).mapped.sum())), flush=True)
