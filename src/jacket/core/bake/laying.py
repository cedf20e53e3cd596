"""How decals come onto the maps of a sheet: for every texel the place on the picture, as coarse as the texel is."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from jacket.core.bake.cage import on_sheet, target_of
from jacket.core.bake.cast import Target
from jacket.core.bake.decals import Decal
from jacket.core.bake.maps import ALL_MAPS, Baked, stored
from jacket.core.bake.texels import GUTTER, covered_texels, spread_moves
from jacket.core.jit import inline, kernel
from jacket.core.mesh.diagonals import short_diagonals
from jacket.core.mesh.polymesh import Floats, Ints, PolyMesh
from jacket.core.space.rays import RayTree
from jacket.core.store import STORE
from jacket.core.tone import to_screen
from jacket.core.uv.sheets import Sheet

PADDING = 16
"""Texels that islands are carried on past their border, as maps are baked."""
FULL, NONE = 0.35, 0.1
"""Cosine between the surface and the decal's plane down to which it lies in full, and from which on not at all."""
PLAIN = (0.52, 0.5, 0.47)
"""What stands, in linear light, where no colour is given."""


# ---- pictures of decals ------------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Stencil:
    """A picture with all its halvings: pixels (P, 4) uint8, colour and cover, the upper row first; levels (L, 3) where each
    begins, its width and height."""

    pixels: NDArray[np.uint8]
    levels: Ints

    @property
    def size(self) -> tuple[int, int]:
        """Width and height of the whole picture."""
        return int(self.levels[0, 1]), int(self.levels[0, 2])


def stencil(picture: NDArray[np.uint8]) -> Stencil:
    """A picture (H, W, 4) with all its halvings; colours count by their cover."""
    parts, levels, begin = [], [], 0
    now = picture.astype(np.float32)
    while True:
        h, w = now.shape[:2]
        parts.append(np.rint(now).astype(np.uint8).reshape(-1, 4))
        levels.append((begin, w, h))
        begin += w * h
        if w == h == 1:
            break
        now = _halved(now)
    return Stencil(np.ascontiguousarray(np.concatenate(parts)), np.array(levels, np.int32))


def _halved(picture: NDArray[np.float32]) -> NDArray[np.float32]:
    for axis in (0, 1):
        n = picture.shape[axis]
        if n == 1:
            continue
        if n % 2:
            picture = np.concatenate([picture, np.take(picture, [n - 1], axis)], axis)
        picture = picture.reshape(*picture.shape[:axis], -1, 2, *picture.shape[axis + 1 :])
        a, b = np.take(picture, 0, axis + 1), np.take(picture, 1, axis + 1)
        cover = a[..., 3:] + b[..., 3:]
        mixed = (a[..., :3] * a[..., 3:] + b[..., :3] * b[..., 3:]) / np.maximum(cover, 1e-6)
        picture = np.concatenate([np.where(cover > 0, mixed, (a + b)[..., :3] / 2), cover / 2], axis=-1)
    return picture


# ---- texels of a mesh --------------------------------------------------------------------------------------------


@dataclass(frozen=True, eq=False)
class Texels:
    """What the texels of a sheet know of a mesh: its triangles there, (H, W) the triangle of each texel, the upper row first, −1
    for none, −2 − t in the gutter of triangle t; texels that are padding, and the ones they take their values from."""

    target: Target
    which: NDArray[np.int32]
    to: Ints
    whose: Ints


def texels_of(mesh: PolyMesh, sheet: Sheet, width: int, height: int) -> Texels | None:
    """The texels of a mesh on a sheet at a size, kept; None where none of it lies there."""
    detached = mesh.detached()

    def make() -> Texels | None:
        if len(on_sheet(detached, short_diagonals(detached), sheet)) == 0:
            return None
        target = target_of(detached, sheet, (width, height), 0.0)
        which = np.ascontiguousarray(covered_texels(target.at, target.sides[:, :2], width, height, GUTTER)[::-1])
        return Texels(target, which, *spread_moves(which != -1, PADDING))

    grounds = tuple(mesh.aspect(a) for a in ("points", "faces", "uv", "marks", "cuts"))
    made: Texels | None = STORE.get(grounds, f"texels {tuple(sheet.origin)} {width} {height}", make)
    return made


