"""What Plainfall lays for a lock, against what the lock's own client lays, on the same packages.

    python benchmarks/trees.py [--only WORDS] [--work FOLDER]

For each client a project is locked and installed by the client itself (from the npm registry, without code of
packages), and a copy with the lock by Plainfall. npm's trees are compared path by path: names, modes, link targets,
content. The others' clients lay packages in another way, so what is compared is what the runtime finds: from the
project on, each package with the packages that its own wishes lead to by walking upwards, and each package's files.
It prints the differences, by kind, with three of each. It needs a package registry and is not run by CI.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import stat
import subprocess
import sys
from collections import Counter
from pathlib import Path
from typing import Any

MANIFEST: dict[str, Any] = {
    "name": "rain-page",
    "version": "1.0.0",
    "private": True,
    "dependencies": {"express": "^4.19.2", "react": "^18.3.1", "react-dom": "^18.3.1", "next": "^14.2.0"},
    "devDependencies": {
        "eslint": "^8.57.0",
        "jest": "^29.7.0",
        "vite": "^5.4.0",
        "webpack": "^5.94.0",
        "webpack-dev-server": "^5.1.0",
        "typescript": "^5.5.0",
        "sqlite3": "^5.1.7",
        "eslint-plugin-react": "^7.35.0",
        "@typescript-eslint/parser": "^7.18.0",
    },
}
YARN = "npm_config_yes=true npx --yes @yarnpkg/cli-dist@4"
NPM = "--ignore-scripts --no-audit --no-fund"
OLD_YARN = "npx --yes yarn@1 install --ignore-scripts --non-interactive"
PNPM = "npx --yes pnpm@9 install --ignore-scripts"
# How each client locks, and how it installs what is locked.
CLIENTS = {
    "npm, format 1": (f"npm install {NPM} --lockfile-version 1", f"npm ci {NPM}"),
    "npm, format 2": (f"npm install {NPM} --lockfile-version 2", f"npm ci {NPM}"),
    "npm, format 3": (f"npm install {NPM} --lockfile-version 3", f"npm ci {NPM}"),
    "pnpm": (PNPM, f"{PNPM} --frozen-lockfile"),
    "classic yarn": (OLD_YARN, f"{OLD_YARN} --frozen-lockfile"),
    "newer yarn": (f"{YARN} install --mode=skip-build", f"{YARN} install --immutable --mode=skip-build"),
}


def ran(line: str, folder: Path) -> None:
    """Runs a client's command; what it says is shown if it fails."""
    done = subprocess.run(
        line, shell=True, cwd=folder, capture_output=True, text=True, stdin=subprocess.DEVNULL
    )
    if done.returncode:
        raise SystemExit(f"{line}\n{done.stdout[-2000:]}{done.stderr[-2000:]}")


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()


def entries(top: Path) -> dict[str, tuple[str, str]]:
    """Each path below, with its kind and what it holds: a link's target, a file's executable bit and digest."""
    found = {}
    for folder, folders, names in os.walk(top):
        for name in [*folders, *names]:
            path = Path(folder, name)
            inner = path.relative_to(top).as_posix()
            if path.is_symlink():
                found[inner] = ("link", os.readlink(path))
            elif path.is_file():
                found[inner] = ("file", f"{bool(path.stat().st_mode & stat.S_IXUSR)} {digest(path)}")
    return found


def found_by_walking(start: Path, name: str, top: Path) -> Path | None:
    """The package of that name that code in a folder gets, as the runtime looks for it."""
    folder = start
    while True:
        place = folder / "node_modules" / name
        if folder.name != "node_modules" and (place / "package.json").is_file():
            return place.resolve()
        if folder == top or folder == folder.parent:
            return None
        folder = folder.parent


def reached(top: Path) -> tuple[dict[str, set[str]], dict[str, dict[str, str]]]:
    """From the project on: each package (name@version) with what its wishes lead to, and its files."""
    edges: dict[str, set[str]] = {}
    files: dict[str, dict[str, str]] = {}
    waiting, seen = [top.resolve()], set()
    while waiting:
        place = waiting.pop()
        if place in seen:
            continue
        seen.add(place)
        about = json.loads((place / "package.json").read_text("utf-8"))
        key = f"{about.get('name')}@{about.get('version')}"
        wishes = {
            **about.get("dependencies", {}),
            **about.get("optionalDependencies", {}),
            **about.get("peerDependencies", {}),
        }
        if place == top.resolve():
            wishes |= about.get("devDependencies", {})
        else:
            files.setdefault(key, content(place))
        for name in wishes:
            other = found_by_walking(place, name, top.resolve())
            if other is not None:
                one = json.loads((other / "package.json").read_text("utf-8"))
                edges.setdefault(key, set()).add(f"{one.get('name')}@{one.get('version')}")
                waiting.append(other)
    return edges, files


