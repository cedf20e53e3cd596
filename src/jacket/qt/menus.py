"""Context menus: what fits a stage, a source, a layer."""

from __future__ import annotations

from collections.abc import Sequence

from PySide6.QtCore import QPoint
from PySide6.QtWidgets import QMenu, QWidget

from jacket.document.edits import layers, sources, view
from jacket.program import Program

SOURCE_MENU = ("lock-source", "rename-source", "join-sources", "take-new-file", "remove-source")
LAYER_MENU = ("lock-layer", "rename-layer", "copy-layer", "split-layer", "join-layers", "layer-up", "layer-down", "remove-layer")


def _with_commands(menu: QMenu, program: Program, ids: Sequence[str], labels: dict[str, str] | None = None) -> QMenu:
    for command_id in ids:
        command = program.commands[command_id]
        action = menu.addAction((labels or {}).get(command_id, command.label))
        action.setEnabled(command.available(program.document.state))
        action.triggered.connect(lambda _=False, c=command: program.run(c))
    return menu


def stage_menu(parent: QWidget, program: Program, at: QPoint) -> None:
    """What fits the stage that is shown."""
    _with_commands(QMenu(parent), program, (*program.stage.menu, "let-go", "undo", "redo")).popup(at)


def object_menu(parent: QWidget, program: Program, object_id: int, at: QPoint) -> None:
    """What can be done with a source or a layer on the bench; it becomes the one that is worked on."""
    document = program.document
    menu = QMenu(parent)
    layer = next((j for j in document.state.jackets if j.id == object_id), None)
    source = next((s for s in document.state.sources if s.id == object_id), None)
    thing = layer or source
    if thing is None:
        return
    (layers.choose_layer if layer is not None else sources.choose_source)(document, object_id)
    shown = menu.addAction("Hide" if thing.visible else "Show")
    shown.triggered.connect(lambda: view.set_visible(document, object_id, not thing.visible))
    word = "Unlock" if thing.locked else "Lock"
    ids = LAYER_MENU if layer is not None else SOURCE_MENU
    _with_commands(menu, program, ids, {"lock-layer": word, "lock-source": word}).popup(at)
