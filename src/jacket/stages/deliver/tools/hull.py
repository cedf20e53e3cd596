"""Hull paints the cage on the form: how far rays reach, and whether they follow the faces."""

from __future__ import annotations

import numpy as np

from jacket.core.bake.cage import REACH, STRAIGHT
from jacket.core.fit.shift import FALLOFFS
from jacket.core.mesh.polymesh import Bools, PolyMesh
from jacket.tools.base import Option
from jacket.tools.brush import Brush
from jacket.tools.events import NO_GHOST, Ghost, Pointer

PAINTS = (("further", "reach further"), ("nearer", "reach less far"), ("straight", "follow the faces"), ("averaged", "averaged again"))
STEP = 1.15
"""By how much a full dab lets the cage reach further."""


class Hull(Brush):
    """A round brush over the cage."""

    id, label, stage, key = "hull", "Hull", "deliver", "U"
    paints = "further"
    options = (Option("paints", "Rays", "choice", choices=PAINTS), Option("falloff", "Falls off", "choice", choices=tuple((f, f) for f in FALLOFFS)),
               Option("connected", "Only what hangs together", "switch"))  # fmt: skip
    legend = (("drag", "paint the cage"), ("Ctrl+drag", "the other way round"), ("Ctrl+wheel", "size of the brush"))
    _other = {"further": "nearer", "nearer": "further", "straight": "averaged", "averaged": "straight"}

    def hover(self, pointer: Pointer) -> None:
        """Say what a drag would do."""
        if pointer.form is None:
            self.ghost = NO_GHOST
            return
        self.ghost = Ghost(circle=self.settings.brush, what=f"Rays {dict(PAINTS)[self._doing(pointer)]}", how="drag")

    def _doing(self, pointer: Pointer) -> str:
        return self._other[self.paints] if pointer.ctrl else self.paints

    def staying(self, mesh: PolyMesh) -> Bools:
        """The cage is painted everywhere that there are faces."""
        return np.bincount(mesh.corners, minlength=mesh.n_points) == 0

    def dab(self, before: Pointer, pointer: Pointer) -> None:
        """One touch: reach by a factor, or a share of the way to the faces."""
        mesh = self.document.require_jacket().mesh
        weight = self.weights(mesh, pointer) * self.settings.strength * max(pointer.pressure, 0.2)
        if not weight.any():
            return
        doing = self._doing(pointer)
        if doing in ("further", "nearer"):
            now = np.array(mesh.point_data.get(REACH, np.ones(mesh.n_points)), np.float64)
            channel, values = REACH, np.clip(now * STEP ** (weight if doing == "further" else -weight), 0.05, 20.0)
        else:
            now = np.array(mesh.point_data.get(STRAIGHT, np.zeros(mesh.n_points)), np.float64)
            channel, values = STRAIGHT, now + ((1.0 if doing == "straight" else 0.0) - now) * weight
        self.document.edit_jacket("paint the cage", mesh.with_(point_data={**mesh.point_data, channel: values}))
