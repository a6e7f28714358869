"""Applications in the folders that a library has for them: none is a part, and each can be onboarded by name."""

from __future__ import annotations

import re

from plainfall.clone.walk import Tree
from plainfall.ecosystems import languages
from plainfall.ecosystems.shape import Language
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["find_examples"]

_FOLDER = regex(
    r"(^|/)(examples?|demos?|samples?|sandbox|testproj(ect)?|(example|demo|sample|test)[-_]?(project|app|site)|"
    r"tutorials?)(/|$)",
    re.IGNORECASE,
)
_COMMON = regex(r"(setup|manage)\.\w+$")
_MOST = 80  # folders that are looked into


def find_examples(tree: Tree, parts: frozenset[str]) -> tuple[tuple[str, Evidence], ...]:
    """The folders of such applications with what they are known by: a manifest, a dependency list, or a program
    whose name says that it is the main one. One within another counts only where the outer folder has no program of
    its own. ``parts`` are the folders of the clone's parts."""
    found: dict[str, list[Evidence]] = {}
    folders = sorted(tree.folders, key=lambda path: (path.count("/"), path))
    candidates = [folder for folder in folders if folder not in parts and _FOLDER.search(folder)]
    for folder in candidates[:_MOST]:
        named = tree.of_named(folder)
        for language in languages():
            if language.recognising is not None and language.onboarded:
                evidence = language.recognising.recognise(named, folder)
                known = [place for place in evidence if _says_so(language, place)]
                found.setdefault(folder, []).extend(known)
    programs = {folder for folder, places in found.items() if any(_is_program(place) for place in places)}
    return tuple(
        (folder, places[0])
        for folder, places in found.items()
        if places
        and not any(folder.startswith(f"{other}/") for other in programs)
        and (folder in programs or not any(other.startswith(f"{folder}/") for other in programs))
    )


def _says_so(language: Language, place: Evidence) -> bool:
    name = place.path.rpartition("/")[2]
    return name in language.mains or not name.endswith(language.endings) or _COMMON.match(name) is not None


def _is_program(place: Evidence) -> bool:
    name = place.path.rpartition("/")[2]
    return (
        name.endswith(tuple(ending for one in languages() for ending in one.endings)) and name != "setup.py"
    )
