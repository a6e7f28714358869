"""From an address or an archive to a clone: brought as a whole or not at all, and what is said where it is not."""

from __future__ import annotations

import io
import json
import os
import subprocess
import tarfile
import threading
import time
import zipfile
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import ClassVar

import pytest
from conftest import SERVER, Machine, Run

from plainfall.intake.sources import project_name, source_of

FILES = {
    "app.py": SERVER,
    "requirements.txt": "",
    "Procfile": "web: python app.py\n",
    "README.md": "# Gauges\n",
}


def git(folder: Path, *words: str) -> str:
    command = ["git", "-c", "user.name=Reader", "-c", "user.email=reader@rain.example", *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True).stdout.strip()


@pytest.fixture
def bare(tmp_path: Path) -> Path:
    """A bare repository of the sample, with a second branch and a tag."""
    work = tmp_path / "work"
    work.mkdir()
    for name, text in FILES.items():
        (work / name).write_text(text)
    git(work, "init", "-q", "-b", "main")
    git(work, "add", ".")
    git(work, "commit", "-qm", "First")
    git(work, "tag", "spring")
    git(work, "checkout", "-qb", "chapter-2")
    (work / "chapter.txt").write_text("2\n")
    git(work, "add", ".")
    git(work, "commit", "-qm", "Second")
    git(work, "checkout", "-q", "main")
    git(tmp_path, "clone", "-q", "--bare", str(work), "gauges.git")
    return tmp_path / "gauges.git"


def inside(machine: Machine, *words: str) -> Run:
    """A run in the made-up machine's home."""
    return machine.run(*words)


def flat(text: str) -> str:
    """A text without its line breaks, which depend on the length of paths."""
    return " ".join(text.split())


def leftovers(machine: Machine) -> list[str]:
    return [one.name for one in machine.home.iterdir() if "-coming-" in one.name]


def packed(kind: str, top: str = "gauges-main") -> bytes:
    data = io.BytesIO()
    if kind == "zip":
        with zipfile.ZipFile(data, "w") as archive:
            for name, text in FILES.items():
                archive.writestr(f"{top}/{name}" if top else name, text)
        return data.getvalue()
    with tarfile.open(fileobj=data, mode=f"w:{kind}") as archive:  # type: ignore[call-overload]
        for name, text in FILES.items():
            info = tarfile.TarInfo(f"{top}/{name}" if top else name)
            info.size = len(text.encode())
            archive.addfile(info, io.BytesIO(text.encode()))
    return data.getvalue()


@pytest.mark.parametrize("way", ["file address", "folder", "bundle"])
@pytest.mark.needs("git")
def test_a_repository_comes_to_a_probed_page(machine: Machine, bare: Path, way: str) -> None:
    named = {
        "file address": f"file://{bare}",
        "folder": str(bare),
        "bundle": str(bare.parent / "gauges.bundle"),
    }[way]
    if way == "bundle":
        git(bare, "bundle", "create", "-q", named, "--all")
    run = inside(machine, "onboard", named)
    assert run.status == 0, run.out + run.err
    assert "is in" in flat(run.err) and (machine.home / "gauges/.git").exists() and not leftovers(machine)
    assert "Gauge" in run.out or "200" in flat(run.err) + run.out
    again = inside(machine, "onboard", named)
    assert again.status == 0 and "is a clone of it already, and is taken as it is" in " ".join(
        again.err.split()
    )
    machine.run("stop", "--all")


@pytest.mark.parametrize(("wanted", "has"), [("chapter-2", True), ("spring", False), ("commit", False)])
@pytest.mark.needs("git")
def test_a_branch_a_tag_or_a_commit(machine: Machine, bare: Path, wanted: str, has: bool) -> None:
    name = git(bare, "rev-parse", "spring") if wanted == "commit" else wanted
    run = inside(machine, "survey", f"file://{bare}", "--branch", name, "--into", "here")
    assert run.status == 0, run.out + run.err
    assert (machine.home / "here/chapter.txt").exists() is has


@pytest.mark.parametrize("kind", ["zip", "gz", "bz2", "xz"])
def test_an_archive_is_unpacked_without_what_wraps_it(machine: Machine, tmp_path: Path, kind: str) -> None:
    file = tmp_path / f"download.{'zip' if kind == 'zip' else f'tar.{kind}'}"
    file.write_bytes(packed(kind))
    run = inside(machine, "survey", str(file))
    assert run.status == 0, run.out + run.err
    assert (machine.home / "gauges/app.py").is_file() and not leftovers(machine)
    assert "an archive has no history" in flat(run.err)
    again = inside(machine, "survey", str(file))
    assert again.status == 2 and "exists already" in flat(again.err)
    assert inside(machine, "survey", str(file), "--into", "other/place").status == 0
    assert (machine.home / "other/place/app.py").is_file()


