"""Runs scripts of a manifest, under the names by which projects call them: ``npm run build`` and the like.

Run as a program by small files of the package managers' names, which stand first on the path of a part's
commands: ``python -m plainfall.ecosystems.node.clients.runner NAME WORD…``. Only what runs code of the project is
answered; dependencies are Plainfall's own business.
"""

from __future__ import annotations

import json
import os
import shlex
import sys
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.confinement import Confined
from plainfall.ecosystems.shared.programs import write_client_names, write_program
from plainfall.errors import BadInput
from plainfall.plain_files import plain_text

if TYPE_CHECKING:  # every run of Plainfall imports this module for the names alone
    from plainfall.ecosystems.node.clients.calls import Call

__all__ = ["main", "write_names"]

# The last is the name under which one editor for notebooks brings its own copy of another client.
_NAMES = ("npm", "npx", "yarn", "pnpm", "jlpm")
_SAME_AS = {"jlpm": "yarn"}
_CHAIN = "PLAINFALL_SCRIPTS"  # the variable that holds the scripts that led to this one
_BETWEEN = "\x1f"
_REPEATS = 3  # times that one script may stand in that chain
_DEEPEST = 40


def write_names(confined: Confined, folder: Path, builder: list[str]) -> None:
    """Writes the small files into a folder of the clone (made if it does not exist); ``builder`` is the command
    that compiles native add-ons (empty: there is none), to be found as ``node-gyp``."""
    if builder:
        write_program(confined, folder / "node-gyp", f'#!/bin/sh\nexec {shlex.join(builder)} "$@"\n')
    write_client_names(confined, folder, "plainfall.ecosystems.node.clients.runner", _NAMES)


def main(words: Sequence[str]) -> int:
    """Does what ``NAME WORD…`` asks for; returns the exit status."""
    from plainfall.ecosystems.node.clients.calls import read_call

    client, rest = _SAME_AS.get(words[0], words[0]), list(words[1:])
    here = _manifest_folder(Path.cwd())
    if rest in (["--version"], ["-v"]):
        print(_version(client, here))
        return 0
    call = read_call(client, rest)
    folder = here if call.folder == "." else _manifest_folder((Path.cwd() / call.folder).resolve())
    if call.at_top:
        from plainfall.ecosystems.node.clients.packages_of_calls import workspace_top

        folder = workspace_top(folder)
    call = read_call(client, rest, _scripts(folder))
    if call.kind == "installs":
        print(
            f"{client} {call.name}: Plainfall has installed the dependencies; nothing is done",
            file=sys.stderr,
        )
        return 0
    if call.kind == "lists":
        return _list(folder)
    if call.kind == "unknown":
        shown = shlex.join([client, *rest])
        print(f"{shown}: only scripts and installed commands are run here", file=sys.stderr)
        return 1
    if call.select is not None:
        return _in_many(client, folder, call)
    # ``yarn run NAME`` is a command of an installed package where no script has that name.
    is_command = client == "yarn" and call.kind == "script" and call.name not in _scripts(folder)
    if call.kind == "command" or (is_command and _is_installed(folder, call.name)):
        return _execute(folder, [call.name, *call.words])
    return _run(folder, call.name, call.words, may_lack=call.may_lack)


# Releases whose ways are followed here. Templates of years ago ask for a least one before they start anything.
_VERSIONS = {"npm": "10.9.2", "npx": "10.9.2", "yarn": "1.22.22", "pnpm": "9.15.4"}


def _version(client: str, folder: Path) -> str:
    """The client's release: the one that the manifest names (``packageManager``), else the one that is followed."""
    named = str(_manifest(folder).get("packageManager") or "").partition("+")[0]
    name, _, version = named.rpartition("@")
    return version if name == client else _VERSIONS[client]


def _in_many(client: str, folder: Path, call: Call) -> int:
    """The call in each chosen package of the workspace, as many at the same time as the client would run."""
    from plainfall.ecosystems.node.clients.packages_of_calls import (
        chosen_packages,  # most scripts have one package
    )

    try:
        stages = chosen_packages(folder, call)
    except BadInput as error:
        print(f"{client}: {error}", file=sys.stderr)
        return 1
    status = 0
    for stage in stages:
        itself = _chain()[-1:] if call.skips_itself else []
        for ended in _at_once([one for one in stage if [_link(one, call.name)] != itself], call):
            status = status or ended
            if ended and not call.goes_on:
                return ended
    return status


