"""Look at the clone's running dev servers."""

from __future__ import annotations

import argparse
from pathlib import Path

from plainfall.cli import arguments as values
from plainfall.cli.arguments import with_clone
from plainfall.cli.console import Console
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.probe.probing import (
    PageReport,
    ProbeWishes,
    ServerLook,
    is_broken,
    probe_servers,
)
from plainfall.server.browser import BrowserLook
from plainfall.server.endpoints import Endpoint
from plainfall.server.probe import Probe
from plainfall.server.reloading import Reloaded
from plainfall.server.setting_up import Installed
from plainfall.server.signing import SignedIn
from plainfall.settings.answers import parse_given
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

_SHOWN = 6  # errors, and failed requests, of a page
ORDER = 6  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument("--part", metavar="FOLDER", help="only this part's server")
    parser.add_argument(
        "--path", action="append", default=[], metavar="PATH", help="ask for this page instead (repeatable)"
    )
    parser.add_argument(
        "--follow",
        action="store_true",
        help="look at the pages that it links to, too (same origin, 30 at most)",
    )
    parser.add_argument("--expect-status", type=values.status, metavar="N", help="the status that must come")
    parser.add_argument("--expect-text", metavar="WORDS", help="words that must be on the page")
    parser.add_argument(
        "--sign-in", action="store_true", help="sign in with the accounts that were made, and compare pages"
    )
    parser.add_argument(
        "--register", action="store_true", help="make an ordinary account by the page's form, if it has one"
    )
    parser.add_argument(
        "--set-up",
        action="store_true",
        help="fill the program's own installer, to which its first page leads; the account is kept in .plainfall",
    )
    parser.add_argument(
        "--set",
        action="append",
        default=[],
        metavar="FIELD=VALUE",
        help="a value for a field of the installer (repeatable)",
    )
    parser.add_argument(
        "--reload",
        nargs="?",
        const="",
        metavar="FILE",
        help="set the time of a source file to now, and see whether the server takes notice",
    )
    parser.add_argument(
        "--browser",
        default="",
        metavar="PROGRAM",
        help="open the page in this browser, too; none: in none (default: a Chromium that is here)",
    )
    parser.add_argument("--picture", metavar="FILE", help="a PNG of the page, where a browser is installed")


def run(options: argparse.Namespace, console: Console) -> int:
    """Probes each recorded server; 1 if none runs or one is not well."""
    wishes = ProbeWishes(
        options.part,
        tuple(options.path),
        options.expect_status,
        options.expect_text,
        options.sign_in,
        options.register,
        options.reload,
        Path(options.picture).absolute() if options.picture else None,
        options.follow,
        options.browser,
        parse_given(options.set) if options.set_up or options.set else None,
    )
    surroundings = Surroundings.of_process()
    place = clone_of(Path(options.clone).absolute(), surroundings)
    looks = probe_servers(place, surroundings, wishes)
    well = bool(looks) and all(look.well for look in looks)
    if console.json:
        document = {"outcome": "done" if well else "failed", "servers": [look.as_json() for look in looks]}
        console.document(document)
        return 0 if well else 1
    if not looks:
        console.result("no dev server of this clone runs; start it with: plainfall serve")
    for look in looks:
        _show(console, look)
    return 0 if well else 1


def _show(console: Console, look: ServerLook) -> None:
    if not look.running:
        console.result(f"{console.styled('ended', 'bad', out=True)}  {look.part or '.'}: {look.command}")
        console.result("       its processes have ended; start it again with: plainfall serve")
        return
    for one in look.pages:
        _show_page(console, look, one)
    if look.browser is not None:
        _show_browser(console, look.browser)
    for probe in look.followed:
        _show_followed(console, probe)
    _show_endpoints(console, look.endpoints)
    if look.channel is not None:
        channel, answered = look.channel
        state = "is answered" if answered else "is not answered: an edit will not reach the page by itself"
        console.result(
            _line(console, f"reload channel of {channel.title} ({channel.path}) {state}", answered)
        )
    if look.installed is not None:
        _show_installed(console, look.installed)
    for signed in look.signed:
        _show_signed(console, signed)
    if look.reloaded is not None:
        _show_reloaded(console, look.reloaded)
    for note in look.notes:
        console.result(console.wrapped(note, 8, "      · "))


def _show_page(console: Console, look: ServerLook, one: PageReport) -> None:
    probe = one.probe
    state = (
        console.styled("bad", "bad", out=True) if probe.problem else console.styled("good", "good", out=True)
    )
    title = f'  "{probe.title}"' if probe.title else ""
    console.result(f"{state}  {probe.url}  {probe.status or 'no answer'}{title}")
    if probe.headings:
        console.result(console.wrapped(f"headings: {'; '.join(probe.headings[:5])}", 6, "      "))
    console.result(
        f"      {probe.size:,} bytes of {probe.media_type or '?'}, first byte after "
        f"{probe.first_byte * 1000:.0f} ms, all after {probe.seconds * 1000:.0f} ms, process {look.pid}"
    )
    for url, status, _ in probe.assets:
        style = "dim" if 0 < status < 400 else "bad"
        console.result(console.styled(f"      {status or 'no answer'}  {url}", style, out=True))
    for note in probe.notes:
        console.result(console.wrapped(note, 8, "      · "))
    for line in one.logged[:6]:
        console.result(console.styled(f"      logged  {line[: console.width - 14]}", "dim", out=True))
    if probe.problem:
        console.result(console.wrapped(probe.problem, 6, "      "))
        console.result(f"      log {console.shown_path(look.log)}")


