"""Random use of the real window: `python -m bench monkey [SEEDS] [STEPS]`.

Whatever is clicked, dragged, typed, opened, undone or closed: no exception on the way, no mesh that is not sound, nothing
held that is not there, the event loop never stuck, and what the window shows is what it would show if it were drawn anew.
"""

from __future__ import annotations

import logging
import os
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QCoreApplication, QEvent, QMimeData, QPointF, Qt, QUrl, qInstallMessageHandler
from PySide6.QtGui import QDropEvent, QImage, QKeyEvent, QMouseEvent, QWheelEvent
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QMessageBox

from bench.odd_layers import KINDS
from bench.odd_meshes import ball, holed
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.document.document import Document
from jacket.document.edits import layers as layer_edits
from jacket.document.state import JacketObject, SourceObject, State
from jacket.errors import JacketError
from jacket.formats.mesh.registry import write_mesh
from jacket.formats.project.records import save_project
from jacket.qt.app import make_app, settle
from jacket.qt.scene.form import Kept
from jacket.qt.views.glview import GlView
from jacket.qt.window import Window
from jacket.settings import Settings

STUCK = 1.0
"""Seconds after which a step counts as having stuck the event loop, on a machine that does other work too."""

BUTTONS = (Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.MouseButton.LeftButton, Qt.MouseButton.RightButton,
           Qt.MouseButton.MiddleButton)  # fmt: skip
MODIFIERS = (Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.NoModifier, Qt.KeyboardModifier.NoModifier,
             Qt.KeyboardModifier.ShiftModifier, Qt.KeyboardModifier.ControlModifier, Qt.KeyboardModifier.AltModifier)  # fmt: skip


class Listening(logging.Handler):
    """Keeps what was logged as a failure, and what Qt or Python threw away."""

    def __init__(self) -> None:
        super().__init__(logging.ERROR)
        self.found: list[str] = []
        logging.getLogger("jacket").addHandler(self)
        self._hook = sys.excepthook
        sys.excepthook = self._thrown
        self._qt = qInstallMessageHandler(lambda kind, context, text: self.found.append(f"Qt says: {text}"))

    def _thrown(self, kind: Any, error: Any, trace: Any) -> None:
        import traceback

        self.found.append("".join(traceback.format_exception(kind, error, trace)[-4:]))

    def emit(self, record: logging.LogRecord) -> None:
        self.found.append(self.format(record))

    def close(self) -> None:
        logging.getLogger("jacket").removeHandler(self)
        sys.excepthook = self._hook
        qInstallMessageHandler(self._qt)
        super().close()


