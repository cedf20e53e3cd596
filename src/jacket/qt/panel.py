"""The bench panel: the tool in hand, what is on the bench, what is held, the stage's big actions."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
    QCheckBox,
    QComboBox,
    QFrame,
    QHBoxLayout,
    QLabel,
    QLayout,
    QPushButton,
    QScrollArea,
    QSlider,
    QVBoxLayout,
    QWidget,
)

from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas
from jacket.document.derived import health_of
from jacket.document.document import Document
from jacket.document.state import State
from jacket.qt.fields import NumberField
from jacket.settings import Settings
from jacket.tools.base import Tool
from jacket.tools.commands import Command


class Card(QFrame):
    """A titled card with rows."""

    def __init__(self, title: str, right: str = "") -> None:
        super().__init__()
        self.setObjectName("card")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(10, 8, 10, 9)
        self.column.setSpacing(5)
        head = QHBoxLayout()
        self.title = QLabel(title)
        self.title.setObjectName("title")
        self.right = QLabel(right)
        self.right.setObjectName("soft")
        head.addWidget(self.title)
        head.addStretch(1)
        head.addWidget(self.right)
        self.column.addLayout(head)

    def clear(self) -> None:
        """Take out everything below the title."""
        while self.column.count() > 1:
            _discard(self.column.takeAt(1))

    def row(self, label: str, right: QWidget | str) -> QWidget:
        """A label and a value or field."""
        line = QHBoxLayout()
        name = QLabel(label)
        name.setObjectName("soft")
        widget = QLabel(right) if isinstance(right, str) else right
        line.addWidget(name)
        line.addStretch(1)
        line.addWidget(widget)
        self.column.addLayout(line)
        return widget


def _discard(item: Any) -> None:
    if item is None:
        return
    if item.widget() is not None:
        item.widget().hide()
        item.widget().deleteLater()
    elif isinstance(item.layout(), QLayout):
        while item.layout().count():
            _discard(item.layout().takeAt(0))


class Panel(QScrollArea):
    """Cards from top to bottom; commands and settings come from outside."""

    command_wanted = Signal(str)
    value_changed = Signal(str, object)
    visible_wanted = Signal(int, bool)
    open_wanted = Signal(str)

    def __init__(
        self, document: Document, commands: dict[str, Command], values: dict[str, Any], settings: Settings
    ) -> None:
        super().__init__()
        self.setFixedWidth(248)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.document, self.commands, self.values, self.settings = document, commands, values, settings
        body = QWidget()
        body.setObjectName("panel")
        self.column = QVBoxLayout(body)
        self.column.setContentsMargins(8, 8, 8, 8)
        self.column.setSpacing(9)
        body.setFixedWidth(248)
        self.tool_card, self.bench_card = Card(""), Card("On the bench")
        self.held_card, self.stage_card = Card("Held"), Card("")
        self.trial_card = Card("Trial")
        for card in (self.tool_card, self.bench_card, self.held_card, self.stage_card, self.trial_card):
            self.column.addWidget(card)
        self.column.addStretch(1)
        self.setWidget(body)
        self.buttons: dict[str, QPushButton] = {}
        self.stage = ""
        # What the cards show now: a drag changes the mesh many times a second, but rarely these.
        self._objects_key: Any = None
        self._held_key: Any = None
        self._trial_key: Any = None

    # ---- the tool in hand ----------------------------------------------------------------------
    def show_tool(self, tool: Tool, mirror: str) -> None:
        """Settings and legend of the tool in hand."""
        card = self.tool_card
        card.clear()
        card.title.setText(tool.label)
        card.right.setText(tool.key)
        settings = tool.settings
        if tool.brush:
            self._slider(card, "Size", settings.brush, 10, 250, "px", lambda v: setattr(settings, "brush", v))
            self._slider(
                card, "Strength", settings.strength * 100, 5, 100, "%", lambda v: setattr(settings, "strength", v / 100)
            )
            hold = QCheckBox()
            hold.setChecked(settings.hold_borders)
            hold.toggled.connect(lambda on: setattr(settings, "hold_borders", on))
            card.row("Leave borders alone", hold)
        else:
            self._slider(
                card,
                "Reach for joining" if tool.id == "draft" else "Reach",
                settings.reach,
                4,
                30,
                "px",
                lambda v: setattr(settings, "reach", v),
            )
        if tool.stage in ("topology", "seams"):
            choice = QComboBox()
            choice.addItems(["off", "X plane", "Y plane", "Z plane"])
            choice.setCurrentIndex(["", "x", "y", "z"].index(mirror))
            choice.activated.connect(
                lambda k: self.command_wanted.emit(("mirror-off", "mirror-x", "mirror-y", "mirror-z")[k])
            )
            card.row("Mirror across", choice)
        for gesture, meaning in tool.legend:
            line = QHBoxLayout()
            left = QLabel(gesture)
            left.setObjectName("gesture")
            left.setFixedWidth(70)
            line.setSpacing(4)
            right = QLabel(meaning)
            right.setObjectName("soft")
            line.addWidget(left)
            line.addWidget(right, 1)
            card.column.addLayout(line)

    def _slider(
        self, card: Card, label: str, value: float, low: int, high: int, unit: str, change: Callable[[float], None]
    ) -> None:
        shown = QLabel(f"{value:.0f} {unit}")
        card.row(label, shown)
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(low, high)
        slider.setValue(int(value))
        slider.setAccessibleName(label)

        def moved(v: int) -> None:
            shown.setText(f"{v} {unit}")
            change(float(v))

        slider.valueChanged.connect(moved)
        card.column.addWidget(slider)

    # ---- on the bench ---------------------------------------------------------------------------
    def show_objects(self, state: State) -> None:
        """Sources, jackets and trials with what they count."""
        objects: list[Any] = [*state.sources, *state.jackets]
        key = (state.active, *((o.id, o.name, o.visible, o.mesh.n_faces, o.mesh.is_quads) for o in objects))
        if key == self._objects_key:
            return
        self._objects_key = key
        card = self.bench_card
        card.clear()
        for source in state.sources:
            self._object(
                card, source.id, f"{source.name} (source)", f"{len(source.mesh.triangles):,} tris", source.visible
            )
        for jacket in state.jackets:
            self._object(card, jacket.id, jacket.name, f"{jacket.mesh.n_faces:,} quads" if jacket.mesh.is_quads else
                         f"{jacket.mesh.n_faces:,} faces", jacket.visible)  # fmt: skip
        if not state.sources and not state.jackets:
            text = QLabel("Nothing yet. Open a source, or drop one here.")
            text.setObjectName("soft")
            text.setWordWrap(True)
            card.column.addWidget(text)

    def _object(self, card: Card, object_id: int, name: str, count: str, visible: bool) -> None:
        row = QPushButton()
        row.setObjectName("chosen" if object_id == self.document.state.active else "row")
        row.setToolTip("Click to hide or show it.")
        line = QHBoxLayout(row)
        line.setContentsMargins(6, 0, 6, 0)
        left = QLabel(name)
        left.setMaximumWidth(140)
        left.setText(left.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 138))
        right = QLabel(count if visible else "hidden")
        right.setObjectName("soft")
        if not visible:
            left.setObjectName("soft")
        line.addWidget(left)
        line.addStretch(1)
        line.addWidget(right)
        row.setMinimumHeight(26)
        row.clicked.connect(lambda: self.visible_wanted.emit(object_id, not visible))
        card.column.addWidget(row)

    # ---- held -----------------------------------------------------------------------------------
    def show_held(self, state: State) -> None:
        """What is held, with its measures."""
        card, held, jacket = self.held_card, state.held, state.jacket
        key = (id(held), id(jacket) if len(held) else 0)
        if key == self._held_key:
            return
        self._held_key = key
        card.clear()
        if jacket is None or len(held) == 0:
            card.right.setText("nothing")
            return
        mesh = jacket.mesh
        word = held.kind[:-1] if len(held) == 1 else held.kind
        card.right.setText(f"{len(held):,} {word}")
        if held.kind == "edges" and held.ids.max() < mesh.topology.n_edges:
            card.row("Length", f"{edge_lengths(mesh)[held.ids].sum():.4g} u")
            card.row("Mean turn", f"{dihedral_angles(mesh)[held.ids].mean():.1f}°")
            seams = mesh.topology.edge_flags(mesh.mark("seam"))
            card.row("Cut", f"{int(seams[held.ids].sum()):,} of {len(held):,}")
        elif held.kind == "faces" and held.ids.max() < mesh.n_faces:
            card.row("Area", f"{face_areas(mesh)[held.ids].sum():.4g} u²")
            card.row("Corners", f"{int(mesh.sizes[held.ids].sum()):,}")
        elif held.kind == "points":
            card.row("Mean valence", f"{np.mean(mesh.topology.valence[held.ids]):.2f}")

    # ---- the stage ------------------------------------------------------------------------------
    def show_stage(self, stage: str) -> None:
        """The stage's settings and big actions."""
        self.stage = stage
        card = self.stage_card
        card.clear()
        card.setProperty("health", 0)
        self.buttons = {}
        for build in _STAGE_CARDS[stage]:
            build(self, card)
        self.refresh_buttons(self.document.state)

    def show_health(self, state: State) -> None:
        """Size and counts of the source in the Source stage's card, once they are known."""
        source = state.source
        if self.stage != "source" or source is None:
            return
        health = health_of(source.mesh)
        if self.stage_card.property("health") == id(health):
            return
        self.show_stage("source")
        card = self.stage_card
        card.setProperty("health", id(health))
        card.row("Triangles", f"{health.triangles:,}")
        card.row("Points", f"{health.points:,}")
        card.row("Size", " × ".join(f"{v:.3g}" for v in health.size))
        card.row("Diagonal", f"{health.diagonal:.4g} u")
        if health.borders:
            card.row("Longest border", f"{health.border_perimeters[0]:.3g} u")

    def number(
        self, card: Card, label: str, name: str, low: float, high: float, unit: str = "", whole: bool = True
    ) -> None:
        """A typed number that is one of the shared values."""
        field = NumberField(float(self.values[name]), low, high, unit, whole)
        field.setAccessibleName(label)
        field.changed.connect(lambda v: self.value_changed.emit(name, v))
        card.row(label, field)

    def choice(self, card: Card, label: str, name: str, options: list[tuple[str, str]]) -> None:
        """A choice that is one of the shared values."""
        box = QComboBox()
        for value, text in options:
            box.addItem(text, value)
        box.setCurrentIndex(max(0, [o[0] for o in options].index(str(self.values[name]))))
        box.activated.connect(lambda k: self.value_changed.emit(name, options[k][0]))
        card.row(label, box)

    def action(self, card: Card, command_id: str, main: bool = False) -> None:
        """A button for a command."""
        command = self.commands[command_id]
        button = QPushButton(command.label)
        button.setObjectName("main" if main else "")
        button.clicked.connect(lambda: self.command_wanted.emit(command_id))
        card.column.addWidget(button)
        self.buttons[command_id] = button

    def refresh_buttons(self, state: State) -> None:
        """Enable what fits now; show the trial card while there is a trial."""
        for command_id, button in self.buttons.items():
            fits = self.commands[command_id].available(state)
            if button.isEnabled() != fits:
                button.setEnabled(fits)
        self._show_trial(state)

    def _show_trial(self, state: State) -> None:
        card = self.trial_card
        key = (self.stage, *(t.id for t in state.trials))
        if key == self._trial_key:
            return
        self._trial_key = key
        card.clear()
        card.setVisible(bool(state.trials) and self.stage == "topology")
        if not state.trials:
            return
        trial = state.trials[-1]
        f = trial.figures
        card.title.setText(trial.name)
        card.right.setText(f"{len(state.trials)} kept" if len(state.trials) > 1 else "not taken yet")
        card.row("Quads", f"{trial.mesh.n_faces:,} of {trial.settings.get('quads', 0):,} wanted")
        if f:
            card.row("Irregular points", f"{f.get('irregular_percent', 0):.1f} %")
            card.row("Corner quality, mean", f"{f.get('jacobian_mean', 0):.3f}")
            card.row("Gap, mean / largest", f"{f.get('gap_out_mean', 0):.2f} / {f.get('gap_out_largest', 0):.2f} %")
        line = QHBoxLayout()
        for command_id, name in (("take-trial", "main"), ("drop-trial", "")):
            button = QPushButton("Take" if name else "Throw away")
            button.setObjectName(name)
            button.clicked.connect(lambda _=False, c=command_id: self.command_wanted.emit(c))
            line.addWidget(button)
        card.column.addLayout(line)


