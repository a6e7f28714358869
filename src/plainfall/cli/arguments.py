"""Arguments that several commands have, and the types of their values."""

from __future__ import annotations

import argparse
import re
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING

from plainfall.onboarding.stages.stage import Stage

if TYPE_CHECKING:
    from plainfall.cli.console import Console
    from plainfall.surroundings import Surroundings

__all__ = [
    "STAGES",
    "brought",
    "count",
    "day",
    "port",
    "seconds",
    "status",
    "with_clone",
    "with_given",
    "with_mending",
    "with_parts",
    "with_source",
    "with_wishes",
]

SKIPPED = ("settings", "migrations", "seeds", "tasks", "probe")  # stages that can be left out
STAGES = tuple(stage.value for stage in Stage)


def with_clone(parser: argparse.ArgumentParser) -> None:
    """The folder of the clone."""
    parser.add_argument(
        "clone", nargs="?", default=".", metavar="CLONE", help="its folder (default: this one)"
    )


def with_source(parser: argparse.ArgumentParser) -> None:
    """The clone, or what becomes one."""
    parser.add_argument(
        "clone",
        nargs="?",
        default=".",
        metavar="SOURCE",
        help="a folder, a git address, a bundle file, or an archive (zip, tar; a file or an address); default: "
        "this folder",
    )
    parser.add_argument(
        "--into", default="", metavar="FOLDER", help="the new folder for an address or an archive"
    )
    parser.add_argument(
        "--branch", default="", metavar="NAME", help="a branch, tag or commit of the repository"
    )


def brought(options: argparse.Namespace, console: Console, surroundings: Surroundings) -> Path:
    """The folder that the command works on: the one that was named, or one that is made of what was named; what is
    to be said of that is noted. Raises what bringing it raises."""
    from plainfall.intake.sources import source_of

    source = source_of(options.clone, surroundings.folder)
    if source.kind == "folder" and not options.into and not options.branch:
        return Path(source.address)  # as most often: what fetches is not needed
    from plainfall.intake.bringing import bring
    from plainfall.packages.logins import without_credentials
    from plainfall.survey.branches import branch_remarks

    with console.waiting(f"fetching {without_credentials(options.clone)}") as tell:
        result = bring(options.clone, options.into, options.branch, surroundings, tell)
    if result.is_new:
        console.note(console.wrapped(f"{without_credentials(options.clone)} is in {result.folder} now", 0))
    pointed = (
        branch_remarks(result.folder, surroundings.variables) if result.is_new and not options.branch else []
    )
    for remark in (*result.remarks, *(f"{text} ({place})" for text, place in pointed)):
        console.note(console.wrapped(remark, 2, "· "))
    return result.folder


def with_parts(parser: argparse.ArgumentParser) -> None:
    """The parts that are meant."""
    parser.add_argument(
        "--part",
        action="append",
        default=[],
        metavar="FOLDER",
        help="only this part, or this example in the clone (repeatable)",
    )