class Acts:
    """What can be done with a window: each act says what it was."""

    window: Window
    rng: np.random.Generator
    folder: Path
    down: tuple[GlView, Qt.MouseButton, QPointF] | None = None

    def view(self) -> GlView:
        """One of the two views, the form more often; always one that can be seen."""
        flat = self.window.flat
        return flat if flat.isVisible() and self.rng.random() < 0.35 else self.window.form

    def place(self, view: GlView) -> QPointF:
        """Somewhere in a view, near its middle mostly."""
        w, h = view.width(), view.height()
        x, y = self.rng.normal([w / 2, h / 2], [w / 5, h / 5]) if self.rng.random() < 0.9 else self.rng.uniform(0, 1, 2) * [w, h]
        return QPointF(float(np.clip(x, 1, w - 2)), float(np.clip(y, 45, h - 2)))

    def send(self, view: GlView, kind: QEvent.Type, at: QPointF, button: Any, held: Any, modifiers: Any) -> None:
        """A mouse event as the window system sends it, and that the mouse left the other view."""
        other = self.window.flat if view is self.window.form else self.window.form
        if other.overlay.pointer.x() >= 0 and self.down is None:
            QApplication.sendEvent(other, QEvent(QEvent.Type.Leave))
        QApplication.sendEvent(view, QMouseEvent(kind, at, view.mapToGlobal(at), button, held, modifiers))

    def modifiers(self) -> Any:
        """None mostly."""
        return MODIFIERS[int(self.rng.integers(len(MODIFIERS)))]

    def point(self) -> str:
        """Move, sometimes click."""
        view, modifiers = self.view(), self.modifiers()
        at = self.place(view)
        none = Qt.MouseButton.NoButton
        if self.down is not None:
            view = self.down[0]
            self.send(view, QEvent.Type.MouseMove, at, none, self.down[1], modifiers)
            if self.rng.random() < 0.5:
                self.let_go(at)
            return f"dragging on with {self.window.tool.id}"
        self.send(view, QEvent.Type.MouseMove, at, none, none, modifiers)
        if self.rng.random() < 0.5:
            QApplication.processEvents()
            button = BUTTONS[int(self.rng.integers(3))]
            self.send(view, QEvent.Type.MouseButtonPress, at, button, button, modifiers)
            self.send(view, QEvent.Type.MouseButtonRelease, at, button, none, modifiers)
            return f"click with {self.window.tool.id} in the {view.view_name} view"
        return f"hover with {self.window.tool.id} in the {view.view_name} view"

    def drag(self) -> str:
        """Press and move; now and then the button stays down, and other things happen meanwhile."""
        if self.down is not None:
            self.let_go(self.down[2])
        view, modifiers = self.view(), self.modifiers()
        button = BUTTONS[int(self.rng.integers(len(BUTTONS)))]
        at = self.place(view)
        self.send(view, QEvent.Type.MouseButtonPress, at, button, button, modifiers)
        for _ in range(int(self.rng.integers(1, 6))):
            at = at + QPointF(*self.rng.normal(scale=30, size=2))
            self.send(view, QEvent.Type.MouseMove, at, Qt.MouseButton.NoButton, button, modifiers)
        self.down = (view, button, at)
        if self.rng.random() < 0.75:
            self.let_go(at)
            return f"drag with {self.window.tool.id} in the {view.view_name} view"
        return f"begun drag with {self.window.tool.id} in the {view.view_name} view"

    def let_go(self, at: QPointF) -> None:
        """Release the button that is down."""
        view, button, _ = self.down or (self.window.form, Qt.MouseButton.LeftButton, at)
        self.down = None
        self.send(view, QEvent.Type.MouseButtonRelease, at, button, Qt.MouseButton.NoButton, Qt.KeyboardModifier.NoModifier)

    def wheel(self) -> str:
        """The wheel, sometimes without end."""
        view = self.view()
        at = self.place(view)
        turns = int(self.rng.choice([1, 1, 2, 40])) * int(self.rng.choice([-1, 1]))
        event = QWheelEvent(at, view.mapToGlobal(at), QPointF(0, 0).toPoint(), QPointF(0, 120 * turns).toPoint(),
                            Qt.MouseButton.NoButton, self.modifiers(), Qt.ScrollPhase.NoScrollPhase, False)  # fmt: skip
        QApplication.sendEvent(view, event)
        if abs(turns) > 10 and self.rng.random() < 0.8:
            self.window.frame(True)
        return f"wheel {turns}"

    def key(self) -> str:
        """What tools take, and single letters."""
        keys = [Qt.Key.Key_Space, Qt.Key.Key_Return, Qt.Key.Key_Escape, Qt.Key.Key_Backspace, Qt.Key.Key_BracketLeft,
                Qt.Key.Key_BracketRight, *(Qt.Key(int(Qt.Key.Key_A) + int(self.rng.integers(26))) for _ in range(3))]  # fmt: skip
        key = keys[int(self.rng.integers(len(keys)))]
        text = {Qt.Key.Key_BracketLeft: "[", Qt.Key.Key_BracketRight: "]", Qt.Key.Key_Space: " "}.get(
            key, chr(int(key)).lower() if int(key) < 128 else ""
        )
        QApplication.sendEvent(self.window, QKeyEvent(QEvent.Type.KeyPress, int(key), Qt.KeyboardModifier.NoModifier, text))
        return f"key {key.name}"

    def command(self) -> str:
        """Any command there is."""
        rows = [c for c in self.window.commands if not c.id.startswith(("stage-", "show-")) or self.rng.random() < 0.2]
        command = rows[int(self.rng.integers(len(rows)))]
        self.window.run(command)
        return f"command {command.id}"

    def tool(self) -> str:
        """Another tool."""
        tools = self.window.program.stage.tools
        kind = tools[int(self.rng.integers(len(tools)))]
        self.window.take_tool(kind.id)
        return f"tool {kind.id}"

    def stage(self) -> str:
        """Another stage."""
        stage = str(self.rng.choice(list(self.window.program.stages)))
        self.window.show_stage(stage)
        return f"stage {stage}"

    def back(self) -> str:
        """Undo or redo, several times."""
        name = str(self.rng.choice(["undo", "undo", "redo"]))
        for _ in range(int(self.rng.integers(1, 5))):
            self.window.run(self.window.commands[name])
        return name

    def chip(self) -> str:
        """A switch of the display."""
        from jacket.commands.display import COLOURINGS, SWITCHES

        name = str(self.rng.choice([*COLOURINGS, *SWITCHES]))
        self.window.program.show(self.window.display.toggled(name))
        return f"chip {name}"

    def check(self) -> str:
        """A click on a check."""
        chips = self.window.strip.chips
        if chips:
            chips[int(self.rng.integers(len(chips)))].click()
        return "check"

    def resize(self) -> str:
        """Another size of the window, or of the views."""
        if self.rng.random() < 0.5:
            self.window.resize(int(self.rng.integers(980, 1500)), int(self.rng.integers(620, 950)))
            return "resize"
        dock = self.window.dock
        share = float(self.rng.uniform(0.1, 0.9))
        dock.splitter.setSizes([int(1000 * share), int(1000 * (1 - share))])
        return "splitter"

    def value(self) -> str:
        """A value of a stage that is a number or a truth value."""
        program = self.window.program
        spec = list(program.stages.values())[int(self.rng.integers(len(program.stages)))]
        record = program.values(spec.values)
        names = [n for n in spec.values.__dataclass_fields__ if isinstance(getattr(record, n), bool | int | float)]
        if not names:
            return "value"
        name = str(self.rng.choice(names))
        now, usual = getattr(record, name), getattr(spec.values(), name)
        new = not now if isinstance(now, bool) else type(now)(usual * self.rng.choice([0.5, 1, 1, 2]))
        program.put(spec.values, name, new)
        return f"value {name}"

    def menu(self) -> str:
        """A context menu and something in it."""
        view = self.view()
        view.menu_wanted.emit(view.mapToGlobal(self.place(view).toPoint()))
        popup = QApplication.activePopupWidget()
        said = "menu"
        if isinstance(popup, QMenu):
            rows = [a for a in popup.actions() if a.isEnabled() and a.text()]
            if rows and self.rng.random() < 0.6:
                action = rows[int(self.rng.integers(len(rows)))]
                said = f"menu {action.text()}"
                action.trigger()
            popup.close()
            popup.deleteLater()
        return said

    def layer(self) -> str:
        """Layers come, go, hide and change while other things go on."""
        document = self.window.document
        acts: list[Callable[[], None]] = [
            lambda: layer_edits.add_layer(document), lambda: layer_edits.copy_layer(document),
            lambda: layer_edits.remove_layer(document), lambda: layer_edits.join_layers(document),
            lambda: layer_edits.mirror_layer(document, 0),
            lambda: layer_edits.choose_layer(document, int(self.rng.choice([j.id for j in document.state.jackets]))),
        ]  # fmt: skip
        k = int(self.rng.integers(len(acts)))
        try:
            acts[k]()
        except JacketError:
            return f"layer {k}, refused"
        return f"layer {k}"

    def file(self) -> str:
        """Files dropped, opened and saved, whatever is under way."""
        name = str(self.rng.choice(["other.ply", "other.ply", "kept.jacket", "saved0.jacket", "missing.obj", "bad.ply"]))
        (self.folder / "bad.ply").write_bytes(b"ply\nnonsense")
        data = QMimeData()
        data.setUrls([QUrl.fromLocalFile(str(self.folder / name))])
        event = QDropEvent(QPointF(300, 300), Qt.DropAction.CopyAction, data, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier)
        self.window.dropEvent(event)
        return f"drop {name}"

    def stop(self) -> str:
        """Stop what is under way."""
        self.window.strip.stop_wanted.emit()
        return "stop"

    def keep(self) -> str:
        """Autosave."""
        self.window.keeper.keep()
        return "autosave"

    def wait(self) -> str:
        """Let things happen."""
        end = time.monotonic() + float(self.rng.choice([0.0, 0.03, 0.2]))
        while time.monotonic() < end:
            QApplication.processEvents()
            time.sleep(0.002)
        return "wait"


