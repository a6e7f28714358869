"""The folders of a clone that have settings of their own, and which sources read them."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.parts import PartFound, SettingsFound, Survey
from plainfall.clone.walk import Tree
from plainfall.ecosystems import languages, recognising_of
from plainfall.patterns import regex
from plainfall.sources.names import is_process_variable
from plainfall.sources.values import Constant, FileFound, Use

__all__ = ["Unit", "constants_of", "document_uses", "sources_of", "units_of", "uses_of"]

_TESTS = regex(
    r"(^|/)(tests?|__tests__|spec|specs|testing|docs?|examples?|fixtures|e2e|cypress|stories|migrations|vendor|dist|"
    r"build)(/|$)|(^|/)(tests?|test_[^/]*|conftest|[^/]*_test|[^/]*_spec)\.\w+$|\.(test|spec|stories)\.\w+$"
)


class Unit(Struct, frozen=True):
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
        spoken = tuple(dict.fromkeys(part.language for part in parts if part.language))
        templates = {result.target: result for part in parts for result in part.templates}
        below = tuple(other for other in by_folder if other != folder and _inside(other, folder))
        frameworks = [result.name for part in parts for result in part.frameworks]
        only = recognising_of(spoken[0]) if len(spoken) == 1 else None
        client = only is not None and only.serves_client(tree, folder)
        units.append(
            Unit(folder, spoken, tuple(templates.values()), tuple(frameworks), below, client, not spoken)
        )
    return units


def _inside(path: str, folder: str) -> bool:
    return not folder or path.startswith(f"{folder}/")


def sources_of(unit: Unit, results: Mapping[str, FileFound]) -> dict[str, FileFound]:
    """What the unit's own sources say: its languages' files in its folder, tests and examples left out, and
    configuration files that read the environment."""
    endings = tuple(
        ending
        for one in languages()
        for reader in one.readers
        if reader.configuration or not unit.languages or one.name in unit.languages
        for ending in reader.endings
    )
    inside = {}
    for path, text in results.items():
        if not _inside(path, unit.folder) or not path.endswith(endings):
            continue
        if not unit.shared and any(path.startswith(f"{other}/") for other in unit.below):
            continue
        if not _TESTS.search(path[len(unit.folder) :].lstrip("/")):
            inside[path] = text
    return inside


def uses_of(sources: Mapping[str, FileFound], client: bool) -> dict[str, list[Use]]:
    """Key to every place that reads it, of the environment's variables only; what the system or a runner sets
    by itself is left out. A key that the sources set themselves stops nothing where it is not set."""
    assigned = {key for one in sources.values() for key in one.assigned}
    uses: dict[str, list[Use]] = {}
    for path in sorted(sources):
        for use in sources[path].uses:
            if not use.file and not is_process_variable(use.key, client=client):
                known = uses.setdefault(use.key, [])
                if all(one.place != use.place for one in known):
                    known.append(replace(use, needed=False) if use.key in assigned else use)
    return uses


def document_uses(sources: Mapping[str, FileFound], target: str) -> dict[str, list[Use]]:
    """Key to every place that looks it up in a configuration file of this path."""
    name = target.rpartition("/")[2]
    uses: dict[str, list[Use]] = {}
    for text in sources.values():
        for use in text.uses:
            if use.file and use.file.rpartition("/")[2] == name:
                uses.setdefault(use.key, []).append(use)
    return uses


def constants_of(sources: Mapping[str, FileFound]) -> list[Constant]:
    """Hosts, ports, addresses and devices that the sources assign, in order."""
    return [one for path in sorted(sources) for one in sources[path].constants]
