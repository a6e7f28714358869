"""JSON configuration files (comments allowed): values with their places, from a syntax tree."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING

from plainfall.formats.entries import Entry, comment_above
from plainfall.reading import json_value

if TYPE_CHECKING:
    from tree_sitter import Node

__all__ = ["json_entries"]


def json_entries(text: str, path: str) -> Iterator[Entry]:
    """Every scalar; a list of scalars is one entry, joined with commas and not to be replaced in place.
    Raises BadInput."""
    from plainfall.sources.trees import Source

    bare = re.sub(r"^[ \t]*//.*$", lambda match: " " * len(match.group(0)), text, flags=re.MULTILINE)
    json_value(bare, path)
    source = Source(text, path, "tree_sitter_json:language")
    node = next((one for one in source.root.named_children if one.type == "object"), None)
    if node is not None:
        yield from _below(source.data, node, "", text.splitlines())


def _below(data: bytes, node: Node, prefix: str, lines: list[str]) -> Iterator[Entry]:
    for pair in node.named_children:
        if pair.type != "pair":
            continue
        key, value = pair.child_by_field_name("key"), pair.child_by_field_name("value")
        if key is None or value is None:
            continue
        name = prefix + json.loads(key.text or b'""')
        line = pair.start_point[0] + 1
        if value.type == "object":
            yield from _below(data, value, f"{name}.", lines)
            continue
        content = json.loads(value.text or b'""')
        if isinstance(content, list):
            if not any(isinstance(one, list | dict) for one in content):
                joined = ",".join(str(one) for one in content)
                yield Entry(name, joined, line, comment_above(lines, line), -1, -1)
            continue
        text = "" if content is None else str(content).lower() if isinstance(content, bool) else str(content)
        # The tree counts bytes, places are counted in characters.
        start, end = (len(data[:place].decode()) for place in (value.start_byte, value.end_byte))
        yield Entry(name, text, line, comment_above(lines, line), start, end)
