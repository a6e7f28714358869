"""The report: a page, a text, a script that works by hand, a README section; and what a run would do, and changed."""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, locked, package
from hands import same_pages_by_hand
from ruby_clones import HAS_RUBY
from selectolax.lexbor import LexborHTMLParser

from plainfall.server.browser import browser_here, browser_profile, browser_words
from plainfall.server.devtools import driven
from plainfall.standins.building import build_all
from plainfall.standins.node_registry import built_node_packages, serving_node
from plainfall.standins.php_registry import built_php_packages, serving_php
from plainfall.standins.registry import Archive, Registry, serving
from plainfall.standins.ruby_registry import built_ruby_packages, serving_ruby
from plainfall.standins.sample_clone import make_sample

BROWSER = browser_here(os.environ["PATH"])
HAS_NODE = shutil.which("node") is not None and shutil.which("npm") is not None
HAS_PHP = shutil.which("php") is not None and shutil.which("composer") is not None
CLONE = {
    "main.py": (
        "import os, http.server, gaugekit\n"
        "print(os.environ['TOKEN'], os.environ['PLACE'])\n"
        "http.server.test(http.server.SimpleHTTPRequestHandler, port=int(os.environ['PORT']), bind='127.0.0.1')\n"
    ),
    ".env.example": "TOKEN=change-me\nPLACE=Copper Hill\n",
    "README.md": "# Desk\n\n## Run the server\n\n```\npython serve_all.py --port 9999\n```\n",
    "Procfile": "web: python main.py\n",
}


def desk(machine: Machine, offer: Callable[..., Registry], **more: str) -> Path:
    built = [package(), package(version="1.1"), package("raincount")]
    offer([Archive.of(one) for one in built])
    return machine.clone({**CLONE, "requirements.txt": locked(built[0]), **more}, name="desk")


@pytest.fixture
def sample(machine: Machine, tmp_path: Path) -> Iterator[Path]:
    """The sample clone, brought up, while its registries run; parts for those languages whose clients are here."""
    clone = tmp_path / "sample"
    built, node = build_all(), built_node_packages() if HAS_NODE else []
    php = built_php_packages() if HAS_PHP else []
    gems = built_ruby_packages() if HAS_RUBY and shutil.which("bundle") else []
    with ExitStack() as stack:
        archives = [Archive.of(one) for one in built]
        python_registry = stack.enter_context(serving(archives))
        node_registry = stack.enter_context(serving_node(node))
        php_registry = stack.enter_context(serving_php(php))
        ruby_registry = stack.enter_context(serving_ruby(gems))
        make_sample(
            clone, built, dashboard=node, bulletin=(php, php_registry.url) if php else None,
            notebook=(gems, ruby_registry.url) if gems else None,
        )  # fmt: skip
        folders = [
            str(Path(str(shutil.which(name))).parent)
            for name in ("node", "php", "ruby")
            if shutil.which(name)
        ]
        machine.variables["PATH"] = os.pathsep.join([machine.variables["PATH"], *folders])
        machine.variables |= {"PIP_INDEX_URL": python_registry.url, "npm_config_registry": node_registry.url,
                              "npm_config_userconfig": "/dev/null"}  # fmt: skip
        machine.variables.pop("PIP_NO_INDEX", None)
        run = machine.run("onboard", clone, "--json", "--port", "8640", timeout=120)
        assert run.status == 0, run.out + run.err
        yield clone
        machine.run("stop", "--all")


@pytest.mark.needs("node")
def test_the_script_brings_a_fresh_clone_to_the_same_pages_by_hand(
    machine: Machine, sample: Path, tmp_path: Path
) -> None:
    secret = re.search(r"^SECRET_KEY=(.+)$", (sample / ".env").read_text(), re.MULTILINE)
    same_pages_by_hand(machine, sample, tmp_path)
    assert secret is not None and secret.group(1) not in (tmp_path / "by-hand.sh").read_text()


