"""Looking at what runs: pages and what is logged for them, the interface, accounts, edits, pictures."""

from __future__ import annotations

import json
import os
import shutil
import urllib.request
from pathlib import Path
from typing import Any

import pytest
from conftest import SERVER, Machine, alive, eventually, records

# A small site with accounts: sessions, a hidden token, pages for members only.
SITE = '''\
import hashlib, json, os, secrets, sys
from http.cookies import SimpleCookie
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from urllib.parse import parse_qs

MEMBERS, SESSIONS, TOKENS = {}, {}, set()
LINKS = "<a href=/login>Log in</a> <a href=/register>Register</a> <a href=/readings>Readings</a>"
FORM = """<form method=post action={action}><input type=hidden name=token value={token}>{fields}
<input type=password name=password required>{again}<button name=go value=yes>Go</button></form>"""

class Site(BaseHTTPRequestHandler):
    def page(self, text, status=200, kind="text/html", **headers):
        body = text.encode()
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        for name, value in headers.items():
            self.send_header(name.replace("_", "-"), value)
        self.end_headers()
        self.wfile.write(body)

    def member(self):
        held = SimpleCookie(self.headers.get("Cookie", ""))
        return SESSIONS.get(held["session"].value) if "session" in held else None

    def form(self, action, said=""):
        token = secrets.token_hex(8)
        TOKENS.add(token)
        fields = "<input name=username><input type=email name=email>" if action == "/register" else "<input name=username>"
        again = "<input type=password name=password2><input type=checkbox name=terms required>" if action == "/register" else ""
        self.page(f"<title>{action}</title><p>{said}</p>" + FORM.format(action=action, token=token, fields=fields, again=again))

    def do_GET(self):
        path = self.path.partition("?")[0]
        if path == "/":
            self.page(f"<title>Rain</title><h1>Lower Valley</h1><h2>Gauges</h2>{LINKS}")
        elif path in ("/login", "/register"):
            self.form(path)
        elif path == "/readings" and not self.member():
            self.page("", 302, Location="/login")
        elif path == "/readings":
            self.page("<title>Readings</title><a href=/logout>Log out</a>")
        elif path == "/openapi.json":
            one = {"get": {"parameters": [{"name": "day", "in": "query", "required": True}]}}
            self.page(json.dumps({"openapi": "3.1.0", "paths": {
                "/api/stations": {"get": {}}, "/api/stations/{id}": {"get": {}}, "/api/days": one, "/api/broken": {"get": {}},
                "/api/private": {"get": {}}}}), kind="application/json")
        elif path == "/api/stations":
            self.page("[1, 2]", kind="application/json")
        elif path == "/api/private":
            self.page("{}", 401, kind="application/json")
        elif path == "/api/broken":
            self.page("boom", 500, kind="text/plain")
        else:
            self.page("<title>Nothing</title>", 404)

    def do_POST(self):
        fields = {k: v[0] for k, v in parse_qs(self.rfile.read(int(self.headers["Content-Length"])).decode()).items()}
        if fields.get("token") not in TOKENS or not self.headers.get("Referer"):
            return self.page("<p>CSRF token wrong</p>", 403)
        name, password = fields.get("username", ""), fields.get("password", "")
        if self.path == "/register":
            if fields.get("password2") != password or "terms" not in fields or "@" not in fields.get("email", ""):
                return self.form("/register", "The passwords do not match.")
            MEMBERS[name] = password
            return self.page("", 302, Location="/login")
        if MEMBERS.get(name) != password:
            return self.form("/login", "That name or password is incorrect.")
        key = secrets.token_hex(8)
        SESSIONS[key] = name
        self.page("", 302, Location="/readings", Set_Cookie=f"session={key}; HttpOnly; Path=/")

ThreadingHTTPServer(("127.0.0.1", int(os.environ["PORT"])), Site).serve_forever()
'''


def up(machine: Machine, text: str, name: str = "site", **files: str) -> Path:
    clone = machine.clone(
        {"requirements.txt": "", "app.py": text, "Procfile": "web: python app.py\n", **files}, name
    )
    run = machine.run("onboard", clone)
    assert run.status == 0, run.err
    return clone


def probed(machine: Machine, clone: Path, *words: str) -> dict[str, Any]:
    found: dict[str, Any] = machine.run("probe", clone, "--json", *words).document["servers"][0]
    return found


