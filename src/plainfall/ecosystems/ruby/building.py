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
from plainfall.packages.unpacking import moved_into
from plainfall.processes import run
from plainfall.runtimes.interpreters import Interpreter
from plainfall.writing import digest_of

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
    """Builds for one Ruby; ``home`` holds the packages that a build may need, ``variables`` are those of the part's
    commands, ``seconds`` the longest that one build may take."""

    cache: Path
    interpreter: Interpreter
    home: Path
    variables: Mapping[str, str]
    seconds: float

    def key(self, tree: str) -> str:
        """The cache's key of what is built from a tree."""
        return digest_of(
            "ruby-built", _VERSION, tree, self.interpreter.identity, self.interpreter.facts["system"]
        )

    def built(self, tree: str) -> CachedTree | None:
        """What was built before, if it is there and complete."""
        value = PackageCache(self.cache).tree(self.key(tree))
        return value if value is not None and not value.damaged() else None

    def build(
        self, label: str, facts: Mapping[str, Any], source: Path, tree: str, place: Evidence
    ) -> CachedTree:
        """Builds all extensions of a package, from a copy of its files. Raises CommandFailed with the last
        lines."""
        lacking = lacking_headers(str(facts["name"]), self.interpreter)
        if lacking:
            raise DependencyProblem(
                f"{label} has to be compiled, and headers that it needs are not here",
                place=place,
                remedy=f"On Debian and its kin: sudo apt-get install {lacking}; then run the same command again.",
            )
        building = self.cache / "building"
        building.mkdir(parents=True, exist_ok=True)
        with tempfile.TemporaryDirectory(prefix="ruby-", dir=building) as name:
            copy, out = Path(name, str(facts["name"])), Path(name, "out")
            shutil.copytree(source, copy, symlinks=True)
            out.mkdir()
            for extension in facts["extensions"]:
                for words, folder in self._steps(label, copy, str(extension), out, place):
                    self._run(label, words, folder, out)
            return make_tree(
                self.cache,
                self.key(tree),
                label,
                lambda folder: moved_into(out, folder),
                lambda folder, files: {},
            )

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

    def _run(self, label: str, words: list[str], folder: Path, out: Path) -> None:
        import subprocess

        variables = {**self.variables, **_OWN_LIBRARIES, "RUBYARCHDIR": str(out), "RUBYLIBDIR": str(out)}
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
            told = logged.read_text("utf-8", "replace").splitlines()
            lines += [line for line in told if "error:" in line][-4:]
        why = f"ended with status {status}" if ended else f"did not end within {self.seconds:g} s"
        raise CommandFailed(
            f"building {label} ({Path(words[0]).name} {words[1]}) {why}",
            remedy="Read the lines above: most often a library's headers are missing.",
            lines=tuple(lines[-8:]),
        )
