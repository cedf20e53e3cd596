"""Starting up: arguments, logging, fonts, kernels compiled in the background, pictures for docs."""

from __future__ import annotations

import argparse
import logging
import logging.handlers
import subprocess
import sys
import time
from pathlib import Path

from PySide6.QtCore import QTimer
from PySide6.QtGui import QSurfaceFormat
from PySide6.QtWidgets import QApplication

from jacket import __version__
from jacket.document.document import Document
from jacket.progress import Progress
from jacket.qt.theme import ASSETS, load_fonts
from jacket.qt.window import Window
from jacket.settings import Settings, load_settings
from jacket.settings.store import state_dir
from jacket.stages.all import STAGES

DEMO = ASSETS / "demo" / "whelk-lantern.jacket"

log = logging.getLogger("jacket")


def start_logging() -> None:
    """Log to the state folder, a few files of one megabyte."""
    try:
        folder = state_dir() / "log"
        folder.mkdir(parents=True, exist_ok=True)
        handler: logging.Handler = logging.handlers.RotatingFileHandler(
            folder / "jacket.log", maxBytes=1_000_000, backupCount=3
        )
    except OSError:
        handler = logging.StreamHandler()
    handler.setFormatter(logging.Formatter("%(asctime)s %(levelname)s %(message)s"))
    log.addHandler(handler)
    log.setLevel(logging.INFO)


SWITCH = 5e-4
"""Seconds after which a thread hands the interpreter over: at a fifth of it the window loses its own turns more than it gains."""


def make_app(arguments: list[str]) -> QApplication:
    """The Qt application with Jacket's surface format and fonts."""
    # Work beside the window keeps the interpreter for 5 ms a turn by default, at each of the many calls for which the window
    # lets go of it.
    sys.setswitchinterval(SWITCH)
    surface = QSurfaceFormat()
    surface.setVersion(3, 3)
    surface.setProfile(QSurfaceFormat.OpenGLContextProfile.CoreProfile)
    surface.setDepthBufferSize(24)
    QSurfaceFormat.setDefaultFormat(surface)
    existing = QApplication.instance()
    app = existing if isinstance(existing, QApplication) else QApplication(arguments)
    app.setApplicationName("Jacket")
    app.setStyle("Fusion")
    load_fonts(app)
    return app


def make_window(settings: Settings | None = None, project: Path | None = None) -> Window:
    """A window over a project, or over nothing."""
    document = Document()
    if project is not None:
        from jacket.formats.project.records import load_project

        document.state = load_project(project)
        document.mark_saved("" if project == DEMO else str(project))
    return Window(document, settings or load_settings())


def warm_kernels(window: Window) -> None:
    """Compile what the tools need while the user looks round, in a process beside the window, once for
    each version; the hint line tells how far it is. User's work goes on meanwhile."""
    import numba

    stamp = state_dir() / f"ready-{__version__}-{numba.__version__}-{sys.version_info.major}{sys.version_info.minor}"
    if stamp.exists():
        return

    def job(progress: Progress) -> None:
        command = [sys.executable, "-m", "jacket.core.warming"]
        with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
            try:
                for line in process.stdout or ():
                    number, count, what = line.strip().split(" ", 2)
                    progress(int(number) / int(count), f"getting tools ready for the first time: {what}")
            except BaseException:
                process.terminate()
                raise
        if process.returncode == 0:
            stamp.parent.mkdir(parents=True, exist_ok=True)
            stamp.touch()

    window.warmer.start("get the tools ready", job, lambda _: window.hints.show_warming(None, ""), log.warning)


def settle(window: Window, seconds: float = 60.0) -> bool:
    """Let the window run until nothing is under way; whether it came to rest."""
    end = time.monotonic() + seconds
    quiet = 0
    while time.monotonic() < end and quiet < 5:
        QApplication.processEvents()
        time.sleep(0.04)
        quiet = quiet + 1 if window.settled else 0
    return quiet >= 5


def main(arguments: list[str] | None = None) -> int:
    """`jacket [PROJECT|MESH …]` and `jacket demo [--shot FILE] [--stage NAME]`."""
    arguments = sys.argv[1:] if arguments is None else arguments
    parser = argparse.ArgumentParser(prog="jacket", description="Open the window.")
    parser.add_argument("files", nargs="*", help="a project or meshes; the word demo opens the demo project")
    parser.add_argument("--shot", metavar="FILE.png", help="take a picture of the window once it has settled, and quit")
    parser.add_argument("--stage", choices=[s.id for s in STAGES], help="the stage to show")
    options = parser.parse_args(arguments)
    start_logging()
    app = make_app([sys.argv[0]])
    demo = options.files[:1] == ["demo"]
    files = [Path(f) for f in options.files[1 if demo else 0 :]]
    window = make_window(project=DEMO if demo and DEMO.exists() else None)
    window.show()
    if options.stage:
        window.show_stage(options.stage)
    QTimer.singleShot(0, lambda: window.frame(True))
    window.filing.open_paths(files)
    if options.shot:
        settle(window)
        window.grab().save(options.shot)
        return 0
    if window.settings.passed_over:
        names = ", ".join(window.settings.passed_over)
        window.say(f"Settings that made no sense are as usual again: {names}.")
    QTimer.singleShot(300, lambda: window.recovering.offer(quietly=bool(files)))
    QTimer.singleShot(800, lambda: warm_kernels(window))
    return int(app.exec())
