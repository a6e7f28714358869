"""Tracked means tracked, whatever kind of repository it is; what cannot be read counts as tracked."""

from __future__ import annotations

import os
import subprocess
from pathlib import Path

import pytest

from plainfall.repository import repository_of

pytestmark = pytest.mark.hostile
needs_git = pytest.mark.needs("git")
WHO = ("-c", "user.name=Mira", "-c", "user.email=mira@gauges.example", "-c", "protocol.file.allow=always")


def git(folder: Path, *words: str) -> None:
    variables = {"PATH": os.environ["PATH"], "HOME": str(folder)}
    subprocess.run(["git", *WHO, *words], cwd=folder, check=True, capture_output=True, env=variables)


def made(folder: Path, *options: str) -> Path:
    folder.mkdir(parents=True)
    (folder / "data").mkdir()
    (folder / ".env").write_text("A=1\n")
    (folder / "data/rain.csv").write_text("1\n")
    git(folder, "init", "-q", *options)
    git(folder, "add", "-f", ".")
    git(folder, "commit", "-qm", "Start")
    return folder


def tracked(clone: Path, path: str) -> bool:
    repository = repository_of(clone)
    return repository is not None and repository.is_tracked(clone / path)


@needs_git
@pytest.mark.parametrize("options", [(), ("--object-format=sha256",)])
@pytest.mark.parametrize("split", [False, True])
@pytest.mark.parametrize("version", ["2", "4"])
def test_every_kind_of_index_is_read(
    tmp_path: Path, options: tuple[str, ...], split: bool, version: str
) -> None:
    clone = made(tmp_path / "clone", *options)
    git(clone, "update-index", f"--index-version={version}")
    if split:
        git(clone, "update-index", "--split-index")
        (clone / "later.txt").write_text("x")
        git(clone, "add", "later.txt")
    (clone / "mine.txt").write_text("x")
    assert tracked(clone, ".env") and tracked(clone, "data/rain.csv")
    assert not tracked(clone, "mine.txt")
    assert not split or tracked(clone, "later.txt")


@needs_git
def test_a_folder_that_a_sparse_index_only_names_is_tracked(tmp_path: Path) -> None:
    clone = made(tmp_path / "clone")
    git(clone, "sparse-checkout", "init", "--cone", "--sparse-index")
    git(clone, "sparse-checkout", "set", "elsewhere")
    (clone / "data").mkdir(exist_ok=True)
    assert tracked(clone, "data/rain.csv")


@needs_git
def test_in_a_submodule_its_own_index_decides(tmp_path: Path) -> None:
    inner, clone = made(tmp_path / "inner"), made(tmp_path / "clone")
    git(clone, "submodule", "add", "-q", str(inner), "gauges")
    git(clone, "commit", "-qm", "Gauges")
    (clone / "gauges/mine.txt").write_text("x")
    assert tracked(clone, "gauges/.env")
    assert not tracked(clone, "gauges/mine.txt")


@needs_git
def test_a_worktree_has_the_index_of_its_own(tmp_path: Path) -> None:
    clone = made(tmp_path / "clone")
    git(clone, "worktree", "add", "-q", str(tmp_path / "second"))
    (tmp_path / "second/mine.txt").write_text("x")
    assert tracked(tmp_path / "second", ".env")
    assert not tracked(tmp_path / "second", "mine.txt")


@pytest.mark.parametrize("index", [b"DIRC\0\0\0\7\0\0\0\1", b"nothing", b"DIRC\0\0\0\2\0\0\0\5short"])
def test_what_cannot_be_read_counts_as_tracked(tmp_path: Path, index: bytes) -> None:
    (tmp_path / ".git/objects").mkdir(parents=True)
    (tmp_path / ".git/refs").mkdir()
    (tmp_path / ".git/HEAD").write_text("ref: refs/heads/main\n")
    (tmp_path / ".git/index").write_bytes(index)
    (tmp_path / ".env").write_text("A=1\n")
    assert tracked(tmp_path, ".env")


@needs_git
def test_a_repository_behind_a_link_is_one(tmp_path: Path) -> None:
    clone = made(tmp_path / "clone")
    (clone / ".git").rename(tmp_path / "kept")
    (clone / ".git").symlink_to(tmp_path / "kept")
    assert tracked(clone, ".env")
