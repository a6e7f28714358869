"""Whatever a clone, an archive or a registry holds, reading it ends soon and in bounded memory, and says which
file."""

from __future__ import annotations

import gzip
import io
import json
import os
import resource
import sqlite3
import struct
import subprocess
import sys
import tarfile
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from conftest import Machine, package

from plainfall.data.sqlite import look_into
from plainfall.ecosystems import source_readers
from plainfall.errors import ArchiveRefused, BadInput, DatabaseProblem
from plainfall.evidence import Evidence
from plainfall.foreign_patterns import matching
from plainfall.packages.source_archives import unpack_source
from plainfall.packages.tarballs import unpack_tarball
from plainfall.server.page import read_page
from plainfall.server.probe import probe_page
from plainfall.server.visitor import Answer
from plainfall.sources.files import read_source
from plainfall.standins.registry import Archive

pytestmark = pytest.mark.hostile

SECONDS = 5.0
MEBIBYTES = 300


@contextmanager
def in_time(seconds: float = SECONDS) -> Iterator[None]:
    """The block ends in time, by this process's own clock of processor time."""
    start = time.process_time()
    yield
    assert time.process_time() - start < seconds


@contextmanager
def in_memory() -> Iterator[None]:
    """The block takes no more than the memory that everything has to do with."""
    soft, hard = resource.getrlimit(resource.RLIMIT_DATA)
    status = Path("/proc/self/status").read_text()
    used = int(next(row for row in status.splitlines() if row.startswith("VmData")).split()[1]) * 1024
    resource.setrlimit(resource.RLIMIT_DATA, (used + MEBIBYTES * (1 << 20), hard))
    try:
        yield
    finally:
        resource.setrlimit(resource.RLIMIT_DATA, (soft, hard))


@pytest.mark.parametrize("place", [".gitignore", ".git/info/exclude", "inner/.gitignore"])
@pytest.mark.parametrize("what", ["endless", "pipe"])
def test_rules_that_never_end_are_no_rules(machine: Machine, place: str, what: str) -> None:
    clone = machine.clone(
        {"app.py": "", "requirements.txt": "", "inner/x.py": "", ".git/HEAD": "ref: refs/heads/main\n"}
    )
    file = clone / place
    file.parent.mkdir(parents=True, exist_ok=True)
    file.symlink_to("/dev/zero") if what == "endless" else os.mkfifo(file)
    run = machine.run("survey", clone, "--json", timeout=30)
    assert run.status == 0, run.err


@pytest.mark.parametrize("name", ["HEAD", "index", "config", "packed-refs", "commondir", "refs/heads/main"])
def test_a_pipe_in_the_repository_is_waited_for_by_nobody(machine: Machine, name: str) -> None:
    clone = machine.clone(
        {"app.py": "print(1)\n", "requirements.txt": "", ".git/HEAD": "ref: refs/heads/main\n"}
    )
    (clone / ".git/refs/heads").mkdir(parents=True)
    (clone / ".git" / name).unlink(missing_ok=True)
    os.mkfifo(clone / ".git" / name)
    for words in (
        ("survey", clone),
        ("onboard", clone, "--until", "settings"),
        ("survey", clone, "--history"),
    ):
        run = machine.run(*words, timeout=30)
        assert run.status in (0, 1, 2, 3), run.err


HINTS = {
    ".py": "import os\nos.environ['X']\n",
    ".js": "process.env.X;\n",
    ".php": "<?php getenv('X');\n",
    ".rb": "ENV['X']\n",
}
ODD: dict[str, Callable[[str], str]] = {
    "blank lines": lambda hint: hint + "\n" * 200_000,
    "a name without an end": lambda hint: hint + "a." * 100_000,
    "the hint itself": lambda hint: hint + "process.env." * 16_000,
    "a number": lambda hint: f"{hint}port = {'9' * 5_000}\n",
    "quotes": lambda hint: hint + '"' * 200_000,
    "brackets": lambda hint: hint + "([{" * 60_000,
    "one line": lambda hint: hint + "x=1;" * 50_000,
    "names for each other": lambda hint: (
        hint + "const k = k;\nprocess.env[k];\nfor (const j of k) process.env[j];\n"
    ),
}