def content(place: Path) -> dict[str, str]:
    """A package's own files with their executable bit and digest."""
    found = {}
    for folder, folders, names in os.walk(place):
        folders[:] = [one for one in folders if one != "node_modules"]
        for name in names:
            path = Path(folder, name)
            if path.is_file() and not path.is_symlink():
                executable = bool(path.stat().st_mode & stat.S_IXUSR)
                found[path.relative_to(place).as_posix()] = f"{executable} {digest(path)}"
    return found


def compared(client: str, theirs: Path, ours: Path) -> Counter[str]:
    """The differences by kind; three of each are printed."""
    differences: list[tuple[str, str]] = []
    if client.startswith("npm"):
        mine, yours = entries(ours / "node_modules"), entries(theirs / "node_modules")
        for path in sorted({*mine, *yours}):
            if path not in mine:
                differences.append(("only the client's", path))
            elif path not in yours:
                differences.append(("only ours", path))
            elif mine[path] != yours[path]:
                differences.append(("another link, mode or content", path))
        print(f"  {len(yours)} paths", end="")
    else:
        (my_edges, my_files), (your_edges, your_files) = reached(ours), reached(theirs)
        for key in sorted({*my_edges, *your_edges}):
            for other in sorted(my_edges.get(key, set()) - your_edges.get(key, set())):
                differences.append(("only ours finds", f"{key} → {other}"))
            for other in sorted(your_edges.get(key, set()) - my_edges.get(key, set())):
                differences.append(("only the client's finds", f"{key} → {other}"))
        for key in sorted({*my_files, *your_files}):
            for path in sorted({*my_files.get(key, {}), *your_files.get(key, {})}):
                mine_is, yours_is = my_files.get(key, {}).get(path), your_files.get(key, {}).get(path)
                if mine_is != yours_is and key in my_files and key in your_files:
                    kind = (
                        "only ours"
                        if yours_is is None
                        else "only the client's"
                        if mine_is is None
                        else "another mode or content"
                    )
                    differences.append((kind, f"{key} {path}"))
        print(
            f"  {len(your_files)} packages, {sum(map(len, your_edges.values()))} wishes that are met", end=""
        )
    counted = Counter(kind for kind, _ in differences)
    print(f", {len(differences)} differences")
    for kind, count in counted.items():
        print(f"    {kind}: {count}")
        for _, what in [one for one in differences if one[0] == kind][:3]:
            print(f"      {what}")
    return counted


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--only", default="")
    parser.add_argument("--work", type=Path, default=Path("/tmp/plainfall-trees"))
    options = parser.parse_args()
    for client, (lock, install) in CLIENTS.items():
        if options.only not in client:
            continue
        top = options.work / client.replace(", ", "-").replace(" ", "-")
        shutil.rmtree(top, ignore_errors=True)
        theirs, ours = top / "theirs", top / "ours"
        theirs.mkdir(parents=True)
        (theirs / "package.json").write_text(json.dumps(MANIFEST, indent=2) + "\n", "utf-8")
        if client == "newer yarn":
            (theirs / ".yarnrc.yml").write_text("nodeLinker: node-modules\nenableTelemetry: false\n", "utf-8")
            (theirs / "yarn.lock").touch()
        print(client, flush=True)
        ran(lock, theirs)
        shutil.rmtree(theirs / "node_modules", ignore_errors=True)
        shutil.copytree(theirs, ours)
        ran(install, theirs)
        home = options.work / "home"
        home.mkdir(exist_ok=True)
        done = subprocess.run(
            [sys.executable, "-m", "plainfall", "onboard", str(ours), "--until", "dependencies", "--no-input"],
            capture_output=True, text=True, env={**os.environ, "HOME": str(home)},
        )  # fmt: skip
        if done.returncode:
            print(done.stdout[-1500:] + done.stderr[-1500:])
            continue
        compared(client, theirs, ours)


if __name__ == "__main__":
    main()
