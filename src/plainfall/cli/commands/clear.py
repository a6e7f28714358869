"""Take away what Plainfall made, and nothing else."""

from __future__ import annotations

import argparse
import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.cli.arguments import count, with_clone
from plainfall.cli.console import Console
from plainfall.errors import UsageProblem
from plainfall.onboarding.part.edits import trees_in_use
from plainfall.onboarding.records.made_here import GO, PUT_BACK, STAY, Thing
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.clear.clearing import KEPT, Cleared, clear
from plainfall.packages.cache import PackageCache
from plainfall.packages.stock import Stocked, removable, remove, stock
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 8  # among the commands that --help lists
_INDENT = 18
_ALIKE = 6  # things left behind in one folder that are shown one by one


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    with_clone(parser)
    parser.add_argument(
        "--data", action="store_true", help="databases, uploads and the data of private servers, too"
    )
    parser.add_argument("--preview", action="store_true", help="only list it, with sizes; change nothing")
    parser.add_argument(
        "--cache", action="store_true", help="the package cache instead: what no clone of yours uses"
    )
    parser.add_argument(
        "--older-than",
        type=count,
        metavar="DAYS",
        help="with --cache: only what was not used for that many days",
    )
    parser.add_argument("--all", action="store_true", help="with --cache: all of it, whoever uses it")


def run(options: argparse.Namespace, console: Console) -> int:
    """Clears the clone, or the cache, and shows what went and what stays."""
    surroundings = Surroundings.of_process()
    if options.cache:
        return _cache(options, console, surroundings)
    for name, given in (("--older-than", options.older_than is not None), ("--all", options.all)):
        if given:
            raise UsageProblem(
                f"{name} is for the package cache", remedy=f"As in: plainfall clear --cache {name}"
            )
    place = clone_of(Path(options.clone).absolute(), surroundings)
    if not place.clone.is_dir():
        raise UsageProblem(f"{options.clone} is no folder", remedy="Name the folder of a clone.")
    with console.waiting("looking at what was made") as tell:
        done = clear(place, surroundings.state, data=options.data, preview=options.preview, tell=tell)
    if console.json:
        console.document(_document(done, preview=options.preview))
    else:
        _show(console, done, options)
    return 0


def _document(done: Cleared, *, preview: bool) -> dict[str, Any]:
    def rows(fate: str) -> list[dict[str, Any]]:
        return [
            {
                "path": one.path,
                "kind": one.kind,
                "bytes": one.size,
                "shared_bytes": one.shared,
                "why": one.why,
            }
            for one in done.things
            if one.fate == fate
        ]

    return {
        "outcome": "done",
        "clone": str(done.clone),
        "preview": preview,
        "goes": rows(GO),
        "put_back": rows(PUT_BACK),
        "stays": rows(STAY),
        "moved_aside": done.aside if not preview else [path for one in done.things for path in one.kept],
        "ended": [pid for one in done.stopped for pid in one.ended],
        "remarks": done.remarks,
    }


def _show(console: Console, done: Cleared, options: argparse.Namespace) -> None:
    if not done.things:
        console.result(f"nothing of Plainfall's is in {console.shown_path(str(done.clone))}")
        return
    quiet_list = not options.preview and not console.verbose
    goes = [one for one in done.things if one.fate == GO]
    for one in _in_short(done.things):
        if one.fate == STAY or not quiet_list or one.fate == PUT_BACK:
            _row(console, one)
    for path in done.aside if not options.preview else [path for one in goes for path in one.kept]:
        text = f"{path}: it was changed since it was installed" + (
            f", and is moved to {KEPT}/" if options.preview else ""
        )
        console.result(console.wrapped(text, _INDENT, f"  {'kept':<{_INDENT - 2}}"))
    for text in done.remarks:
        console.note(console.wrapped(text, _INDENT, f"  {'note':<{_INDENT - 2}}"))
    size = _size(sum(one.size for one in goes))
    shared = sum(one.shared for one in goes)
    of_it = f", {_size(shared)} of it shared with the package cache" if shared else ""
    many = "1 thing" if len(goes) == 1 else f"{len(_in_short(goes))} things"
    if options.preview:
        running = f"; {done.running} servers that run are ended before" if done.running else ""
        console.result(f"{many} to take away, {size}{of_it}{running}; nothing was changed")
        return
    ended = sum(len(one.ended) for one in done.stopped)
    processes = f"{ended} processes ended; " if ended else ""
    console.result(f"{processes}{many} taken away, {size}{of_it}")
    named = "" if options.clone == "." else f" {shlex.quote(options.clone)}"
    if done.whole:
        console.result("nothing of Plainfall's is left in the clone")
    else:
        console.note(f"the databases go with: plainfall clear{named} --data")


