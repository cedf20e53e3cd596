"""Cards of the hand tools: settings, choosing, tidying, typed moves, layers, what is shown."""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING, Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QCheckBox, QComboBox, QGridLayout, QHBoxLayout, QLabel, QPushButton, QWidget

from jacket.core.mesh.choosing import LIKENESS
from jacket.core.mesh.named import choice_names
from jacket.document.state import State
from jacket.qt.fields import NumberField
from jacket.stages.topology.tools.tidying import merge_count, merge_distance
from jacket.tools.base import Option, Tool

if TYPE_CHECKING:
    from jacket.qt.cards.panel import Card, Panel


class ShowingButton(QPushButton):
    """A button that says when the pointer is over it, so that what it would do can be shown."""

    pointed = Signal(bool)

    def enterEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().enterEvent(event)
        self.pointed.emit(True)

    def leaveEvent(self, event: Any) -> None:  # noqa: N802 - Qt's name
        super().leaveEvent(event)
        self.pointed.emit(False)


def option_rows(panel: Panel, card: Card, tool: Tool) -> None:
    """The settings a tool names, one row each."""
    for option in tool.options:
        card.row(option.label, _option_field(panel, tool, option))


def _option_field(panel: Panel, tool: Tool, option: Option) -> QWidget:
    value = tool.option(option.name)

    def take(new: Any) -> None:
        tool.set_option(option.name, new)
        panel.option_changed.emit()

    if option.kind == "switch":
        box = QCheckBox()
        box.setChecked(bool(value))
        box.setAccessibleName(option.label)
        box.toggled.connect(take)
        return box
    if option.kind == "choice":
        choice = QComboBox()
        for key, text in option.choices:
            choice.addItem(text, key)
        choice.setCurrentIndex([k for k, _ in option.choices].index(str(value)))
        choice.setAccessibleName(option.label)
        choice.activated.connect(lambda k: take(option.choices[k][0]))
        return choice
    field = NumberField(float(value), option.low, option.high, option.unit, whole=option.kind == "count")
    field.setAccessibleName(option.label)
    field.changed.connect(lambda v: take(int(v) if option.kind == "count" else v))
    return field


