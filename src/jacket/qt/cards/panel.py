"""The bench panel: the tool in hand, what is on the bench, what is held, the stage's big actions."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np
import shiboken6
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import (
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

from jacket.core.derive import health_of
from jacket.core.mesh.geometry import dihedral_angles, edge_lengths, face_areas
from jacket.core.mesh.lifted import lifted_points
from jacket.core.mesh.named import choice_names
from jacket.document.document import Document
from jacket.document.state import SourceObject, State
from jacket.qt.cards import source as source_cards
from jacket.qt.cards import topology as hand_cards
from jacket.qt.fields import NumberField
from jacket.settings import Settings
from jacket.stages.commands import Command
from jacket.stages.source.mending import Proposal
from jacket.stages.source.tools.surveying import Gauge
from jacket.tools.base import Tool


class Card(QFrame):
    """A titled card with rows."""

    def __init__(self, title: str, right: str = "") -> None:
        super().__init__()
        self.setObjectName("card")
        whole = QVBoxLayout(self)
        whole.setContentsMargins(10, 8, 10, 9)
        whole.setSpacing(5)
        head = QHBoxLayout()
        self.title = QLabel(title)
        self.title.setObjectName("title")
        self.right = QLabel(right)
        self.right.setObjectName("soft")
        head.addWidget(self.title)
        head.addStretch(1)
        head.addWidget(self.right)
        whole.addLayout(head)
        self.body = QWidget()
        self.body.setObjectName("plain")
        self.column = QVBoxLayout(self.body)
        self.column.setContentsMargins(0, 0, 0, 0)
        self.column.setSpacing(5)
        whole.addWidget(self.body)
        self.folded_changed: Callable[[bool], None] | None = None

    def foldable(self, folded: bool, changed: Callable[[bool], None]) -> None:
        """Let a click on the title hide and show what is below it."""
        self.folded_changed = changed
        self.title.setCursor(Qt.CursorShape.PointingHandCursor)
        self._fold(folded)

    def _fold(self, folded: bool) -> None:
        self.body.setVisible(not folded)
        self.title.setText(("▸ " if folded else "▾ ") + self.title.text().lstrip("▸▾ "))

    def mousePressEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        if self.folded_changed is not None and event.position().y() < 30:
            folded = self.body.isVisible()
            self._fold(folded)
            self.folded_changed(folded)

    def clear(self) -> None:
        """Take out everything below the title."""
        while self.column.count():
            _discard(self.column.takeAt(0))

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
    source_wanted = Signal(int)
    object_menu_wanted = Signal(int, object)
    look_changed = Signal(str, object)
    gauge_wanted = Signal(float)
    new_file_left = Signal()
    option_changed = Signal()
    preview_wanted = Signal(str)
    choice_wanted = Signal(str, bool)
    typed_wanted = Signal(str, object)
    layer_wanted = Signal(int)
    trial_wanted = Signal(int)

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
        self.held_card, self.trial_card = Card("Held"), Card("Trial")
        self.changed_card, self.proposal_card, self.picked_card = Card(""), Card(""), Card("Picked")
        # What waits for a decision stands on top: a changed file, a proposal, a trial.
        for card in (self.changed_card, self.proposal_card, self.trial_card, self.tool_card, self.bench_card,
                     self.picked_card, self.held_card):  # fmt: skip
            self.column.addWidget(card)
        for card in (self.changed_card, self.proposal_card, self.picked_card):
            card.hide()
        self.stage_cards: list[Card] = []
        self.health_card: Card | None = None
        self.look_card: Card | None = None
        self.lengths: dict[str, tuple[float, NumberField | None]] = {}
        self.display: Any = None
        self.mirror_plane: Any = None
        self.column.addStretch(1)
        self.setWidget(body)
        self.buttons: dict[str, QPushButton] = {}
        self.small_buttons: list[tuple[str, QPushButton]] = []
        """Buttons for commands on any card; those whose card was filled anew are dropped as they go."""
        self.show_card: Card | None = None
        self.stage = ""
        # What the cards show now: a drag changes the mesh many times a second, but rarely these.
        self._objects_key: Any = None
        self._held_key: Any = None
        self._trial_key: Any = None
        self._choices: tuple[str, ...] = ()

    # ---- the tool in hand ----------------------------------------------------------------------
    def show_tool(self, tool: Tool, mirror: str) -> None:
        """Settings and legend of the tool in hand."""
        card = self.tool_card
        card.clear()
        card.title.setText(tool.label)
        card.right.setText(tool.key)
        settings = tool.settings
        if isinstance(tool, Gauge):
            source_cards.gauge_rows(self, card, tool)
        if tool.brush:
            self._slider(card, "Size", settings.brush, 10, 250, "px", lambda v: setattr(settings, "brush", v))
            if tool.strong:
                self._slider(
                    card,
                    "Strength",
                    settings.strength * 100,
                    5,
                    100,
                    "%",
                    lambda v: setattr(settings, "strength", v / 100),
                )
        elif tool.stage != "source":
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
        hand_cards.option_rows(self, card, tool)
        for command_id in tool.actions:
            self.small_buttons.append((command_id, self.action(card, command_id)))
            self.buttons.pop(command_id)
        rows = hand_cards.TOOL_ROWS.get(tool.id)
        if rows is not None and self.stage in ("topology", "seams"):
            rows(self, card, self.document.state)
        for gesture, meaning in tool.legend:
            line = QHBoxLayout()
            left = QLabel(gesture)
            left.setObjectName("gesture")
            left.setFixedWidth(70)
            line.setSpacing(4)
            right = QLabel(meaning)
            right.setObjectName("soft")
            right.setWordWrap(True)
            line.addWidget(left)
            line.addWidget(right, 1)
            card.column.addLayout(line)

    def refresh_tool(self, tool: Tool) -> None:
        """Show what a tool of the Source stage has measured."""
        if isinstance(tool, Gauge):
            self.show_tool(tool, self.document.state.mirror)

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
        chosen = state.chosen_source
        key = (state.active, chosen.id if chosen is not None else -1,
               *((o.id, o.name, o.visible, o.mesh.n_faces, getattr(o, "locked", False)) for o in objects))  # fmt: skip
        if key == self._objects_key:
            return
        self._objects_key = key
        card = self.bench_card
        card.clear()
        for source in state.sources:
            count = f"{len(source.mesh.triangle_points):,} tris"
            marked = self.stage == "source" and chosen is not None and chosen.id == source.id and len(state.sources) > 1
            name = f"{source.name} (locked)" if source.locked else f"{source.name} (source)"
            self._object(card, source.id, name, count, source.visible, marked, is_source=True)
        for jacket in state.jackets:
            count = f"{jacket.mesh.n_faces:,} quads" if jacket.mesh.is_quads else f"{jacket.mesh.n_faces:,} faces"
            name = f"{jacket.name} (locked)" if jacket.locked else jacket.name
            self._object(card, jacket.id, name, count, jacket.visible)
        if not state.sources and not state.jackets:
            text = QLabel("Nothing yet. Open a source, or drop one here.")
            text.setObjectName("soft")
            text.setWordWrap(True)
            card.column.addWidget(text)

    def _object(
        self, card: Card, object_id: int, name: str, count: str, visible: bool, marked: bool = False,
        is_source: bool = False,
    ) -> None:  # fmt: skip
        row = QPushButton()
        row.setObjectName("chosen" if object_id == self.document.state.active or marked else "row")
        resting = not is_source and object_id != self.document.state.active
        row.setToolTip("Click to work on this layer; right-click for more." if resting
                       else "Click to hide or show it; right-click for more.")  # fmt: skip
        row.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        row.customContextMenuRequested.connect(lambda at: self.object_menu_wanted.emit(object_id, row.mapToGlobal(at)))
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
        several = is_source and self.stage == "source" and len(self.document.state.sources) > 1

        def clicked() -> None:
            # Where there are several sources the first click chooses one, the next hides or shows it.
            if several and not marked:
                self.source_wanted.emit(object_id)
            elif resting and visible:
                self.layer_wanted.emit(object_id)
            else:
                self.visible_wanted.emit(object_id, not visible)

        row.clicked.connect(clicked)
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
        words = [f"{len(h.ids):,} {h.kind[:-1] if len(h.ids) == 1 else h.kind}" for h in held.parts]
        card.right.setText(", ".join(words))
        if held.kind == "edges" and held.ids.max() < mesh.topology.n_edges:
            card.row("Length", f"{edge_lengths(mesh)[held.ids].sum():.4g} u")
            card.row("Mean turn", f"{dihedral_angles(mesh)[held.ids].mean():.1f}°")
            seams = mesh.topology.edge_flags(mesh.cuts)
            card.row("Cut", f"{int(seams[held.ids].sum()):,} of {len(held):,}")
        elif held.kind == "faces" and held.ids.max() < mesh.n_faces:
            card.row("Area", f"{face_areas(mesh)[held.ids].sum():.4g} u²")
            card.row("Corners", f"{int(mesh.sizes[held.ids].sum()):,}")
        elif held.kind == "points" and held.ids.max() < mesh.n_points:
            card.row("Mean valence", f"{np.mean(mesh.topology.valence[held.ids]):.2f}")
            up = int(lifted_points(mesh)[held.ids].sum())
            if up:
                card.row("Lifted", f"{up:,} of {len(held.ids):,}")

    def refresh_choices(self, tool: Tool, state: State) -> None:
        """The kept choices on Hold's card, when others are there than before."""
        names = tuple(choice_names(state.jacket.mesh)) if state.jacket is not None else ()
        if tool.id == "hold" and names != self._choices:
            self._choices = names
            self.show_tool(tool, state.mirror)

    def refresh_show(self) -> None:
        """The Show card, after something was switched elsewhere."""
        if self.show_card is not None:
            title = self.show_card.title.text()
            self.show_card.clear()
            hand_cards.show_card(self, self.show_card)
            self.show_card.title.setText(title)

    # ---- the stage ------------------------------------------------------------------------------
    def show_stage(self, stage: str) -> None:
        """The stage's settings and big actions, a card for each matter."""
        self.stage = stage
        for card in self.stage_cards:
            self.column.removeWidget(card)
            card.hide()
            card.deleteLater()
        self.stage_cards, self.buttons = [], {}
        self.health_card = self.look_card = self.show_card = None
        self.lengths = {}
        builders = _STAGE_CARDS[stage]
        for k, build in enumerate(builders):
            card = Card("")
            build(self, card)
            if len(builders) > 1 and k:
                name = build.__name__
                folded = name in self.settings.folded
                card.foldable(folded, partial(self._remember_fold, name))
            self.column.insertWidget(self.column.indexOf(self.held_card) + 1 + k, card)
            self.stage_cards.append(card)
        state = self.document.state
        self.held_card.setVisible(stage != "source")
        self._objects_key = None
        self.show_objects(state)
        self.show_picked(state)
        self.refresh_buttons(state)

    @property
    def stage_card(self) -> Card:
        """The first card of the stage."""
        return self.stage_cards[0]

    def _remember_fold(self, name: str, folded: bool) -> None:
        kept = [n for n in self.settings.folded if n != name]
        self.settings.folded = [*kept, name] if folded else kept

    def show_health(self, state: State) -> None:
        """Size and counts of the chosen source, once they are known."""
        source, card = state.chosen_source, self.health_card
        if card is None or source is None:
            return
        health = health_of(source.mesh)
        key = f"{id(health)} {source.id} {source.name} {source.locked} {self.values.get('shown_unit')}"
        if card.property("health") != key:
            card.setProperty("health", key)
            source_cards.fill_health(self, card, source, health)
            self.refresh_buttons(state)

    def show_look(self, display: Any, plane: Any) -> None:
        """The Look card, after what is shown changed elsewhere."""
        self.display, self.mirror_plane = display, plane
        if self.look_card is not None:
            source_cards.fill_look(self, self.look_card, display, plane)
            self.refresh_buttons(self.document.state)

    def show_proposal(self, proposal: Proposal | None) -> None:
        """What a mend would do, or nothing."""
        source_cards.fill_proposal(self, self.proposal_card, proposal)
        self.verticalScrollBar().setValue(0)

    def show_changed(self, source: SourceObject | None) -> None:
        """A source whose file is newer on disk, or nothing."""
        if source is not None and not self.changed_card.isVisible():
            self.verticalScrollBar().setValue(0)
        source_cards.fill_changed(self, self.changed_card, source)

    def show_picked(self, state: State) -> None:
        """How many faces of the source are picked, and what can be done with them."""
        card, count = self.picked_card, len(state.picked)
        card.setVisible(self.stage == "source" and count > 0)
        card.clear()
        if self.stage != "source" or count == 0:
            return
        card.right.setText(f"{count:,} faces")
        line = QHBoxLayout()
        for command_id, text in (("drop-picked", "Drop them"), ("keep-picked", "Keep only them")):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, c=command_id: self.command_wanted.emit(c))
            line.addWidget(button)
        card.column.addLayout(line)

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

    def action(self, card: Card, command_id: str, main: bool = False) -> QPushButton:
        """A button for a command."""
        command = self.commands[command_id]
        button = QPushButton(command.label)
        button.setObjectName("main" if main else "")
        button.clicked.connect(lambda: self.command_wanted.emit(command_id))
        card.column.addWidget(button)
        self.buttons[command_id] = button
        return button

    def refresh_buttons(self, state: State) -> None:
        """Enable what fits now; show the trial card while there is a trial."""
        self.small_buttons = [(c, b) for c, b in self.small_buttons if shiboken6.isValid(b)]
        for command_id, button in (*self.buttons.items(), *self.small_buttons):
            fits = self.commands[command_id].available(state)
            if button.isEnabled() != fits:
                button.setEnabled(fits)
        self._show_trial(state)

    def _show_trial(self, state: State) -> None:
        card = self.trial_card
        key = (self.stage, state.shown_trial, *(t.id for t in state.trials))
        if key == self._trial_key:
            return
        self._trial_key = key
        card.clear()
        card.setVisible(bool(state.trials) and self.stage == "topology")
        if not state.trials:
            return
        trial = state.trial
        assert trial is not None
        f = trial.figures
        card.title.setText(trial.name)
        card.right.setText(f"{len(state.trials)} kept" if len(state.trials) > 1 else "not taken yet")
        card.row("Quads", f"{trial.mesh.n_faces:,} of {trial.settings.get('quads', 0):,} wanted")
        if f:
            card.row("Irregular points", f"{f.get('irregular_percent', 0):.1f} %")
            card.row("Corner quality, mean", f"{f.get('jacobian_mean', 0):.3f}")
            card.row("Gap, mean / largest", f"{f.get('gap_out_mean', 0):.2f} / {f.get('gap_out_largest', 0):.2f} %")
            card.row("Least corner", f"{f.get('jacobian_least', 0):.2f}")
            if "seconds" in f:
                card.row("Took", f"{f['seconds']:.1f} s")
            for note in f.get("notes", ()):
                said = QLabel(note)
                said.setObjectName("soft")
                said.setWordWrap(True)
                card.column.addWidget(said)
        hand_cards.trial_rows(self, card, state)
        line = QHBoxLayout()
        for command_id, name in (("take-trial", "main"), ("drop-trial", "")):
            button = QPushButton("Take" if name else "Throw away")
            button.setObjectName(name)
            button.clicked.connect(lambda _=False, c=command_id: self.command_wanted.emit(c))
            line.addWidget(button)
        card.column.addLayout(line)


