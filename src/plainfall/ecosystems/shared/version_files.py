"""Where the files lie that ask for a version: in a part's folder, and above it; and those that ask for a version of
any language: container files, CI workflows, the README."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.runtimes.asks import Strength, VersionAsk

__all__ = ["Written", "asks_beside", "numbered_lines", "tool_versions", "upwards", "within"]

_CONTAINERS = (
    "Dockerfile", "Dockerfile.dev", ".devcontainer/Dockerfile", "docker/Dockerfile", "docker/php/Dockerfile",
    ".dockerdev/Dockerfile",
)  # fmt: skip
_WORKFLOW = regex(r"(\.github/workflows/[^/]+|\.gitlab-ci|\.circleci/config|\.travis)\.ya?ml$")
_README = regex(r"readme(\.(md|markdown|txt|rst|rdoc))?$", re.IGNORECASE)


class Written(Struct, frozen=True):
    """How versions of a language are written in files of no language: ``images`` match lines of container files,
    ``stated`` those of CI workflows with the versions behind it, ``version`` one version there, ``prose`` a
    sentence (groups: what says "at least", the version, ``.x``, "or later"). ``specifier`` makes a version a
    specifier, ``least`` is the form of one that is at least that."""

    images: tuple[re.Pattern[str], ...]
    stated: re.Pattern[str]
    version: re.Pattern[str]
    prose: re.Pattern[str]
    specifier: Callable[[str], str | None]
    least: str
    any_version: str


def asks_beside(tree: Tree, folder: str, written: Written) -> Iterator[VersionAsk]:
    """The versions that container files, CI workflows and the README of a part name."""
    yield from _containers(tree, folder, written)
    yield from _workflows(tree, written)
    yield from _prose(tree, folder, written)


def _containers(tree: Tree, folder: str, written: Written) -> Iterator[VersionAsk]:
    for path in (within(folder, name) for name in _CONTAINERS):
        for number, line in numbered_lines(tree, path):
            match = next((found for one in written.images if (found := one.match(line))), None)
            if match:
                place = Evidence(path, number, line.strip())
                specifier = written.specifier(".".join(match.group(1).split(".")[:2])) or written.any_version
                yield VersionAsk(match.group(1), specifier, Strength.PREFERENCE, "container file", place)
                break


def _workflows(tree: Tree, written: Written) -> Iterator[VersionAsk]:
    """Versions that CI runs, each a hint: a list of several says that they all work."""
    for path in tree.files:
        if not _WORKFLOW.match(path):
            continue
        for number, line in numbered_lines(tree, path):
            match = written.stated.search(line)
            for text in written.version.findall(match.group(1)) if match else ():
                specifier = written.specifier(text)
                if specifier:
                    place = Evidence(path, number, line.strip())
                    yield VersionAsk(text, specifier, Strength.HINT, "CI workflow", place)


def _prose(tree: Tree, folder: str, written: Written) -> Iterator[VersionAsk]:
    for name in tree.folders.get(folder, ()):
        if not _README.match(name):
            continue
        for number, line in numbered_lines(tree, within(folder, name)):
            match = written.prose.search(line)
            if match:
                at_least = bool(match.group(1) or match.group(4))
                version = match.group(2)
                specifier = written.least.format(version) if at_least else written.specifier(version)
                if specifier:
                    place = Evidence(within(folder, name), number, line.strip())
                    yield VersionAsk(match.group(0).strip(), specifier, Strength.HINT, "README", place)
                return


def within(folder: str, name: str) -> str:
    """The path of a name in a folder ("" is the clone's own)."""
    return f"{folder}/{name}" if folder else name


def upwards(folder: str, name: str) -> Iterator[str]:
    """The paths of a name in a folder and in each above it, the nearest first."""
    yield within(folder, name)
    while folder:
        folder = folder.rpartition("/")[0]
        yield within(folder, name)


def numbered_lines(tree: Tree, path: str) -> list[tuple[int, str]]:
    """The lines of a file with their numbers; none for one that is absent or no text."""
    if path not in tree:
        return []
    try:
        return list(enumerate(tree.text(path).splitlines(), 1))
    except BadInput:
        return []  # not text: not written for us


def tool_versions(tree: Tree, folder: str, name: str) -> Iterator[tuple[str, Evidence]]:
    """The version that the nearest ``.tool-versions`` states for a tool (``name`` is a regular expression), with
    its line; those further up follow."""
    for path in upwards(folder, ".tool-versions"):
        for number, line in numbered_lines(tree, path):
            match = re.match(rf"^{name}\s+(\S+)", line)
            if match:
                yield match.group(1), Evidence(path, number, line)
