"""Reading files whose form is a standard, with words for people where they are not of that form."""

from __future__ import annotations

import json
from typing import Any

from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["json_object", "json_value"]

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