def test_pages_headings_interface_and_what_is_logged(machine: Machine) -> None:
    clone = up(machine, SITE)
    server = probed(machine, clone)
    assert server["probe"]["title"] == "Rain" and server["probe"]["headings"] == ["Lower Valley", "Gauges"]
    assert any('"GET / HTTP/1.1" 200' in line for line in server["pages"][0]["logged"])
    statuses = {one["path"]: one["status"] for one in server["endpoints"]}
    assert statuses == {"/api/stations": 200, "/api/broken": 500, "/api/private": 401}
    shown = machine.run("probe", clone).out
    assert "interface: 2 of 3 answer" in shown and "headings: Lower Valley; Gauges" in shown
    assert "logged  127.0.0.1" in shown


@pytest.mark.parametrize(
    ("words", "status", "said"),
    [
        (["--path", "/"], 0, ""),
        (["--path", "/api/stations", "--path", "login"], 0, ""),
        (["--path", "/nowhere"], 1, "status 404"),
        (["--path", "/nowhere", "--expect-status", "404"], 0, ""),
        (["--expect-status", "201"], 1, "status 201 was expected, and it answers with 200"),
        (["--expect-text", "Lower Valley"], 0, ""),
        (["--expect-text", "Upper Valley"], 1, "'Upper Valley' was expected on the page"),
        (["--expect-status", "9"], 2, "no status"),
        (["--part", "web"], 2, "no server of the part web"),
    ],
)
def test_what_is_expected(machine: Machine, words: list[str], status: int, said: str) -> None:
    clone = up(machine, SITE)
    run = machine.run("probe", clone, *words)
    assert run.status == status and said in run.out + run.err


def test_an_account_is_made_and_opens_pages(machine: Machine) -> None:
    clone = up(machine, SITE)
    none = machine.run("probe", clone, "--sign-in")
    assert "no account is known" in none.out
    server = probed(machine, clone, "--register", "--sign-in")
    made, signed = server["signed_in"]
    assert made["state"] == "in" and made["landed"] == "/login"
    assert signed["state"] == "in" and signed["landed"] == "/readings" and signed["title"] == "Readings"
    opened = {one["path"]: (one["guest"], one["member"]) for one in signed["pages"] if one["opened"]}
    assert opened == {"/readings": (302, 200)}
    [account] = json.loads((clone / ".plainfall/accounts.json").read_text()).values()
    assert (clone / ".plainfall/accounts.json").stat().st_mode & 0o777 == 0o600
    shown = machine.run("probe", clone, "--sign-in")
    assert shown.status == 0 and "302 → 200  /readings  opened by signing in" in shown.out
    assert account["password"] not in shown.out
    # Accounts are gone with the server's memory: the same account is refused, and what the page says is told.
    machine.run("stop", clone)
    machine.run("serve", clone, "--background")
    refused = machine.run("probe", clone, "--sign-in")
    assert refused.status == 1 and "refused at" in refused.out and "incorrect" in refused.out


def test_a_site_without_forms(machine: Machine) -> None:
    clone = up(machine, SERVER)
    run = machine.run("probe", clone, "--register")
    assert run.status == 1 and "no form to sign in or to register" in run.out


RELOADS = """\
import os, subprocess, sys, time
if len(sys.argv) < 2:
    while True:
        seen = os.stat("app.py").st_mtime
        child = subprocess.Popen([sys.executable, "app.py", "child"])
        while os.stat("app.py").st_mtime == seen:
            time.sleep(0.05)
        child.kill()
        child.wait()
"""


def test_a_server_that_takes_notice_of_an_edit_and_one_that_does_not(machine: Machine) -> None:
    clone = up(machine, RELOADS + SERVER)
    before = (clone / "app.py").read_text()
    reload = probed(machine, clone, "--reload")["reload"]
    assert reload["file"] == "app.py" and reload["noticed"] < 3 and reload["how"].startswith("processes:")
    assert reload["answered"] is not None and (clone / "app.py").read_text() == before
    still = up(machine, SERVER, "still")
    run = machine.run("probe", still, "--reload", "app.py", timeout=40)
    assert run.status == 1 and "took no notice" in run.out
    wrong = machine.run("probe", still, "--reload", "none.py")
    assert wrong.status == 2 and "none.py does not exist" in " ".join(wrong.err.split())


@pytest.mark.needs("php")
def test_an_edit_of_a_page_that_is_read_anew_each_time_is_seen(machine: Machine) -> None:
    clone = machine.clone(
        {"index.php": "<!doctype html><title>Rain</title><?php echo 'ok';", "composer.json": "{}"}
    )
    assert machine.run("serve", clone, "--background", timeout=60).status == 0
    before = (clone / "index.php").read_bytes()
    reload = probed(machine, clone, "--reload", "index.php")["reload"]
    assert reload["file"] == "index.php" and reload["noticed"] is not None
    assert (clone / "index.php").read_bytes() == before


