"""Kills at random moments of a run with a private PostgreSQL: ``python benchmarks/service_kills.py --packages
FOLDER [--kills 60] [--seed 1] [--at-once 2]``.

Each trial onboards a Django clone on PostgreSQL (migrations, a fixture) and kills, at a random moment, Plainfall,
the database server, or both; then the same clone is onboarded without disturbance, and its rows are compared with
those of an undisturbed clone, table for table and row for row (keys and times of the framework's own bookkeeping
aside). After a stop nothing may run. ``--packages`` is the folder of the tests on real packages (see
``.ci/run``)."""

from __future__ import annotations

import argparse
import json
import os
import random
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import psutil

from plainfall.standins.registry import archives_in, serving

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from kills import Trial
from real_python_clones import CLONES

OF_FRAMEWORK = ("django_", "auth_")  # times, sessions, a password's hash: their rows are counted


class ServiceTrial(Trial):
    """One user with one clone whose servers other users may enter."""

    def make(self) -> None:
        for name, text in CLONES["django-on-postgres"].items():
            path = self.clone / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(
                text.replace("5432", str(self.port + 7))
            )  # other users have theirs at the same time
        (self.clone / ".python-version").write_text("{}.{}\n".format(*sys.version_info))

    def rows(self) -> dict[str, Any]:
        """The rows of each table, as `plainfall data` shows them."""
        found: dict[str, Any] = {}
        looked = json.loads(self.said("data", self.clone, "--json"))
        for database in looked["databases"]:
            for table in database["tables"]:
                found[table["table"]] = table["rows"]
                if not table["table"].startswith(OF_FRAMEWORK):
                    rows = json.loads(self.said("data", self.clone, table["table"], "--json", "--limit", 500))
                    found[f"rows of {table['table']}"] = sorted(map(str, rows["rows"]))
        return found

    def said(self, *words: object) -> str:
        done = subprocess.run(
            [sys.executable, "-m", "plainfall", *map(str, words)],
            env=self.variables, cwd=self.home, capture_output=True, text=True, stdin=subprocess.DEVNULL,
        )  # fmt: skip
        return done.stdout


def of_server(home: Path) -> list[psutil.Process]:
    """The database server's processes of a trial."""
    found = []
    for one in psutil.process_iter(["cmdline", "name"]):
        if one.info["name"] == "postgres" and str(home) in " ".join(one.info["cmdline"] or ()):
            found += [one, *one.children(recursive=True)]
    return found


def trial(number: int, index: str, seed: int, wanted: dict[str, Any]) -> list[str]:
    """One kill; what differs afterwards, in words."""
    draw = random.Random(f"{seed}-{number}")
    folder = Path(tempfile.mkdtemp(prefix=f"service-kill-{number}-", dir="/var/tmp"))
    folder.chmod(0o755)
    one = ServiceTrial(folder, {"PIP_INDEX_URL": index, "PIP_CONFIG_FILE": "/dev/null"}, 30_000 + number * 40)
    what = draw.choice(("program", "server", "both", "both"))
    try:
        one.make()
        process = one.start("onboard", one.clone, "--port", one.port, "--no-input")
        time.sleep(1.0 + draw.random() * 3.5)
        if what != "server":
            for child in psutil.Process(process.pid).children(recursive=True) if draw.random() < 0.5 else ():
                _kill(child)
            process.kill()
        if what != "program":
            for server in of_server(folder):
                _kill(server)
        process.communicate()
        status, errors = one.onboard()
        if status:
            return [
                f"{number} {what}: the last run ended with {status}: {errors[errors.find('error') :][:600]}"
            ]
        now = one.rows()
        differs = [
            f"{number} {what}: {name}: {now.get(name)}"
            for name in {*now, *wanted}
            if now.get(name) != wanted.get(name)
        ]
        one.run("stop", "--all")
        time.sleep(0.2)
        return differs + [f"{number} {what}: still runs: {words}" for words in one.left()]
    finally:
        one.run("stop", "--all")
        shutil.rmtree(folder, ignore_errors=True)


def _kill(process: psutil.Process) -> None:
    try:
        process.kill()
    except psutil.NoSuchProcess:
        return


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--packages", type=Path, required=True)
    parser.add_argument("--kills", type=int, default=60)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--at-once", type=int, default=2)
    options = parser.parse_args()
    begin = time.perf_counter()
    with serving(archives_in(options.packages)) as registry:
        folder = Path(tempfile.mkdtemp(prefix="service-kill-none-", dir="/var/tmp"))
        folder.chmod(0o755)
        one = ServiceTrial(folder, {"PIP_INDEX_URL": registry.url, "PIP_CONFIG_FILE": "/dev/null"}, 29_000)
        one.make()
        status, errors = one.onboard()
        if status:
            raise SystemExit(errors)
        wanted = one.rows()
        one.run("stop", "--all")
        shutil.rmtree(folder, ignore_errors=True)
        print(f"undisturbed: {len(wanted)} facts", flush=True)
        with ThreadPoolExecutor(options.at_once) as pool:
            numbers = range(options.kills)
            results = []
            for number, result in enumerate(
                pool.map(lambda n: trial(n, registry.url, options.seed, wanted), numbers), 1
            ):
                results.append(result)
                print("\n".join([*result, f"{number} done"]), flush=True)
    differences = [text for result in results for text in result]
    bad = sum(bool(result) for result in results)
    print(f"{options.kills} kills, {bad} with a difference, {time.perf_counter() - begin:.0f} s")
    return 1 if differences else 0


if __name__ == "__main__":
    os.environ.setdefault("LANG", "C.UTF-8")
    sys.exit(main())
