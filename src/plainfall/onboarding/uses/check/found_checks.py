"""Which checks a part has: what its files, its README and its CI workflows tell; and how one is called."""

from __future__ import annotations

import re
import shlex
import shutil
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from plainfall.clone.checks import KINDS, CheckFound, kind_of_line, once, workflow_lines
from plainfall.clone.parts import PartFound, Survey
from plainfall.clone.walk import Tree
from plainfall.ecosystems import language_named
from plainfall.ecosystems.shape import Language
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.clone_root import CloneFolder, survey_of
from plainfall.patterns import regex
from plainfall.surroundings import Surroundings

__all__ = ["checks_of", "found_checks", "missing_tool", "report_arguments", "what_installs", "with_arguments"]

_README, _WORKFLOW = 550, 300
_PREFIX = regex(
    r"^(?:(?:poetry|pipenv|pdm|hatch|rye|uv) run|npx|bunx|pnpm exec|yarn(?: run)?|bundle exec|"
    r"(?:\./)?vendor/bin/)\s*"
)
_ASSIGNED = regex(r"^(?:cross-env\s+)?(?:[A-Z_][A-Z0-9_]*=\S*\s+)*")


def checks_of(tree: Tree, part: PartFound, survey: Survey) -> list[CheckFound]:
    """All checks of a part, those of a kind in order: what the language's files tell, README steps, CI
    workflows."""
    language = language_named(part.language)
    if language is None:
        return []
    names = frozenset(part.dependencies.names if part.dependencies is not None else ())
    found = [*language.checks(tree, part.path, names)]
    for step in survey.steps:
        if step.evidence.path.rpartition("/")[0] == part.path:
            found += _of_line(step.command, language, part, "the README's step", _README, step.evidence)
    for line, folder, evidence in workflow_lines(tree):
        if folder == part.path and "${{" not in line:
            found += _of_line(line, language, part, "a step of the CI workflow", _WORKFLOW, evidence)
    # A script of the manifest that a document calls is that script.
    known = {(one.kind, one.line) for one in found if one.text}
    kept = [one for one in found if one.text or (one.kind, one.line) not in known]
    return sorted(
        (once(one, language.check_words) for one in kept), key=lambda one: (KINDS.index(one.kind), -one.rank)
    )


def _of_line(
    line: str, language: Language, part: PartFound, reason: str, rank: int, evidence: Any
) -> Iterator[CheckFound]:
    plain = _PREFIX.sub("", line.strip())
    kind, tool = kind_of_line(plain, language.check_words)
    if kind and not re.search(r"[;|&<>`$]|\bcd\b", plain):
        yield CheckFound(kind, plain, reason, rank, evidence, part.path, tool)


def found_checks(
    place: CloneFolder, names: Sequence[str], surroundings: Surroundings
) -> list[tuple[str, list[CheckFound]]]:
    """The checks of each part, by its key."""
    state = CloneState(place.clone, surroundings.state)
    survey, tree, parts = survey_of(place, names, state, surroundings)
    return [(one.key, checks_of(tree, one, survey)) for one in parts or survey.parts]


def _program(check: CheckFound) -> str:
    """The program that a check's line runs in the end."""
    text = _ASSIGNED.sub("", _PREFIX.sub("", check.text or check.line))
    text = _PREFIX.sub("", text)
    module = re.match(r"python3? -m (\w+)", text)
    if module:
        return "" if module.group(1) == "unittest" else module.group(1)
    return text.split()[0] if text.split() else ""


def missing_tool(work: Work, check: CheckFound, path: str) -> str:
    """That the check's tool is not installed, in words; "" where it is."""
    if check.line.startswith(("npm run ", "composer run-script ")) and re.search(r"[;&|]", check.text):
        return ""
    program = _program(check)
    if not program or "/" in program:
        return "" if not program or (work.folder / program).exists() else f"{program} is not here"
    if check.line.startswith("bundle exec ") and shutil.which("bundle", path=path):
        return ""
    if shutil.which(program, path=path) or program in ("npm", "pnpm", "yarn"):
        return ""
    return f"{program} is not in the part's environment"


def what_installs(work: Work) -> str:
    """How a tool that is not here may be installed, in words."""
    listed = work.part.dependencies
    extras, groups = listed.offered if listed is not None else ((), ())
    words = [f"--group {name}" for name in groups] + [f"--extra {name}" for name in extras]
    if words:
        return f"It may be in a group that was not installed: plainfall onboard {' or '.join(words[:4])}"
    return "Add the package that brings it to the list, and run: plainfall onboard"


def report_arguments(check: CheckFound, report: Path) -> list[str]:
    """Arguments by which the runner also writes a report of its results."""
    text = check.text or check.line
    if re.search(r"[;&|]", text):
        return []
    if check.tool == "pytest" and "--junit" not in text:
        return [f"--junitxml={report}"]
    if check.tool == "vitest" and "--reporter" not in text:
        return ["--reporter=default", "--reporter=junit", f"--outputFile.junit={report}"]
    if check.tool in ("phpunit", "pest") and "--log-junit" not in text and "artisan" not in text:
        return ["--log-junit", str(report)]
    return []


def with_arguments(check: CheckFound, arguments: Sequence[str]) -> str:
    """The command line with more arguments."""
    if not arguments:
        return check.line
    words = " ".join(map(shlex.quote, arguments))
    dashes = " --" if check.line.startswith(("npm run ", "composer run-script ")) else ""
    return f"{check.line}{dashes} {words}"
