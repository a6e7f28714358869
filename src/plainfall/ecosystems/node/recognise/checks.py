"""Checks of a Node part: its manifest's scripts, else the configuration of the tools that it lists."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.checks import CheckFound, CheckTool, CheckWords, kind_of_line
from plainfall.clone.walk import Tree
from plainfall.ecosystems.node.recognise.servers import scripts_of
from plainfall.ecosystems.shared.configured_checks import ConfiguredTool, configured_checks
from plainfall.ecosystems.shared.version_files import within
from plainfall.patterns import regex

__all__ = ["WORDS", "node_checks"]

_SCRIPT, _CONFIGURED = 60, 45
_NAMES = (
    ("end-to-end", re.compile(r"(test:)?(e2e|end-to-end|playwright|cypress)(:(run|ci|headless))?|cy:run")),
    ("tests", re.compile(r"tests?(:(unit|ci|run|all|once))?|unit(:tests?)?|jest|vitest|mocha")),
    ("build", re.compile(r"build(:(prod|production|all|app))?")),
    ("lint", re.compile(r"(lint|eslint)(:(check|js|ts|all|ci|eslint))?|check:lint")),
    ("types", re.compile(r"(type-?check|check-types|types|tsc|check:types?|types:check|typings)|test:types")),
)
_PLACEHOLDER = re.compile(r"no test specified|^\s*(exit 1|true|:)\s*$")
_CONFIGURED_TOOLS = (
    ConfiguredTool("tests", "vitest", r"vitest\.(config|workspace)\.\w+", "vitest run"),
    ConfiguredTool("tests", "jest", r"jest\.config\.\w+", "jest"),
    ConfiguredTool("tests", "mocha", r"\.mocharc\.\w+", "mocha"),
    ConfiguredTool("end-to-end", "@playwright/test", r"playwright\.config\.\w+", "playwright test"),
    ConfiguredTool("end-to-end", "cypress", r"cypress\.(config\.\w+|json)", "cypress run"),
    ConfiguredTool("lint", "eslint", r"(\.eslintrc(\.\w+)?|eslint\.config\.\w+)", "eslint ."),
    ConfiguredTool("lint", "@biomejs/biome", r"biome\.jsonc?", "biome check"),
    ConfiguredTool("types", "typescript", r"tsconfig\.json", "tsc --noEmit"),
    ConfiguredTool("build", "vite", r"vite\.config\.\w+", "vite build"),
)


WORDS = CheckWords(
    tools=(
        CheckTool("end-to-end", "playwright", regex(r"\bplaywright test\b")),
        CheckTool("end-to-end", "cypress", regex(r"\bcypress (run|open)\b")),
        CheckTool("end-to-end", "", regex(r"\b(wdio|testcafe|nightwatch|protractor|cucumber-js)\b(?! *=)")),
        CheckTool("types", "tsc", regex(r"\b(vue-)?tsc\b.*--noEmit")),
        CheckTool("types", "", regex(r"\bsvelte-check\b")),
        CheckTool("lint", "eslint", regex(r"\b(eslint|next lint|vue-cli-service lint|ng lint)\b")),
        CheckTool("lint", "", regex(r"\b(stylelint|biome (check|lint|ci)|oxlint)\b|\bprettier\b.*--check")),
        CheckTool("tests", "vitest", regex(r"\bvitest\b")),
        CheckTool("tests", "jest", regex(r"\bjest\b|\breact-scripts test\b|\bvue-cli-service test:unit\b")),
        CheckTool("tests", "node", regex(r"\bnode\b.* --test\b")),
        CheckTool("tests", "mocha", regex(r"\bmocha\b")),
        CheckTool("tests", "karma", regex(r"\bkarma start\b|\bng test\b")),
        CheckTool("tests", "", regex(r"\b(ava|tape|tap|jasmine|uvu)\b(?! *=)")),
        CheckTool(
            "build",
            "",
            regex(
                r"\b(vite|next|nuxi?|nuxt|astro|ng|vue-cli-service|react-scripts|gatsby|remix|svelte-kit|parcel|"
                r"snowpack|docusaurus|vitepress|eleventy|encore|turbo run)\b.*\b(build|generate)\b|"
                r"\b(webpack|rollup|esbuild|tsup)\b(?!.*\b(serve|--watch)\b)"
            ),
        ),
    ),
    watches=(
        (regex(r"\bvitest\b(?!\s+(run|related|bench|list)\b)(\s+(watch|dev)\b)?"), "vitest run"),
        (regex(r"(\bng test\b)(?!.*--watch)"), r"\1 --watch=false"),
        (regex(r"(\bkarma start\b)(?!.*--single-run)"), r"\1 --single-run"),
        (regex(r"\bcypress open\b"), "cypress run"),
    ),
    writes=(
        (regex(r"(\bprettier\b.*)\s--write\b"), r"\1 --check"),
        (regex(r"(\bbiome\b.*)\s--(apply|write)(-unsafe)?\b"), r"\1"),
    ),
)


def node_checks(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    """The checks that the part's files tell of; ``names`` are those of its packages."""
    path, scripts = within(folder, "package.json"), scripts_of(tree, folder)
    for position, (name, text) in enumerate(scripts.items()):
        kind = next((kind for kind, pattern in _NAMES if pattern.fullmatch(name)), "")
        if not kind or _PLACEHOLDER.search(text):
            continue
        told, tool = kind_of_line(text, WORDS)
        if told and told != kind and kind != "tests":
            kind = told  # a script "lint" that checks types, say
        plain = name in ("test", "build", "lint", "e2e", "test:e2e", "typecheck", "type-check")
        rank = _SCRIPT - (0 if plain else 2) - min(position, 9) / 10
        reason = f"the manifest's script {name!r}, which runs {text[:60]}"
        place = tree.line_of(path, f'"{name}"')
        yield CheckFound(kind, f"npm run {name}", reason, int(rank * 10), place, folder, tool, text)
    yield from configured_checks(
        tree,
        folder,
        names,
        _CONFIGURED_TOOLS,
        _CONFIGURED * 10,
        lambda one: kind_of_line(one.line, WORDS)[1] or one.package,
    )
