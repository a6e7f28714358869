"""Native extensions of Ruby's packages: built where their code may run, once for a Ruby, and laid where the loader
looks for them."""

from __future__ import annotations

import os
import posixpath
import re
import shutil
import tempfile
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from plainfall.errors import CommandFailed, DependencyProblem
from plainfall.evidence import Evidence
from plainfall.packages.cache import CachedTree, PackageCache, make_tree
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.unpacking import moved_into
from plainfall.plain_files import plain_text
from plainfall.processes import run
from plainfall.runtimes.interpreters import Interpreter

__all__ = ["Builder", "extension_folder", "lacking_headers"]

_VERSION = 1  # changes with how extensions are built
# Headers of the system that widely used packages are built on, and what brings them on Debian and its kin.
_HEADERS = {
    "sqlite3": (("sqlite3.h",), "libsqlite3-dev"),
    "pg": (("postgresql/libpq-fe.h", "libpq-fe.h"), "libpq-dev"),
    "mysql2": (("mariadb/mysql.h", "mysql/mysql.h"), "default-libmysqlclient-dev"),
    "nokogiri": (("libxml2/libxml/parser.h",), "libxml2-dev libxslt1-dev"),
    "ffi": (("ffi.h",), "libffi-dev"),
    "rmagick": (
        ("ImageMagick-6/MagickCore/MagickCore.h", "ImageMagick-7/MagickCore/MagickCore.h"),
        "libmagickwand-dev",
    ),
    "charlock_holmes": (("unicode/utypes.h",), "libicu-dev"),
    "psych": (("yaml.h",), "libyaml-dev"),
    "curb": (("curl/curl.h",), "libcurl4-openssl-dev"),
    "eventmachine": (("openssl/ssl.h",), "libssl-dev"),
    "puma": (("openssl/ssl.h",), "libssl-dev"),
}
_OPTIONAL = ("ffi", "eventmachine", "puma")  # they are built without it, too
_PLACES = ("/usr/include", "/usr/local/include", "/opt/homebrew/include")
# Libraries of the system are used where a package would otherwise fetch and build its own.
_OWN_LIBRARIES = {"NOKOGIRI_USE_SYSTEM_LIBRARIES": "1", "BUNDLE_FORCE_RUBY_PLATFORM": "true"}


def extension_folder(interpreter: Interpreter, full_name: str) -> str:
    """Where a package's built files lie below the home of packages."""
    facts = interpreter.facts
    return f"extensions/{facts['system']}/{facts['extensions']}/{full_name}"


def lacking_headers(name: str, interpreter: Interpreter) -> str:
    """The system's packages that a package cannot be built without and that are lacking, "" for none."""
    if not interpreter.facts.get("headers"):
        return "ruby-dev"
    files, packages = _HEADERS.get(name, ((), ""))
    if not files or name in _OPTIONAL:
        return ""
    folders = [*_PLACES, *(str(one) for one in Path("/usr/include").glob("*-linux-gnu*"))]
    return "" if any(os.path.exists(f"{folder}/{file}") for folder in folders for file in files) else packages


