"""Who made a clone and whether it is alive, read from its repository alone."""

from __future__ import annotations

import os
import subprocess
import time
from pathlib import Path

import pytest
from conftest import SERVER, Machine

from plainfall.survey.history import history_of

VARIABLES = {"PATH": os.environ["PATH"]}


def commit(folder: Path, day: str, who: str, *, branch: str = "") -> None:
    if branch:
        subprocess.run(["git", "checkout", "-qb", branch], cwd=folder, check=True)
    subprocess.run(["git", "add", "."], cwd=folder, check=True)
    words = [
        "git",
        "-c",
        f"user.name={who}",
        "-c",
        f"user.email={who}@rain.example",
        "commit",
        "-qm",
        day,
        "--allow-empty",
    ]
    when = f"{day}T06:00:00Z"
    subprocess.run(
        words, cwd=folder, check=True, env={**os.environ, "GIT_AUTHOR_DATE": when, "GIT_COMMITTER_DATE": when}
    )


@pytest.fixture
def clone(machine: Machine) -> Path:
    folder = machine.clone({"app.py": SERVER, "requirements.txt": "", "Procfile": "web: python app.py\n"})
    subprocess.run(["git", "init", "-q", "-b", "main"], cwd=folder, check=True)
    commit(folder, "2025-11-03", "Ada")
    (folder / "app.py").write_text(f"{SERVER}# more\n")
    commit(folder, "2026-01-04", "Ada")
    subprocess.run(["git", "tag", "spring"], cwd=folder, check=True)
    commit(folder, "2026-01-05", "Ben")
    commit(folder, "2026-09-05", "Ben", branch="chapter-2")
    subprocess.run(["git", "checkout", "-q", "main"], cwd=folder, check=True)
    return folder


@pytest.mark.needs("git")
def test_commits_people_months_files_and_branches(clone: Path) -> None:
    history = history_of(clone, VARIABLES)
    assert history is not None
    assert (history.commits, str(history.first), str(history.last)) == (3, "2025-11-03", "2026-01-05")
    assert history.people == (("Ada", 2), ("Ben", 1))
    assert history.months == (("2025-11", 1), ("2025-12", 0), ("2026-01", 2))
    assert dict(history.files)["app.py"] == 2
    assert [one.name for one in history.branches] == ["chapter-2", "main"] and history.tags[
        0
    ].name == "spring"
    assert history.newer is not None and history.newer.name == "chapter-2"
    assert history.behind is None and history.changed == 0
    time.sleep(0.01)
    (clone / "app.py").write_text("changed")
    again = history_of(clone, VARIABLES)
    assert again is not None and again.changed == 1


@pytest.mark.needs("git")
def test_a_line_in_the_survey_and_all_of_it_on_request(machine: Machine, clone: Path) -> None:
    plain = machine.run("survey", clone)
    assert "3 commits, the last on 2026-01-05" in plain.out and "Ada (2)" not in plain.out
    assert "the branch chapter-2 is newer" in " ".join(plain.out.split())
    told = machine.run("survey", clone, "--history").out
    assert (
        "3 commits by 2 people, 2025-11-03 to 2026-01-05" in told
        and "Ada (2), Ben (1)" in told
        and "2025-11 ▄ █ 2026-01" in told
        and "spring 2026-01-04" in told
    ), told
    document = machine.run("survey", clone, "--history", "--json").document
    assert document["history"]["commits"] == 3 and document["history"]["branch"] == "main"


@pytest.mark.needs("git")
def test_how_far_it_is_behind_what_was_fetched(machine: Machine, clone: Path) -> None:
    other = machine.home / "other"
    subprocess.run(["git", "clone", "-q", str(clone), str(other)], check=True)
    commit(clone, "2026-02-01", "Ada")
    commit(clone, "2026-02-02", "Ada")
    subprocess.run(["git", "fetch", "-q"], cwd=other, check=True)
    commit(other, "2026-02-03", "Cleo")
    history = history_of(other, VARIABLES)
    assert history is not None and (history.behind, history.ahead) == (2, 1)
    assert "2 behind and 1 ahead of what was last fetched" in " ".join(
        machine.run("survey", other, "--history").out.split()
    )


