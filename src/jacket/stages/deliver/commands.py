"""Commands of the Deliver stage."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path
from typing import Any

from jacket.commands.beside import beside
from jacket.commands.common import edit
from jacket.commands.host import Host
from jacket.commands.model import Command
from jacket.core.bake.failing import failing_faces
from jacket.core.derive import surface_of
from jacket.core.mesh.shading import HARD
from jacket.document.edits.layers import mark_dense, put_picture
from jacket.document.state import State, own_pictures
from jacket.document.task import Task
from jacket.errors import JacketError, WouldOverwrite
from jacket.formats.deliver.own import ROLES, checked_own
from jacket.jobs.bake import BakeLayer
from jacket.jobs.deliver import Delivered, DeliverSettings, deliver, layers_of
from jacket.jobs.intake import take_in
from jacket.jobs.taken import Taken
from jacket.progress import Progress
from jacket.render.skins import LAMPS
from jacket.settings.store import profile_dir
from jacket.stages.deliver import carrying, handing, pressing, shading
from jacket.stages.deliver.baking import (
    bake_maps,
    bake_task,
    bakeable,
    change_cage,
    is_stale,
    layers_and_sources,
    plain_cage,
    straighten_rays,
)
from jacket.stages.deliver.receivers import drop_profile, own_profile
from jacket.stages.deliver.remembering import LastDelivery, recall, remember
from jacket.stages.deliver.values import DeliverValues


def deliverable(state: State) -> bool:
    """Some layer goes out."""
    return bool(state.outgoing)


def deliver_to(host: Host, folder: Path, stem: str, force: bool = False) -> None:
    """Check all visible layers and write their files, with the maps that are still true, into a folder beside the window."""
    state, values = host.document.state, host.values(DeliverValues)
    layers = layers_of(state)
    if not layers:
        raise JacketError("There are no faces to deliver; show a layer that has some.")
    settings, source = DeliverSettings(values.profile, state.sheets, stem, force, profile_dir()), state.source
    stale, own = is_stale(host.baked, state, values), own_pictures(state)
    baked = host.baked if host.baked is not None and host.baked.whole and host.baked.sheets and not stale else None

    def job(progress: Progress) -> Delivered | WouldOverwrite:
        mesh = source.mesh if source is not None else None
        try:
            return deliver(layers, folder, settings, mesh, surface_of(mesh) if mesh is not None else None, progress=progress, bake=baked, own=own)
        except WouldOverwrite as refused:
            return refused

    def merge(done: Delivered | WouldOverwrite) -> None:
        if isinstance(done, WouldOverwrite):
            host.keep_delivered(LastDelivery(folder, stem, baked is not None))
            host.say(f"{str(done)[:-1]} with 'Deliver and replace'.")
            return
        last = LastDelivery(folder, stem, baked is not None, done)
        host.keep_delivered(last)
        remember(host.document.path, last)
        what = layers[0].name if len(layers) == 1 else f"{len(layers)} layers"
        wrong = [c for _, c in done.wrong]
        told = wrong or [c for found in done.checks.values() for c in found if c.level == "look"]
        tail = "; all checks are met"
        if told:
            tail = f"; {'not met' if wrong else 'worth a look'}: {told[0].label.lower()} {told[0].value}"
            tail += f" and {len(told) - 1} more" if len(told) > 1 else ""
        tail += "; maps older than the jacket stayed here" if stale else ""
        host.say(f"Delivered {what} as {len(done.paths)} files to {folder}{tail}.")

    host.start(Task("deliver", job, merge))


def deliver_again(host: Host, force: bool = False) -> None:
    """Deliver to where the last delivery went, in this window or before, or was refused; `force` replaces files of others there.
    Where maps went out and are not there or no longer true, they are baked first."""
    last = last_delivery(host)
    if last is None:
        raise JacketError("Nothing was delivered yet; deliver to a folder first.")
    state, values = host.document.state, host.values(DeliverValues)
    if last.maps and bakeable(state) and (host.baked is None or not host.baked.sheets or is_stale(host.baked, state, values)):
        task = bake_task(host)

        def merge(done: Any) -> None:
            task.merge(done)
            if host.baked is not done:
                return  # another project was opened meanwhile: nothing of it goes where this one went
            deliver_to(host, last.folder, last.stem, force)

        host.start(replace(task, merge=merge))
        return
    deliver_to(host, last.folder, last.stem, force)


def last_delivery(host: Host) -> LastDelivery | None:
    """The last delivery of the present project, in this window or one before."""
    known: LastDelivery | None = host.delivered
    return known if known is not None else recall(host.document.path)


def take_in_last(host: Host) -> None:
    """Read the last delivery back as a receiver would, beside the window."""
    last = last_delivery(host)
    if last is None:
        raise JacketError("Nothing was delivered yet; deliver to a folder first, then take it in.")
    _, sources = layers_and_sources(host.document.state)

    def job(progress: Progress) -> Taken:
        return take_in(last.folder, [BakeLayer(s.name, s.mesh) for s in sources], progress)

    def merge(taken: Taken) -> None:
        host.keep_delivered(replace(last, taken=taken))
        wrong = [f for f in taken.findings if f.level == "wrong"]
        host.say(wrong[0].sentence if wrong else f"Taken in: {taken.told()}")

    host.start(Task("take in", job, merge))


def _has_jacket(state: State) -> bool:
    return state.jacket is not None and state.jacket.mesh.n_faces > 0


def _has_hard(state: State) -> bool:
    return state.jacket is not None and len(state.jacket.mesh.mark(HARD)) > 0


def _held(state: State) -> bool:
    return _has_jacket(state) and bool(state.held.parts)


def _hold_failing(host: Host) -> None:
    """Hold the faces of the active layer whose rays missed, or met only faces from behind."""
    jacket, baked = host.document.state.jacket, host.baked
    if jacket is None or baked is None or not baked.whole:
        raise JacketError("Nothing is baked yet; bake the maps first.")
    missed, behind = failing_faces(jacket.mesh, baked)
    faces = missed if len(missed) else behind
    if len(faces) == 0:
        host.say("Every ray met the source from the front; nothing failed.")
        return
    host.document.hold("faces", faces)
    host.frame(False)
    what = "missed the source" if len(missed) else "met it only from behind"
    host.say(f"Rays of {len(faces):,} faces {what}; let the cage reach further there, or leave a part out.")


def choose_own(host: Host, role: str) -> None:
    """Ask for a picture on disk that stands for something of the active layer. Raises FormatError where it is none."""
    layer = host.document.open_jacket()
    path = host.choose_picture(role)
    if path:
        checked_own(role, Path(path))
        put_picture(host.document, layer.id, role, path)
        host.show(replace(host.display, lit=True))


def drop_own(host: Host) -> None:
    """Forget all pictures of one's own of the active layer."""
    layer = host.document.open_jacket()
    with host.document.transaction("no pictures of one's own"):
        for role, _ in layer.pictures:
            put_picture(host.document, layer.id, role, "")