def grid(panel: Panel, card: Card, rows: list[tuple[str, str]], columns: int = 2, shown: bool = False) -> None:
    """Small buttons for commands, side by side; `shown` ones preview what they would do."""
    box = QGridLayout()
    box.setSpacing(4)
    for k, (command_id, text) in enumerate(rows):
        button = ShowingButton(text)
        button.setObjectName("small")
        button.setToolTip(panel.commands[command_id].label)
        button.clicked.connect(partial(panel.command_wanted.emit, command_id))
        if shown:
            button.pointed.connect(lambda over, c=command_id: panel.preview_wanted.emit(c if over else ""))
        panel.small_buttons.append((command_id, button))
        box.addWidget(button, k // columns, k % columns)
    card.column.addLayout(box)


def _value_field(
    panel: Panel, name: str, label: str, low: float, high: float, unit: str = "", whole: bool = True
) -> NumberField:
    field = NumberField(float(panel.values[name]), low, high, unit, whole)
    field.setAccessibleName(label)
    field.changed.connect(lambda v: panel.value_changed.emit(name, v))
    return field


def _value_choice(panel: Panel, name: str, label: str, options: list[tuple[str, str]]) -> QComboBox:
    box = QComboBox()
    for key, text in options:
        box.addItem(text, key)
    box.setAccessibleName(label)
    box.setCurrentIndex([k for k, _ in options].index(str(panel.values[name])))
    box.activated.connect(lambda k: panel.value_changed.emit(name, options[k][0]))
    return box


def value_switch(panel: Panel, name: str, label: str) -> QCheckBox:
    box = QCheckBox()
    box.setAccessibleName(label)
    box.setChecked(bool(panel.values[name]))
    box.toggled.connect(lambda on: panel.value_changed.emit(name, on))
    return box


def _beside(card: Card, *widgets: QWidget) -> None:
    line = QHBoxLayout()
    line.setSpacing(4)
    for k, widget in enumerate(widgets):
        line.addWidget(widget, 1 if k == 0 else 0)
    card.column.addLayout(line)


def _command(panel: Panel, command_id: str, text: str, shown: bool = False) -> QPushButton:
    button = ShowingButton(text)
    button.setObjectName("small")
    button.setToolTip(panel.commands[command_id].label)
    button.clicked.connect(partial(panel.command_wanted.emit, command_id))
    if shown:
        button.pointed.connect(lambda over: panel.preview_wanted.emit(command_id if over else ""))
    panel.small_buttons.append((command_id, button))
    return button


AXES = [("x", "X"), ("y", "Y"), ("z", "Z")]


def tidy_rows(panel: Panel, card: Card) -> None:
    """Buttons of Tidy with their settings."""
    card.row("Stay on the source", value_switch(panel, "tidy_stay", "Stay on the source"))
    card.row("Space evenly", value_switch(panel, "tidy_even", "Space evenly"))
    _beside(
        card, _command(panel, "level", "Level to the last on", True), _value_choice(panel, "level_axis", "Axis", AXES)
    )
    names = {"straighten": "Straighten", "even-path": "Even spacing", "space-loops": "Space loops", "round-ring": "Round",
             "flatten-own": "Flatten", "flatten-last": "To the last", "planar-faces": "Flat faces", "untangle": "Untangle"}  # fmt: skip
    grid(panel, card, list(names.items()), shown=True)
    poles = {"cancel-pair": "Cancel two poles", "move-pole": "Move the pole", "collapse-row": "Take the row out",
             "add-row": "Add a row", "turn-edge": "Turn the edge", "pair-triangles": "Pair triangles"}  # fmt: skip
    grid(panel, card, list(poles.items()), shown=True)
    _beside(card, _command(panel, "dissolve-idle", "Idle loops under", True),
            _value_field(panel, "idle_angle", "Angle", 0, 90, "°", whole=False))  # fmt: skip
    distance = NumberField(round(merge_distance(panel.document, panel.values), 6) if panel.document.state.jacket else 0.0,
                           0, 1e9, "u", whole=False)  # fmt: skip
    distance.setAccessibleName("Distance")
    distance.changed.connect(lambda v: panel.value_changed.emit("merge_distance", v))
    merge = _command(panel, "merge-near", "Merge nearer than", True)
    count = QLabel("")
    count.setObjectName("soft")
    merge.pointed.connect(lambda over: count.setText(  # type: ignore[attr-defined]
        f"would merge {merge_count(panel.document, panel.values):,} points" if over else ""))  # fmt: skip
    _beside(card, merge, distance)
    card.column.addWidget(count)


def choose_rows(panel: Panel, card: Card, state: State) -> None:
    """Buttons that change what is held, and the kept choices."""
    names = {"grow-held": "More", "shrink-held": "Less", "loops-held": "Loops", "rings-held": "Rings", "link-held": "Linked",
             "outline-held": "Outline", "path-held": "Path", "invert-held": "The rest", "hold-layer": "Whole layer",
             "as-points": "As points", "as-edges": "As edges", "as-faces": "As faces"}  # fmt: skip
    grid(panel, card, list(names.items()), 3)
    _beside(card, _command(panel, "nth-held", "Every n-th"), _value_field(panel, "nth", "n", 1, 999),
            _value_field(panel, "nth_offset", "from", 0, 999))  # fmt: skip
    _beside(card, _command(panel, "similar-held", "Similar in"),
            _value_choice(panel, "similar_by", "Measure", [(n, n) for n in LIKENESS]),
            _value_field(panel, "similar_slack", "Within", 0, 100, "%"))  # fmt: skip
    _beside(
        card,
        _command(panel, "sharpen", "Sharp, weight"),
        _value_field(panel, "sharp_weight", "Weight", 0, 10, "", False),
    )
    _beside(card, _command(panel, "keep-choice", "Keep the choice…"))
    jacket = state.jacket
    for name in choice_names(jacket.mesh) if jacket is not None else []:
        row = QPushButton(name)
        row.setObjectName("row")
        row.setToolTip("Click to hold it.")
        row.clicked.connect(partial(panel.choice_wanted.emit, name, True))
        drop = QPushButton("×")
        drop.setObjectName("small")
        drop.setToolTip("Forget this choice.")
        drop.setAccessibleName(f"Forget {name}")
        drop.setFixedWidth(24)
        drop.clicked.connect(partial(panel.choice_wanted.emit, name, False))
        _beside(card, row, drop)


def move_rows(panel: Panel, card: Card) -> None:
    """Typed numbers: move by, turn by, scale to."""
    for kind, start, unit in (("move", 0.0, ""), ("turn", 0.0, "°"), ("scale", 100.0, "%")):
        line = QHBoxLayout()
        line.setSpacing(3)
        label = QLabel(kind.capitalize())
        label.setObjectName("soft")
        label.setFixedWidth(36)
        line.addWidget(label)
        for k, axis in enumerate("XYZ"):
            field = NumberField(start, -1e9, 1e9, unit, whole=False)
            field.setFixedWidth(56)
            field.setAccessibleName(f"{kind} {axis}")

            def take(
                value: float, kind: str = kind, k: int = k, start: float = start, field: NumberField = field
            ) -> None:
                values = [start] * 3
                values[k] = value
                field.set_value(start)
                panel.typed_wanted.emit(kind, tuple(values))

            field.changed.connect(take)
            line.addWidget(field)
        card.column.addLayout(line)


def trial_rows(panel: Panel, card: Card, state: State) -> None:
    """The trials one under another: a click looks at one, B goes to the next; and what can be done with the one shown."""
    for trial in state.trials if len(state.trials) > 1 else ():
        f = trial.figures
        row = QPushButton()
        row.setObjectName("chosen" if state.trial is trial else "row")
        row.setAccessibleName(trial.name)
        row.setToolTip("Click to look at this trial; B goes to the next one.")
        line = QHBoxLayout(row)
        line.setContentsMargins(6, 0, 6, 0)
        said = f"{trial.mesh.n_faces:,} · {f.get('irregular_percent', 0):.1f} % · {f.get('gap_out_largest', 0):.2f} %"
        right = QLabel(said)
        right.setObjectName("soft")
        line.addWidget(QLabel(trial.name))
        line.addStretch(1)
        line.addWidget(right)
        row.setMinimumHeight(24)
        row.clicked.connect(partial(panel.trial_wanted.emit, trial.id))
        card.column.addWidget(row)
    if len(state.trials) > 1:
        _beside(
            card, _command(panel, "next-trial", "Blink to the next (B)"), _command(panel, "show-split", "Side by side")
        )
    else:
        _beside(
            card,
            _command(panel, "show-split", "Beside the jacket"),
            _command(panel, "show-trial", "Look at the jacket"),
        )
    _beside(card, _command(panel, "again-trial", "Make it again"), _command(panel, "keep-trial", "As a layer"))
    _beside(card, _command(panel, "take-inside", "Take it where held"))


TOOL_ROWS: dict[str, Any] = {
    "tidy": lambda panel, card, state: tidy_rows(panel, card),
    "hold": choose_rows,
    "move": lambda panel, card, state: move_rows(panel, card),
}


def layers_card(panel: Panel, card: Card) -> None:
    """What can be done with layers."""
    card.title.setText("Layers")
    names = {"add-layer": "Add", "copy-layer": "Duplicate", "split-layer": "Split held", "join-layers": "Join shown",
             "rename-layer": "Rename…", "rename-layers": "Names…", "layer-up": "Up", "layer-down": "Down",
             "lock-layer": "Lock", "remove-layer": "Remove", "mirror-layer-x": "Across X", "mirror-layer-y": "Across Y",
             "mirror-layer-z": "Across Z"}  # fmt: skip
    grid(panel, card, list(names.items()), 3)
    _beside(card, _command(panel, "radial-layer", "Repeat round"), _value_choice(panel, "copy_axis", "Axis", AXES),
            _value_field(panel, "copies", "Copies", 2, 360, "×"))  # fmt: skip


def show_card(panel: Panel, card: Card) -> None:
    """How the jacket is shown."""
    card.title.setText("Show")
    display = panel.display
    push = NumberField(display.push, 0, 20, "%", whole=False)
    push.setAccessibleName("Pushed out")
    push.changed.connect(lambda v: panel.look_changed.emit("push", v))
    card.row("Pushed out by", push)
    smooth = QComboBox()
    smooth.addItems(["off", "1 round", "2 rounds", "3 rounds"])
    smooth.setCurrentIndex(display.smooth)
    smooth.setAccessibleName("Smoothed")
    smooth.activated.connect(lambda k: panel.look_changed.emit("smooth", k))
    card.row("Smoothed preview", smooth)
    for name, label in (("through", "Seen through the source"), ("solid", "Faces"), ("backs", "Faces turned away"),
                        ("lifted", "Lifted points"), ("uncovered", "What is not covered"),
                        ("edge of sight", "Outline against the source")):  # fmt: skip
        box = QCheckBox()
        box.setChecked(display.on[name])
        box.setAccessibleName(label)
        box.toggled.connect(partial(_toggled, panel, name))
        card.row(label, box)
    panel.show_card = card


def _toggled(panel: Panel, name: str, on: bool) -> None:
    if panel.display.on[name] != on:
        panel.command_wanted.emit(f"show-{name.replace(' ', '-')}")
