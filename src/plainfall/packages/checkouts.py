"""Revisions of repositories under git, as packages come from them; and patches put on unpacked files.

Git runs with the transports that cannot run commands of the repository's choosing (gitprotocol), without a
prompt, and without hooks or filters of the repository.
"""

from __future__ import annotations

import os
import re
import subprocess
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

from msgspec import Struct

from plainfall.errors import DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.git_addresses import NO_REDIRECTS, is_redirected, moved_to
from plainfall.patterns import regex
from plainfall.processes import Finished, run
from plainfall.surroundings import passed_on

__all__ = ["COMMIT", "Revision", "apply_patch", "check_out", "file_in_history", "references_of"]

COMMIT = regex(r"[0-9a-f]{40}")
_TRANSPORTS = "https:ssh:file:http:git"
# Objects are checked as they come. Old repositories have some of these flaws, which do no harm.
_HARMLESS = (
    "zeroPaddedFilemode",
    "missingSpaceBeforeDate",
    "badTimezone",
    "missingEmail",
    "badDate",
    "badDateOverflow",
)
_VERIFYING = ["-c", "transfer.fsckObjects=true"]
_VERIFYING += [word for name in _HARMLESS for word in ("-c", f"fetch.fsck.{name}=ignore")]
_LONGEST = 900.0  # seconds that one call of git may take
_MOST_REVISIONS = 2_000
_LARGEST_FILE = 1 << 20  # bytes of a file that is read out of a repository's history


class Revision(Struct, frozen=True):
    """A branch or tag of a repository: its short name, which of both it is, its commit, and the text of the file
    that was asked for."""

    name: str
    is_tag: bool
    commit: str
    text: str


def check_out(
    addresses: Sequence[str],
    revision: str,
    folder: Path,
    variables: Mapping[str, str],
    place: Evidence | None = None,
) -> str:
    """Fetches a revision ("" is the default branch) into a new ``folder``; returns its commit.

    The addresses are tried in order. A repository on this machine is fetched as one elsewhere is, so that git
    computes each object's name from its content (git-clone(1), ``--no-local``), and objects are checked for
    what harms (``transfer.fsckObjects``). Raises DependencyProblem, with what git said of the last one, and for
    a commit that is not the one that was asked for.
    """
    environment = _environment(variables)
    lines: list[str] = []
    _check_words(revision, *addresses, place=place)
    for address in _each_place(addresses, lines, variables):
        for words in (
            [*_VERIFYING, "clone", "--quiet", "--no-checkout", "--no-local", "--", address, str(folder)],
            ["-C", str(folder), "checkout", "--quiet", "--detach", revision or "HEAD", "--"],
        ):
            done = _git(words, environment)
            if done.status:
                lines[:] = done.errors.strip().splitlines()[-4:]
                break
        else:
            commit = _git(["-C", str(folder), "rev-parse", "HEAD"], environment).output.strip()
            if COMMIT.fullmatch(revision) and commit != revision:
                raise DependencyProblem(
                    f"{address} gave {commit} for the commit {revision}",
                    place=place,
                    remedy="Nothing of it was used: it has a branch or tag of a commit's name. Tell who runs it.",
                )
            return commit
        if folder.exists():
            break  # the repository is there, the revision is not: another address has no other
    raise DependencyProblem(
        f"revision {revision or 'HEAD'} of {addresses[-1]} cannot be fetched",
        place=place,
        lines=tuple(lines),
        remedy="Check the address, the revision, and whether you may read that repository.",
    )


def _each_place(
    addresses: Sequence[str], lines: Sequence[str], variables: Mapping[str, str]
) -> Iterator[str]:
    """The addresses in order, each followed by the one that it leads to where git's last ``lines`` say that it
    leads elsewhere."""
    for address in addresses:
        yield address
        if is_redirected("\n".join(lines)):
            moved = moved_to(address, variables)
            if moved != address:
                yield moved


def references_of(addresses: Sequence[str], variables: Mapping[str, str]) -> dict[str, str]:
    """The commits of a repository's branches and tags by their short names, and of ``HEAD``; a tag of its own
    object is given as the commit that it stands for. Raises DependencyProblem."""
    lines: list[str] = []
    _check_words(*addresses)
    for address in _each_place(addresses, lines, variables):
        done = _git(["ls-remote", "--", address], _environment(variables))
        if done.status == 0:
            results: dict[str, str] = {}
            for line in done.output.splitlines():
                commit, _, name = line.partition("\t")
                short = re.sub(r"^refs/(heads|tags)/", "", name)
                results[short.removesuffix("^{}")] = commit
            return results
        lines[:] = done.errors.strip().splitlines()[-4:]
    raise DependencyProblem(
        f"{addresses[-1]} cannot be asked for its revisions",
        lines=tuple(lines),
        remedy="Check the address, and whether you may read that repository.",
    )