def test_a_picture_by_the_browser_that_is_here(machine: Machine, tmp_path: Path) -> None:
    clone = up(machine, SERVER)
    picture = tmp_path / "page.png"
    without = machine.run("probe", clone, "--picture", str(picture), PATH=str(tmp_path))
    assert without.status == 0 and "no browser" in without.out and not picture.exists()
    browser = tmp_path / "bin/chromium"
    browser.parent.mkdir()
    browser.write_text(
        '#!/bin/sh\nfor word; do case "$word" in --screenshot=*) echo PNG > "${word#--screenshot=}";; esac; done\n'
    )
    browser.chmod(0o755)
    path = f"{browser.parent}{os.pathsep}/usr/bin{os.pathsep}/bin"
    taken = machine.run("probe", clone, "--picture", str(picture), PATH=path)
    assert taken.status == 0 and "picture in" in taken.out and picture.read_text() == "PNG\n"
    browser.write_text("#!/bin/sh\necho no display >&2\nexit 1\n")
    failed = machine.run("probe", clone, "--picture", str(picture), PATH=path)
    assert (
        failed.status == 1
        and "made no picture" in " ".join(failed.err.split())
        and "no display" in failed.err
    )


@pytest.mark.skipif(shutil.which("chromium") is None, reason="no browser here")
def test_a_picture_by_a_real_browser(machine: Machine, tmp_path: Path) -> None:
    clone = up(machine, SERVER)
    picture = tmp_path / "page.png"
    run = machine.run("probe", clone, "--picture", str(picture), timeout=90)
    assert run.status == 0, run.out + run.err
    assert picture.read_bytes().startswith(b"\x89PNG") and picture.stat().st_size > 2000


CHANNEL = """\
import base64, hashlib, os, socket, threading, time
PAGE = b"<title>Board</title><script type=module src=/@vite/client></script>"
def answer(one):
    head = one.recv(4096).decode()
    key = next((line.split(": ")[1] for line in head.split("\\r\\n") if line.lower().startswith("sec-websocket-key")), "")
    if key:
        accept = base64.b64encode(hashlib.sha1((key + "258EAFA5-E914-47DA-95CA-C5AB0DC85B11").encode()).digest()).decode()
        one.sendall(f"HTTP/1.1 101 Switching\\r\\nUpgrade: websocket\\r\\nConnection: Upgrade\\r\\nSec-WebSocket-Accept: {accept}\\r\\n\\r\\n".encode())
        seen = os.stat("main.js").st_mtime
        while os.stat("main.js").st_mtime == seen: time.sleep(0.03)
        word = b'{"type":"full-reload"}'
        one.sendall(bytes([0x81, len(word)]) + word)
    else:
        body, kind = (b"const wsToken = \\"t\\"", "text/javascript") if "/@vite" in head.split()[1] else (PAGE, "text/html")
        one.sendall(f"HTTP/1.0 200 OK\\r\\nContent-Type: {kind}\\r\\n\\r\\n".encode() + body)
    one.close()
with socket.socket() as listening:
    listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    listening.bind(("127.0.0.1", int(os.environ["PORT"]))); listening.listen(16)
    while True:
        threading.Thread(target=answer, args=listening.accept()[:1], daemon=True).start()
"""


def test_a_reload_channel_is_answered_and_tells_of_an_edit(machine: Machine) -> None:
    clone = up(machine, CHANNEL, **{"main.js": "1\n"})
    server = probed(machine, clone, "--reload", "main.js")
    assert server["reload_channel"] == {"path": "/?token=t", "of": "Vite", "answered": True}
    assert server["reload"]["how"].startswith("channel: ") and "full-reload" in server["reload"]["how"]
    silent = CHANNEL.replace("if key:", "if key == 1:")
    other = up(machine, silent, "silent", **{"main.js": "1\n"})
    assert probed(machine, other)["reload_channel"]["answered"] is False
    assert "is not answered" in machine.run("probe", other).out


def test_a_server_whose_processes_are_gone(machine: Machine) -> None:
    clone = up(machine, SERVER)
    record = records(clone)["servers"][""]
    os.kill(record["pid"], 9)
    for pid, _ in record["others"]:
        if pid != record["pid"]:
            os.kill(pid, 9)
    assert eventually(lambda: not any(alive(pid) for pid, _ in record["others"]))
    run = machine.run("probe", clone)
    assert run.status == 1 and "its processes have ended; start it again with: plainfall serve" in run.out


