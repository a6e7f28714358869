"""Pieces of Node clones on their own: which files a package is, workspaces, components, endpoints of a server."""

from __future__ import annotations

import json
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine
from test_node_sources import git

from plainfall.clone.walk import walk
from plainfall.ecosystems.node.install.repositories import pack, plain_files
from plainfall.ecosystems.node.lists.locks.yarn import _patched
from plainfall.ecosystems.node.recognise.servers import own_files, servers_below
from plainfall.ecosystems.node.recognise.workspaces import linked_folders, needed_first, owner_of, workspaces
from plainfall.ecosystems.node.resolve.direct import is_direct
from plainfall.errors import BadInput, DependencyProblem
from plainfall.packages.checkouts import apply_patch, check_out, references_of
from plainfall.server.endpoints import ask_endpoints
from plainfall.server.visitor import Visitor


def tree(folder: Path, files: dict[str, str]) -> Path:
    for name, text in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    return folder


FILES = {
    "index.js": "1", "lib/a.js": "1", "lib/deep/b.js": "1", "test/t.js": "1", "README.md": "#", "LICENSE": "x",
    "notes.log": "x", ".git/config": "x", "node_modules/x/y.js": "x", "package-lock.json": "{}", ".npmrc": "x",
    "lib/.hidden": "x", "CHANGELOG.md": "x",
}  # fmt: skip


@pytest.mark.parametrize(
    ("document", "more", "packed"),
    [
        ({}, {}, ["CHANGELOG.md", "LICENSE", "README.md", "index.js", "lib/.hidden", "lib/a.js", "lib/deep/b.js",
                  "notes.log", "package.json", "test/t.js"]),
        ({}, {".gitignore": "*.log\n/test\nlib/.hidden\n"},
         ["CHANGELOG.md", "LICENSE", "README.md", "index.js", "lib/a.js", "lib/deep/b.js", "package.json"]),
        # An ignore file for packages stands over the one for version control.
        ({}, {".gitignore": "/lib\n", ".npmignore": "/test\n*.log\n*.md\n"},
         ["LICENSE", "index.js", "lib/.hidden", "lib/a.js", "lib/deep/b.js", "package.json"]),
        ({"files": ["lib"]}, {".npmignore": "lib\n"},
         ["LICENSE", "README.md", "lib/.hidden", "lib/a.js", "lib/deep/b.js", "package.json"]),
        ({"files": ["lib", "!lib/deep"], "main": "./index.js"}, {},
         ["LICENSE", "README.md", "index.js", "lib/.hidden", "lib/a.js", "package.json"]),
        ({"files": ["*.js"], "bin": "lib/a.js"}, {}, ["LICENSE", "README.md", "index.js", "lib/a.js", "package.json"]),
        ({"files": ["lib"]}, {"lib/.npmignore": "deep\n"}, ["LICENSE", "README.md", "lib/.hidden", "lib/a.js", "package.json"]),
    ],
)  # fmt: skip
def test_which_files_a_package_is(
    tmp_path: Path, document: dict[str, Any], more: dict[str, str], packed: list[str]
) -> None:
    checkout = tree(
        tmp_path / "from", {**FILES, **more, "package.json": json.dumps({"name": "x", **document})}
    )
    (checkout / "link.js").symlink_to("index.js")
    (tmp_path / "to").mkdir()
    found = [one.path for one in pack(checkout, tmp_path / "to")]
    assert sorted(found) == sorted(packed)
    assert sorted(
        str(p.relative_to(tmp_path / "to")) for p in (tmp_path / "to").rglob("*") if p.is_file()
    ) == sorted(found)


def test_a_checkout_that_is_no_package(tmp_path: Path) -> None:
    (tmp_path / "to").mkdir()
    with pytest.raises(DependencyProblem, match=r"no package\.json"):
        pack(tree(tmp_path / "from", {"index.js": "1"}), tmp_path / "to")
    found = plain_files(tree(tmp_path / "all", FILES), tmp_path / "to", ["*.log", "/lib/deep"])
    names = {one.path for one in found}
    assert "lib/a.js" in names and not names & {"notes.log", "lib/deep/b.js", ".git/config"}


