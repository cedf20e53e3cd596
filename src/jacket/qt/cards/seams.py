"""The cards of the Seams stage: what is cut, seam sets with their figures, sight lines, suggesting."""

from __future__ import annotations

from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import QSize, Qt
from PySide6.QtWidgets import QGridLayout, QLabel, QPushButton

from jacket.core.derive import set_figures_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.seams.kept import is_on, set_flags, set_names
from jacket.core.seams.measure import SetFigures
from jacket.core.uv.sets import cut_flags
from jacket.document.edits import seams
from jacket.jobs.seams import LONGEST
from jacket.qt.cards.base import soft
from jacket.qt.cards.stage import StageCard
from jacket.qt.scene.jacket import Same
from jacket.qt.sightpictures import HIGH, WIDE, sight_picture
from jacket.qt.theme import DAY
from jacket.stages.seams.suggesting import GLADLY, NEVER
from jacket.stages.seams.values import SeamsValues


class CutCard(StageCard):
    """Cutting and sewing at once."""

    name, heading = "seams cut", "Seams"
    watches = frozenset({"jackets", "active"})

    def fill(self) -> None:
        desk = self.desk
        self.beside(desk.small("cut-angle", "Cut above the angle"), desk.field(SeamsValues, "angle", "Angle", 1, 179, "°", False))
        self.beside(desk.small("cut-held", "Cut what is held"), desk.small("sew-held", "Sew it"))
        self.beside(desk.small("cut-sharp", "Cut sharp marks"), desk.small("cut-as-set", "As a UV set"))
        self.row("Flat as it is cut", desk.switch(SeamsValues, "live", "Flat as it is cut"))
        self.beside(desk.small("cut-open", "Cut what does not open"))
        desk.action(self, "clear-seams", hide=True)
        jacket = desk.program.document.state.jacket
        if jacket is not None and len(jacket.mesh.uv_sets) > 1:
            self.column.addWidget(soft(f"Cuts belong to the UV set {jacket.mesh.active_uv}."))

    def key(self) -> object:
        jacket = self.desk.program.document.state.jacket
        return (jacket.mesh.active_uv, len(jacket.mesh.uv_sets)) if jacket is not None else None


class SetsCard(StageCard):
    """What is cut now and the kept seam sets, each with its figures; a click tries one on."""

    name, heading = "seams sets", "Seam sets"
    watches = frozenset({"jackets", "active", "display", "figures", "sights"})

    def fill(self) -> None:
        desk = self.desk
        jacket = desk.program.document.state.jacket
        if jacket is None or jacket.mesh.n_faces == 0:
            self.column.addWidget(soft("Nothing to cut yet."))
            return
        mesh, tried = jacket.mesh, desk.program.display.tried
        grid = QGridLayout()
        grid.setHorizontalSpacing(5)
        grid.setVerticalSpacing(3)
        grid.setColumnStretch(1, 1)
        for k, (word, tip) in enumerate((("isl.", "Islands"), ("seen", _seen_tip(self._sights)), ("stretch", "Mean stretch over the islands"))):
            head = soft(word, False)
            head.setToolTip(tip)
            grid.addWidget(head, 0, 2 + k, Qt.AlignmentFlag.AlignRight)
        names = set_names(mesh)
        on = next((n for n in names if is_on(mesh, n)), "")
        if not on:
            self._row(grid, 1, "", "As cut now", self._figures(mesh, ""), tried == "", True)
        for k, name in enumerate(names):
            shown = tried == name or (tried == "" and on == name)
            self._row(grid, 2 + k, name, name, self._figures(mesh, name), shown, on == name)
        self.column.addLayout(grid)
        desk.pictograms(self, ("keep-seams", "put-on-seams", "add-seams", "take-off-seams", "rename-seams", "forget-seams",
                               "blink-seams"))  # fmt: skip

    @property
    def _sights(self) -> Any:
        return self.desk.program.document.state.sights

    def _figures(self, mesh: PolyMesh, name: str) -> SetFigures | None:
        return set_figures_of(mesh, set_flags(mesh, name) if name else cut_flags(mesh), self._sights, known=True)

    def _row(self, grid: QGridLayout, at: int, name: str, text: str, figures: SetFigures | None, shown: bool, on: bool) -> None:
        mark = QLabel("●" if on else "○")
        mark.setToolTip("The mesh is cut like this." if on else "Kept, not cut.")
        row = QPushButton()
        row.setText(row.fontMetrics().elidedText(text, Qt.TextElideMode.ElideRight, 92))
        row.setObjectName("chosen" if shown else "row")
        row.setAccessibleName(text)
        row.setToolTip(f"{text}\nClick to try it on, click again to see what is cut." if name else "What is cut now.")
        row.clicked.connect(partial(self._try, name))
        grid.addWidget(mark, at, 0)
        grid.addWidget(row, at, 1)
        values = ("…", "…", "…")
        if figures is not None:
            stretch = f"{figures.stretch:.2f}" if figures.stretch < 100 else "–"
            values = (f"{figures.islands:,}", f"{100 * figures.shown:.0f} %", stretch)
        for k, value in enumerate(values):
            label = QLabel(value)
            if figures is not None:
                label.setToolTip(told(figures))
            if figures is not None and k == 2 and figures.closed:
                label.setObjectName("soft")
                label.setText(f"{value}!")
            grid.addWidget(label, at, 2 + k, Qt.AlignmentFlag.AlignRight)

    def _try(self, name: str) -> None:
        program = self.desk.program
        on = program.display.tried
        program.show(replace(program.display, tried="" if on == name else name))

    def key(self) -> object:
        state = self.desk.program.document.state
        mesh = state.jacket.mesh if state.jacket is not None else None
        if mesh is None:
            return None
        names = set_names(mesh)
        figures = tuple(self._figures(mesh, n) for n in ["", *names]) if mesh.n_faces else ()
        return (names, figures, self.desk.program.display.tried, next((n for n in names if is_on(mesh, n)), ""), mesh.n_faces > 0)


