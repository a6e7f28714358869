"""Service definitions of a clone: the databases, caches and brokers in its compose files.

The files are read by the Compose Specification: ``services``, ``environment`` as a mapping or a list,
``env_file``, ``ports`` in the short and long form, and its interpolation (``${KEY}``, ``${KEY:-default}``,
``${KEY-default}``, ``${KEY:?message}``, ``$KEY``, ``$$``).
"""

from __future__ import annotations

import posixpath
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import Any

from msgspec import Struct, field

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.formats.dotenv import parse_dotenv
from plainfall.patterns import regex
from plainfall.reading import yaml_node
from plainfall.services.shape import ServiceKind, kind_named, kinds

__all__ = ["Definition", "Interpolated", "find_definitions", "unreadable_definitions"]

_FILE = regex(r"^(docker-)?compose([.-](override|dev|development|local))?\.ya?ml$")
_REFERENCE = regex(r"\$(?:\$|\{([A-Za-z_]\w*)(?:(:?[-?+])([^}]*))?\}|([A-Za-z_]\w*))")


class Interpolated(Struct, frozen=True):
    """A value of a definition as it is written (``raw``), the variables that it takes in, and its place."""

    raw: str
    place: Evidence

    @property
    def names(self) -> tuple[str, ...]:
        """The variables in it."""
        result = (match.group(1) or match.group(4) for match in _REFERENCE.finditer(self.raw))
        return tuple(name for name in result if name)

    def resolved(self, values: Mapping[str, str]) -> str:
        """The value with its variables put in; an absent one without default is empty."""

        def put_in(match: re.Match[str]) -> str:
            name = match.group(1) or match.group(4)
            if name is None:
                return "$"
            value, operator, word = values.get(name), match.group(2) or "", match.group(3) or ""
            empty = value is None or (operator.startswith(":") and value == "")
            if operator.endswith("+"):
                return "" if empty else word
            if operator.endswith("-") and empty:
                return word
            return value or ""

        return _REFERENCE.sub(put_in, self.raw)

    def default_of(self, name: str) -> str | None:
        """The default that the value gives a variable."""
        for match in _REFERENCE.finditer(self.raw):
            if match.group(1) == name and (match.group(2) or "").endswith("-"):
                return match.group(3)
        return None


class Definition(Struct, frozen=True):
    """One service: its name in the file, its kind ("postgres", "mysql", …), what a client needs to know of it
    ("user", "password", "name", "port"), and the values that its file's interpolation starts from (those of
    ``.env`` in the same folder). ``port`` is the published one, absent where none is. What a ``binding``
    definition says is right; another one only fills what is empty."""

    service: str
    kind: str
    place: Evidence
    values: Mapping[str, Interpolated]
    other_values: Mapping[str, str] = field(default_factory=dict)
    binding: bool = True

    @property
    def standard_port(self) -> int:
        """The port that this kind of service listens on by itself."""
        return kind_named(self.kind).port


def find_definitions(tree: Tree) -> tuple[list[Definition], dict[str, list[Interpolated]]]:
    """The services of every compose file near the top of the clone (two folders down), and the variables
    that those files take in from outside, each with its values. A file that cannot be read is skipped,
    since it is for a program that is not run here; ``unreadable_definitions`` tells of it."""
    definitions: list[Definition] = []
    taken: dict[str, list[Interpolated]] = {}
    for path in _files(tree):
        try:
            document = _composed(tree.text(path), path)
        except BadInput:
            continue
        definitions += _services(tree, path, document)
        for value in _all_values(document, path):
            for name in value.names:
                taken.setdefault(name, []).append(value)
    return definitions, taken


def unreadable_definitions(tree: Tree) -> Iterator[BadInput]:
    """Why the compose files that cannot be read cannot."""
    for path in _files(tree):
        try:
            _composed(tree.text(path), path)
        except BadInput as error:
            yield error


def _files(tree: Tree) -> list[str]:
    similar = (path for path in tree.files if path.count("/") <= 2 and _FILE.match(path.rpartition("/")[2]))
    return sorted(similar, key=lambda path: (path.count("/"), path))


class _Scalar(Struct, frozen=True):
    text: str
    line: int


@lru_cache(maxsize=8)
def _composed(text: str, path: str) -> Mapping[str, Any]:
    """The document as mappings and lists whose leaves know their line. Raises BadInput."""
    root = yaml_node(text, path)
    import yaml

    def plain(node: Any, depth: int = 0) -> Any:
        if isinstance(node, yaml.MappingNode) and depth < 20:
            merged: dict[str, Any] = {}
            for key, value in node.value:
                if isinstance(key, yaml.ScalarNode) and key.value == "<<":
                    content = plain(value, depth + 1)
                    for one in content if isinstance(content, list) else [content]:
                        merged.update(one if isinstance(one, dict) else {})
            for key, value in node.value:
                if isinstance(key, yaml.ScalarNode) and key.value != "<<":
                    merged[key.value] = plain(value, depth + 1)
            return merged
        if isinstance(node, yaml.SequenceNode) and depth < 20:
            return [plain(one, depth + 1) for one in node.value]
        if isinstance(node, yaml.ScalarNode):
            return _Scalar(node.value, node.start_mark.line + 1)
        return None

    result = plain(root)
    return result if isinstance(result, dict) else {}