def _has_own(state: State) -> bool:
    return state.jacket is not None and bool(state.jacket.pictures)


def _has_decals(state: State) -> bool:
    return state.jacket is not None and bool(state.jacket.decals)


def _next_lamps(host: Host) -> None:
    names = list(LAMPS)
    at = names.index(host.display.lamps) if host.display.lamps in names else -1
    host.show(replace(host.display, lit=True, lamps=names[(at + 1) % len(names)]))


def _wipe(host: Host) -> None:
    host.tool_settings.wipe = 0.5 if host.tool_settings.wipe >= 1.0 else 1.0
    host.keep_baked(host.baked)
    host.show(replace(host.display, lit=True))


COMMANDS = (
    Command("bake", "Bake the maps", "bake normal occlusion curvature height position texture maps rays", "Ctrl+B", bakeable, bake_maps, waits=True),
    Command("deliver", "Deliver files…", "export obj glb gltf png report", "Ctrl+E", deliverable, lambda h: h.deliver(), waits=True),
    Command("deliver-again", "Deliver again", "export same folder update changed", "Ctrl+Shift+E", deliverable, deliver_again, waits=True),
    Command("deliver-over", "Deliver and replace", "export overwrite force allow", "", deliverable, lambda h: deliver_again(h, True), waits=True),
    Command("take-in", "Take the delivery in", "intake engine read back simulate check import", "", deliverable, take_in_last, waits=True),
    Command("hard-by-angle", "Hard by angle", "hard edges smoothing sharp normals split angle", "", _has_jacket, edit("hard by angle", shading.by_angle)),
    Command("hard-along-islands", "Hard along islands", "hard edges smoothing uv borders seams normals split", "", _has_jacket, edit("hard along islands", shading.along_islands)),
    Command("hard-held", "Held edges hard", "hard edge sharp normals split", "", _held, edit("held edges hard", shading.hard_held)),
    Command("soft-held", "Held edges soft", "soft edge smooth normals", "", _held, edit("held edges soft", shading.soft_held)),
    Command("support-held", "Support the held edges", "loop support row bevel soft corner shading", "", _held, beside("support edges", shading.support)),
    Command("all-soft", "All edges soft", "soft smooth clear hard", "", _has_hard, edit("all edges soft", shading.all_soft)),
    Command("dense-layer", "Bake from this layer, or onto it", "dense highpoly layer source bake", "", _has_jacket,
            lambda h: mark_dense(h.document, h.document.require_jacket().id)),
    Command("cage-further", "Cage further at what is held", "cage distance more rays miss", "", _held, lambda h: change_cage(h, "cage further", 1.25)),
    Command("cage-nearer", "Cage nearer at what is held", "cage distance less rays wrong layer", "", _held, lambda h: change_cage(h, "cage nearer", 0.8)),
    Command("rays-straight", "Rays straight at what is held", "cage skew slant detail flat hard surface", "", _held, lambda h: straighten_rays(h, "rays straight", 1.0)),
    Command("rays-averaged", "Rays averaged at what is held", "cage smooth averaged normals", "", _held, lambda h: straighten_rays(h, "rays averaged", 0.0)),
    Command("hold-missed", "Hold where rays failed", "cage missed behind show bake holes", "", _has_jacket, _hold_failing),
    Command("own-profile", "Make a profile of one's own", "profile receiver engine custom toml", "", lambda s: True, own_profile),
    Command("drop-profile", "Put this profile aside", "profile receiver forget remove own", "", lambda s: True, drop_profile),
    *(Command(f"own-{role}", f"Own picture of {role}…", f"texture map {role} image paint material", "", _has_jacket, lambda h, r=role: choose_own(h, r))  # type: ignore[misc]
      for role in ROLES),
    Command("drop-own", "No pictures of one's own", "texture forget remove image", "", _has_own, drop_own),
    Command("flat-parts", "Islands as a flat layer", "pattern paper unfold flat pieces carry", "", _has_jacket, carrying.lay_flat_layer, waits=True),
    Command("wrap-layer", "Wrap the layer round the form", "flat parts carry bend onto surface stitches", "", carrying.can_wrap_layer, carrying.wrap_layer, waits=True),
    Command("wrap-source", "Wrap the source round the form", "flat parts carry bend onto surface stitches dense", "", carrying.can_wrap_source, carrying.wrap_source,
            waits=True),
    Command("curves-to-form", "Curves of a drawing onto the form…", "svg path lines stitches pattern carry sheet guide", "", carrying.can_take_curves,
            carrying.curves_to_form),
    Command("decal-picture", "Picture for decals…", "decal sticker label image text stamp choose", "", _has_jacket, pressing.choose_stencil),
    Command("decal-from-view", "Lay it on from the view", "decal projection camera stamp photo", "", _has_jacket, pressing.lay_from_view),
    Command("decal-mirror", "Mirror the decal", "decal flip other way round", "", _has_decals, pressing.mirror_decal),
    Command("decal-top", "Decal above all others", "decal order raise front", "", _has_decals, pressing.top_decal),
    Command("decal-off", "Take the decal off", "decal remove delete", "", _has_decals, pressing.take_off),
    *(Command(where, f"Pivot {words.lower()}", "origin transform anchor node place", "", _held if where == "pivot-held" else _has_jacket,
              lambda h, w=where: handing.pivot(h, w)) for where, words in handing.PIVOTS.items()),  # type: ignore[misc]
    Command("socket", "Socket at what is held…", "empty node attach hang point", "", _held, handing.socket),
    Command("plain-cage", "Cage as it comes", "cage reset forget painted", "", _has_jacket, plain_cage),
    Command("next-lamps", "Next lamps", "light environment overcast sun studio", "", lambda s: True, _next_lamps),
    Command("wipe", "Dense beside light", "compare wipe source highpoly lowpoly split", "", bakeable, _wipe),
)  # fmt: skip
