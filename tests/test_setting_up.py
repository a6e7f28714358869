"""A program's own installer: named, and filled where a person or the team says so."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from conftest import Machine

INDEX = """\
<?php
if (!is_file(__DIR__ . '/made.json')) { header('Location: /install.php'); exit; }
$made = json_decode(file_get_contents(__DIR__ . '/made.json'), true);
session_start();
if (($_POST['log'] ?? '') === ($made['admin_user'] ?? '-') && $_POST['pwd'] === $made['admin_password']) { $_SESSION['in'] = 1; }
?><!doctype html><title><?= $made['site_title'] ?></title><a href="/login.php">Log in</a>
"""
INSTALL = """\
<?php
$wants = WANTS;
if ($_SERVER['REQUEST_METHOD'] === 'POST' && isset($_POST['language'])) { header('Location: /install.php?step=2'); exit; }
if ($_SERVER['REQUEST_METHOD'] === 'POST' && ($_POST['admin_password'] ?? '') === ($_POST['again'] ?? '') && REFUSES) {
  file_put_contents(__DIR__ . '/made.json', json_encode($_POST));
  echo '<title>Made</title>Success. <a href="/login.php">Log in</a>'; exit;
}
if (($_GET['step'] ?? '') !== '2' && $_SERVER['REQUEST_METHOD'] !== 'POST') {
  echo '<title>Installer</title><form method="post" action="/install.php"><select name="language" value="en">'
    . '<option>en</option></select><button name="go" value="1">Go on</button></form>'; exit;
} ?><title>Installer</title><?= $_POST ? 'The mail is not correct.' : '' ?>
<form method="post" action="/install.php"><input type="hidden" name="token" value="t1">
<input name="site_title"><input name="admin_user"><input type="password" name="admin_password">
<input type="password" name="again"><input type="email" name="mail"><?= $wants ?><input type="submit" name="s" value="Install"></form>
"""


def clone(
    machine: Machine, wants: str = "", refuses: bool = False, team: str = "", name: str = "rain-news"
) -> Path:
    install = INSTALL.replace("WANTS", json.dumps(wants)).replace("REFUSES", "false" if refuses else "true")
    login = (
        '<title>In</title><form method="post" action="/"><input name="log"><input type="password" name="pwd">'
        "</form>"
    )
    files = {"index.php": INDEX, "install.php": install, "login.php": login}
    return machine.clone({**files, **({"plainfall.toml": team} if team else {})}, name=name)


@pytest.mark.needs("php")
def test_it_is_named_and_filled_when_the_person_says_so(machine: Machine) -> None:
    here = clone(machine)
    run = machine.run("onboard", here, "--json")
    assert run.status == 0, run.out
    [remark] = run.step("probe")["remarks"]
    assert "its own installer waits at" in remark and "plainfall probe --set-up" in remark
    assert not (here / "made.json").exists()
    look = machine.run(
        "probe", here, "--set-up", "--set", "token=t2", "--sign-in", "--browser", "none", "--json"
    )
    [server] = look.document["servers"]
    assert look.status == 0, look.out
    assert server["installer"]["state"] == "done" and server["installer"]["forms"] == 2
    made = json.loads((here / "made.json").read_text())
    [account] = json.loads((here / ".plainfall/accounts.json").read_text()).values()
    assert made["site_title"] == "rain news" and made["admin_user"] == "admin" and made["token"] == "t2"
    assert made["admin_password"] == made["again"] == account["password"]
    assert account["page"] == "/login.php" and account["password"] not in look.out
    assert [one["state"] for one in server["signed_in"]] == ["in"]
    again = machine.run("probe", here, "--browser", "none", "--json").document["servers"][0]
    assert again["probe"]["title"] == "rain news"
    machine.run("stop", "--all")


@pytest.mark.needs("php")
def test_the_team_says_so_in_its_file(machine: Machine) -> None:
    here = clone(machine, team='[set-up]\nsite_title = "Hollin news"\n')
    run = machine.run("onboard", here, "--json")
    assert run.status == 0, run.out
    assert json.loads((here / "made.json").read_text())["site_title"] == "Hollin news"
    assert "set up by its own installer (2 forms filled)" in run.step("probe")["remarks"][0]
    machine.run("stop", "--all")


@pytest.mark.needs("php")
def test_what_it_wants_more_is_named_and_nothing_is_sent(machine: Machine) -> None:
    wants = '<input name="region_code" required>'
    here = clone(machine, wants)
    assert machine.run("onboard", here).status == 0
    look = machine.run("probe", here, "--set-up", "--browser", "none")
    assert look.status == 1 and "--set region_code=VALUE" in look.out, look.out
    assert not (here / "made.json").exists()
    look = machine.run("probe", here, "--set-up", "--set", "region_code=north", "--browser", "none")
    assert look.status == 0 and "set up by its own installer, 2 forms filled" in look.out, look.out
    look = machine.run("probe", here, "--set-up", "--browser", "none")
    assert look.status == 1 and "is no installer's page with a form" in look.out
    other = clone(machine, wants, team="[set-up]\n", name="other")
    run = machine.run("onboard", other, "--json")
    assert run.status == 1 and "was not filled: it wants region_code" in run.out, run.out
    machine.run("stop", "--all")


@pytest.mark.needs("php")
def test_its_refusal_is_shown_in_its_words(machine: Machine) -> None:
    here = clone(machine, refuses=True)
    assert machine.run("onboard", here).status == 0
    look = machine.run("probe", here, "--set-up", "--browser", "none")
    assert look.status == 1 and "The mail is not correct." in look.out, look.out
    machine.run("stop", "--all")
