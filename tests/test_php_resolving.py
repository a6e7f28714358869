"""PHP without a lock: which versions are chosen, of which registries, and what is said where none fit."""

from __future__ import annotations

import hashlib
import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, Run

from plainfall.ecosystems.php.lists.manifests import read_lock
from plainfall.ecosystems.php.resolve.registry import Offers, Repository, repositories_of
from plainfall.ecosystems.php.resolve.resolving import Machine as Php
from plainfall.ecosystems.php.resolve.resolving import lock_text, resolve
from plainfall.errors import DependencyProblem, HashMismatch
from plainfall.packages.client import Connection
from plainfall.standins.php_registry import PhpArchive, php_archive, serving_php

HERE = Php("8.2.7", {"json": "8.2.7"})


def units(version: str, **more: Any) -> PhpArchive:
    return php_archive("rain/units", version, {"u.php": f"<?php // {version}"}, **more)


EVERY = [
    units("1.0.0"), units("1.2.0"), units("1.3.0-beta1"), units("2.0.0", require={"php": ">=9"}), units("dev-main"),
    php_archive("rain/page", "1.0.0", require={"rain/units": "^1.0"}),
    php_archive("rain/page", "2.0.0", require={"rain/units": "^1.1", "ext-radar": "*"}),
    php_archive("rain/whole", "3.1.0", replace={"rain/units": "self.version", "rain/drops": "self.version"}),
    php_archive("rain/asks-drops", "1.0.0", require={"rain/drops": "^3.0"}),
    php_archive("rain/log", "1.0.0", provide={"rain/log-contract": "1.0"}),
    php_archive("rain/asks-log", "1.0.0", require={"rain/log-contract": "^1.0", "rain/log": "*"}),
    php_archive("rain/old", "1.0.0", require={"rain/units": "1.0.0"}),
]  # fmt: skip


def chosen(
    require: dict[str, str], folder: Path, dev: dict[str, str] | None = None, **more: Any
) -> dict[str, str]:
    document = {"require": require, "require-dev": dev or {}, **more}
    with serving_php(EVERY) as registry:
        offers = Offers([Repository("composer", registry.url, {})], folder, Connection(), {})
        try:
            packages = resolve(document, "composer.json", offers, HERE)
        finally:
            offers.close()
    (folder / "composer.lock").write_text(lock_text(document, packages))
    read = read_lock(folder, "composer.lock")
    assert {one.name for one in read.packages} == {one.name for one in packages}
    return {one.name + ("*" if one.is_dev else ""): one.version for one in packages}


@pytest.mark.parametrize(
    ("require", "more", "found"),
    [
        ({"rain/units": "^1.0"}, {}, {"rain/units": "1.2.0"}),
        ({"rain/units": "^1.0@beta"}, {}, {"rain/units": "1.3.0-beta1"}),
        ({"rain/units": "*"}, {"minimum-stability": "beta"}, {"rain/units": "1.3.0-beta1"}),
        ({"rain/units": "*"}, {"minimum-stability": "dev", "prefer-stable": True}, {"rain/units": "1.2.0"}),
        ({"rain/units": "dev-main"}, {}, {"rain/units": "dev-main"}),
        ({"rain/units": ">=1", "php": ">=8"}, {}, {"rain/units": "1.2.0"}),
        ({"rain/page": "*"}, {}, {"rain/page": "1.0.0", "rain/units": "1.2.0"}),
        (
            {"rain/page": "*", "rain/old": "*"},
            {},
            {"rain/page": "1.0.0", "rain/units": "1.0.0", "rain/old": "1.0.0"},
        ),
        (
            {"rain/whole": "*", "rain/asks-drops": "*"},
            {},
            {"rain/whole": "3.1.0", "rain/asks-drops": "1.0.0"},
        ),
        ({"rain/asks-log": "*"}, {}, {"rain/asks-log": "1.0.0", "rain/log": "1.0.0"}),
        (
            {"rain/page": "*"},
            {"config": {"platform": {"ext-radar": "1.0"}}},
            {"rain/page": "2.0.0", "rain/units": "1.2.0"},
        ),
    ],
)
def test_versions_that_are_chosen(
    tmp_path: Path, require: dict[str, str], more: dict[str, Any], found: dict[str, str]
) -> None:
    assert chosen(require, tmp_path, **more) == found


def test_what_only_development_needs_is_marked(tmp_path: Path) -> None:
    found = chosen({"rain/log": "*"}, tmp_path, {"rain/old": "*"})
    assert found == {"rain/log": "1.0.0", "rain/old*": "1.0.0", "rain/units*": "1.0.0"}


