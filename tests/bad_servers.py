"""Thirty and more little servers that behave badly, each in its own way, and the verdict that each must get.

A verdict is the state in which waiting ends, then what the probe finds: "good", or words of its problem or notes.
Each program gets its port in PORT, has 20 lines at the most, and needs nothing but Python.
"""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["BAD_SERVERS", "BadServer"]

_PLAIN = """
import os, sys, time, socket, signal, threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer, HTTPServer
PORT = int(os.environ["PORT"])
class Page(BaseHTTPRequestHandler):
    body, status, count = b"<title>Rain</title><h1>Gauge</h1>", 200, 0
    def do_GET(self):
        type(self).count += 1
        self.send_response(self.status)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(self.body)))
        self.end_headers()
        self.wfile.write(self.body)
    def log_message(self, *words): pass
class Server(ThreadingHTTPServer):
    daemon_threads = True
    def handle_error(self, *words): pass
def serve(handler=Page, address="127.0.0.1", port=PORT):
    Server((address, port), handler).serve_forever()
def raw(answer, times=None):
    with socket.socket() as listening:
        listening.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        listening.bind(("127.0.0.1", PORT)); listening.listen(16)
        while True:
            one, _ = listening.accept()
            try: one.recv(4096); answer(one)
            except OSError: pass
            one.close()
"""


@dataclass(frozen=True)
class BadServer:
    """What it does, its program (after the common beginning), the state in which the wait must end, and words
    that the probe's problem or notes must hold ("" for a good page)."""

    does: str
    program: str
    state: str = "answers"
    says: str = ""
    patience: float = 10.0


