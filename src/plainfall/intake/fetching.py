"""A repository fetched by git, which runs nothing of the repository's choosing: no hooks, no transports that are
commands, no prompt. It is given up after a time without a word."""

from __future__ import annotations

import os
import re
import select
import subprocess
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from plainfall.errors import IntakeFailed
from plainfall.intake.sources import Source
from plainfall.packages.client import without_credentials
from plainfall.packages.git_addresses import NO_REDIRECTS, is_redirected, moved_to
from plainfall.packages.logins import may_lead
from plainfall.patterns import regex
from plainfall.processes import run, started
from plainfall.surroundings import passed_on

__all__ = ["branches_of", "fetch", "is_clone_of"]

_SILENCE = 60.0  # seconds without a byte after which fetching is given up
_PIECE = 4096
_DEEPEST = 5  # submodules within submodules
_PROGRESS = regex(
    r"(Receiving objects|Resolving deltas|Updating files|Counting objects):\s+(\d{1,3})% \([^)]{1,40}\)"
    r"(?:, ([\d.]+ \wi?B))?"
)
_SAFE = (
    *NO_REDIRECTS,
    "-c",
    "core.hooksPath=/dev/null",
    "-c",
    "core.fsmonitor=false",
    "-c",
    "advice.detachedHead=false",
)
# What git says, and what it means to people; the first that fits counts.
_MEANINGS = (
    (r"dubious ownership|safe\.directory", "the repository belongs to another user of this machine: git refuses it",
     "If you trust that user, allow it: git config --global --add safe.directory FOLDER"),
    (r"Host key verification failed|REMOTE HOST IDENTIFICATION HAS CHANGED", "the host's key is not known here",
     "Connect once by hand and compare its key: ssh HOST"),
    (r"Permission denied \(|publickey|could not read Username|Authentication failed|terminal prompts disabled|"
     r"[Rr]epository .{0,300}not found|does not appear to be a git repository|HTTP 40[134]|"
     r"returned error: 40[134]|does not exist",
     "there is no such repository, or you have no right to it (hosts answer both alike)",
     "Check the address; for a private one see that your key or login is set up for git."),
    (r"Could not resolve host|Name or service not known|Temporary failure in name", "the host's name is not known",
     "Check the address and the network."),
    (r"Connection refused|Connection timed out|Failed to connect|unable to connect|No route to host|timed out",
     "the host cannot be reached", "Check the address, the network and the proxy."),
    (r"No space left on device|Disk quota exceeded", "the disk is full",
     "Make room, and run the same command again."),
    (r"early EOF|unexpected disconnect|RPC failed|transfer closed|hung up unexpectedly|bad pack|curl \d+",
     "the connection broke before everything was there", "Run the same command again; nothing half-made was kept."),
    (r"transport '.{1,40}' not allowed", "that kind of address is not fetched",
     "Use https, ssh, or a folder of this machine."),
    (r"not a bundle|does not look like a v2|unrecognized header", "the file is no bundle of a repository",
     "Name a repository, a bundle file, or an archive."),
)  # fmt: skip


def _environment(variables: Mapping[str, str], *, local: bool, plain: bool) -> dict[str, str]:
    transports = ["https", "ssh", "git", *(["file"] if local else []), *(["http"] if plain else [])]
    return {
        **passed_on(variables, for_git=True),
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_ALLOW_PROTOCOL": ":".join(transports),
        "GIT_LFS_SKIP_SMUDGE": "1",
        "LC_ALL": "C",
        "PATH": variables.get("PATH") or os.defpath,
    }


def fetch(
    source: Source, branch: str, folder: Path, variables: Mapping[str, str], tell: Callable[[str], None]
) -> list[str]:
    """Clones into a new folder and checks out a branch, tag or commit ("": what the repository says); submodules
    come too, from where fetching itself may go. Returns what is to be said besides. Raises IntakeFailed."""
    plain = source.address.startswith("http://")
    environment = _environment(variables, local=source.is_here, plain=plain)
    words = ["clone", "--progress", *(["--branch", branch] if branch and not _is_commit(branch) else [])]
    status, lines = _told([*words, "--", source.address, str(folder)], environment, folder.parent, tell)
    if status and is_redirected("\n".join(lines)):
        moved = moved_to(source.address, variables)
        if moved != source.address:
            status, lines = _told([*words, "--", moved, str(folder)], environment, folder.parent, tell)
    if status:
        raise _explained(source, branch, lines, environment)
    if branch and _is_commit(branch):
        done = _git(["-C", str(folder), "checkout", "--quiet", "--detach", branch, "--"], environment)
        if done.returncode:
            raise _no_branch(source, branch, environment)
    return _submodules(folder, "" if source.is_here else source.address, environment, tell)


def _is_commit(branch: str) -> bool:
    return re.fullmatch(r"[0-9a-f]{7,40}", branch) is not None


def _git(words: Sequence[str], environment: Mapping[str, str]) -> subprocess.CompletedProcess[str]:
    done = run(["git", *_SAFE, *words], environment, folder="/", seconds=_SILENCE)
    return subprocess.CompletedProcess(words, done.status, done.output, done.errors)


