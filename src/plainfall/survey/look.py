"""The look at a clone: parts, steps, contradictions. Reads only; the clone is not changed."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import Path

from msgspec.structs import replace

from plainfall.clone.commands import (
    lists_files_alone,
    on_loopback,
    process_file_commands,
    readme_commands,
    with_port_words,
    without_installs,
)
from plainfall.clone.frameworks import FrameworkFound
from plainfall.clone.parts import PartFound, SettingsFound, Survey
from plainfall.clone.readme import ReadmeStep, read_steps, readme_addresses
from plainfall.clone.second_processes import SecondProcess, second_processes
from plainfall.clone.walk import Tree, is_aside, is_side, walk
from plainfall.ecosystems import languages, source_readers, vocabulary
from plainfall.ecosystems.frameworks import find_frameworks, without_files
from plainfall.ecosystems.shape import Language, Recognising
from plainfall.errors import BadInput, NothingToOnboard
from plainfall.evidence import Evidence
from plainfall.patterns import regex
from plainfall.plain_files import plain_text
from plainfall.reading import is_replaced
from plainfall.services.definitions import unreadable_definitions
from plainfall.settings.templates import find_templates
from plainfall.sources.files import read_sources
from plainfall.sources.values import FileFound
from plainfall.survey.contradictions import find_contradictions
from plainfall.survey.documents import document_commands
from plainfall.survey.examples import find_examples
from plainfall.survey.launching import container_commands, editor_commands
from plainfall.survey.modes import modes_of

__all__ = ["look"]

_Recognised = tuple[str, Language, Recognising, list[Evidence]]

_README = regex(r"^readme(\.(md|markdown|mkd|rst|rest|adoc|asciidoc|asc|org|txt))?$", re.IGNORECASE)
_SHOWN = 8  # files of another coding that are named
_COMPILED = {
    "Cargo.toml": "Rust",
    "go.mod": "Go",
    "pom.xml": "Java",
    "build.gradle": "Java",
    "build.gradle.kts": "Kotlin",
    "CMakeLists.txt": "C or C++",
    "Package.swift": "Swift",
    "mix.exs": "Elixir",
}


def look(
    clone: Path,
    cache: Path | None = None,
    made: Collection[str] = (),
    *,
    folder: str = "",
    partial: bool = False,
) -> tuple[Survey, Tree]:
    """Surveys the clone; returns what was found and the tree it was found in.

    ``cache`` is this user's, which stores the results for sources, so that unchanged ones are not read again, and
    release lines that were learnt; ``made`` are the settings files that Plainfall made there before. With
    ``folder`` only the parts in that folder of the clone are surveyed, or the one that the folder belongs to.
    Raises NothingToOnboard if the folder does not exist or holds no part (``partial``: nor a part of a language
    that is not onboarded yet), BadInput for a file that matters and cannot be understood.
    """
    if not clone.is_dir():
        raise NothingToOnboard(
            f"{clone} is not a folder", remedy="Name the folder of a clone, or go there first."
        )
    tree, results = _parts_in(walk(clone), folder)
    inside = tree.files
    if folder:
        tops = [one[0] for one in results]
        inside = tuple(path for path in tree.files if any(_within(path, top) for top in (folder, *tops)))
    sources = read_sources(clone, inside, cache, source_readers())
    others = [
        one
        for one in _other_parts(tree, [one[0] for one in results])
        if not folder or _within(one[0], folder)
    ]
    folders = sorted({one[0] for one in results} | {one[0] for one in others})
    odd: list[tuple[str, Evidence]] = []
    templates = {
        folder: find_templates(
            tree, folder, _below(folder, folders), _inside(folder, folders, sources), made, remarks=odd
        )
        for folder in folders
    }
    parts = tuple(
        _part(
            tree,
            *one,
            templates[one[0]],
            cache,
            is_secondary=one[0] in [other[0] for other in results[:number]],
        )
        for number, one in enumerate(results)
    )
    remarks = [*_remarks(tree, sources), *(_other_remark(language, place) for _, language, place in others)]
    rest = [
        PartFound(
            folder,
            language.name,
            (place,),
            templates=templates[folder],
            frameworks=tuple(find_frameworks(tree, folder, language.name, frozenset())),
        )
        for folder, language, place in others
    ]
    rest += _shared(tree, folders, sources, made, odd) if not folder else []
    remarks += dict.fromkeys(odd)
    if not parts and not (partial and rest):
        raise _nothing(clone / folder, tree, remarks)
    steps = [step for part in parts[:1] for step in _steps(tree, part.path)]
    contradictions = tuple(find_contradictions(tree, parts, steps))
    remarks += _of_other_codings(tree)
    remarks += [note for part in parts for one in part.frameworks for note in one.notes]
    name = re.sub(r"-(main|master|trunk|v?\d[\d.]*)$", "", clone.resolve().name)
    survey = Survey(
        name,
        parts,
        tuple(rest),
        sources,
        tuple(steps),
        contradictions,
        tuple(remarks),
        _history(clone),
        find_examples(tree, frozenset(part.path for part in parts)) if not folder else (),
    )
    return survey, tree


def _within(path: str, folder: str) -> bool:
    return not folder or path == folder or path.startswith(f"{folder}/")


def _parts_in(tree: Tree, folder: str) -> tuple[Tree, list[_Recognised]]:
    """The parts in a folder of the clone. One that is a side of a project (an example, a demo) is a project of its
    own where it is named; a folder within a part stands for that part."""
    results = list(_recognised(tree))
    if not folder:
        return tree, results
    inside = [one for one in results if _within(one[0], folder)]
    if inside:
        return tree, inside
    named = tree.of_named(folder)
    own = [one for one in _recognised(named) if _within(one[0], folder)]
    above = [one for one in results if _within(folder, one[0])]
    deepest = max((one[0] for one in above), key=len, default="")
    from_folder = folder[len(deepest) :].lstrip("/")
    if own and (not above or is_side(from_folder) or any(_is_project(one) for one in own)):
        return named, own
    return tree, [one for one in above if one[0] == deepest]


def _is_project(recognised: _Recognised) -> bool:
    """Whether something else than a main file says that it is a part."""
    _, language, _, evidence = recognised
    return any(place.path.rpartition("/")[2] not in language.mains for place in evidence)


def _below(folder: str, folders: Sequence[str]) -> list[str]:
    return [other for other in folders if other != folder and (not folder or other.startswith(f"{folder}/"))]


def _inside(folder: str, folders: Sequence[str], sources: Mapping[str, FileFound]) -> dict[str, FileFound]:
    """What the sources of a folder say, without those of other parts below it."""
    below = _below(folder, folders)
    return {
        path: text
        for path, text in sources.items()
        if (not folder or path.startswith(f"{folder}/")) and not any(path.startswith(f"{o}/") for o in below)
    }


def _shared(
    tree: Tree,
    folders: Sequence[str],
    sources: Mapping[str, FileFound],
    made: Collection[str],
    odd: list[tuple[str, Evidence]],
) -> list[PartFound]:
    """Settings at the top of a clone whose parts are all in subfolders; or of a clone without any part. What is
    only named like a template is added to ``odd``."""
    if "" in folders:
        return []
    templates = find_templates(tree, "", folders, sources, made, remarks=odd)
    return [PartFound("", "", (templates[0].evidence,), templates=templates)] if templates else []


def _other_remark(language: Language, place: Evidence) -> tuple[str, Evidence]:
    return f"a {language.title} part is here; this version of Plainfall looks after its settings only", place


def _recognised(tree: Tree) -> Iterator[_Recognised]:
    """The parts of the languages that are onboarded. A side of a part (its documents, an example, a copy of another
    project's package) is none, in whatever language."""
    every = list(_by_language(tree))
    for one in every:
        inside = tree.in_named(one[0]) or ""
        above = any(other[0] != one[0] and _within(one[0], other[0]) for other in every)
        if not above or not is_aside(inside):
            yield one


def _by_language(tree: Tree) -> Iterator[_Recognised]:
    for language in languages():
        if language.recognising is None or not language.onboarded:
            continue
        results: list[str] = []
        for folder in _top_down(tree):
            evidence = language.recognising.recognise(tree, folder)
            if not evidence or _belongs_to(tree, folder, results):
                continue
            if folder != tree.named and _is_program_of(
                language, evidence, [one for one in results if _within(folder, one)]
            ):
                continue
            results.append(folder)
            yield folder, language, language.recognising, evidence


def _is_program_of(language: Language, evidence: Sequence[Evidence], above: Sequence[str]) -> bool:
    """Whether a folder only holds a program of the part above, which has the dependencies: one program is one
    part."""
    names = [place.path.rpartition("/")[2] for place in evidence]
    sources = [name for name in names if name.endswith(language.endings) and not name.startswith("setup")]
    return bool(above) and len(sources) == len(names)


def _top_down(tree: Tree) -> list[str]:
    return sorted(tree.folders, key=lambda path: (path.count("/"), path))


def _other_parts(tree: Tree, folders: Collection[str]) -> Iterator[tuple[str, Language, Evidence]]:
    """Parts of languages that are recognised and not onboarded: by a manifest, or by a main file where there is
    no part above (``folders`` are those of the parts that are onboarded)."""
    for language in languages():
        results: list[str] = []
        for folder in _top_down(tree) if not language.onboarded else ():
            names = tree.folders[folder]
            mark = next((name for name in language.manifests if name in names), None)
            above = any(one == "" or folder.startswith(f"{one}/") for one in (*results, *folders))
            if mark is None and not above and folder.count("/") < 2:
                mark = next((name for name in language.mains if name in names), None)
            if mark is not None:
                results.append(folder)
                yield folder, language, Evidence(f"{folder}/{mark}" if folder else mark, 1)


def _belongs_to(tree: Tree, folder: str, results: list[str]) -> bool:
    """A folder below a part is a part of its own only if it has a dependency list or manifest and is not
    one of the parent's packages, nor within one."""
    above = [part for part in results if _within(folder, part)]
    if not above or folder == tree.named:
        return False
    pieces = folder.split("/")
    start = len(max(above, key=len).split("/")) if max(above, key=len) else 0
    between = ("/".join(pieces[:end]) for end in range(start + 1, len(pieces) + 1))
    return any("__init__.py" in tree.folders.get(one, ()) for one in between)


def _part(
    tree: Tree,
    folder: str,
    language: Language,
    recognising: Recognising,
    evidence: list[Evidence],
    templates: tuple[SettingsFound, ...],
    cache: Path | None,
    *,
    is_secondary: bool,
) -> PartFound:
    listed = recognising.dependencies(tree, folder)
    names = frozenset(listed.names) if listed else frozenset()
    frameworks = find_frameworks(tree, folder, language.name, names)
    commands = [] if is_secondary else list(process_file_commands(tree, folder))
    commands += recognising.commands(tree, folder)
    commands += recognising.after_installing(tree, folder)
    if not is_secondary:
        commands += container_commands(tree, folder, language)
        commands += editor_commands(tree, folder, recognising)
    variables: dict[str, str] = {}
    pages = ["/"]
    for framework in frameworks:
        commands += framework.commands
        variables |= framework.variables
        pages += framework.pages
    readme = _readme(tree, folder)
    programs = recognising.programs(tree, folder)
    steps = _steps(tree, folder, programs)
    variables = {**modes_of(tree, folder, steps, recognising), **variables}
    if is_secondary:
        commands = recognising.secondary_commands(tree, folder, commands)
    else:
        files = [one.target.rpartition("/")[2] for one in templates]
        commands += document_commands(tree, folder, language.name, vocabulary(), programs, files)
    if readme and not is_secondary:
        commands += readme_commands(steps, tree, folder, language.name, vocabulary(), files)
        pages += [path for _, path, _ in readme_addresses(tree.text(readme), readme)]
    commands = list(with_port_words(list(without_installs(commands, vocabulary()))))
    commands = [
        replace(one, line=on_loopback(one.line)) if one.stage == "server" else one
        for one in without_files(tree, folder, language.name, commands)
        if one.stage != "server"
        or not (recognising.starts_others(tree, folder, one.line) or lists_files_alone(one, tree))
    ]
    return PartFound(
        path=folder,
        language=language.name,
        evidence=tuple(evidence),
        asks=tuple(recognising.asks(tree, folder, cache)),
        dependencies=listed,
        templates=templates,
        commands=tuple(commands),
        pages=tuple(dict.fromkeys(pages)),
        frameworks=tuple(frameworks),
        variables=variables,
        extensions=recognising.extensions(tree, folder),
        processes=() if is_secondary else _processes(tree, folder, language, steps, frameworks),
        is_secondary=is_secondary,
    )


def _processes(
    tree: Tree,
    folder: str,
    language: Language,
    steps: Sequence[ReadmeStep],
    frameworks: Sequence[FrameworkFound],
) -> tuple[SecondProcess, ...]:
    """What files name, then what a framework would want beside its server; each name once."""
    named = second_processes(tree, folder, language.name, vocabulary(), steps)
    wanted = [one for framework in frameworks for one in framework.processes]
    return tuple({one.name: one for one in (*reversed(wanted), *reversed(named))}.values())[::-1]


def _readme(tree: Tree, folder: str) -> str | None:
    for name in tree.folders.get(folder, ()):
        if _README.match(name):
            return f"{folder}/{name}" if folder else name
    return None


def _steps(tree: Tree, folder: str, programs: frozenset[str] = frozenset()) -> list[ReadmeStep]:
    readme = _readme(tree, folder)
    try:
        return read_steps(tree.text(readme), readme, vocabulary(), programs) if readme else []
    except BadInput:
        return []  # a README in an old encoding is no reason to stop; no conclusion depends on it


def _remarks(tree: Tree, sources: Mapping[str, FileFound]) -> Iterator[tuple[str, Evidence]]:
    for folder, names in tree.folders.items():
        for name, language in _COMPILED.items():
            if name in names:
                place = f"{folder}/{name}" if folder else name
                yield (
                    f"{language} is compiled and out of Plainfall's scope; build it as its README says",
                    Evidence(place, 1),
                )
    for error in unreadable_definitions(tree):
        remedy = error.remedy or "Restore the file from version control."
        where = error.place or Evidence(".")
        yield f"the services that {where.path} defines are not known, for {error.cause}. {remedy}", where
    for path, result in sources.items():
        if result.cut:
            yield (
                "only a part of this file was looked at for settings: it is too large or too odd",
                Evidence(path),
            )
    if tree.cut:
        yield "the clone holds more files than are looked at; the rest was passed over", Evidence(".")


def _of_other_codings(tree: Tree) -> list[tuple[str, Evidence]]:
    remarks = []
    for path in tree.replaced()[:_SHOWN]:
        lines = enumerate(tree.text(path).splitlines(), 1)
        number, line = next(((number, line) for number, line in lines if is_replaced(line)), (1, ""))
        what = (
            "it is not all UTF-8 text: what is not was read as \ufffd; save it as UTF-8 for its own letters"
        )
        remarks.append((what, Evidence(path, number, line.strip())))
    return remarks


def _nothing(clone: Path, tree: Tree, remarks: list[tuple[str, Evidence]]) -> NothingToOnboard:
    lines = tuple(f"{text} ({place})" for text, place in remarks[:8])
    first, *more = [f"{one.title} part is known by {one.known_by}" for one in languages() if one.known_by]
    known = ", ".join([f"A {first}", *(f"a {one}" for one in more)])
    return NothingToOnboard(
        f"nothing in {clone} that Plainfall can onboard"
        + ("" if tree.files else ": it holds no files, or all are ignored"),
        remedy=f"{known}. If the project is in a subfolder below another repository, name that folder.",
        lines=lines,
    )


def _history(clone: Path) -> str:
    """The branch that is checked out, read from the repository's own file; "" without a repository."""
    from plainfall.repository import repository_of

    repository = repository_of(clone)
    if repository is None:
        return ""
    try:
        head = plain_text(repository.folder / "HEAD", "utf-8", "replace").strip()[:400]
    except OSError:
        return ""  # a repository without a HEAD has no branch to tell of
    return head.removeprefix("ref: refs/heads/") if head.startswith("ref: ") else head[:12]
