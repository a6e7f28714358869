"""`check`: the project's own tests, builds, linters and type checkers are found, run once, and counted."""

from __future__ import annotations

import json
import shutil
import sqlite3
import subprocess
import sys
from contextlib import closing
from pathlib import Path

import pytest
import urllib3
from conftest import Machine

from plainfall.clone.checks import CheckFound, best_of_kinds, kind_of_line, once
from plainfall.clone.walk import walk
from plainfall.diagnosis.test_results import results_of_output, results_of_report
from plainfall.ecosystems import language_named, languages
from plainfall.evidence import Evidence
from plainfall.server.ports import free_port

HAS_PHP = shutil.which("php") is not None
HAS_NODE = shutil.which("node") is not None
PYTHON = {
    "app.py": "import os, http.server\nprint(os.environ.get('DATABASE_URL'))\n",
    "requirements.txt": "",
    ".env.example": "DATABASE_URL=sqlite:///rain.db\nSTATION=Copper Hill\n",
    "tests/test_rain.py": (
        "import os, sqlite3, unittest\n"
        "class Rain(unittest.TestCase):\n"
        "    def test_sum(self):\n        self.assertEqual(sum([1.5, 2.7]), 4.2)\n"
        "    def test_wrong(self):\n        self.assertEqual(1, 2, 'a drop is missing')\n"
        "    @unittest.skip('no gauge')\n    def test_gauge(self):\n        pass\n"
        "    def test_rows(self):\n"
        "        database = sqlite3.connect(os.environ['DATABASE_URL'].removeprefix('sqlite:///'))\n"
        "        database.execute('DELETE FROM readings')\n        database.commit()\n"
        "        self.assertEqual(os.environ['CI'], 'true')\n"
    ),
}


def ready(machine: Machine, files: dict[str, str], name: str = "gauges") -> Path:
    clone = machine.clone(files, name=name)
    run = machine.run("onboard", clone, "--until", "tasks", "--json")
    assert run.status == 0, run.out + run.err
    return clone


def filled(clone: Path) -> Path:
    with closing(sqlite3.connect(clone / "rain.db")) as database, database:
        database.execute("CREATE TABLE readings (mm REAL)")
        database.execute("INSERT INTO readings VALUES (4.2), (0.6)")
    return clone / "rain.db"


def rows(file: Path) -> int:
    with sqlite3.connect(file) as database:
        return int(database.execute("SELECT COUNT(*) FROM readings").fetchone()[0])


def test_tests_are_counted_and_never_touch_the_development_database(machine: Machine) -> None:
    clone = ready(machine, PYTHON)
    database = filled(clone)
    run = machine.run("check", clone, "--json")
    assert run.status == 1
    [done] = run.document["checks"]
    assert (done["passed"], done["failed"], done["skipped"]) == (2, 1, 1), done
    assert done["command"] == "python -m unittest discover -s tests"
    [failure] = done["failures"]
    assert (
        failure["name"].startswith("test_wrong")
        and failure["text"] == "AssertionError: 1 != 2 : a drop is missing"
    )
    assert rows(database) == 2 and done["remarks"][0] == "DATABASE_URL names a copy of the database"
    shown = machine.run("check", clone)
    assert (
        "2 passed, 1 failed, 1 skipped" in " ".join(shown.out.split())
        and "0 of 1 checks good, 1 failed" in shown.out
    )
    one = machine.run("check", clone, "--kind", "tests", "--json", "--", "-k", "sum")
    assert one.status == 0 and one.document["checks"][0]["passed"] == 1
    assert machine.run("clear", clone, "--data").status == 0
    assert sorted(one.name for one in clone.iterdir()) == sorted(
        {one.partition("/")[0] for one in PYTHON} | {"rain.db"}
    )


