"""Making the sample clone: a real repository of a small app, locked to the stand-in registry's packages."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path

from plainfall.standins.building import Built
from plainfall.standins.node_registry import NodeArchive
from plainfall.standins.php_registry import PhpArchive, php_lock
from plainfall.standins.ruby_registry import Gem, ruby_lock

__all__ = ["lock_text", "make_sample", "make_sample_with", "node_lock_text"]

_SAMPLE = Path(__file__).parent / "sample"
_DASHBOARD = Path(__file__).parent / "sample_dashboard"
_BULLETIN = Path(__file__).parent / "sample_bulletin"
_NOTEBOOK = Path(__file__).parent / "sample_notebook"
_WITH_SERVICES = Path(__file__).parent / "sample_services"
_TEMPLATED = {"README.md", "pyproject.toml", ".python-version"}


def make_sample(
    folder: Path,
    built: list[Built],
    *,
    line: str | None = None,
    dashboard: Sequence[NodeArchive] = (),
    bulletin: tuple[Sequence[PhpArchive], str] | None = None,
    notebook: tuple[Sequence[Gem], str] | None = None,
) -> bool:
    """Writes the sample into a folder that does not exist yet, and commits it.

    ``line`` is the release line of Python that it asks for; without it, the one that runs Plainfall. With
    ``dashboard`` (the packages that it is locked to) it has a part for Node, with ``bulletin`` (packages, and the
    address of their registry) one for PHP, with ``notebook`` one for Ruby.
    Returns whether it became a repository (not where no git is installed). Raises OSError.
    """
    line = line or f"{sys.version_info[0]}.{sys.version_info[1]}"
    shutil.copytree(_SAMPLE, folder, ignore=shutil.ignore_patterns("__pycache__"))
    for path in [path for path in folder.rglob("dot_*") if path.is_file()]:
        path.rename(path.with_name(path.name.replace("dot_", ".", 1)))
    for name in _TEMPLATED:
        file = folder / name
        file.write_text(file.read_text("utf-8").replace("{line}", line), "utf-8")
    (folder / "requirements.txt").write_text(lock_text(built), "utf-8")
    if dashboard:
        inner = folder / "dashboard"
        shutil.copytree(_DASHBOARD, inner)
        (inner / "dot_env.example").rename(inner / ".env.example")
        (inner / "package-lock.json").write_text(node_lock_text(inner, dashboard), "utf-8")
    if bulletin is not None:
        inner = folder / "bulletin"
        shutil.copytree(_BULLETIN, inner)
        (inner / "dot_env.example").rename(inner / ".env.example")
        document = json.loads((inner / "composer.json").read_text("utf-8"))
        (inner / "composer.lock").write_text(php_lock(document, *bulletin), "utf-8")
        with open(folder / ".gitignore", "a", encoding="utf-8") as ignored:
            ignored.write("vendor/\n")
    if notebook is not None:
        gems, registry = notebook
        inner = folder / "notebook"
        shutil.copytree(_NOTEBOOK, inner)
        wishes = {"page-slip": "~> 1.0", "rain-rack": ""}
        lines = [f'source "{registry}"', "", 'gem "page-slip", "~> 1.0"', 'gem "rain-rack"', ""]
        (inner / "Gemfile").write_text("\n".join(lines), "utf-8")
        (inner / "Gemfile.lock").write_text(ruby_lock(gems, registry, wishes, checksums=True), "utf-8")
    return _commit(folder)


# What the second sample's files say of each server: its definition, and the line of the template.
_SERVICES = {
    "postgres": (
        "  db:\n    image: postgres:15\n    environment:\n      POSTGRES_USER: reader\n"
        "      POSTGRES_DB: raindesk\n      POSTGRES_HOST_AUTH_METHOD: trust\n    ports: ['5432:5432']\n",
        "POSTGRES_HOST=db\nPOSTGRES_PORT=5432\nPOSTGRES_USER=reader\nPOSTGRES_DB=raindesk\n",
    ),
    "redis": (
        "  cache:\n    image: redis:7\n    ports: ['6379:6379']\n",
        "REDIS_HOST=cache\nREDIS_PORT=6379\n",
    ),
}


def make_sample_with(folder: Path, kinds: Sequence[str]) -> bool:
    """Writes the second sample, a desk on servers of these kinds ("postgres", "redis"), into a folder that does not
    exist yet, and commits it. Returns whether it became a repository. Raises OSError."""
    shutil.copytree(_WITH_SERVICES, folder, ignore=shutil.ignore_patterns("__pycache__"))
    (folder / "dot_gitignore").rename(folder / ".gitignore")
    (folder / "compose.yml").write_text(
        "services:\n" + "".join(_SERVICES[kind][0] for kind in kinds), "utf-8"
    )
    (folder / ".env.example").write_text("".join(_SERVICES[kind][1] for kind in kinds), "utf-8")
    return _commit(folder)


def node_lock_text(folder: Path, archives: Sequence[NodeArchive]) -> str:
    """A package-lock.json of format 3 for the manifest in a folder."""
    manifest = json.loads((folder / "package.json").read_text("utf-8"))
    top = {key: manifest[key] for key in ("name", "version", "dependencies", "devDependencies", "engines")}
    packages: dict[str, object] = {"": top}
    for one in sorted(archives, key=lambda one: one.name):
        entry = {"version": one.version, "integrity": one.integrity}
        more = {key: one.manifest[key] for key in ("bin", "license") if key in one.manifest}
        packages[f"node_modules/{one.name}"] = {**entry, **more}
    document = {"name": manifest["name"], "version": manifest["version"], "lockfileVersion": 3}
    return json.dumps({**document, "requires": True, "packages": packages}, indent=2) + "\n"


def lock_text(built: list[Built]) -> str:
    """A requirements.txt that pins every package, with the hashes of its wheel and its source package."""
    by_name: dict[str, list[Built]] = {}
    for archive in built:
        by_name.setdefault(archive.name, []).append(archive)
    rows = ["# Every package pinned, with the hashes of its archives.\n"]
    for name, archives in sorted(by_name.items()):
        hashes = " \\\n".join(f"    --hash=sha256:{archive.sha256}" for archive in archives)
        rows.append(f"{name}=={archives[0].version} \\\n{hashes}\n")
    return "".join(rows)


def _commit(folder: Path) -> bool:
    if shutil.which("git") is None:
        return False
    variables = {
        "PATH": os.environ.get("PATH", ""),
        "HOME": str(folder),
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_AUTHOR_NAME": "Mira Tolland",
        "GIT_AUTHOR_EMAIL": "mira@gauges.example",
        "GIT_COMMITTER_NAME": "Mira Tolland",
        "GIT_COMMITTER_EMAIL": "mira@gauges.example",
    }
    for words in (
        ["init", "--quiet", "--initial-branch=main"],
        ["add", "--all"],
        ["commit", "--quiet", "--message", "A log of daily rain gauge readings"],
    ):
        subprocess.run(["git", *words], cwd=folder, env=variables, check=True, capture_output=True)
    return True
