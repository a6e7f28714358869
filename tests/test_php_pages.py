"""Which page of a PHP project answers first, where no framework says it."""

from __future__ import annotations

import pytest
from conftest import Machine

PAGE = "<?php\nheader('Content-Type: text/html'); echo '<title>Gauges of the valley</title><p>rain</p>';\n"
LEADS = '<meta http-equiv="refresh" content="0; url=pages/sign_in.php"><title>Gauges of the valley</title>\n'
MANIFEST = '{"name": "rain/gauges", "require": {}}\n'


@pytest.mark.needs("php")
@pytest.mark.parametrize(
    ("files", "address"),
    [
        (
            {"index.html": LEADS, "pages/sign_in.php": PAGE, "pages/index.php": "<?php // nothing to list\n"},
            "/",
        ),
        (
            {"composer.json": MANIFEST, "gauges/index.php": PAGE, "map/index.php": PAGE, "map.css": ""},
            "/gauges/",
        ),
        ({"composer.json": MANIFEST, "board/index.php": PAGE, "tests/index.php": PAGE}, "/board/"),
        ({"composer.json": MANIFEST, "public/index.php": PAGE, "board/index.php": PAGE}, "/"),
        (
            {
                "index.php": PAGE,
                "lib/3rdParty/map/composer.json": MANIFEST,
                "lib/3rdParty/map/index.php": PAGE,
            },
            "/",
        ),
    ],
    ids=[
        "plain HTML leads to it",
        "called as the package",
        "the only folder",
        "public",
        "a copy of another's beside",
    ],
)
def test_the_first_page(machine: Machine, files: dict[str, str], address: str) -> None:
    run = machine.run("onboard", machine.clone(files), "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    [server] = run.document["servers"]
    page = server["probe"]
    assert page["title"] == "Gauges of the valley"
    assert page["url"] == f"{server['url'].rstrip('/')}{address}"


@pytest.mark.needs("php")
def test_a_sample_of_another_form_than_its_name_says_is_read_by_what_is_in_it(machine: Machine) -> None:
    sample = '{\n  "gauges": "all",\n  "timeout": "30"\n}\n'
    clone = machine.clone({"index.php": PAGE, "config/config.cfg.sample": sample})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert '"gauges": "all"' in (clone / "config/config.cfg").read_text()


@pytest.mark.needs("php")
def test_prose_that_is_called_as_a_list_of_packages_makes_no_part(machine: Machine) -> None:
    prose = "/// What needs what ///\nweir     depends on   gauge (optional)\n"
    clone = machine.clone({"index.php": PAGE, "dependencies.txt": prose})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert [part["language"] for part in machine.run("survey", clone, "--json").document["parts"]] == ["php"]


@pytest.mark.needs("php")
@pytest.mark.parametrize(
    "said",
    [
        "FATAL: Connection to the gauges' database failed.",
        "Could not connect to the database server.",
        "Error establishing a database connection",
        "<title>Failed requirements</title>A gauge is missing.",
    ],
)
def test_a_page_that_only_says_that_it_cannot_go_on_is_no_good_one(machine: Machine, said: str) -> None:
    page = f"<?php\nheader('Content-Type: text/html'); echo '<p>', {said.replace(chr(39), '')!r}, '</p>';\n"
    run = machine.run("onboard", machine.clone({"index.php": page}), "--json")
    assert run.status == 1
    assert "the page is an error page, though its status is 200" in run.document["failure"]["cause"]