@pytest.mark.parametrize(
    ("patterns", "chosen"),
    [
        (["apps/*"], ["apps/api", "apps/web"]),
        (["apps/*", "!apps/web"], ["apps/api"]),
        (["./apps/web/", "libs/**"], ["apps/web", "libs/a/deep", "libs/b"]),
        (["*"], ["top"]),
        (["../outside", "/absolute", "."], []),
        ({"packages": ["libs/*"]}, ["libs/b"]),
        ("apps", []),
    ],
)
def test_patterns_of_workspaces(tmp_path: Path, patterns: Any, chosen: list[str]) -> None:
    places = ("apps/api", "apps/web", "libs/a/deep", "libs/b", "top", "apps/web/node_modules/x")
    manifest = {"name": "all", "workspaces": patterns}
    tree(tmp_path, {f"{place}/package.json": '{"name": "x"}' for place in places})
    tree(tmp_path, {"package.json": json.dumps(manifest)})
    assert sorted(workspaces(tmp_path, manifest)) == chosen
    walked = walk(tmp_path)
    assert [place for place in sorted(places[:5]) if (owner_of(walked, place) or ("", False))[1]] == chosen


def test_a_workspace_that_cannot_be_read_is_named(tmp_path: Path) -> None:
    tree(tmp_path, {"apps/api/package.json": "{broken", "package.json": "{}"})
    with pytest.raises(BadInput, match=r"apps/api/package\.json"):
        workspaces(tmp_path, {"workspaces": ["apps/*"]})
    tree(tmp_path, {"pnpm-workspace.yaml": "packages:\n  - [\n"})
    with pytest.raises(BadInput, match=r"pnpm-workspace\.yaml:\d"):
        workspaces(tmp_path, {})


def test_workspaces_that_others_need_come_first() -> None:
    members: dict[str, dict[str, Any]] = {
        "a": {"name": "a", "dependencies": {"c": "*"}},
        "b": {"name": "b"},
        "c": {"name": "c", "devDependencies": {"d": "*"}},
        "d": {"name": "d", "dependencies": {"a": "*"}},  # a circle
    }
    assert needed_first(members) == ["d", "c", "a", "b"]
    wishes = {"dependencies": {"x": "file:../shared", "y": "link:lib", "z": "file:a.tgz", "w": "^1"}}
    assert linked_folders(wishes) == ["../shared", "lib"]


def test_which_folders_have_servers(tmp_path: Path) -> None:
    serve = "require('http').createServer(f).listen(1)"
    tree(tmp_path, {
        "package.json": '{"name": "all"}', "tool.js": serve,
        "api/package.json": '{"scripts": {"start": "node index.js"}}', "api/index.js": serve,
        "lib/package.json": '{"scripts": {"dev": "tsc -w"}}', "lib/index.js": "module.exports = 1",
        "web/package.json": '{"scripts": {"dev": "vite"}}',
    })  # fmt: skip
    walked = walk(tmp_path)
    assert servers_below(walked, "") == ["api", "web"]
    assert sorted(own_files(walked, "")) == ["package.json", "tool.js"]


@pytest.mark.parametrize(
    ("source", "inner", "patches"),
    [
        ("patch:words@npm%3A1.0.0#./patches/a.patch", "npm:1.0.0", ("patches/a.patch",)),
        (
            "patch:words@npm%3A1.0.0#~/.yarn/patches/a.patch&~/b.patch::version=1",
            "npm:1.0.0",
            (".yarn/patches/a.patch", "b.patch"),
        ),
        ("patch:words@npm%3A1.0.0#optional!builtin<compat/words>", "npm:1.0.0", ()),
        ("patch:words@npm%3A1.0.0#~builtin<compat/words>", "npm:1.0.0", ()),
        (
            "patch:words@npm%3A1.0.0#./a.patch::locator=web%40workspace%3Aapps%2Fweb",
            "npm:1.0.0",
            ("apps/web/a.patch",),
        ),
    ],
)
def test_patches_in_a_newer_lock(source: str, inner: str, patches: tuple[str, ...]) -> None:
    assert _patched(source, "yarn.lock") == (inner, patches)


def test_wishes_that_name_a_place() -> None:
    places = (
        "file:../x",
        "link:y",
        "./z",
        "../z",
        "https://h.example/x.tgz",
        "ada/gauge",
        "git@h.example:a/b.git",
    )
    ranges = ("^1.0.0", "latest", "1.x || 2", "npm:words@^1", "workspace:*", "patch:words@npm%3A1#./p.patch")
    assert all(is_direct(one) for one in places) and not any(is_direct(one) for one in ranges)


@pytest.mark.needs("git")
def test_revisions_are_asked_for_and_checked_out(tmp_path: Path) -> None:
    folder = tree(tmp_path / "origin", {"a.txt": "one\n"})
    git(folder, "init", "-q")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "one")
    git(folder, "tag", "-a", "v1.0.0", "-m", "one")
    first = git(folder, "rev-parse", "HEAD")
    (folder / "a.txt").write_text("two\n")
    git(folder, "commit", "-qam", "two")
    known = references_of([f"file://{folder}"], {})
    assert known["v1.0.0"] == first and known["HEAD"] == known["main"] != first
    assert (
        check_out([f"file://{tmp_path}/none", f"file://{folder}"], "v1.0.0", tmp_path / "work", {}) == first
    )
    assert (tmp_path / "work/a.txt").read_text() == "one\n"
    with pytest.raises(DependencyProblem, match="revision v9"):
        check_out([f"file://{folder}"], "v9", tmp_path / "other", {})
    with pytest.raises(DependencyProblem, match="cannot be asked"):
        references_of([f"file://{tmp_path}/none"], {})
    with pytest.raises(DependencyProblem, match="git is not on the path"):
        references_of([f"file://{folder}"], {"PATH": str(tmp_path)})