@pytest.mark.parametrize("ending", HINTS)
@pytest.mark.parametrize("name", ODD)
def test_a_source_takes_its_time_and_no_more(ending: str, name: str) -> None:
    with in_time():
        read_source(ODD[name](HINTS[ending]), f"a{ending}", source_readers())


def gzip_members(count: int, content: bytes = b"") -> bytes:
    deflate = zlib.compressobj(9, zlib.DEFLATED, -15)
    packed = deflate.compress(content) + deflate.flush()
    ending = struct.pack("<II", zlib.crc32(content), len(content))
    return (b"\x1f\x8b\x08\0\0\0\0\0\0\xff" + packed + ending) * count


def tar_of(members: Iterator[tuple[tarfile.TarInfo, bytes]], form: int = tarfile.PAX_FORMAT) -> bytes:
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode="w", format=form) as archive:
        for member, data in members:
            member.size = len(data)
            archive.addfile(member, io.BytesIO(data))
    return content.getvalue()


@pytest.mark.parametrize("how", ["package", "source"])
def test_an_archive_of_hundreds_of_thousands_of_gzip_members(tmp_path: Path, how: str) -> None:
    data = gzip_members(200_000)
    assert len(data) < 4_100_000
    out = tmp_path / "out"
    out.mkdir()
    with in_time(), pytest.raises(ArchiveRefused, match=r"kit\.tgz") if how == "source" else in_memory():
        if how == "source":
            (tmp_path / "kit.tgz").write_bytes(data)
            unpack_source(tmp_path / "kit.tgz", out)
        else:
            assert unpack_tarball(data, out, "kit.tgz") == []


def pax_header(size: int) -> bytes:
    head = tarfile.TarInfo("header")
    head.type, head.size = tarfile.XHDTYPE, size
    record = f"{size} comment={'x' * (size - len(f'{size} comment=') - 1)}\n".encode()
    return head.tobuf(tarfile.USTAR_FORMAT) + record + bytes(-len(record) % 512)


def test_headers_that_unpack_to_gigabytes(tmp_path: Path) -> None:
    out = tmp_path / "out"
    out.mkdir()
    archive = tmp_path / "kit.tar.gz"
    with gzip.open(archive, "wb", 1) as opened:
        head = tarfile.TarInfo("header")
        head.type, head.size = tarfile.XHDTYPE, 1 << 31
        opened.write(head.tobuf(tarfile.GNU_FORMAT))
        for _ in range(220):
            opened.write(bytes(1 << 20))
    with in_time(), in_memory(), pytest.raises(ArchiveRefused, match=r"kit\.tar\.gz"):
        unpack_source(archive, out)


def test_headers_that_add_up(tmp_path: Path) -> None:
    out = tmp_path / "out"
    out.mkdir()
    member = tarfile.TarInfo("kit/a")
    data = b"".join(pax_header(900_000) + member.tobuf(tarfile.USTAR_FORMAT) for _ in range(40))
    archive = tmp_path / "kit.tar"
    archive.write_bytes(data + bytes(1024))
    with in_time(), in_memory(), pytest.raises(ArchiveRefused, match=r"kit\.tar"):
        unpack_source(archive, out)


@pytest.mark.parametrize("how", ["package", "source"])
def test_an_archive_of_folders(tmp_path: Path, how: str) -> None:
    def members() -> Iterator[tuple[tarfile.TarInfo, bytes]]:
        for number in range(5_000):
            member = tarfile.TarInfo("kit/" + "/".join(f"{number}" for _ in range(60)) + "/x")
            yield member, b""

    data = gzip.compress(tar_of(members(), tarfile.GNU_FORMAT), 9)
    out = tmp_path / "out"
    out.mkdir()
    (tmp_path / "kit.tgz").write_bytes(data)
    with in_time(30), in_memory(), pytest.raises(ArchiveRefused, match="folders"):
        unpack_source(tmp_path / "kit.tgz", out) if how == "source" else unpack_tarball(data, out, "kit.tgz")


