"""A run with nothing to do, of clones with servers behind them: ``python benchmarks/services_again.py --packages
FOLDER --node-packages FOLDER [--times 5]``.

The three clones of the tests on real servers are onboarded, then the same command is run again; medians of the
later runs, in seconds, from the start of the process to its end. The limit is 0.6 s."""

from __future__ import annotations

import argparse
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from plainfall.standins.node_registry import archives_below, serving_node
from plainfall.standins.registry import archives_in, serving

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
from real_node_clones import CLONES as NODE_CLONES
from real_python_clones import CLONES


def main() -> int:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--packages", type=Path, required=True)
    parser.add_argument("--node-packages", type=Path, required=True)
    parser.add_argument("--times", type=int, default=5)
    options = parser.parse_args()
    clones = {
        "Django on PostgreSQL": {
            **CLONES["django-on-postgres"],
            ".python-version": "{}.{}\n".format(*sys.version_info),
        },
        "Flask on MariaDB": {
            **CLONES["flask-on-mariadb"],
            ".python-version": "{}.{}\n".format(*sys.version_info),
        },
        "Node on PostgreSQL and Redis": NODE_CLONES["services"],
    }
    home = Path(tempfile.mkdtemp(prefix="services-again-", dir="/var/tmp"))
    home.chmod(0o755)
    node = Path(shutil.which("node") or "/usr/bin/node").parent
    variables = {
        "HOME": str(home),
        "PATH": f"{Path(sys.executable).parent}:{node}:/usr/bin:/bin",
        "LANG": "C.UTF-8",
    }
    with (
        serving(archives_in(options.packages)) as registry,
        serving_node(archives_below(options.node_packages, read_manifests=True)) as node_registry,
    ):
        variables |= {"PIP_INDEX_URL": registry.url, "PIP_CONFIG_FILE": "/dev/null"}
        variables |= {"npm_config_registry": node_registry.url}
        for name, files in clones.items():
            clone = home / name.replace(" ", "-").lower()
            for path, text in files.items():
                (clone / path).parent.mkdir(parents=True, exist_ok=True)
                (clone / path).write_text(text)
            words = [sys.executable, "-m", "plainfall", "onboard", str(clone), "--no-input"]
            seconds = []
            for _ in range(options.times + 1):
                begin = time.perf_counter()
                done = subprocess.run(words, env=variables, capture_output=True, text=True)
                seconds.append(time.perf_counter() - begin)
                if done.returncode:
                    raise SystemExit(done.stderr)
            first, *later = seconds
            print(
                f"{name + ':':30} first {first:5.1f} s, again {statistics.median(later):.3f} s "
                f"({min(later):.3f} to {max(later):.3f})"
            )
        subprocess.run(
            [sys.executable, "-m", "plainfall", "stop", "--all"], env=variables, capture_output=True
        )
    shutil.rmtree(home, ignore_errors=True)
    return 0


if __name__ == "__main__":
    os.environ.setdefault("LANG", "C.UTF-8")
    sys.exit(main())
