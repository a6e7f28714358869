"""``Gemfile.lock``, by its grammar: sections with their remotes, packages with what they need, systems, the
manifest's own wishes, checksums, the runtime."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from pathlib import Path

from msgspec import Struct, field

from plainfall.ecosystems.ruby.resolve.versions import is_version, requirement
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import clone_text

__all__ = ["Lock", "Locked", "Source", "full_name", "lock_names", "read_lock"]

_LARGEST = 16 << 20  # bytes
_SECTIONS = ("GEM", "GIT", "PATH", "PLUGIN SOURCE")
_SPEC = regex(r"    ([^\s(]+) \(([^)\s]+)\)")
_NEED = regex(r"      ([^\s(!]+)(?: \(([^)]+)\))?!?")
_WISH = regex(r"  ([^\s(!]+)(?: \(([^)]+)\))?(!)?")
_SUM = regex(r"  ([^\s(]+) \(([^)\s]+)\)(?: (.+))?")
_NAME = regex(r"[A-Za-z0-9_][A-Za-z0-9_.-]{0,200}")
_SYSTEM = regex(r"[A-Za-z0-9_][\w.-]{0,60}")
_MERGED = regex(r"(<{7}|={7}|>{7}|\|{7})( |$)")


class Source(Struct, frozen=True):
    """Where packages come from: "gem" (registries' addresses in order), "git" (an address and a commit), "path" (a
    folder) or "plugin"; ``options`` are the other lines of its section."""

    kind: str
    remotes: tuple[str, ...]
    revision: str = ""
    options: Mapping[str, str] = field(default_factory=dict)


class Locked(Struct, frozen=True):
    """One package of a lock: name, version, the system that it is for ("ruby": all), what it needs (name →
    requirement), where it comes from, its line, and its SHA-256 if the lock has one."""

    name: str
    version: str
    system: str
    needs: Mapping[str, str]
    source: Source
    place: Evidence
    checksum: str = ""

    @property
    def label(self) -> str:
        """How people call it."""
        return f"{self.name} {self.version}"

    @property
    def full_name(self) -> str:
        """What its files are called."""
        return full_name(self.name, self.version, self.system)


class Lock(Struct, frozen=True):
    """A lock: its path, packages, systems, the manifest's wishes (name → requirement, "" for any), the runtime's
    version and that of the client's library ("" where none is named)."""

    path: str
    packages: tuple[Locked, ...]
    systems: tuple[str, ...]
    wishes: Mapping[str, str]
    ruby: str = ""
    bundled_with: str = ""

    def named(self, name: str) -> list[Locked]:
        """The packages of a name: one for each system."""
        return [one for one in self.packages if one.name == name]


def full_name(name: str, version: str, system: str) -> str:
    """Name, version and system as files are called."""
    return f"{name}-{version}" + ("" if system in ("", "ruby") else f"-{system}")


def read_lock(root: Path, path: str) -> Lock:
    """Reads a lock. Raises BadInput with the line."""
    return _lock_of(clone_text(root, path, _LARGEST), path)


def lock_names(lock: Lock) -> tuple[str, ...]:
    """The names of its packages and of the manifest's wishes, in lower case."""
    names = [*lock.wishes, *(one.name for one in lock.packages)]
    return tuple(dict.fromkeys(name.lower() for name in names))


@lru_cache(4)  # several questions of one run are answered from the same lock
def _lock_of(text: str, path: str) -> Lock:
    sections = list(_sections(text, path))
    sums = {
        key: digest for title, rows in sections if title == "CHECKSUMS" for key, digest in _checksums(rows)
    }
    packages: list[Locked] = []
    for title, rows in sections:
        if title in _SECTIONS:
            packages += _packages(title, rows, path, sums)
    seen: dict[str, Locked] = {}
    for one in packages:
        if seen.setdefault(one.full_name, one) is not one:
            raise BadInput(
                f"{one.label} stands in it twice",
                place=one.place,
                remedy="Often a merge did that: restore the lock, and write it again with its tool.",
            )
    if not any(title in ("GEM", "GIT", "PATH", "DEPENDENCIES") for title, _ in sections):
        raise BadInput(
            "it has no section of packages and no list of what the manifest asks for",
            place=Evidence(path, 1),
            remedy="Restore the lock from version control, or take it away: then versions are chosen anew.",
        )
    systems = tuple(
        line.strip() for title, rows in sections if title == "PLATFORMS" for _, line in rows if line.strip()
    )
    wishes = {}
    for number, line in (row for title, rows in sections if title == "DEPENDENCIES" for row in rows):
        match = _WISH.fullmatch(line)
        if match is None or not _NAME.fullmatch(match.group(1)):
            raise _wrong(path, number, line)
        wishes[match.group(1)] = _checked(match.group(2) or "", path, number)
    ruby = next((line.strip() for title, rows in sections if title == "RUBY VERSION" for _, line in rows), "")
    with_library = next(
        (line.strip() for title, rows in sections if title == "BUNDLED WITH" for _, line in rows), ""
    )
    version = re.match(r"ruby (\d+\.\d+\.\d+)", ruby)
    return Lock(
        path, tuple(packages), systems, wishes, version.group(1) if version else "",
        with_library if is_version(with_library) else "",
    )  # fmt: skip


