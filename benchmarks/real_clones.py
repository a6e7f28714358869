"""Real projects that nobody here wrote, onboarded with no option: how many come up the first time.

    python benchmarks/real_clones.py [--list FILE] [--only WORDS] [--work FOLDER] [--json FILE]

Each source package of the list is fetched by name with the runtime's own client, unpacked outside of this
repository and made a repository of; then `plainfall onboard` runs on it with no option, as a user with an empty
home. A clone counts as up if a server answers as the list says (any page below status 400 where it says nothing). A
line a clone, then the rate. It needs a package index, and takes long: it is not run by CI.
"""

from __future__ import annotations

import argparse
import json
import os
import re
import shutil
import subprocess
import sys
import tarfile
import time
import tomllib
import urllib.request
import zipfile
from pathlib import Path
from typing import Any
from urllib.error import HTTPError, URLError

LIMIT = 600.0  # seconds that one onboarding may take


def fetched(package: str, folder: Path) -> Path:
    """The unpacked source package; what was fetched before is taken again. Raises CalledProcessError."""
    archives = folder / "archives" / re.sub(r"[^\w.-]+", "-", package)
    if not archives.is_dir() or not any(archives.iterdir()):
        words = ["download", "--quiet", "--no-deps", "--no-binary", ":all:", "-d", str(archives), package]
        subprocess.run([sys.executable, "-m", "pip", *words], check=True, capture_output=True)
    [archive] = archives.iterdir()
    top = folder / "clones" / archives.name
    shutil.rmtree(top, ignore_errors=True)
    if archive.suffix == ".zip":
        with zipfile.ZipFile(archive) as opened:
            opened.extractall(top)
    else:
        with tarfile.open(archive) as opened:
            opened.extractall(top, filter="data")
    [made] = top.iterdir()
    return made


def fetched_for_node(row: dict[str, Any], folder: Path) -> Path:
    """A fresh copy of a folder of an npm package, or what a framework's own generator makes, with a lock by a
    client where the row names one. Raises CalledProcessError."""
    name = re.sub(r"[^\w.-]+", "-", f"{row['npm']} {row.get('folder', '')} {row.get('lock', '')}".strip())
    kept = folder / "node-clones" / name
    if not kept.is_dir():
        making = kept.with_name(f"{name}.part")
        shutil.rmtree(making, ignore_errors=True)
        making.mkdir(parents=True)
        if "generator" in row:
            _ran(row["generator"], making)
            made = making / row["folder"]
        else:
            _ran(f"npm pack --silent {row['npm']} && tar xzf ./*.tgz", making)
            made = making / "package" / row.get("folder", "")
        for one in made.rglob("_*"):  # templates hide these from the client that packs them
            if one.name in ("_gitignore", "_npmrc", "_package.json"):
                one.rename(one.with_name(one.name.replace("_", "" if one.suffix == ".json" else ".", 1)))
        manifest = made / "package.json"
        document = json.loads(manifest.read_text("utf-8"))
        document["name"] = (
            re.sub(r"[^a-z0-9-]+", "-", str(document.get("name", "")).lower()).strip("-") or "rain-page"
        )
        manifest.write_text(json.dumps(document, indent=2) + "\n", "utf-8")
        if row.get("lock"):
            _ran(_LOCKS[row["lock"]], made)
            for laid in [one for one in made.rglob("node_modules") if "node_modules" not in one.parent.parts]:
                shutil.rmtree(laid, ignore_errors=True)
        shutil.rmtree(made / ".git", ignore_errors=True)
        made.rename(kept)
        shutil.rmtree(making, ignore_errors=True)
    clone = folder / "clones" / name
    shutil.rmtree(clone, ignore_errors=True)
    shutil.copytree(kept, clone, symlinks=True)
    return clone


# The clients make the locks of the clones, as their authors did; Plainfall runs none of them.
_LOCKS = {
    "npm": "npm install --package-lock-only --ignore-scripts --no-audit --no-fund",
    "npm 1": "npm install --package-lock-only --ignore-scripts --no-audit --lockfile-version 1",
    "pnpm": "npx --yes pnpm@9 install --lockfile-only --ignore-scripts",
    "yarn": "npx --yes yarn@1 install --ignore-scripts --ignore-engines --non-interactive",
}


def _ran(line: str, folder: Path) -> None:
    subprocess.run(
        line, shell=True, cwd=folder, check=True, capture_output=True, timeout=300, stdin=subprocess.DEVNULL
    )


def repository(clone: Path) -> None:
    """Makes the folder a repository with one commit, as a clone is."""
    me = ["-c", "user.name=volunteer", "-c", "user.email=volunteer@rain.example"]
    newest = max(int(path.lstat().st_mtime) for path in clone.rglob("*") if path.is_file())
    newest = newest if newest > 10**9 else int(time.time())  # some archives state no times
    when = {**os.environ, "GIT_AUTHOR_DATE": f"@{newest} +0000", "GIT_COMMITTER_DATE": f"@{newest} +0000"}
    for words in (["init", "-q"], ["add", "-A"], [*me, "commit", "-q", "-m", "as published"]):
        subprocess.run(["git", *words], cwd=clone, check=True, capture_output=True, env=when)


