"""Where PHP packages may come from besides a zip at a registry, and where they and their files may be put."""

from __future__ import annotations

import io
import json
import os
import shutil
import subprocess
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine
from php_clones import AMOUNTS, SHEET, clone_files
from test_php_packages import installed, php

from plainfall.standins.php_registry import PhpRegistry, php_archive, serving_php, zipped


@pytest.fixture
def registry() -> Iterator[PhpRegistry]:
    with serving_php([AMOUNTS, SHEET]) as served:
        yield served


def git(folder: Path, *words: str) -> str:
    command = ["git", "-c", "user.name=Reader", "-c", "user.email=reader@rain.example", *words]
    return subprocess.run(command, cwd=folder, capture_output=True, text=True, check=True).stdout.strip()


@pytest.fixture
def repository(tmp_path: Path) -> Path:
    """A package under version control: a tag 1.0.0, a tag that is no version, a newer branch."""
    folder = tmp_path / "units.git"
    (folder / "src").mkdir(parents=True)
    git(tmp_path, "init", "-q", "-b", "main", str(folder))
    manifest: dict[str, Any] = {"name": "rain/units", "autoload": {"psr-4": {"Units\\": "src/"}}}
    (folder / "composer.json").write_text(json.dumps(manifest))
    (folder / "src/Mm.php").write_text("<?php namespace Units; class Mm { const SAYS = 'one'; }")
    git(folder, "add", ".")
    git(folder, "commit", "-q", "-m", "First")
    git(folder, "tag", "v1.0.0")
    git(folder, "tag", "spring")
    (folder / "src/Mm.php").write_text("<?php namespace Units; class Mm { const SAYS = 'two'; }")
    git(folder, "commit", "-q", "-a", "-m", "Second")
    git(folder, "branch", "2.x")
    return folder


@pytest.mark.parametrize(
    ("wanted", "version", "says"),
    [("^1.0", "v1.0.0", "one"), ("dev-main", "dev-main", "two"), ("2.x-dev", "2.x-dev", "two")],
)
@pytest.mark.needs("php")
def test_versions_are_chosen_from_a_repository_under_git(
    machine: Machine, repository: Path, wanted: str, version: str, says: str
) -> None:
    document = {
        "require": {"rain/units": wanted},
        "repositories": [{"type": "vcs", "url": f"file://{repository}"}],
    }
    clone, run = installed(machine, {"public/index.php": "<?php", "composer.json": json.dumps(document)})
    assert run.status == 0, run.out + run.err
    assert php(clone, "Units\\Mm::SAYS") == says
    assert php(clone, "Composer\\InstalledVersions::getPrettyVersion('rain/units')") == version
    assert not (clone / "vendor/rain/units/.git").exists()


@pytest.mark.needs("php")
def test_a_repository_that_cannot_be_fetched_or_is_of_another_kind(machine: Machine, tmp_path: Path) -> None:
    files = {"public/index.php": "<?php"}
    for number, (row, words) in enumerate([
        ({"type": "git", "url": f"file://{tmp_path}/absent.git"}, "absent.git cannot be fetched"),
        ({"type": "svn", "url": "https://registry.example/svn"}, "of the kind 'svn' is named"),
        ({"type": "vcs", "url": "../units"}, "'../units' is no address"),
        ({"type": "vcs", "url": "--upload-pack=touch climbed"}, "is no address"),
        ({"type": "artifact", "url": "../archives"}, "is outside the part"),
    ]):  # fmt: skip
        document = {"require": {"rain/units": "*"}, "repositories": [row]}
        _, run = installed(machine, {**files, "composer.json": json.dumps(document)}, name=f"clone{number}")
        assert run.status == 1 and words in run.out, run.out


