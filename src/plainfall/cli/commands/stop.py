"""End the clone's dev servers, and make sure of it."""

from __future__ import annotations

import argparse
from pathlib import Path

from plainfall.cli.arguments import with_clone
from plainfall.cli.console import Console
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.serve.servers import Stopped, stop_everywhere, stop_in
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 7  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part's server")
    parser.add_argument("--all", action="store_true", help="those of every clone of this user")


def run(options: argparse.Namespace, console: Console) -> int:
    """Ends each recorded server and prints which processes were ended."""
    surroundings = Surroundings.of_process()
    user_state = surroundings.state
    if options.all:
        return _everywhere(console, stop_everywhere(user_state))
    named = Path(options.clone).absolute()
    stopped = stop_in(named, clone_of(named, surroundings), user_state, _key(options.part))
    if console.json:
        rows = [_row(one) for one in stopped]
        console.document({"outcome": "done", "stopped": rows})
        return 0
    if not stopped:
        console.result("no dev server of this clone was running")
    for server in stopped:
        _show(console, server, f"{server.part}: " if server.part else "")
    return 0


def _key(name: str | None) -> str | None:
    return None if name is None else "" if name == "." else name.strip("/")


def _everywhere(console: Console, stopped: dict[str, list[Stopped]]) -> int:
    if console.json:
        clones = [{"clone": clone, "stopped": [_row(one) for one in rows]} for clone, rows in stopped.items()]
        console.document({"outcome": "done", "clones": clones})
        return 0
    if not stopped:
        console.result("no dev server of any clone was running")
    for clone, rows in stopped.items():
        for server in rows:
            part = f" {server.part}" if server.part else ""
            _show(console, server, f"{console.shown_path(clone)}{part}: ")
    return 0


def _row(server: Stopped) -> dict[str, object]:
    names = ("part", "port", "ended", "port_free", "command", "followed", "process")
    return {name: getattr(server, name) for name in names}


def _show(console: Console, server: Stopped, name: str) -> None:
    if server.command:
        ids = ", ".join(map(str, server.ended))
        console.result(f"{name}terminated what `{server.command}` left running in an earlier run ({ids})")
        return
    if not server.ended:
        console.result(f"{name}its processes had ended before")
        return
    count = len(server.ended)
    processes = "1 process" if count == 1 else f"{count} processes"
    port = "is free" if server.port_free else "is in use by another program"
    ids = ", ".join(map(str, server.ended))
    if server.process:
        console.result(f"{name}ended {server.process}: {processes} ({ids})")
        return
    if not server.followed and console.verbose:
        console.note(
            f"{name}this system has no control group for it: a process that left its session, its parent and its "
            "environment could not be seen"
        )
    console.result(f"{name}ended {processes} ({ids}); port {server.port} {port}")
