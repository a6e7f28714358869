"""Set-up tasks of the project's own that come before the server: collected files, a first administrator."""

from __future__ import annotations

import secrets
from dataclasses import replace

from plainfall.errors import CommandFailed
from plainfall.frameworks import Administrator
from plainfall.onboarding.commands import run_command
from plainfall.onboarding.steps import State, StepResult
from plainfall.onboarding.work import Work
from plainfall.server.process import new_mark
from plainfall.writing import digest_of, read_json, write_json

__all__ = ["administrator", "tasks"]

_NAME = "admin"


def tasks(work: Work) -> StepResult:
    """Runs every task command, in order; kept if commands, dependencies and settings are unchanged."""
    commands = work.part.candidates("tasks")
    fingerprint = digest_of(
        [command.line for command in commands],
        work.fingerprints.get("dependencies"),
        work.fingerprints.get("settings"),
    )
    title = ", ".join(command.line for command in commands)
    places = tuple(command.evidence for command in commands)
    if work.state.record(work.part.path, "tasks").get("fingerprint") == fingerprint:
        return StepResult(State.KEPT, title, "nothing that they depend on changed", places)
    for command in commands:
        run_command(work, "tasks", command.line, new_mark(), command.evidence)
    work.state.keep(work.part.path, "tasks", {"fingerprint": fingerprint})
    return StepResult(State.DONE, title, commands[0].reason, places)


def administrator(work: Work) -> StepResult:
    """Makes a first administrator account once for a database; its password is kept in the state folder,
    readable by the user alone, and shown nowhere else."""
    found = _found(work)
    seen = work.state.record(work.part.path, "migrations")
    database = [seen.get("database"), seen.get("inode")]
    before = work.state.record(work.part.path, "administrator")
    accounts = work.state.folder / "accounts.json"
    where = f"password in {accounts.relative_to(work.clone)}"
    if before and before.get("database") == database and accounts.exists():
        return StepResult(State.KEPT, f"administrator {_NAME!r}, {where}", "", (found.evidence,))
    password = secrets.token_urlsafe(12)
    known = read_json(accounts) or {}
    known[work.part.path or "."] = {"name": _NAME, "password": password, "page": found.page}
    # On disk before the account is made: a password that nobody knows would be worse than none.
    write_json(accounts, known, mode=0o600)
    made = f"administrator {_NAME!r} made, {where}"
    try:
        _run(work, found, password)
    except CommandFailed as error:
        if not any(found.there_already in line for line in error.lines):
            raise
        made = f"an account {_NAME!r} was there already"
        known.pop(work.part.path or ".")
        write_json(accounts, known, mode=0o600)
    work.state.keep(work.part.path, "administrator", {"database": database})
    return StepResult(
        State.DONE, made, f"signs in at {found.page}", (found.evidence,), (), {"page": found.page}
    )


def _found(work: Work) -> Administrator:
    return next(one.administrator for one in work.part.frameworks if one.administrator is not None)


def _run(work: Work, found: Administrator, password: str) -> None:
    given = {
        found.name_variable: _NAME,
        found.email_variable: "admin@localhost.invalid",
        found.password_variable: password,
    }
    with_account = replace(work, settings={**work.settings, **given})
    run_command(with_account, "administrator", found.command, new_mark(), found.evidence)
