"""Versions that a manifest forces on others' wishes: ``overrides`` (nested), ``resolutions`` (by path)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from plainfall.patterns import regex

__all__ = ["Overrides"]

_PIECES = regex(r"\*\*|(?:@[^/]+/)?[^/]+")


class Overrides:
    """What a manifest forces, looked up by name and by who led to it."""

    def __init__(self, manifest: Mapping[str, Any]) -> None:
        asked = {
            name: str(text)
            for table in ("devDependencies", "dependencies")
            for name, text in (manifest.get(table) or {}).items()
        }
        own = manifest.get("pnpm")
        nested = [manifest.get("overrides"), own.get("overrides") if isinstance(own, dict) else None]
        rows = [row for table in nested if isinstance(table, dict) for row in _nested(table, ())]
        flat = manifest.get("resolutions")
        for path, text in flat.items() if isinstance(flat, dict) else ():
            names = tuple(_bare(one) for one in _PIECES.findall(str(path)) if one != "**")
            rows.append((names, str(text)))
        self._rows = [
            (path, asked.get(text[1:], text) if text.startswith("$") else text) for path, text in rows
        ]

    def of(self, name: str, text: str, chain: tuple[str, ...]) -> str:
        """The wish that counts; ``chain`` are the names that lead to it, itself last. What is more closely
        described goes first."""
        best: tuple[int, str] | None = None
        for path, forced in self._rows:
            if path and path[-1] == name and _leads(path[:-1], chain[:-1]):
                best = max(best or (0, forced), (len(path), forced), key=lambda pair: pair[0])
        return best[1] if best else text


def _nested(table: Mapping[str, Any], above: tuple[str, ...]) -> Iterator[tuple[tuple[str, ...], str]]:
    for key, value in table.items():
        pieces = tuple(_bare(one) for one in str(key).split(">"))
        path = above if key == "." else (*above, *pieces)
        if isinstance(value, dict):
            yield from _nested(value, path)
        else:
            yield path, str(value)


def _bare(name: str) -> str:
    """A name without the range behind it."""
    plain = name.strip()
    return plain[:1] + plain[1:].partition("@")[0]


def _leads(path: tuple[str, ...], chain: tuple[str, ...]) -> bool:
    """Whether the names of a path stand in a chain, in their order."""
    rest = iter(chain)
    return all(name in rest for name in path)