@pytest.mark.needs("git")
def test_no_configuration_of_the_clone_makes_git_run_a_program(machine: Machine, clone: Path) -> None:
    evil = machine.home / "evil"
    evil.write_text(f"#!/bin/sh\ntouch {machine.home}/ran\n")
    evil.chmod(0o755)
    for key in ("core.fsmonitor", "gpg.program", "diff.external", "core.pager", "core.sshCommand", "filter.x.clean",
                "diff.x.textconv", "core.editor", "credential.helper"):  # fmt: skip
        subprocess.run(["git", "config", key, str(evil)], cwd=clone, check=True)
    subprocess.run(["git", "config", "log.showSignature", "true"], cwd=clone, check=True)
    (clone / ".gitattributes").write_text("* filter=x diff=x\n")
    (clone / "app.py").write_text("changed")
    assert machine.run("survey", clone, "--history").status == 0
    assert not (machine.home / "ran").exists()


@pytest.mark.needs("git")
def test_without_a_repository_or_a_commit(machine: Machine) -> None:
    folder = machine.clone({"app.py": SERVER, "requirements.txt": ""}, name="plain")
    assert "no history" in machine.run("survey", folder, "--history").out
    subprocess.run(["git", "init", "-q"], cwd=folder, check=True)
    assert history_of(folder, VARIABLES) is None


def with_branches(clone: Path, names: list[str], readme: str) -> str:
    for name in names:
        subprocess.run(["git", "branch", "-q", name], cwd=clone, check=True)
    subprocess.run(["git", "branch", "-qD", "chapter-2"], cwd=clone, check=True)
    (clone / "README.md").write_text(readme)
    return str(clone)


@pytest.mark.parametrize(
    ("readme", "said"),
    [
        (
            "# Rain\n\nWork happens on the `develop` branch.\n",
            "the README points to the branch develop; checked out is main",
        ),
        ("git clone -b develop https://rain.example/rain.git\n", "git switch develop takes it (README.md:1)"),
        (
            "| chapter | code |\n|-|-|\n| 1 | [one](../tree/ch-1) |\n| 2 | [two](../tree/ch-2) |\n| 3 | [three](../tree/ch-3) |\n",
            "the README lists 3 branches (ch-1, ch-2, ch-3); checked out is main: take one with git switch NAME (README.md:3)",
        ),
        ("See the branch `gone`, and git checkout main.\n", ""),
    ],
)
@pytest.mark.needs("git")
def test_a_branch_that_is_meant(machine: Machine, clone: Path, readme: str, said: str) -> None:
    folder = with_branches(clone, ["develop", "ch-1", "ch-2", "ch-3"], readme)
    told = " ".join(machine.run("survey", folder).out.split())
    assert "main 2026-01-05 (checked out)" in told and "develop 2026-01-05" in told
    assert said in told if said else "the README" not in told
    remarks = [one["text"] for one in machine.run("survey", folder, "--json").document["remarks"]]
    assert len([one for one in remarks if "branch" in one]) == bool(said)


@pytest.mark.needs("git")
def test_a_clone_that_was_just_fetched_says_which_branch_is_meant(machine: Machine, clone: Path) -> None:
    readme = "Use the `develop` branch.\n"
    folder = with_branches(clone, ["develop"], readme)
    commit(clone, "2026-09-06", "Ada")
    fetched = machine.run("survey", f"file://{folder}", "--into", clone.parent / "new")
    assert fetched.status == 0 and "the README points to the branch develop" in " ".join(fetched.err.split())
    named = machine.run("survey", f"file://{folder}", "--into", clone.parent / "named", "--branch", "develop")
    assert named.status == 0 and "the README points" not in named.err
