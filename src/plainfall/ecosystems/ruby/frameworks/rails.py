"""Ruby on Rails: ``bin/rails`` runs everything."""

from __future__ import annotations

from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, Form, FrameworkFound, SecretForm, Traits, named_in_manifest
from plainfall.clone.second_processes import SecondProcess
from plainfall.clone.walk import Tree
from plainfall.ecosystems.ruby.lists.gemfile import manifest_of
from plainfall.ecosystems.ruby.recognise.first_accounts import administrator, seeded_account
from plainfall.ecosystems.shared.version_files import within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["MADE_BY_MIGRATIONS", "REPEATABLE", "TRAITS", "recognise"]

ORDER = 1

REPEATABLE = regex(
    r"\b(rails|rake) (db:(create|migrate)( db:migrate)?)(?!:)(?!.*(seed|reset|setup|drop|schema))"
)
MADE_BY_MIGRATIONS = regex(r"^db/(\w+_)?(schema\.rb|structure\.sql)$")
TRAITS = Traits(
    ("Rails",),
    prefixes=("RAILS_",),
    secrets=(
        SecretForm(("SECRET_KEY_BASE",), Form("hex", 128, "", "Rails"), True),
        SecretForm(("RAILS_MASTER_KEY",), Form("hex", 32, "", "Rails"), True),
    ),
    left_behind=("/log/*.log", "/tmp/", "/public/packs-test", "/app/assets/builds/*"),
    uploads=("/storage/",),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part whose manifest lists it, with its own files; one without them only has settings."""
    place = _listed(tree, folder)
    if place is None:
        return None
    start = "bin/rails" if within(folder, "bin/rails") in tree else ""
    if not start and within(folder, "config/application.rb") not in tree:
        return FrameworkFound("Rails", place, serves=False)
    run = start or "bundle exec rails"
    evidence = Evidence(within(folder, start or "config/application.rb"), 1)
    commands = tuple(_commands(tree, folder, names, evidence, run))
    variables = {"RAILS_ENV": "development"}
    processes = tuple(_processes(tree, folder, names))
    notes = tuple(_without_key(tree, folder))
    return FrameworkFound(
        "Rails", place, commands, variables, ("/",), administrator(names, run, place), processes=processes,
        routes=f"{run} routes", notes=notes, seeded=seeded_account(tree, folder, names),
    )  # fmt: skip


def _without_key(tree: Tree, folder: str) -> Iterator[tuple[str, Evidence]]:
    """That the key of encrypted credentials is not here, and which files read them."""
    path = within(folder, "config/credentials.yml.enc")
    if path not in tree or (tree.root / within(folder, "config/master.key")).is_file():
        return
    start = within(folder, "")
    readers = []
    for one in tree.files:
        if one.startswith(start) and one.endswith((".rb", ".yml", ".erb", ".rake")):
            try:
                if "credentials." in tree.text(one) and "Rails.application" in tree.text(one):
                    readers.append(one)
            except BadInput:
                continue  # no text: it reads nothing
    what = f"; {', '.join(readers[:4])} read them" if readers else "; nothing was found that reads them"
    more = f" (and {len(readers) - 4} more files)" if len(readers) > 4 else ""
    how = "ask a teammate for config/master.key, or set RAILS_MASTER_KEY"
    yield f"the key of the encrypted credentials is not here{what}{more}: {how}", Evidence(path, 1)


def _listed(tree: Tree, folder: str) -> Evidence | None:
    place = named_in_manifest(tree, folder, "Gemfile", "rails")
    if place is not None:
        return place
    try:
        manifest = manifest_of(tree, folder)
    except BadInput:
        return None  # reported by the step that installs from it
    return (
        next((one.place for one in manifest.wishes if one.name in ("rails", "railties")), None)
        if manifest
        else None
    )


def _commands(tree: Tree, folder: str, names: frozenset[str], place: Evidence, run: str) -> Iterator[Command]:
    below = [*tree.below(folder)]
    has_records = within(folder, "config/database.yml") in tree or any(
        path.startswith("config/database.") for path in below
    )
    if has_records and any(path.startswith("db/") for path in below):
        migrates = any(path.startswith("db/migrate/") for path in below)
        line = f"{run} db:create db:migrate" if migrates else f"{run} db:create db:schema:load"
        if migrates or "db/schema.rb" in below:
            yield Command("migrations", line, "Rails' migrations", RANK, place, folder)
    seeds = within(folder, "db/seeds.rb")
    if seeds in tree and _has_code(tree, seeds):
        yield Command("seeds", f"{run} db:seed", "Rails' seeds", RANK, Evidence(seeds, 1), folder)
    for name, line in (("tailwindcss-rails", "tailwindcss:build"), ("jsbundling-rails", "javascript:build"),
                       ("cssbundling-rails", "css:build")):  # fmt: skip
        if name in names:
            why = f"builds what pages load ({name})"
            yield Command("tasks", f"{run} {line}", why, RANK, place, folder, may_fail=True)
    line = f"{run} server -b 127.0.0.1 -p ${{PORT:-3000}} -P tmp/pids/plainfall-${{PORT:-3000}}.pid"
    yield Command("server", line, "Rails' server", RANK, place, folder)


def _has_code(tree: Tree, path: str) -> bool:
    try:
        lines = tree.text(path).splitlines()
    except BadInput:
        return False
    return any(line.strip() and not line.strip().startswith("#") for line in lines)


def _processes(tree: Tree, folder: str, names: frozenset[str]) -> Iterator[SecondProcess]:
    """The workers of its queue, where one is configured."""
    for name, line in (("sidekiq", "bundle exec sidekiq"), ("good_job", "bundle exec good_job start"),
                       ("delayed_job", "bin/delayed_job run"), ("solid_queue", "bin/jobs")):  # fmt: skip
        jobs = next((path for path in tree.files if path.startswith(within(folder, "app/jobs/"))
                     and not path.endswith("application_job.rb")), None)  # fmt: skip
        if name in names and jobs is not None:
            yield SecondProcess("jobs", line, Evidence(jobs, 1))
            return
