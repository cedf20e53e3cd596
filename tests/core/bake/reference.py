"""The published code of MikkTSpace (Mikkelsen 2008, zlib licence), compiled where there is a compiler."""

from __future__ import annotations

import ctypes
import shutil
import subprocess
import tempfile
from functools import lru_cache
from pathlib import Path

import numpy as np
import pytest

FOLDER = Path(__file__).parents[2] / "data" / "mikktspace"


@lru_cache(maxsize=1)
def _library() -> ctypes.CDLL | None:
    compiler = shutil.which("cc") or shutil.which("gcc")
    if compiler is None:
        return None
    out = Path(tempfile.mkdtemp()) / "mikktspace.so"
    files = [str(FOLDER / "mikktspace.c"), str(FOLDER / "bridge.c")]
    subprocess.run([compiler, "-O2", "-shared", "-fPIC", "-o", str(out), *files, "-lm"], check=True)
    return ctypes.CDLL(str(out))


def published_tangents(points: np.ndarray, normals: np.ndarray, uv: np.ndarray) -> np.ndarray:
    """(T, 3, 4) tangents of triangles given corner by corner (T, 3, 3), (T, 3, 3), (T, 3, 2); skips without a compiler."""
    library = _library()
    if library is None:
        pytest.skip("no C compiler for the published code")
    rows = [np.ascontiguousarray(a, np.float32) for a in (points, normals, uv)]
    out = np.zeros((len(points), 3, 4), np.float32)
    kind = ctypes.POINTER(ctypes.c_float)
    good = library.tangents(*[a.ctypes.data_as(kind) for a in (*rows, out)], len(points))
    assert good == 1
    return out