def file_in_history(
    address: str, path: str, variables: Mapping[str, str], place: Evidence | None = None
) -> Iterator[Revision]:
    """What a file says at each branch and tag of a repository that has it. Raises DependencyProblem, with what git
    said, where the repository cannot be fetched."""
    _check_words(address, place=place)
    environment = _environment(variables)
    with tempfile.TemporaryDirectory(prefix="plainfall-history-") as name:
        folder = str(Path(name, "bare"))
        done = _git(
            [*_VERIFYING, "clone", "--quiet", "--bare", "--no-local", "--", address, folder], environment
        )
        if done.status:
            raise DependencyProblem(
                f"{address} cannot be fetched",
                place=place,
                lines=tuple(done.errors.strip().splitlines()[-4:]),
                remedy="Check the address, and whether you may read that repository.",
            )
        form = "--format=%(refname)%09%(objectname)%09%(*objectname)"
        listed = _git(["-C", folder, "for-each-ref", form, "refs/heads", "refs/tags"], environment)
        for line in listed.output.splitlines()[:_MOST_REVISIONS]:
            reference, own, of_tag = line.split("\t")
            kind, _, short = reference.removeprefix("refs/").partition("/")
            commit = of_tag or own
            size = _git(["-C", folder, "cat-file", "-s", f"{commit}:{path}"], environment)
            if size.status or int(size.output) > _LARGEST_FILE:
                continue
            text = _git(["-C", folder, "cat-file", "blob", f"{commit}:{path}"], environment).output
            yield Revision(short, kind == "tags", commit, text)


def apply_patch(patch: Path, folder: Path, variables: Mapping[str, str]) -> None:
    """Changes the files below ``folder`` as a unified diff says (paths with ``a/`` and ``b/`` before them).

    Raises DependencyProblem, with git's own lines, if it does not fit; then nothing is changed.
    """
    # Nothing above the folder counts as its repository, so that the paths are the folder's own.
    environment = {**_environment(variables), "GIT_CEILING_DIRECTORIES": str(folder.parent.resolve())}
    done = _git(["apply", "--whitespace=nowarn", str(patch.resolve())], environment, folder)
    if done.status:
        raise DependencyProblem(
            f"the patch {patch.name} does not fit {folder.name}",
            lines=tuple(done.errors.strip().splitlines()[-4:]),
            remedy="It was made for another version: take the version that it names, or make it again.",
        )


def _environment(variables: Mapping[str, str]) -> dict[str, str]:
    return {
        **passed_on(variables, for_git=True),
        "GIT_TERMINAL_PROMPT": "0",
        "GIT_ALLOW_PROTOCOL": _TRANSPORTS,
        "GIT_LFS_SKIP_SMUDGE": "1",
        "LC_ALL": "C",
        "PATH": variables.get("PATH") or os.defpath,
    }


def _check_words(*words: str, place: Evidence | None = None) -> None:
    """Raises DependencyProblem for an address or revision that git would read as an option."""
    for word in words:
        if word.startswith("-") or any(sign in word for sign in "\0\n"):
            raise DependencyProblem(
                f"{word!r} is no address or revision of a repository",
                place=place,
                remedy="Correct it in the list or lock that names it.",
            )


def _git(words: Sequence[str], environment: Mapping[str, str], folder: Path | None = None) -> Finished:
    command = ["git", *NO_REDIRECTS, "-c", "core.hooksPath=/dev/null", "-c", "core.fsmonitor=false", *words]
    try:
        return run(command, environment, folder=folder or "/", seconds=_LONGEST)
    except FileNotFoundError as error:
        raise DependencyProblem(
            "git is not on the path, and a package or a patch of this clone needs it",
            remedy="Install git, then run the same command again.",
        ) from error
    except subprocess.TimeoutExpired as error:
        raise DependencyProblem(
            f"git did not end within {_LONGEST:.0f} s ({words[0]})",
            remedy="Check whether that repository can be reached, then run the same command again.",
        ) from error
