"""Packages that come from elsewhere than a registry: repositories; and patches that the clone carries."""

from __future__ import annotations

import json
import shutil
import subprocess
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine
from node_clones import lock, package_json

from plainfall.ecosystems.node.install.repositories import repository_source
from plainfall.standins.node_registry import node_archive

SHA = "0123456789abcdef0123456789abcdef01234567"
WORDS = node_archive("gauge-words", "2.1.0", {"index.js": "module.exports = 'rain';\n"})
PATCH = """\
diff --git a/index.js b/index.js
--- a/index.js
+++ b/index.js
@@ -1 +1 @@
-module.exports = 'rain';
+module.exports = 'snow';
"""


def git(folder: Path, *words: str) -> str:
    who = ["-c", "user.name=Ada", "-c", "user.email=ada@rain.example", "-c", "init.defaultBranch=main"]
    done = subprocess.run(["git", *who, *words], cwd=folder, capture_output=True, text=True, check=True)
    return done.stdout.strip()


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    """A package under version control, with files that are not to be published, tagged twice."""
    folder = tmp_path / "repository"
    for name, text in {
        "package.json": json.dumps(
            {
                "name": "depth",
                "version": "1.2.0",
                "main": "lib/index.js",
                "bin": {"depth": "cli.js"},
                "files": ["lib", "!lib/*.test.js"],
                "scripts": {"prepare": "echo built > lib/built.js"},
            }
        ),
        "lib/index.js": "module.exports = 'depth one';\n",
        "lib/index.test.js": "throw 1;\n",
        "cli.js": "#!/usr/bin/env node\nconsole.log('depth');\n",
        "README.md": "# Depth\n",
        "notes.txt": "not for you\n",
        "inner/package.json": '{"name": "inner", "version": "0.1.0"}',
        "inner/.npmignore": "draft.txt\n",
        "inner/draft.txt": "x",
        "inner/index.js": "module.exports = 'inner';\n",
    }.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    git(folder, "init", "-q")
    git(folder, "add", ".")
    git(folder, "commit", "-qm", "Depth")
    git(folder, "tag", "-a", "v1.2.0", "-m", "one")
    (folder / "lib/index.js").write_text("module.exports = 'depth two';\n")
    git(folder, "commit", "-qam", "Two")
    git(folder, "tag", "v2.0.0")
    return folder


def show(expression: str) -> dict[str, Any]:
    """A manifest's part: a script of the clone's own, run at the end of an install, that writes a word."""
    return {"scripts": {"postinstall": f'node -p "{expression}" > said.txt'}}


@pytest.mark.parametrize(
    ("text", "addresses", "revision"),
    [
        (f"git+https://h.example/u/r.git#{SHA}", ("https://h.example/u/r.git",), SHA),
        (f"git+ssh://git@h.example/u/r.git#{SHA}", ("ssh://git@h.example/u/r.git",), SHA),
        ("git@h.example:u/r.git#v1", ("ssh://git@h.example/u/r.git",), "v1"),
        ("https://h.example/u/r.git#commit=abc", ("https://h.example/u/r.git",), "abc"),
        ("gitlab:u/r#next", ("https://gitlab.com/u/r.git", "ssh://git@gitlab.com/u/r.git"), "next"),
        ("u/r", ("https://github.com/u/r.git", "ssh://git@github.com/u/r.git"), ""),
        ("https://h.example/u/r/-/r-1.0.0.tgz", None, ""),
        ("file:../r", None, ""),
        ("./u/r", None, ""),
        ("@rain/units", None, ""),
    ],
)
def test_addresses_of_repositories(text: str, addresses: tuple[str, ...] | None, revision: str) -> None:
    source = repository_source(text)
    assert (source and source.addresses) == addresses and (source is None or source.revision == revision)


def locked_at(address: str, name: str = "depth") -> str:
    entry = {"version": "1.2.0", "resolved": address, "bin": {"depth": "cli.js"}}
    return json.dumps({"lockfileVersion": 3, "packages": {"": {}, f"node_modules/{name}": entry}})


