"""PHP clones for tests: a page on made-up packages, with the lock that a registry's packages come to."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

from plainfall.standins.php_registry import PhpArchive, php_archive, php_lock

__all__ = ["AMOUNTS", "PAGE", "SHEET", "TOOL", "clone_files"]

AMOUNTS = php_archive(
    "pluvial/amounts",
    "1.2.0",
    {
        "src/Amount.php": "<?php namespace Pluvial; class Amount { public static function words($n) "
        "{ return unit_sign($n); } }",
        "functions.php": '<?php function unit_sign($n) { return "$n mm"; }',
        "old/table.php": "<?php /* class Hidden {} */ class RainTable {} $text = 'class Other {}';",
    },
    require={"php": ">=7.2"},
    autoload={"psr-4": {"Pluvial\\": "src/"}, "files": ["functions.php"], "classmap": ["old/"]},
)
SHEET = php_archive(
    "hollin/sheet",
    "0.4.1",
    {"lib/Hollin/Sheet.php": "<?php class Hollin_Sheet { function title() { return 'Rain'; } }"},
    require={"pluvial/amounts": "^1.0"},
    autoload={"psr-0": {"Hollin_": ["lib/Hollin/", "lib/"]}},
)
TOOL = php_archive(
    "hollin/tool",
    "3.0.0",
    {"bin/gauge-tool": "#!/usr/bin/env php\n<?php require $GLOBALS['_composer_autoload_path']; "
     "echo Pluvial\\Amount::words($argv[1]);"},
    bin=["bin/gauge-tool"],
)  # fmt: skip
PAGE = """\
<?php
require __DIR__ . '/../vendor/autoload.php';
$sheet = new Hollin_Sheet();
echo '<!doctype html><title>', $sheet->title(), '</title>', Pluvial\\Amount::words(4), class_exists('RainTable') ? ' table' : '';
"""


def clone_files(
    archives: Sequence[PhpArchive],
    registry: str,
    manifest: Mapping[str, Any] | None = None,
    *,
    checksum: bool = True,
    page: str = PAGE,
) -> dict[str, str]:
    """A page, the manifest (it asks for every package; ``manifest`` says more), and the lock."""
    document = {"name": "gauges/page", "type": "project", "require": {one.name: "*" for one in archives}}
    document = {**document, **(manifest or {})}
    lock = php_lock(document, archives, registry, checksum=checksum)
    return {"public/index.php": page, "composer.json": json.dumps(document, indent=4), "composer.lock": lock}
