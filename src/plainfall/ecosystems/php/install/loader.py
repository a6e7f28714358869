"""The files by which programs load the classes of installed packages: ``autoload.php`` and those beside
``installed.json``.

Their names, keys and form are what programs of this ecosystem read; the loader itself is this project's own code
(``library/``).
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from pathlib import Path

from plainfall.ecosystems.php.install.autoload import Autoload, Laid
from plainfall.ecosystems.php.lists.manifests import Locked, config_of, mapping
from plainfall.ecosystems.php.resolve.versions import constraint
from plainfall.writing import digest_of

__all__ = ["loader_files", "php_text"]

_LIBRARY = Path(__file__).parents[1] / "library"
_HEAD = "<?php\n\n// Written by Plainfall from the lock; another run writes it again.\n\n"


def loader_files(autoload: Autoload, root: Laid, packages: Sequence[Locked], vendor: str) -> dict[str, str]:
    """The files that are written below the folder of installed packages: name → text."""
    suffix = digest_of(vendor, sorted(autoload.psr4), [one.label for one in packages])[:32]
    depth = vendor.count("/") + 1
    up = "dirname(" * depth + "$vendorDir" + ")" * depth
    head = f"{_HEAD}$vendorDir = dirname(__DIR__);\n$baseDir = {up};\n\n"

    def place(path: str) -> str:
        if path == vendor or path.startswith(f"{vendor}/"):
            return f"$vendorDir . {php_text(path[len(vendor) :])}"
        return f"$baseDir . {php_text(f'/{path}')}"

    def table(rows: Mapping[str, str | Sequence[str]]) -> str:
        lines = []
        for key, value in rows.items():
            text = (
                place(value) if isinstance(value, str) else f"array({', '.join(place(one) for one in value)})"
            )
            lines.append(f"    {php_text(key)} => {text},\n")
        return f"{head}return array(\n{''.join(lines)});\n"

    classes = {"Composer\\InstalledVersions": f"{vendor}/composer/InstalledVersions.php", **autoload.classes}
    check = platform_check(root, packages)
    files = {
        "composer/ClassLoader.php": (_LIBRARY / "ClassLoader.php").read_text("utf-8"),
        "composer/InstalledVersions.php": (_LIBRARY / "InstalledVersions.php").read_text("utf-8"),
        "composer/autoload_psr4.php": table(autoload.psr4),
        "composer/autoload_namespaces.php": table(autoload.psr0),
        "composer/autoload_classmap.php": table(dict(sorted(classes.items()))),
        "composer/autoload_real.php": _real(suffix, root, autoload, with_check=bool(check)),
        "autoload.php": _ENTRY.replace("SUFFIX", suffix),
    }
    if autoload.files:
        files["composer/autoload_files.php"] = table(autoload.files)
    if autoload.include_paths:
        rows = "".join(f"    {place(one)},\n" for one in autoload.include_paths)
        files["composer/include_paths.php"] = f"{head}return array(\n{rows});\n"
    if check:
        files["composer/platform_check.php"] = check
    return files


def php_text(text: str) -> str:
    """A text as a literal of PHP in single quotes."""
    return "'" + text.replace("\\", "\\\\").replace("'", "\\'") + "'"


_ENTRY = """\
<?php

// Written by Plainfall from the lock; another run writes it again.

require_once __DIR__ . '/composer/autoload_real.php';

return ComposerAutoloaderInitSUFFIX::getLoader();
"""

_REAL = """\
<?php

// Written by Plainfall from the lock; another run writes it again.

class ComposerAutoloaderInitSUFFIX
{
    private static $loader;

