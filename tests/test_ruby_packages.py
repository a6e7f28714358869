"""Ruby's packages by the built program: fetched, checked, laid, built, taken out again; locks, sources, bad input."""

from __future__ import annotations

import gzip
import hashlib
import io
import os
import shutil
import subprocess
import tarfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, Run
from msgspec.structs import replace
from ruby_clones import AMOUNTS, EVERY, HAS_RUBY, PAGE, SHEET, TOOL, clone_files, manifest

from plainfall.standins.ruby_registry import (
    Gem,
    RubyRegistry,
    gem,
    metadata_of,
    packed,
    ruby_lock,
    serving_ruby,
)

needs_ruby = pytest.mark.skipif(not HAS_RUBY, reason="no Ruby with the library of its package client here")


@pytest.fixture
def registry() -> Iterator[RubyRegistry]:
    with serving_ruby(EVERY) as served:
        yield served


def installed(machine: Machine, files: dict[str, Any], name: str = "gauges", *words: str) -> tuple[Path, Run]:
    clone = machine.clone(files, name=name)
    return clone, machine.run("onboard", clone, "--until", "dependencies", "--json", *words)


def ruby(machine: Machine, clone: Path, program: str) -> str:
    run = machine.run("inside", clone, "--", "bundle", "exec", "ruby", "-e", program)
    assert run.status == 0, run.out + run.err
    return run.out.strip()


@needs_ruby
def test_a_page_from_nothing_and_nothing_to_do_the_next_time(
    machine: Machine, registry: RubyRegistry
) -> None:
    clone = machine.clone(clone_files(EVERY, registry.url))
    before = sorted(path.name for path in clone.iterdir())
    run = machine.run("onboard", clone, "--json")
    assert run.status == 0, run.out + run.err
    assert run.step("dependencies")["title"].startswith("3 packages installed (3 fetched")
    assert '"Rain"' in run.step("probe")["title"]
    [server] = run.document["servers"]
    page = subprocess.run(["curl", "-s", server["url"]], capture_output=True, text=True).stdout
    assert page == "<!doctype html><title>Rain</title>4 mm"
    again = machine.run("onboard", clone, "--json")
    assert {again.states[stage] for stage in ("dependencies", "environment", "server", "probe")} == {"kept"}
    asked = len(registry.asked)
    other = machine.run("onboard", machine.clone(clone_files(EVERY, registry.url), name="other"), "--json")
    assert other.status == 0 and "all from the cache" in other.step("dependencies")["title"]
    assert len(registry.asked) == asked
    assert machine.run("inside", clone, "--", "gauge-tool", "7").out.strip() == "7 mm"
    assert [name for name in sorted(path.name for path in clone.iterdir()) if name != ".plainfall"] == before
    machine.run("stop", "--all")


@needs_ruby
def test_what_the_lock_no_longer_lists_goes(machine: Machine, registry: RubyRegistry) -> None:
    clone, _ = installed(machine, clone_files(EVERY, registry.url))
    home = clone / ".plainfall/gems/top"
    assert (home / "bin/gauge-tool").is_file()
    _, run = installed(machine, clone_files([AMOUNTS, SHEET], registry.url))
    assert run.status == 0 and "1 removed" in run.step("dependencies")["title"], run.out
    assert not (home / "gems/hollin-tool-3.0.0").exists() and not (home / "bin/gauge-tool").exists()
    assert not (home / "specifications/hollin-tool-3.0.0.gemspec").exists()
    shutil.rmtree(home / "gems/pluvial-amounts-1.2.0")
    _, run = installed(machine, {})
    assert (
        run.states["dependencies"] == "done" and ruby(machine, clone, "require 'hollin_sheet'; puts 1") == "1"
    )


