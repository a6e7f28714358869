"""Packages from repositories: what an address means, and which files of a checkout are the package."""

from __future__ import annotations

import os
import re
import shutil
import stat
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainfall.errors import BadInput, DependencyProblem
from plainfall.ignoring import ignore_rules
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import COMMIT
from plainfall.packages.unpacking import Unpacked
from plainfall.patterns import regex
from plainfall.plain_files import plain_bytes, plain_text
from plainfall.reading import foreign_json

if TYPE_CHECKING:
    from pathspec import GitIgnoreSpec

__all__ = ["RepositorySource", "pack", "plain_files", "repository_source"]

# Short forms that manifests use, and the hosts that they stand for.
_HOSTS = {"github": "github.com", "gitlab": "gitlab.com", "bitbucket": "bitbucket.org"}
_SHORT = regex(r"(?:(github|gitlab|bitbucket):)?([A-Za-z0-9][\w.-]*/[\w.-]+?)(?:\.git)?(?:#(.*))?")
_SCP = regex(r"(?:git\+ssh://)?((?:[\w.-]+@)?[\w.-]+):(?!//|\d+/)([^#]+)")
_ALWAYS = regex(r"(package\.json|readme(\..*)?|licen[cs]e(\..*)?)", re.IGNORECASE)
_NEVER = regex(
    r"\.git|CVS|\.svn|\.hg|\.lock-wscript|\.wafpickle-\d+|\..*\.swp|\.DS_Store|\._.*|npm-debug\.log|\.npmrc"
    r"|config\.gypi|.*\.orig|package-lock\.json|yarn\.lock|pnpm-lock\.yaml|node_modules"
)
_PACKING = 1  # changes with what `pack` makes of the same checkout


class RepositorySource(Struct, frozen=True):
    """A repository: ``addresses`` to try in order, ``revision`` ("" is the default branch), or the ``range``
    that a version tag must be in; ``folder`` within it."""

    addresses: tuple[str, ...]
    revision: str = ""
    range: str = ""
    folder: str = ""

    @property
    def key(self) -> CacheKey | None:
        """The cache's key, known beforehand only for a whole commit id."""
        return self.key_of(self.revision) if COMMIT.fullmatch(self.revision) else None

    def key_of(self, commit: str) -> CacheKey:
        """The cache's key of a commit."""
        return CacheKey.of_statement("node", self.addresses, commit, self.folder, _PACKING)

    def pinned(self, commit: str) -> str:
        """The address with the commit, as locks write it."""
        inner = f"&path:{self.folder}" if self.folder else ""
        return f"git+{self.addresses[0]}#{commit}{inner}"


def repository_source(text: str) -> RepositorySource | None:
    """What an address of a lock or manifest means; None if it is no repository's."""
    if not text or text.endswith(".tgz"):
        return None
    short = _SHORT.fullmatch(text)
    if short and not text.startswith((".", "~", "/", "@")):
        host = _HOSTS[short.group(1) or "github"]
        path = short.group(2)
        return _source((f"https://{host}/{path}.git", f"ssh://git@{host}/{path}.git"), short.group(3) or "")
    address, _, fragment = text.partition("#")
    scp = _SCP.fullmatch(address)
    if scp and "@" in scp.group(1):
        return _source(_both(f"ssh://{scp.group(1)}/{scp.group(2).lstrip('/')}"), fragment)
    if address.startswith(("git+", "git:", "ssh:")):
        return _source(_both(address.removeprefix("git+")), fragment)
    is_file = address.startswith(("http://", "https://")) and address.endswith(".git")
    return _source((address,), fragment) if is_file else None


def _both(address: str) -> tuple[str, ...]:
    """For hosts that give public repositories to anyone, the way that needs no key is tried first."""
    match = re.match(r"ssh://(?:[^@/]+@)?([^:/]+)/(.+)$", address)
    if match and match.group(1) in _HOSTS.values():
        return f"https://{match.group(1)}/{match.group(2)}", address
    return (address,)


