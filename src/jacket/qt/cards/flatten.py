"""The cards of the Flatten stage: laying flat, UV sets."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from pathlib import Path

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QSlider

from jacket.commands.common import has_uvs
from jacket.core.derive import known_reasons
from jacket.core.flatten.directions import WAYS as ORIENT
from jacket.core.flatten.shaping import DIRECTIONS, SPACINGS
from jacket.core.mesh.choosing import grown
from jacket.core.mesh.polymesh import CUT, UV
from jacket.core.seams.reasons import Reason
from jacket.document.edits import uvs
from jacket.qt.cards.base import choice_box, soft
from jacket.qt.cards.stage import StageCard
from jacket.qt.fields import NumberField
from jacket.stages.flatten.tuning import mend
from jacket.stages.flatten.values import FlattenValues

BOARDS = (("plain", "squares"), ("numbered", "numbered squares"), ("sheets", "squares by sheet"), ("picture", "my own picture"))


class FlattenCard(StageCard):
    """Laying islands flat."""

    name, heading = "flatten", "Flatten"
    watches = frozenset({"display"})

    def fill(self) -> None:
        desk = self.desk
        desk.action(self, "flatten", main=True)
        desk.action(self, "flatten-held")
        desk.action(self, "flatten-layers", hide=True)
        for name, label in (("checker", "Checker"), ("stretch", "Stretch as colour")):
            desk.shown_switch(self, name, label)
        program = desk.program
        self.row("Checker of", choice_box("Checker of", BOARDS, program.display.board, self._board))
        if program.display.board == "picture":
            self._picture_rows()
        squares = NumberField(program.display.squares, 2, 256, "", whole=True)
        squares.setAccessibleName("Squares of the checker")
        squares.changed.connect(lambda v: program.show(replace(program.display, squares=float(v))))
        self.row("Squares up a sheet", squares)
        self.row("Stretch shown by", choice_box("Stretch by", (("area", "area"), ("angle", "angle")), program.display.stretch_by,
                                                lambda v: program.show(replace(program.display, stretch_by=v))))  # fmt: skip


    def _board(self, kind: str) -> None:
        program = self.desk.program
        program.show(replace(program.display, board=kind, checker=True))
        if kind == "picture" and not program.display.board_picture:
            self.desk.ask("checker-picture")

    def _picture_rows(self) -> None:
        """The picture, how much of it shows and how light it is."""
        program = self.desk.program
        path = program.display.board_picture
        self.beside(soft(Path(path).name if path else "none yet", False), self.desk.small("checker-picture", "Choose…"))
        for label, name, most in (("Its share", "board_share", 100.0), ("Its light", "board_light", 400.0)):
            field = NumberField(100 * getattr(program.display, name), 0, most, "%", False)
            field.setAccessibleName(label)
            field.changed.connect(lambda v, n=name: program.show(replace(program.display, **{n: v / 100})))
            self.row(label, field)

    def key(self) -> object:
        display = self.desk.program.display
        return (display.checker, display.colouring, display.squares, display.stretch_by, display.board, display.board_picture)


class TuneCard(StageCard):
    """Making islands as they are wanted."""

    name, heading = "flatten tune", "True and straighten"

    def fill(self) -> None:
        desk, values = self.desk, self.desk.program.values(FlattenValues)
        ends = QHBoxLayout()
        ends.addWidget(soft("angles true", False))
        ends.addStretch(1)
        ends.addWidget(soft("areas true", False))
        self.column.addLayout(ends)
        slider = QSlider(Qt.Orientation.Horizontal)
        slider.setRange(0, 100)
        slider.setValue(int(values.balance))
        slider.setAccessibleName("Between angles and areas")
        slider.setToolTip("What counts: let go and the islands are trued where they lie.")
        slider.valueChanged.connect(lambda v: desk.program.put(FlattenValues, "balance", float(v)))
        slider.sliderReleased.connect(partial(desk.ask, "true-islands"))
        self.column.addWidget(slider)
        self.beside(desk.small("true-islands", "True the islands"), desk.small("refine-held", "Refine held"))
        self.beside(desk.small("turn-islands", "Turn"), desk.choose(FlattenValues, "orient", "Turned by", ORIENT))
        self.row("Edges lie", desk.choose(FlattenValues, "direction", "Direction", DIRECTIONS))
        self.row("Their points", desk.choose(FlattenValues, "spacing", "Spacing", SPACINGS))
        self.beside(desk.small("straighten-held", "Straighten held"), desk.small("round-held", "Round"))
        self.beside(desk.small("pin-held", "Pin held"), desk.small("pin-border", "Pin outlines"), desk.small("clear-pins", "None"))


class WhyCard(StageCard):
    """What pulls islands out of shape: a click looks at it, the button mends it."""

    name, heading = "flatten why", "Why it warps"
    watches = frozenset({"jackets", "active", "work", "checked"})

    def fill(self) -> None:
        desk = self.desk
        jacket = desk.program.document.state.jacket
        found = known_reasons(jacket.mesh) if jacket is not None and jacket.mesh.n_faces else None
        self.right.setText("" if found is None else f"{len(found)}")
        desk.action(self, "why-warps")
        for reason in found or ():
            row = QPushButton()
            row.setObjectName("row")
            row.setAccessibleName(reason.says)
            row.setToolTip("Click to look at it in both views.")
            line = QHBoxLayout(row)
            line.setContentsMargins(6, 2, 6, 2)
            line.addWidget(soft(reason.says))
            row.setMinimumHeight(34)
            row.clicked.connect(partial(self._look, reason))
            if len(reason.cut):
                button = QPushButton("Mend")
                button.setObjectName("small")
                button.setToolTip("Cut there; the island turns into its new shape when it is flattened.")
                button.clicked.connect(partial(desk.guarded, partial(self._mend, reason)))
                self.beside(row, button)
            else:
                self.column.addWidget(row)

    def _look(self, reason: Reason) -> None:
        program = self.desk.program
        mesh, faces = program.document.require_jacket().mesh, reason.faces
        for _ in range(4):
            faces = grown(mesh, "faces", faces)
        # Framed with what lies around it, or one would not know where one is.
        program.document.hold("faces", faces)
        program.frame(False)
        if len(reason.cut):
            program.document.hold("edges", reason.cut)
        else:
            program.document.hold("faces", reason.faces)

    def _mend(self, reason: Reason) -> None:
        program = self.desk.program
        program.document.hold("faces", reason.faces)
        mend(program.document, reason)
        if has_uvs(program.document.state):
            self.desk.ask("flatten-held")

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return (known_reasons(jacket.mesh),) if jacket is not None and jacket.mesh.n_faces else None


class SetsCard(StageCard):
    """The UV sets of the active layer: click to work on one."""

    name, heading = "flatten sets", "UV sets"
    watches = frozenset({"jackets", "active"})

    def fill(self) -> None:
        jacket = self.desk.program.document.state.jacket
        mesh = jacket.mesh if jacket is not None else None
        for name in mesh.uv_sets if mesh is not None else ():
            row = QPushButton()
            row.setObjectName("chosen" if mesh is not None and name == mesh.active_uv else "row")
            row.setAccessibleName(f"UV set {name}")
            row.setToolTip("Click to work on this UV set.")
            line = QHBoxLayout(row)
            line.setContentsMargins(6, 0, 6, 0)
            line.addWidget(QLabel(name))
            line.addStretch(1)
            cuts = len(mesh.mark(CUT + name)) if mesh is not None else 0
            flat = "flat" if mesh is not None and UV + name in mesh.corner_data else "not flat"
            line.addWidget(soft(f"{cuts:,} cuts · {flat}", False))
            row.setMinimumHeight(24)
            row.clicked.connect(partial(self.desk.guarded, partial(uvs.choose_set, self.desk.program.document, name)))
            self.column.addWidget(row)
        if mesh is None or not mesh.uv_sets:
            self.column.addWidget(soft("None yet; the first comes with a cut or with flattening."))
        self.desk.pictograms(self, ("add-set", "copy-set", "rename-set", "remove-set"))

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        if jacket is None:
            return None
        mesh = jacket.mesh
        return (mesh.uv_sets, mesh.active_uv, *((len(mesh.mark(CUT + n)), UV + n in mesh.corner_data) for n in mesh.uv_sets))


CARDS = (FlattenCard, TuneCard, WhyCard, SetsCard)
