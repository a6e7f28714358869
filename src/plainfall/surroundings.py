"""The environment of a run: the variables, folders and caches that it may look at. Passed in, never global."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct

from plainfall.ownership import claim, without_folders_of_others

__all__ = ["Surroundings", "passed_on"]

# What of the developer's own variables a project's command needs to find its way on this machine. All
# else stays out, so that a project behaves the same on each developer's machine.
_PASSED_ON = frozenset(
    "HOME USER LOGNAME SHELL LANG LANGUAGE TZ TMPDIR TERM NO_COLOR XDG_RUNTIME_DIR XDG_CACHE_HOME "
    "SSL_CERT_FILE SSL_CERT_DIR HTTP_PROXY HTTPS_PROXY NO_PROXY ALL_PROXY "
    "http_proxy https_proxy no_proxy all_proxy SYSTEMROOT".split()
)
_USER_FOLDERS = {"XDG_DATA_HOME": ".local/share", "XDG_CONFIG_HOME": ".config", "XDG_CACHE_HOME": ".cache"}
# What git may see beyond these: how the person reaches private repositories.
_FOR_GIT = frozenset(
    "SSH_AUTH_SOCK GIT_SSH GIT_SSH_COMMAND GIT_ASKPASS SSH_ASKPASS GIT_SSL_CAINFO GIT_CONFIG_GLOBAL "
    "XDG_CONFIG_HOME".split()
)
_STANDARD_PATH = "/usr/local/bin:/usr/bin:/bin:/usr/local/sbin:/usr/sbin:/sbin"


class Surroundings(Struct, frozen=True):
    """The variables and the user's folders that one run works with.

    ``variables`` stands for the process environment; ``folder`` is the current folder; ``home`` the
    user's; ``cache`` the folder of the package cache and of what is remembered about this machine; ``state``
    the folder of what must outlive the cache (the register of servers).
    """

    variables: Mapping[str, str]
    folder: Path
    home: Path
    cache: Path
    state: Path

    @classmethod
    def of_process(cls) -> Surroundings:
        """Those of this process; ``PLAINFALL_CACHE`` and ``PLAINFALL_STATE`` move those two folders.

        Both are this user's alone, or PlainfallError is raised. Root uses nothing of another user's home
        folder: where the variables name one, they are changed for this process."""
        without_folders_of_others(os.environ)
        variables = dict(os.environ)
        home = Path(variables.get("HOME") or Path.home())
        folders = {kind: _own(variables, kind) for kind in ("cache", "state")}
        for kind, folder in folders.items():
            claim(folder, _variable(kind))
        return cls(variables, Path.cwd(), home, folders["cache"], folders["state"])

    def search_path(self) -> list[str]:
        """The folders in which commands are looked for, in order, without empty entries."""
        path = self.variables.get("PATH", _STANDARD_PATH)
        return [entry for entry in path.split(os.pathsep) if entry]

    def for_project(self) -> dict[str, str]:
        """The variables that project code is given before its own settings are added (design rule 4)."""
        passed = passed_on(self.variables)
        passed["PATH"] = os.pathsep.join(self.search_path()) or _STANDARD_PATH
        if passed.get("HOME"):
            # What the base directory specification says of one that is not set: some programs stop without.
            for name, folder in _USER_FOLDERS.items():
                passed.setdefault(name, os.path.join(passed["HOME"], folder))
        return passed


def passed_on(variables: Mapping[str, str], *, for_git: bool = False) -> dict[str, str]:
    """Of the developer's variables those that any child process may see: the short list, without PATH."""
    names = _PASSED_ON | _FOR_GIT if for_git else _PASSED_ON
    return {name: value for name, value in variables.items() if name in names or name.startswith("LC_")}


def _variable(kind: str) -> str:
    """The variable that moves Plainfall's cache or state folder."""
    return f"PLAINFALL_{kind.upper()}"


def _own(variables: Mapping[str, str], kind: str) -> Path:
    """Plainfall's cache or state folder of this user."""
    moved = variables.get(_variable(kind))
    if moved:
        return Path(moved).absolute()
    import platformdirs

    find = platformdirs.user_cache_path if kind == "cache" else platformdirs.user_state_path
    return find("plainfall", appauthor=False)
