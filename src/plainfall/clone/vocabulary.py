"""Words that classify command lines: programs and package clients of the languages."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from functools import cached_property

from msgspec import Struct, field

__all__ = ["Vocabulary"]

# Commands that are no part's own: containers, other machines, build files.
_ELSEWHERE = ("sudo", "docker", "docker-compose", "podman", "kubectl", "systemctl", "service")
# Options of ``NAME run`` before the command: those with a word of their own, and the others.
_RUN_OPTIONS = (
    r"(?:(?:--extra|--group|--only-group|--no-group|--with|--python|-p|--env-file|--directory|--project|"
    r"--package)[ =]\S+|--(?!module\b)[\w-]+(?:=\S+)?)"
)
_OUTSIDE = (*_ELSEWHERE, "make")


class Vocabulary(Struct, frozen=True, dict=True):
    """``programs`` and ``clients`` are by language, a language's runtime first among its programs; ``runners``
    run a command in an environment that some other program manages; ``endings`` are those of source files;
    ``makes_environment`` are patterns of commands that make an environment; ``aliases`` are other names of
    programs."""

    programs: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    clients: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    runners: tuple[str, ...] = ()
    endings: tuple[str, ...] = ()
    makes_environment: tuple[str, ...] = ()
    aliases: Mapping[str, str] = field(default_factory=dict)

    def by_its_name(self, line: str) -> str:
        """A command line with its program under the usual name (``py`` for Python's)."""
        first, space, rest = line.partition(" ")
        return f"{self.aliases.get(first, first)}{space}{rest}"

    def program_of(self, words: Sequence[str]) -> list[str]:
        """The words of a command line that name what runs: a program, or a runtime with its script or module.

        >>> Vocabulary({"python": ("python",)}).program_of("python -m rain.desk --port 1".split())
        ['python', '-m', 'rain.desk']
        """
        runtimes = [names[0] for names in self.programs.values() if names]
        if not words or words[0] not in runtimes:
            return list(words[:1])
        return list(words[: 3 if words[1:2] == ["-m"] else 2])

    @cached_property
    def runner(self) -> re.Pattern[str]:
        """Matches ``NAME run`` before a command: the part's own environment is active already."""
        return re.compile(rf"^({_any(self.runners)})\s+run\s+(?:{_RUN_OPTIONS}\s+)*(?!-)")

    @cached_property
    def elsewhere(self) -> re.Pattern[str]:
        """Matches a command that starts something in a container, as another user, or on another machine."""
        return re.compile(rf"^({_any(_ELSEWHERE)})\b")

    @cached_property
    def outside(self) -> re.Pattern[str]:
        """Matches a command that no part can be expected to run as its own by name: a container's, a build
        file's, a package client's."""
        clients = [name for names in self.clients.values() for name in names]
        return re.compile(rf"^({_any((*_OUTSIDE, *clients))})\b")

    def of_another(self, language: str) -> re.Pattern[str]:
        """Matches a command of another language's runtime."""
        others = [names[0] for name, names in self.programs.items() if name != language and names]
        return re.compile(rf"^({_any(others)})\b")

    @cached_property
    def interpreter(self) -> re.Pattern[str]:
        """Matches the whole name of a program that runs a script file."""
        runtimes = [names[0] for names in self.programs.values() if names]
        return re.compile(rf"({_any((*runtimes, 'sh', 'bash'))})[\d.]*")

    @cached_property
    def script_file(self) -> re.Pattern[str]:
        """Finds the ending of a script file at the end of a word."""
        return re.compile(rf"({_any((*self.endings, '.sh'))})$")

    @cached_property
    def installs(self) -> re.Pattern[str]:
        """Finds a command that installs dependencies."""
        clients = [name for names in self.clients.values() for name in names]
        runners = rf"^({_any(self.runners)})\s+(?!run\b)[a-z]" if self.runners else r"(?!)"
        return re.compile(
            rf"\b({_any(clients)})\s+(i|ci|install)\b|\binstall\s+-r\b|{runners}", re.IGNORECASE
        )

    @cached_property
    def environment(self) -> re.Pattern[str]:
        """Finds a command that makes or enters an environment."""
        return re.compile("|".join(self.makes_environment) or r"(?!)", re.IGNORECASE)

    def language_of(self, line: str) -> str:
        """The language whose program a command line runs; "" for none."""
        first = line.split()[0].rsplit("/", 1)[-1] if line.split() else ""
        plain = first.rstrip("0123456789.")
        return next((name for name, programs in self.programs.items() if plain in programs), "")


def _any(words: tuple[str, ...] | list[str]) -> str:
    return "|".join(re.escape(word) for word in words) or r"(?!)"
