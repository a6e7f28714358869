"""Runs scripts of a manifest under the name by which projects call the PHP package client.

Run as a program by a small file of that name, which stands first on the path of a part's commands:
``python -m plainfall.ecosystems.php.clients.runner NAME WORD…``. Only what runs code of the project is answered;
dependencies are Plainfall's own business.
"""

from __future__ import annotations

import json
import os
import re
import shlex
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.confinement import Confined
from plainfall.ecosystems.shared.programs import write_client_names
from plainfall.plain_files import plain_text

__all__ = ["main", "write_names"]

_INSTALLS = (
    "install", "i", "update", "u", "upgrade", "require", "r", "remove", "rm", "reinstall", "create-project",
    "dump-autoload", "dumpautoload", "self-update", "selfupdate", "clear-cache", "clearcache", "config", "audit",
    "validate", "check-platform-reqs", "diagnose",
)  # fmt: skip
_CHAIN = "PLAINFALL_PHP_SCRIPTS"  # the variable that holds the scripts that led to this one
_DEEPEST = 20


def write_names(confined: Confined, folder: Path) -> None:
    """Writes the small file into a folder of the clone (made if it does not exist)."""
    write_client_names(confined, folder, "plainfall.ecosystems.php.clients.runner", ("composer",))


def main(words: Sequence[str]) -> int:
    """Does what the call asks for; returns the exit status."""
    folder = _folder(words)
    rest = [word for word in words if not re.match(r"-(-?(n|q|v+|no-\w[\w-]*|ansi|working-dir|d)\b|d)", word)]
    if not rest:
        return _unknown(words)
    os.chdir(folder)
    document = _manifest()
    if rest[0] in ("run-script", "run") and len(rest) > 1:
        return _script(document, rest[1], [word for word in rest[2:] if word != "--"])
    if rest[0] == "exec" and len(rest) > 1:
        return _run(shlex.join([word for word in rest[1:] if word != "--"]))
    if rest[0] in _INSTALLS:
        print(
            f"composer {rest[0]}: Plainfall has done what is needed of that; nothing is done", file=sys.stderr
        )
        return 0
    if rest[0] in (document.get("scripts") or {}):
        return _script(document, rest[0], rest[1:])
    return _unknown(words)


def _unknown(words: Sequence[str]) -> int:
    print(
        f"{shlex.join(['composer', *words])}: only scripts and installed commands are run here",
        file=sys.stderr,
    )
    return 1


def _folder(words: Sequence[str]) -> Path:
    """The folder of the manifest: one that the call names, else the nearest upwards."""
    for place, word in enumerate(words):
        if word.startswith("--working-dir="):
            return Path(word.partition("=")[2])
        if word in ("-d", "--working-dir") and place + 1 < len(words):
            return Path(words[place + 1])
    here = Path.cwd()
    return next((one for one in (here, *here.parents) if (one / "composer.json").is_file()), here)


def _manifest() -> Mapping[str, Any]:
    try:
        document = json.loads(plain_text(Path("composer.json"), "utf-8"))
    except (OSError, ValueError) as error:
        print(f"composer: composer.json cannot be read: {error}", file=sys.stderr)
        raise SystemExit(1) from error
    return document if isinstance(document, dict) else {}


def _script(document: Mapping[str, Any], name: str, arguments: Sequence[str]) -> int:
    from plainfall.ecosystems.php.recognise.scripts import entries_of

    chain = os.environ.get(_CHAIN, "").split("\x1f")
    if len(chain) > _DEEPEST or chain.count(name) > 2:
        print(f"composer: the script {name} runs itself again and again", file=sys.stderr)
        return 1
    os.environ[_CHAIN] = "\x1f".join([*chain, name])
    scripts = document.get("scripts")
    if not isinstance(scripts, dict) or name not in scripts:
        print(f"composer: there is no script {name}", file=sys.stderr)
        return 1
    for line in entries_of(document, name):
        status = _line(document, name, line, arguments)
        if status:
            print(f"composer: {line} of the script {name} ended with status {status}", file=sys.stderr)
            return status
    os.environ[_CHAIN] = "\x1f".join(chain)
    return 0


def _line(document: Mapping[str, Any], name: str, line: str, arguments: Sequence[str]) -> int:
    from plainfall.ecosystems.php.recognise.scripts import CALLBACK

    more = f" {shlex.join(arguments)}" if arguments else ""
    if line.startswith("@putenv "):
        key, _, value = line.removeprefix("@putenv ").partition("=")
        os.environ[key.strip()] = value
        return 0
    if line.startswith("@php "):
        return _run(f"php {line.removeprefix('@php ')}{more}")
    if line.startswith("@composer "):
        return _run(f"composer {line.removeprefix('@composer ')}{more}")
    if line.startswith("@"):
        words = shlex.split(line[1:])
        return _script(document, words[0], [*words[1:], *arguments])
    if CALLBACK.fullmatch(line):
        callback = Path(__file__).parents[1] / "library" / "callback.php"
        return _run(shlex.join(["php", str(callback), str(_vendor(document)), name, line, *arguments]))
    if line.startswith("Composer\\Config::disableProcessTimeout"):
        return 0
    return _run(f"{line}{more}")


def _vendor(document: Mapping[str, Any]) -> Path:
    config = document.get("config")
    named = config.get("vendor-dir") if isinstance(config, dict) else None
    return Path.cwd() / (named if isinstance(named, str) else "vendor")


def _run(line: str) -> int:
    """Runs a line by the shell; the rest of this process's variables are the part's."""
    status = os.spawnve(os.P_WAIT, "/bin/sh", ["sh", "-c", line], dict(os.environ))
    return status if status >= 0 else 128 - status


if __name__ == "__main__":
    sys.exit(main(sys.argv[2:]))
