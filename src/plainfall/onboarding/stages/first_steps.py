"""What a program wants once before it can serve: a first step of its own (``NAME init``), or a first start that
only writes its configuration. Tried only after its server has ended at once."""

from __future__ import annotations

import re
import secrets
from collections.abc import Iterator
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import ADMIN_ADDRESS
from plainfall.ecosystems import recognising_of
from plainfall.errors import CommandFailed
from plainfall.kept_records import FirstSteps
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import ENTERS, may_be_empty, may_press_enter
from plainfall.onboarding.stages.filling_data import rows_at_stake
from plainfall.onboarding.stages.start_help import help_text, help_words, words_of_help
from plainfall.onboarding.stages.tolerant_commands import carry_out
from plainfall.patterns import regex
from plainfall.server.logs import end_of_log
from plainfall.survey.documents import documented_uses

__all__ = ["carry_out_first_step", "files_in", "first_steps"]


_FIRST = regex(
    r"(?:init(?:iali[sz]e)?|setup|create|prepare)(?:[-_](?:db|database|tables|instance|config|server))?|init-?db|"
    r"bootstrap|migrate|db|database|(?:index|tables?)-(?:create|init|build)|(?:create|init|build)-index|"
    r"(?:create|generate|make|init)[-_](?:\w+[-_])?\w*(?:keys?|secrets?|salt)"
)
_SECOND = regex(r"init|upgrade|migrate|create|setup")
# What would take something away, or belongs to somebody else's machine.
_HARMFUL = regex(r"--?(force|drop|reset|wipe|overwrite|delete|clear|purge)\b|[|;&<>`$]|\bsudo\b|https?://")
_READERS_OWN = regex(r"^<|^\[|[A-Z]{2,}[-_]?[A-Z]{2,}|path/to|/your|/my|example\.(com|org)|~/|^/")
_NEVER = regex(
    r"\b(delete|drop|reset|wipe|purge|clear|remove|destroy|uninstall|clean|flush|publish|deploy|upload|push|send|login|"
    r"logout|auth\w*)\b"
)
# What a program says that wants another command of its own before.
_RUN_FIRST = r"\b(?:run|execute|call)\W{{1,3}}((?:{names}) [a-z][\w-]*)\b(?! [a-z])[^\n]{{0,40}}\bfirst\b"
_SECONDS = 60.0  # that a step may take which nobody asked for
_PROGRAMS = 2  # whose help is asked for
_YES = b"y\n"  # to whether it may begin anew: there are no rows that could be lost
_PASSWORD = "FIRST_ACCOUNT_PASSWORD"  # the variable that a command line names


def files_in(folder: Path) -> frozenset[str]:
    """The names in a part's folder that a start may add to: no logs, nothing hidden."""
    return frozenset(
        one.name
        for one in folder.iterdir()
        if one.is_file() and not one.name.startswith(".") and one.suffix != ".log"
    )


def first_steps(
    work: Work, command: Command, started: str, lines: tuple[str, ...], log: str | None
) -> Iterator[Command]:
    """The first steps of the project's own that were not carried out yet: what the server's output names, then
    what the project's documents do, then what the program's help lists; ``started`` is the line that ended at
    once, "" for ``command``'s. What such a step does to data is not known, so there is none where a database
    holds rows."""
    if rows_at_stake(work):
        return
    done = set(work.state.read(work.part.key, FirstSteps).lines)
    output = "\n".join([*lines, end_of_log(Path(log)) if log else ""])
    base = replace(command, line=started) if started else command
    for one in _candidates(work, base, output):
        if one.line not in done and not _HARMFUL.search(one.line):
            done.add(one.line)
            yield one


def carry_out_first_step(work: Work, command: Command) -> str | None:
    """Carries one out, once for all runs; returns what is to be said beyond that it ran, None where it failed. Of
    answers it gets none but Enter, where it asks for what has a default."""
    try:
        carry_out(work, "migrations", command, seconds=_SECONDS)
        answered: str | None = ""
    except CommandFailed as error:
        answered = _by_enter(work, command, error) or _by_account(work, command) or None
    if answered is not None:
        done = work.state.read(work.part.key, FirstSteps).lines
        work.state.keep(work.part.key, FirstSteps(lines=(*done, command.line)))
    return answered


def _by_enter(work: Work, command: Command, error: CommandFailed) -> str:
    """Runs a step again that asked and got no input, with Enter for each of its defaults; "" where it did not ask
    for what has one, or failed again."""
    log = end_of_log(Path(error.log)) if error.log else ""
    # The last line that asks is what it waited for.
    asked = next((line for line in reversed(log.splitlines()) if "?" in line or may_be_empty(line)), "")
    asked = asked if may_be_empty(asked) else ""
    if not asked or "EOF" not in log or not may_press_enter(work, asked):
        return ""
    try:
        carry_out(work, "migrations", command, ENTERS, _SECONDS)
    except CommandFailed:
        return ""
    return f"; it asked, and Enter was pressed for its default: {asked.strip()[:100]}"


