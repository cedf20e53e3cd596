"""How soon long work on the command line ends when it is interrupted, and what is left of it.

Every verb is begun on a large input and sent SIGINT, as Ctrl+C does, at several moments; it has to end with a sentence and
code 130, and nothing half written may be left.
"""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from bench.data import finer, spot
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.formats.mesh.registry import write_mesh

STOPPED = 1.0
"""Seconds asked."""


def _lines(folder: Path) -> dict[str, list[str]]:
    """A long line of every verb."""
    source = finer(spot(), 2)
    write_mesh(source, folder / "s.ply")
    write_mesh(finer(source, 1), folder / "large.ply")
    write_mesh(automatic_quads(spot(), AutoSettings(quads=6000, rows=0.0)).mesh, folder / "j.obj")
    s, large, j, flat = (str(folder / n) for n in ("s.ply", "large.ply", "j.obj", "flat.obj"))
    subprocess.run([sys.executable, "-m", "jacket", "unwrap", j, flat, "--seams", "auto", "--quiet"], check=False)
    return {
        "run": ["run", s, str(folder / "o1"), "--quads", "4000"],
        "remesh": ["remesh", s, str(folder / "o2.obj"), "--quads", "4000"],
        "prepare": ["prepare", large, str(folder / "o3.ply"), "--reduce", "20000"],
        "seams": ["unwrap", j, str(folder / "o4.obj"), "--seams", "auto"],
        "pack": ["pack", flat, str(folder / "o5.obj"), "--seconds", "60"],
        "bake": ["bake", flat, str(folder / "o6"), "--source", large, "--map-size", "4096", "--maps", "all"],
    }


def run(times: int = 5) -> int:
    """Interrupt each verb so many times; how many ends were too late or left something."""
    bad, rng = 0, random.Random(5)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for verb, line in _lines(folder).items():
            took: list[float] = []
            said = set[str]()
            for _ in range(times):
                process = subprocess.Popen([sys.executable, "-m", "jacket", *line, "--force"], stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
                                           env={**os.environ, "JACKET_HOME": f"{name}/home"})  # fmt: skip
                time.sleep(2.0 + rng.uniform(0, 6))
                if process.poll() is not None:
                    said.add(f"ended by itself with {process.returncode}")
                    process.communicate()
                    continue
                start = time.perf_counter()
                process.send_signal(signal.SIGINT)
                _, err = process.communicate(timeout=120)
                took.append(time.perf_counter() - start)
                said.add(f"{process.returncode}: {err.strip().splitlines()[-1] if err.strip() else 'nothing'}"[:110])
                left = [p.name for p in folder.rglob("*.part*")]
                if took[-1] > STOPPED or process.returncode != 130 or left or "Traceback" in err:
                    bad += 1
                    print(f"    {verb}: {took[-1]:.2f} s, code {process.returncode}, left {left}")
            if took:
                print(f"  {verb}: {len(took)} interrupts, median {np.median(took):.2f} s, longest {max(took):.2f} s; {'; '.join(sorted(said))}", flush=True)
            else:
                print(f"  {verb}: {'; '.join(sorted(said))}", flush=True)
    return bad