def test_a_link_that_leads_out_by_way_of_a_later_one(tmp_path: Path) -> None:
    def members() -> Iterator[tuple[tarfile.TarInfo, bytes]]:
        for name, target in (("kit/a", "b/../.."), ("kit/b", "deep/er"), ("kit/deep/er/x", "")):
            member = tarfile.TarInfo(name)
            if target:
                member.type, member.linkname = tarfile.SYMTYPE, target
            yield member, b""

    (tmp_path / "kit.tar").write_bytes(tar_of(members()))
    out = tmp_path / "out"
    out.mkdir()
    (tmp_path / "outside").mkdir()
    try:
        top = unpack_source(tmp_path / "kit.tar", out)
    except ArchiveRefused as error:
        assert "leads out" in str(error)
    else:
        assert Path(os.path.realpath(top / "a")).is_relative_to(out)


def test_generated_columns_of_gigabytes_are_not_made(tmp_path: Path) -> None:
    file = tmp_path / "gauges.db"
    with sqlite3.connect(file) as database:
        database.execute("CREATE TABLE readings (a, b GENERATED ALWAYS AS (zeroblob(900000000)) VIRTUAL)")
        database.execute("CREATE INDEX one ON readings (a)")
        database.executemany("INSERT INTO readings (a) VALUES (?)", [(number,) for number in range(3)])
    with in_time(10), in_memory():
        try:
            assert look_into(file).tables["readings"][1] == 3
        except DatabaseProblem as error:
            assert "gauges.db" in str(error)


def test_rows_with_generated_columns_are_shown_or_refused(machine: Machine) -> None:
    clone = machine.clone(
        {"app.py": "", "requirements.txt": "", ".env": "DATABASE_URL=sqlite:///gauges.db\n"}
    )
    with sqlite3.connect(clone / "gauges.db") as database:
        database.execute("CREATE TABLE readings (a, b GENERATED ALWAYS AS (zeroblob(900000000)) VIRTUAL)")
        database.execute("INSERT INTO readings (a) VALUES (1)")
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    run = machine.run("data", clone, "readings", timeout=30, PLAINFALL_MEMORY="400")
    assert run.status in (0, 1) and "internal error" not in run.err, run.err


@pytest.mark.parametrize("pattern", ["(a+)+$", "(a|a)*b"])
def test_a_teams_pattern_takes_its_time_and_no_more(pattern: str) -> None:
    begin = time.monotonic()
    with pytest.raises(BadInput, match=r"plainfall\.toml:2"):
        matching([pattern], ["a" * 60 + "!"], Evidence("plainfall.toml", 2))
    assert time.monotonic() - begin < 8
    assert matching(["^rain", "gauge$"], ["rain", "x", "a gauge"], Evidence("x")) == [True, False, True]


