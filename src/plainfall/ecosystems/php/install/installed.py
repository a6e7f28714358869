"""The records of installed packages that programs read: ``installed.json`` and ``installed.php``."""

from __future__ import annotations

import json
import posixpath
from collections.abc import Mapping, Sequence
from typing import Any

from plainfall.ecosystems.php.install.autoload import ROOT
from plainfall.ecosystems.php.install.loader import php_text
from plainfall.ecosystems.php.lists.manifests import Locked, mapping

__all__ = ["records"]


def records(
    document: Mapping[str, Any],
    packages: Sequence[Locked],
    places: Mapping[str, str],
    vendor: str,
    *,
    dev: bool = True,
) -> dict[str, str]:
    """The two files: name → text. ``places`` are the folders of the packages, relative to the part; ``dev`` tells
    whether those for development alone are among them."""
    ordered = sorted(packages, key=lambda one: one.name)
    rows = [_row(one, places.get(one.name), vendor) for one in ordered]
    value = {"packages": rows, "dev": dev, "dev-package-names": [one.name for one in ordered if one.is_dev]}
    text = json.dumps(value, indent=4, ensure_ascii=False)
    return {
        "composer/installed.json": f"{text}\n",
        "composer/installed.php": _php(document, ordered, places, vendor, dev=dev),
    }


def _row(package: Locked, place: str | None, vendor: str) -> dict[str, Any]:
    row: dict[str, Any] = {}
    for key, value in package.entry.items():
        row[key] = value
        if key == "version":
            row["version_normalized"] = package.normal
        elif key == "type":
            row["installation-source"] = "dist" if package.dist else "source"
    row["install-path"] = None if place is None else posixpath.relpath(place, f"{vendor}/composer")
    return row


def _php(
    document: Mapping[str, Any],
    packages: Sequence[Locked],
    places: Mapping[str, str],
    vendor: str,
    *,
    dev: bool,
) -> str:
    up = "/..".join(["__DIR__ . '", *[""] * (vendor.count("/") + 2)]) + "/'"
    name = str(document.get("name") or ROOT)
    version = str(document.get("version") or "1.0.0+no-version-set")
    normal = "1.0.0.0" if "version" not in document else version
    own = {
        "pretty_version": php_text(version), "version": php_text(normal), "reference": "null",
        "type": php_text(str(document.get("type") or "library")), "install_path": up, "aliases": "array()",
    }  # fmt: skip
    versions: dict[str, dict[str, str]] = {name: {**own, "dev_requirement": "false"}}
    for one in packages:
        place = places.get(one.name)
        path = (
            "null"
            if place is None
            else f"__DIR__ . {php_text('/' + posixpath.relpath(place, f'{vendor}/composer'))}"
        )
        reference = one.dist.get("reference") or one.source.get("reference")
        aliases = mapping(mapping(one.entry.get("extra")).get("branch-alias")).get(one.version)
        versions[one.name] = {
            "pretty_version": php_text(one.version),
            "version": php_text(one.normal),
            "reference": php_text(str(reference)) if reference else "null",
            "type": php_text(one.kind),
            "install_path": path,
            "aliases": f"array({php_text(str(aliases))})" if isinstance(aliases, str) else "array()",
            "dev_requirement": _truth(one.is_dev),
        }
    for table, key in (("replace", "replaced"), ("provide", "provided")):
        stood: dict[str, tuple[list[str], bool]] = {}
        for who, is_dev in ((document, False), *((one.entry, one.is_dev) for one in packages)):
            for other, wanted in mapping(who.get(table)).items():
                texts, before = stood.get(other, ([], True))
                text = str(who.get("version") or version) if wanted == "self.version" else str(wanted)
                stood[other] = ([*texts, text] if text not in texts else texts, before and is_dev)
        for other, (texts, is_dev) in stood.items():
            row = versions.setdefault(other, {"dev_requirement": _truth(is_dev)})
            row[key] = f"array({', '.join(map(php_text, sorted(texts)))})"
    lines = ["<?php return array(", "    'root' => array(", f"        'name' => {php_text(name)},"]
    lines += [f"        '{key}' => {value}," for key, value in own.items()]
    lines += [f"        'dev' => {_truth(dev)},", "    ),", "    'versions' => array("]
    for other, row in sorted(versions.items()):
        lines.append(f"        {php_text(other)} => array(")
        lines += [f"            '{key}' => {value}," for key, value in row.items()]
        lines.append("        ),")
    return "\n".join([*lines, "    ),", ");", ""])


def _truth(value: bool) -> str:
    return "true" if value else "false"
