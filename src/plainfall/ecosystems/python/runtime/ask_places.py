"""The other places that ask for a Python: one small reader each, in the order of their weight.

A reader yields asks and raises nothing for what it cannot read: these places are written for other programs,
and one that means something else there is no fault of the clone.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator

from plainfall.clone.walk import Tree
from plainfall.ecosystems.shared.version_files import numbered_lines, tool_versions, within
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.reading import json_object
from plainfall.runtimes.asks import Strength, VersionAsk

__all__ = ["OTHER_READERS"]

Reader = Callable[[Tree, str], Iterator[VersionAsk]]

_STATED = regex(r"(?:python[-_]versions?['\"]?\s*:|image:\s*python:)\s*(.+)$")
_PROSE = regex(
    r"\bPython\s*(?:version\s*)?(>=\s*)?(3\.\d+(?:\.\d+)?)(\s*\+|\s+or\s+(?:later|newer|higher|above))?",
    re.IGNORECASE,
)
_VERSION = regex(r"^(\d+)\.(\d+)(?:\.(\d+))?$")


def _ask(text: str, strength: Strength, source: str, place: Evidence) -> Iterator[VersionAsk]:
    """An ask for one version as it is written: with a patch number exact, without one the release line."""
    match = _VERSION.match(text)
    if match and match.group(1) == "3":
        specifier = f"=={text}" if match.group(3) else f"=={text}.*"
        yield VersionAsk(text, specifier, strength, source, place)


def _tool_versions(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``.tool-versions``: ``python 3.12.4`` with fallbacks behind it; the first counts."""
    for text, place in tool_versions(tree, folder, "python"):
        match = re.match(r"\d+\.\d+(?:\.\d+)?", text)
        if match:
            yield from _ask(match.group(), Strength.PIN, "pin file", place)
            return


