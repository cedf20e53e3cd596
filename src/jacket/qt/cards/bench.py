"""What is on the bench, what is held, what is picked: cards that every stage has."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton

from jacket.core.derive import turns_of
from jacket.core.fit.lifted import lifted_points
from jacket.core.mesh.geometry import edge_lengths, face_areas
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.uv.sets import border_flags
from jacket.document.edits import layers, sources, view
from jacket.document.edits.uvs import held_islands
from jacket.document.state import Held, State
from jacket.qt.cards.base import Card, Desk, soft


class BenchCard(Card):
    """Sources and layers with what they count. The first click on one works on it, the next hides or shows it."""

    name = "bench"
    menu_wanted = Signal(int, object)

    def __init__(self, desk: Desk) -> None:
        super().__init__("On the bench")
        self.desk = desk
        self._key: Any = None

    def fill(self, again: bool = False) -> None:
        """Rows for all objects; nothing happens where the same ones are there as before."""
        state, stage = self.desk.program.document.state, self.desk.program.stage.id
        chosen = state.chosen_source
        rows = [(s.id, s.name, s.visible, s.locked, s.mesh.n_faces) for s in state.sources]
        rows += [(j.id, f"{j.name}{j.dense:d}", j.visible, j.locked, j.mesh.n_faces) for j in state.jackets]
        key = (stage, state.active, chosen.id if chosen is not None else -1, tuple(rows))
        if key == self._key and not again:
            return
        self._key = key
        self.clear()
        for source in state.sources:
            count = f"{len(source.mesh.triangle_points):,} tris"
            several = stage == "source" and len(state.sources) > 1
            marked = several and chosen is not None and chosen.id == source.id
            name = f"{source.name} ({'locked' if source.locked else 'source'})"
            self._row(source.id, name, count, source.visible, marked, several and not marked, True)
        for layer in state.jackets:
            count = f"{layer.mesh.n_faces:,} {'quads' if layer.mesh.is_quads else 'faces'}"
            told = [word for word, on in (("locked", layer.locked), ("dense", layer.dense)) if on]
            name = f"{layer.name} ({', '.join(told)})" if told else layer.name
            active = layer.id == state.active
            self._row(layer.id, name, count, layer.visible, active, layer.visible and not active, False)
        if not rows:
            self.column.addWidget(soft("Nothing yet. Open a source, or drop one here."))

    def _row(self, object_id: int, name: str, count: str, visible: bool, marked: bool, chooses: bool, source: bool) -> None:
        row = QPushButton()
        row.setObjectName("chosen" if marked else "row")
        row.setAccessibleName(name)
        row.setToolTip("Click to work on it; right-click for more." if chooses
                       else "Click to hide or show it; right-click for more.")  # fmt: skip
        row.setContextMenuPolicy(Qt.ContextMenuPolicy.CustomContextMenu)
        row.customContextMenuRequested.connect(lambda at: self.menu_wanted.emit(object_id, row.mapToGlobal(at)))
        line = QHBoxLayout(row)
        line.setContentsMargins(6, 0, 6, 0)
        left = QLabel()
        left.setText(left.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, 138))
        left.setObjectName("" if visible else "soft")
        line.addWidget(left)
        line.addStretch(1)
        line.addWidget(soft(count if visible else "hidden", False))
        row.setMinimumHeight(26)
        document = self.desk.program.document

        def clicked() -> None:
            if chooses:
                (sources.choose_source if source else layers.choose_layer)(document, object_id)
            else:
                view.set_visible(document, object_id, not visible)

        row.clicked.connect(lambda: self.desk.guarded(clicked))
        self.column.addWidget(row)


class HeldCard(Card):
    """What is held, with its measures."""

    name = "held"

    def __init__(self, desk: Desk) -> None:
        super().__init__("Held")
        self.desk = desk
        self._held: Held | None = None
        self._mesh: PolyMesh | None = None

    def fill(self) -> None:
        """Counts and measures; nothing happens where the same is held of the same mesh."""
        state = self.desk.program.document.state
        jacket, held = state.jacket, state.held
        mesh = jacket.mesh if jacket is not None and len(held) else None
        if held is self._held and mesh is self._mesh:
            return
        self._held, self._mesh = held, mesh
        self.clear()
        if mesh is None:
            self.right.setText("nothing")
            return
        words = [f"{len(h.ids):,} {h.kind[:-1] if len(h.ids) == 1 else h.kind}" for h in held.parts]
        self.right.setText(", ".join(words))
        for part in held.parts:
            self._measures(mesh, part)
        self._islands(state)

    def _measures(self, mesh: PolyMesh, held: Held) -> None:
        if held.kind == "edges" and held.ids.max() < mesh.topology.n_edges:
            self.row("Length", f"{edge_lengths(mesh)[held.ids].sum():.4g} u")
            self.row("Mean turn", f"{turns_of(mesh)[held.ids].mean():.1f}°")
            self.row("Cut", f"{int(border_flags(mesh)[held.ids].sum()):,} of {len(held.ids):,}")
        elif held.kind == "faces" and held.ids.max() < mesh.n_faces:
            self.row("Area", f"{face_areas(mesh, held.ids).sum():.4g} u²")
            self.row("Corners", f"{int(mesh.sizes[held.ids].sum()):,}")
        elif held.kind == "points" and held.ids.max() < mesh.n_points:
            self.row("Mean valence", f"{mesh.topology.valence[held.ids].mean():.2f}")
            up = int(lifted_points(mesh)[held.ids].sum())
            if up:
                self.row("Lifted", f"{up:,} of {len(held.ids):,}")

    def _islands(self, state: State) -> None:
        jacket, numbers = state.jacket, held_islands(state)
        if jacket is None or not 0 < len(numbers) <= 3:
            return
        names = [r.name for r in jacket.islands if r.id in numbers]
        self.row("On", ", ".join(names))


class PickedCard(Card):
    """How many faces of the source are picked, and what can be done with them."""

    name = "picked"

    def __init__(self, desk: Desk) -> None:
        super().__init__("Picked")
        self.desk = desk

    def fill(self) -> None:
        """Seen in the Source stage while faces are picked."""
        program = self.desk.program
        count = len(program.document.state.picked)
        self.setVisible(program.stage.id == "source" and count > 0)
        self.clear()
        if not self.isHidden():
            self.right.setText(f"{count:,} faces")
            line = QHBoxLayout()
            for command_id, text in (("drop-picked", "Drop them"), ("keep-picked", "Keep only them")):
                line.addWidget(self.desk.tie(QPushButton(text), command_id))
            self.column.addLayout(line)