    /** @return \\Composer\\Autoload\\ClassLoader */
    public static function getLoader()
    {
        if (self::$loader !== null) {
            return self::$loader;
        }
CHECK        if (!class_exists('Composer\\\\Autoload\\\\ClassLoader', false)) {
            require __DIR__ . '/ClassLoader.php';
        }
        $loader = self::$loader = new \\Composer\\Autoload\\ClassLoader(dirname(__DIR__));
        foreach (require __DIR__ . '/autoload_namespaces.php' as $prefix => $folders) {
            $loader->set($prefix, $folders);
        }
        foreach (require __DIR__ . '/autoload_psr4.php' as $prefix => $folders) {
            $loader->setPsr4($prefix, $folders);
        }
        $loader->addClassMap(require __DIR__ . '/autoload_classmap.php');
MORE        $loader->register(PREPEND);
FILES        return $loader;
    }
}
"""
_FILES = """\
        $once = static function ($key, $file) {
            if (empty($GLOBALS['__composer_autoload_files'][$key])) {
                $GLOBALS['__composer_autoload_files'][$key] = true;
                require $file;
            }
        };
        foreach (require __DIR__ . '/autoload_files.php' as $key => $file) {
            $once($key, $file);
        }
"""
_PATHS = """\
        $paths = require __DIR__ . '/include_paths.php';
        $paths[] = get_include_path();
        set_include_path(implode(PATH_SEPARATOR, $paths));
"""


def _real(suffix: str, root: Laid, autoload: Autoload, *, with_check: bool) -> str:
    more = _PATHS if autoload.include_paths else ""
    if config_of(root.entry, "classmap-authoritative", False):
        more += "        $loader->setClassMapAuthoritative(true);\n"
    if config_of(root.entry, "use-include-path", False):
        more += "        $loader->setUseIncludePath(true);\n"
    prepend = "true" if config_of(root.entry, "prepend-autoloader", True) else "false"
    check = "        require __DIR__ . '/platform_check.php';\n" if with_check else ""
    text = _REAL.replace("SUFFIX", suffix).replace("CHECK", check).replace("MORE", more)
    return text.replace("PREPEND", prepend).replace("FILES", _FILES if autoload.files else "")


def platform_check(root: Laid, packages: Sequence[Locked]) -> str:
    """A file that ends a program with a message where PHP is too old for an installed package, or lacks an
    extension where the manifest asks for that check; "" where it wants none."""
    wanted = mapping(root.entry.get("config")).get("platform-check", "php-only")
    if wanted is False:
        return ""
    lowest = max((_lowest(one) for one in packages if not one.is_dev), default=(0, 0, 0))
    needs = [] if wanted == "php-only" else _extensions(root, packages)
    if not any(lowest) and not needs:
        return ""
    number = lowest[0] * 10_000 + lowest[1] * 100 + lowest[2]
    text = ".".join(map(str, lowest))
    names = ", ".join(php_text(name) for name in needs)
    return (
        f"{_HEAD}$lacks = array();\nif (PHP_VERSION_ID < {number}) {{\n"
        f"    $lacks[] = 'PHP ' . PHP_VERSION . ' runs this; the installed packages need {text} or newer';\n}}\n"
        f"foreach (array({names}) as $extension) {{\n"
        "    if (!extension_loaded($extension)) {\n"
        "        $lacks[] = 'the extension ' . $extension . ' is not loaded';\n    }\n}\n"
        "if ($lacks) {\n    if (!headers_sent()) {\n        header('HTTP/1.1 500 Internal Server Error');\n    }\n"
        "    throw new \\RuntimeException(implode('; ', $lacks));\n}\n"
    )


def _lowest(package: Locked) -> tuple[int, int, int]:
    """The lowest release of PHP that a package admits; zeros where it admits any."""
    try:
        rows = constraint(package.requires.get("php", "*")).rows
    except ValueError:
        return 0, 0, 0
    lows = []
    for row in rows:
        bounds = [version for operator, version in row if operator in (">=", ">", "==")]
        numbers = [[int(piece) for piece in re.findall(r"\d+", one)[:3]] for one in bounds]
        lows.append(max(numbers, default=[0, 0, 0]))
    first, second, third = [*min(lows, default=[0, 0, 0]), 0, 0, 0][:3]
    return first, second, third


def _extensions(root: Laid, packages: Sequence[Locked]) -> list[str]:
    stood_for = {name for one in packages for name in one.stands_for}
    names = {name.lower() for name in mapping(root.entry.get("require"))}
    names |= {name.lower() for one in packages if not one.is_dev for name in one.requires}
    return sorted(
        name.removeprefix("ext-").replace("zend-opcache", "Zend OPcache")
        for name in names
        if name.startswith("ext-") and name not in stood_for
    )