def answer(url: str) -> tuple[int, str]:
    """Status and text of a page; 0 where nothing answers."""
    try:
        asked = urllib.request.Request(url, headers={"Accept": "text/html,*/*;q=0.8"})  # as a browser asks
        with urllib.request.urlopen(asked, timeout=20) as page:
            return page.status, page.read(2_000_000).decode("utf-8", "replace")
    except HTTPError as error:
        return error.code, error.read(2_000_000).decode("utf-8", "replace")
    except (URLError, OSError) as error:
        return 0, str(error)


def judged(row: dict[str, Any], run: dict[str, Any]) -> tuple[bool, str]:
    """Whether what came up is what a person would see, and what was seen."""
    if "library" in row:
        return run.get("outcome") == "done", "an environment"
    if "program" in row:
        titles = [step["title"] for step in run.get("steps") or [] if step["stage"] == "server"]
        return run.get("outcome") == "done" and any(row["program"] in one for one in titles), "; ".join(
            titles
        )
    seen = []
    for server in run.get("servers") or []:
        page = server["url"].rstrip("/") + row.get("path", "/")
        status, text = answer(page)
        until = time.monotonic() + 10
        while status == 0 and time.monotonic() < until:  # one that watches files may be starting anew
            time.sleep(0.5)
            status, text = answer(page)
        wanted = status == row["status"] if "status" in row else 0 < status < 400
        good = wanted and row.get("word", "").lower() in text.lower()
        seen.append(f"{server['url']} {status}")
        if good:
            return True, seen[-1]
    failure = run.get("failure") or {}
    where = f"{failure.get('step') or ''}: " if failure.get("step") else ""
    return False, (where + str(failure.get("cause", "")) or ", ".join(seen) or "no server")[:150]


def in_browser(clone: Path, home: Path, program: list[str]) -> str:
    """What a browser of this machine reports of the pages that the probe found good; "" for nothing."""
    variables = {**os.environ, "HOME": str(home), "PLAINFALL_CACHE": str(home.parent / "cache")}
    done = subprocess.run(
        [*program, "probe", str(clone), "--json"],
        capture_output=True, text=True, env=variables, timeout=120, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    looks = [one for one in json.loads(done.stdout or "{}").get("servers", []) if one.get("browser")]
    said = [
        f"{one['url']} {one['browser']['problem']}"
        for one in looks
        if one["browser"]["problem"] and not one["probe"]["problem"]
    ]
    errors = [text for one in looks for text in one["browser"]["errors"]]
    return "; ".join([*said, *(f"console: {text}" for text in errors)])[:300]


def onboarded(clone: Path, home: Path, program: list[str]) -> tuple[dict[str, Any], float]:
    """The document of one run, and its seconds."""
    home.mkdir(parents=True, exist_ok=True)
    variables = {**os.environ, "HOME": str(home), "PLAINFALL_CACHE": str(home.parent / "cache")}
    begin = time.perf_counter()
    try:
        done = subprocess.run(
            [*program, "onboard", str(clone), "--json", "--no-input"],
            capture_output=True, text=True, env=variables, timeout=LIMIT, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        document: dict[str, Any] = json.loads(done.stdout or "{}")
    except subprocess.TimeoutExpired:
        document = {"failure": {"cause": f"not done after {LIMIT:.0f} s"}}
    return document, time.perf_counter() - begin


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--list", type=Path, default=Path(__file__).with_suffix(".toml"))
    parser.add_argument("--only", default="", help="only clones whose package or folder has these words")
    parser.add_argument("--work", type=Path, default=Path("/tmp/plainfall-real-clones"))
    parser.add_argument("--json", type=Path)
    options = parser.parse_args()
    program = [sys.executable, "-m", "plainfall"]
    rows, good = [], 0
    for row in tomllib.loads(options.list.read_text("utf-8"))["clone"]:
        name = f"{row.get('package') or row['npm']} {row.get('folder', '')} {row.get('lock', '')}".strip()
        if options.only and options.only not in name:
            continue
        try:
            top = (
                fetched(row["package"], options.work)
                if "package" in row
                else fetched_for_node(row, options.work)
            )
            repository(top)
        except (subprocess.SubprocessError, ValueError) as error:
            print(f"?     {name}: not fetched: {error}", flush=True)
            continue
        home = options.work / "home"
        clone = top / row.get("folder", "") if "package" in row else top
        document, seconds = onboarded(clone, home, program)
        up, seen = judged(row, document)
        good += up
        rows.append({"clone": name, "up": up, "seconds": round(seconds, 1), "seen": seen})
        print(f"{'up  ' if up else 'down'}  {seconds:6.1f} s  {name}: {seen}", flush=True)
        reported = in_browser(clone, home, program) if up and document.get("servers") else ""
        if reported:
            print(f"          in a browser: {reported}", flush=True)
        subprocess.run(
            [*program, "stop", str(clone)], env={**os.environ, "HOME": str(home)}, capture_output=True
        )
    print(f"{good} of {len(rows)} came up with no option")
    if options.json:
        options.json.write_text(json.dumps(rows, indent=2) + "\n", "utf-8")


if __name__ == "__main__":
    main()
