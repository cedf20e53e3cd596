"""The card of the tool in hand: its settings, what it can do besides, and a legend of what the mouse does."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSlider, QWidget

from jacket.core.mesh.choosing import LIKENESS
from jacket.core.mesh.named import choice_names
from jacket.qt.cards.base import Card, Desk, choice_box, soft, switch_box
from jacket.qt.fields import NumberField
from jacket.stages.flatten.tools.carrying import Carry
from jacket.stages.source.tools.surveying import Gauge
from jacket.stages.topology.held_commands import forget_choice, hold_choice
from jacket.stages.topology.tools.moving import Move
from jacket.stages.topology.tools.tidying import merge_count, merge_distance
from jacket.stages.topology.values import TopologyValues
from jacket.tools.base import Option, Tool

AXES = (("x", "X"), ("y", "Y"), ("z", "Z"))
MIRRORS = (("mirror-off", "off"), ("mirror-x", "X plane"), ("mirror-y", "Y plane"), ("mirror-z", "Z plane"))


class ToolCard(Card):
    """Filled anew whenever another tool is taken or its card changes."""

    name = "tool"

    def __init__(self, desk: Desk, option_changed: Any) -> None:
        super().__init__()
        self.desk, self.option_changed = desk, option_changed
        self._choices: tuple[str, ...] = ()

    def fill(self) -> None:
        """Settings and legend of the tool in hand."""
        tool, stage = self.desk.program.tool, self.desk.program.stage.id
        self.clear()
        self.title.setText(tool.label)
        self.right.setText(tool.key)
        self._sizes(tool)
        if tool.stage in ("topology", "seams", "flatten"):
            now = f"mirror-{self.desk.program.document.state.mirror or 'off'}"
            self.row("Mirror across", choice_box("Mirror across", MIRRORS, now, self.desk.ask))
        for option in tool.options:
            self.row(option.label, self._option_field(tool, option))
        for command_id in tool.actions:
            self.desk.action(self, command_id)
        if isinstance(tool, Gauge):
            gauge_rows(self, self.desk, tool)
        rows = TOOL_ROWS.get(tool.id)
        if rows is not None and (tool.id != "hold" or stage in ("topology", "seams")):
            rows(self, self.desk)
        self._choices = self._names()
        for gesture, meaning in tool.legend:
            self._legend(gesture, meaning)

    def refresh_choices(self) -> None:
        """Fill it anew where other kept choices are there than before."""
        if self.desk.program.tool.id == "hold" and self._names() != self._choices:
            self.fill()

    def _names(self) -> tuple[str, ...]:
        jacket = self.desk.program.document.state.jacket
        return tuple(choice_names(jacket.mesh)) if jacket is not None else ()

    def _legend(self, gesture: str, meaning: str) -> None:
        line = QHBoxLayout()
        left = QLabel(gesture)
        left.setObjectName("gesture")
        left.setFixedWidth(70)
        line.setSpacing(4)
        line.addWidget(left)
        line.addWidget(soft(meaning), 1)
        self.column.addLayout(line)

    def _sizes(self, tool: Tool) -> None:
        s = tool.settings
        if tool.brush:
            self._slider("Size", s.brush, 10, 250, "px", lambda v: setattr(s, "brush", v))
            if tool.strong:
                self._slider("Strength", s.strength * 100, 5, 100, "%", lambda v: setattr(s, "strength", v / 100))
        elif tool.stage not in ("source", "layout", "deliver") and tool.id != "cast":
            label = "Reach for joining" if tool.id == "draft" else "Reach"
            self._slider(label, s.reach, 4, 30, "px", lambda v: setattr(s, "reach", v))

    def _slider(self, label: str, value: float, low: int, high: int, unit: str, change: Any) -> None:
        shown = QLabel(f"{value:.0f} {unit}")
        self.row(label, shown)
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(low, high)
        slider.setValue(int(value))
        slider.setAccessibleName(label)

        def moved(v: int) -> None:
            shown.setText(f"{v} {unit}")
            change(float(v))

        slider.valueChanged.connect(moved)
        self.column.addWidget(slider)

    def _option_field(self, tool: Tool, option: Option) -> QWidget:
        value = tool.option(option.name)

        def take(new: Any) -> None:
            tool.set_option(option.name, new)
            self.option_changed()

        if option.kind == "switch":
            return switch_box(option.label, bool(value), take)
        if option.kind == "choice":
            return choice_box(option.label, option.choices, str(value), take)
        field = NumberField(float(value), option.low, option.high, option.unit, whole=option.kind == "count")
        field.setAccessibleName(option.label)
        field.changed.connect(lambda v: take(int(v) if option.kind == "count" else v))
        return field


TIDY_ROWS = ("straighten", "even-path", "space-loops", "round-ring", "flatten-own", "flatten-last", "planar-faces", "untangle",
             "cancel-pair", "move-pole", "collapse-row", "add-row", "turn-edge", "pair-triangles")  # fmt: skip


def tidy_rows(card: Card, desk: Desk) -> None:
    """Buttons of Tidy with their settings; pointing at one shows what it would do."""
    card.row("Stay on the source", desk.switch(TopologyValues, "tidy_stay", "Stay on the source"))
    card.row("Space evenly", desk.switch(TopologyValues, "tidy_even", "Space evenly"))
    desk.pictograms(card, TIDY_ROWS, shown=True)
    card.beside(desk.small("level", "Level to the last on", True), desk.choose(TopologyValues, "level_axis", "Axis", AXES))
    card.beside(desk.small("dissolve-idle", "Idle loops under", True),
                desk.field(TopologyValues, "idle_angle", "Angle", 0, 90, "°", whole=False))  # fmt: skip
    document, values = desk.program.document, desk.program.values(TopologyValues)
    start = round(merge_distance(document, values), 6) if document.state.jacket else 0.0
    distance = NumberField(start, 0, 1e9, "u", whole=False)
    distance.setAccessibleName("Distance")
    distance.changed.connect(lambda v: desk.program.put(TopologyValues, "merge_distance", v))
    merge, count = desk.small("merge-near", "Merge nearer than", True), soft("")
    merge.pointed.connect(lambda over: count.setText(
        f"would merge {merge_count(document, values):,} points" if over else ""))  # fmt: skip
    card.beside(merge, distance)
    card.column.addWidget(count)


HELD_ROWS = ("grow-held", "shrink-held", "loops-held", "rings-held", "link-held", "outline-held", "path-held", "invert-held",
             "hold-layer", "as-points", "as-edges", "as-faces")  # fmt: skip


def choose_rows(card: Card, desk: Desk) -> None:
    """Buttons that change what is held, and the kept choices."""
    desk.pictograms(card, HELD_ROWS, 6)
    card.beside(desk.small("nth-held", "Every n-th"), desk.field(TopologyValues, "nth", "n", 1, 999),
                desk.field(TopologyValues, "nth_offset", "from", 0, 999))  # fmt: skip
    card.beside(desk.small("similar-held", "Similar in"),
                desk.choose(TopologyValues, "similar_by", "Measure", [(n, n) for n in LIKENESS]),
                desk.field(TopologyValues, "similar_slack", "Within", 0, 100, "%"))  # fmt: skip
    card.beside(desk.small("sharpen", "Sharp, weight"), desk.field(TopologyValues, "sharp_weight", "Weight", 0, 10, "", False))
    card.beside(desk.small("keep-choice", "Keep the choice…"))
    document = desk.program.document
    jacket = document.state.jacket
    for name in choice_names(jacket.mesh) if jacket is not None else []:
        row = QPushButton(name)
        row.setObjectName("row")
        row.setToolTip("Click to hold it.")
        row.clicked.connect(partial(desk.guarded, partial(hold_choice, document, name)))
        drop = QPushButton("×")
        drop.setObjectName("small")
        drop.setToolTip("Forget this choice.")
        drop.setAccessibleName(f"Forget {name}")
        drop.setFixedWidth(24)
        drop.clicked.connect(partial(desk.guarded, partial(forget_choice, document, name)))
        card.beside(row, drop)


def move_rows(card: Card, desk: Desk) -> None:
    """Typed numbers: move by, turn by, scale to."""
    tool = desk.program.tool
    if not isinstance(tool, Move):
        return
    for kind, start, unit in (("move", 0.0, ""), ("turn", 0.0, "°"), ("scale", 100.0, "%")):
        line = QHBoxLayout()
        line.setSpacing(3)
        label = soft(kind.capitalize(), False)
        label.setFixedWidth(36)
        line.addWidget(label)
        for k, axis in enumerate("XYZ"):
            line.addWidget(_move_field(desk, tool, kind, k, f"{kind} {axis}", start, unit))
        card.column.addLayout(line)


def _move_field(desk: Desk, tool: Move, kind: str, axis: int, label: str, start: float, unit: str) -> NumberField:
    field = NumberField(start, -1e9, 1e9, unit, whole=False)
    field.setFixedWidth(56)
    field.setAccessibleName(label)

    def take(value: float) -> None:
        values = [start] * 3
        values[axis] = value
        field.set_value(start)
        desk.guarded(lambda: tool.typed(kind, (values[0], values[1], values[2])))

    field.changed.connect(take)
    return field


def gauge_rows(card: Card, desk: Desk, tool: Gauge) -> None:
    """The measured distance and what it should be."""
    card.row("Measured", f"{tool.distance:.5g} u" if tool.whole else "two points")
    field = NumberField(tool.distance if tool.whole else 1.0, 1e-9, 1e9, "u", whole=False, lengths=True)
    field.setAccessibleName("Should be")
    field.setEnabled(tool.whole)
    field.setToolTip("A number, or a length such as 30 cm (taken as metres).")

    def scale(wanted: float) -> None:
        desk.guarded(lambda: tool.scale_to(wanted))
        desk.refill_wanted.emit("tool")

    field.changed.connect(scale)
    card.row("Should be", field)


def carry_rows(card: Card, desk: Desk) -> None:
    """Typed numbers over the sheet: pixels, degrees, a share."""
    tool = desk.program.tool
    if not isinstance(tool, Carry):
        return
    rows = (("Right", 0.0, "px", lambda v: tool.typed((v, 0.0))), ("Up", 0.0, "px", lambda v: tool.typed((0.0, v))),
            ("Turn", 0.0, "°", lambda v: tool.typed((0.0, 0.0), v)), ("Scale", 100.0, "%", lambda v: tool.typed((0.0, 0.0), 0.0, v / 100)))  # fmt: skip
    for pair in (rows[:2], rows[2:]):
        line = QHBoxLayout()
        line.setSpacing(4)
        for label, start, unit, act in pair:
            line.addWidget(soft(label, False))
            field = NumberField(start, -1e6, 1e6, unit, whole=False)
            field.setAccessibleName(label)
            field.setFixedWidth(72)
            field.changed.connect(partial(_typed_once, desk, field, start, act))
            line.addWidget(field)
        card.column.addLayout(line)


def _typed_once(desk: Desk, field: NumberField, start: float, act: Any, value: float) -> None:
    field.set_value(start)
    desk.guarded(lambda: act(value))


TOOL_ROWS: dict[str, Any] = {"carry": carry_rows, "tidy": tidy_rows, "hold": choose_rows, "move": move_rows}
"""What stands on the card of a tool besides its options."""