def _show_browser(console: Console, seen: BrowserLook) -> None:
    state = (
        console.styled("bad", "bad", out=True) if seen.problem else console.styled("good", "good", out=True)
    )
    requests = f"{seen.requests} {'request' if seen.requests == 1 else 'requests'}"
    failed = f", {len(seen.failed)} failed" if seen.failed else ""
    title = f'  "{seen.title}"' if seen.title else ""
    console.result(
        f"      in {seen.browser}: {state}{title}, {requests}{failed}, at rest after {seen.seconds:.1f} s"
    )
    for one in seen.failed[:_SHOWN]:
        console.result(_line(console, f"{one.status or one.why or 'no answer'}  {one.url}", False))
    for text in seen.errors[:_SHOWN]:
        console.result(_line(console, f"its console: {text.splitlines()[0] if text else 'an error'}", False))
    more = max(0, len(seen.failed) - _SHOWN) + max(0, len(seen.errors) - _SHOWN)
    if more:
        console.result(_line(console, f"{more} more, in --json", False))
    if seen.problem:
        console.result(console.wrapped(seen.problem, 6, "      "))


def _show_followed(console: Console, probe: Probe) -> None:
    path = "/" + probe.url.split("/", 3)[3]
    title = f'  "{probe.title}"' if probe.title else ""
    failed = [url for url, status, _ in probe.assets if not 0 < status < 400]
    missing = (
        f"  {len(failed)} of {len(probe.assets)} assets failed: {', '.join(failed[:3])}" if failed else ""
    )
    good = not is_broken(probe)
    console.result(_line(console, f"{probe.status or 'no answer'}  {path}{title}{missing}", good))


def _line(console: Console, text: str, good: bool) -> str:
    return console.styled(console.wrapped(text, 6, "      "), "dim" if good else "bad", out=True)


def _show_endpoints(console: Console, endpoints: list[Endpoint]) -> None:
    if not endpoints:
        return
    answer = sum(not one.broken for one in endpoints)
    console.result(f"      interface: {answer} of {len(endpoints)} answer")
    for one in endpoints:
        text = f"{one.status or 'no answer'}  {one.path}  {one.media_type}, {one.size:,} bytes ({one.source})"
        console.result(_line(console, text, not one.broken))


def _show_installed(console: Console, installed: Installed) -> None:
    if installed.state == "no form":
        console.result(_line(console, f"{installed.page} is no installer's page with a form", False))
        return
    if installed.state == "lacks":
        names = " ".join(f"--set {name}=VALUE" for name in installed.lacks)
        console.result(_line(console, f"the installer at {installed.page} wants more: {names}", False))
        return
    if installed.state == "refused":
        console.result(_line(console, f"refused at {installed.page}: {installed.message}", False))
        return
    forms = "1 form" if installed.forms == 1 else f"{installed.forms} forms"
    console.result(
        f"      {console.styled('set up', 'good', out=True)} by its own installer, {forms} filled; "
        "the account is in .plainfall/accounts.json"
    )


def _show_signed(console: Console, signed: SignedIn) -> None:
    if signed.state == "no form":
        console.result(_line(console, "no form to sign in or to register was found", False))
        return
    if signed.state == "refused":
        console.result(_line(console, f"refused at {signed.form}: {signed.message}", False))
        return
    title = f' "{signed.title}"' if signed.title else ""
    what = "signed in" if signed.seen else "registered"
    console.result(
        f"      {console.styled(what, 'good', out=True)} at {signed.form}, led to {signed.landed}{title}"
    )
    for one in signed.seen:
        mark = (
            "opened by signing in"
            if one.opened
            else "the same for a guest"
            if one.guest == one.member
            else ""
        )
        console.result(
            _line(console, f"{one.guest} → {one.member}  {one.path}  {mark}".rstrip(), one.member < 400)
        )


def _show_reloaded(console: Console, reloaded: Reloaded) -> None:
    if reloaded.noticed is None:
        text = f"{reloaded.file} was touched, and the server took no notice: after an edit, start it again"
        console.result(_line(console, text, False))
        return
    again = f"; it answers again after {reloaded.answered:.2f} s" if reloaded.answered is not None else ""
    console.result(f"      {reloaded.file} was touched: noticed after {reloaded.noticed:.2f} s{again}")
    console.result(_line(console, reloaded.how, True))
