"""Pictures for the README, from the demo data through the real window: `./dev shots`."""

from __future__ import annotations

import dataclasses
import itertools
import os
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path

os.environ.setdefault("JACKET_HOME", tempfile.mkdtemp())

import numpy as np
from PySide6.QtCore import QPointF, Qt
from PySide6.QtWidgets import QApplication

from bench.data import demo
from jacket.core.derive import islands_of
from jacket.core.flatten.unwrap import unwrap
from jacket.core.mesh.geometry import point_normals
from jacket.core.mesh.walks import edge_loop
from jacket.core.quads.auto import AutoSettings, automatic_quads
from jacket.core.seams.suggest import suggest_seams
from jacket.core.uv.sheets import Sheet
from jacket.document.edits import sources as sources_steps
from jacket.document.islands import with_island_numbers
from jacket.document.state import Held, JacketObject, State
from jacket.formats.mesh.registry import write_mesh
from jacket.formats.project.records import load_project
from jacket.qt.app import DEMO, make_app, make_window, settle
from jacket.qt.window import Window
from jacket.settings import Settings
from jacket.stages.deliver.pressing import take_stencil
from jacket.stages.deliver.values import DeliverValues
from jacket.tools.events import Pointer
from tests.host import put, toggle


def main(folder: str) -> None:
    """Write every picture into a folder."""
    target = Path(folder)
    target.mkdir(parents=True, exist_ok=True)
    make_app(["shots"])
    window = make_window(Settings(), DEMO)
    window.show()
    settle(window)
    window.frame(True)
    window.form.camera = window.form.camera.turned(40, 6)
    for stage in ("seams", "flatten"):
        window.show_stage(stage)
        _keep(window, target / f"{stage}.png")
    window.show_stage("deliver")
    for name, value in (("map_size", 2048), ("maps", "normal,occlusion,curvature")):
        window.program.put(DeliverValues, name, value)
    window.program.run(window.program.commands["bake"])
    settle(window, 120)
    window.program.show(replace(window.program.display, lamps="low-sun"))
    window.program.run(window.program.commands["wipe"])
    _keep(window, target / "deliver.png")
    window.program.run(window.program.commands["wipe"])
    _decals(window)
    _keep(window, target / "decals.png")
    toggle(window.program, "lit")
    window.show_stage("flatten")
    toggle(window.program, "stretch")
    toggle(window.program, "checker")
    toggle(window.program, "strokes")
    _keep(window, target / "stretch.png")
    toggle(window.program, "strokes")
    window.show_stage("topology")
    _draft(window)
    _keep(window, target / "topology.png")
    _hands(window, target)
    window.toggle_night()
    window.open_search()
    QApplication.processEvents()
    _keep(window, target / "night.png")
    window._search.close()
    window.toggle_night()
    _trial(window)
    _keep(window, target / "trial.png")
    _guides(window)
    _keep(window, target / "guides.png")
    toggle(window.program, "split")
    _keep(window, target / "split.png")
    toggle(window.program, "split")
    _moved(window)
    _keep(window, target / "moved.png")
    _layout(window, target)
    _scan(window, target)


def _stroke(window: Window, path: list[tuple[float, float]]) -> None:
    """A drag of the tool in hand along places given as shares of the form view."""
    view, tool = window.form, window.tool
    at = [QPointF(x * view.width(), y * view.height()) for x, y in path]
    keys = Qt.KeyboardModifier.NoModifier
    tool.hover(view.pointer(at[0], keys))
    tool.press(view.pointer(at[0], keys))
    for a, b in itertools.pairwise(at):
        for t in np.linspace(0, 1, 25)[1:]:
            tool.move(view.pointer(a + (b - a) * float(t), keys))
    tool.release(view.pointer(at[-1], keys))
    view.overlay.pointer = at[-1]
    view.refresh_ghost()


def _hands(window: Window, target: Path) -> None:
    """Sleeve and Tidy before they are accepted, and the jacket seen through its source with a layer split off."""
    document = window.document
    before, camera, held = document.state, window.form.camera, document.state.held
    document.amend(document.state.with_(held=Held()))
    window.take_tool("sleeve")
    _stroke(window, [(0.34, 0.34), (0.62, 0.35)])
    _stroke(window, [(0.4, 0.24), (0.58, 0.245)])
    _keep(window, target / "sleeve.png")
    window.tool.cancel()
    window.take_tool("tidy")
    _stroke(window, [(0.36, 0.5), (0.6, 0.62)])
    window.looking.preview("flatten-own")
    _keep(window, target / "tidy.png")
    window.looking.preview("")
    window.run(window.commands["split-layer"])
    toggle(window.program, "through")
    window.panel.verticalScrollBar().setValue(10_000)
    window.form.overlay.pointer = QPointF(-1, -1)
    window.take_tool("hold")
    _keep(window, target / "through.png")
    toggle(window.program, "through")
    window.take_tool("draft")
    window.panel.verticalScrollBar().setValue(0)
    while document.state.jackets != before.jackets and document.undo():
        pass
    document.amend(document.state.with_(held=held))
    window.form.camera = camera