@needs_ruby
def test_without_a_lock_the_newest_that_fit_are_chosen_and_nothing_of_the_clone_changes(
    machine: Machine,
) -> None:
    newer = gem(
        "pluvial-amounts", "1.9.0", {"lib/pluvial_amounts.rb": "module PluvialAmounts; SAYS = 1.9; end"}
    )
    early = gem("pluvial-amounts", "2.0.0.rc1")
    later = gem("pluvial-amounts", "1.9.5", ruby=">= 9")
    other = gem("pluvial-amounts", "2.1.0")
    with serving_ruby([*EVERY, newer, early, later, other]) as registry:
        files = {
            "app.rb": PAGE,
            "Gemfile": manifest(registry.url, {"hollin-sheet": "~> 0.4", "hollin-tool": ""}),
        }
        clone, run = installed(machine, files)
        assert run.status == 0, run.out + run.err
        assert ruby(machine, clone, "require 'pluvial_amounts'; puts PluvialAmounts::SAYS") == "1.9"
        assert sorted(os.listdir(clone)) == [".plainfall", "Gemfile", "app.rb"]
        asked = len(registry.asked)
        assert installed(machine, {"app.rb": "# changed"})[1].states["dependencies"] == "kept"
        assert len(registry.asked) == asked
        files["Gemfile"] = manifest(registry.url, {"hollin-sheet": "", "pluvial-amounts": "~> 2.0"})
        _, run = installed(machine, files, "other")
        assert run.status == 1 and "no set of versions satisfies" in run.out
        assert "hollin-sheet 0.4.1 asks for pluvial-amounts ~> 1.0" in run.out, run.out
        assert "1.9.5 needs Ruby >= 9" in run.out


@needs_ruby
def test_a_manifest_that_is_not_plain_is_evaluated(machine: Machine, registry: RubyRegistry) -> None:
    text = f'source "{registry.url}"\n%w[hollin-sheet hollin-tool].each {{ |name| gem name }}\ngem "absent" if RUBY_VERSION < "2"\n'
    _, run = installed(machine, {"app.rb": PAGE, "Gemfile": text + "File.write('ran', '')\n"}, "careful")
    assert run.status == 3 and "Gemfile is a program here" in run.out, run.out
    assert "--allow-install-code Gemfile" in run.out and not (machine.home / "careful/ran").exists()
    clone, run = installed(machine, {"app.rb": PAGE, "Gemfile": text}, "gauges", *ALLOWED)
    assert run.status == 0, run.out
    assert "evaluated for its list: Gemfile:2" in " ".join(run.step("dependencies")["remarks"])
    assert ruby(machine, clone, "require 'hollin_sheet'; puts HollinSheet.title") == "Rain"
    _, run = installed(
        machine, {"app.rb": PAGE, "Gemfile": f"{text}[1].each {{ raise 'no rain' }}\n"}, "other", *ALLOWED
    )
    assert run.status == 1 and "could not be evaluated by Ruby" in run.out and "no rain" in run.out


@needs_ruby
def test_packages_of_the_clone_and_of_repositories(
    machine: Machine, registry: RubyRegistry, tmp_path: Path
) -> None:
    spec = "Gem::Specification.new do |s|\n  s.name = 'NAME'\n  s.version = '0.3'\n  s.summary = 'x'\n  s.authors = ['y']\n" \
           "  s.files = `git ls-files`.split\n  s.add_dependency 'pluvial-amounts', '>= 1'\nend\n"  # fmt: skip
    drops = tmp_path / "drops"
    (drops / "lib").mkdir(parents=True)
    (drops / "drops.gemspec").write_text(spec.replace("NAME", "drops"))
    (drops / "lib/drops.rb").write_text("module Drops; SAYS = 'drops'; end")
    for words in (
        ["init", "-q", "-b", "main"],
        ["add", "."],
        ["-c", "user.name=R", "-c", "user.email=r@rain.example", "commit", "-qm", "1"],
    ):
        subprocess.run(["git", *words], cwd=drops, check=True)
    text = f'source "{registry.url}"\ngem "drops", git: "file://{drops}", branch: "main"\ngem "own", path: "gems/own"\n'
    files = {
        "app.rb": PAGE, "Gemfile": text, "gems/own/own.gemspec": spec.replace("NAME", "own"),
        "gems/own/lib/own.rb": "require 'pluvial_amounts'\nmodule Own; SAYS = 'own'; end",
    }  # fmt: skip
    _, run = installed(machine, files, "careful")
    assert run.status == 3 and "own.gemspec is a program" in run.out, run.out
    clone, run = installed(machine, files, "gauges", *ALLOWED)
    assert run.status == 0, run.out + run.err
    assert ruby(machine, clone, "require 'drops'; require 'own'; puts Drops::SAYS + Own::SAYS") == "dropsown"
    [folder] = (clone / ".plainfall/gems/top/bundler/gems").iterdir()
    assert folder.name.startswith("drops-") and not (folder / ".git").exists()
    files["Gemfile"] = text.replace("gems/own", "../outside")
    (machine.home / "outside").mkdir()
    _, run = installed(machine, files, "other", *ALLOWED)
    assert run.status == 1 and "which is no folder of the clone" in run.out, run.out
    files["Gemfile"] = text.replace('"main"', '"absent"')
    _, run = installed(machine, files, "third", *ALLOWED)
    assert run.status == 1 and "has no branch, tag or commit 'absent'" in run.out


