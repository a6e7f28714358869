"""Real Ruby frameworks: one command and no option, from a clone to a page, by locks of the ecosystem's own client.

These run where ``PLAINFALL_REAL_RUBY_PACKAGES`` names a folder of packages, which ``.ci/run`` fetches.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
import urllib3
from conftest import Machine, Run
from hands import same_pages_by_hand
from real_ruby_clones import CLONES, WISHES
from ruby_clones import HAS_RUBY, manifest

from plainfall.standins.ruby_registry import Gem, RubyRegistry, gem, packed, serving_ruby

FOLDER = Path(os.environ.get("PLAINFALL_REAL_RUBY_PACKAGES", "/nonexistent"))
pytestmark = [
    pytest.mark.real,
    pytest.mark.skipif(not (FOLDER / "needs.json").is_file(), reason="no folder of packages is named"),
    pytest.mark.skipif(not HAS_RUBY, reason="no Ruby with the library of its package client here"),
    pytest.mark.skipif(shutil.which("bundle") is None, reason="the ecosystem's own client is not here"),
]
# Of each description below a folder: where it stands, and what it says.
_DESCRIBE = """
require 'rubygems'
require 'json'
Gem::Deprecate.skip = true
rows = Dir.glob(ARGV[0] + '/*/usr/**/specifications/*.gemspec').sort.map do |path|
  spec = Gem::Specification.load(path) or next
  spec.files = []
  spec.test_files = []
  spec.extra_rdoc_files = []
  spec.extensions = []
  { 'path' => path, 'name' => spec.name, 'version' => spec.version.to_s, 'programs' => spec.executables,
    'bindir' => spec.bindir, 'needs' => spec.runtime_dependencies.to_h { |one| [one.name, one.requirement.to_s] },
    'yaml' => spec.to_yaml, 'paths' => spec.require_paths }
end
puts JSON.generate(rows.compact.reject { |row| row['path'].include?('/default/') })
"""


def gem_of(row: dict[str, object]) -> Gem:
    """A package of the distribution as one of the registry: with compiled parts it is for this system."""
    path = Path(str(row["path"]))
    top = FOLDER / path.relative_to(FOLDER).parts[0]
    full = f"{row['name']}-{row['version']}"
    own = next((one for one in sorted(top.glob(f"usr/**/gems/{full}")) if one.is_dir()), None)
    members: dict[str, bytes] = {}
    vendor = top / "usr/lib/ruby/vendor_ruby"
    base, start = (own, "") if own is not None else (vendor, "lib/")
    for file in sorted(base.rglob("*")) if base.is_dir() else ():
        if file.is_file():
            members[start + file.relative_to(base).as_posix()] = file.read_bytes()
    built = [
        (one, one.as_posix().partition(f"/{full}/")[2])
        for one in top.glob(f"usr/**/extensions/*/*/{full}/**/*.so")
    ]
    if not built:
        places = top.glob("usr/lib/*/ruby/vendor_ruby/3.*/**/*.so")
        built = [(one, one.as_posix().partition("/vendor_ruby/")[2].partition("/")[2]) for one in places]
    for file, inner in built:
        members[f"lib/{inner}"] = file.read_bytes()
    programs = [str(one) for one in row["programs"]]  # type: ignore[attr-defined]
    for name in programs:
        inner = f"{row['bindir'] or 'bin'}/{name}"
        there = top / "usr/bin" / name
        if inner not in members:
            members[inner] = (
                there.read_bytes()
                if there.is_file()
                else f"load Gem.bin_path('{row['name']}', '{name}')\n".encode()
            )
        members[f"!{inner}"] = members.pop(inner)
    text = str(row["yaml"])
    if own is None:
        head, _, rest = text.partition("require_paths:\n")
        text = f"{head}require_paths:\n- lib\n{rest[rest.index(chr(10) + 'r') + 1 :] if rest.startswith('-') else rest}"
    system = "ruby"
    if built:
        system = "x86_64-linux"
        text = text.replace("platform: ruby", f"platform: {system}")
    needs = {str(key): str(rule) for key, rule in dict(row["needs"]).items()}  # type: ignore[call-overload]
    return Gem(str(row["name"]), str(row["version"]), packed(text, members), needs, system)


@pytest.fixture(scope="session")
def gems() -> list[Gem]:
    variables = {**os.environ, "DEBIAN_DISABLE_RUBYGEMS_INTEGRATION": "1"}
    done = subprocess.run(
        ["ruby", "-e", _DESCRIBE, str(FOLDER)], capture_output=True, text=True, check=True, env=variables
    )
    found = [gem_of(row) for row in json.loads(done.stdout)]
    return list(
        {one.full_name: one for one in found}.values()
    )  # the runtime bundles some that are apart, too


def by_the_reference(folder: Path, home: Path, *words: str) -> str:
    """Runs the ecosystem's own client in a folder."""
    home.mkdir(exist_ok=True)
    done = subprocess.run(
        ["bundle", *words], cwd=folder, capture_output=True, text=True,
        env={"HOME": str(home), "PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8", "BUNDLE_PATH": "vendor/bundle"},
    )  # fmt: skip
    assert done.returncode == 0, done.stdout + done.stderr
    return done.stdout


