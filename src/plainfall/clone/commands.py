"""Commands of the project that a stage could run: where each was found, ranked, with the reason."""

from __future__ import annotations

import posixpath
import re
import shlex
from collections.abc import Collection, Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from plainfall.clone.readme import PLACEHOLDER, ReadmeStep
from plainfall.clone.vocabulary import Vocabulary
from plainfall.clone.walk import Tree
from plainfall.errors import BadInput
from plainfall.evidence import Evidence
from plainfall.patterns import regex

__all__ = [
    "GIVEN_FOLDER",
    "Command",
    "given_folder",
    "is_of_this_machine",
    "process_file_commands",
    "processes_of_files",
    "readme_commands",
    "script_file_commands",
    "without_placeholders",
    "with_port_words",
]

_PROCESS = regex(r"^([A-Za-z0-9_-]+):\s*(.+)$")
# Servers for production; where a framework has a dev server, that is what a developer wants.
_PRODUCTION = regex(r"^(gunicorn|uwsgi|daphne|waitress-serve|mod_wsgi)\b")
# A folder of the reader's own, or one in their home, which no clone may choose. A name with an ending is a file.
_OWN_FOLDER = regex(
    r"^(?=/|~|\$|\.|<|your|my)[^.]*(dir|folder|data|storage|store|packages|repo|collection|root|library|files|dav|music|photos|"
    r"path/to/?$)[^.]*$",
    re.IGNORECASE,
)
_DATABASE = regex(r"[\w-]+\.(db|sqlite3?)")
_HOME = regex(r"^(~|\$HOME|\$\{HOME\})/")
GIVEN_FOLDER = ".plainfall/folder"  # from the clone's own folder
_DEPLOYED = regex(
    r"deploy|production|docker|container|systemd|nginx|apache|kubernetes|windows", re.IGNORECASE
)
_ANOTHER_MACHINE = regex(r"(?<![\d.])(?!127\.|0\.0\.0\.0)\d{1,3}(?:\.\d{1,3}){3}(?![\d.])")
# A documented line that changes the machine and not the clone is never run.
_REACHES_OUT = regex(r"\bsudo\b|\bsu\s+-|(?:>|\btee\b[^|;&]*?)\s*(?:/(?!dev/null\b|tmp/)|~)")
_FILE_SERVER = regex(
    r"-m (?:http\.server|SimpleHTTPServer)\b|^(?:npx )?(?:http-server|live-server|sirv|serve)\b|-run -e ?httpd\b"
)
_FIRST_PAGES = ("index.html", "index.htm", "index.php")
_PROCESS_STAGES = {"web": "server", "server": "server", "dev": "server", "release": "migrations"}


class Command(Struct, frozen=True):
    """A command line for a stage, why it is believed to be one, and where it stands.

    ``rank`` orders the candidates of a stage, larger is better. ``folder`` is where it runs, relative to the clone.
    ``script`` is the text of the manifest's script that it runs, if it runs one. One that ``may_fail`` is a guess
    that the program can do without. ``lacks`` names files that it works through and that the clone does not have:
    it is left out."""

    stage: str
    line: str
    reason: str
    rank: int
    evidence: Evidence
    folder: str = ""
    script: str = ""
    may_fail: bool = False
    lacks: str = ""

    @property
    def pieces(self) -> list[str]:
        """The commands that it comes to, one after the other; for a manifest's script those that it runs."""
        text = self.script or self.line
        return [piece.strip() for piece in re.split(r"&&|\|\||;|\|", text) if piece.strip()]

    def as_json(self) -> dict[str, object]:
        """The form that ``survey --json`` shows."""
        return {
            "command": self.line,
            "reason": self.reason,
            "folder": self.folder,
            "evidence": [self.evidence.as_json()],
        }


def process_file_commands(tree: Tree, folder: str) -> Iterator[Command]:
    """Commands of the part's process files that belong to a stage: ``Procfile.dev`` before ``Procfile``.

    Raises BadInput for a line that is not ``name: command``.
    """
    for process, stage, command, place in processes_of_files(tree, folder):
        if stage:
            rank = 45 if stage == "server" and _PRODUCTION.search(command) else 80
            bonus = 10 if place.path.endswith(".dev") else 0
            reason = f"the process file's {process!r} process"
            yield Command(stage, command, reason, rank + bonus, place, folder)


