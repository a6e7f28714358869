"""What people see: foreign text is made visible, failures are said without a traceback, and a look has bounds."""

from __future__ import annotations

import json
import os
import pty
import signal
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, package
from forked import seconds_of_last_run
from hypothesis import given
from hypothesis import strategies as st
from rogue import rogue

from plainfall.cli.visible import visible
from plainfall.errors import BadInput
from plainfall.reading import json_value, toml_table, yaml_node, yaml_value
from plainfall.standins.registry import Archive

pytestmark = pytest.mark.hostile
TITLE = "\x1b]0;taken over\x07"


@given(st.text(max_size=60))
def test_no_text_moves_the_cursor_or_hides_anything(text: str) -> None:
    shown = visible(text)
    assert not any((ord(sign) < 32 and sign not in "\n\t") or 0x7F <= ord(sign) < 0xA0 for sign in shown)
    shown.encode("utf-8")  # no half of a surrogate pair is left
    assert visible(shown) == shown


@pytest.mark.parametrize(
    ("text", "shown"),
    [
        ("\x1b]0;t\x07", "\\x1b]0;t\\x07"),
        ("\x1b]52;c;aGk=\x07", "\\x1b]52;c;aGk=\\x07"),
        ("a\rb\x08", "a\\x0db\\x08"),
        ("\u202egpj.exe", "\\u202egpj.exe"),
        ("\x9b2J", "\\u009b2J"),
        ("\udcff", "\\udcff"),
        ("\x1b[31mred\x1b[0m", "\\x1b[31mred\\x1b[0m"),
        ("é ✓ 雨", "é ✓ 雨"),
    ],
)
def test_what_does_is_spelled_out(text: str, shown: str) -> None:
    assert visible(text) == shown
    assert (
        json.loads(
            f'"{visible(text.replace(chr(27), "").replace(chr(8), "").replace(chr(13), "").replace(chr(7), ""))}"'
        )
        is not None
    )


def test_colours_of_a_followed_log_stay_and_nothing_else() -> None:
    shown = visible("\x1b[31mred\x1b[2J\x1b]0;x\x07", colours=True)
    assert shown == "\x1b[31mred\\x1b[2J\\x1b]0;x\\x07\x1b[0m"


def on_a_terminal(machine: Machine, *words: object) -> str:
    """What a run writes on a terminal."""
    holder, terminal = pty.openpty()
    run = subprocess.Popen(
        [sys.executable, "-m", "plainfall", *map(str, words), "--no-input"],
        env={**machine.variables, "TERM": "xterm"},
        stdin=terminal,
        stdout=terminal,
        stderr=terminal,
        cwd=machine.home,
        start_new_session=True,
    )
    os.close(terminal)
    pieces = []
    while True:
        try:
            piece = os.read(holder, 65536)
        except OSError:
            break
        if not piece:
            break
        pieces.append(piece)
    run.wait(30)
    os.close(holder)
    return b"".join(pieces).decode("utf-8", "replace")


def harmless(text: str) -> bool:
    """Whether of sequences there are only colours, and those with which a status line is redrawn."""
    import re

    rest = re.sub(r"\x1b\[(\?25[lh]|[0-9;]*[mKAG]|2K|1A)", "", text)
    return "\x1b" not in rest and "\x9b" not in rest and "\x07" not in rest and "\u202e" not in rest


