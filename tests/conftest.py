"""Shared fixtures: small meshes with known answers, and a real window under Xvfb."""

from __future__ import annotations

import os
import shutil
import subprocess
from pathlib import Path

import numpy as np
import pytest

from jacket.core.mesh.polymesh import PolyMesh

DATA = Path(__file__).parent / "data"

# The tests are about Jacket's own rays; the one of Embree takes this back.
os.environ["JACKET_OWN_RAYS"] = "1"


def pytest_configure(config: pytest.Config) -> None:
    """Qt's offscreen platform has no OpenGL, so a real display is needed: start Xvfb where there is none, and one for
    each worker where tests run beside one another, since they would share a pointer."""
    shown = os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY")
    leader = config.option.numprocesses and "PYTEST_XDIST_WORKER" not in os.environ
    if leader or (shown and "PYTEST_XDIST_WORKER" not in os.environ) or not shutil.which("Xvfb"):
        return
    read, write = os.pipe()
    server = subprocess.Popen(
        ["Xvfb", "-displayfd", str(write), "-screen", "0", "1600x1000x24", "-nolisten", "tcp"],
        pass_fds=[write], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
    )  # fmt: skip
    os.close(write)
    with os.fdopen(read) as pipe:
        os.environ["DISPLAY"] = f":{pipe.readline().strip()}"
        os.environ["QT_QPA_PLATFORM"] = "xcb"
    config.add_cleanup(server.terminate)


LONG = (
    "test_parts_anew.py", "test_verbs.py", "test_unwinding.py", "test_registry.py", "test_bake.py", "test_window.py", "test_hostile.py",
    "test_curvature.py", "test_hand_window.py", "test_monkey.py", "test_suggest.py", "test_editing.py",
)  # fmt: skip
"""Files that take longest."""


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Long files first: where files are shared among workers, a long one at the end is waited for by all."""
    items.sort(key=lambda item: LONG.index(item.path.name) if item.path.name in LONG else len(LONG))


@pytest.fixture(scope="session", autouse=True)
def own_folders(tmp_path_factory: pytest.TempPathFactory) -> None:
    """Settings, logs and recovery files of tests never touch the user's."""
    os.environ["JACKET_HOME"] = str(tmp_path_factory.mktemp("home"))


@pytest.fixture(scope="session")
def spot() -> PolyMesh:
    """A real open mesh: 5,856 triangles, closed, genus 0."""
    from jacket.formats.mesh.registry import read_mesh

    return read_mesh(DATA / "spot.ply")


def grid(n: int, m: int | None = None) -> PolyMesh:
    """n × m quads in the plane z = 0, one unit each, counter-clockwise seen from +z."""
    m = n if m is None else m
    points = np.array([[i, j, 0.0] for j in range(m + 1) for i in range(n + 1)])
    w = n + 1
    quads = np.array(
        [[j * w + i, j * w + i + 1, (j + 1) * w + i + 1, (j + 1) * w + i] for j in range(m) for i in range(n)]
    )
    return PolyMesh.from_faces(points, quads)


def torus(n: int, m: int, big: float = 2.0, small: float = 0.7) -> PolyMesh:
    """n × m quads on a torus about the z axis."""
    u = np.repeat(np.arange(n), m) * 2 * np.pi / n
    v = np.tile(np.arange(m), n) * 2 * np.pi / m
    r = big + small * np.cos(v)
    points = np.stack([r * np.cos(u), r * np.sin(u), small * np.sin(v)], axis=1)
    quads = [[i * m + j, (i + 1) % n * m + j, (i + 1) % n * m + (j + 1) % m, i * m + (j + 1) % m]
             for i in range(n) for j in range(m)]  # fmt: skip
    return PolyMesh.from_faces(points, np.array(quads))


def cube() -> PolyMesh:
    """Eight points, six quads, outward."""
    points = np.array([[x, y, z] for z in (0, 1) for y in (0, 1) for x in (0, 1)], float)
    quads = np.array([[0, 2, 3, 1], [4, 5, 7, 6], [0, 1, 5, 4], [2, 6, 7, 3], [0, 4, 6, 2], [1, 3, 7, 5]])
    return PolyMesh.from_faces(points, quads)


def icosphere(levels: int) -> PolyMesh:
    """A unit sphere of 20 · 4^levels triangles."""
    import trimesh

    ball = trimesh.creation.icosphere(subdivisions=levels)
    return PolyMesh.from_faces(np.array(ball.vertices), np.array(ball.faces, np.int64))


def gone(window) -> None:  # type: ignore[no-untyped-def]
    """Close a window and destroy it: hidden ones would be restyled with every window that follows."""
    from PySide6.QtCore import QCoreApplication, QEvent
    from PySide6.QtWidgets import QMessageBox

    window.filing.ask_to_leave = lambda: QMessageBox.StandardButton.Discard
    window.close()
    window.document.listeners.clear()
    window.deleteLater()
    QCoreApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete.value)
