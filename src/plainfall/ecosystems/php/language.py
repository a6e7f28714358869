"""PHP, in the shape of a language."""

from __future__ import annotations

from plainfall.ecosystems.php.clients.by_hand import php_by_hand
from plainfall.ecosystems.php.install.installing import PhpInstalling
from plainfall.ecosystems.php.recognise.checks import WORDS, php_checks
from plainfall.ecosystems.php.recognise.recognising import PhpRecognising
from plainfall.ecosystems.php.runtime.environments import PhpEnvironment
from plainfall.ecosystems.php.runtime.interpreters import GRAMMAR
from plainfall.ecosystems.shape import Language
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="php",
    title="PHP",
    readers=(
        SourceReader(
            "plainfall.ecosystems.php.sources.reader:read_php",
            (".php",),
            tuple(
                "getenv .env env( define( parse_ini_file file_get_contents _ENV _SERVER Dotenv config.php "
                "yaml YAML .json' .json\"".split()
            ),
        ),
        SourceReader(
            "plainfall.ecosystems.php.sources.embedded:read_percent",
            (".yml", ".yaml"),
            ("env(",),
            configuration=True,
        ),
    ),
    programs=("php", "composer"),
    port=8000,
    manifests=("composer.json", "artisan"),
    mains=("index.php", "config.php"),
    clients=("composer",),
    known_by="a composer.json, or an index.php at the top or in public/",
    package_folders=("vendor",),
    commands_folder="vendor/bin",
    precedence=2,
    grammar=GRAMMAR,
    checks=php_checks,
    check_words=WORDS,
    by_hand=php_by_hand,
    reads_each_time=True,
    reads_own_settings=True,
    recognising=PhpRecognising(),
    environment=PhpEnvironment(),
    installing=PhpInstalling(),
    registry_files=("auth.json",),
)