def processes_of_files(tree: Tree, folder: str) -> Iterator[tuple[str, str, str, Evidence]]:
    """Name, stage ("" for a process beside the server), command and place of each process of the part's process
    files. Raises BadInput for a line that is not ``name: command``."""
    for name in ("Procfile.dev", "Procfile"):
        path = f"{folder}/{name}" if folder else name
        if path not in tree:
            continue
        for number, line in _joined_lines(tree.text(path)):
            if not line.strip() or line.lstrip().startswith("#"):
                continue
            match = _PROCESS.match(line.strip())
            if not match:
                raise BadInput(
                    f"{line.strip()!r} is no process",
                    place=Evidence(path, number, line.strip()),
                    remedy="Each line of a process file is written NAME: COMMAND.",
                )
            process, command = match.groups()
            stage = _PROCESS_STAGES.get(process.lower(), "")
            yield process, stage, command, Evidence(path, number, line.strip())


def _joined_lines(text: str) -> Iterator[tuple[int, str]]:
    """The lines of a process file with their numbers, those that end in a backslash joined with the next."""
    gathered, start = "", 0
    for number, line in enumerate(text.splitlines(), 1):
        start = start if gathered else number
        if line.endswith("\\"):
            gathered += f"{line[:-1].rstrip()} "
            continue
        yield start, gathered + line.lstrip() if gathered else line
        gathered = ""
    if gathered.strip():
        yield start, gathered.rstrip()


def lists_files_alone(command: Command, tree: Tree) -> bool:
    """Whether a start command serves a folder in which no page lies: what it shows is a listing of the clone's
    files, secrets among them, and no application."""
    match = _FILE_SERVER.search(command.line)
    if match is None:
        return False
    words = command.line[match.end() :].split()
    named = re.search(r"(?:--directory|-d|-t)[ =](\S+)", command.line)
    plain = (one for one in words if not one.startswith("-") and not one.isdigit())
    inner = named.group(1) if named else next(plain, "")
    folder = posixpath.normpath(posixpath.join(command.folder, inner.strip("'\"")))
    names = tree.folders.get("" if folder == "." else folder, ())
    return not any(name in names for name in _FIRST_PAGES)


def on_loopback(line: str) -> str:
    """A start command of a plain file server, which listens everywhere where nothing is said, on this machine
    alone.

    >>> on_loopback("python3 -m http.server 8000")
    'python3 -m http.server --bind 127.0.0.1 8000'
    """
    if re.search(r"--bind\b|(?:^|\s)-b\s", line):
        return line
    return re.sub(r"-m http\.server\b", "-m http.server --bind 127.0.0.1", line)


def given_folder(folder: str) -> str:
    """The folder that stands for one of the reader's own, from a part's folder."""
    return ("../" * (folder.count("/") + 1) if folder else "") + GIVEN_FOLDER


def is_of_this_machine(line: str) -> bool:
    """Whether a documented line keeps to the clone: nothing of it changes the machine."""
    return not _REACHES_OUT.search(line)


def readme_commands(
    steps: list[ReadmeStep],
    tree: Tree,
    folder: str,
    language: str,
    words: Vocabulary,
    files: Collection[str] = (),
) -> Iterator[Command]:
    """The README's steps for migrations, seeds and servers, in the folder of a part of this language. ``files`` are
    names of files that the part will have by then."""
    another = words.of_another(language)
    for position, step in enumerate(steps):
        if step.stage in ("migrations", "seeds", "server"):
            heading = f" under {step.heading!r}" if step.heading else ""
            command = words.runner.sub("", step.command)
            if step.stage == "server" and words.elsewhere.match(command):
                continue  # what a container or another machine serves is not this part's server
            if not is_of_this_machine(command):
                continue
            if step.stage != "server" and any(PLACEHOLDER.search(word) for word in command.split()):
                continue  # what the reader is to put there, nobody knows
            if step.stage == "server":
                names = {*tree.folders.get(folder, ()), *files}
                given, written = given_folder(folder), command
                command = without_placeholders(command, names, given)
                databases = without_placeholders(written, names, given, databases=True)
            lacking = missing_script(command, tree, folder, words)
            if lacking and step.stage != "server" and lacking not in files:
                continue  # a contradiction of the document's, and no step
            foreign = lacking or words.outside.match(command) or another.match(command)
            rank = 1 if foreign else 66 - min(position, 10) - _doubt(command, step.heading)
            found = Command(step.stage, command, f"the README's step{heading}", rank, step.evidence, folder)
            yield found
            if step.stage == "server" and databases != command:
                yield replace(found, line=databases, rank=rank - 1)


