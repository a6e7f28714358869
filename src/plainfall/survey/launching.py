"""Start commands that stand where a container or an editor starts the program."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Iterator
from typing import Any

from plainfall.clone.commands import Command, missing_script
from plainfall.clone.walk import Tree
from plainfall.ecosystems import vocabulary
from plainfall.ecosystems.shape import Language, Recognising
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import json_value

__all__ = ["container_commands", "editor_commands"]

# Below whatever says how to develop: a container is often for production, an editor's file one person's.
_CONTAINER_RANK = 32
_EDITOR_RANK = 36
_CONTAINERS = ("Dockerfile.dev", "docker/Dockerfile.dev", ".devcontainer/Dockerfile", "Dockerfile")
_LAUNCH = ".vscode/launch.json"
_INSIDE = regex(r"^(/(?:usr/src/)?(?:app|code|src|srv|opt/\w+|workspace)/)")


def container_commands(tree: Tree, folder: str, language: Language) -> Iterator[Command]:
    """What a container file runs in the end (its last CMD, or ENTRYPOINT), if it is of this language."""
    for name in _CONTAINERS:
        path = f"{folder}/{name}" if folder else name
        if path not in tree:
            continue
        try:
            text = re.sub(r"\\\n", " ", tree.text(path))
        except BadInput:
            continue  # not text: nothing runs it
        result = None
        for number, line in enumerate(text.splitlines(), 1):
            source_text = re.match(r"\s*(?:CMD|ENTRYPOINT)\s+(.+)$", line, re.IGNORECASE)
            result = (number, source_text.group(1).strip(), line.strip()) if source_text else result
        if result is None:
            continue
        line = _words(result[1])
        own = vocabulary().language_of(line) == language.name if line else False
        if own and not missing_script(line, tree, folder, vocabulary()):
            place = Evidence(path, result[0], result[2])
            yield Command("server", line, "what the container runs", _CONTAINER_RANK, place, folder)
            return


def _words(said: str) -> str:
    """The command line of both forms, without the folder that the program has inside of a container."""
    if said.startswith("["):
        try:
            value = json_value(said, "")
        except BadInput:
            return ""
        words = [str(word) for word in value] if isinstance(value, list) else []
        if len(words) == 3 and words[0].endswith("sh") and words[1] == "-c":
            return words[2]
        return shlex.join(_INSIDE.sub("", word) for word in words)
    return said


def editor_commands(tree: Tree, folder: str, recognising: Recognising) -> Iterator[Command]:
    """What an editor's launch file starts: its configurations of this language that launch something."""
    if _LAUNCH not in tree:
        return
    try:
        text = re.sub(r"^[ \t]*//.*$", "", tree.text(_LAUNCH), flags=re.MULTILINE)
        document = json_value(re.sub(r",(\s*[}\]])", r"\1", text), _LAUNCH)
    except BadInput:
        return  # an editor's own file is no reason to stop
    rows = document.get("configurations") if isinstance(document, dict) else None
    for row in rows if isinstance(rows, list) else ():
        if not isinstance(row, dict) or row.get("request") != "launch":
            continue
        line = _line(row, recognising, folder)
        if line and not missing_script(line, tree, folder, vocabulary()):
            name = str(row.get("name", ""))
            place = tree.line_of(_LAUNCH, json.dumps(name))
            yield Command("server", line, f"the editor's configuration {name!r}", _EDITOR_RANK, place, folder)


def _line(row: dict[str, Any], recognising: Recognising, folder: str) -> str:
    value = row.get("args")
    words = [_inside(str(word), folder) for word in value] if isinstance(value, list) else []
    return recognising.editor_command(row, words, _inside(str(row.get("program") or ""), folder))


def _inside(word: str, folder: str) -> str:
    """A path of the editor's workspace, from the part's folder."""
    plain = re.sub(r"^\$\{workspaceFolder\}/?", "", word)
    return plain.removeprefix(f"{folder}/") if folder else plain