def _sections(text: str, path: str) -> Iterator[tuple[str, list[tuple[int, str]]]]:
    """Titles, and the numbered lines below each."""
    title = ""
    rows: list[tuple[int, str]] = []
    for number, line in enumerate(text.splitlines(), 1):
        if _MERGED.match(line):
            raise BadInput(
                "it holds the marks of a merge that was not resolved",
                place=Evidence(path, number, line[:40]),
                remedy="Resolve it: take one side, and write the lock again with its tool.",
            )
        if not line.strip():
            continue
        if not line.startswith(" "):
            if title:
                yield title, rows
            title, rows = line.strip(), []
            if not re.fullmatch(r"[A-Z][A-Z ]*", title):
                raise _wrong(path, number, line)
        elif title:
            rows.append((number, line))
        else:
            raise _wrong(path, number, line)
    if title:
        yield title, rows


def _packages(
    title: str, rows: list[tuple[int, str]], path: str, sums: Mapping[str, str]
) -> Iterator[Locked]:
    remotes: list[str] = []
    options: dict[str, str] = {}
    specs: list[tuple[str, str, str, dict[str, str], Evidence]] = []
    for number, line in rows:
        option = re.fullmatch(r"  (\w+): ?(.*)", line)
        if option:
            key, value = option.groups()
            if key == "remote":
                remotes.append(value.strip())
            elif key == "revision" and not re.fullmatch(r"[0-9a-f]{7,64}", value.strip()):
                raise _wrong(path, number, line)  # it becomes part of a folder's name
            elif key != "specs":
                options[key] = value.strip()
            continue
        spec = _SPEC.fullmatch(line)
        if spec:
            name, version, system = _checked_spec(spec.group(1), spec.group(2), path, number, line)
            specs.append((name, version, system, {}, Evidence(path, number, line.strip())))
            continue
        need = _NEED.fullmatch(line)
        if need is None or not specs or not _NAME.fullmatch(need.group(1)):
            raise _wrong(path, number, line)
        specs[-1][3][need.group(1)] = _checked(need.group(2) or "", path, number)
    kind = "plugin" if title.startswith("PLUGIN") else title.lower()
    source = Source(kind, tuple(remotes), options.pop("revision", ""), options)
    for name, version, system, needs, place in specs:
        yield Locked(
            name, version, system, needs, source, place, sums.get(full_name(name, version, system), "")
        )


def _checked_spec(name: str, stated: str, path: str, number: int, line: str) -> tuple[str, str, str]:
    """Name, version and system of a package's line."""
    version, _, system = stated.partition("-")
    if not _NAME.fullmatch(name) or not is_version(version) or not version:
        raise _wrong(path, number, line)
    if system and not _SYSTEM.fullmatch(system):
        raise _wrong(path, number, line)
    return name, version, system or "ruby"


def _checksums(rows: list[tuple[int, str]]) -> Iterator[tuple[str, str]]:
    for _, line in rows:
        match = _SUM.fullmatch(line)
        if match is None:
            continue  # of a form that is not known yet: then nothing is compared
        version, _, system = match.group(2).partition("-")
        for stated in (match.group(3) or "").split(","):
            algorithm, _, digest = stated.strip().partition("=")
            if algorithm == "sha256" and re.fullmatch(r"[0-9a-f]{64}", digest):
                yield full_name(match.group(1), version, system or "ruby"), digest


def _checked(text: str, path: str, number: int) -> str:
    try:
        requirement(text)
    except ValueError as error:
        raise BadInput(
            str(error), place=Evidence(path, number), remedy="Restore the lock from version control."
        ) from None
    return text


def _wrong(path: str, number: int, line: str) -> BadInput:
    return BadInput(
        f"{line.strip()[:60]!r} is nothing that a lock of Ruby's packages has there",
        place=Evidence(path, number, line.strip()[:80]),
        remedy="Restore the lock from version control; one of a newer format is not read.",
    )