# ---- laying ------------------------------------------------------------------------------------------------------


def overlay(texels: Texels, laid: Sequence[tuple[Decal, Stencil]], seen: RayTree | None = None) -> NDArray[np.float32]:
    """(H, W, 4) what decals of one role put over a map, one over another: colour times cover and cover (Porter and Duff 1984,
    over). For normals the first three are a normal in the tangent frame, blended over one another (`blended`). `seen` is what
    may stand between a surface and the eye of a decal."""
    height, width = texels.which.shape
    out = np.zeros((height, width, 4), np.float32)
    normal = bool(laid) and laid[0][0].role == "normal"
    if normal:
        out[..., 2] = 1.0
    for decal, picture in laid:
        spots = _spots(texels, decal)
        if decal.eye > 0 and seen is not None and len(spots.at):
            spots = spots.kept(_open(spots, decal, seen, texels.target))
        if len(spots.at):
            t = texels.target
            sides = np.array([abs(decal.width), decal.height])
            turn = np.array([decal.right, decal.up]) * np.array([[1.0 if decal.width > 0 else -1.0], [1.0]])
            _put(out, spots.at, spots.triangle, spots.place, spots.fade * decal.strength, t.frames, t.signs, _grain(t), sides, turn,
                 picture.pixels, picture.levels, normal)  # fmt: skip
    return out


@dataclass(frozen=True, eq=False)
class _Spots:
    """Texels under a decal: (K,) where they are, (K,) of which triangle, (K, 2) places on the picture, (K,) how much of it
    lies there, (K, 3) where they are in space and (K, 3) their normals."""

    at: Ints
    triangle: Ints
    place: Floats
    fade: Floats
    point: Floats
    normal: Floats

    def kept(self, keep: NDArray[np.bool_]) -> _Spots:
        return _Spots(self.at[keep], self.triangle[keep], self.place[keep], self.fade[keep], self.point[keep], self.normal[keep])


def _spots(texels: Texels, decal: Decal) -> _Spots:
    t = texels.target
    near = _near(t.places, np.array(decal.place), decal.axes, decal.width, decal.height, decal.reach, decal.eye)
    count = _counted(texels.which, near)
    at, triangle = np.empty(count, np.int32), np.empty(count, np.int32)
    place, fade, point, normal = np.empty((count, 2)), np.empty(count), np.empty((count, 3)), np.empty((count, 3))
    n = _found(texels.which, near, t.at, t.places, t.frames, np.array(decal.place), decal.axes, decal.width, decal.height,
               decal.reach, decal.eye, at, triangle, place, fade, point, normal)  # fmt: skip
    return _Spots(at[:n], triangle[:n], place[:n], fade[:n], point[:n], normal[:n])


def _open(spots: _Spots, decal: Decal, seen: RayTree, target: Target) -> NDArray[np.bool_]:
    """Which spots the eye of a decal sees. What is nearer than an edge is long hides nothing: flat faces stand in the way of
    their neighbours where the form they stand for does not."""
    eye = np.array(decal.place) + decal.eye * decal.axes[2]
    edge = float(np.median(np.linalg.norm(target.places[:, 1] - target.places[:, 0], axis=1)))
    way = eye - spots.point
    far = np.linalg.norm(way, axis=1)
    way /= np.maximum(far, 1e-300)[:, None]
    off = np.minimum(edge, 0.5 * far)
    return ~seen.covered(spots.point + off[:, None] * way + 0.1 * edge * spots.normal, way, far - off)


