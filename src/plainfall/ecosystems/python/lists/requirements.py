"""``requirements.txt`` files, read as their format is documented: continuations, comments, includes,
constraints, options, hashes, markers.

Text in, frozen values out; the one effect is reading included files, through the function passed in.
"""

from __future__ import annotations

import re
import shlex
from collections.abc import Callable, Iterator, Mapping
from pathlib import PurePosixPath

from msgspec import Struct, field
from msgspec.structs import replace
from packaging.requirements import InvalidRequirement, Requirement
from packaging.utils import canonicalize_name

from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.packages.consent import VARIABLE, Withheld, expanded, host_in
from plainfall.packages.digests import Digest
from plainfall.patterns import regex

__all__ = ["IndexOptions", "RequirementLine", "RequirementList", "parse_requirements", "read_requirements"]

_COMMENT = regex(r"(^|(?<!\s)\s+)#.*$")
_ARCHIVE = regex(r"\.(whl|zip|tar\.gz|tgz|tar\.bz2|tar\.xz)$", re.IGNORECASE)
_REMEDY = "One requirement a line, as in: name==1.2.3 --hash=sha256:…  (see PEP 508 for names and markers)."
_MOST_LINES = 10_000
_LONGEST_LINE = 20_000  # characters; a requirement with a hundred hashes has 8,000
_WITH_VALUE = {
    "-i": "index", "--index-url": "index", "--extra-index-url": "extra",
    "-f": "links", "--find-links": "links", "--trusted-host": "trusted",
    "-r": "include", "--requirement": "include", "-c": "constraint", "--constraint": "constraint",
    "-e": "editable", "--editable": "editable",
    "--no-binary": "ignored", "--only-binary": "ignored", "--use-feature": "ignored",
}  # fmt: skip
_WITHOUT_VALUE = {"--no-index", "--require-hashes", "--pre", "--prefer-binary"}


class RequirementLine(Struct, frozen=True):
    """One requirement: the PEP 508 requirement (None for a bare path or address), its hashes by algorithm,
    whether it is editable, the address or path of a direct reference, and where it stands. ``is_own`` marks the
    project itself, which is installed in place where it can be built."""

    requirement: Requirement | None
    evidence: Evidence
    hashes: Mapping[str, frozenset[str]] = field(default_factory=dict)
    editable: bool = False
    reference: str | None = None
    is_own: bool = False

    @property
    def name(self) -> str:
        """The normalised name (PEP 503), empty for a bare reference."""
        return canonicalize_name(self.requirement.name) if self.requirement else ""

    @property
    def pinned(self) -> str | None:
        """The version, if exactly one is admitted by ``==`` or ``===`` without a wildcard."""
        if self.requirement is None:
            return None
        specifiers = list(self.requirement.specifier)
        if len(specifiers) == 1 and specifiers[0].operator in ("==", "==="):
            version = specifiers[0].version
            return None if version.endswith(".*") else version
        return None


class IndexOptions(Struct, frozen=True):
    """What the files say about registries, each with its place. That a host be trusted without a certificate
    is not among it: a clone does not decide that."""

    index: tuple[str, Evidence] | None = None
    extra: tuple[tuple[str, Evidence], ...] = ()
    links: tuple[tuple[str, Evidence], ...] = ()
    no_index: bool = False


class RequirementList(Struct, frozen=True):
    """All requirements and constraints of a file and its includes, in order, and every file read; and the
    lines whose variables were not put in."""

    lines: tuple[RequirementLine, ...] = ()
    constraints: tuple[RequirementLine, ...] = ()
    options: IndexOptions = field(default_factory=IndexOptions)
    require_hashes: bool = False
    prereleases: bool = False
    files: tuple[str, ...] = ()
    withheld: tuple[Withheld, ...] = ()


Reader = Callable[[str], str]


def read_requirements(
    path: str, read: Reader, variables: Mapping[str, str], hosts: frozenset[str] = frozenset()
) -> RequirementList:
    """The list in a file and in all that it includes; ``read`` gives a file's text by its path relative to
    the clone, and raises BadInput with the reason if it cannot. The person's ``variables`` are put only into
    addresses at ``hosts``."""
    return _merge(path, read, variables, hosts, (), constraint=False)


