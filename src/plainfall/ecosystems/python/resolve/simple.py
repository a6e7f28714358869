"""Project pages of a package index: the simple repository interface in its HTML and JSON forms (PEP 503,
592, 629, 658, 691, 700, 714). Bytes in, frozen values out."""

from __future__ import annotations

import re
from collections.abc import Mapping
from urllib.parse import unquote, urldefrag, urljoin, urlsplit

from msgspec import Struct, field
from msgspec.structs import force_setattr

from plainfall.errors import BadInput, RegistryProblem
from plainfall.evidence import Evidence
from plainfall.packages.digests import ALGORITHMS, Digest
from plainfall.patterns import regex
from plainfall.reading import foreign_json

__all__ = ["ACCEPT", "IndexFile", "listed_file", "parse_page"]

ACCEPT = "application/vnd.pypi.simple.v1+json, application/vnd.pypi.simple.v1+html;q=0.2, text/html;q=0.1"


_FILE_NAME = regex(r"[A-Za-z0-9_][^/\\\0-\x1f\x7f\"']*")


class IndexFile(Struct, frozen=True):
    """One archive that an index offers or a lock names. ``yanked`` is None, or the reason (maybe empty);
    ``metadata`` tells whether its METADATA can be had alone at ``url + ".metadata"``; ``uploaded`` is the time of
    upload (ISO 8601, "" if not said), ``size`` in bytes, None if not said. Raises ValueError for a name that is no
    plain file name, or a hash that is none; hashes of algorithms that are not known are left out."""

    filename: str
    url: str
    hashes: Mapping[str, str] = field(default_factory=dict)
    requires_python: str | None = None
    yanked: str | None = None
    metadata: bool = False
    size: int | None = None
    uploaded: str = ""

    def __post_init__(self) -> None:
        name = self.filename
        if not _FILE_NAME.fullmatch(name) or len(name.encode("utf-8", "replace")) > 240:
            raise ValueError(f"{name[:120]!r} is no name of an archive")
        known = {key: value for key, value in self.hashes.items() if key in ALGORITHMS}
        for algorithm, digest in known.items():
            Digest(algorithm, digest)
        force_setattr(self, "hashes", known)


def listed_file(
    filename: str, url: str, hashes: Mapping[str, str], place: Evidence, size: int | None = None
) -> IndexFile:
    """An archive as a lock names it. Raises BadInput, with the lock's place, for one that no lock would."""
    try:
        return IndexFile(filename, url, hashes, size=size)
    except ValueError as error:
        raise BadInput(
            f"it names an archive wrongly: {error}",
            place=place,
            remedy="Write the lock again with the tool that made it, or restore it.",
        ) from error


def parse_page(body: bytes, media_type: str, url: str) -> list[IndexFile]:
    """The archives on a project page; addresses made absolute against ``url``.

    Archives that a page of a server places on this machine's disk are left out. Raises RegistryProblem for a
    page of another kind, of a newer major version (PEP 629), or that states something that is no hash.
    """
    files = _parsed(body, media_type, url)
    schemes = ("http", "https", "file") if url.startswith("file:") else ("http", "https")
    return [file for file in files if urlsplit(file.url).scheme in schemes]


def _parsed(body: bytes, media_type: str, url: str) -> list[IndexFile]:
    if media_type.endswith("+json") or media_type == "application/json":
        return _parse_json(body, url)
    if media_type.endswith("html") or not media_type:
        return _parse_html(body, url)
    raise RegistryProblem(
        f"{url} answered with {media_type}, not with a package page",
        remedy="Check the index address: it usually ends in /simple/.",
    )


def _check_version(version: str, url: str) -> None:
    if version.partition(".")[0] != "1":
        raise RegistryProblem(
            f"{url} speaks version {version} of the index interface; version 1 is known here",
            remedy="Update Plainfall, or use an index that speaks version 1.",
        )


def _parse_json(body: bytes, url: str) -> list[IndexFile]:
    try:
        page = foreign_json(body, url)
        _check_version(str(page["meta"]["api-version"]), url)
        return [_json_file(row, url) for row in page["files"]]
    except BadInput as error:
        raise RegistryProblem(f"{url} is not a package page: {error.cause}") from error
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise RegistryProblem(f"{url} is not a package page: {str(error)[:300]}") from error


def _json_file(row: Mapping[str, object], url: str) -> IndexFile:
    yanked = row.get("yanked", False)
    hashes = row.get("hashes")
    metadata = row.get("core-metadata", row.get("dist-info-metadata", False))
    size = row.get("size")
    requires = row.get("requires-python")
    return IndexFile(
        filename=str(row["filename"]),
        url=urljoin(url, str(row["url"])),
        hashes={str(k): str(v) for k, v in hashes.items()} if isinstance(hashes, dict) else {},
        requires_python=str(requires) if requires else None,
        yanked=None if yanked is False else ("" if yanked is True else str(yanked)),
        metadata=bool(metadata),
        size=size if isinstance(size, int) else None,
        uploaded=str(row.get("upload-time") or ""),
    )


def _parse_html(body: bytes, url: str) -> list[IndexFile]:
    from selectolax.lexbor import LexborHTMLParser

    try:
        page = LexborHTMLParser(body.decode("utf-8", "replace"))
        base, files = url, []
        for node in page.css("base[href], meta[content], a[href]"):
            values = node.attributes
            if node.tag == "base":
                base = urljoin(base, values["href"] or "")
            elif node.tag == "meta":
                if values.get("name") == "pypi:repository-version":
                    _check_version(values["content"] or "1.0", url)
            elif (file := _anchor(values, base)) is not None:
                files.append(file)
    except ValueError as error:
        raise RegistryProblem(f"{url} is not a package page: {str(error)[:300]}") from error
    return files


def _anchor(values: Mapping[str, str | None], base: str) -> IndexFile | None:
    address, fragment = urldefrag(urljoin(base, values["href"] or ""))
    filename = unquote(urlsplit(address).path.rpartition("/")[2])
    if not re.search(r"\.(whl|zip|tar\.gz|tgz|tar\.bz2|tar\.xz)$", filename):
        return None
    algorithm, joined, digest = fragment.partition("=")
    metadata = values.get("data-core-metadata", values.get("data-dist-info-metadata", "false"))
    return IndexFile(
        filename=filename,
        url=address,
        hashes={algorithm: digest} if joined and algorithm in ALGORITHMS else {},
        requires_python=values.get("data-requires-python") or None,
        yanked=(values["data-yanked"] or "") if "data-yanked" in values else None,
        metadata=metadata != "false",
    )
