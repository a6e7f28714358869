"""Generators of static sites: they serve while they build."""

from __future__ import annotations

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import within
from plainfall.evidence import Evidence

__all__ = ["TRAITS", "recognise"]

ORDER = 10
TRAITS = Traits(
    ("Jekyll", "Middleman", "nanoc"),
    left_behind=("/_site/", "/.jekyll-cache/", "/.jekyll-metadata", "/output/", "/tmp/"),
)
_KINDS = (
    ("jekyll", "Jekyll", "_config.yml", "bundle exec jekyll serve --host 127.0.0.1 --port ${PORT:-4000}"),
    (
        "middleman",
        "Middleman",
        "config.rb",
        "bundle exec middleman server --bind-address=127.0.0.1 --port=${PORT:-4567}",
    ),
    (
        "nanoc",
        "nanoc",
        "nanoc.yaml",
        "bundle exec nanoc view --handler webrick --host 127.0.0.1 --port ${PORT:-3000}",
    ),
    (
        "bridgetown",
        "Bridgetown",
        "bridgetown.config.yml",
        "bundle exec bridgetown start --port ${PORT:-4000}",
    ),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a generator's configuration and the generator in its list."""
    for name, title, file, line in _KINDS:
        path = within(folder, file)
        if name in names and path in tree:
            place = Evidence(path, 1)
            commands = [Command("server", line, f"{title} builds and serves", RANK, place, folder)]
            if name == "nanoc":
                commands.insert(
                    0, Command("tasks", "bundle exec nanoc compile", "builds the site", RANK, place, folder)
                )
            return FrameworkFound(title, place, tuple(commands), pages=("/",))
    return None
