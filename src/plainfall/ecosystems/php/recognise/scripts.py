"""The manifest's scripts: what each entry comes to, in the words of its own schema."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from plainfall.clone.commands import Command
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.lists.manifests import MANIFEST, manifest, mapping, strings

__all__ = ["CALLBACK", "EVENTS", "entries_of", "install_commands", "script_commands"]

# What an installation goes through, in order; packages are laid by Plainfall between the first two and the rest.
EVENTS = ("pre-autoload-dump", "post-autoload-dump", "post-install-cmd")
CALLBACK = re.compile(r"\\?[A-Za-z_][\w\\]*::[A-Za-z_]\w*")
_SERVES = re.compile(
    r"\b(artisan serve|php (-\S+ )*-S |bin/console server:(run|start)|symfony (local:)?serve)"
)
_STAGES = (
    ("server", re.compile(r"serve|start|dev|server|run")),
    ("migrations", re.compile(r"(db[:-])?migrat(e|ions?)|db[:-](init|create|setup)")),
    ("seeds", re.compile(r"(db[:-])?seeds?|(load[:-])?fixtures|populate")),
)


def entries_of(document: Mapping[str, Any], name: str) -> list[str]:
    """The lines of a script, in order; a table of commands of a framework becomes the commands themselves."""
    value = mapping(document.get("scripts")).get(name)
    if not isinstance(value, dict):
        return strings(value)
    public = str(mapping(document.get("extra")).get("public-dir") or "public").rstrip("/")
    runs = {"symfony-cmd": "php bin/console ", "php-script": "php ", "script": ""}
    rows = [(str(line), runs.get(str(kind))) for line, kind in value.items()]
    return [start + line.replace("%PUBLIC_DIR%", public) for line, start in rows if start is not None]


def install_commands(tree: Tree, folder: str) -> list[Command]:
    """The scripts that an installation runs."""
    document, path = manifest(tree, folder), f"{folder}/{MANIFEST}" if folder else MANIFEST
    found = []
    for position, name in enumerate(EVENTS):
        if entries_of(document, name):
            line = f"composer run-script {name}"
            why = f"the manifest's script {name!r}, which an install runs"
            found.append(
                Command("dependencies", line, why, 90 - position, tree.line_of(path, f'"{name}"'), folder)
            )
    return found


def script_commands(tree: Tree, folder: str) -> Iterator[Command]:
    """Commands for the stages from the manifest's own scripts."""
    document, path = manifest(tree, folder), f"{folder}/{MANIFEST}" if folder else MANIFEST
    for name in mapping(document.get("scripts")):
        lines = entries_of(document, name)
        text = " && ".join(lines)
        stage = next((one for one, pattern in _STAGES if pattern.fullmatch(name)), "")
        if not lines or not stage or (stage == "server" and not _SERVES.search(text)):
            continue
        if len(lines) > 1 and stage == "server":
            continue  # what does more than serve is no server alone
        line = re.sub(r"^@php ", "php ", lines[0]) if stage == "server" else f"composer run-script {name}"
        why = f"the manifest's script {name!r}, which runs {text[:60]}"
        yield Command(stage, line, why, 48, tree.line_of(path, f'"{name}"'), folder)
