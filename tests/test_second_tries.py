"""What is tried after a failure without being asked: packages, versions, folders, runtimes."""

from __future__ import annotations

import subprocess
from pathlib import Path

import pytest
from conftest import Machine, package
from msgspec.structs import replace
from test_building import source_package, tree
from test_examples import SERVER, Offer, committed

from plainfall.clone.walk import walk
from plainfall.ecosystems.python.recognise.additions import well_known
from plainfall.standins.registry import Archive


def test_a_package_of_a_shipped_name_is_installed_where_it_is_missing(machine: Machine, offer: Offer) -> None:
    known = package("pyyaml", members={"yaml/__init__.py": b"VERSION = '1.0'\n"})
    offer([Archive.of(package("gaugekit")), Archive.of(known)])
    server = SERVER.format(more="import gaugekit, yaml, requests")
    files = {"app.py": server, "requirements.txt": "gaugekit\n", "Procfile": "web: python app.py\n"}
    clone = machine.clone(files)
    # requests is known as well, and the registry has none: what is missing is said, nothing is left behind.
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.status == 1
    assert "the Python module requests is not installed" in run.document["failure"]["cause"]
    [remark] = [one for one in run.step("server")["remarks"] if "yaml was missing" in one]
    assert "pyyaml was installed, too (no list; a well-known name)" in remark
    (clone / "app.py").write_text(SERVER.format(more="import gaugekit, yaml"))
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert set(machine.run("onboard", clone, "--json").states.values()) == {"kept"}
    # Where there is no list at all, and all is known, nobody has to be asked.
    alone = machine.clone({"app.py": SERVER.format(more="import yaml")}, "alone")
    run = machine.run("onboard", alone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("which the sources import: pyyaml" in one for one in run.step("dependencies")["remarks"])


def test_a_module_of_the_projects_own_is_no_package(tmp_path: Path) -> None:
    (tmp_path / "yaml").mkdir()
    (tmp_path / "yaml/__init__.py").write_text("import requests\n")
    tree = walk(tmp_path)
    assert well_known(tree, "", "yaml") is None and well_known(tree, "", "gaugekit") is None
    found = well_known(tree, "", "requests")
    assert found is not None and (found.text, str(found.needed_by)) == ("requests", "yaml/__init__.py:1")


@pytest.mark.needs("git")
def test_versions_as_of_a_day(machine: Machine, offer: Offer) -> None:
    old = replace(Archive.of(package("gaugekit", "1.0")), uploaded="2019-03-01T10:00:00Z")
    new = replace(Archive.of(package("gaugekit", "2.0")), uploaded="2025-03-01T10:00:00Z")
    offer([old, new])
    main = SERVER.format(more="import gaugekit\nassert gaugekit.VERSION == '1.0', 'ImportError: too new'")
    files = {"app.py": main, "requirements.txt": "gaugekit\n", "Procfile": "web: python app.py\n"}
    clone = committed(machine.clone(files), "2019-06-01T12:00:00 +0000")
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("as of 2019-06-01" in one for one in run.step("server")["remarks"])
    assert run.step("dependencies")["detail"]["laid"] == ["gaugekit 2.0"]
    kept = machine.run("onboard", clone, "--json")
    assert kept.document["outcome"] == "done" and kept.states["server"] == "kept"
    now = machine.run("onboard", clone, "--as-of", "none", "--until", "dependencies", "--json")
    assert now.step("dependencies")["detail"]["laid"] == ["gaugekit 2.0"]
    machine.run("stop", clone)
    assert "is no day" in machine.run("onboard", clone, "--as-of", "yesterday").err


@pytest.mark.needs("git")
def test_a_module_in_a_folder_above_the_part_is_found(machine: Machine) -> None:
    main = SERVER.format(more="import os, rain\nassert rain.DROPS == 3 and os.environ['XDG_DATA_HOME']")
    files = {"rain/__init__.py": "DROPS = 3\n", "examples/gauge/app.py": main}
    clone = committed(
        machine.clone({**files, "examples/gauge/requirements.txt": "\n", "README.md": "# Rain\n"})
    )
    run = machine.run("onboard", clone / "examples/gauge", "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("the folder at the top has it" in one for one in run.step("server")["remarks"])
    assert set(machine.run("onboard", clone / "examples/gauge", "--json").states.values()) == {"kept"}


def test_older_release_lines_that_the_project_names_are_tried(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("django", version)) for version in ("4.2.1", "5.2.3", "6.0.1")])
    main = SERVER.format(more="import django\nif django.VERSION != '4.2.1': raise ImportError('gone')")
    said = "classifiers = [\n 'Framework :: Django :: 5.2',\n 'Framework :: Django :: 6.0',\n]\n"
    pyproject = f"[project]\nname = 'rain'\nversion = '1'\ndependencies = ['django>=4.2']\n{said}"
    clone = machine.clone({"app.py": main, "pyproject.toml": pyproject, "Procfile": "web: python app.py\n"})
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = [one for one in run.step("server")["remarks"] if "newer ones do not work" in one]
    assert ["django<5.3" in remarks[0], "django<4.3" in remarks[1]] == [True, True], remarks
    assert "pyproject.toml:4" in remarks[1]
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}
    machine.run("stop", clone)
    (clone / "app.py").write_text("raise ImportError('gone for good')\n")
    run = machine.run("onboard", clone)
    assert run.status == 1 and "gone for good" in run.err and "newer ones" not in run.err
    # Where no release line helps, the clone does not stay behind.
    other = machine.clone(
        {
            "app.py": "raise ImportError('gone')\n",
            "pyproject.toml": pyproject,
            "Procfile": "web: python app.py\n",
        },
        "other",
    )
    assert machine.run("onboard", other).status == 1
    assert list((other / ".venv").rglob("django-6.0.1.dist-info")) and not list(
        other.rglob("django-4*.dist-info")
    )
    again = machine.run("onboard", other, "--until", "dependencies", "--json")
    assert again.states["dependencies"] == "kept"