def _runtime_txt(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``runtime.txt`` of hosting platforms: ``python-3.12.4``."""
    path = within(folder, "runtime.txt")
    for number, line in numbered_lines(tree, path):
        match = re.match(r"^python-(\d+\.\d+(?:\.\d+)?)\s*$", line.strip())
        if match:
            yield from _ask(match.group(1), Strength.PIN, "platform file", Evidence(path, number, line))


def _lock(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """The version that a lock was made for. Locks state a range; a ``Pipfile.lock`` one release line."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    from plainfall.ecosystems.python.lists.graphs import spelled_out

    patterns = {
        "pylock.toml": r'^requires-python\s*=\s*"([^"]+)"',
        "uv.lock": r'^requires-python\s*=\s*"([^"]+)"',
        "poetry.lock": r'^python-versions\s*=\s*"([^"]+)"',
        "pdm.lock": r'^requires_python\s*=\s*"([^"]+)"',
        "Pipfile.lock": r'^\s*"python_(?:full_)?version"\s*:\s*"([^"]+)"',
    }
    for name, pattern in patterns.items():
        path = within(folder, name)
        in_metadata = name != "poetry.lock"
        for number, line in numbered_lines(tree, path):
            in_metadata = in_metadata or line.strip() == "[metadata]"
            match = re.match(pattern, line) if in_metadata else None
            if not match:
                continue
            text = match.group(1)
            specifier = f"=={text}.*" if name == "Pipfile.lock" else spelled_out(text)
            strength = Strength.PREFERENCE if name == "Pipfile.lock" else Strength.RANGE
            try:
                SpecifierSet(specifier)
            except InvalidSpecifier:
                break
            yield VersionAsk(text, specifier, strength, "lock file", Evidence(path, number, line.strip()))
            break


def _older_manifests(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``python_requires`` of ``setup.cfg`` and ``setup.py``, ``python`` of ``[tool.poetry.dependencies]``,
    ``python_version`` of a ``Pipfile``."""
    from packaging.specifiers import InvalidSpecifier, SpecifierSet

    from plainfall.ecosystems.python.lists.graphs import spelled_out

    for name, pattern in (
        ("setup.cfg", r"^\s*python_requires\s*=\s*(.+?)\s*$"),
        ("setup.py", r"python_requires\s*=\s*['\"]([^'\"]+)['\"]"),
        ("pyproject.toml", r"^python\s*=\s*['\"]([^'\"]+)['\"]"),
        ("Pipfile", r"^python_(?:full_)?version\s*=\s*['\"]([^'\"]+)['\"]"),
    ):
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            match = re.search(pattern, line)
            if match:
                text = match.group(1)
                place = Evidence(path, number, line.strip())
                if name == "Pipfile":
                    yield from _ask(text, Strength.PIN, "manifest", place)
                    break
                try:
                    specifier = str(SpecifierSet(spelled_out(text)))
                except InvalidSpecifier:
                    break
                yield VersionAsk(text, specifier, Strength.RANGE, "manifest", place)
                break


def _container(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``FROM python:…`` of container files, build arguments put in; the last stage counts most, being the
    one that runs. A preference: it says what the maintainers run, not what works."""
    names = tree.folders.get(folder, [])
    for name in sorted(
        n for n in names if re.match(r"^(Dockerfile|Containerfile)([.-].+)?$|\.dockerfile$", n)
    ):
        path = within(folder, name)
        arguments: dict[str, str] = {}
        result: VersionAsk | None = None
        for number, line in numbered_lines(tree, path):
            given = re.match(r"^\s*ARG\s+(\w+)=['\"]?([^'\"\s]+)", line, re.IGNORECASE)
            if given:
                arguments[given.group(1)] = given.group(2)
            image = re.match(r"^\s*FROM\s+(?:--\S+\s+)*(\S+)", line, re.IGNORECASE)
            if not image:
                continue
            spelled = re.sub(
                r"\$\{?(\w+)(?::-([^}]*))?\}?",
                lambda m, known=arguments: known.get(m.group(1), m.group(2) or ""),
                image.group(1),
            )
            version = re.search(r"(?:^|/)python:(\d+\.\d+(?:\.\d+)?)", spelled)
            if version:
                place = Evidence(path, number, line.strip())
                result = next(_ask(version.group(1), Strength.PREFERENCE, "container file", place), result)
        if result:
            yield result


def _dev_container(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """A dev-container file: the image's tag, or the version of its Python feature."""
    for path in (within(folder, ".devcontainer/devcontainer.json"), within(folder, ".devcontainer.json")):
        if path not in tree:
            continue
        text = "\n".join(re.sub(r"^\s*//.*$", "", line) for _, line in numbered_lines(tree, path))
        try:
            table = json_object(re.sub(r",(\s*[}\]])", r"\1", text), path)
        except BadInput:
            continue
        image = re.search(r"python:(?:\d+-)?(\d\.\d+)", str(table.get("image", "")))
        if image:
            yield from _ask(
                image.group(1), Strength.PREFERENCE, "dev container", tree.line_of(path, '"image"')
            )
        for name, options in _items(table.get("features")):
            if "/python" in name and isinstance(options, dict):
                place = tree.line_of(path, name)
                yield from _ask(str(options.get("version", "")), Strength.PREFERENCE, "dev container", place)


def _workflows(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """CI workflows: a single version is a preference; a matrix names what is tested, each a hint."""
    versions: dict[str, Evidence] = {}
    for path in tree.files:
        if not re.match(r"^\.(github|gitea|forgejo)/workflows/[^/]+\.ya?ml$|^\.gitlab-ci\.yml$", path):
            continue
        for number, line in numbered_lines(tree, path):
            match = _STATED.search(line)
            if match and "${{" not in line:
                for text in re.findall(r"\b3\.\d+(?:\.\d+)?\b", match.group(1)):
                    versions.setdefault(text, Evidence(path, number, line.strip()))
    strength = Strength.PREFERENCE if len(versions) == 1 else Strength.HINT
    for text, place in versions.items():
        yield from _ask(text, strength, "CI workflow", place)


def _matrix(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """Test-matrix sections: ``envlist = py311,py312``, ``python=["3.11", "3.12"]``."""
    path = within(folder, "noxfile.py")
    for number, line in numbered_lines(tree, path):
        match = re.search(r"python\s*=\s*\[([^\]]+)\]", line)
        for text in re.findall(r"['\"](3\.\d+)['\"]", match.group(1)) if match else ():
            yield from _ask(text, Strength.HINT, "test matrix", Evidence(path, number, line.strip()))
    for name in ("tox.ini", "setup.cfg"):
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            if re.match(r"^\s*env_?list\s*=", line) or re.match(r"^\s+py\{?3", line):
                for minor in re.findall(r"py\{?3(\d+)|,3(\d+)", line):
                    text = f"3.{next(group for group in minor if group)}"
                    yield from _ask(text, Strength.HINT, "test matrix", Evidence(path, number, line.strip()))


def _environment_file(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """``environment.yml`` of scientific distributions: ``- python=3.11``."""
    for name in ("environment.yml", "environment.yaml"):
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            match = re.match(r"^\s*-\s*python\s*(=|==|>=)\s*(\d+\.\d+(?:\.\d+)?)", line)
            if not match:
                continue
            place = Evidence(path, number, line.strip())
            if match.group(1) == ">=":
                text = f">={match.group(2)}"
                yield VersionAsk(text, text, Strength.RANGE, "environment file", place)
            else:
                yield from _ask(match.group(2), Strength.PIN, "environment file", place)


def _classifiers(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """Trove classifiers: what the maintainers say it runs on."""
    for name in ("pyproject.toml", "setup.cfg", "setup.py"):
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            match = re.search(r"Programming Language :: Python :: (3\.\d+)\b", line)
            if match:
                yield from _ask(
                    match.group(1), Strength.HINT, "classifier", Evidence(path, number, line.strip())
                )


def _readme(tree: Tree, folder: str) -> Iterator[VersionAsk]:
    """README prose: "Python 3.10 or later", "Python 3.10+", "requires Python 3.10"."""
    for name in tree.folders.get(folder, ()):
        if not re.match(r"^readme(\.\w+)?$", name, re.IGNORECASE):
            continue
        path = within(folder, name)
        for number, line in numbered_lines(tree, path):
            match = _PROSE.search(line)
            if not match:
                continue
            place = Evidence(path, number, line.strip())
            text = match.group(0)
            if match.group(1) or match.group(3):
                yield VersionAsk(text, f">={match.group(2)}", Strength.PREFERENCE, "README", place)
            else:
                line_only = ".".join(match.group(2).split(".")[:2])
                yield VersionAsk(text, f"=={line_only}.*", Strength.HINT, "README", place)
            return


OTHER_READERS: tuple[Reader, ...] = (
    _tool_versions,
    _runtime_txt,
    _environment_file,
    _lock,
    _older_manifests,
    _container,
    _dev_container,
    _workflows,
    _matrix,
    _classifiers,
    _readme,
)


def _items(value: object) -> list[tuple[str, object]]:
    return list(value.items()) if isinstance(value, dict) else []
