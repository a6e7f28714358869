"""Any value in any place of any document that is read from a clone gives a result or a clear error: never a
traceback, whatever stands where a table, a list or a word should be."""

from __future__ import annotations

import contextlib
import copy
import json
import tempfile
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import hostile_generator as generator
import pytest
import tomlkit
import yaml
from hypothesis import given
from hypothesis import strategies as st

from plainfall.clone.parts import DependencyFile
from plainfall.clone.walk import Tree
from plainfall.ecosystems import installing_of, languages
from plainfall.ecosystems.node.lists.discover import disagreements, read_lock
from plainfall.ecosystems.node.runtime.asks import manifest
from plainfall.ecosystems.php.install.autoload import Laid, read_autoload
from plainfall.ecosystems.php.install.installed import records
from plainfall.ecosystems.php.install.loader import loader_files
from plainfall.ecosystems.php.install.places import bin_folder, place_of, vendor_folder
from plainfall.ecosystems.php.install.store import Store
from plainfall.ecosystems.php.lists.manifests import fingerprint, mismatches
from plainfall.ecosystems.php.lists.manifests import manifest as php_manifest
from plainfall.ecosystems.php.lists.manifests import read_lock as read_php_lock
from plainfall.ecosystems.python.lists.discover import read_list, stale_remarks
from plainfall.ecosystems.python.lists.pins import Target
from plainfall.ecosystems.ruby.install.laying import place_of as ruby_place
from plainfall.ecosystems.ruby.lists.gemfile import manifest_of as ruby_manifest
from plainfall.ecosystems.ruby.lists.locks import read_lock as read_ruby_lock
from plainfall.ecosystems.ruby.resolve.resolving import lock_text
from plainfall.errors import PlainfallError
from plainfall.onboarding.part.settling import Settling
from plainfall.onboarding.records.state import CloneState
from plainfall.onboarding.run.planning import plan, plan_settings
from plainfall.packages.client import Connection
from plainfall.survey.look import look

MARKERS = {
    "python_version": "3.11",
    "python_full_version": "3.11.7",
    "sys_platform": "linux",
    "platform_machine": "x86_64",
    "platform_system": "Linux",
    "platform_release": "6",
    "platform_version": "1",
    "platform_python_implementation": "CPython",
    "implementation_name": "cpython",
    "implementation_version": "3.11.7",
    "os_name": "posix",
    "extra": "",
}
PACKAGE = {
    "name": "board",
    "engines": {"node": ">=18"},
    "packageManager": "yarn@1.22.0",
    "main": "server.js",
    "scripts": {"dev": "node server.js", "postinstall": "node x.js", "db:seed": "node seed.js"},
    "dependencies": {"bell": "^1.0.0", "page": "workspace:*"},
    "devDependencies": {"vite": "^5"},
    "peerDependencies": {"soil": "1"},
    "workspaces": {"packages": ["page"]},
    "overrides": {"bell": {"soil": "1.0.0"}},
    "resolutions": {"bell/soil": "1.0.0"},
    "bin": {"board": "cli.js"},
    "volta": {"node": "20.1.0"},
    "pnpm": {"overrides": {"soil": "1"}, "patchedDependencies": {"bell@1.0.0": "patches/bell.patch"}},
}
COMPOSER = {
    "name": "gauges/page",
    "type": "project",
    "require": {"php": ">=7.4", "ext-json": "*", "rain/units": "^1.0"},
    "require-dev": {"rain/tool": "*"},
    "autoload": {"psr-4": {"Gauges\\": "src/"}, "classmap": ["lib"], "files": ["f.php"]},
    "config": {
        "vendor-dir": "vendor",
        "bin-dir": "bin",
        "platform": {"php": "8.1"},
        "optimize-autoloader": True,
    },
    "extra": {"installer-paths": {"web/{$name}": ["type:x"]}, "runtime": {"class": "X"}},
    "scripts": {"post-install-cmd": ["@php x.php"], "serve": "php -S localhost:8080 -t public"},
    "repositories": [{"type": "path", "url": "packages/*"}],
    "bin": ["tool"],
}
PYPROJECT = """\
[build-system]
requires = ["setuptools"]
build-backend = "setuptools.build_meta"
[project]
name = "gauges"
requires-python = ">=3.11"
dependencies = ["kit>=1"]
dynamic = ["version"]
scripts = { "seed-gauges" = "gauges:seed" }
[project.optional-dependencies]
x = ["y"]
[dependency-groups]
dev = ["z", { include-group = "x" }]
x = ["soil"]
[tool.poetry]
name = "gauges"
packages = [{ include = "gauges" }]
[tool.poetry.dependencies]
python = "^3.11"
soil = { version = "1", extras = ["a"], optional = true }
[tool.poetry.group.dev.dependencies]
kit = "*"
[tool.uv]
dev-dependencies = ["kit"]
[tool.uv.sources]
kit = { git = "https://registry.example/kit", rev = "main" }
[[tool.uv.index]]
url = "https://registry.example/"
"""
COMPOSE = """\
x-common: &common { restart: always }
services:
  db:
    <<: *common
    image: postgres:16
    ports: ["5432:5432", { target: 5432, published: 5433 }]
    environment: { POSTGRES_PASSWORD: "${DB_PASSWORD:-rain}", POSTGRES_DB: gauges }
    env_file: [.env.example]
    command: [postgres, -c, fsync=off]
    depends_on: { cache: { condition: service_started } }
  cache: { image: redis, command: redis-server --requirepass rain, ports: [6379] }
  web: { build: ., environment: [DATABASE_URL=postgres://db/gauges] }
"""
WORKSPACE = (
    "packages: [page]\ncatalog: {bell: ^1.0.0}\ncatalogs: {old: {bell: ^0.9.0}}\noverrides: {soil: '1'}\n"
)
LAUNCH = {
    "configurations": [
        {"name": "a", "type": "debugpy", "request": "launch", "module": "flask", "args": ["run"]},
        {
            "name": "b",
            "type": "node",
            "request": "launch",
            "program": "server.js",
            "runtimeArgs": ["-r", "x"],
        },
    ]
}
TEAM = '[settings]\nNETWORK = "Valley"\n[install]\nallow-code = ["bell"]\ncode-seconds = 5\n[steps]\ntolerate = ["x"]\n'
NODE = {"package.json": json.dumps(PACKAGE), "server.js": "", "page/package.json": '{"name": "page"}'}
PYTHON = {"app.py": "import os\nos.environ['NETWORK']\n"}

