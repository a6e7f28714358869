"""A registry of Ruby's packages on loopback: the compact index, archives, faults on request."""

from __future__ import annotations

import gzip
import hashlib
import io
import tarfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from http.server import ThreadingHTTPServer
from pathlib import Path

from msgspec import Struct, field

from plainfall.standins.serving import Answering, running

__all__ = ["Gem", "RubyRegistry", "built_ruby_packages", "gem", "packed", "ruby_lock", "serving_ruby"]

SOURCES = Path(__file__).parent / "ruby_sources"
_WHEN = 1_767_571_200  # 2026-01-05


class Gem(Struct, frozen=True):
    """One version of a package for one system: its archive, and what it needs."""

    name: str
    version: str
    content: bytes
    needs: Mapping[str, str] = field(default_factory=dict)
    system: str = "ruby"
    ruby: str = ">= 0"

    @property
    def full_name(self) -> str:
        """What its archive is called."""
        return f"{self.name}-{self.version}" + ("" if self.system == "ruby" else f"-{self.system}")

    @property
    def checksum(self) -> str:
        """The archive's SHA-256."""
        return hashlib.sha256(self.content).hexdigest()

    @property
    def line(self) -> str:
        """Its line in the index."""
        needs = ",".join(f"{name}:{rule.replace(', ', '&')}" for name, rule in sorted(self.needs.items()))
        stated = self.version + ("" if self.system == "ruby" else f"-{self.system}")
        return f"{stated} {needs}|checksum:{self.checksum},ruby:{self.ruby}"


def _tar(members: Mapping[str, bytes]) -> bytes:
    packed_bytes = io.BytesIO()
    with tarfile.open(fileobj=packed_bytes, mode="w", format=tarfile.USTAR_FORMAT) as archive:
        for name, content in sorted(members.items()):
            info = tarfile.TarInfo(name.lstrip("!"))
            info.size, info.mtime, info.mode = len(content), _WHEN, 0o755 if name.startswith("!") else 0o644
            archive.addfile(info, io.BytesIO(content))
    return packed_bytes.getvalue()


def packed(metadata: str, members: Mapping[str, bytes]) -> bytes:
    """An archive with that description and these files, the same bytes each time."""
    inner = gzip.compress(_tar(members), mtime=0)
    return _tar({"metadata.gz": gzip.compress(metadata.encode(), mtime=0), "data.tar.gz": inner})


def _rule(text: str, depth: int) -> str:
    start = "  " * depth
    rows = []
    for piece in text.split(","):
        operator, _, number = piece.strip().partition(" ")
        rows.append(
            f"{start}- - \"{operator}\"\n{start}  - !ruby/object:Gem::Version\n{start}    version: '{number}'\n"
        )
    return f"!ruby/object:Gem::Requirement\n{start}requirements:\n{''.join(rows)}"


def metadata_of(
    name: str, version: str, needs: Mapping[str, str], system: str, ruby: str, programs: Sequence[str],
    extensions: Sequence[str],
) -> str:  # fmt: skip
    """The description of a package, as its tools write it."""
    lines = ["--- !ruby/object:Gem::Specification", f"name: {name}", "version: !ruby/object:Gem::Version"]
    lines += [f"  version: {version}", f"platform: {system}", "authors:", "- The rain readers", "bindir: bin"]
    lines.append("dependencies:" if needs else "dependencies: []")
    for other, rule in sorted(needs.items()):
        lines += [
            "- !ruby/object:Gem::Dependency",
            f"  name: {other}",
            f"  requirement: {_rule(rule, 2).rstrip()}",
        ]
        lines += ["  type: :runtime", "  prerelease: false"]
    for key, values in (("executables", programs), ("extensions", extensions), ("require_paths", ["lib"])):
        lines += [f"{key}:", *(f"- {one}" for one in values)] if values else [f"{key}: []"]
    lines += [f"summary: {name} of the rain readers", "licenses: []", "metadata: {}"]
    lines += [f"required_ruby_version: {_rule(ruby, 1).rstrip()}", "specification_version: 4", ""]
    return "\n".join(lines)


