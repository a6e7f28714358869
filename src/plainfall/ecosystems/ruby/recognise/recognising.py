"""What Ruby finds in a clone, in the shape that every language has."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator
from pathlib import Path

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, PortWanted
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.ruby.lists.discover import dependency_file
from plainfall.ecosystems.ruby.lists.gemfile import manifest_path
from plainfall.ecosystems.ruby.recognise.tasks import set_up_commands
from plainfall.ecosystems.ruby.runtime.asks import ruby_asks
from plainfall.ecosystems.shared.plain_language import PlainRecognising
from plainfall.ecosystems.shared.version_files import within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import VersionAsk

__all__ = ["RubyRecognising"]

_SERVES = re.compile(
    r"require ['\"](sinatra|webrick|rack|roda|cuba|grape|hanami|puma)\b|WEBrick::HTTPServer|TCPServer\.new"
)


class RubyRecognising(PlainRecognising):
    """Parts with a manifest of an application, a Rack configuration, or a script that serves."""

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        """A folder with a manifest, or with what a server begins with; a package inside another part is none."""
        path = manifest_path(tree, folder)
        rack = within(folder, "config.ru")
        if path and (not folder or rack in tree or self._is_application(tree, folder)):
            return [Evidence(path, 1)]
        if is_side(folder):
            return []
        if rack in tree:
            return [Evidence(rack, 1)]
        script = self._script(tree, folder)
        return [script] if script is not None else []

    def _is_application(self, tree: Tree, folder: str) -> bool:
        names = ("bin/rails", "config/application.rb", "Rakefile", "app.rb", "config/app.rb", "_config.yml",
                 "nanoc.yaml", "Gemfile.lock", "Procfile")  # fmt: skip
        is_package = any(name.endswith(".gemspec") for name in tree.folders.get(folder, ()))
        return any(within(folder, name) in tree for name in names) and not is_package

    def _script(self, tree: Tree, folder: str) -> Evidence | None:
        """A script at the folder's top that starts a server."""
        for name in ("app.rb", "server.rb", "main.rb", "web.rb"):
            path = within(folder, name)
            if path in tree:
                try:
                    match = _SERVES.search(tree.text(path))
                except BadInput:
                    continue  # no text: nothing to run
                if match:
                    return Evidence(path, tree.text(path).count("\n", 0, match.start()) + 1)
        return None

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        return ruby_asks(tree, folder)

    def may_serve(self, tree: Tree, folder: str, names: Collection[str]) -> bool:
        return within(folder, "config.ru") in tree or self._script(tree, folder) is not None

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return list(set_up_commands(tree, folder))

    def ports(self, tree: Tree, folder: str) -> Iterator[PortWanted]:
        """The port that the server's own configuration names."""
        path = within(folder, "config/puma.rb")
        if path not in tree:
            return
        try:
            text = tree.text(path)
        except BadInput:
            return  # no text: it names no port
        match = re.search(
            r"^[ \t]*port\s+\(?(?:ENV\.fetch\(['\"]PORT['\"]\)\s*\{\s*|ENV\[['\"]PORT['\"]\]\s*\|\|\s*)?(\d{4,5})",
            text,
            re.M,
        )
        if match:
            line = text.count("\n", 0, match.start(1)) + 1
            yield PortWanted(int(match.group(1)), "the server's configuration", Evidence(path, line))