class Monkey(Acts):
    """One session with a seed."""

    def __init__(self, seed: int, folder: Path) -> None:
        self.rng = np.random.default_rng(seed)
        self.folder = folder
        self.faults: list[str] = []
        self.slow: list[tuple[float, str]] = []
        self.steps = 0
        self.last = ""
        self.listening = Listening()
        source = ball(24, 36)
        jacket = automatic_quads(source, AutoSettings(quads=240)).mesh
        mirror = str(self.rng.choice(["", "", "x"]))
        layers = (JacketObject(2, "shell", jacket), *self._odd_layer(seed))
        state = State((SourceObject(1, "ball", source),), layers, active=2, next_id=4, mirror=mirror)
        write_mesh(holed(), folder / "other.ply")
        save_project(state, folder / "kept.jacket")
        self.window = Window(Document(state), Settings())
        self._answer_dialogs()
        self.window.show()
        self.window.frame(True)
        settle(self.window, 60)

    @staticmethod
    def _odd_layer(seed: int) -> tuple[JacketObject, ...]:
        """In every other session another layer, which nothing made for this."""
        rng = np.random.default_rng([seed, 1])
        kind = list(KINDS)[int(rng.integers(len(KINDS)))]
        return (JacketObject(3, kind, KINDS[kind](rng)),) if rng.random() < 0.5 else ()

    def _answer_dialogs(self) -> None:
        """Dialogs are answered at once, one way or the other."""
        window, rng = self.window, self.rng
        filing = window.filing
        answers = (QMessageBox.StandardButton.Discard, QMessageBox.StandardButton.Cancel, QMessageBox.StandardButton.Save)
        filing.ask_to_leave = lambda: answers[int(rng.integers(3))]  # type: ignore[method-assign]
        filing.ask_elsewhere = lambda why, over: QMessageBox.StandardButton.Cancel  # type: ignore[method-assign]
        filing.ask_name = lambda: str(self.folder / f"saved{rng.integers(2)}.jacket")  # type: ignore[method-assign]
        window.ask_text = lambda title, label, text: str(rng.choice(["", text, "a*b#", "x" * 60, "ä"]))  # type: ignore[method-assign]
        names = ([str(self.folder / "other.ply")], "")
        kinds = ("getOpenFileNames", "getOpenFileName", "getSaveFileName", "getExistingDirectory")
        self._dialogs = {n: getattr(QFileDialog, n) for n in kinds}
        QFileDialog.getSaveFileName = staticmethod(  # type: ignore[assignment, method-assign]
            lambda *a, **k: (str(self.folder / f"drawn.{rng.choice(['png', 'svg', 'gif'])}"), ""))  # fmt: skip
        QFileDialog.getOpenFileNames = staticmethod(lambda *a, **k: names)  # type: ignore[assignment, method-assign]
        QFileDialog.getOpenFileName = staticmethod(lambda *a, **k: (str(self.folder / "kept.jacket"), ""))  # type: ignore[assignment, method-assign]
        QFileDialog.getExistingDirectory = staticmethod(lambda *a, **k: str(self.folder / "out"))  # type: ignore[assignment, method-assign]

    # ---- what is done --------------------------------------------------------------------------------------
    def run(self, steps: int, pictures: int = 60) -> None:
        """So many random steps; every `pictures` of them the picture is compared with one drawn anew."""
        acts: list[tuple[float, Callable[[], str]]] = [
            (30, self.point), (16, self.drag), (7, self.wheel), (12, self.key), (11, self.command), (5, self.tool),
            (4, self.stage), (5, self.back), (3, self.chip), (2, self.check), (2, self.resize), (2, self.value), (2, self.menu),
            (1.5, self.layer), (1.2, self.file), (1, self.stop), (0.7, self.keep), (3, self.wait),
        ]  # fmt: skip
        weights = np.array([w for w, _ in acts])
        for _ in range(steps):
            act = acts[int(self.rng.choice(len(acts), p=weights / weights.sum()))][1]
            start = time.perf_counter()
            try:
                self.last = act()
            except Exception as error:
                self.last = act.__name__
                self.fault(f"{type(error).__name__}: {error}")
            QApplication.processEvents()
            seconds = time.perf_counter() - start
            if act not in (self.wait, self.file, self.command, self.menu) or seconds > 5:
                self.slow.append((seconds, self.last))
            self.steps += 1
            self.look()
            if self.steps % pictures == 0:
                self.compare()

    def fault(self, text: str) -> None:
        """Write down what is wrong, after what."""
        self.faults.append(f"step {self.steps}, after {self.last}: {text}")

    # ---- what is looked at -----------------------------------------------------------------------------------
    def look(self) -> None:
        """Everything that has to hold at any time."""
        for text in self.listening.found:
            self.fault(text.strip().splitlines()[-1] + " | " + " ".join(text.split())[-400:])
        self.listening.found.clear()
        state = self.window.document.state
        for thing in (*state.sources, *state.jackets, *state.trials):
            problem = unsound(thing.mesh)
            if problem:
                self.fault(f"{thing.name}: {problem}")
        if state.jackets and state.jacket is None:
            self.fault("no active layer")
        jacket = state.jacket
        if jacket is not None:
            mesh = jacket.mesh
            for kind, count in (("points", mesh.n_points), ("edges", mesh.topology.n_edges), ("faces", mesh.n_faces)):
                held = state.held.of(kind)
                if len(held) and (held.min() < 0 or held.max() >= count):
                    self.fault(f"{kind} are held that are not there")
        ids = [o.id for o in (*state.sources, *state.jackets, *state.trials)]
        if len(set(ids)) != len(ids) or any(i >= state.next_id for i in ids):
            self.fault("two objects of one number")
        camera = self.window.form.camera
        if not (np.isfinite(camera.matrix).all() and np.isfinite(camera.eye).all()) or not np.isfinite(self.window.flat.camera.matrix).all():
            self.fault("a camera that is nowhere")
            self.window.frame(True)

    def compare(self) -> None:
        """Once all is still: whether both views show what they would show if drawn anew."""
        if self.down is not None:
            self.let_go(self.down[2])
        # Long work is stopped, which has to do within a moment.
        self.window.program.tasks.stop()
        for box in QApplication.topLevelWidgets():
            if isinstance(box, QMenu) and box.isVisible():
                box.close()
        for view in (self.window.form, self.window.flat):
            if view.overlay.pointer.x() >= 0:  # keys that were held with the last move are let go of
                none = Qt.MouseButton.NoButton
                self.send(view, QEvent.Type.MouseMove, view.overlay.pointer, none, none, MODIFIERS[0])
        if not settle(self.window, 30):
            w = self.window
            self.fault(f"no rest: checking {w.checking.busy}, looking {w.looking.busy}, saving {w.filing.saver.busy}, tasks "
                       f"{w.program.tasks.running} {w.program.tasks.waiting}, moving {w.form.moving}, {w.form.unfinished}")  # fmt: skip
            return
        before, was = pictures(self.window), self.ghost()
        drawn_anew(self.window)
        settle(self.window, 30)
        after = pictures(self.window)
        for name, a, b in zip(("form", "flat"), before, after, strict=True):
            if a.shape != b.shape:
                self.fault(f"the {name} view has another size when drawn anew")
                continue
            off = int((np.abs(a.astype(int) - b.astype(int)).max(axis=2) > 12).sum())
            if off > 30:
                self.fault(f"the {name} view differs in {off} pixels when drawn anew; {was} before, {self.ghost()} after")
                save(a, self.folder / f"{name}-{self.steps}-shown.png")
                save(b, self.folder / f"{name}-{self.steps}-anew.png")

    def ghost(self) -> str:
        """What the tool says it would do, and where the pointer is."""
        window = self.window
        at = [f"{v.view_name} {v.overlay.pointer.x():.0f},{v.overlay.pointer.y():.0f}" for v in (window.form, window.flat)]
        return f"{window.tool.id} '{window.tool.ghost.what}' in {window.tool.ghost.view} at {' '.join(at)}"

    def close(self) -> None:
        """Close the window, whatever is under way; nothing may be left of it."""
        if self.down is not None:
            self.let_go(self.down[2])
        window = self.window
        window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard  # type: ignore[method-assign]
        self.last = "closing"
        start = time.perf_counter()
        if not window.close():
            self.fault("the window does not close")
        if time.perf_counter() - start > 15:
            self.fault(f"closing took {time.perf_counter() - start:.0f} s")
        self.look()
        if list(window.keeper.folder.glob("*.jacket")):
            self.fault("autosaves are left of a window that was closed")
        end = time.monotonic() + 0.9
        while time.monotonic() < end:  # what was let go of on stopping comes back for nothing
            QApplication.processEvents()
            time.sleep(0.01)
        window.document.listeners.clear()
        window.deleteLater()
        QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
        for name, dialog in self._dialogs.items():
            setattr(QFileDialog, name, dialog)
        self.listening.close()


