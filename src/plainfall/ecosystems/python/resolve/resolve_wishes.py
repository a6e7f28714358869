"""From wishes to pins: resolved once, kept as a lock, and taken from there while its inputs are the same."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.install.job import InstallResult, Job, Lazy
from plainfall.ecosystems.python.lists.pins import Pin
from plainfall.errors import PlainfallError
from plainfall.evidence import Evidence
from plainfall.plain_files import plain_text
from plainfall.writing import digest_of, digest_of_files

if TYPE_CHECKING:
    from plainfall.ecosystems.python.lists.requirements import RequirementLine
    from plainfall.ecosystems.python.resolve.resolving import Direct

__all__ = ["direct_pins", "pins_of_wishes"]


def pins_of_wishes(job: Job, lazy: Lazy, result: InstallResult) -> list[Pin]:
    """Takes the kept resolution if its inputs are the same, else resolves and keeps the result."""
    listed = job.listed
    if not listed.wishes:
        return []
    folder = listed.path.rpartition("/")[0]
    directs, indexed = _split(listed.wishes)
    inputs = digest_of(
        [str(line.requirement) for line in indexed],
        [(line.reference, line.editable) for line in directs],
        [str(line.requirement) for line in listed.constraints],
        listed.prereleases,
        str(listed.options),
        digest_of_files(job.clone, [*listed.files, *_manifests(directs, folder)]),
        sorted(job.instead.items()),
        job.target.markers.get("python_version"),
        job.interpreter.facts["platform"],
        *([job.as_of] if job.as_of else []),
        *([job.rather] if job.rather else []),
    )
    directs, obtained = direct_pins(job, directs, folder, lazy, result)
    kept = _kept_lock(job, inputs)
    if kept is not None:
        return [*kept, *obtained]
    from plainfall.ecosystems.python.lists.manifests import requirement_at
    from plainfall.ecosystems.python.lists.pylock import write_pylock
    from plainfall.ecosystems.python.resolve.resolving import resolve

    supply = lazy.get()
    known = {position: _as_direct(pin, lazy) for position, pin in enumerate(obtained)}
    wishes = [*directs, *indexed]
    limits = [*listed.constraints, *supply.user_limits()]
    limits += [requirement_at(text, Evidence("what can be built here")) for text in job.avoided]
    candidate = resolve(
        wishes,
        limits,
        known,
        supply.finder,
        supply.metadata,
        job.target,
        prereleases=listed.prereleases,
        instead=job.instead,
        rather=job.rather,
    )
    result.resolved = True
    chosen = [one for one in candidate if one.direct is None]
    rows = [(one.name, one.version, [f for f in one.files if f.hashes.get("sha256")]) for one in chosen]
    line = job.target.markers.get("python_version", "")
    if all(files for _, _, files in rows):
        result.lock_text = write_pylock(rows, f"=={line}.*" if line else "", inputs)
    pins = []
    listed_hashes = {line.name: line.hashes for line in indexed if line.hashes}
    for one, (_, _, files) in zip(chosen, rows, strict=True):
        digests = frozenset(file.hashes["sha256"] for file in files)
        hashes = listed_hashes.get(one.name) or ({"sha256": digests} if digests else {})
        place = one.evidence or listed.wishes[0].evidence
        pins.append(Pin(one.name, one.version, place, hashes, tuple(files)))
    return [*pins, *obtained]


def _split(wishes: Sequence[RequirementLine]) -> tuple[list[RequirementLine], list[RequirementLine]]:
    direct = [line for line in wishes if line.reference is not None]
    return direct, [line for line in wishes if line.reference is None]


def _manifests(directs: Sequence[RequirementLine], folder: str) -> list[str]:
    """The manifests of local references: their requirements are inputs too."""
    places = [
        os.path.normpath(os.path.join(folder, line.reference or ""))
        for line in directs
        if "://" not in (line.reference or "")
    ]
    return [f"{place}/{name}" for place in places for name in ("pyproject.toml", "setup.py", "setup.cfg")]


def direct_pins(
    job: Job, directs: Sequence[RequirementLine], folder: str, lazy: Lazy, result: InstallResult
) -> tuple[list[RequirementLine], list[Pin]]:
    """The direct wishes that could be got, and their pins. The project itself may fail to be built: its list was
    read all the same, and that is remarked."""
    if not directs:
        return [], []
    from plainfall.ecosystems.python.lists.reference_lines import reference_of

    pins, lines = [], []
    for line in directs:
        reference = reference_of(line, folder)
        try:
            tree, text = lazy.direct(reference, line.evidence, {})
        except PlainfallError as error:
            if not line.is_own:
                raise
            result.remarks += (_not_built(error),)
            result.not_built = error
            continue
        lines.append(line)
        name = str(tree.facts["name"])
        lazy.directs[name] = tree, text
        pins.append(Pin(name, str(tree.facts["version"]), line.evidence, reference=reference))
    return lines, pins


def _not_built(error: PlainfallError) -> str:
    """Why the project itself is not installed: the cause, what the build said last, and where all of it is."""
    said = [line.strip() for line in error.lines if line.strip()][-3:]
    text = f"the project itself is not installed: {error.cause}"
    if said:
        text += f"; it said: {' | '.join(said)}"
    return text + (f"; all of its output is in {error.log}" if error.log else "")


def _as_direct(pin: Pin, lazy: Lazy) -> Direct:
    from packaging.requirements import Requirement

    from plainfall.ecosystems.python.resolve.resolving import Direct

    tree = lazy.directs[pin.name][0]
    requires = tuple(Requirement(text) for text in tree.facts["requires"])
    return Direct(pin.name, pin.version, requires, pin.evidence)


def _kept_lock(job: Job, inputs: str) -> list[Pin] | None:
    if not job.lock.is_file() or f'inputs = "{inputs}"' not in plain_text(job.lock, "utf-8"):
        return None
    from plainfall.ecosystems.python.lists.pylock import read_pylock

    tree = Tree(job.lock.parent, ())
    pins = read_pylock(tree, job.lock.name, job.target).pins
    return list(pins) if pins is not None else None
