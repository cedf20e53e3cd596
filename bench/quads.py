"""The automatic route on organic, torn and hard-edged meshes."""

from __future__ import annotations

import resource
import time

from bench.data import bunny, demo, finer, spot
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads


def run() -> None:
    """4,000 quads wanted from each."""
    cases: list[tuple[str, PolyMesh | None]] = [
        ("spot 5,856", spot()), ("spot 94k", finer(spot(), 2)), ("bunny", bunny()), ("whelk lantern", demo("whelk-lantern")),
        ("porthole latch", demo("porthole-latch")), ("barnacled bollard", demo("barnacled-bollard")),
    ]  # fmt: skip
    for name, mesh in cases:
        if mesh is None:
            continue
        start = time.perf_counter()
        result = automatic_quads(mesh, AutoSettings(quads=4000))
        seconds, f = time.perf_counter() - start, result.figures
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"  {name}: {len(mesh.triangles):,} triangles, {seconds:.1f} s, peak {memory:.0f} MB, {f.quads} quads, "
            f"{f.not_quads} others, irregular {f.irregular_percent:.2f} % (field {result.field_singularities}), corner "
            f"mean {f.jacobian_mean:.3f} p1 {f.jacobian_p1:.2f} least {f.jacobian_least:.2f}, folded {f.folded}, "
            f"non-manifold {f.nonmanifold_edges}, gap mean {f.gap_out_mean:.3f} % largest {f.gap_out_largest:.2f} %"
            + "".join(f"; {note}" for note in result.notes)
        )
