"""Flask: the application is found as the framework's own command finds it."""

from __future__ import annotations

import re
from collections.abc import Iterator

from msgspec.structs import replace

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, FrameworkFound, MigratesFrom, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.recognise.applications import (
    Application,
    applications,
    other_applications,
    routes,
    run_by,
    set_up_by_hand,
    sources,
)
from plainfall.evidence import Evidence
from plainfall.formats.dotenv import parse_dotenv
from plainfall.patterns import regex

__all__ = ["MIGRATES_FROM", "REPEATABLE", "TRAITS", "recognise"]

ORDER = 2

REPEATABLE = regex(r"\bflask\b.*\bdb upgrade\b")
MIGRATES_FROM = MigratesFrom(
    regex(r"\bflask\b.*\bdb upgrade\b(?!.*(\s-d\b|--directory))"),
    regex(r"(^|/)migrations/env\.py$"),
    regex(r"\.py$"),
    regex(r"\bMigrate\([^)]*\bdirectory\s*=|init_app\([^)]*\bdirectory\s*="),
)

_REGISTERED = regex(r"(?:\.cli\.command|click\.command)\(\s*(?:name\s*=\s*)?['\"]([\w-]+)['\"]")
# What a command of click's has that the application runs: another one belongs to a program of the project's own.
_IN_APPLICATION = regex(r"with_appcontext|\.cli\.(?:add_)?command\b")
_DEFAULT_MODULES = ("app", "wsgi")
_DEFAULT_NAMES = ("app", "application", "create_app", "make_app")
TRAITS = Traits(("Flask",), port_variables=("FLASK_RUN_PORT",), prefixes=("FLASK_",))


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose sources make a Flask application."""
    result = applications(tree, folder, "Flask|APIFlask")
    named = _named(tree, folder)
    if not result and not named:
        return None
    place = f"{folder}/" if folder else ""
    evidence = result[0].evidence if result else Evidence(f"{place}.flaskenv", 1)
    variables = {"PYTHONPATH": result[0].root} if result and result[0].root and not named else {}
    reason = "Flask's dev server"
    runner = run_by(tree, folder, result[0]) if result and not result[0].factory else ""
    if not named and runner:
        variables["FLASK_APP"] = _spelled(replace(result[0], module=runner))
        if f"{place}__init__.py" in tree:  # the framework's command would take the folder for a package
            variables["PYTHONPATH"] = ""
        reason = f"Flask's dev server, of FLASK_APP={variables['FLASK_APP']}, which runs it"
    elif not named and not _found_by_itself(result[0], tree, place):
        # The variable, since older releases do not know the option --app.
        variables["FLASK_APP"] = _spelled(result[0])
        reason = f"Flask's dev server, of FLASK_APP={variables['FLASK_APP']}"
    commands = [*_migrations(tree, folder, names), *_registered(tree, folder)]
    file = set_up_by_hand(tree, folder, result[0]) if result and not named else ""
    if file:
        why = f"{file} makes its application ready only where it is run itself"
        commands.append(Command("server", f"python {file}", why, RANK + 1, evidence, folder))
    commands.append(
        Command("server", "flask run --port ${PORT:-5000} --reload", reason, RANK, evidence, folder)
    )
    pages = ("/", *routes(tree, folder))
    notes = other_applications(result, folder)
    return FrameworkFound("Flask", evidence, tuple(commands), {**variables, **named}, pages, notes=notes)


def _named(tree: Tree, folder: str) -> dict[str, str]:
    """FLASK_APP and the like, where the clone's own ``.flaskenv`` states them."""
    path = f"{folder}/.flaskenv" if folder else ".flaskenv"
    if path not in tree:
        return {}
    values = parse_dotenv(tree.text(path), path).values()
    return values if "FLASK_APP" in values else {}


def _found_by_itself(application: Application, tree: Tree, place: str) -> bool:
    """Whether the framework's command finds it without being told: ``app.py`` or ``wsgi.py``."""
    if application.module not in _DEFAULT_MODULES or application.attribute not in _DEFAULT_NAMES:
        return False
    return application.module == "wsgi" or f"{place}wsgi.py" not in tree


def _spelled(application: Application) -> str:
    if application.attribute in _DEFAULT_NAMES:
        return application.module
    return f"{application.module}:{application.attribute}"


def _migrations(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[Command]:
    place = f"{folder}/" if folder else ""
    script = next((path for path in tree.below(folder) if re.search(r"(^|/)migrations/env\.py$", path)), None)
    if script and "flask-migrate" in names:
        option = f" -d {script.removesuffix('/env.py')}" if script != "migrations/env.py" else ""
        yield Command(
            "migrations",
            f"flask db upgrade{option}",
            "Flask-Migrate's migrations",
            RANK,
            Evidence(place + script, 1),
            folder,
        )


def _registered(tree: Tree, folder: str) -> Iterator[Command]:
    """Commands that the application registers, such as one that creates its tables."""
    place = f"{folder}/" if folder else ""
    for path, text in sources(tree, folder):
        for match in _REGISTERED.finditer(text):
            name = match.group(1)
            if match.group(0).startswith("click") and not _IN_APPLICATION.search(text):
                continue
            evidence = Evidence(place + path, text[: match.start()].count("\n") + 1, match.group(0))
            if re.search(r"seed|populate|fixture|demo|sample", name):
                yield Command(
                    "seeds",
                    f"flask {name}",
                    f"the command {name!r} of the application",
                    RANK,
                    evidence,
                    folder,
                )
            elif re.search(r"(init|create|setup|make|upgrade).*(db|database|tables|schema)|migrate", name):
                yield Command(
                    "migrations",
                    f"flask {name}",
                    f"the command {name!r} of the application",
                    RANK - 5,
                    evidence,
                    folder,
                )
