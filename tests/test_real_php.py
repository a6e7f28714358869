"""Real PHP frameworks: one command and no option, from a clone to a page.

These run where ``PLAINFALL_REAL_PHP_PACKAGES`` names a folder of packages, which ``.ci/run`` fetches.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3
from conftest import Machine, Run
from hands import same_pages_by_hand
from real_php_clones import CLONES, MANIFESTS

from plainfall.standins.php_registry import (
    PhpArchive,
    PhpRegistry,
    php_archive,
    php_lock,
    serving_php,
    zipped,
)

FOLDER = Path(os.environ.get("PLAINFALL_REAL_PHP_PACKAGES", "/nonexistent"))
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not (FOLDER / "needs.json").is_file(), reason="no folder of packages is named"),
    pytest.mark.skipif(shutil.which("php") is None, reason="no PHP here"),
]
NAMES = {
    "php-laravel-framework": "laravel/framework",
    "php-symfony-framework-bundle": "symfony/framework-bundle",
    "php-symfony-runtime": "symfony/runtime",
    "php-slim": "slim/slim",
}
# Where a package's own folder, or the folder of a namespace, is another than the name says.
TOPS = {"php-symfony-runtime": "Symfony/Component/Runtime"}
SPACES = {
    "php-illuminate-collections": {"Illuminate\\Support\\": "src/Illuminate/Collections/"},
    "php-illuminate-macroable": {"Illuminate\\Support\\": "src/Illuminate/Macroable/"},
    "php-symfony-runtime": {"Symfony\\Component\\Runtime\\": ""},
}
ALWAYS = ("helpers.php", "functions.php", "function.php", "swift_required.php")  # loaded with the package
LED_TO = {
    "laravel": ("php-laravel-framework",),
    "symfony": ("php-symfony-framework-bundle", "php-symfony-twig-bundle", "php-symfony-runtime",
                "php-symfony-dotenv", "php-symfony-yaml", "php-symfony-console"),
    "slim": ("php-slim",),
}  # fmt: skip


def archive_of(name: str) -> PhpArchive:
    """A package of the distribution as one of the registry: its classes by their folders."""
    top = FOLDER / name / "usr/share/php" / TOPS.get(name, "")
    start = "" if name in TOPS else "src/"
    files = {
        f"{start}{path.relative_to(top).as_posix()}": path.read_bytes()
        for path in sorted(top.rglob("*"))
        if path.is_file() and path.name != "autoload.php"
    }
    spaces = sorted({path.split("/")[1] for path in files if path.count("/") > 1})
    own = SPACES.get(name) or {f"{space}\\": f"src/{space}/" for space in spaces}
    autoload: dict[str, Any] = {"psr-4": own}
    always = [path for path in files if path.rpartition("/")[2] in ALWAYS]
    if always:
        autoload["files"] = always
    manifest = {"name": NAMES.get(name, f"real/{name}"), "autoload": autoload}
    return PhpArchive(str(manifest["name"]), "1.0.0", zipped(files), manifest)


@pytest.fixture(scope="session")
def archives() -> dict[str, PhpArchive]:
    names = {name for row in json.loads((FOLDER / "needs.json").read_text()).values() for name in row}
    return {name: archive_of(name) for name in sorted(names)}


def onboarded(
    machine: Machine, archives: dict[str, PhpArchive], kind: str, also: tuple[str, ...] = (), /, **more: str
) -> tuple[Path, Run, str]:
    """Onboards with no option; again there is nothing to do."""
    needs = json.loads((FOLDER / "needs.json").read_text())
    chosen = [archives[name] for name in dict.fromkeys(one for root in LED_TO[kind] for one in needs[root])]
    chosen += [archives[name] for name in also]
    document = {**MANIFESTS[kind], "require": {one.name: "*" for one in chosen}}
    with serving_php(chosen) as registry:
        files = {**CLONES[kind], "composer.json": json.dumps(document), **more}
        clone = machine.clone({**files, "composer.lock": php_lock(document, chosen, registry.url)}, name=kind)
        run = machine.run("onboard", clone, "--json", timeout=180)
        assert run.status == 0, run.out + run.err
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}, again.states
    return clone, run, str(run.document["servers"][0]["url"])


MAPS = ("autoload_psr4", "autoload_namespaces", "autoload_classmap", "autoload_files")


def by_the_reference(folder: Path, registry: PhpRegistry, home: Path, *words: str) -> None:
    """Runs the ecosystem's own client in a folder, with our registry as the only one."""
    home.mkdir(exist_ok=True)
    only = [{"type": "composer", "url": registry.url}, {"packagist": False}]
    (home / "config.json").write_text(json.dumps({"config": {"secure-http": False}, "repositories": only}))
    done = subprocess.run(
        ["composer", *words, "--no-scripts", "--no-plugins", "--no-interaction"], cwd=folder,
        capture_output=True, text=True,
        env={**os.environ, "COMPOSER_HOME": str(home), "COMPOSER_ALLOW_SUPERUSER": "1",
             "COMPOSER_CACHE_DIR": str(home / "cache")},
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr


def told_by_php(clone: Path, name: str) -> str:
    """A map of the loader in its order, its paths as they are in the clone."""
    program = f"$file = 'vendor/composer/{name}.php'; echo json_encode(is_file($file) ? require $file : []);"
    done = subprocess.run(["php", "-r", program], cwd=clone, capture_output=True, text=True, check=True)
    return done.stdout.replace(json.dumps(str(clone))[1:-1].replace("/", "\\/"), "")


def installed_files(clone: Path) -> set[str]:
    """What lies in the folder of packages, but the loader's own files."""
    found = {path.relative_to(clone).as_posix() for path in (clone / "vendor").rglob("*") if path.is_file()}
    return {path for path in found if not path.startswith("vendor/composer/")}


@pytest.mark.skipif(shutil.which("composer") is None, reason="the ecosystem's own client is not here")
@pytest.mark.parametrize("kind", ["slim", "symfony", "laravel"])
def test_a_lock_of_the_ecosystems_own_client(
    ended: Machine, archives: dict[str, PhpArchive], tmp_path: Path, kind: str
) -> None:
    """From its lock to a page; and what lies in ``vendor`` is what that client lays for the same lock."""
    needs = json.loads((FOLDER / "needs.json").read_text())
    chosen = [archives[name] for name in dict.fromkeys(one for root in LED_TO[kind] for one in needs[root])]
    document = {**MANIFESTS[kind], "require": {one.name: "*" for one in chosen}}
    page_text = (
        CLONES[kind]
        .get("public/index.php", "")
        .replace("Dotenv\\Dotenv::createImmutable(dirname(__DIR__))->safeLoad();", "")
    )
    files = {**CLONES[kind], "public/index.php": page_text, "composer.json": json.dumps(document)}
    with serving_php(chosen) as registry:
        theirs = ended.clone(files, name=f"{kind}-by-hand")
        by_the_reference(theirs, registry, tmp_path / "client", "update", "--no-install", "--quiet")
        lock = (theirs / "composer.lock").read_text()
        clone = ended.clone({**files, "composer.lock": lock}, name=kind)
        run = ended.run("onboard", clone, "--json", timeout=180)
        assert run.status == 0, run.out + run.err
        assert (clone / "composer.lock").read_text() == lock
        by_the_reference(theirs, registry, tmp_path / "client", "install", "--quiet")
        # Right after an installation folders of one prefix stand in the order in which they were installed.
        by_the_reference(theirs, registry, tmp_path / "client", "dump-autoload", "--quiet")
    assert {name: told_by_php(clone, name) for name in MAPS} == {
        name: told_by_php(theirs, name) for name in MAPS
    }
    added = {"vendor/autoload_runtime.php"} if kind == "symfony" else set()
    assert installed_files(clone) - installed_files(theirs) == added
    assert not installed_files(theirs) - installed_files(clone)
    assert "<title>" in page(str(run.document["servers"][0]["url"])) or kind == "symfony"


def page(url: str) -> str:
    return urllib3.PoolManager().request("GET", url).data.decode()


@pytest.fixture
def ended(roomy: Machine) -> Iterator[Machine]:
    yield roomy
    roomy.run("stop", "--all")


def test_a_micro_framework(ended: Machine, archives: dict[str, PhpArchive]) -> None:
    _, run, url = onboarded(ended, archives, "slim", **{"public/index.php": CLONES["slim"]["public/index.php"].replace(
        "Dotenv\\Dotenv::createImmutable(dirname(__DIR__))->safeLoad();", "")})  # fmt: skip
    assert "<title>Rain desk</title>" in page(url)
    assert page(f"{url}stations/Copper%20Hill") == "Copper Hill"
    assert run.states["dependencies"] == "done"


def test_a_component_framework(ended: Machine, archives: dict[str, PhpArchive]) -> None:
    clone, _, url = onboarded(ended, archives, "symfony")
    assert "<p>Ashford Mill</p><p>Copper Hill</p>" in page(url)
    assert (clone / "vendor/autoload_runtime.php").is_file()
    told = ended.run("inside", clone, "--", "php", "bin/console", "about")
    assert told.status == 0 and "dev" in told.out, told.out + told.err


def test_a_full_stack_framework_on_sqlite(ended: Machine, archives: dict[str, PhpArchive]) -> None:
    clone, run, url = onboarded(ended, archives, "laravel")
    assert page(url) == CLONES_PAGE
    assert run.states["migrations"] == run.states["seeds"] == "done"
    assert "migrations  Laravel: 1 applied" in ended.run("data", clone).out
    assert "APP_KEY=base64:" in (clone / ".env").read_text()


def test_by_hand_a_fresh_clone_comes_to_the_same_page(
    ended: Machine, archives: dict[str, PhpArchive], tmp_path: Path
) -> None:
    needs = json.loads((FOLDER / "needs.json").read_text())
    chosen = [
        archives[name] for name in dict.fromkeys(one for root in LED_TO["laravel"] for one in needs[root])
    ]
    document = {**MANIFESTS["laravel"], "require": {one.name: "*" for one in chosen}}
    with serving_php(chosen) as registry:
        document["repositories"] = [{"type": "composer", "url": registry.url}]
        files = {**CLONES["laravel"], "composer.json": json.dumps(document)}
        clone = ended.clone(
            {**files, "composer.lock": php_lock(document, chosen, registry.url)}, name="laravel"
        )
        assert ended.run("onboard", clone, "--port", "8716", timeout=180).status == 0
        same_pages_by_hand(ended, clone, tmp_path)


def test_an_administrator_of_a_known_package_and_the_routes_that_the_framework_lists(
    ended: Machine, archives: dict[str, PhpArchive]
) -> None:
    """The package is a made-up one of the known name: its command keeps what it was given."""
    kernel = (
        "<?php\nnamespace App\\Console;\nclass Kernel extends \\Illuminate\\Foundation\\Console\\Kernel {\n"
        "    protected function commands() { require base_path('routes/console.php'); }\n}\n"
    )
    command = (
        "<?php\nuse Illuminate\\Support\\Facades\\Artisan;\n"
        "Artisan::command('make:filament-user {--name=} {--email=} {--password=}', function () {\n"
        "    file_put_contents(base_path('made.json'), json_encode($this->options()));\n});\n"
    )
    routes = (
        CLONES["laravel"]["routes/web.php"]
        + "Route::get('/stations/list', fn () => 'three');\nRoute::post('/readings', fn () => 'kept');\n"
        + "Route::get('/logout', fn () => file_put_contents(base_path('ended'), ''));\n"
        + "Route::get('/stations/{name}', fn ($name) => $name);\n"
    )
    panel = php_archive("filament/filament", "3.0.0")
    clone, run, _ = onboarded(
        ended, {**archives, "panel": panel}, "laravel", ("panel",),
        **{"app/Console/Kernel.php": kernel, "routes/console.php": command, "routes/web.php": routes},
    )  # fmt: skip
    [account] = json.loads((clone / ".plainfall/accounts.json").read_text()).values()
    made = json.loads((clone / "made.json").read_text())
    assert made["email"] == account["name"] and made["password"] == account["password"]
    assert run.states["tasks"] == "done" and account["password"] not in run.out
    look = ended.run("probe", clone, "--browser", "none", "--json")
    [server] = look.document["servers"]
    assert {one["path"]: one["status"] for one in server["endpoints"]} == {"/stations/list": 200}
    assert not (clone / "ended").exists()


CLONES_PAGE = "<!doctype html><title>Stations</title><ul><li>Ashford Mill</li><li>Copper Hill</li></ul>\n"


@pytest.mark.skipif(shutil.which("mariadbd", path="/usr/sbin:/usr/bin") is None, reason="no MariaDB here")
def test_a_full_stack_framework_on_a_private_mariadb(ended: Machine, archives: dict[str, PhpArchive]) -> None:
    settings = (
        "APP_ENV=local\nAPP_KEY=\nAPP_DEBUG=true\nDB_CONNECTION=mysql\nDB_HOST=localhost\nDB_PORT=3306\n"
    )
    settings += "DB_DATABASE=ledger\nDB_USERNAME=root\nDB_PASSWORD=\n"
    readme = CLONES["laravel"]["README.md"].replace("migrate --seed", "migrate")
    clone, run, url = onboarded(ended, archives, "laravel", **{".env.example": settings, "README.md": readme})
    assert page(url) == CLONES_PAGE
    assert "MariaDB" in run.step("services")["title"] and run.states["seeds"] == "done"
    assert "DB_HOST=127.0.0.1" in (clone / ".env").read_text()
    assert "stations" in ended.run("data", clone).out
