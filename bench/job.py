"""The whole job on closed meshes of 50,000 to 100,000 triangles."""

from __future__ import annotations

import json
import tempfile
import time
from pathlib import Path

from bench.data import DEMO, finer, spot
from jacket.cli.main import main
from jacket.formats.mesh.registry import write_mesh


def run() -> None:
    """`jacket run --quads 2000 --size 1024 --margin 8`, kernels compiled already."""
    with tempfile.TemporaryDirectory() as folder:
        write_mesh(finer(spot(), 2), Path(folder) / "spot-94k.ply")
        for path in (Path(folder) / "spot-94k.ply", DEMO / "whelk-lantern.ply", DEMO / "porthole-latch.ply"):
            report = Path(folder) / "report.json"
            start = time.perf_counter()
            code = main(["run", str(path), f"{folder}/out", "--quads", "2000", "--size", "1024", "--margin", "8",
                         "--quiet", "--report", str(report)])  # fmt: skip
            seconds = time.perf_counter() - start
            r = json.loads(report.read_text())
            checks = {c["id"]: c for c in r["checks"]}
            q, s = r["quads"], r["stretch"]
            print(
                f"  {path.stem}: exit {code}, {seconds:.1f} s, {q['quads']} quads, {q['not_quads']} others, "
                f"non-manifold {q['nonmanifold_edges']}, folded {q['folded']}, irregular {q['irregular_percent']:.1f} %, "
                f"gap mean {q['gap_out_mean']:.3f} % largest {q['gap_out_largest']:.2f} %, stretch {s['dirichlet']:.3f}, "
                f"unmapped {s['unmapped_faces']}, flipped {checks['flipped']['number']}, overlapping "
                f"{checks['overlap']['number']}, margin {checks['margin']['number']:.2f} px, use {100 * r['sheet']['use']:.0f} %"
            )