_SAME = """
theirs, ours = ARGV
rows = Dir[theirs + '/specifications/*.gemspec'].map do |path|
  other = ours + '/specifications/' + File.basename(path)
  File.file?(other) && Gem::Specification.load(path) == Gem::Specification.load(other) ? nil : File.basename(path)
end
puts rows.compact.join(' ')
"""


def files_below(folder: Path) -> set[str]:
    return {path.relative_to(folder).as_posix() for path in folder.rglob("*") if path.is_file()}


def onboarded(
    machine: Machine, gems: list[Gem], tmp_path: Path, kind: str, **more: str
) -> tuple[Path, Run, RubyRegistry]:
    """A lock by the client, onboarding with no option; what is laid is what the client lays, and it finds it whole."""
    with serving_ruby(gems) as registry:
        files = {**CLONES[kind], "Gemfile": manifest(registry.url, WISHES[kind]), **more}
        theirs = machine.clone(files, name=f"{kind}-by-hand")
        by_the_reference(theirs, tmp_path / "client", "lock")
        lock = (theirs / "Gemfile.lock").read_text()
        clone = machine.clone({**files, "Gemfile.lock": lock}, name=kind)
        if (clone / "bin/rails").exists():
            (clone / "bin/rails").chmod(0o755)
        run = machine.run("onboard", clone, "--json", timeout=180)
        assert run.status == 0, run.out + run.err
        assert (clone / "Gemfile.lock").read_text() == lock
        by_the_reference(theirs, tmp_path / "client", "install", "--quiet")
    [reference] = (theirs / "vendor/bundle/ruby").iterdir()
    home = clone / ".plainfall/gems/top"
    assert files_below(reference / "gems") == {
        path for path in files_below(home / "gems") if not path.startswith("bundler-")
    }
    assert {one.name for one in (reference / "bin").iterdir()} == {
        one.name for one in (home / "bin").iterdir()
    }
    done = subprocess.run(
        ["ruby", "-e", _SAME, str(reference), str(home)], capture_output=True, text=True, check=True
    )
    assert done.stdout.strip() == ""
    variables = {
        **os.environ, "HOME": str(machine.home), "GEM_HOME": str(home), "GEM_PATH": str(home), "BUNDLE_FROZEN": "true",
        "BUNDLE_APP_CONFIG": str(tmp_path / "none"), "BUNDLE_GEMFILE": str(clone / "Gemfile"),
    }  # fmt: skip
    told = subprocess.run(
        [str(shutil.which("bundle")), "check"], cwd=clone, capture_output=True, text=True, env=variables
    )
    assert told.returncode == 0 and "are satisfied" in told.stdout, told.stdout + told.stderr
    again = machine.run("onboard", clone, "--json")
    assert set(again.states.values()) <= {"kept", "left out"}, again.states
    return clone, run, registry


def page(run: Run) -> str:
    return urllib3.PoolManager().request("GET", str(run.document["servers"][0]["url"])).data.decode()


@pytest.fixture
def ended(roomy: Machine) -> Iterator[Machine]:
    yield roomy
    roomy.run("stop", "--all")


def test_a_micro_framework_with_its_tasks(ended: Machine, gems: list[Gem], tmp_path: Path) -> None:
    _, run, _ = onboarded(ended, gems, tmp_path, "rack")
    assert "<h1>2 stations</h1>" in page(run)
    assert run.states["migrations"] == run.states["seeds"] == "done"


def test_tasks_that_only_an_installed_package_brings(ended: Machine, gems: list[Gem], tmp_path: Path) -> None:
    clone, run, _ = onboarded(ended, gems, tmp_path, "records")
    assert "<h1>3 gauges</h1>" in page(run)
    assert run.step("migrations")["title"].startswith("bundle exec rake db:create db:migrate: ")
    assert run.step("seeds")["title"] == "bundle exec rake db:seed: +3 rows"
    (clone / "Rakefile").write_text("task(:paint) { }\n")
    told = ended.run("onboard", clone, "--json").step("migrations")
    assert told["state"] == "left out" and "lists 1 tasks, none for migrations: paint" in told["why"]


PAGE = "<!doctype html><title>Stations</title><ul><li>Ashford Mill</li><li>Copper Hill</li></ul>"


# A made-up package under the name of a known one: its task makes an account of two variables, or says that there is one.
_ACCOUNTS = """\
module SpreeAuthDevise
  class Engine < Rails::Engine
    rake_tasks do
      task 'spree_auth:admin:create' => :environment do
        abort 'Admin user has already been created.' if Reader.exists?
        Reader.create!(email: ENV.fetch('ADMIN_EMAIL'), password: ENV.fetch('ADMIN_PASSWORD'))
      end
    end
  end
end
"""
_READERS = """\
class MakeReaders < ActiveRecord::Migration[6.0]
  def change
    create_table(:readers) { |table| table.string :email; table.string :password }
  end
end
"""


