"""What PHP finds in a clone, in the shape that every language has."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator
from pathlib import Path

from plainfall.clone.commands import Command
from plainfall.clone.parts import DependencyFile, Extension, PortWanted
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.php.lists.discover import dependency_file
from plainfall.ecosystems.php.lists.manifests import MANIFEST, manifest, strings
from plainfall.ecosystems.php.recognise.documents import front_file
from plainfall.ecosystems.php.recognise.scripts import entries_of, install_commands, script_commands
from plainfall.ecosystems.php.runtime.asks import php_asks
from plainfall.ecosystems.php.runtime.platform import extension_needs, system_package
from plainfall.ecosystems.shared.plain_language import PlainRecognising
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.runtimes.asks import VersionAsk

__all__ = ["PhpRecognising"]


class PhpRecognising(PlainRecognising):
    """Parts with a ``composer.json`` of an application, or with pages at the top."""

    def recognise(self, tree: Tree, folder: str) -> list[Evidence]:
        """A folder with a manifest that is no package inside another part, or with a page that starts it."""
        place = f"{folder}/" if folder else ""
        front = front_file(tree, folder)
        if place + MANIFEST in tree and (not folder or front or self._is_application(tree, folder)):
            return [Evidence(place + MANIFEST, 1)]
        return [Evidence(place + front, 1)] if front and not is_side(folder) else []

    def _is_application(self, tree: Tree, folder: str) -> bool:
        """Whether a manifest below the top is one of an application, and not of a package that lies there."""
        try:
            document = manifest(tree, folder)
        except BadInput:
            return True  # reported by the step that reads it
        names = {f"{folder}/{name}" for name in ("artisan", "bin/console", "composer.lock")}
        return document.get("type") == "project" or any(name in tree for name in names)

    def asks(self, tree: Tree, folder: str, cache: Path | None) -> list[VersionAsk]:
        return php_asks(tree, folder)

    def may_serve(self, tree: Tree, folder: str, names: Collection[str]) -> bool:
        return front_file(tree, folder) != ""

    def extensions(self, tree: Tree, folder: str) -> tuple[Extension, ...]:
        return tuple(
            Extension(one.asked_by, one.evidence, one.name, system_package(one.name, ""))
            for one in extension_needs(tree, folder)
        )

    def dependencies(self, tree: Tree, folder: str) -> DependencyFile | None:
        return dependency_file(tree, folder)

    def commands(self, tree: Tree, folder: str) -> list[Command]:
        return list(script_commands(tree, folder))

    def programs(self, tree: Tree, folder: str) -> frozenset[str]:
        try:
            return frozenset(path.rpartition("/")[2] for path in strings(manifest(tree, folder).get("bin")))
        except BadInput:
            return frozenset()  # reported by the step that installs from it

    def after_installing(self, tree: Tree, folder: str) -> list[Command]:
        """The manifest's scripts that an install runs."""
        return install_commands(tree, folder)

    def script_texts(self, tree: Tree, folder: str) -> Iterable[str]:
        try:
            document = manifest(tree, folder)
        except BadInput:
            return ()  # reported by the step that installs from it
        return [line for name in ("dev", "start", "serve") for line in entries_of(document, name)]

    def ports(self, tree: Tree, folder: str) -> Iterator[PortWanted]:
        """The port that a script of the manifest serves on."""
        path = f"{folder}/{MANIFEST}" if folder else MANIFEST
        for text in self.script_texts(tree, folder):
            match = re.search(r"(?:-S\s+[\w.]+:|--port[ =])(\d{4,5})", text)
            if match:
                yield PortWanted(
                    int(match.group(1)), "a script of the manifest", tree.line_of(path, match.group(1))
                )
                return
