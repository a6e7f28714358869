"""The port that a part's server is meant to have, and the place that says so."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from plainfall.clone.parts import PartFound, PortWanted
from plainfall.clone.readme import readme_addresses
from plainfall.clone.walk import Tree
from plainfall.ecosystems import language_named, languages, recognising_of
from plainfall.ecosystems.frameworks import every_traits
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.documents import read_document
from plainfall.server.ports import port_in
from plainfall.sources.values import FileFound

__all__ = ["PORT_KEYS", "USUAL", "port_wanted"]

USUAL = "the usual default"
PORT_KEYS = ("PORT", "SERVER_PORT", "APP_PORT", "HTTP_PORT", "WEB_PORT", "HTTP_SERVER_PORT")


_FIRST = 1024  # the first port that an ordinary user may listen on


def port_wanted(
    tree: Tree, part: PartFound, sources: Mapping[str, FileFound], own: Mapping[str, str]
) -> PortWanted:
    """From the start command, the person's own settings (``own``), the template, the framework's command, the
    README, the code's default, else what is usual. A port that only the system's own servers may have, or no port,
    is meant for elsewhere."""
    return next(one for one in _wanted(tree, part, sources, own) if one.port >= _FIRST)


def _wanted(
    tree: Tree, part: PartFound, sources: Mapping[str, FileFound], own: Mapping[str, str]
) -> Iterator[PortWanted]:
    servers = part.candidates("server")
    line = servers[0].line if servers else ""
    port = port_in(line)
    if port:
        place = servers[0].evidence
        yield PortWanted(port, f"the start command, {place}", place)
    for key in PORT_KEYS:
        if own.get(key, "").isdigit():
            yield PortWanted(int(own[key]), f"the setting {key}", Evidence(f"${key}"))
    if not part.is_secondary:
        yield from _of_template(tree, part)
    recognising = recognising_of(part.language)
    if recognising is not None:
        yield from recognising.ports(tree, part.path)
    default = re.search(r"\$\{PORT:-(\d+)\}", line)
    if default:
        yield PortWanted(int(default.group(1)), USUAL, servers[0].evidence)
    others = tuple(ending for one in languages() if one.name != part.language for ending in one.endings)
    yield from _of_code({path: text for path, text in sources.items() if not path.endswith(others)})
    if not part.is_secondary:
        yield from _of_readme(tree, part.path)
    yield from _of_frameworks(tree, part)
    place = servers[0].evidence if servers else next(iter(part.evidence), Evidence(part.path or "."))
    language = language_named(part.language)
    yield PortWanted(language.port if language else 8000, USUAL, place)


def _of_template(tree: Tree, part: PartFound) -> Iterator[PortWanted]:
    for result in part.templates:
        document = read_document(result.kind, tree.text(result.template), result.template)
        for key in (*PORT_KEYS, "server.port", "http.port", "app.port", "port"):
            for entry in document.entries:
                if entry.key == key and entry.value.isdigit() and 0 < int(entry.value) < 65_536:
                    place = Evidence(result.template, entry.line, f"{entry.key}={entry.value}")
                    yield PortWanted(int(entry.value), f"the setting {entry.key}", place)


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


def _of_frameworks(tree: Tree, part: PartFound) -> Iterator[PortWanted]:
    names = part.dependencies.names if part.dependencies else ()
    for traits in every_traits():
        for package, port in traits.ports.items():
            if package in names:
                place = tree.line_of(part.evidence[0].path, f'"{package}"')
                yield PortWanted(port, f"what {package} takes by itself", place)
