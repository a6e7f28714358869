"""Where packages of a PHP part go: the folder of installed packages, and what installer paths say of some types."""

from __future__ import annotations

import posixpath
from collections.abc import Mapping, Sequence
from typing import Any

from plainfall.ecosystems.php.lists.manifests import MANIFEST, Locked, config_of, mapping, strings
from plainfall.errors import BadInput
from plainfall.evidence import Evidence

__all__ = ["bin_folder", "place_of", "vendor_folder"]

# Where packages of these types go if the manifest says nothing else, with a package that installs them there.
_BY_TYPE = {
    "wordpress-plugin": "wp-content/plugins/{$name}", "wordpress-theme": "wp-content/themes/{$name}",
    "wordpress-muplugin": "wp-content/mu-plugins/{$name}", "drupal-core": "core",
    "drupal-module": "modules/{$name}", "drupal-theme": "themes/{$name}", "drupal-profile": "profiles/{$name}",
    "drupal-library": "libraries/{$name}", "cakephp-plugin": "Plugin/{$name}", "joomla-plugin": "plugins/{$name}",
    "mediawiki-extension": "extensions/{$name}", "mediawiki-skin": "skins/{$name}",
}  # fmt: skip
_INSTALLERS = "composer/installers"


def _checked(path: str, key: str, folder: str) -> str:
    """A folder that the manifest names, relative to the part. Raises BadInput for one that leads out, or is the
    part itself, or a hidden one."""
    plain = posixpath.normpath(path.replace("\\", "/"))
    if (
        plain.startswith(("/", "..", "~"))
        or plain == "."
        or any(one.startswith(".") for one in plain.split("/"))
        or "$" in plain
    ):
        place = f"{folder}/{MANIFEST}" if folder else MANIFEST
        raise BadInput(
            f"{key} is {path[:100]!r}, and packages are laid into a folder of the clone only",
            place=Evidence(place),
            remedy=f"Name a folder below the manifest's own, such as vendor, or take {key} out.",
        )
    return plain


def vendor_folder(document: Mapping[str, Any], folder: str = "") -> str:
    """The folder of installed packages, relative to the part. Raises BadInput."""
    return _checked(config_of(document, "vendor-dir", "vendor") or "vendor", "config.vendor-dir", folder)


def bin_folder(document: Mapping[str, Any], folder: str = "") -> str:
    """The folder of the installed packages' programs, relative to the part. Raises BadInput."""
    vendor = vendor_folder(document, folder)
    named = config_of(document, "bin-dir", f"{vendor}/bin") or f"{vendor}/bin"
    return _checked(named.replace("{$vendor-dir}", vendor), "config.bin-dir", folder)


def place_of(package: Locked, document: Mapping[str, Any], names: Sequence[str], folder: str = "") -> str:
    """The folder of one package, relative to the part; ``names`` are those of all packages. Raises BadInput."""
    vendor = vendor_folder(document, folder)
    owner, _, name = package.name.partition("/")
    if _INSTALLERS in names:
        short = str(mapping(package.entry.get("extra")).get("installer-name") or name)
        template = _installer_path(package, document) or _BY_TYPE.get(package.kind, "")
        if template:
            path = (
                template.replace("{$name}", short)
                .replace("{$vendor}", owner)
                .replace("{$type}", package.kind)
            )
            return _checked(path, "extra.installer-paths", folder)
    target = str(package.entry.get("target-dir") or "")
    ending = f"/{_checked(target, 'target-dir', folder)}" if target else ""
    return f"{vendor}/{package.name}{ending}"


def _installer_path(package: Locked, document: Mapping[str, Any]) -> str:
    owner = package.name.partition("/")[0]
    for path, wanted in mapping(mapping(document.get("extra")).get("installer-paths")).items():
        for one in strings(wanted):
            if one in (package.name, f"type:{package.kind}", f"vendor:{owner}"):
                return path.removeprefix("./").rstrip("/")
    return ""
