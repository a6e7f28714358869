"""What only a Ruby can tell of a clone's own programs: manifests that are not plain, and gemspecs. Each runs in a
process of its own, with the part's variables and without the person's; it is the clone's code, as its server is
later."""

from __future__ import annotations

import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec import Struct
from msgspec.structs import replace

from plainfall.ecosystems.ruby.lists.gemfile import Manifest, Wish
from plainfall.errors import BadInput, CommandFailed
from plainfall.evidence import Evidence
from plainfall.processes import run
from plainfall.reading import foreign_json

__all__ = ["Described", "evaluate_gemspecs", "evaluated"]

_SECONDS = 60.0
_LIBRARY = Path(__file__).parents[1] / "library"


class Described(Struct, frozen=True):
    """What a gemspec of the clone says: its file, name and version, what it needs, and for development."""

    file: str
    name: str
    version: str
    needs: Mapping[str, str]
    for_development: Mapping[str, str]


def _run(
    ruby: Path, words: Sequence[str], folder: Path, variables: Mapping[str, str], place: Evidence
) -> Any:
    try:
        done = run([str(ruby), *words], variables, folder=folder, seconds=_SECONDS)
        lines = done.output.strip().splitlines()
        if done.status == 0 and lines:
            return foreign_json(lines[-1].encode(), place.path)
        told = done.errors.strip().splitlines()[-6:]
    except subprocess.TimeoutExpired:
        told = [f"it did not end within {_SECONDS:.0f} s"]
    except (OSError, BadInput) as error:
        told = [str(error)]
    raise CommandFailed(
        f"{place.path} could not be evaluated by Ruby",
        place=place,
        lines=tuple(told),
        remedy="Read the lines above: a setting, or a file that it reads, may be missing.",
    )


def evaluated(
    manifest: Manifest, clone: Path, folder: Path, ruby: Path, variables: Mapping[str, str]
) -> Manifest:
    """The manifest as a Ruby evaluates it. Raises CommandFailed."""
    place = manifest.unread[0] if manifest.unread else Evidence(manifest.path, 1)
    words = [str(_LIBRARY / "recorder.rb"), str(clone / manifest.path)]
    document = _run(ruby, words, folder, variables, place)
    wishes = tuple(
        Wish(
            str(row["name"]),
            tuple(map(str, row["requirements"])),
            Evidence(_inside(str(row["file"]), clone), int(row["line"])),
            tuple(map(str, row["groups"])),
            tuple(map(str, row["platforms"])),
            {str(key): str(value) for key, value in row["source"].items()},
        )
        for row in document["wishes"]
    )
    sources = tuple(map(str, document["sources"]))
    return replace(
        manifest, sources=sources, wishes=wishes, gemspecs=tuple(map(str, document["gemspecs"])), unread=()
    )


def _inside(file: str, clone: Path) -> str:
    path = Path(file)
    return path.relative_to(clone).as_posix() if path.is_relative_to(clone) else file


def evaluate_gemspecs(
    files: Sequence[Path], clone: Path, ruby: Path, variables: Mapping[str, str]
) -> list[Described]:
    """What gemspecs of the clone say. Raises CommandFailed for one that cannot be evaluated."""
    if not files:
        return []
    place = Evidence(_inside(str(files[0]), clone), 1)
    rows = _run(ruby, [str(_LIBRARY / "gemspecs.rb"), *map(str, files)], clone, variables, place)
    found = []
    for row in rows:
        if "name" not in row:
            raise CommandFailed(
                f"{_inside(str(row['file']), clone)} is no gemspec that Ruby can evaluate",
                place=Evidence(_inside(str(row["file"]), clone), 1),
                remedy="Run it by hand to see what it says: ruby -e 'p Gem::Specification.load(ARGV[0])' FILE",
            )
        needs: dict[str, dict[str, str]] = {"runtime": {}, "development": {}}
        for name, rule, kind in row["needs"]:
            needs.setdefault(kind, {})[str(name)] = str(rule)
        found.append(
            Described(
                str(row["file"]),
                str(row["name"]),
                str(row["version"]),
                needs["runtime"],
                needs["development"],
            )
        )
    return found
