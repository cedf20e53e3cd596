"""What each stage checks, and the line under its ticket."""

from __future__ import annotations

import numpy as np

from jacket.core.checks.layout import flatten_checks, layout_checks, seam_checks
from jacket.core.checks.model import Check
from jacket.core.checks.source import source_checks
from jacket.core.checks.topology import topology_checks
from jacket.core.derive import (
    crossings_of,
    form_of,
    health_of,
    islands_of,
    layout_of,
    stretch_figures,
    surface_of,
)
from jacket.core.store import STORE
from jacket.document.state import State


def checks_of(state: State, stage: str) -> list[Check]:
    """The checks of a stage; slow ones are kept per mesh."""
    jacket, source = state.jacket, state.source
    if stage == "source":
        chosen = state.chosen_source
        return [] if chosen is None else source_checks(health_of(chosen.mesh), crossings_of(chosen.mesh))
    if jacket is None or jacket.mesh.n_faces == 0:
        return []
    mesh, sheets = jacket.mesh, state.sheets
    if stage == "topology":
        grounds = (*form_of(mesh), mesh.aspect("point_data"), *(form_of(source.mesh) if source is not None else ()))
        return STORE.get(grounds, "topology checks", lambda: topology_checks(
            mesh, source.mesh if source else None, surface_of(source.mesh) if source else None))  # fmt: skip
    if stage == "seams":
        return STORE.get(layout_of(mesh), "seam checks", lambda: seam_checks(mesh))
    if stage == "flatten":
        return STORE.get(layout_of(mesh), ("flatten checks", sheets), lambda: flatten_checks(
            mesh, sheets, stretch_figures(mesh, sheets)))  # fmt: skip
    if stage == "layout":
        return STORE.get(layout_of(mesh), ("layout checks", sheets), lambda: layout_checks(
            mesh, sheets, islands_of(mesh, sheets)))  # fmt: skip
    every = [c for s in ("topology", "seams", "flatten", "layout") for c in checks_of(state, s)]
    return list({c.id: c for c in every}.values())


def key_numbers(state: State) -> dict[str, str]:
    """The line under each ticket."""
    out = {"source": "nothing open", "topology": "no quads", "seams": "not cut", "flatten": "not flat",
           "layout": "not packed", "deliver": "not ready"}  # fmt: skip
    source, jacket = state.chosen_source, state.jacket
    if source is not None:
        health = health_of(source.mesh)
        word = "sound" if health.sound else ("holes" if health.borders else "look")
        count = sum(len(s.mesh.triangle_points) for s in state.sources)
        out["source"] = f"{count:,} tris · {word}"
    if jacket is None or jacket.mesh.n_faces == 0:
        return out
    mesh = jacket.mesh
    quads = int((mesh.sizes == 4).sum())
    odd = mesh.n_faces - quads
    out["topology"] = f"{quads:,} quads" + (f" · {odd} odd" if odd else "")
    islands = islands_of(mesh, state.sheets)
    out["seams"] = f"{islands.count} island{'s' if islands.count != 1 else ''}"
    figures = stretch_figures(mesh, state.sheets)
    if figures is not None:
        if np.isfinite(figures.dirichlet):
            out["flatten"] = f"stretch {figures.dirichlet:.2f}"
        placed = bool((islands.sheet_of[islands.mapped] >= 0).all())
        out["layout"] = f"{100 * islands.use():.0f} % of sheet" if placed else "not packed"
    checks = checks_of(state, "deliver")
    good = sum(c.level != "wrong" for c in checks)
    out["deliver"] = f"{good} of {len(checks)} ready"
    return out
