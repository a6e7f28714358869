"""Code blocks and headings of documents for people: Markdown, reStructuredText, AsciiDoc, Org and plain text.

Of each form only headings and code blocks are parsed; nothing is rendered.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import Protocol

from msgspec import Struct

from plainfall.patterns import regex

__all__ = ["Block", "blocks_of", "bounded_lines"]

_LARGEST = 150_000  # characters of a document that are read
_LONGEST_LINE = 2_000
_RESTRUCTURED = regex(r"^\.\. [\w-]+::|::[ \t]*\n[ \t]*\n[ \t]+\S", re.MULTILINE)
_UNDERLINE = regex(r"([=\-~^\"'`#*+.:_])\1{2,}[ \t]*")
_DIRECTIVE = regex(r"[ \t]*\.\. (?:code-block|code|sourcecode|prompt|parsed-literal)::[ \t]*([\w-]*)")
_OTHER_DIRECTIVE = regex(r"[ \t]*\.\. ")
_ASCIIDOC_HEADING = regex(r"(={1,6}) (\S.*)")
_ORG_HEADING = regex(r"(\*{1,6}) (\S.*)")
_ORG_BEGIN = regex(r"[ \t]*#\+begin_(?:src|example)[ \t]*([\w-]*)", re.IGNORECASE)
_ORG_END = regex(r"[ \t]{0,40}#\+end_", re.IGNORECASE)
_ASCIIDOC_FENCE = regex(r"(-{4,}|\.{4,})[ \t]*")
_ASCIIDOC_SOURCE = regex(r"\[source[,\w%]*?,?[ \t]*([\w-]*)\]|\[\w+\]")
_FENCE = regex(r"[ \t]*(`{3,}|~{3,})[ \t]*([\w+-]*)[ \t]*")


class Block(Struct, frozen=True):
    """Code under headings (the outermost first, each with its level), from a line on; ``language`` is what the
    document calls it, in small letters ("" where it does not say)."""

    headings: tuple[tuple[int, str], ...]
    code: str
    line: int
    language: str = ""


@lru_cache(maxsize=32)
def blocks_of(text: str, path: str) -> tuple[Block, ...]:
    """The blocks of a document, in order, by the form that its name tells. A survey asks for those of one document
    several times."""
    ending = path.lower().rpartition(".")[2] if "." in path.rpartition("/")[2] else ""
    bounded = "\n".join(bounded_lines(text))
    if ending in ("rst", "rest") or (ending in ("", "txt") and _RESTRUCTURED.search(bounded)):
        return tuple(_of_lines(bounded, _Restructured()))
    if ending in ("adoc", "asciidoc", "asc"):
        return tuple(_of_lines(bounded, _AsciiDoc()))
    if ending == "org":
        return tuple(_of_lines(bounded, _Org()))
    return tuple(_of_markdown(bounded))


def bounded_lines(text: str) -> list[str]:
    """As much of a document as is read: the lines keep their numbers."""
    return [line[:_LONGEST_LINE] for line in text[:_LARGEST].splitlines()]


def _of_markdown(text: str) -> Iterator[Block]:
    from markdown_it import MarkdownIt

    headings: list[tuple[int, str]] = []
    # Blocks only: what is inside of lines does not matter here, and its grammar costs the square of hostile text.
    parser = MarkdownIt("commonmark")
    parser.core.ruler.disable(["inline"])
    tokens = parser.parse(text)
    for position, token in enumerate(tokens):
        if token.type == "heading_open":
            headings = _under(headings, int(token.tag[1:]), tokens[position + 1].content)
        elif token.type in ("fence", "code_block") and token.map:
            language = token.info.split()[0].lower() if token.info.split() else ""
            first = token.map[0] + (2 if token.type == "fence" else 1)
            yield Block(tuple(headings), token.content, first, language)


def _under(headings: list[tuple[int, str]], level: int, name: str) -> list[tuple[int, str]]:
    return [*((deep, text) for deep, text in headings if deep < level), (level, name)]


class _Form(Protocol):
    """How a form shows headings and where its code begins. ``begins`` returns the language of a block that begins
    behind a line, and what ends it: None where it is an indented one."""

    def heading(self, lines: list[str], number: int) -> tuple[int, str] | None:
        """Level and text of a heading in a line."""
        ...

    def begins(self, line: str) -> tuple[str, re.Pattern[str] | None] | None:
        """The language of the block that a line begins, and what its last line matches; None for no block."""
        ...


class _Restructured:
    def __init__(self) -> None:
        self._marks: list[str] = []

    def heading(self, lines: list[str], number: int) -> tuple[int, str] | None:
        line = lines[number]
        under = _UNDERLINE.fullmatch(lines[number + 1]) if number + 1 < len(lines) else None
        plain = line.strip()
        if not plain or line[0] in " \t" or under is None or _UNDERLINE.fullmatch(line):
            return None
        if len(lines[number + 1].rstrip()) < len(plain):
            return None
        mark = under.group(1)
        if mark not in self._marks:
            self._marks.append(mark)
        return self._marks.index(mark) + 1, plain

    def begins(self, line: str) -> tuple[str, re.Pattern[str] | None] | None:
        directive = _DIRECTIVE.match(line)
        if directive is not None:
            return directive.group(1).lower(), None
        if line.rstrip().endswith("::") and not _OTHER_DIRECTIVE.match(line):
            return "", None
        return None


class _AsciiDoc:
    def __init__(self) -> None:
        self._language = ""

    def heading(self, lines: list[str], number: int) -> tuple[int, str] | None:
        match = _ASCIIDOC_HEADING.fullmatch(lines[number].rstrip())
        return (len(match.group(1)), match.group(2)) if match else None

    def begins(self, line: str) -> tuple[str, re.Pattern[str] | None] | None:
        source = _ASCIIDOC_SOURCE.fullmatch(line.strip())
        fence = _ASCIIDOC_FENCE.fullmatch(line)
        fenced = _FENCE.fullmatch(line)
        language, self._language = self._language, (source.group(1) or "").lower() if source else ""
        if fence is not None:
            return language, re.compile(re.escape(fence.group(1)) + r"[ \t]*")
        return (fenced.group(2).lower(), _FENCE) if fenced is not None else None


class _Org:
    def heading(self, lines: list[str], number: int) -> tuple[int, str] | None:
        match = _ORG_HEADING.fullmatch(lines[number].rstrip())
        return (len(match.group(1)), match.group(2)) if match else None

    def begins(self, line: str) -> tuple[str, re.Pattern[str] | None] | None:
        match = _ORG_BEGIN.match(line)
        return (match.group(1).lower(), _ORG_END) if match else None


def _of_lines(text: str, form: _Form) -> Iterator[Block]:
    lines = text.splitlines()
    headings: list[tuple[int, str]] = []
    number = 0
    while number < len(lines):
        heading = form.heading(lines, number)
        block = None if heading else form.begins(lines[number])
        if heading is not None:
            headings = _under(headings, *heading)
        if block is None:
            number += 1
            continue
        language, end = block
        code, first, number = _fenced(lines, number + 1, end) if end else _indented(lines, number)
        if code:
            yield Block(tuple(headings), code, first, language)


def _fenced(lines: list[str], start: int, end: re.Pattern[str]) -> tuple[str, int, int]:
    number = start
    while number < len(lines) and not end.match(lines[number]):
        number += 1
    return "\n".join(lines[start:number]), start + 1, number + 1


def _indented(lines: list[str], number: int) -> tuple[str, int, int]:
    """The lines that are indented deeper than the one that announces them; options of a directive left out."""
    depth = len(lines[number]) - len(lines[number].lstrip())
    number += 1
    while number < len(lines) and (not lines[number].strip() or re.match(r"[ \t]+:\w", lines[number])):
        number += 1
    start = number
    while number < len(lines):
        line = lines[number]
        if line.strip() and len(line) - len(line.lstrip()) <= depth:
            break
        number += 1
    return "\n".join(lines[start:number]).rstrip(), start + 1, max(number, start)