@pytest.mark.needs("git")
def test_escapes_from_names_branches_readmes_pages_and_logs_do_nothing(machine: Machine) -> None:
    page = SERVER.replace("<title>Gauge</title>ok", "<title>G\\x1b]0;t\\x07</title>ok").replace('b"<', 'b"<')
    page += f"print({TITLE!r}, flush=True)\n"
    clone = machine.clone(
        {
            "requirements.txt": "",
            f"notes{TITLE}.py": "import os\nos.environ.get('A\\x1b[2J')\n",
            "app.py": f"print({TITLE!r}, flush=True)\n" + page,
            "README.md": f"## Setup\n\n```sh\npython seed.py # {TITLE}\n```\nNeeds Python 3.99 {TITLE}\n",
            "seed.py": f"print({TITLE!r})\nraise SystemExit({TITLE!r})\n",
            ".env.example": f"# {TITLE}\nKEY=\x1b[2J\n",
            ".git/HEAD": f"ref: refs/heads/main{TITLE}\n",
            "Cargo.toml": "",
        },
        f"gauges{TITLE}",
    )
    for words in (["survey", clone], ["settings", clone], ["onboard", clone], ["onboard", clone, "--json"]):
        shown = on_a_terminal(machine, *words)
        assert harmless(shown), ascii(shown)
        assert (
            "\\x1b]0;taken over\\x07" in shown.replace("\r\n", "")
            or words[0] == "settings"
            or "json" in str(words)
        )
        plain = machine.run(*words)
        assert "\x1b" not in plain.out + plain.err
    (clone / "README.md").unlink()
    (clone / "seed.py").unlink()
    run = machine.run("onboard", clone)
    assert run.status == 0 and "\x1b" not in run.out + run.err
    machine.run("stop", clone)


def test_escapes_from_a_registry_do_nothing(machine: Machine) -> None:
    def answering(handler: Any) -> None:
        handler.send_response(200)
        handler.send_header("Content-Type", "application/json")
        handler.end_headers()
        row = {"filename": f"kit-1.0{TITLE}.whl", "url": "x", "hashes": {"sha256": TITLE}}
        handler.wfile.write(json.dumps({"meta": {"api-version": f"1{TITLE}"}, "files": [row]}).encode())

    with rogue(answering) as server:
        clone = machine.clone({"requirements.txt": "kit\n", "app.py": ""})
        machine.variables |= {"PIP_INDEX_URL": server.url, "PIP_NO_INDEX": ""}
        run = machine.run("onboard", clone)
    assert run.status == 1 and "\x1b" not in run.err and "\x07" not in run.err


# ------------------------------------------------------------------------------------------- no traceback


def failed(machine: Machine, *words: object, status: int = 1, **variables: str) -> str:
    machine.variables |= variables
    run = machine.run(*words)
    assert run.status == status and "Traceback" not in run.err and "fault of" not in run.err, run.err
    return " ".join(run.err.split())


@pytest.mark.parametrize(
    "text",
    [
        "[" * 100_000,
        '{"a":' * 50_000,
        "1" * 5000,
        '{"x": ' + "9" * 5000 + "}",
        "[[]" + ",[]" * 2_500_000 + "]",
    ],
)
def test_json_without_bounds_is_said(text: str) -> None:
    begin = time.monotonic()
    with pytest.raises(BadInput):
        json_value(text, "x.json")
    assert time.monotonic() - begin < 2


def test_halves_of_surrogate_pairs_become_replacement_characters() -> None:
    found = json_value('{"a\\ud800": ["\\udfff", "\\ud83d\\ude00"]}', "x.json")
    json.dumps(found, ensure_ascii=False).encode()
    assert found == {"a�": ["�", "😀"]}


ALIASES = "a0: &a0 [x, x]\n" + "".join(
    f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]\n" for n in range(1, 12)
)


@pytest.mark.parametrize(
    "text",
    [
        ALIASES,
        "&a [*a]",
        "[" * 100_000,
        "- " * 50_000,
        "? " * 50_000,
        "{a: " * 50_000,
        "a: 2020-99-99",
        "a: " + "9" * 6000,
    ],
)
@pytest.mark.parametrize("reader", [yaml_value, yaml_node])
def test_yaml_without_bounds_is_said(reader: Callable[..., Any], text: str) -> None:
    begin = time.monotonic()
    try:
        reader(text, "x.yml")
    except BadInput as error:
        assert "x.yml" in str(error)
    else:
        assert reader is yaml_node and text.startswith("a: ")  # a node is no number yet
    assert time.monotonic() - begin < 2