def _moved(window: Window) -> None:
    """The demo's jacket refitted to a shell that swells on one side."""
    project = load_project(DEMO)
    window.document.mark_saved("")
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "whelk-lantern.ply"
        old = project.sources[0]
        middle, side = old.mesh.points.mean(axis=0), old.mesh.points[np.argmax(old.mesh.points[:, 0])]
        near = np.clip(1 - np.linalg.norm(old.mesh.points - side, axis=1) / 0.7, 0, 1) ** 2
        write_mesh(old.mesh.with_points(old.mesh.points + 0.1 * near[:, None] * (side - middle)), path)
        source = dataclasses.replace(old, path=str(path), stamp=(1, 1))
        window.document.open(project.with_(sources=(source,)), "")
        window.frame(True)
        window.form.camera = window.form.camera.turned(-45, 4)
        window.run(window.commands["take-new-file"])
        settle(window, 60)
        window.document.amend(window.document.state.with_(held=Held()))


def _layout(window: Window, target: Path) -> None:
    """The porthole latch and the whelk lantern as layers of one sheet: packing as it goes on, and what has come of it."""
    document = window.document
    jackets = []
    for k, (name, source, quads) in enumerate((("Latch", "porthole-latch", 2000), ("Lantern", "whelk-lantern", 2500)), 1):
        mesh = automatic_quads(demo(source), AutoSettings(quads=quads)).mesh
        mesh = mesh.with_points((mesh.points - mesh.points.mean(axis=0)) / mesh.diagonal + [0.9 * k, 0, 0])
        jackets.append(JacketObject(k, name, unwrap(suggest_seams(mesh))[0]))
    sheet = Sheet(width=1024, height=1024, margin=4.0)
    document.mark_saved("")
    document.open(with_island_numbers(State(), State((), tuple(jackets), active=1, next_id=3, sheets=(sheet,))), "")
    window.show_stage("layout")
    put(window.program, together=True, seconds=6.0)
    settle(window)
    window.frame(True)
    window.run(window.commands["pack"])
    end = time.monotonic() + 4.5
    while time.monotonic() < end:
        QApplication.processEvents()
        time.sleep(0.01)
    window.grab().save(str(target / "packing.png"))
    settle(window, 30)
    islands = islands_of(document.require_jacket().mesh, document.state.sheets)
    largest = int(np.argmax(islands.pixel_area))
    document.hold("faces", islands.faces(largest))
    window.flat.frame_sheet()
    at = window.flat.camera.project(islands.name_places[largest][None])[0]
    window.program.tool.hover(window.flat.pointer(QPointF(*at), Qt.KeyboardModifier.NoModifier))
    window.flat.refresh_ghost()
    _keep(window, target / "layout.png")
    put(window.program, together=False, seconds=10.0)


def _scan(window: Window, target: Path) -> None:
    """The bollard as it comes: what is wrong with it, a hole about to be closed, its mirror difference."""
    document = window.document
    toggle(window.program, "moved")
    document.mark_saved("")
    document.open(State(), "")
    window.show_stage("source")
    sources_steps.add_source(document, "Barnacled bollard", demo("barnacled-bollard"))
    settle(window)
    window.run(window.commands["stand-flat"])
    settle(window)
    window.frame(True)
    window.form.camera = window.form.camera.turned(30, 10)
    window.program.show(dataclasses.replace(window.display, shade="clay"))
    _keep(window, target / "source.png")
    window.program.show(dataclasses.replace(window.display, shade="smooth"))
    window.run(window.commands["close-holes"])
    _keep(window, target / "mend.png")
    window.run(window.commands["leave-proposal"])
    window.run(window.commands["find-mirror"])
    settle(window, 60)
    window.panel.verticalScrollBar().setValue(window.panel.verticalScrollBar().maximum())
    _keep(window, target / "mirror.png")