def unsound(mesh: PolyMesh) -> str:
    """What is wrong with a mesh, or ""; every array has to be whole, in range and read-only."""
    try:
        PolyMesh.checked(mesh.points, mesh.corners, mesh.starts)
    except JacketError as error:
        return str(error)
    for table, count in ((mesh.point_data, mesh.n_points), (mesh.face_data, mesh.n_faces), (mesh.corner_data, mesh.n_corners)):
        for name, array in table.items():
            if len(array) != count:
                return f"{name} has {len(array)} rows, not {count}"
            if array.flags.writeable:
                return f"{name} can be written to"
    for name, pairs in mesh.marks.items():
        if len(pairs) and (pairs.min() < 0 or pairs.max() >= mesh.n_points):
            return f"{name} marks edges that are not there"
    if mesh.points.flags.writeable or mesh.corners.flags.writeable:
        return "arrays can be written to"
    return ""


def pictures(window: Window) -> tuple[np.ndarray, np.ndarray]:
    """What the screen shows of both views, (H, W, 3) each."""
    QApplication.processEvents()
    shot = window.screen().grabWindow(window.winId()).toImage().convertToFormat(QImage.Format.Format_RGB888)
    whole = np.frombuffer(shot.constBits(), np.uint8).reshape(shot.height(), shot.bytesPerLine())
    whole = whole[:, : 3 * shot.width()].reshape(shot.height(), shot.width(), 3)
    out = []
    for view in (window.form, window.flat):
        at = view.mapTo(window, view.rect().topLeft())
        seen = view.isVisible() and view.width() > 2
        out.append(whole[at.y() : at.y() + view.height(), at.x() : at.x() + view.width()].copy() if seen else np.zeros((1, 1, 3), np.uint8))
    return out[0], out[1]


