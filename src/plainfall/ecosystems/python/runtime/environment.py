"""Virtual environments by the ``pyvenv.cfg`` specification (PEP 405), written directly in milliseconds."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from pathlib import Path

from msgspec import Struct

from plainfall.confinement import Confined
from plainfall.ecosystems.python.runtime.activation import activation_scripts
from plainfall.errors import EnvironmentProblem
from plainfall.evidence import Evidence
from plainfall.plain_files import plain_text
from plainfall.runtimes.interpreters import Interpreter
from plainfall.sealing import Seal
from plainfall.writing import write_replacing

__all__ = ["Standing", "VirtualEnvironment", "make_environment", "standing"]

_MARK = "made-by"
_MAKER = "plainfall"
_SEAL = "environment-seal"


class VirtualEnvironment(Struct, frozen=True):
    """An environment's folder, and the release line ("3.12") of its interpreter."""

    folder: Path
    line: str

    @property
    def commands(self) -> Path:
        """The folder of its commands."""
        return self.folder / "bin"

    @property
    def python(self) -> Path:
        """Its interpreter."""
        return self.commands / "python"

    @property
    def packages(self) -> Path:
        """Its site-packages folder."""
        return self.folder / "lib" / f"python{self.line}" / "site-packages"

    @property
    def headers(self) -> Path:
        """Where packages put their C headers."""
        return self.folder / "include" / "site" / f"python{self.line}"


class Standing(Struct, frozen=True):
    """How an environment stands: ``state`` is "right", "absent" or "wrong"; ``reason`` says what is wrong;
    ``ours`` whether Plainfall made it."""

    state: str
    reason: str = ""
    ours: bool = False


def standing(folder: Path, interpreter: Interpreter, seal: Seal) -> Standing:
    """Compares the existing environment with what the interpreter needs. Changes nothing. One is ours if this
    user's seal
    is on it; a link never is, since what it leads to is somebody else's."""
    if not os.path.lexists(folder):
        return Standing("absent")
    if folder.is_symlink():
        return Standing(
            "wrong", f"it is a link, to {os.readlink(folder)}, and packages would be installed there"
        )
    try:
        settings = _settings(plain_text(folder / "pyvenv.cfg", "utf-8", "replace"))
    except OSError:
        empty = folder.is_dir() and not any(folder.iterdir())
        return Standing("wrong", "it holds no pyvenv.cfg, so it is no virtual environment", ours=empty)
    ours = settings.get(_MARK) == _MAKER and settings.get(_SEAL) == seal.mark(
        _SEAL, settings.get("placed-at", "")
    )
    here = settings.get("version") or settings.get("version_info", "")
    wanted = interpreter.version
    if _line(here) != _line(wanted):
        return Standing("wrong", f"it is for Python {here or '?'}, and {wanted} was chosen", ours)
    python = folder / "bin" / "python"
    if not python.exists():
        return Standing("wrong", "its interpreter is missing: bin/python leads nowhere", ours)
    if ours:
        if python.resolve() != interpreter.file:
            return Standing(
                "wrong", f"it stands on {python.resolve()}, and {interpreter.file} was chosen", ours
            )
        if settings.get("placed-at") != str(folder):
            return Standing(
                "wrong", "it was moved here from another folder; its commands name the old one", ours
            )
    return Standing("right", ours=ours)


def make_environment(
    folder: Path, interpreter: Interpreter, prompt: str, making: Path, confined: Confined, seal: Seal
) -> VirtualEnvironment:
    """Makes the environment next to its place (in ``making``, on the same disk) and moves it into place.

    An existing one of ours is removed first. Raises EnvironmentProblem if something exists there
    that Plainfall did not make, PathRefused for a place outside of ``confined``, OSError of the disk.
    """
    before = standing(folder, interpreter, seal)
    if before.state != "absent" and not before.ours:
        raise EnvironmentProblem(
            f"{folder.name} is there, Plainfall did not make it, and it does not fit: {before.reason}",
            place=Evidence(str(folder)),
            remedy=f"Move it away (mv {folder.name} {folder.name}-old) and run the same command again.",
        )
    environment = VirtualEnvironment(folder, _line(interpreter.version))
    making = confined.make_folder(making)
    staging = Path(tempfile.mkdtemp(prefix="environment-", dir=making))
    try:
        _fill(staging, environment, interpreter, prompt, seal)
        staging.chmod(0o755)
        if os.path.lexists(folder):
            aside = Path(tempfile.mkdtemp(prefix="old-", dir=making))
            confined.rename(folder, aside / folder.name)
        confined.rename(staging, folder)
    finally:
        confined.remove(making)
    return environment


def _fill(
    staging: Path, environment: VirtualEnvironment, interpreter: Interpreter, prompt: str, seal: Seal
) -> None:
    line = environment.line
    (staging / "bin").mkdir()
    (staging / "include").mkdir()
    (staging / "lib" / f"python{line}" / "site-packages").mkdir(parents=True)
    if interpreter.facts["bits"] == 64 and interpreter.facts["markers"]["sys_platform"] != "darwin":
        (staging / "lib64").symlink_to("lib")
    (staging / "bin" / "python").symlink_to(interpreter.file)
    for name in ("python3", f"python{line}"):
        (staging / "bin" / name).symlink_to("python")
    settings = {
        "home": str(interpreter.file.parent),
        "include-system-site-packages": "false",
        "version": interpreter.version,
        "executable": str(interpreter.file),
        "prompt": repr(prompt),
        "placed-at": str(environment.folder),
        _MARK: _MAKER,
        _SEAL: seal.mark(_SEAL, str(environment.folder)),
    }
    text = "".join(f"{key} = {value}\n" for key, value in settings.items())
    write_replacing(staging / "pyvenv.cfg", text)
    for name, script in activation_scripts(environment.folder, prompt).items():
        write_replacing(staging / "bin" / name, script)


def _settings(text: str) -> Mapping[str, str]:
    rows = (line.partition("=") for line in text.splitlines() if "=" in line)
    return {key.strip().lower(): value.strip() for key, _, value in rows}


def _line(version: str) -> str:
    return ".".join(version.split(".")[:2])
