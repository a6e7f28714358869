"""Modules that only some releases of the runtime bring, and that a clone's sources load."""

from __future__ import annotations

from plainfall.clone.parts import Extension
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["OPTIONAL", "needed_modules"]

OPTIONAL = ("node:sqlite", "node:test", "node:sea")
_LOADS = regex(rf"(?:from\s+|import\s+|require\(\s*|import\(\s*)['\"]({'|'.join(OPTIONAL)})['\"]")
_SOURCES = (".js", ".mjs", ".cjs", ".ts", ".mts", ".cts")
_TESTS = regex(r"(^|/)(tests?|__tests__|spec|examples?|docs?|benchmarks?)(/|$)|\.(test|spec)\.\w+$")
_MOST_FILES = 400


def needed_modules(tree: Tree, folder: str) -> tuple[Extension, ...]:
    """The modules that the part's sources load, tests left out; each runtime is asked whether it has them."""
    place = f"{folder}/" if folder else ""
    paths = [path for path in own_files(tree, folder) if path.endswith(_SOURCES) and not _TESTS.search(path)]
    results: dict[str, Extension] = {}
    for path in sorted(paths, key=lambda one: (one.count("/"), one))[:_MOST_FILES]:
        try:
            text = tree.text(place + path)
        except BadInput:
            continue  # a source file that is no text loads nothing
        for match in _LOADS.finditer(text) if "node:" in text else ():
            line = text.count("\n", 0, match.start()) + 1
            evidence = Evidence(place + path, line, match.group(0).strip())
            results.setdefault(match.group(1), Extension(match.group(1), evidence, match.group(1)))
    return tuple(results.values())