def _grain(target: Target) -> Floats:
    """(T,) how long a texel is on the surface."""
    p, q = target.places, target.at
    cross = np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    a, b = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
    flat = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    return np.asarray(np.sqrt(np.linalg.norm(cross, axis=1) / np.maximum(flat, 1e-12)))


@kernel
def _near(places, middle, axes, width, height, reach, eye):
    """(T,) triangles whose box in the frame of a decal meets the decal's."""
    out = np.zeros(len(places), np.bool_)
    for t in range(len(places)):
        low, high = np.full(3, np.inf), np.full(3, -np.inf)
        behind = False
        for k in range(3):
            x, y, z = places[t, k, 0] - middle[0], places[t, k, 1] - middle[1], places[t, k, 2] - middle[2]
            c = axes[2, 0] * x + axes[2, 1] * y + axes[2, 2] * z
            behind = behind or (eye > 0 and c >= 0.999 * eye)
            times = eye / (eye - c) if eye > 0 and c < eye else 1.0
            a = (axes[0, 0] * x + axes[0, 1] * y + axes[0, 2] * z) * times / width
            b = (axes[1, 0] * x + axes[1, 1] * y + axes[1, 2] * z) * times / height
            for m, v in enumerate((a, b, c)):
                low[m], high[m] = min(low[m], v), max(high[m], v)
        # The gutter goes on past a triangle's edge: half as large again is looked at.
        for m in range(2):
            grow = 0.5 * (high[m] - low[m])
            low[m], high[m] = low[m] - grow, high[m] + grow
        inside = low[0] < 0.5 and high[0] > -0.5 and low[1] < 0.5 and high[1] > -0.5
        out[t] = inside and low[2] < reach and high[2] > -reach and not behind
    return out


@kernel
def _counted(which, near):
    n = 0
    for t in which.ravel():
        t = t if t >= 0 else -2 - t
        if t >= 0 and near[t]:
            n += 1
    return n


@kernel
def _found(which, near, at, places, frames, middle, axes, width, height, reach, eye, out, triangle, place, fade, point, normal):
    """Fill in the texels that a decal lies on; how many."""
    n, rows = 0, which.shape[0]
    for j in range(rows):
        for i in range(which.shape[1]):
            t = which[j, i] if which[j, i] >= 0 else -2 - which[j, i]
            if t < 0 or not near[t]:
                continue
            ax, ay, bx, by, cx, cy = at[t, 0, 0], at[t, 0, 1], at[t, 1, 0], at[t, 1, 1], at[t, 2, 0], at[t, 2, 1]
            x, y = i + 0.5, rows - j - 0.5
            area = (bx - ax) * (cy - ay) - (by - ay) * (cx - ax)
            u = ((cx - bx) * (y - by) - (cy - by) * (x - bx)) / area
            v = ((ax - cx) * (y - cy) - (ay - cy) * (x - cx)) / area
            w = 1.0 - u - v
            px, py, pz = 0.0, 0.0, 0.0
            nx, ny, nz = 0.0, 0.0, 0.0
            for k, share in enumerate((u, v, w)):
                px, py, pz = px + share * places[t, k, 0], py + share * places[t, k, 1], pz + share * places[t, k, 2]
                nx, ny, nz = nx + share * frames[t, k, 1, 0], ny + share * frames[t, k, 1, 1], nz + share * frames[t, k, 1, 2]
            long = np.sqrt(nx * nx + ny * ny + nz * nz)
            if not long > 0:
                continue
            dx, dy, dz = px - middle[0], py - middle[1], pz - middle[2]
            c = axes[2, 0] * dx + axes[2, 1] * dy + axes[2, 2] * dz
            if abs(c) > reach or (eye > 0 and c >= 0.999 * eye):
                continue
            times = eye / (eye - c) if eye > 0 else 1.0
            s = (axes[0, 0] * dx + axes[0, 1] * dy + axes[0, 2] * dz) * times / width + 0.5
            r = (axes[1, 0] * dx + axes[1, 1] * dy + axes[1, 2] * dz) * times / height + 0.5
            if not (-0.1 < s < 1.1 and -0.1 < r < 1.1):
                continue
            if eye > 0:
                ex, ey, ez = axes[2, 0] * eye - dx, axes[2, 1] * eye - dy, axes[2, 2] * eye - dz
                facing = (nx * ex + ny * ey + nz * ez) / (long * np.sqrt(ex * ex + ey * ey + ez * ez))
            else:
                facing = (nx * axes[2, 0] + ny * axes[2, 1] + nz * axes[2, 2]) / long
            lying = (facing - NONE) / (FULL - NONE)
            if lying <= 0:
                continue
            # The last tenth of the reach fades, so that nothing ends in a jag.
            deep = (1.0 - abs(c) / reach) / 0.1
            out[n], triangle[n], place[n, 0], place[n, 1] = j * which.shape[1] + i, t, s, r
            fade[n] = min(lying, 1.0) * min(deep, 1.0)
            point[n, 0], point[n, 1], point[n, 2] = px, py, pz
            normal[n, 0], normal[n, 1], normal[n, 2] = nx / long, ny / long, nz / long
            n += 1
    return n


