"""Kills at random moments of a search: ``python benchmarks/search_kills.py [--kills 100] [--seed 3]``.

Each trial onboards a clone that comes up only after a search (its first documented command fails, the second
lacks a package that an extra lists, the folder that it writes in is missing) and kills the whole session at a
random moment, up to three times one after the other. Then the same command runs to its end: the page must
answer, a further run must find nothing to do, and files, environment and decisions must be those of a clone
that nobody disturbed. While one search runs a second one on the same clone is started now and then: it must say
that the clone is held. Prints a line for each difference, and the count."""

from __future__ import annotations

import argparse
import json
import random
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from command_kills import Trials, tree
from conftest import SERVER, package

from plainfall.standins.registry import Archive, serving

FILES = {
    "pyproject.toml": "[project]\nname = 'rain'\nversion = '1'\n"
    "[project.optional-dependencies]\nmaps = ['gaugekit']\n",
    "first.py": "raise SystemExit('the first one is broken')\n",
    "second.py": f"import gaugekit\nopen('var/rain.log', 'a').write('begun')\n{SERVER}",
    "README.md": "# Rain\n\n## Running\n\n```\npython first.py --port 8000\npython second.py --port 8000\n```\n",
}
BUSY = b"holds this clone"
OURS = (".plainfall", "__pycache__", "var")  # var: a line for each start


def make(folder: Path) -> Path:
    """A new clone of it."""
    shutil.rmtree(folder, ignore_errors=True)
    folder.mkdir()
    for name, text in FILES.items():
        (folder / name).write_text(text)
    subprocess.run(["git", "init", "-q", str(folder)], check=True)
    return folder


def onboarded(trials: Trials, clone: Path) -> dict[str, Any]:
    """The document of a run to its end."""
    done = subprocess.run(
        [sys.executable, "-m", "plainfall", "onboard", str(clone), "--json"],
        env=trials.variables, capture_output=True, text=True, cwd=trials.folder,
    )  # fmt: skip
    document: dict[str, Any] = json.loads(done.stdout)
    return document


def what_stands(clone: Path) -> dict[str, Any]:
    """The clone's files, and what the run decided."""
    state = json.loads((clone / ".plainfall/state.json").read_text())["content"]["records"]
    decided = {name: row.get("decisions") for name, row in state.items() if name.endswith("|decisions")}
    files = {path: text for path, text in tree(clone, OURS).items() if "RECORD" not in path}
    return {"files": files, "decisions": decided}


def trial(trials: Trials, clone: Path, draw: random.Random, expected: dict[str, Any]) -> int:
    """Up to three kills of one search; how many hit it at work."""
    make(clone)
    cut = 0
    for _ in range(draw.choice((1, 1, 2, 3))):
        if draw.random() < 0.15:
            first = subprocess.Popen(
                [sys.executable, "-m", "plainfall", "onboard", str(clone)], env=trials.variables, cwd=trials.folder,
                stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, start_new_session=True,
            )  # fmt: skip
            time.sleep(1.0)
            at_work = first.poll() is None
            second = subprocess.run(
                [sys.executable, "-m", "plainfall", "onboard", str(clone)], env=trials.variables,
                cwd=trials.folder, capture_output=True,
            )  # fmt: skip
            if at_work and first.poll() is None and BUSY not in second.stderr:
                trials.differs(f"a second search was not kept out: {second.stderr.decode()[-300:]}")
            first.wait()
        cut += trials.killed(draw.uniform(0.3, 3.2), "onboard", clone)
    done = onboarded(trials, clone)
    if done["outcome"] != "done":
        trials.differs(f"the run after it: {done['failure']}")
    again = onboarded(trials, clone)
    states = {one["state"] for one in again["steps"]}
    if not states <= {"kept", "left out"}:
        trials.differs(f"the run after that: {[(one['stage'], one['state']) for one in again['steps']]}")
    stands = what_stands(clone)
    for name, value in expected.items():
        if stands[name] != value:
            names = set(stands[name]) ^ set(value) or [k for k in value if stands[name][k] != value[k]]
            trials.differs(f"{name} differ: {sorted(names)[:6]}")
    trials.run("stop", clone)
    left = [
        line
        for line in subprocess.run(
            ["ps", "-eo", "pid,args"], capture_output=True, text=True
        ).stdout.splitlines()
        if str(clone) in line and "search_kills" not in line
    ]
    if left:
        trials.differs(f"still runs: {left}")
    return cut


def main() -> int:
    """Carries the kills out; the exit status is 1 if anything differs."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=100)
    parser.add_argument("--seed", type=int, default=3)
    options = parser.parse_args()
    draw = random.Random(options.seed)
    began = time.monotonic()
    with (
        tempfile.TemporaryDirectory(prefix="search-kills-") as name,
        serving([Archive.of(package("gaugekit", "1.0"))]) as registry,
    ):
        trials = Trials(Path(name), registry.url)
        clone = make(Path(name) / "rain")
        document = onboarded(trials, clone)
        if document["outcome"] != "done":
            raise SystemExit(f"undisturbed: {document['failure']}")
        expected = what_stands(clone)
        trials.run("stop", clone)
        kills = number = 0
        while kills < options.kills:
            before = len(trials.problems)
            kills += trial(trials, clone, draw, expected)
            number += 1
            for problem in trials.problems[before:]:
                print(f"{number}: {problem}", flush=True)
        print(f"{kills} kills in {number} clones, {time.monotonic() - began:.0f} s")
        print(f"{len(trials.problems)} differences")
    return 1 if trials.problems else 0


if __name__ == "__main__":
    sys.exit(main())
