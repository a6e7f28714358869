"""A "Getting started" section that is true, and where the present README says something else."""

from __future__ import annotations

import re

from plainfall.onboarding.uses.report.reporting import Report

__all__ = ["differences", "readme_section"]

_PORT = re.compile(r"(?:localhost|127\.0\.0\.1|0\.0\.0\.0):(\d{2,5})")
_CLIENTS = re.compile(r"^(npm|yarn|pnpm|pip3?|poetry|pipenv|uv|composer|bundle|gem)\b")
# How the script tells of itself: these lines are for machines.
_HELPERS = re.compile(
    r"^(set -eu|umask |random\(\)|hex\(\)|letters\(\)|trap |wait$|#!/bin/sh|# Run it in|# How )"
)


def readme_section(report: Report) -> str:
    """The section, in Markdown."""
    rows = ["## Getting started", "", "You need:", ""]
    for part in report.parts:
        runtime = next(
            (row for row, _ in report.steps if row["part"] == part.key and row["stage"] == "runtime"), None
        )
        if runtime is not None:
            rows.append(f"- {_escaped(runtime['title'].partition(' at ')[0])}{_where(part.path)}")
    for _, done in report.steps:
        if done["stage"] == "services" and done["detail"].get("services"):
            rows += [f"- a server: {_escaped(piece)}" for piece in done["title"].split("; ")]
    rows += [
        "",
        "With Plainfall, in the clone's folder:",
        "",
        "```",
        "plainfall onboard",
        "```",
        "",
        "By hand:",
        "",
    ]
    for number, (part_key, lines) in enumerate(report.commands):
        heading = [f"For {report.title_of_part(part_key)}, in another terminal:", ""] if number else []
        rows += [*heading, "```sh", *lines, "```", ""]
    for server in report.servers:
        title = f' ("{_escaped(str(server.probe["title"]))}")' if server.probe.get("title") else ""
        rows.append(f"Then {server.url} answers{_where(server.part)}{title}.")
    for place, kinds in report.checks.items():
        for kind, row in kinds.items():
            rows.append(f"{kind.capitalize()}{_where(place)}: `{row.command}`.")
    return "\n".join(rows).rstrip() + "\n"


def _where(part: str) -> str:
    return f" for `{part}`" if part else ""


def _escaped(text: str) -> str:
    return re.sub(r"([\\`*_\[\]<>|])", r"\\\1", text)


def differences(report: Report) -> list[str]:
    """Where the present README and what was done differ, each with its place."""
    found = [f"{one.what} (taken: {one.taken}); {', '.join(map(str, one.places))}" for one in report.contradictions
             if any("readme" in place.path.lower() for place in one.places)]  # fmt: skip
    lines = {str(done["detail"].get("command", "")) for _, done in report.steps}
    lines |= {server.command for server in report.servers}
    ports = {match for server in report.servers for match in _PORT.findall(server.url)}
    for step in report.survey.steps:
        told = _PORT.search(step.command)
        if step.stage == "server" and not any(_same(step.command, line) for line in lines):
            shown = "; ".join(server.command for server in report.servers) or "none was started"
            text = f"it starts `{step.command}`, and what answered was `{shown}`"
            found.append(f"{text} ({step.evidence})")
        elif told and ports and told.group(1) not in ports:
            here = ", ".join(sorted(ports))
            found.append(f"it names port {told.group(1)}, and what answers is on {here} ({step.evidence})")
        elif not step.stage and not _CLIENTS.match(step.command):
            found.append(f"`{step.command}` was not needed, or is not known ({step.evidence})")
    stages = {step.stage for step in report.survey.steps}
    for stage, words in (("settings", "settings file"), ("migrations", "migrations"), ("seeds", "seeds")):
        done = [one for _, one in report.steps if one["stage"] == stage and one["state"] == "done"]
        if done and stage not in stages and not _mentions(report, stage):
            found.append(f"it says nothing of the {words}: {done[0]['title']}")
    return list(dict.fromkeys(found))


def _same(told: str, ran: str) -> bool:
    """Whether two command lines are the same but for ports and options."""
    first, second = told.split(), ran.split()
    plain = [word for word in first if not word.startswith("-") and not word.isdigit() and "$" not in word]
    return bool(plain) and all(word in second for word in plain[:3])


def _mentions(report: Report, stage: str) -> bool:
    words = {"settings": r"\.env|settings|config", "migrations": r"migrat|schema", "seeds": r"seed|fixture"}[
        stage
    ]
    return any(re.search(words, step.command, re.IGNORECASE) for step in report.survey.steps)
