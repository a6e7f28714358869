"""Look into the databases of a clone: tables, rows, migrations, what changed."""

from __future__ import annotations

import argparse
import csv
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from plainfall.cli import arguments as values
from plainfall.cli.console import Console
from plainfall.data.letters import Letter
from plainfall.data.opened import DatabasePlace
from plainfall.data.tables import Column, Rows, Table, answer_of, rows_of, shown
from plainfall.errors import UsageProblem
from plainfall.formats.values import is_secret
from plainfall.onboarding.run.clone_root import clone_of
from plainfall.onboarding.uses.data.looking import DatabaseLook, LookAtClone, table_named
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 7  # among the commands that --help lists
_ROWS = 20  # that are shown where nobody says how many
_LINES = 6  # of a letter that are shown
_HEAD = Table("TABLE", (), 0)
_WIDEST = 40  # characters of a value in a listing


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    parser.add_argument(
        "names",
        nargs="*",
        metavar="[CLONE] [TABLE]",
        help="the clone (default: this folder), and a table of it",
    )
    parser.add_argument("--part", metavar="FOLDER", help="only this part's databases")
    parser.add_argument("--database", metavar="NAME", help="the one that is meant, where there are several")
    parser.add_argument(
        "--limit", type=values.count, metavar="N", help=f"how many rows (default: {_ROWS}; all for --csv)"
    )
    parser.add_argument("--where", default="", metavar="CONDITION", help="only rows for which this SQL holds")
    parser.add_argument(
        "--query", metavar="SQL", help="what this query answers, in a transaction that only reads"
    )
    parser.add_argument(
        "--changes", action="store_true", help="what has changed since the last look: rows more and fewer"
    )
    parser.add_argument(
        "--mail", action="store_true", help="what the clone sent to its mail stand-in, newest first"
    )
    parser.add_argument(
        "--reveal", action="store_true", help="show columns and keys whose names tell of secrets, too"
    )
    parser.add_argument("--csv", metavar="FILE", help="write the rows there, as comma-separated values")


def run(options: argparse.Namespace, console: Console) -> int:
    """Shows what was asked for; 1 if a database could not be looked into."""
    clone, table = _meant(options.names)
    if options.where and not table:
        raise UsageProblem(
            "--where is about a table's rows", remedy="Name the table: plainfall data TABLE --where …"
        )
    if options.query and (table or options.where):
        raise UsageProblem("--query says all by itself", remedy="Leave the table and --where out.")
    if options.csv and not (table or options.query):
        raise UsageProblem("--csv is for rows", remedy="Name a table, or give a --query.")
    surroundings = Surroundings.of_process()
    place = clone_of(Path(clone).absolute(), surroundings)
    look = LookAtClone(place, options.part, surroundings)
    if options.mail:
        return _letters(console, look.letters(_limit(options)))
    meant = look.chosen(options.database)
    if options.query:
        asked = [one.place for one in meant if one.place.kind != "redis"]
        if len(asked) != 1:
            names = ", ".join(one.label for one in asked) or "none that answers queries"
            raise UsageProblem(
                "which database the query is for is not clear", remedy=f"--database, of: {names}"
            )
        rows = answer_of(asked[0], options.query, _limit(options))
        return _rows(console, options, asked[0], rows, "the query")
    looks = [look.look(one, reveal=options.reveal) for one in meant]
    if table:
        of, found = table_named(looks, table)
        covered = [] if options.reveal else [one.name for one in found.columns if is_secret(one.name)]
        rows = rows_of(of.place, found, _limit(options), options.where, covered=covered)
        return _rows(console, options, of.place, rows, found.name, found, covered)
    if options.changes:
        look.compare(looks)
    if console.json:
        well = all(one.problem is None for one in looks)
        console.document(
            {"outcome": "done" if well else "failed", "databases": [one.as_json() for one in looks]}
        )
        return 0 if well else 1
    for number, one in enumerate(looks):
        if number:
            console.result()
        _show(console, one, options.changes)
    return 0 if all(one.problem is None for one in looks) else 1


