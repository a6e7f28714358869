"""The text that a settings file comes to once every key is decided."""

from __future__ import annotations

from collections.abc import Sequence

from plainfall.formats.documents import Document, read_document
from plainfall.formats.dotenv import Dotenv, parse_dotenv, quoted
from plainfall.settings.setting import Setting, SettingsFile

__all__ = ["settled_text"]


def settled_text(file: SettingsFile, settings: Sequence[Setting]) -> tuple[str, list[str]]:
    """The file's new text, and the keys that could not be put into it (with what to do about it left to the
    caller). An existing file keeps all its lines: a value is replaced only in a file that Plainfall made,
    and what is missing is added at the end."""
    mine = [one for one in settings if one.file == file.target and one.written]
    if file.kind == "dotenv":
        return _dotenv_text(file, mine), []
    return _structured_text(file, mine)


def _dotenv_text(file: SettingsFile, mine: Sequence[Setting]) -> str:
    base = file.current or file.template or parse_dotenv("")
    assert isinstance(base, Dotenv)  # a dotenv file's document is one
    value = base.values()
    template = {entry.key: entry for entry in file.template.entries} if file.template else {}
    document, added, lacking = base, list[str](), list[str]()
    for one in mine:
        if one.key in value:
            if value[one.key] == one.value:
                continue
            if file.current is None or file.ours:
                document = document.with_value(one.key, one.value)
            else:
                added.append(f"{one.key}={quoted(one.value)}")
        elif one.key in template:
            added += [f"# {line}" for line in template[one.key].comment.splitlines() if line]
            added.append(f"{one.key}={quoted(one.value)}")
        else:
            lacking.append(f"{one.key}={quoted(one.value)}")
    if lacking and file.template is not None:
        name = file.template_path.rpartition("/")[2]
        lacking.insert(0, f"# Not in {name}:")
        if document.text or added:
            lacking.insert(0, "")
    lines = added + lacking
    return document.with_lines(lines).text if lines else document.text


def _structured_text(file: SettingsFile, mine: Sequence[Setting]) -> tuple[str, list[str]]:
    base: Document | None = file.current or file.template
    document = base if base is not None else read_document(file.kind, "", file.target)
    value = document.values()
    refused = []
    for one in mine:
        if value.get(one.key) == one.value:
            continue
        if one.key in value and (file.current is None or file.ours):
            try:
                document = document.with_value(one.key, one.value)
            except KeyError:
                refused.append(one.key)
        else:
            refused.append(one.key)
    return document.text, refused
