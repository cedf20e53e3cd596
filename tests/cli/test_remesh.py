"""The command line's remesh with guides, densities and mirror."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest
from scipy.spatial import cKDTree

from jacket.cli.main import main
from jacket.core.mesh.geometry import edge_lengths
from jacket.core.mesh.polymesh import PolyMesh
from jacket.errors import FormatError
from jacket.formats.curves import read_guides, read_spots
from jacket.formats.mesh.registry import read_mesh, write_mesh
from tests.conftest import icosphere


@pytest.fixture(scope="module")
def ball() -> PolyMesh:
    return icosphere(5)


def ring(height: float = 0.4, count: int = 40) -> np.ndarray:  # type: ignore[type-arg]
    a = np.linspace(0, 2 * np.pi, count, endpoint=False)
    r = np.sqrt(1 - height**2)
    return np.stack([r * np.cos(a), np.full(count, height), r * np.sin(a)], axis=1)


def test_remesh_takes_mirror_guides_density_edge_and_gap(ball: PolyMesh, tmp_path: Path, capsys) -> None:  # type: ignore[no-untyped-def]
    write_mesh(ball, tmp_path / "ball.ply")
    (tmp_path / "g.json").write_text(
        json.dumps([[*ring().tolist(), ring()[0].tolist()], {"points": [[0, 1, 0], [1, 0, 0]], "soft": True}])
    )
    (tmp_path / "d.json").write_text(json.dumps([{"point": [0, 0, 1], "radius": 0.5, "factor": 2}]))
    out = tmp_path / "out.obj"
    source = str(tmp_path / "ball.ply")
    assert main(["remesh", source, str(out), "--quads", "700", "--mirror", "z", "--density", str(tmp_path / "d.json"),
                 "--guides", str(tmp_path / "g.json"), "--report", str(tmp_path / "r.json")]) == 0  # fmt: skip
    mesh = read_mesh(out)
    far = cKDTree(mesh.points).query(mesh.points * [1, 1, -1])[0]
    assert mesh.is_quads and far.max() < 1e-5
    notes = json.loads((tmp_path / "r.json").read_text())["notes"]
    assert sum("Guide" in n for n in notes) == 2
    assert main(["remesh", source, str(out), "--edge", "0.2", "--quiet"]) == 0
    assert edge_lengths(read_mesh(out)).mean() == pytest.approx(0.2, rel=0.06)
    assert main(["remesh", source, str(out), "--gap", "0.6", "--quiet"]) == 0
    capsys.readouterr()
    assert main(["remesh", source, str(out)]) == 2 and "--quads" in capsys.readouterr().err
    assert main(["remesh", source, str(out), "--quads", "99", "--guides", source]) == 2
    assert "guides are a list" in capsys.readouterr().err


@pytest.mark.parametrize(
    "text", ["{}", "[[1]]", "[[[0,0,0]]]", '[{"points": [[0,0,"x"],[1,1,1]]}]', "[[[0,0,0],[1,1,NaN]]]", "nonsense"]
)
def test_damaged_guides_are_told(text: str, tmp_path: Path) -> None:
    (tmp_path / "g.json").write_text(text)
    with pytest.raises(FormatError):
        read_guides(tmp_path / "g.json")


@pytest.mark.parametrize(
    "text",
    ["{}", "[1]", '[{"point": [0,0], "radius": 1, "factor": 2}]', '[{"point": [0,0,0], "radius": 1, "factor": 9}]'],
)
def test_damaged_density_is_told(text: str, tmp_path: Path) -> None:
    (tmp_path / "d.json").write_text(text)
    with pytest.raises(FormatError):
        read_spots(tmp_path / "d.json")
