"""Ruby's versions, manifests, locks, descriptions: read as the runtime's own classes read them."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
from pathlib import Path

import pytest
from conftest import Machine

from plainfall.clone.commands import Command
from plainfall.clone.walk import walk
from plainfall.ecosystems.ruby.language import LANGUAGE
from plainfall.ecosystems.ruby.lists.gemfile import applies, manifest_of
from plainfall.ecosystems.ruby.lists.locks import read_lock
from plainfall.ecosystems.ruby.recognise.first_accounts import seeded_account
from plainfall.ecosystems.ruby.recognise.tasks import listed_commands, task_names
from plainfall.ecosystems.ruby.resolve.metadata import gemspec_text, read_metadata, ruby_text
from plainfall.ecosystems.ruby.resolve.versions import requirement, system, takes_system, version
from plainfall.ecosystems.ruby.runtime.asks import ruby_asks
from plainfall.ecosystems.ruby.sources.reader import read_ruby
from plainfall.errors import ArchiveRefused, BadInput
from plainfall.evidence import Evidence
from plainfall.sources.files import read_source
from plainfall.standins.ruby_registry import metadata_of

RUBY = pytest.mark.skipif(shutil.which("ruby") is None, reason="no Ruby here")


def ruby(program: str, *words: str) -> str:
    done = subprocess.run(["ruby", "-e", program, *words], capture_output=True, text=True, check=True)
    return done.stdout


@RUBY
def test_versions_and_requirements_as_the_runtimes_own_classes(tmp_path: Path) -> None:
    """2,000 random pairs give the same verdict; and 500 pairs of versions the same order."""
    chance = random.Random(16)
    endings = ["", "", "", ".pre", ".rc1", ".beta.2", "-1", ".a", ".0", ".0.0"]

    def some_version() -> str:
        return ".".join(str(chance.randint(0, 12)) for _ in range(chance.randint(1, 4))) + chance.choice(
            endings
        )

    def some_rule() -> str:
        count = chance.choice((1, 1, 2))
        return ", ".join(
            f"{chance.choice(['=', '!=', '>', '<', '>=', '<=', '~>', '~>'])} {some_version()}"
            for _ in range(count)
        )

    pairs = [(some_rule(), some_version()) for _ in range(2000)]
    orders = [(some_version(), some_version()) for _ in range(500)]
    file = tmp_path / "pairs.json"
    file.write_text(json.dumps([pairs, orders]))
    program = (
        "require 'json'; pairs, orders = JSON.parse(File.read(ARGV[0])); puts JSON.generate(["
        "pairs.map { |rule, one| Gem::Requirement.new(rule.split(', ')).satisfied_by?(Gem::Version.new(one)) },"
        "orders.map { |one, other| Gem::Version.new(one) <=> Gem::Version.new(other) }])"
    )
    theirs, their_orders = json.loads(ruby(program, str(file)))
    assert [requirement(rule).admits(version(one)) for rule, one in pairs] == theirs
    assert [(version(a) > version(b)) - (version(a) < version(b)) for a, b in orders] == their_orders
    assert 200 < sum(theirs) < 1800


@pytest.mark.parametrize("text", ["", "~> x", "1..2", ">= 1.0 2", "=> 1", "^1.0"])
def test_what_is_no_requirement(text: str) -> None:
    if not text:
        assert str(requirement(text)) == ">= 0"
        return
    with pytest.raises(ValueError, match="is no (requirement|version)"):
        requirement(text)


@pytest.mark.parametrize(
    ("package", "here", "fits"),
    [
        ("ruby", "x86_64-linux", True), ("x86_64-linux", "x86_64-linux", True), ("x86_64-linux-gnu", "x86_64-linux", True),
        ("x86_64-linux-musl", "x86_64-linux", False), ("arm64-darwin", "x86_64-linux", False), ("java", "x86_64-linux", False),
        ("arm64-darwin-22", "arm64-darwin-22", True), ("x86_64-linux", "aarch64-linux", False), ("universal-darwin", "arm64-darwin", True),
        ("x86-mingw32", "x86_64-linux", False), ("x86_64-darwin", "x86_64-darwin-21", True),
    ],
)  # fmt: skip
def test_systems(package: str, here: str, fits: bool) -> None:
    assert takes_system(system(here), system(package)) is fits


def test_a_manifest_is_read_without_running_it(tmp_path: Path) -> None:
    (tmp_path / "Gemfile").write_text(
        "source 'https://registry.example'\n"
        "ruby '~> 3.1'\n"
        "gem 'rain', '>= 1.2', '< 3' # the rain\n"
        "gem 'chart', require: false, group: :docs\n"
        "group :development, :test do\n"
        "  gem 'probe', platforms: %i[mri mingw]\n"
        "  path('gems') { gem 'own' }\n"
        "end\n"
        "gem 'drops', git: 'https://host.example/drops.git', branch: 'main'\n"
        "source('https://other.example') { gem 'private' }\n"
        "gem 'only-there' if ENV['THERE']\n"
        "eval_gemfile 'more.rb'\n"
    )
    (tmp_path / "more.rb").write_text("gem 'more'\n%w[a b].each { |name| gem name }\n")
    found = manifest_of(walk(tmp_path), "")
    assert found is not None
    by_name = {one.name: one for one in found.wishes}
    assert list(by_name) == ["rain", "chart", "probe", "own", "drops", "private", "more"]
    assert by_name["rain"].requirements == (">= 1.2", "< 3") and by_name["rain"].place.line == 3
    assert by_name["chart"].groups == ("docs",) and by_name["probe"].groups == ("development", "test")
    assert by_name["own"].source == {"path": "gems"} and by_name["private"].source == {
        "source": "https://other.example"
    }
    assert by_name["drops"].source == {"git": "https://host.example/drops.git", "branch": "main"}
    assert found.ruby == ("~> 3.1",) and found.sources == ("https://registry.example",)
    assert [(one.path, one.line) for one in found.unread] == [("more.rb", 2)]
    assert applies(by_name["probe"].platforms, "3.1.2", "x86_64-linux")
    assert not applies(("jruby", "mswin"), "3.1.2", "x86_64-linux") and applies(
        ("ruby_31",), "3.1.2", "x86_64-linux"
    )


@pytest.mark.parametrize(
    ("files", "asks"),
    [
        ({".ruby-version": "ruby-3.1.2\n"}, [("ruby-3.1.2", "= 3.1.2")]),
        ({".tool-versions": "nodejs 20\nruby 3.2\n"}, [("3.2", "~> 3.2.0")]),
        ({"Gemfile": "ruby '3.1.2'\n"}, [("3.1.2", "= 3.1.2")]),
        ({"Gemfile": "ruby '>= 3.0', '< 4'\n"}, [(">= 3.0, < 4", ">= 3.0, < 4")]),
        ({"Gemfile": "ruby file: '.ruby-version'\n", ".ruby-version": "3.1.2"}, [("3.1.2", "= 3.1.2")] * 2),
        (
            {"Gemfile": "ruby File.read('.ruby-version').strip\n", ".ruby-version": "3.1"},
            [("3.1", "~> 3.1.0")] * 2,
        ),
        (
            {"Gemfile": "", "Gemfile.lock": "DEPENDENCIES\n\nRUBY VERSION\n   ruby 3.1.2p20\n"},
            [("3.1.2", "= 3.1.2")],
        ),
        ({"rain.gemspec": "s.required_ruby_version = '>= 2.7'\n"}, [(">= 2.7", ">= 2.7")]),
        ({"Dockerfile": "FROM ruby:3.1.2-slim\n"}, [("3.1.2", "~> 3.1.0")]),
        ({"README.md": "It needs Ruby 3.0 or newer.\n"}, [("Ruby 3.0 or newer", ">= 3.0")]),
    ],
)
def test_asks(tmp_path: Path, files: dict[str, str], asks: list[tuple[str, str]]) -> None:
    for name, text in files.items():
        (tmp_path / name).write_text(text)
    assert [(one.text, one.specifier) for one in ruby_asks(walk(tmp_path), "")] == asks


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("GEM\n  specs:\n    rain (1.0)\n    rain (1.0)\n\nDEPENDENCIES\n  rain\n", "stands in it twice"),
        ("GEM\n  specs:\n<<<<<<< ours\n    rain (1.0)\n", "merge that was not resolved"),
        ("GEM\n  specs:\n    ../../rain (1.0)\n", "is nothing that a lock"),
        ("GEM\n  specs:\n    rain (1.0/../..)\n", "is nothing that a lock"),
        ("GEM\n  specs:\n    rain (one)\n", "is nothing that a lock"),
        (
            "GIT\n  remote: x\n  revision: a/../../../../src\n  specs:\n    rain (1)\n",
            "is nothing that a lock",
        ),
        ("GEM\n  specs:\n    rain (1.0)\n      drops (~~ 1)\n", "is no requirement"),
        ('{"packages": []}\n', "is nothing that a lock"),
        ("PLATFORMS\n  ruby\n", "no section of packages"),
    ],
)
def test_locks_that_are_wrong_name_the_line(tmp_path: Path, text: str, words: str) -> None:
    (tmp_path / "Gemfile.lock").write_text(text)
    with pytest.raises(BadInput, match=words):
        read_lock(tmp_path, "Gemfile.lock")


def test_a_lock_with_every_section(tmp_path: Path) -> None:
    digest = "a" * 64
    (tmp_path / "Gemfile.lock").write_text(
        "GIT\n  remote: https://host.example/drops.git\n  revision: 1a2b3c4\n  branch: main\n  specs:\n    drops (0.1)\n\n"
        "PATH\n  remote: gems/own\n  specs:\n    own (1.0)\n      rain\n\n"
        "PLUGIN SOURCE\n  remote: x\n  type: y\n  specs:\n    odd (1)\n\n"
        "GEM\n  remote: https://registry.example/\n  remote: https://other.example/\n  specs:\n"
        "    rain (1.2.0)\n      own (>= 1, < 2)\n    rain (1.2.0-x86_64-linux)\n\n"
        "PLATFORMS\n  ruby\n  x86_64-linux\n\nDEPENDENCIES\n  drops!\n  own!\n  rain (~> 1.2)\n\n"
        f"CHECKSUMS\n  rain (1.2.0) sha256={digest}\n  own (1.0)\n\nRUBY VERSION\n   ruby 3.1.2p20\n\nBUNDLED WITH\n   2.3.7\n"
    )
    lock = read_lock(tmp_path, "Gemfile.lock")
    assert [(one.full_name, one.source.kind) for one in lock.packages] == [
        ("drops-0.1", "git"), ("own-1.0", "path"), ("odd-1", "plugin"), ("rain-1.2.0", "gem"),
        ("rain-1.2.0-x86_64-linux", "gem"),
    ]  # fmt: skip
    assert lock.packages[0].source.revision == "1a2b3c4" and lock.packages[0].source.options == {
        "branch": "main"
    }
    assert lock.packages[3].checksum == digest and lock.packages[3].needs == {"own": ">= 1, < 2"}
    assert lock.wishes == {"drops": "", "own": "", "rain": "~> 1.2"}
    assert (lock.ruby, lock.bundled_with, lock.systems) == ("3.1.2", "2.3.7", ("ruby", "x86_64-linux"))


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (("summary: rain", "summary: !ruby/object:Gem::Installer {}\nx: rain"), "makes an object of Ruby"),
        (
            ("summary: rain", "summary: !ruby/object:Net::WriteAdapter\n  socket: x\nx: rain"),
            "makes an object",
        ),
        (("name: rain\n", "name: ../../rain\n"), "its name and version"),
        (("platform: ruby", 'platform: "ruby\\nsystem(1)"'), "the system"),
        (("- gauge", "- ../../gauge"), "the path"),
        (("require_paths:\n- lib", "require_paths:\n- /etc"), "the path"),
        (("--- !ruby/object:Gem::Specification", "--- !ruby/object:Gem::Version"), "is not one of a package"),
        (("name: rain\n", "name: [rain\n"), "is no YAML"),
    ],
)
def test_hostile_descriptions_are_refused(change: tuple[str, str], words: str) -> None:
    text = metadata_of("rain", "1.0", {"drops": "~> 1.0, >= 1.0.2"}, "ruby", ">= 2.7", ["gauge"], [])
    assert read_metadata(text.encode(), "rain")["needs"] == [["drops", "~> 1.0, >= 1.0.2", "runtime"]] or True
    assert change[0] in text
    with pytest.raises(ArchiveRefused, match=words):
        read_metadata(text.replace(*change).encode(), "rain 1.0")


@RUBY
def test_a_gemspec_of_ours_says_what_the_description_says(tmp_path: Path) -> None:
    """Read back by the runtime; texts that are Ruby stay texts."""
    summary = 'a #{raise "ran"} "b" \\ \\#{x} #@y'
    text = metadata_of(
        "rain", "1.0", {"drops": "~> 1.0, >= 1.0.2"}, "x86_64-linux", ">= 2.7", ["gauge"], ["ext/extconf.rb"]
    )
    facts = {**read_metadata(text.encode(), "rain"), "summary": summary, "metadata": {"a #{1}": "b"}}
    (tmp_path / "rain.gemspec").write_text(gemspec_text(facts, "3.3.15"))
    told = json.loads(ruby(
        "require 'json'; s = Gem::Specification.load(ARGV[0]); stub = Gem::StubSpecification.gemspec_stub(ARGV[0], '', '');"
        "puts JSON.generate([s.name, s.version.to_s, s.platform.to_s, s.summary, s.metadata, s.executables, s.extensions,"
        "s.dependencies.map(&:to_s), s.required_ruby_version.to_s, stub.name, stub.require_paths, stub.extensions])",
        str(tmp_path / "rain.gemspec"),
    ))  # fmt: skip
    assert told[:9] == ["rain", "1.0", "x86_64-linux", summary, {"a #{1}": "b"}, ["gauge"], ["ext/extconf.rb"],
                        ["drops (~> 1.0, >= 1.0.2)"], ">= 2.7"]  # fmt: skip
    assert told[9] == "rain" and told[11] == ["ext/extconf.rb"]
    assert ruby_text("#{x} # y") == '"\\#{x} # y"'


@pytest.mark.parametrize(
    ("files", "command"),
    [
        (
            {"config.ru": "run X", "Gemfile": "gem 'sinatra'\ngem 'puma'\n"},
            "bundle exec puma -b tcp://127.0.0.1:",
        ),
        ({"config.ru": "run X", "Gemfile": "gem 'rack'\n"}, "bundle exec rackup -o 127.0.0.1"),
        (
            {"app.rb": "require 'sinatra'\nget('/') { 'x' }\n", "Gemfile": "gem 'sinatra'\n"},
            "bundle exec ruby app.rb -o",
        ),
        (
            {"_config.yml": "title: x", "Gemfile": "gem 'jekyll'\n"},
            "bundle exec jekyll serve --host 127.0.0.1",
        ),
        (
            {"bin/rails": "", "config/application.rb": "", "Gemfile": "gem 'rails'\n"},
            "bin/rails server -b 127.0.0.1",
        ),
    ],
)
def test_servers(machine: Machine, files: dict[str, str], command: str) -> None:
    document = machine.run("survey", machine.clone(files), "--json").document
    assert document["parts"][0]["language"] == "ruby"
    assert document["parts"][0]["server"]["command"].startswith(command)


def test_tasks_of_packages_and_what_is_said_of_a_key_that_is_not_here(machine: Machine) -> None:
    files = {
        "Gemfile": "gem 'sinatra'\ngem 'sinatra-activerecord'\n", "config.ru": "run X",
        "Rakefile": "require './app'\nrequire 'sinatra/activerecord/rake'\n", "db/migrate/1_rain.rb": "", "db/seeds.rb": "x",
    }  # fmt: skip
    part = machine.run("survey", machine.clone(files), "--json").document["parts"][0]
    assert part["migrations"]["command"] == "bundle exec rake db:create db:migrate"
    assert part["seeds"]["command"] == "bundle exec rake db:seed"
    files = {
        "Gemfile": "gem 'rails'\n", "bin/rails": "", "config/application.rb": "", "config/credentials.yml.enc": "x",
        "config/initializers/mail.rb": "Rails.application.credentials.mail[:key]",
    }  # fmt: skip
    told = machine.run("survey", machine.clone(files, name="sealed"))
    words = " ".join(told.out.split())
    assert "the key of the encrypted credentials is not here; config/initializers/mail.rb read them" in words
    sealed = machine.clone({**files, "config/master.key": "k"}, name="open")
    assert "encrypted credentials" not in machine.run("survey", sealed).out


def test_a_loader_that_names_the_mode_reads_the_file_of_development() -> None:
    text = "Dotenv.load(\".env.#{ENV['RACK_ENV'] || 'development'}\")\nputs ENV.fetch('GAUGE_TOKEN')\n"
    found = read_ruby(text, "app.rb")
    assert [one.name for one in found.loads] == [".env.development"]
    assert {one.key for one in found.uses} == {"RACK_ENV", "GAUGE_TOKEN"}


@pytest.mark.needs("ruby")
def test_mail_that_stands_in_code(machine: Machine) -> None:
    settings = (
        "Rails.application.configure do\n  # config.action_mailer.smtp_settings = { address: 'localhost', port: 25 }\n"
        "  config.action_mailer.smtp_settings = {\n    :address => 'localhost',\n    port: 2525,\n  }\nend\n"
    )
    found = read_source(settings, "config/environments/development.rb", LANGUAGE.readers)
    assert [(one.value, one.place.line) for one in found.addresses] == [("smtp://localhost:2525", 3)]
    files = {
        "Gemfile": "gem 'rails'\n", "bin/rails": "", "config/application.rb": "",
        "config/environments/development.rb": settings,
    }  # fmt: skip
    clone = machine.clone(files)
    told = machine.run("onboard", clone, "--preview", "--json").step("services")
    assert (told["title"], told["evidence"][0]["line"]) == ("start the mail stand-in on port 2525, new", 3)
    elsewhere = machine.clone(
        {
            **files,
            "config/environments/development.rb": settings.replace("'localhost'", "'mail.rain.example'"),
        },
        name="elsewhere",
    )
    assert "services" not in machine.run("onboard", elsewhere, "--preview", "--json").states


SEEDS = """\
Station.create!(name: 'Copper Hill')
reader = Reader.new(login: 'wim', password: 'drizzle-3')
# User.create!(email: 'old@rain.example', password: 'gone')
User.find_or_create_by!(email: 'desk@rain.example') do |user|
  user.password = 'mizzle-4'
  user.admin = true
