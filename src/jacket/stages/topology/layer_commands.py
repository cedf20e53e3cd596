"""Commands on layers of the jacket."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from jacket.commands.beside import Quiet, beside
from jacket.commands.common import has_faces, has_layer
from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.document.document import Document
from jacket.document.edits import layers
from jacket.document.state import JacketObject
from jacket.document.task import Task, on_layer
from jacket.progress import Progress
from jacket.stages.topology.tools.moving import held_points
from jacket.stages.topology.values import TopologyValues


def _rename(host: Host) -> None:
    layer = host.document.require_jacket()
    name = host.ask_text("Rename the layer", "Its name", layer.name)
    if name:
        layers.rename_layers(host.document, [layer.id], name)


def _rename_all(host: Host) -> None:
    ids = [j.id for j in host.document.state.jackets if j.visible]
    name = host.ask_text("Rename the visible layers", "* is the old name, # a number", "* #")
    if name:
        layers.rename_layers(host.document, ids, name)


def _radial(host: Quiet) -> None:
    axis = "xyz".index(host.values(TopologyValues).copy_axis)
    state = host.document.state
    source = state.source
    centre = np.zeros(3)
    held = held_points(state) if state.held.parts else np.zeros(0, int)
    if len(held):
        centre = host.document.require_jacket().mesh.points[held].mean(axis=0)
    elif source is not None and not state.mirror:
        centre = source.mesh.points.min(axis=0) / 2 + source.mesh.points.max(axis=0) / 2
    layers.radial_layers(host.document, axis, host.values(TopologyValues).copies, centre)


SMALL = 8_000
"""Points that layers are joined of at once; more of them are worked on beside the window."""


def _join(host: Host) -> None:
    document, state = host.document, host.document.state
    visible = [j for j in state.jackets if j.visible]
    if sum(j.mesh.n_points for j in visible) <= SMALL:
        layers.join_layers(document)
        return
    ids = {j.id for j in visible}

    def job(progress: Progress) -> JacketObject:
        progress(0.1, "joining the layers")
        return layers.joined_layer(state)

    host.start(Task("join the layers", job, lambda joined: layers.take_joined(document, joined, ids),
                    tuple(on_layer(state, k) for k in sorted(ids)), lambda: _join(host)))  # fmt: skip


def _layer(id_: str, label: str, words: str, run: Callable[[Document], None], copies: bool = False) -> Command:
    """A command on layers; those that copy faces work beside the window where there are many."""

    def act(host: Quiet) -> None:
        run(host.document)

    return Command(id_, label, f"layer {words}", "", has_layer, beside(label.lower(), act) if copies else act)


COMMANDS = (
    _layer("add-layer", "Add a layer", "new object", layers.add_layer),
    _layer("split-layer", "Split what is held into a layer", "separate part detach", layers.split_held, True),
    Command("join-layers", "Join the visible layers", "layer merge combine", "", has_layer, _join),
    _layer("copy-layer", "Duplicate the layer", "copy", layers.copy_layer, True),
    _layer("mirror-layer-x", "Copy the layer across X", "mirror symmetry", lambda d: layers.mirror_layer(d, 0), True),
    _layer("mirror-layer-y", "Copy the layer across Y", "mirror symmetry", lambda d: layers.mirror_layer(d, 1), True),
    _layer("mirror-layer-z", "Copy the layer across Z", "mirror symmetry", lambda d: layers.mirror_layer(d, 2), True),
    Command("radial-layer", "Repeat round the axis", "layer radial array copies circle", "", has_faces, beside("repeat round the axis", _radial)),
    _layer("lock-layer", "Lock or unlock the layer", "protect", lambda d: layers.lock_layer(d, d.require_jacket().id)),
    Command("rename-layer", "Rename the layer…", "layer name", "", has_layer, _rename),
    Command("rename-layers", "Rename the visible layers…", "layer name pattern batch", "", has_layer, _rename_all),
    _layer("layer-up", "Move the layer up", "order", lambda d: layers.move_layer(d, d.require_jacket().id, -1)),
    _layer("layer-down", "Move the layer down", "order", lambda d: layers.move_layer(d, d.require_jacket().id, 1)),
    _layer("remove-layer", "Remove the layer", "delete", layers.remove_layer),
)  # fmt: skip