OTHERS = {"Pipfile.lock": PYTHON, "composer.lock": {"composer.json": json.dumps(COMPOSER)}}

# What is changed, the form, and what else the clone holds.
DOCUMENTS: dict[str, tuple[str, Any, dict[str, str]]] = {
    "package.json": ("json", PACKAGE, {"server.js": "", "page/package.json": '{"name": "page"}'}),
    "page/package.json": ("json", PACKAGE, {"package.json": json.dumps(PACKAGE), "server.js": ""}),
    **{
        name: ("json", document, OTHERS.get(name, NODE))
        for name, document in generator.JSON_LOCKS.items()
    },
    "composer.json": ("json", COMPOSER, {"public/index.php": "<?php echo 'The readings of every station today';"}),
    "bower.json": ("json", json.loads(generator.TEXT_LOCKS["bower.json"]), {}),
    "pnpm-lock.yaml": ("yaml", yaml.safe_load(generator.TEXT_LOCKS["pnpm-lock.yaml"]), NODE),
    "pnpm-workspace.yaml": ("yaml", yaml.safe_load(WORKSPACE), NODE),
    "yarn.lock": (
        "yaml",
        {
            "__metadata": {"version": 8},
            "bell@npm:^1.0.0": {
                "version": "1.0.0",
                "resolution": "bell@npm:1.0.0",
                "dependencies": {"soil": "npm:1"},
                "checksum": "10/ab",
                "bin": {"bell": "x"},
                "conditions": "os=linux",
            },
            "soil@npm:1": {"version": "1.0.0", "resolution": "soil@npm:1.0.0"},
        },
        NODE,
    ),
    **{
        name: ("toml", tomllib.loads(generator.TEXT_LOCKS[name]), {**PYTHON, "pyproject.toml": PYPROJECT})
        for name in ("uv.lock", "poetry.lock", "pdm.lock", "pylock.toml")
    },
    "Pipfile": ("toml", tomllib.loads(generator.TEXT_LOCKS["Pipfile"]), PYTHON),
    "pyproject.toml": ("toml", tomllib.loads(PYPROJECT), PYTHON),
    "environment.yml": ("yaml", yaml.safe_load(generator.TEXT_LOCKS["environment.yml"]), PYTHON),
    "compose.yaml": ("yaml", yaml.safe_load(COMPOSE), {**PYTHON, "requirements.txt": "", ".env.example": "A=1\n"}),
    "plainfall.toml": ("toml", tomllib.loads(TEAM), {**PYTHON, "requirements.txt": "", ".env.example": "NETWORK=\n"}),
    ".vscode/launch.json": ("json", LAUNCH, {**PYTHON, "requirements.txt": "", **NODE}),
    "config/settings.example.yml": ("yaml", {"host": "x", "port": 1, "a": {"b": ["c"]}}, {**PYTHON, "requirements.txt": ""}),
    "config.example.json": ("json", {"host": "x", "port": 1, "a": {"b": ["c"]}}, {**NODE}),
    "settings.example.toml": ("toml", {"host": "x", "port": 1, "a": {"b": ["c"]}}, {**PYTHON, "requirements.txt": ""}),
}  # fmt: skip
# A wrong value there is passed over, or said in a remark.
PASSED_OVER = {".vscode/launch.json", "compose.yaml", "pnpm-workspace.yaml"} | {
    name for name in DOCUMENTS if ".example." in name
}
WORDS = st.one_of(
    st.sampled_from(["", "x", "1", "^1.0", ">=2", "bell@1", "../x", "/", "file:x", "git+https://x", "workspace:*"]),
    st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), max_size=8),
)  # fmt: skip
SCALARS = st.one_of(st.booleans(), st.integers(-(2**40), 2**40), st.floats(allow_nan=False), WORDS)
VALUES = st.recursive(
    SCALARS, lambda inner: st.one_of(st.lists(inner, max_size=3), st.dictionaries(WORDS, inner, max_size=3))
)


