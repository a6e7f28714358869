"""Set-up tasks of the project's own that come before the server: collected files, a first administrator."""

from __future__ import annotations

import posixpath
import re
import secrets
import shlex

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import ADMIN_ADDRESS, Administrator
from plainfall.errors import CommandFailed
from plainfall.kept_records import AdministratorMade, DataStep, TasksDone
from plainfall.onboarding.part.steps import State, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import run_command
from plainfall.patterns import regex
from plainfall.server.process import new_mark
from plainfall.settings.answers import TEAM_FILE, are_tolerated
from plainfall.writing import digest_of, digest_of_files

__all__ = ["administrator", "carry_out", "tasks"]

_NETWORK = regex(r"ETIMEDOUT|ECONNRESET|EAI_AGAIN|socket hang up|timed? ?out|Temporary failure in name")
_SAID_FLAKY = regex(r"flaky|run it again|try again|once more|second (try|time|attempt)|retry", re.IGNORECASE)
_TELLING = regex(r"error|fail|cannot|denied|refused|not found|missing|fatal|exception", re.IGNORECASE)


def tasks(work: Work) -> StepResult:
    """Runs every task command, in order; kept if commands, dependencies and settings are unchanged."""
    commands = work.part.candidates("tasks")
    fingerprint = digest_of(
        [command.line for command in commands],
        work.fingerprints.get("dependencies"),
        work.fingerprints.get("settings"),
        [_inputs(work, command.line) for command in commands],
    )
    title = ", ".join(command.line for command in commands)
    places = tuple(command.evidence for command in commands)
    if work.state.read(work.part.key, TasksDone).fingerprint == fingerprint:
        return StepResult(State.KEPT, title, "nothing that they depend on changed", places)
    if work.preview:
        return StepResult(State.TO_DO, f"run {title}", commands[0].reason, places)
    remarks = [remark for command in commands for remark in carry_out(work, "tasks", command)]
    work.state.keep(work.part.key, TasksDone(fingerprint=fingerprint))
    return StepResult(State.DONE, title, commands[0].reason, places, tuple(remarks))


_OTHER_FOLDER = regex(r"^npm --prefix (\S+) run ")


def _inputs(work: Work, line: str) -> str:
    """The files that a build in another folder of the clone works on."""
    match = _OTHER_FOLDER.match(line)
    if match is None:
        return ""
    place = posixpath.normpath(posixpath.join(work.part.path, shlex.split(match.group(1))[0]))
    return digest_of_files(work.clone, [f"{place}/{path}" for path in work.tree.below(place)])


def carry_out(work: Work, stage: str, command: Command, answers: bytes = b"") -> list[str]:
    """Runs a command with these answers as its input; one that is known to be flaky, or whose network failed, is
    run once more, and errors that the team declared harmless are tolerated. Returns remarks for people. Raises
    CommandFailed."""
    remarks: list[str] = []
    for attempt in (1, 2):
        try:
            mark = new_mark()
            return [*remarks, *run_command(work, stage, command.line, mark, command.evidence, answers)]
        except CommandFailed as error:
            telling = [line for line in error.lines if _TELLING.search(line)] or list(error.lines)
            if telling and are_tolerated(work.tree, telling):
                shown = "; ".join(telling[:3])
                return [*remarks, f"tolerated, as {TEAM_FILE} says: {command.line} failed ({shown})"]
            why = _flaky(work, command, error.lines) if attempt == 1 else None
            if why is None:
                raise
            remarks.append(f"{command.line} failed and was run once more, since {why}")
    return remarks


def _flaky(work: Work, command: Command, lines: tuple[str, ...]) -> str | None:
    """Why a second try makes sense, or None."""
    if any(_NETWORK.search(line) for line in lines):
        return "the network failed it"
    place = f"{work.part.path}/" if work.part.path else ""
    for name in work.tree.folders.get(work.part.path, ()):
        if not name.lower().startswith("readme"):
            continue
        rows = work.tree.text(place + name).splitlines()
        for number, row in enumerate(rows):
            similar = " ".join(rows[max(0, number - 3) : number + 4])
            if command.line in row and _SAID_FLAKY.search(similar):
                return f"{place}{name}:{number + 1} says that it may have to be"
    return None


def administrator(work: Work) -> StepResult:
    """Makes a first administrator account once for a database; its password is kept in the state folder,
    readable by the user alone, and shown nowhere else."""
    result = _found(work)
    seen = work.state.read(work.part.key, DataStep)
    database = seen.database, seen.inode
    before = work.state.kept(work.part.key, AdministratorMade)
    accounts = work.state.folder / "accounts.json"
    where = f"password in {accounts.relative_to(work.clone)}"
    if before is not None and before.database == database and (work.part.key or ".") in work.state.accounts():
        return StepResult(State.KEPT, f"administrator {result.name!r}, {where}", "", (result.evidence,))
    if work.preview:
        return StepResult(State.TO_DO, f"make an administrator, {result.name!r}", "", (result.evidence,))
    password = secrets.token_urlsafe(12)
    known = work.state.accounts()
    known[work.part.key or "."] = {"name": result.name, "password": password, "page": result.page}
    # On disk before the account is made: a password that nobody knows would be worse than none.
    work.state.keep_accounts(known)
    made = f"administrator {result.name!r} made, {where}"
    try:
        _run(work, result, password)
    except CommandFailed as error:
        if not any(result.there_already in line for line in error.lines):
            known.pop(work.part.key or ".")
            work.state.keep_accounts(known)
            why = f"{error.cause}; make one with: plainfall inside -- {result.command.removesuffix(' --noinput')}"
            return StepResult(State.LEFT_OUT, "no administrator was made", why, (result.evidence,))
        made = f"an account {result.name!r} existed already"
        known.pop(work.part.key or ".")
        work.state.keep_accounts(known)
    work.state.keep(work.part.key, AdministratorMade(database=database))
    return StepResult(
        State.DONE,
        made,
        f"signs in at {result.page}"
        if result.page
        else "no route of the project leads to a page where it signs in",
        (result.evidence,),
        (),
        {"page": result.page},
    )


def _found(work: Work) -> Administrator:
    return next(one.administrator for one in work.part.frameworks if one.administrator is not None)


def _run(work: Work, account: Administrator, password: str) -> None:
    given = {
        account.email_variable: ADMIN_ADDRESS,
        **account.more,
        account.name_variable: account.name,
        account.password_variable: password,
    }
    with_account = replace(work, settings={**work.settings, **given})
    run_command(with_account, "administrator", account.command, new_mark(), account.evidence)
