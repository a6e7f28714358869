"""What the server program of a kind of service is run with, and what each kind's module has to offer."""

from __future__ import annotations

import contextlib
import importlib
import os
import pkgutil
import pwd
import re
import shutil
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path
from typing import Any, Protocol

from msgspec import Struct, field

from plainfall import processes
from plainfall.errors import ServiceFailed
from plainfall.services import engines as _folder

__all__ = [
    "Account",
    "Engine",
    "Owner",
    "Place",
    "Program",
    "Reach",
    "WithoutCopies",
    "engine_of",
    "engines",
    "found_programs",
    "is_of_the_machine",
    "room_wanted",
]


class Account(Struct, frozen=True):
    """Who comes in with what, and to which database; "" where the kind has no such thing or nobody says it."""

    user: str = ""
    password: str = ""
    database: str = ""


class Program(Struct, frozen=True):
    """A server program of this machine: its path, and its version as people write it ("15.8")."""

    path: Path
    version: str

    @property
    def major(self) -> str:
        """The release line whose data it can read."""
        return self.version.split(".", 1)[0]

    @property
    def order(self) -> tuple[int, ...]:
        """Newer ones are greater."""
        return tuple(int(piece) for piece in re.findall(r"\d+", self.version))


class Owner(Struct, frozen=True):
    """The unprivileged user that a server runs as where this process is root's, since servers refuse root."""

    name: str
    user: int
    group: int

    @classmethod
    def needed(cls) -> Owner | None:
        """Such a user where this process is root's, else None. Raises ServiceFailed where there is none."""
        if os.geteuid() != 0:
            return None
        try:
            known = pwd.getpwnam("nobody")
        except KeyError:
            raise ServiceFailed(
                "servers refuse to run as root, and this system has no user called nobody",
                remedy="Run Plainfall as an ordinary user.",
            ) from None
        return cls(known.pw_name, known.pw_uid, known.pw_gid)

    def options(self) -> dict[str, Any]:
        """What starts a process as that user (subprocess.Popen): no other groups."""
        return {"user": self.user, "group": self.group, "extra_groups": ()}


class Place(Struct, frozen=True):
    """Where one private server lives: its data, the folder of its socket (a short path), who owns both."""

    data: Path
    sockets: Path
    owner: Owner | None = None
    variables: Mapping[str, str] = field(default_factory=dict)

    def run(self, words: Sequence[str], seconds: float = 60.0) -> processes.Finished:
        """Runs a program as the owner to its end. Raises ServiceFailed with its last lines for another status
        than 0."""
        more = self.owner.options() if self.owner else {}
        done = processes.run(words, self.variables, folder="/", seconds=seconds, **more)
        if done.status != 0:
            lines = (done.errors or done.output).strip().splitlines()
            raise ServiceFailed(
                f"{Path(words[0]).name} ended with status {done.status}",
                lines=tuple(lines[-6:]),
                remedy=room_wanted("\n".join(lines), self.data)
                or "Read the lines above; the data folder is as it was.",
            )
        return done

    def write(self, name: str, text: str) -> Path:
        """Writes a file of ours into the data folder, whatever stands there, for the owner alone; returns its
        path."""
        file = self.data / name
        with contextlib.suppress(FileNotFoundError):
            file.unlink()
        handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600)
        with open(handle, "w", encoding="utf-8") as opened:
            opened.write(text)
        self.own(file)
        return file

    def own(self, path: Path) -> None:
        """Gives a path, and what is below it, to the owner."""
        if self.owner is None:
            return
        os.chown(path, self.owner.user, self.owner.group, follow_symlinks=False)
        for root, folders, files in os.walk(path):
            for name in (*folders, *files):
                os.chown(os.path.join(root, name), self.owner.user, self.owner.group, follow_symlinks=False)


def room_wanted(said: str, folder: Path) -> str:
    """What to do where a server's own words say that a disk is full, with what is free where its data lies; "" for
    other words."""
    if not re.search(r"(?i)no space left on device|errno:? 28\b|disk quota exceeded|disk is full", said):
        return ""
    there = next(one for one in folder.parents if one.exists())
    free = shutil.disk_usage(there).free // 1024**2
    return (
        f"The disk is full ({free:,} MB are free in {there}): make room and run the same command again, it goes "
        "on there; nothing that was in the data folder is lost."
    )


class Reach(Struct, frozen=True):
    """What an address that somebody named answers: "silent" (nothing listens), "other" (another kind of server, or
    one that lets us not in), "no database" (it may be made there), "empty", "filled"."""

    state: str
    detail: str = ""


