"""The README's steps: fenced commands under headings such as "Getting started", matched to stages."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator

from msgspec import Struct

from plainfall.clone.prose import blocks_of, bounded_lines
from plainfall.clone.vocabulary import Vocabulary
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = [
    "PLACEHOLDER",
    "ReadmeStep",
    "own_commands",
    "own_program",
    "read_steps",
    "readme_addresses",
    "stage_of",
]

_HEADING = regex(
    r"set.?up|start|install|quick|usage|running|run\b|develop|local|build|migrat|seed|data ?base|schema|"
    r"serve|use it|demo\b|\btry\b|trying|impatient|instant",
    re.IGNORECASE,
)
_SHELLS = {"", "sh", "bash", "shell", "console", "zsh", "shell-session", "text", "terminal", "cmd"}
_PROMPT = regex(r"^\s*(?:\([\w.-]+\)\s*)?[$%>]\s+")
_ADDRESS = regex(r"https?://(?:localhost|127\.0\.0\.1|0\.0\.0\.0|\[::1\])(?::(\d+))?(/[\w./-]*)?")

# In this order: the first that matches says which stage a command belongs to. Two are told by the languages' words.
_STAGES: tuple[tuple[str, str], ...] = (
    ("fetch", r"^(git|cd|mkdir|tar|unzip)\b"),
    ("probe", r"^(curl|wget|open|xdg-open)\b"),
    ("environment", ""),
    ("settings", r"^(cp|mv|copy)\s+\S*(env|config|settings)\S*\s|^export\s+\w+="),
    (
        "seeds",
        r"\b\w*(seed|loaddata|fixture|populate|(test|sample|demo)_?data)\w*|\b(load|fill|import)[\w-]*\.py\b",
    ),
    (
        "migrations",
        r"\b\w*(migrat\w*|db\s+upgrade|upgrade\s+head|createdb|create_all|create_tables?|init.?db)\b",
    ),
    ("dependencies", ""),
    ("test", r"\b(pytest|unittest|tests?)\b"),
    (
        "question",
        r"\s--(help|version)\b(?!\S)|^[\w.-]+ (?:[\w.-]+ )?(?:add|remove|log-?in|log-?out|enable|disable)\b",
    ),
    (
        "check",
        r"^(pre-commit|tox|nox|mypy|ruff|flake8|pylint|black|isort|coverage|twine|gh|brew|apt(-get)?|dnf|conda|mamba|"
        r"ssh|scp|curl|wget|http|open|xdg-open|export|kubectl|helm|terraform|ansible\S*|sphinx-build|createdb|psql)\b",
    ),
    (
        "build",
        r"\brun (build|compile|lint|format|type-?check|check|clean|bundle|dist)\b(?![:-](dev|watch|serve))",
    ),
    (
        "server",
        r"\b(run|serve\w*|server|runserver|start|dev|up|gunicorn|uvicorn|http\.server)\b",
    ),
)
_DATABASE = regex(r"\b(data ?base|schema|tables|migrations?)\b", re.IGNORECASE)
_SENTENCE = regex(
    r"\b(?:run|start|launch|command|execut(?:e|ing)|running|starting)\b[^`\n]{0,40}`{1,2}([^`\n]+)`",
    re.IGNORECASE,
)
# What a program is asked for that is not serving.
_ASKS = regex(
    r"--?(help|version|h|v)\b|\b(init|test|migrate|install|uninstall|update|upgrade|check|shell|set-?up|config(ure)?|"
    r"log-?(in|out)|auth|create|add|new|generate|export|import|list|show|doctor|status|clean|reset|build|stop|enable|"
    r"disable|completion)\b"
)
_LISTENS = regex(
    r"\s(-h +[\w.]+\.\w|-p[ =]?(\d{2,5}(?![\w-])|\$)|--(http-)?(host|port|bind|listen|address|web\w*|daemon))\b"
)
# What a document says behind a command that has started a server.
_THEN_LISTENS = regex(
    r"\blocalhost:\d|127\.0\.0\.1:\d|\b(is|be) (now )?(listening|running on)\b|\bbrowser\b|\bruns on port \d",
    re.IGNORECASE,
)
_NEAR = 8  # lines behind a command
_QUOTED = regex(r"'[^']*'|\"[^\"]*\"|\$\([^)]*\)|\\.")
_LONGEST = 500  # characters of a line that are looked at
# A line that runs a program of the reader's own (``gauges run $YOUR_COMMAND``, ``gauges trace -- <command>``).
_RUNS_ANOTHERS = regex(
    r"\s(?:\$\{?(?:your|my)_\w+|<(?:your|my|the)?[-_ ]?(?:\w+[-_ ])?(?:command|program|script|app)[\w -]*>|"
    r"your[-_](?:\w+[-_])?(?:command|program|script|app)\b)",
    re.IGNORECASE,
)
# What a program of the project's own is told to show itself in a browser.
_SERVE_WORDS = frozenset("web webui web-ui ui gui http api dashboard webserver web-server".split())
# A runner that fetches a package to run a command of it: for a reader who has no clone.
_FETCHES_AND_RUNS = regex(r"^(?:uvx|uv tool run|pipx run)\s+(?:(?:--from|--spec)[= ]\S+\s+)?")
_DRAWING = regex("[\u2500-\u257f]|^\\s*[|+`\\\\]\\s*-{2,}\\s*\\S")
# A word of the reader's own in a documented command.
PLACEHOLDER = regex(
    r"^/?(path|folder|dir|directory)[-_/](to|of)\b|/path/to/|^<[^<>]*>$|^\[[^\[\]]*\]$|^\.\.\.$|^(your|my)[-_]\w|=<[^<>]*>$|"
    r"=(\./|/)?(path|folder|dir|directory)[-_/](to|of)(?=[\W_]|$)"
)
_MATCHERS = [(stage, regex(pattern, re.IGNORECASE)) for stage, pattern in _STAGES]


class ReadmeStep(Struct, frozen=True):
    """One command of the README, the heading it stands under, and the stage it belongs to ("" if none is
    recognised; "fetch", "test", "question", "check" and "build" are no stages of ours)."""

    command: str
    heading: str
    stage: str
    evidence: Evidence


def stage_of(command: str, heading: str, words: Vocabulary, programs: frozenset[str] = frozenset()) -> str:
    """The stage that a command belongs to, by its words, then by the heading's. One of the project's own
    ``programs`` is its server where it is told a host or a port."""
    if _RUNS_ANOTHERS.search(command):
        return ""
    own = {"environment": words.environment, "dependencies": words.installs}
    plain = words.runner.sub("", command)
    # What an argument of the project's own program is called says nothing of what the program does with it.
    alone = re.sub(r"\s\S*/\S*", " ", plain) if own_program(command, programs) else command
    asked = {"check": plain, "seeds": alone, "migrations": alone, "test": alone}
    for stage, matcher in _MATCHERS:
        if own.get(stage, matcher).search(asked.get(stage, command)):
            return stage
    if own_program(command, programs):
        rest = [word for word in command.split()[1:] if not PLACEHOLDER.search(word)]
        # ``gauges open`` shows the program itself, ``gauges open drops.csv`` a file of the reader's.
        shows = rest[:1] in (["open"], ["launch"]) and all(word.startswith("-") for word in rest[1:])
        serves = _LISTENS.search(command) or not rest or rest[0].lower() in _SERVE_WORDS or shows
        return "server" if serves else ""
    if _DATABASE.search(heading):
        return "migrations"
    pieces = command.split()
    if len(pieces) < 2 or not words.interpreter.fullmatch(pieces[0]) or pieces[1].startswith("-"):
        return ""
    is_set_up = pieces[1].rpartition("/")[2] == "setup.py"
    bare = len(pieces) == 2 and words.script_file.search(pieces[1]) and not is_set_up
    return "server" if bare or _LISTENS.search(command) else ""


def read_steps(
    text: str, path: str, words: Vocabulary, programs: frozenset[str] = frozenset()
) -> list[ReadmeStep]:
    """The commands in a document's code blocks under headings of that kind, in order; those of the project's own
    ``programs`` under any.

    Comments, prompts and the output after prompts are left out; continued lines are joined.
    """
    steps = []
    for block in blocks_of(text, path):
        under = [name for deep, name in block.headings if deep > 1 or len(block.headings) == 1]
        is_step = block.language in _SHELLS and any(_HEADING.search(name) for name in under)
        if not is_step and not (programs and block.language in _SHELLS | {"log"}):
            continue
        heading = block.headings[-1][1] if block.headings else ""
        for offset, written in _commands(block.code):
            command = _by_name(written, words, programs)
            stage = stage_of(command, heading, words, programs)
            own = own_program(command, programs)
            if own and not stage and _has_options_alone(command, own):
                behind = block.line + block.code.count("\n")
                near = "\n".join(bounded_lines(text)[behind - 1 : behind + _NEAR])
                stage = "server" if _THEN_LISTENS.search(near) else ""
            if is_step or (stage == "server" and own):
                steps.append(
                    ReadmeStep(command, heading, stage, Evidence(path, block.line + offset, command))
                )
    return [*steps, *_in_sentences(text, path, programs)]


def own_program(command: str, programs: Collection[str]) -> str:
    """The one of the project's own programs that a command runs, by its name or as a module of the same name; for a
    command that the project adds to another program, both words ("celery flower"). "" for another command."""
    first = (command.split() or [""])[0]
    module = re.match(r"python3? -m ([\w-]+)(?![\w.-])", command)
    if module is not None:
        first = module.group(1)
    if first in programs:
        return first
    added = (f"{first} {word}" for word in command.split()[1:])
    return next((one for one in added if one in programs), "")


def _has_options_alone(command: str, program: str) -> bool:
    """Whether only options and their values stand behind the program's own words."""
    added = program.partition(" ")[2]
    words = [word for word in command.split()[1:] if word != added]
    return (
        bool(words)
        and all(
            word.startswith("-") or (number > 0 and words[number - 1].startswith("-"))
            for number, word in enumerate(words)
        )
        and not _ASKS.search(command)
    )


