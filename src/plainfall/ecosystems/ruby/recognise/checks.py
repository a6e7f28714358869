"""Checks of a Ruby part, by its folders of tests and the configuration of the tools that it lists."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.checks import CheckFound, CheckTool, CheckWords
from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.recognise.tasks import has_task
from plainfall.ecosystems.shared.configured_checks import ConfiguredTool, configured_checks
from plainfall.ecosystems.shared.version_files import within
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["WORDS", "ruby_checks"]

_RANK = 500
_CONFIGURED_TOOLS = (
    ConfiguredTool("lint", "rubocop", r"\.rubocop\.yml", "bundle exec rubocop"),
    ConfiguredTool("lint", "standard", r"\.standard\.yml", "bundle exec standardrb"),
    ConfiguredTool("types", "steep", r"Steepfile", "bundle exec steep check"),
    ConfiguredTool("types", "sorbet", r"sorbet/config", "bundle exec srb tc"),
    ConfiguredTool("build", "jekyll", r"_config\.yml", "bundle exec jekyll build"),
    ConfiguredTool("build", "middleman", r"config\.rb", "bundle exec middleman build"),
    ConfiguredTool("build", "nanoc", r"nanoc\.yaml", "bundle exec nanoc compile"),
)


WORDS = CheckWords(
    tools=(
        CheckTool("end-to-end", "rails", regex(r"\brails test:(system|all)\b")),
        CheckTool("end-to-end", "", regex(r"\bcucumber\b(?! *=)")),
        CheckTool("types", "", regex(r"\b(steep check|srb tc)\b")),
        CheckTool("lint", "", regex(r"\b(rubocop|standardrb)\b")),
        CheckTool("tests", "rspec", regex(r"\brspec\b|\brake spec\b")),
        CheckTool("tests", "minitest", regex(r"\brails test\b|\brake test\b")),
        CheckTool("build", "", regex(r"\b(jekyll|middleman|nanoc)\b.*\b(build|compile)\b")),
    ),
    writes=((regex(r"(\brubocop\b.*)\s(-a|-A|--auto-?correct(-all)?)\b"), r"\1"),),
)


def ruby_checks(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[CheckFound]:
    """The checks that the part's files tell of; ``names`` are those of its packages."""
    below = list(tree.below(folder))
    specs = next((one for one in below if re.match(r"spec/.+_spec\.rb$", one)), "")
    tests = next((one for one in below if re.match(r"test/(?!system/).+(_test|/test_\w+)\.rb$", one)), "")
    system = next((one for one in below if re.match(r"test/system/.+_test\.rb$", one)), "")
    rails = within(folder, "bin/rails") in tree
    if specs and "rspec" in " ".join(names):
        place = Evidence(within(folder, specs), 1)
        yield CheckFound(
            "tests", "bundle exec rspec", "the part has specifications", _RANK, place, folder, "rspec"
        )
    if tests and rails:
        place = Evidence(within(folder, tests), 1)
        yield CheckFound("tests", "bin/rails test", "Rails' tests", _RANK - 1, place, folder, "minitest")
    elif tests:
        task = has_task(tree, folder, "", "test") or _loaded(tree, folder)
        if task is not None:
            yield CheckFound(
                "tests", "bundle exec rake test", "the rake file's tests", _RANK - 1, task, folder, "minitest"
            )
    if system and rails:
        place = Evidence(within(folder, system), 1)
        yield CheckFound(
            "end-to-end", "bin/rails test:system", "Rails' system tests", _RANK, place, folder, "rails"
        )
    yield from configured_checks(tree, folder, names, _CONFIGURED_TOOLS, _RANK, lambda one: one.package)


def _loaded(tree: Tree, folder: str) -> Evidence | None:
    """The line by which a rake file makes its test task of the library's class."""
    for name in ("Rakefile", "rakefile"):
        path = within(folder, name)
        if path in tree and "TestTask.new" in tree.text(path):
            return tree.line_of(path, "TestTask.new")
    return None