def test_tests_that_open_the_development_database_all_the_same_are_undone(machine: Machine) -> None:
    by_path = PYTHON["tests/test_rain.py"].replace(
        "os.environ['DATABASE_URL'].removeprefix('sqlite:///')", "'rain.db'"
    )
    clone = ready(machine, {**PYTHON, "tests/test_rain.py": by_path})
    database = filled(clone)
    done = machine.run("check", clone, "--json").document["checks"][0]
    assert any("the development database rain.db changed while it ran" in one for one in done["remarks"]), (
        done["remarks"]
    )
    assert rows(database) == 2


def test_what_a_file_for_tests_says_is_left_to_it(machine: Machine) -> None:
    told = "import os, unittest\nclass T(unittest.TestCase):\n    def test(self):\n        print('IS', os.environ.get('STATION'))\n"
    clone = ready(machine, {**PYTHON, ".env.test": "STATION=Test\n", "tests/test_rain.py": told})
    done = machine.run("check", clone, "--json").document["checks"][0]
    assert "IS None" in Path(done["log"]).read_text()


def test_nothing_was_found_or_is_ready(machine: Machine) -> None:
    clone = machine.clone({"app.py": "import http.server\n", "requirements.txt": ""})
    done = machine.run("check", clone)
    assert done.status == 2 and "no checks were found in this clone" in done.err
    clone = machine.clone({**PYTHON, "tox.ini": "[flake8]\n"}, name="other")
    done = machine.run("check", clone, "--json")
    assert [one["state"] for one in done.document["checks"]] == ["left out", "left out"]
    assert "no environment yet" in done.document["checks"][0]["why"]
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    done = machine.run("check", clone, "--kind", "lint")
    assert "flake8 is not in the part's environment" in done.err and done.status == 0
    wrong = machine.run("check", clone, "--", "-k", "x")
    assert wrong.status == 2 and "for one kind of check" in wrong.err
    assert machine.run("check", clone, "x").status == 2


BUILD = (
    "const fs = require('fs'); fs.mkdirSync('dist', { recursive: true });"
    "fs.writeFileSync('dist/index.html', '<!doctype html><title>Dry days</title><p>none</p>');"
)


@pytest.mark.skipif(not HAS_NODE, reason="no Node here")
def test_scripts_of_a_manifest_run_once_and_a_build_is_put_up(machine: Machine) -> None:
    machine.variables["PATH"] += f":{Path(str(shutil.which('node'))).parent}"
    scripts = {
        "start": "node serve.js", "test": "node --test", "build": "node build.js", "lint": "node lint.js",
        "typecheck": "node -e \"console.log('a.ts(3,1): error TS2307: no such module'); process.exit(2)\"",
    }  # fmt: skip
    files = {
        "package.json": json.dumps({"name": "days", "version": "1.0.0", "scripts": scripts}),
        "serve.js": "require('http').createServer((q, a) => a.end('x')).listen(process.env.PORT)",
        "build.js": BUILD,
        "lint.js": "console.log('all dry')",
        "days.test.js": "const { test } = require('node:test');\ntest('a', () => {});\ntest('b', () => { throw new Error('wet') });\n",
        ".gitignore": "node_modules\n",
    }
    clone = ready(machine, files, "days")
    run = machine.run("check", clone, "--serve", "--json")
    done = {one["kind"]: one for one in run.document["checks"]}
    assert {kind: one["state"] for kind, one in done.items()} == {
        "tests": "failed", "build": "good", "lint": "good", "types": "failed"
    }  # fmt: skip
    assert (done["tests"]["passed"], done["tests"]["failed"]) == (1, 1)
    assert (
        done["types"]["problems"] == 1
        and done["types"]["failures"][0]["text"] == "error TS2307: no such module"
    )
    assert done["build"]["built"]["folder"] == "dist" and done["build"]["built"]["files"] == 1
    assert done["build"]["served"]["probe"]["title"] == "Dry days"
    stopped = machine.run("stop", clone).out
    assert "ended built dist" in stopped
    gone = machine.run("clear", clone, "--json").document
    assert "dist/" in [one["path"] for one in gone["goes"]] and not (clone / "dist").exists()


