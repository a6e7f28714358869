"""The names of Python's package and environment clients, as a project's own scripts call them.

Small files of these names stand first on the path of a part's commands, and run this module: ``NAME run COMMAND``
is the command in the part's environment; what would install is answered, since dependencies are Plainfall's own
business. So no script of a project ever works on the person's other environments."""

from __future__ import annotations

import os
import re
import shlex
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.confinement import Confined
from plainfall.ecosystems.shared.programs import write_client_names
from plainfall.errors import BadInput
from plainfall.plain_files import plain_text
from plainfall.reading import toml_table

__all__ = ["main", "write_names"]

_KEPT = "PLAINFALL_PYTHONPATH"  # the variable that the small files carry the project's own in
_DEPTH = "PLAINFALL_RUNS"  # how many of these led to this one
_DEEPEST = 20
_RUNNERS = ("uv", "poetry", "pipenv", "pdm", "hatch", "rye")
_NAMES = (*_RUNNERS, "uvx", "pipx")
_BY_PIP = ("pip", "pip3")
_INSTALLING = frozenset(
    "install sync update upgrade lock export check self env venv config build cache".split()
)
_CHANGING = frozenset("add remove uninstall init new publish".split())
# Options of ``run`` that take a word; every other one stands alone.
_WITH_WORD = frozenset(
    "--extra --group --only-group --no-group --with --with-editable --python -p --env-file --directory --project "
    "--package -e --env -C -P -v --index --venv".split()
)


def write_names(confined: Confined, folder: Path, *, has_pip: bool) -> None:
    """Writes the small files into a folder of the clone (made if it does not exist); none for pip where the
    environment has its own."""
    for name in _BY_PIP if has_pip else ():
        confined.remove(folder / name)
    names = _NAMES if has_pip else (*_NAMES, *_BY_PIP)
    write_client_names(
        confined, folder, "plainfall.ecosystems.python.clients.own_names", names, keeping=_KEPT
    )


def main(words: Sequence[str]) -> int:
    """Does what ``NAME WORD…`` asks for; returns the exit status."""
    name, rest = words[0], list(words[1:])
    while rest and rest[0].startswith("-"):
        option = rest.pop(0)
        if option in _WITH_WORD and rest:
            rest.pop(0)
    word = rest[0] if rest else ""
    if name in ("uvx", "pipx") or word in ("run", "tool", "x"):
        behind = rest if name == "uvx" else rest[1:]
        if word == "tool" or (name == "pipx" and word == "run"):
            behind = behind[1:] if word == "tool" else behind
        return _run(name, behind)
    if name in _BY_PIP or word in ("pip", *_INSTALLING):
        print(f"{name} {word}: Plainfall has installed the dependencies; nothing is done", file=sys.stderr)
        return 0
    if word in _CHANGING:
        print(f"{name} {word}: change the list itself, then run: plainfall onboard", file=sys.stderr)
        return 1
    print(
        f"{name} {word}: only `{name} run COMMAND` is done here, in the part's environment", file=sys.stderr
    )
    return 1


def _run(name: str, words: list[str]) -> int:
    """The command behind ``run``, in place of this process."""
    rest = list(words)
    module = False
    while rest and rest[0].startswith("-"):
        option = rest.pop(0)
        if option == "--":
            break
        if option in ("-m", "--module"):
            module = True
            break
        if option in _WITH_WORD and rest:
            rest.pop(0)
    if not rest:
        print(f"{name} run: what is to be run?", file=sys.stderr)
        return 2
    if module:
        rest = ["python", "-m", *rest]
    variables = {key: value for key, value in os.environ.items() if key != "PYTHONPATH"}
    depth = int(variables.get(_DEPTH, "0")) if variables.get(_DEPTH, "0").isdigit() else 0
    if depth > _DEEPEST:
        print(f"{name} run {shlex.join(rest)}: it runs itself again and again", file=sys.stderr)
        return 1
    variables[_DEPTH] = str(depth + 1)
    kept = variables.pop(_KEPT, "")
    if kept:
        variables["PYTHONPATH"] = kept
    script = _script(name, rest[0])
    if script:
        line = f"{script} {shlex.join(rest[1:])}".strip()
        os.execve("/bin/sh", ["sh", "-c", line], variables)
    if rest[0].endswith(".py"):
        rest = ["python", *rest]
    try:
        os.execvpe(rest[0], rest, variables)
    except OSError as error:
        print(f"{rest[0]}: {error.strerror}", file=sys.stderr)
        return 127


def _script(name: str, word: str) -> str:
    """The text of a script that the manifest gives the client, "" for none."""
    start = Path.cwd()
    file = next(
        (one / "pyproject.toml" for one in (start, *start.parents) if (one / "pyproject.toml").is_file()),
        None,
    )
    try:
        table: Any = toml_table(plain_text(file, "utf-8-sig"), str(file)) if file else {}
    except (OSError, ValueError, BadInput) as error:
        print(f"{file}: {error}", file=sys.stderr)
        return ""
    places = {"pdm": ("scripts",), "rye": ("scripts",), "hatch": ("envs", "default", "scripts")}
    for key in ("tool", name, *places.get(name, ("scripts",))):
        table = table.get(key) if isinstance(table, dict) else None
    found = table.get(re.sub(r"^[\w-]+:", "", word)) if isinstance(table, dict) and name in places else None
    if isinstance(found, dict):
        found = found.get("cmd") or found.get("shell")
    if isinstance(found, list):
        found = shlex.join(map(str, found))
    return found if isinstance(found, str) else ""


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