def with_wishes(parser: argparse.ArgumentParser) -> None:
    """Adds the options that change how a run goes on."""
    with_given(parser)
    parser.add_argument("--port", type=port, metavar="N", help="the port to try first for the dev server")
    parser.add_argument("--runtime", metavar="PATH", help="use this interpreter, whatever the clone asks for")
    parser.add_argument(
        "--extra",
        action="append",
        default=[],
        metavar="NAME",
        help="install this extra, too, now and later (none: forget the earlier ones)",
    )
    parser.add_argument(
        "--group",
        action="append",
        default=[],
        metavar="NAME",
        help="install this dependency group, too, now and later (none: forget the earlier ones)",
    )
    parser.add_argument(
        "--instead",
        action="append",
        default=[],
        metavar="NAME==VERSION",
        help="for this clone, take this version whatever is listed",
    )
    parser.add_argument(
        "--environment",
        type=folder_name,
        default=None,
        metavar="FOLDER",
        help="have the environment in this folder of the part (none: the usual one again); it is remembered",
    )
    parser.add_argument(
        "--as-of",
        type=day,
        default=None,
        metavar="DATE",
        help="choose versions (of the runtime, too) as they were on that day, YYYY-MM-DD; it is remembered",
    )
    parser.add_argument(
        "--fetch-services",
        action="store_true",
        help="where a server's program (PostgreSQL, Redis) is not on this machine, fetch it from your registries",
    )
    parser.add_argument(
        "--from-imports",
        action="store_true",
        help="install packages that the sources import and no list names, too; it is remembered",
    )
    parser.add_argument(
        "--skip",
        action="append",
        default=[],
        choices=[*SKIPPED, "none"],
        metavar="STAGE",
        help=f"leave a stage out ({', '.join(SKIPPED)}); it is remembered, and none forgets it",
    )
    parser.add_argument(
        "--with-pip",
        action="store_true",
        help="put the interpreter's own pip into the environment of Python parts; it is remembered",
    )
    parser.add_argument(
        "--allow-install-code",
        action="append",
        default=[],
        metavar="NAME",
        help="let this package run its own code when it is installed; with Gemfile, package.json or composer.json: "
        "what that file of the clone runs while packages are installed",
    )
    parser.add_argument(
        "--allow-registry",
        action="append",
        default=[],
        metavar="HOST",
        help="let the clone's own configuration have your variables for this registry; it is remembered",
    )
    with_mending(parser)
    parser.add_argument("--keep-lock", action="store_true", help="put a resolved pylock.toml into the clone")
    parser.add_argument("--seed-again", action="store_true", help="run the seeds though they were run before")
    parser.add_argument(
        "--wait", type=seconds, default=60.0, metavar="SECONDS", help="for the server's first answer (60)"
    )


def _attempts(text: str) -> int:
    if not (text.isascii() and text.isdigit() and int(text) <= 1000):
        raise argparse.ArgumentTypeError(f"{text!r} is no number from 0 to 1000")
    return int(text)


def with_mending(parser: argparse.ArgumentParser) -> None:
    """Adds the options for what is done after a failure."""
    parser.add_argument(
        "--attempts",
        type=_attempts,
        default=12,
        metavar="N",
        help="after failures, try at most so many other ways for each part (12)",
    )
    parser.add_argument(
        "--no-attempts",
        dest="attempts",
        action="store_const",
        const=0,
        help="after a failure, try nothing else",
    )
    parser.add_argument(
        "--mend",
        action="store_true",
        help="after a failure that is recognised, carry the remedy out where it is safe: another port, "
        "dependencies installed again, migrations",
    )


def with_given(parser: argparse.ArgumentParser) -> None:
    """Adds the options that give values of settings."""
    parser.add_argument(
        "--set", action="append", default=[], metavar="KEY=VALUE", help="a setting's value; may be repeated"
    )
    parser.add_argument("--answers", metavar="FILE", help="settings' values from a file in dotenv form")


def port(text: str) -> int:
    """A port number. Raises ArgumentTypeError."""
    if not text.isdigit() or not 1 <= int(text) <= 65_535:
        raise argparse.ArgumentTypeError(f"{text!r} is no port: write a number from 1 to 65535")
    return int(text)


def day(text: str) -> str:
    """A day as YYYY-MM-DD, or "none". Raises ArgumentTypeError."""
    try:
        return text if text == "none" else date.fromisoformat(text).isoformat()
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is no day: write it as 2020-05-31") from error


def folder_name(text: str) -> str:
    """The name of a folder in a part, or "none". Raises ArgumentTypeError."""
    name = text.rstrip("/")
    if not re.fullmatch(r"\.?\w[\w.-]{0,60}", name) or name in (".git", ".plainfall"):
        raise argparse.ArgumentTypeError(
            f"{text!r} is no name of a folder in the part: write one such as env"
        )
    return name


def status(text: str) -> int:
    """An HTTP status. Raises ArgumentTypeError."""
    if not text.isdigit() or not 100 <= int(text) <= 599:
        raise argparse.ArgumentTypeError(f"{text!r} is no status: write a number from 100 to 599")
    return int(text)


def count(text: str) -> int:
    """A number of things, 1 or more. Raises ArgumentTypeError."""
    if not text.isdigit() or not 1 <= int(text) <= 1_000_000_000:
        raise argparse.ArgumentTypeError(f"{text!r} is no number: write one from 1 on")
    return int(text)


def seconds(text: str) -> float:
    """A number of seconds, less than a day. Raises ArgumentTypeError."""
    try:
        result = float(text)
    except ValueError:
        result = -1.0
    if not 0 < result < 86_400:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of seconds")
    return result
