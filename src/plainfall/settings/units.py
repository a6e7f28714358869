"""The folders of a clone that have settings of their own, and which sources read them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from plainfall.clone.parts import PartFound, SettingsFound, Survey
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.reading import json_value
from plainfall.sources.files import ENDINGS
from plainfall.sources.found import Constant, FileFound, Use
from plainfall.sources.names import is_process_variable

__all__ = ["Unit", "constants_of", "document_uses", "sources_of", "units_of", "uses_of"]

_TESTS = re.compile(
    r"(^|/)(tests?|__tests__|spec|specs|testing|docs?|examples?|fixtures|e2e|cypress|stories|migrations|vendor|dist|"
    r"build)(/|$)|(^|/)(test_[^/]*|conftest|[^/]*_test|[^/]*_spec)\.\w+$|\.(test|spec|stories)\.\w+$"
)
_CLIENT_FOLDER = re.compile(r"^(client|web|webapp|frontend|front|ui|dashboard|spa|site)$")
_CLIENT_PACKAGES = frozenset(
    "vite react-scripts @angular/core @vue/cli-service parcel svelte vue react webpack-dev-server".split()
)
_SERVER_PACKAGES = frozenset(
    "express fastify koa @nestjs/core @hapi/hapi hapi restify polka hono @adonisjs/core @strapi/strapi "
    "next nuxt @feathersjs/feathers sails apollo-server @apollo/server".split()
)
_FRAMEWORKS = {
    "composer.json": (("laravel/framework", "Laravel"), ("symfony/framework-bundle", "Symfony")),
    "package.json": (
        ("@adonisjs/core", "Adonis"),
        ("@strapi/strapi", "Strapi"),
        ("@nestjs/core", "Nest"),
        ("next", "Next"),
    ),
    "Gemfile": (("rails", "Rails"),),
}  # fmt: skip


@dataclass(frozen=True)
class Unit:
    """A folder with settings: its languages, the templates that are for it, the frameworks in it, the folders
    of other units below, whether it serves a client's pages, and for one that only holds settings for the
    units below, ``shared``."""

    folder: str
    languages: tuple[str, ...]
    templates: tuple[SettingsFound, ...]
    frameworks: tuple[str, ...]
    below: tuple[str, ...]
    client: bool = False
    shared: bool = False


def units_of(survey: Survey, tree: Tree) -> list[Unit]:
    """The units, a shared one first, then in the order of their folders."""
    by_folder: dict[str, list[PartFound]] = {}
    for part in (*survey.parts, *survey.others):
        by_folder.setdefault(part.path, []).append(part)
    units = []
    for folder, parts in sorted(by_folder.items()):
        languages = tuple(dict.fromkeys(part.language for part in parts if part.language))
        templates = {found.target: found for part in parts for found in part.templates}
        below = tuple(other for other in by_folder if other != folder and _inside(other, folder))
        frameworks = [found.name for part in parts for found in part.frameworks]
        frameworks += _manifest_frameworks(tree, folder)
        client = languages == ("node",) and _is_client(tree, folder)
        units.append(
            Unit(
                folder, languages, tuple(templates.values()), tuple(frameworks), below, client, not languages
            )
        )
    return units


def _inside(path: str, folder: str) -> bool:
    return not folder or path.startswith(f"{folder}/")


def _packages(tree: Tree, folder: str) -> set[str]:
    path = f"{folder}/package.json" if folder else "package.json"
    if path not in tree:
        return set()
    try:
        document = json_value(tree.text(path), path)
    except BadInput:
        return set()  # a damaged manifest is told of where it is installed from
    names: set[str] = set()
    for table in ("dependencies", "devDependencies"):
        held = document.get(table) if isinstance(document, dict) else None
        names |= set(held) if isinstance(held, dict) else set()
    return names


def _is_client(tree: Tree, folder: str) -> bool:
    names = _packages(tree, folder)
    told = _CLIENT_FOLDER.search(folder.rpartition("/")[2]) is not None
    return (bool(names & _CLIENT_PACKAGES) or told) and not names & _SERVER_PACKAGES


def _manifest_frameworks(tree: Tree, folder: str) -> Iterator[str]:
    for name, known in _FRAMEWORKS.items():
        path = f"{folder}/{name}" if folder else name
        if path in tree:
            try:
                text = tree.text(path)
            except BadInput:
                continue  # told of where it is installed from
            for package, framework in known:
                if re.search(rf"['\"]{re.escape(package)}['\"]", text):
                    yield framework


def sources_of(unit: Unit, found: Mapping[str, FileFound]) -> dict[str, FileFound]:
    """What the unit's own sources say: its languages' files in its folder, tests and examples left out, and
    configuration files that read the environment."""
    endings = tuple(ending for language in unit.languages or ENDINGS for ending in ENDINGS.get(language, ()))
    endings += (".yml", ".yaml", ".erb")
    inside = {}
    for path, said in found.items():
        if not _inside(path, unit.folder) or not path.endswith(endings):
            continue
        if not unit.shared and any(path.startswith(f"{other}/") for other in unit.below):
            continue
        if not _TESTS.search(path[len(unit.folder) :].lstrip("/")):
            inside[path] = said
    return inside


def uses_of(sources: Mapping[str, FileFound], client: bool) -> dict[str, list[Use]]:
    """Key to every place that reads it, of the environment's variables only; what the system or a runner sets
    by itself is left out."""
    uses: dict[str, list[Use]] = {}
    for path in sorted(sources):
        for use in sources[path].uses:
            if not use.file and not is_process_variable(use.key, client=client):
                known = uses.setdefault(use.key, [])
                if all(one.place != use.place for one in known):
                    known.append(use)
    return uses


def document_uses(sources: Mapping[str, FileFound], target: str) -> dict[str, list[Use]]:
    """Key to every place that looks it up in a configuration file of this path."""
    name = target.rpartition("/")[2]
    uses: dict[str, list[Use]] = {}
    for said in sources.values():
        for use in said.uses:
            if use.file and use.file.rpartition("/")[2] == name:
                uses.setdefault(use.key, []).append(use)
    return uses


def constants_of(sources: Mapping[str, FileFound]) -> list[Constant]:
    """Hosts, ports, addresses and devices that the sources assign, in order."""
    return [one for path in sorted(sources) for one in sources[path].constants]
