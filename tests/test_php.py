"""PHP by its pieces: constraints, version asks, the lexer, locks, the order of packages, extensions."""

from __future__ import annotations

import itertools
import json
import random
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import Machine
from php_clones import clone_files

from plainfall.clone.walk import walk
from plainfall.ecosystems.php.install.autoload import Laid, in_order
from plainfall.ecosystems.php.install.classmap import classes_in
from plainfall.ecosystems.php.install.places import place_of, vendor_folder
from plainfall.ecosystems.php.lists.manifests import fingerprint, mismatches, read_lock
from plainfall.ecosystems.php.resolve.versions import admits, compare, constraint, normalized, stability
from plainfall.ecosystems.php.runtime.asks import php_asks
from plainfall.ecosystems.php.runtime.platform import extension_needs, system_package
from plainfall.errors import BadInput
from plainfall.standins.php_registry import php_archive, serving_php

LIBRARY = Path("/usr/share/php/Composer/Semver/autoload.php")


@pytest.mark.parametrize(
    ("text", "normal"),
    [
        ("1.2", "1.2.0.0"),
        ("v1.2.3-beta.4", "1.2.3.0-beta4"),
        ("2.0RC1", "2.0.0.0-RC1"),
        ("1.0-pl2", "1.0.0.0-patch2"),
        ("dev-main", "dev-main"),
        ("1.x-dev", "1.9999999.9999999.9999999-dev"),
        ("2026.01.05", "2026.01.05.0"),
        ("20260105", "20260105"),
        ("1.0.0+build7", "1.0.0.0"),
        ("dev-main as 1.2.0", "dev-main"),
    ],
)
def test_versions_in_their_normal_form(text: str, normal: str) -> None:
    assert normalized(text) == normal


@pytest.mark.parametrize("text", ["", "rain", "1.2.3.4.5", "1.0-rain"])
def test_what_is_no_version(text: str) -> None:
    with pytest.raises(ValueError, match="no version"):
        normalized(text)


@pytest.mark.parametrize(
    ("text", "inside", "outside"),
    [
        ("^1.2", "1.9", "2.0"),
        ("^0.3", "0.3.9", "0.4"),
        ("^0.0.3", "0.0.3", "0.0.4"),
        ("~1.2", "1.9", "2.0"),
        ("~1.2.3", "1.2.9", "1.3"),
        ("1.2.*", "1.2.7", "1.3"),
        ("1.0 - 2.0", "2.0.9", "2.1"),
        ("1.0 - 2.0.0", "2.0.0", "2.0.1"),
        (">=1.0 <1.5, !=1.2", "1.4", "1.2"),
        ("^7.2 || ^8.0", "8.3", "9.0"),
        (">=1.0", "1.0", "0.9"),
        (">1.0", "1.0.1", "1.0"),
        ("1.0", "1.0.0", "1.0.1"),
        ("dev-main", "dev-main", "1.0"),
        ("dev-main#1a2b3c4", "dev-main", "dev-other"),
        ("^1.0@beta", "1.0.1-beta1", "2.0"),
        ("*", "0.0.1", "dev-main as"),
    ],
)
def test_constraints(text: str, inside: str, outside: str) -> None:
    assert constraint(text).admits(normalized(inside))
    if outside != "dev-main as":
        assert not constraint(text).admits(normalized(outside))


def test_the_order_of_versions_and_their_stability() -> None:
    ordered = ["1.0-dev", "1.0-alpha2", "1.0-beta1", "1.0-RC1", "1.0", "1.0-p1", "1.0.1", "1.10"]
    for first, second in itertools.pairwise(ordered):
        assert compare(normalized(first), normalized(second)) < 0, (first, second)
    assert [stability(one) for one in ("1.0", "1.0-RC2", "dev-main", "1.x-dev", "2.0b1")] == [
        "stable", "RC", "dev", "dev", "beta",
    ]  # fmt: skip
    with pytest.raises(BadInput, match="no version constraint"):
        admits(">=rain", "1.0")