def places(document: Any) -> Iterator[tuple[Any, ...]]:
    """The keys that lead to every value of a document, the whole first."""
    yield ()
    pairs = (
        document.items()
        if isinstance(document, dict)
        else enumerate(document)
        if isinstance(document, list)
        else ()
    )
    for key, value in pairs:
        for below in places(value):
            yield key, *below


def replaced(document: Any, where: tuple[Any, ...], value: Any) -> Any:
    if not where:
        return value
    made = copy.deepcopy(document)
    inner = made
    for key in where[:-1]:
        inner = inner[key]
    inner[where[-1]] = value
    return made


def written(form: str, document: Any) -> str:
    if form == "json":
        return json.dumps(document)
    return yaml.safe_dump(document) if form == "yaml" else tomlkit.dumps(document)


def read_whole(clone: Path, tmp: Path) -> None:
    """Reads all that the program reads of a clone before it installs or starts anything."""
    survey, tree = look(clone, None, partial=True)
    settling = Settling(survey, tree, CloneState(clone, tmp / "state"), {}, {}, choose=False)
    for unit in (settling.unit(part.path) for part in (*survey.parts, *survey.others)):
        if unit is not None:
            settling.settle(unit, None)
    for part in survey.others:
        plan_settings(part, settling)
    for part in survey.parts:
        plan(part, settling)
        listed = part.dependencies
        if listed is None:
            continue
        if part.language == "python":
            target = Target(MARKERS)
            stale_remarks(tree, read_list(tree, listed.path, listed.kind, target), target)
        elif part.language == "php":
            read_php(clone, tree, part.path, listed)
        elif part.language == "ruby":
            read_ruby(clone, tree, part.path, listed)
        elif listed.kind not in ("unlocked", "workspace", "components"):
            document = manifest(tree, part.path)
            disagreements(clone, listed, read_lock(clone, listed.path, document), document)


def read_php(clone: Path, tree: Tree, folder: str, listed: DependencyFile) -> None:
    """All that is read of a PHP part before its packages are fetched, and what is written of them."""
    document = php_manifest(tree, folder)
    lock = read_php_lock(clone, listed.path) if listed.kind == "lock" else None
    packages = lock.packages if lock is not None else ()
    vendor, names = vendor_folder(document), [one.name for one in packages]
    bin_folder(document)
    places = {one.name: place_of(one, document, names) for one in packages if not one.is_meta}
    root = Laid(str(document.get("name") or "x"), document, "")
    laid = [Laid(one.name, one.entry, places[one.name]) for one in packages if not one.is_meta]
    autoload = read_autoload(root, laid, lambda package, inner: [])
    assert loader_files(autoload, root, packages, vendor) and records(document, packages, places, vendor)
    for one in packages:
        Store(clone, {}, Connection(), listed.path).key(one)
    if lock is not None:
        mismatches(document, lock)
        fingerprint(document)


