"""Environments of languages that need none of their own: a folder of ours in which the runtime has its usual name,
with the names of its package client beside it."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.ecosystems.shape import CloneAccess, EnvironmentStanding
from plainfall.ecosystems.shared.programs import names_folder
from plainfall.runtimes.choice import Choice

__all__ = ["LinkedRuntime", "link_runtime"]


def link_runtime(access: CloneAccess, folder: Path, name: str, choice: Choice) -> None:
    """Gives the chosen interpreter its usual name in the part's folder of command names."""
    link = names_folder(folder, access) / name
    if not link.is_symlink() or os.readlink(link) != str(choice.taken.file):
        access.confined.remove(link)
        access.confined.link(link, str(choice.taken.file))


class LinkedRuntime:
    """What such an environment does; ``NAME`` is the runtime's program, ``write_client_names`` writes those of the
    package client into a folder of the clone."""

    NAME = ""
    write_client_names: Callable[[Confined, Path], None]

    def standing(self, folder: Path, choice: Choice, access: CloneAccess) -> EnvironmentStanding:
        """Right where the name leads to the chosen interpreter."""
        names = names_folder(folder, access)
        link = names / self.NAME
        right = link.is_symlink() and os.readlink(link) == str(choice.taken.file)
        return EnvironmentStanding("right" if right else "absent", os.path.relpath(names, folder), ours=True)

    def make(self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess) -> None:
        """The folder with the runtime's name."""
        access.confined.make_folder(names_folder(folder, access))
        self.prepare(folder, choice, access)

    def prepare(self, folder: Path, choice: Choice, access: CloneAccess) -> None:
        """The names by which scripts call the runtime and its client."""
        type(self).write_client_names(access.confined, names_folder(folder, access))
        link_runtime(access, folder, self.NAME, choice)

    def noting_databases(self, folder: Path, access: CloneAccess, mark: str) -> dict[str, str]:
        """None: drivers are part of the runtime, or packages of the clone's own."""
        return {}