@pytest.mark.needs("node", "git")
def test_a_revision_is_laid_as_its_manifest_packs_it(
    machine: Machine, node_registry: Any, repository: Path
) -> None:
    node_registry([])
    commit = git(repository, "rev-parse", "v1.2.0^{commit}")
    address = f"git+file://{repository}#{commit}"
    files = {
        "package.json": json.dumps(
            {"name": "board", "dependencies": {"depth": address}, **show("require('depth')")}
        ),
        "package-lock.json": locked_at(address),
    }
    clone = machine.clone(files)
    run = machine.run(
        "onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json", "--json"
    )
    assert run.status == 0, run.out + run.err
    laid = clone / "node_modules/depth"
    names = sorted(str(path.relative_to(laid)) for path in laid.rglob("*") if path.is_file())
    assert names == ["README.md", "cli.js", "lib/index.js", "package.json"]
    assert (clone / "said.txt").read_text() == "depth one\n"
    assert (clone / "node_modules/.bin/depth").exists()
    assert "prepare: echo built" in str(run.step("dependencies")["remarks"])
    # Known by its commit: nothing is asked a second time, and another clone gets it from the cache.
    shutil.move(repository, repository.with_name("away"))
    other = machine.clone(files, "other")
    assert (
        machine.run(
            "onboard", other, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert (other / "said.txt").read_text() == "depth one\n"


@pytest.mark.needs("node", "git")
def test_preparing_code_of_a_revision_runs_if_allowed(
    machine: Machine, node_registry: Any, repository: Path
) -> None:
    node_registry([])
    address = f"git+file://{repository}#{git(repository, 'rev-parse', 'HEAD')}"
    clone = machine.clone(
        {
            "package.json": json.dumps({"dependencies": {"depth": address}}),
            "package-lock.json": locked_at(address),
        }
    )
    run = machine.run(
        "onboard",
        clone,
        "--until",
        "dependencies",
        "--allow-install-code",
        "package.json",
        "--allow-install-code",
        "depth",
        "--json",
    )
    assert run.status == 0, run.out
    assert (clone / "node_modules/depth/lib/built.js").read_text() == "built\n"


@pytest.mark.needs("node", "git")
def test_a_revision_that_is_not_there(machine: Machine, node_registry: Any, repository: Path) -> None:
    node_registry([])
    address = f"git+file://{repository}#{SHA}"
    clone = machine.clone({"package.json": '{"dependencies": {"depth": "*"}}'})
    (clone / "package-lock.json").write_text(locked_at(address))
    run = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert run.status == 1 and f"revision {SHA}" in run.err and "may read that repository" in run.err
    assert not (clone / "node_modules/depth").exists()


CLASSIC = """\
# yarn lockfile v1


"depth@{wish}":
  version "1.2.0"
  resolved "{address}"
"""
NEWER_REVISION = """\
__metadata:
  version: 8

"depth@{wish}":
  version: 1.2.0
  resolution: "depth@{wish}"
  linkType: hard
"""
PNPM = """\
lockfileVersion: '9.0'
importers:
  .:
    dependencies:
      depth:
        specifier: {wish}
        version: {address}
packages:
  depth@{address}:
    resolution: {{commit: {commit}, repo: 'file://{repository}', type: git}}
    version: 1.2.0
snapshots:
  depth@{address}: {{}}
"""


@pytest.mark.parametrize("kind", ["yarn.lock", "newer yarn.lock", "pnpm-lock.yaml", "format 1", "no lock"])
@pytest.mark.needs("node", "git")
def test_revisions_in_every_kind_of_lock(
    machine: Machine, node_registry: Any, repository: Path, kind: str
) -> None:
    node_registry([])
    commit = git(repository, "rev-parse", "v1.2.0^{commit}")
    address = f"git+file://{repository}#{commit}"
    wish = f"git+file://{repository}#semver:^1.0.0" if kind == "no lock" else address
    values = {"wish": wish, "address": address, "commit": commit, "repository": repository}
    old = {"lockfileVersion": 1, "dependencies": {"depth": {"version": address}}}
    locks = {
        "yarn.lock": {"yarn.lock": CLASSIC.format(**values)},
        "newer yarn.lock": {"yarn.lock": NEWER_REVISION.format(**values)},
        "pnpm-lock.yaml": {"pnpm-lock.yaml": PNPM.format(**values)},
        "format 1": {"package-lock.json": json.dumps(old)},
        "no lock": {},
    }
    clone = machine.clone(
        {
            "package.json": json.dumps({"dependencies": {"depth": wish}, **show("require('depth')")}),
            **locks[kind],
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert run.status == 0, run.err
    assert (clone / "said.txt").read_text() == "depth one\n"


PATCHED_NEWER = """\
__metadata:
  version: 8

"gauge-words@npm:2.1.0":
  version: 2.1.0
  resolution: "gauge-words@npm:2.1.0"
  linkType: hard

"gauge-words@patch:gauge-words@npm%3A2.1.0#~/.yarn/patches/gauge-words.patch":
  version: 2.1.0
  resolution: "gauge-words@patch:gauge-words@npm%3A2.1.0#~/.yarn/patches/gauge-words.patch::version=2.1.0"
  linkType: hard
"""
PATCHED_PNPM = f"""\
lockfileVersion: '9.0'
patchedDependencies:
  gauge-words@2.1.0:
    hash: abc
    path: patches/gauge-words@2.1.0.patch
importers:
  .:
    dependencies:
      gauge-words: {{specifier: ^2.0.0, version: 2.1.0(patch_hash=abc)}}
packages:
  gauge-words@2.1.0:
    resolution: {{integrity: {WORDS.integrity}}}
snapshots:
  gauge-words@2.1.0(patch_hash=abc): {{}}
"""
PATCHED_WISH = "patch:gauge-words@npm%3A2.1.0#~/.yarn/patches/gauge-words.patch"


@pytest.mark.parametrize("kind", ["yarn", "pnpm"])
@pytest.mark.needs("node", "git")
def test_patches_of_the_clone_are_put_on(machine: Machine, node_registry: Any, kind: str) -> None:
    node_registry([WORDS])
    patch = ".yarn/patches/gauge-words.patch" if kind == "yarn" else "patches/gauge-words@2.1.0.patch"
    wish = PATCHED_WISH if kind == "yarn" else "^2.0.0"
    clone = machine.clone(
        {
            "package.json": json.dumps(
                {"dependencies": {"gauge-words": wish}, **show("require('gauge-words')")}
            ),
            patch: PATCH,
            **({"yarn.lock": PATCHED_NEWER} if kind == "yarn" else {"pnpm-lock.yaml": PATCHED_PNPM}),
        }
    )
    run = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert run.status == 0, run.err
    assert (clone / "said.txt").read_text() == "snow\n"
    (clone / patch).write_text(PATCH.replace("snow", "hail"))
    assert (
        machine.run(
            "onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert (clone / "said.txt").read_text() == "hail\n"
    # The package itself is as it was, for every other clone.
    other = machine.clone(
        {
            "package.json": package_json([WORDS], **show("require('gauge-words')")),
            "package-lock.json": lock([WORDS]),
        },
        "other",
    )
    assert (
        machine.run(
            "onboard", other, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert (other / "said.txt").read_text() == "rain\n"
    (clone / patch).write_text(PATCH.replace("rain", "sleet"))
    failed = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert failed.status == 1 and "does not fit" in failed.err and Path(patch).name in failed.err
    (clone / patch).unlink()
    gone = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert gone.status == 1 and "is not in the clone" in " ".join(gone.err.split())


@pytest.mark.needs("node", "git")
def test_files_that_the_clones_own_script_patches_are_copies(machine: Machine, node_registry: Any) -> None:
    node_registry([WORDS])
    files = {
        "package.json": package_json(
            [WORDS],
            scripts={"postinstall": "echo \"module.exports = 'fog';\" > node_modules/gauge-words/index.js"},
        ),
        "package-lock.json": lock([WORDS]),
        "patches/gauge-words+2.1.0.patch": PATCH,
    }
    clone = machine.clone(files)
    assert (
        machine.run(
            "onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert "fog" in (clone / "node_modules/gauge-words/index.js").read_text()
    other = machine.clone(
        {
            "package.json": package_json([WORDS], **show("require('gauge-words')")),
            "package-lock.json": lock([WORDS]),
        },
        "other",
    )
    assert (
        machine.run(
            "onboard", other, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert (other / "said.txt").read_text() == "rain\n"


def components(repository: Path, **more: Any) -> dict[str, str]:
    wishes = {"depth": f"file://{repository}#^1.0.0"}
    return {
        "bower.json": json.dumps({"name": "board", "dependencies": wishes, **more}),
        "requirements.txt": "",
        "app.py": "print('gauges')\n",
    }


@pytest.mark.needs("node", "git")
def test_browser_components_are_laid_from_their_repositories(
    machine: Machine, node_registry: Any, repository: Path
) -> None:
    node_registry([])
    (repository / "bower.json").write_text('{"ignore": ["cli.js", "**/*.test.js"]}')
    git(repository, "add", ".")
    git(repository, "commit", "-qm", "Three")
    git(repository, "tag", "v1.3.0")
    files = components(repository)
    clone = machine.clone({**files, ".bowerrc": '{"directory": "static/lib"}'})
    run = machine.run(
        "onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json", "--json"
    )
    assert run.status == 0, run.out + run.err
    laid = clone / "static/lib/depth"
    assert (
        (laid / "lib/index.js").is_file() and not (laid / "cli.js").exists() and not (laid / ".git").exists()
    )
    step = next(s for s in run.document["steps"] if s["part"] == "(node)" and s["stage"] == "dependencies")
    assert step["detail"]["laid"] == ["depth 1.3.0"]
    # What was chosen is kept: nobody is asked a second time, and a folder that was taken away comes back.
    shutil.rmtree(laid)
    shutil.move(repository, repository.with_name("away"))
    assert (
        machine.run(
            "onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json"
        ).status
        == 0
    )
    assert (laid / "lib/index.js").is_file()


@pytest.mark.needs("node", "git")
def test_browser_components_that_cannot_be_had(
    machine: Machine, node_registry: Any, repository: Path
) -> None:
    node_registry([])
    clone = machine.clone(components(repository, dependencies={"depth": f"file://{repository}#^9"}))
    none = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert none.status == 1 and "no tag or branch" in none.err and "bower.json" in none.err
    (clone / "bower.json").write_text('{"dependencies": {"plainname": "1.x"}}')
    named = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert named.status == 0 and ".bowerrc names none" in " ".join(named.err.split())
    (clone / "bower.json").write_text('{"dependencies": {\n  "plainname": "1.x",}}')
    broken = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert broken.status == 1 and "bower.json:2" in broken.err
    (clone / "bower.json").write_text(json.dumps({"dependencies": {"depth": f"file://{repository}#v2.0.0"}}))
    (clone / ".bowerrc").write_text('{"directory": "../lib"}')
    outside = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert outside.status == 1 and "outside the part" in outside.err
    (clone / ".bowerrc").write_text('{"directory": "vendored"}')
    (clone / "vendored").mkdir()
    (clone / "vendored/mine.js").write_text("x")
    mine = machine.run("onboard", clone, "--until", "dependencies", "--allow-install-code", "package.json")
    assert (
        mine.status == 1 and "was not made by Plainfall" in mine.err and (clone / "vendored/mine.js").exists()
    )
