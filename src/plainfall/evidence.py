"""Evidence: the file and line that a conclusion stands on."""

from __future__ import annotations

from msgspec import Struct

__all__ = ["Evidence"]


class Evidence(Struct, frozen=True):
    """One place that a conclusion stands on.

    ``path`` is relative to the clone, with forward slashes (or absolute for a place outside it, or the
    name of an environment variable written as ``$NAME``); ``line`` counts from 1, and 0 means the file as
    a whole; ``text`` is the text of the line, without a secret in it.
    """

    path: str
    line: int = 0
    text: str = ""

    def __str__(self) -> str:
        return f"{self.path}:{self.line}" if self.line else self.path

    def as_json(self) -> dict[str, object]:
        """The form that ``--json`` documents show: path, line, text."""
        return {"path": self.path, "line": self.line, "text": self.text}

    def within(self, folder: str) -> Evidence:
        """The same place seen from a parent folder: ``folder`` is put before the path."""
        if not folder or self.path.startswith(("/", "$")):
            return self
        return Evidence(f"{folder}/{self.path}", self.line, self.text)
