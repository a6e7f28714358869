"""Where a Node clone asks for a version: one small reader per place."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.lists.documents import plain_manifest
from plainfall.ecosystems.node.resolve.versions import is_range
from plainfall.ecosystems.node.runtime.lines import Lines, known_lines
from plainfall.ecosystems.shared.version_files import numbered_lines, tool_versions, upwards, within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import json_object
from plainfall.runtimes.asks import Strength, VersionAsk

__all__ = ["manifest", "node_asks"]

Reader = Callable[[Tree, str, Lines], Iterator[VersionAsk]]
_VERSION = regex(r"v?(\d+)(?:\.(\d+|x)(?:\.(\d+|x))?)?$")
_PROSE = regex(
    r"\bNode(?:\.?js)?\s*(?:version\s*)?\(?\s*(>=|≥|v)?\s*(\d{1,2}(?:\.\d+){0,2})(\.x)?(\s*\+|\s+or\s+(?:later|newer|higher|above))?",
    re.IGNORECASE,
)
_STATED = regex(r"(?:node[-_]version['\"]?\s*:|image:\s*node:)\s*(.+)$")


def node_asks(tree: Tree, folder: str, cache: Path | None = None) -> list[VersionAsk]:
    """All asks for a part, from its folder and, where a place holds for subfolders too, from above it.
    ``cache`` is where learnt release lines are stored."""
    lines = known_lines(cache)
    return [ask for reader in _READERS for ask in reader(tree, folder, lines)]


def manifest(tree: Tree, folder: str) -> dict[str, Any]:
    """The folder's ``package.json`` as a mapping, empty if it has none. Raises BadInput with the line."""
    path = within(folder, "package.json")
    if path not in tree:
        return {}
    return plain_manifest(json_object(tree.text(path), path))


def _specifier(known: Lines, text: str) -> str | None:
    """The range of a version as pin files write it: exact with a patch number, else the line; a code name or
    ``lts/*`` its lines; None for what means any version, or nothing that is known."""
    word = text.strip().lower()
    if word in ("node", "stable", "current", "latest", "system", "*"):
        return None
    if word.startswith("lts"):
        name = word.partition("/")[2]
        back = re.fullmatch(r"-(\d+)", name)
        majors = known.majors
        if name in known.by_name:
            return f"{known.by_name[name][0]}.x"
        if back and int(back.group(1)) < len(majors):
            return f"{majors[-1 - int(back.group(1))]}.x"
        return " || ".join(f"{major}.x" for major in known.current()) if name in ("", "*") else None
    match = _VERSION.fullmatch(word)
    if not match:
        return None
    pieces = [piece for piece in match.groups() if piece and piece != "x"]
    return ".".join(pieces) if len(pieces) == 3 else f"{'.'.join(pieces)}.x"


def _pin_files(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    """``.nvmrc`` and ``.node-version``, in the part's folder or the nearest one above."""
    for name in (".nvmrc", ".node-version"):
        for path in upwards(folder, name):
            if path not in tree:
                continue
            for number, line in enumerate(tree.text(path).splitlines(), 1):
                text = line.partition("#")[0].strip()
                if not text:
                    continue
                specifier = _specifier(known, text)
                place = Evidence(path, number, text)
                if specifier is not None:
                    strength = Strength.RANGE if "||" in specifier else Strength.PIN
                    yield VersionAsk(text, specifier, strength, "pin file", place)
                elif not re.fullmatch(r"node|stable|current|latest|system|\*", text.lower()):
                    raise BadInput(
                        f"{text!r} is no Node version",
                        place=place,
                        remedy="Write a version such as 20 or 20.11.1, or lts/* for one with long support. "
                        "If it names a newer line, run: plainfall survey --release-index ADDRESS",
                    )
                break
            break


def _tool_versions(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    for text, place in tool_versions(tree, folder, "node(?:js)?"):
        specifier = _specifier(known, text)
        if specifier:
            yield VersionAsk(text, specifier, Strength.PIN, "pin file", place)
            return


def _engines(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    """``engines.node``, ``devEngines.runtime`` and a version manager's own entry of the manifest."""
    document, path = manifest(tree, folder), within(folder, "package.json")
    engines = document.get("engines")
    text = engines.get("node") if isinstance(engines, dict) else None
    if isinstance(text, str) and text.strip():
        place = tree.line_of(path, '"node"')
        if not is_range(text):
            raise BadInput(
                f"engines.node is {text!r}, which is no version range",
                place=place,
                remedy='Write a range such as ">=20" or "^20.11 || ^22".',
            )
        yield VersionAsk(text, text, Strength.RANGE, "manifest", place)
    runtime = (
        document.get("devEngines", {}).get("runtime")
        if isinstance(document.get("devEngines"), dict)
        else None
    )
    for one in runtime if isinstance(runtime, list) else [runtime]:
        if isinstance(one, dict) and one.get("name") == "node" and is_range(str(one.get("version", ""))):
            wanted = str(one["version"])
            yield VersionAsk(wanted, wanted, Strength.RANGE, "manifest", tree.line_of(path, '"devEngines"'))
    for value in document.values():
        # A version manager's own table: {"node": "20.11.1", …}, nothing but exact versions in it.
        pinned = value.get("node") if isinstance(value, dict) and value is not engines else None
        if isinstance(pinned, str) and re.fullmatch(r"\d+\.\d+\.\d+", pinned):
            yield VersionAsk(pinned, pinned, Strength.PIN, "manifest", tree.line_of(path, pinned))


def _containers(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    for name in ("Dockerfile", "Dockerfile.dev", ".devcontainer/Dockerfile"):
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            match = re.match(r"^\s*FROM\s+(?:\S+/)?node:(\d+(?:\.\d+){0,2})", line, re.IGNORECASE)
            specifier = _specifier(known, match.group(1)) if match else None
            if match and specifier:
                place = Evidence(path, number, line.strip())
                yield VersionAsk(match.group(1), specifier, Strength.PREFERENCE, "container file", place)
                break


def _workflows(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    """Versions that CI runs, each a hint: a list of several says that they all work."""
    for path in tree.files:
        if not re.match(r"(\.github/workflows/[^/]+|\.gitlab-ci|\.circleci/config)\.ya?ml$", path):
            continue
        for number, line in numbered_lines(tree, path):
            match = _STATED.search(line)
            for text in re.findall(r"\d+(?:\.\d+){0,2}", match.group(1)) if match else ():
                specifier = _specifier(known, text)
                if specifier:
                    place = Evidence(path, number, line.strip())
                    yield VersionAsk(text, specifier, Strength.HINT, "CI workflow", place)


def _prose(tree: Tree, folder: str, known: Lines) -> Iterator[VersionAsk]:
    for name in tree.folders.get(folder, ()):
        if not re.match(r"readme(\.(md|markdown|txt))?$", name, re.IGNORECASE):
            continue
        for number, line in numbered_lines(tree, within(folder, name)):
            match = _PROSE.search(line)
            if match and 8 <= int(match.group(2).partition(".")[0]) < 60:
                at_least = match.group(1) in (">=", "≥") or bool(match.group(4))
                specifier = f">={match.group(2)}" if at_least else _specifier(known, match.group(2))
                place = Evidence(within(folder, name), number, line.strip())
                if specifier:
                    yield VersionAsk(match.group(0).strip(), specifier, Strength.HINT, "README", place)
                return


_READERS: tuple[Reader, ...] = (_pin_files, _tool_versions, _engines, _containers, _workflows, _prose)