@pytest.mark.parametrize(
    "text",
    [
        "a = " + "[" * 5000,
        ".".join(["a"] * 4000) + " = 1",
        "[" + ".".join(["a"] * 3000) + "]",
        "a = " + "9" * 5000,
    ],
)
def test_toml_without_bounds_is_said(text: str) -> None:
    begin = time.monotonic()
    with pytest.raises(BadInput):
        toml_table(text, "x.toml")
    assert time.monotonic() - begin < 3


BOUNDLESS: dict[str, dict[str, str]] = {
    "aliases": {"docker-compose.yml": ALIASES, "environment.yml": ALIASES, "pnpm-workspace.yaml": ALIASES},
    "brackets": {"README.md": "[" * 1_900_000},
    "nested quotes": {"README.md": "> " * 200_000 + "\n" + "- " * 200_000},
    "fences": {"README.md": "## Setup\n" + "```sh\n" * 100_000},
    "chain": {"wide.js": "process.env.A" + " || process.env.B" * 30_000},
    "chain in Ruby": {"wide.rb": "ENV['A']" + " || ENV['B']" * 30_000},
    "chain in PHP": {"wide.php": "<?php $x = getenv('A')" + " ?: getenv('B')" * 30_000 + ";"},
    "chain in Python": {"wide.py": "import os\nx = os.getenv('A')" + " or os.getenv('B')" * 20_000},
    "tables": {"pyproject.toml": "[project]\nname='x'\n" + "".join(f"[tool.t{n}]\n" for n in range(50_000))},
    "packages": {
        "uv.lock": "version = 1\n"
        + "".join(f'[[package]]\nname = "p{n}"\nversion = "1"\n' for n in range(20_000))
    },
    "pins": {"requirements.txt": "".join(f"p{n}==1.0\n" for n in range(50_000))},
    "Pipfile.lock": {
        "Pipfile.lock": json.dumps(
            {"_meta": {}, "default": {f"p{n}": {"version": "==1"} for n in range(20_000)}}, indent=1
        )
    },
    "keys": {".env.example": "".join(f"KEY_{n}=value\n" for n in range(20_000))},
    "quotes": {".env.example": "A='" + "\\" * 100_000 + '\nB="' + "\\a" * 100_000},
    "long line": {
        "Procfile": "web: " + "x " * 500_000,
        "Dockerfile": "CMD " + "[" * 500_000,
        "setup.py": "x = 1 # " + "y" * 900_000,
    },
    "parentheses": {"app.py": "x = " + "(" * 100_000, "setup.py": "(" * 100_000},
    "workflow": {".github/workflows/ci.yml": "python-version: [" + "3.1, " * 50_000 + "]"},
    "ignored": {".gitignore": "**/" * 3000 + "x\n" + "*a" * 500 + "\n"},
}


@pytest.mark.parametrize("name", BOUNDLESS)
def test_a_survey_takes_no_longer_than_five_seconds(machine: Machine, name: str) -> None:
    clone = machine.clone(
        {"app.py": "", "a/b/aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa.py": "", **BOUNDLESS[name]}
    )
    for words in (["survey", clone], ["settings", clone]):
        run = machine.run(*words, timeout=60)
        assert seconds_of_last_run() < 5, (words, seconds_of_last_run())
        assert run.status in (0, 1, 3, 4) and "Traceback" not in run.err and "fault of" not in run.err, (
            run.err
        )


def test_a_name_that_is_not_utf_8(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER})
    odd = Path(os.fsdecode(os.fsencode(clone) + b"/caf\xe9"))
    odd.mkdir()
    (odd / "package.json").write_text('{"name": "x", "scripts": {"dev": "node a.js"}}')
    (odd / ".env.example").write_text("NETWORK=Lower Valley\n")
    for words in (
        ["survey", clone],
        ["survey", clone, "--json"],
        ["settings", clone],
        ["onboard", clone, "--until", "settings"],
    ):
        run = machine.run(*words)
        assert "fault of" not in run.err and "Traceback" not in run.err, run.err


