"""The manifest of a Ruby part: a program whose plain declarations are read without running it.

What is not plain (loops, variables, conditions on the machine) makes the reading incomplete: then a Ruby
evaluates the file, with methods that only record (``evaluating``), at the step that installs."""

from __future__ import annotations

import posixpath
import re
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field
from msgspec.structs import replace

from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.sources.syntax import arguments, first_error, method, text_of
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import clone_text
from plainfall.sources.trees import Source as Parsed

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = [
    "MANIFESTS",
    "Manifest",
    "Wish",
    "applies",
    "gemspec_of",
    "manifest_at",
    "manifest_of",
    "manifest_path",
]

MANIFESTS = ("Gemfile", "gems.rb")
_GRAMMAR = "tree_sitter_ruby:language"
_LARGEST = 4 << 20  # bytes
_DEEPEST = 5  # files that include each other
_SILENT = frozenset(
    "git_source plugin puts require require_relative warn raise abort p print env ruby".split()
)
_HERE = regex(r"(ruby|mri|any_ruby)(_\d+)?")
_NAME = regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,200}")


class Wish(Struct, frozen=True):
    """A package that the manifest asks for: its requirements' texts, groups and platforms (none: all), what it says
    of its source (``path``, ``git``, ``branch``, ``tag``, ``ref``, ``source``, ``glob``), and where."""

    name: str
    requirements: tuple[str, ...]
    place: Evidence
    groups: tuple[str, ...] = ()
    platforms: tuple[str, ...] = ()
    source: Mapping[str, str] = field(default_factory=dict)


class Manifest(Struct, frozen=True):
    """What a manifest declares: registries, packages, the runtime's requirements (or the file that they stand in),
    gemspecs that count (folders, relative to the part); ``unread`` are the places that are not plain."""

    path: str
    sources: tuple[str, ...] = ()
    wishes: tuple[Wish, ...] = ()
    ruby: tuple[str, ...] = ()
    ruby_file: str = ""
    ruby_place: Evidence | None = None
    engine: str = ""
    gemspecs: tuple[str, ...] = ()
    unread: tuple[Evidence, ...] = ()


class _Around(Struct, frozen=True):
    """What the blocks around a declaration say."""

    groups: tuple[str, ...] = ()
    platforms: tuple[str, ...] = ()
    source: Mapping[str, str] = field(default_factory=dict)


def manifest_path(tree: Tree, folder: str) -> str:
    """The manifest's path, "" where the part has none."""
    return next((path for name in MANIFESTS if (path := posixpath.join(folder, name)) in tree), "")


def manifest_of(tree: Tree, folder: str) -> Manifest | None:
    """What the part's manifest declares; None where it has none. Raises BadInput for one that is no Ruby."""
    path = manifest_path(tree, folder)
    return _read(tree.text(path), path, _Loader(tree.root, tree)) if path else None


def manifest_at(root: Path, path: str) -> Manifest:
    """What the manifest at a path of a clone declares. Raises BadInput."""
    return _read(clone_text(root, path, _LARGEST), path, _Loader(root, None))


class _Loader:
    """Texts of the files that a manifest includes; equal for the same clone, so that readings are kept."""

    def __init__(self, root: Path, tree: Tree | None) -> None:
        self._root = root
        self._tree = tree

    def __hash__(self) -> int:
        return hash(self._root)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Loader) and other._root == self._root and other._tree is self._tree

    def text(self, path: str) -> str | None:
        """A file of the clone, None where it is not there."""
        if self._tree is not None:
            return self._tree.text(path) if path in self._tree else None
        return clone_text(self._root, path, _LARGEST) if (self._root / path).is_file() else None


@lru_cache(8)
def _read(text: str, path: str, loader: _Loader) -> Manifest:
    reading = _Reading(path, loader)
    reading.file(text, path, 0)
    return reading.result()