@pytest.mark.needs("php")
def test_versions_are_chosen_from_a_folder_of_archives(machine: Machine) -> None:
    old, new = (
        zipped({
            "u.php": f"<?php const UNITS = '{version}';".encode(),
            "composer.json": json.dumps(
                {"name": "rain/units", "version": version, "autoload": {"files": ["u.php"]}}
            ).encode(),
        })
        for version in ("1.1.0", "1.2.0")
    )  # fmt: skip
    document = {
        "require": {"rain/units": "^1.0"},
        "repositories": {"own": {"type": "artifact", "url": "archives", "exclude": ["rain/other"]}},
    }
    files: dict[str, Any] = {
        "public/index.php": "<?php",
        "composer.json": json.dumps(document),
        "archives/old.zip": old,
        "archives/new.zip": new,
        "archives/notes.zip": b"no archive",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out + run.err
    assert php(clone, "UNITS") == "1.2.0"


def tarball(members: dict[str, bytes]) -> bytes:
    packed = io.BytesIO()
    with tarfile.open(fileobj=packed, mode="w:gz") as archive:
        for name, content in members.items():
            info = tarfile.TarInfo(f"package-1a2b/{name}")
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return packed.getvalue()


@pytest.mark.needs("php")
def test_an_archive_may_be_a_tarball(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url)
    lock = json.loads(files["composer.lock"])
    lock["packages"][0]["dist"] = {
        "type": "tar", "url": f"{registry.url}amounts.tgz", "shasum": "", "reference": "1a2b",
    }  # fmt: skip
    registry.files["amounts.tgz"] = tarball(
        {
            "src/Amount.php": b"<?php namespace Pluvial; class Amount {}",
            "functions.php": b"<?php",
            "old/t.php": b"<?php class RainTable {}",
        }
    )
    clone, run = installed(machine, {**files, "composer.lock": json.dumps(lock)})
    assert run.status == 0, run.out
    assert php(clone, "class_exists('Pluvial\\\\Amount') && class_exists('RainTable')") is True


@pytest.mark.needs("php")
def test_a_mirror_is_asked_first_where_it_is_preferred_and_else_afterwards(
    machine: Machine, registry: PhpRegistry
) -> None:
    files = clone_files([AMOUNTS, SHEET], registry.url)
    lock = json.loads(files["composer.lock"])
    for one, preferred in zip(lock["packages"], (True, False), strict=True):
        real, absent = one["dist"]["url"], f"{registry.url}gone/{one['name']}.zip"
        one["dist"] |= {"url": real if preferred else absent,
                        "mirrors": [{"url": absent if preferred else real, "preferred": preferred}]}  # fmt: skip
    clone, run = installed(machine, {**files, "composer.lock": json.dumps(lock)})
    assert run.status == 0, run.out
    assert php(clone, "class_exists('Hollin_Sheet')") is True
    assert {"gone/hollin/sheet.zip", "gone/pluvial/amounts.zip"} <= {*registry.asked}


@pytest.mark.needs("php")
def test_the_repository_is_taken_where_the_archive_is_gone(
    machine: Machine, registry: PhpRegistry, repository: Path
) -> None:
    commit = git(repository, "rev-parse", "v1.0.0")
    units = php_archive("rain/units", "1.0.0", autoload={"psr-4": {"Units\\": "src/"}})
    files = clone_files([AMOUNTS, units], registry.url)
    lock = json.loads(files["composer.lock"])
    for one in lock["packages"]:
        if one["name"] == "rain/units":
            one["dist"] |= {"url": f"{registry.url}gone.zip", "shasum": "", "reference": commit}
            one["source"] = {"type": "git", "url": f"file://{repository}", "reference": commit}
    clone, run = installed(machine, {**files, "composer.lock": json.dumps(lock)})
    assert run.status == 0, run.out
    assert php(clone, "Units\\Mm::SAYS") == "one"
    for one in lock["packages"]:
        if one["name"] == "rain/units":
            one["source"]["reference"] = "0" * 40
            one["dist"]["reference"] = "0" * 40
    _, run = installed(machine, {**files, "composer.lock": json.dumps(lock)}, name="second")
    assert run.status == 1 and "its archive cannot be had" in run.out and "gone.zip" in run.out


@pytest.mark.needs("php")
def test_older_ways_of_loading_and_other_places(machine: Machine) -> None:
    """``target-dir``, include paths, and installer paths by type and by name."""
    old = php_archive("rain/old", "1.0.0", {"Gauge.php": "<?php namespace Rain\\Old; class Gauge {}"},
                      autoload={"psr-0": {"Rain\\Old": ""}}, target_dir="Rain/Old")  # fmt: skip
    path = php_archive("rain/path", "1.0.0", {"lib/on_path.php": "<?php const ON_PATH = 3;"},
                       include_path=["lib/"])  # fmt: skip
    module = php_archive("rain/chart", "1.0.0", {"chart.php": "<?php"}, type="drupal-module")
    named = php_archive("rain/skin", "1.0.0", {"skin.php": "<?php"}, type="library")
    installers = php_archive("composer/installers", "1.12.0", type="composer-plugin")
    archives = [old, path, module, named, installers]
    manifest = {
        "extra": {"installer-paths": {"web/modules/{$name}": ["type:drupal-module"], "web/skins/{$vendor}-{$name}/":
                                      ["rain/skin"]}}
    }  # fmt: skip
    with serving_php(archives) as registry:
        files = clone_files(archives, registry.url, manifest, page="<?php echo 'rain';")
        clone, run = installed(machine, files)
        assert run.status == 0, run.out
        assert (clone / "vendor/rain/old/Rain/Old/Gauge.php").is_file()
        assert php(clone, "class_exists('Rain\\\\Old\\\\Gauge')") is True
        assert php(clone, "(include 'on_path.php') ? ON_PATH : 0") == 3
        assert (clone / "web/modules/chart/chart.php").is_file()
        assert (clone / "web/skins/rain-skin/skin.php").is_file()
        assert not (clone / "vendor/rain/chart").exists()
        told = "Composer\\InstalledVersions::getInstallPath('rain/chart')"
        assert php(clone, f"realpath({told})") == str(clone / "web/modules/chart")
        shutil.rmtree(clone / "web/skins")
        assert installed(machine, {})[1].status == 0 and (clone / "web/skins/rain-skin/skin.php").is_file()
    assert os.listdir(clone / "web") and "rain/chart" not in os.listdir(clone / "vendor/rain")


@pytest.mark.needs("php")
def test_an_archive_of_another_kind_is_named(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url)
    lock = json.loads(files["composer.lock"])
    lock["packages"][0]["dist"] |= {"type": "rar", "shasum": ""}
    registry.files[AMOUNTS.path] = zipped({"a.php": b"<?php"})
    _, run = installed(machine, {**files, "composer.lock": json.dumps(lock)})
    assert run.status == 1 and "its archive is of the kind 'rar', and zip and tar are read" in run.out


@pytest.mark.needs("php")
def test_of_packages_that_share_a_namespace_the_first_by_name_is_asked_first(machine: Machine) -> None:
    """Not the first in the lock, nor the one that others need."""
    archives = [
        php_archive(f"rain/{name}", "1.0.0", {"Mm.php": f"<?php namespace Units; class Mm {{ const SAYS = '{name}'; }}"},
                    autoload={"psr-4": {"Units\\": ""}}, **more)
        for name, more in {"clouds": {"require": {"rain/drops": "*"}}, "drops": {}, "air": {}}.items()
    ]  # fmt: skip
    with serving_php(archives) as registry:
        clone, run = installed(machine, clone_files(archives, registry.url, page="<?php echo 'rain';"))
    assert run.status == 0 and php(clone, "Units\\Mm::SAYS") == "air", run.out
