"""Symfony: ``bin/console`` runs everything but the server."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import (
    RANK,
    Administrator,
    Form,
    FrameworkFound,
    SecretForm,
    Traits,
    named_in_manifest,
)
from plainfall.clone.second_processes import SecondProcess
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.recognise.documents import front_file, router_command, served_folder
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["REPEATABLE", "TRAITS", "recognise"]

ORDER = 2

REPEATABLE = regex(r"\bconsole doctrine:migrations:migrate\b")
TRAITS = Traits(
    ("Symfony",),
    secrets=(SecretForm(("APP_SECRET",), Form("hex", 32, "", "Symfony")),),
    values={"APP_ENV": "dev"},
    reads_local=True,
    left_behind=("/var/cache/", "/var/log/"),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists the framework, with its console."""
    place = named_in_manifest(tree, folder, "composer.json", "symfony/framework-bundle")
    place = place or named_in_manifest(tree, folder, "composer.json", "symfony/symfony")
    if place is None:
        return None
    console = "bin/console"
    path = f"{folder}/{console}" if folder else console
    front = front_file(tree, folder)
    if path not in tree or not front:
        return FrameworkFound("Symfony", place, serves=False)
    commands = tuple(_commands(tree, folder, names, Evidence(path, 1), front))
    processes = tuple(_processes(tree, folder))
    administrator = _administrator(Evidence(path, 1)) if "friendsofsymfony/user-bundle" in names else None
    return FrameworkFound(
        "Symfony", place, commands, pages=("/",), administrator=administrator, processes=processes,
        routes="php bin/console debug:router --format=json",
    )  # fmt: skip


def _administrator(place: Evidence) -> Administrator:
    name, address, password = "FIRST_ADMIN_NAME", "FIRST_ADMIN_ADDRESS", "FIRST_ADMIN_PASSWORD"
    line = f'php bin/console fos:user:create "${name}" "${address}" "${password}" --super-admin'
    return Administrator(line, name, address, password, "UniqueConstraintViolation", "/login", place)


_TRANSPORTS = regex(r"^\s{8,16}(?!failed|sync)(\w+)\s*:", re.MULTILINE)


def _processes(tree: Tree, folder: str) -> Iterator[SecondProcess]:
    """The worker of its messages, where a transport is configured."""
    path = f"{folder}/config/packages/messenger.yaml" if folder else "config/packages/messenger.yaml"
    if path not in tree:
        return
    text = tree.text(path).partition("transports:")[2].partition("routing:")[0]
    found = _TRANSPORTS.search(text)
    if found:
        line = f"php bin/console messenger:consume {found.group(1)}"
        yield SecondProcess("messages", line, tree.line_of(path, f"{found.group(1)}:"))


def _commands(
    tree: Tree, folder: str, names: frozenset[str], place: Evidence, front: str
) -> Iterator[Command]:
    below = [*tree.below(folder)]
    run = "php bin/console"
    migrations = [path for path in below if path.startswith(("migrations/", "src/Migrations/"))]
    entities = any(path.startswith("src/Entity/") and path.endswith(".php") for path in below)
    if "doctrine/doctrine-migrations-bundle" in names and any(path.endswith(".php") for path in migrations):
        line = f"{run} doctrine:migrations:migrate --no-interaction --allow-no-migration"
        yield Command("migrations", line, "Doctrine's migrations", RANK, place, folder)
    elif entities and "doctrine/doctrine-bundle" in names:
        line = f"{run} doctrine:schema:update --force --complete --no-interaction"
        yield Command("migrations", line, "Doctrine's tables, as the classes say", RANK, place, folder)
    if "doctrine/doctrine-fixtures-bundle" in names and any(
        path.startswith("src/DataFixtures/") for path in below
    ):
        line = f"{run} doctrine:fixtures:load --append --no-interaction"
        yield Command("seeds", line, "Doctrine's fixtures", RANK, place, folder)
    if "importmap.php" in below:
        line = f"{run} importmap:install"
        yield Command(
            "tasks", line, "fetches the modules of the import map", RANK, place, folder, may_fail=True
        )
    line = router_command(folder, served_folder(front))
    yield Command("server", line, "the runtime's own server", RANK, place, folder)
