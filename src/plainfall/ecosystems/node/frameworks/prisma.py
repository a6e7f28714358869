"""Prisma: its client is generated before anything uses it; then migrations, or else the schema."""

from __future__ import annotations

import re

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.dev_servers import file_of
from plainfall.ecosystems.node.recognise.servers import own_files
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "recognise"]

ORDER = 11

REPEATABLE = regex(r"\bprisma\b.* (migrate (deploy|dev)|db push)\b(?!.*(--accept-data-loss|--force-reset))")

MIGRATES_FROM = MigratesFrom(
    regex(r"\bprisma\b.* migrate (deploy|dev)\b"),
    regex(r"migrations/[^/]+/migration\.sql$"),
    regex(r"(^|/)prisma\.config\."),
    regex(r"\bmigrations\b"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part that lists Prisma and has a schema."""
    own = manifest(tree, folder).get("prisma")
    own = own if isinstance(own, dict) else {}
    named = str(own.get("schema") or "prisma/schema.prisma").removeprefix("./")
    schema = file_of(tree, folder, named) or file_of(tree, folder, "schema.prisma")
    if not names & {"prisma", "@prisma/client"} or schema is None:
        return None
    evidence = Evidence(schema, 1)
    migrated = any(re.search(r"migrations/[^/]+/migration\.sql$", path) for path in own_files(tree, folder))
    step = "prisma migrate deploy" if migrated else "prisma db push --skip-generate"
    why = "Prisma's migrations" if migrated else "Prisma's schema, which has no migrations"
    commands = [
        Command("migrations", f"prisma generate && {step}", f"{why}, and its client", RANK, evidence, folder)
    ]
    if own.get("seed") or _seeds_in_configuration(tree, folder):
        commands.append(Command("seeds", "prisma db seed", "Prisma's seed", RANK, evidence, folder))
    return FrameworkFound("Prisma", evidence, tuple(commands), {"CHECKPOINT_DISABLE": "1"}, serves=False)


def _seeds_in_configuration(tree: Tree, folder: str) -> bool:
    path = file_of(tree, folder, "prisma.config.*")
    return path is not None and re.search(r"\bseed\s*:", tree.text(path)) is not None
