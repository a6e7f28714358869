"""A clone that reaches out: by its lists, locks, versions, service definitions and configuration it names places and
commands outside of itself. Nothing out there is read into it, changed, or run."""

from __future__ import annotations

import json
import os
import re
import subprocess
import sys
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine
from hostile import Outside, outside

__all__ = ["outside"]

pytestmark = pytest.mark.hostile
SECRET = "river-token-7731"
APP = {"app.py": SERVER, "requirements.txt": ""}
NODE = {"index.js": "require('http').createServer((q, a) => a.end('ok')).listen(process.env.PORT)\n"}


def node(more: Mapping[str, Any], lock: Mapping[str, Any] | None = None) -> dict[str, str]:
    manifest = {"name": "gauges", "version": "1.0.0", "scripts": {"start": "node index.js"}, **more}
    files = {**NODE, "package.json": json.dumps(manifest)}
    if lock is not None:
        top = {"name": "gauges", "version": "1.0.0", "dependencies": more.get("dependencies", {})}
        packages = {"": top, **lock}
        files["package-lock.json"] = json.dumps(
            {"name": "gauges", "lockfileVersion": 3, "packages": packages}
        )
    return files


def composer(config: Mapping[str, Any], *packages: Mapping[str, Any]) -> dict[str, str]:
    wanted = {str(one["name"]): "*" for one in packages}
    return {
        "index.php": "<?php echo 'ok';",
        "composer.json": json.dumps({"require": wanted, "config": config}),
        "composer.lock": json.dumps({"packages": packages, "packages-dev": [], "content-hash": "x"}),
    }


def compose(**variables: str) -> str:
    lines = "".join(f"      {key}: {json.dumps(value)}\n" for key, value in variables.items())
    return f"services:\n  db:\n    image: postgres:15\n    environment:\n{lines}    ports: ['5432:5432']\n"


GIT_LOCK = "GIT\n  remote: {}\n  revision: {}\n  specs:\n    drops (1.0)\n\nGEM\n  specs:\n\nPLATFORMS\n  ruby\n\nDEPENDENCIES\n  drops!\n"
COMMIT = "0123456789abcdef0123456789abcdef01234567"
TOUCH = "touch ${IFS}CANARY".replace(" ", "")

