"""The project's own checks as values: tests, end-to-end tests, builds, linters, type checkers; and what a command
line says of them."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import yaml_value

__all__ = ["KINDS", "CheckFound", "best_of_kinds", "kind_of_line", "once", "workflow_lines"]

KINDS = ("tests", "end-to-end", "build", "lint", "types")


class CheckFound(Struct, frozen=True):
    """One command that checks a part: its kind, the line, why it is believed to be one, where that stands, and
    the tool that it comes to ("" where that is not known). ``text`` is what the line runs in the end; ``rank``
    orders those of a kind, larger is better; ``folder`` is where it runs."""

    kind: str
    line: str
    reason: str
    rank: int
    evidence: Evidence
    folder: str = ""
    tool: str = ""
    text: str = ""
    brought_by: str = ""

    def as_json(self) -> dict[str, Any]:
        """The form that ``check --json`` shows."""
        return {
            "kind": self.kind,
            "command": self.line,
            "tool": self.tool,
            "reason": self.reason,
            "folder": self.folder,
            "evidence": [self.evidence.as_json()],
        }


# Kind, tool, language, and how it is called; the first that fits counts.
_TOOLS = tuple(
    (kind, tool, language, regex(pattern))
    for kind, tool, language, pattern in (
        ("end-to-end", "playwright", "node", r"\bplaywright test\b"),
        ("end-to-end", "cypress", "node", r"\bcypress (run|open)\b"),
        ("end-to-end", "dusk", "php", r"\bartisan dusk\b"),
        ("end-to-end", "rails", "ruby", r"\brails test:(system|all)\b"),
        ("end-to-end", "", "node", r"\b(wdio|testcafe|nightwatch|protractor|cucumber-js)\b(?! *=)"),
        ("end-to-end", "", "python", r"\b(behave|robot)\b(?! *=)"),
        ("end-to-end", "", "php", r"\bbehat\b(?! *=)"),
        ("end-to-end", "", "ruby", r"\bcucumber\b(?! *=)"),
        ("types", "tsc", "node", r"\b(vue-)?tsc\b.*--noEmit"),
        ("types", "", "node", r"\bsvelte-check\b"),
        ("types", "", "python", r"\b(mypy|pyright|basedpyright)\b"),
        ("types", "", "php", r"\b(phpstan|psalm)\b"),
        ("types", "", "ruby", r"\b(steep check|srb tc)\b"),
        ("lint", "eslint", "node", r"\b(eslint|next lint|vue-cli-service lint|ng lint)\b"),
        ("lint", "", "node", r"\b(stylelint|biome (check|lint|ci)|oxlint)\b|\bprettier\b.*--check"),
        ("lint", "ruff", "python", r"\bruff\b(?! format(?!.*--check))"),
        ("lint", "", "python", r"\b(flake8|pylint)\b|\b(black|isort)\b.*--check"),
        ("lint", "", "php", r"\b(phpcs|pint --test)\b|\bphp-cs-fixer\b.*--dry-run"),
        ("lint", "", "ruby", r"\b(rubocop|standardrb)\b"),
        ("tests", "pytest", "python", r"\b(pytest|py\.test)\b"),
        ("tests", "django", "python", r"\bmanage\.py test\b"),
        ("tests", "unittest", "python", r"-m unittest\b"),
        ("tests", "", "python", r"\bnose2\b(?! *=)"),
        ("tests", "vitest", "node", r"\bvitest\b"),
        ("tests", "jest", "node", r"\bjest\b|\breact-scripts test\b|\bvue-cli-service test:unit\b"),
        ("tests", "node", "node", r"\bnode\b.* --test\b"),
        ("tests", "mocha", "node", r"\bmocha\b"),
        ("tests", "karma", "node", r"\bkarma start\b|\bng test\b"),
        ("tests", "", "node", r"\b(ava|tape|tap|jasmine|uvu)\b(?! *=)"),
        ("tests", "phpunit", "php", r"\bphpunit\b|\bartisan test\b|\bparatest\b"),
        ("tests", "pest", "php", r"\bpest\b"),
        ("tests", "rspec", "ruby", r"\brspec\b|\brake spec\b"),
        ("tests", "minitest", "ruby", r"\brails test\b|\brake test\b"),
        ("build", "mkdocs", "python", r"\bmkdocs build\b"),
        ("build", "", "ruby", r"\b(jekyll|middleman|nanoc)\b.*\b(build|compile)\b"),
        (
            "build",
            "",
            "node",
            r"\b(vite|next|nuxi?|nuxt|astro|ng|vue-cli-service|react-scripts|gatsby|remix|svelte-kit|parcel|snowpack|"
            r"docusaurus|vitepress|eleventy|encore|turbo run)\b.*\b(build|generate)\b|"
            r"\b(webpack|rollup|esbuild|tsup)\b(?!.*\b(serve|--watch)\b)",
        ),
    )
)
# What makes environments and fetches packages by itself is no check of ours to run.
_ELSEWHERE = regex(r"^\s*(docker|podman|tox|nox|act|sudo|ssh|cd \.\.)\b|\bplaywright install\b|\bcodecov\b")
_WRITES = (
    (regex(r"\s--fix(-type \S+)?\b(?!=)"), ""),
    (regex(r"(\bprettier\b.*)\s--write\b"), r"\1 --check"),
    (regex(r"(\bruff\b.*)\s--fix\b"), r"\1"),
    (regex(r"(\brubocop\b.*)\s(-a|-A|--auto-?correct(-all)?)\b"), r"\1"),
    (regex(r"(\bbiome\b.*)\s--(apply|write)(-unsafe)?\b"), r"\1"),
)
_WATCHES = (
    (regex(r"\bvitest\b(?!\s+(run|related|bench|list)\b)(\s+(watch|dev)\b)?"), "vitest run"),
    (regex(r"\s(--watch(All)?(=true)?|-w)\b(?!=)"), ""),
    (regex(r"(\bng test\b)(?!.*--watch)"), r"\1 --watch=false"),
    (regex(r"(\bkarma start\b)(?!.*--single-run)"), r"\1 --single-run"),
    (regex(r"\bcypress open\b"), "cypress run"),
)


def kind_of_line(line: str, language: str = "") -> tuple[str, str]:
    """The kind and the tool that a command line comes to, of this language's where one is named; ("", "") for one
    that is no check."""
    if _ELSEWHERE.search(line):
        return "", ""
    for kind, tool, own, pattern in _TOOLS:
        if (not language or own == language) and pattern.search(line):
            return kind, tool
    return "", ""


def once(check: CheckFound) -> CheckFound:
    """The check as it runs once, watches nothing and writes to no source: a script that says otherwise is run as
    its own line, changed."""
    text = check.text or check.line
    changed = text
    for pattern, words in (*_WATCHES, *(_WRITES if check.kind == "lint" else ())):
        changed = pattern.sub(words, changed)
    if changed == text:
        return check
    return replace(check, line=changed.strip(), text=changed.strip())


def best_of_kinds(checks: Iterable[CheckFound]) -> list[CheckFound]:
    """The best of each kind, in the order of kinds."""
    found: dict[str, CheckFound] = {}
    for one in sorted(checks, key=lambda one: -one.rank):
        found.setdefault(one.kind, one)
    return [found[kind] for kind in KINDS if kind in found]


_WORKFLOW = regex(r"^(\.github/workflows/[^/]+|\.gitlab-ci|\.circleci/config)\.ya?ml$")


def workflow_lines(tree: Tree) -> Iterator[tuple[str, str, Evidence]]:
    """The command lines of CI workflows, with the folder that each runs in."""
    for path in tree.files:
        if _WORKFLOW.match(path):
            try:
                document = yaml_value(tree.text(path), path)
            except BadInput:
                continue  # a workflow that cannot be read says nothing
            for line, folder in _lines(document, ""):
                first = line.strip().splitlines()[0][:60] if line.strip() else ""
                yield line, folder, tree.line_of(path, first)


def _lines(value: Any, folder: str) -> Iterator[tuple[str, str]]:
    """Every command in a workflow: ``run`` of a step, ``script`` of a job."""
    if isinstance(value, Mapping):
        inner = value.get("working-directory", folder)
        defaults = value.get("defaults")
        run = defaults.get("run") if isinstance(defaults, Mapping) else None
        if isinstance(run, Mapping):
            inner = run.get("working-directory", inner)
        inner = str(inner).strip("/").removeprefix("./")
        for key, one in value.items():
            if key in ("run", "script", "command"):
                rows = one if isinstance(one, list) else [one]
                for row in rows:
                    for line in str(row).replace("\\\n", " ").splitlines() if isinstance(row, str) else ():
                        if line.strip() and not re.match(r"\s*#", line):
                            yield line.strip(), inner
            if not isinstance(one, str):
                yield from _lines(one, inner)
    elif isinstance(value, list):
        for one in value:
            yield from _lines(one, folder)
