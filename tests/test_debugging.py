"""Servers under a debugger: a breakpoint is set over the protocol, and a probe hits it."""

from __future__ import annotations

import base64
import json
import os
import shutil
import socket
import subprocess
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest
from conftest import SERVER, Machine

from plainfall.standins.registry import archives_in, serving

_REAL = os.environ.get("PLAINFALL_REAL_PACKAGES", "")
NODE_SERVER = """\
const http = require("node:http");
function page() {
  return "<title>Gauge</title>";
}
http.createServer((ask, answer) => {
  answer.setHeader("content-type", "text/html");
  answer.end(page());
}).listen(process.env.PORT, "127.0.0.1");
"""


class Inspector:
    """The runtime's inspector over a WebSocket (RFC 6455), as much of it as is needed here."""

    def __init__(self, port: int) -> None:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}/json/list", timeout=10) as answer:
            address = urlsplit(json.loads(answer.read())[0]["webSocketDebuggerUrl"])
        self._transport = socket.create_connection(("127.0.0.1", port), 20)
        key = base64.b64encode(os.urandom(16)).decode()
        lines = (
            f"GET {address.path} HTTP/1.1",
            f"Host: {address.netloc}",
            "Upgrade: websocket",
            "Connection: Upgrade",
            f"Sec-WebSocket-Key: {key}",
            "Sec-WebSocket-Version: 13",
        )
        self._transport.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
        self._stream = self._transport.makefile("rb")
        while self._stream.readline().strip():
            pass
        self._count = 0

    def send(self, method: str, **params: Any) -> dict[str, Any]:
        """Asks, and waits for the answer; events before it are passed over."""
        self._count += 1
        data = json.dumps({"id": self._count, "method": method, "params": params}).encode()
        mask = os.urandom(4)
        head = bytes([0x81, 0x80 | (len(data) if len(data) < 126 else 126)])
        head += len(data).to_bytes(2, "big") if len(data) >= 126 else b""
        self._transport.sendall(head + mask + bytes(byte ^ mask[i % 4] for i, byte in enumerate(data)))
        return next(one for one in self.messages() if one.get("id") == self._count)

    def messages(self) -> Iterator[dict[str, Any]]:
        while True:
            head = self._stream.read(2)
            size = head[1] & 0x7F
            if size == 126:
                size = int.from_bytes(self._stream.read(2), "big")
            elif size == 127:
                size = int.from_bytes(self._stream.read(8), "big")
            yield json.loads(self._stream.read(size))

    def event(self, method: str) -> dict[str, Any]:
        found: dict[str, Any] = next(one for one in self.messages() if one.get("method") == method)["params"]
        return found


def attach_of(machine: Machine, clone: Path) -> dict[str, Any]:
    run = machine.run("serve", clone, "--background", "--debug", "--json", timeout=90)
    assert run.status == 0, run.out + run.err
    found: dict[str, Any] = run.document["servers"][0]["attach"]
    return found