def _told(
    words: Sequence[str], environment: Mapping[str, str], folder: Path, tell: Callable[[str], None]
) -> tuple[int, list[str]]:
    """Runs git and tells of its progress; its status and last lines. Raises IntakeFailed after a time of
    silence."""
    pending, lines, last = b"", [], time.monotonic()
    try:
        with started(
            ["git", *_SAFE, *words], environment, folder=folder, stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        ) as process:  # fmt: skip
            assert process.stderr is not None
            handle = process.stderr.fileno()
            while True:
                ready, _, _ = select.select([handle], [], [], 1.0)
                if ready:
                    piece = os.read(handle, _PIECE)
                    if not piece:
                        break
                    last = time.monotonic()
                    *whole, pending = re.split(rb"[\r\n]", pending + piece)
                    for row in whole:
                        text = row.decode("utf-8", "replace").strip()
                        match = _PROGRESS.search(text)
                        if match:
                            size = f", {match.group(3)}" if match.group(3) else ""
                            tell(f"{match.group(1).lower()} {match.group(2)} %{size}")
                        elif text:
                            lines.append(text)
                elif time.monotonic() - last > _SILENCE:
                    raise IntakeFailed(
                        f"git got no byte for {_SILENCE:.0f} s and was ended",
                        lines=tuple(lines[-4:]),
                        remedy="Check the network and the address, and run the same command again.",
                    )
            return process.wait(), [*lines, *([pending.decode("utf-8", "replace")] if pending else [])][-12:]
    except FileNotFoundError as error:
        raise IntakeFailed(
            "git is not on the path", remedy="Install git, then run the same command again."
        ) from error


def _explained(
    source: Source, branch: str, lines: Sequence[str], environment: Mapping[str, str]
) -> IntakeFailed:
    text = "\n".join(lines)
    shown = without_credentials(source.address)
    if branch and re.search(r"Remote branch .{0,300} not found|Could not find remote branch", text):
        return _no_branch(source, branch, environment)
    for pattern, cause, remedy in _MEANINGS:
        if re.search(pattern, text):
            return IntakeFailed(f"{shown}: {cause}", lines=tuple(lines[-4:]), remedy=remedy)
    return IntakeFailed(
        f"{shown} cannot be cloned", lines=tuple(lines[-4:]), remedy="Read what git says above."
    )


def _no_branch(source: Source, branch: str, environment: Mapping[str, str]) -> IntakeFailed:
    there = branches_of(source, environment)
    shown = ", ".join(there[:12]) + (f" and {len(there) - 12} more" if len(there) > 12 else "")
    return IntakeFailed(
        f"{without_credentials(source.address)} has no branch, tag or commit {branch[:80]!r}",
        lines=(f"there are: {shown}",) if there else (),
        remedy="Name one that is there with --branch.",
    )


def branches_of(source: Source, environment: Mapping[str, str]) -> list[str]:
    """The branches and tags of a repository; empty where it cannot be asked."""
    done = _git(["ls-remote", "--heads", "--tags", "--refs", "--", source.address], environment)
    names = (line.partition("\t")[2] for line in done.stdout.splitlines())
    return [re.sub(r"^refs/(heads|tags)/", "", name) for name in names if name]


def _submodules(
    folder: Path, origin: str, environment: Mapping[str, str], tell: Callable[[str], None], depth: int = 0
) -> list[str]:
    """Fetches submodules, level by level; what could not be fetched is said, since the rest may do. None of a
    repository that came from elsewhere (``origin``) is fetched from this machine."""
    if not (folder / ".gitmodules").is_file() or depth > _DEEPEST:
        return []
    done = _git(
        ["-C", str(folder), "config", "--file", ".gitmodules", "--get-regexp", r"\.(path|url)$"], environment
    )
    rows: dict[str, dict[str, str]] = {}
    for line in done.stdout.splitlines():
        key, _, value = line.partition(" ")
        name, _, piece = key.partition(".")[2].rpartition(".")
        rows.setdefault(name, {})[piece] = value
    remarks = []
    for row in rows.values():
        path, url = row.get("path", ""), row.get("url", "")
        if not path or path.startswith(("-", "/")) or ".." in path.split("/"):
            continue
        if origin and "://" in url and not may_lead(origin, url):
            remarks.append(f"the submodule {path} is on this machine ({url[:120]}), and was not fetched")
            continue
        words = ["-C", str(folder), "submodule", "update", "--init", "--progress", "--", path]
        status, lines = _told(words, environment, folder, tell)
        if status:
            said = next((line for line in reversed(lines) if re.search(r"fatal|error|not allowed", line)), "")
            remarks.append(
                f"the submodule {path} could not be fetched ({said[:200]}): git submodule update --init says more"
            )
            continue
        remarks += _submodules(folder / path, origin, environment, tell, depth + 1)
    return remarks


def is_clone_of(folder: Path, source: Source, variables: Mapping[str, str]) -> bool:
    """Whether a folder is a clone of that very repository."""
    if not (folder / ".git").exists():
        return False
    environment = _environment(variables, local=True, plain=True)
    done = _git(["-C", str(folder), "config", "--local", "--get", "remote.origin.url"], environment)
    said = done.stdout.strip().rstrip("/").removesuffix(".git")
    return bool(said) and said == source.address.rstrip("/").removesuffix(".git")
