"""Set-up tasks of the project's own that come before the server: collected files, a first administrator."""

from __future__ import annotations

import posixpath
import secrets
import shlex
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.clone.frameworks import ADMIN_ADDRESS, Administrator
from plainfall.errors import CommandFailed
from plainfall.kept_records import AdministratorMade, DataStep, TasksDone
from plainfall.onboarding.part.planning import Planned
from plainfall.onboarding.part.steps import State, Step, StepResult
from plainfall.onboarding.part.work import Work
from plainfall.onboarding.stages.commands import run_command
from plainfall.onboarding.stages.stage import Stage
from plainfall.onboarding.stages.tolerant_commands import carry_out
from plainfall.patterns import regex
from plainfall.server.process import new_mark
from plainfall.writing import digest_of, digest_of_files

__all__ = ["administrator", "plan", "tasks"]


def plan(planned: Planned) -> Iterator[Step]:
    """The step that runs the part's tasks, and the one that makes a first administrator."""
    part = planned.part
    commands = part.candidates("tasks")
    if commands:
        title = "run " + ", ".join(command.line for command in commands)
        evidence = tuple(command.evidence for command in commands)
        yield Step(part.key, Stage.TASKS, title, commands[0].reason, evidence, tasks)
    for framework in part.frameworks:
        if framework.administrator is not None:
            place = framework.administrator.evidence
            why = f"{framework.name} has an administration page"
            yield Step(part.key, Stage.TASKS, "make an administrator", why, (place,), administrator)


def tasks(work: Work) -> StepResult:
    """Runs every task command, in order; kept if commands, dependencies and settings are unchanged."""
    commands = [one for one in work.part.candidates("tasks") if one.line not in work.choices.left_out]
    if not commands:
        every = work.part.candidates("tasks")
        why = f"{', '.join(one.line for one in every)} failed before, and the server does without"
        return StepResult(State.LEFT_OUT, "no task was run", why, tuple(one.evidence for one in every))
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
