"""The port that a part's server is meant to have, and the place that says so."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from plainfall.clone.parts import PartFound
from plainfall.clone.readme import readme_addresses
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.documents import read_document
from plainfall.reading import json_value
from plainfall.sources.files import ENDINGS
from plainfall.sources.found import FileFound

__all__ = ["PORT_KEYS", "USUAL", "PortWanted", "port_wanted"]

USUAL = "the usual default"
PORT_KEYS = ("PORT", "SERVER_PORT", "APP_PORT", "HTTP_PORT", "WEB_PORT", "HTTP_SERVER_PORT")
_IN_COMMAND = re.compile(r"(?:--port[ =]|-p +|:)(\d{4,5})\b")
_IN_SCRIPT = re.compile(r"(?:--port[ =]|-p[ =]|\bPORT=)(\d{2,5})\b")
_SCRIPTS = ("dev", "start:dev", "serve", "start")
# What development servers listen on where nothing says otherwise, by the package that brings them.
_USUAL_PORTS = (
    ("vite", 5173),
    ("react-scripts", 3000),
    ("next", 3000),
    ("nuxt", 3000),
    ("@angular/core", 4200),
    ("@vue/cli-service", 8080),
    ("@nestjs/core", 3000),
    ("express", 3000),
)
_LANGUAGE_PORTS = {"python": 8000, "node": 3000, "php": 8000, "ruby": 3000}


@dataclass(frozen=True, slots=True)
class PortWanted:
    """The port, where it is said in words, and the place."""

    port: int
    source: str
    place: Evidence


def port_wanted(
    tree: Tree, part: PartFound, sources: Mapping[str, FileFound], own: Mapping[str, str]
) -> PortWanted:
    """From the start command, the person's own settings (``own``), the template, the framework's command, the
    README, the code's default, else what is usual."""
    return next(_said(tree, part, sources, own))


def _said(
    tree: Tree, part: PartFound, sources: Mapping[str, FileFound], own: Mapping[str, str]
) -> Iterator[PortWanted]:
    servers = part.candidates("server")
    line = servers[0].line if servers else ""
    found = _IN_COMMAND.search(line)
    if found:
        place = servers[0].evidence
        yield PortWanted(int(found.group(1)), f"the start command, {place}", place)
    for key in PORT_KEYS:
        if own.get(key, "").isdigit():
            yield PortWanted(int(own[key]), f"the setting {key}", Evidence(f"${key}"))
    if not part.beside:
        yield from _of_template(tree, part)
    if part.language == "node":
        yield from _of_manifest(tree, part.path)
    default = re.search(r"\$\{PORT:-(\d+)\}", line)
    if default:
        yield PortWanted(int(default.group(1)), USUAL, servers[0].evidence)
    others = tuple(one for name, endings in ENDINGS.items() if name != part.language for one in endings)
    yield from _of_code({path: said for path, said in sources.items() if not path.endswith(others)})
    if not part.beside:
        yield from _of_readme(tree, part.path)
    if part.language == "node":
        yield from _of_packages(tree, part.path)
    place = servers[0].evidence if servers else next(iter(part.evidence), Evidence(part.path or "."))
    yield PortWanted(_LANGUAGE_PORTS.get(part.language, 8000), USUAL, place)


def _of_template(tree: Tree, part: PartFound) -> Iterator[PortWanted]:
    for found in part.templates:
        document = read_document(found.kind, tree.text(found.template), found.template)
        for key in (*PORT_KEYS, "server.port", "http.port", "app.port", "port"):
            for entry in document.entries:
                if entry.key == key and entry.value.isdigit() and 0 < int(entry.value) < 65_536:
                    place = Evidence(found.template, entry.line, f"{entry.key}={entry.value}")
                    yield PortWanted(int(entry.value), f"the setting {entry.key}", place)


def _of_manifest(tree: Tree, folder: str) -> Iterator[PortWanted]:
    path = f"{folder}/package.json" if folder else "package.json"
    scripts: Any = _manifest(tree, path).get("scripts")
    for name in _SCRIPTS if isinstance(scripts, dict) else ():
        text = scripts.get(name)
        found = _IN_SCRIPT.search(text) if isinstance(text, str) else None
        if found:
            yield PortWanted(int(found.group(1)), f"the script {name!r}", tree.line_of(path, f'"{name}"'))
    place = f"{folder}/" if folder else ""
    for name in tree.folders.get(folder, ()):
        if re.match(r"(vite|vue|nuxt|webpack)\.config\.\w+$", name):
            try:
                text = tree.text(place + name)
            except BadInput:
                continue  # what cannot be read says nothing of a port
            found = re.search(r"\bport:\s*(\d{2,5})\b", text)
            if found:
                line = text.count("\n", 0, found.start()) + 1
                yield PortWanted(int(found.group(1)), f"{name}", Evidence(place + name, line, found.group(0)))


def _manifest(tree: Tree, path: str) -> dict[str, object]:
    if path not in tree:
        return {}
    try:
        document = json_value(tree.text(path), path)
    except BadInput:
        return {}  # a damaged manifest is told of where it is installed from
    return document if isinstance(document, dict) else {}


def _of_code(sources: Mapping[str, FileFound]) -> Iterator[PortWanted]:
    for path in sorted(sources):
        for use in sources[path].uses:
            if use.key in PORT_KEYS and (use.default or "").isdigit():
                yield PortWanted(int(use.default or 0), f"the code's default, {use.place}", use.place)
    for path in sorted(sources):
        for one in sources[path].constants:
            if one.kind == "port" and one.name.upper() in PORT_KEYS and int(one.value) > 1000:
                yield PortWanted(int(one.value), f"the constant {one.name}, {one.place}", one.place)


def _of_readme(tree: Tree, folder: str) -> Iterator[PortWanted]:
    place = f"{folder}/" if folder else ""
    for name in tree.folders.get(folder, ()):
        if name.lower().startswith("readme"):
            try:
                text = tree.text(place + name)
            except BadInput:
                continue  # a README in an old encoding is no reason to stop
            for port, _, evidence in readme_addresses(text, place + name):
                if port:
                    yield PortWanted(port, f"the README, {evidence}", evidence)


def _of_packages(tree: Tree, folder: str) -> Iterator[PortWanted]:
    path = f"{folder}/package.json" if folder else "package.json"
    document = _manifest(tree, path)
    for package, port in _USUAL_PORTS:
        for table in ("dependencies", "devDependencies"):
            held = document.get(table)
            if isinstance(held, dict) and package in held:
                yield PortWanted(port, f"what {package} takes by itself", tree.line_of(path, f'"{package}"'))
