"""Parts of languages that are recognised and not onboarded yet: their settings are looked after."""

from __future__ import annotations

from collections.abc import Collection, Iterator

from plainfall.clone.walk import Tree
from plainfall.evidence import Evidence

__all__ = ["Other", "other_parts"]

# What a part of a language is known by: a manifest, or a main file where there is none.
_MARKS = {
    "node": (("package.json",), ("server.js", "index.js", "app.js", "index.ts", "server.ts", "main.ts")),
    "php": (("composer.json", "artisan"), ("index.php", "config.php")),
    "ruby": (("Gemfile", "config.ru"), ("app.rb", "main.rb", "server.rb")),
}
Other = tuple[str, str, Evidence]


def other_parts(tree: Tree, onboarded: Collection[str], folders: Collection[str]) -> Iterator[Other]:
    """(folder, language, evidence) of each; ``onboarded`` are languages that are parts of their own,
    ``folders`` those of parts, in which a lone main file makes no other part."""
    for language, (manifests, mains) in _MARKS.items():
        if language in onboarded:
            continue
        found: list[str] = []
        for folder in sorted(tree.folders, key=lambda path: (path.count("/"), path)):
            names = tree.folders[folder]
            mark = next((name for name in manifests if name in names), None)
            above = any(one == "" or folder.startswith(f"{one}/") for one in (*found, *folders))
            if mark is None and not above and folder.count("/") < 2:
                mark = next((name for name in mains if name in names), None)
            if mark is not None:
                found.append(folder)
                yield folder, language, Evidence(f"{folder}/{mark}" if folder else mark, 1)