def own_commands(text: str, path: str, programs: frozenset[str]) -> Iterator[ReadmeStep]:
    """Every command of the project's own programs in a document's code blocks, under whatever heading."""
    for block in blocks_of(text, path):
        for offset, written in _commands(block.code) if block.language in _SHELLS | {"log"} else ():
            command = _by_name(written, Vocabulary(), programs)
            if own_program(command, programs):
                heading = block.headings[-1][1] if block.headings else ""
                yield ReadmeStep(command, heading, "", Evidence(path, block.line + offset, command))


def _by_name(command: str, words: Vocabulary, programs: frozenset[str]) -> str:
    """A command whose program is one of the project's own, or an interpreter, in some environment's folder of
    commands (``env/bin/rain``): by its name, as the part's environment has it."""
    fetched = _FETCHES_AND_RUNS.sub("", command)
    if fetched != command and (fetched.split() or [""])[0] in programs:
        return fetched
    first, space, rest = command.partition(" ")
    folder, _, name = first.rpartition("/")
    if not re.fullmatch(r"(\./)?([\w.-]+/)*bin", folder) and not (folder == "." and name in programs):
        return command
    return f"{name}{space}{rest}" if name in programs or words.interpreter.fullmatch(name) else command


def _in_sentences(text: str, path: str, programs: frozenset[str]) -> Iterator[ReadmeStep]:
    """Commands of the project's own programs that a sentence says to run or start."""
    for number, line in enumerate(bounded_lines(text), 1) if programs else ():
        for match in _SENTENCE.finditer(line):
            command = match.group(1).strip()
            if (command.split() or [""])[0] in programs and not _ASKS.search(command):
                yield ReadmeStep(command, "", "server", Evidence(path, number, line.strip()))