@pytest.mark.needs("git")
def test_a_patch_is_put_on_or_nothing_is_changed(tmp_path: Path) -> None:
    # Within a repository that ignores the folder, as those of installed packages are.
    git(tmp_path, "init", "-q")
    folder = tree(tmp_path / "package", {"a.txt": "one\n", "b.txt": "x\n"})
    patch = tmp_path / "p.patch"
    hunk = "diff --git a/{0} b/{0}\n--- a/{0}\n+++ b/{0}\n@@ -1 +1 @@\n-{1}\n+{2}\n"
    patch.write_text(hunk.format("a.txt", "one", "two") + hunk.format("b.txt", "y", "z"))
    with pytest.raises(DependencyProblem, match="does not fit"):
        apply_patch(patch, folder, {})
    assert (folder / "a.txt").read_text() == "one\n"
    patch.write_text(hunk.format("a.txt", "one", "two"))
    apply_patch(patch, folder, {})
    assert (folder / "a.txt").read_text() == "two\n"
    outside = hunk.format("../p.patch", "diff", "x")
    patch.write_text(outside)
    with pytest.raises(DependencyProblem):
        apply_patch(patch, folder, {})
    assert patch.read_text() == outside


@contextmanager
def answering(pages: dict[str, tuple[int, str]]) -> Iterator[str]:
    class Pages(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            status, body = pages.get(self.path, (404, ""))
            self.send_response(status)
            self.send_header("Content-Type", "application/json")
            self.end_headers()
            self.wfile.write(body.encode())

        def log_message(self, format: str, *words: object) -> None:
            """Nothing is printed."""

    with ThreadingHTTPServer(("127.0.0.1", 0), Pages) as server:
        threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
        yield f"http://127.0.0.1:{server.server_address[1]}/"
        server.shutdown()


def test_an_old_description_of_an_interface_has_a_base_path() -> None:
    paths = {"/wet": {"get": {}}, "/{id}": {"get": {}}, "/new": {"post": {}}, "/x": []}
    document = json.dumps({"swagger": "2.0", "basePath": "/v1", "paths": paths})
    with answering({"/swagger.json": (200, document), "/v1/wet": (200, "[]"), "/own": (500, "")}) as url:
        found = ask_endpoints(url, ["/own", "no-path"], Visitor(2.0))
        assert [(one.path, one.status, one.source) for one in found] == [
            ("/own", 500, "the code's route"),
            ("/v1/wet", 200, "/swagger.json"),
        ]
        assert found[0].broken and not found[1].broken
    assert ask_endpoints("http://127.0.0.1:9/", ["/a"], Visitor(0.2))[0].status == 0


@pytest.mark.needs("git", "node")
def test_a_plain_name_is_looked_up_at_the_registry_of_components(
    machine: Machine, node_registry: Any, tmp_path: Path
) -> None:
    node_registry([])
    folder = tree(tmp_path / "depth", {"depth.js": "1", "bower.json": '{"dependencies": {"inner": "*"}}'})
    git(folder, "init", "-q")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "one")
    git(folder, "tag", "v1.0.0")
    inner = tree(tmp_path / "inner", {"inner.js": "1"})
    git(inner, "init", "-q")
    git(inner, "add", ".")
    git(inner, "commit", "-qm", "one")
    rows = {
        name: (200, json.dumps({"name": name, "url": f"file://{tmp_path / name}"}))
        for name in ("depth", "inner")
    }
    with answering({f"/packages/{name}": row for name, row in rows.items()}) as url:
        clone = machine.clone(
            {
                "bower.json": '{"dependencies": {"depth": "~1.0"}}',
                ".bowerrc": json.dumps({"registry": {"search": [url]}}),
            }
        )
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == 0, run.err
        assert (clone / "bower_components/depth/depth.js").exists() and (
            clone / "bower_components/inner/inner.js"
        ).exists()
        (clone / "bower.json").write_text('{"dependencies": {"no-such": "*"}}')
        absent = machine.run("onboard", clone, "--until", "dependencies")
        assert absent.status == 1 and "has no no-such" in " ".join(absent.err.split())