@pytest.mark.needs("git")
def test_what_is_there_is_not_touched(machine: Machine, bare: Path) -> None:
    (machine.home / "gauges").mkdir()
    (machine.home / "gauges/mine.txt").write_text("mine")
    run = inside(machine, "onboard", f"file://{bare}")
    assert run.status == 2 and "is no clone of" in flat(run.err) and "--into" in flat(run.err)
    assert os.listdir(machine.home / "gauges") == ["mine.txt"]
    (machine.home / "gauges/mine.txt").unlink()
    assert inside(machine, "survey", f"file://{bare}").status == 0  # an empty folder is free


@pytest.mark.parametrize(
    ("named", "words"),
    [
        ("file:///nowhere/gauges.git", "no such repository, or you have no right to it"),
        ("https://127.0.0.1:9/gauges.git", "the host cannot be reached"),
        ("https://rain.invalid/gauges.git", "the host's name is not known"),
        ("https://127.0.0.1:9/gauges.zip", "cannot be reached"),
    ],
)
@pytest.mark.needs("git")
def test_what_went_wrong_is_said_in_the_persons_terms(machine: Machine, named: str, words: str) -> None:
    run = inside(machine, "survey", named)
    assert run.status == 1 and words in flat(run.err), run.err
    assert not (machine.home / "gauges").exists() and not leftovers(machine)


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files away")
@pytest.mark.needs("git")
def test_a_repository_of_another_user(machine: Machine, bare: Path) -> None:
    for place in (bare, *bare.rglob("*")):
        os.chown(place, 65534, 65534)
    run = inside(machine, "survey", f"file://{bare}")
    assert run.status == 1 and "belongs to another user" in flat(run.err), run.err


@pytest.mark.needs("git")
def test_a_branch_that_is_not_there_is_answered_with_those_that_are(machine: Machine, bare: Path) -> None:
    for name in ("absent", "0123456789abcdef"):
        run = inside(machine, "survey", f"file://{bare}", "--branch", name)
        assert run.status == 1 and "there are: chapter-2, main, spring" in flat(run.err), run.err
        assert not (machine.home / "gauges").exists()
    assert inside(machine, "survey", f"file://{bare}", "--branch", "--upload-pack=x").status == 2
    assert inside(machine, "survey", str(machine.home), "--branch", "main").status == 2


def test_archives_that_are_hostile_or_damaged(machine: Machine, tmp_path: Path) -> None:
    climbing = io.BytesIO()
    with zipfile.ZipFile(climbing, "w") as archive:
        archive.writestr("gauges/../../climbed.txt", "x")
    for name, content in {
        "a.zip": climbing.getvalue(),
        "b.zip": packed("zip")[:200],
        "c.tar.gz": packed("gz")[:90],
    }.items():
        (tmp_path / name).write_bytes(content)
        run = inside(machine, "survey", str(tmp_path / name))
        assert run.status == 1 and ("outside" in flat(run.err) or "damaged" in flat(run.err)), run.err
    assert not list(machine.home.rglob("climbed.txt")) and not leftovers(machine)
    assert not list(tmp_path.rglob("climbed.txt"))


def test_a_repository_that_comes_in_an_archive_is_left_out(machine: Machine, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "gauges.zip", "w") as archive:
        archive.writestr("gauges/app.py", SERVER)
        archive.writestr("gauges/requirements.txt", "")
        archive.writestr("gauges/.git/config", "[core]\n\tfsmonitor = touch ran\n")
        archive.writestr("gauges/inner/.GIT", "gitdir: elsewhere")
    run = inside(machine, "survey", str(tmp_path / "gauges.zip"))
    assert run.status == 0 and "its .git was left out" in flat(run.err), run.err
    assert sorted(one.name for one in (machine.home / "gauges").rglob("*")) == [
        "app.py",
        "inner",
        "requirements.txt",
    ]


