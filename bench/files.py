"""Damaged files against every reader of meshes and projects: `python -m bench files`.

Each file is read in a process that lives on; it may take 2 seconds and 200 MB and has to end in a sound mesh or project or
in a FormatError with one sentence. Anything else, a crash of the process included, is a finding.
"""

from __future__ import annotations

import copy
import io
import json
import multiprocessing
import random
import struct
import tempfile
import time
import zipfile
import zlib
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from jacket.core.mesh.materials import Material
from jacket.core.mesh.polymesh import PolyMesh
from jacket.core.quads.steering import Guide, Paint
from jacket.document.state import JacketObject, SourceObject, State, Trial
from jacket.formats.mesh.glb import glb_bytes
from jacket.formats.mesh.obj import obj_text
from jacket.formats.mesh.ply import write_ply
from jacket.formats.project.records import project_bytes

SECONDS, MEMORY = 2.0, 200e6


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
    out["j.jacket"] = project_bytes(_state())
    return out


def _state() -> State:
    """A small state with everything that projects can carry."""
    mesh = _mesh()
    return State(
        (SourceObject(1, "sculpt", mesh, "/x/y.obj"),), (JacketObject(2, "shell", mesh),),
        (Trial(3, "Trial 1", mesh, {"quads": 4}, {"gap": 0.5}),), active=2, mirror="x", next_id=4,
        guides=(Guide(np.eye(3), True, False),), paint=Paint(np.eye(3), np.ones(3)),
    )  # fmt: skip


