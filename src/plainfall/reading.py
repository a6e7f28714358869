"""Reading files whose form is a standard, with words for people where they are not of that form."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["json_object", "json_value", "yaml_node", "yaml_value"]

_RESTORE = "Mend that line, or restore the file from version control."


def json_value(text: str, path: str, remedy: str = _RESTORE) -> Any:
    """The value of a JSON text (RFC 8259); ``path`` is its name for people. Raises BadInput with the line."""
    try:
        return json.loads(text.removeprefix("\ufeff"))
    except json.JSONDecodeError as error:
        raise BadInput(
            f"it is not JSON: {error.msg[0].lower()}{error.msg[1:]}",
            place=Evidence(path, error.lineno),
            remedy=remedy,
        ) from error


def json_object(text: str, path: str) -> dict[str, Any]:
    """The same where only an object will do."""
    document = json_value(text, path)
    if not isinstance(document, dict):
        raise BadInput("it must hold an object", place=Evidence(path, 1), remedy='Begin it with "{".')
    return document


def yaml_value(text: str, path: str, remedy: str = _RESTORE) -> Any:
    """The value of a YAML 1.1 text of plain types. Raises BadInput with the line."""
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    return _of_yaml(lambda: yaml.load(text, Loader=loader), path, remedy)


def yaml_node(text: str, path: str) -> Any:
    """The same as nodes that know their places (PyYAML's), None for an empty text. Raises BadInput."""
    import yaml

    return _of_yaml(lambda: yaml.compose(text, Loader=yaml.SafeLoader), path, _RESTORE)


def _of_yaml(read: Callable[[], Any], path: str, remedy: str) -> Any:
    import yaml

    try:
        return read()
    except (yaml.YAMLError, RecursionError) as error:
        mark = getattr(error, "problem_mark", None) or getattr(error, "context_mark", None)
        said = getattr(error, "problem", None) or getattr(error, "context", None) or "too deep, or broken"
        place = Evidence(path, mark.line + 1 if mark else 0)
        raise BadInput(f"it is not YAML: {said}", place=place, remedy=remedy) from error
