"""Start commands that stand where a container or an editor starts the program."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Iterator
from typing import Any

from plainfall.clone.commands import Command, missing_script
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.reading import json_value

__all__ = ["container_commands", "editor_commands"]

# Below whatever says how to develop: a container is often for production, an editor's file one person's.
_CONTAINER_RANK = 32
_EDITOR_RANK = 36
_CONTAINERS = ("Dockerfile.dev", "docker/Dockerfile.dev", ".devcontainer/Dockerfile", "Dockerfile")
_LAUNCH = ".vscode/launch.json"
_INSIDE = re.compile(r"^(/(?:usr/src/)?(?:app|code|src|srv|opt/\w+|workspace)/)")
_OWN = {"python": ("python", "flask", "uvicorn", "gunicorn", "django-admin"), "node": ("node", "npm", "yarn")}


def container_commands(tree: Tree, folder: str, language: str) -> Iterator[Command]:
    """What a container file runs in the end (its last CMD, or ENTRYPOINT), if it is of this language."""
    for name in _CONTAINERS:
        path = f"{folder}/{name}" if folder else name
        if path not in tree:
            continue
        try:
            text = re.sub(r"\\\n", " ", tree.text(path))
        except BadInput:
            continue  # not text: nothing runs it
        found = None
        for number, line in enumerate(text.splitlines(), 1):
            said = re.match(r"\s*(?:CMD|ENTRYPOINT)\s+(.+)$", line, re.IGNORECASE)
            found = (number, said.group(1).strip(), line.strip()) if said else found
        if found is None:
            continue
        line = _words(found[1])
        if line and _is_of(line, language) and not missing_script(line, tree, folder):
            place = Evidence(path, found[0], found[2])
            yield Command("server", line, "what the container runs", _CONTAINER_RANK, place, folder)
            return


def _words(said: str) -> str:
    """The command line of both forms, without the folder that the program has inside of a container."""
    if said.startswith("["):
        try:
            held = json_value(said, "")
        except BadInput:
            return ""
        words = [str(word) for word in held] if isinstance(held, list) else []
        if len(words) == 3 and words[0].endswith("sh") and words[1] == "-c":
            return words[2]
        return shlex.join(_INSIDE.sub("", word) for word in words)
    return said


def _is_of(line: str, language: str) -> bool:
    first = line.split()[0].rsplit("/", 1)[-1] if line.split() else ""
    return re.sub(r"[\d.]+$", "", first) in _OWN.get(language, ())


def editor_commands(tree: Tree, folder: str, language: str) -> Iterator[Command]:
    """What an editor's launch file starts: its configurations of this language that launch something."""
    if _LAUNCH not in tree:
        return
    try:
        text = re.sub(r"^\s*//.*$", "", tree.text(_LAUNCH), flags=re.MULTILINE)
        document = json_value(re.sub(r",(\s*[}\]])", r"\1", text), _LAUNCH)
    except BadInput:
        return  # an editor's own file is no reason to stop
    rows = document.get("configurations") if isinstance(document, dict) else None
    for row in rows if isinstance(rows, list) else ():
        if not isinstance(row, dict) or row.get("request") != "launch":
            continue
        line = _line(row, language, folder)
        if line and not missing_script(line, tree, folder):
            name = str(row.get("name", ""))
            place = tree.line_of(_LAUNCH, json.dumps(name))
            yield Command("server", line, f"the editor's configuration {name!r}", _EDITOR_RANK, place, folder)


def _line(row: dict[str, Any], language: str, folder: str) -> str:
    kind = str(row.get("type", ""))
    held = row.get("args")
    words = [_inside(str(word), folder) for word in held] if isinstance(held, list) else []
    program = _inside(str(row.get("program") or ""), folder)
    if language == "python" and kind in ("python", "debugpy"):
        if row.get("module"):
            return shlex.join(["python", "-m", str(row["module"]), *words])
        return shlex.join(["python", program, *words]) if program.endswith(".py") else ""
    if language == "node" and kind in ("node", "pwa-node"):
        runs = [str(word) for word in row.get("runtimeArgs") or []]
        if row.get("runtimeExecutable") in ("npm", "yarn", "pnpm"):
            return shlex.join([str(row["runtimeExecutable"]), *runs])
        return shlex.join(["node", *runs, program, *words]) if re.search(r"\.[cm]?js$", program) else ""
    return ""


def _inside(word: str, folder: str) -> str:
    """A path of the editor's workspace, from the part's folder."""
    plain = re.sub(r"^\$\{workspaceFolder\}/?", "", word)
    return plain.removeprefix(f"{folder}/") if folder else plain
