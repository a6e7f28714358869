"""Laravel: ``artisan`` runs everything."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import (
    ADMIN_ADDRESS,
    RANK,
    Administrator,
    Form,
    FrameworkFound,
    SecretForm,
    Traits,
    named_in_manifest,
)
from plainfall.clone.second_processes import SecondProcess
from plainfall.clone.walk import Tree
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["REPEATABLE", "TRAITS", "recognise"]

ORDER = 1

REPEATABLE = regex(r"\bartisan migrate\b(?!:)(?!.*--(seed|fresh|refresh))")
TRAITS = Traits(
    ("Laravel",),
    prefixes=("LARAVEL_",),
    secrets=(SecretForm(("APP_KEY",), Form("base64", 32, "base64:", "Laravel")),),
    values={"APP_ENV": "local"},
    left_behind=("/public/storage", "/bootstrap/cache/*.php", "/storage/logs/*.log"),
)
_NAME, _ADDRESS, _PASSWORD = "FIRST_ADMIN_NAME", "FIRST_ADMIN_ADDRESS", "FIRST_ADMIN_PASSWORD"
# The commands of known packages that make an administrator, and where that one signs in.
_ADMINISTRATORS = {
    "filament/filament": (
        f'make:filament-user --name=admin --email="${_ADDRESS}" --password="${_PASSWORD}"',
        "/admin/login",
    ),
    "orchid/platform": (f'orchid:admin admin "${_ADDRESS}" "${_PASSWORD}"', "/admin/login"),
}
_SQLITE = regex(r"(?m)^DB_CONNECTION\s*=\s*[\"']?sqlite")
_BY_DEFAULT = regex(r"['\"]default['\"]\s*=>\s*env\(\s*['\"]DB_CONNECTION['\"]\s*,\s*['\"]sqlite")


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with ``artisan`` whose manifest lists the framework; one without it has settings all the same."""
    place = named_in_manifest(tree, folder, "composer.json", "laravel/framework")
    place = place or named_in_manifest(tree, folder, "composer.json", "laravel/lumen-framework")
    if place is None:
        return None
    path = f"{folder}/artisan" if folder else "artisan"
    if path not in tree:
        return FrameworkFound("Laravel", place, serves=False)
    commands = tuple(_commands(tree, folder, Evidence(path, 1)))
    processes = tuple(_processes(tree, folder))
    administrator = next(
        (
            _administrator(line, page, place)
            for name, (line, page) in _ADMINISTRATORS.items()
            if name in names
        ),
        None,
    )
    return FrameworkFound(
        "Laravel", place, commands, pages=("/",), administrator=administrator, processes=processes,
        routes="php artisan route:list --json",
    )  # fmt: skip


def _administrator(line: str, page: str, place: Evidence) -> Administrator:
    return Administrator(
        f"php artisan {line} --no-interaction",
        _NAME,
        _ADDRESS,
        _PASSWORD,
        "already been taken",
        page,
        place,
        ADMIN_ADDRESS,
    )


def _commands(tree: Tree, folder: str, place: Evidence) -> Iterator[Command]:
    start = f"{folder}/" if folder else ""
    database = [path for path in tree.below(folder) if path.startswith("database/")]
    if any(path.startswith("database/migrations/") and path.endswith(".php") for path in database):
        line = "php artisan migrate --force --no-interaction"
        if _on_sqlite(tree, start):
            line = f"touch database/database.sqlite && {line}"
        yield Command("migrations", line, "Laravel's migrations", RANK, place, folder)
    if any(
        path in ("database/seeders/DatabaseSeeder.php", "database/seeds/DatabaseSeeder.php")
        for path in database
    ):
        line = "php artisan db:seed --force --no-interaction"
        yield Command("seeds", line, "Laravel's seeder", RANK, place, folder)
    if any(path.startswith("storage/app/public/") for path in _all_below(tree, start)):
        why = "makes public files reachable"
        yield Command("tasks", "php artisan storage:link", why, RANK, place, folder, may_fail=True)
    line = "php artisan serve --host=127.0.0.1 --port=${PORT:-8000}"
    yield Command("server", line, "Laravel's dev server", RANK, place, folder)


def _processes(tree: Tree, folder: str) -> Iterator[SecondProcess]:
    """The worker of its queue, where the part has jobs, and its scheduler, where something is scheduled."""
    start = f"{folder}/" if folder else ""
    jobs = next((path for path in tree.files if path.startswith(f"{start}app/Jobs/")), None)
    if jobs is not None:
        yield SecondProcess("queue", "php artisan queue:work --tries=1", Evidence(jobs, 1))
    for name in ("routes/console.php", "app/Console/Kernel.php", "bootstrap/app.php"):
        line = tree.line_of(start + name, "$schedule->") if start + name in tree else Evidence(start + name)
        line = line if line.line or start + name not in tree else tree.line_of(start + name, "Schedule::")
        if line.line:
            yield SecondProcess("scheduler", "php artisan schedule:work", line)
            return


def _all_below(tree: Tree, start: str) -> Iterator[str]:
    return (path.removeprefix(start) for path in tree.files if path.startswith(start))


def _on_sqlite(tree: Tree, start: str) -> bool:
    """Whether the settings, or the configuration where they say nothing, name a file that nobody makes."""
    for name in (".env", ".env.example", ".env.local", ".env.dist"):
        if start + name in tree and "DB_CONNECTION" in tree.text(start + name):
            return _SQLITE.search(tree.text(start + name)) is not None
    path = f"{start}config/database.php"
    return path in tree and _BY_DEFAULT.search(tree.text(path)) is not None
