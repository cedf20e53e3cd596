"""What is found out beside the window for the views alone: sources made ready, what is not covered, previews of Tidy."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from jacket.commands.display import Colouring, Heat
from jacket.core.derive import cage_reach_of, gap_of, known_cage_reach, known_gap, uncovered_values
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import Document
from jacket.program import Program
from jacket.progress import Progress
from jacket.qt.scene.lit import is_handed, make_ready
from jacket.qt.scene.source import heated, is_whole, prepare_drawing
from jacket.qt.views.form_view import FormView
from jacket.qt.work import Worker
from jacket.stages.topology.tools.tidying import TIDYINGS, Tidy
from jacket.stages.topology.values import TopologyValues
from jacket.tools.events import Ghost


class Looking(QObject):
    """Small workers that never touch the document."""

    ready = Signal()

    def __init__(self, program: Program, form: FormView, parent: QObject) -> None:
        super().__init__(parent)
        self.program, self.form = program, form
        self.workers = self.preparer, self.looker, self.previewer, self.gauger, self.dresser = tuple(Worker(self) for _ in range(5))
        # The full mesh is drawn as soon as it can be, while it is still being made ready to be picked.
        self.preparer.progressed.connect(lambda fraction, _: self.ready.emit() if fraction >= 0.5 else None)
        self._measured: tuple[PolyMesh, ...] | None = None
        self.timer = QTimer(self, interval=250, singleShot=True)
        self.timer.timeout.connect(self.look_for_uncovered)

    @property
    def busy(self) -> bool:
        """Whether something is being found out."""
        return any(w.busy for w in self.workers) or self.timer.isActive()

    def close(self) -> None:
        """Stop everything and wait for it."""
        self.timer.stop()
        for worker in self.workers:
            worker.stop()
            worker.wait(5)

    # ---- sources ---------------------------------------------------------------------------------------
    def prepare(self, mesh: PolyMesh, progress: Progress) -> None:
        """Derive what drawing and picking a source need; for the background."""
        renderer = self.form.renderer
        prepare_drawing(mesh, renderer is None or renderer.software, progress)

    def prepare_heat(self, heat: Heat) -> None:
        """Derive what drawing a source in heat needs; for the background."""
        heated(heat.mesh, heat, self.form.palette_)

    def follow_sources(self) -> None:
        """Make ready to draw what undo brought back."""
        missing = next((s.mesh for s in self.program.document.state.sources if not is_whole(s.mesh)), None)
        if missing is not None and not self.preparer.busy:
            self.preparer.start("make ready to draw", lambda progress: self.prepare(missing, progress), self._prepared,
                                self.program.say)  # fmt: skip

    def _prepared(self, _: Any) -> None:
        self.follow_sources()
        self.ready.emit()

    # ---- what is not covered -----------------------------------------------------------------------------
    def follow_jackets(self) -> None:
        """A layer changed: measure again soon where it is shown."""
        self.follow_gap()
        self.follow_skins()
        if self.program.display.uncovered:
            self.timer.start()

    def look_for_uncovered(self) -> None:
        """Measure how far the source lies from the layers that are shown, and show it as heat."""
        program = self.program
        state, display = program.document.state, program.display
        source = state.chosen_source
        meshes = [j.mesh for j in state.jackets if j.visible and j.mesh.n_faces]
        if not display.uncovered or source is None or not meshes:
            self._measured = None
            if display.heat is not None and display.heat.plane is None:
                program.show(replace(display, heat=None))
            return
        if self._measured is not None and _same(self._measured, (source.mesh, *meshes)):
            return
        if self.looker.busy:
            self.timer.start()
            return
        mesh = source.mesh
        self._measured = (mesh, *meshes)

        def look() -> Heat:
            heat = Heat(mesh, *uncovered_values(mesh, meshes))
            self.prepare_heat(heat)
            return heat

        def done(heat: Heat) -> None:
            if program.display.uncovered:
                program.show(replace(program.display, heat=heat))
            self.timer.start()  # the layers may be others by now

        self.looker.start("look for what is not covered", lambda _: look(), done, program.say)

    # ---- gaps of large layers ----------------------------------------------------------------------------
    def follow_gap(self) -> None:
        """Find the gap of the active layer, or how far its cage reaches, where it is shown and not known yet."""
        state, display = self.program.document.state, self.program.display
        jacket, source = state.jacket, state.source
        if jacket is None or source is None or jacket.mesh.n_faces == 0 or self.gauger.busy:
            return
        mesh, over = jacket.mesh, source.mesh
        if display.colouring is Colouring.GAP and known_gap(mesh, over) is None:
            self.gauger.start("measure the gap", lambda _: gap_of(mesh, over), self._gauged, self.program.say)
        elif display.cage and self.program.stage.id == "deliver" and known_cage_reach(mesh, over) is None:
            self.gauger.start("find the cage", lambda _: cage_reach_of(mesh, over), self._gauged, self.program.say)

    def follow_skins(self) -> None:
        """Make ready what is shown as in a game: large layers take a while."""
        program = self.program
        if not program.display.lit or program.stage.id != "deliver":
            return
        mesh = next((j.mesh for j in program.document.state.looked_at if not is_handed(j.mesh)), None)
        if mesh is not None and not self.dresser.busy:

            def dressed(_: Any) -> None:
                self.ready.emit()
                self.follow_skins()

            self.dresser.start("dress it", lambda _: make_ready(mesh), dressed, program.say)

    def _gauged(self, _: Any) -> None:
        self.ready.emit()
        self.follow_gap()  # the layer may be another by now

    # ---- previews ----------------------------------------------------------------------------------------
    def preview(self, command_id: str) -> None:
        """Show in the form view what a button of Tidy would do; nothing for ""."""
        tool = self.program.tool
        if not isinstance(tool, Tidy):
            return
        values = replace(self.program.values(TopologyValues))
        self.form.act(lambda: tool.preview(command_id, values))
        if not tool.wants_time(command_id) or self.previewer.busy:
            return
        frozen = Document(self.program.document.state)

        def told(sentence: str) -> None:
            if tool.pointed == command_id:
                tool.ghost = Ghost(what=sentence)
                self.form.refresh_ghost()

        def seen(new: PolyMesh) -> None:
            self.form.act(lambda: tool.show_result(command_id, new))

        self.previewer.start("look ahead", lambda progress: TIDYINGS[command_id].run(frozen, values), seen, told)


def _same(a: tuple[PolyMesh, ...], b: tuple[PolyMesh, ...]) -> bool:
    return len(a) == len(b) and all(x is y for x, y in zip(a, b, strict=True))
