"""Programs that are no servers: a batch job, a console game, a worker, a window."""

from __future__ import annotations

import shutil
import time

import pytest
from conftest import SERVER, Machine, alive, eventually

RUN = "# Gauges\n\n## Run\n\n    python tally.py\n"


def test_a_batch_job_is_good_if_it_runs_to_its_end(machine: Machine) -> None:
    job = "print('reading gauges')\nprint('12 mm of rain')\nopen('times', 'a').write('x')\n"
    clone = machine.clone({"tally.py": job, "README.md": RUN})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.document["failure"]
    step = run.step("server")
    assert step["title"] == "python tally.py: ran to its end" and "it is no server" in step["why"]
    assert "its output: 12 mm of rain" in step["remarks"]
    assert run.states["probe"] == "left out" and run.document["servers"] == []
    again = machine.run("onboard", clone, "--json").step("server")
    assert again["state"] == "kept" and again["title"] == step["title"]
    assert (clone / "times").read_text() == "x"  # what it does to its data is not known


def test_a_program_that_stays_up_is_good_and_is_ended(machine: Machine) -> None:
    game = (
        "import os, pathlib\npathlib.Path('pid').write_text(str(os.getpid()))\nprint('How much rain?', flush=True)\n"
        "input()\n"
    )
    clone = machine.clone({"tally.py": game, "README.md": RUN, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0 and "stays up" in run.step("server")["title"]
    pid = int((clone / "pid").read_text())
    assert eventually(lambda: not alive(pid))


def test_a_program_that_fails_is_a_failure_with_its_lines(machine: Machine) -> None:
    broken = "print('reading gauges')\nraise SystemExit('error: no gauge answers')\n"
    clone = machine.clone({"tally.py": broken, "README.md": RUN, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and run.document["failure"]["lines"] == ["error: no gauge answers"]
    assert "the program ended with status 1" in run.document["failure"]["cause"]


def test_a_program_that_is_only_guessed_and_wants_arguments_is_no_failure(machine: Machine) -> None:
    tool = "import argparse\n\nif __name__ == '__main__':\n    p = argparse.ArgumentParser()\n    p.add_argument('gauge')\n    p.parse_args()\n"
    run = machine.run("onboard", machine.clone({"main.py": tool, "requirements.txt": ""}), "--json")
    assert run.status == 0 and run.states["server"] == "left out"
    assert "tried: python main.py" in " ".join(run.step("server")["remarks"])


def test_what_listens_after_all_is_a_server(machine: Machine) -> None:
    hidden = (
        "import importlib, os\nserver = importlib.import_module('http' + '.server')\n"
        "httpd = getattr(server, 'HTTP' + 'Server')(('127.0.0.1', int(os.environ.get('PORT', 0))), server.SimpleHTTPRequestHandler)\n"
        "getattr(httpd, 'serve' + '_forever')()\n"
    )
    clone = machine.clone({"tally.py": hidden, "README.md": RUN, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0 and len(run.document["servers"]) == 1
    again = machine.run("onboard", clone, "--json")
    assert again.states["server"] == "kept" and again.document["servers"] == run.document["servers"]
    machine.run("stop", clone)
    assert (
        machine.run("onboard", clone, "--json").step("server")["title"].startswith("python tally.py: http://")
    )
    machine.run("stop", clone)


def test_what_is_called_a_server_is_not_run_as_a_program_first(machine: Machine) -> None:
    once = (
        "import importlib, os, pathlib\nstarts = pathlib.Path('starts')\n"
        "starts.write_text((starts.read_text() if starts.exists() else '') + 'x')\n"
        "server = importlib.import_module('http' + '.server')\n"
        "httpd = getattr(server, 'HTTP' + 'Server')(('127.0.0.1', int(os.environ['PORT'])), server.SimpleHTTPRequestHandler)\n"
        "getattr(httpd, 'serve' + '_forever')()\n"
    )
    clone = machine.clone({"tally.py": once, "Procfile": "web: python tally.py\n", "requirements.txt": ""})
    assert machine.run("onboard", clone).status == 0
    machine.run("stop", clone)
    assert (clone / "starts").read_text() == "x"


@pytest.mark.skipif(shutil.which("Xvfb") is None, reason="there is no Xvfb here")
def test_a_program_that_opens_a_window_gets_a_virtual_display(machine: Machine) -> None:
    window = (
        "import os, sys, time\nif 'DISPLAY' not in os.environ:\n"
        "    sys.exit('_tkinter.TclError: no display name and no $DISPLAY environment variable')\n"
        "print('shown on', os.environ['DISPLAY'], flush=True)\ntime.sleep(60)\n"
    )
    clone = machine.clone({"tally.py": window, "README.md": RUN, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.document["failure"]
    remarks = " ".join(run.step("server")["remarks"])
    assert "virtual display" in remarks and "shown on :" in remarks


@pytest.mark.skipif(shutil.which("script") is None, reason="there is no script(1) here")
def test_a_console_game_gets_a_terminal_of_its_own(machine: Machine) -> None:
    game = (
        "import curses, sys, time\n\ndef play(screen):\n    screen.addstr('rain'); screen.refresh(); time.sleep(60)\n\n"
        "curses.wrapper(play)\n"
    )
    clone = machine.clone({"tally.py": game, "README.md": RUN, "requirements.txt": ""})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.document["failure"]
    step = run.step("server")
    assert step["title"] == "python tally.py: stays up (5 s), and was ended"
    assert step["remarks"][0] == "it wants a terminal, and was given one of its own"


def test_a_program_that_talks_on_the_terminal_is_no_failed_server(machine: Machine) -> None:
    talks = (
        "import sys\nprint('Rain desk, ready for words')\n"
        "while True:\n    sys.stdout.write('[keeper] >>> ')\n    sys.stdout.flush()\n    sys.stdin.readline()\n"
    )
    clone = machine.clone({"requirements.txt": "", "desk.py": talks, "Procfile": "web: python desk.py\n"})
    run = machine.run("onboard", clone, "--json", timeout=60)
    assert run.status == 0, run.out
    step = run.step("server")
    assert step["title"] == "python desk.py: it runs, and takes commands on its standard input"
    assert "plainfall inside -- python desk.py" in step["remarks"][-1] and run.document["servers"] == []


def test_a_step_that_serves_is_left_out_and_no_run_waits_for_it(machine: Machine) -> None:
    """A document lists it among the steps; it listens and never ends."""
    served = (
        "import http.server\nprint('board', flush=True)\n"
        "http.server.HTTPServer(('127.0.0.1', 0), None).serve_forever()\n"
    )
    files = {
        "requirements.txt": "",
        "README.md": "# Rain\n\n## Set-up\n\n    python seed.py\n    python app.py\n",
        "seed.py": served,
        "app.py": SERVER,
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json", timeout=60)
    assert run.document["outcome"] == "done", run.document["failure"]
    step = run.step("seeds")
    assert step["state"] == "left out" and "it is a server" in step["title"], step
    assert run.document["servers"][0]["command"].startswith("python app.py")
    start = time.monotonic()
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) <= {"kept", "left out"} and time.monotonic() - start < 9
    machine.run("stop", clone)


@pytest.mark.parametrize(
    "source", ["sys.stdin.buffer", "os.fdopen(os.dup(0), 'rb')"], ids=["its own", "a copy"]
)
def test_a_program_that_waits_for_its_standard_input_is_said_as_such(machine: Machine, source: str) -> None:
    """A server for a program that speaks to it over its input has no page, and does not fail for that."""
    program = f"import os, sys, threading\nthreading.Thread(target={source}.readline).start()\n"
    clone = machine.clone(
        {"gauge_server.py": program, "requirements.txt": "", "Procfile": "web: python gauge_server.py\n"}
    )
    run = machine.run("onboard", clone, "--json", "--no-input", timeout=90)
    assert run.document["outcome"] == "done", run.document["failure"]
    assert "standard input" in run.step("server")["title"] and not run.document["servers"]


def test_a_documented_program_that_does_its_work_and_ends_is_no_server(machine: Machine) -> None:
    files = {
        "tally.py": "from http.server import HTTPServer\nprint('12 mm in all')\n",
        "requirements.txt": "",
        "README.md": "# Rain\n\n## Running\n\n```\npython tally.py\n```\n",
    }
    run = machine.run("onboard", machine.clone(files), "--json", "--no-input", timeout=60)
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.states["server"] == "left out" and "12 mm" not in run.step("server")["title"]
    # One that should have served, by what a process file says, has failed all the same.
    broken = machine.clone({**files, "Procfile": "web: python tally.py\n"}, "broken")
    assert machine.run("onboard", broken, "--json", "--no-input", timeout=60).status == 1