def _by_account(work: Work, command: Command) -> str:
    """Runs a step again that asks for a first account, with the options that its help names for one; "" where it
    has none, or failed again. The password is kept as that of any administrator, and stands in no command
    line."""
    text = help_text(work, command.line.split())
    name = next((one for one in ("--username", "--user", "--name") if f"{one} " in text), "")
    if not name or "--password " not in text:
        return ""
    email = f" --email {ADMIN_ADDRESS}" if "--email " in text else ""
    line = f'{command.line} {name} admin{email} --password "${_PASSWORD}"'
    password = secrets.token_urlsafe(12)
    known = work.state.accounts()
    known[work.part.key or "."] = {"name": "admin", "password": password, "page": "/"}
    # On disk before the account is made: a password that nobody knows would be worse than none.
    work.state.keep_accounts(known)
    with_account = replace(work, settings={**work.settings, _PASSWORD: password})
    try:
        carry_out(with_account, "migrations", replace(command, line=line), _YES, _SECONDS)
    except CommandFailed:
        known.pop(work.part.key or ".")
        work.state.keep_accounts(known)
        return ""
    return "; it asks for a first account: 'admin' was made, password in .plainfall/accounts.json"


def _candidates(work: Work, command: Command, output: str) -> Iterator[Command]:
    recognising = recognising_of(work.part.language)
    programs = recognising.programs(work.tree, work.part.path) if recognising else frozenset()
    if not programs:
        return
    base = replace(command, stage="migrations", script="")
    names = "|".join(re.escape(name) for name in sorted(programs, key=len, reverse=True))
    for match in re.finditer(rf"(?<![\w./-])({names})(?: [\w-]+){{0,2}}(?!\w)", output):
        words = match.group(0).split()
        # A sentence goes on behind the command.
        for line in (" ".join(words[:count]) for count in (1, 2, 3)):
            if _is_first(line, programs):
                yield replace(base, line=line, reason="the server's output names it")
                break
    asked = re.search(_RUN_FIRST.format(names=names), output, re.IGNORECASE)
    if asked and not _NEVER.search(asked.group(1)):
        yield replace(
            base, line=" ".join(asked.group(1).split()), reason="the server's output wants it first"
        )
    for step in documented_uses(work.tree, work.part.path, programs):
        line = _without_placeholders(step.command)
        if _is_first(line, programs):
            yield replace(base, line=line, reason="documented", evidence=step.evidence)
    for name in sorted(programs):
        if _is_first(name, programs):
            yield replace(base, line=name, reason="a program of the project's own")
    module = re.match(r"python -m ([\w-]+)(?![\w.-])", command.line)
    program = module.group(1) if module else command.line.partition(" ")[0]
    starts = [module.group(0) if module else program] if program in programs else sorted(programs)[:_PROGRAMS]
    for start in starts:
        listed = dict.fromkeys([*words_of_help(output), *help_words(work, start.split())])
        for word in sorted(listed, key=lambda word: word != "bootstrap"):
            makes_account = word == "install" and "--password " in help_text(work, [*start.split(), word])
            if (_FIRST.fullmatch(word) and word not in ("db", "database")) or makes_account:
                yield replace(base, line=f"{start} {word}", reason=f"the help of {start} names {word!r}")


def _without_placeholders(line: str) -> str:
    """A documented command without words that the reader is to replace, and the options that they belong to."""
    kept: list[str] = []
    for word in line.split():
        if kept and _READERS_OWN.search(word):
            if len(kept) > 1 and kept[-1].startswith("-") and not word.startswith("-"):
                kept.pop()
            continue
        kept.append(word)
    return " ".join(kept)


def _is_first(line: str, programs: frozenset[str]) -> bool:
    """Whether a command line is a first step of one of the programs: ``gauges init``, ``gauges-init``, ``gauges db
    upgrade``."""
    program, *words = line.split() or [""]
    if program not in programs:
        return False
    if re.search(r"[-_](init|init-?db|setup|bootstrap)$", program):
        return True
    if any(re.fullmatch(r"--(init(ialize)?|setup)(-\w+)?", word) for word in words):
        return True
    words = [word for word in words if not word.startswith("-")]
    if not words or not _FIRST.fullmatch(words[0]):
        return False
    return words[0] not in ("db", "database") or (len(words) > 1 and _SECOND.fullmatch(words[1]) is not None)
