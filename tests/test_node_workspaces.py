"""Workspaces and links to folders, without a lock; what a manifest forces; parts inside of a clone's part."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER as PYTHON_SERVER
from conftest import Machine

from plainfall.ecosystems.node.resolve.overrides import Overrides
from plainfall.standins.node_registry import node_archive
from plainfall.survey.look import look

WORDS1, WORDS2 = node_archive("words", "1.4.0"), node_archive("words", "2.1.0")
BOARD = node_archive("board", "3.0.0", {}, dependencies={"words": "^1.0.0"})
SAY = "console.log(['words', 'board/../words'].map((one) => require(one)).join(' '))"
SERVES = """\
require("node:http").createServer((ask, answer) => {
  answer.setHeader("content-type", "text/html");
  answer.end(`<title>${require("words")}</title>ok`);
}).listen(process.env.PORT || 3000, "127.0.0.1");
"""


def manifest(name: str, **more: Any) -> str:
    return json.dumps({"name": name, "version": "1.0.0", **more})


def version(clone: Path, place: str) -> str:
    found: str = json.loads((clone / place / "package.json").read_text())["version"]
    return found


@pytest.mark.parametrize("named", ["in the manifest", "in a file of its own"])
@pytest.mark.needs("node")
def test_workspaces_are_resolved_together_and_linked(
    machine: Machine, node_registry: Any, named: str
) -> None:
    node_registry([WORDS1, WORDS2, BOARD])
    own = {"workspaces": ["packages/*", "!packages/old"]} if named == "in the manifest" else {}
    more = {} if own else {"pnpm-workspace.yaml": "packages:\n  - packages/*\n  - '!packages/old'\n"}
    clone = machine.clone(
        {
            "package.json": manifest("top", private=True, **own),
            "packages/a/package.json": manifest("a", dependencies={"b": "workspace:*", "words": "^2.0.0"}),
            "packages/b/package.json": manifest("b", dependencies={"board": "3.0.0", "words": "^2.0.0"}),
            "packages/old/package.json": manifest("old", dependencies={"no-such-package": "1"}),
            **more,
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out + run.err
    modules = clone / "node_modules"
    assert (modules / "b").resolve() == clone / "packages/b" and not (modules / "old").exists()
    assert version(clone, "node_modules/words") == "2.1.0" or version(clone, "node_modules/words") == "1.4.0"
    assert (
        version(clone, "packages/a/node_modules/words" if _nested(clone, "a") else "node_modules/words")
        == "2.1.0"
    )
    inner = "node_modules/board/node_modules/words"
    assert version(clone, inner if (clone / inner).exists() else "node_modules/words") == "1.4.0"
    # A workspace that asks for something else is resolved anew.
    (clone / "packages/a/package.json").write_text(manifest("a", dependencies={"words": "^1.0.0"}))
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.states["dependencies"] == "done"
    assert (
        version(clone, "packages/a/node_modules/words" if _nested(clone, "a") else "node_modules/words")
        == "1.4.0"
    )


def _nested(clone: Path, name: str) -> bool:
    return (clone / f"packages/{name}/node_modules/words").exists()


@pytest.mark.needs("node")
def test_links_to_folders_and_archives_of_the_clone(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, BOARD])
    clone = machine.clone(
        {
            "package.json": manifest(
                "top", dependencies={"shared": "file:./shared", "depth": "file:vendored/depth-1.0.0.tgz"}
            ),
            "shared/package.json": manifest("shared", dependencies={"board": "^3.0.0"}),
            "vendored/depth-1.0.0.tgz": node_archive("depth", dependencies={"words": "*"}).content,
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 0, run.err
    assert (clone / "node_modules/shared").resolve() == clone / "shared"
    for name in ("board", "depth", "words"):
        assert (clone / "node_modules" / name / "package.json").is_file()
    (clone / "package.json").write_text(manifest("top", dependencies={"far": "file:../../elsewhere"}))
    failed = machine.run("onboard", clone, "--until", "dependencies")
    assert failed.status == 1 and "outside the clone" in failed.err


def test_what_a_manifest_forces() -> None:
    forced = Overrides(
        {
            "dependencies": {"words": "2.x"},
            "overrides": {"words": "$words", "board": {".": "3.0.0", "depth": "1.1.0"}, "a@1 > b": "4"},
            "resolutions": {"**/seals": "5", "board/tusks": "6"},
        }
    )
    assert forced.of("words", "*", ("x", "words")) == "2.x"
    assert forced.of("board", "*", ("board",)) == "3.0.0"
    assert forced.of("depth", "*", ("board", "mid", "depth")) == "1.1.0"
    assert forced.of("depth", "*", ("other", "depth")) == "*"
    assert forced.of("b", "*", ("a", "b")) == "4" and forced.of("b", "*", ("b",)) == "*"
    assert forced.of("seals", "*", ("x", "seals")) == "5"
    assert forced.of("tusks", "*", ("board", "tusks")) == "6" and forced.of("tusks", "*", ("tusks",)) == "*"


@pytest.mark.needs("node")
def test_servers_of_workspaces_are_parts_that_the_top_installs(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, WORDS2])
    clone = machine.clone(
        {
            "package.json": manifest(
                "top", workspaces=["apps/*"], scripts={"dev": "concurrently 'npm:dev --workspaces'"}
            ),
            "apps/api/package.json": manifest(
                "api", dependencies={"words": "^1.0.0"}, scripts={"dev": "node server.js"}
            ),
            "apps/api/server.js": SERVES,
            "apps/web/package.json": manifest(
                "web",
                dependencies={"words": "^2.0.0", "shared": "*"},
                scripts={"dev": "node server.js"},
            ),
            "apps/web/server.js": SERVES,
            "apps/shared/package.json": manifest(
                "shared", scripts={"prepare": "echo made > made.txt", "dev": "echo watching"}
            ),
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    titles = {server["part"]: server["probe"]["title"] for server in run.document["servers"]}
    assert titles == {"apps/api": "1.4.0", "apps/web": "2.1.0"}
    assert (clone / "apps/shared/made.txt").read_text() == "made\n"
    again = machine.run("onboard", clone, "--json")
    assert {step["state"] for step in again.document["steps"]} <= {"kept", "left out"}


@pytest.mark.needs("node")
def test_a_script_that_starts_every_part_gives_way_to_the_parts(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, WORDS2])
    clone = machine.clone(
        {
            "package.json": manifest(
                "top",
                dependencies={"words": "^1.0.0"},
                scripts={
                    "dev": "concurrently 'npm run server' 'npm --prefix client run dev'",
                    "server": "node server.js",
                },
            ),
            "server.js": SERVES,
            "client/package.json": manifest(
                "client", dependencies={"words": "^2.0.0"}, scripts={"dev": "node server.js"}
            ),
            "client/server.js": SERVES,
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    titles = {server["part"]: server["probe"]["title"] for server in run.document["servers"]}
    assert titles == {"": "1.4.0", "client": "2.1.0"}


NEEDS_ANOTHER = """\
require("dotenv-words").load();
fetch(process.env.API_URL).then(() => {
  require("node:http").createServer((ask, answer) => {
    answer.setHeader("content-type", "text/html");
    answer.end("<title>board</title>");
  }).listen(process.env.PORT || 3000, "127.0.0.1");
});
"""
LOADS = node_archive(
    "dotenv-words",
    "1.0.0",
    {
        "index.js": "exports.load = () => require('fs').readFileSync('.env', 'utf8').split('\\n').forEach((line) =>"
        " { const [key, value] = line.split('='); if (value) process.env[key] ??= value; });\n"
    },
)


@pytest.mark.needs("node")
def test_a_server_that_needs_anothers_address_comes_after_it(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS1, LOADS])
    clone = machine.clone(
        {
            "a-board/package.json": manifest(
                "board", dependencies={"dotenv-words": "1"}, scripts={"start": "node server.js"}
            ),
            "a-board/server.js": NEEDS_ANOTHER,
            "a-board/.env.example": "API_URL=http://localhost:4310/\n",
            "z-api/package.json": manifest(
                "api", dependencies={"words": "1"}, scripts={"start": "node server.js"}
            ),
            "z-api/server.js": SERVES.replace("3000", "4310"),
            "z-api/.env.example": "CORS_ORIGIN=http://localhost:3000\n",
        }
    )
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    assert [server["part"] for server in run.document["servers"]] == ["z-api", "a-board"]
    remarks = [r for step in run.document["steps"] if step["stage"] == "server" for r in step["remarks"]]
    assert any("started after z-api, whose address it needs (a-board/.env.example:1)" in r for r in remarks)


PYTHON = {"requirements.txt": "", "app.py": PYTHON_SERVER, "Procfile": "web: python app.py\n"}
BUILD = "require('fs').writeFileSync('built.txt', require('words'))"


@pytest.mark.needs("node")
def test_assets_beside_a_python_part_are_built_before_its_server(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([WORDS1])
    own = manifest(
        "assets", dependencies={"words": "1"}, scripts={"build": "node build.js", "start": "python app.py"}
    )
    clone = machine.clone({**PYTHON, "package.json": own, "build.js": BUILD})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    assert [server["part"] for server in run.document["servers"]] == [""]
    order = [(step["part"], step["stage"]) for step in run.document["steps"]]
    assert order.index(("(node)", "tasks")) < order.index(("", "server"))
    assert (clone / "built.txt").read_text() == "1.4.0"
    again = machine.run("onboard", clone, "--json")
    assert {step["state"] for step in again.document["steps"]} <= {"kept", "left out"}
    assert [part["key"] for part in machine.run("survey", clone, "--json").document["parts"]] == [
        "",
        "(node)",
    ]


@pytest.mark.needs("node")
def test_a_dev_server_beside_a_python_part_has_a_port_of_its_own(
    machine: Machine, node_registry: Any
) -> None:
    node_registry([WORDS1])
    own = manifest("assets", dependencies={"words": "1"}, scripts={"dev": "node watch.js"})
    clone = machine.clone({**PYTHON, "package.json": own, "watch.js": SERVES, ".env.example": "PORT=8642\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    servers = {server["part"]: server for server in run.document["servers"]}
    assert servers[""]["port"] == 8642 and servers["(node)"]["port"] != 8642
    assert servers["(node)"]["probe"]["title"] == "1.4.0" and servers[""]["probe"]["title"] == "Gauge"
    stopped = machine.run("stop", clone)
    assert stopped.out.count("is free") == 2


SHARED = {
    "packages/shared/package.json": manifest(
        "@rain/shared", main="dist/index.js", scripts={"build": "node build.js"}
    ),
    "packages/shared/build.js": (
        "const fs = require('fs');\nfs.mkdirSync('dist', { recursive: true });\n"
        "fs.copyFileSync('words.js', 'dist/index.js');\n"
    ),
    "packages/shared/words.js": "module.exports = 'four millimetres';\n",
    "packages/deep/package.json": manifest("@rain/deep", dependencies={"@rain/shared": "1.0.0"}),
    "packages/deep/index.js": "module.exports = require('@rain/shared');\n",
}


@pytest.mark.parametrize("client", ["npm", "pnpm", "yarn"])
@pytest.mark.needs("node")
def test_shared_packages_are_built_before_the_parts_that_import_them(
    machine: Machine, node_registry: Any, client: str
) -> None:
    node_registry([])
    fan_out = {
        "npm": "npm run dev --workspaces --if-present", "pnpm": "pnpm -r --parallel dev",
        "yarn": "yarn workspaces run dev",
    }[client]  # fmt: skip
    top = {"workspaces": ["packages/*", "apps/*"]} if client != "pnpm" else {}
    files = {
        **SHARED,
        **({} if top else {"pnpm-workspace.yaml": "packages:\n  - packages/*\n  - apps/*\n"}),
        "package.json": manifest("top", private=True, scripts={"dev": fan_out}, **top),
        ".gitignore": "dist\nnode_modules\n",
    }
    for number, name in enumerate(("api", "desk")):
        files[f"apps/{name}/package.json"] = manifest(
            name, scripts={"dev": "node server.js"}, dependencies={"@rain/deep": "1.0.0"}
        )
        files[f"apps/{name}/server.js"] = SERVES.replace('"words"', '"@rain/deep"').replace(
            "3000", f"431{number}"
        )
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    assert [one["probe"]["title"] for one in run.document["servers"]] == ["four millimetres"] * 2
    again = machine.run("onboard", clone, "--json")
    assert {step["state"] for step in again.document["steps"]} <= {"kept", "left out"}
    (clone / "packages/shared/words.js").write_text("module.exports = 'five millimetres';\n")
    later = machine.run("onboard", clone, "--json")
    [tasks] = [step for step in later.document["steps"] if step["stage"] == "tasks"]
    assert tasks["state"] == "done" and "five" in (clone / "packages/shared/dist/index.js").read_text()


@pytest.mark.needs("node")
def test_a_proxy_whose_target_does_not_listen_is_no_good_page(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    page = SERVES.replace('require("words")', '"Desk"')
    files = {
        "package.json": manifest("desk", proxy="http://localhost:4399", scripts={"start": "node server.js"}),
        "server.js": page,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone)
    assert run.status == 1
    text = " ".join(run.err.split())
    assert "nothing listens on port 4399, to which it passes requests on" in text and "package.json:1" in text


def test_a_readme_that_builds_all_and_starts_all_leaves_it_to_the_parts(machine: Machine) -> None:
    readme = "# Rain\n\n## Setup\n\n### Build\n\n    npm run build\n\n### Develop\n\n    npm run dev\n"
    files = {
        "README.md": readme,
        "package.json": manifest(
            "top", workspaces=["apps/*"], scripts={"build": "turbo run build", "dev": "turbo dev"}
        ),
        "apps/web/package.json": manifest("web", scripts={"dev": "vite"}, devDependencies={"vite": "*"}),
        "apps/web/index.html": "<title>Gauges</title>",
    }
    survey, _ = look(machine.clone(files))
    assert {part.path: [one.line for one in part.candidates("server")][:1] for part in survey.parts} == {
        "": [],
        "apps/web": ["npm run dev -- --host 127.0.0.1 --port ${PORT:-5173} --strictPort"],
    }
    alone = {
        "README.md": readme,
        "package.json": manifest("top", scripts={"build": "tsc", "dev": "node all.js"}),
    }
    survey, _ = look(machine.clone(alone, "alone"))
    assert [one.line for one in survey.parts[0].candidates("server")] == ["npm run dev"]
