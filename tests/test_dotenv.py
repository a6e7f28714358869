"""Dotenv files: read as the two readers that projects use most do, and written back without a change."""

from __future__ import annotations

import io
import json
import os
import re
import shutil
import subprocess
from functools import cache

import pytest
from conftest import EXAMPLES
from dotenv import dotenv_values
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from plainfall.formats.dotenv import parse_dotenv
from plainfall.formats.entries import Entry

KEYS = st.from_regex(r"[A-Z][A-Z0-9_]{0,6}", fullmatch=True)
PLAIN = st.from_regex(r"[A-Za-z0-9_./:@%+,-][A-Za-z0-9_./:@%+,~ =&?!#-]{0,14}[A-Za-z0-9]", fullmatch=True)
SINGLE = st.from_regex(r"'([A-Za-z0-9 \"#$={}.-]|\\n|\\\\|\\'){0,12}'", fullmatch=True)
DOUBLE = st.from_regex(r'"([A-Za-z0-9 \'#$={}.-]|\\n|\\"|\\\\|\n){0,14}"', fullmatch=True)
REFERENCE = st.builds("http://${{{}}}/x".format, KEYS)
SPACE = st.sampled_from(["", " ", "  ", "\t"])
COMMENT = st.from_regex(r"#[ A-Za-z0-9'\"=-]{0,12}", fullmatch=True)
VALUE = st.one_of(PLAIN, SINGLE, DOUBLE, REFERENCE, st.just(""))


@st.composite
def lines(draw: st.DrawFn) -> str:
    kind = draw(st.integers(0, 9))
    if kind == 0:
        return draw(SPACE) + draw(COMMENT)
    if kind == 1:
        return draw(SPACE)
    value = draw(VALUE)
    after = f" {draw(COMMENT)}" if value and draw(st.booleans()) else draw(SPACE)
    export = draw(st.sampled_from(["", "", "export "]))
    return f"{draw(SPACE)}{export}{draw(KEYS)}{draw(SPACE)}={draw(SPACE)}{value}{after}"


@st.composite
def dotenv_files(draw: st.DrawFn) -> str:
    ending = draw(st.sampled_from(["\n", "\n", "\r\n"]))
    text = ending.join(draw(st.lists(lines(), max_size=8))) + draw(st.sampled_from(["", ending]))
    # A value of several lines keeps the line ends that it is written with.
    return draw(st.sampled_from(["", "", "\ufeff"])) + text


@cache
def generated_files() -> list[str]:
    """Files made by hypothesis, for readers that are asked about all of them at once."""
    made: list[str] = []

    @settings(phases=[Phase.generate])
    @given(dotenv_files())
    def gather(text: str) -> None:
        made.append(text)

    gather()
    return made[:EXAMPLES]


def written(text: str, entry: Entry) -> str:
    return text[entry.start : entry.end]


def test_values_are_those_that_the_python_reader_gives() -> None:
    assert len(generated_files()) == EXAMPLES
    for text in generated_files():
        document = parse_dotenv(text)
        theirs = dotenv_values(stream=io.StringIO(text.removeprefix("\ufeff")), interpolate=False)
        assert document.values() == {key: value for key, value in theirs.items() if value is not None}


def test_references_are_put_in_as_the_python_reader_does(monkeypatch: pytest.MonkeyPatch) -> None:
    for name in list(os.environ):
        if re.fullmatch(r"[A-Z][A-Z0-9_]{0,6}", name):
            monkeypatch.delenv(name)
    for text in generated_files():
        document = parse_dotenv(text)
        theirs = dotenv_values(stream=io.StringIO(text.removeprefix("\ufeff")), interpolate=True)
        for key, value in document.interpolated().items():
            last = [entry for entry in document.entries if entry.key == key][-1]
            # Differs: in single quotes nothing is put in here, as shells and most other readers have it.
            if not written(text, last).startswith("'"):
                assert value == theirs[key]


def node_differs(text: str, entry: Entry) -> str | None:
    """Why the Node reader gives another value: None where it must give the same."""
    value = written(text, entry)
    if value.startswith('"') and re.search(r"\\[^n]", value):
        return "it takes no escape but \\n"
    if value.startswith("'") and "\\" in value:
        return "it takes no escape in single quotes"
    if value[:1] not in "'\"" and "#" in value:
        return "it ends an unquoted value at any #, here only at one after a space"
    if "\r" in value:
        return "it folds line ends"
    if "\n" in value:
        return "it takes a comment behind a value of several lines for a key"
    return None


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
def test_values_are_those_that_the_node_reader_gives() -> None:
    script = (
        "const util = require('node:util'); const texts = JSON.parse(require('node:fs').readFileSync(0));"
        "console.log(JSON.stringify(texts.map((text) => util.parseEnv(text))))"
    )
    # Its known slips are left out: a tab is no blank to it, an indented comment or a line of blanks becomes a
    # part of the next key, and a byte-order mark a part of the first. After an empty value or an empty comment
    # it takes a comment that holds an equals sign for a key.
    bare = [text.removeprefix("\ufeff").replace("\t", " ") for text in generated_files()]
    bare = [re.sub(r"^ +(#|\r?$)", r"\1", text, flags=re.MULTILINE) for text in bare]
    bare = [re.sub(r"^#.*", lambda found: found[0].replace("=", "-"), text, flags=re.M) for text in bare]
    done = subprocess.run(
        ["node", "-e", script], input=json.dumps(bare), capture_output=True, text=True, check=True
    )
    compared = 0
    for text, theirs in zip(bare, json.loads(done.stdout), strict=True):
        document = parse_dotenv(text)
        if any(node_differs(text, entry) for entry in document.entries):
            continue
        assert document.values() == theirs, text
        compared += 1
    assert compared > EXAMPLES * 0.3


@given(dotenv_files(), st.data())
def test_nothing_changes_but_the_value_that_is_set(text: str, data: st.DataObject) -> None:
    document = parse_dotenv(text)
    assert document.text == text
    if not document.entries:
        return
    entry = data.draw(st.sampled_from(document.entries))
    last = [one for one in document.entries if one.key == entry.key][-1]
    value = data.draw(st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), max_size=12))
    changed = document.with_value(entry.key, value)
    assert changed.text.startswith(text[: last.start]) and changed.text.endswith(text[last.end :])
    assert changed.values() == {**document.values(), entry.key: value}
    theirs = dotenv_values(stream=io.StringIO(changed.text.removeprefix("\ufeff")), interpolate=False)
    assert theirs[entry.key] == value