def _meant(names: Sequence[str]) -> tuple[str, str]:
    """The clone's folder and the table of the words: one that is a folder is the clone."""
    if len(names) > 2:
        raise UsageProblem("there are too many words", remedy="As in: plainfall data CLONE TABLE")
    if len(names) == 2:
        return names[0], names[1]
    if names and (Path(names[0]).is_dir() or "/" in names[0]):
        return names[0], ""
    return ".", names[0] if names else ""


def _limit(options: argparse.Namespace) -> int | None:
    return options.limit if options.limit is not None else None if options.csv else _ROWS


def _show(console: Console, look: DatabaseLook, changes: bool) -> None:
    place = look.place
    where = f"port {place.port}, " if place.port else ""
    title = "SQLite" if place.kind == "sqlite" else ""
    head = " ".join(filter(None, (title, place.label)))
    console.result(f"{console.styled(head, 'strong', out=True)}  ({where}{place.named})")
    if look.problem is not None:
        console.show_error(look.problem)
        return
    for applied in look.applied:
        pending = (
            f", {console.styled(f'{len(applied.pending)} pending', 'bad', out=True)}"
            if applied.pending
            else ""
        )
        console.result(f"  migrations  {applied.framework}: {applied.applied} applied{pending}")
        for name in applied.pending[:10]:
            console.result(f"              pending: {name}")
        for name in applied.unknown[:5]:
            console.result(f"              applied, and no file of the clone: {name}")
    if place.kind == "redis":
        _show_keys(console, look)
        return
    if changes:
        _show_changes(console, look)
        return
    if not look.tables:
        console.result("  no tables")
        return
    width = max(len(one.name) for one in (*look.tables, _HEAD))
    console.result(console.styled(f"  {_HEAD.name:<{width}}  {'ROWS':>8}  COLUMNS", "dim", out=True))
    for table in look.tables:
        rows = f"{'about ' if table.estimated else ''}{table.rows:,}"
        words = ", ".join(_column(one) for one in table.columns)
        first = f"  {table.name:<{width}}  {rows:>8}  "
        console.result(console.wrapped(words, len(first), first))
    if any(one.estimated for one in look.tables):
        console.result("  (about: the database's own estimate)")


def _letters(console: Console, letters: Sequence[Letter] | None) -> int:
    if letters is None:
        raise UsageProblem(
            "this clone has no mail stand-in",
            remedy="It gets one where its settings name a mail server here (SMTP_HOST=localhost and SMTP_PORT).",
        )
    if console.json:
        console.document({"outcome": "done", "letters": [one.as_json() for one in letters]})
        return 0
    if not letters:
        console.result("no letters yet")
    for number, one in enumerate(letters):
        if number:
            console.result()
        when = one.when.astimezone().strftime("%Y-%m-%d %H:%M:%S")
        console.result(f"{when}  {console.styled(one.subject or '(no subject)', 'strong', out=True)}")
        console.result(f"  from {one.sender} to {one.readers}")
        for line in [line for line in one.text.splitlines() if line.strip()][:_LINES]:
            console.result(console.styled(console.wrapped(line.strip(), 2, "  "), "dim", out=True))
        for link in one.links:
            console.result(f"  link  {link}")
    return 0


def _column(one: Column) -> str:
    marks = " key" if one.key else " or null" if one.nullable else ""
    return f"{one.name} {one.type}{marks}" + (f" → {one.refers}" if one.refers else "")


def _show_keys(console: Console, look: DatabaseLook) -> None:
    if not look.keys:
        console.result("  no keys")
    for keys in look.keys:
        count = "1 key" if keys.count == 1 else f"{keys.count:,} keys"
        console.result(f"  {keys.type}  {count}")
        for key, value in keys.samples:
            text = value[: max(_WIDEST, console.width - len(key) - 10)]
            console.result(console.styled(f"    {key}  {text}", "dim", out=True))
    if look.more_keys:
        console.result("  more keys than were looked at (10,000)")


