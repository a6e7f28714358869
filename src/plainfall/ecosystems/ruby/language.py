"""Ruby, in the shape of a language."""

from __future__ import annotations

from plainfall.ecosystems.ruby.clients.by_hand import ruby_by_hand
from plainfall.ecosystems.ruby.install.installing import RubyInstalling
from plainfall.ecosystems.ruby.recognise.checks import WORDS, ruby_checks
from plainfall.ecosystems.ruby.recognise.recognising import RubyRecognising
from plainfall.ecosystems.ruby.recognise.tasks import listed_commands, task_names
from plainfall.ecosystems.ruby.runtime.environments import RubyEnvironment
from plainfall.ecosystems.ruby.runtime.interpreters import GRAMMAR
from plainfall.ecosystems.shape import Language, TaskList
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="ruby",
    title="Ruby",
    readers=(
        SourceReader(
            "plainfall.ecosystems.ruby.sources.reader:read_ruby",
            (".rb", ".ru", ".rake"),
            tuple("ENV[ ENV. ENV& .env Dotenv YAML yaml JSON.parse .json' .json\"".split()),
        ),
        SourceReader(
            "plainfall.ecosystems.ruby.sources.embedded:read_embedded",
            (".yml", ".yaml", ".erb", ".yml.example", ".yml.sample", ".yml.dist", ".yml.template"),
            ("ENV[", "ENV.", "ENV&", "adapter:"),
            configuration=True,
        ),
    ),
    programs=("ruby", "bundle", "rake", "rails", "rackup"),
    port=3000,
    manifests=("Gemfile", "gems.rb", "config.ru"),
    mains=("app.rb", "main.rb", "server.rb", "web.rb"),
    clients=("bundle", "bundler", "gem"),
    known_by="a Gemfile, a config.ru, or a script that starts a server",
    package_folders=("vendor",),
    precedence=2,
    grammar=GRAMMAR,
    checks=ruby_checks,
    check_words=WORDS,
    test_mode={"RAILS_ENV": "test", "RACK_ENV": "test"},
    by_hand=ruby_by_hand,
    recognising=RubyRecognising(),
    environment=RubyEnvironment(),
    installing=RubyInstalling(),
    task_list=TaskList(task_names, listed_commands),
)