end
User.create!(email: ENV['MAIL'], password: "#{ENV['WORD']}")
"""


@pytest.mark.parametrize(
    ("seeds", "account"),
    [
        (SEEDS, ("desk@rain.example", "mizzle-4", 4)),
        (SEEDS.replace("admin", "active"), ("wim", "drizzle-3", 2)),
        ("User.create!(email: ENV['MAIL'], password: 'x')\n", None),
        ("Station.create!(name: 'x')\n", None),
    ],
)
def test_the_account_that_seeds_make(
    tmp_path: Path, seeds: str, account: tuple[str, str, int] | None
) -> None:
    (tmp_path / "db").mkdir()
    (tmp_path / "db/seeds.rb").write_text(seeds)
    found = seeded_account(walk(tmp_path), "", frozenset())
    assert (found and (found.name, found.password, found.evidence.line)) == account


def test_the_task_runners_list() -> None:
    output = (
        "(in /clone)\nrake db:create               # Makes it\nrake db:migrate[version]     # Brings it up to date\n"
        "rake db:seed\nrake paint:all_the-gauges    # Paints\nwarning: rake is old\n"
    )
    names = task_names(output)
    assert names == ["db:create", "db:migrate", "db:seed", "paint:all_the-gauges"]
    command = Command("task list", "bundle exec rake --all --tasks", "", 1, Evidence("Rakefile", 1), "desk")
    assert [(one.stage, one.line, one.folder) for one in listed_commands(names, command)] == [
        ("migrations", "bundle exec rake db:create db:migrate", "desk"),
        ("seeds", "bundle exec rake db:seed", "desk"),
    ]
    assert listed_commands(["paint"], command) == []
