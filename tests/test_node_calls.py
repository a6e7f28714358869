"""Command lines of package clients, as scripts write them: what they mean, in which packages, in how many processes."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import pytest

from plainfall.ecosystems.node.clients.calls import read_call

# What each form says: kind, script or command, its words; packages that are chosen (None: no fan-out).
FORMS = {
    "npm run build": ("script", "build", (), None),
    "npm run build -- --watch": ("script", "build", ("--watch",), None),
    "npm run dev --silent --host 3000": ("script", "dev", ("3000",), None),
    "npm --silent run build --workspaces --if-present": ("script", "build", (), ()),
    "npm run build -ws": ("script", "build", (), ()),
    "npm -w board run dev": ("script", "dev", (), ("board",)),
    "npm run dev --workspace=board --workspace api": ("script", "dev", (), ("board", "api")),
    "npm start -- -p 1": ("script", "start", ("-p", "1"), None),
    "npm t": ("script", "test", (), None),
    "npm exec -w board -- words --all": ("command", "words", ("--all",), ("board",)),
    "npx --yes words --help": ("command", "words", ("--help",), None),
    "npx -p kit words": ("command", "words", (), None),
    "npx -c 'echo 1'": ("command", "sh", ("-c", "echo 1"), None),
    "npm ci": ("installs", "ci", (), None),
    "npm run": ("lists", "run", (), None),
    "npm publish": ("unknown", "publish", (), None),
    "pnpm build --watch": ("script", "build", ("--watch",), None),
    "pnpm words": ("command", "words", (), None),
    "pnpm -r build": ("script", "build", (), ()),
    "pnpm recursive run build": ("script", "build", (), ()),
    "pnpm --filter board... --filter=api run dev -- --port 1": ("script", "dev", ("--port", "1"), ("board...", "api")),
    "pnpm run -r --parallel dev": ("script", "dev", (), ()),
    "pnpm -r exec words -a": ("command", "words", ("-a",), ()),
    "pnpm install --frozen-lockfile": ("installs", "install", (), None),
    "yarn build": ("script", "build", (), None),
    "yarn run build --watch": ("script", "build", ("--watch",), None),
    "yarn words -a": ("command", "words", ("-a",), None),
    "yarn workspace board dev --port 1": ("script", "dev", ("--port", "1"), ("board",)),
    "yarn workspace board run dev": ("script", "dev", (), ("board",)),
    "yarn workspace board add kit": ("installs", "add", (), None),
    "yarn workspaces run build": ("script", "build", (), ()),
    "yarn workspaces foreach -Apt --include board run build --watch": ("script", "build", ("--watch",), ()),
    "yarn workspaces foreach --all exec words": ("command", "words", (), ()),
    "yarn": ("installs", "", (), None),
    "yarn --cwd board build": ("script", "build", (), None),
}  # fmt: skip


@pytest.mark.parametrize("line", FORMS)
def test_what_a_command_line_means(line: str) -> None:
    import shlex

    client, *words = shlex.split(line)
    call = read_call(client, words, {"build", "dev"})
    if line == "yarn workspace board add kit":
        assert call.kind == "installs"
        return
    assert (call.kind, call.name, call.words, call.select) == FORMS[line]
    assert call.folder == ("board" if "--cwd" in line else ".")


def workspace(folder: Path, **scripts: str) -> Path:
    """A workspace of three packages, board needs units, with a script in each that tells its name."""
    tell = "echo $npm_package_name:$npm_lifecycle_event >> $SAID"
    wishes = {"board": {"units": "*"}, "api": {}, "units": {}}
    top = {"name": "rain", "private": True, "workspaces": ["packages/*"], "scripts": {"dev": tell, **scripts}}
    files = {"package.json": top}
    for name, needs in wishes.items():
        own = {"build": tell, "dev": tell} if name != "api" else {"build": tell}
        files[f"packages/{name}/package.json"] = {
            "name": name,
            "version": "1.0.0",
            "scripts": own,
            "dependencies": needs,
        }
    for path, document in files.items():
        (folder / path).parent.mkdir(parents=True, exist_ok=True)
        (folder / path).write_text(json.dumps(document))
    return folder


def said(folder: Path, line: str, inner: str = "") -> tuple[list[str], int, str]:
    """What the packages told when the line ran there, the status, and what was complained of."""
    file = folder / "said.txt"
    file.unlink(missing_ok=True)
    names = folder / "names"
    names.mkdir(exist_ok=True)
    for name in ("npm", "npx", "pnpm", "yarn"):
        text = f'#!/bin/sh\nexec {sys.executable} -m plainfall.ecosystems.node.clients.runner {name} "$@"\n'
        (names / name).write_text(text)
        (names / name).chmod(0o755)
    variables = {"PATH": f"{names}:/usr/bin:/bin", "SAID": str(file), "PYTHONPATH": ":".join(sys.path)}
    done = subprocess.run(
        ["/bin/sh", "-c", line], cwd=folder / inner, env=variables, capture_output=True, text=True, timeout=50
    )
    return (file.read_text().split() if file.exists() else []), done.returncode, done.stderr


@pytest.mark.parametrize(
    ("line", "told"),
    [
        ("npm run build --workspaces", ["api:build", "board:build", "units:build"]),
        ("npm run dev --workspaces --if-present", ["board:dev", "units:dev"]),
        ("npm run dev -ws -iwr --if-present", ["board:dev", "rain:dev", "units:dev"]),
        ("npm run build -w board", ["board:build"]),
        ("npm -w packages/api run build", ["api:build"]),
        ("npm --prefix packages/board run build", ["board:build"]),
        ("npm -C packages/board run build", ["board:build"]),
        ("pnpm -r build", ["api:build", "units:build", "board:build"]),
        ("pnpm --filter board... build", ["units:build", "board:build"]),
        ("pnpm --filter ...units build", ["units:build", "board:build"]),
        ("pnpm --filter './packages/*' --filter '!api' build", ["units:build", "board:build"]),
        ("pnpm -C packages/api build", ["api:build"]),
        ("pnpm -w dev", ["rain:dev"]),
        ("yarn workspace units build", ["units:build"]),
        ("yarn workspaces run build", ["api:build", "board:build", "units:build"]),
        ("yarn workspaces foreach -At run build", ["api:build", "units:build", "board:build"]),
        ("yarn workspaces foreach -A --exclude units run dev", ["board:dev", "rain:dev"]),
        ("yarn --cwd packages/board build", ["board:build"]),
        ("pnpm install && npm ci && yarn", []),
    ],
)
def test_in_which_packages_a_script_runs(tmp_path: Path, line: str, told: list[str]) -> None:
    found, status, complaint = said(workspace(tmp_path), line)
    assert status == 0, complaint
    in_order = "-r " in line or "..." in line or "-At" in line or "!api" in line
    assert sorted(found) == sorted(told)
    if in_order and "units:build" in told:
        assert found.index("units:build") < found.index("board:build")


def test_scripts_of_a_package_find_the_workspace_above(tmp_path: Path) -> None:
    assert said(workspace(tmp_path), "pnpm -w dev", "packages/api")[0] == ["rain:dev"]
    assert said(tmp_path, "yarn run -T dev", "packages/api")[0] == ["rain:dev"]


@pytest.mark.parametrize(
    ("script", "count"),
    [
        ("npm run build --workspaces", 3),
        ("pnpm -r build", 3),
        ("yarn workspaces run build", 3),
        ("yarn workspaces foreach -A run build", 3),
        ("npm run build -ws -iwr", None),
        ("npm run build", None),
    ],
)
def test_a_script_that_fans_out_starts_what_the_client_would(
    tmp_path: Path, script: str, count: int | None
) -> None:
    folder = workspace(tmp_path, build=f"echo $npm_package_name:top >> $SAID; {script}")
    found, status, complaint = said(folder, "npm run build")
    if count is not None:
        assert status == 0 and len(found) == count + 1 and found[0] == "rain:top", complaint
    else:  # the clients would never end
        assert status != 0 and "runs itself again and again" in complaint and len(found) < 20


@pytest.mark.parametrize(
    ("line", "complaint"),
    [
        ("npm run build -w nowhere", "there is no workspace 'nowhere'; there are: api, board, units"),
        ("npm run dev --workspaces", "no script 'dev' in"),
        ("npm run paint", "no script 'paint' in"),
        ("pnpm --filter '[HEAD~1]' build", "is not known here"),
        ("npm publish", "npm publish: only scripts and installed commands are run here"),
        ("yarn workspaces info", "only scripts and installed commands"),
    ],
)
def test_what_cannot_be_done_is_said(tmp_path: Path, line: str, complaint: str) -> None:
    _, status, text = said(workspace(tmp_path), line)
    assert status == 1 and complaint in text


@pytest.mark.parametrize(
    ("line", "version"),
    [("npm --version", "10."), ("yarn -v", "3.6.1"), ("pnpm --version", "9."), ("npx -v", "10.")],
)
def test_a_client_that_is_asked_for_its_release_names_one(tmp_path: Path, line: str, version: str) -> None:
    """Templates of years ago ask for a least one before they start."""
    folder = workspace(tmp_path)
    file = folder / "package.json"
    file.write_text(json.dumps({**json.loads(file.read_text()), "packageManager": "yarn@3.6.1+sha224.0"}))
    client, word = line.split()
    command = [sys.executable, "-m", "plainfall.ecosystems.node.clients.runner", client, word]
    done = subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True)
    assert done.stdout.startswith(version) and not done.stderr


@pytest.mark.parametrize(
    ("line", "status"), [("yarn run words -a", 0), ("npm run words -a", 1), ("yarn run ls", 1)]
)
def test_a_command_of_a_package_under_the_word_for_scripts(tmp_path: Path, line: str, status: int) -> None:
    folder = workspace(tmp_path)
    commands = folder / "node_modules/.bin"
    commands.mkdir(parents=True, exist_ok=True)
    (commands / "words").write_text('#!/bin/sh\necho "words:$1" >>"$SAID"\n')
    (commands / "words").chmod(0o755)
    told, ended, _ = said(folder, line)
    assert (told, ended) == (["words:-a"] if status == 0 else [], status)


def test_a_failure_in_one_package_is_the_calls(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    file = folder / "packages/board/package.json"
    file.write_text(file.read_text().replace('"build": "echo', '"build": "exit 7; echo'))
    assert said(folder, "npm run build --workspaces")[:2] == (["api:build", "units:build"], 7)
    assert said(folder, "yarn workspaces run build")[:2] == (["api:build"], 7)
    assert said(folder, "pnpm -r --no-bail build")[1] == 7


@pytest.mark.parametrize(
    ("bins", "status"), [({"say": "cli.sh"}, 0), ({"words": "a", "say": "b"}, 0), ({"x": "a", "y": "b"}, 127)]
)
def test_a_package_is_run_by_its_own_name(tmp_path: Path, bins: dict[str, str], status: int) -> None:
    """``npx @rain/words`` means its only command, or the one of that name without the scope."""
    place = tmp_path / "node_modules/@rain/words"
    place.mkdir(parents=True)
    (place / "package.json").write_text(json.dumps({"name": "@rain/words", "version": "1.0.0", "bin": bins}))
    (tmp_path / "package.json").write_text('{"name": "gauges"}')
    commands = tmp_path / "node_modules/.bin"
    commands.mkdir()
    for name in bins:
        (commands / name).write_text(f'#!/bin/sh\necho {name} "$@"\n')
        (commands / name).chmod(0o755)
    words = [sys.executable, "-m", "plainfall.ecosystems.node.clients.runner", "npx", "@rain/words", "12 mm"]
    run = subprocess.run(words, cwd=tmp_path, capture_output=True, text=True)
    assert run.returncode == status
    assert run.stdout == ("" if status else f"{'words' if 'words' in bins else 'say'} 12 mm\n")