def _seen_tip(sights: Any) -> str:
    return "Share of the seams' length that shows from the sight lines" if sights else "Mean share of the open sky over the seams"


def told(figures: SetFigures) -> str:
    """All figures of a seam set in lines."""
    rows = [f"{figures.islands:,} islands", f"length {figures.length:.2f} × √area", f"seen {100 * figures.shown:.1f} %",
            f"{figures.turns:.1f} turns per 100 edges", f"mean stretch {figures.stretch:.4f}"]  # fmt: skip
    if figures.closed:
        rows.append(f"{figures.closed:,} do not open")
    return "\n".join(rows)


class SightsCard(StageCard):
    """The views from which seams are not to show."""

    name, heading = "seams sights", "Sight lines"
    watches = frozenset({"sights", "figures", "active"})

    def fill(self) -> None:
        desk = self.desk
        document = desk.program.document
        sights = document.state.sights
        self.right.setText(f"{len(sights)} saved" if sights else "none")
        for sight in sights:
            row = QPushButton(f"{sight.name}  ×{sight.weight:g}" if sight.weight != 1 else sight.name)
            jacket = document.state.jacket
            if jacket is not None and jacket.mesh.n_faces:
                row.setIcon(sight_picture(jacket.mesh, sight, cut_flags(jacket.mesh), DAY))
                row.setIconSize(QSize(WIDE, HIGH))
            row.setObjectName("row")
            row.setToolTip("Click to count it twice as much, up to four times; then once again.")
            heavier = sight.weight * 2 if sight.weight < 4 else 1.0
            row.clicked.connect(partial(desk.guarded, partial(seams.change_sight, document, sight.id, "weigh a sight line", weight=heavier)))
            drop = QPushButton("×")
            drop.setObjectName("small")
            drop.setFixedWidth(24)
            drop.setToolTip("Forget this sight line.")
            drop.setAccessibleName(f"Forget {sight.name}")
            drop.clicked.connect(partial(desk.guarded, partial(seams.remove_sight, document, sight.id)))
            self.beside(row, drop)
        self.beside(desk.small("sight-here", "This view"), desk.small("sight-ring", "Turntable"), desk.small("sight-around", "All around"))
        self.beside(desk.small("sight-walk", "Walk round at"), desk.field(SeamsValues, "eye_height", "Eye height", 0, 1e6, "u", False))
        if sights:
            self.beside(desk.small("hide-held", "Lead held seams where they hide"))
        else:
            self.column.addWidget(soft("Save the views the game will have: seams that show from there glow, and suggestions hide."))

    def key(self) -> object:
        state = self.desk.program.document.state
        return (state.sights, Same(state.jacket.mesh.cuts if state.jacket is not None and state.sights else None))


class SuggestCard(StageCard):
    """Seams found by the machine, with wishes."""

    name, heading = "seams suggest", "Suggest"
    watches = frozenset({"jackets", "active", "mirror", "sights"})

    def fill(self) -> None:
        desk, state = self.desk, self.desk.program.document.state
        desk.number(self, "Most islands", SeamsValues, "most", 1, 1000)
        desk.number(self, "Largest stretch", SeamsValues, "stretch", 1.001, 2, "", False)
        desk.number(self, "Longest strip", SeamsValues, "longest", *LONGEST, "sheets", False)
        self.row("Keep what is cut", desk.switch(SeamsValues, "keep_cuts", "Keep what is cut"))
        self.row("Mirror", f"{state.mirror.upper()} plane" if state.mirror else "as it is")
        self.row("Hide from", "sight lines" if state.sights else "the open sky")
        never, gladly = self._wishes()
        self.beside(desk.small("never-cut", "Never cut here"), desk.small("cut-gladly", "Gladly here"))
        if never or gladly:
            self.beside(soft(f"{never:,} edges never, {gladly:,} gladly", False), desk.small("forget-wishes", "Forget"))
        desk.action(self, "suggest-seams", main=True)
        desk.action(self, "suggest-and-pack")

    def _wishes(self) -> tuple[int, int]:
        jacket = self.desk.program.document.state.jacket
        return (len(jacket.mesh.mark(NEVER)), len(jacket.mesh.mark(GLADLY))) if jacket is not None else (0, 0)

    def key(self) -> object:
        state = self.desk.program.document.state
        return (state.mirror, bool(state.sights), self._wishes())


CARDS = (SuggestCard, SetsCard, SightsCard, CutCard)
"""Suggesting first: it is what one comes for with a fresh jacket."""