def _doubt(command: str, heading: str) -> int:
    """How much less a documented command is what a developer wants: it is for a deployment, or for another
    machine."""
    return 12 * bool(_DEPLOYED.search(heading)) + 20 * bool(_ANOTHER_MACHINE.search(command))


def without_placeholders(
    line: str, files: Collection[str], given: str = GIVEN_FOLDER, *, databases: bool = False
) -> str:
    """A start command without words that stand for something of the reader's own (``path/to/readings.db``,
    ``<station>``), and without the sign that sends it to the background. A path to one of the ``files`` in the
    part's folder is that file; one to a folder, or into the home folder, is the ``given`` folder; with
    ``databases`` one to a database is a file in that folder, which the program makes."""
    line = re.sub(r"\s/\s.*$", "", line.rstrip().removesuffix("&").rstrip())  # other words for the same place
    kept: list[str] = []
    for piece in line.split(" "):
        if not kept or not (PLACEHOLDER.search(piece) or _HOME.search(piece)):
            kept.append(piece)
        elif _OWN_FOLDER.search(piece):
            kept.append(given)
        elif (name := piece.rpartition("/")[2]) in files and "/" in piece:
            kept.append(name)
        elif databases and _DATABASE.fullmatch(name):
            kept.append(f"{given}/{name}")
        elif len(kept) > 1 and re.fullmatch(r"--?[\w-]+", kept[-1]):
            kept.pop()  # the option whose value it is
    return " ".join(kept)


def without_installs(commands: Sequence[Command], words: Vocabulary) -> Iterator[Command]:
    """The commands without what they install on the way (``pip install x && x serve``): that is Plainfall's part,
    and another environment's client would work on that one. A command that does nothing else is left out."""
    for command in commands:
        pieces = [piece.strip() for piece in re.split(r"&&|;", command.line)]
        kept = [words.runner.sub("", piece) for piece in pieces if piece and not words.installs.search(piece)]
        if kept == pieces or command.stage == "dependencies" or command.script:
            yield command
        elif kept:
            yield replace(command, line=" && ".join(kept))


def with_port_words(commands: Sequence[Command]) -> Iterator[Command]:
    """The commands; one for a server that stops short of the words by which a framework's own command takes
    its port gets them, so that it can be given one."""
    longer = [one for one in commands if one.stage == "server" and "$" in one.line]
    for command in commands:
        line = command.line
        if command.stage == "server" and not re.search(r"\bport\b|:\d{2,5}\b|\$", line):
            line = next((one.line for one in longer if one.line.startswith(f"{line} ")), line)
        yield replace(command, line=line)


def missing_script(command: str, tree: Tree, folder: str, known: Vocabulary) -> str | None:
    """The script file that a command names and the clone lacks, or None."""
    try:
        words = shlex.split(command)
    except ValueError:
        return None
    if words and known.interpreter.fullmatch(words[0].rsplit("/", 1)[-1]):
        for word in words[1:]:
            if word.startswith("-"):
                return None
            path = f"{folder}/{word}" if folder else word
            looks_like_file = known.script_file.search(word) is not None
            return word if looks_like_file and path.removeprefix("./") not in tree else None
    if words and words[0].startswith("./"):
        path = words[0][2:]
        return words[0] if (f"{folder}/{path}" if folder else path) not in tree else None
    return None


def script_file_commands(tree: Tree, folder: str, runner: str, endings: tuple[str, ...]) -> Iterator[Command]:
    """Script files whose names tell what they do: ``seed.py``, ``scripts/migrate.py`` and the like.

    ``runner`` is the runtime's command, ``endings`` the file endings of its language.
    """
    for inner in ("", "scripts", "bin", "tools", "db"):
        place = "/".join(piece for piece in (folder, inner) if piece)
        for name in tree.folders.get(place, ()):
            stem, dot, ending = name.rpartition(".")
            if f"{dot}{ending}" not in endings:
                continue
            stage = _stage_of_file(stem)
            if stage:
                path = f"{inner}/{name}" if inner else name
                yield Command(
                    stage,
                    f"{runner} {path}",
                    f"a script named {name}",
                    40 if not inner else 35,
                    Evidence(f"{place}/{name}" if place else name),
                    folder,
                )


def _stage_of_file(stem: str) -> str | None:
    if re.fullmatch(r"(db[_-]?)?seeds?([_-](data|db|database))?|load[_-]seeds?|populate([_-]db)?", stem):
        return "seeds"
    if re.fullmatch(r"(run[_-])?migrat(e|ions?)|init[_-]db|create[_-](db|tables)", stem):
        return "migrations"
    return None