def test_a_state_folder_of_the_users_that_cannot_be_written(machine: Machine) -> None:
    blocked = machine.home / "blocked"
    blocked.write_text("")
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER})
    said = failed(machine, "onboard", clone, PLAINFALL_STATE=str(blocked / "state"))
    assert "blocked" in said and "PLAINFALL_STATE" in said
    failed(
        machine, "onboard", clone, PLAINFALL_STATE=str(machine.home / "s"), PLAINFALL_CACHE=str(blocked / "c")
    )


def started(machine: Machine, script: str, folder: Path | None = None) -> subprocess.CompletedProcess[str]:
    command = f'cd "{folder or machine.home}"; {script}'
    return subprocess.run(
        ["/bin/sh", "-c", command],
        env={**machine.variables, "P": f"{sys.executable} -m plainfall"},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )


@pytest.mark.parametrize(
    "closing", ["<&- >&- 2>&-", ">&-", "2>&-", "<&-", "| true", "2>&1 | head -c 1 >/dev/null"]
)
def test_standard_streams_that_are_closed(machine: Machine, closing: str) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": ""})
    for words in (f"survey {clone}", f"survey {clone} --json", f"onboard {clone} --until settings", "--help"):
        done = started(machine, f"$P {words} {closing}")
        assert "Traceback" not in done.stderr and "Exception ignored" not in done.stderr, done.stderr


def test_a_current_folder_that_is_gone(machine: Machine) -> None:
    folder = machine.home / "gone"
    folder.mkdir()
    done = started(machine, f'rmdir "{folder}"; $P survey', folder)
    assert done.returncode == 1 and "the current folder does not exist any more" in done.stderr, done.stderr


def test_an_interrupt_while_the_program_starts(machine: Machine) -> None:
    for pause in (0.02, 0.05, 0.08, 0.12, 0.2):
        run = machine.start("survey", machine.home)
        time.sleep(pause)
        run.send_signal(signal.SIGINT)
        _, err = run.communicate(timeout=20)
        if run.returncode >= 0 and "plainfall" in err:
            assert "Traceback" not in err.replace(
                'Traceback (most recent call last):\n  File "<frozen', ""
            ), err


def test_a_fault_of_our_own_is_said_and_its_traceback_is_in_a_file(machine: Machine) -> None:
    broken = machine.home / "broken"
    broken.mkdir()
    (broken / "sitecustomize.py").write_text(
        "import plainfall.clone.walk as walk\ndef wrong(root):\n    raise LookupError('nobody foresaw this')\nwalk.walk = wrong\n"
    )
    clone = machine.clone({"app.py": ""})
    for words in ([], ["--json"]):
        run = subprocess.run(
            [sys.executable, "-m", "plainfall", "survey", str(clone), *words],
            env={**machine.variables, "PYTHONPATH": str(broken)},
            capture_output=True,
            text=True,
            check=False,
        )
        assert run.returncode == 70 and "Traceback" not in run.stderr + run.stdout
        text = run.stdout if words else run.stderr
        assert "internal error of Plainfall: LookupError: nobody foresaw this" in " ".join(text.split())
        if words:
            assert json.loads(run.stdout)["failure"]["log"]
    [log, *_] = sorted((Path(machine.variables["PLAINFALL_STATE"]) / "faults").iterdir())
    assert "nobody foresaw this" in log.read_text() and log.stat().st_mode & 0o077 == 0


def test_a_package_that_is_named_wrongly_inside(machine: Machine, offer: Callable[..., Any]) -> None:
    other = package("leaf")
    offer([Archive("gaugekit", "gaugekit-1.0-py3-none-any.whl", other.content)])
    clone = machine.clone({"requirements.txt": "gaugekit==1.0\n", "app.py": ""})
    assert "says inside that it is leaf" in failed(machine, "onboard", clone, "--until", "dependencies")
