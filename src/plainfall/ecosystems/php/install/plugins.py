"""Packages that extend the package client: they do not run here. What everybody needs of them is done instead; of
the others it is said what they would have done."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.confinement import Confined
from plainfall.ecosystems.php.install.loader import php_text
from plainfall.ecosystems.php.lists.manifests import Locked, mapping

__all__ = ["plugin_remarks", "php_value", "write_runtime_entry"]

_RUNTIME = "symfony/runtime"
# Done here, or of no consequence for a program that runs.
_DONE = {_RUNTIME, "composer/installers", "symfony/flex", "composer/package-versions-deprecated"}
_FOR_TOOLS = (
    "phpstan/",
    "dealerdirect/",
    "phpro/",
    "pestphp/",
    "ergebnis/",
    "bamarni/",
    "infection/",
    "captainhook/",
)


def plugin_remarks(packages: Sequence[Locked]) -> list[str]:
    """What plugins that did not run would have done, in words."""
    found = []
    for one in packages:
        if one.kind != "composer-plugin" or one.name in _DONE or one.name.startswith(_FOR_TOOLS):
            continue
        what = str(one.entry.get("description") or "it says not what it does")
        found.append(f"{one.name} extends the package client and did not run; it would have: {what[:160]}")
    return found


def php_value(value: Any) -> str:
    """A JSON value as a literal of PHP."""
    if isinstance(value, dict):
        rows = [f"{php_text(str(key))} => {php_value(one)}" for key, one in value.items()]
        return f"[{', '.join(rows)}]"
    if isinstance(value, list):
        return f"[{', '.join(map(php_value, value))}]"
    if value is None or isinstance(value, bool):
        return {None: "null", True: "true", False: "false"}[value]
    return repr(value) if isinstance(value, int | float) else php_text(str(value))


def write_runtime_entry(
    confined: Confined, part: Path, vendor: str, document: Mapping[str, Any], places: Mapping[str, str]
) -> str:
    """The file by which programs on the runtime component start, from the component's own template; returns its
    name below the folder of installed packages, "" where the component is not installed."""
    place = places.get(_RUNTIME)
    template = part / place / "Internal" / "autoload_runtime.template" if place else None
    if template is None or not template.is_file():
        return ""
    extra = dict(mapping(mapping(document.get("extra")).get("runtime")))
    named = extra.pop("autoload_template", None)
    if isinstance(named, str):
        own = Path(os.path.realpath(part / named))
        if own.is_relative_to(confined.root) and own.is_file():
            template = own
    kind = extra.pop("class", None)
    top = f"dirname(__DIR__, {vendor.count('/') + 1})"
    runtime = kind if isinstance(kind, str) else "Symfony\\Component\\Runtime\\SymfonyRuntime"
    options = "".join(f"  {php_text(key)} => {php_value(value)},\n" for key, value in extra.items())
    text = template.read_text("utf-8")
    for key, value in (
        ("%project_dir%", top),
        ("%runtime_class%", php_text(runtime)),
        ("%runtime_options%", f"[\n{options}  'project_dir' => {top},\n]"),
    ):
        text = text.replace(key, value)
    confined.write(part / vendor / "autoload_runtime.php", text)
    return "autoload_runtime.php"