def gem(
    name: str,
    version: str = "1.0.0",
    members: Mapping[str, str] | None = None,
    needs: Mapping[str, str] | None = None,
    *,
    system: str = "ruby",
    ruby: str = ">= 0",
    programs: Sequence[str] = (),
    extensions: Sequence[str] = (),
) -> Gem:
    """A small package; the files of its programs lie in ``bin``."""
    files = {path: text.encode() for path, text in (members or {}).items()}
    described = metadata_of(name, version, needs or {}, system, ruby, programs, extensions)
    return Gem(name, version, packed(described, files), needs or {}, system, ruby)


def built_ruby_packages(sources: Path = SOURCES) -> list[Gem]:
    """Our made-up packages: an archive of every tree in the folder, by its ``package.txt`` (``name version``,
    then a need on each line)."""
    found = []
    for tree in sorted(path.parent for path in sources.glob("*/package.txt")):
        first, *rest = (tree / "package.txt").read_text("utf-8").splitlines()
        name, version = first.split()
        needs = {other: rule for other, _, rule in (line.partition(" ") for line in rest if line.strip())}
        files = {
            path.relative_to(tree).as_posix(): path.read_text("utf-8")
            for path in sorted(tree.rglob("*"))
            if path.is_file() and path.name != "package.txt"
        }
        programs = [path.rpartition("/")[2] for path in files if path.startswith("bin/")]
        found.append(gem(name, version, files, needs, programs=programs))
    return found


def ruby_lock(
    gems: Sequence[Gem], registry: str, wishes: Mapping[str, str], *, checksums: bool = False,
    systems: Sequence[str] = ("ruby",),
) -> str:  # fmt: skip
    """A Gemfile.lock of these packages; ``wishes`` are the manifest's own."""
    lines = ["GEM", f"  remote: {registry}", "  specs:"]
    ordered = sorted(gems, key=lambda one: one.full_name)
    for one in ordered:
        stated = one.version + ("" if one.system == "ruby" else f"-{one.system}")
        lines.append(f"    {one.name} ({stated})")
        lines += [f"      {name} ({rule})" for name, rule in sorted(one.needs.items())]
    lines += ["", "PLATFORMS", *(f"  {one}" for one in systems), "", "DEPENDENCIES"]
    lines += [f"  {name}" + (f" ({rule})" if rule else "") for name, rule in sorted(wishes.items())]
    if checksums:
        lines += ["", "CHECKSUMS"]
        for one in ordered:
            stated = one.version + ("" if one.system == "ruby" else f"-{one.system}")
            lines.append(f"  {one.name} ({stated}) sha256={one.checksum}")
    return "\n".join([*lines, "", "BUNDLED WITH", "   2.3.7", ""])


class RubyRegistry(ThreadingHTTPServer):
    """The server; ``url`` is the registry address to give to clients. ``login`` is the Authorization header that it
    wants ("" for none), ``asked`` the paths that were asked for; ``files`` may be changed while it runs."""

    daemon_threads = True
    request_queue_size = 256

    def __init__(self, gems: Sequence[Gem], login: str = "") -> None:
        super().__init__(("127.0.0.1", 0), Answering)
        self.login = login
        self.asked: list[str] = []
        self.files: dict[str, bytes] = {f"gems/{one.full_name}.gem": one.content for one in gems}
        by_name: dict[str, list[str]] = {}
        for one in gems:
            by_name.setdefault(one.name, []).append(one.line)
        rows = ["created_at: 2026-01-05T06:00:00Z", "---"]
        for name, lines in sorted(by_name.items()):
            text = "\n".join(["---", *lines, ""]).encode()
            self.files[f"info/{name}"] = text
            stated = ",".join(line.partition(" ")[0] for line in lines)
            rows.append(f"{name} {stated} {hashlib.md5(text, usedforsecurity=False).hexdigest()}")
        self.files["versions"] = "\n".join([*rows, ""]).encode()

    def answer(self, path: str) -> tuple[int, str, bytes]:
        """Status, media type and body."""
        found = self.files.get(path)
        if found is None:
            return 404, "text/plain", b"not found"
        return 200, "application/octet-stream", found

    @property
    def url(self) -> str:
        """The registry's address."""
        return f"http://127.0.0.1:{self.server_address[1]}/"


@contextmanager
def serving_ruby(gems: Sequence[Gem], login: str = "") -> Iterator[RubyRegistry]:
    """Serves the packages on a free loopback port while the block runs."""
    registry = RubyRegistry(gems, login)
    with running(registry):
        yield registry
