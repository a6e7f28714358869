"""Folders of this user alone: the package cache and the state are believed, so nobody else may write in them."""

from __future__ import annotations

import contextlib
import grp
import os
import pwd
import shlex
import stat
from collections.abc import Mapping, MutableMapping
from pathlib import Path

from plainfall.errors import PathRefused, PlainfallError
from plainfall.evidence import Evidence

__all__ = ["claim", "owned_or_quiet", "without_folders_of_others"]

_PRIVATE = 0o700
_BASES = ("XDG_CACHE_HOME", "XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_STATE_HOME")


def claim(folder: Path, variable: str) -> None:
    """Makes a folder of this user's own, mode 700, or checks that it is one; a mode that lets others read is taken
    back. ``variable`` is what moves the folder elsewhere, for the remedy.

    Raises PlainfallError where it, or a folder above it, belongs to another user or can be written by others.
    Where it cannot be made (a home that is read-only) nothing happens: whoever needs it says so.
    """
    with contextlib.suppress(OSError):
        folder.mkdir(parents=True, mode=_PRIVATE, exist_ok=True)
    if not os.path.lexists(folder):
        return
    real = Path(os.path.realpath(folder))
    status = os.stat(real)
    if status.st_uid != os.geteuid():
        raise _not_ours(folder, f"it belongs to {_user(status.st_uid)}", variable)
    for place in (real, *real.parents):
        status = os.stat(place)
        if status.st_uid not in (0, os.geteuid()):
            raise _not_ours(folder, f"{place} belongs to {_user(status.st_uid)}", variable)
        if _others_write(status) and not (place != real and status.st_mode & stat.S_ISVTX):
            raise _not_ours(folder, f"others may write in {place}", variable)
    if os.stat(real).st_mode & 0o077:
        os.chmod(real, _PRIVATE)


def owned_or_quiet(clone: Path) -> None:
    """As root, checks that nobody can move things about in a clone while root writes there: it is root's own, or
    its owner has no process on this system (as in a container that has a folder of its host).

    Raises PathRefused, naming who should run the command.
    """
    if os.geteuid() != 0:
        return
    owner = os.stat(clone).st_uid
    if owner == 0 or not _is_at_work(owner):
        return
    name = _user(owner)
    command = f"runuser -u {name} -- plainfall …" if not name.startswith("the user ") else ""
    raise PathRefused(
        f"this clone belongs to {name}, who is at work on this machine, and you are root: what root writes there "
        "could be led elsewhere",
        place=Evidence(str(clone)),
        remedy=f"Run the same command as {name}, without sudo{f' ({command})' if command else ''}; "
        f"or take the clone over: chown -R root {shlex.quote(str(clone))}",
    )


def _is_at_work(user: int) -> bool:
    import psutil

    for process in psutil.process_iter():
        with contextlib.suppress(psutil.Error):
            if user in process.uids():
                return True
    return False


def without_folders_of_others(variables: MutableMapping[str, str]) -> str:
    """Takes the home folder, and the folders of configuration and caches, of another user out of root's variables
    (``sudo`` may leave them there): root would write into that user's files, and believe them. Returns whose
    home it was, "" where nothing changed."""
    if os.geteuid() != 0:
        return ""
    other = _owner_of(variables, "HOME")
    if other:
        variables["HOME"] = pwd.getpwuid(0).pw_dir
    for name in _BASES:
        if _owner_of(variables, name):
            del variables[name]
    return other


def _owner_of(variables: Mapping[str, str], name: str) -> str:
    """The user who owns the folder that a variable names, or the one in which it would be made; "" for root."""
    if not variables.get(name):
        return ""
    place = Path(variables[name]).absolute()
    while not place.exists() and place != place.parent:
        place = place.parent
    owner = os.stat(place).st_uid
    return _user(owner) if owner else ""


def _others_write(status: os.stat_result) -> bool:
    """Whether somebody else may write: anybody, or the members of a group that is not this user's alone."""
    if status.st_mode & stat.S_IWOTH:
        return True
    if not status.st_mode & stat.S_IWGRP or status.st_gid == 0:
        return False
    try:
        group, user = grp.getgrgid(status.st_gid), pwd.getpwuid(os.geteuid())
    except KeyError:
        return True
    return bool(
        status.st_gid != user.pw_gid or group.gr_name != user.pw_name or set(group.gr_mem) - {user.pw_name}
    )


def _user(uid: int) -> str:
    try:
        return pwd.getpwuid(uid).pw_name
    except KeyError:
        return f"the user {uid}"


def _not_ours(folder: Path, reason: str, variable: str) -> PlainfallError:
    return PlainfallError(
        f"this folder is not used: {reason}",
        place=Evidence(str(folder)),
        remedy=f"Give it to yourself alone (chown, chmod 700), or name another one with {variable}=FOLDER.",
    )