def repacked(data: bytes, change: dict[str, bytes]) -> bytes:
    """A project with some members replaced, packed as well as any."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as new:
        for info in old.infolist():
            new.writestr(info.filename, change.get(info.filename, old.read(info)))
    return out.getvalue()


def bombs(sound: bytes, rows: int = 30_000_000) -> Iterator[tuple[str, bytes]]:
    """Projects whose members unpack to far more than they are, by every method that zip files know, and members that lie
    about their size."""
    with zipfile.ZipFile(io.BytesIO(sound)) as archive:
        members = {i.filename: archive.read(i) for i in archive.infolist()}
    zeros = io.BytesIO()
    np.save(zeros, np.zeros((rows, 3)))
    for method in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2, zipfile.ZIP_LZMA):
        for name in ("mesh0/points.npy", "mesh0/corners.npy", "manifest.json", "mesh0/tables.json", "paint.npy", "mesh0/corner.uv:uv.npy"):
            if method == zipfile.ZIP_STORED and name != "manifest.json":
                continue
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w", method) as archive:
                for key, data in members.items():
                    body = zeros.getvalue() if key == name and name.endswith(".npy") else b"[" * (2 * rows) if key == name else data
                    archive.writestr(key, body)
            yield f"bomb-{method}-{name.replace('/', '-')}.jacket", out.getvalue()
    # A size in the directory that is not that of the member, both ways.
    for wrong in (1, 0x7FFFFFFF, 0xFFFFFFFE):
        data = bytearray(sound)
        at = data.index(b"PK\x01\x02")
        struct.pack_into("<I", data, at + 24, wrong)
        yield f"size-{wrong}.jacket", bytes(data)
    head = b"\x93NUMPY\x01\x00"
    for shape in ("(1000000000, 3)", "(-1, 3)", "()", "(3,) * 9", "(2**62, 3)", "('a',)", "(1e3, 3)"):
        text = f"{{'descr': '<f8', 'fortran_order': False, 'shape': {shape}, }}".encode().ljust(117) + b"\n"
        npy = head + len(text).to_bytes(2, "little") + text + bytes(240)
        yield f"shape-{zlib.crc32(shape.encode())}.jacket", repacked(sound, {"mesh0/points.npy": npy})


def manifests(sound: bytes, count: int, seed: int) -> Iterator[tuple[str, bytes]]:
    """Projects whose manifest or tables hold values that make no sense, in a container that is sound."""
    rng = random.Random(seed)
    with zipfile.ZipFile(io.BytesIO(sound)) as archive:
        tables = {n: json.loads(archive.read(n)) for n in archive.namelist() if n.endswith(".json")}
    wild = (None, True, -1, 0, 10**30, 1e308, float("nan"), "", "x", [], {}, [[]], "1", -(2**40), 2**31, ["a"] * 3)
    for k in range(count):
        name = rng.choice(sorted(tables))
        table = json.loads(json.dumps(tables[name]))
        for _ in range(rng.choice((1, 1, 3))):
            _change_value(table, rng, wild)
        yield f"{k}-manifest.jacket", repacked(sound, {name: json.dumps(table).encode()})


def _change_value(table: object, rng: random.Random, wild: tuple[object, ...]) -> None:
    """Put a wild value somewhere, or take something away."""
    node = table
    for _ in range(8):
        keys: list[object] = list(node) if isinstance(node, dict) else list(range(len(node))) if isinstance(node, list) else []
        if not keys:
            return
        key = rng.choice(keys)
        inner = node[key]  # type: ignore[index]
        if isinstance(inner, dict | list) and inner and rng.random() < 0.75:
            node = inner
            continue
        if isinstance(node, dict) and rng.random() < 0.2:
            del node[key]
        else:
            node[key] = copy.deepcopy(rng.choice(wild))  # type: ignore[index]
        return


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

    while True:
        path = Path(pipe.recv())
        Path("/proc/self/clear_refs").write_text("5")
        before = _peak()
        start = time.perf_counter()
        try:
            outcome = _broken(path) or "sound"
        except FormatError as error:
            outcome = "sentence" if str(error).endswith(".") else f"no sentence: {error}"
        except BaseException as error:
            outcome = f"{type(error).__name__}: {error}"
        pipe.send((outcome, time.perf_counter() - start, _peak() - before))


def _broken(path: Path) -> str:
    """What is wrong with what a file gives; "" where it is sound, and so is everything that is done with it first."""
    from jacket.core.derive import islands_of
    from jacket.formats.mesh.registry import read_mesh
    from jacket.formats.project.records import load_project

    if path.suffix != ".jacket":
        meshes = [read_mesh(path)]
    else:
        state = load_project(path)
        meshes = [o.mesh for o in (*state.sources, *state.jackets, *state.trials)]
        project_bytes(state)
        for jacket in state.jackets:
            islands_of(jacket.mesh, state.sheets)
    for mesh in meshes:
        inside = not len(mesh.corners) or (mesh.corners.min() >= 0 and mesh.corners.max() < mesh.n_points)
        if not np.isfinite(mesh.points).all() or not inside or len(mesh.topology.edge) != mesh.n_corners:
            return "broken mesh"
    return ""


def _peak() -> int:
    return int(Path("/proc/self/status").read_text().split("VmHWM:")[1].split()[0]) * 1024


class Readers:
    """A process that reads files and lives on while it can."""

    def __init__(self) -> None:
        self.process: multiprocessing.process.BaseProcess | None = None

    def read(self, path: Path) -> tuple[str, float, int]:
        """(what came of a file, seconds, bytes of memory)."""
        if self.process is None or not self.process.is_alive():
            self.pipe, other = multiprocessing.Pipe()
            self.process = multiprocessing.get_context("fork").Process(target=_worker, args=(other,), daemon=True)
            self.process.start()
            other.close()
        self.pipe.send(str(path))
        try:
            if self.pipe.poll(30):
                return self.pipe.recv()  # type: ignore[no-any-return]
        except EOFError:
            self.process.join()
            return "crashed", 0.0, 0
        self.process.kill()
        self.process.join()
        return "hangs", 30.0, 0

    def close(self) -> None:
        """End it."""
        if self.process is not None:
            self.process.kill()
            self.process.join()


def all_damage(count: int, seed: int, rows: int = 30_000_000) -> Iterator[tuple[str, bytes]]:
    """So many damaged files of every kind, bombs of so many rows last."""
    sound = seeds()
    yield from damaged(sound, count * 7 // 10, seed)
    project = {"j.jacket": sound["j.jacket"]}
    yield from damaged(project, count // 10, seed + 1)
    yield from manifests(sound["j.jacket"], count - count * 7 // 10 - count // 10, seed + 2)
    yield from bombs(sound["j.jacket"], rows)


def run(count: int = 10_000, seed: int = 2026) -> int:
    """Read damaged files and count what comes of them; how many findings there were."""
    tally: dict[str, int] = {}
    worst = [0.0, 0]
    findings = []
    readers = Readers()
    with tempfile.TemporaryDirectory() as folder:
        first = Path(folder) / "warm.obj"
        first.write_bytes(seeds()["a.obj"])
        for name, data in seeds().items():
            (Path(folder) / name).write_bytes(data)
            readers.read(Path(folder) / name)
        for name, data in all_damage(count, seed):
            path = Path(folder) / name
            path.write_bytes(data)
            outcome, seconds, memory = readers.read(path)
            kind = outcome if outcome in ("sound", "sentence") else "finding"
            tally[kind] = tally.get(kind, 0) + 1
            worst = [max(worst[0], seconds), max(worst[1], memory)]
            if kind == "finding" or seconds > SECONDS or memory > MEMORY:
                findings.append(f"{name}: {outcome[:100]}, {seconds:.1f} s, {memory / 1e6:.0f} MB")
            path.unlink()
    readers.close()
    print(f"  {sum(tally.values())} files: {tally}; slowest {worst[0]:.2f} s, most memory {worst[1] / 1e6:.0f} MB")
    for line in findings[:40]:
        print(f"    {line}")
    return len(findings)