# Of each: files (OUT is the folder outside, CANARY a file that no command may make), and links.
REACHES: dict[str, tuple[dict[str, str], dict[str, str]]] = {
    "template is a link": (APP, {".env.example": "MINE/secret.env"}),
    "readme is a link": (APP, {"README.md": "MINE/notes.md"}),
    "a list within a list": ({**APP, "requirements.txt": "-r MINE/secret.env\n"}, {}),
    "a list within a list, upwards": ({**APP, "requirements.txt": "-r ../mine/secret.env\n"}, {}),
    "constraints": ({**APP, "requirements.txt": "-c ../mine/secret.env\ngaugekit\n"}, {}),
    "an editable folder": ({**APP, "requirements.txt": "-e ../outside/good\n"}, {}),
    "a folder by its address": ({**APP, "requirements.txt": "kit @ file://OUT/good\n"}, {}),
    "a build backend": (
        {
            "app.py": SERVER,
            "pyproject.toml": '[build-system]\nrequires = []\nbuild-backend = "evil"\nbackend-path = ["../outside/good"]\n'
            '[project]\nname = "gauges"\nversion = "1"\n',
        },
        {},
    ),
    "a Python by its place": ({**APP, ".python-version": "OUT/bin/python\n"}, {}),
    "a Python upwards": ({**APP, ".python-version": "../outside/bin\n"}, {}),
    "a Node by its place": ({**node({}), ".nvmrc": "../../outside/bin\n"}, {}),
    "env_file": (
        {**APP, "compose.yml": "services:\n  web:\n    build: .\n    env_file: ../mine/secret.env\n"},
        {},
    ),
    "env_file, whole path": (
        {**APP, "compose.yml": "services:\n  web:\n    build: .\n    env_file: MINE/secret.env\n"},
        {},
    ),
    "git transport": ({**APP, "requirements.txt": "kit @ git+ext::sh -c touch% CANARY@main\n"}, {}),
    "git option as host": (
        {**APP, "requirements.txt": f"kit @ git+ssh://-oProxyCommand={TOUCH}/kit@main\n"},
        {},
    ),
    "git option as revision": (
        {**APP, "requirements.txt": "kit @ git+file://OUT/good@--upload-pack=touch${IFS}CANARY\n"},
        {},
    ),
    "npm git transport": (
        node(
            {"dependencies": {"kit": "git+ext::sh -c touch% CANARY"}},
            {"node_modules/kit": {"version": "1.0.0", "resolved": f"git+ext::sh -c touch% CANARY#{COMMIT}"}},
        ),
        {},
    ),
    "npm git option": (
        node(
            {"dependencies": {"kit": f"git+ssh://-oProxyCommand={TOUCH}/kit"}},
            {
                "node_modules/kit": {
                    "version": "1.0.0",
                    "resolved": f"git+ssh://-oProxyCommand={TOUCH}/kit#{COMMIT}",
                }
            },
        ),
        {},
    ),
    "npm folder": (
        node(
            {"dependencies": {"good": "file:../outside/good"}},
            {
                "../outside/good": {"version": "1.0.0"},
                "node_modules/good": {"resolved": "../outside/good", "link": True},
            },
        ),
        {},
    ),
    "npm archive": (
        node(
            {"dependencies": {"good": "file:../outside/good.tgz"}},
            {
                "node_modules/good": {"version": "1.0.0", "resolved": "file:../outside/good.tgz"},
            },
        ),
        {},
    ),
    "npm program": (node({"bin": {"../../../outside/bin/python": "index.js"}}, {}), {}),
    "npm workspaces": (node({"workspaces": ["../outside/good", "../outside/*"]}, {}), {}),
    "npm settings": (
        {
            **node({}, {}),
            ".npmrc": "prefix=../outside\ncache=../outside/cache\nscript-shell=./evil.sh\nnode-options=--require=./evil.js\n",
            "evil.sh": "touch CANARY\n",
            "evil.js": "require('fs').writeFileSync('CANARY', '')\n",
        },
        {},
    ),
    "yarn settings": (
        {
            **node({}),
            "yarn.lock": "# yarn lockfile v1\n",
            ".yarnrc.yml": "yarnPath: ./evil.js\ncacheFolder: ../outside/cache\nenableGlobalCache: false\n",
            "evil.js": "require('fs').writeFileSync('CANARY', '')\n",
        },
        {},
    ),
    "composer folder": (
        composer(
            {},
            {
                "name": "rain/good",
                "version": "1.0",
                "dist": {"type": "path", "url": "../outside/good", "reference": "a"},
            },
        ),
        {},
    ),
    "composer folders of its own": (
        composer({"vendor-dir": "../outside/good", "bin-dir": "../outside/bin"}),
        {},
    ),
    "composer git option": (
        composer(
            {},
            {
                "name": "rain/good",
                "version": "1.0",
                "source": {"type": "git", "url": "--upload-pack=touch CANARY", "reference": COMMIT},
            },
        ),
        {},
    ),
    "composer git transport": (
        composer(
            {},
            {
                "name": "rain/good",
                "version": "1.0",
                "source": {"type": "git", "url": "ext::sh -c touch% CANARY", "reference": COMMIT},
            },
        ),
        {},
    ),
    "gem git transport": (
        {
            "Gemfile": "gem 'drops', git: 'x'\n",
            "Gemfile.lock": GIT_LOCK.format("ext::sh -c touch% CANARY", COMMIT),
            "config.ru": "run 1\n",
        },
        {},
    ),
    "gem git option": (
        {
            "Gemfile": "gem 'drops', git: 'x'\n",
            "Gemfile.lock": GIT_LOCK.format("--upload-pack=touch CANARY", "--help"),
            "config.ru": "run 1\n",
        },
        {},
    ),
    "gem settings": (
        {
            "Gemfile": "",
            "Gemfile.lock": "GEM\n  specs:\n\nPLATFORMS\n  ruby\n\nDEPENDENCIES\n",
            "config.ru": "run 1\n",
            ".bundle/config": '---\nBUNDLE_PATH: "../outside/good"\nBUNDLE_BIN: "../outside/bin"\n',
        },
        {},
    ),
    "worktree elsewhere": (
        {
            **APP,
            ".git/HEAD": "ref: refs/heads/main\n",
            ".git/config": "[core]\n\tworktree = OUT\n\tfsmonitor = touch CANARY\n",
            ".git/objects/x": "",
            ".git/refs/x": "",
        },
        {},
    ),
    "environment is a link": (APP, {".venv": "OUT/good"}),
    "modules are a link": (node({}, {}), {"node_modules": "OUT/node_modules"}),
    "excludes are a link": (
        {
            **APP,
            ".git/HEAD": "ref: refs/heads/main\n",
            ".git/config": "",
            ".git/objects/x": "",
            ".git/refs/x": "",
        },
        {".git/info/exclude": "OUT/readings.log"},
    ),
    "excludes' folder is a link": (
        {
            **APP,
            ".git/HEAD": "ref: refs/heads/main\n",
            ".git/config": "",
            ".git/objects/x": "",
            ".git/refs/x": "",
        },
        {".git/info": "OUT/letters"},
    ),
    "service names": (
        {
            **APP,
            "compose.yml": compose(POSTGRES_USER='r"; DROP', POSTGRES_DB="x'\n--", POSTGRES_PASSWORD="a\nb"),
        },
        {},
    ),
}