def _services(tree: Tree, path: str, document: Mapping[str, Any]) -> Iterator[Definition]:
    services = document.get("services")
    value: dict[str, Any] = services if isinstance(services, dict) else {}
    folder = posixpath.dirname(path)
    other_values = _values_of(tree, posixpath.join(folder, ".env"))
    for name, service in value.items():
        if not isinstance(service, dict):
            continue
        image = service.get("image")
        told = image.text.rpartition("/")[2] if isinstance(image, _Scalar) else name
        kind = next((one for one in kinds() if one.is_image(told)), None)
        if kind is None:
            continue
        line = image.line if isinstance(image, _Scalar) else 0
        place = Evidence(path, line, f"{name}: {told}")
        environment = {**_of_env_files(tree, folder, service), **_environment(service, path)}
        values: dict[str, Interpolated] = {}
        for what, names in kind.variables.items():
            for variable in names:
                if variable in environment:
                    values[what] = environment[variable]
        if "password" not in values and "user" not in values:
            for variable in kind.root_variables:
                if variable in environment:
                    values["password"] = environment[variable]
                    values["user"] = Interpolated("root", place)
        if kind.default_user and "password" in values:
            values.setdefault("user", Interpolated(kind.default_user, place))
            values.setdefault("name", values["user"])
        values |= _password_of_command(service, kind, path)
        port = _published(service, kind.port, path)
        if port is not None:
            values["port"] = port
        yield Definition(name, kind.name, place, values, other_values)


def _environment(service: Mapping[str, Any], path: str) -> dict[str, Interpolated]:
    content = service.get("environment")
    results: dict[str, Interpolated] = {}
    if isinstance(content, dict):
        for name, value in content.items():
            if isinstance(value, _Scalar):
                results[name] = Interpolated(value.text, Evidence(path, value.line, name))
    for value in content if isinstance(content, list) else ():
        if isinstance(value, _Scalar):
            name, joined, text = value.text.partition("=")
            raw = text if joined else f"${{{name}}}"
            results[name] = Interpolated(raw, Evidence(path, value.line, name))
    return results


def _of_env_files(tree: Tree, folder: str, service: Mapping[str, Any]) -> dict[str, Interpolated]:
    value = service.get("env_file")
    results: dict[str, Interpolated] = {}
    for one in value if isinstance(value, list) else [value]:
        name = one.get("path") if isinstance(one, dict) else one
        if not isinstance(name, _Scalar):
            continue
        path = posixpath.normpath(posixpath.join(folder, name.text))
        for key in _values_of(tree, path):
            # What the file will hold is decided with the other settings, so the name stands for the value.
            results[key] = Interpolated(f"${{{key}}}", Evidence(path, 0, key))
    return results


def _values_of(tree: Tree, path: str) -> dict[str, str]:
    """The values in a dotenv file, or in the template that it will be made from; ignored files count too."""
    from plainfall.formats.template_names import target_of

    folder, name = posixpath.split(path)
    names = [name, *(one for one in tree.folders.get(folder, ()) if target_of(one) == name)]
    for one in names:
        place = posixpath.join(folder, one)
        if not place.startswith("..") and (tree.root / place).is_file():
            try:
                return parse_dotenv(tree.text(place), place).interpolated()
            except BadInput:
                continue
    return {}


def _password_of_command(service: Mapping[str, Any], kind: ServiceKind, path: str) -> dict[str, Interpolated]:
    """The password of a kind of service that takes it in its command."""
    value = service.get("command")
    words = value if isinstance(value, list) else [value]
    lines = [(one.text, one.line) for one in words if isinstance(one, _Scalar)]
    text = " ".join(word for word, _ in lines)
    match = re.search(kind.command_password, text) if kind.command_password else None
    if not match:
        return {}
    return {"password": Interpolated(match.group(1), Evidence(path, lines[0][1], match.group(0).split()[0]))}


def _published(service: Mapping[str, Any], standard: int, path: str) -> Interpolated | None:
    """The port on this machine that leads to the service's own."""
    value = service.get("ports")
    for one in value if isinstance(value, list) else ():
        if isinstance(one, dict):
            target, published = one.get("target"), one.get("published")
            if not (isinstance(target, _Scalar) and isinstance(published, _Scalar)):
                continue
            if target.text == str(standard):
                return Interpolated(published.text, Evidence(path, published.line, "published"))
        elif isinstance(one, _Scalar):
            match = re.match(
                r"^(?:[\d.]+:|\[[^\]]*\]:)?(\$\{[^}]*\}|\d+):(\$\{[^}]*\}|\d+)(?:/tcp)?$", one.text
            )
            if match and match.group(2) == str(standard):
                return Interpolated(match.group(1), Evidence(path, one.line, one.text))
    return None


def _all_values(content: Any, path: str) -> Iterator[Interpolated]:
    if isinstance(content, dict):
        for value in content.values():
            yield from _all_values(value, path)
    elif isinstance(content, list):
        for value in content:
            yield from _all_values(value, path)
    elif isinstance(content, _Scalar) and "$" in content.text:
        yield Interpolated(content.text, Evidence(path, content.line, content.text[:120]))
