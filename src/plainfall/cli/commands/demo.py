"""Onboard a sample clone, offline, with packages from a stand-in registry."""

from __future__ import annotations

import argparse
import shutil
import tempfile
from pathlib import Path

from msgspec.structs import replace

from plainfall.cli.arguments import with_wishes
from plainfall.cli.commands.onboard import (
    exit_status,
    show_disagreements,
    show_outcome,
    verdict,
    wishes_of,
)
from plainfall.cli.console import Console
from plainfall.cli.ending import taking_time
from plainfall.cli.view import RunView
from plainfall.diagnosis.system_packages import install_words
from plainfall.ecosystems.node.runtime.interpreters import node_interpreters
from plainfall.ecosystems.php.runtime.interpreters import extensions_of, php_interpreters
from plainfall.ecosystems.php.runtime.platform import system_package
from plainfall.ecosystems.ruby.resolve.versions import version
from plainfall.ecosystems.ruby.runtime.interpreters import library_of, ruby_interpreters
from plainfall.errors import UsageProblem
from plainfall.onboarding.records.outcome import outcome_document
from plainfall.onboarding.run.clone_root import CloneFolder
from plainfall.onboarding.run.onboard import Outcome, onboard
from plainfall.onboarding.uses.serve.servers import stop_servers
from plainfall.runtimes.interpreters import Interpreter
from plainfall.standins.building import build_all
from plainfall.standins.node_registry import built_node_packages, serving_node
from plainfall.standins.php_registry import built_php_packages, serving_php
from plainfall.standins.registry import Archive, serving
from plainfall.standins.ruby_registry import built_ruby_packages, serving_ruby
from plainfall.standins.sample_clone import make_sample, make_sample_with
from plainfall.surroundings import Surroundings

__all__ = ["ORDER", "arguments", "run"]

ORDER = 8  # among the commands that --help lists


def arguments(parser: argparse.ArgumentParser) -> None:
    """Defines the command's arguments."""
    parser.add_argument(
        "--into", metavar="DIR", help="make the sample clone here (a new folder), and leave it"
    )
    parser.add_argument("--keep", action="store_true", help="leave the clone and its server up")
    parser.add_argument(
        "--with",
        dest="beside",
        choices=["services"],
        help="another sample, on PostgreSQL and Redis, as far as their programs are on this machine",
    )
    with_wishes(parser)


def run(options: argparse.Namespace, console: Console) -> int:
    """Makes the clone, serves its packages, onboards it, ends what was started unless it is to be kept."""
    place = _place(options)
    clone = place / "raingauge" if options.into is None else place
    try:
        return _run(options, console, clone)
    finally:
        if not options.keep:
            with taking_time():
                if clone.exists():
                    stop_servers(CloneFolder(clone), Surroundings.of_process().state)
                if options.into is None:
                    shutil.rmtree(place)


def _place(options: argparse.Namespace) -> Path:
    if options.into is None:
        return Path(tempfile.mkdtemp(prefix="plainfall-demo-"))
    place = Path(options.into).absolute()
    if place.exists() and (not place.is_dir() or any(place.iterdir())):
        raise UsageProblem(
            f"{place} exists already and is not empty", remedy="Name a new folder after --into."
        )
    return place


def _run(options: argparse.Namespace, console: Console, clone: Path) -> int:
    surroundings = _with_registry(Surroundings.of_process())
    if options.beside:
        return _run_with_services(options, console, clone, surroundings)
    built = build_all()
    # The sample's second part is for Node; where none is here, the demo does without it.
    has_node = any(isinstance(one, Interpreter) for one in node_interpreters(surroundings))
    dashboard = built_node_packages() if has_node else []
    if clone.exists():
        clone.rmdir()
    clone.parent.mkdir(parents=True, exist_ok=True)
    php_words = _without_php(surroundings)
    bulletin = [] if php_words else built_php_packages()
    ruby_words = _without_ruby(surroundings)
    notebook = [] if ruby_words else built_ruby_packages()
    view = RunView(console)
    archives = [Archive.of(archive) for archive in built]
    with (
        serving(archives) as registry,
        serving_node(dashboard) as node_registry,
        serving_php(bulletin) as php_registry,
        serving_ruby(notebook) as ruby_registry,
    ):
        third = None if php_words else (bulletin, php_registry.url)
        fourth = None if ruby_words else (notebook, ruby_registry.url)
        repository = make_sample(clone, built, dashboard=dashboard, bulletin=third, notebook=fourth)
        variables = {
            **surroundings.variables,
            "PIP_INDEX_URL": registry.url,
            "npm_config_registry": node_registry.url,
            "npm_config_userconfig": "/dev/null",
        }
        console.note(console.wrapped(f"a sample clone in {clone}", 0))
        addresses = [registry.url, *([node_registry.url] if has_node else [])]
        addresses += [] if php_words else [php_registry.url]
        addresses += [] if ruby_words else [ruby_registry.url]
        console.note(console.wrapped(f"its packages from stand-in registries at {', '.join(addresses)}", 0))
        if not has_node:
            console.note("(no Node here: the sample is without its dashboard)")
        if php_words:
            console.note(console.wrapped(f"({php_words}: the sample is without its bulletin)", 0))
        if ruby_words:
            console.note(console.wrapped(f"({ruby_words}: the sample is without its notebook)", 0))
        if not repository:
            console.note("(no git here: the sample is a folder without history)")
        outcome = _onboarded(options, clone, replace(surroundings, variables=variables), view)
    return _shown(options, console, clone, outcome)