def read_ruby(clone: Path, tree: Tree, folder: str, listed: DependencyFile) -> None:
    """All that is read of a Ruby part before its packages are fetched, and its lock written again."""
    assert ruby_manifest(tree, folder) is not None
    if listed.kind == "lock":
        lock = read_ruby_lock(clone, listed.path)
        (clone / "again.lock").write_text(lock_text(lock))
        again = read_ruby_lock(clone, "again.lock")
        assert {one.full_name for one in again.packages} == {one.full_name for one in lock.packages}
        assert all(ruby_place(one) for one in lock.packages if one.source.remotes)


RUBY_LOCK = """\
GIT
  remote: https://host.example/drops.git
  revision: 1a2b3c4
  specs:
    drops (0.1)

PATH
  remote: gems/own
  specs:
    own (1.0)
      rain

GEM
  remote: https://registry.example/
  specs:
    rain (1.2.0)
      own (>= 1, < 2)
    rain (1.2.0-x86_64-linux)

PLATFORMS
  ruby

DEPENDENCIES
  drops!
  own!
  rain (~> 1.2)

CHECKSUMS
  rain (1.2.0) sha256=aa

RUBY VERSION
   ruby 3.1.2p20

BUNDLED WITH
   2.3.7
"""
GEMFILE = """\
source "https://registry.example"
ruby "~> 3.1"
gem "rain", "~> 1.2", group: [:test], platforms: %i[mri jruby]
group :development do
  gem "own", path: "gems/own"
end
gem "drops", git: "https://host.example/drops.git", ref: "1a2b3c" if ENV["DROPS"]
eval_gemfile "more.rb"
"""


@pytest.mark.parametrize("name", ["Gemfile", "Gemfile.lock", "config/database.yml"])
def test_any_change_in_ruby_files_is_read_or_refused(name: str) -> None:
    texts = {"Gemfile": GEMFILE, "Gemfile.lock": RUBY_LOCK, "config.ru": "run X", "more.rb": "gem 'more'\n",
             "config/database.yml": "development:\n  adapter: mysql2\n  host: <%= ENV.fetch('H') { 'x' } %>\n"}  # fmt: skip
    rows = texts[name].splitlines(keepends=True)

    @given(st.integers(0, len(rows) - 1), st.integers(0, 40), st.text(max_size=6), st.sampled_from("iudr"))
    def check(number: int, column: int, text: str, way: str) -> None:
        changed = list(rows)
        line = changed[number]
        if way == "i":
            changed[number] = line[:column] + text + line[column:]
        elif way == "u":
            changed[number] = line[:column] + text
        elif way == "d":
            changed[number] = line * 2
        else:
            del changed[number]
        with tempfile.TemporaryDirectory() as made:
            clone = Path(made, "gauges")
            for path, content in {**texts, name: "".join(changed)}.items():
                (clone / path).parent.mkdir(parents=True, exist_ok=True)
                (clone / path).write_bytes(content.encode("utf-8", "surrogatepass"))
            with contextlib.suppress(PlainfallError):  # refused with words of its own
                read_whole(clone, Path(made))

    check()


@pytest.mark.parametrize("name", DOCUMENTS)
def test_any_value_in_any_place(name: str) -> None:
    form, document, others = DOCUMENTS[name]
    every = list(places(document))
    refused = []

    @given(st.sampled_from(every), VALUES | st.none() if form != "toml" else VALUES)
    def check(where: tuple[Any, ...], value: Any) -> None:
        if form == "toml" and not isinstance(replaced(document, where, value), dict):
            return  # TOML has nothing but a table at its top
        text = written(form, replaced(document, where, value))
        with tempfile.TemporaryDirectory() as made:
            clone = Path(made, "gauges")
            for path, content in {**others, name: text}.items():
                (clone / path).parent.mkdir(parents=True, exist_ok=True)
                (clone / path).write_text(content, "utf-8")
            try:
                read_whole(clone, Path(made))
            except PlainfallError as error:
                assert str(error) and error.cause and error.remedy, (where, value)
                refused.append(error)

    check()
    assert refused or name in PASSED_OVER


def test_every_language_that_is_onboarded_has_its_readers_here() -> None:
    onboarded = [one.name for one in languages() if one.onboarded]
    assert onboarded == ["python", "php", "ruby", "node"] and all(installing_of(name) for name in onboarded)