def test_a_page_that_needs_nothing_else_and_holds_no_secret(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path
) -> None:
    hostile = "<script>alert(1)</script>"
    escape = "\x1b]0;rain\x07"
    clone = desk(
        machine,
        offer,
        **{".env.example": CLONE[".env.example"] + f"API_PASSWORD=\nREMARK=\nLABEL={escape}\n"},
    )
    run = machine.run(
        "onboard", clone, "--set", "API_PASSWORD=drizzle-pass-9", "--set", f"REMARK={hostile}", "--json"
    )  # fmt: skip
    assert run.status == 0, run.out + run.err
    file = tmp_path / "record.html"
    done = machine.run("report", clone, "--into", file, "--no-pictures")
    assert done.status == 0 and done.out.startswith(f"written: {file}"), done.err
    text = file.read_text()
    token = re.search(r"^TOKEN=(.+)$", (clone / ".env").read_text(), re.MULTILINE)
    assert token is not None and token.group(1) not in text and "drizzle-pass-9" not in text
    assert "<script" not in text
    page = LexborHTMLParser(text)
    for attribute in ("src", "href"):
        for node in page.css(f"[{attribute}]"):
            assert str(node.attributes[attribute]).startswith(("#", "data:", "http://localhost:")), node.html
    anchors = {str(node.attributes["href"])[1:] for node in page.css("nav a")}
    assert anchors and anchors <= {str(node.attributes["id"]) for node in page.css("[id]")}
    steps = [node.text() for node in page.css("details.step")]
    assert len(steps) == len(run.document["steps"]) and any(
        "gaugekit" in node.text() for node in page.css("details")
    )
    for form in ("markdown", "steps", "readme"):
        told = machine.run("report", clone, "--as", form)
        assert "\x1b" not in told.out + told.err and "\x07" not in told.out
    short = machine.run("report", clone, "--as", "markdown").out
    assert short.startswith("**desk** runs (") and "  - server: python main.py: http" in short
    section = machine.run("report", clone, "--as", "readme")
    assert (
        "python -m venv .venv" in section.out.replace("python3.11", "python")
        and "python main.py" in section.out
    )
    assert "it starts `python serve_all.py --port 9999`, and what answered was `python main.py`" in " ".join(
        section.err.split()
    )
    machine.run("stop", clone)


@pytest.mark.skipif(BROWSER is None, reason="it takes a browser of Chromium's kind")
@pytest.mark.parametrize("width", [1280, 390])
def test_the_page_in_a_browser(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path, width: int
) -> None:
    clone = desk(machine, offer)
    assert machine.run("onboard", clone).status == 0
    file = tmp_path / "record.html"
    assert machine.run("report", clone, "--into", file).status == 0
    machine.run("stop", clone)
    assert BROWSER is not None
    with browser_profile(dict(os.environ)) as (profile, own):
        words = [*browser_words(BROWSER, profile), f"--window-size={width},800"]
        with driven(words, profile, own) as talk:
            target = talk.ask("Target.createTarget", url="about:blank")["targetId"]
            session = talk.ask("Target.attachToTarget", targetId=target, flatten=True)["sessionId"]
            metrics = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": width < 500}
            talk.ask("Emulation.setDeviceMetricsOverride", session, **metrics)
            talk.ask("Page.enable", session)
            talk.ask("Page.navigate", session, url=f"file://{file}")

            def value(expression: str) -> Any:
                told = talk.ask("Runtime.evaluate", session, expression=expression, returnByValue=True)
                return told["result"].get("value")

            until = time.monotonic() + 15
            while value("document.readyState") != "complete" and time.monotonic() < until:
                time.sleep(0.1)
            assert value("document.documentElement.scrollWidth <= window.innerWidth") is True
            first = "document.querySelector('details.step')"
            assert value(f"{first}.open") is False
            value(f"{first}.querySelector('summary').click()")
            assert value(f"{first}.open") is True
            assert value(f"{first}.querySelector('.in').getBoundingClientRect().height > 10") is True
            value("document.querySelector('nav a[href=\"#settings\"]').click()")
            time.sleep(0.3)
            assert value("location.hash") == "#settings"
            assert value("document.querySelector('#settings').getBoundingClientRect().top < 400") is True
            assert value("document.querySelectorAll('img').length") == 1
            assert value("document.querySelector('img').naturalWidth") == 1280


def test_bad_words(machine: Machine, tmp_path: Path) -> None:
    clone = machine.clone({"main.py": ""})
    for words, status, said in (
        ([clone], 4, "no run of yours is recorded in"),
        ([tmp_path / "none"], 2, "is no folder"),
        ([clone, "--as", "pdf"], 2, "invalid choice: 'pdf'"),
    ):
        done = machine.run("report", *words)
        assert done.status == status and said in done.err, done.err


