"""Opening, saving, delivering and leaving: everything with a file dialog."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from jacket.commands.general import project_name
from jacket.core.bake.made import Bake
from jacket.core.derive import HEAVY, surface_of
from jacket.core.mesh.polymesh import PolyMesh
from jacket.document.document import only_passing
from jacket.document.edits import sources
from jacket.document.state import SourceObject, State
from jacket.document.task import Task
from jacket.errors import JacketError
from jacket.formats.mesh.registry import READ_ENDINGS, read_mesh
from jacket.formats.project.records import load_project
from jacket.program import Program
from jacket.progress import Progress, part
from jacket.qt.files.claims import Claims
from jacket.qt.files.keeping import Keeper
from jacket.qt.files.saving import Saver
from jacket.qt.files.watching import Watching
from jacket.qt.scene.source import prepare_light
from jacket.stages.deliver.commands import deliver_to
from jacket.stages.deliver.keeping import maps_in, maps_to_keep
from jacket.stages.layout.drawing import draw_to
from jacket.stages.source.reading import Stamp, stamp_of


class Filing(QObject):
    """File dialogs and what follows them."""

    kept_wanted = Signal()

    def __init__(self, program: Program, keeper: Keeper, watching: Watching, parent: QWidget) -> None:
        super().__init__(parent)
        self.program, self.keeper, self.watching, self.window = program, keeper, watching, parent
        self.saver = Saver(program.document, program.say, self._saved, self)
        self.saver.maps = lambda: maps_to_keep(program)
        self.claims = Claims()

    def show_kept(self) -> None:
        """Show the work that was kept when a window ended without saving."""
        self.kept_wanted.emit()

    def newer_source(self) -> SourceObject | None:
        """The source whose file is newer on disk."""
        return self.watching.changed()

    # ---- opening --------------------------------------------------------------------------------
    def open_source(self) -> None:
        """Ask for meshes and open them as sources."""
        kinds = " ".join(f"*{e}" for e in READ_ENDINGS)
        paths, _ = QFileDialog.getOpenFileNames(self.window, "Open sources", "", f"Meshes ({kinds})")
        self.open_paths([Path(p) for p in paths])

    def open_project(self) -> None:
        """Ask for a project and open it in place of the present one."""
        path, _ = QFileDialog.getOpenFileName(self.window, "Open a project", "", "Jacket projects (*.jacket)")
        if path:
            self.open_path(Path(path))

    def open_paths(self, paths: list[Path]) -> None:
        """Open several files one after another; what cannot be opened does not hold up the others."""
        for path in paths:
            self.open_path(path)

    def open_path(self, path: Path) -> None:
        """Open a project or a mesh by its ending, beside the window; while something else is at work it waits its turn."""
        tasks = self.program.tasks
        if tasks.busy:
            tasks.later(f"open {path.name}", lambda: self.open_path(path))
        elif path.suffix.lower() == ".jacket":
            if self.may_leave():
                before, stamp = self.program.document.state, stamp_of(path)
                tasks.start(Task(f"open {path.name}", lambda p: _opened(path, p),
                                 lambda found: self._show_opened(found, path, stamp) if self.left(before) else None))  # fmt: skip
        else:
            tasks.start(Task(f"open {path.name}", lambda p: _read(path, p), lambda found: self._add(path, *found)))

    def _add(self, path: Path, mesh: PolyMesh, stamp: Stamp) -> None:
        first = not self.program.document.state.sources
        sources.add_source(self.program.document, path.stem, mesh, str(path.resolve()), stamp)
        self.program.settings.remember(str(path))
        if first:
            self.program.frame(True)

    def _show_opened(self, found: tuple[State, Bake | None, str], path: Path, stamp: Stamp | None) -> None:
        state, baked, sentence = found
        self.show_project(state, str(path), stamp)
        if baked is not None:
            self.program.keep_baked(baked)
        if sentence:
            self.program.say(sentence)

    def left(self, before: State) -> bool:
        """Whether another project may take the place of the present one, which was given up when it was `before`: what was
        drawn while the other was read is asked about, not thrown away."""
        return only_passing(before, self.program.document.state) or self.may_leave()

    def show_project(self, state: State, path: str, stamp: Stamp | None = None) -> None:
        """Show a loaded state as the document; the work before it was saved or given up."""
        program = self.program
        program.tool.cancel()
        program.tasks.forget()
        self.keeper.clear()
        program.document.open(state, path)
        if path:
            program.settings.remember(path)
        program.frame(True)
        against = self.claims.take(path, stamp)
        if against:
            program.say(f"{against} Here it can be looked at and worked on.")

    # ---- saving ---------------------------------------------------------------------------------
    def save(self, ask: bool) -> bool:
        """Begin to save the project, asking for a name when it has none; whether it was begun."""
        path = self.program.document.path
        if ask or not path:
            path = self.ask_name()
        while path:
            against = self.claims.against(path)
            if against:
                if self.ask_elsewhere(against, False) != QMessageBox.StandardButton.Save:
                    return False
            elif self.claims.changed(path):
                words = f"{Path(path).name} was changed by somebody else since it was opened here."
                answer = self.ask_elsewhere(words, True)
                if answer == QMessageBox.StandardButton.Cancel:
                    return False
                if answer == QMessageBox.StandardButton.Discard:
                    break
            else:
                break
            path = self.ask_name()
        if path:
            self.saver.save(path)
        return bool(path)

    def ask_name(self) -> str:
        """A name for the project; "" where it was called off."""
        document = self.program.document
        suggested = (project_name(document.path) if document.path else "untitled") + ".jacket"
        dialog = QFileDialog(self.window, "Save the project", suggested, "Jacket projects (*.jacket)")
        dialog.setAcceptMode(QFileDialog.AcceptMode.AcceptSave)
        # With the ending put on by the dialog, it asks about a file that is there already.
        dialog.setDefaultSuffix("jacket")
        if document.path:
            dialog.setDirectory(str(Path(document.path).parent))
        dialog.selectFile(suggested)
        return dialog.selectedFiles()[0] if dialog.exec() and dialog.selectedFiles() else ""

    def ask_elsewhere(self, why: str, over: bool) -> QMessageBox.StandardButton:
        """Say why a project cannot be saved where it is and offer a copy (Save) or, with `over`, to save all the same
        (Discard what the other wrote)."""
        box = QMessageBox(self.window)
        box.setWindowTitle("Save elsewhere?")
        box.setText(why)
        copy = box.addButton("Save a copy…", QMessageBox.ButtonRole.AcceptRole)
        anyway = box.addButton("Save over it", QMessageBox.ButtonRole.DestructiveRole) if over else None
        box.addButton(QMessageBox.StandardButton.Cancel)
        box.exec()
        if box.clickedButton() is copy:
            return QMessageBox.StandardButton.Save
        if anyway is not None and box.clickedButton() is anyway:
            return QMessageBox.StandardButton.Discard
        return QMessageBox.StandardButton.Cancel

    def _saved(self, path: str) -> None:
        self.program.settings.remember(path)
        self.claims.saved(path)
        if not self.program.document.dirty:
            self.keeper.clear()
        self.program.say(f"Saved {Path(path).name}.")

    def may_leave(self) -> bool:
        """Whether the present work may go: saved, or given up on purpose."""
        if not self.program.document.dirty:
            return True
        answer = self.ask_to_leave()
        if answer == QMessageBox.StandardButton.Save:
            return self.save(False) and self.saver.wait() and not self.program.document.dirty
        return answer == QMessageBox.StandardButton.Discard

    def ask_to_leave(self) -> QMessageBox.StandardButton:
        """Ask what to do with unsaved work."""
        box = QMessageBox(self.window)
        box.setWindowTitle("Unsaved work")
        box.setText(f"{project_name(self.program.document.path)} has changes that are not saved.")
        box.setInformativeText("Save them first?")
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

    def save_picture(self) -> None:
        """Ask for a file and draw the sheets there."""
        document = self.program.document
        stem = project_name(document.path) if document.path else document.require_jacket().name.lower()
        start = Path(document.path).parent if document.path else Path()
        name, _ = QFileDialog.getSaveFileName(self.window, "Save the layout as a picture", str(start / f"{stem}-layout.png"),
                                              "Pictures (*.png);;Drawings (*.svg)")  # fmt: skip
        if name:
            path = Path(name)
            draw_to(self.program, path if path.suffix else path.with_suffix(".png"))

    def choose_picture(self, role: str) -> str | None:
        """Ask for a picture that is to stand for something of a layer."""
        name, _ = QFileDialog.getOpenFileName(self.window, f"A picture of {role}", "", "Pictures (*.png *.jpg *.jpeg)")
        return name or None

    def choose_drawing(self) -> str | None:
        """Ask for a drawing over a sheet."""
        name, _ = QFileDialog.getOpenFileName(self.window, "Curves drawn over the sheet", "", "Drawings (*.svg)")
        return name or None

    def deliver_to(self, folder: Path) -> None:
        """Check the layers and write their files, beside the window."""
        document = self.program.document
        stem = project_name(document.path) if document.path else document.require_jacket().name.lower()
        try:
            deliver_to(self.program, folder, stem)
        except JacketError as error:
            self.program.say(str(error))


def _read(path: Path, progress: Progress) -> Any:
    """Read a mesh and derive here, off the window's thread, what its first picture and pick need."""
    stamp = stamp_of(path)
    mesh = read_mesh(path, part(progress, 0.0, 0.8))
    progress(0.8, "making a light copy")
    prepare_light(mesh)
    if mesh.n_faces < HEAVY:
        surface_of(mesh)
    return mesh, stamp


def _opened(path: Path, progress: Progress) -> tuple[State, Bake | None, str]:
    """A project, the maps in it, and what is to be said of them."""
    state = made_ready(load_project(path), progress)
    progress(0.9, "reading the maps")
    return (state, *maps_in(path, state))


def made_ready(state: State, progress: Progress) -> State:
    """A loaded state whose sources can be drawn at once."""
    for source in state.sources:
        progress(0.5, f"making {source.name} ready to draw")
        prepare_light(source.mesh)
    return state
