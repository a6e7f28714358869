"""Every failure that a rule is for is produced for real and recognised; on logs of healthy starts no rule fires."""

from __future__ import annotations

import sys
import tomllib
from pathlib import Path

import pytest
from diagnosis_cases import CASES, HEALTHY, Case, Healthy, run_case

import plainfall.diagnosis
from plainfall.diagnosis.reading import diagnose
from plainfall.server.ports import free_port
from plainfall.server.process import new_mark, start, stop
from plainfall.server.readiness import wait_until_ready


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.rule}-{case.needs.split()[-1]}")
def test_a_failure_is_recognised(case: Case, tmp_path: Path) -> None:
    try:
        status, said = run_case(case, tmp_path)
    except LookupError as error:
        pytest.skip(f"no {error} here")
    found = diagnose(said, status)
    assert found.rule == case.rule, said[-2000:]
    assert case.named in found.cause and found.remedy and "{name}" not in found.cause + found.remedy
    assert found.line in said


@pytest.mark.parametrize("healthy", HEALTHY, ids=lambda healthy: healthy.title)
def test_no_rule_fires_on_a_healthy_start(healthy: Healthy, tmp_path: Path) -> None:
    import os
    import shutil

    if healthy.needs != "python" and shutil.which(healthy.needs) is None:
        pytest.skip(f"no {healthy.needs} here")
    for name, text in healthy.files.items():
        (tmp_path / name).write_text(text)
    port = free_port(9500)
    command = healthy.command.replace("{python}", sys.executable)
    variables = {"PATH": os.environ["PATH"], "PORT": str(port), "PYTHONUNBUFFERED": "1"}
    running, process = start(command, tmp_path, variables, tmp_path / "log", port, new_mark())
    try:
        ready = wait_until_ready(running, process, 15, lambda waited: None)
    finally:
        stop(running, process)
    log = (tmp_path / "log").read_text("utf-8", "replace")
    assert ready.state == "answers", log
    assert diagnose(log).rule == "", log


def test_the_rules_are_many_and_each_is_whole() -> None:
    folder = Path(plainfall.diagnosis.__file__).parent
    rules = tomllib.loads((folder / "rules.toml").read_text("utf-8"))["rule"]
    names = [rule["id"] for rule in rules]
    assert len(names) == len(set(names)) >= 40
    assert len({case.rule for case in CASES}) >= 40
    for rule in rules:
        assert ("pattern" in rule) != ("status" in rule) and rule["cause"] and rule["remedy"]
