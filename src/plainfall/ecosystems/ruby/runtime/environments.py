"""Ruby's runtimes, and the names and variables by which a part's commands find it and its packages, in the shape
that every language has."""

from __future__ import annotations

import os
from pathlib import Path

from plainfall.clone.parts import PartFound
from plainfall.ecosystems.ruby.clients import runner
from plainfall.ecosystems.ruby.lists.gemfile import MANIFESTS
from plainfall.ecosystems.ruby.runtime.interpreters import GRAMMAR, interpreter_at, ruby_interpreters
from plainfall.ecosystems.shape import CloneAccess, Debugging, DebugWish, Progress
from plainfall.ecosystems.shared.linked_runtime import LinkedRuntime
from plainfall.ecosystems.shared.programs import names_folder, own_folder
from plainfall.errors import EnvironmentProblem
from plainfall.plain_files import plain_text
from plainfall.runtimes.choice import Choice, choose, named_choice
from plainfall.surroundings import Surroundings

__all__ = ["RubyEnvironment"]


class RubyEnvironment(LinkedRuntime):
    """Packages lie in a home of the part's own; the environment is a folder of ours with the runtime's name."""

    NAME = "ruby"
    write_client_names = staticmethod(runner.write_names)

    def choose_runtime(
        self,
        part: PartFound,
        surroundings: Surroundings,
        named: Path | None,
        progress: Progress | None = None,
        *,
        offline: bool = False,
    ) -> Choice:
        if named is not None:
            return named_choice("Ruby", named, interpreter_at, part.asks, GRAMMAR)
        return choose(
            "Ruby", part.asks, ruby_interpreters(surroundings), GRAMMAR, lambda one: None, near=True
        )

    def make(self, folder: Path, choice: Choice, prompt: str, making: Path, access: CloneAccess) -> None:
        """The folder with the runtime's name. Packages that were laid for another Ruby's interface go."""
        home = own_folder("gems", folder, access)
        mark = home / "for.txt"
        api = f"{choice.taken.facts['api']} {choice.taken.facts['system']}"
        if home.is_dir() and (not mark.is_file() or plain_text(mark, "utf-8") != api):
            access.confined.remove(home)
        access.confined.make_folder(home)
        access.confined.write(mark, api)
        super().make(folder, choice, prompt, making, access)

    def variables(self, folder: Path, choice: Choice, access: CloneAccess) -> dict[str, str]:
        home = own_folder("gems", folder, access)
        ours = own_folder("manifests", folder, access)
        found = {
            "PATH": os.pathsep.join([str(names_folder(folder, access)), str(home / "bin")]),
            "GEM_HOME": str(home),
            "GEM_PATH": str(home),
            "BUNDLE_APP_CONFIG": str(ours / "settings"),
            "BUNDLE_USER_CONFIG": str(ours / "settings" / "none"),
            "BUNDLE_FROZEN": "true",
            "BUNDLE_IGNORE_MESSAGES": "true",
            "DEBIAN_DISABLE_RUBYGEMS_INTEGRATION": "1",
        }
        manifest = next((folder / name for name in MANIFESTS if (folder / name).is_file()), None)
        if (ours / "Gemfile").is_file():
            manifest = ours / "Gemfile"
        if manifest is not None:
            found["BUNDLE_GEMFILE"] = str(manifest)
        return found

    def debugging(self, wish: DebugWish) -> Debugging:
        """The debugger that newer Rubies bundle, where the part has it; it listens, and an editor attaches."""
        home = own_folder("gems", wish.folder, wish.access)
        laid = sorted((home / "gems").glob("debug-[1-9]*/lib")) if (home / "gems").is_dir() else []
        paths = (
            [str(laid[-1])] if laid else [str(one) for one in wish.choice.taken.facts.get("debugger") or ()]
        )
        if not paths:
            raise EnvironmentProblem(
                f"neither the part nor Ruby {wish.choice.taken.version} has the package debug, by which an editor "
                "attaches",
                remedy='Add gem "debug" to the manifest and its lock; Ruby 3.1 and newer bundle it.',
            )
        attach = {
            "name": f"attach to {wish.folder.name}",
            "type": "rdbg",
            "request": "attach",
            "debugPort": f"127.0.0.1:{wish.port}",
            "localfs": True,
        }
        variables = {
            "RUBY_DEBUG_HOST": "127.0.0.1",
            "RUBY_DEBUG_PORT": str(wish.port),
            "RUBYOPT": " ".join([*(f"-I{one}" for one in paths), "-rdebug/open_nonstop"]),
        }
        return Debugging(variables, {"RUBYOPT": " "}, attach)
