"""Names of settings templates, and of the files that they are for."""

from __future__ import annotations

import re

from plainfall.formats.documents import kind_of_file
from plainfall.patterns import regex

__all__ = ["target_of"]

_MARK = regex(
    r"(?:^|(?<=[.\-_]))(?:example|sample|dist|template|default|tpl|tmpl|skel|skeleton)(?=[.\-_]|$)",
    re.IGNORECASE,
)


def target_of(name: str) -> str | None:
    """The file name that a template of this name is for (``.env.local-sample`` → ``.env.local``); None if
    it is no template's name."""
    match = _MARK.search(name)
    kind = kind_of_file(_MARK.sub("", name).strip(".-_")) or kind_of_file(name)
    if not match or not kind:
        return None
    before, after = name[: match.start()].rstrip(".-_"), name[match.end() :].lstrip("-_")
    if after and not after.startswith("."):
        after = f".{after}"
    target = before + after
    if kind_of_file(target) == "dotenv":
        return target if target.startswith(".") or re.search(r"\w\.env$", target) else f".{target}"
    stem = target.lstrip(".-_")
    return stem if kind_of_file(target) and stem.rpartition(".")[0] else None