@pytest.mark.skipif(not LIBRARY.is_file() or shutil.which("php") is None, reason="the library is not here")
def test_random_pairs_are_judged_as_the_ecosystems_own_library_judges_them() -> None:
    draw = random.Random(11)

    def number() -> str:
        return ".".join(str(draw.choice([0, 1, 1, 2, 3, 10])) for _ in range(draw.choice([1, 2, 3, 3, 4])))

    def version() -> str:
        return number() + draw.choice(["", "", "", "-beta1", "-RC2", "-dev", "-alpha", "b2", "-p1"])

    def single() -> str:
        kind = draw.randrange(7)
        if kind < 3:
            return draw.choice(["^", "~", ">=", "<", "!=", ">", "<=", ""]) + version()
        if kind == 3:
            return ".".join(number().split(".")[:3]) + draw.choice([".*", ".x"])
        if kind == 4:
            return f"{version()} - {version()}"
        return draw.choice(["*", "dev-main", f">={number()} <{number()}", f"{number()}.x-dev"])

    pairs = [
        [draw.choice([version(), "dev-main"]), " || ".join(single() for _ in range(draw.choice([1, 1, 2])))]
        for _ in range(2_000)
    ]
    program = (
        f"require '{LIBRARY}'; $p = new Composer\\Semver\\VersionParser; $rows = [];"
        "foreach (json_decode(stream_get_contents(STDIN)) as [$v, $c]) { try { $n = $p->normalize($v);"
        "$rows[] = [$n, $p->parseConstraints($c)->matches(new Composer\\Semver\\Constraint\\Constraint('==', $n))];"
        "} catch (\\Throwable $e) { $rows[] = null; } } echo json_encode($rows);"
    )
    done = subprocess.run(
        ["php", "-r", program], input=json.dumps(pairs), capture_output=True, text=True, check=True
    )
    wrong = []
    for (text, asked), row in zip(pairs, json.loads(done.stdout), strict=True):
        try:
            mine = [normalized(text), constraint(asked).admits(normalized(text))]
        except ValueError:
            mine = None
        if mine != row:
            wrong.append((text, asked, row, mine))
    assert wrong == []


@pytest.mark.parametrize(
    ("files", "asked"),
    [
        ({".php-version": "8.1\n"}, ["8.1.*"]),
        ({".php-version": "8.1.7 # as the server\n"}, ["8.1.7"]),
        ({".tool-versions": "php 8.2.3\n"}, ["8.2.3"]),
        ({"composer.json": '{"require": {"php": "^8.0"}}'}, ["^8.0"]),
        ({"composer.json": '{"config": {"platform": {"php": "7.4.33"}}}'}, ["7.4.*"]),
        ({"Dockerfile": "FROM php:8.1-fpm\n"}, ["8.1.*"]),
        ({".github/workflows/ci.yml": "php-version: ['8.0', '8.1']\n"}, ["8.0.*", "8.1.*"]),
        ({"README.md": "Runs on PHP 7.4 or newer.\n"}, [">=7.4"]),
        ({"README.md": "Runs on PHP.\n"}, []),
    ],
)  # fmt: skip
def test_places_that_ask_for_a_version(machine: Machine, files: dict[str, str], asked: list[str]) -> None:
    tree = walk(machine.clone({"index.php": "<?php", **files}))
    assert [ask.specifier for ask in php_asks(tree, "")] == asked


def test_a_version_file_that_names_none(machine: Machine) -> None:
    with pytest.raises(BadInput, match=r"\.php-version:1: 'newest' is no PHP version"):
        php_asks(walk(machine.clone({".php-version": "newest\n"})), "")


