"""What the options are. What happens stands in ``commands``; nothing heavy is imported until it does."""

from __future__ import annotations

import argparse
import importlib
from typing import Any

from plainfall import __version__

__all__ = ["build_parser"]

_STAGES = (
    "runtime",
    "environment",
    "dependencies",
    "settings",
    "services",
    "migrations",
    "seeds",
    "tasks",
    "server",
    "probe",
)
_EPILOG = """\
exit status: 0 done, 1 a step failed, 2 wrong usage, 3 a value is needed that only you have,
4 nothing here that can be onboarded, 70 a fault of its own, 130 interrupted
"""


def build_parser() -> argparse.ArgumentParser:
    """The whole command line."""
    parser = argparse.ArgumentParser(
        prog="plainfall",
        description="Takes a fresh clone to a dev server that answers, with evidence for each step.",
        epilog=_EPILOG,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )
    parser.add_argument("--version", action="version", version=f"plainfall {__version__}")
    commands = parser.add_subparsers(metavar="COMMAND", required=True)
    shared = _shared()
    _survey(commands, shared)
    _onboard(commands, shared)
    _settings(commands, shared)
    _serve(commands, shared)
    _inside(commands, shared)
    _probe(commands, shared)
    _stop(commands, shared)
    _demo(commands, shared)
    return parser


def _shared() -> argparse.ArgumentParser:
    shared = argparse.ArgumentParser(add_help=False)
    group = shared.add_argument_group("what is shown")
    group.add_argument(
        "--json", action="store_true", help="one JSON document on standard output, nothing else"
    )
    amount = group.add_mutually_exclusive_group()
    amount.add_argument("--quiet", action="store_true", help="only the result and errors")
    amount.add_argument("--verbose", action="store_true", help="everything that was found and rejected, too")
    group.add_argument("--no-input", action="store_true", help="never ask; what is open stays open")
    return shared


def _command(commands: Any, shared: argparse.ArgumentParser, name: str, text: str) -> argparse.ArgumentParser:
    parser: argparse.ArgumentParser = commands.add_parser(
        name, parents=[shared], help=text, description=text[0].upper() + text[1:] + "."
    )

    def run(options: argparse.Namespace, console: Any) -> int:
        module = importlib.import_module(f"plainfall.cli.commands.{name}")
        status: int = module.run(options, console)
        return status

    parser.set_defaults(run=run)
    return parser


def _with_clone(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "clone", nargs="?", default=".", metavar="CLONE", help="its folder (default: this one)"
    )


