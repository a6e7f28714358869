"""The command: ``gaugeweb serve MODULE:ATTRIBUTE --port N [--reload]``."""

import argparse
import importlib
import os
import signal
import subprocess
import sys
import threading
import time
from wsgiref.simple_server import WSGIServer, make_server

CHANGED = 75


def main():
    parser = argparse.ArgumentParser(prog="gaugeweb")
    commands = parser.add_subparsers(dest="command", required=True)
    serve = commands.add_parser("serve", help="serve an application on loopback")
    serve.add_argument("application")
    serve.add_argument("--port", type=int, default=8000)
    serve.add_argument("--reload", action="store_true", help="start again when a source file changes")
    serve.add_argument("--worker", action="store_true", help=argparse.SUPPRESS)
    options = parser.parse_args()
    if options.reload and not options.worker:
        return watch()
    return run(options)


def watch():
    """Keeps a worker running, and starts it again when it ends because a file changed."""
    while True:
        worker = subprocess.Popen([sys.executable, "-m", "gaugeweb", *sys.argv[1:], "--worker"])
        signal.signal(signal.SIGTERM, lambda number, frame: (worker.terminate(), sys.exit(0)))
        status = worker.wait()
        if status != CHANGED:
            return status
        print("gaugeweb: a file changed, starting again", flush=True)


def run(options):
    sys.path.insert(0, os.getcwd())
    module, _, attribute = options.application.partition(":")
    application = getattr(importlib.import_module(module), attribute or "application")
    WSGIServer.allow_reuse_address = True
    server = make_server("127.0.0.1", options.port, application)
    print("gaugeweb: serving http://127.0.0.1:%d/" % options.port, flush=True)
    if options.reload:
        threading.Thread(target=end_on_change, daemon=True).start()
    server.serve_forever()


def end_on_change():
    seen = stamps()
    while stamps() == seen:
        time.sleep(0.3)
    os._exit(CHANGED)


def stamps():
    found = {}
    for folder, folders, names in os.walk("."):
        folders[:] = [name for name in folders if not name.startswith(".")]
        for name in names:
            if name.endswith((".py", ".html")):
                path = os.path.join(folder, name)
                try:
                    found[path] = os.stat(path).st_mtime_ns
                except FileNotFoundError:
                    continue
    return found