BAD_SERVERS = [
    BadServer("behaves", "serve()"),
    BadServer(
        "crashes under a reloader that waits for an edit",
        "print('ImportError: rain')\nprint('Waiting for a file to change before reload.', flush=True)\ntime.sleep(60)",
        state="ended",
    ),
    BadServer(
        "forks and detaches", "if os.fork(): os._exit(0)\nos.setsid()\nif os.fork(): os._exit(0)\nserve()"
    ),
    BadServer(
        "detaches and sheds its environment",
        "import subprocess\n"
        "if len(sys.argv) < 2:\n"
        "    subprocess.Popen([sys.executable, __file__, 'child'], env={'PORT': str(PORT)}, start_new_session=True)\n"
        "    time.sleep(1.5); os._exit(0)\n"
        "serve()",
    ),
    BadServer("ignores being asked", "signal.signal(signal.SIGTERM, signal.SIG_IGN)\nserve()"),
    BadServer(
        "starts another when asked to end",
        "def again(*words):\n"
        "    if os.fork() == 0:\n"
        "        signal.signal(signal.SIGTERM, signal.SIG_DFL); time.sleep(60)\n"
        "    os._exit(0)\n"
        "signal.signal(signal.SIGTERM, again)\nserve()",
    ),
    BadServer("prints a wrong port", "print('ready on http://localhost:1/', flush=True)\nserve()"),
    BadServer("takes another port than it was given", "serve(port=PORT + 7)"),
    BadServer("opens its port late", "time.sleep(0.8)\nserve()"),
    BadServer(
        "answers late for the first time",
        "class Late(Page):\n"
        "    def do_GET(self):\n"
        "        if Page.count == 0: Page.count = 1; time.sleep(1.2)\n"
        "        super().do_GET()\n"
        "serve(Late)",
    ),
    BadServer(
        "says that it is ready before it is",
        "print('Server running', flush=True)\ntime.sleep(0.7)\nserve()",
    ),
    BadServer(
        "dies on the second request",
        "class Dies(Page):\n"
        "    def do_GET(self):\n"
        "        if Dies.count >= 1: os._exit(9)\n"
        "        super().do_GET()\n"
        "serve(Dies)",
        says="no answer",
    ),
    BadServer(
        "listens on IPv6 only",
        "class Six(Server): address_family = socket.AF_INET6\nSix(('::1', PORT), Page).serve_forever()",
    ),
    BadServer("listens on all addresses", "serve(address='0.0.0.0')"),
    BadServer(
        "needs https",
        "import ssl\n"
        "context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER); context.load_cert_chain('certificate.pem')\n"
        "server = Server(('127.0.0.1', PORT), Page)\n"
        "server.socket = context.wrap_socket(server.socket, server_side=True)\nserver.serve_forever()",
        says="self-signed certificate",
    ),
    BadServer(
        "redirects for ever",
        "class Round(Page):\n"
        "    def do_GET(self):\n"
        "        self.send_response(302); self.send_header('Location', '/again'); self.end_headers()\n"
        "serve(Round)",
        says="redirects for ever",
    ),
    BadServer(
        "redirects to another host",
        "class Away(Page):\n"
        "    def do_GET(self):\n"
        "        self.send_response(302); self.send_header('Location', 'https://rain.example/'); self.end_headers()\n"
        "serve(Away)",
        says="leads away",
    ),
    BadServer(
        "streams for ever",
        "class Streams(Page):\n"
        "    def do_GET(self):\n"
        "        self.send_response(200); self.send_header('Content-Type', 'text/html'); self.end_headers()\n"
        "        while True: self.wfile.write(b'rain'); time.sleep(0.02)\n"
        "serve(Streams)",
        says="does not end",
    ),
    BadServer(
        "ends when its input ends",
        "def watch():\n    sys.stdin.read(); os._exit(0)\n"
        "threading.Thread(target=watch, daemon=True).start()\nserve()",
    ),
    BadServer("asks a question", "input('Take another port? (Y/n) ')\nserve()", "asks"),
    BadServer("ends at once", "print('nothing to do')", "ended"),
    BadServer("cannot be loaded", "import gaugekit", "ended"),
    BadServer("fails after a while", "time.sleep(0.6)\nsys.exit('the gauge is broken')", "ended"),
    BadServer(
        "finds its port taken",
        "one = socket.socket(); one.bind(('127.0.0.1', PORT))\ntwo = socket.socket(); two.bind(('127.0.0.1', PORT))",
        "ended",
    ),
    BadServer(
        "restarts in a loop",
        "import subprocess\n"
        "if len(sys.argv) > 1: time.sleep(0.5); sys.exit('gauge error')\n"
        "while True: subprocess.run([sys.executable, __file__, 'child'])",
        "circles",
        patience=20.0,
    ),
    BadServer("never listens", "time.sleep(60)", "silent", patience=1.0),
    BadServer(
        "listens on a socket file only",
        "one = socket.socket(socket.AF_UNIX); one.bind('gauge.sock'); one.listen(); time.sleep(60)",
        "silent",
        patience=1.0,
    ),
    BadServer(
        "speaks no HTTP", "raw(lambda one: one.sendall(b'220 rain ready\\r\\n'))", "silent", patience=1.5
    ),
    BadServer("hangs up without a word", "raw(lambda one: None)", "silent", patience=1.5),
    BadServer(
        "breaks off in the middle",
        "raw(lambda one: one.sendall(b'HTTP/1.1 200 OK\\r\\nContent-Type: text/html\\r\\n'\n"
        "    b'Content-Length: 900\\r\\n\\r\\n<title>Ra'))",
        says="breaks off",
    ),
    BadServer(
        "answers in drops",
        "def drops(one):\n"
        "    for byte in b'HTTP/1.0 200 OK\\r\\nContent-Type: text/html\\r\\n\\r\\n<title>Rain</title>ok':\n"
        "        one.sendall(bytes([byte])); time.sleep(0.002)\n"
        "raw(drops)",
    ),
    BadServer(
        "packs what nobody asked to be packed",
        "import gzip\n"
        "body = gzip.compress(Page.body)\n"
        "raw(lambda one: one.sendall(b'HTTP/1.0 200 OK\\r\\nContent-Type: text/html\\r\\n'\n"
        "    b'Content-Encoding: gzip\\r\\n\\r\\n' + body))",
    ),
    BadServer("answers with an error", "Page.status = 500\nserve()", says="status 500"),
    BadServer(
        "shows an error as if all were well",
        "Page.body = b'<title>App</title><pre>Traceback (most recent call last): KeyError</pre>'\nserve()",
        says="error page, though its status is 200",
    ),
    BadServer("shows nothing at all", "Page.body = b''\nserve()", says="empty"),
    BadServer(
        "gives its page for everything",
        "Page.body = b'<title>App</title><script src=/app.js></script>'\nserve()",
        says="a page instead",
    ),
    BadServer(
        "writes without an end into its log",
        "def write():\n"
        "    while True: os.write(1, b'\\xff\\x00 rain' * 500 + b'\\n'); time.sleep(0.005)\n"
        "threading.Thread(target=write, daemon=True).start()\nserve()",
    ),
    BadServer(
        "compiles for seven seconds at a first request, and anew at each further one",
        "class Slow(Page):\n"
        "    def do_GET(self):\n"
        "        type(self).count += 1\n"
        "        mine = self.count\n"
        "        for _ in range(70 if mine == 1 or not Slow.ready else 0):\n"
        "            time.sleep(0.1)\n"
        "            if self.count != mine: return\n"
        "        Slow.ready = True; super().do_GET()\n"
        "Slow.ready = False; serve(Slow)",
    ),
    BadServer(
        "answers on a helper's port first, and names its own",
        "class Helper(Page): status = 404\n"
        "def late(): time.sleep(1.5); Server(('127.0.0.1', PORT + 301), Page).serve_forever()\n"
        "threading.Thread(target=late).start()\n"
        "print(f'starting on http://localhost:{PORT + 301}/', flush=True)\n"
        "def write():\n"
        "    for n in range(20): time.sleep(0.1); print('compiling', n, flush=True)\n"
        "threading.Thread(target=write).start()\n"
        "serve(Helper, port=PORT + 300)",
    ),
    BadServer(
        "reads its commands under another descriptor than the usual one",
        "mine = os.dup(0); os.dup2(os.open('/dev/null', os.O_RDONLY), 0); os.read(mine, 1)",
        "talks",
        patience=6.0,
    ),
    BadServer(
        "hangs up on every request, and notes each in its log",
        "class Bad(Page):\n    def do_GET(self): print('FileNotFoundError: rain.html', flush=True); raise OSError\nserve(Bad)",
        "silent",
        patience=9.0,
    ),
    BadServer(
        "says on which port another than the given answers, and writes on and on",
        "def write():\n    while True: print('rain', flush=True); time.sleep(0.1)\n"
        "threading.Thread(target=write, daemon=True).start()\nserve(port=PORT + 302)",
    ),
    BadServer(
        "says that its application could not be loaded, and watches files",
        'print(\'ERROR:    Error loading ASGI app. Attribute "app" not found in module "gauge".\', flush=True)\ntime.sleep(60)',
        "ended",
    ),
    BadServer(
        "is a reloader whose process has ended by an error",
        "print('Process SpawnProcess-1:\\nTraceback (most recent call last):\\n  at once\\nRuntimeError: rain', flush=True)\ntime.sleep(60)",
        "ended",
    ),
    BadServer(
        "is watched after an error of Node",
        "print('Error: rain\\n    at gauge.js:1:2\\n\\nNode.js v20.1.0', flush=True)\ntime.sleep(60)",
        "ended",
    ),
    BadServer(
        "reads its commands after more work than the patience",
        "end = time.monotonic() + 7\nwhile time.monotonic() < end: pass\nsys.stdin.read()",
        "talks",
        patience=6.0,
    ),
    BadServer(
        "leaves children that ignore being asked",
        "if os.fork() == 0:\n"
        "    signal.signal(signal.SIGTERM, signal.SIG_IGN); os.setsid()\n"
        "    while True: time.sleep(1)\n"
        "serve()",
    ),
    BadServer(
        "opens a browser",
        "import subprocess\n"
        "if os.environ.get('BROWSER') != 'none': subprocess.run(['xdg-open', 'http://localhost'])\nserve()",
    ),
]
for _one in BAD_SERVERS:
    object.__setattr__(_one, "program", f"{_PLAIN}\n{_one.program}\n")