@pytest.mark.parametrize("name", REACHES)
def test_nothing_outside_is_read_changed_or_run(machine: Machine, outside: Outside, name: str) -> None:
    canary, mine = machine.home / "canary", machine.home / "mine"
    mine.mkdir()
    (mine / "secret.env").write_text(f"TOKEN={SECRET}\n{SECRET}\n")
    (mine / "notes.md").write_text(f"# {SECRET}\n\n    touch {canary}\n")
    files, links = REACHES[name]
    named = {"OUT": str(outside.folder), "CANARY": str(canary), "MINE": str(mine)}

    def meant(text: str) -> str:
        return re.sub("OUT|CANARY|MINE", lambda found: named[found[0]], text)

    clone = machine.clone({path: meant(text) for path, text in files.items()})
    for path, target in links.items():
        (clone / path).parent.mkdir(parents=True, exist_ok=True)
        (clone / path).symlink_to(meant(target))
    said = ""
    for words in (["survey", clone], ["onboard", clone, "--until", "settings", "--no-input"]):
        run = machine.run(*words, timeout=90)
        assert run.status in (0, 1, 2, 3), run.out + run.err
        said += run.out + run.err
    assert not canary.exists(), said
    assert SECRET not in said and "Traceback" not in said
    carried = [
        str(path.relative_to(clone))
        for folder, _, names in os.walk(clone)
        for path in (Path(folder, name) for name in names)
        if not path.is_symlink() and path.is_file() and SECRET.encode() in path.read_bytes()
    ]
    assert carried == []


def test_modules_of_the_clone_are_not_those_of_this_program(machine: Machine) -> None:
    canary = machine.home / "canary"
    taken = ("json.py", "sitecustomize.py", "psutil.py", "venv.py", "sysconfig.py", "usercustomize.py")
    clone = machine.clone({**APP, **dict.fromkeys(taken, f"open({str(canary)!r}, 'w')\n")})
    program = Path(sys.executable).with_name("plainfall")
    done = subprocess.run(
        [program, "onboard", ".", "--until", "settings", "--no-input"],
        env=machine.variables,
        cwd=clone,
        capture_output=True,
        text=True,
        timeout=90,
    )
    assert done.returncode == 0, done.stdout + done.stderr
    assert not canary.exists()


@pytest.mark.parametrize("first", ["", ".", "bin"])
def test_programs_of_the_clone_are_not_those_of_this_machine(machine: Machine, first: str) -> None:
    """A path that begins with the working folder, as some have it, makes no program of a clone one of the person's."""
    canary = machine.home / "canary"
    names = ("git", "node", "npm", "php", "ruby", "python3", "python", "python3.11", "find", "ps")
    folder = f"{first}/" if first == "bin" else ""
    clone = machine.clone({**APP, **node({}, {}), ".python-version": "3.11\n",
                           **dict.fromkeys((f"{folder}{name}" for name in names), f"#!/bin/sh\ntouch {canary}\n")})  # fmt: skip
    for name in names:
        (clone / folder / name).chmod(0o755)
    program = Path(sys.executable).with_name("plainfall")
    variables = {**machine.variables, "PATH": os.pathsep.join([first, machine.variables["PATH"]])}
    done = subprocess.run(
        [program, "onboard", ".", "--until", "settings", "--no-input"],
        env=variables,
        cwd=clone,
        capture_output=True,
        text=True,
        timeout=90,
    )
    assert done.returncode in (0, 1, 3), done.stdout + done.stderr
    assert not canary.exists(), done.stdout