def _source_card(panel: Panel, card: Card) -> None:
    card.title.setText("Source")
    card.right.setText("")
    panel.action(card, "open-source", main=True)
    panel.action(card, "open-project")
    panel.action(card, "frame-all")
    for path in [p for p in panel.settings.recent if Path(p).exists()][:4]:
        link = QPushButton(f"Open {Path(path).name}")
        link.setObjectName("link")
        link.setToolTip(path)
        link.clicked.connect(lambda _=False, p=path: panel.open_wanted.emit(p))
        card.column.addWidget(link)


def _topology_card(panel: Panel, card: Card) -> None:
    card.title.setText("Auto topology")
    panel.number(card, "Quads wanted", "quads", 12, 200_000)
    panel.number(card, "Keep sharp over", "sharp", 1, 180, "°", whole=False)
    panel.action(card, "make-trial", main=True)
    panel.action(card, "relax-all")
    panel.action(card, "remove-held")


def _seams_card(panel: Panel, card: Card) -> None:
    card.title.setText("Seams")
    panel.number(card, "Angle", "angle", 1, 179, "°", whole=False)
    panel.action(card, "suggest-seams", main=True)
    for name in ("cut-angle", "cut-held", "sew-held", "clear-seams"):
        panel.action(card, name)


def _flatten_card(panel: Panel, card: Card) -> None:
    card.title.setText("Flatten")
    panel.action(card, "flatten", main=True)
    panel.action(card, "flatten-held")
    panel.action(card, "show-checker")
    panel.action(card, "show-stretch")