@pytest.mark.skipif(not HAS_PHP, reason="no PHP here")
def test_scripts_of_php(machine: Machine) -> None:
    files = {
        "composer.json": json.dumps(
            {"name": "rain/desk", "scripts": {"test": "php tests.php", "lint": "php-cs-fixer fix"}}
        ),
        "composer.lock": json.dumps({"packages": [], "packages-dev": []}),
        "tests.php": "<?php echo \"OK (3 tests, 4 assertions)\\n\", getenv('STATION') ?: 'no variable', \"\\n\";",
        "public/index.php": "<?php echo 'x';",
        ".env.example": "STATION=Copper Hill\n",
        ".env": "STATION=Copper Hill\n",
    }
    clone = ready(machine, files, "desk")
    run = machine.run("check", clone, "--json")
    [done] = run.document["checks"]  # what would write into sources is no check
    assert (done["kind"], done["passed"], done["state"]) == ("tests", 3, "good"), done
    assert "no variable" in Path(done["log"]).read_text()


@pytest.mark.parametrize(
    ("line", "kind"),
    [
        ("pytest -q", "tests"), ("python manage.py test", "tests"), ("npx vitest", "tests"), ("ng test", "tests"),
        ("playwright test", "end-to-end"), ("vite build", "build"), ("eslint . --fix", "lint"), ("mypy src", "types"),
        ("tsc --noEmit", "types"), ("bin/rails test:system", "end-to-end"), ("bundle exec rspec", "tests"),
        ("phpstan analyse", "types"), ("tox -e py311", ""), ("docker run x pytest", ""), ("npm start", ""),
        ("webpack serve", ""),
    ],
)  # fmt: skip
def test_kinds_of_lines(line: str, kind: str) -> None:
    kinds = {kind_of_line(line, language.check_words)[0] for language in languages()} - {""}
    assert kinds == ({kind} if kind else set())


@pytest.mark.parametrize(
    ("kind", "text", "runs"),
    [
        ("tests", "vitest", "vitest run"),
        ("tests", "vitest run --coverage", "npm run test"),
        ("tests", "jest --watchAll", "jest"),
        ("tests", "ng test", "ng test --watch=false"),
        ("lint", "eslint --ext .js --fix src", "eslint --ext .js src"),
        ("lint", "prettier --write .", "prettier --check ."),
        ("end-to-end", "cypress open", "cypress run"),
    ],
)
def test_nothing_is_watched_and_no_source_is_written(kind: str, text: str, runs: str) -> None:
    check = CheckFound(kind, "npm run test", "", 1, Evidence("package.json", 1), text=text)
    node = language_named("node")
    assert node is not None and once(check, node.check_words).line == runs


def test_the_best_of_each_kind() -> None:
    def one(kind: str, line: str, rank: int) -> CheckFound:
        return CheckFound(kind, line, "", rank, Evidence("x", 1))

    found = best_of_kinds(
        [one("lint", "a", 1), one("tests", "b", 2), one("tests", "c", 3), one("lint", "d", 1)]
    )
    assert [(each.kind, each.line) for each in found] == [("tests", "c"), ("lint", "a")]


