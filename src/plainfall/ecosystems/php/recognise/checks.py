"""Checks of a PHP part: its manifest's scripts, else the configuration of the tools that it lists."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.checks import CheckFound, CheckTool, CheckWords, kind_of_line
from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.lists.manifests import MANIFEST, manifest, mapping
from plainfall.ecosystems.php.recognise.scripts import entries_of
from plainfall.ecosystems.shared.configured_checks import ConfiguredTool, configured_checks
from plainfall.ecosystems.shared.version_files import within
from plainfall.patterns import regex

__all__ = ["WORDS", "php_checks"]

_SCRIPT, _CONFIGURED = 600, 450
_NAMES = (
    ("tests", re.compile(r"tests?(:(unit|ci|run|all))?|phpunit|pest|unit")),
    ("lint", re.compile(r"lint|cs|check-cs|cs:check|phpcs|test:lint|style")),
    ("types", re.compile(r"phpstan|stan|analy[sz]e|psalm|static-analysis|test:types")),
    ("end-to-end", re.compile(r"behat|dusk|e2e|test:e2e")),
)
_CONFIGURED_TOOLS = (
    ConfiguredTool("tests", "pestphp/pest", r"(tests/Pest\.php)", "pest"),
    ConfiguredTool("tests", "phpunit/phpunit", r"(phpunit\.(xml|dist\.xml|xml\.dist))", "phpunit"),
    ConfiguredTool("end-to-end", "behat/behat", r"(behat\.(yml|yaml|dist\.yml|yml\.dist))", "behat"),
    ConfiguredTool("lint", "squizlabs/php_codesniffer", r"(\.?phpcs\.(xml|dist\.xml|xml\.dist))", "phpcs"),
    ConfiguredTool(
        "lint",
        "friendsofphp/php-cs-fixer",
        r"(\.php-cs-fixer(\.dist)?\.php)",
        "php-cs-fixer fix --dry-run --diff",
    ),
    ConfiguredTool("lint", "laravel/pint", r"(pint\.json)", "pint --test"),
    ConfiguredTool(
        "types",
        "phpstan/phpstan",
        r"(phpstan\.(neon|dist\.neon|neon\.dist))",
        "phpstan analyse --no-progress",
    ),
    ConfiguredTool(
        "types",
        "larastan/larastan",
        r"(phpstan\.(neon|dist\.neon|neon\.dist))",
        "phpstan analyse --no-progress",
    ),
    ConfiguredTool("types", "vimeo/psalm", r"(psalm\.(xml|dist\.xml|xml\.dist))", "psalm --no-progress"),
)


WORDS = CheckWords(
    tools=(
        CheckTool("end-to-end", "dusk", regex(r"\bartisan dusk\b")),
        CheckTool("end-to-end", "", regex(r"\bbehat\b(?! *=)")),
        CheckTool("types", "", regex(r"\b(phpstan|psalm)\b")),
        CheckTool("lint", "", regex(r"\b(phpcs|pint --test)\b|\bphp-cs-fixer\b.*--dry-run")),
        CheckTool("tests", "phpunit", regex(r"\bphpunit\b|\bartisan test\b|\bparatest\b")),
        CheckTool("tests", "pest", regex(r"\bpest\b")),
    ),
)


def php_checks(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    """The checks that the part's files tell of; ``names`` are those of its packages."""
    path = within(folder, MANIFEST)
    document = manifest(tree, folder)
    for name in mapping(document.get("scripts")):
        lines = entries_of(document, name)
        kind = next((kind for kind, pattern in _NAMES if pattern.fullmatch(name)), "")
        if not kind or not lines:
            continue
        text = " && ".join(lines)
        told, tool = kind_of_line(text, WORDS)
        writes = re.search(r"php-cs-fixer\b(?!.*--dry-run)|\bphpcbf\b|\bpint\b(?!.*--test)", text)
        if writes or (told and told != kind and kind != "tests"):
            continue
        place = tree.line_of(path, f'"{name}"')
        reason = f"the manifest's script {name!r}, which runs {text[:60]}"
        tool = "" if len(lines) > 1 else tool
        yield CheckFound(kind, f"composer run-script {name}", reason, _SCRIPT, place, folder, tool, text)
    yield from configured_checks(
        tree,
        folder,
        names,
        _CONFIGURED_TOOLS,
        _CONFIGURED,
        lambda one: kind_of_line(one.line, WORDS)[1] or one.line.partition(" ")[0],
    )
