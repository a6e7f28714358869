"""Which start commands of a part are tried, and in which order."""

from __future__ import annotations

import os
import re
import shlex

from msgspec.structs import replace

from plainfall.clone.commands import Command, given_folder
from plainfall.clone.walk import is_side
from plainfall.ecosystems import vocabulary
from plainfall.errors import PlainfallError
from plainfall.failure_facts import FileUnusable
from plainfall.failure_kinds import FailureKind
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.start_help import help_text, help_words, words_of_help
from plainfall.patterns import regex

__all__ = [
    "NOT_FOUND",
    "as_root",
    "command_named",
    "from_above",
    "from_below",
    "in_turn",
    "means_this_project",
    "names_what_is_not_here",
    "with_its_file",
    "with_its_word",
    "without_check",
    "without_option",
]

_SERVE_WORDS = (
    "serve",
    "runserver",
    "server",
    "run-server",
    "start",
    "run",
    "web",
    "webserver",
    "up",
    "http",
    "dev",
    "develop",
    "daemon",
    "api",
)
# The option for a folder of the reader's own that a program cannot do without.
_REQUIRED = regex(
    r"(?:required: (?:-\w/)?|[Mm]issing option '(?:-\w' / ')?)"
    r"(--[\w-]*(?:dir|directory|folder|data|storage|root)\b)(?!,)"
)
_ROOT_OPTION = regex(r"(?<![\w-])--(?:allow|run|as|permit|i-am)[\w-]*root\b(?![\w=-])")
# An option without a value that leaves out looking for another server.
_CHECKS = regex(
    r"(?<![\w-])(--(?:no|skip|disable|without|ignore)[-_](?:[\w-]+[-_])?(?:check|connect|ping|verif)[\w-]*)"
    r"(?![=\w-]| [A-Z<])"
)
NOT_FOUND = regex(
    r"(?:not find|not found|not import(?: module)?|no such(?! (?:sub)?command| option)|not exist)"
    r"[^\n'\"]{0,40}(['\"])([\w./-]+)\1",
    re.IGNORECASE,
)


def in_turn(work: Work) -> list[Command]:
    """The start commands that may be tried: the one that was decided on, then the best; the person's own alone."""
    chosen = work.choices.server.command
    return [chosen.value, *chosen.alternatives] if chosen is not None else []


def command_named(work: Work, line: str) -> Command:
    """The candidate of that line; one that was decided on is made after the first."""
    found = work.part.candidates("server")
    for one in (*in_turn(work), *found):
        if one.line == line:
            return one
    return replace(found[0], line=line)