ALLOWED = ("--allow-install-code", "Gemfile")  # the clone's own code


def extension(*, fails: bool = False) -> Gem:
    """A package with a native extension."""
    c = '#include <ruby.h>\nvoid Init_gauge_drum(void) { rb_define_global_const("DRUM", INT2FIX(7)); }\n'
    conf = (
        "require 'mkmf'\nabort 'no drum here' if true\n"
        if fails
        else "require 'mkmf'\ncreate_makefile('gauge_drum')\n"
    )
    return gem("gauge-drum", "2.0.0", {"ext/extconf.rb": conf, "ext/drum.c": c, "lib/drum.rb": "require 'gauge_drum'"},
               extensions=["ext/extconf.rb"])  # fmt: skip


HEADERS = "require 'rbconfig'; exit File.file?(File.join(RbConfig::CONFIG['rubyhdrdir'].to_s, 'ruby.h'))"


@needs_ruby
def test_a_native_extension_is_built_where_it_is_allowed_and_taken_from_the_cache_then(
    machine: Machine,
) -> None:
    if subprocess.run(["ruby", "-e", HEADERS], check=False).returncode:
        pytest.skip("Ruby's headers are not here")
    with serving_ruby([extension()]) as registry:
        files = clone_files([extension()], registry.url)
        clone, run = installed(machine, files)
        assert run.status == 0
        [said] = run.step("dependencies")["remarks"]
        assert "not built, though they have code to compile" in said and "gauge-drum" in said
        assert not (clone / ".plainfall/gems/top/extensions").exists()
        _, run = installed(machine, files, "gauges", "--allow-install-code", "gauge-drum")
        assert run.status == 0 and run.step("dependencies")["detail"]["built"] == ["gauge-drum 2.0.0"], (
            run.out
        )
        assert ruby(machine, clone, "require 'drum'; puts DRUM") == "7"
        allowed = ["--allow-install-code", "gauge-drum"]
        other, run = installed(machine, files, "other", *allowed)  # it is built already, and no code runs
        assert run.status == 0 and not run.step("dependencies")["detail"]["built"]
        assert ruby(machine, other, "require 'drum'; puts DRUM") == "7"
    broken = extension(fails=True)
    with serving_ruby([broken]) as registry:
        _, run = installed(
            machine, clone_files([broken], registry.url), "third", "--allow-install-code", "gauge-drum"
        )
        assert run.status == 1 and "building gauge-drum 2.0.0" in run.out and "no drum here" in run.out


@needs_ruby
def test_a_lock_for_other_systems_gets_a_copy_for_this_one(machine: Machine) -> None:
    foreign = replace(AMOUNTS, system="arm64-darwin")
    with serving_ruby(EVERY) as registry:
        lock = ruby_lock([foreign, SHEET], registry.url, {"hollin-sheet": ""}, systems=["arm64-darwin"])
        files = {
            "app.rb": PAGE,
            "Gemfile": manifest(registry.url, {"hollin-sheet": ""}),
            "Gemfile.lock": lock,
        }
        clone, run = installed(machine, files)
        assert run.status == 0, run.out
        [said] = run.step("dependencies")["remarks"]
        assert (
            "a copy that is lies in .plainfall; pluvial-amounts 1.2.0 taken for it in the same version"
            in said
        )
        assert ruby(machine, clone, "require 'hollin_sheet'; puts HollinSheet.title") == "Rain"
        assert (clone / "Gemfile.lock").read_text() == lock
        del registry.files["info/pluvial-amounts"]
        _, run = installed(machine, {**files, "Gemfile.lock": lock.replace("1.2.0", "1.3.0")}, "other")
        assert run.status == 1 and "is in the lock for arm64-darwin only" in run.out, run.out


