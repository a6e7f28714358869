"""Failures, produced for real: what is run for each rule, and servers that are well."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from forked import PYTHON

__all__ = ["CASES", "HEALTHY", "Case", "Healthy", "run_case"]


@dataclass(frozen=True)
class Case:
    """A rule, the runtime that is needed, and the command line (``{python}`` and the like are put in) with the
    files around it. ``named`` must stand in the cause; ``prepare`` may do more to the folder and return values
    for the command; ``last`` is the line that must tell where a shell says more behind it."""

    rule: str
    command: str
    files: dict[str, str] = field(default_factory=dict)
    named: str = ""
    needs: str = "python"
    prepare: Callable[[Path], dict[str, str]] | None = None


def _py(rule: str, code: str, named: str = "", **more: object) -> Case:
    files = {"main.py": code}
    return Case(rule, "{python} main.py", files, named, **more)  # type: ignore[arg-type]


def _node(rule: str, code: str, named: str = "", words: str = "", **more: object) -> Case:
    return Case(rule, f"node {words} main.js", {"main.js": code}, named, "node", **more)  # type: ignore[arg-type]


def _php(rule: str, code: str, named: str = "", words: str = "") -> Case:
    return Case(
        rule, f"php -d display_errors=stderr {words} main.php", {"main.php": f"<?php\n{code}\n"}, named, "php"
    )


def _ruby(rule: str, code: str, named: str = "", **files: str) -> Case:
    return Case(rule, "ruby main.rb", {"main.rb": code, **files}, named, "ruby")


def _certificate(folder: Path, *, from_year: int = 0) -> None:
    """A certificate of its own for localhost; with ``from_year`` one that is valid from then on only."""
    if not from_year:
        words = "req -x509 -newkey rsa:2048 -nodes -days 1 -subj /CN=localhost -addext subjectAltName=DNS:localhost"
        subprocess.run(
            ["openssl", *words.split(), "-keyout", "key.pem", "-out", "own.pem"],
            cwd=folder, check=True, capture_output=True,
        )  # fmt: skip
        return
    (folder / "index").touch()
    (folder / "serial").write_text("01\n")
    (folder / "ca.conf").write_text(
        "[ca]\ndefault_ca=own\n[own]\ndatabase=index\nserial=serial\nnew_certs_dir=.\ndefault_md=sha256\npolicy=any\n"
        "[any]\ncommonName=supplied\n"
    )
    steps = (
        "req -newkey rsa:2048 -nodes -subj /CN=localhost -keyout key.pem -out ask.pem",
        f"ca -batch -selfsign -config ca.conf -keyfile key.pem -in ask.pem -out own.pem "
        f"-startdate {from_year}0101000000Z -enddate {from_year + 1}0101000000Z",
    )
    for step in steps:
        subprocess.run(["openssl", *step.split()], cwd=folder, check=True, capture_output=True)


def _own_certificate(folder: Path) -> dict[str, str]:
    _certificate(folder)
    return {}


def _future_certificate(folder: Path) -> dict[str, str]:
    _certificate(folder, from_year=2090)
    return {}


def _free_port(folder: Path) -> dict[str, str]:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return {"port": str(probe.getsockname()[1])}


def _script(text: str, mode: int) -> Callable[[Path], dict[str, str]]:
    def prepare(folder: Path) -> dict[str, str]:
        (folder / "start.sh").write_bytes(text.encode())
        (folder / "start.sh").chmod(mode)
        return {}

    return prepare


def _broken_environment(folder: Path) -> dict[str, str]:
    (folder / ".venv/bin").mkdir(parents=True)
    (folder / ".venv/bin/python").symlink_to("/no/such/python3.9")
    return {}


def _watch_shim(folder: Path) -> dict[str, str]:
    """What the kernel says when its limit for watches is reached, without reaching it for everybody."""
    (folder / "shim.c").write_text(
        "#include <errno.h>\nint inotify_add_watch(int a, const char *b, unsigned c) { errno = ENOSPC; return -1; }\n"
    )
    subprocess.run(["cc", "-shared", "-fPIC", "-o", "shim.so", "shim.c"], cwd=folder, check=True)
    return {"shim": str(folder / "shim.so")}


_HTTPS = """\
import ssl, threading, urllib.request
from http.server import HTTPServer, BaseHTTPRequestHandler
server = HTTPServer(("127.0.0.1", 0), BaseHTTPRequestHandler)
context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
context.load_cert_chain("own.pem", "key.pem")
server.socket = context.wrap_socket(server.socket, server_side=True)
threading.Thread(target=server.serve_forever, daemon=True).start()
trusting = ssl.create_default_context(cafile={trusted})
urllib.request.urlopen(f"https://localhost:{{server.server_address[1]}}/", context=trusting)
"""
_GEMFILE = "source 'https://registry.example'\n"
_LOCK = "GEM\n  remote: https://registry.example/\n  specs:\n    gauge-words (1.0.0)\n\nPLATFORMS\n  ruby\n\nDEPENDENCIES\n  gauge-words\n"

_NOT_LOADED = (
    "RuntimeError(\"WSGI application 'gauge.wsgi.application' could not be loaded; Error importing module.\")"
)
CASES = [
    _py("database-not-named", "raise RuntimeError('settings.DATABASES is improperly configured. Please supply the NAME value.')", "NAME"),
    _py("application-not-loaded", f"raise {_NOT_LOADED}", "gauge.wsgi.application"),
    _py("argument-wanted", "import argparse; p = argparse.ArgumentParser(); p.add_argument('--station', required=True); p.parse_args()", "--station"),
    _py("module-missing", f"try: import gaugekit.web\nexcept ImportError as error: raise {_NOT_LOADED} from error", "gaugekit"),
    _py("object-lacks", "class Gauge: pass\nGauge().tips", "Gauge object has no tips"),
    _py("data-not-fetched", "raise LookupError('\\n****\\n  Resource rain not found.\\n  Please use the NLTK Downloader to obtain the resource:')"),
    _py("build-tool-missing", "raise Exception('Can not find valid pkg-config name.\\nSpecify MYSQLCLIENT_CFLAGS and MYSQLCLIENT_LDFLAGS env vars manually')", "MYSQLCLIENT"),
    _py("command-missing", "raise FileNotFoundError(\"can't find `rain-backup` executable in PATH: /bin\")", "rain-backup"),
    _py("type-of-another-runtime", "raise TypeError(\"'type' object is not subscriptable\")", "not subscriptable"),
    _py("type-of-another-runtime", "raise AttributeError(\"'str' object has no attribute 'removeprefix'\")", "removeprefix"),
    _py("typescript", "raise SystemExit('src/gauge.ts(64,13): error TS2339: Property rain does not exist.\\n\\n[nodemon] app crashed - waiting for file changes before starting...')", "src/gauge.ts(64,13)"),
    _py("module-missing", "raise SystemExit(\"ModuleNotFoundError: No module named 'gaugekit'\\n[nodemon] app crashed - waiting for file changes before starting...\")", "gaugekit"),
    _py("port-taken", "raise SystemExit('Error: Port 8000 on 127.0.0.1 is already in use by another process.')"),
    # Python
    _py("module-missing", "import gaugekit", "gaugekit"),
    _py("package-asked-for-missing", "raise ValueError('gaugekit is required for GAUGES or BELLS')", "gaugekit"),
    _py("package-asked-for-missing", "raise RuntimeError('The gaugekit package must be installed')", "gaugekit"),
    _py("package-asked-for-missing", "raise ValueError('no bells. Run \"pip install gaugekit\" for them.')", "gaugekit"),
    _py("refuses-root", "raise SystemExit(\"Can't run as root!\")", "root"),
    _py("module-of-another-runtime", "import binhex", "binhex"),
    _py("name-missing", "import os, sys\nos.mkdir('site-packages')\nopen('site-packages/rain.py', 'w').close()\n"
        "sys.path[:0] = ['site-packages']\nfrom rain import gauge", "gauge (of the module rain)"),
    _py("name-of-another-runtime", "from json import gauge", "json.gauge"),
    Case("circular-import", "{python} main.py", {"main.py": "import a", "a.py": "from b import c\nd = 1",
         "b.py": "from a import d\nc = 1"}, "a"),
    _py("removed-in-runtime", "import collections\ncollections.Mapping", "collections.Mapping"),
    _py("attribute-missing", "import json\njson.gauges", "gauges (of the module json)"),
    _py("database-extensions-off", "raise AttributeError(\"'sqlite3.Connection' object has no attribute 'enable_load_extension'\")"),
    _py("name-of-another-runtime", "from inspect import getargspec", "inspect.getargspec"),
    _py("syntax", "def gauge(:\n    pass", "SyntaxError"),
    _py("syntax", "def gauge():\npass", "IndentationError"),
    _py("setting-missing", "import os\nos.environ['GAUGE_URL']", "GAUGE_URL"),
    _py("setting-missing", "raise SystemExit('environment variable GAUGE_URL is not set')", "GAUGE_URL"),
    _py("setting-type", "import os\nint(os.environ.get('GAUGES', 'many'))", "'many'"),
    _py("configuration-damaged", "import json\njson.loads('{\"gauge\": }')", "Expecting value"),
    _py("file-missing", "open('stations.csv')", "stations.csv"),
    _py("permission", "import os\nos.makedirs('kept', 0o700)\nopen('kept/x', 'w')\nos.chmod('.', 0o755)\n"
        "os.setuid(65534) if os.getuid() == 0 else os.chmod('kept', 0)\nopen('kept/x')", "kept/x"),
    _py("port-taken", "import socket\na, b = socket.socket(), socket.socket()\na.bind(('127.0.0.1', 0))\na.listen()\n"
        "b.bind(a.getsockname())"),
    _py("database-file", "import sqlite3\nsqlite3.connect('no/such/gauges.db').execute('select 1')"),
    _py("table-missing", "import sqlite3\nsqlite3.connect(':memory:').execute('select * from stations')", "stations"),
    _py("already-there", "import sqlite3\nd = sqlite3.connect(':memory:')\nd.execute('create table s (id unique)')\n"
        "for _ in (1, 2): d.execute('insert into s values (1)')"),
    _py("database-locked", "import sqlite3\na = sqlite3.connect('g.db', isolation_level=None)\na.execute('create table s (i)')\n"
        "a.execute('begin exclusive')\nsqlite3.connect('g.db', timeout=0).execute('insert into s values (1)')"),
    _py("connection-refused", "import urllib.request\nurllib.request.urlopen('http://127.0.0.1:{port}/')",
        prepare=_free_port),
    _py("host-nameless", "import socket\nsocket.getaddrinfo('db.invalid', 5432)"),
    Case("certificate", "{python} main.py", {"main.py": _HTTPS.format(trusted=None)}, prepare=_own_certificate),
    Case("clock", "{python} main.py", {"main.py": _HTTPS.format(trusted="'own.pem'")}, prepare=_future_certificate),
    _py("disk-full", "f = open('/dev/full', 'w')\nf.write('rain' * 9000)\nf.flush()"),
    Case("files-exhausted", "ulimit -n 24; {python} main.py", {"main.py": "every = [open('main.py') for _ in range(99)]"}),
    Case("memory", "ulimit -v 400000; {python} main.py", {"main.py": "x = bytearray(900 * 1024 ** 2)"}),
    _py("killed", "import os\nos.kill(os.getpid(), 9)"),
    _py("crashed", "import ctypes\nctypes.string_at(0)"),
    _py("encoding", "open('main.py', 'ab').write(b'# \\xff')\nopen('main.py', encoding='utf-8').read()", "utf-8"),
    _py("locale", "import locale\nlocale.setlocale(locale.LC_ALL, 'xx_XX.gauge')"),
    _py("library-missing", "import ctypes\nctypes.CDLL('libgauge.so.3')", "gauge"),
    _py("question", "import sys\nprint('Remove the old data? [y/N] ', end='', flush=True)\nsys.exit(1)", "Remove the old data?"),
    # Node
    _node("node-module-missing", "require('gauge-words')", "gauge-words"),
    Case("node-module-missing", "node main.mjs", {"main.mjs": "import '@rain/units'"}, "@rain/units", "node"),
    _node("source-file-missing", "require('./stations')", "./stations"),
    Case("build-output-missing", "node dist/server.js", {}, "dist/server.js", "node"),
    Case("module-kind", "node main.js", {"main.js": "import x from './x.js'", "package.json": '{"type": "commonjs"}'}, "", "node"),
    Case("module-kind", "node main.mjs", {"main.mjs": "require('fs')"}, "require", "node"),
    _node("node-syntax", "const gauge = ;", "Unexpected token"),
    _node("runtime-option", "", "--no-such-option", "--no-such-option"),
    _node("openssl-legacy", "require('crypto').createHash('md4')"),
    Case("native-add-on", "node main.js", {"main.js": "require('./gauge.node')", "gauge.node": "no library" * 20}, "", "node"),
    _node("configuration-damaged", "JSON.parse('{\"gauge\": }')"),
    _node("port-taken", "const n = require('net'), a = n.createServer().listen(0, () => n.createServer().listen(a.address().port))"),
    _node("database-unreachable", "require('net').connect(27017, '127.0.0.1')", "27017"),
    _node("host-unreached", "require('net').connect(5432, 'db.invalid')", "db.invalid"),
    _node("host-unknown", "require('net').connect(5432, 'database')", "database"),
    _node("runtime-memory", "const all = []; for (;;) all.push(new Array(1e5).fill(Math.random()))", words="--max-old-space-size=24"),
    _node("file-missing", "require('fs').readFileSync('stations.json')", "stations.json"),
    _node("command-missing", "require('child_process').spawn('gauge-tool')", "gauge-tool"),
    _node("files-exhausted", "const fs = require('fs'); const all = []; for (;;) all.push(fs.openSync('main.js'))"),
    Case("watchers-exhausted", "LD_PRELOAD={shim} node main.js", {"main.js": "require('fs').watch('.')"}, "", "cc node", _watch_shim),
    Case("watchdog-waits", "timeout 3 node --watch main.js", {"main.js": "process.exit(1)"}, "", "node"),
    _node("runtime-version", "if (parseInt(process.versions.node) < 99) { console.error('gauge-board requires Node.js version >= 99.0.0');"
          " process.exit(1) }", ">= 99.0.0"),
    Case("port-privileged", "{python} main.py", {"main.py": "import os, socket\nif os.getuid() == 0: os.setuid(65534)\n"
         "s = socket.socket()\ns.bind(('127.0.0.1', 81))\n"}, "", "python low-ports"),
    # PHP
    _php("php-syntax", "$gauge = ;", 'unexpected token ";"'),
    _php("php-libraries-missing", "require 'vendor/autoload.php';", "vendor/autoload.php"),
    _php("php-extension-missing", "imap_open('rain', '', '');", "imap_open"),
    _php("database-driver-missing", "new PDO('firebird:dbname=gauges');"),
    _php("runtime-memory", "$a = []; while (true) $a[] = str_repeat('rain', 9999);", words="-d memory_limit=4M"),
    _php("file-missing", "require 'stations.php';", "stations.php"),
    _php("php-function-gone", "$words = split(',', 'a,b');", "split"),
    _php("php-words-gone", "$a = [1]; echo $a{0};", "no longer supported"),
    _php("php-file-included", "include '/etc/gauges/settings.php'; strlen([]);", "/etc/gauges/settings.php"),
    _php("php-class-missing", "new Gauges\\Reading();", "Gauges\\Reading"),
    _php("php-function-missing", "gauge_total([1, 2]);", "gauge_total"),
    _php("php-method-missing", "class Gauge {} (new Gauge())->read();", "Gauge::read"),
    _php("php-null-call", "$gauge = null; $gauge->read();", "read"),
    _php("php-incompatible", "class Gauge { function read(int $day) {} } class Weir extends Gauge { function read() {} }", "Weir::read"),
    _php("php-argument", "strlen([]);", "strlen"),
    _php("php-time-limit", "for (;;);", "1", words="-d max_execution_time=1"),
    _php("php-headers-sent", "echo 'rain'; flush(); header('X-Rain: 4'); exit(1);", "main.php:2"),
    _php("php-session-folder", "session_start(); exit(1);", "/nonexistent/rain", words="-d session.save_path=/nonexistent/rain"),
    Case("php-folder-served", "php -S 127.0.0.1:0 -t pages", {"main.php": ""}, "pages", "php"),
    Case("php-script-missing", "php gauge-console", {"main.php": ""}, "gauge-console", "php"),
    # Ruby
    _ruby("ruby-syntax", "def gauge(\nend end"),
    _ruby("ruby-module-missing", "require 'gauge_words'", "gauge_words"),
    _ruby("ruby-gems-missing", "require 'bundler/setup'", "gauge-words", Gemfile=f"{_GEMFILE}gem 'gauge-words'\n",
          **{"Gemfile.lock": _LOCK}),
    _ruby("ruby-key-missing", "ENV.fetch('GAUGE_NETWORK')", "GAUGE_NETWORK"),
    _ruby("ruby-nothing-there", "nil.millimetres", "millimetres"),
    _ruby("ruby-method-missing", "'rain'.millimetres", "millimetres"),
    _ruby("ruby-constant-missing", "Gauges::Station.new", "Gauges"),
    _ruby("ruby-name-missing", "puts millimetres", "millimetres"),
    _ruby("ruby-arguments", "def read(day) = day\nread", "given 0, expected 1"),
    _ruby("ruby-arguments", "def read(day:) = day\nread(hour: 4, day: 2)", "unknown keyword"),
    _ruby("ruby-frozen", "'rain'.freeze << 'fall'", "String"),
    _ruby("ruby-yaml", "require 'yaml'\nYAML.load_file('rain.yml')", "rain.yml", **{"rain.yml": "rain: [1\nsun: 2\n"}),
    _ruby("ruby-json", "require 'json'\nJSON.parse('{rain')", "unexpected"),
    _ruby("ruby-too-deep", "def rain = rain()\nrain", ""),
    Case("ruby-task-missing", "ruby -S rake gauges:read", {"Rakefile": "task :rain\n"}, "gauges:read", "ruby"),
    Case("ruby-lock-changed", "env BUNDLE_FROZEN=true ruby main.rb", {"main.rb": "require 'bundler/setup'",
         "Gemfile": f"{_GEMFILE}gem 'rake', '>= 99'\n", "Gemfile.lock": _LOCK}, "", "ruby"),
    _ruby("ruby-version", "require 'bundler/setup'", "", Gemfile=f"{_GEMFILE}ruby '2.1.0'\n"),
    _ruby("encoding", "\"\\xff rain\".encode('UTF-16LE')\n'a'.force_encoding('UTF-8') =~ /\\xff/n\n"
          "\"\\xff\".split('a')", "UTF-8"),
    _ruby("connection-refused", "require 'socket'\nTCPSocket.new('127.0.0.1', 9)"),
    _ruby("file-missing", "File.read('stations.yml')", "stations.yml"),
    # Building
    Case("header-missing", "cc -c main.c", {"main.c": "#include <gauge.h>\n"}, "gauge.h", "cc"),
    Case("library-missing", "cc main.c -lgauge", {"main.c": "int main() { return 0; }\n"}, "gauge", "cc"),
    _py("compiler-missing", "import shutil\nif not shutil.which('no-gcc'): raise SystemExit(\"error: command 'gcc' failed: \"\n"
        "    'No such file or directory')", "gcc"),
    _py("build-tool-missing", "import subprocess\ntry: subprocess.run(['pg_config'], env={})\n"
        "except FileNotFoundError: raise SystemExit('Error: pg_config executable not found.')\n"
        "raise SystemExit('Error: pg_config executable not found.')", "pg_config"),
    # The shell, and scripts
    Case("command-missing", "gauge-tool --start", {}, "gauge-tool", "sh"),
    Case("run-bit", "./start.sh", {}, "./start.sh", "sh", _script("#!/bin/sh\necho\n", 0o644)),
    Case("line-endings", "./start.sh", {}, "", "bash", _script("#!/usr/bin/env bash\r\necho rain\r\n", 0o755)),
    Case("environment-broken", ".venv/bin/python main.py", {}, ".venv/bin/python", "sh", _broken_environment),
]  # fmt: skip


@dataclass(frozen=True)
class Healthy:
    """A server that is well, and says all sorts of things while it starts."""

    title: str
    command: str
    files: dict[str, str] = field(default_factory=dict)
    needs: str = "python"


_NODE_SERVER = "require('http').createServer((a, b) => b.end('ok')).listen(process.env.PORT, '127.0.0.1');"
_PY_SERVER = (
    "import os, sys\nfrom http.server import *\n{said}\n"
    "HTTPServer(('127.0.0.1', int(os.environ['PORT'])), SimpleHTTPRequestHandler).serve_forever()\n"
)


def _says(*lines: str) -> dict[str, str]:
    return {"main.py": _PY_SERVER.format(said="\n".join(f"print({line!r}, flush=True)" for line in lines))}


HEALTHY = [
    Healthy("the library's own", "{python} -m http.server $PORT --bind 127.0.0.1"),
    Healthy("one that warns", "{python} -W default main.py", {
        "main.py": _PY_SERVER.format(said="import warnings\nwarnings.warn('old gauge', DeprecationWarning)")}),
    Healthy("one that logs", "{python} main.py", {
        "main.py": _PY_SERVER.format(said="import logging\nlogging.basicConfig(level=10)\nlogging.info('error handler registered')\n"
                                          "logging.warning('no retention is set; readings are kept')")}),
    Healthy("wsgi", "{python} main.py", {"main.py": (
        "import os\nfrom wsgiref.simple_server import *\nmake_server('127.0.0.1', int(os.environ['PORT']), demo_app).serve_forever()\n")}),
    Healthy("asyncio in debug mode", "PYTHONASYNCIODEBUG=1 {python} main.py", {"main.py": (
        "import asyncio, os, logging\nlogging.basicConfig(level=10)\n"
        "async def say(r, w):\n    await r.readline()\n    w.write(b'HTTP/1.0 200 OK\\r\\n\\r\\nok')\n    await w.drain()\n    w.close()\n"
        "async def main():\n    s = await asyncio.start_server(say, '127.0.0.1', int(os.environ['PORT']))\n    await s.serve_forever()\n"
        "asyncio.run(main())\n")}),
    Healthy("node", "node main.js", {"main.js": _NODE_SERVER}, "node"),
    Healthy("node that warns", "node main.js", {"main.js": "process.emitWarning('old gauge');\n" + _NODE_SERVER}, "node"),
    Healthy("node that is watched", "node --watch main.js", {"main.js": "console.log('listening');\n" + _NODE_SERVER}, "node"),
    Healthy("node with a caught error", "node main.js", {"main.js": (
        "try { null.gauge } catch (error) { console.log('fallback taken') }\n" + _NODE_SERVER)}, "node"),
    Healthy("php", "php -S 127.0.0.1:$PORT", {"index.php": "<?php echo 'ok';"}, "php"),
    Healthy("ruby", "ruby main.rb", {"main.rb": (
        "require 'socket'\ns = TCPServer.new('127.0.0.1', ENV['PORT'].to_i)\nputs 'Use Ctrl-C to stop'\n"
        "loop { c = s.accept; c.gets; c.write \"HTTP/1.0 200 OK\\r\\n\\r\\nok\"; c.close }\n")}, "ruby"),
    Healthy("compiles without a fault", "{python} main.py", _says("Compiling…", "Compiled successfully in 1.2 s", "No errors found. Watching for file changes.")),
    Healthy("counts its tests", "{python} main.py", _says("12 passed, 0 failed, 0 errors", "webpack compiled with 0 errors")),
    Healthy("applies migrations", "{python} main.py", _says("Running migrations:", "  Applying gauges.0001_initial... OK", "No migrations to apply.")),
    Healthy("performs checks", "{python} main.py", _says("Performing system checks...", "", "System check identified no issues (0 silenced).")),
    Healthy("waits for its database", "{python} main.py", _says("waiting for database", "database is ready after 2 tries", "connected to postgres at localhost:5432")),
    Healthy("names its routes", "{python} main.py", _says("GET /errors", "GET /not-found", "POST /permission/denied", "ANY /port/{port}")),
    Healthy("audits", "{python} main.py", _says("found 0 vulnerabilities", "3 packages are looking for funding", "memory: 120 MB of 512 MB")),
    Healthy("tells of its certificate", "{python} main.py", _says("certificate loaded, valid until 2099", "TLS is off in development", "CORS enabled for http://localhost:5173")),
    Healthy("reloads", "{python} main.py", _says("Restarting with stat", "Debugger is active!", "Debugger PIN: 123-456-789")),
    Healthy("talks of modules", "{python} main.py", _says("loaded module gauges", "module stations: optional dependency not installed, feature off")),
]  # fmt: skip


def run_case(case: Case, folder: Path) -> tuple[int, str]:
    """Runs it; returns the exit status (negative for a signal) and all that was said. Raises LookupError where a
    runtime is not here."""
    for need in case.needs.split():
        if need == "low-ports":
            first = Path("/proc/sys/net/ipv4/ip_unprivileged_port_start")
            if not first.exists() or int(first.read_text()) < 82:
                raise LookupError("system that keeps its low ports")
        elif need != "python" and shutil.which(need) is None:
            raise LookupError(need)
    values = {"python": PYTHON}
    if case.prepare is not None:
        values |= case.prepare(folder)
    for name, text in case.files.items():
        (folder / name).write_text(text.replace("{port}", values.get("port", "{port}")))
    folder.chmod(0o755)
    line = case.command
    for name, value in values.items():
        line = line.replace(f"{{{name}}}", value)
    done = subprocess.run(
        ["/bin/sh", "-c", f"exec {line}" if line.startswith(PYTHON) else line],
        cwd=folder,
        env={"PATH": os.environ["PATH"], "HOME": str(folder), "LANG": "C.UTF-8"},
        capture_output=True,
        stdin=subprocess.DEVNULL,
        timeout=60,
        check=False,
    )
    return done.returncode, (done.stdout + done.stderr).decode("utf-8", "replace")
