"""Puts Ruby's packages into a part's own home of packages: linked from the cache, each moved into place as a whole,
with the gemspec that the loader reads and small files that run its programs."""

from __future__ import annotations

import os
import posixpath
import re
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from plainfall.confinement import Confined
from plainfall.ecosystems.ruby.install.store import Store
from plainfall.ecosystems.ruby.lists.locks import Locked
from plainfall.ecosystems.ruby.resolve.metadata import gemspec_text, ruby_text
from plainfall.ecosystems.shape import CloneAccess, Progress
from plainfall.ecosystems.shared.tree_laying import Laying, is_complete, lay_trees

__all__ = ["Laying", "lay", "place_of", "write_descriptions"]


def place_of(package: Locked) -> str:
    """The folder of a package below the home of packages, as the loader looks for it."""
    if package.source.kind == "git":
        base = re.sub(
            r"\.git$", "", package.source.remotes[0].rstrip("/").replace(":", "/").rpartition("/")[2]
        )
        plain = re.sub(r"[^A-Za-z0-9_.-]", "_", base).lstrip(".") or "repository"
        return f"bundler/gems/{plain}-{package.source.revision[:12]}"
    return f"gems/{package.full_name}"


def lay(
    home: Path,
    wanted: Mapping[str, Locked],
    store: Store,
    making: Path,
    before: Mapping[str, str],
    progress: Progress,
    access: CloneAccess,
) -> Laying:
    """Makes the home hold the packages (``wanted`` by their places below it) and nothing else of what ``before``
    tells was laid. Raises what the store raises, and PathRefused."""
    confined = access.confined
    confined.own_folder(home)
    done = Laying()
    kept = [
        place
        for place, one in wanted.items()
        if (key := store.key(one)) is not None
        and before.get(place) == key.name
        and is_complete(home / place, key, store.cache, access.edited)
    ]
    todo = {place: one for place, one in wanted.items() if place not in kept}
    if todo:
        confined.remove(making)  # what a run before was stopped at
        root = Path(tempfile.mkdtemp(prefix="ruby-", dir=confined.make_folder(making)))
        for place, tree in lay_trees(root, todo, store, done, progress).items():
            done.keys[place] = tree.key
            if "spec" in tree.facts:
                done.described[place] = tree.facts["spec"]
    for place in sorted(before):
        if place not in wanted and _is_place(place) and confined.remove(home / place):
            done.taken_out.append(posixpath.basename(place))
            confined.remove(home / f"specifications/{posixpath.basename(place)}.gemspec")
    for place in sorted(todo):
        confined.remove(home / place)
        confined.rename(root / place, home / place)
    if todo:
        confined.remove(making)
    done.laid += list(dict.fromkeys(one.label for one in todo.values()))
    done.kept = [wanted[place].label for place in kept]
    for place in wanted:
        done.keys.setdefault(place, before.get(place, ""))
        done.names[place] = sorted(os.listdir(home / place)) if (home / place).is_dir() else []
    return done


def _is_place(place: str) -> bool:
    return re.fullmatch(r"(gems|bundler/gems)/[A-Za-z0-9_][\w.+-]*", place) is not None


def write_descriptions(
    confined: Confined,
    home: Path,
    described: Mapping[str, Mapping[str, Any]],
    rubygems: str,
    before: Mapping[str, Sequence[str]],
    wanted: Sequence[str],
) -> dict[str, list[str]]:
    """Writes gemspecs and programs of newly laid packages, and takes away the programs of those that are gone;
    returns the programs of each package's place."""
    programs = {place: list(names) for place, names in before.items() if place in wanted}
    for place, facts in described.items():
        confined.write(
            home / f"specifications/{posixpath.basename(place)}.gemspec", gemspec_text(facts, rubygems)
        )
        programs[place] = [str(one) for one in facts["executables"]]
        for name in programs[place]:
            confined.write(home / "bin" / name, _program(facts["name"], name), mode=0o755)
    still = {name for names in programs.values() for name in names}
    for names in before.values():
        for name in names:
            if name not in still and re.fullmatch(r"[\w.+!?-]{1,100}", name):
                confined.remove(home / "bin" / name)
    return programs


def _program(package: str, name: str) -> str:
    told = f"{ruby_text(package)}, {ruby_text(name)}"
    return (
        "#!/usr/bin/env ruby\n# Written by Plainfall: runs a program of an installed package.\n\n"
        "require 'rubygems'\n\n"
        f"load Gem.activate_bin_path({told}, '>= 0.a')\n"
    )