@needs_ruby
def test_a_login_is_sent_to_the_host_that_it_is_for(machine: Machine) -> None:
    with serving_ruby(EVERY, login="Basic cmVhZGVyOmRyb3Bz") as registry:
        host = registry.url.split("/")[2]
        key = "BUNDLE_" + host.replace(".", "__").upper()
        files = clone_files(EVERY, registry.url)
        _, run = installed(machine, {**files, ".bundle/config": f'---\n{key}: "reader:drops"\n'})
        assert run.status == 1, run.out
        (machine.home / ".bundle").mkdir()
        (machine.home / ".bundle/config").write_text(f'---\n{key}: "reader:drops"\n')
        assert installed(machine, {})[1].status == 0


# Bad input: each with its message, and nothing of it laid.


@needs_ruby
def test_a_checksum_that_is_wrong(machine: Machine, registry: RubyRegistry) -> None:
    files = clone_files(EVERY, registry.url, checksums=True)
    files["Gemfile.lock"] = files["Gemfile.lock"].replace(AMOUNTS.checksum, hashlib.sha256(b"x").hexdigest())
    clone, run = installed(machine, files)
    assert run.status == 1 and "has the SHA-256" in run.out and "but the lock says" in run.out, run.out
    assert not (clone / ".plainfall/gems/top/gems").exists()
    registry.files["gems/pluvial-amounts-1.2.0.gem"] = SHEET.content
    _, run = installed(machine, clone_files(EVERY, registry.url), "other")
    assert run.status == 1 and "but the registry itself says" in run.out, run.out


@needs_ruby
def test_archives_that_are_damaged_or_hostile(machine: Machine) -> None:
    described = metadata_of("rain", "1.0", {}, "ruby", ">= 0", [], [])
    cases = {
        b"no archive": "is damaged",
        packed(described, {"../../climbed.rb": b"x"}): "outside its folder",
        packed(
            described.replace("name: rain", "name: other"), {"lib/x.rb": b""}
        ): "says that it is other 1.0",
        packed(
            described.replace("summary: rain", "summary: !ruby/object:Gem::Installer"), {}
        ): "makes an object of Ruby",
    }
    for number, (content, words) in enumerate(cases.items()):
        bad = Gem("rain", "1.0", content)
        with serving_ruby([bad]) as registry:
            clone, run = installed(machine, clone_files([bad], registry.url), f"clone{number}")
            assert run.status == 1 and words in run.out, run.out
            assert (
                not (clone / ".plainfall/gems/top/gems").exists()
                and not (machine.home / "climbed.rb").exists()
            )


@needs_ruby
def test_a_lock_that_does_not_fit_the_manifest(machine: Machine, registry: RubyRegistry) -> None:
    files = clone_files(EVERY, registry.url, more='gem "new"')
    files["Gemfile"] = files["Gemfile"].replace('gem "hollin-tool"', 'gem "hollin-tool", "~> 4.0"')
    _, run = installed(machine, files)
    assert run.status == 1 and "the lock does not fit the manifest" in run.out
    assert (
        "new is not in it (Gemfile:" in run.out
        and "hollin-tool is 3.0.0 in it, and ~> 4.0 is asked for" in run.out
    )