class Builder(Struct):
    """Builds for one Ruby; ``home`` holds the packages, ``variables`` are those of the part's commands,
    ``seconds`` the longest that one build may take."""

    cache: Path
    interpreter: Interpreter
    home: Path
    variables: Mapping[str, str]
    seconds: float

    def key(self, tree: str, helpers: Mapping[str, str], *, allowed: bool) -> CacheKey:
        """The cache's key of what is built from a tree, with the ``helpers`` (keys of trees by full names) that the
        build can load. Raises ValueError where its code is not ``allowed`` to run in this clone."""
        return CacheKey.of_product(
            "ruby-built",
            material=[tree],
            tools=[_VERSION, sorted(helpers.items()), str(self.interpreter.facts["system"])],
            runtime=self.interpreter.identity,
            registries=[],
            allowed=allowed,
        )

    def built(self, key: CacheKey) -> CachedTree | None:
        """What was built before, if it is there and complete."""
        value = PackageCache(self.cache).tree(key)
        return value if value is not None and not value.damaged() else None

    def build(
        self,
        label: str,
        facts: Mapping[str, Any],
        source: Path,
        key: CacheKey,
        helpers: Mapping[str, str],
        place: Evidence,
    ) -> CachedTree:
        """Builds all extensions of a package, from a copy of its files, where no package but the ``helpers`` can be
        loaded. Raises CommandFailed with the last lines."""
        lacking = lacking_headers(str(facts["name"]), self.interpreter)
        if lacking:
            raise DependencyProblem(
                f"{label} has to be compiled, and headers that it needs are not here",
                place=place,
                remedy=f"On Debian and its kin: sudo apt-get install {lacking}; then run the same command again.",
            )
        cache = PackageCache(self.cache)
        with cache.workshop() as name:
            self._link_helpers(Path(name, "packages"), helpers)
            copy, out = Path(name, str(facts["name"])), Path(name, "out")
            shutil.copytree(source, copy, symlinks=True)
            out.mkdir()
            for extension in facts["extensions"]:
                for words, folder in self._steps(label, copy, str(extension), out, place):
                    self._run(label, words, folder, out, Path(name, "packages"))
            return make_tree(
                self.cache,
                key,
                label,
                lambda folder: moved_into(out, folder),
                lambda folder, files: {},
            )

    def _link_helpers(self, packages: Path, helpers: Mapping[str, str]) -> None:
        """Makes a home of packages that holds the helpers, and the library of the package client, alone."""
        for folder in ("gems", "specifications"):
            (packages / folder).mkdir(parents=True)
        (packages / "extensions").symlink_to(self.home / "extensions")
        for name in (*helpers, *(one.name for one in (self.home / "gems").glob("bundler-*"))):
            for inner in (f"gems/{name}", f"specifications/{name}.gemspec"):
                if (self.home / inner).exists():
                    (packages / inner).symlink_to(self.home / inner)

    def _steps(
        self, label: str, copy: Path, extension: str, out: Path, place: Evidence
    ) -> Iterator[tuple[list[str], Path]]:
        folder = copy / posixpath.dirname(extension)
        name = posixpath.basename(extension)
        ruby = str(self.interpreter.file)
        where = ["DESTDIR=", f"sitearchdir={out}", f"sitelibdir={out}"]
        if re.fullmatch(r"extconf.*\.rb", name):
            yield [ruby, name], folder
            if (folder / "Makefile").is_file():
                yield ["make", f"-j{os.cpu_count() or 1}", "DESTDIR="], folder
                yield ["make", *where, "install"], folder
        elif re.fullmatch(r"(?i)rakefile(\.rb)?|mkrf_conf\.rb", name):
            if name.startswith("mkrf"):
                yield [ruby, name], folder
            load = "load Gem.activate_bin_path('rake', 'rake', '>= 0.a')"
            yield [ruby, "-e", load, f"RUBYARCHDIR={out}", f"RUBYLIBDIR={out}"], folder
        else:
            raise DependencyProblem(
                f"{label} is built by {extension}, and extconf.rb and rake files are run",
                place=place,
                remedy="Take a version of it that is built for this system, if there is one.",
            )

    def _run(self, label: str, words: list[str], folder: Path, out: Path, packages: Path) -> None:
        import subprocess

        variables = {
            **self.variables,
            **_OWN_LIBRARIES,
            "RUBYARCHDIR": str(out),
            "RUBYLIBDIR": str(out),
            "GEM_HOME": str(packages),
            "GEM_PATH": str(packages),
        }
        with tempfile.TemporaryFile() as output:
            try:
                done = run(words, variables, folder=folder, seconds=self.seconds, output=output)
                status, ended = done.status, True
            except subprocess.TimeoutExpired:
                status, ended = -1, False
            except OSError as error:
                raise CommandFailed(
                    f"{label} was not built: {words[0]}: {error.strerror or error}",
                    remedy="Install a C compiler and make; on Debian and its kin: sudo apt-get install "
                    "build-essential.",
                ) from error
            output.seek(max(0, output.seek(0, os.SEEK_END) - 64_000))
            text = output.read().decode("utf-8", "replace").strip()
            lines = text.partition("*** extconf.rb failed ***")[
                0
            ].splitlines()  # options are listed behind it
        if status == 0:
            return
        logged = folder / "mkmf.log"
        if logged.is_file() and words[-1].endswith(".rb"):
            told = plain_text(logged, "utf-8", "replace").splitlines()
            lines += [line for line in told if "error:" in line][-4:]
        why = f"ended with status {status}" if ended else f"did not end within {self.seconds:g} s"
        raise CommandFailed(
            f"building {label} ({Path(words[0]).name} {words[1]}) {why}",
            remedy="Read the lines above: most often a library's headers are missing.",
            lines=tuple(lines[-8:]),
        )
