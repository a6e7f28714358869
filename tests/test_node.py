"""Node clones: version asks, package locks, what is laid where, scripts, dev servers, and bad input."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from conftest import Machine
from msgspec.structs import replace
from node_clones import SERVER, lock, package_json

from plainfall.clone.walk import walk
from plainfall.ecosystems.node.clients import configuration
from plainfall.ecosystems.node.clients.configuration import read_registries
from plainfall.ecosystems.node.install.packages import registries_of
from plainfall.ecosystems.node.runtime.asks import node_asks
from plainfall.ecosystems.node.runtime.fetched import package_name
from plainfall.ecosystems.node.runtime.interpreters import GRAMMAR
from plainfall.errors import BadInput, RegistryProblem
from plainfall.runtimes.asks import VersionAsk
from plainfall.runtimes.choice import choose
from plainfall.runtimes.interpreters import Interpreter
from plainfall.standins.node_registry import NodeArchive, node_archive, tarball
from plainfall.surroundings import Surroundings

WORDS = node_archive(
    "gauge-words", "2.1.0", {"cli.js": "#!/usr/bin/env node\nconsole.log('words')\n"}, bin={"words": "cli.js"}
)
UNITS = node_archive("@rain/units", "1.0.0")


@pytest.mark.parametrize(
    ("files", "asked"),
    [
        ({".nvmrc": "v20.11.1\n"}, ["20.11.1"]),
        ({".nvmrc": "lts/iron"}, ["20.x"]),
        ({".node-version": "20\n"}, ["20.x"]),
        ({".tool-versions": "ruby 3.3.0\nnodejs 22.3.0\n"}, ["22.3.0"]),
        ({"package.json": '{"engines": {"node": ">=18 <21"}}'}, [">=18 <21"]),
        ({"package.json": '{"devEngines": {"runtime": {"name": "node", "version": "^20"}}}'}, ["^20"]),
        ({"Dockerfile": "FROM node:20.5-alpine\n"}, ["20.5.x"]),
        ({".github/workflows/ci.yml": "node-version: [18, 20]\n"}, ["18.x", "20.x"]),
        ({"README.md": "Needs Node.js 18 or later.\n"}, [">=18"]),
        ({".nvmrc": "node\n"}, []),
    ],
)  # fmt: skip
def test_places_that_ask_for_a_version(machine: Machine, files: dict[str, str], asked: list[str]) -> None:
    tree = walk(machine.clone({"package.json": "{}", **files}))
    assert [ask.specifier for ask in node_asks(tree, "")] == asked


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({".nvmrc": "newest\n"}, ".nvmrc:1"),
        ({"package.json": '{"engines": {"node": "new"}}'}, "package.json:1"),
    ],
)
def test_an_ask_that_is_none_names_its_line(machine: Machine, files: dict[str, str], said: str) -> None:
    tree = walk(machine.clone({"package.json": "{}", **files}))
    with pytest.raises(BadInput) as caught:
        node_asks(tree, "")
    assert str(caught.value).startswith(said) and caught.value.remedy


def _ask(text: str, machine: Machine) -> list[VersionAsk]:
    return node_asks(walk(machine.clone({"package.json": "{}", ".nvmrc": text})), "")


def test_the_release_line_counts_where_the_patch_release_is_not_here(machine: Machine) -> None:
    here = [Interpreter(Path(v), Path(v), v, {}) for v in ("18.20.1", "20.20.2", "22.1.0")]
    choice = choose("Node", _ask("20.11.1", machine), here, GRAMMAR, lambda one: None)
    assert choice.taken.version == "20.20.2" and "20.11.1" in choice.remarks[0]


@pytest.mark.needs("node")
def test_a_runtime_that_is_not_here_is_fetched_as_a_package(machine: Machine, node_registry: Any) -> None:
    real = shutil.which("node")
    script = (
        '#!/bin/sh\nif [ "$1" = -e ]; then\n  echo \'{"version": "17.1.2", "executable": "\'$(realpath "$0")\'"}\'\n'
        f'else\n  exec {real} "$@"\nfi\n'
    )
    name = package_name()
    assert name is not None
    files = {
        "!bin/node": script.encode(),
        "package.json": json.dumps({"name": name, "version": "17.1.2"}).encode(),
    }
    found = node_registry([NodeArchive(name, "17.1.2", tarball(files))])
    clone = machine.clone(
        {"package.json": package_json([], scripts={"dev": "node server.js"}), ".nvmrc": "17.1.2"}
    )
    (clone / "server.js").write_text(SERVER.replace('require("gauge-words")', '"here"'))
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    step = run.step("runtime")
    assert (
        step["detail"]["chosen"]["version"] == "17.1.2" and "was fetched as the package" in step["remarks"][0]
    )
    assert run.document["servers"][0]["probe"]["title"] == "Gauge here"
    found.asked.clear()
    assert machine.run("onboard", clone, "--json").states["runtime"] == "kept" and found.asked == []
    none = machine.clone({"package.json": package_json([], scripts={"dev": "x"}), ".nvmrc": "16.0.0"}, "none")
    refused = machine.run("onboard", none)
    assert refused.status == 1 and "no Node here fits" in refused.err and "--runtime PATH" in refused.err


@pytest.mark.needs("node")
def test_where_no_registry_is_configured(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    own = Surroundings(
        {"HOME": str(tmp_path), "PATH": os.environ["PATH"]}, tmp_path, tmp_path, tmp_path, tmp_path
    )
    (tmp_path / "node").write_text("")
    fetched = Interpreter(tmp_path / "node", tmp_path / "node", "21.0.0", {})
    client = tmp_path / "client"
    (client / "bin").mkdir(parents=True)
    (client / "bin/npm-cli.js").write_text("console.log('http://registry.example/npm')\n")
    node = Path(str(shutil.which("node")))
    other = Interpreter(node, node, "20.0.0", {"client": str(client)})
    # A runtime that was fetched has no client: another one's is asked.
    monkeypatch.setattr(configuration, "node_interpreters", lambda _: [fetched, other])
    assert configuration.read_registries(own, fetched, []).default == "http://registry.example/npm/"
    # Where none is here, the lock's own entries name one, and no login goes there.
    nowhere = replace(own, cache=tmp_path / "other")
    monkeypatch.setattr(configuration, "node_interpreters", lambda _: [fetched])
    (tmp_path / ".npmrc").write_text("//registry.example/:_authToken=secret\n")
    rows = {"node_modules/a": {"version": "1.0.0", "resolved": "https://registry.example/npm/a/-/a-1.0.0.tgz"},
            "node_modules/@b/c": {"version": "1.0.0", "resolved": "https://registry.example/npm/@b/c/-/c-1.0.0.tgz"},
            "node_modules/d": {"version": "1.0.0", "resolved": "https://elsewhere.example/d-1.0.0.tgz"}}  # fmt: skip
    text = json.dumps({"lockfileVersion": 3, "packages": {"": {}, **rows}})
    (tmp_path / "package-lock.json").write_text(text)
    listed = SimpleNamespace(kind="package-lock.json", path="package-lock.json")
    choice = SimpleNamespace(taken=fetched)
    job = SimpleNamespace(clone=tmp_path, folder=tmp_path, listed=listed, choice=choice, surroundings=nowhere,
                          wishes=SimpleNamespace(hosts=frozenset()))  # fmt: skip
    found, said = registries_of(job, {})  # type: ignore[arg-type]
    assert found.default == "https://registry.example/npm/" and found.connection.logins == {}
    assert "no registry is configured on this machine" in said and "package-lock.json" in said
    (tmp_path / "package-lock.json").write_text('{"lockfileVersion": 3, "packages": {"": {}}}')
    with pytest.raises(RegistryProblem, match="no package registry is configured"):
        registries_of(job, {})  # type: ignore[arg-type]


@pytest.mark.needs("node")
def test_a_locked_clone_becomes_a_server_that_answers_and_is_kept(
    machine: Machine, node_registry: Any
) -> None:
    asked = node_registry([WORDS, UNITS]).asked
    files = {
        "package.json": package_json([WORDS, UNITS], scripts={"dev": "node server.js"}),
        "package-lock.json": lock([WORDS, UNITS]),
        "server.js": SERVER,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    assert run.document["servers"][0]["probe"]["title"] == "Gauge 2.1.0"
    assert (clone / "node_modules/@rain/units/index.js").is_file()
    assert os.readlink(clone / "node_modules/.bin/words") == "../gauge-words/cli.js"
    assert os.access(clone / "node_modules/gauge-words/cli.js", os.X_OK)
    asked.clear()
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"} and asked == []
    (clone / "node_modules/gauge-words/index.js").unlink()
    mended = machine.run("onboard", clone, "--json")
    assert mended.states["dependencies"] == "done" and (clone / "node_modules/gauge-words/index.js").is_file()
    assert asked == []


@pytest.mark.needs("node")
def test_the_tree_is_the_one_that_the_bundled_client_lays(
    machine: Machine, node_registry: Any, tmp_path: Path
) -> None:
    old = node_archive("gauge-words", "1.0.0", {"bin.js": "#!/usr/bin/env node\n"}, bin="bin.js")
    user = node_archive(
        "@rain/board", "1.0.0", {"lib/a.js": "1", "deep/er/b.txt": "2"}, dependencies={"gauge-words": "1.0.0"}
    )
    other = node_archive("seals", "3.0.0", {}, os=["darwin"], optional=True)
    # One that brings others along, one of them with a command.
    inner = {"name": "inner", "version": "1.0.0", "bin": {"inn": "cli.js"}}
    brings = node_archive(
        "brings",
        "1.0.0",
        {
            "node_modules/inner/package.json": json.dumps(inner),
            "node_modules/inner/cli.js": "#!/usr/bin/env node\n",
        },
        dependencies={"inner": "1.0.0"},
        bundleDependencies=["inner"],
    )
    found = node_registry([WORDS, old, user, other, brings])
    places = {"gauge-words@1.0.0": "node_modules/@rain/board/node_modules/gauge-words"}
    wishes = {"gauge-words": "2.1.0", "@rain/board": "1.0.0", "brings": "1.0.0"}
    manifest = json.dumps(
        {
            "name": "board",
            "version": "1.0.0",
            "dependencies": wishes,
            "optionalDependencies": {"seals": "3.0.0"},
        }
    )
    bundled = {"node_modules/brings/node_modules/inner": {**inner, "inBundle": True}}
    text = json.loads(lock([WORDS, old, user, other, brings], places, bundled))
    text["packages"]["node_modules/brings"]["dependencies"] = {"inner": "1.0.0"}
    text["packages"][""] = {
        "name": "board",
        "version": "1.0.0",
        "dependencies": wishes,
        "optionalDependencies": {"seals": "3.0.0"},
    }
    text["packages"]["node_modules/brings"]["bundleDependencies"] = ["inner"]
    text["packages"]["node_modules/@rain/board"]["dependencies"] = {"gauge-words": "1.0.0"}
    text |= {"name": "board", "version": "1.0.0", "requires": True}
    files = {"package.json": manifest, "package-lock.json": json.dumps(text)}
    clone, theirs = machine.clone(files), machine.clone(files, "theirs")
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    client = shutil.which("npm")
    if client is None:
        pytest.skip("the runtime has no client here")
    words = [client, "ci", "--ignore-scripts", "--no-audit", "--no-fund"]
    environment = {
        **machine.variables,
        "npm_config_cache": str(tmp_path / "client"),
        "npm_config_registry": found.url,
    }
    done = subprocess.run(words, cwd=theirs, env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    assert _tree(clone / "node_modules") == _tree(theirs / "node_modules")


def _tree(folder: Path) -> dict[str, tuple[str, object]]:
    """Every entry with its mode and content, without the notes that each side keeps for itself."""
    found: dict[str, tuple[str, object]] = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if name in (".package-lock.json", ".plainfall.json"):
            continue
        if path.is_symlink():
            found[name] = ("link", os.readlink(path))
        elif path.is_file():
            found[name] = (oct(path.stat().st_mode), path.read_bytes())
    return found


@pytest.mark.needs("node")
def test_an_older_lock_nests_by_its_tables(machine: Machine, node_registry: Any) -> None:
    old = node_archive("gauge-words", "1.0.0")
    node_registry([WORDS, UNITS, old])
    text = {
        "lockfileVersion": 1,
        "dependencies": {
            "gauge-words": {"version": "2.1.0", "integrity": WORDS.integrity},
            "@rain/units": {
                "version": "1.0.0",
                "integrity": UNITS.integrity,
                "dependencies": {"gauge-words": {"version": "1.0.0", "integrity": old.integrity}},
            },
        },
    }
    clone = machine.clone(
        {"package.json": package_json([WORDS, UNITS]), "package-lock.json": json.dumps(text)}
    )
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    inner = clone / "node_modules/@rain/units/node_modules/gauge-words/index.js"
    assert "1.0.0" in inner.read_text() and (clone / "node_modules/.bin/words").is_symlink()


@pytest.mark.needs("node")
def test_only_what_changed_in_the_lock_is_laid_again(machine: Machine, node_registry: Any) -> None:
    newer = node_archive("gauge-words", "2.2.0")
    node_registry([WORDS, UNITS, newer])
    clone = machine.clone(
        {"package.json": package_json([WORDS, UNITS]), "package-lock.json": lock([WORDS, UNITS])}
    )
    machine.run("onboard", clone, "--until", "dependencies")
    before = (clone / "node_modules/@rain/units/index.js").stat().st_ino
    (clone / "package.json").write_text(package_json([newer]))
    (clone / "package-lock.json").write_text(lock([newer]))
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    detail = run.step("dependencies")["detail"]
    assert detail["laid"] == ["gauge-words 2.2.0"] and detail["taken_out"] == ["@rain/units"]
    assert not (clone / "node_modules/@rain/units").exists() and before
    assert not (clone / "node_modules/.bin/words").exists()


@pytest.mark.needs("node")
def test_workspaces_and_file_links_lead_to_their_folders(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS])
    links = {
        "node_modules/basin": {"resolved": "packages/basin", "link": True},
        "packages/basin": {"name": "basin", "version": "1.0.0"},
    }
    files = {
        "package.json": package_json([WORDS], workspaces=["packages/*"], scripts={"start": "node main.js"}),
        "package-lock.json": lock([WORDS], more=links),
        "packages/basin/package.json": '{"name": "basin", "version": "1.0.0", "main": "index.js"}',
        "packages/basin/index.js": "module.exports = 'basin';",
        "main.js": "require('basin'); " + SERVER,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    assert os.readlink(clone / "node_modules/basin") == "../packages/basin"
    assert {step["part"] for step in run.document["steps"]} == {""}


@pytest.mark.needs("node")
def test_code_that_packages_want_to_run_is_listed_and_not_run(machine: Machine, node_registry: Any) -> None:
    eager = node_archive("eager", "1.0.0", {}, scripts={"postinstall": "touch ../../ran"})
    node_registry([eager])
    clone = machine.clone({"package.json": package_json([eager]), "package-lock.json": lock([eager])})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert (
        "eager (postinstall: touch ../../ran)" in " ".join(run.err.split()) and not (clone / "ran").exists()
    )


@pytest.mark.needs("node")
def test_scripts_call_scripts_though_no_package_manager_is_here(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS])
    scripts = {
        "postinstall": "echo installed >> said",
        "prebuild": "echo before >> said",
        "build": "words >> said && echo $npm_lifecycle_event $npm_package_name >> said",
        "seed": "yarn build && npx words >> said && pnpm run show -- --limit 3",
        "show": "echo shown $0 >> said; echo",
        "dev": "npm run serve",
        "serve": "node server.js",
    }
    files = {
        "package.json": package_json([WORDS], scripts=scripts),
        "package-lock.json": lock([WORDS]),
        "server.js": SERVER,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    said = (clone / "said").read_text().split("\n")
    assert said[:6] == ["installed", "before", "words", "build board", "words", "shown sh"]


FLAKY = "test -f tried && echo fine || { touch tried; echo 'Error: half the models are missing'; exit 1; }"


@pytest.mark.needs("node")
def test_a_task_that_the_readme_calls_flaky_is_run_once_more(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    readme = "# Board\n\n## Setup\n\n```sh\nnpm run generate\n```\n\nIt is flaky: run it again if it fails.\n"
    files = {"package.json": package_json([], scripts={"generate": FLAKY, "dev": "node server.js"})}
    files["server.js"] = SERVER.replace('require("gauge-words")', '"x"')
    bare = machine.run("onboard", machine.clone(files, "bare"), "--no-attempts")
    assert bare.status == 1 and "half the models are missing" in bare.err
    run = machine.run("onboard", machine.clone({**files, "README.md": readme}), "--json")
    assert run.status == 0, run.out
    assert (
        "npm run generate failed and was run once more, since README.md:6 says"
        in run.step("tasks")["remarks"][0]
    )


@pytest.mark.needs("node")
def test_errors_that_the_team_declared_harmless_are_tolerated_and_shown(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([])
    noisy = "echo 'Error: no map tiles here'; exit 1"
    files = {"package.json": package_json([], scripts={"generate": noisy, "dev": "node server.js"})}
    files["server.js"] = SERVER.replace('require("gauge-words")', '"x"')
    files["plainfall.toml"] = '[tolerate]\nlines = ["no map tiles"]\n'
    run = machine.run("onboard", machine.clone(files))
    assert run.status == 0 and "tolerated, as plainfall.toml says" in " ".join(run.err.split())
    assert "no map tiles here" in run.err
    broken = machine.clone({**files, "plainfall.toml": '[tolerate]\nlines = ["("]\n'}, "broken")
    refused = machine.run("onboard", broken)
    assert refused.status == 1 and "plainfall.toml:2" in refused.err


@pytest.mark.needs("node")
def test_tokens_of_rc_files_are_sent_where_they_are_set_for_and_not_shown(
    machine: Machine, node_registry: Any
) -> None:
    found = node_registry([UNITS], "Bearer river-token-77")
    machine.variables.pop("npm_config_registry")
    rc = f"@rain:registry={found.url}\n//127.0.0.1:{found.server_address[1]}/:_authToken=${{RIVER}}\nregistry=http://127.0.0.1:9/\n"
    clone = machine.clone(
        {".npmrc": rc, "package.json": package_json([UNITS]), "package-lock.json": lock([UNITS])}
    )
    secret = "river-token-77"
    refused = machine.run("onboard", clone, "--until", "dependencies", RIVER=secret)
    words = " ".join(refused.err.split())
    assert refused.status == 1 and "wants to send your variable RIVER to 127.0.0.1" in words
    assert "--allow-registry 127.0.0.1" in words
    allow = ("--allow-registry", "127.0.0.1")
    run = machine.run("onboard", clone, "--until", "dependencies", *allow, RIVER=secret)
    assert run.status == 0, run.err
    shutil.rmtree(clone / "node_modules")
    shutil.rmtree(machine.variables["PLAINFALL_CACHE"])
    again = machine.run("onboard", clone, "--until", "dependencies", RIVER=secret)  # it is remembered
    assert again.status == 0, again.err
    assert secret not in refused.out + refused.err
    assert "river-token-77" not in run.out + run.err + (clone / ".plainfall/state.json").read_text()


@pytest.mark.needs("node")
def test_an_address_in_the_lock_is_turned_to_the_configured_registry(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([WORDS])
    text = json.loads(lock([WORDS]))
    text["packages"]["node_modules/gauge-words"]["resolved"] = (
        "https://registry.example/gauge-words/-/gauge-words-2.1.0.tgz"
    )
    clone = machine.clone({"package.json": package_json([WORDS]), "package-lock.json": json.dumps(text)})
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0


def test_rc_files_are_read_in_their_order(tmp_path: Path) -> None:
    (tmp_path / "home").mkdir()
    (tmp_path / "home/.npmrc").write_text("registry=https://one.example\nstrict-ssl=false\n")
    own = "registry=https://two.example/\n@rain:registry=https://rain.example\ncafile=/x\nproxy=http://p.example\n"
    (tmp_path / ".npmrc").write_text(own)
    surroundings = Surroundings({}, tmp_path, tmp_path / "home", tmp_path / "cache", tmp_path / "state")
    found = read_registries(surroundings, Interpreter(tmp_path, tmp_path, "20.0.0", {}), [tmp_path])
    assert found.of("words") == "https://two.example/" and found.of("@rain/x") == "https://rain.example/"
    # The user's own file trusts its own registry; a project's file chooses addresses and nothing else.
    assert found.connection.trusted_hosts == {"one.example"}
    assert found.connection.proxy is None and found.connection.certificates != "/x"
    assert [key for key, _ in found.ignored] == ["cafile", "proxy"]


@pytest.mark.needs("node")
def test_a_manifest_out_of_step_is_said_with_its_lines(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS])
    wishes = package_json([WORDS]).replace('"2.1.0"', '"^3.0.0"')
    clone = machine.clone({"package.json": wishes, "package-lock.json": lock([WORDS])})
    run = machine.run("onboard", clone, "--until", "dependencies")
    said = " ".join(run.err.split())
    assert "package.json asks for gauge-words ^3.0.0, the lock was made for 2.1.0 (package-lock.json:" in said
