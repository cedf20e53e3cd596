"""Faults put into the code one by one, and whether the tests notice: `python -m bench faults`.

Each is a small change of a copy of `src/`; the tests that should see it are run against that copy. A fault that is not
noticed is a gap in the tests; one whose text is no longer there has to be put elsewhere.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent


@dataclass(frozen=True)
class Fault:
    """A text in a file under src/jacket, what stands there instead, and the tests (a file, and words for -k)."""

    file: str
    old: str
    new: str
    tests: str
    words: str = ""


FAULTS = (
    Fault("formats/mesh/glb.py", "np.stack([flat[:, 0], 1.0 - flat[:, 1]]", "np.stack([1.0 - flat[:, 0], 1.0 - flat[:, 1]]",
          "tests/formats/mesh/test_registry.py", "glb"),
    Fault("formats/mesh/numbers.py", "return p + (e + (value * low + rest * high))", "return p",
          "tests/formats/mesh/test_registry.py", "numbers or bits"),
    Fault("formats/mesh/obj.py", "rows = rows_of_text(mesh.points)", 'rows = ["%.9g %.9g %.9g" % tuple(r) for r in mesh.points.tolist()]',
          "tests/formats/mesh/test_registry.py", "bits"),
    Fault("formats/atomic.py", "os.fchmod(file.fileno(), mode)", "pass", "tests/formats/test_atomic.py"),
    Fault("formats/atomic.py", "target = Path(os.path.realpath(path))", "target = path", "tests/formats/test_atomic.py"),
    Fault("formats/project/container.py", "if kind.kind not in KINDS or not 0 <= info.file_size - length <= 4096", "if kind.kind not in KINDS",
          "tests/formats/project/test_records.py", "forged"),
    Fault("formats/project/records.py", "label.max() >= len(table)", "label.max() > len(table)", "tests/formats/project/test_records.py"),
    Fault("document/history.py", "self.done.append(Step(name, before))\n        self.undone.clear()", "self.done.append(Step(name, before))",
          "tests/document/test_document.py"),
    Fault("document/edits/sources.py", "guides=tuple(replace(g, points=moved_places(g.points, matrix)) for g in s.guides),", "",
          "tests/document/test_document.py"),
    Fault("document/task.py", "if self.document.in_gesture:", "if False:", "tests/document/test_task.py"),
    Fault("qt/checking.py", "if self.program.stage.id != stage or not self._holds(state):", "if self.program.stage.id != stage:",
          "tests/qt/test_monkey.py", "what_was_found"),
    Fault("qt/checking.py", "if not self._holds(self._looked_at) or program.document.in_gesture:", "if program.document.in_gesture:",
          "tests/qt/test_monkey.py", "out_of_date"),
    Fault("qt/following.py", "            parts.form.drop_drag()\n", "", "tests/qt/test_monkey.py", "drag_ends"),
    Fault("qt/window.py", "                changed.connect(self.hover_timer.start)\n", "                pass\n", "tests/qt/test_monkey.py", "ghost"),
    Fault("qt/files/filing.py", "return only_passing(before, self.program.document.state) or self.may_leave()", "return True",
          "tests/qt/files/test_saving.py", "loads"),
    Fault("qt/files/keeping.py", "if not _held(file.with_suffix(\".lock\"))", "", "tests/qt/files/test_saving.py", "running"),
    Fault("core/uv/sets.py", "if t < 0 or out[edge[c]]:", "if t < c or out[edge[c]]:", "tests/core/seams/test_cuts.py"),
    Fault("core/source/simplify.py", "        if not _link_is_safe(tris, alive, start, count, pool, a, b, mark, stamp):",
          "        if False:", "tests/core/source/test_mend.py", "thin_tube"),
    Fault("core/flatten/stretch.py", "(s1**-2 + s2**-2) / 2,", "(s1**2 + s2**2) / 2,", "tests/core/flatten/test_stretch.py"),
    Fault("core/flatten/stretch.py", "np.log2(flat / real / mean[labels])", "-np.log2(flat / real / mean[labels])",
          "tests/core/flatten/test_stretch.py"),
    Fault("core/space/enclosing.py", "float(-angles[k])", "float(angles[k])", "tests/core/layout/test_pack.py", "smallest_box"),
    Fault("core/checks/topology.py", "(topology.valence[odd] > 5)", "(topology.valence[odd] > 6)", "tests/core/checks/test_topology.py"),
    Fault("core/quads/base.py", "flip ^= inside_out(mesh, count, labels)[labels]", "pass", "tests/core/quads/test_auto.py", "inside_out"),
    Fault("core/source/health.py", "out[k] = not (around & (volumes[outer] > -volumes[k])).any()", "pass", "tests/cli/test_hostile.py", "hollow"),
    Fault("core/mesh/rows.py", "    return _sound(mesh, _with_rows(mesh, mesh.points[~drop], point_to, touched, moved))",
          "    return _with_rows(mesh, mesh.points[~drop], point_to, touched, moved)", "tests/core/mesh/test_rows.py", "third"),
    Fault("stages/topology/tools/moving.py", 'out = levelled(out, low, "xyz".index(axis), 0.0, surface)', "pass",
          "tests/stages/topology/test_gestures.py", "21 or 6"),
    Fault("core/mesh/cleaning.py", "good = np.delete(good, hit[np.unique(good[hit, 1], return_index=True)[1]], axis=0)",
          "good = good[:0]", "tests/core/mesh/test_cleaning.py"),
    Fault("cli/outputs.py", "if where in read and not force:", "if False:", "tests/cli/test_hostile.py", "writes_over"),
    Fault("cli/numbers.py", "or not low <= value <= high", "or not low <= value", "tests/cli/test_hostile.py", "range_says"),
    Fault("core/rows/measure.py", "own[quads] = label[edge[:, 0]] == label[edge[:, 1]]", "own[quads] = label[edge[:, 0]] == label[edge[:, 2]]",
          "tests/core/rows/test_measure.py"),
    Fault("core/rows/metric.py", "np.tile([1.0, 1, -1, -1], len(edge))", "np.tile([1.0, -1, -1, 1], len(edge))",
          "tests/core/rows/test_layout.py"),
    Fault("core/rows/rebuild.py", "ids = ids[::-1] if piece.reverse else ids", "ids = ids", "tests/core/rows/test_layout.py"),
    Fault("core/rows/lattice.py", "gram[m, k] -= q * gram[m, j]", "gram[m, k] += q * gram[m, j]", "tests/core/rows/test_layout.py", "reduced"),
    Fault("core/quads/closing.py", "now.folded <= before.folded", "True", "tests/core/quads/test_unwinding.py", "gets_worse"),
    Fault("core/quads/unwinding.py", "held &= shared[region.topology.edge_points].all(axis=1)", "held[:] = False",
          "tests/core/quads/test_unwinding.py", "border"),
    Fault("core/quads/ends.py", "            if new is None:\n", "            if True:\n", "tests/core/quads/test_ends.py"),
    Fault("core/layout/pack.py", "    if closed:\n", "    if False:\n", "tests/core/layout/test_closed.py"),
    Fault("core/layout/parting.py", "if rounds <= 0 or 2.0 * gone <= slack", "if rounds <= 0 or 2.0 * gone <= 1e9", "tests/core/layout/test_squeeze.py", "settling"),
    Fault("core/layout/rooms.py", "goal[k] += weight * given[k]", "goal[k] += given[k]", "tests/core/layout/test_search.py", "cover"),
    Fault("core/layout/rooms.py", " or at[5] != scale[j]", "", "tests/core/layout/test_search.py", "cover"),
    Fault("core/layout/rooms.py", "down = row * step if a == 1 else 0", "down = row if a == 1 else 0", "tests/core/layout/test_search.py", "cheapest_turnings"),
    Fault("core/layout/rooms.py", "total, begin = (sums[e], first)", "total, begin = (sums[e], 0)", "tests/core/layout/test_search.py", "cheapest_turnings"),
    Fault("core/layout/rooms.py", "(column % step) * rows * wide + column // step", "(column % step) * rows * wide + column // 2", "tests/core/layout/test_search.py", "cheapest_turnings"),
    Fault("core/layout/pieces.py", " or area >= BOX * float(box.prod())", "", "tests/core/layout/test_upright.py", "wavering"),
    Fault("core/layout/pack.py", "> STANDING * float(self.room.sizes.max())", "> 9e9", "tests/core/layout/test_upright.py", "longer_than"),
    Fault("core/layout/squeeze.py", "bound[2::3] *= self.turning", "bound[2::3] *= 1", "tests/core/layout/test_upright.py", "stand_and"),
    Fault("core/layout/search.py", "parts = int(self.freedom.turns[k])", "parts = 0", "tests/core/layout/test_upright.py", "stand_and"),
    Fault("core/layout/parting.py", "rim[a] if turning[ids[a]] else 0.0", "rim[a]", "tests/core/layout/test_upright.py", "stand_and"),
    Fault("core/layout/clusters.py", "any(p.upright for p in rows)", "False", "tests/core/layout/test_upright.py", "group"),
    Fault("core/layout/clusters.py", "min(turns, 4) if u else turns", "turns", "tests/core/layout/test_upright.py", "stand_and or group"),
    Fault("core/seams/walls.py", "BORDER, BENT, FULLY = 0.08", "BORDER, BENT, FULLY = 0.0", "tests/core/seams/test_walls.py", "flanks"),
    Fault("core/seams/walls.py", "costs[here, b], costs[here, a]])", "costs[here, a], costs[here, b]])", "tests/core/seams/test_walls.py", "least"),
    Fault("core/seams/walls.py", "walls >= BOXY * whole", "True", "tests/core/seams/test_walls.py", "round"),
    Fault("core/seams/suggest.py", "np.minimum(tailor.cost, BETWEEN_WALLS * tailor.length)", "tailor.cost", "tests/core/seams/test_walls.py", "crate_is"),
    Fault("core/layout/squeeze.py", "SURPLUS = 3e-5", "SURPLUS = -3e-2", "tests/core/layout/test_squeeze.py"),
    Fault("core/layout/squeeze.py", "d, wx, wy = -d, -wx, -wy", "pass", "tests/core/layout/test_search.py", "circles"),
    Fault("core/layout/twins.py", "abs(diagonal[h] - d)", "0.0 * d", "tests/core/layout/test_twins.py"),
    Fault("core/checks/layout.py", "stacks[one] != stacks[other]", "True", "tests/core/checks/test_layout.py"),
    Fault("core/layout/pieces.py", "bonds.weigh[k] = record.weigh", "pass", "tests/stages/layout", "denser"),
    Fault("core/uv/chart.py", "len(self.border) == 1 and euler_characteristic(self.mesh) == 1", "len(self.border) == 1", "tests/core/flatten"),
    Fault("core/flatten/starts.py", "values += [half / np.maximum(la, 1e-300), half / np.maximum(lb, 1e-300)]",
          "values += [half / np.maximum(lb, 1e-300), half / np.maximum(la, 1e-300)]", "tests/core/flatten"),
    Fault("core/mesh/smooth.py", "left[children] = sharp[hard] - 1", "left[children] = sharp[hard]", "tests/core/mesh/test_smooth.py"),
    Fault("core/mesh/choosing.py", "[*np.flatnonzero(degree <= 1).tolist(), *range(len(ids))]", "range(len(ids))", "tests/core/mesh/test_choosing.py"),
    Fault("core/strokes/weave.py", "near = reach if pairs[a] == pairs[b] else 0.4 * reach", "near = reach", "tests/core/strokes"),
    Fault("core/quads/curvature.py", "strength * np.log(np.maximum(largest * length / FLAT, 1e-6))", "-strength * np.log(np.maximum(largest * length / FLAT, 1e-6))",
          "tests/core/quads/test_curvature.py", "closer"),
    Fault("qt/files/keeping.py", "key=lambda kept: -kept.when", "key=lambda kept: kept.when", "tests/qt/files/test_saving.py", "listed"),
    Fault("core/space/raster.py", "ra, rb, rc = 1.0 / at[a, 2], 1.0 / at[b, 2], 1.0 / at[c, 2]", "ra, rb, rc = 1.0, 1.0, 1.0", "tests/core/space/test_raster_nearest.py"),
    Fault("core/flatten/brushing.py", "sign = 1.0 if area > 0 else -1.0", "sign = 1.0", "tests/core/flatten/test_brushing.py"),
    Fault("core/flatten/editing.py", "~faces[mesh.face_of_corner[twin]]", "faces[mesh.face_of_corner[twin]]", "tests/core/flatten/test_editing.py"),
    Fault("core/mesh/support.py", "share * wide / now[a, b]", "share", "tests/core/mesh/test_support.py"),
    Fault("core/mesh/nodes.py", "q = np.array([-y, x, 0.0, 1.0 + z])", "q = np.array([y, -x, 0.0, 1.0 + z])", "tests/stages/deliver/test_handing.py"),
    Fault("commands/beside.py", "            return present or j\n", "            return j\n", "tests/commands/test_beside.py"),
    Fault("document/state.py", "if j.coarser_of not in ids)", ")", "tests/stages/deliver/test_handing.py", "levels"),
    Fault("jobs/bake.py", "out = [([x], [s for s in sources if s.name == paired[x.name]]) for x in layers if x.name in paired]", "out = []",
          "tests/jobs/test_bake.py", "pairs"),
    Fault("qt/files/claims.py", "if self._claim is not None and self._claim.path == Path(path):\n            return \"\"\n        try:\n            new",
          "if True:\n            self.let_go()\n        try:\n            new", "tests/qt/files/test_saving.py", "refused"),
    Fault("core/bake/laying.py", "s * width - 0.5, (1.0 - r) * height - 0.5", "s * width - 0.5, r * height - 0.5", "tests/core/bake/test_decals.py"),
    Fault("core/bake/laying.py", "times = eye / (eye - c) if eye > 0 else 1.0\n            s =", "times = 1.0\n            s =", "tests/core/bake/test_decals.py"),
    Fault("core/bake/laying.py", "            spots = spots.kept(_open(spots, decal, seen, texels.target))\n", "            pass\n", "tests/core/bake/test_decals.py"),
    Fault("core/bake/laying.py", "flat[texels.to[padding]] = flat[texels.whose[padding]]", "pass", "tests/core/bake/test_decals.py"),
    Fault("core/bake/decals.py", "side = -1.0 if np.linalg.det(matrix[:3, :3]) < 0 else 1.0", "side = 1.0", "tests/core/bake/test_decals.py"),
    Fault("stages/deliver/keeping.py", "true = not is_stale(baked, host.document.state, values)", "true = True", "tests/formats/project/test_maps.py"),
    Fault("formats/project/maps.py", "info.file_size > ROOM + 260 * info.compress_size", "False", "tests/formats/project/test_maps.py"),
    Fault("core/flatten/sliding.py", "first, second = (a, b) if side == 0 else (b, a)", "first, second = (a, b)", "tests/stages/flatten/test_slide_and_cast.py"),
    Fault("core/flatten/mirroring.py", "place[own] = (place[own] + after[ids[own]]) / 2", "pass", "tests/core/flatten/test_mirroring.py"),
    Fault("core/flatten/mirroring.py", "ids = np.flatnonzero(lead & ~pinned[fans[there]])", "ids = np.flatnonzero(lead)", "tests/core/flatten/test_mirroring.py"),
    Fault("core/uv/projections.py", "spread, axes = np.linalg.eigh(", "spread, axes = np.linalg.eigh(-", "tests/stages/flatten/test_slide_and_cast.py"),
    Fault("core/flatten/energies.py", "way[k] += more * step[k]", "way[k] -= more * step[k]", "tests/core/flatten"),
    Fault("qt/scene/boards.py", "state.sheet.width / max(state.sheet.height, 1)", "1.0", "tests/qt/scene/test_boards.py"),
    Fault("core/source/whole.py", "return np.asarray((large | ~hangs)[patch])", "return np.asarray(large[patch])", "tests/core/source/test_whole.py", "flaps"),
    Fault("core/source/whole.py", "alike = np.flatnonzero(way == np.sign(net)[row])", "alike = np.arange(len(way))", "tests/core/source/test_whole.py", "flaps"),
    Fault("core/source/whole.py", "    middle[twin[paired]] = middle[paired]\n", "", "tests/core/source/test_whole.py", "plate"),
    Fault("core/source/whole.py", "while len(one) > 1 and len(other) > 1 and one[-2] == other[-2]:", "while False:", "tests/core/source/test_whole.py", "torus or handles"),
    Fault("core/source/winding.py", "if not forward[k]:", "if forward[k]:", "tests/core/source/test_whole.py", "boxes or plate"),
    Fault("core/source/skin.py", "way[n] = -1 if u > 0 else 1", "way[n] = 1 if u > 0 else -1", "tests/core/source/test_whole.py", "wound or union"),
    Fault("core/source/skin.py", "    _fill_pockets(full)\n", "", "tests/core/source/test_whole.py", "pocket"),
    Fault("core/space/rays.py", "int(np.ceil(HIDDEN * HIDDEN_RAYS))", "HIDDEN_RAYS + 1", "tests/core/source/test_whole.py", "outside_sees"),
    Fault("core/space/sample.py", "seen[suspect] = ~rays()", "seen[suspect] = rays()", "tests/core/source/test_whole.py", "outside_sees"),
    Fault("core/quads/fitting.py", "        mesh = after.with_points(np.where(back[:, None], before.points, after.points))\n", "", "tests/core/quads/test_ends.py"),
    Fault("formats/curves.py", "(c / size * [1, -1] + [0, 1])", "(c / size)", "tests/core/uv/test_curves.py"),
    Fault("core/uv/curves.py", "if far[k] > chord:", "if far[k] > 3 * chord:", "tests/core/uv/test_curves.py"),
    Fault("core/uv/curves.py", "(label[which][1:] != label[which][:-1])", "False", "tests/core/uv/test_curves.py"),
    Fault("stages/deliver/tools/probe.py", "            baked = dressed(baked, jacket, state)\n", "            pass\n", "tests/stages/deliver/test_decal.py", "probe"),
    Fault("core/rows/wires.py", "        to[a], cross[a] = log[1][k], log[2][k]\n", "        to[a] = log[1][k]\n", "tests/core/rows/test_wires.py"),
    Fault("core/rows/wires.py", "        width[p], height[p] = log[3][q], log[4][q]\n", "        width[p] = log[3][q]\n", "tests/core/rows/test_wires.py"),
    Fault("core/rows/wires.py", "            if unit == first or total > limit:", "            if unit == first or total >= 0.5 * limit:", "tests/core/rows/test_wires.py"),
    Fault("core/rows/wires.py", "                        count += own[ring[i]]", "                        count += 1", "tests/core/rows/test_wires.py"),
    Fault("core/rows/rebuild.py", "numbered([k for k, stays in enumerate(fixed) if stays], True)", "numbered([k for k, stays in enumerate(fixed) if stays], False)",
          "tests/core/rows/test_layout.py", "held_border"),
    Fault("core/rows/rebuild.py", "first[:, 3], second[:, 2]], axis=1)", "first[:, 3], second[:, 0]], axis=1)", "tests/core/rows/test_layout.py", "two_quads"),
    Fault("core/quads/ends.py", "if after[k] < far[k] and after.max()", "if after[k] >= far[k] and after.max()", "tests/core/quads/test_ends.py", "spike"),
    Fault("core/quads/ends.py", "if new is None and wholes == WHOLE and far[k] > MUCH * reach:", "if False:", "tests/core/quads/test_ends.py", "rim"),
    Fault("core/quads/ends.py", "        refused |= np.linalg.norm(places", "        break\n        refused |= np.linalg.norm(places", "tests/core/quads/test_ends.py", "passed_over"),
    Fault("core/quads/ends.py", " and np.percentile(scaled_jacobian(new), 1) >= first:", ":", "tests/core/quads/test_ends.py", "passed_over"),
    Fault("commands/keys.py", "if tool.id not in out:", "if True:", "tests/qt/test_panel.py", "search_finds_tools"),
    Fault("stages/flatten/tools/carrying.py", "if not np.nanmin(far, initial=np.inf) <= CATCH:", "if True:", "tests/stages/flatten/test_flat_tools.py", "dart"),
    Fault("stages/flatten/tools/carrying.py", "self._ids = np.unique([own, self._other])", "pass", "tests/stages/flatten/test_flat_tools.py", "dart"),
    Fault("core/quads/fitting.py", "        if not (rows_stay and max(windings(loose)) > max(windings(quads)) + 0.5):\n", "        if True:\n",
          "tests/core/quads/test_fitting.py"),
    Fault("core/mesh/tables.py", "good &= np.isfinite(table[:, k])", "good |= np.isfinite(table[:, k])", "tests/core/mesh/test_tables.py"),
    Fault("core/mesh/tables.py", "if x < low[k] or x != x:", "if x < low[k]:", "tests/core/mesh/test_tables.py"),
    Fault("core/mesh/walks.py", "            root[b] = a\n        else:", "            root[b] = b\n        else:", "tests/core/mesh/test_walks.py"),
    Fault("core/mesh/walks.py", "elif twin[c] == -2 and across_bad:", "elif twin[c] == -2:", "tests/core/mesh/test_walks.py"),
    Fault("core/uv/projections.py", "away -= 2 * np.pi * np.floor(away / (2 * np.pi) + 0.5)", "pass", "tests/core/uv/test_projections.py"),
    Fault("core/flatten/stretch.py", "angle = 0.5 * np.arctan2(2 * g, e - h)", "angle = np.arctan2(2 * g, e - h)", "tests/core/flatten/test_stretch.py"),
    Fault("core/solve/frontal.py", "column[r] = value if abs(value) > tiny else 0.0", "column[r] = value if abs(value) > 1e-3 else 0.0", "tests/core/solve/test_frontal.py"),
    Fault("core/solve/frontal.py", "self._left[0][top : top + size] = self._left[1][:size]", "pass", "tests/core/solve/test_frontal.py", "threads"),
    Fault("core/solve/frontal.py", "x[end:] += other[end:]", "pass", "tests/core/solve/test_frontal.py"),
    Fault("core/flatten/energies.py", "power -= over / (a * np.sinh(2 * power * a) + b * np.sinh(2 * power * b))", "power -= over / (a * np.sinh(2 * power * a))", "tests/core/flatten/test_editing.py", "shapes_between"),
    Fault("core/solve/frontal.py", "if not pivot > 0.0:", "if pivot == 0.0:", "tests/core/solve/test_frontal.py"),
    Fault("core/quads/creases.py", "(whole[part_of_run] >= HARD) | (share >= CLEAR)", "np.ones(len(share), bool)", "tests/core/quads/test_curvature.py", "stand_out"),
    Fault("core/quads/creases.py", "face_parts(mesh)[1][mesh", "0 * face_parts(mesh)[1][mesh", "tests/core/quads/test_curvature.py", "stand_out"),
    Fault("core/quads/gridmap.py", "push -= regular[:, done] @ out[done]", "pass", "tests/core/quads/test_auto.py"),
    Fault("core/flatten/energies.py", "more = steps[m], along[m] - shares[m] * _product(turns[m], way)", "more = steps[m], along[m]", "tests/core/flatten/test_flatten.py", "corrections"),
    Fault("core/flatten/overlap.py", "return len(overlapping_faces(chart.mesh, corners)) > 0", "return True", "tests/core/flatten/test_flatten.py", "touch"),
    Fault("core/flatten/starts.py", "((2 * i, 2 * j + 1, -1), (2 * j, 2 * i + 1, 1))", "((2 * i, 2 * j + 1, 1), (2 * j, 2 * i + 1, -1))", "tests/core/flatten"),
    Fault("qt/looking.py", "elif display.cage and self.program.stage.id", "elif False and self.program.stage.id", "tests/qt/test_looking.py", "cage"),
    Fault("cli/deliver_verbs.py", "x.decals and not options.bare", "x.decals", "tests/cli/test_deliver_verbs.py", "decals"),
    Fault("core/quads/creases.py", "breaks < 0.1 * most * length", "breaks < np.inf", "tests/core/quads/test_curvature.py", "crumbled"),
    Fault("core/quads/creases.py", "bend[:-1], bend[1:]) < 0)", "bend[:-1], bend[1:]) > 0)", "tests/core/quads/test_curvature.py", "crumbled"),
    Fault("core/space/bvh.py", "axis, longest = k, high - low", "axis, longest = 0, high - low", "tests/core/space/test_bvh.py", "halved"),
    Fault("core/space/bvh.py", "        if middle <= j:\n            right = j\n", "        if middle < j:\n            right = j\n", "tests/core/space/test_bvh.py", "halved"),
    Fault("document/document.py", "            self._gathered |= changed\n            return\n", "            self._gathered |= changed\n", "tests/document/test_document.py", "transaction"),
    Fault("core/derive.py", "return STORE.get(form_of(mesh), key, lambda: find_twins", "return STORE.get(layout_of(mesh), key, lambda: find_twins", "tests/core/layout/test_twins.py", "stay_known"),
    Fault("core/quads/closing.py", "self._if_reached(over.ends.pull(mesh), mesh, now)", "mesh, now", "tests/core/quads/test_unwinding.py", "end_that_is_short"),
    Fault("core/source/placing.py", "            area += areas[t]\n", "            area = areas[t]\n", "tests/core/source/test_mend.py", "foot"),
    Fault("formats/deliver/picture.py", "end = min(top + BAND, tall)", "end = min(top + BAND - 1, tall)", "tests/formats/deliver/test_picture.py", "bands"),
    Fault("qt/outlining.py", "theirs & ~ours, ours & ~theirs", "ours & ~theirs, theirs & ~ours", "tests/qt/test_hand_window.py", "shown"),
    Fault("core/rows/uncrossing.py", "np.where(after, out, (out + 1) % 4), faces[p]", "np.where(after, (out + 1) % 4, out), faces[p]", "tests/core/rows/test_uncrossing.py", "two_rings"),
    Fault("core/rows/uncrossing.py", "    good &= ~(stay[a] & stay[c])\n", "", "tests/core/rows/test_uncrossing.py", "never_joined"),
    Fault("core/quads/uncrossed.py", "if max(windings(mesh)) > REACHED else None", "if max(windings(mesh)) > 100 else None", "tests/core/rows/test_uncrossing.py", "long_rings"),
    Fault("core/seams/cutting.py", "COMPACT if compact else 0.62", "0.62", "tests/core/seams/test_suggest.py", "many_walls"),
    Fault("core/seams/cutting.py", "work.settings.most >= USUAL and ", "", "tests/core/seams/test_suggest.py", "many_walls or developable"),
    Fault("core/seams/sewing.py", "    if len(parts) < 2:\n        return 1.0\n", "    return 1.0\n", "tests/core/seams/test_suggest.py", "way_round"),
    Fault("core/layout/pack.py", "*found.before, ", "", "tests/core/layout/test_pack.py", "exact_end_fails"),
    Fault("core/seams/joining.py", "            refused.clear()\n", "", "tests/core/seams/test_sewing.py", "asked_again"),
    Fault("core/seams/joining.py", "share[sides].min(axis=1) < SCRAP", "share[sides].min(axis=1) < 0.9", "tests/core/seams/test_sewing.py", "scraps"),
    Fault("core/seams/cutting.py", "afresh = steps > QUICK", "afresh = False", "tests/core/seams/test_sewing.py", "opens_only"),
    Fault("core/seams/cutting.py", "len(work.tailor.parts()) > walls)", "False)", "tests/core/seams/test_suggest.py", "long_bar"),
    Fault("core/seams/cutting.py", "tailor.cut, tailor.watch = cut.copy(), unwatched", "tailor.cut, tailor.watch = cut, unwatched",
          "tests/core/seams/test_suggest.py", "strips_longer or limbs or developable"),
    Fault("core/seams/joining.py", "least = SHORT if len(rows) > CROWD else 0", "least = 0", "tests/core/seams/test_sewing.py", "asked_once"),
    Fault("core/seams/cutting.py", "    before = None\n", "    before = np.zeros_like(keep)\n", "tests/core/seams/test_sewing.py", "sewn_whole"),
    Fault("core/source/health.py", "closed | ~uneven & (area <= OPENING * own)", "closed", "tests/core/source/test_mend.py", "small_cut"),
    Fault("core/source/health.py", "np.cross(end, begin)) / 6.0", "np.cross(begin, end)) / 6.0", "tests/core/source/test_mend.py", "small_cut"),
    Fault("core/seams/ridges.py", "for _ in range(EVENED):", "for _ in range(0):", "tests/core/seams/test_networks.py", "box_part"),
    Fault("core/seams/ridges.py", "ON, MIDDLE = 0.2, 0.1", "ON, MIDDLE = 9.0, 0.1", "tests/core/seams/test_networks.py", "evenly"),
    Fault("core/seams/ridges.py", "to = max(shared[small]", "to = min(shared[small]", "tests/core/seams/test_networks.py", "small_walls"),
    Fault("core/seams/cutting.py", "cut.worth + WASTE / max(use, 1e-3)", "cut.worth", "tests/core/seams/test_networks.py", "half_of_the_sheet"),
    Fault("core/seams/cutting.py", "len(cut.parts) >= work.settings.most or ", "", "tests/core/seams/test_networks.py", "has_to_pay or halved"),
    Fault("core/seams/cutting.py", "hollow > HOLLOW * whole > HOLLOW * MOST * work.widest**2 if", "False if", "tests/core/seams/test_networks.py", "halved"),
    Fault("core/seams/cutting.py", "LITTLE, MOST = 0.16, 0.32", "LITTLE, MOST = 0.16, 0.0", "tests/core/seams/test_networks.py", "half_of_the_sheet"),
    Fault("core/seams/work.py", "max(self.solidity, self.full) if", "self.solidity if", "tests/core/seams/test_networks.py", "halved"),
    Fault("core/seams/cutting.py", "work.tailor.whole < LITTLE", "work.tailor.whole < 0 * LITTLE", "tests/core/seams/test_networks.py", "small_parts"),
    Fault("core/space/enclosing.py", "angle + np.linspace(-np.pi / 2, np.pi / 2, BETWEEN) / BETWEEN", "np.array([angle])", "tests/core/seams/test_networks.py", "smallest_square"),
    Fault("core/seams/joining.py", "settled[work.tailor.faces[chain]].all()", "True", "tests/core/seams/test_sewing.py", "known"),
    Fault("core/quads/base.py", "return max(self.mesh.diagonal, self.among)", "return self.mesh.diagonal", "tests/core/quads/test_ends.py", "told"),
    Fault("core/quads/covering.py", "among=PART_STEPS * length))  # fmt", "among=0.0))  # fmt", "tests/core/quads/test_ends.py", "of_the_steps"),
    Fault("core/quads/covering.py", "[replace(base, among=PART_STEPS * length)]", "[base]", "tests/core/quads/test_ends.py", "of_the_steps"),
    Fault("core/quads/grids.py", "long is not None and long.missed <= MISSED", "False", "tests/core/quads/test_slender.py", "drawn_out"),
    Fault("core/quads/covering.py", "laid = quads if found.drawn_out else finish.fitted(quads)", "laid = finish.fitted(quads)", "tests/core/quads/test_slender.py", "drawn_out"),
    Fault("core/quads/slender.py", "before, step = step, float", "before, _ = step, float", "tests/core/quads/test_slender.py", "gets_room"),
    Fault("core/quads/base.py", "(tears.torn or anyway)", "tears.torn", "tests/core/quads/test_auto.py", "no_grid_fits"),
    Fault("core/quads/covering.py", "1000) > INSIDE:", "1000) > 2.0:", "tests/core/quads/test_auto.py", "no_grid_fits"),
    Fault("core/quads/covering.py", "settings.skin and base.tears is None and", "base.tears is None and", "tests/core/quads/test_auto.py", "no_grid_fits"),
    Fault("core/seams/work.py", "and laid.strip <= self.long", "", "tests/core/seams/test_suggest.py", "strips"),
    Fault("qt/collecting.py", "if not self._at_rest() or len", "if len", "tests/qt/test_collecting.py"),
    Fault("qt/collecting.py", "        gc.collect()\n        gc.freeze()\n", "        gc.collect()\n", "tests/qt/test_collecting.py"),
    Fault("qt/looking.py", "        heated(heat.mesh, heat, self.form.palette_)\n", "        pass\n", "tests/qt/test_looking.py", "heat"),
    Fault("core/layout/parting.py", "+ around + 2.0 * stock.cell[j] * scale <= 0.0", "+ 0.5 * around <= 0.0", "tests/core/layout/test_search.py", "runs"),
    Fault("core/mesh/polymesh.py", "keys - (first << 32)], axis=1)", "keys - (first << 31)], axis=1)", "tests/core/seams/test_cuts.py"),
    Fault("qt/turns.py", "            self._paints = True\n", "", "tests/qt/test_turns.py"),
    Fault("qt/turns.py", "            self._waiting.pop(name, None)\n", "            pass\n", "tests/qt/test_turns.py"),
    Fault("core/mesh/walks.py", "if len(stop) and stop[e]:", "if False:", "tests/core/mesh/test_walks.py", "loop"),
    Fault("core/mesh/walks.py", "straight = start[p + 1] - start[p] == 4 and not border[p]", "straight = start[p + 1] - start[p] == 4",
          "tests/core/mesh/test_walks.py", "loop"),
    Fault("core/mesh/unique.py", "np.asarray(rows).T[::-1]", "np.asarray(rows).T", "tests/core/mesh/test_walks.py", "equal_rows"),
    Fault("core/mesh/cleaning.py", "if goes[a] < 0 and goes[b] < 0:", "if goes[b] < 0:", "tests/core/mesh/test_cleaning.py"),
    Fault("core/quads/ends.py", "moved[face] | (far > 0.5 * reach)", "far > 0.5 * reach", "tests/core/quads/test_ends.py", "lies_off"),
    Fault("core/quads/reaching.py", "drawn = np.union1d(nearest, quad)", "drawn = np.unique(quad)", "tests/core/quads/test_ends.py", "eased or opened"),
    Fault("core/quads/reaching.py", "np.array([1.0, 0.6, 0.3, 0.0])", "np.array([1.0, 0.0])", "tests/core/quads/test_ends.py", "eased or opened"),
    Fault("core/quads/reaching.py", "if not (off > from_).any():", "if False:", "tests/core/quads/test_ends.py", "short_by"),
    Fault("core/quads/reaching.py", "drawn = share < 1.0", "drawn = share < 0.0", "tests/core/quads/test_ends.py", "eased or opened"),
    Fault("core/quads/reaching.py", "        points[part] = surface.project(points[part])\n", "", "tests/core/quads/test_steering.py", "exact_pairs_along"),
    Fault("core/quads/reaching.py", "np.maximum(off, min(most, float(off.max(initial=0.0))))", "np.maximum(off, np.inf)",
          "tests/core/quads/test_ends.py", "eased or opened"),
    Fault("core/quads/uncrossed.py", "return bool((now <= np.maximum(then, self.far)).all())", "return True",
          "tests/core/rows/test_uncrossing.py", "tips"),
    Fault("progress.py", "        at[0] = fraction\n", "", "tests/core/quads/test_ends.py", "horns_are_reached"),
    Fault("core/quads/ends.py", "free = _free_corners(quads, tip, face, ~slides) + free", "free = free", "tests/core/quads/test_ends.py", "slides_along"),
    Fault("core/fit/relax.py", "x, y, z = x - dot * ways[p, 0], y - dot * ways[p, 1], z - dot * ways[p, 2]", "x, y, z = 2 * x, 2 * y, 2 * z",
          "tests/core/fit/test_relaxing.py"),
    Fault("core/fit/relax.py", "x, y, z = dot * ways[p, 0], dot * ways[p, 1], dot * ways[p, 2]", "x, y, z = 0.0, 0.0, 0.0", "tests/core/fit/test_relaxing.py"),
    Fault("core/fit/relax.py", "use = np.concatenate([rim, rim]) | ~border[a]", "use = np.ones(len(a), bool)", "tests/core/fit/test_relaxing.py"),
    Fault("core/fit/opening.py", "                        stuck[corners[c]] = False\n", "                        pass\n", "tests/core/fit/test_opening.py"),
    Fault("core/space/rays.py", "halves[i % 2][i // 2]", "halves[0][i // 2]", "tests/core/source/test_whole.py", "outside_sees"),
    Fault("core/beside.py", "            told.stopped = True\n", "", "tests/core/test_ahead.py"),
    Fault("core/beside.py", "        if key not in self._known:\n            told", "        if True:\n            told", "tests/core/test_ahead.py"),
    Fault("core/flatten/carrying.py", "if not hurried or k in self._waiting or not carrier.still]", "if not hurried]", "tests/stages/flatten/test_flat_tools.py", "several"),
    Fault("core/flatten/carrying.py", "self.share, self.gain = 1.0, math.inf", "self.share, self.gain = 1.0, 0.0", "tests/stages/flatten/test_flat_tools.py", "dart"),
    Fault("core/flatten/carrying.py", "before = self._begun if self.waits else descent.uv", "before = descent.uv", "tests/core/flatten/test_editing.py", "driven"),
    Fault("core/flatten/carrying.py", "                wait([self._ready], until - time.perf_counter())\n", "                pass\n",
          "tests/core/flatten/test_editing.py", "lets_go"),
    Fault("core/flatten/carrying.py", "            self._waiting.append(len(self._known))\n", "", "tests/qt/test_lagging.py"),
    Fault("qt/views/glview.py", "            self.lagged.emit()\n", "            pass\n", "tests/qt/test_lagging.py"),
    Fault("stages/flatten/tools/brushes.py", "[k for k in self._left if k in here] or here", "here", "tests/stages/flatten/test_flat_tools.py", "had_no_turn"),
    Fault("stages/flatten/tools/carrying.py", "            # An island that cannot be carried turns up only now: nothing is.\n            self.cancel()\n", "", "tests/stages/flatten/test_flat_tools.py", "whole_gesture"),
    Fault("core/layout/parting.py", "run = first_run + RUN * (stretch - stock.stretch_start[i])", "run = first_run", "tests/core/layout/test_search.py", "runs"),
    Fault("core/layout/parting.py", "        if energy < best:\n", "        if energy > best:\n", "tests/core/layout/test_search.py", "settling_costs_least"),
    Fault("core/layout/rooms.py", "limit = min(limit, cheapest[-1])", "limit = min(limit, cheapest[0])", "tests/core/layout/test_search.py", "cheapest_turnings"),
    Fault("core/quads/closing.py", "mesh, now = (eased, then) if self._fits(then) else (mesh, now)", "pass", "tests/core/quads/test_unwinding.py", "corners_are_eased"),
    Fault("core/quads/redo.py", "abs(np.log(fixed.n_faces / len(inside))) < np.log(AS_DENSE)", "True", "tests/core/quads/test_parts_anew.py", "taken_only_where"),
    Fault("core/quads/grids.py", "for times in CLOSER_THERE if grid.missed > MISSED else ():", "for times in ():", "tests/core/quads/test_auto.py", "thinner"),
    Fault("stages/topology/tools/draft.py", "        self.dragging = self.start = None\n", "", "tests/stages/topology/test_draft.py", "given_up"),
    Fault("qt/pointing.py", "            view.came_to_rest.connect(self._follow_soon)\n", "", "tests/qt/test_seams_window.py", "marked_in_the_other"),
    Fault("qt/cards/ledger.py", "        self.names = {}\n        self.right", "        self.right", "tests/qt/test_layout_window.py", "ledger"),
    Fault("core/layout/squeeze.py", "if step is None and yielding:", "if step is None:", "tests/core/layout/test_squeeze.py", "slot"),
    Fault("core/layout/squeeze.py", "size if late else most", "most", "tests/core/layout/test_squeeze.py", "slot"),
    Fault("core/layout/greedy.py", " - (MIDDLES if close else 0.0)", "", "tests/core/layout/test_squeeze.py", "parted_first"),
    Fault("core/layout/search.py", "        yield from self._part_ahead()\n", "", "tests/core/layout/test_squeeze.py", "parted_first"),
    Fault("core/rows/rebuild.py", "            if kind == HARD:\n                other = int(of_hard[on])\n            else:\n", "            other = of_hard[on]\n            if kind != HARD:\n",
          "tests/core/rows/test_layout.py", "same_lengths"),
    Fault("core/quads/covering.py", "due if due < FORMED else max(left, SPARED * due)", "due", "tests/core/quads/test_auto.py", "thinner"),
    Fault("core/flatten/energies.py", "        s2 = s2 if s2 != 0.0 else THIN\n        cp", "        cp", "tests/core/flatten/test_editing.py", "thinness"),
    Fault("stages/topology/tools/tidying.py", "edges[np.sort(first)]", "edges", "tests/qt/cards/test_trials.py", "rows_are_taken"),
    Fault("core/quads/gridmap.py", "if relations.n_integers > MOST_INTEGERS:", "if False:", "tests/core/quads/test_auto.py", "too_broken"),
    Fault("core/beside.py", "os.register_at_fork(after_in_child=pool.cache_clear)", "", "tests/core/test_ahead.py", "forked"),
)  # fmt: skip


def noticed(fault: Fault, folder: Path) -> bool:
    """Whether the tests fail with a fault in a copy of the code."""
    shutil.rmtree(folder / "src", ignore_errors=True)
    shutil.copytree(ROOT / "src", folder / "src", ignore=shutil.ignore_patterns("*.egg-info"))
    target = folder / "src" / "jacket" / fault.file
    text = target.read_text()
    target.write_text(text.replace(fault.old, fault.new, 1))
    if "@inline" in text or "@kernel" in text:
        # Compiled kernels of other files may hold what was changed here.
        for kept in (folder / "src").rglob("*.nbi"):
            kept.unlink()
    command = [sys.executable, "-m", "pytest", "-q", "-x", "-n0", "-p", "no:cacheprovider", fault.tests]
    command += ["-k", fault.words] if fault.words else []
    done = subprocess.run(command, cwd=ROOT, capture_output=True, text=True, timeout=900,
                          env={**os.environ, "PYTHONPATH": f"{folder / 'src'}:{ROOT}"})  # fmt: skip
    return done.returncode == 1


def stale() -> list[Fault]:
    """Faults whose text is not in the code any more, or that change nothing."""
    return [f for f in FAULTS if f.old == f.new or f.old not in (ROOT / "src" / "jacket" / f.file).read_text()]


def run(only: str = "", first: int = 0) -> int:
    """Put every fault in, from the `first` on, and tell which are not noticed; how many."""
    missed = 0
    gone = stale()
    for fault in gone:
        print(f"    no longer there: {fault.file}: {fault.old[:70]!r}")
    rows = [f for f in FAULTS[first:] if f not in gone and only in f.file]
    with tempfile.TemporaryDirectory() as name:
        for fault in rows:
            if not noticed(fault, Path(name)):
                missed += 1
                print(f"    not noticed: {fault.file}: {fault.old[:70]!r} → {fault.new[:50]!r}", flush=True)
    print(f"  {len(rows)} faults, {len(rows) - missed} noticed, {missed} not; {len(gone)} to be put elsewhere", flush=True)
    return missed + len(gone)
