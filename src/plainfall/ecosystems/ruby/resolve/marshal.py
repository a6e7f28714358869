"""Reading what Ruby's own serialiser writes (format 4.8), as plain values: no object that acts is made."""

from __future__ import annotations

from typing import Any

from msgspec import Struct, field

__all__ = ["Foreign", "read_marshal"]

_DEEPEST = 60
_MOST = 8_000_000  # values in one document


class Foreign(Struct):
    """An object of a class: its name, and what it was written as: a value, bytes, or its variables by name."""

    kind: str
    value: Any = None
    variables: dict[str, Any] = field(default_factory=dict)


def read_marshal(data: bytes) -> Any:
    """The value of a document. Symbols and strings are text, what is no UTF-8 is replaced; objects are ``Foreign``.
    Raises ValueError for what is no such document, is cut off, or goes too deep."""
    if data[:2] != b"\x04\x08":
        raise ValueError("it does not begin as format 4.8 does")
    reader = _Reader(data)
    try:
        return reader.value(0)
    except (IndexError, KeyError, TypeError) as error:
        raise ValueError(f"it is damaged before byte {reader.at}") from error


class _Reader:
    def __init__(self, data: bytes) -> None:
        self._data = data
        self.at = 2
        self._symbols: list[str] = []
        self._objects: list[Any] = []
        self._count = 0

    def value(self, depth: int) -> Any:
        self._count += 1
        if depth > _DEEPEST or self._count > _MOST:
            raise ValueError("it goes too deep, or has too many values")
        sign = self._data[self.at : self.at + 1]
        self.at += 1
        if sign in (b"0", b"T", b"F"):
            return {b"0": None, b"T": True, b"F": False}[sign]
        if sign == b"i":
            return self._number()
        if sign == b":":
            return self._new_symbol()
        if sign == b";":
            return self._symbols[self._index()]
        if sign == b"@":
            return self._objects[self._index()]
        return self._object(sign, depth)

    def _object(self, sign: bytes, depth: int) -> Any:
        if sign == b"I":
            found = self.value(depth + 1)
            self._variables(depth)
            if isinstance(found, Foreign) and found.kind == "Time":
                self._keep(found)
            return found
        if sign in (b'"', b"f"):
            return self._keep(self._bytes().decode("utf-8", "replace"))
        if sign == b"[":
            rows: list[Any] = self._keep([])
            for _ in range(self._length()):
                rows.append(self.value(depth + 1))
            return rows
        if sign in (b"{", b"}"):
            table: dict[Any, Any] = self._keep({})
            for _ in range(self._length()):
                key = self.value(depth + 1)
                table[key if isinstance(key, (str, int)) else repr(key)[:80]] = self.value(depth + 1)
            if sign == b"}":
                self.value(depth + 1)
            return table
        if sign == b"o":
            thing = self._keep(Foreign(""))
            thing.kind = self._symbol()
            thing.variables = self._variables(depth)
            return thing
        if sign == b"U":
            thing = self._keep(Foreign(""))
            thing.kind = self._symbol()
            thing.value = self.value(depth + 1)
            return thing
        if sign == b"u":
            thing = Foreign(self._symbol(), self._bytes())
            return thing if thing.kind == "Time" else self._keep(thing)  # its zone is kept before it
        raise ValueError(f"it holds a value of the kind {sign!r}, which no index has")

    def _variables(self, depth: int) -> dict[str, Any]:
        return {self._symbol(): self.value(depth + 1) for _ in range(self._length())}

    def _symbol(self) -> str:
        sign = self._data[self.at : self.at + 1]
        self.at += 1
        if sign == b":":
            return self._new_symbol()
        if sign == b";":
            return self._symbols[self._index()]
        raise ValueError(f"a name is missing at byte {self.at}")

    def _new_symbol(self) -> str:
        text = self._bytes().decode("utf-8", "replace")
        self._symbols.append(text)
        return text

    def _keep(self, thing: Any) -> Any:
        self._objects.append(thing)
        return thing

    def _index(self) -> int:
        number = self._number()
        if number < 0:
            raise ValueError(f"a number below 0 at byte {self.at}")
        return number

    def _length(self) -> int:
        number = self._index()
        if number > len(self._data) - self.at:  # each value takes a byte or more
            raise ValueError(f"it is cut off at byte {self.at}")
        return number

    def _bytes(self) -> bytes:
        length = self._length()
        self.at += length
        return self._data[self.at - length : self.at]

    def _number(self) -> int:
        first = int.from_bytes(self._data[self.at : self.at + 1], "little", signed=True)
        if self.at >= len(self._data):
            raise ValueError("it is cut off")
        self.at += 1
        if first == 0:
            return 0
        if abs(first) >= 5:
            return first - 5 if first > 0 else first + 5
        size = abs(first)
        raw = self._data[self.at : self.at + size]
        self.at += size
        number = int.from_bytes(raw, "little")
        return number if first > 0 else number - (1 << (8 * size))