class _Reading:
    def __init__(self, path: str, loader: _Loader) -> None:
        self._path = path
        self._loader = loader
        self._sources: list[str] = []
        self._wishes: list[Wish] = []
        self._gemspecs: list[str] = []
        self._unread: list[Evidence] = []
        self._ruby: tuple[tuple[str, ...], str, Evidence | None, str] = ((), "", None, "")

    def result(self) -> Manifest:
        texts, file, place, engine = self._ruby
        return Manifest(
            self._path, tuple(dict.fromkeys(self._sources)), tuple(self._wishes), texts, file, place, engine,
            tuple(self._gemspecs), tuple(self._unread),
        )  # fmt: skip

    def file(self, text: str, path: str, depth: int) -> None:
        parsed = Parsed(text, path, _GRAMMAR)
        if parsed.root.has_error:
            broken = first_error(parsed.root)
            line = broken.start_point[0] + 1
            raise BadInput(
                "it is no Ruby: a word, an end or a bracket is missing or too much near here",
                place=Evidence(path, line, text.splitlines()[line - 1].strip()[:80] if text.strip() else ""),
                remedy="Mend it; `ruby -c` on the file says more.",
            )
        self._statements(parsed, parsed.root, _Around(), depth)

    def _statements(self, parsed: Parsed, node: Node, around: _Around, depth: int) -> None:
        for child in node.named_children:
            self._statement(parsed, child, around, depth)

    def _statement(self, parsed: Parsed, node: Node, around: _Around, depth: int) -> None:
        kind = node.type
        if kind == "identifier" and text_of(parsed, node) == "gemspec":  # called without arguments
            self._gemspecs.append(".")
            return
        if kind in ("comment", "identifier", "string", "empty_statement"):
            return
        if kind == "call" and node.child_by_field_name("receiver") is None:
            self._declaration(parsed, node, around, depth)
        elif kind in ("if", "unless", "if_modifier", "unless_modifier"):
            self._condition(parsed, node, around, depth)
        elif kind in ("begin", "body_statement", "then", "else", "parenthesized_statements"):
            self._statements(parsed, node, around, depth)
        elif kind == "call" and method(parsed, node) in ("freeze", "load", "instance_eval"):
            self._leave(parsed, node)
        elif kind == "assignment" and not re.search(r"\bgem\b|eval_gemfile", text_of(parsed, node)):
            return  # it matters only where it is used, and there the reading says that it is not plain
        else:
            self._leave(parsed, node)

    def _leave(self, parsed: Parsed, node: Node) -> None:
        line = node.start_point[0] + 1
        self._unread.append(Evidence(parsed.path, line, text_of(parsed, node).splitlines()[0][:80]))

    def _condition(self, parsed: Parsed, node: Node, around: _Around, depth: int) -> None:
        """Conditions on the environment count as if nothing were set there; others are not plain."""
        condition = node.child_by_field_name("condition")
        holds = _holds(text_of(parsed, condition)) if condition is not None else None
        if holds is None:
            self._leave(parsed, node)
            return
        if node.type.startswith("unless"):
            holds = not holds
        branch = "consequence" if holds else "alternative"
        if node.type.endswith("_modifier"):
            body = node.child_by_field_name("body") if holds else None
            if body is not None:
                self._statement(parsed, body, around, depth)
            return
        inner = node.child_by_field_name(branch)
        if inner is not None:
            if inner.type == "elsif":
                self._condition(parsed, inner, around, depth)
            else:
                self._statements(parsed, inner, around, depth)

    def _declaration(self, parsed: Parsed, node: Node, around: _Around, depth: int) -> None:
        name = method(parsed, node)
        values, options = arguments(parsed, node)
        block = node.child_by_field_name("block")
        if values is None or any(one is None for one in options.values()):
            if name == "ruby":
                self._ruby_line(parsed, node, [], {})
                return
            relevant = {key for key, value in options.items() if value is None} - {
                "require",
                "install_if",
                "force_ruby_platform",
            }
            if values is None or relevant or "install_if" in options:
                self._leave(parsed, node)
                return
        texts = [one for one in values or () if isinstance(one, str)]
        if name == "gem" and texts:
            self._gem(parsed, node, texts, options, around)
        elif name == "source" and texts:
            if block is None:
                self._sources.append(texts[0])
            else:
                inner = replace(around, source={**around.source, "source": texts[0]})
                self._block(parsed, block, inner, depth)
        elif name == "ruby":
            self._ruby_line(parsed, node, texts, options)
        elif name == "group":
            self._block(parsed, block, replace(around, groups=(*around.groups, *texts)), depth)
        elif name in ("platforms", "platform"):
            self._block(parsed, block, replace(around, platforms=(*around.platforms, *texts)), depth)
        elif name in ("path", "git") and texts:
            more = {name: texts[0], **_words(options)}
            self._block(parsed, block, replace(around, source={**around.source, **more}), depth)
        elif name == "github" and texts:
            more = {"git": _hosted(texts[0]), **_words(options)}
            self._block(parsed, block, replace(around, source={**around.source, **more}), depth)
        elif name == "gemspec":
            self._gemspecs.append(str(options.get("path") or "."))
        elif name == "eval_gemfile" and texts:
            self._include(parsed, node, texts[0], around, depth)
        elif name not in _SILENT:
            self._leave(parsed, node)

    def _block(self, parsed: Parsed, block: Node | None, around: _Around, depth: int) -> None:
        if block is None:
            return
        body = block.child_by_field_name("body") or block
        self._statements(parsed, body, around, depth)

    def _include(self, parsed: Parsed, node: Node, named: str, around: _Around, depth: int) -> None:
        path = posixpath.normpath(posixpath.join(posixpath.dirname(parsed.path), named))
        text = self._loader.text(path) if depth < _DEEPEST and not path.startswith(("..", "/")) else None
        if text is None:
            self._leave(parsed, node)
        else:
            self.file(text, path, depth + 1)

    def _gem(
        self, parsed: Parsed, node: Node, texts: list[str], options: Mapping[str, Any], around: _Around
    ) -> None:
        name = texts[0]
        if not _NAME.fullmatch(name):
            self._leave(parsed, node)
            return
        words = _words(options)
        source = {**around.source, **{key: words[key] for key in _SOURCE_KEYS if key in words}}
        if "github" in words:
            source["git"] = _hosted(words["github"])
        groups = (*around.groups, *_listed(options.get("group")), *_listed(options.get("groups")))
        platforms = (*around.platforms, *_listed(options.get("platforms")), *_listed(options.get("platform")))
        line = node.start_point[0] + 1
        place = Evidence(parsed.path, line, text_of(parsed, node).splitlines()[0][:100])
        self._wishes.append(Wish(name, tuple(texts[1:]), place, groups, platforms, source))

    def _ruby_line(self, parsed: Parsed, node: Node, texts: list[str], options: Mapping[str, Any]) -> None:
        line = text_of(parsed, node)
        file = str(options.get("file") or "")
        read = re.search(r"(?:File\.read|IO\.read)\(\s*['\"]([\w./-]+)['\"]", line)
        if read:
            file = read.group(1)
        place = Evidence(parsed.path, node.start_point[0] + 1, line.splitlines()[0][:100])
        self._ruby = (tuple(texts), file, place, str(options.get("engine") or ""))


