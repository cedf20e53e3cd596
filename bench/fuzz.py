"""Damaged files against every reader: `python -m bench fuzz`.

Each file is read in a process that lives on; it may take 5 seconds and 1 GB and has to end in a mesh or in a
FormatError with one sentence. Anything else, a crash of the process included, is a finding.
"""

from __future__ import annotations

import io
import json
import multiprocessing
import random
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.formats.mesh.glb import glb_bytes
from jacket.formats.mesh.obj import obj_text
from jacket.formats.mesh.ply import write_ply


def _mesh() -> PolyMesh:
    """A small mesh with everything that files can carry."""
    rng = np.random.default_rng(0)
    points = rng.normal(size=(30, 3))
    faces = [rng.choice(30, int(k), replace=False).tolist() for k in rng.integers(3, 6, 40)]
    mesh = PolyMesh.from_faces(points, faces)
    return mesh.with_(
        corner_data={"uv:uv": rng.random((mesh.n_corners, 2))}, uv_sets=("uv",), active_uv="uv",
        point_data={"colour": rng.integers(0, 256, (30, 4)).astype(np.uint8)},
        face_data={"material": rng.integers(0, 2, 40).astype(np.int32), "group": rng.integers(0, 2, 40).astype(np.int32)},
        materials=(Material("a"), Material("b")), groups=("g", "h"),
    )  # fmt: skip


def seeds() -> dict[str, bytes]:
    """Sound files of every format, by name."""
    mesh = _mesh()
    tri = PolyMesh.from_faces(mesh.points, mesh.triangle_points)
    out = {"a.obj": obj_text(mesh, "a", "a.mtl").encode(), "b.glb": glb_bytes([("b", mesh)], "b")}
    with tempfile.TemporaryDirectory() as folder:
        write_ply(mesh, Path(folder) / "c.ply")
        out["c.ply"] = (Path(folder) / "c.ply").read_bytes()
        write_ply(tri, Path(folder) / "d.ply", np.float32)
        out["d.ply"] = (Path(folder) / "d.ply").read_bytes()
    head = "ply\nformat ascii 1.0\nelement vertex 30\nproperty float x\nproperty float y\nproperty float z\nelement face 40\nproperty list uchar int vertex_indices\nend_header\n"
    rows = "\n".join(" ".join(f"{v:.6g}" for v in p) for p in mesh.points) + "\n"
    faces = "\n".join(f"{len(mesh.face(f))} " + " ".join(map(str, mesh.face(f))) for f in range(40)) + "\n"
    out["e.ply"] = (head + rows + faces).encode()
    out["f.off"] = (f"OFF\n30 40 0\n{rows}{faces}").encode()
    soup = np.zeros(len(tri.triangle_points), [("n", "<f4", 3), ("c", "<f4", (3, 3)), ("x", "<u2")])
    soup["c"] = tri.points[tri.triangle_points]
    out["g.stl"] = bytes(80) + len(soup).to_bytes(4, "little") + soup.tobytes()
    text = io.StringIO()
    text.write("solid a\n")
    for t in tri.points[tri.triangle_points]:
        text.write(
            "facet normal 0 0 1\nouter loop\n"
            + "".join(f"vertex {x:.6g} {y:.6g} {z:.6g}\n" for x, y, z in t)
            + "endloop\nendfacet\n"
        )
    out["h.stl"] = (text.getvalue() + "endsolid a\n").encode()
    chunk = out["b.glb"]
    size = int.from_bytes(chunk[12:16], "little")
    document = json.loads(chunk[20 : 20 + size])
    import base64

    document["buffers"][0]["uri"] = "data:;base64," + base64.b64encode(chunk[28 + size :]).decode()
    out["i.gltf"] = json.dumps(document).encode()
    return out


def damaged(sound: dict[str, bytes], count: int, seed: int) -> Iterator[tuple[str, bytes]]:
    """Files made from sound ones by cutting, flipping, repeating, swapping and by changing numbers."""
    rng = random.Random(seed)
    names = sorted(sound)
    for k in range(count):
        name = names[k % len(names)]
        data = bytearray(sound[name])
        for _ in range(rng.choice((1, 1, 2, 4))):
            _damage(data, rng)
        yield f"{k}-{name}", bytes(data)