def _without_php(surroundings: Surroundings) -> str:
    """Why the sample's part for PHP cannot run here, in words; "" where it can."""
    here = [one for one in php_interpreters(surroundings) if isinstance(one, Interpreter)]
    if not here:
        return "no PHP here"
    if not any("pdo_sqlite" in extensions_of(one) for one in here):
        return f"PHP is here without pdo_sqlite, which {system_package('pdo_sqlite', here[0].version)} brings"
    return ""


def _without_ruby(surroundings: Surroundings) -> str:
    """Why the sample's part for Ruby cannot run here, in words; "" where it can."""
    here = [one for one in ruby_interpreters(surroundings) if isinstance(one, Interpreter)]
    if not here:
        return "no Ruby here"
    newest = max(here, key=lambda one: version(one.version))
    if library_of(newest) is None:
        return "Ruby is here without the library of its package client, which ruby-bundler brings"
    return ""


def _run_with_services(
    options: argparse.Namespace, console: Console, clone: Path, surroundings: Surroundings
) -> int:
    """The second sample, on the servers whose programs are here."""
    from plainfall.services.engine import engine_of  # the usual demo has none

    titles = {"postgres": "PostgreSQL", "redis": "Redis"}
    engines = {kind: engine_of(kind) for kind in titles}
    here = [
        kind
        for kind, engine in engines.items()
        if engine is not None and engine.programs(surroundings.search_path())
    ]
    if not here:
        raise UsageProblem(
            "neither PostgreSQL nor Redis is on this machine",
            remedy=f"{install_words('postgres')} Then run the same command again; without --with it needs neither.",
        )
    if clone.exists():
        clone.rmdir()
    clone.parent.mkdir(parents=True, exist_ok=True)
    # The servers' user has to reach its data below it, where this process is root's.
    clone.parent.chmod(clone.parent.stat().st_mode | 0o011)
    make_sample_with(clone, here)
    console.note(console.wrapped(f"a sample clone in {clone}", 0))
    for kind in titles.keys() - set(here):
        console.note(f"(no {titles[kind]} here: the sample is without it. {install_words(kind)})")
    return _shown(options, console, clone, _onboarded(options, clone, surroundings, RunView(console)))


def _onboarded(
    options: argparse.Namespace, clone: Path, surroundings: Surroundings, view: RunView
) -> Outcome:
    try:
        return onboard(CloneFolder(clone), wishes_of(options), surroundings, view)
    finally:
        view.pause()


def _shown(options: argparse.Namespace, console: Console, clone: Path, outcome: Outcome) -> int:
    if console.json:
        console.document(outcome_document(outcome))
    elif options.keep or outcome.outcome != "done":
        show_outcome(console, outcome, str(clone))
    else:
        _show_end(options, console, outcome)
    return exit_status(outcome)


def _show_end(options: argparse.Namespace, console: Console, outcome: Outcome) -> None:
    """The end of a demo whose server is about to be ended."""
    console.note("")
    show_disagreements(console, outcome)
    console.note("")
    for record in outcome.servers.values():
        console.result(f"{console.styled(record.url, 'good', out=True)} answered")
    console.result(verdict(outcome))
    left = "its files stay" if options.into else "the sample clone is removed"
    console.note(f"now the servers are ended and {left} (--keep leaves all up)")
    console.note("with a clone of yours: plainfall survey CLONE, then plainfall onboard CLONE")


def _with_registry(surroundings: Surroundings) -> Surroundings:
    """The same surroundings without the user's own package sources: the demo needs none, and must not
    send the names of made-up packages to a real registry."""
    variables = {
        name: value
        for name, value in surroundings.variables.items()
        if not name.lower().startswith(("pip_", "npm_", "bundle_"))
    }
    return replace(surroundings, variables={**variables, "PIP_CONFIG_FILE": "/dev/null"})