def test_a_full_stack_framework_on_sqlite(ended: Machine, gems: list[Gem], tmp_path: Path) -> None:
    routes = (
        "Rails.application.routes.draw do\n  root 'stations#index'\n  get '/stations/all', to: 'stations#index'\n"
        "  post '/readings', to: 'stations#index'\n  get '/stations/:id', to: 'stations#index'\n"
        "  get '/session/sign_out', to: 'stations#index'\nend\n"
    )
    more = {
        "config/routes.rb": routes,
        "app/models/reader.rb": "class Reader < ActiveRecord::Base\nend\n",
        "db/migrate/20260102000000_make_readers.rb": _READERS,
        "db/seeds.rb": (
            CLONES["rails"]["db/seeds.rb"]
            + "Reader.create!(email: 'desk@rain.example',\n  password: 'mizzle-4')\n"
        ),
    }
    clone, run, _ = onboarded(ended, gems, tmp_path, "rails", **more)
    [remark] = [one for one in run.step("seeds")["remarks"] if "desk@" in one]
    assert remark.startswith(
        "the seeds make an account, 'desk@rain.example'; its password stands in db/seeds.rb:2"
    )
    assert json.loads((clone / ".plainfall/accounts.json").read_text())["."]["password"] == "mizzle-4"
    assert page(run) == PAGE
    assert "stations" in ended.run("data", clone).out
    [server] = ended.run("probe", clone, "--browser", "none", "--json").document["servers"]
    assert {one["path"]: one["status"] for one in server["endpoints"]} == {"/stations/all": 200}


def test_the_first_administrator_of_a_known_package(ended: Machine, gems: list[Gem]) -> None:
    known = gem("spree_auth_devise", "4.0.0", {"lib/spree_auth_devise.rb": _ACCOUNTS})
    with serving_ruby([*gems, known]) as registry:
        boot = CLONES["rails"]["config/application.rb"].replace(
            "module Ledger", "require 'spree_auth_devise'\nmodule Ledger"
        )
        files = {
            **CLONES["rails"],
            "Gemfile": manifest(registry.url, {**WISHES["rails"], known.name: ""}),
            "config/application.rb": boot,
            "app/models/reader.rb": "class Reader < ActiveRecord::Base\nend\n",
            "db/migrate/20260102000000_make_readers.rb": _READERS,
        }
        clone = ended.clone(files, name="spoken")
        (clone / "bin/rails").chmod(0o755)
        run = ended.run("onboard", clone, "--json", timeout=180)
        assert run.status == 0, run.out + run.err
        [made] = [one for one in run.document["steps"] if "administrator" in one["title"]]
        assert made["state"] == "done" and "signs in at /admin/login" in made["why"]
        account = json.loads((clone / ".plainfall/accounts.json").read_text())["."]
        rows = ended.run("data", clone, "readers").out
        assert account["name"] == "admin@localhost.invalid" and account["name"] in rows
        assert account["password"] not in run.out + run.err + rows


@pytest.mark.skipif(not list(Path("/usr/lib/postgresql").glob("*/bin/postgres")), reason="no PostgreSQL here")
def test_a_full_stack_framework_on_a_private_postgresql(
    ended: Machine, gems: list[Gem], tmp_path: Path
) -> None:
    settings = "development:\n  adapter: postgresql\n  encoding: unicode\n  database: ledger_development\n"
    clone, run, _ = onboarded(ended, gems, tmp_path, "rails", **{"config/database.yml": settings})
    assert page(run) == PAGE
    assert "PostgreSQL" in run.step("services")["title"] and "stations" in ended.run("data", clone).out


def test_a_static_site(ended: Machine, gems: list[Gem], tmp_path: Path) -> None:
    if not list(Path("/usr/lib").glob("*/libsass.so")):
        pytest.skip("the generator's library for style sheets is not here (libsass-dev)")
    _, run, _ = onboarded(ended, gems, tmp_path, "static")
    assert "<title>Rain notes</title>" in page(run)


def test_by_hand_a_fresh_clone_comes_to_the_same_page(
    ended: Machine, gems: list[Gem], tmp_path: Path
) -> None:
    with serving_ruby(gems) as registry:
        files = {**CLONES["rails"], "Gemfile": manifest(registry.url, WISHES["rails"])}
        clone = ended.clone(files, name="ledger")
        (clone / "bin/rails").chmod(0o755)
        by_the_reference(clone, tmp_path / "client", "lock")
        run = ended.run("onboard", clone, "--port", "8717", timeout=180)
        assert run.status == 0, run.out + run.err
        same_pages_by_hand(ended, clone, tmp_path)