def _survey(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(
        commands, shared, "survey", "look at a clone and say what it needs, with evidence; changes nothing"
    )
    _with_clone(parser)
    parser.add_argument(
        "--release-index",
        metavar="WHERE",
        help="learn Node's release lines from the index.json that lies beside its builds (a file or an "
        "address), and show them; no clone is looked at",
    )


def _serve(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(
        commands, shared, "serve", "bring up the dev servers of a clone and follow them until interrupted"
    )
    _with_clone(parser)
    parser.add_argument(
        "--part", action="append", default=[], metavar="FOLDER", help="only this part's server (repeatable)"
    )
    parser.add_argument("--background", action="store_true", help="return when they answer; they stay up")
    parser.add_argument("--list", action="store_true", help="show what runs where, of every clone; no more")
    parser.add_argument(
        "--commands",
        action="store_true",
        help="show the start commands that were found, the best first; no more",
    )
    parser.add_argument(
        "--command",
        metavar="WHICH",
        help="start with this command, now and later: its number in --commands, or a command line; auto: "
        "the first one again",
    )
    parser.add_argument(
        "--debug",
        action="store_true",
        help="under the language's debugger, on a loopback port; prints how an editor attaches",
    )
    parser.add_argument("--port", type=_port, metavar="N", help="the port of the (first) server")
    _mend(parser)
    parser.add_argument(
        "--wait", type=_seconds, default=60.0, metavar="SECONDS", help="for a first answer (default: 60)"
    )


def _inside(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(
        commands,
        shared,
        "inside",
        "run a command in a part's environment, with its settings, and pass its exit status on",
    )
    _with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="the part (default: the only one, or the top's)")
    parser.add_argument("words", nargs="*", metavar="-- COMMAND", help="the command, behind two dashes")


def _onboard(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(commands, shared, "onboard", "carry out every step, up to a dev server that answers")
    _with_clone(parser)
    _wishes(parser)
    parser.add_argument("--preview", action="store_true", help="only list the steps; change nothing")
    parser.add_argument("--until", choices=_STAGES, metavar="STAGE", help=f"stop after: {', '.join(_STAGES)}")


def _wishes(parser: argparse.ArgumentParser) -> None:
    _given(parser)
    parser.add_argument("--port", type=_port, metavar="N", help="the port to try first for the dev server")
    parser.add_argument("--runtime", metavar="PATH", help="use this interpreter, whatever the clone asks for")
    parser.add_argument(
        "--extra", action="append", default=[], metavar="NAME", help="install this extra, too"
    )
    parser.add_argument(
        "--group", action="append", default=[], metavar="NAME", help="install this dependency group, too"
    )
    parser.add_argument(
        "--instead",
        action="append",
        default=[],
        metavar="NAME==VERSION",
        help="for this clone, take this version whatever is listed",
    )
    parser.add_argument(
        "--allow-install-code",
        action="append",
        default=[],
        metavar="NAME",
        help="let this package run its own code when it is installed",
    )
    parser.add_argument(
        "--allow-registry",
        action="append",
        default=[],
        metavar="HOST",
        help="let the clone's own configuration have your variables for this registry; it is remembered",
    )
    _mend(parser)
    parser.add_argument("--keep-lock", action="store_true", help="put a resolved pylock.toml into the clone")
    parser.add_argument("--seed-again", action="store_true", help="run the seeds though they were run before")
    parser.add_argument(
        "--wait", type=_seconds, default=60.0, metavar="SECONDS", help="for the server's first answer (60)"
    )


def _mend(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--mend",
        action="store_true",
        help="after a failure that is recognised, carry the remedy out where it is safe: another port, "
        "dependencies laid again, migrations, a build",
    )


def _given(parser: argparse.ArgumentParser) -> None:
    parser.add_argument(
        "--set", action="append", default=[], metavar="KEY=VALUE", help="a setting's value; may be repeated"
    )
    parser.add_argument("--answers", metavar="FILE", help="settings' values from a file in dotenv form")


def _settings(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(
        commands,
        shared,
        "settings",
        "show each configuration key: where its value is from, who reads it, what is open; changes nothing",
    )
    _with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part (. for the clone's own folder)")
    parser.add_argument("--reveal", metavar="KEY", help="print the value of this one key, secret or not")
    _given(parser)


def _probe(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(commands, shared, "probe", "look at the clone's running dev servers")
    _with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part's server")
    parser.add_argument(
        "--path", action="append", default=[], metavar="PATH", help="ask for this page instead (repeatable)"
    )
    parser.add_argument("--expect-status", type=_status, metavar="N", help="the status that must come")
    parser.add_argument("--expect-text", metavar="WORDS", help="words that must be on the page")
    parser.add_argument(
        "--sign-in", action="store_true", help="sign in with the accounts that were made, and compare pages"
    )
    parser.add_argument(
        "--register", action="store_true", help="make an ordinary account by the page's form, if it has one"
    )
    parser.add_argument(
        "--reload",
        nargs="?",
        const="",
        metavar="FILE",
        help="set the time of a source file to now, and see whether the server takes notice",
    )
    parser.add_argument("--picture", metavar="FILE", help="a PNG of the page, where a browser is installed")


def _stop(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(commands, shared, "stop", "end the clone's dev servers, and make sure of it")
    _with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part's server")
    parser.add_argument("--all", action="store_true", help="those of every clone of this user")


def _demo(commands: Any, shared: argparse.ArgumentParser) -> None:
    parser = _command(
        commands, shared, "demo", "onboard a sample clone, offline, with packages from a stand-in registry"
    )
    parser.add_argument(
        "--into", metavar="DIR", help="make the sample clone here (a new folder), and leave it"
    )
    parser.add_argument("--keep", action="store_true", help="leave the clone and its server up")
    _wishes(parser)


def _port(text: str) -> int:
    if not text.isdigit() or not 1 <= int(text) <= 65_535:
        raise argparse.ArgumentTypeError(f"{text!r} is no port: write a number from 1 to 65535")
    return int(text)


def _status(text: str) -> int:
    if not text.isdigit() or not 100 <= int(text) <= 599:
        raise argparse.ArgumentTypeError(f"{text!r} is no status: write a number from 100 to 599")
    return int(text)


def _seconds(text: str) -> float:
    try:
        seconds = float(text)
    except ValueError:
        seconds = -1.0
    if not 0 < seconds < 86_400:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of seconds")
    return seconds
