"""Settings templates: their names, and the name of the file that is made from one."""

from __future__ import annotations

import re

from plainfall.evidence import Evidence
from plainfall.settings.dotenv import parse_dotenv
from plainfall.survey.parts import SettingsFound
from plainfall.survey.walk import Tree

__all__ = ["find_templates", "target_of"]

_MARK = r"(?:example|sample|dist|template|default|tpl)"
_AFTER = re.compile(rf"^(\.?env(?:[.-](?!{_MARK})\w+)?)[.-]{_MARK}$|^(\.env\.\w+)[.-]{_MARK}$", re.IGNORECASE)
_BEFORE = re.compile(rf"^{_MARK}[.-](env)$|^\.env[.-]{_MARK}[.-](\w+)$", re.IGNORECASE)


def target_of(name: str) -> str | None:
    """The file name that a template of this name is for (``.env.local-sample`` → ``.env.local``); None if
    it is no template's name."""
    found = _AFTER.match(name)
    if found:
        target = found.group(1) or found.group(2)
        return target if target.startswith(".") else f".{target}"
    found = _BEFORE.match(name)
    if found:
        return f".env.{found.group(2)}" if found.group(2) else ".env"
    return None


def find_templates(tree: Tree, folder: str) -> SettingsFound | None:
    """The dotenv template of a part that is for ``.env``, or else the first one. Raises BadInput if it
    cannot be read."""
    place = f"{folder}/" if folder else ""
    found = [(name, target) for name in tree.folders.get(folder, ()) if (target := target_of(name))]
    if not found:
        return None
    name, target = min(found, key=lambda pair: (pair[1] != ".env", pair[0]))
    document = parse_dotenv(tree.text(place + name), place + name)
    keys = tuple(dict.fromkeys(entry.key for entry in document.entries))
    there = (tree.root / place / target).is_file()
    return SettingsFound(place + name, place + target, keys, Evidence(place + name, 1), there)
