"""Scripts that a program of a package turns into a page: Streamlit, Chainlit, Panel, Shiny, Solara, marimo.

Run with the interpreter alone such a script ends at once, and shows nothing.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Iterator

from msgspec import Struct

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import sources
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["TRAITS", "recognise"]

ORDER = 5


class _Maker(Struct, frozen=True):
    """What makes pages of scripts: its title, the module that they import, what one of them calls that is a page of
    its own, the command for ``{file}``, and variables for it."""

    title: str
    module: str
    calls: re.Pattern[str]
    line: str
    variables: dict[str, str] = {}


_MAKERS = (
    _Maker(
        "Streamlit",
        "streamlit",
        regex(r"\.(?:set_page_config|navigation|title|header|sidebar|write|markdown)\b"),
        "streamlit run {file} --server.port ${{PORT:-8501}} --server.address 127.0.0.1 --server.headless true",
        {
            "STREAMLIT_SERVER_HEADLESS": "true",
            "STREAMLIT_SERVER_ADDRESS": "127.0.0.1",
            "STREAMLIT_BROWSER_GATHER_USAGE_STATS": "false",
        },
    ),
    _Maker(
        "Chainlit",
        "chainlit",
        regex(r"@\w+\.on_(?:chat_start|message)\b"),
        "chainlit run {file} --headless --host 127.0.0.1 --port ${{PORT:-8000}}",
    ),
    _Maker("Panel", "panel", regex(r"\.servable\("), "panel serve {file} --port ${{PORT:-5006}}"),
    _Maker("Shiny", "shiny", regex(r"\bApp\(|shiny\.express"), "shiny run {file} --port ${{PORT:-8000}}"),
    _Maker(
        "Solara",
        "solara",
        regex(r"@solara\.component\b"),
        "solara run {file} --no-open --port ${{PORT:-8765}}",
    ),
    _Maker(
        "marimo", "marimo", regex(r"\bmarimo\.App\("), "marimo run {file} --headless --port ${{PORT:-2718}}"
    ),
)
TRAITS = Traits(("Streamlit",), port_variables=("STREAMLIT_SERVER_PORT",))
# Names of the script that a project begins with, the likeliest first.
_ENTRIES = ("streamlit_app", "app", "main", "home", "dashboard", "index", "ui", "web")
_DEEPEST = 2  # folders below the part's
_PAGES = regex(r"(^|/)(pages|components|tabs|views|widgets|utils)/")


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a script that one of these programs shows."""
    texts = [(path, text) for path, text in sources(tree, folder) if path.count("/") <= _DEEPEST]
    for maker in _MAKERS:
        if not any(maker.module in text for _, text in texts):
            continue  # most parts have none of them
        entry = _entry(texts, maker)
        if entry is None:
            continue
        path, number = entry
        evidence = Evidence(f"{folder}/{path}" if folder else path, number)
        # The name is the clone's: it is one word of the shell, and no option.
        line = maker.line.format(file=shlex.quote(f"./{path}" if path.startswith("-") else path))
        reason = f"{path} is a page of {maker.title}"
        command = Command("server", line, reason, RANK - 1, evidence, folder)
        return FrameworkFound(maker.title, evidence, (command,), dict(maker.variables), pages=("/",))
    return None


def _entry(texts: list[tuple[str, str]], maker: _Maker) -> tuple[str, int] | None:
    """The script that shows the first page, and the line by which it imports the package: one with a usual name,
    the highest first; else the only one."""
    found = list(_scripts(texts, maker))
    for order in (_by_name(found), found if len(found) == 1 else []):
        if order:
            return order[0]
    return None


def _by_name(found: list[tuple[str, int]]) -> list[tuple[str, int]]:
    stems = [(path.rpartition("/")[2].removesuffix(".py").lower(), path, number) for path, number in found]
    named = [one for one in stems if one[0] in _ENTRIES]
    ordered = sorted(named, key=lambda one: (one[1].count("/"), _ENTRIES.index(one[0])))
    return [(path, number) for _, path, number in ordered]


def _scripts(texts: list[tuple[str, str]], maker: _Maker) -> Iterator[tuple[str, int]]:
    imports = re.compile(rf"^(?:import|from) {maker.module}\b", re.MULTILINE)
    for path, text in texts:
        match = imports.search(text)
        if match is not None and maker.calls.search(text) is not None and not _PAGES.search(path):
            yield path, text[: match.start()].count("\n") + 1
