"""Runs scripts of a manifest, under the names by which projects call them: ``npm run build`` and the like.

Run as a program by small files of the package managers' names, which stand first on the path of a part's
commands: ``python -m plainfall.ecosystems.node.runner NAME WORD…``. Only what runs code of the project is
answered; dependencies are Plainfall's own business.
"""

from __future__ import annotations

import json
import os
import shlex
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

from plainfall.confinement import Confined
from plainfall.ecosystems.own_files import write_program

__all__ = ["main", "write_names"]

_NAMES = ("npm", "npx", "yarn", "pnpm")
_RUN = {"run", "run-script"}
_SHORT = {"start", "test", "stop", "restart", "t", "tst"}
_INSTALLING = {"install", "i", "ci", "add", "remove", "update", "upgrade", "link", "dedupe", "prune", ""}


def write_names(confined: Confined, folder: Path, builder: list[str]) -> None:
    """Writes the small files into a folder of the clone (made if it does not exist); ``builder`` is the command
    that compiles native add-ons (empty: there is none), to be found as ``node-gyp``."""
    if builder:
        write_program(confined, folder / "node-gyp", f'#!/bin/sh\nexec {shlex.join(builder)} "$@"\n')
    source = shlex.quote(str(Path(__file__).parents[3]))
    for name in _NAMES:
        words = shlex.join([sys.executable, "-m", "plainfall.ecosystems.node.runner", name])
        write_program(confined, folder / name, f'#!/bin/sh\nPYTHONPATH={source} exec {words} "$@"\n')


def main(words: Sequence[str]) -> int:
    """Does what ``NAME WORD…`` asks for; returns the exit status."""
    name, rest = words[0], list(words[1:])
    folder = _manifest_folder(Path.cwd())
    while rest and rest[0].startswith("-") and rest[0] != "--":
        option = rest.pop(0)
        if option in ("--prefix", "-C", "--dir", "--cwd") and rest:
            folder = (Path.cwd() / rest.pop(0)).resolve()
    word = rest[0] if rest else ""
    if name == "npx" or word in ("exec", "x", "dlx"):
        return _execute(folder, rest if name == "npx" else rest[1:])
    if word in _RUN:
        quiet = [one for one in rest[1:] if one not in ("--silent", "-s", "--if-present")]
        if not quiet:
            return _list(folder)
        return _run(folder, quiet[0], _after(name, quiet[1:]), may_lack="--if-present" in rest)
    if word in _SHORT:
        return _run(folder, "test" if word in ("t", "tst") else word, _after(name, rest[1:]))
    if word in _INSTALLING:
        print(f"{name} {word}: Plainfall has installed the dependencies; nothing is done", file=sys.stderr)
        return 0
    scripts = _scripts(folder)
    if name in ("yarn", "pnpm") and word in scripts:
        return _run(folder, word, rest[1:])
    if name in ("yarn", "pnpm"):
        return _execute(folder, rest)
    print(f"{name} {word}: only scripts of the manifest are run here", file=sys.stderr)
    return 1


def _after(name: str, words: list[str]) -> list[str]:
    """The words for the script: behind ``--``; two of the names take them without it, too."""
    if "--" in words:
        place = words.index("--")
        return [*(words[:place] if name in ("yarn", "pnpm") else []), *words[place + 1 :]]
    return words if name in ("yarn", "pnpm") else [word for word in words if not word.startswith("-")]


def _manifest_folder(start: Path) -> Path:
    return next((one for one in (start, *start.parents) if (one / "package.json").is_file()), start)


def _manifest(folder: Path) -> Mapping[str, object]:
    try:
        document = json.loads((folder / "package.json").read_text("utf-8-sig"))
    except (OSError, ValueError) as error:
        print(f"{folder / 'package.json'}: {error}", file=sys.stderr)
        return {}
    return document if isinstance(document, dict) else {}


def _scripts(folder: Path) -> dict[str, str]:
    content = _manifest(folder).get("scripts")
    return {str(key): str(value) for key, value in content.items()} if isinstance(content, dict) else {}


def _list(folder: Path) -> int:
    for name, text in _scripts(folder).items():
        print(f"{name}\n  {text}")
    return 0


def _run(folder: Path, name: str, words: Sequence[str], *, may_lack: bool = False) -> int:
    """The script with the one before it and the one after it; the last takes this process's place."""
    scripts = _scripts(folder)
    if name not in scripts:
        if may_lack:
            return 0
        known = ", ".join(scripts) or "none"
        print(f"no script {name!r} in {folder / 'package.json'}; there are: {known}", file=sys.stderr)
        return 1
    steps = [(one, scripts[one]) for one in (f"pre{name}", name, f"post{name}") if one in scripts]
    for position, (step, text) in enumerate(steps):
        line = f"{text} {shlex.join(words)}" if step == name and words else text
        variables = _variables(folder, step, text)
        if position == len(steps) - 1:
            os.chdir(folder)
            os.execve("/bin/sh", ["sh", "-c", line], variables)
        status = os.spawnve(
            os.P_WAIT, "/bin/sh", ["sh", "-c", f"cd {shlex.quote(str(folder))} && {line}"], variables
        )
        if status != 0:
            return status if status > 0 else 128 - status
    return 0


def _execute(folder: Path, words: list[str]) -> int:
    """A command of an installed package."""
    rest = list(words)
    while rest and rest[0].startswith("-"):
        option = rest.pop(0)
        if option == "--":
            break
        if option in ("-p", "--package", "-c", "--call") and rest:
            rest.pop(0)
    if not rest:
        return 1
    variables = _variables(folder, "exec", "")
    os.chdir(folder)
    command = rest[0].rpartition("@")[0] or rest[0]
    for place in variables["PATH"].split(os.pathsep):
        file = os.path.join(place, command)
        if os.access(file, os.X_OK) and os.path.isfile(file) and os.path.basename(file) not in _NAMES:
            os.execve(file, [file, *rest[1:]], variables)
    print(f"{command}: no installed package has this command", file=sys.stderr)
    return 127


def _variables(folder: Path, step: str, text: str) -> dict[str, str]:
    document = _manifest(folder)
    folders = [folder, *folder.parents]
    commands = [str(one / "node_modules/.bin") for one in folders if (one / "node_modules/.bin").is_dir()]
    path = os.pathsep.join([*commands, os.environ.get("PATH", "")])
    return {
        **os.environ,
        "PATH": path,
        "INIT_CWD": os.environ.get("INIT_CWD", os.getcwd()),
        "npm_lifecycle_event": step,
        "npm_lifecycle_script": text,
        "npm_package_name": str(document.get("name", "")),
        "npm_package_version": str(document.get("version", "")),
        "npm_package_json": str(folder / "package.json"),
        "npm_command": "run-script",
    }


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
