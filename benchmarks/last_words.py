"""Clones that are broken on purpose, each in one way: is the first line of the failure its true cause?

python benchmarks/last_words.py [--only WORDS]

A row a clone: what was broken, the cause that is said first, whether it is the true one; then how many are. What
the remedy says is then done to the letter: whether the clone comes up, or the remedy says honestly that none brings
it up. Needs no network: packages are our own, from a folder."""

from __future__ import annotations

import argparse
import json
import os
import re
import socket
import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from conftest import package
from test_building import source_package, tree

from plainfall.standins.registry import Archive

SERVE = (
    "import http.server, os\n{more}\n\n\nclass Page(http.server.BaseHTTPRequestHandler):\n    def do_GET(self):\n"
    "        {answer}\n\n\n"
    "http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), Page).serve_forever()\n"
)
GOOD = "self.send_response(200); self.end_headers(); self.wfile.write(b'<h1>Rain</h1>')"
LACKING = (
    "self.send_response(200 if self.path == '/' else 404); self.send_header('Content-Type', 'text/html'); "
    "self.end_headers(); self.wfile.write(b'<script src=\"/gone.js\"></script><h1>Rain</h1>')"
)


def served(more: str = "", answer: str = GOOD, **files: str) -> dict[str, str]:
    """A clone with one page; ``more`` are lines of its program before it serves."""
    base = {
        "app.py": SERVE.format(more=more, answer=answer),
        "requirements.txt": "",
        "Procfile": "web: python app.py\n",
    }
    return {**base, **{name.replace("__", "/").replace("_dot_", "."): text for name, text in files.items()}}


def broken() -> dict[str, tuple[dict[str, str], str]]:
    """What is broken: the clone's files, and a pattern of the true cause."""
    node = '{"name": "board", "scripts": {"dev": "node server.js"}, %s}'
    return {
        "a pin that does not exist": (served(requirements_dot_txt="gaugekit==9.9\n"), r"gaugekit"),
        "a module that nothing brings": (served("import rainfall_of_nobody"), r"rainfall_of_nobody"),
        "a module of the clone that is gone": (
            served("import stations", Procfile="web: python app.py\n"),
            r"stations",
        ),
        "a runtime that is not here": (
            served(pyproject_dot_toml="[project]\nname='r'\nversion='1'\nrequires-python='>=3.99'\n"),
            r"no Python here fits",
        ),
        "a host that is not there": (
            served("import socket\nsocket.create_connection(('db.rain.invalid', 5432))"),
            r"host .*db\.rain\.invalid|not known",
        ),
        "a syntax error": (served("def rain(:\n    pass"), r"cannot be read|syntax|interpreter"),
        "a start command that names what is gone": (
            {"requirements.txt": "", "Procfile": "web: python rain.py\n"},
            r"rain\.py|no start command",
        ),
        "a value that only a person knows": (
            served("if not os.environ.get('RAIN_API_TOKEN'): raise SystemExit('RAIN_API_TOKEN is not set')"),
            r"RAIN_API_TOKEN",
        ),
        "a file that is missing": (served("open('stations.csv').read()"), r"stations\.csv"),
        "a table that nothing makes": (
            served("import sqlite3\nsqlite3.connect('g.db').execute('select * from stations')"),
            r"table stations",
        ),
        "imports in a circle": (
            served(
                "import one", one_dot_py="from two import b\na = 1\n", two_dot_py="from one import a\nb = 2\n"
            ),
            r"circle",
        ),
        "a page that fails": (
            served(answer="raise ValueError('no gauge answers')"),
            r"no answer|status 500|hung up",
        ),
        "a page whose script is missing": (served(answer=LACKING), r"missing files: /gone\.js"),
        "a program that never listens": (served("import time\ntime.sleep(600)"), r"listens on no port"),
        "a manifest with a comma too many": (
            {"package.json": '{"name": "board",\n "scripts": {"dev": "node x.js"},,\n}\n', "x.js": NODE},
            r"not JSON",
        ),
        "a pyproject that is no TOML": (served(pyproject_dot_toml="[project\nname = 'r'\n"), r"not TOML"),
        "a Node that is not here": (
            {"package.json": node % '"engines": {"node": ">=99"}', "server.js": ""},
            r"no Node here fits",
        ),
        "a header that is missing": (
            {**served(requirements_dot_txt="raindriver\n")},
            r"rain_gauge\.h",
        ),
        "a build of the project that fails": (
            {
                "pyproject.toml": "[build-system]\nrequires = []\nbuild-backend = 'own'\nbackend-path = ['.']\n"
                "[project]\nname = 'gauges'\nversion = '1'\nscripts = {gauges = 'gauges:main'}\n",
                "own.py": "def build_editable(*_, **__):\n    raise OSError('the rain table is missing')\n\n\n"
                "build_wheel = build_editable\n",
                "gauges.py": "def main():\n    pass\n",
                "README.md": "# R\n\n## Running\n\n```\ngauges serve --port 8000\n```\n",
            },
            r"the project itself is not installed: ",
        ),
        "a name that a package lost": (served("from http.server import RainHandler"), r"RainHandler"),
        "a port that is taken, in the code": (
            served(f"http.server.HTTPServer(('127.0.0.1', {_TAKEN}), None)"),
            r"port is taken",
        ),
        "an error of its own": (served("raise RuntimeError('gauge 7 is upside down')"), r"status 1"),
    }


_HELD = socket.create_server(("127.0.0.1", 0))
_TAKEN = _HELD.getsockname()[1]


