"""Commands that a Ruby part has outside of a framework: migrations of mappers, seeds, builds beside the server."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK
from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["has_task", "listed_commands", "set_up_commands", "task_names"]

_FILES = (
    "Rakefile",
    "rakefile",
    "Rakefile.rb",
    "rakefile.rb",
)  # that the task runner looks for, in its order
_LIST = "bundle exec rake --all --tasks"
_ROW = re.compile(r"^rake ([\w:.-]+)(?:\[[^\]]*\])?\s*(?:#.*)?$", re.MULTILINE)
# Tasks that packages bring, the one that is rather meant first; what else has to run before it stands with it.
_MIGRATE = ("db:migrate", "db:migrations:run", "db:migrations:migrate", "sequel:migrate", "migrate")
_SEED = ("db:seed", "db:seeds", "sequel:seed", "seed")

_TASK = re.compile(r"^[ \t]*(?:task|multitask)[ (]+:?['\"]?([a-z_]\w*)", re.MULTILINE)
_SPACE = re.compile(r"^[ \t]*namespace[ (]+:?['\"]?(\w+)", re.MULTILINE)


def has_task(tree: Tree, folder: str, space: str, name: str) -> Evidence | None:
    """Where the rake files of a part define a task, as far as their plain lines tell; None if they do not."""
    files = [within(folder, one) for one in _FILES]
    start = within(folder, "")
    files += [path for path in tree.files if path.startswith(start) and path.endswith(".rake")]
    for path in files:
        if path not in tree:
            continue
        try:
            text = tree.text(path)
        except BadInput:
            continue  # no text: it defines nothing
        spaces = [(match.start(), match.group(1)) for match in _SPACE.finditer(text)]
        for match in _TASK.finditer(text):
            inside = [one for place, one in spaces if place < match.start()]
            if match.group(1) == name and (not space or (inside and inside[-1] == space)):
                return Evidence(path, text.count("\n", 0, match.start()) + 1, match.group().strip())
    return None


# Packages whose tasks a rake file loads by one line, and what they are called.
_LOADED = (
    (
        re.compile(r"sinatra/activerecord/rake|StandaloneMigrations::Tasks\.load_tasks"),
        "db:create db:migrate",
        "db:seed",
    ),
)


def _loaded(tree: Tree, folder: str) -> Iterator[Command]:
    """The tasks of a package, which no file of the part defines."""
    for name in _FILES:
        path = within(folder, name)
        if path not in tree:
            continue
        text = tree.text(path)
        for pattern, migrates, seeds in _LOADED:
            match = pattern.search(text)
            if match is None:
                continue
            place = Evidence(path, text.count("\n", 0, match.start()) + 1, match.group())
            why = "tasks of a package that the rake file loads"
            if any(one.startswith(within(folder, "db/migrate/")) for one in tree.files):
                yield Command("migrations", f"bundle exec rake {migrates}", why, RANK, place, folder)
            if within(folder, "db/seeds.rb") in tree:
                yield Command("seeds", f"bundle exec rake {seeds}", why, RANK, place, folder)


def set_up_commands(tree: Tree, folder: str) -> Iterator[Command]:
    """The rake tasks that a part's database wants, where no framework has its own."""
    if within(folder, "bin/rails") in tree or within(folder, "config/application.rb") in tree:
        return
    yield from _loaded(tree, folder)
    yield from _asked_later(tree, folder)
    for stage, names in (("migrations", ("migrate",)), ("seeds", ("seed", "seeds"))):
        for name in names:
            place = has_task(tree, folder, "db", name)
            if place is not None:
                yield Command(
                    stage, f"bundle exec rake db:{name}", "a task of the part's own", RANK, place, folder
                )
                break


def _asked_later(tree: Tree, folder: str) -> Iterator[Command]:
    """The command that lists all tasks, for a part with a rake file and files that belong to a database: what
    packages bring is known once they are installed."""
    file = next((path for name in _FILES if (path := within(folder, name)) in tree), None)
    inner = ("db/", "migrations/", "config/database.")
    if file is not None and any(path.startswith(inner) for path in tree.below(folder)):
        why = "the rake file's tasks are known once its packages are installed"
        yield Command("task list", _LIST, why, RANK, Evidence(file, 1), folder)


def task_names(output: str) -> list[str]:
    """The names of the tasks that rake lists, in its order."""
    return list(dict.fromkeys(_ROW.findall(output)))


def listed_commands(names: Sequence[str], command: Command) -> list[Command]:
    """The commands for migrations and seeds among these tasks."""
    found = []
    why = f"`{command.line}` lists it"
    for stage, wanted in (("migrations", _MIGRATE), ("seeds", _SEED)):
        name = next((one for one in wanted if one in names), None)
        if name is not None:
            before = "db:create " if name == "db:migrate" and "db:create" in names else ""
            line = f"bundle exec rake {before}{name}"
            found.append(Command(stage, line, why, RANK, command.evidence, command.folder))
    return found
