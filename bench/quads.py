"""The automatic route on organic, torn and hard-edged meshes."""

from __future__ import annotations

import resource
import sys
import time

from bench.data import bunny, demo, dragons, finer, more_samples, pyvista_examples, sample_data, spot
from bench.parts import parts
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, QuadFigures, automatic_quads
from jacket.formats.mesh.registry import read_mesh


class Steps:
    """Seconds by named step, from the progress that the work tells anyway."""

    def __init__(self) -> None:
        self.at = time.perf_counter()
        self.name = "reading the surface"
        self.seconds: dict[str, float] = {}
        self.longest = 0.0
        self.memory: dict[str, float] = {}

    def __call__(self, fraction: float, what: str) -> None:
        now = time.perf_counter()
        self.seconds[self.name] = self.seconds.get(self.name, 0.0) + now - self.at
        self.longest = max(self.longest, now - self.at)
        self.memory[self.name] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        self.at, self.name = now, what

    def told(self) -> str:
        """What took a tenth of a second or more, with the peak of memory so far, and the longest silence."""
        self(1.0, "")
        rows = ", ".join(f"{n} {s:.1f} s ({self.memory[n]:.0f} MB)" for n, s in self.seconds.items() if s >= 0.1)
        return f"{rows}; longest without a word {self.longest:.1f} s"


def run() -> None:
    """4,000 quads wanted from scans, 2,000 from parts; words after the bench's name choose meshes."""
    cases: list[tuple[str, PolyMesh | None]] = [
        ("spot 5,856", spot()), ("spot 94k", finer(spot(), 2)), ("bunny", bunny()), ("whelk lantern", demo("whelk-lantern")),
        ("porthole latch", demo("porthole-latch")), ("barnacled bollard", demo("barnacled-bollard")),
        *((name, read_mesh(path)) for name, path in dragons().items()),
        ("whelk lantern 388k", finer(demo("whelk-lantern"), 1)), ("porthole latch 239k", finer(demo("porthole-latch"), 1)),
        *((name, read_mesh(path)) for name, path in (*sample_data().items(), *more_samples().items())),
        *((name, read_mesh(path)) for name, path in pyvista_examples().items()), *parts().items(),
    ]  # fmt: skip
    scans = 12 + len(sample_data()) + len(more_samples())
    kept: list[tuple[str, QuadFigures, float]] = []
    only = sys.argv[2:]
    for k, (name, mesh) in enumerate(cases):
        if mesh is None or (only and not any(word in name for word in only)):
            continue
        steps = Steps()
        start = time.perf_counter()
        result = automatic_quads(mesh, AutoSettings(quads=4000 if k < scans else 2000), steps)
        seconds, f = time.perf_counter() - start, result.figures
        memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"  {name}: {len(mesh.triangles):,} triangles, {seconds:.1f} s, peak {memory:.0f} MB, {f.quads} quads, "
            f"{f.not_quads} others, irregular {f.irregular_percent:.2f} % (field {result.field_singularities}), corner "
            f"mean {f.jacobian_mean:.3f} p1 {f.jacobian_p1:.2f} least {f.jacobian_least:.2f}, folded {f.folded}, "
            f"non-manifold {f.nonmanifold_edges}, gap mean {f.gap_out_mean:.3f} % largest {f.gap_out_largest:.2f} %, left "
            f"uncovered {f.gap_in_largest:.2f} % (inside {f.gap_hidden:.2f} %), longest ring {f.longest_ring:.1f} %, crossed by itself {f.crossed_by_itself:.1f} %, "
            f"{f.patches} patches"
            + "".join(f"; {note}" for note in result.notes)
        )
        print(f"    {steps.told()}")
        if k < scans:
            kept.append((name, f, seconds))
    summed = [
        ("longest ring %", [f.longest_ring for _, f, _ in kept]), ("crossed by itself %", [f.crossed_by_itself for _, f, _ in kept]),
        ("left uncovered %", [f.gap_in_largest for _, f, _ in kept]), ("gap largest %", [f.gap_out_largest for _, f, _ in kept]),
        ("corner mean", [-f.jacobian_mean for _, f, _ in kept]), ("corner 1st percentile", [-f.jacobian_p1 for _, f, _ in kept]),
        ("irregular %", [f.irregular_percent for _, f, _ in kept]), ("seconds", [s for _, _, s in kept]),
    ]  # fmt: skip
    for name, values in summed:
        ranked = sorted(values)
        middle, worst = abs(ranked[len(ranked) // 2]), abs(ranked[-1])
        print(f"  scans, {name}: median {middle:.3g}, worst {worst:.3g} ({kept[values.index(ranked[-1])][0]})")