def parse_requirements(
    text: str,
    path: str = "requirements.txt",
    variables: Mapping[str, str] | None = None,
    hosts: frozenset[str] = frozenset(),
) -> RequirementList:
    """The list in one text, which may not include other files."""

    def read(name: str) -> str:
        if name != path:
            raise BadInput(f"{name} is not to be read here")
        return text

    return read_requirements(path, read, variables or {}, hosts)


def _merge(
    path: str,
    read: Reader,
    variables: Mapping[str, str],
    hosts: frozenset[str],
    chain: tuple[Evidence, ...],
    *,
    constraint: bool,
) -> RequirementList:
    entire = RequirementList(files=(path,))
    pending: list[RequirementLine] = []

    def with_pending() -> RequirementList:
        added = tuple(pending)
        pending.clear()
        if constraint:
            return replace(entire, constraints=entire.constraints + added)
        return replace(entire, lines=entire.lines + added)

    for count, (number, line) in enumerate(_logical_lines(read(path), path)):
        if count >= _MOST_LINES:
            raise BadInput(
                f"it has more than {_MOST_LINES:,} lines", place=Evidence(path, number), remedy=_REMEDY
            )
        evidence = Evidence(path, number, line)
        names = VARIABLE.findall(line)
        if names and host_in(line) in hosts:
            line = expanded(line, variables)
        elif names and host_in(line):
            withheld = Withheld(host_in(line), tuple(dict.fromkeys(names)), Evidence(path, number))
            entire = replace(entire, withheld=(*entire.withheld, withheld))
        kind, value, rest = _option(line, evidence)
        if kind in ("include", "constraint"):
            included = _included(path, value, evidence, chain)
            constraining = constraint or kind == "constraint"
            inner = _merge(included, read, variables, hosts, (*chain, evidence), constraint=constraining)
            entire = _joined(with_pending(), inner)
        elif kind == "requirement" or kind == "editable":
            pending.append(_requirement(value or rest, evidence, editable=kind == "editable", path=path))
        else:
            entire = _with_option(entire, kind, value, evidence)
    return with_pending()


def _logical_lines(text: str, path: str) -> Iterator[tuple[int, str]]:
    """Continuations joined, comments and blank lines left out; the number of the first physical line."""
    start, gathered = 0, ""
    for number, raw in enumerate(text.removeprefix("\ufeff").splitlines(), 1):
        start = start or number
        if len(raw) > _LONGEST_LINE:
            raise BadInput(
                "the line is too long for a requirement", place=Evidence(path, number), remedy=_REMEDY
            )
        if raw.endswith("\\") and not _COMMENT.match(raw):
            gathered += raw[:-1].rstrip() + " "
            continue
        line = _COMMENT.sub("", gathered + raw).strip()
        if line:
            yield start, line
        start, gathered = 0, ""
    if gathered.strip():
        yield start, gathered.strip()


def _option(line: str, evidence: Evidence) -> tuple[str, str, str]:
    """What kind of line it is: (kind, value, the line itself)."""
    if not line.startswith("-"):
        return "requirement", "", line
    name, joined, value = line.partition(" ")
    if "=" in name:
        name, joined, value = line.partition("=")
    elif name[:2] in _WITH_VALUE and len(name) > 2 and not name.startswith("--"):
        name, joined, value = line[:2], " ", line[2:]
    value = value.strip().strip("\"'")
    if name in _WITHOUT_VALUE:
        return name, "", line
    if name not in _WITH_VALUE:
        raise BadInput(f"the option {name!r} is not known here", place=evidence, remedy=_REMEDY)
    if not joined or not value:
        raise BadInput(f"the option {name} wants a value", place=evidence, remedy=_REMEDY)
    return _WITH_VALUE[name], value, line