def from_above(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """The same from the nearest folder above the part where the file lies that it does not find."""
    thing = error.facts.named
    if (
        error.rule != FailureKind.FILE_MISSING
        or not thing
        or thing.startswith("/")
        or command.line.startswith("cd ")
    ):
        return []
    above, steps = work.part.path, 0
    while above:
        above, steps = above.rpartition("/")[0], steps + 1
        if (work.clone / above / thing).exists():
            inner = work.part.path[len(above) :].lstrip("/")
            words = [
                shlex.quote(f"{inner}/{word}") if (work.folder / word).is_file() else word
                for word in command.line.split(" ")
            ]
            line = f"cd {'/'.join(['..'] * steps)} && {' '.join(words)}"
            return [replace(command, line=line, reason=f"{thing} lies in {above or 'the folder at the top'}")]
    return []


def from_below(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """The same from the only folder below the part where the file lies that the command line names and does not
    find."""
    facts = error.facts
    if error.rule != FailureKind.FILE_MISSING or not isinstance(facts, FileUnusable):
        return []
    name = facts.path.rpartition("/")[2]
    if not name or not any(word.rpartition("/")[2] == name for word in command.line.split()):
        return []
    ending = f"/{next(word for word in command.line.split() if word.rpartition('/')[2] == name)}"
    folders = [path.removesuffix(ending) for path in work.tree.below(work.part.path) if path.endswith(ending)]
    folders = [one for one in folders if not is_side(one)]
    if len(folders) != 1 or command.line.startswith("cd "):
        return []
    line = f"cd {shlex.quote(folders[0])} && {command.line}"
    return [replace(command, line=line, reason=f"{ending[1:]} lies in {folders[0]}")]


def with_its_file(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """Another documented line of the same program, whose file is there, where the one that this line names is
    not."""
    program, *words = command.line.split()
    name = error.facts.named.rpartition("/")[2]
    if error.rule != FailureKind.FILE_MISSING or not any(word.rpartition("/")[2] == name for word in words):
        return []
    return [
        one
        for one in work.part.candidates("server")
        if one.line.split()[0] == program
        and one.line != command.line
        and any(
            word.rpartition("/")[2] == name
            and not word.startswith(("/", "~"))
            and (work.folder / word).is_file()
            for word in one.line.split()[1:]
        )
    ][:1]


def without_check(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """The same with the program's own option that leaves out the check for another server, where that one does not
    answer."""
    if error.rule != FailureKind.CONNECTION_REFUSED or _CHECKS.search(command.line):
        return []
    program = vocabulary().program_of(command.line.split())
    option = _CHECKS.search(help_text(work, program))
    if option is None:
        return []
    reason = f"another server does not answer, and {' '.join(program)} --help names {option.group(1)}"
    return [replace(command, line=f"{command.line} {option.group(1)}", reason=reason)]


_UNKNOWN_OPTION = regex(
    r"(?:unknown|unrecogni[sz]ed|invalid|no such|unsupported) (?:option|argument|flag)s?:? ?[`'\"]?(--?\w[\w-]*)",
    re.IGNORECASE,
)


def without_option(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """The same without an option that the program says it does not know, and its value: another release of it has
    that one. One that the project's own documents give stays."""
    option = next((match.group(1) for line in error.lines if (match := _UNKNOWN_OPTION.search(line))), "")
    found = re.search(rf" {re.escape(option)}(?:(?:=| (?!-))\S+)?(?= |$)", command.line) if option else None
    if found is None or option in command.evidence.text:
        return []
    reason = f"the program does not know {option}"
    return [replace(command, line=command.line[: found.start()] + command.line[found.end() :], reason=reason)]


def as_root(work: Work, command: Command, error: PlainfallError) -> list[Command]:
    """The same with the option that the program itself names, where it refuses to run as root: in a container there
    is nobody else."""
    option = next((match for line in error.lines if (match := _ROOT_OPTION.search(line))), None)
    if error.rule != FailureKind.REFUSES_ROOT or option is None or option.group() in command.line:
        return []
    reason = f"it refuses to run as root, which you are, and names {option.group()}"
    return [replace(command, line=f"{command.line} {option.group()}", reason=reason)]


def means_this_project(work: Work, command: Command) -> bool:
    """Whether a process file or a manifest names it: then it is this project's server, and no other's."""
    source = command.evidence.path.rpartition("/")[2]
    return source.startswith("Procfile") or source in work.language.manifests


def names_what_is_not_here(work: Work, command: Command, error: PlainfallError) -> bool:
    """Whether a program says that it does not find what its own command line names, and the clone has no such
    thing: the document means a reader's own project. A process file or a manifest means this one."""
    if means_this_project(work, command):
        return False
    words = set(re.split(r"[=\s:]+", command.line))
    if "flask" in words:  # what it loads where nothing is named, and what its variable names
        named_app = {**work.settings, **work.choices.variables}.get("FLASK_APP", "app")
        words |= {re.split(r"[=\s:]+", named_app)[0].removesuffix(".py")}
    named = {match.group(2) for line in error.lines for match in NOT_FOUND.finditer(line)}
    if error.rule is FailureKind.FILE_MISSING:
        named |= {word for word in words if word.rpartition("/")[2] == error.facts.named.rpartition("/")[2]}
    return any(
        word in words and not any(os.path.exists(f"{work.folder}/{word}{end}") for end in ("", ".py"))
        for word in named
    )


def with_its_word(work: Work, command: Command, output: str) -> list[Command]:
    """The same program with the word by which it serves, where it is a bare one whose help (or what it has printed
    instead of serving) names such a word, and with its option for the port; one that requires a folder, with it."""
    wanted = _REQUIRED.search(output)
    if wanted is not None and wanted.group(1) not in command.line:
        reason = f"it requires {wanted.group(1)}, and got a folder of its own"
        given = given_folder(work.part.path)
        return [replace(command, line=f"{command.line} {wanted.group(1)} {given}", reason=reason)]
    if re.fullmatch(r"(?:python -m )?[\w.-]+", command.line) is None:
        return []
    known = {*help_words(work, command.line.split()), *words_of_help(output)}
    word = next((one for one in _SERVE_WORDS if one in known), None)
    if word is None:
        return []
    port = " --port ${PORT}" if "--port" in help_text(work, [*command.line.split(), word]) else ""
    reason = f"{command.line} --help names {word!r}"
    return [replace(command, line=f"{command.line} {word}{port}", reason=reason)]