@pytest.mark.needs("git")
def test_a_folder_in_which_a_program_writes_is_made(machine: Machine) -> None:
    clone = committed(machine.clone({"app.py": SERVER.format(more="open('logs/rain.log', 'a').close()")}))
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("the folder logs was missing" in one for one in run.step("server")["remarks"])
    assert (clone / "logs/rain.log").exists()
    status = subprocess.run(["git", "status", "--short"], cwd=clone, capture_output=True, text=True)
    assert status.stdout == ""
    other = committed(machine.clone({"app.py": SERVER.format(more="open('stations/all.csv')")}, "other"))
    assert machine.run("onboard", other).status == 1 and not (other / "stations").exists()
    hidden = committed(
        machine.clone({"app.py": SERVER.format(more="open('.git/logs2/x.log', 'a')")}, "hidden")
    )
    assert machine.run("onboard", hidden).status == 1 and not (hidden / ".git/logs2").exists()
    outside = machine.clone({"app.py": SERVER.format(more="open('../elsewhere/rain.log', 'a')")}, "outside")
    assert machine.run("onboard", outside).status == 1 and not (outside.parent / "elsewhere").exists()


@pytest.mark.needs("git")
def test_a_young_clone_is_not_taken_back_in_time(machine: Machine, offer: Offer) -> None:
    offer([replace(Archive.of(package("gaugekit")), uploaded="2019-03-01T10:00:00Z")])
    files = {
        "app.py": "raise ImportError('too new')\n",
        "requirements.txt": "gaugekit\n",
        "Procfile": "web: python app.py\n",
    }
    clone = committed(machine.clone(files))
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and not any(
        "as of" in one for step in run.document["steps"] for one in step["remarks"]
    )