def _in_short(things: Sequence[Thing]) -> list[Thing]:
    """The things, with many that were left behind in one folder as one."""
    folders: dict[str, list[Thing]] = {}
    for one in things:
        if one.kind == "left behind":
            above = one.path.rstrip("/").rpartition("/")[0]
            folders.setdefault("/".join(above.split("/")[:2]), []).append(one)
    many = {folder: rows for folder, rows in folders.items() if len(rows) > _ALIKE and folder}
    joined = {id(one): folder for folder, rows in many.items() for one in rows}
    shown: list[Thing] = []
    for one in things:
        folder = joined.get(id(one))
        if folder is None:
            shown.append(one)
        elif folder in many:
            rows = many.pop(folder)
            sizes = sum(each.size for each in rows), sum(each.shared for each in rows)
            shown.append(Thing(f"{folder}/…", one.kind, GO, f"{len(rows):,} files and folders in it", *sizes))
    return shown


def _row(console: Console, one: Thing) -> None:
    styles = {GO: "good", PUT_BACK: "warn", STAY: "kept"}
    head = f"  {console.styled(f'{one.fate:<9}', styles[one.fate], out=True)} {one.kind:<13} "
    size = f"{_size(one.size):>8}  "
    why = f"  ({one.why})" if one.why else ""
    console.result(console.wrapped(f"{one.path}{why}", 36, f"{head}{size}"))


def _size(size: int) -> str:
    if size < 1_000:
        return f"{size} B"
    if size < 1_000_000:
        return f"{size / 1_000:.0f} kB"
    return f"{size / 1_000_000:.1f} MB"


def _cache(options: argparse.Namespace, console: Console, surroundings: Surroundings) -> int:
    """Shows the package cache by kind, and takes away what may go."""
    if options.data or options.clone != ".":
        raise UsageProblem(
            "--cache is about the package cache, which belongs to no clone",
            remedy="Leave the folder and --data out: plainfall clear --cache",
        )
    cache = PackageCache(surroundings.cache)
    with console.waiting("looking through the package cache") as tell:
        found = stock(cache, trees_in_use(surroundings))
        going = removable(found, older_than=options.older_than or 0, everything=options.all)
        failed = [] if options.preview else remove(going, tell)
    if console.json:
        rows = [_of_kind(kind, found, going) for kind in dict.fromkeys(one.kind for one in found)]
        size = sum(one.size for one in going)
        document = {"outcome": "failed" if failed else "done", "cache": str(cache.folder)}
        console.document(
            {**document, "preview": options.preview, "kinds": rows, "bytes": size, "failed": failed}
        )
        return 1 if failed else 0
    console.note(f"the package cache in {console.shown_path(str(cache.folder))}")
    for kind in dict.fromkeys(one.kind for one in found):
        row = _of_kind(kind, found, going)
        used = f", {row['used']} in use" if row["used"] else ""
        ages = f"last used {_ages([one.days for one in found if one.kind == kind])}"
        goes = f"; {row['goes']} go, {_size(row['bytes_gone'])}" if row["goes"] else ""
        fresh = sum(one.kind == kind and one.is_fresh and one not in going for one in found)
        stays = f"; {fresh} used a moment ago stay" if fresh else ""
        text = f"{row['count']:,}{used}; {ages}{goes}{stays}"
        console.result(console.wrapped(text, 30, f"  {kind:<17} {_size(row['bytes']):>8}   "))
    for text in failed:
        console.error(f"not taken away: {text}")
    total = _size(sum(one.size for one in going))
    ending = f"{total} to take away; nothing was changed" if options.preview else f"{total} taken away"
    console.result(ending if found else "the package cache is empty")
    return 1 if failed else 0


def _of_kind(kind: str, found: Sequence[Stocked], going: Sequence[Stocked]) -> dict[str, Any]:
    own = [one for one in found if one.kind == kind]
    gone = [one for one in going if one.kind == kind]
    return {
        "kind": kind, "count": len(own), "bytes": sum(one.size for one in own),
        "used": sum(one.used for one in own), "newest_days": round(min(one.days for one in own), 1),
        "oldest_days": round(max(one.days for one in own), 1), "goes": len(gone),
        "bytes_gone": sum(one.size for one in gone),
    }  # fmt: skip


def _ages(days: Sequence[float]) -> str:
    newest, oldest = (int(max(one, 0)) for one in (min(days), max(days)))
    if oldest == 0:
        return "today"
    return f"{oldest} days ago" if newest == oldest else f"{newest} to {oldest} days ago"
