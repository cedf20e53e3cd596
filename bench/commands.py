"""Every command on odd layers, without a window: `python -m bench commands [SEEDS] [STEPS] [FIRST]`.

Whatever commands are run on layers of every kind there is, in whatever order: no exception but a sentence, and every mesh sound.
"""

from __future__ import annotations

import time
import traceback
from dataclasses import dataclass, field

import numpy as np

from bench.monkey import unsound
from bench.odd_layers import KINDS
from bench.odd_meshes import ball
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.islands import with_island_numbers
from jacket.document.state import JacketObject, SourceObject, State
from tests.host import Headless

LEFT_OUT = ("open-", "save-", "quit", "deliver", "keep-", "recover")
"""Commands that only talk to the front, by how their names begin."""


def begun(kind: str, rng: np.random.Generator) -> Headless:
    """A program over a layer of a kind and a source of it, or of a ball."""
    mesh = KINDS[kind](rng)
    source = mesh if rng.random() < 0.5 and mesh.n_faces else ball()
    if source is mesh and rng.random() < 0.5:
        source = PolyMesh.from_faces(source.points, source.triangle_points)
    layers = (JacketObject(2, "odd", mesh), JacketObject(3, "ball", ball(6, 8)))
    state = State((SourceObject(1, "source", source),), layers, active=2, next_id=4)
    return Headless(with_island_numbers(State(), state))


@dataclass
class Hunt:
    """What was done, what failed by what it was, and how long each command took."""

    made: int = 0
    failed: dict[str, str] = field(default_factory=dict)
    slow: list[tuple[float, str]] = field(default_factory=list)

    def on(self, kind: str, seed: int, steps: int) -> None:
        """So many random commands on a layer of a kind."""
        rng = np.random.default_rng([seed, *map(ord, kind)])
        program, done = begun(kind, rng), list[str]()
        document = program.document
        for _ in range(steps):
            _hold(program, rng)
            if rng.random() < 0.15:
                (document.undo if rng.random() < 0.7 else document.redo)()
                done.append("undone or redone")
            fit = [c for c in program.commands if c.available(document.state) and not c.id.startswith(LEFT_OUT)]
            command = fit[int(rng.integers(len(fit)))]
            done.append(command.id)
            start, wrong = time.perf_counter(), ""
            try:
                program.run(command)
            except Exception as error:
                place = traceback.extract_tb(error.__traceback__)[-1]
                wrong = f"{type(error).__name__} in {place.filename.rsplit('/', 1)[-1]}:{place.lineno} {error}"[:150]
            self.made += 1
            self.slow.append((time.perf_counter() - start, f"{command.id} on {kind} {seed}"))
            state = document.state
            wrong = wrong or next((w for thing in (*state.sources, *state.jackets, *state.trials) if (w := unsound(thing.mesh))), "")
            if wrong:
                self.failed.setdefault(f"{command.id}: {wrong}", f"{kind} {seed}: {', '.join(done[-6:])}")
                return


def run(seeds: int = 20, steps: int = 25, first: int = 1) -> int:
    """So many seeds of each kind; how many commands failed."""
    hunt = Hunt()
    for seed in range(first, first + seeds):
        for kind in KINDS:
            hunt.on(kind, seed, steps)
    for what, where in hunt.failed.items():
        print(f"    {what}\n      {where}")
    longest = max(hunt.slow)
    print(f"  {hunt.made} commands on {seeds * len(KINDS)} odd layers, {len(hunt.failed)} kinds of failure; longest {longest[0]:.1f} s ({longest[1]})")
    return len(hunt.failed)


def _hold(program: Headless, rng: np.random.Generator) -> None:
    """Now and then something is held: a few points, edges or faces."""
    document = program.document
    jacket = document.state.jacket
    if jacket is None or rng.random() < 0.4:
        return
    mesh = jacket.mesh
    kind = ("points", "edges", "faces")[int(rng.integers(3))]
    count = {"points": mesh.n_points, "edges": mesh.topology.n_edges, "faces": mesh.n_faces}[kind]
    if count:
        document.hold(kind, np.unique(rng.integers(0, count, int(rng.integers(1, 2 + count // 3)))))