def test_a_missing_module_that_another_list_names_is_installed(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("gaugekit")), Archive.of(package("mapkit"))])
    files = {
        "pyproject.toml": "[project]\nname = 'rain'\nversion = '1'\ndependencies = ['gaugekit']\n"
        "[project.optional-dependencies]\nmaps = ['mapkit']\n",
        "app.py": SERVER.format(more="import mapkit"),
        "Procfile": "web: python app.py\n",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("mapkit was missing" in one for one in run.step("server")["remarks"])
    assert set(machine.run("onboard", clone, "--json").states.values()) <= {"kept", "left out"}
    machine.run("stop", clone)


@pytest.mark.needs("git")
def test_versions_that_did_not_help_are_not_kept(machine: Machine, offer: Offer) -> None:
    old = replace(Archive.of(package("gaugekit", "1.0")), uploaded="2019-03-01T10:00:00Z")
    new = replace(Archive.of(package("gaugekit", "2.0")), uploaded="2025-03-01T10:00:00Z")
    offer([old, new])
    main = SERVER.format(more="import gaugekit\nraise ImportError('it is broken in every version')")
    files = {"app.py": main, "requirements.txt": "gaugekit\n", "Procfile": "web: python app.py\n"}
    clone = committed(machine.clone(files), "2019-06-01T12:00:00 +0000")
    run = machine.run("onboard", clone, "--json")
    assert run.status == 1 and any("as of 2019-06-01" in one for one in run.step("server")["remarks"])
    assert any("that did not help, and was taken back" in one for one in run.step("server")["remarks"])
    assert list((clone / ".venv").rglob("gaugekit-2.0.dist-info"))
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.states["dependencies"] == "kept"


@pytest.mark.needs("git")
def test_a_program_that_looks_for_files_above_its_folder_is_started_there(machine: Machine) -> None:
    main = SERVER.format(more="open('stations/list.txt').close()")
    files = {"stations/list.txt": "Ashford\n", "de mo/app.py": main, "de mo/requirements.txt": "\n"}
    clone = committed(
        machine.clone({**files, "de mo/Procfile": "web: python app.py\n", "README.md": "# Rain\n"})
    )
    run = machine.run("onboard", clone / "de mo", "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == "cd .. && python 'de mo/app.py'"
    assert set(machine.run("onboard", clone / "de mo", "--json").states.values()) == {"kept"}


@pytest.mark.needs("git")
def test_a_part_that_is_a_package_is_run_from_the_folder_above(machine: Machine) -> None:
    page = (
        "import argparse, http.server\nfrom . import NAME\n\nif __name__ == '__main__':\n"
        "    parser = argparse.ArgumentParser()\n    parser.add_argument('--port', type=int)\n"
        "    port = parser.parse_args().port\n"
        "    http.server.test(http.server.SimpleHTTPRequestHandler, port=port, bind='127.0.0.1')\n"
    )
    files = {"demo/__init__.py": "NAME = 'rain'\n", "demo/__main__.py": page, "demo/requirements.txt": "\n"}
    clone = committed(machine.clone({**files, "README.md": "# Rain\n"}))
    run = machine.run("onboard", clone / "demo", "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert run.document["servers"][0]["command"] == "cd .. && python -m demo --port ${PORT}"


@pytest.mark.needs("git")
def test_a_module_of_a_project_beside_the_part_is_found(machine: Machine) -> None:
    main = SERVER.format(more="import rainkit, drops\nassert rainkit.DROPS == 3")
    files = {
        "tools/rainkit/setup.py": "", "tools/rainkit/rainkit/__init__.py": "DROPS = 3\n", "drops.py": "",
        "demo/app.py": main, "demo/requirements.txt": "\n", "demo/Procfile": "web: python app.py\n",
    }  # fmt: skip
    clone = committed(machine.clone({**files, "README.md": "# Rain\n"}))
    run = machine.run("onboard", clone / "demo", "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    remarks = " ".join(run.step("server")["remarks"])
    assert "tools/rainkit has it" in remarks and "the folder at the top has it" in remarks
    assert set(machine.run("onboard", clone / "demo", "--json").states.values()) == {"kept"}


def test_an_application_without_a_secret_key_gets_one(machine: Machine) -> None:
    guard = "if len(os.environ.get('SECRET_KEY', '')) < 30:\n  raise RuntimeError('no secret key was set')"
    clone = machine.clone(
        {"app.py": SERVER.format(more=guard), "requirements.txt": "", "Procfile": "web: python app.py\n"}
    )
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("it got one, as SECRET_KEY" in one for one in run.step("server")["remarks"])
    kept = machine.run("onboard", clone, "--json")
    assert set(kept.states.values()) == {"kept"}
    key = machine.run("inside", clone, "--", "python", "-c", "import os; print(os.environ['SECRET_KEY'])").out
    assert len(key.strip()) == 64 or "•" in key
    assert not any(
        key.strip() in one.read_text("utf-8", "replace") for one in clone.rglob("*") if one.is_file()
    )


def test_a_secret_of_its_own_that_a_program_asks_for_is_made(machine: Machine) -> None:
    ask = (
        "key = os.environ.get('GAUGES_API_KEY', '')\n"
        "if not key: raise SystemExit('refusing to start without GAUGES_API_KEY')\n"
        "os.environ.get('CLOUD_API_KEY', '')"
    )
    clone = machine.clone(
        {"app.py": SERVER.format(more=ask), "requirements.txt": "", "Procfile": "web: python app.py\n"}
    )
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.document["outcome"] == "done", run.document["failure"]
    assert any("asks for GAUGES_API_KEY" in one for one in run.step("server")["remarks"])
    assert set(machine.run("onboard", clone, "--json").states.values()) == {"kept"}
    machine.run("stop", clone)
    # One of somebody else's is not made up.
    (clone / "app.py").write_text((clone / "app.py").read_text().replace("GAUGES_API", "CLOUD_API"))
    run = machine.run("onboard", clone, "--json", "--no-input")
    assert run.status == 1 and "CLOUD_API_KEY" in run.document["failure"]["cause"]


def test_a_version_whose_build_tools_do_not_fit_is_passed_over(machine: Machine, offer: Offer) -> None:
    new = source_package("gauge", tree("gauge", version="2.0", needs="'buildkit>=9'"), "2.0")
    old = source_package("gauge", tree("gauge", version="1.0", needs="'buildkit>=1'"), "1.0")
    offer([new, old, Archive.of(package("buildkit"))])
    files = {"requirements.txt": "gauge\n", "app.py": ""}
    run = machine.run("onboard", machine.clone(files), "--until", "dependencies", "--json")
    assert run.document["failure"] is None, run.document["failure"]
    step = run.step("dependencies")
    assert step["detail"]["laid"] == ["gauge 1.0"]
    assert any("gauge 2.0 cannot be built here (no version of buildkit" in one for one in step["remarks"])
    pinned = machine.clone({**files, "requirements.txt": "gauge==2.0\n"}, "pinned")
    refused = machine.run("onboard", pinned, "--until", "dependencies", "--json")
    assert "no version of buildkit satisfies" in refused.document["failure"]["cause"]


def test_a_document_that_means_the_readers_own_project(machine: Machine) -> None:
    main = (
        "import argparse, sys\nparser = argparse.ArgumentParser()\nparser.add_argument('word')\n"
        "parser.add_argument('name')\nname = parser.parse_args().name\n"
        "if __name__ == '__main__':\n    sys.exit(f\"Error: Could not find project '{name}'\")\n"
    )
    files = {
        "gauges.py": main,
        "README.md": "# Gauges\n\n## Running\n\n```\npython gauges.py serve stations\n```\n",
        "requirements.txt": "",
    }
    clone = machine.clone(files)
    run = machine.run("onboard", clone, "--json")
    assert run.document["outcome"] == "done" and run.states["server"] == "left out", run.document["failure"]


def test_a_word_that_a_program_does_not_know_is_no_project_of_the_readers() -> None:
    from plainfall.onboarding.stages.start_commands import NOT_FOUND

    assert NOT_FOUND.search("Error: No such command 'serve'.") is None
    assert NOT_FOUND.search("Error: Could not find project 'stations'") is not None


def test_a_folder_whose_name_is_no_packages_is_not_put_into_a_command(tmp_path: Path) -> None:
    from plainfall.ecosystems.python.recognise.survey import python_commands

    for name in ("demo", "demo; touch taken"):
        (tmp_path / name).mkdir()
        (tmp_path / name / "__init__.py").touch()
        (tmp_path / name / "__main__.py").write_text("if __name__ == '__main__':\n    pass\n")
    tree = walk(tmp_path)
    assert [one.line for one in python_commands(tree, "demo")] == ["cd .. && python -m demo"]
    assert python_commands(tree, "demo; touch taken") == []
