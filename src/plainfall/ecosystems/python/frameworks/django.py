"""Django: ``manage.py`` runs everything."""

from __future__ import annotations

import re
from collections.abc import Iterator

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import RANK, Administrator, Form, FrameworkFound, SecretForm, Traits
from plainfall.clone.walk import Tree
from plainfall.ecosystems.python.applications import sources
from plainfall.evidence import Evidence

__all__ = ["REPEATABLE", "TRAITS", "recognise"]

ORDER = 1

REPEATABLE = re.compile(r"(\bmanage\.py|\bdjango-admin|-m django) migrate\b(?!.*\bzero\b)")

_SEED = re.compile(r"^(seed|populate|load_(demo|sample|initial)|init_data|create_(demo|sample))\w*$")
TRAITS = Traits(
    ("Django",),
    prefixes=("DJANGO_",),
    secrets=(SecretForm(("SECRET_KEY", "DJANGO_SECRET_KEY"), Form("signs", 50, "", "Django")),),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a ``manage.py`` that runs Django's command line, at its top or below."""
    manage = _manage(tree, folder)
    if manage is None:
        return None
    path, evidence = manage
    run = f"python {path}"
    texts = dict(sources(tree, folder))
    settings = "\n".join(text for name, text in texts.items() if "settings" in name)
    commands = [
        Command("migrations", f"{run} migrate --noinput", "Django's migrations", RANK, evidence, folder),
        *_seeds(tree, folder, run),
        *_static(settings, run, evidence, folder),
        Command(
            "server",
            f"{run} runserver 127.0.0.1:${{PORT:-8000}}",
            "Django's dev server",
            RANK,
            evidence,
            folder,
        ),
    ]
    administrator = None
    if "django.contrib.admin" in settings and "AUTH_USER_MODEL" not in settings:
        administrator = Administrator(
            f"{run} createsuperuser --noinput",
            "DJANGO_SUPERUSER_USERNAME",
            "DJANGO_SUPERUSER_EMAIL",
            "DJANGO_SUPERUSER_PASSWORD",
            "already taken",
            _admin_page(texts),
            evidence,
        )
    pages = ("/", administrator.page) if administrator else ("/",)
    return FrameworkFound("Django", evidence, tuple(commands), pages=pages, administrator=administrator)


def _manage(tree: Tree, folder: str) -> tuple[str, Evidence] | None:
    """The nearest ``manage.py``, relative to the part, with the line that makes it Django's."""
    place = f"{folder}/" if folder else ""
    results = [path for path in tree.below(folder) if path.rpartition("/")[2] == "manage.py"]
    for path in sorted(results, key=lambda path: path.count("/")):
        if "django" in tree.text(place + path):
            return path, tree.line_of(place + path, "django")
    return None


def _seeds(tree: Tree, folder: str, run: str) -> Iterator[Command]:
    """Commands of the project's own whose names tell that they fill the database, then fixtures."""
    place = f"{folder}/" if folder else ""
    for path in tree.below(folder):
        stem = path.rpartition("/")[2].removesuffix(".py")
        if re.search(r"(^|/)management/commands/\w+\.py$", path) and _SEED.match(stem):
            yield Command(
                "seeds",
                f"{run} {stem}",
                f"the project's own command {stem!r}",
                RANK,
                Evidence(place + path, 1),
                folder,
            )
    fixtures = [
        path for path in tree.below(folder) if re.search(r"(^|/)fixtures/[^/]+\.(json|ya?ml|xml)$", path)
    ]
    if fixtures:
        names = " ".join(path.rpartition("/")[2] for path in sorted(fixtures))
        yield Command(
            "seeds",
            f"{run} loaddata {names}",
            "the project's fixtures",
            RANK - 5,
            Evidence(place + fixtures[0], 1),
            folder,
        )


def _static(settings: str, run: str, evidence: Evidence, folder: str) -> Iterator[Command]:
    """Static files are collected only where a storage needs it: the dev server finds them by itself."""
    stated = "\n".join(line for line in settings.splitlines() if not line.lstrip().startswith("#"))
    if re.search(r"^STATIC_ROOT\s*=", stated, re.MULTILINE) and re.search(r"Manifest\w*Storage", stated):
        yield Command(
            "tasks",
            f"{run} collectstatic --noinput",
            "the static files' storage needs it",
            RANK,
            evidence,
            folder,
        )


def _admin_page(texts: dict[str, str]) -> str:
    for path, text in texts.items():
        if path.endswith("urls.py"):
            match = re.search(r"path\(\s*r?['\"]([^'\"]*)['\"]\s*,\s*admin\.site\.urls", text)
            if match:
                return f"/{match.group(1)}"
    return "/admin/"