def _at_once(folders: Sequence[Path], call: Call) -> Iterator[int]:
    """The exit statuses, as they come; another one is started for each that has ended."""
    waiting, running = list(folders), set[int]()
    most = call.at_once or len(waiting)
    while waiting or running:
        while waiting and len(running) < most:
            pid = _start(waiting.pop(0), call)
            if pid is None:
                yield 1
            elif pid:
                running.add(pid)
        if running:
            pid, ended = os.wait()
            running.discard(pid)
            yield os.waitstatus_to_exitcode(ended)


def _start(folder: Path, call: Call) -> int | None:
    """Starts the call in one package; returns the process, 0 where the package has nothing to do, None where it
    lacks what it should have."""
    is_script = call.kind == "script" and call.name in _scripts(folder)
    if call.kind == "script" and not is_script:
        if call.skips_lacking or call.may_lack:
            return 0
        if not call.or_command:
            print(f"no script {call.name!r} in {folder / 'package.json'}", file=sys.stderr)
            return None
    form = ["npm", "run", call.name, "--"] if is_script else ["npx", "--", call.name]
    words = [sys.executable, "-m", "plainfall.ecosystems.node.clients.runner", *form, *call.words]
    os.chdir(folder)
    return _spawned(os.P_NOWAIT, words, dict(os.environ))


def _spawned(how: int, words: list[str], variables: dict[str, str]) -> int:
    """A process in the current folder: its id, or its status where it is waited for."""
    return os.spawnve(how, words[0], words, variables)


def _link(folder: Path, script: str) -> str:
    return f"{folder}:{script}"


def _chain() -> list[str]:
    """The scripts that led to this one, the nearest last."""
    return [one for one in os.environ.get(_CHAIN, "").split(_BETWEEN) if one]


def _manifest_folder(start: Path) -> Path:
    return next((one for one in (start, *start.parents) if (one / "package.json").is_file()), start)


def _manifest(folder: Path) -> Mapping[str, object]:
    try:
        document = json.loads(plain_text(folder / "package.json", "utf-8-sig"))
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
    chain = [*_chain(), _link(folder, name)]
    if chain.count(chain[-1]) > _REPEATS or len(chain) > _DEEPEST:
        print(
            f"the script {name!r} of {folder / 'package.json'} runs itself again and again", file=sys.stderr
        )
        return 1
    os.environ[_CHAIN] = _BETWEEN.join(chain)
    os.chdir(folder)
    steps = [(one, scripts[one]) for one in (f"pre{name}", name, f"post{name}") if one in scripts]
    for position, (step, text) in enumerate(steps):
        line = f"{text} {shlex.join(words)}" if step == name and words else text
        variables = _variables(folder, step, text)
        if position == len(steps) - 1:
            os.execve("/bin/sh", ["sh", "-c", line], variables)
        status = _spawned(os.P_WAIT, ["/bin/sh", "-c", line], variables)
        if status != 0:
            return status if status > 0 else 128 - status
    return 0


def _execute(folder: Path, words: list[str]) -> int:
    """A command of an installed package, by its own name or by that of the package."""
    rest = list(words)
    variables = _variables(folder, "exec", "")
    os.chdir(folder)
    command = rest[0].rpartition("@")[0] or rest[0]
    for name in (command, *_of_package(folder, command)):
        for place in variables["PATH"].split(os.pathsep):
            file = os.path.join(place, name)
            if os.access(file, os.X_OK) and os.path.isfile(file) and os.path.basename(file) not in _NAMES:
                os.execve(file, [file, *rest[1:]], variables)
    print(f"{command}: no installed package has this command", file=sys.stderr)
    return 127


def _is_installed(folder: Path, name: str) -> bool:
    """Whether a package of the project or of one above it brings a command of that name."""
    places = (one / "node_modules/.bin" for one in (folder, *folder.parents))
    return "/" not in name and any(os.access(place / name, os.X_OK) for place in places)


def _of_package(folder: Path, package: str) -> list[str]:
    """The command that a package is meant by: its only one, or the one of its own name without the scope."""
    from plainfall.ecosystems.node.install.bins import bins_of_manifest

    for one in (folder, *folder.parents):
        manifest = one / "node_modules" / package / "package.json"
        if manifest.is_file():
            names = list(bins_of_manifest(manifest))
            own = package.rpartition("/")[2]
            return names if len(names) == 1 else [own] if own in names else []
    return []


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
