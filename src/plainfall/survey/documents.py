"""Commands that documents other than the README state: those for contributors, pages about installing and
developing, and build files (Makefile and the like)."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from msgspec.structs import replace

from plainfall.clone.commands import (
    Command,
    given_folder,
    missing_script,
    readme_commands,
    without_placeholders,
)
from plainfall.clone.readme import ReadmeStep, own_commands, own_program, read_steps
from plainfall.clone.vocabulary import Vocabulary
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["document_commands", "documented_uses"]

_NAMES = regex(
    r"^(contributing|install(ation|ing)?|develop(ment|ing|er)?|hacking|set.?up|quick.?start|getting.?started|running|"
    r"usage|tutorial)(\.(md|markdown|rst|txt|adoc|org))?$",
    re.IGNORECASE,
)
_DOCUMENTS = 24  # that are read for a part
_PAGES = 60  # of another name, in which only the project's own programs are looked for
_IS_PAGE = regex(r"\.(md|markdown|rst|txt|adoc|org)$", re.IGNORECASE)
_SERVES = regex(r"\s(run)?-?(serve|server|web|webserver|start)\b(?!.*[|;&<>`])")
_PAGE_RANK = 42
_LOWER = 14  # ranks below the README's own steps
_BUILD_RANK = 54
_BUILD_FILES = ("Makefile", "makefile", "GNUmakefile", "justfile", "Justfile")
_TARGET = regex(r"^([\w-]+)[ \t]*:(?!=)[^\n]*\n((?:(?:\t|[ ]{2,})[^\n]*\n?)+)", re.MULTILINE)
_TARGETS = (
    (
        "server",
        regex(r"(run|start|serve|dev)([-_]?(server|dev|local|app|web))?|(dev|run)?server|develop|up"),
    ),
    ("migrations", regex(r"migrate|(init|create|setup|upgrade)[-_]?db|db[-_](init|upgrade|migrate)")),
    ("seeds", regex(r"seed(s|[-_]?db|[-_]?data)?|load[-_]?(fixtures|data)|fixtures")),
)


def document_commands(
    tree: Tree,
    folder: str,
    language: str,
    words: Vocabulary,
    programs: frozenset[str],
    files: Collection[str],
) -> Iterator[Command]:
    """The commands for migrations, seeds and servers of a part of this language. Of pages in a folder of documents
    only servers count: such pages show much that is not meant for the clone itself."""
    place = f"{folder}/" if folder else ""
    for path in _documents(tree, folder):
        try:
            steps = read_steps(tree.text(path), path, words, programs)
        except BadInput:
            continue  # not text that anybody reads
        inside = "/" in path[len(place) :]
        for command in readme_commands(steps, tree, folder, language, words, files):
            lacking = missing_script(command.line, tree, folder, words) is not None
            if not lacking and (command.stage == "server" or not inside):
                name = path[len(place) :]
                rank = command.rank - _LOWER if command.rank > _LOWER + 1 else command.rank
                yield replace(command, rank=rank, reason=command.reason.replace("the README's", f"{name}'s"))
    yield from _served_as_pages_say(tree, folder, words, programs)
    for name in _BUILD_FILES:
        if place + name in tree:
            yield from _build_commands(tree, place + name, folder, language, words, programs)


def _served_as_pages_say(
    tree: Tree, folder: str, words: Vocabulary, programs: frozenset[str]
) -> Iterator[Command]:
    """How pages of whatever name start a server with one of the project's own programs."""
    place = f"{folder}/" if folder else ""
    known = set(_documents(tree, folder))
    pages = [one for top in ("docs", "doc") for one in _pages(tree, place + top) if one not in known]
    for path in [one for one in pages if _IS_PAGE.search(one)][:_PAGES] if programs else ():
        try:
            text = tree.text(path)
            if not any(name in text for name in programs):
                continue
            steps = read_steps(text, path, words, programs)
        except BadInput:
            continue  # not text that anybody reads
        for step in steps:
            line = without_placeholders(step.command, (), given_folder(folder))
            if step.stage == "server" and own_program(line, programs) and _SERVES.search(line):
                yield Command(
                    "server", line, f"{path[len(place) :]} says so", _PAGE_RANK, step.evidence, folder
                )


def documented_uses(tree: Tree, folder: str, programs: frozenset[str]) -> Iterator[ReadmeStep]:
    """Every use of the project's own programs in the code blocks of its README and its other documents."""
    place = f"{folder}/" if folder else ""
    readmes = [
        place + name for name in sorted(tree.folders.get(folder, ())) if name.lower().startswith("readme")
    ]
    for path in [*readmes, *_documents(tree, folder)]:
        try:
            yield from own_commands(tree.text(path), path, programs)
        except BadInput:
            continue  # not text that anybody reads


def _documents(tree: Tree, folder: str) -> list[str]:
    place = f"{folder}/" if folder else ""
    results = [place + name for name in sorted(tree.folders.get(folder, ())) if _NAMES.match(name)]
    for top in ("docs", "doc", ".github"):
        results += [one for one in _pages(tree, place + top) if _NAMES.match(one.rpartition("/")[2])]
    return results[:_DOCUMENTS]


def _pages(tree: Tree, folder: str) -> list[str]:
    """The pages in a folder of documents, three folders deep at the most."""
    return [f"{folder}/{one}" for one in sorted(tree.below(folder)) if one.count("/") <= 2]


def _build_commands(
    tree: Tree, path: str, folder: str, language: str, words: Vocabulary, programs: frozenset[str]
) -> Iterator[Command]:
    """The command of a target that runs, migrates or seeds, where it is one line of the part's language."""
    text = tree.text(path)
    for match in _TARGET.finditer(text):
        stage = next((stage for stage, name in _TARGETS if name.fullmatch(match.group(1))), "")
        lines = [line.strip().lstrip("@-").strip() for line in match.group(2).splitlines()]
        lines = [line for line in lines if line and not line.startswith(("#", "echo "))]
        if not stage or len(lines) != 1:
            continue
        line = re.sub(r"\$[({](PYTHON|PY|NODE)[)}]", lambda one: one.group(1).lower(), lines[0])
        line = words.runner.sub("", words.by_its_name(line))
        first = line.partition(" ")[0]
        if "$(" in line or "${" in line or (words.language_of(line) != language and first not in programs):
            continue
        number = text[: match.start()].count("\n") + 1
        reason = f"the target {match.group(1)!r} of {path.rpartition('/')[2]}"
        yield Command(stage, line, reason, _BUILD_RANK, Evidence(path, number, match.group(1)), folder)
