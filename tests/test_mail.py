"""Mail of a clone: kept by a server of ours, shown, followed; it never leaves the machine."""

from __future__ import annotations

import smtplib
import socket
from email.message import EmailMessage
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from threading import Thread

import pytest
from conftest import Machine, records
from test_services import port_of

from plainfall.data.letters import letters_in
from plainfall.evidence import Evidence
from plainfall.server.confirming import confirm, confirming_link
from plainfall.server.visitor import Visitor
from plainfall.services.needs import Said, needs_of
from plainfall.services.roles import role_of

# A site with accounts: one may sign in once its address is confirmed by a link that goes out by mail.
SITE = """import http.server, os, secrets, smtplib, urllib.parse

WAITING, KNOWN = {}, {}
FORM = '<form method=post action=%s><input name=username><input type=email name=email>' \\
       '<input type=password name=password>%s<button>Go</button></form>'


class Page(http.server.BaseHTTPRequestHandler):
    def say(self, text, status=200, **headers):
        self.send_response(status)
        self.send_header('Content-Type', 'text/html')
        for name, value in headers.items():
            self.send_header(name.replace('_', '-'), value)
        self.end_headers()
        self.wfile.write(('<title>Gauges</title>' + text).encode())

    def do_GET(self):
        path = urllib.parse.urlsplit(self.path).path
        if path == '/register':
            self.say(FORM % ('/register', '<input type=password name=again>'))
        elif path == '/login':
            self.say(FORM % ('/login', ''))
        elif path.startswith('/confirm/'):
            self.say('<form method=post action=%s><button name=yes value=1>Confirm</button></form>' % path)
        elif path == '/mine':
            mine = 'sid=1' in self.headers.get('Cookie', '')
            self.say('your gauges' if mine else 'no', 200 if mine else 403)
        else:
            self.say('<a href=/register>register</a> <a href=/login>login</a> <a href=/mine>mine</a>')

    def do_POST(self):
        body = self.rfile.read(int(self.headers['Content-Length'])).decode()
        sent = dict(urllib.parse.parse_qsl(body))
        if self.path.startswith('/confirm/'):
            KNOWN.update([WAITING.pop(self.path.rpartition('/')[2])])
            self.say('confirmed')
        elif self.path == '/register':
            token = secrets.token_hex(8)
            WAITING[token] = (sent['username'], sent['password'])
            with smtplib.SMTP(os.environ['MAIL_HOST'], int(os.environ['MAIL_PORT'])) as mail:
                mail.sendmail('gauges@rain.example', [sent['email']],
                              f'From: gauges@rain.example\\r\\nTo: {sent["email"]}\\r\\nSubject: Welcome\\r\\n\\r\\n'
                              f'Confirm at https://gauges.rain.example/confirm/{token}\\r\\n'
                              'or unsubscribe: https://gauges.rain.example/unsubscribe/x\\r\\n')
            self.say('', 302, Location='/')
        elif KNOWN.get(sent['username']) == sent['password']:
            self.say('', 302, Location='/mine', Set_Cookie='sid=1')
        else:
            self.say('wrong' + FORM % ('/login', ''), 403)


http.server.ThreadingHTTPServer(('127.0.0.1', int(os.environ['PORT'])), Page).serve_forever()
"""
FILES = {
    "requirements.txt": "",
    "app.py": SITE,
    "Procfile": "web: python app.py\n",
    "compose.yml": 'services:\n  post:\n    image: rain/mailcatcher\n    ports: ["1025:1025"]\n',
    ".env.example": "MAIL_HOST=post\nMAIL_PORT=1025\nMAIL_ADDRESS=gauges@rain.example\n",
}