def _source(addresses: tuple[str, ...], fragment: str) -> RepositorySource:
    revision = wanted = folder = ""
    for word in fragment.split("&"):
        if word.startswith("semver:"):
            wanted = word.removeprefix("semver:")
        elif word.startswith("path:"):
            folder = word.removeprefix("path:").strip("/")
        elif re.match(r"(commit|head|tag)=", word):
            revision = word.partition("=")[2]
        elif "=" not in word and word:
            revision = word
    if ".." in folder.split("/"):
        raise DependencyProblem(f"{addresses[0]}: the folder {folder!r} leads out of the repository")
    return RepositorySource(addresses, revision, wanted, folder)


def pack(checkout: Path, folder: Path) -> list[Unpacked]:
    """Copies the files that the package consists of into a new folder and lists them: what its manifest's
    ``files`` name, else all that its ignore files leave; links are skipped. Raises DependencyProblem."""
    try:
        document = foreign_json(plain_bytes(checkout / "package.json"), "package.json")
    except (OSError, BadInput) as error:
        raise DependencyProblem(f"the repository has no package.json that can be read: {error}") from error
    packed = _packed(checkout, document if isinstance(document, dict) else {})
    return _copied(checkout, folder, sorted(packed))


def plain_files(checkout: Path, folder: Path, left_out: list[str]) -> list[Unpacked]:
    """Copies every file of a checkout but for those that its ignore rules (gitignore(5)) name, and links."""
    rules = ignore_rules(["/.git", *left_out])
    result = (one for one in checkout.rglob("*") if one.is_file() and not one.is_symlink())
    paths = sorted(one.relative_to(checkout).as_posix() for one in result)
    return _copied(checkout, folder, [path for path in paths if not rules.match_file(path)])


def _copied(checkout: Path, folder: Path, paths: list[str]) -> list[Unpacked]:
    made: list[Unpacked] = []
    for path in paths:
        target = folder / path
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(checkout / path, target)
        runs = os.stat(checkout / path).st_mode & 0o111
        os.chmod(target, 0o755 if runs else 0o644)
        state = os.stat(target)
        made.append(Unpacked(path, stat.S_IMODE(state.st_mode), state.st_size, state.st_mtime_ns))
    return made


def _packed(checkout: Path, document: Mapping[str, Any]) -> Iterator[str]:
    named = document.get("files")
    chosen = None
    if isinstance(named, list):
        rows = [str(row).removeprefix("./") for row in named]
        chosen = ignore_rules(_anchored(row) for row in rows)
    bins = document.get("bin")
    entire = [document.get("main"), *(bins.values() if isinstance(bins, dict) else [bins])]
    entries = {str(one).removeprefix("./") for one in entire if one}
    for path in _files(checkout, "", [], by_list=chosen is not None):
        top = "/" not in path
        if path in entries or (top and _ALWAYS.fullmatch(path)) or chosen is None or chosen.match_file(path):
            yield path


def _anchored(row: str) -> str:
    """An entry of ``files`` counts from the top, and may be excluded again with ``!``."""
    mark, plain = ("!", row[1:]) if row.startswith("!") else ("", row)
    return f"{mark}/{plain.lstrip('/')}"


def _files(
    checkout: Path, inner: str, ignored: list[tuple[str, GitIgnoreSpec]], *, by_list: bool
) -> Iterator[str]:
    """Paths below a folder that its ignore files leave (at the top they count only without ``files``)."""
    folder = checkout / inner
    rules = list(ignored)
    for name in (".npmignore", ".gitignore"):
        if (folder / name).is_file() and not (by_list and not inner):
            text = plain_text(folder / name, "utf-8", "replace")
            rules.append((f"{inner}/" if inner else "", ignore_rules(text.splitlines())))
            break
    for entry in sorted(os.scandir(folder), key=lambda one: one.name):
        path = f"{inner}/{entry.name}" if inner else entry.name
        if _NEVER.fullmatch(entry.name) or entry.is_symlink():
            continue
        if entry.is_dir():
            if not _is_ignored(f"{path}/", rules):
                yield from _files(checkout, path, rules, by_list=by_list)
        elif not _is_ignored(path, rules) and entry.name not in (".npmignore", ".gitignore"):
            yield path


def _is_ignored(path: str, rules: list[tuple[str, GitIgnoreSpec]]) -> bool:
    return any(spec.match_file(path[len(prefix) :]) for prefix, spec in rules)