class Engine(Protocol):
    """One kind's server: ``kind`` is its name, ``title`` the one for people; ``stop_signal`` asks it to end well;
    ``restarts_for_accounts`` tells that it learns of who comes in at its start alone, ``leaves_root`` that it runs
    as an unprivileged user where this process is root's, ``keeps_rows`` that it holds tables that belong to one
    making of its data, ``localhost_is_a_socket`` that its drivers take the name for a socket, whatever port is
    given."""

    kind: str
    title: str
    stop_signal: int
    restarts_for_accounts: bool
    leaves_root: bool
    keeps_rows: bool
    localhost_is_a_socket: bool

    def programs(self, path: Sequence[str]) -> list[Program]:
        """The server programs of this machine, the newest first; ``path`` are the folders to look in."""

    def made_by(self, data: Path) -> str:
        """The release line that made the data in a folder, "" if there is none, or it does not matter."""

    def make(self, program: Program, place: Place) -> None:
        """Fills the (empty) data folder. Raises ServiceFailed."""

    def words(self, program: Program, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """The command line that serves the data on a loopback port and on the socket."""

    def is_ready(self, place: Place, port: int, pid: int) -> bool:
        """Whether that process accepts connections."""

    def admit(self, place: Place, port: int, accounts: Sequence[Account]) -> list[str]:
        """Makes the roles and databases that are missing; returns what was made, in words. Raises
        ServiceFailed."""

    def keep_copy(self, place: Place, port: int, database: str, copy: str) -> str:
        """Copies a database within the server; why it did not, in words, "" if it did. Raises ServiceFailed."""

    def put_copy_back(self, place: Place, port: int, database: str, copy: str) -> str:
        """Puts the copy into the database's place; why it did not, "" if it did. Raises ServiceFailed."""

    def drop_copy(self, place: Place, port: int, copy: str) -> str:
        """Takes the copy away; why it did not, "" if it did. Raises ServiceFailed."""

    def driver_variables(self, sockets: str, port: int, account: Account | None) -> dict[str, str]:
        """What drivers read where a configuration says no host, or ``localhost``: the way over the socket,
        which nobody else on this machine reaches."""

    def reach(self, host: str, port: int, account: Account) -> Reach:
        """What a server answers that is none of ours."""

    def make_database(self, host: str, port: int, account: Account) -> None:
        """Makes the account's missing database on such a server. Raises ServiceFailed where the role may not."""


class WithoutCopies:
    """What an engine answers whose server keeps no tables, and cannot copy a database at once."""

    keeps_rows = False
    localhost_is_a_socket = False
    _NO_COPY = "this server cannot copy one at once"

    def keep_copy(self, place: Place, port: int, database: str, copy: str) -> str:
        """None is made."""
        return self._NO_COPY

    def put_copy_back(self, place: Place, port: int, database: str, copy: str) -> str:
        """There is none."""
        return self._NO_COPY

    def driver_variables(self, sockets: str, port: int, account: Account | None) -> dict[str, str]:
        """Its drivers read none."""
        return {}

    def drop_copy(self, place: Place, port: int, copy: str) -> str:
        """There is none."""
        return self._NO_COPY


@cache
def engines() -> Mapping[str, Engine]:
    """Every kind that Plainfall can serve by itself."""
    names = [one.name for one in pkgutil.iter_modules(_folder.__path__)]
    found = [importlib.import_module(f"{_folder.__name__}.{name}").ENGINE for name in names]
    return {one.kind: one for one in found}


def engine_of(kind: str) -> Engine | None:
    """That of a kind of service, None where Plainfall has none."""
    return engines().get(kind)


def found_programs(
    names: Sequence[str], path: Sequence[str], hidden: Sequence[str], version: str, search: str
) -> list[Program]:
    """Programs of these names in the folders of ``path`` and in those that the patterns ``hidden`` find, the newest
    first. ``version`` is the option that prints it, ``search`` what finds it there."""
    folders = [Path(entry) for entry in path]
    for pattern in hidden:
        folders += sorted(Path("/").glob(pattern.lstrip("/")))
    known: dict[Path, Program] = {}
    for folder in folders:
        for name in names:
            place = shutil.which(name, path=str(folder))
            real = Path(os.path.realpath(place)) if place else None
            if real is None or real in known or not is_of_the_machine(real):
                continue
            done = processes.run([str(place), version], {"LC_ALL": "C", "PATH": "/usr/bin:/bin"}, seconds=20)
            match = re.search(search, done.output)
            if match:
                known[real] = Program(Path(str(place)), match.group(1))  # some do by their name
    return sorted(known.values(), key=lambda one: one.order, reverse=True)


def is_of_the_machine(program: Path) -> bool:
    """Whether nobody but root and this user may write it: as root, another user's program is not run."""
    status = program.stat()
    return status.st_uid in (0, os.geteuid()) and not status.st_mode & 0o002
