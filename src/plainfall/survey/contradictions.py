"""Places of a clone that cannot all be right: versions, ports, files that steps name and nobody has."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import combinations

from plainfall.clone.commands import missing_script
from plainfall.clone.parts import Contradiction, PartFound
from plainfall.clone.readme import ReadmeStep, readme_addresses
from plainfall.clone.walk import Tree
from plainfall.ecosystems import language_named, vocabulary
from plainfall.evidence import Evidence
from plainfall.formats.dotenv import parse_dotenv
from plainfall.runtimes.asks import Strength
from plainfall.runtimes.choice import disagree

__all__ = ["find_contradictions"]


def find_contradictions(
    tree: Tree, parts: Sequence[PartFound], steps: Sequence[ReadmeStep]
) -> Iterator[Contradiction]:
    """All contradictions, each with every place and with what Plainfall goes by."""
    for part in parts:
        yield from _versions(part)
        yield from _ports(tree, part)
    missing: dict[str, list[Evidence]] = {}
    for step in steps:
        folder = parts[0].path if parts else ""
        script = missing_script(step.command, tree, folder, vocabulary())
        if script:
            missing.setdefault(script, []).append(step.evidence)
    for script, places in missing.items():
        what = f"the README runs {script}, which is not in the clone"
        yield Contradiction(what, tuple(places), "the step is left out")


def _versions(part: PartFound) -> Iterator[Contradiction]:
    """A pinned version that a range does not admit, and two pins of different release lines."""
    language = language_named(part.language)
    if language is None or language.grammar is None:
        return
    strong = [ask for ask in part.asks if ask.strength >= Strength.RANGE]
    for first, second in combinations(strong, 2):
        pin, other = (first, second) if first.strength >= second.strength else (second, first)
        if pin.strength is Strength.PIN and disagree(pin, other, language.grammar):
            yield Contradiction(
                f"one place asks for {language.title} {first.text}, another for {second.text}",
                (first.evidence, second.evidence),
                "the pin",
            )


def _ports(tree: Tree, part: PartFound) -> Iterator[Contradiction]:
    """The ports that the template, the start command and the README name."""
    named: list[tuple[int, Evidence, str]] = []
    if part.settings:
        template = part.settings.template
        for entry in parse_dotenv(tree.text(template), template).entries:
            if re.fullmatch(r"(\w+_)?PORT", entry.key) and entry.value.isdigit() and "DB" not in entry.key:
                evidence = Evidence(template, entry.line, f"{entry.key}={entry.value}")
                named.append((int(entry.value), evidence, "the settings template"))
                break
    servers = part.candidates("server")
    if servers:
        match = re.search(r"(?:--port[ =]|-p +|:)(\d{4,5})\b", servers[0].line)
        if match:
            named.append((int(match.group(1)), servers[0].evidence, "the start command"))
    place = f"{part.path}/" if part.path else ""
    for name in tree.folders.get(part.path, ()):
        if re.match(r"readme", name, re.IGNORECASE):
            for port, _, evidence in readme_addresses(tree.text(place + name), place + name):
                if port:
                    named.append((port, evidence, "the README"))
    ports = {port for port, _, _ in named}
    if len(ports) > 1:
        first: dict[int, tuple[Evidence, str]] = {}
        for port, evidence, where in named:
            first.setdefault(port, (evidence, where))
        text = ", ".join(f"{where} says {port}" for port, (_, where) in first.items())
        yield Contradiction(
            f"the ports disagree: {text}",
            tuple(evidence for evidence, _ in first.values()),
            f"{named[0][0]}, from {named[0][2]}",
        )
