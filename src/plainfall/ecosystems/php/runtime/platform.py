"""What a clone needs of the machine beside PHP's version: extensions, of the manifest and of every package."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Mapping
from typing import Any

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.ecosystems.php.lists.manifests import LOCK, MANIFEST, Locked, manifest, mapping, read_lock
from plainfall.ecosystems.php.resolve.versions import admits, is_constraint
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = ["ExtensionNeed", "extension_needs", "lacking_words", "system_package", "unfit"]

# Extensions that Debian and its kin bring under another name than their own; "" is part of every PHP there.
_PACKAGES = {
    "dom": "xml", "simplexml": "xml", "xmlreader": "xml", "xmlwriter": "xml", "xsl": "xml", "xml": "xml",
    "pdo_mysql": "mysql", "mysqli": "mysql", "mysqlnd": "mysql", "pdo_pgsql": "pgsql", "pgsql": "pgsql",
    "pdo_sqlite": "sqlite3", "sqlite3": "sqlite3", "zend-opcache": "opcache", "pdo_odbc": "odbc",
    "pdo_dblib": "sybase", "ctype": "common", "fileinfo": "common", "iconv": "common", "pdo": "common",
    "tokenizer": "common", "sockets": "common", "phar": "common", "posix": "common", "gettext": "common",
    "exif": "common", "ftp": "common", "calendar": "common", "sysvmsg": "common", "sysvsem": "common",
    "sysvshm": "common", "shmop": "common", "ffi": "common",
}  # fmt: skip
_OWN_PACKAGE = (
    "amqp", "apcu", "ds", "gnupg", "igbinary", "imagick", "mailparse", "memcached", "mongodb", "msgpack", "oauth",
    "pcov", "raphf", "redis", "ssh2", "uuid", "xdebug", "yaml",
)  # fmt: skip


# Such a name becomes part of a command line that people are told to run.
_EXTENSION = regex(r"ext-[a-z0-9_][a-z0-9_. -]{0,60}", re.IGNORECASE)


class ExtensionNeed(Struct, frozen=True):
    """An extension, in its normal name, and who asks for it where."""

    name: str
    asked_by: str
    evidence: Evidence


def _plain(name: str) -> str:
    return name.lower().removeprefix("ext-").replace(" ", "-")


def extension_needs(tree: Tree, folder: str) -> list[ExtensionNeed]:
    """The extensions that the manifest and the lock's packages ask for, those for development alone aside; what a
    package of the lock stands in for is left out. Raises BadInput."""
    place = f"{folder}/" if folder else ""
    document = manifest(tree, folder)
    packages: tuple[Locked, ...] = ()
    if place + LOCK in tree:
        packages = read_lock(tree.root, place + LOCK).packages
    stood_for = {name for one in packages for name in one.stands_for}
    found: dict[str, ExtensionNeed] = {}
    rows: list[tuple[Iterable[str], str, str]] = [
        (_names(document, "require"), "the manifest", place + MANIFEST),
        *((one.requires, one.label, place + LOCK) for one in packages if not one.is_dev),
    ]
    for names, who, path in rows:
        for name in names:
            if _EXTENSION.fullmatch(name) and name.lower() not in stood_for:
                evidence = tree.line_of(path, f'"{name}"')
                found.setdefault(_plain(name), ExtensionNeed(_plain(name), who, evidence))
    return list(found.values())


def unfit(package: Locked, php: str, extensions: Collection[str], stood_for: Collection[str]) -> str:
    """Why a PHP of that version with these extensions cannot take a package; "" where it can."""
    for name, wanted in package.requires.items():
        if name.lower() == "php" and is_constraint(wanted) and not admits(wanted, php):
            return f"{package.label} needs PHP {wanted}"
        is_lacking = _EXTENSION.fullmatch(name) and name.lower() not in stood_for
        if extensions and is_lacking and _plain(name) not in extensions:
            return f"{package.label} needs the extension {_plain(name)}"
    return ""


def _names(document: Mapping[str, Any], table: str) -> Iterable[str]:
    return mapping(document.get(table))


def system_package(name: str, version: str) -> str:
    """The package that brings an extension to a PHP of that version on Debian and its kin."""
    line = re.match(r"\d+\.\d+", version)
    short = _PACKAGES.get(name, name.replace("_", "-"))
    if name in _OWN_PACKAGE or line is None:
        return f"php-{short}"
    return f"php{line.group()}-{short}"


def lacking_words(needs: Iterable[ExtensionNeed], version: str) -> tuple[list[str], str]:
    """A line for each extension that is lacking, and what to install for them all."""
    lines, packages = [], []
    for one in needs:
        lines.append(f"{one.name}: {one.asked_by} asks for it ({one.evidence})")
        packages.append(system_package(one.name, version))
    return lines, " ".join(dict.fromkeys(packages))
