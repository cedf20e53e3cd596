"""Checks of the quads themselves."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from jacket.core.checks.model import Check, Level, graded
from jacket.core.checks.source import places_uncovered
from jacket.core.derive import HEAT_POINTS, light_of, rays_of, rings_of, surface_of, uncovered_values
from jacket.core.mesh.geometry import scaled_jacobian
from jacket.core.mesh.polymesh import Floats, PolyMesh
from jacket.core.space.bvh import Bvh
from jacket.core.space.sample import places_seen, sample_surface, uncovered_share


def not_quads(mesh: PolyMesh) -> Check:
    """Faces that do not have four corners."""
    bad = np.flatnonzero(mesh.sizes != 4)
    return Check("not-quads", "Not quads", f"{len(bad):,}", "wrong" if len(bad) else "good", "faces", bad, len(bad))


def odd_poles(mesh: PolyMesh) -> Check:
    """Inner points whose valence is not 4; high valences are wrong, a few of 3 and 5 are normal."""
    topology = mesh.topology
    inner = (topology.valence > 0) & ~topology.border_points
    odd = np.flatnonzero(inner & (topology.valence != 4))
    far = int((topology.valence[odd] > 5).sum() + (topology.valence[odd] < 3).sum())
    level: Level = "wrong" if far and (topology.valence[odd] < 3).any() else ("look" if far else "good")
    return Check("odd-poles", "Odd poles", f"{len(odd):,}", level, "points", odd, len(odd))


def open_border(mesh: PolyMesh) -> Check:
    """Borders of the jacket, in loops."""
    loops = len(mesh.topology.border_loops)
    edges = mesh.topology.border_edges
    value = f"{loops} loop{'s' if loops != 1 else ''}" if loops else "none"
    return Check("open-border", "Open border", value, "look" if loops else "good", "edges", edges, loops)


def joins(mesh: PolyMesh) -> Check:
    """Edges where more than two faces meet, or two that run against each other."""
    bad = mesh.topology.nonmanifold_edges
    return Check("joins", "Bad joins", f"{len(bad):,}", "wrong" if len(bad) else "good", "edges", bad, len(bad))


def folded(mesh: PolyMesh) -> Check:
    """Faces with a corner turned against their normal."""
    bad = np.flatnonzero(scaled_jacobian(mesh) <= 0)
    return Check("folded", "Folded", f"{len(bad):,}", "wrong" if len(bad) else "good", "faces", bad, len(bad))


def thinnest_corner(mesh: PolyMesh) -> Check:
    """The least corner angle over all faces, by scaled Jacobian (Knupp 2003)."""
    if mesh.n_faces == 0:
        return Check("thin-corner", "Thinnest corner", "none", "good")
    least = scaled_jacobian(mesh)
    angle = float(np.degrees(np.arcsin(np.clip(least.min(), -1, 1))))
    bad = np.flatnonzero(least < np.sin(np.radians(25)))
    level = graded(-angle, -25.0, -8.0)
    return Check("thin-corner", "Thinnest corner", f"{angle:.0f}°", level, "faces", bad, angle)


def loose_points(mesh: PolyMesh) -> Check:
    """Points that belong to no face yet."""
    bad = np.flatnonzero(np.bincount(mesh.corners, minlength=mesh.n_points) == 0)
    return Check(
        "loose-points", "Loose points", f"{len(bad):,}", "look" if len(bad) else "good", "points", bad, len(bad)
    )


def largest_gap(mesh: PolyMesh, surface: Bvh, diagonal: float) -> Check:
    """Largest distance from face centres and edge middles of the jacket to the source, % of diagonal."""
    if mesh.n_faces == 0 or diagonal <= 0:
        return Check("largest-gap", "Largest gap", "none", "good")
    from jacket.core.mesh.geometry import face_centres

    far = surface.closest(face_centres(mesh))[2] / diagonal * 100
    bad = np.flatnonzero(far > 1.0)
    return Check("largest-gap", "Largest gap", f"{far.max():.2f} %", graded(float(far.max()), 0.8, 3.0), "faces", bad,
                 float(far.max()))  # fmt: skip


def uncovered(
    mesh: PolyMesh, source: PolyMesh, beside: Sequence[PolyMesh] = (), finished: bool = False, count: int = 3000
) -> Check:
    """Share of the source's area that has no jacket near it, neither this layer nor those `beside` it. Of a `finished`
    jacket over a twentieth is wrong."""
    share = 100.0 * uncovered_share(source.points, source.triangle_points, [m for m in (mesh, *beside) if m.n_faces], count)
    level: Level = "wrong" if finished and share > 5 else "look" if share > 2 else "good"
    return Check("uncovered", "Uncovered", f"{share:.0f} % of source", level, number=share)


def uncovered_places(mesh: PolyMesh, jackets: list[PolyMesh]) -> list[Floats]:
    """Where a source is not covered, a part each, the largest first, as line segments (S, 2, 3) to be lit."""
    light, to = light_of(mesh, HEAT_POINTS)
    values, reach = uncovered_values(mesh, jackets)
    far = np.zeros(light.n_points)
    far[to] = values
    # The heat begins at half of a reach; what is called uncovered, at a whole one.
    return places_uncovered(light, far, 0.5 * reach)


def winding_rows(mesh: PolyMesh) -> Check:
    """The longest ring of edges in % of all crossings (`core/rows/measure.py`); one that runs over much of the form cannot be
    held, inserted or taken out as a row."""
    found = rings_of(mesh)
    if found.n_quads == 0:
        return Check("winding-rows", "Longest ring", "none", "good")
    edges = np.flatnonzero(found.of_edge == int(np.argmax(found.crossings)))
    share = found.longest
    # Few quads have few rings: what counts is how much longer one is than a row that goes once round.
    long = share if found.crossings.max() > 4.0 * np.sqrt(2.0 * found.n_quads) else 0.0
    return Check("winding-rows", "Longest ring", f"{share:.0f} % of crossings", "look" if long > 20.0 else "good", "edges", edges,
                 share)  # fmt: skip


def left_out(mesh: PolyMesh, source: PolyMesh) -> Check:
    """How far what can be seen of the source lies from the jacket at most, in % of the diagonal; the faces nearest to what is over
    1 % off."""
    if mesh.n_faces == 0 or source.diagonal <= 0 or source.n_faces == 0:
        return Check("left-out", "Ends left out", "none", "good")
    samples = sample_surface(source.points, source.triangle_points, 6000)
    _, triangle, far = surface_of(mesh).closest(samples)
    far = far / source.diagonal * 100
    seen = places_seen(samples, far, lambda: rays_of(source), source.diagonal)
    far, triangle = far[seen], triangle[seen]
    bad = np.unique(mesh.triangle_faces[triangle[far > 1.0]])
    most = float(far.max(initial=0.0))
    return Check("left-out", "Ends left out", f"{most:.2f} % at most", "look" if most > 2.0 else "good", "faces", bad, most)


def refitted_badly(mesh: PolyMesh) -> Check:
    """Points that the last refit marked as not well fitted."""
    bad = np.flatnonzero(mesh.point_data["poor"])
    return Check(
        "refitted-badly", "Refitted badly", f"{len(bad):,}", "look" if len(bad) else "good", "points", bad, len(bad)
    )


def topology_checks(
    mesh: PolyMesh, source: PolyMesh | None, surface: Bvh | None, beside: Sequence[PolyMesh] = (), finished: bool = False
) -> list[Check]:
    """Every topology check, those against the source last; `beside` are other layers that cover it too, `finished` asks
    of them to cover it whole."""
    checks = [not_quads(mesh), odd_poles(mesh), open_border(mesh), joins(mesh), thinnest_corner(mesh),
              folded(mesh), winding_rows(mesh), loose_points(mesh)]  # fmt: skip
    if "poor" in mesh.point_data:
        checks.append(refitted_badly(mesh))
    if source is not None and surface is not None:
        bare = uncovered(mesh, source, beside, finished)
        checks += [largest_gap(mesh, surface, source.diagonal), bare]
        # Of a jacket that is still being made everything is left out.
        if not beside and bare.number < 5.0:
            checks.append(left_out(mesh, source))
    return checks