def _topology_card(panel: Panel, card: Card) -> None:
    card.title.setText("Auto topology")
    panel.choice(
        card,
        "Aim at",
        "aim",
        [("number", "a number of quads"), ("edge", "a length of edges"), ("gap", "a largest gap")],
    )
    if panel.values["aim"] == "edge":
        panel.number(card, "Length of edges", "edge", 1e-9, 1e9, "u", whole=False)
    elif panel.values["aim"] == "gap":
        panel.number(card, "Largest gap", "gap", 0.01, 20, "%", whole=False)
    else:
        panel.number(card, "Quads wanted", "quads", 12, 200_000)
    panel.number(card, "Keep sharp over", "sharp", 1, 180, "°", whole=False)
    panel.number(card, "Creases from", "shortest", 0, 1000, "quads", whole=False)
    panel.number(card, "Closer in bends", "form", 0, 100, "%", whole=False)
    card.row("Row across the mirror", hand_cards.value_switch(panel, "across", "Row across the mirror"))
    card.row("Skin over torn scans", hand_cards.value_switch(panel, "skin", "Skin over torn scans"))
    panel.action(card, "make-trial", main=True)
    panel.action(card, "redo-part")
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
    "source": (source_cards.open_card, source_cards.health_card, source_cards.mend_card, source_cards.place_card,
               source_cards.look_card),
    "topology": (_topology_card, hand_cards.layers_card, hand_cards.show_card), "seams": (_seams_card,), "flatten": (_flatten_card,),
    "layout": (_layout_card,), "deliver": (_deliver_card,),
}  # fmt: skip