def _show_changes(console: Console, look: DatabaseLook) -> None:
    if look.changes is None:
        console.result("  this is the first look; the next one tells what has changed since")
        return
    if not look.changes:
        console.result(f"  the same rows in every table as at {look.since}")
        return
    console.result(f"  since {look.since}:")
    width = max(len(one.table) for one in look.changes)
    for one in look.changes:
        if one.before is None or one.now is None:
            text = "taken away" if one.now is None else f"new, {one.now:,} rows"
        else:
            text = f"{one.now - one.before:+,} rows, now {one.now:,}"
        console.result(f"  {one.table:<{width}}  {text}")


def _rows(
    console: Console,
    options: argparse.Namespace,
    place: DatabasePlace,
    rows: Rows,
    title: str,
    table: Table | None = None,
    covered: Sequence[str] = (),
) -> int:
    texts = [["" if value is None and options.csv else shown(value) for value in row] for row in rows.rows]
    if options.csv:
        file = Path(options.csv)
        with file.open("w", newline="", encoding="utf-8") as opened:
            writer = csv.writer(opened)
            writer.writerow(rows.columns)
            writer.writerows(texts)
        console.result(f"{console.shown_path(file.absolute())}: {len(texts):,} rows of {title}")
        return 0
    if console.json:
        console.document(
            {
                "outcome": "done",
                "database": place.label,
                "table": table.as_json() if table else None,
                "columns": list(rows.columns),
                "rows": [[_plain(value) for value in row] for row in rows.rows],
                "more": rows.more,
                "covered": list(covered),
            }
        )
        return 0
    if table is not None:
        about = "about " if table.estimated else ""
        console.result(
            f"{console.styled(table.name, 'strong', out=True)}  {about}{table.rows:,} "
            f"{'row' if table.rows == 1 else 'rows'} in {place.label}"
        )
        width = max((len(one.name) for one in table.columns), default=0)
        kinds = max((len(one.type) for one in table.columns), default=0)
        for one in table.columns:
            more = "  key" if one.key else "" if one.nullable else "  required"
            refers = f"  → {one.refers}" if one.refers else ""
            console.result(
                console.styled(
                    f"  {one.name:<{width}}  {one.type:<{kinds}}{more}{refers}".rstrip(), "dim", out=True
                )
            )
        console.result()
    _show_rows(console, rows.columns, texts)
    notes = [rows.order] if rows.order and len(texts) > 1 else []
    notes += ["there are more: --limit N"] if rows.more else []
    notes += [f"covered: {', '.join(covered)} (--reveal shows them)"] if covered and texts else []
    if notes:
        console.result(console.styled(f"({'; '.join(notes)})", "dim", out=True))
    return 0


def _plain(value: Any) -> Any:
    return value if isinstance(value, int | float | bool | str | None) else shown(value)


def _show_rows(console: Console, columns: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Rows as a table where it fits, else each row by itself."""
    if not rows:
        console.result("no rows")
        return
    cut = [
        [one.replace("\n", " ")[:_WIDEST] + ("…" if len(one) > _WIDEST else "") for one in row]
        for row in rows
    ]
    widths = [max(len(name), *(len(row[n]) for row in cut)) for n, name in enumerate(columns)]
    if sum(widths) + 2 * len(widths) <= console.width:
        console.result(
            console.styled(
                "  ".join(f"{name:<{widths[n]}}" for n, name in enumerate(columns)).rstrip(),
                "strong",
                out=True,
            )
        )
        for row in cut:
            console.result("  ".join(f"{one:<{widths[n]}}" for n, one in enumerate(row)).rstrip())
        return
    longest = max(len(name) for name in columns)
    for number, whole in enumerate(rows):
        if number:
            console.result()
        for name, one in zip(columns, whole, strict=True):
            console.result(console.wrapped(one.replace("\n", " "), longest + 2, f"{name:<{longest}}  "))