# Statements of SQL, assignments of a configuration file, and names of a program's own modules: a block of them
# has no language, often.
_STATEMENT = regex(
    r"(?:update \S+ set|insert into|delete from|select\b[^\n]*\bfrom|"
    r"(?:create|alter|drop) (?:table|database|user|role|schema|extension|index|unique)|"
    r"grant [\w ,]+ (?:on|to)|use [\w`]+;|flush privileges|show databases)\b|[a-z]\w*::\w|[\w.-]+ += ",
    re.IGNORECASE,
)


def _is_no_shell(line: str) -> bool:
    """Whether no shell would take a line: a statement of another language, or one in which a parenthesis stands
    that begins no subshell and no function.

    >>> [_is_no_shell(one) for one in ("gauge (action=ns): what", "(cd web && npm start)", "f() { ls; }")]
    [True, False, False]
    >>> [_is_no_shell(one) for one in ("update gauges set rain = 4;", "Rain::Gauges.read", "most-gauges = 9")]
    [True, True, True]
    >>> [_is_no_shell(one) for one in ("update gauges", "RAIN=4 gauges serve", "gauges serve --day = 4")]
    [False, False, False]
    """
    if _STATEMENT.match(line):
        return True
    rest = _QUOTED.sub("", line[:_LONGEST])
    before, found, behind = rest.partition("(")
    last = before.rstrip()[-1:]
    return bool(found and last) and last not in "$&|;=<>" and "#" not in before and not behind.startswith(")")


def _commands(code: str) -> Iterator[tuple[int, str]]:
    lines = code.splitlines()
    if any(_DRAWING.search(line) for line in lines):
        return  # a drawing of folders names files, and runs none
    prompted = any(_PROMPT.match(line) for line in lines)
    gathered, start = "", 0
    for offset, raw in enumerate(lines):
        if prompted and not gathered and not _PROMPT.match(raw):
            continue
        line = raw.strip() if gathered else _PROMPT.sub("", raw).strip()
        if not gathered and not prompted and _is_no_shell(line):
            continue  # a description or an output: no shell would take it
        start = start if gathered else offset
        if line.endswith("\\"):
            gathered += line[:-1].rstrip() + " "
            continue
        command = re.sub(r"(?<!\s)\s+#\s.*$", "", gathered + line).strip()
        gathered = ""
        if command and not re.match(r"#|(from|import) \w", command):
            yield start, command


def readme_addresses(text: str, path: str) -> list[tuple[int | None, str, Evidence]]:
    """Loopback addresses that the README names: port (None if not written), path, place."""
    results = []
    for number, line in enumerate(bounded_lines(text), 1):
        for match in _ADDRESS.finditer(line):
            port = int(match.group(1)) if match.group(1) else None
            where = (match.group(2) or "/").rstrip(".") or "/"
            results.append((port, where, Evidence(path, number, line.strip())))
    return results