@pytest.mark.parametrize(
    ("language", "files", "names", "lines"),
    [
        (
            "python",
            {
                "pyproject.toml": "[tool.pytest.ini_options]\n[tool.ruff]\n[tool.mypy]\nfiles = ['a']\n",
                "mkdocs.yml": "",
            },
            (),
            ["python -m pytest", "ruff check", "mypy", "mkdocs build"],
        ),
        ("python", {"manage.py": "", "rain/tests.py": "x"}, (), ["python manage.py test --noinput"]),
        (
            "node",
            {
                "package.json": '{"scripts": {"test": "echo \\"Error: no test specified\\" && exit 1"}}',
                "jest.config.js": "",
            },
            ("jest",),
            ["jest"],
        ),
        (
            "php",
            {"composer.json": "{}", "phpunit.xml.dist": "", "phpstan.neon": ""},
            ("phpunit/phpunit", "phpstan/phpstan"),
            ["phpunit", "phpstan analyse --no-progress"],
        ),
        (
            "ruby",
            {"Gemfile": "", "spec/rain_spec.rb": "", ".rubocop.yml": ""},
            ("rspec", "rubocop"),
            ["bundle exec rspec", "bundle exec rubocop"],
        ),
        (
            "ruby",
            {"Gemfile": "", "bin/rails": "", "test/models/rain_test.rb": "", "test/system/rain_test.rb": ""},
            (),
            ["bin/rails test", "bin/rails test:system"],
        ),
    ],
)
def test_what_files_tell(
    tmp_path: Path, language: str, files: dict[str, str], names: tuple[str, ...], lines: list[str]
) -> None:
    for path, text in files.items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_text(text)
    known = language_named(language)
    assert known is not None
    assert [one.line for one in known.checks(walk(tmp_path), "", frozenset(names))] == lines


@pytest.mark.parametrize(
    ("output", "counts"),
    [
        ("1 failed, 119 passed, 3 skipped in 4.10s", (119, 1, 3)),
        ("===== 2 failed, 5 passed in 0.12s =====", (5, 2, 0)),
        ("Tests:       1 failed, 2 skipped, 7 passed, 10 total", (7, 1, 2)),
        (" Test Files  1 passed (1)\n      Tests  2 passed (2)\n", (2, 0, 0)),
        ("  12 passing (40ms)\n  1 pending\n  2 failing\n", (12, 2, 1)),
        ("OK (5 tests, 10 assertions)", (5, 0, 0)),
        ("Tests: 6, Assertions: 9, Failures: 1, Skipped: 2.", (3, 1, 2)),
        ("Ran 5 tests in 0.1s\n\nFAILED (failures=1, errors=1)", (3, 2, 0)),
        ("9 runs, 12 assertions, 1 failures, 1 errors, 2 skips", (5, 2, 2)),
        ("7 examples, 1 failure, 2 pending", (4, 1, 2)),
        ("ℹ tests 3\nℹ pass 2\nℹ fail 1\nℹ skipped 0", (2, 1, 0)),
        ("# pass 4\n# fail 0\n", (4, 0, 0)),
        ("  3 passed (1.2s)\n  1 failed\n", (3, 1, 0)),
        ("nothing to see", (None, None, None)),
    ],
)  # fmt: skip
def test_closing_lines(output: str, counts: tuple[int | None, ...]) -> None:
    found = results_of_output(output, "tests")
    assert (found.passed, found.failed, found.skipped) == counts


@pytest.mark.parametrize(
    ("output", "failures"),
    [
        (
            "F\n\nFailure:\nRainTest#test_wrong [test/models/rain_test.rb:7]:\nExpected: 4.2\n  Actual: 4.25\n\n"
            "9 runs, 12 assertions, 1 failures, 0 errors, 0 skips\n",
            [("RainTest#test_wrong (test/models/rain_test.rb:7)", "Expected: 4.2")],
        ),
        (
            "There was 1 failure:\n\n1) Rain\\DeskTest::test_sum\nFailed asserting that 4 is 5.\n\nTests: 2, Assertions: 2, Failures: 1.\n",
            [("Rain\\DeskTest::test_sum", "Failed asserting that 4 is 5.")],
        ),
        (
            "FAILED tests/test_a.py::test_b - assert 1 == 2\n1 failed in 0.1s\n",
            [("tests/test_a.py::test_b", "assert 1 == 2")],
        ),
        ("not ok 2 - drops\n# pass 1\n# fail 1\n", [("drops", "")]),
    ],
)
def test_failures_are_named(output: str, failures: list[tuple[str, str]]) -> None:
    found = results_of_output(output, "tests")
    assert [(one.name, one.text) for one in found.failures] == failures