def test_places_that_cannot_be_written(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path
) -> None:
    clone = desk(machine, offer)
    assert machine.run("onboard", clone, "--until", "environment").status == 0
    done = machine.run("report", clone, "--no-pictures", "--into", tmp_path)
    assert done.status == 2 and "is a folder" in done.err
    done = machine.run("report", clone, "--no-pictures", "--into", tmp_path / "none/there.html")
    assert done.status == 1 and "written: No such file or directory" in " ".join(done.err.split())


def states(run: Any) -> dict[tuple[str, str], str]:
    return {(one["part"], one["stage"]): one["state"] for one in run.document["steps"]}


AFTER = {"kept": "kept", "to do": "done", "left out": "left out"}


def test_a_preview_says_exactly_what_a_run_does(machine: Machine, offer: Callable[..., Registry]) -> None:
    clone = desk(machine, offer)

    def foreseen_and_done() -> tuple[Any, Any]:
        told = machine.run("onboard", clone, "--preview", "--json")
        assert told.status == 0, told.err
        before = sorted(path for path in clone.rglob("*"))
        assert machine.run("onboard", clone, "--preview").status == 0
        assert sorted(path for path in clone.rglob("*")) == before
        done = machine.run("onboard", clone, "--json")
        assert done.status == 0, done.out + done.err
        assert states(done) == {place: AFTER[state] for place, state in states(told).items()}
        return told, done

    told, _ = foreseen_and_done()
    assert set(states(told).values()) == {"to do"}
    told, done = foreseen_and_done()
    assert set(states(told).values()) == {"kept"} and done.document["changes"] == []
    (clone / "requirements.txt").write_text(locked(package(version="1.1"), package("raincount")))
    (clone / ".env.example").write_text(CLONE[".env.example"] + "RIVER=Teme\n")
    told, done = foreseen_and_done()
    assert (
        told.step("dependencies")["title"]
        == "1 package changes: gaugekit 1.0 → 1.1; 1 package comes: raincount 1.0"
    )
    assert told.step("dependencies")["why"] == "requirements.txt changed"
    assert told.step("dependencies")["detail"]["laid"] == sorted(done.step("dependencies")["detail"]["laid"])
    assert told.step("settings")["title"] == ".env: add RIVER"
    assert told.step("server")["title"].startswith("start anew python main.py on port ")
    since, *changes = done.document["changes"]
    assert since.startswith("since the run of ")
    assert changes == [
        "1 package changes: gaugekit 1.0 → 1.1; 1 package comes: raincount 1.0",
        ".env: RIVER added",
    ]
    shutil.rmtree(clone / ".venv")
    told, _ = foreseen_and_done()
    assert (
        told.step("environment")["title"] == "make .venv"
        and told.step("dependencies")["title"] == "install 2 packages"
    )
    machine.run("stop", clone)
    (clone / "requirements.txt").write_text("gaugekit===\n")
    told = machine.run("onboard", clone, "--preview")
    assert told.status != 0 and "requirements.txt:1" in told.err


def test_a_clone_whose_names_are_commands_makes_no_script_of_them(
    machine: Machine, offer: Callable[..., Registry], tmp_path: Path
) -> None:
    name = "$(touch made) `touch made`; touch made #"
    values = "PLACE='$(touch made)'\nTOKEN=change-me\nEND=1\nLINE=\"a\nEND\ntouch made\"\n"
    built = package()
    offer([Archive.of(built)])
    files = {**CLONE, "requirements.txt": locked(built), ".env.example": values}
    clone = machine.clone(files, name=name)
    done = machine.run("onboard", clone, "--until", "settings", "--set", "TOKEN=drizzle-7")
    assert done.status == 0, done.out + done.err
    script = machine.run("report", clone, "--as", "steps").out
    safe = (
        script.replace("python3", "true ").replace("pip install", "true ").replace(". .venv/bin/activate", "")
    )
    fresh = tmp_path / "fresh"
    fresh.mkdir()
    (fresh / ".env.example").write_text(values)
    given = {"PATH": "/usr/bin:/bin", "TOKEN": "$(touch made)"}
    by_hand = subprocess.run(["/bin/sh"], input=safe, cwd=fresh, text=True, capture_output=True, env=given)
    assert by_hand.returncode == 0, by_hand.stderr
    assert not (fresh / "made").exists() and "$(touch" in (fresh / ".env").read_text()