def test_a_registration_is_confirmed_by_the_letter_that_came(machine: Machine) -> None:
    clone = machine.clone(FILES)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    port = port_of(run, "mail")
    written = (clone / ".env").read_text()
    assert f"MAIL_HOST=localhost\nMAIL_PORT={port}\nMAIL_ADDRESS=gauges@rain.example" in written
    assert "no letters yet" in machine.run("data", clone, "--mail").out
    probed = machine.run("probe", clone, "--register", "--browser", "none", "--json")
    assert probed.status == 0, probed.out
    [look] = probed.document["servers"]
    assert [one["state"] for one in look["signed_in"]] == ["in", "in"]
    assert {"path": "/mine", "guest": 403, "member": 200, "opened": True} in look["signed_in"][1]["pages"]
    assert any(
        "a letter came, 'Welcome'; its link was followed: 200 at /confirm/" in one for one in look["notes"]
    )
    shown = machine.run("data", clone, "--mail")
    assert "Welcome" in shown.out and "link  https://gauges.rain.example/confirm/" in shown.out
    [letter] = machine.run("data", clone, "--mail", "--json").document["letters"]
    assert letter["from"] == "gauges@rain.example" and len(letter["links"]) == 2
    assert "the mail stand-in" in machine.run("serve", "--list").out
    stopped = machine.run("stop", clone)
    assert "ended the mail stand-in" in stopped.out
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port), 1)
    # The letters are there the next day.
    assert "Welcome" in machine.run("data", clone, "--mail").out
    again = machine.run("onboard", clone, "--json")
    assert again.document["outcome"] == "done" and port_of(again, "mail") == port


def test_a_mail_server_that_is_there_is_never_used(machine: Machine) -> None:
    """It would send what the clone writes to people."""
    with socket.create_server(("127.0.0.1", 0)) as there:
        taken = there.getsockname()[1]
        files = {
            name: text.replace("1025:", f"{taken}:").replace("=1025", f"={taken}")
            for name, text in FILES.items()
        }
        clone = machine.clone(files)
        run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert port_of(run, "mail") != taken
    assert f"MAIL_PORT={port_of(run, 'mail')}\n" in (clone / ".env").read_text()


def test_a_port_of_the_system_is_not_taken(machine: Machine) -> None:
    files = {name: text.replace("1025", "25") for name, text in FILES.items()}
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert (
        port_of(run, "mail") >= 1025 and f"MAIL_PORT={port_of(run, 'mail')}\n" in (clone / ".env").read_text()
    )


def test_odd_letters_are_kept_and_shown(machine: Machine, tmp_path: Path) -> None:
    clone = machine.clone(FILES)
    run = machine.run("onboard", clone, "--json")
    marked = EmailMessage()
    marked["From"], marked["To"], marked["Subject"] = "a@rain.example", "b@rain.example", "Dürre\x1b[31m"[:5]
    marked.set_content("see <https://gauges.rain.example/a?b=1&c=2>.")
    marked.add_alternative('<a href="https://gauges.rain.example/x?y=1&amp;z=2">x</a>', subtype="html")
    with smtplib.SMTP("127.0.0.1", port_of(run, "mail"), timeout=5) as mail:
        mail.login("anybody", "anything")
        mail.send_message(marked)
        mail.sendmail(
            "a@rain.example", ["hidden@rain.example"], b"\xff\xfe no headers at all \x1b[31m\r\n.\r\n"
        )
        mail.sendmail(
            "a@rain.example",
            ["c@rain.example"],
            b"Subject: =?nix?q?=ff?=\r\nContent-Type: text/plain; charset=nix\r\n\r\nx\xff",
        )
    folder = Path(records(clone)["services"]["mail"]["data"])
    assert len(list(folder.glob("*.eml"))) == 3 and all(
        one.stat().st_mode & 0o77 == 0 for one in folder.glob("*.eml")
    )
    shown = machine.run("data", clone, "--mail")
    assert shown.status == 0 and "\x1b" not in shown.out and "to hidden@rain.example" in shown.out
    letters = letters_in([folder])
    assert [one.number for one in letters] == [3, 2, 1]
    assert letters[-1].links == (
        "https://gauges.rain.example/a?b=1&c=2",
        "https://gauges.rain.example/x?y=1&z=2",
    )
    (folder / "00000009.eml").symlink_to("/etc/passwd")
    assert [one.number for one in letters_in([folder], 2)] == [3, 2]