@pytest.mark.parametrize(
    ("files", "words"),
    [
        ({"Gemfile": "gem 'rain'\nif true\n"}, "it is no Ruby"),
        ({"Gemfile": "gem 'rain'\n", "Gemfile.lock": "LOCK 4\n  rain\n"}, "is nothing that a lock"),
        ({"Gemfile": "ruby '9.9.9'\ngem 'rain'\n"}, "no Ruby here fits"),
        ({"Gemfile": "gem 'rain'\n"}, "names no registry"),
        ({"Gemfile": "source 'ftp://x'\ngem 'rain'\n"}, "is no web address"),
        ({".ruby-version": "jruby-9.4", "Gemfile": "gem 'rain'\n"}, "another implementation of Ruby"),
    ],
)
@needs_ruby
def test_bad_input_is_named(machine: Machine, files: dict[str, str], words: str) -> None:
    clone, run = installed(machine, {"app.rb": PAGE, **files})
    assert run.status == 1 and words in run.out + run.err, run.out + run.err
    assert not (clone / ".plainfall/gems/top/gems").exists()


@needs_ruby
def test_a_version_that_was_withdrawn(machine: Machine, registry: RubyRegistry) -> None:
    del registry.files[f"gems/{TOOL.full_name}.gem"]
    _, run = installed(machine, clone_files(EVERY, registry.url))
    assert run.status == 1 and "hollin-tool 3.0.0 (hollin-tool-3.0.0.gem) is not at" in run.out


@needs_ruby
def test_a_folders_name_is_no_code(machine: Machine, registry: RubyRegistry) -> None:
    """Of a part whose folder's name is Ruby, the manifest of ours that includes its own only includes."""
    name = "it's #{system('touch climbed')}"
    text = manifest(registry.url, {"hollin-sheet": ""})
    clone = machine.clone({f"{name}/Gemfile": text, f"{name}/app.rb": PAGE, f"{name}/config.ru": "run 1"})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.out
    assert list((clone / ".plainfall/manifests").glob("*system*/Gemfile"))
    told = machine.run(
        "inside", clone / name, "--", "bundle", "exec", "ruby", "-e", "require 'hollin_sheet'; puts 4"
    )
    assert told.out.strip() == "4", told.out + told.err
    assert not list(machine.home.rglob("climbed"))


@needs_ruby
def test_a_packages_program_does_not_run_under_the_name_of_a_tool(machine: Machine) -> None:
    evil = gem("tools", "1.0", {"bin/make": "File.write(File.join(Dir.home, 'ran'), '')"}, programs=["make"])
    with serving_ruby([evil, extension()]) as served:
        files = clone_files([evil, extension()], served.url)
        assert installed(machine, files)[1].status == 0
        _, run = installed(machine, files, "gauges", "--allow-install-code", "gauge-drum")
    assert run.status in (0, 1) and not (machine.home / "ran").exists(), run.out


@needs_ruby
def test_a_registry_is_a_web_address_even_where_the_lock_has_checksums(
    machine: Machine, tmp_path: Path
) -> None:
    (tmp_path / "gems").mkdir()
    (tmp_path / f"gems/{AMOUNTS.full_name}.gem").write_bytes(AMOUNTS.content)
    files = clone_files([AMOUNTS], f"file://{tmp_path}/", checksums=True)
    _, run = installed(machine, files)
    assert run.status == 1 and "which is no web address" in run.out, run.out


@needs_ruby
def test_headers_that_a_package_needs_are_named_before_it_is_built(machine: Machine) -> None:
    if list(Path("/usr/include").glob("ImageMagick-*")):
        pytest.skip("the headers are here")
    pictures = gem("rmagick", "5.0", {"ext/extconf.rb": "raise 'built'"}, extensions=["ext/extconf.rb"])
    with serving_ruby([pictures]) as served:
        _, run = installed(
            machine, clone_files([pictures], served.url), "gauges", "--allow-install-code", "rmagick"
        )
    assert run.status == 1 and "has to be compiled, and headers that it needs are not here" in run.out, (
        run.out
    )
    assert "libmagickwand-dev" in run.out or "ruby-dev" in run.out


