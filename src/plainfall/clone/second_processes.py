"""Programs that run beside a part's server: workers, schedulers and watchers, which process file, README and
compose file name."""

from __future__ import annotations

import re
import shlex
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import Any

from msgspec import Struct

from plainfall.clone.commands import (
    is_of_this_machine,
    missing_script,
    processes_of_files,
    without_placeholders,
)
from plainfall.clone.readme import ReadmeStep
from plainfall.clone.vocabulary import Vocabulary
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = ["SecondProcess", "second_processes"]

_NAME = regex(r"[A-Za-z0-9][\w.-]{0,60}")
# A person's own look inside, and what is run once, are no processes.
_ONCE = regex(r"console|shell|tests?|postdeploy|setup", re.IGNORECASE)
_WORKER = regex(
    r"(?:^|\s)(?P<word>worker|beat|rqworker|qcluster|run_huey|process_tasks|runworker|rundramatiq|db_worker|scheduler|"
    r"dramatiq|arq|huey_consumer|consumer)(?=\s|$)|(?:^|[\s/])(?P<file>worker|scheduler|consumer|huey_consumer)\.\w{2,3}(?=\s|$)"
)
_COMPOSE_FILES = ("docker-compose.yml", "docker-compose.yaml", "compose.yml", "compose.yaml")
_SHELL = regex(r"^(?:/bin/)?(?:ba)?sh -c ")


class SecondProcess(Struct, frozen=True):
    """A program that runs beside the server: the name by which it is asked for, its command line, and where that
    stands."""

    name: str
    line: str
    evidence: Evidence

    def as_json(self) -> dict[str, Any]:
        """The form that ``survey --json`` shows."""
        return {"name": self.name, "command": self.line, "evidence": [self.evidence.as_json()]}


def second_processes(
    tree: Tree, folder: str, language: str, words: Vocabulary, steps: Sequence[ReadmeStep]
) -> tuple[SecondProcess, ...]:
    """Those of a part of this language, each name and each command line once: the process file's first, then the
    README's, then the compose file's."""
    another = words.of_another(language)
    results: dict[str, SecondProcess] = {}
    for one in (
        *_of_process_files(tree, folder),
        *_of_steps(steps, tree.folders.get(folder, ())),
        *_of_compose(tree, folder),
    ):
        foreign = another.match(one.line) or words.elsewhere.match(one.line)
        if foreign or not is_of_this_machine(one.line) or missing_script(one.line, tree, folder, words):
            continue
        if one.line not in {other.line for other in results.values()}:
            results.setdefault(one.name, one)
    return tuple(results.values())


def _of_process_files(tree: Tree, folder: str) -> Iterator[SecondProcess]:
    for name, stage, line, place in processes_of_files(tree, folder):
        if not stage and not _ONCE.fullmatch(name):
            yield SecondProcess(name, line, place)


def _of_steps(steps: Sequence[ReadmeStep], files: Collection[str]) -> Iterator[SecondProcess]:
    for step in steps:
        line = without_placeholders(step.command, files)
        match = _WORKER.search(line)
        if match:
            yield SecondProcess(match["word"] or match["file"], line, step.evidence)


def _of_compose(tree: Tree, folder: str) -> Iterator[SecondProcess]:
    for file in _COMPOSE_FILES:
        path = f"{folder}/{file}" if folder else file
        if path not in tree:
            continue
        try:
            document = yaml_value(tree.text(path), path)
        except BadInput:
            continue  # the survey says so where it looks for services
        services = document.get("services") if isinstance(document, Mapping) else None
        for name, service in services.items() if isinstance(services, Mapping) else ():
            command = service.get("command") if isinstance(service, Mapping) else None
            text = shlex.join(map(str, command)) if isinstance(command, list) else str(command or "")
            line = _SHELL.sub("", " ".join(text.split())).strip("'\"")
            if _WORKER.search(line) and _NAME.fullmatch(str(name)) and "$" not in line:
                yield SecondProcess(str(name), line, tree.line_of(path, f"{name}:"))
