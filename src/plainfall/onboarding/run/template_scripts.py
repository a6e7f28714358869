"""A template's own script that gives the project its name: it is told of, and run once where a person answers.

Such a script changes files of the repository, so nothing happens without an answer; what it would change is said
before, what it has changed afterwards.
"""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterator, Mapping
from pathlib import Path

from msgspec import Struct

from plainfall.clone.walk import Tree
from plainfall.errors import BadInput, CommandFailed
from plainfall.evidence import Evidence
from plainfall.kept_records import TemplateAsked
from plainfall.onboarding.records.state import CloneState
from plainfall.patterns import regex
from plainfall.processes import run
from plainfall.repository import repository_of
from plainfall.settings.setting import Asker, Question
from plainfall.surroundings import Surroundings

__all__ = ["TemplateScript", "fit_template", "template_scripts"]

_NAME = regex(
    r"^(?:bin|scripts?)/(?:rename|re-?brand|init(?:iali[sz]e)?|personali[sz]e|customi[sz]e|template)"
    r"(?:[-_]\w{1,30})?(?:\.(?:rb|sh|py|js))?$"
)
_WANTS_WORD = regex(r"ARGV|\$\{?1\b|sys\.argv|process\.argv|OptionParser")
_EDITS = regex(r"gsub|\bsed\b|\.replace\(|git mv|\brename\b|File\.write|writeFile|write_text")
_LITERAL = regex(r"[\"'/ ]([A-Za-z][\w-]{5,40})(?=[\"'/ ])")
_MOST = 400  # files that are looked into
_SECONDS = 300.0
_ANSWER = regex(r"[A-Za-z][\w .-]{0,60}")


class TemplateScript(Struct, frozen=True):
    """A script that wants the project's name: its path, and the tracked files that it would change, as far as the
    names that it writes over tell."""

    path: str
    files: tuple[str, ...]

    @property
    def words(self) -> str:
        """What people are told of it."""
        shown = ", ".join(self.files[:4]) + (
            f" and {len(self.files) - 4} more" if len(self.files) > 4 else ""
        )
        where = f"; it would change {shown}" if self.files else ""
        return f"{self.path} NAME gives this template the name of a project{where}"


def template_scripts(tree: Tree) -> Iterator[TemplateScript]:
    """The scripts at the clone's top that want a name and write it into files."""
    for path in tree.files:
        if path.startswith(("bin/", "script")) and _NAME.match(path):
            try:
                text = tree.text(path)
            except BadInput:
                continue  # no text: not such a script
            if _WANTS_WORD.search(text) and _EDITS.search(text):
                yield TemplateScript(path, tuple(_would_change(tree, path, text)))


def _would_change(tree: Tree, script: str, text: str) -> Iterator[str]:
    """The files in which a name stands that the script writes out and that more than one other file has."""
    others: dict[str, str] = {}
    for path in tree.files[:_MOST]:
        if path != script:
            try:
                others[path] = tree.text(path)
            except BadInput:
                continue  # no text: it names nothing
    names = dict.fromkeys(_LITERAL.findall(text))
    for name in names:
        found = [path for path, content in others.items() if name in content or name in path]
        if 2 <= len(found) <= len(others) // 2 + 2:
            yield from (path for path in found if others.pop(path, None) is not None)


def fit_template(
    tree: Tree, state: CloneState, surroundings: Surroundings, ask: Asker | None
) -> tuple[bool, list[tuple[str, Evidence]]]:
    """Runs the first such script with the name that the person gives, once. Returns whether files of the clone
    changed, and what is to be said. Raises CommandFailed; then what it has changed by then is said in its lines."""
    script = next(template_scripts(tree), None)
    if script is None:
        return False, []
    place = Evidence(script.path, 1)
    if state.read("", TemplateAsked).path == script.path:
        return False, []
    how = f"plainfall inside -- {script.path} NAME"
    if ask is None:
        return False, [(f"{script.words}. It was not run: {how}", place)]
    why = f"{script.words}. Write no to leave it alone."
    answer = (ask(Question("the project's name", why, (), False, _proposed(state.clone))) or "").strip()
    if answer.lower() in ("", "no", "n") or not _ANSWER.fullmatch(answer):
        state.keep("", TemplateAsked(path=script.path))
        return False, [(f"{script.path} was not run, as you said; later: {how}", place)]
    seen = _states(state.clone)
    # Before it runs: a second time it would find nothing to rename.
    state.keep("", TemplateAsked(path=script.path, name=answer))
    _run(state.clone, script.path, answer, surroundings)
    changed = sorted(path for path, now in _states(state.clone).items() if seen.get(path) != now)
    changed += sorted(path for path in seen if not os.path.lexists(state.clone / path))
    shown = ", ".join(changed[:8]) + (f" and {len(changed) - 8} more" if len(changed) > 8 else "")
    told = (
        f"{script.path} {answer!r} was run: it changed {shown}"
        if changed
        else f"{script.path} changed nothing"
    )
    return True, [(told, place)]


def _proposed(clone: Path) -> str:
    return re.sub(r"[^A-Za-z0-9]+", "_", clone.name).strip("_") or "project"


def _states(clone: Path) -> Mapping[str, tuple[int, int]]:
    """Size and time of every file that the repository tracks; nothing where there is none."""
    repository = repository_of(clone)
    paths = repository.tracked if repository is not None else ()
    found = {}
    for path in paths:
        try:
            status = os.lstat(clone / path)
        except OSError:
            continue  # gone
        found[str(path)] = (status.st_size, status.st_mtime_ns)
    return found


def _run(clone: Path, path: str, name: str, surroundings: Surroundings) -> None:
    interpreters = {".rb": "ruby", ".sh": "sh", ".py": "python3", ".js": "node"}
    file = clone / path
    words = [str(file), name]
    if not os.access(file, os.X_OK):
        words.insert(0, interpreters.get(file.suffix, "sh"))
    try:
        done = run(words, surroundings.for_project(), folder=clone, seconds=_SECONDS)
    except OSError as error:
        raise CommandFailed(
            f"{path} could not be run: {error.strerror or error}",
            place=Evidence(path, 1),
            remedy=f"Run it yourself first: {shlex.join([path, name])}",
        ) from error
    if done.status:
        lines = (done.errors or done.output).strip().splitlines()[-6:]
        raise CommandFailed(
            f"{path} ended with status {done.status}",
            place=Evidence(path, 1),
            lines=tuple(lines),
            remedy="See with git what it has changed by now, mend it, and run the same command again.",
        )