@inline
def _read(pixels, levels, level, s, r, into):
    """Colour times cover, and cover, of a level of a picture, 0..1: bilinear, its border carried on."""
    begin, width, height = levels[level, 0], levels[level, 1], levels[level, 2]
    x, y = s * width - 0.5, (1.0 - r) * height - 0.5
    i, j = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - i, y - j
    into[:] = 0.0
    for dj in range(2):
        for di in range(2):
            a, b = min(max(i + di, 0), width - 1), min(max(j + dj, 0), height - 1)
            share = (fx if di else 1.0 - fx) * (fy if dj else 1.0 - fy)
            at = begin + b * width + a
            cover = share * pixels[at, 3] / 255.0
            for k in range(3):
                into[k] += cover * pixels[at, k] / 255.0
            into[3] += cover


@kernel
def _put(out, at, triangle, place, fade, frames, signs, grain, sides, turn, pixels, levels, normal):
    """Read the picture for every texel as coarse as the texel is, and lay it over what is there."""
    width = out.shape[1]
    fine, coarse = np.empty(4), np.empty(4)
    for n in range(len(at)):
        t = triangle[n]
        fineness = min(sides[0] / levels[0, 1], sides[1] / levels[0, 2])
        level = np.log2(max(grain[t] / max(fineness, 1e-300), 1.0))
        level = min(level, len(levels) - 1.0)
        low = int(level)
        _read(pixels, levels, low, place[n, 0], place[n, 1], fine)
        if low + 1 < len(levels) and level > low:
            _read(pixels, levels, low + 1, place[n, 0], place[n, 1], coarse)
            for k in range(4):
                fine[k] += (level - low) * (coarse[k] - fine[k])
        # The border of the picture is as sharp as a texel.
        s, r = place[n, 0], place[n, 1]
        across = min(max(min(s, 1.0 - s) * sides[0] / grain[t] + 0.5, 0.0), 1.0)
        up = min(max(min(r, 1.0 - r) * sides[1] / grain[t] + 0.5, 0.0), 1.0)
        lies = fade[n] * across * up
        cover = fine[3] * lies
        if cover <= 0:
            continue
        j, i = at[n] // width, at[n] % width
        if not normal:
            for k in range(3):
                out[j, i, k] = fine[k] * lies + (1.0 - cover) * out[j, i, k]
            out[j, i, 3] = cover + (1.0 - cover) * out[j, i, 3]
            continue
        # A normal of the picture, lain down on the surface, in the frame of the texel's triangle.
        x, y = 2.0 * fine[0] / fine[3] - 1.0, 2.0 * fine[1] / fine[3] - 1.0
        z = np.sqrt(max(1.0 - x * x - y * y, 1e-6))
        tangent, away = frames[t, 0, 0], frames[t, 0, 1]
        across_x, across_y = 0.0, 0.0
        for k in range(3):
            bitangent = signs[t] * (away[(k + 1) % 3] * tangent[(k + 2) % 3] - away[(k + 2) % 3] * tangent[(k + 1) % 3])
            across_x += turn[0, k] * x * tangent[k] + turn[1, k] * y * tangent[k]
            across_y += turn[0, k] * x * bitangent + turn[1, k] * y * bitangent
        x, y, z = cover * across_x, cover * across_y, 1.0 - cover + cover * z
        ox, oy, oz = out[j, i, 0] + x, out[j, i, 1] + y, out[j, i, 2] * z
        long = np.sqrt(ox * ox + oy * oy + oz * oz)
        out[j, i, 0], out[j, i, 1], out[j, i, 2] = ox / long, oy / long, oz / long
        out[j, i, 3] = cover + (1.0 - cover) * out[j, i, 3]


