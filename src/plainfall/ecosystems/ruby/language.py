"""Ruby, in the shape of a language: recognised, its settings looked after."""

from __future__ import annotations

from plainfall.ecosystems.shape import Language
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="ruby",
    title="Ruby",
    readers=(
        SourceReader(
            "plainfall.ecosystems.ruby.sources:read_ruby",
            (".rb", ".ru", ".rake"),
            tuple("ENV[ ENV. ENV& .env Dotenv YAML yaml JSON.parse .json' .json\"".split()),
        ),
        SourceReader(
            "plainfall.ecosystems.ruby.embedded:read_embedded",
            (".yml", ".yaml", ".erb"),
            ("ENV[", "ENV.", "ENV&"),
            configuration=True,
        ),
    ),
    programs=("ruby",),
    port=3000,
    manifests=("Gemfile", "config.ru"),
    mains=("app.rb", "main.rb", "server.rb"),
    clients=("bundle",),
    package_folders=("vendor",),
)
