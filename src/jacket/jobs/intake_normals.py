"""How a delivery shades, against the dense mesh: which one mistake would explain what is off, and what bleeds at mips."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.bake import BakeOptions, Group, SheetBake, Values, bake_sheet
from jacket.core.bake.cage import target_of
from jacket.core.bake.compare import Delivered, Samples, decoded, halved, mean_angle, mixed, read, sampled, unit_rows
from jacket.core.bake.dense import Dense
from jacket.core.bake.tangents import tangents
from jacket.core.bake.texels import border_sides, covered_texels, spread_origin
from jacket.core.checks.model import Level
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.mesh.unique import unique_rows
from jacket.core.uv.sheets import Sheet
from jacket.formats.deliver.intake import Folder, Received
from jacket.jobs.taken import Finding
from jacket.progress import Progress

EXCESS = 0.3
"""Degrees over the floor from which on something is wrong with what was handed over; .1 is worth a look."""
FLOOR_SIZE = 2048
MIPS = 6
SHOWS = 0.03
"""Share of the full range by which a pixel has to differ to be seen (common practice: some eight steps of 255)."""


def shading(found: Folder, dense: Dense, progress: Progress) -> tuple[tuple[float | None, float | None, float | None], list[Finding]]:
    """Mean errors over all meshes that have normal maps, weighted by their samples, and what is wrong with them."""
    rows: list[Finding] = []
    sums, weights = np.zeros(3), 0
    levels = found.levels
    for k, mesh in enumerate(found.meshes):
        if mesh.name in levels:
            # Baked onto the finest, so it is not measured against a floor of its own.
            rows.append(Finding("level", "good", f"{mesh.name} is a coarser level of {levels[mesh.name]} and takes its maps."))
            continue
        progress(k / len(found.meshes), f"comparing {mesh.name}")
        given, picture = mesh.triangles, mesh.pictures.get("normal")
        if given.uv is None or picture is None:
            continue
        built = rebuilt(given)
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


def rebuilt(given: Delivered) -> Floats:
    """Tangents by the standard from what was delivered alone."""
    count = len(given.places)
    uv = np.array(given.uv).reshape(-1, 2)
    uv = np.stack([uv[:, 0], 1 - uv[:, 1]], axis=1)
    return tangents(given.places.reshape(-1, 3), given.normals.reshape(-1, 3), uv, np.arange(3 * count).reshape(-1, 3))


def _best_map(given: Delivered, samples: Samples, dense: Dense, picture: NDArray[np.float32]) -> Floats:
    """Unit normals that a map of the same size and eight bits with normals in space gives: what is lost is size and bits."""
    size = (min(picture.shape[1], FLOOR_SIZE), min(picture.shape[0], FLOOR_SIZE))
    _, back = unique_rows(given.places.reshape(-1, 3).astype(np.float32))
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
    built = Delivered(given.places, given.normals, rebuilt(given), given.uv)
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
