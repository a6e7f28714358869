"""Servers whose first page is no page: interfaces, logins, and what only looks like one."""

from __future__ import annotations

import pytest
from conftest import Machine

SERVER = """import http.server, os, sys


class Gauges(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        status = 200 if self.path == {good!r} else {status}
        if status >= 400 and {says!r}:
            print({says!r}, file=sys.stderr, flush=True)
        self.send_response(status)
        self.end_headers()
        self.wfile.write(b'<title>Gauges</title>')

    def log_message(self, *words):
        pass


http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), Gauges).serve_forever()
"""


def onboarded(
    machine: Machine, status: int, says: str = "", good: str = "", readme: str = ""
) -> dict[str, object]:
    program = SERVER.format(status=status, says=says, good=good)
    clone = machine.clone({"app.py": program, "requirements.txt": "", "README.md": readme or "# Gauges\n"})
    run = machine.run("onboard", clone, "--json")
    machine.run("stop", clone)
    return run.document


@pytest.mark.parametrize("status", [400, 401, 422])
def test_a_first_page_that_wants_something_else_is_an_answer(machine: Machine, status: int) -> None:
    document = onboarded(machine, status)
    assert document["outcome"] == "done", document["failure"]


@pytest.mark.parametrize(
    ("status", "says"),
    [
        (500, ""),
        (404, ""),
        (400, "DisallowedHost: Invalid HTTP_HOST header: 'localhost:8000'"),
    ],
)
def test_a_first_page_that_fails_is_a_failure(machine: Machine, status: int, says: str) -> None:
    document = onboarded(machine, status, says)
    assert document["outcome"] == "failed"


def test_the_page_that_the_readme_names_is_the_one_to_look_at(machine: Machine) -> None:
    readme = "# Gauges\n\n## Run\n\nThen look at http://localhost:8000/gauges/today\n"
    document = onboarded(machine, 404, good="/gauges/today", readme=readme)
    assert document["outcome"] == "done", document["failure"]


LINKED = """import http.server, os

PAGES = {
    '/': '<title>Gauges</title><a href="/hill">Hill</a> <a href="/mill">Mill</a> <a href="/logout">Out</a>'
         '<a href="/private">Private</a> <a href="https://rain.example/far">Far</a> <a href="/hill#today">Again</a>',
    '/hill': '<title>Hill</title><img src="/drop.png">',
    '/mill': '<title>Mill</title>',
    '/logout': '<title>Out</title>',
}


class Gauges(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        with open('asked', 'a') as file:
            file.write(self.path + '\\n')
        page = PAGES.get(self.path)
        self.send_response(200 if page else 403 if self.path == '/private' else MISSING)
        self.send_header('Content-Type', 'text/html' if page else 'text/plain')
        self.end_headers()
        self.wfile.write((page or '').encode())

    def log_message(self, *words):
        pass


http.server.HTTPServer(('127.0.0.1', int(os.environ['PORT'])), Gauges).serve_forever()
"""


@pytest.mark.parametrize(("missing", "status"), [(404, 1), (200, 0)])
def test_the_pages_that_the_first_one_links_to_are_followed(
    machine: Machine, missing: int, status: int
) -> None:
    clone = machine.clone({"app.py": LINKED.replace("MISSING", str(missing)), "requirements.txt": ""})
    assert machine.run("onboard", clone).status == 0
    (clone / "asked").unlink()
    run = machine.run("probe", clone, "--follow", "--json")
    [server] = run.document["servers"]
    followed = {one["url"].rpartition("/")[2]: one for one in server["followed"]}
    assert run.status == status and list(followed) == ["hill", "mill", "private"]
    assert followed["private"]["status"] == 403 and followed["hill"]["title"] == "Hill"
    assert bool(followed["hill"]["problem"]) == (missing == 404)
    assert "links that end something were left alone: 1" in server["notes"]
    assert "/logout" not in (clone / "asked").read_text()
    shown = machine.run("probe", clone, "--follow").out
    assert '200  /mill  "Mill"' in shown and ("1 of 1 assets failed" in shown) == (missing == 404)
    machine.run("stop", clone)


@pytest.mark.parametrize("status", [405, 406, 426])
def test_an_address_that_the_server_prints_counts_though_it_wants_something_else(
    machine: Machine, status: int
) -> None:
    """What speaks another protocol has no page at all: the address that it prints is there, and says so."""
    program = SERVER.format(status=404, says="", good="").replace(
        "        status = 200 if", f"        status = {status} if self.path == '/messages' else 200 if"
    )
    program = program.replace(
        "http.server.HTTPServer((",
        "print(f\"Messages at http://127.0.0.1:{os.environ['PORT']}/messages\", flush=True)\nhttp.server.HTTPServer((",
    )
    clone = machine.clone({"app.py": program, "requirements.txt": "", "README.md": "# Gauges\n"})
    run = machine.run("onboard", clone, "--json")
    machine.run("stop", clone)
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["probe"]["url"].endswith("/messages")


@pytest.mark.parametrize(
    "form", ["<form method=post><input name=user><input type=password name=word></form>", ""]
)
def test_a_page_that_refuses_and_asks_for_a_login_is_what_a_person_sees(machine: Machine, form: str) -> None:
    program = SERVER.format(status=403, says="", good="").replace(
        "        self.end_headers()\n",
        "        self.send_header('Content-Type', 'text/html')\n        self.end_headers()\n",
    )
    program = program.replace("b'<title>Gauges</title>'", f"b'<title>Gauges</title>{form}'")
    clone = machine.clone({"app.py": program, "requirements.txt": "", "README.md": "# Gauges\n"})
    run = machine.run("onboard", clone, "--json")
    machine.run("stop", clone)
    assert run.document["outcome"] == ("done" if form else "failed"), run.document["failure"]
