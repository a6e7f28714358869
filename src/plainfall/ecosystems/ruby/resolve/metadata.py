"""What a package says of itself: the YAML in its archive, read as plain data, and the gemspec that the runtime's
loader reads, written from it.

The YAML comes from strangers and can name any class of Ruby: only the few that a package's description consists of
are taken, as plain values, and nothing is ever made of them but texts, lists and tables.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

import yaml

from plainfall.ecosystems.ruby.resolve.versions import is_version, requirement
from plainfall.errors import ArchiveRefused, BadInput
from plainfall.patterns import regex
from plainfall.reading import yaml_node

__all__ = ["gemspec_text", "read_metadata", "ruby_text"]

_LARGEST = 8 << 20  # bytes
_TAGS = regex(
    r"tag:yaml\.org,2002:\w+|!|!binary|!ruby/(?:object:)?(?:Gem::(?:Specification|Version(?:::Requirement)?"
    r"|Requirement|Dependency|Platform)|Symbol|Date|Time|DateTime|array|hash|string|sym|symbol|object:Hash|regexp)"
)
_NAME = regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,200}")
_PATH = regex(r"(?![/~])(?!.*(?:^|/)\.\.(?:/|$))[^\0\n\r]{1,500}")
_SYSTEM = regex(r"[A-Za-z0-9_][\w.-]{0,60}")
_AGAIN = "Nothing of it was used. Ask whoever publishes it, and whether the registry is the right one."


def read_metadata(data: bytes, label: str) -> dict[str, Any]:
    """The description of a package as plain values: texts, lists, tables; requirements as texts. Raises
    ArchiveRefused, naming the package, for what is none or is hostile."""
    if len(data) > _LARGEST:
        raise ArchiveRefused(f"{label}: its description is larger than {_LARGEST:,} bytes", remedy=_AGAIN)
    try:
        node = yaml_node(data.decode("utf-8", "replace"), label, typed=False)
    except BadInput as error:
        raise ArchiveRefused(f"{label}: its description is no YAML: {error.cause}", remedy=_AGAIN) from error
    _check_tags(node, label)
    if not isinstance(node, yaml.MappingNode) or not node.tag.endswith("Gem::Specification"):
        raise ArchiveRefused(f"{label}: its description is not one of a package", remedy=_AGAIN)
    rows = {key.value: value for key, value in node.value if isinstance(key, yaml.ScalarNode)}
    facts = {
        "name": _scalar(rows.get("name")),
        "version": _version(rows.get("version")),
        "platform": _platform(rows),
        "bindir": _scalar(rows.get("bindir")) or "bin",
        "required_ruby": _requirement(rows.get("required_ruby_version")),
        "required_rubygems": _requirement(rows.get("required_rubygems_version")),
        "metadata": _table(rows.get("metadata")),
        "needs": list(_needs(rows.get("dependencies"))),
        "date": _scalar(rows.get("date"))[:10],
    }
    for key in ("authors", "licenses", "executables", "extensions", "require_paths", "rdoc_options",
                "extra_rdoc_files", "requirements", "files", "test_files", "cert_chain"):  # fmt: skip
        facts[key] = _list(rows.get(key))
    facts["email"] = (
        _list(rows["email"])
        if isinstance(rows.get("email"), yaml.SequenceNode)
        else _scalar(rows.get("email"))
    )
    for key in ("homepage", "summary", "description", "post_install_message", "rubygems_version"):
        facts[key] = _scalar(rows.get(key))
    _check(facts, label)
    return facts


def _check(facts: Mapping[str, Any], label: str) -> None:
    """Raises ArchiveRefused for names and paths that would lead somewhere else."""
    wrong = ""
    if not _NAME.fullmatch(facts["name"]) or not facts["version"] or not is_version(facts["version"]):
        wrong = f"its name and version ({facts['name'][:60]!r}, {facts['version'][:40]!r})"
    paths = [*facts["extensions"], *facts["require_paths"], facts["bindir"], *facts["executables"]]
    if not _SYSTEM.fullmatch(facts["platform"]):
        wrong = f"the system {facts['platform'][:60]!r}"
    wrong = wrong or next((f"the path {one[:80]!r}" for one in paths if not _PATH.fullmatch(one)), "")
    programs = (one for one in facts["executables"] if not re.fullmatch(r"[\w.+!?-]{1,100}", one))
    wrong = wrong or next((f"the program {one[:80]!r}" for one in programs), "")
    if not wrong:
        try:
            for _, text, _ in facts["needs"]:
                requirement(text)
            requirement(facts["required_ruby"])
        except ValueError as error:
            wrong = str(error)
    if wrong:
        raise ArchiveRefused(f"{label}: its description is wrong or hostile: {wrong}", remedy=_AGAIN)


def _check_tags(node: yaml.Node | None, label: str) -> None:
    waiting, seen = [node], set()
    while waiting:
        one = waiting.pop()
        if one is None or id(one) in seen:
            continue
        seen.add(id(one))
        if not _TAGS.fullmatch(str(one.tag)):
            raise ArchiveRefused(
                f"{label}: its description makes an object of Ruby that no description has: {str(one.tag)[:80]!r}",
                remedy=_AGAIN,
            )
        if isinstance(one, yaml.SequenceNode):
            waiting += one.value
        elif isinstance(one, yaml.MappingNode):
            waiting += [part for pair in one.value for part in pair]


def _scalar(node: yaml.Node | None) -> str:
    return str(node.value) if isinstance(node, yaml.ScalarNode) else ""


def _list(node: yaml.Node | None) -> list[str]:
    if isinstance(node, yaml.SequenceNode):
        return [one.value for one in node.value if isinstance(one, yaml.ScalarNode)]
    return [node.value] if isinstance(node, yaml.ScalarNode) and node.value else []


def _field(node: yaml.Node | None, name: str) -> yaml.Node | None:
    if not isinstance(node, yaml.MappingNode):
        return None
    return next((value for key, value in node.value if getattr(key, "value", None) == name), None)


def _table(node: yaml.Node | None) -> dict[str, str]:
    if not isinstance(node, yaml.MappingNode):
        return {}
    return {_scalar(key): _scalar(value) for key, value in node.value}


def _version(node: yaml.Node | None) -> str:
    return _scalar(_field(node, "version")) if isinstance(node, yaml.MappingNode) else _scalar(node)


def _platform(rows: Mapping[str, yaml.Node]) -> str:
    node = rows.get("platform")
    if isinstance(node, yaml.MappingNode):
        pieces = (_scalar(_field(node, key)) for key in ("cpu", "os", "version"))
        return "-".join(piece for piece in pieces if piece)
    return _scalar(node) or "ruby"


def _requirement(node: yaml.Node | None) -> str:
    """Conditions with commas between them; of several that are equal, each stays."""
    listed = _field(node, "requirements")
    rows = []
    for pair in listed.value if isinstance(listed, yaml.SequenceNode) else ():
        if isinstance(pair, yaml.SequenceNode) and len(pair.value) == 2:
            rows.append(f"{_scalar(pair.value[0])} {_version(pair.value[1])}")
    return ", ".join(rows) or ">= 0"


def _needs(node: yaml.Node | None) -> Iterator[tuple[str, str, str]]:
    """Name, requirement and kind ("runtime", "development") of each."""
    for one in node.value if isinstance(node, yaml.SequenceNode) else ():
        name = _scalar(_field(one, "name"))
        rule = _field(one, "requirement") or _field(one, "version_requirements")
        kind = _scalar(_field(one, "type")).lstrip(":") or "runtime"
        if _NAME.fullmatch(name):
            yield name, _requirement(rule), kind


def ruby_text(value: str) -> str:
    """A text as a literal of Ruby."""
    plain = value.replace("\\", "\\\\").replace('"', '\\"').replace("#", "\\#")
    shown = re.sub(r"\\#(?![{$@])", "#", plain)
    for sign, written in (("\n", "\\n"), ("\t", "\\t"), ("\r", "\\r"), ("\0", "\\0"), ("\x1b", "\\e")):
        shown = shown.replace(sign, written)
    return f'"{shown}"'


def _value(value: Any) -> str:
    if isinstance(value, list):
        return f"[{', '.join(_value(one) for one in value)}]"
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{ruby_text(key)} => {ruby_text(one)}" for key, one in value.items()) + " }"
    return f"{ruby_text(value)}.freeze"


def _rule(text: str) -> str:
    rows = [piece.strip() for piece in text.split(",")]
    shown = _value(rows[0]) if len(rows) == 1 else _value(rows)
    return f"Gem::Requirement.new({shown})"


def gemspec_text(facts: Mapping[str, Any], rubygems: str) -> str:
    """The gemspec of a package as the runtime's loader reads it, its first lines by which it is found without being
    evaluated; ``rubygems`` is the version of that loader."""
    name, version, platform = facts["name"], facts["version"], facts["platform"]
    paths = [one for one in facts["require_paths"] if one] or ["lib"]
    lines = ["# -*- encoding: utf-8 -*-", f"# stub: {name} {version} {platform} {chr(0).join(paths)}"]
    if facts["extensions"]:
        lines.append(f"# stub: {chr(0).join(facts['extensions'])}")
    lines += [
        "",
        "Gem::Specification.new do |s|",
        f"  s.name = {_value(name)}",
        f"  s.version = {ruby_text(version)}",
    ]
    if platform not in ("", "ruby"):
        lines.append(f"  s.platform = {_value(platform)}")
    lines.append("")
    rule = _rule(facts["required_rubygems"])
    lines.append(f"  s.required_rubygems_version = {rule} if s.respond_to? :required_rubygems_version=")
    if facts["metadata"]:
        lines.append(f"  s.metadata = {_value(facts['metadata'])} if s.respond_to? :metadata=")
    lines.append(f"  s.require_paths = {_value(paths)}")
    rows: list[tuple[str, Any]] = [("authors", facts["authors"])]
    rows += [("bindir", facts["bindir"])] if facts["bindir"] != "bin" else []
    rows += [("date", facts["date"])] if re.fullmatch(r"\d{4}-\d\d-\d\d", facts["date"]) else []
    rows += [
        (key, facts[key]) for key in ("description", "email", "executables", "extensions", "extra_rdoc_files")
    ]
    files = [*(f"{facts['bindir']}/{one}" for one in facts["executables"]), *facts["extensions"]]
    rows += [("files", list(dict.fromkeys([*files, *facts["extra_rdoc_files"]])))]
    rows += [(key, facts[key]) for key in ("homepage", "licenses", "post_install_message", "rdoc_options")]
    rows.append(("required_ruby_version", _rule(facts["required_ruby"])))
    rows += [(key, facts[key]) for key in ("requirements", "rubygems_version", "summary")]
    for key, value in rows:
        if key == "required_ruby_version":
            if value != _rule(">= 0"):
                lines.append(f"  s.{key} = {value}")
        elif value and key == "date":
            lines.append(f"  s.{key} = {ruby_text(value)}")
        elif value:
            lines.append(f"  s.{key} = {_value(value)}")
    lines += [
        "",
        f"  s.installed_by_version = {ruby_text(rubygems)} if s.respond_to? :installed_by_version",
        "",
    ]
    lines += [
        "  if s.respond_to? :specification_version then",
        "    s.specification_version = 4",
        "  end",
        "",
    ]
    for kind in ("runtime", "development"):
        for need, text, stated in facts["needs"]:
            if stated == kind:
                wants = ", ".join(ruby_text(piece.strip()) for piece in text.split(","))
                lines.append(f"  s.add_{kind}_dependency(%q<{need}>.freeze, [{wants}])")
    return "\n".join([*lines, "end", ""])