MODULES = """\
import json, os
from http.server import BaseHTTPRequestHandler, HTTPServer

PAGE = ('<title>Rain</title><link rel=stylesheet href=/look.css><img src=/drop.png>'
        '<script type=module src=/main.js></script><script type=module>import "/inline.js"</script>')
FILES = {
    "/": ("text/html", PAGE), "/look.css": ("text/css", ""), "/drop.png": ("image/png", ""),
    "/main.js": ("text/javascript", 'import { fall } from "./deep/rain.js"; import "package-by-name";\\nfall();'),
    "/deep/rain.js": ("text/javascript", 'export * from "../more.js"\\nexport const word = "import \\'./not.js\\'";'),
    "/inline.js": ("text/javascript", ""),
}
ASKED = {}

class Site(BaseHTTPRequestHandler):
    def do_GET(self):
        ASKED[self.path] = [self.headers["Sec-Fetch-Dest"], (self.headers["Accept"] or "").partition(",")[0]]
        kind, text = FILES.get(self.path, ("text/html", "<title>Rain</title>the page for all that is not there"))
        if self.path == "/more.js" and os.path.exists("more.js"):
            kind, text = "text/javascript", ""
        if self.path == "/asked":
            kind, text = "application/json", json.dumps(ASKED)
        self.send_response(200)
        self.send_header("Content-Type", kind)
        self.end_headers()
        self.wfile.write(text.encode())

HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Site).serve_forever()
"""


def test_what_module_scripts_import_is_asked_for_as_a_browser_does(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": MODULES, "Procfile": "web: python app.py\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    [warning] = run.step("probe")["remarks"]
    assert warning.startswith("the page works, and not all of it: ")
    assert "/more.js → text/html, which is no script (200)" in warning
    (clone / "more.js").touch()
    machine.run("stop", clone)
    again = machine.run("onboard", clone, "--json")
    assert again.status == 0, again.out
    [server] = again.document["servers"]
    found = [
        one["url"].partition("/")[2].partition("/")[2].partition("/")[2] for one in server["probe"]["assets"]
    ]
    assert sorted(found) == ["deep/rain.js", "drop.png", "inline.js", "look.css", "main.js", "more.js"]
    asked = json.loads(urllib.request.urlopen(server["url"] + "asked", timeout=10).read())
    assert asked["/main.js"] == asked["/deep/rain.js"] == ["script", "*/*"]
    assert asked["/look.css"] == ["style", "text/css"] and asked["/drop.png"] == ["image", "image/avif"]
    assert asked["/"][0] == "document" and "/not.js" not in asked


DEVELOPER_PAGE = """\
import http.server, os
ROUTES = ["admin/", "stations/", "<int:pk>"]


class Page(http.server.BaseHTTPRequestHandler):
    def do_GET(self):
        known = {"/stations/list/": "<h1>Stations</h1>"}
        tried = ["admin/", "stations/ list/", "stations/ <int:pk>"] if self.path == "/stations/" else ROUTES
        body = known.get(self.path) or (
            "<h1>Page not found</h1><p>Django tried these URL patterns, in this order:</p><ol>"
            + "".join(f"<li><code>{' </code><code>'.join(one.split())}</code></li>" for one in tried)
            + "</ol><p>The current path did not match any of these.</p>"
        )
        self.send_response(200 if self.path in known else 404)
        self.send_header("Content-Type", "text/html")
        self.end_headers()
        self.wfile.write(body.encode())


http.server.HTTPServer(("127.0.0.1", int(os.environ["PORT"])), Page).serve_forever()
"""


def test_a_page_for_developers_leads_to_the_routes_that_it_lists(machine: Machine) -> None:
    clone = machine.clone(
        {"requirements.txt": "", "app.py": DEVELOPER_PAGE, "Procfile": "web: python app.py\n"}
    )
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    probe = run.document["servers"][0]["probe"]
    assert probe["url"].endswith("/stations/list/") and probe["status"] == 200
    assert any("does not exist, and lists it as a route" in note for note in probe["notes"])


def test_an_interface_that_has_no_first_page_says_so_in_json(machine: Machine) -> None:
    source = DEVELOPER_PAGE.replace("text/html", "application/json").replace("known = {", "known = {} or {")
    source = source.replace('"/stations/list/": "<h1>Stations</h1>"', '"/readings": "[]"')
    clone = machine.clone({"requirements.txt": "", "app.py": source, "Procfile": "web: python app.py\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    assert any(
        "it is an interface, not a page" in note for note in run.document["servers"][0]["probe"]["notes"]
    )