def test_a_search_for_versions_is_given_up(machine: Machine, offer: Callable[..., object]) -> None:
    """Every version of each package wants a version of the next that is not there."""
    archives = []
    for name in range(8):
        for version in range(40):
            wants = (f"kit{name + 1}=={version + 1}.0",) if name < 7 else ("absent>=1",)
            archives.append(
                Archive.of(package(f"kit{name}", f"{version}.0", requires=(*wants, f"kit{(name + 3) % 8}")))
            )
    offer(archives)
    clone = machine.clone({"requirements.txt": "\n".join(f"kit{name}" for name in range(8)), "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", timeout=60)
    assert run.status == 1 and "internal error" not in run.err, run.err


def test_the_limit_of_memory_is_named(machine: Machine) -> None:
    clone = machine.clone(
        {"package.json": json.dumps({"name": "x", "scripts": {"start": "node x.js"}}), "x.js": ""}
    )
    (clone / "package-lock.json").write_text("[" + "[]," * 1_500_000 + "1]")
    run = machine.run("onboard", clone, "--json", PLAINFALL_MEMORY="130", timeout=60)
    assert run.status == 1, run.err
    failure = run.document.get("failure") or {}
    assert failure.get("kind") in ("MemoryExhausted", "BadInput"), failure
    deep = subprocess.run(
        [sys.executable, "-c", "from plainfall.memory import limit_memory, exhausted\nlimit_memory({'PLAINFALL_MEMORY': '100'})\n"
         "try:\n    x = bytearray(200 << 20)\nexcept MemoryError:\n    print(exhausted(), exhausted().remedy)"],
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert "the limit of 100 MiB" in deep.stdout and "PLAINFALL_MEMORY=MIB" in deep.stdout


def test_a_command_of_the_clone_has_the_persons_own_limits(machine: Machine) -> None:
    clone = machine.clone({"app.py": "", "requirements.txt": ""})
    assert machine.run("onboard", clone, "--until", "settings").status == 0
    program = "import resource; print(resource.getrlimit(resource.RLIMIT_DATA)[0] == resource.RLIM_INFINITY)"
    run = machine.run("inside", clone, "--", "python", "-c", program, PLAINFALL_MEMORY="500")
    assert run.out.strip() == str(resource.getrlimit(resource.RLIMIT_DATA)[0] == resource.RLIM_INFINITY)


def test_a_page_whose_elements_lie_in_each_other_without_end() -> None:
    head = "<!doctype html><title>Gauge</title><h1>Rain</h1>"
    for odd in (
        "<div>" * 300_000,
        "<script>" * 300_000,
        "<" + "a" * 500_000,
        "<a " * 200_000,
        "<script></script>" * 200_000,
    ):
        with in_time():
            page = read_page((head + odd).encode(), "http://localhost/")
            assert page.title == "Gauge" and page.headings == ("Rain",)


def test_a_page_that_is_wide_is_read_whole() -> None:
    rows = "".join(f"<tr><td><a href=/{n}>x</a><br><svg><path d=x /></svg><p>y" for n in range(3_000))
    page = read_page(f"<title>Gauge</title><table>{rows}".encode(), "http://localhost/")
    assert len(page.links) == 3_000


class _Crowded:
    """A visitor of a page that loads a hundred thousand scripts."""

    def __init__(self) -> None:
        self.asked = 0

    def get(self, url: str, kind: str = "") -> Answer:
        self.asked += 1
        body = (
            b"".join(b"<script src=/s%d.js></script>" % n for n in range(100_000))
            if self.asked == 1
            else b"1;"
        )
        return Answer(url, 200, "text/html" if self.asked == 1 else "text/javascript", body, 0.0)


def test_a_page_that_loads_without_end_is_looked_at_in_part() -> None:
    visitor = _Crowded()
    with in_time():
        probe = probe_page("http://localhost/", visitor=visitor)  # type: ignore[arg-type]
    assert visitor.asked <= 1_100
    assert any("things that the page loads" in one for one in probe.notes)


def test_a_step_that_never_ends_its_line_is_read_in_pieces(machine: Machine) -> None:
    """Sixty megabytes without a line end were put together again with each piece."""
    seed = "import os\nfor _ in range(960):\n    os.write(1, b'x' * 65536)\n"
    readme = "# Rain\n\n## Set-up\n\n    python seed.py\n    python app.py\n"
    clone = machine.clone({"requirements.txt": "", "README.md": readme, "seed.py": seed, "app.py": ""})
    begin = time.monotonic()
    run = machine.run("onboard", clone, "--until", "seeds", "--json", timeout=60)
    assert run.document["outcome"] == "done", run.document["failure"]
    assert time.monotonic() - begin < 30
