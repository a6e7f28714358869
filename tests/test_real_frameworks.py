"""Real frameworks: small clones of ours go from clone to a probed page with one command and no option.

This tier runs where ``PLAINFALL_REAL_PACKAGES`` names a folder of wheels, which ``.ci/run`` fetches.
"""

from __future__ import annotations

import hashlib
import json
import os
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import PYTHON_LINE, Machine
from hands import same_pages_by_hand
from real_python_clones import CLONES

from plainfall.diagnosis.reading import diagnose
from plainfall.standins.registry import archives_in, serving

FOLDER = os.environ.get("PLAINFALL_REAL_PACKAGES", "")
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not FOLDER, reason="PLAINFALL_REAL_PACKAGES names no folder of wheels"),
]


@pytest.fixture(scope="module")
def index() -> Iterator[str]:
    with serving(archives_in(Path(FOLDER))) as registry:
        yield registry.url


@pytest.fixture
def real(machine: Machine, index: str) -> Machine:
    machine.variables.pop("PIP_NO_INDEX")
    machine.variables["PIP_INDEX_URL"] = index
    return machine


def onboarded(real: Machine, name: str) -> tuple[Path, dict[str, str], str]:
    clone = real.clone({**CLONES[name], ".python-version": PYTHON_LINE}, name)
    run = real.run("onboard", clone, "--json", timeout=120)
    assert run.status == 0, run.err
    [server] = run.document["servers"]
    again = real.run("onboard", clone, "--json")
    assert set(again.states.values()) == {"kept"}, again.states
    return clone, run.states, str(server["probe"]["url"])


def page(url: str) -> str:
    import urllib3

    return urllib3.PoolManager().request("GET", url).data.decode()


def test_django_with_fixtures_and_an_administrator(real: Machine) -> None:
    clone, states, url = onboarded(real, "django")
    assert states["migrations"] == states["seeds"] == states["tasks"] == "done"
    assert page(url) == "<title>Stations</title>Ashford Mill, Copper Hill"
    account = json.loads((clone / ".plainfall/accounts.json").read_text())["."]
    assert account["page"] == "/office/" and (clone / ".plainfall/accounts.json").stat().st_mode & 0o077 == 0
    assert (clone / "collected/staticfiles.json").exists()
    with sqlite3.connect(clone / "db.sqlite3") as database:
        assert database.execute("SELECT username, is_superuser FROM auth_user").fetchall() == [("admin", 1)]
    logs = "".join(path.read_text() for path in (clone / ".plainfall").rglob("*.log"))
    assert account["password"] not in logs


def test_django_is_given_the_names_of_this_machine(real: Machine) -> None:
    strict = {
        **CLONES["django"],
        ".python-version": PYTHON_LINE,
        ".env.example": "SECRET_KEY=change-me\nDEBUG=true\nALLOWED_HOSTS=rain.example\n",
    }
    clone = real.clone(strict)
    run = real.run("onboard", clone, "--json", timeout=120)
    assert run.status == 0, run.err
    assert run.document["servers"][0]["probe"]["url"].startswith("http://localhost:")
    assert "ALLOWED_HOSTS=rain.example,localhost,127.0.0.1\n" in (clone / ".env").read_text()


def test_django_that_knows_itself_by_its_address_only(real: Machine) -> None:
    source = CLONES["django"]["rain/settings.py"]
    asked = 'os.environ.get("ALLOWED_HOSTS", "").split(",")'
    assert asked in source
    fixed = {**CLONES["django"], ".python-version": PYTHON_LINE}
    address = {"rain/settings.py": source.replace(asked, '["127.0.0.1"]')}
    run = real.run("onboard", real.clone({**fixed, **address}), "--json", timeout=120)
    assert run.status == 0, run.err
    assert run.document["servers"][0]["probe"]["url"].startswith("http://127.0.0.1:")
    nowhere = {"rain/settings.py": source.replace(asked, '["rain.example"]')}
    refused = real.run("onboard", real.clone({**fixed, **nowhere}, "other"), timeout=120)
    assert refused.status == 1 and "refuses the host name" in " ".join(refused.err.split())