class _Cutting(BaseHTTPRequestHandler):
    """Serves an archive; the first answers end half-way."""

    content = b""
    cuts = 0
    asked: ClassVar[list[str]] = []

    def do_GET(self) -> None:
        kind = type(self)
        span = self.headers.get("Range", "")
        kind.asked.append(span)
        start = int(span.removeprefix("bytes=").partition("-")[0]) if span else 0
        body = kind.content[start:]
        self.send_response(206 if span else 200)
        if span:
            self.send_header("Content-Range", f"bytes {start}-{len(kind.content) - 1}/{len(kind.content)}")
        self.send_header("Content-Length", str(len(body)))
        self.send_header("ETag", '"one"')
        self.send_header("Accept-Ranges", "bytes")
        self.end_headers()
        if kind.cuts:
            kind.cuts -= 1
            self.wfile.write(body[: len(body) // 2])
            self.wfile.flush()
            self.connection.close()
            return
        self.wfile.write(body)

    def log_message(self, *words: object) -> None:
        """Nothing is printed."""


@pytest.fixture
def cutting() -> Iterator[str]:
    _Cutting.content, _Cutting.cuts, _Cutting.asked = packed("zip") + b"", 0, []
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Cutting)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_address[1]}/gauges.zip"
    server.shutdown()


def test_an_archive_at_an_address_goes_on_where_it_was_cut_off(machine: Machine, cutting: str) -> None:
    _Cutting.cuts = 2
    run = inside(machine, "survey", cutting)
    assert run.status == 0, run.out + run.err
    assert (machine.home / "gauges/app.py").is_file() and len(_Cutting.asked) == 3
    assert _Cutting.asked[1].startswith("bytes=")


def test_one_that_stays_cut_off_is_said_and_the_next_run_goes_on(machine: Machine, cutting: str) -> None:
    _Cutting.cuts = 50
    run = inside(machine, "survey", cutting)
    assert run.status == 1 and not (machine.home / "gauges").exists() and not leftovers(machine), run.err
    assert "run the same command again to go on" in flat(run.err)
    _Cutting.cuts, _Cutting.asked = 0, []
    assert inside(machine, "survey", cutting).status == 0 and _Cutting.asked[0].startswith("bytes=")


@pytest.mark.needs("git")
def test_a_kill_leaves_nothing_under_the_name_and_the_next_run_sweeps(machine: Machine, bare: Path) -> None:
    slow = machine.home / "slow"
    slow.mkdir()
    (slow / "git").write_text('#!/bin/sh\ncase "$*" in *clone*) sleep 30;; esac\nexec /usr/bin/git "$@"\n')
    (slow / "git").chmod(0o755)
    before = machine.variables["PATH"]
    machine.variables["PATH"] = f"{slow}:{before}"
    process = machine.start("survey", f"file://{bare}")
    deadline = time.monotonic() + 20
    while not leftovers(machine) and time.monotonic() < deadline:
        time.sleep(0.05)
    assert leftovers(machine)
    process.kill()
    process.wait()
    machine.variables["PATH"] = before
    assert not (machine.home / "gauges").exists() and leftovers(machine)
    assert inside(machine, "survey", f"file://{bare}").status == 0
    assert not leftovers(machine)


@pytest.mark.needs("git")
def test_submodules_come_from_where_fetching_may_go_and_pointers_are_named(
    machine: Machine, bare: Path, tmp_path: Path
) -> None:
    work = tmp_path / "outer"
    git(tmp_path, "clone", "-q", str(bare), "outer")
    git(work, "-c", "protocol.file.allow=always", "submodule", "add", "-q", f"file://{bare}", "inner")
    (work / ".gitattributes").write_text("*.tif filter=lfs diff=lfs merge=lfs -text\n")
    (work / "map.tif").write_text("version https://git-lfs.example/spec/v1\noid sha256:1\nsize 5\n")
    git(work, "add", ".")
    git(work, "commit", "-qm", "With more")
    run = inside(machine, "survey", f"file://{work}", "--into", "mine")
    assert run.status == 0, run.err
    assert (machine.home / "mine/inner/app.py").is_file()
    assert "1 file is only a pointer to a large-file store (map.tif)" in flat(run.err)


@pytest.mark.parametrize(
    ("named", "kind", "name"),
    [
        ("https://host.example/rain/gauges.git", "git", "gauges"), ("git@host.example:rain/gauges.git", "git", "gauges"),
        ("ssh://git@host.example/gauges", "git", "gauges"), ("https://host.example/a/gauges-main.tar.gz", "archive", "gauges"),
        ("https://host.example/gauges/archive/v1.2.zip?x=1", "archive", "v1.2"), ("absent", "folder", "absent"),
        ("-oProxyCommand=touch@host.example:x", "folder", "x"), ("ext::sh -c touch% climbed", "folder", "sh--c-touch--climbed"), ("../x", "folder", "x"),
    ],
)  # fmt: skip
def test_what_a_word_means(tmp_path: Path, named: str, kind: str, name: str) -> None:
    source = source_of(named, tmp_path)
    assert source.kind == kind and source.name == name
    assert project_name("gauges-1a2b3c4d.zip") == "gauges" and project_name("..") == "clone"
    assert json.dumps(source.address)
