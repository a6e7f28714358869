"""Generated hostile archives, locks, answers and clones: each is refused or harmless, says so without a traceback,
takes less than ten seconds and less than 500 MB. Run by CI beside the rest (PLAINFALL_GENERATED=1)."""

from __future__ import annotations

import os
import time
import warnings
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import hostile_generator as generator
import pytest
from conftest import Machine
from forked import memory_of_last_run
from hostile import Outside, outside
from rogue import rogue

from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.errors import ArchiveRefused
from plainfall.packages.cache import unpack_into_cache
from plainfall.packages.source_archives import unpack_source
from plainfall.packages.tarballs import unpack_tarball

__all__ = ["outside"]
pytestmark = [
    pytest.mark.hostile,
    pytest.mark.skipif("PLAINFALL_GENERATED" not in os.environ, reason="run by .ci/run beside the rest"),
]
LONGEST = 10.0  # seconds
LARGEST = 500_000  # kB


@pytest.mark.parametrize("batch", range(10))
def test_archives(tmp_path: Path, batch: int) -> None:
    warnings.simplefilter("ignore")  # the generator itself writes doubled names
    for number in range(batch * 20, batch * 20 + 20):
        name, data = generator.archive(number)
        folder = tmp_path / str(number)
        folder.mkdir()
        for how in ("wheel", "package", "source"):
            begin = time.monotonic()
            archive, out = folder / name, folder / "a" / how
            archive.write_bytes(data)
            out.mkdir(parents=True)
            try:
                if how == "wheel":
                    unpack_into_cache(out, archive, "ab" * 32, name, describe_wheel)
                elif how == "package":
                    unpack_tarball(data, out, name)
                else:
                    unpack_source(archive, out)
            except ArchiveRefused as refused:
                assert (
                    name.partition("-")[0] in str(refused) or "wheel" in str(refused) or "kit" in str(refused)
                )
            assert time.monotonic() - begin < LONGEST
        assert {path.name for path in folder.iterdir()} <= {name, "a"}  # nothing beside where it belongs
        assert not list(tmp_path.glob("*evil*"))


def check(machine: Machine, number: int, *words: object) -> None:
    begin = time.monotonic()
    run = machine.run(*words, "--no-input", timeout=30)
    took = time.monotonic() - begin
    log = next((word for word in run.err.split() if word.endswith(".log") and "faults" in word), "")
    text = Path(log.replace("~", str(machine.home))).read_text()[-2000:] if log else ""
    assert run.status in (0, 1, 2, 3, 4), (number, run.err, text)
    assert "Traceback" not in run.err and took < LONGEST, (number, took, run.err)
    assert "\x1b" not in run.out + run.err and "\u202e" not in run.out + run.err, number
    assert memory_of_last_run() < LARGEST, (number, memory_of_last_run())


@pytest.mark.parametrize("batch", range(10))
def test_locks(machine: Machine, outside: Outside, batch: int) -> None:
    machine.variables |= {"npm_config_registry": "http://127.0.0.1:9/", "npm_config_fetch_retries": "0"}
    for number in range(batch * 10, batch * 10 + 10):
        clone = machine.home / str(number)
        for path, data in generator.lock(number).items():
            (clone / path).parent.mkdir(parents=True, exist_ok=True)
            (clone / path).write_bytes(data)
        check(machine, number, "onboard", clone, "--until", "dependencies")


@pytest.mark.parametrize("batch", range(10))
def test_answers(machine: Machine, outside: Outside, batch: int) -> None:
    for number in range(batch * 10, batch * 10 + 10):
        status, headers, body = generator.answer(number)

        def answering(
            handler: BaseHTTPRequestHandler,
            status: int = status,
            headers: dict[str, str] = headers,
            body: bytes = body,
        ) -> None:
            handler.send_response(status)
            for name, value in headers.items():
                handler.send_header(name, value.encode("utf-8").decode("latin-1"))
            handler.end_headers()
            handler.wfile.write(body)

        with rogue(answering) as server:
            machine.variables |= {
                "PIP_INDEX_URL": f"{server.url}simple/",
                "PIP_RETRIES": "0",
                "PIP_TIMEOUT": "0.5",
                "npm_config_registry": server.url,
                "npm_config_fetch_retries": "0",
                "npm_config_fetch_timeout": "500",
            }
            machine.variables.pop("PIP_NO_INDEX", None)
            files: dict[str, str | bytes] = {"requirements.txt": "kit\n", "app.py": ""}
            if number % 2:
                manifest = (
                    '{"name": "board", "dependencies": {"bell": "^1"}, "scripts": {"dev": "node a.js"}}'
                )
                files = {"package.json": manifest, "a.js": ""}
            clone = machine.clone(files, str(number))
            check(machine, number, "onboard", clone, "--until", "dependencies")


@pytest.mark.parametrize("batch", range(10))
def test_clones(machine: Machine, outside: Outside, batch: int) -> None:
    for number in range(batch * 10, batch * 10 + 10):
        clone = machine.home / str(number)
        clone.mkdir()
        generator.clone(number, clone)
        check(machine, number, "survey", clone)
        check(machine, number, "onboard", clone, "--until", "settings")
        check(machine, number, "settings", clone)
