"""Profiles of one's own: made from one that is there, changed in the window or in any editor, thrown away."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from jacket.commands.host import Host
from jacket.errors import FormatError, JacketError
from jacket.formats.atomic import write_bytes
from jacket.formats.deliver.files import name_of
from jacket.formats.deliver.profiles import PROFILES, Profile, parsed, profiles_in, toml_of
from jacket.settings.store import profile_dir
from jacket.stages.deliver.values import DeliverValues

USUAL = "y-up-metres"


def chosen_profile(host: Host) -> Profile:
    """The profile that is chosen; the usual one where its file is gone or cannot be read."""
    known = profiles_in(profile_dir())
    return known.get(host.values(DeliverValues).profile) or known[USUAL]


def own_file(host: Host) -> Path | None:
    """The file of the chosen profile where it is one of one's own; None for a shipped one."""
    path = profile_dir() / f"{host.values(DeliverValues).profile}.toml"
    return path if path.is_file() else None


def own_profile(host: Host) -> None:
    """Write the chosen profile as a file of one's own, to be changed in its card or in any editor."""
    values = host.values(DeliverValues)
    wanted = host.ask_text("A profile of one's own", "Name", f"my-{values.profile}")
    if not wanted:
        return
    name = name_of(wanted.strip().lower())
    path = profile_dir() / f"{name}.toml"
    if name in PROFILES or path.exists():
        raise JacketError(f"There is a profile {name} already; choose another name, or change {path}.")
    write_bytes(path, toml_of(replace(chosen_profile(host), label=wanted.strip())).encode())
    host.put(DeliverValues, "profile", name)
    host.say(f"The profile lies in {path}; change it in its card or there.")


def change_profile(host: Host, changed: Profile) -> None:
    """Write the chosen profile of one's own as it is to be. Raises FormatError where that makes no sense, JacketError for a
    shipped one; the file stays as it was then."""
    path = own_file(host)
    if path is None:
        raise JacketError("This profile ships with Jacket and stays as it is; make one of your own from it first.")
    text = toml_of(changed)
    parsed(text, path.name)
    write_bytes(path, text.encode())
    host.put(DeliverValues, "profile", path.stem)


def drop_profile(host: Host) -> None:
    """Put the file of the chosen profile aside, so that it is no longer offered."""
    path = own_file(host)
    if path is None:
        raise JacketError("This profile ships with Jacket and stays; only those of one's own can be put aside.")
    aside = path.with_suffix(".toml.aside")
    try:
        path.replace(aside)
    except OSError as error:
        raise FormatError(f"{path.name} cannot be put aside: {error.strerror}; look at the rights of its folder.") from None
    host.put(DeliverValues, "profile", USUAL)
    host.say(f"The profile was put aside as {aside}; name it .toml again to have it back.")
