"""Setting a source upright and to size: (4, 4) matrices for column vectors, Y up."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import ConvexHull, QhullError

from jacket.core.jit import kernel
from jacket.core.mesh.edits import faces_turned
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.errors import MeshError

UNITS = {"millimetres": 0.001, "centimetres": 0.01, "inches": 0.0254, "feet": 0.3048, "metres": 1.0}
"""Lengths in metres; the inch is 25.4 mm by international agreement of 1959."""

UP_AXES = ("x", "y", "z", "-x", "-y", "-z")


def moved(points: Floats, matrix: NDArray[np.float64]) -> Floats:
    """(V, 3) points under a matrix."""
    return points @ matrix[:3, :3].T + matrix[:3, 3]


def placed(mesh: PolyMesh, matrix: NDArray[np.float64]) -> PolyMesh:
    """The mesh under a matrix; one that mirrors turns the faces round so that they stay outward."""
    result = mesh.with_points(moved(mesh.points, matrix))
    if np.linalg.det(matrix[:3, :3]) < 0:
        result = faces_turned(result, np.ones(mesh.n_faces, bool))
    return result


def scaling(factor: float) -> NDArray[np.float64]:
    """Larger or smaller about the origin."""
    if not (np.isfinite(factor) and factor > 0):
        raise MeshError(f"A size cannot change by a factor of {factor:g}; type a number over nought.")
    return np.diag([factor, factor, factor, 1.0])


def unit_scaling(unit: str) -> NDArray[np.float64]:
    """From numbers that mean `unit` to metres."""
    if unit not in UNITS:
        raise MeshError(f"Jacket does not know the unit {unit}; choose one of {', '.join(UNITS)}.")
    return scaling(UNITS[unit])


def measured_scaling(a: Floats, b: Floats, wanted: float) -> NDArray[np.float64]:
    """So that the distance between two points becomes `wanted`."""
    length = float(np.linalg.norm(np.asarray(b) - np.asarray(a)))
    if length == 0:
        raise MeshError("The two points measured are the same; click two different ones.")
    return scaling(wanted / length)


def shifting(offset: Floats) -> NDArray[np.float64]:
    """A move by (3,)."""
    out = np.eye(4)
    out[:3, 3] = offset
    return out


def up_axis_turn(axis: str) -> NDArray[np.float64]:
    """What stood along `axis` ("x" … "-z") stands along Y; quarter and half turns only, never a mirror."""
    if axis not in UP_AXES:
        raise MeshError(f"There is no axis {axis}; choose one of {', '.join(UP_AXES)}.")
    direction = np.zeros(3)
    direction["xyz".index(axis[-1])] = -1.0 if axis[0] == "-" else 1.0
    return turn_to_up(direction)


def turn_to_up(direction: Floats) -> NDArray[np.float64]:
    """The smallest turn about the origin that brings a direction to +Y (Rodrigues' formula)."""
    length = float(np.linalg.norm(direction))
    if length == 0:
        raise MeshError("The points lie on one line, so they give no ground; click three that do not.")
    x, y, z = np.asarray(direction, float) / length
    out = np.eye(4)
    if y < -1 + 1e-12:
        out[:3, :3] = np.diag([1.0, -1.0, -1.0])
        return out
    w = np.array([[0, -x, 0], [x, 0, z], [0, -z, 0]])
    turn = np.eye(3) + w + w @ w / (1 + y)
    out[:3, :3] = np.where(np.abs(turn - np.round(turn)) < 1e-15, np.round(turn), turn)
    return out


def turned_about(matrix: NDArray[np.float64], centre: Floats) -> NDArray[np.float64]:
    """The same turn about a point."""
    return shifting(centre) @ matrix @ shifting(-np.asarray(centre))


def standing(mesh: PolyMesh) -> NDArray[np.float64]:
    """Down or up so that the lowest point lies on the ground, y = 0."""
    return shifting(np.array([0.0, -float(mesh.points[:, 1].min()), 0.0]))


def centring(mesh: PolyMesh) -> NDArray[np.float64]:
    """Along the ground so that the middle of the box lies over the origin."""
    middle = mesh.middle
    return shifting(np.array([-middle[0], 0.0, -middle[2]]))


def upright_by_points(mesh: PolyMesh, ground: Floats) -> NDArray[np.float64]:
    """Three points (3, 3) of the ground become level, with most of the source above them, and y = 0."""
    normal = np.cross(ground[1] - ground[0], ground[2] - ground[0])
    size = float(np.linalg.norm(ground[1] - ground[0]) * np.linalg.norm(ground[2] - ground[0]))
    if np.linalg.norm(normal) < 1e-9 * max(size, 1e-300):
        raise MeshError("The points lie on one line, so they give no ground; click three that do not.")
    middle = mesh.middle
    if np.dot(mesh.points.mean(axis=0) - ground.mean(axis=0), normal) < 0:
        normal = -normal
    turn = turned_about(turn_to_up(normal), middle)
    return shifting(np.array([0.0, -moved(ground, turn)[:, 1].mean(), 0.0])) @ turn


def largest_flat(points: Floats, within: float = 4.0) -> tuple[Floats, float]:
    """The largest flat part a form could stand on: its outward direction (3,) and its share of the convex hull.

    Parts are facets of the hull (Barber, Dobkin and Huhdanpaa, "The quickhull algorithm", 1996) that face the same
    way within so many degrees and lie equally far out; so an open foot or a ring counts as the disk it stands on,
    and a flat place with something beyond it does not count. Among parts of about one size the lowest wins.
    """
    points = _thinned(points)
    try:
        hull = ConvexHull(points)
    except (QhullError, ValueError):
        raise MeshError("The source is flat or empty, so it cannot stand up.") from None
    corner = points[hull.simplices]
    areas = 0.5 * np.linalg.norm(np.cross(corner[:, 1] - corner[:, 0], corner[:, 2] - corner[:, 0]), axis=1)
    normals = hull.equations[:, :3]
    extent = float(np.linalg.norm(np.ptp(points, axis=0)))
    best, direction = -1.0, np.array([0.0, -1.0, 0.0])
    for k in np.argsort(-areas, kind="stable")[:60]:
        towards, area = normals[k], 0.0
        for _ in range(3):
            together, area = _facing(corner, normals, areas, np.ascontiguousarray(towards), np.cos(np.radians(within)), 0.01 * extent)
            if area == 0:
                break
            towards = together / max(float(np.linalg.norm(together)), 1e-300)
        size = area * (1.0 - 0.05 * towards[1])
        if size > best:
            best, direction = size, towards
    return direction, best / max(float(areas.sum()), 1e-300)


MANY, CELLS = 50_000, 250
"""Points from which on one of each cell will do, and cells along the longest side: a quarter of the hundredth that counts as flat."""


def _thinned(points: Floats) -> Floats:
    if len(points) < MANY:
        return points
    low = points.min(axis=0)
    cell = float(np.ptp(points, axis=0).max()) / CELLS
    if not (np.isfinite(cell) and cell > 0):
        return points
    x, y, z = np.minimum((points - low) / cell, CELLS).astype(np.int64).T
    return points[np.unique((x * (CELLS + 1) + y) * (CELLS + 1) + z, return_index=True)[1]]


@kernel
def _facing(corner, normals, areas, towards, cosine, slack):
    """Normals times areas (3,) and the area of all facets (T, 3, 3) that face a way and lie as far out along it as anything does."""
    most = -np.inf
    for t in range(len(corner)):
        for k in range(3):
            most = max(most, corner[t, k, 0] * towards[0] + corner[t, k, 1] * towards[1] + corner[t, k, 2] * towards[2])
    together, area = np.zeros(3), 0.0
    for t in range(len(corner)):
        if not normals[t, 0] * towards[0] + normals[t, 1] * towards[1] + normals[t, 2] * towards[2] > cosine:
            continue
        least = np.inf
        for k in range(3):
            least = min(least, corner[t, k, 0] * towards[0] + corner[t, k, 1] * towards[1] + corner[t, k, 2] * towards[2])
        if least > most - slack:
            area += areas[t]
            for k in range(3):
                together[k] += areas[t] * normals[t, k]
    return together, area


def standing_axis(points: Floats) -> str:
    """The axis ("x", "y", "z", with a minus where it points down) along which a form seems to stand: its largest
    flat part lies across it within 5°. Nothing where no part is a 50th of the hull."""
    try:
        direction, share = largest_flat(points)
    except MeshError:
        return ""
    axis = int(np.argmax(np.abs(direction)))
    if share < 0.02 or abs(direction[axis]) < np.cos(np.radians(5)):
        return ""
    return ("" if direction[axis] < 0 else "-") + "xyz"[axis]


def upright_by_flat(mesh: PolyMesh) -> NDArray[np.float64]:
    """Stand the source on its largest flat part."""
    direction, share = largest_flat(mesh.points)
    if share < 0.01:
        raise MeshError("There is no flat part to stand on; click three ground points instead.")
    middle = mesh.middle
    turn = turned_about(turn_to_up(-direction), middle)
    return shifting(np.array([0.0, -float(moved(mesh.points, turn)[:, 1].min()), 0.0])) @ turn