def drawn_anew(window: Window) -> None:
    """Forget every kept layer and draw both views and what lies over them."""
    showing = window.showing
    showing._kept, showing._flat_key = Kept(), None
    window.rehover()
    showing.redraw()
    for view in (window.form, window.flat):
        view.update()
        view.overlay.update()
        view.chip_bar.update()


def save(pixels: np.ndarray, path: Path) -> None:
    """A picture for whoever looks into a finding."""
    from PIL import Image

    Image.fromarray(pixels).save(path)


def session(seed: int, steps: int, folder: Path) -> Monkey:
    """A whole session, closed at its end."""
    monkey = Monkey(seed, folder)
    try:
        monkey.run(steps)
    finally:
        monkey.close()
    return monkey


def run(seeds: int = 20, steps: int = 1000, first: int = 1) -> int:
    """Sessions with many seeds; how many faults there were."""
    os.environ.setdefault("JACKET_HOME", tempfile.mkdtemp())
    make_app(["bench"])
    faults, count, slow = 0, 0, list[tuple[float, str]]()
    for seed in range(first, first + seeds):
        folder = Path(tempfile.mkdtemp(prefix=f"monkey-{seed}-"))
        monkey = session(seed, steps, folder)
        count += monkey.steps
        slow += monkey.slow
        kinds: dict[str, tuple[int, str]] = {}
        for fault in monkey.faults:
            key = fault.split(": ", 1)[1][:90]
            kinds[key] = (kinds.get(key, (0, fault))[0] + 1, kinds.get(key, (0, fault))[1])
        print(f"    seed {seed}: {monkey.steps} steps, {len(monkey.faults)} faults", flush=True)
        for times, fault in kinds.values():
            faults += 1
            print(f"    seed {seed} {fault[:700]} ({times} times; {folder})", flush=True)
    seconds = np.array([s for s, _ in slow])
    print(f"  {count} steps over {seeds} seeds, {faults} faults; a step {1000 * np.median(seconds):.0f} ms, 99 % "
          f"{1000 * np.percentile(seconds, 99):.0f} ms, longest {max(slow)[0]:.2f} s ({max(slow)[1]})")  # fmt: skip
    for s, what in sorted(slow, reverse=True)[:8]:
        if s > STUCK:
            print(f"    {s:.2f} s: {what}")
    return faults


if __name__ == "__main__":
    run(*(int(a) for a in sys.argv[1:4]))
