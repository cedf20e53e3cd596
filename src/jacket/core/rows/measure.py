"""The measures of rows: edge rings, how long they are, how often they cross themselves, and the patches of a mesh.

A ring is what one gets by going from edge to opposite edge over quads; every quad is crossed by two, one each way, so F quads
make 2F crossings. The patches are the pieces of the base complex: all separatrices traced straight on from every irregular
point until they end (Bommes, Lempfer and Kobbelt, "Global structure optimization of quadrilateral meshes", 2011; Tarini et
al., "Simple quad domains for field aligned mesh parametrization", 2011).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from jacket.core.jit import kernel
from jacket.core.mesh.polymesh import Bools, Ints, PolyMesh
from jacket.core.mesh.walks import face_parts


@dataclass(frozen=True, eq=False)
class Rings:
    """of_edge    (E,) the number of each edge's ring
    crossings  (R,) how many quads each ring crosses, a quad crossed twice counting twice
    closed     (R,) whether it comes back to where it began
    n_quads    quads of the mesh
    own        (F,) quads crossed both ways by one ring
    """

    of_edge: Ints
    crossings: Ints
    closed: Bools
    n_quads: int
    own: Bools

    @property
    def longest(self) -> float:
        """Crossings of the longest ring in % of all."""
        return 100.0 * float(self.crossings.max(initial=0)) / max(2 * self.n_quads, 1)

    @property
    def crossed_by_itself(self) -> float:
        """Quads whose two crossings are one ring's, in % of all quads."""
        return 100.0 * float(self.own.sum()) / max(self.n_quads, 1)


def rings(mesh: PolyMesh) -> Rings:
    """The rings of a mesh; faces that are not quads end them."""
    topology = mesh.topology
    quads = np.flatnonzero(mesh.sizes == 4)
    corner = mesh.starts[:-1][quads][:, None] + np.arange(4)
    edge = topology.edge[corner]
    a, b = np.concatenate([edge[:, 0], edge[:, 1]]), np.concatenate([edge[:, 2], edge[:, 3]])
    n = topology.n_edges
    count, label = connected_components(coo_array((np.ones(len(a), np.int8), (a, b)), shape=(n, n)), directed=False)
    crossings = np.bincount(label[a], minlength=count)
    # A ring ends at an edge that has a quad on one side only.
    uses = np.bincount(edge.ravel(), minlength=n)
    closed = np.ones(count, bool)
    closed[label[uses == 1]] = False
    closed &= crossings > 0
    own = np.zeros(mesh.n_faces, bool)
    own[quads] = label[edge[:, 0]] == label[edge[:, 1]]
    return Rings(label.astype(np.int32), crossings.astype(np.int32), closed, len(quads), own)


def patch_count(mesh: PolyMesh) -> int:
    """Number of patches of the base complex; 0 for a mesh that is not of quads only. A part without irregular points is
    one patch."""
    if not mesh.is_quads or mesh.n_faces == 0:
        return 0
    return face_parts(mesh, separatrices(mesh))[0]


def separatrices(mesh: PolyMesh) -> Bools:
    """(E,) edges that lie straight on from an irregular point, inside or on the border, in a mesh of quads."""
    topology = mesh.topology
    faces = np.bincount(mesh.corners, minlength=mesh.n_points)
    border = topology.border_points
    odd = np.where(border, faces != 2, faces != 4) & (faces > 0)
    marks = np.zeros(topology.n_edges, bool)
    _traced(topology.next, topology.twin, topology.edge, mesh.corners, odd | border, odd, marks)
    return marks


@kernel
def _traced(following, twin, edge, corners, stop, odd, marks):
    for c in range(len(corners)):
        # Each edge out of an odd point, also where only the half-edge towards it is there.
        if odd[corners[c]]:
            h = c
        elif twin[c] < 0 and odd[corners[following[c]]]:
            marks[edge[c]] = True
            continue
        else:
            continue
        for _ in range(len(corners)):
            marks[edge[h]] = True
            if stop[corners[following[h]]] or twin[h] < 0:
                break
            t = twin[following[h]]
            if t < 0:
                break
            h = following[t]