def test_clones_without_mail_say_so(machine: Machine) -> None:
    run = machine.run("data", machine.clone({"requirements.txt": "", "app.py": ""}), "--mail")
    assert run.status == 2 and "this clone has no mail stand-in" in run.err


@pytest.mark.parametrize(
    ("key", "piece"),
    [
        ("SMTP_HOST", "host"), ("EMAIL_PORT", "port"), ("MAIL_SERVER", "host"), ("MAILER_DSN", "address"),
        ("EMAIL_HOST", "host"), ("MAIL_USERNAME", "user"), ("EMAIL_ADDRESS", None), ("SUPPORT_EMAIL_ADDRESS", None),
        ("EMAIL_BACKEND", None), ("MAIL_FROM_NAME", None), ("SMTP_ADDRESS", "host"), ("SMTP_FROM_ADDRESS", None),
    ],
)  # fmt: skip
def test_which_settings_are_about_a_mail_server(key: str, piece: str | None) -> None:
    role = role_of(key)
    assert (role.piece if role else None) == piece and (role is None or role.kinds == ("mail",))


@pytest.mark.parametrize(
    ("settings", "own", "ports"),
    [
        ("SMTP_ADDRESS=localhost SMTP_PORT=25", False, [25]),
        ("MAIL_HOST=127.0.0.1 MAIL_PORT=2525 MAIL_MAILER=smtp", False, [2525]),
        ("MAIL_HOST=127.0.0.1 MAIL_PORT=2525 MAIL_MAILER=log", False, []),
        ("SMTP_ADDRESS=smtp.rain.example SMTP_PORT=25", False, []),
        ("SMTP_HOST=localhost", False, []),  # nothing could tell the program another port
        ("SMTP_HOST=localhost SMTP_PORT=25", True, []),  # the person's own server sends the person's letters
    ],
)
def test_which_settings_want_a_mail_server(settings: str, own: bool, ports: list[int]) -> None:
    pairs = [one.split("=") for one in settings.split()]
    said = [Said(key, value, Evidence(".env.example", 1), own) for key, value in pairs]
    assert [one.port for one in needs_of(said, [], [], "") if one.kind == "mail"] == ports


@pytest.mark.parametrize(
    ("links", "followed"),
    [
        (["https://rain.example/", "https://rain.example/confirm/a?b=c"], "http://localhost:8000/confirm/a?b=c"),
        (["https://rain.example/unsubscribe/1"], ""),
        (["https://rain.example//other.example/confirm/1"], "http://localhost:8000/other.example/confirm/1"),
        (["https://rain.example/help", "https://rain.example/verify-email?token=1"],
         "http://localhost:8000/verify-email?token=1"),
        ([], ""),
    ],
)  # fmt: skip
def test_which_link_of_a_letter_confirms(links: list[str], followed: str) -> None:
    assert confirming_link("http://localhost:8000/", links) == followed


def test_a_button_that_leads_to_another_server_is_not_pressed() -> None:
    pressed: list[str] = []

    class Page(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(200)
            self.send_header("Content-Type", "text/html")
            self.end_headers()
            self.wfile.write(
                b"<form method=post action=http://127.0.0.1:9/confirm><button>Go</button></form>"
            )

        def do_POST(self) -> None:
            pressed.append(self.path)

        def log_message(self, format: str, *args: object) -> None:
            """Nothing is logged."""

    with ThreadingHTTPServer(("127.0.0.1", 0), Page) as server:
        Thread(target=server.serve_forever, daemon=True).start()
        found = confirm(Visitor(5.0), f"http://127.0.0.1:{server.server_port}/confirm/1")
        server.shutdown()
    assert found == (200, "/confirm/1") and not pressed
