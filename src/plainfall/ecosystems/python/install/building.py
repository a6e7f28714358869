"""Building a source tree into a wheel through its own build interface (PEP 517, PEP 660), in an environment
that holds its build requirements and nothing else."""

from __future__ import annotations

import os
import subprocess
import zipfile
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from plainfall import processes
from plainfall.confinement import Confined
from plainfall.diagnosis.reading import diagnose, lines_that_matter
from plainfall.ecosystems.python.runtime.environment import VirtualEnvironment, make_environment
from plainfall.errors import BadInput, BuildFailed, CommandFailed
from plainfall.evidence import Evidence
from plainfall.failure_facts import not_built
from plainfall.failure_kinds import FailureKind
from plainfall.plain_files import plain_text
from plainfall.reading import toml_table
from plainfall.runtimes.interpreters import Interpreter
from plainfall.sealing import Seal
from plainfall.server.logs import end_of_log
from plainfall.surroundings import Surroundings

if TYPE_CHECKING:
    from pyproject_hooks import BuildBackendHookCaller

__all__ = ["BuildSystem", "build_system", "build_wheel_from"]

# Installs requirements into an environment; what builds need is resolved like everything else.
Provide = Callable[[Sequence[str], VirtualEnvironment], None]


class BuildSystem(Struct, frozen=True):
    """The ``[build-system]`` table, with the specification's defaults where it is absent."""

    requires: tuple[str, ...] = ("setuptools>=40.8.0",)
    backend: str = "setuptools.build_meta:__legacy__"
    backend_path: tuple[str, ...] = ()


def build_system(source: Path) -> BuildSystem:
    """How a source tree wants to be built. Raises BadInput."""
    path = source / "pyproject.toml"
    if not path.is_file():
        return BuildSystem()
    table: Any = toml_table(plain_text(path, "utf-8", "replace"), str(path)).get("build-system", {})
    default = BuildSystem()
    requires = table.get("requires", list(default.requires)) if isinstance(table, dict) else None
    backend_path = table.get("backend-path", []) if isinstance(table, dict) else None
    for value in (requires, backend_path):
        if not isinstance(value, list) or not all(isinstance(one, str) for one in value):
            raise BadInput("its [build-system] is not as PEP 518 has it", place=Evidence(str(path)))
    return BuildSystem(
        tuple(requires or ()), str(table.get("build-backend", default.backend)), tuple(backend_path or ())
    )


def build_wheel_from(
    source: Path,
    work: Path,
    interpreter: Interpreter,
    surroundings: Surroundings,
    provide: Provide,
    *,
    editable: bool,
    label: str,
    place: Evidence | None,
) -> Path:
    """Builds the tree's wheel (or editable wheel) into ``work`` and returns it.

    The package's own build code runs, with the short list of variables and the build environment's
    commands. Raises CommandFailed with the lines that matter; the full output is in ``work/build.log``.
    """
    from pyproject_hooks import BackendUnavailable, BuildBackendHookCaller, HookMissing, UnsupportedOperation

    system = build_system(source)
    within, seal = Confined(work, "the build's folder"), Seal(surroundings.state, work)
    environment = make_environment(work / "environment", interpreter, "build", work / "making", within, seal)
    provide(system.requires, environment)
    variables = {**surroundings.for_project(), "VIRTUAL_ENV": str(environment.folder)}
    variables["PATH"] = os.pathsep.join((str(environment.commands), variables["PATH"]))
    log = work / "build.log"

    def run(
        cmd: Sequence[str], cwd: str | None = None, extra_environ: Mapping[str, str] | None = None
    ) -> None:
        with log.open("ab") as output:
            environment = {**variables, **(extra_environ or {})}
            done = processes.run(cmd, environment, folder=cwd or work, output=output)
        if done.status:
            raise subprocess.CalledProcessError(done.status, list(cmd))

    hooks = BuildBackendHookCaller(
        str(source),
        system.backend,
        backend_path=list(system.backend_path) or None,
        runner=run,
        python_executable=str(environment.python),
    )
    out = work / "out"
    out.mkdir()
    try:
        if editable:
            name = _editable(hooks, out, source, lambda texts: provide(texts, environment))
        else:
            provide(hooks.get_requires_for_build_wheel(), environment)
            name = hooks.build_wheel(str(out))
    except (subprocess.CalledProcessError, BackendUnavailable, UnsupportedOperation, HookMissing) as error:
        raise _failure(label, error, log, place) from error
    return out / Path(name).name


def _editable(
    hooks: BuildBackendHookCaller, out: Path, source: Path, provide: Callable[[Sequence[str]], None]
) -> str:
    """The name of an editable wheel (PEP 660) below ``out``. Of a backend that makes none, the ordinary wheel, with
    the folder of the sources on the module path in place of its own copies."""
    from pyproject_hooks import HookMissing

    try:
        provide(hooks.get_requires_for_build_editable())
        return str(hooks.build_editable(str(out)))
    except HookMissing:
        provide(hooks.get_requires_for_build_wheel())
        wheel = out / Path(hooks.build_wheel(str(out))).name
    with zipfile.ZipFile(wheel) as archive:
        kept = {name: archive.read(name) for name in archive.namelist() if ".dist-info/" in name}
    top = next((name for name in kept if name.endswith("/top_level.txt")), "")
    modules = kept[top].decode("utf-8", "replace").split() if top else []
    inner = source / "src"
    root = inner if any((inner / one).is_dir() for one in modules) else source
    kept[f"__in_place__{wheel.name.partition('-')[0]}.pth"] = f"{root}\n".encode()
    with zipfile.ZipFile(wheel, "w") as archive:
        for name, content in kept.items():
            archive.writestr(name, content)
    return wheel.name


def _failure(label: str, error: Exception, log: Path, place: Evidence | None) -> CommandFailed:
    output = end_of_log(log) if log.exists() else ""
    known = diagnose(output)
    reason = known.cause or str(error).splitlines()[0] if str(error) else type(error).__name__
    if isinstance(error, subprocess.CalledProcessError):
        reason = known.cause or f"its build ended with status {error.returncode}"
    return BuildFailed(
        f"{label} could not be built from source: {reason}",
        remedy=known.remedy
        or "Read the lines above. A release that has a wheel for this Python needs no build: see --instead.",
        place=place,
        lines=lines_that_matter(output),
        log=str(log),
        rule=known.rule or FailureKind.BUILD_FAILED,
        facts=not_built(label),
    )
