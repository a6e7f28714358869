"""Runs commands under the names by which projects call Ruby's package client.

Run as a program by a small file of that name, which stands first on the path of a part's commands:
``python -m plainfall.ecosystems.ruby.clients.runner NAME WORD…``. Only what runs a command of the project is
answered; dependencies are Plainfall's own business.
"""

from __future__ import annotations

import os
import re
import shlex
import shutil
import sys
from collections.abc import Sequence
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.ecosystems.shared.programs import write_client_names

__all__ = ["main", "write_names"]

_INSTALLS = (
    "install", "update", "check", "add", "remove", "lock", "outdated", "package", "cache", "clean", "config",
    "info", "pristine", "audit", "binstubs", "doctor", "init", "platform", "list", "show", "version",
    "--version", "-v",
)  # fmt: skip
_NAMES = ("bundle", "bundler", "gem")


def write_names(confined: Confined, folder: Path) -> None:
    """Writes the small files into a folder of the clone (made if it does not exist)."""
    write_client_names(confined, folder, "plainfall.ecosystems.ruby.clients.runner", _NAMES)


def main(words: Sequence[str]) -> int:
    """Does what the call asks for; returns the exit status, or becomes the command."""
    name, *rest = words
    os.environ.pop("PYTHONPATH", None)
    rest = [word for word in rest if not re.match(r"--(quiet|no-color|verbose|retry=\d+|gemfile=.*)$", word)]
    if name == "gem":
        print(
            f"gem {shlex.join(rest)}: packages are Plainfall's business here; nothing is done",
            file=sys.stderr,
        )
        return 0
    if rest and rest[0] in ("exec", "e"):
        command = [word for word in rest[1:] if word not in ("--keep-file-descriptors", "--")]
        return _become(command) if command else _unknown(rest)
    if not rest or rest[0] in _INSTALLS:
        if rest[:1] in (["--version"], ["-v"], ["version"]):
            print("Bundler version 2 (answered by Plainfall)")
        else:
            print(
                f"{name} {' '.join(rest)}: Plainfall has done what is needed of that; nothing is done",
                file=sys.stderr,
            )
        return 0
    if rest[0] == "console":
        return _become(["irb", *rest[1:]])
    return _unknown(rest)


def _become(command: Sequence[str]) -> int:
    """Runs a command with only the lock's packages to be found."""
    options = os.environ.get("RUBYOPT", "")
    if "-rbundler/setup" not in options.split():
        os.environ["RUBYOPT"] = f"{options} -rbundler/setup".strip()
    program = shutil.which(command[0])
    if program is None and Path(command[0]).is_file():
        program = str(Path(command[0]).absolute())
    if program is None:
        print(f"bundle exec: no installed package has the command {command[0]}", file=sys.stderr)
        return 127
    os.execv(program, list(command))


def _unknown(rest: Sequence[str]) -> int:
    print(f"bundle {shlex.join(rest)}: only commands of installed packages are run here", file=sys.stderr)
    return 1


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