@pytest.mark.parametrize(
    ("source", "names"),
    [
        (
            "<?php namespace A\\B; final class C {} interface D {} trait E {} enum F: int {}",
            "A\\B\\C A\\B\\D A\\B\\E A\\B\\F",
        ),
        ("<?php namespace A { class B {} } namespace { class C {} }", "A\\B C"),
        ("<?php // class A {}\n# class B {}\n/* class C {} */ class D {}", "D"),
        ("<?php $a = 'class A {}'; $b = \"class B {}\"; $c = `class C`; class D {}", "D"),
        ("<?php $a = <<<X\nclass A {}\nX;\nclass B {}", "B"),
        ("<?php $a = <<<'X'\n  class A {}\n  X . 'x'; class B {}", "B"),
        ("class A {} <?php class B {} ?> class C {} <?php class D {}", "B D"),
        ("<?php $x = new class extends A {}; $y = A::class ; class B {}", "B"),
        ("<?php #[Some] class A { function interface_of() { return $this->class ; } }", "A"),
        ("<?php function f() {}", ""),
        ("<?php abstract class A { const TEXT = 'don\\'t class B {}'; } CLASS C {}", "A C"),
    ],
)
def test_classes_of_a_file(source: str, names: str) -> None:
    assert classes_in(source.encode()) == names.split()


def test_packages_that_others_need_come_first() -> None:
    def laid(name: str, *needs: str) -> Laid:
        return Laid(name, {"require": dict.fromkeys(needs, "*")}, f"vendor/{name}")

    packages = [
        laid("a/app", "a/web", "a/log"),
        laid("a/web", "a/log"),
        laid("a/log"),
        laid("a/x10"),
        laid("a/x9"),
    ]
    assert [one.name for one in in_order(packages)] == ["a/log", "a/web", "a/app", "a/x9", "a/x10"]
    circle = [laid("b/one", "b/two"), laid("b/two", "b/one")]
    assert {one.name for one in in_order(circle)} == {"b/one", "b/two"}


def test_the_manifests_fingerprint_is_that_of_its_json_as_php_writes_it() -> None:
    document = {"require": {"a/b": "^1", "php": ">=8"}, "name": "x/y", "extra": {}, "scripts": {"a": "b"}}
    if shutil.which("php"):
        program = (
            '$d = ["require" => ["a/b" => "^1", "php" => ">=8"], "name" => "x/y", "extra" => []];'
            "ksort($d); echo md5(json_encode($d));"
        )
        done = subprocess.run(["php", "-r", program], capture_output=True, text=True, check=True)
        assert fingerprint(document) == done.stdout


def lock_of(machine: Machine, packages: list[dict[str, object]], **more: object) -> Path:
    return machine.clone({"composer.lock": json.dumps({"packages": packages, **more}, indent=2)})


def test_what_a_lock_does_not_meet(machine: Machine) -> None:
    packages: list[dict[str, object]] = [
        {"name": "a/b", "version": "1.4.0"},
        {"name": "a/c", "version": "dev-main", "extra": {"branch-alias": {"dev-main": "2.x-dev"}}},
        {"name": "a/d", "version": "3.0", "replace": {"a/old": "self.version"}},
    ]
    lock = read_lock(lock_of(machine, packages), "composer.lock")
    asked = {"a/b": "^1.0", "a/c": "2.*@dev", "a/old": "*", "php": "^8", "ext-mbstring": "*"}
    assert mismatches({"require": asked}, lock) == []
    wrong = mismatches({"require": {"a/b": "^2.0", "a/e": "*", "a/d": ">=rain"}}, lock)
    assert wrong == [
        "a/b is 1.4.0 in it, and ^2.0 is asked for",
        "a/e is not in it",
        "a/d: '>=rain' is no version constraint",
    ]


@pytest.mark.parametrize(
    ("packages", "words"),
    [
        (
            [{"name": "../../etc", "version": "1.0"}],
            r"composer\.lock:4: '\.\./\.\./etc' is no name of a package",
        ),
        ([{"name": "a/b", "version": "rain"}], r"composer\.lock:4: 'rain' is no version of a/b"),
        ([{"name": "a/b", "version": "1.0"}, {"name": "A/b", "version": "2.0"}], "stands in it twice"),
    ],
)
def test_a_lock_that_cannot_be_right(machine: Machine, packages: list[dict[str, object]], words: str) -> None:
    with pytest.raises(BadInput, match=words):
        read_lock(lock_of(machine, packages), "composer.lock")