_SOURCE_KEYS = ("path", "git", "branch", "tag", "ref", "source", "glob", "submodules")


def _hosted(name: str) -> str:
    """The address of a repository on the public host that a manifest means by a short name."""
    full = name if "/" in name else f"{name}/{name}"
    return f"https://github.com/{full}.git"


def _words(options: Mapping[str, Any]) -> dict[str, str]:
    return {key: value for key, value in options.items() if isinstance(value, str)}


def _listed(value: Any) -> tuple[str, ...]:
    return tuple(value) if isinstance(value, list) else (value,) if isinstance(value, str) else ()


def _holds(condition: str) -> bool | None:
    """Whether a condition holds in an environment where nothing is set; None for one that asks for more."""
    text = condition.strip("() ")
    if re.fullmatch(r"ENV(\.fetch\(|\[)['\"]\w+['\"](,\s*(nil|false))?[\])]", text):
        return False
    if re.fullmatch(r"ENV\.(key|has_key|include|member)\?\(?\s*['\"]\w+['\"]\)?", text):
        return False
    if re.fullmatch(r"ENV\[['\"]\w+['\"]\]\s*==\s*['\"][^'\"]+['\"]", text):
        return False
    if re.fullmatch(r"!\s*ENV\[['\"]\w+['\"]\]|ENV\[['\"]\w+['\"]\]\s*!=\s*['\"][^'\"]+['\"]", text):
        return True
    return None


def applies(platforms: tuple[str, ...], version: str, system: str) -> bool:
    """Whether a package with these platforms is for the usual Ruby of that version on a system such as Linux."""
    if not platforms:
        return True
    pieces = re.match(r"(\d+)\.(\d+)", version)
    short = f"{pieces.group(1)}{pieces.group(2)}" if pieces else ""
    for one in platforms:
        match = _HERE.fullmatch(one)
        if match and (match.group(2) is None or match.group(2)[1:] == short):
            return True
        if one.startswith(("windows", "mingw", "mswin", "x64_mingw")) and "mingw" in system:
            return True
    return False


def gemspec_of(text: str, path: str) -> tuple[dict[str, str], list[Wish]]:
    """What a gemspec says plainly: "name", "version" and "ruby" (the runtime's requirement), and what it needs
    (for development only: the group "development")."""
    facts: dict[str, str] = {}
    wishes = []
    for number, line in enumerate(text.splitlines(), 1):
        plain = line.partition("#")[0] if "#{" not in line else line
        need = re.search(
            r"\.add_(runtime_|development_)?dependency[\s(]+['\"]([\w.-]+)['\"]((?:\s*,\s*['\"][^'\"]+['\"])*)",
            plain,
        )
        if need:
            texts = tuple(re.findall(r"['\"]([^'\"]+)['\"]", need.group(3)))
            groups = ("development",) if need.group(1) == "development_" else ()
            wishes.append(Wish(need.group(2), texts, Evidence(path, number, line.strip()[:100]), groups))
            continue
        for key, name in (("name", "name"), ("version", "version"), ("required_ruby_version", "ruby")):
            match = re.search(
                rf"\.{key}\s*=\s*(?:Gem::Requirement\.new\(?)?\[?\s*(['\"][^\]\)]*['\"])", plain
            )
            if match:
                facts[name] = ", ".join(re.findall(r"['\"]([^'\"]+)['\"]", match.group(1)))
    return facts, wishes