def _layout_card(panel: Panel, card: Card) -> None:
    card.title.setText("Sheet")
    panel.choice(card, "Size", "size", [(str(2**k), f"{2**k} px") for k in range(8, 14)])
    panel.number(card, "Margin", "margin", 0, 512, "px", whole=False)
    panel.choice(card, "Turning", "turn", [("free", "any"), ("quarter", "quarters"), ("none", "none")])
    panel.action(card, "pack", main=True)
    panel.action(card, "even-density")


def _deliver_card(panel: Panel, card: Card) -> None:
    card.title.setText("Deliver")
    panel.choice(card, "Axes and units", "profile", [
        ("y-up-metres", "Y up, metres"), ("y-up-centimetres", "Y up, centimetres"),
        ("z-up-metres", "Z up, metres"), ("z-up-centimetres", "Z up, centimetres")])  # fmt: skip
    panel.action(card, "deliver", main=True)
    text = QLabel("Writes OBJ with MTL, GLB, the layout as a picture and a report of the checks.")
    text.setObjectName("soft")
    text.setWordWrap(True)
    card.column.addWidget(text)


_STAGE_CARDS: dict[str, tuple[Callable[[Panel, Card], None], ...]] = {
    "source": (_source_card,), "topology": (_topology_card,), "seams": (_seams_card,), "flatten": (_flatten_card,),
    "layout": (_layout_card,), "deliver": (_deliver_card,),
}  # fmt: skip