def test_flask_with_migrations_and_a_seed_command(real: Machine) -> None:
    clone, states, url = onboarded(real, "flask-migrated")
    assert states["migrations"] == states["seeds"] == "done"
    assert page(url) == "<title>Readings</title>5 readings"
    assert (clone / "var/gauges.db").exists()


def test_fastapi_without_a_page_at_its_root(real: Machine) -> None:
    _, states, url = onboarded(real, "fastapi")
    assert url.endswith("/docs") and states["probe"] == "done"


def test_flask_in_one_file_with_a_command_for_its_tables(real: Machine) -> None:
    _, states, url = onboarded(real, "flask-single-file")
    assert states["migrations"] == "done" and page(url) == "<title>Rain</title>0 rows"


@pytest.mark.parametrize("name", ["django", "flask-migrated"])
def test_by_hand_a_fresh_clone_comes_to_the_same_page(real: Machine, tmp_path: Path, name: str) -> None:
    clone = real.clone({**CLONES[name], ".python-version": PYTHON_LINE}, name)
    port = {"django": "8713", "flask-migrated": "8714"}[name]  # which no test beside it has
    assert real.run("onboard", clone, "--port", port, timeout=120).status == 0
    same_pages_by_hand(real, clone, tmp_path)


def test_alembic_in_a_subfolder_with_its_own_lists(real: Machine) -> None:
    clone, states, url = onboarded(real, "alembic-in-a-subfolder")
    assert states["migrations"] == "done" and json.loads(page(url)) == {"gauges": 0}
    assert (clone / "service/.venv").is_dir() and (clone / "service/gauges.db").exists()


@pytest.mark.parametrize("name", ["django", "flask-single-file", "fastapi"])
def test_an_edit_is_seen_by_a_framework_in_its_development_mode(real: Machine, name: str) -> None:
    clone, _, _ = onboarded(real, name)
    run = real.run("probe", clone, "--reload", "--json", timeout=60)
    assert run.status == 0, run.out
    reload = run.document["servers"][0]["reload"]
    assert reload["noticed"] is not None and reload["noticed"] < 10 and reload["answered"] is not None


RESOLVED = [
    ["django"],
    ["flask", "flask-migrate"],
    ["fastapi", "uvicorn[standard]"],
    ["sqlalchemy", "alembic<2"],
    ["django>=4", "sqlparse<0.6"],
    ["flask-sqlalchemy", "werkzeug"],
]


@pytest.mark.parametrize("wishes", RESOLVED, ids=lambda wishes: "-".join(wishes))
def test_what_is_resolved_is_what_the_bundled_client_resolves(real: Machine, wishes: list[str]) -> None:
    files = {"requirements.txt": "\n".join(wishes), "app.py": "", ".python-version": PYTHON_LINE}
    clone = real.clone(files)
    run = real.run("onboard", clone, "--until", "dependencies", "--json")
    report = clone / "report.json"
    words = (
        f"-m pip --python {clone}/.venv/bin/python install --dry-run -q --ignore-installed --report {report}"
    )
    if run.status == 0:
        laid = {label.replace("_", "-") for label in run.step("dependencies")["detail"]["laid"]}
        command = [sys.executable, *words.split(), "-r", str(clone / "requirements.txt")]
        subprocess.run(command, env=real.variables, check=True, capture_output=True)
        chosen = {
            f"{one['metadata']['name'].lower().replace('_', '-')} {one['metadata']['version']}"
            for one in json.loads(report.read_text())["install"]
        }
        assert laid == chosen
    else:
        assert "no version of sqlparse satisfies" in run.err
        subprocess.run(
            [sys.executable, "-m", "venv", "--without-pip", clone / "other"], check=True, capture_output=True
        )
        words = words.replace(".venv", "other")
        command = [sys.executable, *words.split(), "-r", str(clone / "requirements.txt")]
        done = subprocess.run(command, env=real.variables, check=False, capture_output=True)
        assert done.returncode != 0