@pytest.mark.parametrize(
    ("require", "words"),
    [
        (
            {"rain/units": "^1.1", "rain/old": "*"},
            ["rain/old 1.0.0 asks for rain/units 1.0.0", "asks for rain/units ^1.1"],
        ),
        ({"rain/absent": "*"}, ["no repository has rain/absent"]),
        (
            {"rain/units": "^2.0"},
            ["rain/units: ", "2.0.0 needs PHP >=9", "1.3.0-beta1 is not stable enough (beta)"],
        ),
        ({"rain/whole": "*", "rain/page": "*"}, ["rain/page 1.0.0 asks for rain/units ^1.0"]),
        ({"rain/units": "rain"}, ["'rain' is no version constraint"]),
    ],
)
def test_what_is_said_where_none_fit(tmp_path: Path, require: dict[str, str], words: list[str]) -> None:
    with pytest.raises(DependencyProblem) as caught:
        chosen(require, tmp_path)
    told = "\n".join([str(caught.value), *caught.value.lines])
    assert [one for one in words if one not in told] == [], told


def offered(files: dict[str, bytes], name: str) -> list[str]:
    with serving_php([]) as registry:
        registry.files.update(files)
        offers = Offers([Repository("composer", registry.url, {})], Path("/nonexistent"), Connection(), {})
        try:
            return [one.version for one in offers.of(name)]
        finally:
            offers.close()


def row(version: str) -> dict[str, Any]:
    return {
        "name": "rain/units",
        "version": version,
        "dist": {"type": "zip", "url": "https://registry.example/u.zip"},
    }


def test_the_first_version_of_the_protocol_is_read() -> None:
    document = json.dumps(
        {"packages": {"rain/units": {"1.0.0": row("1.0.0"), "1.1.0": row("1.1.0")}}}
    ).encode()
    digest = hashlib.sha256(document).hexdigest()
    providers = json.dumps({"providers": {"rain/units": {"sha256": digest}}}).encode()
    other = hashlib.sha256(providers).hexdigest()
    top = {
        "packages": [],
        "providers-url": "/p/%package%$%hash%.json",
        "provider-includes": {"p/all$%hash%.json": {"sha256": other}},
    }
    files = {
        "packages.json": json.dumps(top).encode(),
        f"p/all${other}.json": providers,
        f"p/rain/units${digest}.json": document,
    }
    assert offered(files, "rain/units") == ["1.0.0", "1.1.0"]
    with pytest.raises(HashMismatch, match="has the digest"):
        offered({**files, f"p/rain/units${digest}.json": document + b" "}, "rain/units")


def test_shortened_metadata_included_lists_and_patterns() -> None:
    second = {"version": "0.9.0", "dist": "__unset"}
    versions = {"packages": {"rain/units": [row("1.0.0"), second]}, "minified": "composer/2.0"}
    top = {"metadata-url": "/v/%package%.json", "available-package-patterns": ["rain/*"]}
    files = {"packages.json": json.dumps(top).encode(), "v/rain/units.json": json.dumps(versions).encode()}
    assert offered(files, "rain/units") == ["1.0.0", "0.9.0"]
    assert offered(files, "snow/units") == []
    inner = json.dumps({"packages": {"rain/units": {"1.0.0": row("1.0.0")}}}).encode()
    listed = {"packages": {}, "includes": {"all.json": {"sha1": hashlib.sha1(inner).hexdigest()}}}
    assert offered({"packages.json": json.dumps(listed).encode(), "all.json": inner}, "rain/units") == [
        "1.0.0"
    ]


def test_folders_and_inline_packages(tmp_path: Path) -> None:
    (tmp_path / "packages/own").mkdir(parents=True)
    (tmp_path / "packages/own/composer.json").write_text('{"name": "gauges/own", "version": "1.5.0"}')
    document = {
        "repositories": {
            "a": {"type": "path", "url": "packages/*"},
            "b": {"type": "package", "package": row("4.0.0")},
            "c": {"type": "path", "url": "../*"},
            "d": False,
        }
    }
    offers = Offers(repositories_of(document), tmp_path, Connection(), {})
    try:
        assert [one.dist["url"] for one in offers.of("gauges/own")] == ["packages/own"]
        assert [one.version for one in offers.of("rain/units")] == ["4.0.0"]
    finally:
        offers.close()


def onboarded(machine: Machine, clone: Path) -> Run:
    return machine.run("onboard", clone, "--until", "dependencies", "--json")


@pytest.mark.skipif(shutil.which("php") is None, reason="no PHP here")
def test_a_clone_without_a_lock(machine: Machine) -> None:
    files = {
        "composer.json": '{"require": {"rain/old": "*"}}',
        "index.php": "<?php echo 'The readings of the day, in one line';",
    }
    clone = machine.clone(files)
    run = onboarded(machine, clone)
    assert run.status == 1 and "no registry is configured here" in run.out
    with serving_php(EVERY) as registry:
        folder = machine.home / ".config/composer"
        folder.mkdir(parents=True)
        (folder / "config.json").write_text(
            json.dumps({"repositories": [{"type": "composer", "url": registry.url}]})
        )
        run = onboarded(machine, clone)
        assert run.status == 0, run.out
        assert not (clone / "composer.lock").exists()
        asked = len(registry.asked)
        assert onboarded(machine, clone).states["dependencies"] == "kept" and len(registry.asked) == asked
    assert (
        json.loads((clone / "vendor/composer/installed.json").read_text())["packages"][1]["version"]
        == "1.0.0"
    )
