"""TypeORM: migrations by its command, which wants to be told the file of the data source."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 13

REPEATABLE = regex(r"\btypeorm\S*\b.* migration:run\b")

MIGRATES_FROM = MigratesFrom(
    regex(r"\btypeorm\S*\b.* migration:run\b"),
    regex(r"migrations?/[^/]+\.[jt]s$"),
    regex(r"\.[jt]s$"),
    regex(r"\bmigrations\s*:\s*\[\s*[^\]\s]"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists TypeORM, makes a data source and has migrations."""
    below = list(own_files(tree, folder))
    if "typeorm" not in names or not any(
        re.search(r"(^|/)migrations?/[^/]+\.[jt]s$", path) for path in below
    ):
        return None
    place = f"{folder}/" if folder else ""
    for path in below:
        if not re.search(r"(?<!\.d)\.[jt]s$", path):
            continue
        try:
            text = tree.text(place + path)
        except BadInput:
            continue  # not text: no data source
        made = re.search(r"new DataSource\(", text)
        if made:
            evidence = Evidence(place + path, text.count("\n", 0, made.start()) + 1)
            kind = "esm" if manifest(tree, folder).get("type") == "module" else "commonjs"
            tool = f"typeorm-ts-node-{kind}" if path.endswith("ts") else "typeorm"
            line = f"{tool} migration:run -d {path}"
            command = Command("migrations", line, "TypeORM's migrations", RANK, evidence, folder)
            return FrameworkFound("TypeORM", evidence, (command,), serves=False)
    return None