def test_the_tree_of_all_packages_equals_what_the_bundled_client_lays_down(real: Machine) -> None:
    from test_wheels import by_hand, records, tree

    wheels = sorted(Path(FOLDER).glob("*.whl"))
    rows = [
        f"{w.name.split('-')[0]}=={w.name.split('-')[1]} --hash=sha256:{hashlib.sha256(w.read_bytes()).hexdigest()}"
        for w in wheels
    ]
    clone = real.clone({"requirements.txt": "\n".join(rows), ".python-version": PYTHON_LINE, "app.py": ""})
    run = real.run("onboard", clone, "--until", "dependencies", "--json", timeout=120)
    assert run.status == 0, run.err
    assert len(run.step("dependencies")["detail"]["laid"]) == len(wheels)
    hand = by_hand(real, clone)
    assert tree(clone / ".venv") == tree(hand)
    assert records(clone / ".venv") == records(hand)


def signed_in(real: Machine, clone: Path, *words: str) -> list[dict[str, Any]]:
    run = real.run("probe", clone, "--sign-in", "--json", *words)
    assert run.status == 0, run.out
    found: list[dict[str, Any]] = run.document["servers"][0]["signed_in"]
    return found


def test_signing_in_to_the_administration_of_django(real: Machine) -> None:
    clone, _, _ = onboarded(real, "django")
    [found] = signed_in(real, clone)
    assert found["state"] == "in" and found["landed"] == "/office/" and "administration" in found["title"]
    opened = {one["path"]: (one["guest"], one["member"]) for one in found["pages"] if one["opened"]}
    assert opened["/office/"] == (302, 200) and len(opened) > 2
    accounts = clone / ".plainfall/accounts.json"
    accounts.write_text(accounts.read_text().replace('"password":"', '"password":"not-'))
    refused = real.run("probe", clone, "--sign-in")
    assert refused.status == 1 and "refused at" in refused.out and "correct" in refused.out


def test_registering_and_signing_in_to_flask_with_cross_site_protection(real: Machine) -> None:
    clone, _, _ = onboarded(real, "flask-members")
    made, found = signed_in(real, clone, "--register")
    assert made["state"] == "in" and made["form"].endswith("/members/join")
    assert found["state"] == "in" and found["landed"] == "/readings"
    assert [one["path"] for one in found["pages"] if one["opened"]] == ["/readings"]


def test_an_origin_that_django_does_not_trust_is_told(real: Machine) -> None:
    clone, _, url = onboarded(real, "django")
    import urllib3

    manager = urllib3.PoolManager()
    login = manager.request("GET", f"{url}office/login/")
    token = login.headers["Set-Cookie"].split("csrftoken=")[1].split(";")[0]
    headers = {"Cookie": f"csrftoken={token}", "Origin": "http://elsewhere.example", "Host": "localhost:8000"}
    body = {"csrfmiddlewaretoken": token, "username": "admin", "password": "x"}
    assert manager.request("POST", f"{url}office/login/", fields=body, headers=headers).status == 403
    log = (clone / ".plainfall/logs/server.log").read_text()
    found = diagnose(log)
    assert found.rule == "origin-not-allowed" and "http://elsewhere.example" in found.cause
    wrong = manager.request("GET", url, headers={"Host": "rain.example"})
    assert wrong.status == 400
    assert diagnose((clone / ".plainfall/logs/server.log").read_text()).rule == "host-not-allowed"


def test_migrations_that_are_pending_are_told(real: Machine) -> None:
    clone, _, _ = onboarded(real, "django")
    real.run("stop", clone)
    (clone / "db.sqlite3").unlink()
    run = real.run("serve", clone, "--background")
    output = (clone / ".plainfall/logs/server.log").read_text()
    assert diagnose(output).rule in ("migration-pending", "table-missing"), run.err + output
    mended = real.run("serve", clone, "--background", "--mend", "--json")
    assert mended.status == 0, mended.err


def test_settings_that_django_takes_for_improper_are_told(real: Machine) -> None:
    clone, _, _ = onboarded(real, "django")
    ask = "from django.conf import settings; settings.SECRET_KEY"
    line = f"SECRET_KEY= DJANGO_SETTINGS_MODULE=rain.settings python -c '{ask}'"
    run = real.run("inside", clone, "--", "sh", "-c", line)
    found = diagnose(run.out + run.err, run.status)
    assert run.status == 1 and found.rule == "settings-improper" and "SECRET_KEY" in found.cause
