"""The commands by which a person makes an environment and installs packages."""

from __future__ import annotations

import re
import shlex

from plainfall.ecosystems.shape import HandInstall
from plainfall.plain_files import plain_text

__all__ = ["python_by_hand"]

_LABEL = re.compile(r"[\w.-]{1,200} [\w.!+-]{1,100}")


def python_by_hand(job: HandInstall) -> list[str]:
    """An environment by the runtime's own module, and the packages by the client in it: from the list where that
    is a list of requirements, else each in its version."""
    minor = ".".join(job.version.split(".")[:2])
    lines = [f"python{minor} -m venv .venv", ". .venv/bin/activate"]
    listed = job.listed
    if listed is None:
        return lines
    name = listed.path.rpartition("/")[2]
    if re.search(r"requirements.*\.txt$|\.txt$", name) and (job.folder / name).is_file():
        lines.append(f"pip install --quiet -r {shlex.quote(name)}")
    else:
        pins = [label for label in job.labels if _LABEL.fullmatch(label) and not label.startswith("pip ")]
        own = _own_name(job)
        rest = [
            f"{one.rpartition(' ')[0]}=={one.rpartition(' ')[2]}"
            for one in pins
            if one.rpartition(" ")[0] != own
        ]
        if rest:
            lines += ["pip install --quiet --no-deps -r /dev/stdin <<'END'", *rest, "END"]
        if len(rest) < len(pins):
            lines.append("pip install --quiet --no-deps -e .")
    added = [one.text for one in listed.additions if not one.in_place]
    return [*lines, f"pip install --quiet {shlex.join(added)}"] if added else lines


def _own_name(job: HandInstall) -> str:
    """The name of the part's own project, as its packages are called."""
    path = job.folder / "pyproject.toml"
    text = plain_text(path, "utf-8", "replace") if path.is_file() else ""
    match = re.search(r"^[ \t]*name[ \t]*=[ \t]*['\"]([\w.-]+)['\"]", text, re.MULTILINE)
    return re.sub(r"[-_.]+", "-", match.group(1)).lower() if match else ""
