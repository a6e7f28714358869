"""What a registry says of a package, and what a package says of itself, normalised: tables of texts, lists of
texts. Anything else in such a place is treated as absent."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

__all__ = ["plain_manifest", "tags_of", "versions_of"]

_TABLES = (
    *("dependencies", "devDependencies", "optionalDependencies", "peerDependencies"),
    *("engines", "scripts"),
)
_LISTS = ("os", "cpu", "libc")


def versions_of(document: Any) -> dict[str, dict[str, Any]]:
    """The versions of a package document, each a table; those of another shape are left out."""
    versions = document.get("versions") if isinstance(document, dict) else None
    if not isinstance(versions, dict):
        return {}
    return {str(version): about for version, about in versions.items() if isinstance(about, dict)}


def tags_of(document: Any) -> dict[str, str]:
    """The distribution tags of a package document."""
    tags = document.get("dist-tags") if isinstance(document, dict) else None
    return _texts(tags)


def plain_manifest(document: Any, version: str = "") -> dict[str, Any]:
    """A manifest whose tables, lists and texts are what they should be. ``version`` is the one that it is known
    under."""
    if not isinstance(document, dict):
        return {"version": version} if version else {}
    plain = dict(document)
    for name in _TABLES:
        if name in plain:
            plain[name] = _texts(plain[name])
    for name in _LISTS:
        if name in plain:
            value = [plain[name]] if isinstance(plain[name], str) else plain[name]
            plain[name] = [word for word in value if isinstance(word, str)] if isinstance(value, list) else []
    for name in ("dist", "peerDependenciesMeta"):
        if name in plain:
            value = plain[name]
            plain[name] = {
                str(key): inner
                for key, inner in (value.items() if isinstance(value, dict) else ())
                if isinstance(inner, str if name == "dist" else dict)
            }
    if version:
        plain["version"] = version
    return plain


def _texts(value: Any) -> dict[str, str]:
    items: Mapping[Any, Any] = value if isinstance(value, dict) else {}
    return {str(key): inner for key, inner in items.items() if isinstance(inner, str)}