def blended(base: Floats, detail: Floats) -> Floats:
    """Normals (N, 3) of a map with those of a detail on them, both in the tangent frame: slopes added, the whiteout blend
    (Barré-Brisebois and Hill, "Blending in detail", 2012)."""
    both = np.concatenate([base[:, :2] + detail[:, :2], base[:, 2:] * detail[:, 2:]], axis=1)
    return np.asarray(both / np.maximum(np.linalg.norm(both, axis=1, keepdims=True), 1e-12))


def ground_of(role: str, width: int, height: int) -> Baked:
    """The map that decals of a role lie on where there is none."""
    kind = ALL_MAPS[role]
    plain = {"colour": tuple(to_screen(np.array(PLAIN))), "opacity": (1.0,)}.get(role, kind.ground)
    # Pictures have eight bits; a plain normal has a middle in sixteen only.
    values = stored(np.array(plain)) if role == "normal" else np.rint(np.array(plain) * 255).astype(np.uint8)
    return Baked(role, np.broadcast_to(values, (height, width, kind.channels)).copy())


def laid_on(
    base: Baked, layers: Sequence[tuple[Texels, Sequence[tuple[Decal, Stencil]], RayTree | None]]
) -> Baked:  # fmt: skip
    """A map with decals of its role laid on it, layer by layer; the map itself where none of them touches it."""
    pixels = None
    for texels, laid, seen in layers:
        over = overlay(texels, laid, seen).reshape(-1, 4)
        on = np.flatnonzero(over[:, 3] > 0)
        if len(on) == 0:
            continue
        pixels = base.pixels.copy() if pixels is None else pixels
        flat = pixels.reshape(-1, pixels.shape[2])
        most = 255.0 if flat.dtype == np.uint8 else 65535.0
        below, top = flat[on].astype(np.float64) / most, over[on].astype(np.float64)
        if base.kind == "normal":
            mixed = (blended(below * 2 - 1, top[:, :3]) + 1) / 2
        else:
            put = top[:, :3] if flat.shape[1] == 3 else top[:, :3] @ np.array([[0.299], [0.587], [0.114]])
            mixed = put + (1 - top[:, 3:]) * below
        flat[on] = np.rint(np.clip(mixed, 0, 1) * most).astype(flat.dtype)
        touched = np.zeros(len(flat), np.bool_)
        touched[on] = True
        padding = touched[texels.whose]
        flat[texels.to[padding]] = flat[texels.whose[padding]]
    return base if pixels is None else replace(base, pixels=pixels)


def by_role(laid: Sequence[tuple[Decal, Stencil]]) -> Mapping[str, list[tuple[Decal, Stencil]]]:
    """Decals that show, by the map they lie in."""
    out: dict[str, list[tuple[Decal, Stencil]]] = {}
    for decal, picture in laid:
        if decal.shown and decal.strength > 0:
            out.setdefault(decal.role, []).append((decal, picture))
    return out
