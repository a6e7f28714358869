"""Kills at random moments of the commands at both ends of the job: ``python benchmarks/command_kills.py [--kills
40]``.

Each trial starts one of intake (a clone from a repository, an archive), `check`, `report` and `clear` on the sample
clone, and kills its whole session at a random moment. Then it is looked at what is there: nothing half made may
stand under a final name, the person's own files must be as they were, the development database must hold what it
held, and the same command, run again, must end well. Prints a line for each difference, and the count."""

from __future__ import annotations

import argparse
import os
import random
import shutil
import signal
import sqlite3
import subprocess
import sys
import tarfile
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from plainfall.standins.building import build_all
from plainfall.standins.registry import Archive, serving
from plainfall.standins.sample_clone import make_sample

TEST = (
    "import os, sqlite3, unittest\nclass Rain(unittest.TestCase):\n    def test(self):\n"
    "        database = sqlite3.connect(os.environ['DATABASE_URL'].removeprefix('sqlite:///'))\n"
    "        for _ in range(40):\n            database.execute('DELETE FROM readings')\n"
    "            database.commit()\n"
)
MINE = {"notes.txt": "mine\n", "desk/plan.txt": "mine, too\n"}


class Trials:
    """One user, the sample and its registry."""

    def __init__(self, folder: Path, registry: str) -> None:
        self.folder = folder
        self.variables = {
            "HOME": str(folder), "PATH": os.environ["PATH"], "PLAINFALL_CACHE": str(folder / "cache"),
            "PLAINFALL_STATE": str(folder / "state"), "PIP_INDEX_URL": registry, "LANG": "C.UTF-8",
            "PYTHONDONTWRITEBYTECODE": "1",
        }  # fmt: skip
        self.problems: list[str] = []

    def run(self, *words: object) -> int:
        """A command to its end; its status."""
        done = subprocess.run(
            self._words(words), env=self.variables, capture_output=True, cwd=self.folder, text=True
        )
        if done.returncode:
            self.problems.append(f"{' '.join(map(str, words))}: {done.returncode}: {done.stderr[-300:]}")
        return done.returncode

    def killed(self, moment: float, *words: object) -> bool:
        """A command, killed after so many seconds; whether it was still at work."""
        process = subprocess.Popen(
            self._words(words), env=self.variables, cwd=self.folder, start_new_session=True,
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        time.sleep(moment)
        at_work = process.poll() is None
        if at_work:
            os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        return at_work

    @staticmethod
    def _words(words: tuple[object, ...]) -> list[str]:
        return [sys.executable, "-m", "plainfall", *map(str, words)]

    def differs(self, text: str) -> None:
        self.problems.append(text)


def tree(folder: Path, without: tuple[str, ...] = ()) -> dict[str, bytes]:
    """The files of a folder, the repository's own and those below some names aside."""
    return {
        path.relative_to(folder).as_posix(): path.read_bytes()
        for path in folder.rglob("*")
        if path.is_file() and not {".git", *without} & set(path.relative_to(folder).parts)
    }


def intake(trials: Trials, sample: Path, moment: float) -> bool:
    """From a repository or an archive to a folder: absent, or whole."""
    place = trials.folder / "taken"
    shutil.rmtree(place, ignore_errors=True)
    source = random.choice([f"file://{sample}", trials.folder / "sample.tar.gz"])
    cut = trials.killed(moment, "survey", source, "--into", place)
    expected = tree(sample)
    if place.exists() and tree(place) != expected:
        trials.differs(f"{source}: what is under the final name is not whole")
    again = not place.exists() or str(source).startswith(
        "file:"
    )  # an archive's folder is taken by its own name
    if again and trials.run("survey", source, "--into", place) == 0 and tree(place) != expected:
        trials.differs(f"{source}: the run after it made something else")
    left = [
        path.name for path in trials.folder.iterdir() if path.name.startswith(".") and "taken" in path.name
    ]
    if left:
        trials.differs(f"left behind: {left}")
    return cut


def rows(clone: Path) -> int:
    """Readings in the development database."""
    with sqlite3.connect(clone / "var/raingauge.db") as database:
        return int(database.execute("SELECT COUNT(*) FROM readings").fetchone()[0])


def check(trials: Trials, clone: Path, moment: float) -> bool:
    """The tests empty the database that they are given."""
    before = rows(clone)
    cut = trials.killed(moment, "check", clone)
    if rows(clone) != before:
        trials.differs(f"the development database went from {before} rows to {rows(clone)}")
    trials.run("check", clone)
    if rows(clone) != before:
        trials.differs("the run after it changed the development database")
    return cut


def report(trials: Trials, clone: Path, moment: float) -> bool:
    """The page: absent, the one before, or whole."""
    page = trials.folder / "page.html"
    cut = trials.killed(moment, "report", clone, "--no-pictures", "--into", page)
    if page.exists() and not page.read_text().rstrip().endswith("</html>"):
        trials.differs("half a page is under the final name")
    trials.run("report", clone, "--no-pictures", "--into", page)
    left = [path.name for path in trials.folder.iterdir() if path.name.startswith(".plainfall-")]
    if len(left) > 1:  # one that a kill left is swept by nobody but the person; they must not pile up
        for name in left:
            (trials.folder / name).unlink()
    return cut


def clear(trials: Trials, clone: Path, sample: Path, moment: float) -> bool:
    """Afterwards the clone is as it was, with the person's own files."""
    cut = trials.killed(moment, "clear", clone, "--data")
    for path, text in MINE.items():
        if (clone / path).read_text() != text:
            trials.differs(f"{path} of the person's is gone")
    for name, mark in ((".venv", "pyvenv.cfg"),):
        if (clone / name).exists() and not (clone / name / mark).exists():
            trials.differs(f"{name} is half gone")
    trials.run("clear", clone, "--data")
    if tree(clone) != {**tree(sample), **{path: text.encode() for path, text in MINE.items()}}:
        differing = set(tree(clone)) ^ {*tree(sample), *MINE}
        trials.differs(f"after clear the clone is not as it was: {sorted(differing)[:5]}")
    status = subprocess.run(
        ["git", "status", "--short", "--ignored"], cwd=clone, capture_output=True, text=True
    ).stdout
    if sorted(status.split()) != sorted(["??", "desk/", "??", "notes.txt"]):
        trials.differs(f"git status says: {status}")
    trials.run("onboard", clone, "--until", "tasks")
    return cut


def main() -> int:
    """Carries the kills out; the exit status is 1 if anything differs."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--kills", type=int, default=40)
    parser.add_argument("--seed", type=int, default=17)
    options = parser.parse_args()
    random.seed(options.seed)
    built = build_all()
    with (
        tempfile.TemporaryDirectory(prefix="kills-") as name,
        serving([Archive.of(one) for one in built]) as registry,
    ):
        trials = Trials(Path(name), registry.url)
        sample, clone = trials.folder / "sample", trials.folder / "raingauge"
        make_sample(sample, built)
        (sample / "tests").mkdir(exist_ok=True)
        (sample / "tests/test_rain.py").write_text(TEST)
        identity = ["-c", "user.name=Wim Drost", "-c", "user.email=wim@rain.example"]
        subprocess.run(["git", "add", "."], cwd=sample, check=True)
        subprocess.run(["git", *identity, "commit", "-qm", "tests"], cwd=sample, check=True)
        with tarfile.open(trials.folder / "sample.tar.gz", "w:gz") as archive:
            archive.add(
                sample,
                "sample",
                filter=lambda one: None if "/.git" in one.name and "/.gitignore" not in one.name else one,
            )
        subprocess.run(["git", "clone", "-q", str(sample), str(clone)], check=True)
        for path, text in MINE.items():
            (clone / path).parent.mkdir(exist_ok=True)
            (clone / path).write_text(text)
        trials.run("onboard", clone, "--until", "tasks")
        kinds: list[tuple[str, Callable[[float], bool], float]] = [
            ("intake", lambda moment: intake(trials, sample, moment), 0.9),
            ("check", lambda moment: check(trials, clone, moment), 0.9),
            ("report", lambda moment: report(trials, clone, moment), 0.7),
            ("clear", lambda moment: clear(trials, clone, sample, moment), 0.4),
        ]
        cut = dict.fromkeys((kind for kind, _, _ in kinds), 0)
        began = time.monotonic()
        done = 0
        while sum(cut.values()) < options.kills and done < options.kills * 4:
            kind, trial, longest = kinds[done % len(kinds)]
            cut[kind] += trial(random.uniform(0.05, longest))
            done += 1
        for problem in trials.problems:
            print(problem)
        counts = ", ".join(f"{kind} {count}" for kind, count in cut.items())
        print(f"{sum(cut.values())} kills ({counts}) in {done} trials, {time.monotonic() - began:.0f} s")
        print(f"{len(trials.problems)} differences")
    return 1 if trials.problems else 0


if __name__ == "__main__":
    sys.exit(main())
