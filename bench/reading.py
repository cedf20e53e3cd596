"""Opening files of about one and six million triangles, beside the libraries that others use for it.

Each reading runs in a process of its own, after a file of a hundred thousand triangles (imports
and kernels are ready then). Time is the median of three; memory is the peak over what the process held before.
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path

import numpy as np

from bench.data import CACHE, demo, finer, spot
from jacket.core.mesh.polymesh import PolyMesh
from jacket.formats.mesh.registry import read_mesh

READERS = {
    "ply": ("jacket", "trimesh", "plyfile", "libigl"),
    "stl": ("jacket", "trimesh", "trimesh joined", "libigl"),
    "obj": ("jacket", "trimesh", "libigl"),
    "off": ("jacket", "trimesh", "libigl"),
    "glb": ("jacket", "trimesh"),
}


def _files(name: str, make) -> dict[str, Path]:  # type: ignore[no-untyped-def]
    """The mesh in every format, written once into the cache."""
    CACHE.mkdir(parents=True, exist_ok=True)
    files = {ending: CACHE / f"{name}.{ending}" for ending in READERS}
    if not all(f.exists() for f in files.values()):
        mesh: PolyMesh = make()
        tri, points = mesh.triangle_points, mesh.points
        vertex = points.astype("<f4")
        rows = np.zeros(len(tri), [("n", "u1"), ("p", "<i4", (3,))])
        rows["n"], rows["p"] = 3, tri
        head = (f"ply\nformat binary_little_endian 1.0\nelement vertex {len(points)}\nproperty float x\nproperty float y\n"
                f"property float z\nelement face {len(tri)}\nproperty list uchar int vertex_indices\nend_header\n")  # fmt: skip
        files["ply"].write_bytes(head.encode() + vertex.tobytes() + rows.tobytes())
        soup = np.zeros(len(tri), [("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("extra", "<u2")])
        soup["corners"] = vertex[tri]
        files["stl"].write_bytes(bytes(80) + len(tri).to_bytes(4, "little") + soup.tobytes())
        with files["obj"].open("w") as out:
            np.savetxt(out, points, "v %.7g %.7g %.7g")
            np.savetxt(out, points[:, :2], "vt %.6f %.6f")
            np.savetxt(out, np.repeat(tri + 1, 2, axis=1), "f %d/%d %d/%d %d/%d")
        with files["off"].open("w") as out:
            out.write(f"OFF\n{len(points)} {len(tri)} 0\n")
            np.savetxt(out, points, "%.7g %.7g %.7g")
            np.savetxt(out, tri, "3 %d %d %d")
        from jacket.formats.mesh.registry import write_mesh

        write_mesh(mesh, files["glb"])
    return files


def _read(reader: str, path: str) -> tuple[int, int]:
    """Read a file with a library; bytes of the arrays that come out, and the number of faces."""
    if reader == "jacket":
        mesh = read_mesh(path)
        arrays = [mesh.points, mesh.corners, mesh.starts, *mesh.corner_data.values()]
        return sum(a.nbytes for a in arrays), mesh.n_faces
    if reader.startswith("trimesh"):
        import trimesh

        made = trimesh.load(path, process=reader == "trimesh joined", force="mesh")
        return made.vertices.nbytes + made.faces.nbytes, len(made.faces)
    if reader == "plyfile":
        import plyfile

        ply = plyfile.PlyData.read(path, known_list_len={"face": {"vertex_indices": 3}})
        v = np.stack([ply["vertex"][k] for k in "xyz"], axis=1).astype(np.float64)
        f = np.ascontiguousarray(ply["face"]["vertex_indices"])
        return v.nbytes + f.nbytes, len(f)
    import igl

    if path.endswith(".obj"):
        v, tc, _, f, ftc, _ = igl.readOBJ(path)
        return v.nbytes + tc.nbytes + f.nbytes + ftc.nbytes, len(f)
    v, f = igl.read_triangle_mesh(path)
    return v.nbytes + f.nbytes, len(f)


def _peak() -> int:
    status = Path("/proc/self/status").read_text()
    return int(status.split("VmHWM:")[1].split()[0]) * 1024


def child(reader: str, small: str, path: str) -> None:
    """One measured reading; prints seconds, peak bytes over before, bytes of arrays, faces."""
    _read(reader, small)
    Path("/proc/self/clear_refs").write_text("5")
    before = _peak()
    start = time.perf_counter()
    size, faces = _read(reader, path)
    print(time.perf_counter() - start, _peak() - before, size, faces)


def run() -> None:
    """Both sizes, every format, every library."""
    small = _files("small", lambda: finer(spot(), 2))
    sizes = {
        "porthole latch, 0.96 million": _files("latch", lambda: finer(demo("porthole-latch"), 2)),
        "spot, 6.0 million": _files("spot6", lambda: finer(spot(), 5)),
    }
    for name, files in sizes.items():
        print(f"  {name}")
        for ending, readers in READERS.items():
            line = []
            for reader in readers:
                rows = []
                for _ in range(3 if reader == "jacket" or "6.0" not in name else 1):
                    done = subprocess.run(
                        [sys.executable, "-m", "bench.reading", reader, str(small[ending]), str(files[ending])],
                        capture_output=True, text=True, timeout=300,
                    )  # fmt: skip
                    if done.returncode == 0:
                        rows.append([float(x) for x in done.stdout.split()[-4:]])
                if rows:
                    seconds, peak, size, _ = np.median(rows, axis=0)
                    line.append(f"{reader} {seconds:.2f} s (peak {peak / size:.1f} × {size / 1e6:.0f} MB)")
                else:
                    line.append(f"{reader} fails")
            print(f"    {ending}: " + "; ".join(line), flush=True)


if __name__ == "__main__":
    child(*sys.argv[1:])
