"""The package that brings a missing header, tool or library, by this distribution's own name for it."""

from __future__ import annotations

import re
import sys
import tomllib
from functools import cache
from pathlib import Path
from typing import Any

__all__ = ["install_words", "package_manager"]

_FAMILIES = {
    "apt": ("debian", "ubuntu"),
    "dnf": ("fedora", "rhel", "centos", "rocky", "almalinux"),
    "pacman": ("arch",),
    "apk": ("alpine",),
}
_COMMANDS = {
    "apt": "sudo apt-get install",
    "dnf": "sudo dnf install",
    "pacman": "sudo pacman -S",
    "apk": "sudo apk add",
    "brew": "brew install",
}


def package_manager(os_release: str, platform: str = sys.platform) -> str | None:
    """The package manager of a system, by the text of its os-release file (os-release(5)); None if it is
    not known."""
    if platform == "darwin":
        return "brew"
    words = set(
        re.findall(r"[\w-]+", " ".join(re.findall(r"^(?:ID|ID_LIKE)=(.*)$", os_release, re.MULTILINE)))
    )
    return next((name for name, families in _FAMILIES.items() if words & set(families)), None)


@cache
def _table() -> list[dict[str, Any]]:
    data = tomllib.loads((Path(__file__).parent / "system_packages.toml").read_text("utf-8"))
    return list(data["package"])


def install_words(thing: str, manager: str | None = None) -> str:
    """What to do about a missing thing: the command of this system, or of all if it is not known."""
    row = next((row for row in _table() if re.match(row["pattern"], thing)), None)
    if row is None:
        return f"Install what brings {thing} (its development package), then run the same command again."
    if manager is None:
        release = Path("/etc/os-release")
        manager = package_manager(release.read_text("utf-8") if release.exists() else "")
    names = {name: str(row[name]).replace("{name}", thing) for name in _COMMANDS}
    if manager:
        return f"Install it with: {_COMMANDS[manager]} {names[manager]}"
    return "Install it: " + "; ".join(f"{_COMMANDS[name]} {package}" for name, package in names.items())
