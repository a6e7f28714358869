"""What has to be done once before a run goes on with other decisions: each kind of deed in one function.

A deed returns what was done in words, or None where it could not be: then the change is not tried.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping
from pathlib import Path

from msgspec.structs import replace

from plainfall.confinement import Confined
from plainfall.errors import BadInput, CommandFailed, PathRefused
from plainfall.kept_records import DataStep
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.run.changes import Deed
from plainfall.onboarding.stages.first_steps import carry_out_first_step
from plainfall.onboarding.stages.install_wishes import forget_installed
from plainfall.onboarding.stages.probe import is_good_now
from plainfall.onboarding.stages.second_processes import start_second_process
from plainfall.onboarding.stages.starting import stop_server
from plainfall.onboarding.stages.tolerant_commands import carry_out

__all__ = ["carry_out_deed"]

_SECONDS = 20.0  # for the first files of a program beside the server, or the first answer


def carry_out_deed(work: Work, deed: Deed | None) -> tuple[Work, str] | None:
    """Does it; returns the part as it is then, and what was done in words; None where it could not be done."""
    if deed is None:
        return work, ""
    done = _KINDS[deed.kind](work, deed)
    if done is None:
        return None
    if deed.kind == "avoid port":
        work = replace(work, avoided=work.avoided | {int(deed.name)})
    if deed.kind == "run migrations":
        work = replace(work, server=None)
    return work, done


def _make_folder(work: Work, deed: Deed) -> str | None:
    try:
        work.state.confined.resolve(deed.name)
        work.making("folder", work.clone / deed.name)
        work.state.confined.own_folder(deed.name)
    except PathRefused:
        return None
    return ""


def _make_temporary_folder(work: Work, deed: Deed) -> str | None:
    temporary = Path(os.path.realpath(work.variables().get("TMPDIR") or "/tmp"))
    try:
        Confined(temporary, "the folder for temporary files").own_folder(deed.name)
    except PathRefused:
        return None
    return ""


def _copy_file(work: Work, deed: Deed) -> str | None:
    try:
        text = work.tree.text(deed.source)
        if os.path.lexists(work.state.confined.resolve(deed.name)):
            return None  # what is there is somebody's
        work.making("file", work.clone / deed.name)
        work.state.confined.write(deed.name, text, mode=0o600)
    except (BadInput, PathRefused):
        return None
    return ""


def _run_build(work: Work, deed: Deed) -> str | None:
    assert deed.command is not None
    try:
        carry_out(work, "tasks", deed.command)
    except CommandFailed:
        return None
    return ""


def _run_first_step(work: Work, deed: Deed) -> str | None:
    assert deed.command is not None
    return carry_out_first_step(work, deed.command)


def _run_migrations(work: Work, deed: Deed) -> str | None:
    assert deed.command is not None
    if work.server is not None:  # what a command leaves running is ended, and this is not its own
        stop_server(work, work.server)
    try:
        carry_out(work, "migrations", deed.command)
    except CommandFailed:
        return None
    return ""


def _start_beside(work: Work, deed: Deed) -> str:
    for one in work.part.processes:
        if one.name in deed.name.split():
            start_second_process(work, one)
    until = time.monotonic() + _SECONDS
    while time.monotonic() < until and not is_good_now(work):
        time.sleep(0.3)
    return ""


def _forget_packages(work: Work, deed: Deed) -> str:
    forget_installed(work)
    return ""


def _remove_environment(work: Work, deed: Deed) -> str | None:
    standing = work.standing()
    if not standing.ours:
        return None
    work.state.confined.remove(work.folder / standing.path)
    forget_installed(work)
    return ""


def _forget_migrations(work: Work, deed: Deed) -> str:
    work.state.forget(work.part.key, DataStep)
    return ""


def _avoid_port(work: Work, deed: Deed) -> str | None:
    return None if int(deed.name) in work.avoided else ""


def _nothing(work: Work, deed: Deed) -> str:
    return ""


_KINDS: Mapping[str, Callable[[Work, Deed], str | None]] = {
    "make folder": _make_folder,
    "make temporary folder": _make_temporary_folder,
    "copy file": _copy_file,
    "run build": _run_build,
    "run first step": _run_first_step,
    "run migrations": _run_migrations,
    "start beside": _start_beside,
    "forget packages": _forget_packages,
    "remove environment": _remove_environment,
    "forget migrations": _forget_migrations,
    "avoid port": _avoid_port,
    "start again": _nothing,
}