def _keep(window: Window, path: Path) -> None:
    settle(window)
    QApplication.processEvents()
    picture = window.grab()
    search = getattr(window, "_search", None)
    if search is not None and search.isVisible():
        from PySide6.QtGui import QPainter

        painter = QPainter(picture)
        painter.drawPixmap(window.mapFromGlobal(search.pos()), search.grab())
        painter.end()
    picture.save(str(path))
    print(path)


def _decals(window: Window) -> None:
    """The name plate laid on below the rim and sized by a corner, the card of decals in sight."""
    program, form = window.program, window.form
    program.show(replace(program.display, lamps="overcast"))
    program.take_tool("decal")
    take_stencil(program, str(DEMO.parent / "name-plate.png"))
    tool, x, y = program.tool, 0.47 * form.width(), 0.6 * form.height()
    tool.press(Pointer(x, y, form=form.camera))
    tool.release(Pointer(x, y, form=form.camera))
    decal = program.document.require_jacket().decals[0]
    corner, middle = (form.camera.project(np.array(p))[0, :2] for p in (decal.corners()[2], decal.place))
    there = middle + 1.6 * (corner - middle)
    tool.press(Pointer(*corner, form=form.camera))
    tool.move(Pointer(*there, form=form.camera))
    tool.release(Pointer(*there, form=form.camera))
    tool.hover(Pointer(*middle, form=form.camera))
    form.refresh_ghost()
    window.panel.verticalScrollBar().setValue(560)


def _draft(window: Window) -> None:
    """A ghost over the rim, and a held loop."""
    mesh = window.document.require_jacket().mesh
    camera = window.form.camera
    topology = mesh.topology
    at = camera.project(mesh.points[topology.edge_points].mean(axis=1))
    inner = (topology.edge_uses == 2) & (topology.valence[topology.edge_points] == 4).all(axis=1)
    order = np.argsort(np.hypot(at[:, 0] - camera.width * 0.5, at[:, 1] - camera.height * 0.62))
    facing = (point_normals(mesh) @ camera.rotation[2]) > 0.2
    loops = [edge_loop(mesh, int(e)) for e in order[:300] if inner[e]]
    shown = [facing[topology.edge_points[x]].all(axis=1).sum() if len(x) < 45 else 0 for x in loops]
    window.document.hold("edges", loops[int(np.argmax(shown))])
    spot = QPointF(camera.width * 0.47, camera.height * 0.455)
    for dy in range(-60, 80, 4):
        place = QPointF(spot.x(), spot.y() + dy)
        window.tool.hover(window.form.pointer(place, Qt.KeyboardModifier.NoModifier))
        if window.tool.ghost.what.startswith(("Close", "Add")):
            spot = place
            break
    window.form.overlay.pointer = spot
    window.form.refresh_ghost()


def _guides(window: Window) -> None:
    """The whelk lantern with a guide, a spot of density, and two trials to compare."""
    document = window.document
    document.amend(document.state.with_(sources=(), jackets=(), trials=(), active=-1, shown_trial=-1))
    sources_steps.add_source(document, "Whelk lantern", demo("whelk-lantern"))
    settle(window, 60)
    window.frame(True)
    window.form.camera = window.form.camera.turned(60, 4)
    window.take_tool("guide")
    _stroke(window, [(0.26, 0.52), (0.4, 0.57), (0.6, 0.57), (0.74, 0.51)])
    window.take_tool("density")
    window.program.tool_settings.strength, window.program.tool_settings.brush = 1.0, 50.0
    _stroke(window, [(0.47, 0.3), (0.53, 0.3), (0.5, 0.34)])
    put(window.program, quads=1200)
    for _ in range(2):
        window.run(window.commands["make-trial"])
        settle(window, 120)
        put(window.program, quads=2000)
    window.form.overlay.pointer = QPointF(-1, -1)
    window.take_tool("guide")
    window.panel.verticalScrollBar().setValue(260)
    document.history.clear()


def _trial(window: Window) -> None:
    """A hard-edged source with an automatic trial beside it."""
    window.document.history.clear()
    document = window.document
    document.amend(document.state.with_(sources=(), jackets=(), active=-1, held=Held()))
    window.form.overlay.pointer = QPointF(-1, -1)
    window.tool.leave()
    window.form.refresh_ghost()
    sources_steps.add_source(document, "Porthole latch", demo("porthole-latch"))
    window.frame(True)
    window.form.camera = window.form.camera.turned(-20, 0)
    window.run(window.commands["make-trial"])
    settle(window, 120)


if __name__ == "__main__":
    sys.path.insert(0, str(Path(__file__).resolve().parent.parent))
    main(sys.argv[1])
