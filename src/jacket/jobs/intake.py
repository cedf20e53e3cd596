"""Taking a delivery in as a receiver would, and saying in sentences what would go wrong there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.bake import BakeOptions, Group, SheetBake, Values, bake_sheet
from jacket.core.bake.cage import target_of
from jacket.core.bake.compare import Delivered, Samples, decoded, mean_angle, mixed, read, sampled, unit_rows
from jacket.core.bake.dense import Dense
from jacket.core.bake.tangents import tangents
from jacket.core.bake.texels import border_sides, covered_texels, spread_origin
from jacket.core.checks.model import Level
from jacket.core.derive import surface_of
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.uv.sheets import Sheet
from jacket.errors import MeshError
from jacket.formats.deliver.intake import Folder, Received, read_folder
from jacket.jobs.bake import BakeLayer, dense_of
from jacket.progress import Progress, silent

FIGURE = 1.8
"""Metres that a person stands tall, to tell sizes by (common practice)."""
EXCESS = 0.3
"""Degrees over the floor from which on something is wrong with what was handed over; .1 is worth a look."""
FLOOR_SIZE = 2048
MIPS = 6
SHOWS = 0.03
"""Share of the full range by which a pixel has to differ to be seen (common practice: some eight steps of 255)."""


@dataclass(frozen=True)
class Finding:
    """id; how bad it is; a sentence for people; a number to compare."""

    id: str
    level: Level
    sentence: str
    number: float = 0.0


@dataclass(frozen=True, eq=False)
class Taken:
    """What came back: findings, and in degrees the mean errors of shading normals without maps, as delivered and the floor that
    no map of that size goes below, None where they cannot be told."""

    findings: tuple[Finding, ...]
    bare: float | None = None
    error: float | None = None
    floor: float | None = None

    @property
    def excess(self) -> float | None:
        """Degrees over the floor."""
        return self.error - self.floor if self.error is not None and self.floor is not None else None

    def told(self) -> str:
        """A sentence of the figures."""
        if self.excess is None:
            return "the files are whole; without maps and a source there is nothing to measure."
        return f"normals are {self.error:.2f}° off the dense mesh, {max(self.excess, 0.0):.2f}° over the floor; without maps {self.bare:.1f}°."

    def as_dict(self) -> dict[str, Any]:
        """Plain values for a report."""
        return {"bare": self.bare, "error": self.error, "floor": self.floor, "excess": self.excess,
                "findings": [{"id": f.id, "level": f.level, "sentence": f.sentence, "number": f.number} for f in self.findings]}  # fmt: skip


def take_in(folder: Path, sources: Sequence[BakeLayer] = (), progress: Progress = silent) -> Taken:
    """Read a delivered folder back and compare it with the dense sources. Raises FormatError where there is nothing to read."""
    progress(0.0, "reading the files")
    found = read_folder(folder)
    if not found.meshes:
        raise MeshError(f"The GLB in {folder.name} holds no mesh; deliver again.")
    rows = _whole_files(found) + _axes_of(found) + _nodes_of(found)
    if not sources:
        return Taken((*rows, *_sizes(found)))
    progress(0.2, "preparing the source")
    dense = dense_of([s for s in sources if s.mesh.n_faces])
    rows += _placed(found, sources, dense)
    if any(f.id in ("axes", "scale") and f.level == "wrong" for f in rows):
        return Taken(tuple(rows))
    progress(0.5, "comparing normals")
    figures, more = _shading(found, dense, progress)
    return Taken((*rows, *more), *figures)


# ---- what is there -------------------------------------------------------------------------------------------------------


def _whole_files(found: Folder) -> list[Finding]:
    rows = []
    if found.missing:
        rows.append(Finding("missing", "wrong", f"{found.missing[0]} is named but not there; deliver again, or bring it along.", len(found.missing)))
    for mesh in found.meshes:
        if "NORMAL" in mesh.lacking:
            rows.append(Finding("normals-remade", "wrong", f"{mesh.name} has no normals, so the receiver makes its own and the maps no longer fit."))
        if "TANGENT" in mesh.lacking and mesh.pictures.get("normal") is not None:
            rows.append(Finding("tangents-missing", "look", f"{mesh.name} has no tangents; the receiver has to make them by MikkTSpace."))
        if "TEXCOORD_0" in mesh.lacking and mesh.pictures:
            rows.append(Finding("unmapped", "wrong", f"{mesh.name} has pictures but no UVs to lay them by; flatten it first."))
    if len(found.points) and not found.has_normals:
        rows.append(Finding("obj-normals", "look", "The OBJ has no normals, so its reader makes its own."))
    return rows


def _sizes(found: Folder) -> list[Finding]:
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    tall = float(np.ptp(every[:, 1]))
    level: Level = "good" if 0.01 <= tall <= 200 else "look"
    return [Finding("size", level, f"It stands {tall:.3g} m tall, {tall / FIGURE:.3g} times a person of {FIGURE} m.", tall)]


def _axes_of(found: Folder) -> list[Finding]:
    """The OBJ against the GLB, which is Y up in metres by its standard: is it turned and scaled as the profile says?"""
    axes = found.report.get("axes")
    if not isinstance(axes, dict) or len(found.points) == 0:
        return []
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    mine = _boxes(found.points / float(axes.get("scale", 1.0)))
    theirs = every if axes.get("up") != "z" else np.stack([every[:, 0], -every[:, 2], every[:, 1]], axis=1)
    there = _boxes(theirs)
    size = max(float(np.linalg.norm(there[1] - there[0])), 1e-12)
    off = float(np.abs(mine - there).max()) / size
    unit = "a unit is a metre" if axes.get("scale", 1) == 1 else f"{axes.get('scale', 1):g} units a metre"
    if off < 1e-3:
        return [Finding("obj-axes", "good", f"The OBJ stands as the profile says: {'Y' if axes.get('up') != 'z' else 'Z'} up, {unit}.")]
    ratio = float(np.linalg.norm(mine[1] - mine[0])) / size
    if abs(ratio - 1) > 0.01:
        return [Finding("obj-scale", "wrong", f"The OBJ is {ratio:.3g} times as large as the profile says; deliver again.", ratio)]
    return [Finding("obj-axes", "wrong", "The OBJ does not stand as the profile says; deliver again.", off)]


def _told_nodes(found: Folder) -> dict[str, dict[str, Any]]:
    nodes = found.report.get("nodes")
    return {str(k): v for k, v in nodes.items() if isinstance(v, dict)} if isinstance(nodes, dict) else {}


def _nodes_of(found: Folder) -> list[Finding]:
    """Whether the sockets that the report names are in the GLB, where it says."""
    axes, rows = found.report.get("axes"), [s for n in _told_nodes(found).values() for s in n.get("sockets", ())]
    scale, turned = (float(axes.get("scale", 1.0)), axes.get("up") == "z") if isinstance(axes, dict) else (1.0, False)
    for socket in rows:
        x, y, z = (float(v) / scale for v in socket["place"])
        place, there = np.array((x, z, -y) if turned else (x, y, z)), found.nodes.get(socket["name"])
        if there is None:
            return [Finding("sockets", "wrong", f"The socket {socket['name']} is not in the GLB; deliver again.")]
        if float(np.linalg.norm(there - place)) > 1e-4 * max(1.0, float(np.linalg.norm(place))):
            return [Finding("sockets", "wrong", f"The socket {socket['name']} is not where the report says; deliver again.")]
    return [Finding("sockets", "good", f"{len(rows)} socket{'s are' if len(rows) > 1 else ' is'} where the report says.")] if rows else []


def _boxes(points: Floats) -> Floats:
    return np.stack([points.min(axis=0), points.max(axis=0)])


# ---- where it stands -----------------------------------------------------------------------------------------------------


TURNS = {
    "as if Z were up": np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]), "as if lying on its face": np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0.0]]),
    "mirrored": np.diag([-1, 1, 1.0]), "turned half about": np.diag([-1, 1, -1.0]),
}  # fmt: skip


def _placed(found: Folder, sources: Sequence[BakeLayer], dense: Dense) -> list[Finding]:
    every = np.concatenate([m.triangles.places.reshape(-1, 3) for m in found.meshes])
    some = every[:: max(len(every) // 3000, 1)]

    def gap(points: Floats) -> float:
        return float(np.mean(np.min([surface_of(s.mesh).closest(points)[2] for s in sources], axis=0))) / dense.diagonal

    here = gap(some)
    rows = _sizes(found)
    if here < 0.02:
        return [*rows, Finding("place", "good", f"It lies on the dense mesh, {100 * here:.2f} % of its diagonal off on average.", here)]
    ratio = dense.diagonal / max(float(np.linalg.norm(np.ptp(every, axis=0))), 1e-12)
    nearest = min((1e-3, 1e-2, 0.1, 10.0, 100.0, 1e3), key=lambda k: abs(np.log(k / ratio)))
    if abs(np.log(nearest / ratio)) < 0.4 and gap(some * nearest) < 0.25 * here:
        return [*rows, Finding("scale", "wrong", f"It is {1 / nearest:g} times as large as the dense mesh; the unit is wrong.", 1 / nearest)]
    for said, turn in TURNS.items():
        if gap(some @ turn.T) < 0.25 * here:
            return [*rows, Finding("axes", "wrong", f"It stands {said}; the axes are wrong.", here)]
    return [*rows, Finding("place", "look", f"It lies {100 * here:.1f} % of the diagonal off the dense mesh on average.", here)]


# ---- how it shades -------------------------------------------------------------------------------------------------------


def _shading(found: Folder, dense: Dense, progress: Progress) -> tuple[tuple[float | None, float | None, float | None], list[Finding]]:
    """Mean errors over all meshes that have normal maps, weighted by their samples, and what is wrong with them."""
    rows: list[Finding] = []
    sums, weights = np.zeros(3), 0
    levels = {name: str(told["level_of"]) for name, told in _told_nodes(found).items() if told.get("level_of")}
    for k, mesh in enumerate(found.meshes):
        if mesh.name in levels:
            # Baked onto the finest, so it is not measured against a floor of its own.
            rows.append(Finding("level", "good", f"{mesh.name} is a coarser level of {levels[mesh.name]} and takes its maps."))
            continue
        progress(0.5 + 0.5 * k / len(found.meshes), f"comparing {mesh.name}")
        given, picture = mesh.triangles, mesh.pictures.get("normal")
        if given.uv is None or picture is None:
            continue
        built = _rebuilt(given)
        given = given if given.tangents is not None else Delivered(given.places, given.normals, built, given.uv)
        samples = sampled(given, dense, 0.05 * dense.diagonal)
        keep = samples.met
        bare = mean_angle(unit_rows(mixed(samples, given.normals)), samples.truth, keep)
        error = mean_angle(decoded(samples, given, picture), samples.truth, keep)
        floor = mean_angle(_best_map(given, samples, dense, picture), samples.truth, keep)
        rows += _suspects(mesh, given, samples, picture, error, floor)
        rows += _tangents_agree(mesh, built) + _diagonals(found, mesh)
        rows += _beside(found, Delivered(given.places, given.normals, built, given.uv), samples, floor) + _mips(given, list(mesh.pictures.values()))
        sums += np.array([bare, error, floor]) * keep.sum()
        weights += int(keep.sum())
    if not weights:
        return (None, None, None), rows
    bare, error, floor = (sums / weights).tolist()
    return (bare, error, floor), rows


def _rebuilt(given: Delivered) -> Floats:
    """Tangents by the standard from what was delivered alone."""
    count = len(given.places)
    uv = np.array(given.uv).reshape(-1, 2)
    uv = np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1)
    return tangents(given.places.reshape(-1, 3), given.normals.reshape(-1, 3), uv, np.arange(3 * count).reshape(-1, 3))


def _best_map(given: Delivered, samples: Samples, dense: Dense, picture: NDArray[np.float32]) -> Floats:
    """Unit normals that a map of the same size and eight bits with normals in space gives: what is lost is size and bits."""
    size = (min(picture.shape[1], FLOOR_SIZE), min(picture.shape[0], FLOOR_SIZE))
    _, back = np.unique(given.places.reshape(-1, 3).astype(np.float32), axis=0, return_inverse=True)
    first = np.zeros(int(back.max()) + 1, np.int64)
    first[back.ravel()] = np.arange(back.size)
    uv = np.array(given.uv).reshape(-1, 2)
    mesh = PolyMesh.from_faces(given.places.reshape(-1, 3)[first], back.reshape(-1, 3)).with_uv(np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1))
    work = SheetBake.blank(*size, ("object",))
    target = target_of(mesh, Sheet(), size, 0.05 * dense.diagonal)
    none = Values(np.zeros((len(dense.normals), 0), np.float32), {})
    baked = bake_sheet([Group(target, dense, none)], work, BakeOptions(samples=1, padding=4))["object"]
    eight = (baked.eight() / 255.0 * 2 - 1).astype(np.float32)
    return unit_rows(read(eight, mixed(samples, np.array(given.uv))))


def _suspects(mesh: Received, given: Delivered, samples: Samples, picture: NDArray[np.float32], error: float, floor: float) -> list[Finding]:
    """Where the map fits worse than it could: which one mistake would explain it."""
    excess = error - floor
    if excess <= EXCESS:
        level: Level = "good" if excess <= 0.1 else "look"
        return [Finding("normals", level, f"{mesh.name} shades {error:.2f}° off the dense mesh, {max(excess, 0.0):.2f}° over the floor.", excess)]
    dark = np.where(picture <= 0.0031308, picture * 12.92, 1.055 * np.maximum(picture, 1e-9) ** (1 / 2.4) - 0.055).astype(np.float32)
    bright = np.where(picture <= 0.04045, picture / 12.92, ((picture + 0.055) / 1.055) ** 2.4).astype(np.float32)
    built = Delivered(given.places, given.normals, _rebuilt(given), given.uv)
    tries = {
        "green": (decoded(samples, given, picture, down=True), "the green of its normal map points the wrong way"),
        "v": (decoded(samples, given, picture, flipped=True), "its pictures are upside down: v runs the wrong way"),
        "gamma": (decoded(samples, given, dark), "its normal map was darkened as if it were a colour: gamma was applied"),
        "gamma-up": (decoded(samples, given, bright), "its normal map was brightened as if it were a colour: gamma was applied"),
        "tangent-sign": (decoded(samples, given, picture, signs=-1.0), "the signs of its tangents are opposite"),
        "tangents": (decoded(samples, built, picture), "its tangents are not those of the standard"),
    }  # fmt: skip
    angles = {k: mean_angle(v, samples.truth, samples.met) for k, (v, _) in tries.items()}
    best = min(angles, key=lambda k: angles[k] + (1e-6 if k == "tangent-sign" else 0.0))
    # A wrong sign of tangents looks like flipped green: the standard decides which it is.
    if best in ("green", "tangent-sign", "tangents") and given.tangents is not None and built.tangents is not None:
        turned = float(np.mean(np.sign(given.tangents[..., 3]) != np.sign(built.tangents[..., 3])))
        best = "tangent-sign" if turned > 0.5 else "tangents" if angles["tangents"] < angles[best] - 0.2 else "green" if best == "tangent-sign" else best
    if angles[best] < floor + 0.5 * excess:
        return [Finding(best, "wrong", f"{mesh.name} shades {error:.1f}° off the dense mesh: {tries[best][1]}.", excess)]
    return [Finding("normals", "wrong", f"{mesh.name} shades {error:.1f}° off the dense mesh, {excess:.1f}° over the floor; bake again with what is delivered.", excess)]


def _tangents_agree(mesh: Received, built: Floats) -> list[Finding]:
    theirs = mesh.triangles.tangents
    if theirs is None:
        return []
    wrong = float(np.mean(np.sign(theirs[..., 3]) != np.sign(built[..., 3])))
    angle = np.degrees(2 * np.arcsin(np.clip(np.linalg.norm(unit_rows(theirs[..., :3]) - built[..., :3], axis=-1) / 2, 0, 1)))
    far = float(np.mean(angle > 1.0))
    if wrong > 0.01 or far > 0.02:
        return [Finding("tangents-differ", "wrong" if far > 0.1 or wrong > 0.1 else "look",
                        f"{mesh.name}: {100 * max(wrong, far):.0f} % of its tangents are not those of the standard.", max(wrong, far))]  # fmt: skip
    return [Finding("tangents-agree", "good", f"{mesh.name}: its tangents are those of the standard.", float(angle.mean()))]


def _diagonals(found: Folder, mesh: Received) -> list[Finding]:
    """Quads of the OBJ whose other diagonal the GLB has: baked with one, shown with the other."""
    quads = [f for f in found.faces if len(f) == 4]
    if not quads or len(found.meshes) > 1:
        return []
    p = found.points[np.array(quads)]
    a, b = np.linalg.norm(p[:, 0] - p[:, 2], axis=1), np.linalg.norm(p[:, 1] - p[:, 3], axis=1)
    clear = np.abs(a - b) > 1e-3 * (a + b)
    t = mesh.triangles.places
    lengths = np.sort(np.concatenate([np.linalg.norm(t[:, k] - t[:, k - 1], axis=1) for k in range(3)]))
    scale = float((found.report.get("axes") or {}).get("scale", 1.0))

    def has(length: Floats) -> NDArray[np.bool_]:
        at = np.clip(np.searchsorted(lengths, length), 1, len(lengths) - 1)
        near = np.minimum(np.abs(lengths[at] - length), np.abs(lengths[at - 1] - length))
        return np.asarray(near <= 2e-6 * np.maximum(length, 1e-9) + 1e-9)

    short, long = np.minimum(a, b)[clear] / scale, np.maximum(a, b)[clear] / scale
    changed = float(np.mean(~has(short) & has(long))) if clear.any() else 0.0
    if changed > 0.02:
        return [Finding("diagonals", "wrong", f"{100 * changed:.0f} % of the quads are split along the other diagonal than they were baked with.", changed)]
    return []


def _beside(found: Folder, given: Delivered, samples: Samples, floor: float) -> list[Finding]:
    """The picture of normals that lies beside the meshes: does its green point where the profile says?"""
    axes = found.report.get("axes")
    if found.normal is None or not isinstance(axes, dict) or len(found.meshes) > 1:
        return []
    name, picture = found.normal
    down = axes.get("green") == "down"
    error = mean_angle(decoded(samples, given, picture, down=down), samples.truth, samples.met)
    other = mean_angle(decoded(samples, given, picture, down=not down), samples.truth, samples.met)
    if error - floor > EXCESS and other < error - 0.5 * (error - floor):
        return [Finding("green-beside", "wrong", f"The green of {name} points {'up' if down else 'down'}, though the profile says {'down' if down else 'up'}.", error - floor)]
    level: Level = "good" if error - floor <= 0.1 else "look" if error - floor <= EXCESS else "wrong"
    return [Finding("beside", level, f"{name} shades {max(error - floor, 0.0):.2f}° over the floor.", error - floor)]


def _mips(given: Delivered, pictures: Sequence[NDArray[np.float32]]) -> list[Finding]:
    """The first mip level at which the ground between islands shows on them: smaller pictures mix in what lies around. Judged
    against the same pictures whose islands are carried on without end."""
    found = [level for level in (_bleeds(given, p) for p in pictures) if level]
    if not found:
        return [Finding("mips", "good", "Nothing between islands shows at any mip level that was tried.", MIPS)]
    level, wide = min(found), pictures[0].shape[1]
    said: Level = "look" if level >= 3 else "wrong"
    return [Finding("mips", said, f"What lies between islands shows from mip level {level} on ({wide >> level} pixels); pad further.", level)]


def _bleeds(given: Delivered, picture: NDArray[np.float32]) -> int:
    """The first mip level at which a picture shows what lies between islands, 0 for none."""
    height, width = picture.shape[:2]
    at = np.array(given.uv) * (width, height)
    # Two texels around islands count as theirs: bakers carry them on there by rays of their own.
    sides = border_sides(np.array(given.uv).reshape(-1, 2), np.arange(3 * len(at)).reshape(-1, 3))
    covered = covered_texels(at, sides, width, height, 2.0) != -1
    if not covered.any() or covered.all():
        return 0
    ideal = picture.reshape(-1, 3)[spread_origin(covered, -1)]
    rng = np.random.default_rng(5)
    t = rng.integers(0, len(at), 40_000)
    uv = np.einsum("kc,kcd->kd", rng.dirichlet((0.6, 0.6, 0.6), len(t)), np.array(given.uv)[t])
    for level in range(1, MIPS + 1):
        if min(picture.shape[:2]) < 16:
            break
        picture, ideal = halved(picture), halved(ideal)
        if float((np.abs(read(picture, uv) - read(ideal, uv)).max(axis=1) > SHOWS).mean()) > 0.005:
            return level
    return 0


def halved(picture: NDArray[np.float32]) -> NDArray[np.float32]:
    """The next mip level of a picture (H, W, k): means of two by two."""
    h, w = picture.shape[0] // 2, picture.shape[1] // 2
    return picture[: 2 * h, : 2 * w].reshape(h, 2, w, 2, -1).mean(axis=(1, 3))