@needs_ruby
def test_a_registry_without_an_index_serves_a_lock_and_that_nothing_was_checked_is_said(
    machine: Machine, registry: RubyRegistry
) -> None:
    for name in [one for one in registry.files if one.startswith("info/")]:
        del registry.files[name]
    _, run = installed(machine, clone_files(EVERY, registry.url))
    assert run.status == 0, run.out
    [said] = run.step("dependencies")["remarks"]
    assert "neither lock nor registry has a checksum of hollin-sheet, hollin-tool, pluvial-amounts" in said
    again = clone_files(EVERY, registry.url, checksums=True)
    assert not installed(machine, again, "other")[1].step("dependencies")["remarks"]


# Files of the older index, as its own tools write them: of every description given, and the lists.
_OLDER = """
require 'rubygems'
Gem.load_yaml
require 'zlib'
require 'stringio'
require 'fileutils'
FileUtils.mkdir_p(File.join(ARGV[0], 'quick/Marshal.4.8'))
specs = STDIN.read.split("\\0").map { |text| Gem::Specification.from_yaml(text) }
packed = lambda { |value| out = StringIO.new; gz = Zlib::GzipWriter.new(out); gz.write(Marshal.dump(value)); gz.close; out.string }
rows = specs.map { |one| [one.name, one.version, one.original_platform.to_s] }
early, finals = rows.partition { |row| row[1].prerelease? }
File.binwrite(File.join(ARGV[0], 'specs.4.8.gz'), packed.(finals))
File.binwrite(File.join(ARGV[0], 'prerelease_specs.4.8.gz'), packed.(early))
specs.each do |one|
  File.binwrite(File.join(ARGV[0], "quick/Marshal.4.8/#{one.full_name}.gemspec.rz"), Zlib::Deflate.deflate(Marshal.dump(one)))
end
"""


def with_older_index(registry: RubyRegistry, gems: list[Gem], folder: Path) -> None:
    """Takes the compact index away and puts the older one there."""
    folder.mkdir()
    texts = []
    for one in gems:
        with tarfile.open(fileobj=io.BytesIO(one.content)) as archive:
            file = archive.extractfile("metadata.gz")
            assert file is not None
            texts.append(gzip.decompress(file.read()).decode())
    subprocess.run(["ruby", "-e", _OLDER, str(folder)], input="\0".join(texts), text=True, check=True)
    for name in [one for one in registry.files if one.startswith("info/")] + ["versions"]:
        del registry.files[name]
    for path in folder.rglob("*.?z"):
        registry.files[path.relative_to(folder).as_posix()] = path.read_bytes()
    assert len(registry.files) > len(texts)


@needs_ruby
def test_a_registry_that_only_has_the_older_index_is_resolved_from(machine: Machine, tmp_path: Path) -> None:
    newer = gem("pluvial-amounts", "1.9.0", {"lib/pluvial_amounts.rb": "raise 'too new'"}, ruby=">= 9.0")
    early = gem("pluvial-amounts", "1.3.0.pre1", {"lib/pluvial_amounts.rb": "raise 'early'"})
    gems = [*EVERY, newer, early]
    with serving_ruby(gems) as registry:
        with_older_index(registry, gems, tmp_path / "older")
        files = clone_files([SHEET], registry.url)
        del files["Gemfile.lock"]
        clone, run = installed(machine, files)
        assert run.status == 0, run.out
        lock = (clone / ".plainfall/manifests/top/Gemfile.lock").read_text()
        assert (
            "    hollin-sheet (0.4.1)\n      pluvial-amounts (~> 1.0)\n    pluvial-amounts (1.2.0)\n" in lock
        )
        for damaged, words in (
            (b"no archive", "specs.4.8.gz cannot be read: Error -3"),
            (gzip.compress(b"\x04\x08[\x08I"), "specs.4.8.gz cannot be read: it is cut off"),
            (
                gzip.compress(b"\x04\x08" + b"[\x06" * 100 + b"0"),
                "specs.4.8.gz cannot be read: it goes too deep",
            ),
            (gzip.compress(b"\x04\x08c\x0bKernel"), "a value of the kind b'c', which no index has"),
        ):
            registry.files["specs.4.8.gz"] = damaged
            told = installed(machine, files, f"again{len(damaged)}")[1]
            assert told.status == 1 and words in " ".join(told.out.split()), told.out