def test_a_lock_without_packages(machine: Machine) -> None:
    with pytest.raises(BadInput, match="it has no list of packages"):
        read_lock(machine.clone({"composer.lock": "{}"}), "composer.lock")


def test_extensions_are_asked_for_by_all_and_stood_in_for(machine: Machine) -> None:
    packages = [
        {"name": "a/b", "version": "1.0", "require": {"ext-mbstring": "*", "ext-intl": "*"}},
        {"name": "a/polyfill", "version": "1.0", "provide": {"ext-mbstring": "*"}},
    ]
    files = {
        "composer.json": '{"require": {"ext-Zend OPcache": "*"}}',
        "composer.lock": json.dumps({"packages": packages}),
    }
    needs = extension_needs(walk(machine.clone(files)), "")
    assert [(one.name, one.asked_by) for one in needs] == [
        ("zend-opcache", "the manifest"),
        ("intl", "a/b 1.0"),
    ]
    assert system_package("simplexml", "8.2.7") == "php8.2-xml"
    assert (
        system_package("pdo_mysql", "8.1") == "php8.1-mysql" and system_package("redis", "8.1") == "php-redis"
    )


@pytest.mark.parametrize("named", ["../out", "/tmp/x", ".git/x", "a/../../b", "~/x", "."])
def test_packages_are_laid_into_a_folder_of_the_clone_only(named: str) -> None:
    with pytest.raises(
        BadInput, match=r"config\.vendor-dir is .*, and packages are laid into a folder of the clone"
    ):
        vendor_folder({"config": {"vendor-dir": named}})


def test_installer_paths(machine: Machine) -> None:
    entry: dict[str, object] = {"name": "rain/radar", "version": "1.0", "type": "gauge-module"}
    lock = read_lock(lock_of(machine, [entry]), "composer.lock")
    document = {"extra": {"installer-paths": {"web/modules/{$name}/": ["type:gauge-module"]}}}
    assert place_of(lock.packages[0], document, ["composer/installers"]) == "web/modules/radar"
    assert place_of(lock.packages[0], document, []) == "vendor/rain/radar"


@pytest.mark.needs("git")
def test_what_doctrine_wants_is_run_in_order(machine: Machine) -> None:
    """Migrations, fixtures, import map: a console of the test's own tells what it was asked for."""
    archives = [php_archive(name) for name in ("symfony/framework-bundle", "doctrine/doctrine-bundle",
                "doctrine/doctrine-migrations-bundle", "doctrine/doctrine-fixtures-bundle")]  # fmt: skip
    told = "<?php file_put_contents('told.txt', implode(' ', array_slice($argv, 1)) . \"\\n\", FILE_APPEND); echo '{}';"
    with serving_php(archives) as registry:
        files = {
            **clone_files(
                archives, registry.url, page="<?php echo '<!doctype html><title>Rain</title><h1>Rain</h1>';"
            ),
            "bin/console": told,
            "migrations/Version1.php": "<?php",
            "src/DataFixtures/Stations.php": "<?php",
            "importmap.php": "<?php",
        }
        clone = machine.clone(files)
        subprocess.run(["git", "init", "-q", str(clone)], check=True)
        run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out
    assert (clone / "told.txt").read_text().splitlines() == [
        "doctrine:migrations:migrate --no-interaction --allow-no-migration",
        "doctrine:fixtures:load --append --no-interaction",
        "importmap:install",
    ]
    again = machine.run("onboard", clone, "--json")
    assert {again.states[stage] for stage in ("migrations", "seeds", "tasks")} == {"kept"}
    assert "/var/cache/" in (clone / ".git/info/exclude").read_text().splitlines()
    machine.run("stop", "--all")
