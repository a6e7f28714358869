"""PHP packages by the built program: fetched, checked, laid, loaded, taken out again; scripts, programs, bad input."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, Run
from msgspec.structs import replace
from php_clones import AMOUNTS, SHEET, TOOL, clone_files

from plainfall.standins.php_registry import PhpRegistry, php_archive, serving_php, zipped

EVERY = [AMOUNTS, SHEET, TOOL]


@pytest.fixture
def registry() -> Iterator[PhpRegistry]:
    with serving_php(EVERY) as served:
        yield served


def installed(machine: Machine, files: dict[str, str], name: str = "gauges") -> tuple[Path, Run]:
    clone = machine.clone(files, name=name)
    words = ("--allow-install-code", "composer.json")  # the clone's own scripts
    return clone, machine.run("onboard", clone, "--until", "dependencies", "--json", *words)


def php(clone: Path, program: str) -> Any:
    done = subprocess.run(
        ["php", "-r", f"require 'vendor/autoload.php'; echo json_encode({program});"],
        cwd=clone, capture_output=True, text=True, check=True,
    )  # fmt: skip
    return json.loads(done.stdout)


@pytest.mark.needs("php")
def test_a_page_from_nothing_and_nothing_to_do_the_next_time(machine: Machine, registry: PhpRegistry) -> None:
    clone = machine.clone(clone_files(EVERY, registry.url))
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    assert run.step("dependencies")["title"].startswith("3 packages installed (3 fetched")
    assert '"Rain"' in run.step("probe")["title"]
    [server] = run.document["servers"]
    page = subprocess.run(["curl", "-s", server["url"]], capture_output=True, text=True).stdout
    assert page == "<!doctype html><title>Rain</title>4 mm table"
    again = machine.run("onboard", clone, "--json")
    assert {again.states[stage] for stage in ("dependencies", "environment", "server", "probe")} == {"kept"}
    asked = len(registry.asked)
    other = machine.run("onboard", machine.clone(clone_files(EVERY, registry.url), name="other"), "--json")
    assert other.status == 0 and "all from the cache" in other.step("dependencies")["title"]
    assert len(registry.asked) == asked
    inside = machine.run("inside", clone, "--", "gauge-tool", "7")
    assert inside.out.strip() == "7 mm", inside.out + inside.err
    machine.run("stop", "--all")


@pytest.mark.needs("php")
def test_what_programs_read_of_installed_packages(machine: Machine, registry: PhpRegistry) -> None:
    manifest = {
        "require-dev": {"hollin/tool": "*"},
        "require": {"pluvial/amounts": "^1.2", "hollin/sheet": "*"},
        "autoload": {"psr-4": {"Gauges\\": "src/"}},
        "config": {"optimize-autoloader": True},
    }
    files = {
        **clone_files(EVERY, registry.url, manifest),
        "src/Station.php": "<?php namespace Gauges; class Station {}",
    }
    clone, run = installed(machine, files)
    assert run.status == 0, run.out + run.err
    told = "Composer\\InstalledVersions"
    assert php(clone, f"{told}::getInstalledPackages()") == [
        "gauges/page", "hollin/sheet", "hollin/tool", "pluvial/amounts",
    ]  # fmt: skip
    assert php(clone, f"{told}::getPrettyVersion('pluvial/amounts')") == "1.2.0"
    assert php(clone, f"{told}::isInstalled('hollin/tool', false)") is False
    assert php(clone, f"realpath({told}::getInstallPath('hollin/sheet'))") == str(
        clone / "vendor/hollin/sheet"
    )
    assert php(clone, f"{told}::getRootPackage()['name']") == "gauges/page"
    loader = "(require 'vendor/autoload.php')"
    assert php(clone, f"array_keys({loader}->getPrefixesPsr4())") == ["Pluvial\\", "Gauges\\"]
    classes = php(clone, f"array_keys({loader}->getClassMap())")
    assert classes == [
        "Composer\\InstalledVersions",
        "Gauges\\Station",
        "Hollin_Sheet",
        "Pluvial\\Amount",
        "RainTable",
    ]
    assert php(clone, "Pluvial\\Amount::words(3)") == "3 mm"
    assert php(clone, "class_exists('Absent')") is False
    document = json.loads((clone / "vendor/composer/installed.json").read_text())
    assert document["dev-package-names"] == ["hollin/tool"]
    assert [one["install-path"] for one in document["packages"]] == [
        "../hollin/sheet",
        "../hollin/tool",
        "../pluvial/amounts",
    ]


@pytest.mark.needs("php")
def test_what_the_lock_no_longer_lists_goes_and_what_it_lists_anew_comes(
    machine: Machine, registry: PhpRegistry
) -> None:
    clone, _ = installed(machine, clone_files(EVERY, registry.url))
    files = clone_files([AMOUNTS, SHEET], registry.url)
    _, run = installed(machine, files)
    assert run.status == 0 and "1 removed" in run.step("dependencies")["title"], run.out
    assert not (clone / "vendor/hollin/tool").exists() and not (clone / "vendor/bin/gauge-tool").exists()
    newer = replace(
        SHEET, version="0.5.0", content=zipped({"lib/Hollin/Sheet.php": b"<?php class Hollin_Sheet {}"})
    )
    registry.files[newer.path] = newer.content
    _, run = installed(machine, clone_files([AMOUNTS, newer], registry.url))
    assert run.status == 0 and "1 kept" in run.step("dependencies")["title"], run.out
    assert php(clone, "Composer\\InstalledVersions::getVersion('hollin/sheet')") == "0.5.0.0"
    assert "title" not in (clone / "vendor/hollin/sheet/lib/Hollin/Sheet.php").read_text()


@pytest.mark.needs("php")
def test_an_edited_file_is_laid_again_and_a_deleted_one_too(machine: Machine, registry: PhpRegistry) -> None:
    clone, _ = installed(machine, clone_files([AMOUNTS], registry.url))
    shutil.rmtree(clone / "vendor/pluvial")
    _, run = installed(machine, {})
    assert run.status == 0 and run.states["dependencies"] == "done"
    assert php(clone, "Pluvial\\Amount::words(1)") == "1 mm"


@pytest.mark.needs("php")
def test_packages_that_another_client_laid_are_taken_over(machine: Machine, registry: PhpRegistry) -> None:
    files = {
        **clone_files([AMOUNTS], registry.url),
        "vendor/composer/installed.json": json.dumps(
            {"packages": [{"name": "old/left"}, {"name": "pluvial/amounts"}]}
        ),
        "vendor/old/left/composer.json": "{}",
        "vendor/pluvial/amounts/composer.json": "{}",
        "vendor/notes.txt": "mine",
    }
    clone, run = installed(machine, files)
    assert run.status == 0, run.out
    assert not (clone / "vendor/old/left").exists() and (clone / "vendor/notes.txt").read_text() == "mine"
    assert (clone / "vendor/pluvial/amounts/src/Amount.php").is_file()


@pytest.mark.needs("php")
def test_files_of_the_project_in_a_packages_place_are_left(machine: Machine, registry: PhpRegistry) -> None:
    files = {**clone_files([AMOUNTS], registry.url), "vendor/pluvial/amounts/my-notes.txt": "mine"}
    clone, run = installed(machine, files)
    assert run.status == 1 and "holds files that no package client laid there" in run.out
    assert (clone / "vendor/pluvial/amounts/my-notes.txt").read_text() == "mine"


@pytest.mark.needs("php")
def test_what_a_clone_lists_as_installed_is_removed_only_where_it_is_a_package(
    machine: Machine, registry: PhpRegistry
) -> None:
    listed = [{"name": "2026/january"}, {"name": "old/left"}]
    files = {
        **clone_files([AMOUNTS], registry.url, {"config": {"vendor-dir": "uploads"}}),
        "uploads/composer/installed.json": json.dumps({"packages": listed}),
        "uploads/2026/january/photo.txt": "mine",
        "uploads/old/left/composer.json": "{}",
    }
    clone, run = installed(machine, files)
    assert run.status == 0, run.out
    assert (clone / "uploads/2026/january/photo.txt").read_text() == "mine"
    assert not (clone / "uploads/old/left").exists()


@pytest.mark.needs("php")
def test_a_link_below_the_folder_of_packages_is_not_followed(machine: Machine, registry: PhpRegistry) -> None:
    clone = machine.clone({**clone_files([AMOUNTS], registry.url), "data/amounts/composer.json": "{}"})
    (clone / "vendor").mkdir()
    (clone / "vendor/pluvial").symlink_to("../data")
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 1 and "it is a link, and packages would be laid where it leads" in run.out, run.out
    assert (clone / "data/amounts/composer.json").read_text() == "{}"


@pytest.mark.needs("php")
def test_files_of_the_project_are_not_replaced_by_the_loader_or_by_programs(
    machine: Machine, registry: PhpRegistry
) -> None:
    own = "<?php // the project's own loader, of its own classes alone\n"
    files = clone_files([AMOUNTS], registry.url, {"config": {"vendor-dir": "src"}})
    clone, run = installed(machine, {**files, "src/autoload.php": own})
    assert run.status == 1 and "is the project's own file" in run.out, run.out
    assert (clone / "src/autoload.php").read_text() == own
    files = clone_files(EVERY, registry.url, {"config": {"bin-dir": "bin"}})
    clone, run = installed(machine, {**files, "bin/gauge-tool": "mine"}, name="second")
    assert run.status == 0 and (clone / "bin/gauge-tool").read_text() == "mine"
    (clone / "bin/gauge-tool").unlink()
    shutil.rmtree(clone / "vendor")
    assert installed(machine, {}, name="second")[1].status == 0
    assert "Written by Plainfall" in (clone / "bin/gauge-tool").read_text()


@pytest.mark.needs("php")
def test_an_extensions_name_brings_no_command_along(machine: Machine, registry: PhpRegistry) -> None:
    manifest = {"require": {"pluvial/amounts": "*", "ext-x; touch /tmp/climbed": "*", "ext-rainfall": "*"}}
    _, run = installed(machine, clone_files([AMOUNTS], registry.url, manifest))
    assert run.status == 1 and "lacks an extension" in run.out and "touch" not in run.step("runtime")["why"]


@pytest.mark.needs("php")
def test_a_folder_of_the_clone_is_a_package_by_a_link(machine: Machine, registry: PhpRegistry) -> None:
    own = php_archive("gauges/own", "dev-main", autoload={"psr-4": {"Own\\": "src/"}})
    files = clone_files([AMOUNTS, own], registry.url)
    lock = json.loads(files["composer.lock"])
    for one in lock["packages"]:
        if one["name"] == "gauges/own":
            one["dist"] = {"type": "path", "url": "packages/own", "reference": "1a2b"}
    files["composer.lock"] = json.dumps(lock)
    files["packages/own/src/Rain.php"] = "<?php namespace Own; class Rain {}"
    clone, run = installed(machine, files)
    assert run.status == 0, run.out
    assert os.readlink(clone / "vendor/gauges/own") == "../../packages/own"
    assert php(clone, "class_exists('Own\\\\Rain')") is True
    for one in lock["packages"]:
        if one["name"] == "gauges/own":
            one["dist"]["url"] = "../outside"
    (machine.home / "outside").mkdir()
    _, run = installed(machine, {**files, "composer.lock": json.dumps(lock)}, name="second")
    assert run.status == 1 and "which is no folder of the clone" in run.out


@pytest.mark.needs("php")
def test_an_archive_of_the_clone_is_used_and_one_outside_is_not(
    machine: Machine, registry: PhpRegistry
) -> None:
    files = clone_files([AMOUNTS], registry.url)
    lock = json.loads(files["composer.lock"])
    lock["packages"][0]["dist"]["url"] = "archives/amounts.zip"
    own: dict[str, Any] = {
        **files,
        "composer.lock": json.dumps(lock),
        "archives/amounts.zip": AMOUNTS.content,
    }
    clone = machine.clone(own)
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and php(clone, "Pluvial\\Amount::words(2)") == "2 mm", run.out
    (machine.home / "outside.zip").write_bytes(SHEET.content)
    lock["packages"][0]["dist"] |= {"url": "../outside.zip", "shasum": "", "reference": "other"}
    _, run = installed(machine, {**files, "composer.lock": json.dumps(lock)}, name="second")
    assert run.status == 1 and "../outside.zip cannot be read: it is outside the clone" in run.out


def test_what_frameworks_want_beside_their_server(machine: Machine) -> None:
    files = {
        "composer.json": '{"require": {"laravel/framework": "*"}}',
        "artisan": "<?php",
        "app/Jobs/Count.php": "<?php",
        "routes/console.php": "<?php\nSchedule::command('count')->daily();\n",
    }
    document = machine.run("survey", machine.clone(files), "--json").document
    assert {one["name"]: one["command"] for one in document["parts"][0]["processes"]} == {
        "queue": "php artisan queue:work --tries=1",
        "scheduler": "php artisan schedule:work",
    }


@pytest.mark.needs("php")
def test_scripts_run_in_order_in_the_words_of_the_manifest(machine: Machine, registry: PhpRegistry) -> None:
    manifest = {
        "autoload": {"psr-4": {"Gauges\\": "src/"}},
        "scripts": {
            "post-autoload-dump": ["Gauges\\Setup::made", "@putenv RAIN=4", "@php told.php", "@more"],
            "more": "@composer dump-autoload",
            "post-install-cmd": ["echo installed >> told.txt"],
        },
    }
    files = {
        **clone_files([AMOUNTS], registry.url, manifest),
        "src/Setup.php": "<?php namespace Gauges; use Composer\\Script\\Event; class Setup { static function made(Event $e) "
        "{ file_put_contents('told.txt', basename($e->getComposer()->getConfig()->get('vendor-dir')) . \"\\n\"); "
        "$e->getIO()->write('<info>made</info>'); } }",
        "told.php": "<?php file_put_contents('told.txt', 'rain ' . getenv('RAIN') . \"\\n\", FILE_APPEND);",
    }
    clone, run = installed(machine, files)
    assert run.status == 0, run.out + run.err
    assert (clone / "told.txt").read_text() == "vendor\nrain 4\ninstalled\n"
    assert installed(machine, {})[1].states["dependencies"] == "kept"


@pytest.mark.needs("php")
def test_a_script_that_fails_is_named(machine: Machine, registry: PhpRegistry) -> None:
    manifest = {"scripts": {"post-install-cmd": "php -r 'fwrite(STDERR, \"no rain today\\n\"); exit(3);'"}}
    _, run = installed(machine, clone_files([AMOUNTS], registry.url, manifest))
    assert run.status == 1
    assert "composer run-script post-install-cmd" in run.out and "no rain today" in run.out


@pytest.mark.needs("php")
def test_a_plugin_does_not_run_and_is_named(machine: Machine, registry: PhpRegistry) -> None:
    plugin = php_archive(
        "hollin/plugin", "1.0.0", type="composer-plugin", description="Copies pages into the web folder.",
        extra={"class": "Hollin\\Plugin"},
    )  # fmt: skip
    registry.files[plugin.path] = plugin.content
    _, run = installed(machine, clone_files([AMOUNTS, plugin], registry.url))
    assert run.status == 0
    remarks = " ".join(run.step("dependencies")["remarks"])
    assert "hollin/plugin extends the package client and did not run; it would have: Copies pages" in remarks


@pytest.mark.needs("php")
def test_a_login_is_sent_to_the_host_that_it_is_for(machine: Machine) -> None:
    login = "Basic cmVhZGVyOmRyb3Bz"
    with serving_php([AMOUNTS], login=login) as registry:
        host = registry.url.split("/")[2]
        files = clone_files([AMOUNTS], registry.url)
        own = json.dumps({"http-basic": {host: {"username": "reader", "password": "drops"}}})
        _, run = installed(machine, {**files, "auth.json": own})
        assert run.status == 1 and "pluvial/amounts 1.2.0: its archive cannot be had" in run.out, run.out
        assert "auth.json of your own configuration folder" in run.out
        folder = machine.home / ".config/composer"
        folder.mkdir(parents=True)
        (folder / "auth.json").write_text(own)
        (folder / "config.json").write_text(
            json.dumps({"repositories": [{"type": "composer", "url": registry.url}]})
        )
        _, run = installed(machine, {})
        assert run.status == 0, run.out
        (folder / "auth.json").write_text("{")
        shutil.rmtree(machine.home / "gauges/vendor")
        _, run = installed(machine, {})
        assert run.status == 1 and "auth.json" in run.out


# Bad input: each with its message, and nothing of it laid.


@pytest.mark.needs("php")
def test_a_lock_that_does_not_fit_the_manifest(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url)
    document = json.loads(files["composer.json"]) | {
        "require": {"pluvial/amounts": "^2.0", "hollin/new": "*"}
    }
    clone, run = installed(machine, {**files, "composer.json": json.dumps(document)})
    assert run.status == 1 and "the lock does not fit the manifest" in run.out
    assert (
        "pluvial/amounts is 1.2.0 in it, and ^2.0 is asked for" in run.out
        and "hollin/new is not in it" in run.out
    )
    assert not (clone / "vendor/pluvial").exists()


def test_a_php_that_no_package_admits(machine: Machine, registry: PhpRegistry) -> None:
    older = replace(AMOUNTS, manifest={**AMOUNTS.manifest, "require": {"php": "~5.3.0"}})
    _, run = installed(machine, clone_files([older], registry.url))
    assert run.status == 1 and "no PHP here fits what the clone asks for" in run.out
    assert "~5.3.0 of pluvial/amounts 1.2.0" in run.out


@pytest.mark.needs("php")
def test_what_development_alone_needs_does_not_keep_the_clone_from_running(
    machine: Machine, registry: PhpRegistry
) -> None:
    tool = replace(TOOL, manifest={**TOOL.manifest, "require": {"php": "^7.1"}})
    sheet = replace(SHEET, manifest={**SHEET.manifest, "require": {"ext-rainfall": "*"}})
    manifest = {
        "require": {"pluvial/amounts": "*"},
        "require-dev": {"hollin/tool": "*", "hollin/sheet": "*"},
        "autoload-dev": {"files": ["tests/absent.php"]},
    }
    files = clone_files([AMOUNTS, tool, sheet], registry.url, manifest)
    clone, run = installed(machine, files)
    assert run.status == 0, run.out
    [said] = [one for one in run.step("dependencies")["remarks"] if "left out" in one]
    assert "2 packages for development alone are left out" in said
    assert "hollin/tool 3.0.0 needs PHP ^7.1" in said and "needs the extension rainfall" in said
    assert php(clone, "Pluvial\\Amount::words(3)") == "3 mm"
    assert not (clone / "vendor/hollin").exists()
    assert json.loads((clone / "vendor/composer/installed.json").read_text())["dev"] is False


@pytest.mark.needs("php")
def test_extensions_that_are_lacking_are_named_with_their_packages(
    machine: Machine, registry: PhpRegistry
) -> None:
    here = subprocess.run(["php", "-m"], capture_output=True, text=True, check=True).stdout.split()
    lacking = next(name for name in ("imagick", "redis", "memcached", "amqp", "ssh2") if name not in here)
    manifest = {"require": {"pluvial/amounts": "*", "ext-rainfall": "*", f"ext-{lacking}": "*"}}
    clone, run = installed(machine, clone_files([AMOUNTS], registry.url, manifest))
    assert run.status == 1 and "lacks 2 extensions that the clone needs" in run.out
    assert "rainfall: the manifest asks for it (composer.json:" in run.out
    assert f"-rainfall php-{lacking}" in run.out and not (clone / "vendor").exists()


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"PK\x03\x04 nothing", "is damaged"),
        (zipped({"../../../climbed.txt": b"x"}), "would be written outside its folder"),
        (zipped({"a": b"x", "a/b.php": b"y"}), "both as a file and as a folder"),
    ],
)
@pytest.mark.needs("php")
def test_archives_that_are_damaged_or_climb(
    machine: Machine, registry: PhpRegistry, content: bytes, words: str
) -> None:
    bad = replace(AMOUNTS, content=content)
    registry.files[bad.path] = content
    clone, run = installed(machine, clone_files([bad], registry.url))
    assert run.status == 1 and words in run.out, run.out
    assert not (clone / "vendor/pluvial").exists() and not (machine.home / "climbed.txt").exists()


@pytest.mark.needs("php")
def test_another_archive_than_the_lock_says(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url)
    registry.files[AMOUNTS.path] = SHEET.content
    _, run = installed(machine, files)
    assert run.status == 1 and "has the SHA-1" in run.out and "but the lock says" in run.out


@pytest.mark.needs("php")
def test_other_files_under_a_reference_that_was_seen(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url, checksum=False)
    clone, run = installed(machine, files)
    assert run.status == 0, run.out
    shutil.rmtree(Path(machine.variables["PLAINFALL_CACHE"]) / "trees")
    shutil.rmtree(clone / "vendor")
    registry.files[AMOUNTS.path] = SHEET.content
    _, run = installed(machine, files)
    assert run.status == 1 and "other files come under the reference" in run.out, run.out
    assert not (clone / "vendor/pluvial").exists()


@pytest.mark.parametrize(
    "section",
    [
        {"psr-4": {"Pluvial\\": "../../../"}},
        {"files": ["../../../../etc/hostname"]},
        {"classmap": ["../other"]},
    ],
)
@pytest.mark.needs("php")
def test_an_autoload_section_that_climbs_out(
    machine: Machine, registry: PhpRegistry, section: dict[str, Any]
) -> None:
    bad = php_archive("rain/climbs", "1.0.0", {"a.php": "<?php"}, autoload=section)
    registry.files[bad.path] = bad.content
    _, run = installed(machine, clone_files([bad], registry.url))
    assert run.status == 1 and "rain/climbs: its autoload section names" in run.out, run.out


def test_a_linked_folder_of_packages_is_not_followed(machine: Machine, registry: PhpRegistry) -> None:
    outside = machine.home / "outside"
    (outside / "pluvial/amounts").mkdir(parents=True)
    (outside / "pluvial/amounts/composer.json").write_text("mine")
    clone = machine.clone(clone_files([AMOUNTS], registry.url))
    (clone / "vendor").symlink_to(outside)
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 1
    assert (outside / "pluvial/amounts/composer.json").read_text() == "mine"


@pytest.mark.needs("php")
def test_a_manifest_without_a_lock_says_what_to_do(machine: Machine, registry: PhpRegistry) -> None:
    files = clone_files([AMOUNTS], registry.url)
    del files["composer.lock"]
    _, run = installed(machine, files)
    assert run.status == 1 and "no lock says which versions" in run.out


@pytest.mark.needs("php")
def test_packages_that_the_repository_holds_are_used_as_they_are(machine: Machine) -> None:
    files = {
        "index.php": "<?php require 'vendor/autoload.php'; echo '<!doctype html><title>', held(), '</title> and more';",
        "composer.json": '{"require": {"a/b": "*"}}',
        "vendor/autoload.php": "<?php function held() { return 'Held'; }",
        "vendor/composer/installed.json": "[]",
    }
    run = machine.run("onboard", machine.clone(files), "--json")
    assert run.status == 0, run.out
    assert "the repository holds its packages itself" in run.step("dependencies")["title"]
    machine.run("stop", "--all")


@pytest.mark.needs("php")
def test_a_debugger_that_is_not_here_is_named_with_its_package(
    machine: Machine, registry: PhpRegistry
) -> None:
    if "xdebug" in subprocess.run(["php", "-m"], capture_output=True, text=True).stdout.lower():
        pytest.skip("this PHP has it")
    clone = machine.clone(clone_files(EVERY, registry.url))
    run = machine.run("serve", clone, "--debug", "--background", "--json")
    assert run.status == 1 and "without the extension that debugs (xdebug)" in run.out
    assert "apt-get install php-xdebug" in run.out
    machine.run("stop", "--all")
