"""The order in which the parts of a clone are worked on: one that needs another's address comes after it."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from functools import cache

from plainfall.clone.parts import PartFound
from plainfall.clone.walk import Tree
from plainfall.ecosystems import languages
from plainfall.ecosystems.frameworks import every_traits
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["in_order", "needs_of", "proxy_targets"]

_LOCAL = regex(r"\b(?:localhost|127\.0\.0\.1|0\.0\.0\.0):(\d{2,5})\b")
# Lines about who may ask, and not about whom to ask.
_ABOUT_ASKERS = regex(r"cors|origin|allowed|trusted|client_url|frontend|redirect|webapp", re.IGNORECASE)
_FILES = regex(r"proxy\.conf\.(json|[cm]?js)|setupProxy\.[jt]s")


@cache
def _files() -> re.Pattern[str]:
    """The files in which a part's addresses of others may stand: manifests and frameworks' configuration."""
    stems = "|".join(one.configuration for one in every_traits() if one.configuration)
    manifests = "|".join(re.escape(name) for one in languages() for name in one.manifests)
    return re.compile(rf"{manifests}|(vue|svelte|{stems})(\.config)?\.(json|[cm]?[jt]s)|{_FILES.pattern}")


def needs_of(
    parts: Sequence[PartFound], ports: Mapping[str, int], clients: frozenset[str], tree: Tree
) -> dict[str, dict[str, Evidence]]:
    """For each part the parts whose address it needs, with the line that says so. ``ports`` are the ports
    that the clone means, by part; ``clients`` the parts that serve pages which call another's interface: no
    other part needs those."""
    results: dict[str, dict[str, Evidence]] = {part.key: {} for part in parts}
    for part in parts:
        others = {port: path for path, port in ports.items() if path != part.key}
        for place, port in _addresses(part, tree):
            other = others.get(port)
            if other in results and not (other in clients and part.key not in clients):
                results[part.key].setdefault(other, place)
    return results


def proxy_targets(part: PartFound, tree: Tree) -> list[tuple[Evidence, int]]:
    """The ports of this machine to which the part's dev server passes requests on, with the line that says so."""
    results = []
    for place, port in _addresses(part, tree):
        if any(place.path == one.template for one in part.templates):
            continue
        manifest = place.path.endswith("package.json")
        if '"proxy"' in place.text if manifest else "proxy" in tree.text(place.path).lower():
            results.append((place, port))
    return results


def in_order(
    parts: Sequence[PartFound], needs: Mapping[str, Mapping[str, Evidence]], clients: frozenset[str]
) -> list[PartFound]:
    """The parts in their order, those that others need first, and clients last. A secondary part without a server
    builds what the other one serves, and comes first."""
    by_path = {part.key: part for part in parts}
    ordered: list[PartFound] = []
    under_way: set[str] = set()

    def visit(part: PartFound) -> None:
        if part in ordered or part.key in under_way:
            return  # done; or each needs the other, and the order is as it stands
        under_way.add(part.key)
        for path in needs.get(part.key, ()):
            visit(by_path[path])
        ordered.append(part)

    def rank(part: PartFound) -> tuple[bool, bool]:
        makes = part.is_secondary and not part.candidates("server")
        return not makes, part.key in clients or (part.is_secondary and not makes)

    for part in sorted(parts, key=rank):
        visit(part)
    return ordered


def _addresses(part: PartFound, tree: Tree) -> Iterator[tuple[Evidence, int]]:
    """Local addresses in the part's templates, its settings files and its proxies' configuration."""
    place = f"{part.path}/" if part.path else ""
    names = tree.folders.get(part.path, [])
    paths = [place + name for name in names if _files().fullmatch(name)]
    paths += [one for one in (f"{place}src/setupProxy.js", f"{place}src/proxy.conf.json") if one in tree]
    paths += [one.template for one in part.templates]
    for path in paths:
        try:
            lines = tree.text(path).splitlines()
        except BadInput:
            continue  # not text: it tells no address
        for number, line in enumerate(lines, 1):
            if not _ABOUT_ASKERS.search(line):
                for port in _LOCAL.findall(line):
                    yield Evidence(path, number, line.strip()), int(port)