@pytest.mark.skipif(shutil.which("node") is None, reason="no Node here")
def test_a_breakpoint_in_node_is_hit_by_a_probe(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    clone = machine.clone(
        {"package.json": '{"scripts": {"dev": "node server.js"}}', "server.js": NODE_SERVER}
    )
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    attach = attach_of(machine, clone)
    assert attach["type"] == "node" and attach["localRoot"] == str(clone) and attach["address"] == "127.0.0.1"
    inspector = Inspector(attach["port"])
    inspector.send("Debugger.enable")
    set_ = inspector.send("Debugger.setBreakpointByUrl", lineNumber=2, urlRegex=r".*/server\.js$")
    assert set_["result"]["locations"]
    probing = machine.start("probe", clone, "--path", "/", "--json")
    paused = inspector.event("Debugger.paused")
    assert paused["callFrames"][0]["functionName"] == "page"
    inspector.send("Debugger.disable")
    out, _ = probing.communicate(timeout=30)
    assert json.loads(out)["servers"][0]["probe"]["title"] == "Gauge"
    # Without the debugger it is another server.
    again = machine.run("serve", clone, "--background", "--json").document["servers"][0]
    assert again["attach"] is None
    shown = machine.run("serve", clone, "--background", "--debug")
    assert "for an editor:" in shown.out and '"request": "attach"' in shown.out


class Adapter:
    """A debug adapter, over the Debug Adapter Protocol."""

    def __init__(self, port: int) -> None:
        self._stream = socket.create_connection(("127.0.0.1", port), 20).makefile("rwb")
        self._count = 0

    def send(self, command: str, *, wait: bool = True, **arguments: Any) -> dict[str, Any]:
        self._count += 1
        body = json.dumps(
            {"seq": self._count, "type": "request", "command": command, "arguments": arguments}
        ).encode()
        self._stream.write(b"Content-Length: %d\r\n\r\n" % len(body) + body)
        self._stream.flush()
        return self.until(lambda one: one.get("request_seq") == self._count) if wait else {}

    def until(self, fits: Any) -> dict[str, Any]:
        while True:
            size = 0
            while line := self._stream.readline().strip():
                if line.lower().startswith(b"content-length:"):
                    size = int(line.split(b":")[1])
            one: dict[str, Any] = json.loads(self._stream.read(size))
            if fits(one):
                return one


@pytest.mark.real
@pytest.mark.skipif(
    not _REAL or not list(Path(_REAL or ".").glob("debugpy-*")), reason="no debugpy was fetched"
)
def test_a_breakpoint_in_python_is_hit_by_a_probe(machine: Machine) -> None:
    clone = machine.clone({"requirements.txt": "", "app.py": SERVER, "Procfile": "web: python app.py\n"})
    with serving(archives_in(Path(_REAL))) as registry:
        machine.variables["PIP_INDEX_URL"] = registry.url
        machine.variables.pop("PIP_NO_INDEX")
        assert machine.run("onboard", clone, "--until", "settings").status == 0
        attach = attach_of(machine, clone)
    assert attach["type"] == "debugpy" and attach["request"] == "attach"
    adapter = Adapter(attach["connect"]["port"])
    adapter.send("initialize", adapterID="plainfall", clientID="test", linesStartAt1=True, pathFormat="path")
    adapter.send("attach", wait=False, **attach)
    adapter.until(lambda one: one.get("event") == "initialized")
    line = SERVER.splitlines().index('        body = b"<title>Gauge</title>ok"') + 1
    adapter.send("setBreakpoints", source={"path": str(clone / "app.py")}, breakpoints=[{"line": line}])
    adapter.send("configurationDone", wait=False)
    probing = machine.start("probe", clone, "--path", "/", "--json")
    stopped = adapter.until(lambda one: one.get("event") == "stopped")["body"]
    assert stopped["reason"] == "breakpoint"
    frames = adapter.send("stackTrace", threadId=stopped["threadId"])["body"]["stackFrames"]
    assert frames[0]["name"].endswith("do_GET") and frames[0]["line"] == line
    adapter.send("setBreakpoints", source={"path": str(clone / "app.py")}, breakpoints=[])
    adapter.send("continue", threadId=stopped["threadId"])
    out, _ = probing.communicate(timeout=30)
    assert json.loads(out)["servers"][0]["probe"]["title"] == "Gauge"


RUBY_SERVER = """\
require 'socket'
def page
  '<title>Gauge</title>'
end
server = TCPServer.new('127.0.0.1', ENV['PORT'].to_i)
loop do
  client = server.accept
  nil until client.gets.to_s.strip.empty?
  body = page
  client.write "HTTP/1.0 200 OK\\r\\ncontent-type: text/html\\r\\ncontent-length: #{body.bytesize}\\r\\n\\r\\n#{body}"
  client.close
end
"""
HAS_DEBUGGER = (
    shutil.which("ruby") is not None
    and not subprocess.run(["ruby", "-e", "gem 'debug', '>= 1'"], capture_output=True, check=False).returncode
)


@pytest.mark.skipif(not HAS_DEBUGGER, reason="no Ruby that bundles a debugger here")
def test_a_breakpoint_in_ruby_is_hit_by_a_probe(machine: Machine) -> None:
    clone = machine.clone({"server.rb": RUBY_SERVER, "Procfile": "web: ruby server.rb\n"})
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    attach = attach_of(machine, clone)
    assert attach["type"] == "rdbg" and attach["request"] == "attach"
    adapter = Adapter(int(attach["debugPort"].rpartition(":")[2]))
    adapter.send("initialize", adapterID="rdbg", clientID="test", linesStartAt1=True, pathFormat="path")
    adapter.send("attach", **attach)
    line = RUBY_SERVER.splitlines().index("  '<title>Gauge</title>'") + 1
    adapter.send("setBreakpoints", source={"path": str(clone / "server.rb")}, breakpoints=[{"line": line}])
    adapter.send("configurationDone")
    probing = machine.start("probe", clone, "--path", "/", "--json")
    stopped = adapter.until(lambda one: one.get("event") == "stopped")["body"]
    while stopped["reason"] == "pause":  # whoever attaches pauses it
        adapter.send("continue", threadId=stopped["threadId"])
        stopped = adapter.until(lambda one: one.get("event") == "stopped")["body"]
    frames = adapter.send("stackTrace", threadId=stopped["threadId"])["body"]["stackFrames"]
    assert stopped["reason"] == "breakpoint" and frames[0]["line"] == line
    adapter.send("setBreakpoints", source={"path": str(clone / "server.rb")}, breakpoints=[])
    adapter.send("continue", threadId=stopped["threadId"], wait=False)
    out, _ = probing.communicate(timeout=30)
    assert json.loads(out)["servers"][0]["probe"]["title"] == "Gauge"
    machine.run("stop", "--all")
