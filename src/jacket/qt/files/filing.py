"""Opening, saving, delivering and leaving: everything with a file dialog."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from PySide6.QtWidgets import QFileDialog, QMessageBox

from jacket.core.derive import HEAVY, surface_of
from jacket.core.fit.refit import marked, refit
from jacket.core.source.placing import placed
from jacket.document.edits import sources as sources_steps
from jacket.document.state import State
from jacket.errors import JacketError
from jacket.formats.mesh.registry import READ_ENDINGS, read_mesh
from jacket.formats.project.records import load_project, save_project
from jacket.jobs.deliver import DeliverLayer, DeliverSettings, deliver
from jacket.progress import Progress, part
from jacket.qt.files.watching import stamp_of
from jacket.qt.scene.scenes import prepare_light
from jacket.stages.commands import project_name

if TYPE_CHECKING:
    from jacket.qt.window import Window


class Filing:
    """File dialogs and what follows them; the window is told by its document."""

    def __init__(self, window: Window) -> None:
        self.window = window
        self.waiting: list[Path] = []

    # ---- opening --------------------------------------------------------------------------------
    def open_source(self) -> None:
        """Ask for meshes and open them as sources."""
        kinds = " ".join(f"*{e}" for e in READ_ENDINGS)
        paths, _ = QFileDialog.getOpenFileNames(self.window, "Open sources", "", f"Meshes ({kinds})")
        self.open_paths([Path(p) for p in paths])

    def open_paths(self, paths: list[Path]) -> None:
        """Open several files one after another; what cannot be opened does not hold up the others."""
        if paths:
            self.waiting += paths[1:]
            self.open_path(paths[0])

    def open_next(self) -> None:
        """Go on with the files that are still to be opened."""
        if self.waiting and not self.window.worker.busy:
            self.open_path(self.waiting.pop(0))

    def open_project(self) -> None:
        """Ask for a project and open it in place of the present one."""
        path, _ = QFileDialog.getOpenFileName(self.window, "Open a project", "", "Jacket projects (*.jacket)")
        if path:
            self.open_path(Path(path))

    def open_path(self, path: Path) -> None:
        """Open a project or a mesh by its ending, in the background."""
        window = self.window
        try:
            if path.suffix.lower() == ".jacket":
                if self.may_leave():
                    window.work(f"opening {path.name}", lambda p: self._prepared(load_project(path), p),
                                lambda state: self.show_project(state, str(path)))  # fmt: skip
            else:
                window.work(f"opening {path.name}", lambda p: self._read(path, p),
                            lambda found: self._add(path, *found))  # fmt: skip
        except JacketError as error:
            window.say(str(error))

    def _read(self, path: Path, progress: Progress) -> Any:
        """Read a mesh and derive here, off the window's thread, what its first picture and pick need."""
        stamp = stamp_of(path)
        mesh = read_mesh(path, part(progress, 0.0, 0.8))
        progress(0.8, "making a light copy")
        prepare_light(mesh)
        if mesh.n_faces < HEAVY:
            surface_of(mesh)
        return mesh, stamp

    def _prepared(self, state: State, progress: Progress) -> State:
        for source in state.sources:
            progress(0.5, f"making {source.name} ready to draw")
            prepare_light(source.mesh)
        return state

    def take_new_file(self) -> None:
        """Read the file of the chosen source again, move it as the old one was, refit the jackets to it."""
        window = self.window
        document = window.document
        source = window.watching.changed() or document.state.chosen_source
        if source is None or not source.path:
            raise JacketError("This source came from no file, so there is no newer one to take.")
        path, stamp, state = Path(source.path), stamp_of(source.path), document.state

        def job(progress: Progress) -> Any:
            mesh = placed(read_mesh(path, part(progress, 0.0, 0.4)), source.placing)
            window.prepare(mesh, part(progress, 0.4, 0.7))
            jackets, poor = {}, 0
            old = surface_of(source.mesh)
            for jacket in state.jackets:
                if jacket.mesh.n_faces == 0:
                    continue
                done = refit(jacket.mesh, surface_of(mesh), mesh.diagonal, old, part(progress, 0.7, 1.0))
                jackets[jacket.id] = marked(done)
                poor += len(done.poor)
            return mesh, jackets, poor

        def done(found: Any) -> None:
            mesh, jackets, poor = found
            now = {j.id: j.mesh for j in document.state.jackets}
            if sources_steps.source_of(document, source.id).mesh is not source.mesh or any(
                now.get(j.id) is not j.mesh for j in state.jackets
            ):
                raise JacketError(
                    "The source or the jacket changed meanwhile, so the new file was not taken; ask again."
                )
            sources_steps.take_new_source(document, source.id, mesh, stamp, jackets)
            window.panel.show_changed(None)
            if jackets:
                if not window.display.on["moved"]:
                    window.toggle("moved")
                tail = f"; {poor:,} points are refitted badly, see the checks" if poor else ""
                window.say(f"{source.name} is new; the jacket was refitted and shows how far it moved{tail}.")

        window.work(f"taking the new {source.name}", job, done)

    def _add(self, path: Path, mesh: Any, stamp: tuple[int, int]) -> None:
        first = not self.window.document.state.sources
        sources_steps.add_source(self.window.document, path.stem, mesh, str(path.resolve()), stamp)
        self.window.settings.remember(str(path))
        if first:
            self.window.frame(True)

    def show_project(self, state: State, path: str) -> None:
        """Show a loaded state as the document."""
        window = self.window
        window.document.open(state, path)
        if path:
            window.settings.remember(path)
        window.frame(True)

    # ---- saving ---------------------------------------------------------------------------------
    def save(self, ask: bool) -> bool:
        """Save the project, asking for a name when it has none; whether it was saved."""
        document = self.window.document
        path = document.path
        if ask or not path:
            suggested = (project_name(document.path) if document.path else "untitled") + ".jacket"
            path, _ = QFileDialog.getSaveFileName(
                self.window, "Save the project", suggested, "Jacket projects (*.jacket)"
            )
            if not path:
                return False
            if not path.endswith(".jacket"):
                path += ".jacket"
        try:
            save_project(document.state, Path(path))
        except JacketError as error:
            self.window.say(str(error))
            return False
        document.mark_saved(path)
        self.window.settings.remember(path)
        self.window.keeper.clear()
        self.window.say(f"Saved {Path(path).name}.")
        return True

    def may_leave(self) -> bool:
        """Whether the present work may go: saved, or given up on purpose."""
        if not self.window.document.dirty:
            return True
        answer = self.ask_to_leave()
        if answer == QMessageBox.StandardButton.Save:
            return self.save(False)
        return answer == QMessageBox.StandardButton.Discard

    def ask_to_leave(self) -> QMessageBox.StandardButton:
        """Ask what to do with unsaved work."""
        box = QMessageBox(self.window)
        box.setWindowTitle("Unsaved work")
        box.setText(f"{project_name(self.window.document.path)} has changes that are not saved.")
        box.setInformativeText("Save them before closing?")
        box.setStandardButtons(
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel
        )
        box.setDefaultButton(QMessageBox.StandardButton.Save)
        return QMessageBox.StandardButton(box.exec())

    # ---- delivering -----------------------------------------------------------------------------
    def deliver(self) -> None:
        """Ask for a folder and write the delivery there."""
        folder = QFileDialog.getExistingDirectory(self.window, "Deliver to")
        if folder:
            self.deliver_to(Path(folder))

    def deliver_to(self, folder: Path) -> None:
        """Check the jacket and write its files in the background."""
        window = self.window
        state = window.document.state
        jacket = window.document.require_jacket()
        profile = str(window.values["profile"])
        stem = project_name(window.document.path) if window.document.path else jacket.name.lower()

        def job(progress: Progress) -> Any:
            progress(0.1, "checking the jacket")
            source = state.source
            surface = surface_of(source.mesh) if source is not None else None
            layers = [DeliverLayer(j.name, j.mesh, {r.id: r.name for r in j.islands}) for j in state.jackets if j.visible]
            done = deliver(layers, folder, DeliverSettings(profile, state.sheets, stem),
                           source.mesh if source is not None else None, surface, progress=progress)  # fmt: skip
            return done.paths, done.wrong

        def done(result: Any) -> None:
            written, wrong = result
            tail = f"; {len(wrong)} checks are not met" if wrong else "; all checks are met"
            window.say(f"Delivered {len(written)} files to {folder}{tail}.")

        window.work("delivering", job, done)
