"""Settings templates: their names, and the name that the real file must have.

A template's own name suggests the file (``config.example.yml`` is for ``config.yml``); what the code loads
decides it.
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from plainfall.clone.parts import SettingsFound
from plainfall.clone.walk import Tree, is_side
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.documents import kind_of_file, read_document
from plainfall.formats.template_names import target_of
from plainfall.patterns import regex
from plainfall.sources.values import FileFound, Load

__all__ = ["find_templates", "resolved_loads"]

# File names that people keep settings in; a template of another name counts if the code loads its file.
_SETTINGS_NAME = regex(
    r"^\.?(config|conf|configuration|settings?|database|db|secrets?|credentials|parameters|params|local|app|"
    r"application|options|env|environment|storage|mail|services?|server|defaults?)([._-]?(local|dev|development))?"
    r"\.\w+$",
    re.IGNORECASE,
)
_NO_SETTINGS = regex(
    r"(^|[./-])(docker-compose|compose|package|tsconfig|composer|phpunit|phpstan|psalm|phpcs|phpmd|phpbench|infection|rector|behat|eslintrc|babelrc|prettierrc|"
    r"mkdocs|pyproject|tox|renovate|openapi|swagger)\b",
    re.IGNORECASE,
)
_ELSEWHERE = regex(
    r"(^|/)(tests?|spec|docs?|examples?|fixtures|node_modules|\.github|deploy|k8s|charts)(/|$)"
)
_MODES = regex(r"\b(prod|production|test|testing|ci|staging|docker|e2e|heroku|cypress)\b", re.IGNORECASE)


# The first words of a file that is code, whatever its ending says.
_CODE = regex(r"^(import \w|from [\w.]+ import |<\?php|const \w+ ?= ?require\()", re.MULTILINE)


def find_templates(
    tree: Tree,
    folder: str,
    below: Sequence[str],
    results: Mapping[str, FileFound],
    made: Collection[str] = (),
    *,
    remarks: list[tuple[str, Evidence]],
) -> tuple[SettingsFound, ...]:
    """The templates of a part, dotenv files first, one for each file that is to be made.

    ``below`` are the folders of other parts inside this one, ``results`` what the part's sources say, ``made``
    the settings files that Plainfall made before. Of
    several templates for one file, or one for each mode, the one for development is taken. A file that
    only has such a name is passed over, with a word in ``remarks``. Raises BadInput for a template that cannot be
    read.
    """
    loads = list(resolved_loads(folder, results))
    candidates: dict[str, SettingsFound] = {}
    for template in _templates(tree, folder, below):
        natural = target_of(template.rpartition("/")[2])
        assert natural is not None  # only templates' names come here
        target, why = _target(tree, template, natural, loads, made)
        kind = kind_of_file(natural)
        loaded = why is not None
        if not loaded and kind != "dotenv" and not _SETTINGS_NAME.match(natural):
            continue
        if kind == "php" and not _is_php_template(tree, template):
            continue
        if _NO_SETTINGS.search(natural) or target in candidates:
            continue
        text = tree.text(template)
        if kind == "ini" and text.lstrip().startswith("{"):
            kind = "json"  # each program has a form of its own for such names
        try:
            document = read_document(kind, text, template)
        except BadInput as error:
            is_code = kind not in ("dotenv", "php") and _CODE.search(text) is not None
            of_any_form = is_code or natural.endswith(".conf")  # each program has its own for that name
            if kind == "dotenv" or (_SETTINGS_NAME.match(natural) and not of_any_form):
                raise
            place = error.place or Evidence(template)
            what = "it is named like a settings template and " + (
                "is source code; passed over"
                if is_code
                else f"cannot be read as one ({error.cause}); passed over"
            )
            remarks.append((what, place))
            continue  # of another program, most often: a web server's, a service manager's
        keys = tuple(dict.fromkeys(entry.key for entry in document.entries))
        existing = (tree.root / target).is_file()
        candidates[target] = SettingsFound(template, target, keys, Evidence(template, 1), existing, kind, why)
    return tuple(_without_other_modes(list(candidates.values())))


_PHP_CODE = regex(
    r"^[ \t]*(?:(?:abstract|final|static|public)\s+)*(?:function|class|interface|trait)\s+&?\w", re.MULTILINE
)


def _is_php_template(tree: Tree, path: str) -> bool:
    """Whether a PHP file of such a name holds settings, to be copied: one with functions or classes is a piece of
    the program, and so are those with other words for a template; one of defaults is read by the program itself."""
    name = path.rpartition("/")[2].lower()
    return re.search(r"example|sample|dist", name) is not None and _PHP_CODE.search(tree.text(path)) is None


def _templates(tree: Tree, folder: str, below: Sequence[str]) -> list[str]:
    place = f"{folder}/" if folder else ""
    paths = [
        place + path
        for path in tree.below(folder)
        if path.count("/") <= 3 and not _ELSEWHERE.search(path) and target_of(path.rpartition("/")[2])
    ]
    inside = [path for path in paths if not any(path.startswith(f"{other}/") for other in below)]
    return sorted(inside, key=lambda path: (path.count("/"), _MODES.search(path) is not None, path))


def _without_other_modes(results: list[SettingsFound]) -> Iterator[SettingsFound]:
    """The files for development; those for another mode only where there is no other of their kind in the
    same folder."""
    results = sorted(results, key=lambda one: (one.kind != "dotenv", one.target.count("/"), len(one.target)))
    for one in results:
        others = [
            other
            for other in results
            if other.kind == one.kind and other.target.rpartition("/")[0] == one.target.rpartition("/")[0]
        ]
        for_development = [other for other in others if not _MODES.search(_name(other))]
        if one.loaded or one in for_development or (not for_development and one is others[0]):
            yield one


def _name(results: SettingsFound) -> str:
    return results.target.rpartition("/")[2]


def resolved_loads(folder: str, results: Mapping[str, FileFound]) -> Iterator[tuple[str, Load]]:
    """Every file that the sources load, tests aside, as a path from the clone's own folder."""
    for path, text in results.items():
        if is_side(posixpath.dirname(path.removeprefix(f"{folder}/"))):
            continue
        for load in text.loads:
            base = posixpath.dirname(path) if load.base == "file" else folder
            resolved = posixpath.normpath(posixpath.join(base, load.name))
            if not resolved.startswith(("..", "/")):
                yield resolved, load


def _target(
    tree: Tree, template: str, natural: str, loads: Iterable[tuple[str, Load]], made: Collection[str]
) -> tuple[str, Evidence | None]:
    """The path that the real file must have, and the line that loads it (None where nothing says so)."""
    folder = posixpath.dirname(template)
    neighbour = posixpath.join(folder, natural)
    kind = kind_of_file(natural)
    ending = natural.rpartition(".")[2]
    best: tuple[float, str, Evidence] | None = None
    for path, load in loads:
        name = path.rpartition("/")[2]
        if path == neighbour:
            return path, load.place
        if target_of(name) or kind_of_file(name) != kind:
            continue
        if (path in tree and path not in made) or kind == "php":
            continue  # an existing file is not the template's target; code is loaded from anywhere
        if kind == "dotenv":
            likeness = 0.9 if name == natural else 0.6
        elif name == natural:
            likeness = 0.9
        elif name.rpartition(".")[2] == ending:
            from difflib import SequenceMatcher  # rarely needed, and slow to import

            likeness = SequenceMatcher(None, name, natural).ratio() - 0.1
        else:
            continue
        if likeness > 0.5 and (best is None or likeness > best[0]):
            best = likeness, path, load.place
    return (best[1], best[2]) if best else (neighbour, None)
