"""Real PHP frameworks: one command and no option, from a clone to a page.

These run where ``PLAINFALL_REAL_PHP_PACKAGES`` names a folder of packages, which ``.ci/run`` fetches.
"""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
import urllib3
from conftest import Machine, Run
from real_php_clones import CLONES, MANIFESTS

from plainfall.standins.php_registry import PhpArchive, php_lock, serving_php, zipped

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
    machine: Machine, archives: dict[str, PhpArchive], kind: str, **more: str
) -> tuple[Path, Run, str]:
    """Onboards with no option; again there is nothing to do."""
    needs = json.loads((FOLDER / "needs.json").read_text())
    chosen = [archives[name] for name in dict.fromkeys(one for root in LED_TO[kind] for one in needs[root])]
    document = {**MANIFESTS[kind], "require": {one.name: "*" for one in chosen}}
    with serving_php(chosen) as registry:
        files = {**CLONES[kind], "composer.json": json.dumps(document), **more}
        clone = machine.clone({**files, "composer.lock": php_lock(document, chosen, registry.url)}, name=kind)
        run = machine.run("onboard", clone, "--json", timeout=180)
        assert run.status == 0, run.out + run.err
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}, again.states
    return clone, run, str(run.document["servers"][0]["url"])


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