_NUMBERS = (
    b"0",
    b"-1",
    b"1e308",
    b"nan",
    b"-inf",
    b"99999999999999999999",
    b"4294967295",
    b"2147483648",
    b"1e-320",
    b"",
)


def _damage(data: bytearray, rng: random.Random) -> None:
    if not data:
        return
    kind, at = rng.randrange(8), rng.randrange(len(data))
    if kind == 0:
        del data[at:]
    elif kind == 1:
        for _ in range(rng.choice((1, 3, 20))):
            data[rng.randrange(len(data))] = rng.randrange(256)
    elif kind == 2:
        del data[at : at + rng.choice((1, 4, 50, 400))]
    elif kind == 3:
        data[at:at] = data[at : at + rng.choice((1, 8, 300))] * rng.choice((1, 2, 50))
    elif kind == 4:
        data[at : at + 4] = rng.choice((b"\xff\xff\xff\xff", b"\0\0\0\0", b"\xff\xff\xff\x7f", b"\0\0\0\x80"))
    elif kind == 5:
        _change_number(data, at, rng)
    elif kind == 6:
        head = min(len(data), 300)
        data[rng.randrange(head)] = rng.choice(b'0123456789 \n{}[]:,"-')
    else:
        words = bytes(data).split(b"\n")
        rng.shuffle(words) if len(words) < 30 else words.insert(rng.randrange(len(words)), rng.choice(words))
        data[:] = b"\n".join(words)


def _change_number(data: bytearray, at: int, rng: random.Random) -> None:
    """Replace the next run of digits."""
    while at < len(data) and not 48 <= data[at] <= 57:
        at += 1
    end = at
    while end < len(data) and 48 <= data[end] <= 57:
        end += 1
    data[at:end] = rng.choice(_NUMBERS)


def _worker(pipe) -> None:  # type: ignore[no-untyped-def]
    from jacket.errors import FormatError
    from jacket.formats.mesh.registry import read_mesh

    while True:
        path = pipe.recv()
        Path("/proc/self/clear_refs").write_text("5")
        before = _peak()
        start = time.perf_counter()
        try:
            mesh = read_mesh(path)
            bad = not (
                np.isfinite(mesh.points).all() and mesh.corners.min() >= 0 and mesh.corners.max() < mesh.n_points
            )
            outcome = "broken mesh" if bad else "mesh"
        except FormatError as error:
            outcome = "sentence" if str(error).endswith(".") else f"no sentence: {error}"
        except BaseException as error:
            outcome = f"{type(error).__name__}: {error}"
        pipe.send((outcome, time.perf_counter() - start, _peak() - before))


def _peak() -> int:
    return int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024


def run(count: int = 4000) -> None:
    """Read damaged files and count what comes of them."""
    tally: dict[str, int] = {}
    worst = [0.0, 0]
    findings = []
    worker = pipe = None
    with tempfile.TemporaryDirectory() as folder:
        for name, data in damaged(seeds(), count, seed=2026):
            path = Path(folder) / name
            path.write_bytes(data)
            if worker is None or not worker.is_alive():
                pipe, other = multiprocessing.Pipe()
                worker = multiprocessing.get_context("fork").Process(target=_worker, args=(other,), daemon=True)
                worker.start()
            pipe.send(str(path))  # type: ignore[union-attr]
            if not pipe.poll(20):  # type: ignore[union-attr]
                outcome, seconds, memory = "hangs or crashed", 20.0, 0
                worker.kill()
                worker.join()
            else:
                try:
                    outcome, seconds, memory = pipe.recv()  # type: ignore[union-attr]
                except EOFError:
                    outcome, seconds, memory = "crashed", 0.0, 0
                    worker.join()
            kind = outcome if outcome in ("mesh", "sentence") else "finding"
            tally[kind] = tally.get(kind, 0) + 1
            worst = [max(worst[0], seconds), max(worst[1], memory)]
            if kind == "finding" or seconds > 5 or memory > 1e9:
                findings.append(f"{name}: {outcome[:100]}, {seconds:.1f} s, {memory / 1e6:.0f} MB")
            path.unlink()
    print(f"  {count} files: {tally}; slowest {worst[0]:.2f} s, most memory {worst[1] / 1e6:.0f} MB")
    for line in findings[:40]:
        print(f"    {line}")