def edited(name: str, text: str) -> Callable[[Path], list[str]]:
    """What a remedy that names a line of a file asks for: that file is mended."""

    def follow(clone: Path) -> list[str]:
        (clone / name).write_text(text)
        return []

    return follow


def ended(clone: Path) -> list[str]:
    """The program that holds the port is ended."""
    _HELD.close()
    return []


NODE = (
    "require('http').createServer((a, b) => b.end('<h1>Rain</h1>')).listen(process.env.PORT, '127.0.0.1')\n"
)
WELL = SERVE.format(more="", answer=GOOD)
# What each remedy must say, and what a person who follows it does: further words for the command, or an edit. None
# where the remedy says what nobody here can do (a package that does not exist, a value that only a person knows).
FOLLOWED: dict[str, tuple[str, Callable[[Path], list[str]] | None]] = {
    "a pin that does not exist": (
        r"--instead gaugekit==VERSION",
        lambda clone: ["--instead", "gaugekit==1.0"],
    ),
    "a module that nothing brings": (r"check the module's spelling", edited("app.py", WELL)),
    "a module of the clone that is gone": (r"check the module's spelling", edited("stations.py", "")),
    "a runtime that is not here": (r"--runtime PATH", lambda clone: ["--runtime", sys.executable]),
    "a host that is not there": (r"in the settings or in the code", edited("app.py", WELL)),
    "a syntax error": (r"Check the file and line above", edited("app.py", WELL)),
    "a start command that names what is gone": (r"path|there|command", edited("rain.py", WELL)),
    "a value that only a person knows": (
        r"--set RAIN_API_TOKEN=VALUE",
        lambda clone: ["--set", "RAIN_API_TOKEN=x"],
    ),
    "a file that is missing": (r"a step that makes it was left out", edited("stations.csv", "north\n")),
    "a table that nothing makes": (r"the database address", None),
    "imports in a circle": (r"move one import", edited("two.py", "b = 2\n")),
    "a page that fails": (r"read its log", edited("app.py", WELL)),
    "a page whose script is missing": (r"the same command starts it anew", edited("app.py", WELL)),
    "a program that never listens": (r"--wait SECONDS, or read its log", None),
    "a manifest with a comma too many": (
        r"Mend that line",
        edited("package.json", '{"name": "board", "scripts": {"dev": "node x.js"}}'),
    ),
    "a pyproject that is no TOML": (
        r"Correct this line",
        edited("pyproject.toml", "[project]\nname = 'r'\nversion='1'\n"),
    ),
    "a Node that is not here": (r"Install a Node", None),
    "a header that is missing": (r"Install what brings rain_gauge\.h", None),
    "a build of the project that fails": (r"Mend what these lines name", None),
    "a name that a package lost": (r"another Python|another version", edited("app.py", WELL)),
    "a port that is taken, in the code": (r"End the program that holds it", ended),
    "an error of its own": (r"Read its lines above", edited("app.py", WELL)),
}


def main() -> int:
    """Prints the table; returns 0 where nine of ten are right."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    parser.add_argument("--only", default="")
    options = parser.parse_args()
    right = count = helped = 0
    with tempfile.TemporaryDirectory() as place:
        home = Path(place)
        archives = home / "archives"
        archives.mkdir()
        compiled = tree(
            "raindriver", action="import subprocess; subprocess.run(['cc', '-c', 'r.c'], check=True)"
        )
        driver = source_package("raindriver", {**compiled, "r.c": "#include <rain_gauge.h>\n"})
        for one in (Archive.of(package("gaugekit")), driver):
            (archives / one.filename).write_bytes(one.content)
        variables = {
            "HOME": str(home), "PATH": os.environ["PATH"], "PIP_NO_INDEX": "1", "PIP_FIND_LINKS": str(archives),
            "TERM": "dumb",
        }  # fmt: skip
        for number, (name, (files, pattern)) in enumerate(broken().items()):
            if options.only not in name:
                continue
            clone = home / f"clone-{number}"
            for path, text in files.items():
                (clone / path).parent.mkdir(parents=True, exist_ok=True)
                (clone / path).write_text(text)
            words = [
                sys.executable,
                "-m",
                "plainfall",
                "onboard",
                str(clone),
                "--no-input",
                "--json",
                "--wait",
                "8",
            ]
            done = subprocess.run(words, env=variables, capture_output=True, text=True, timeout=300)
            document = json.loads(done.stdout)
            failure = document.get("failure") or {"cause": f"(none: {document['outcome']})", "lines": []}
            good = re.search(pattern, failure["cause"]) is not None
            if name == "an error of its own":
                good = good and any("gauge 7 is upside down" in line for line in failure["lines"])
            right, count = right + good, count + 1
            print(f"{'right' if good else 'WRONG':6} {name:38} {failure['cause'][:150]}", flush=True)
            says, follow = FOLLOWED[name]
            apt = re.search(says, failure.get("remedy") or "") is not None
            if follow is not None and apt:
                again = subprocess.run(
                    [*words, *follow(clone)], env=variables, capture_output=True, text=True, timeout=300
                )
                apt = json.loads(again.stdout)["outcome"] == "done"
            helped += apt
            verdict = "none here" if follow is None and apt else "comes up" if apt else "DOES NOT HELP"
            print(f"       {verdict}: {failure.get('remedy')}", flush=True)
            subprocess.run([*words[:3], "stop", str(clone)], env=variables, capture_output=True)
    print(f"{right} of {count} name the true cause first")
    print(f"{helped} of {count} remedies bring it up when followed, or say that nothing here does")
    return 0 if min(right, helped) >= 0.9 * count else 1


if __name__ == "__main__":
    sys.exit(main())