@pytest.mark.parametrize(
    ("output", "problems"),
    [
        ("✖ 5 problems (3 errors, 2 warnings)", 5),
        ("Found 3 errors in 2 files (checked 9 source files)", 3),
        ("Success: no issues found in 4 source files", 0),
        ("src/a.py:3:80: E501 line too long\nsrc/a.py:9:1: F401 'os' imported\n", 2),
        ("10 files inspected, 2 offenses detected", 2),
        ("it is all fine", None),
    ],
)
def test_what_checkers_say(output: str, problems: int | None) -> None:
    assert results_of_output(output, "lint").problems == problems


def test_reports_and_hostile_ones() -> None:
    text = (
        "<testsuites><testsuite><testcase classname='rain' name='a'/><testcase classname='rain' name='b'>"
        "<failure message='1 != 2'>long</failure></testcase><testcase name='c'><skipped/></testcase></testsuite></testsuites>"
    )
    found = results_of_report(text.encode())
    assert found is not None and (found.passed, found.failed, found.skipped) == (1, 1, 1)
    assert (found.failures[0].name, found.failures[0].text) == ("rain: b", "1 != 2")
    bomb = "<!DOCTYPE x [<!ENTITY a 'ha'><!ENTITY b '&a;&a;&a;'>]><testsuites>&b;</testsuites>"
    for other in (bomb, "<testsuites><testsuite>", "<rain/>", ""):
        assert results_of_report(other.encode()) is None


def test_what_tests_put_in_the_place_of_their_report_is_not_waited_for(machine: Machine) -> None:
    """A program of the name of a known runner, which puts a named pipe where its report belongs."""
    fake = (
        "import os, sys\npath = sys.argv[-1].partition('=')[2]\nos.mkfifo(path)\nprint('3 passed in 0.01s')\n"
    )
    clone = ready(machine, {**PYTHON, "pytest.ini": "[pytest]\n", "pytest.py": fake})
    (clone / ".venv/bin/pytest").write_text("#!/bin/sh\n")
    (clone / ".venv/bin/pytest").chmod(0o755)
    [done] = machine.run("check", clone, "--json", timeout=30).document["checks"]
    assert (done["state"], done["passed"]) == ("good", 3), done
    assert any(path.name == "junit.xml" for path in (clone / ".plainfall/checks/top").iterdir())


def test_a_built_site_holds_to_its_folder(tmp_path: Path) -> None:
    site, outside = tmp_path / "dist", tmp_path / "secret.txt"
    (site / "inner").mkdir(parents=True)
    outside.write_text("drizzle")
    (site / "index.html").write_text("<title>Home</title>")
    (site / "about.html").write_text("<title>About</title>")
    (site / "link.txt").symlink_to(outside)
    (site / "inner/index.html").symlink_to(outside)
    port = free_port(8190, [])
    words = [sys.executable, "-I", "-m", "plainfall.server.static_site", str(site), str(port)]
    running = subprocess.Popen(words, stderr=subprocess.DEVNULL)
    try:
        pool = urllib3.PoolManager(retries=urllib3.Retry(10, backoff_factor=0.1))

        def asked(path: str) -> tuple[int, str]:
            answer = pool.request("GET", f"http://127.0.0.1:{port}{path}")
            return answer.status, answer.data.decode()

        assert asked("/") == (200, "<title>Home</title>") == asked("/stations/4")
        assert asked("/about") == (200, "<title>About</title>")
        for path in ("/link.txt", "/inner/index.html", "/none.css", "/..%2fsecret.txt", "/%00.css"):
            status, text = asked(path)
            assert status == 404 and "drizzle" not in text, path
        assert "drizzle" not in asked("/inner/")[1]
    finally:
        running.terminate()
        running.wait()
