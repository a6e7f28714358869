"""PHP, in the shape of a language: recognised, its settings looked after."""

from __future__ import annotations

from plainfall.ecosystems.shape import Language
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="php",
    title="PHP",
    readers=(
        SourceReader(
            "plainfall.ecosystems.php.sources:read_php",
            (".php",),
            tuple(
                "getenv .env env( define( parse_ini_file file_get_contents _ENV _SERVER Dotenv config.php "
                "yaml YAML .json' .json\"".split()
            ),
        ),
        SourceReader(
            "plainfall.ecosystems.php.embedded:read_percent", (".yml", ".yaml"), ("env(",), configuration=True
        ),
    ),
    programs=("php",),
    port=8000,
    manifests=("composer.json", "artisan"),
    mains=("index.php", "config.php"),
    clients=("composer",),
    package_folders=("vendor",),
)
