"""YAML configuration files: scalars with their places (PyYAML's composed nodes carry them)."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.formats.entries import Entry, comment_above
from plainfall.reading import yaml_node

__all__ = ["yaml_entries"]


def yaml_entries(text: str, path: str) -> Iterator[Entry]:
    """Every scalar below the top mapping; a list of scalars is one entry, joined with commas and not to be
    replaced in place. Raises BadInput."""
    root = yaml_node(text, path)
    lines = text.splitlines()
    if root is not None:
        yield from _below(root, "", text, lines, 0)


def _below(node: object, prefix: str, text: str, lines: list[str], depth: int) -> Iterator[Entry]:
    import yaml

    if not isinstance(node, yaml.MappingNode) or depth > 12:
        return
    for key, value in node.value:
        if not isinstance(key, yaml.ScalarNode) or key.value == "<<":
            continue
        name = f"{prefix}{key.value}"
        line = key.start_mark.line + 1
        if isinstance(value, yaml.ScalarNode):
            content = "" if value.tag == "tag:yaml.org,2002:null" else value.value
            start, end = value.start_mark.index, value.end_mark.index
            block = value.style in ("|", ">") or (start == end and text[start - 1 : start] != ":")
            yield Entry(name, content, line, comment_above(lines, line), -1 if block else start, end)
        elif isinstance(value, yaml.SequenceNode):
            if all(isinstance(one, yaml.ScalarNode) for one in value.value):
                content = ",".join(one.value for one in value.value)
                yield Entry(name, content, line, comment_above(lines, line), -1, -1)
        else:
            yield from _below(value, f"{name}.", text, lines, depth + 1)