def _included(path: str, value: str, evidence: Evidence, chain: tuple[Evidence, ...]) -> str:
    pieces: list[str] = []
    for piece in (PurePosixPath(path).parent / value).parts:
        if piece == ".." and pieces:
            pieces.pop()
        elif piece == ".." or piece == "/":
            raise BadInput(f"{value!r} lies outside the clone", place=evidence, remedy="Move it inside.")
        else:
            pieces.append(piece)
    included = "/".join(pieces)
    if included == path or any(place.path == included for place in chain):
        way = " → ".join([place.path for place in chain] + [path, included])
        raise BadInput(
            f"the files include each other in a circle: {way}",
            place=evidence,
            remedy="Take this include out, or the one that leads back here.",
        )
    return included


def _joined(outer: RequirementList, inner: RequirementList) -> RequirementList:
    return RequirementList(
        lines=outer.lines + inner.lines,
        constraints=outer.constraints + inner.constraints,
        options=IndexOptions(
            index=inner.options.index or outer.options.index,
            extra=outer.options.extra + inner.options.extra,
            links=outer.options.links + inner.options.links,
            no_index=outer.options.no_index or inner.options.no_index,
        ),
        require_hashes=outer.require_hashes or inner.require_hashes,
        prereleases=outer.prereleases or inner.prereleases,
        files=tuple(dict.fromkeys(outer.files + inner.files)),
        withheld=outer.withheld + inner.withheld,
    )


def _with_option(whole: RequirementList, kind: str, value: str, evidence: Evidence) -> RequirementList:
    options = whole.options
    if kind == "index":
        options = replace(options, index=(value, evidence))
    elif kind == "extra":
        options = replace(options, extra=(*options.extra, (value, evidence)))
    elif kind == "links":
        options = replace(options, links=(*options.links, (value, evidence)))
    elif kind == "--no-index":
        options = replace(options, no_index=True)
    return replace(
        whole,
        options=options,
        require_hashes=whole.require_hashes or kind == "--require-hashes",
        prereleases=whole.prereleases or kind == "--pre",
    )


def _requirement(text: str, evidence: Evidence, *, editable: bool, path: str) -> RequirementLine:
    text, hashes = _split_hashes(text, evidence)
    place = Evidence(evidence.path, evidence.line, text)
    if editable or _is_reference(text):
        name = re.match(r"^([A-Za-z0-9][\w.-]*)\s*(\[[^\]]*\])?\s*@\s*(\S+)", text)
        if not name:
            return RequirementLine(None, place, hashes, editable, text)
    try:
        requirement = Requirement(text)
    except InvalidRequirement as error:
        reason = str(error).splitlines()[0]
        raise BadInput(f"{text!r} is no requirement: {reason}", place=evidence, remedy=_REMEDY) from error
    return RequirementLine(requirement, place, hashes, editable, requirement.url)


def _is_reference(text: str) -> bool:
    first = text.split(";")[0].split(" @ ")[0].strip()
    return (
        "://" in first
        or first.startswith((".", "/"))
        or ("/" in first and not first.startswith("["))
        or _ARCHIVE.search(first.split("[")[0]) is not None
    )


def _split_hashes(text: str, evidence: Evidence) -> tuple[str, dict[str, frozenset[str]]]:
    """The requirement without its per-requirement options, and the hashes they state."""
    head, result, tail = text.partition(" --")
    if not result:
        return text.strip(), {}
    try:
        words = shlex.split("--" + tail)
    except ValueError as error:
        raise BadInput(f"the options cannot be read: {error}", place=evidence, remedy=_REMEDY) from error
    hashes: dict[str, set[str]] = {}
    position = 0
    while position < len(words):
        name, joined, value = words[position].partition("=")
        if not joined and position + 1 < len(words):
            position += 1
            value = words[position]
        position += 1
        if name in ("--config-settings", "--global-option", "--install-option"):
            continue
        if name != "--hash":
            raise BadInput(f"the option {name!r} is not known here", place=evidence, remedy=_REMEDY)
        algorithm, _, digest = value.partition(":")
        try:
            known = Digest.of_hex(algorithm, digest)
        except ValueError as error:
            raise BadInput(
                f"{value[:120]!r} is no hash",
                place=evidence,
                remedy="A hash is written --hash=sha256: followed by 64 hexadecimal digits.",
            ) from error
        hashes.setdefault(known.algorithm, set()).add(known.hex)
    return head.strip(), {name: frozenset(values) for name, values in hashes.items()}
