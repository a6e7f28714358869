"""What one source file says of configuration, as values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from plainfall.evidence import Evidence

__all__ = ["Constant", "FileFound", "Load", "Use"]


class Use(Struct, frozen=True):
    """A place that reads a setting.

    ``default`` is what the code takes where it is not set (None: nothing; the source text of it where it is
    no literal); ``type`` is "text", "number", "boolean", "list", "json", "path" or "address"; ``needed``
    tells that its absence stops the program. ``form`` says of a secret how the code decodes it ("hex",
    "base64", "fernet", or ""), ``length`` how many characters it demands at
    least, or with ``exact`` just so many (0: any). ``file`` is the
    configuration file, as the code names it, that the key is looked up in; "" for a variable of the
    environment.
    """

    key: str
    place: Evidence
    default: str | None = None
    type: str = "text"
    needed: bool = False
    form: str = ""
    length: int = 0
    file: str = ""
    secret: bool = False
    exact: bool = False


class Load(Struct, frozen=True):
    """A configuration file that code loads: its name as it is written (relative to ``base``: "file" for the
    source file's own folder, "" for where the program runs), and the place."""

    name: str
    base: str
    place: Evidence


class Constant(Struct, frozen=True):
    """A host, port, address or device that a source file assigns: ``kind`` is one of these words.
    Of what a server is reached by, ``value`` may hold a password and is never shown."""

    name: str
    value: str
    kind: str
    place: Evidence


class FileFound(Struct, frozen=True):
    """All that one file says; ``cut`` tells that it was too large or too odd to be read to its end, ``assigned``
    are variables of the environment that it sets itself, ``addresses`` those of servers (their kinds: "service", an
    address, and "database", the pieces of one)."""

    uses: tuple[Use, ...] = ()
    loads: tuple[Load, ...] = ()
    constants: tuple[Constant, ...] = ()
    cut: bool = False
    assigned: tuple[str, ...] = ()
    addresses: tuple[Constant, ...] = ()

    def as_record(self) -> dict[str, Any]:
        """A form for JSON; empty lists are left out."""
        record: dict[str, Any] = {"cut": True} if self.cut else {}
        if self.assigned:
            record["assigned"] = list(self.assigned)
        for name in ("uses", "loads", "constants", "addresses"):
            values = getattr(self, name)
            if values:
                record[name] = [_flat(value) for value in values]
        return record

    @classmethod
    def of_record(cls, record: Mapping[str, Any]) -> FileFound:
        """The value of such a form. Raises TypeError, ValueError or KeyError for anything else."""
        return cls(
            tuple(Use(**_deep(Use, row)) for row in record.get("uses", ())),
            tuple(Load(**_deep(Load, row)) for row in record.get("loads", ())),
            tuple(Constant(**_deep(Constant, row)) for row in record.get("constants", ())),
            bool(record.get("cut")),
            tuple(map(str, record.get("assigned", ()))),
            tuple(Constant(**_deep(Constant, row)) for row in record.get("addresses", ())),
        )


def _flat(value: Any) -> list[Any]:
    return [
        [part.path, part.line, part.text] if isinstance(part, Evidence) else part
        for part in (getattr(value, name) for name in value.__struct_fields__)
    ]


def _deep(kind: Any, row: list[Any]) -> dict[str, Any]:

    pairs = zip(kind.__struct_fields__, row, strict=True)
    return {name: Evidence(*value) if name == "place" else value for name, value in pairs}
