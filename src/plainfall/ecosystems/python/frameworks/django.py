"""Django: ``manage.py`` runs everything."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from plainfall.clone.commands import Command
from plainfall.clone.frameworks import (
    ADMIN_ADDRESS,
    RANK,
    Administrator,
    DevelopmentMode,
    Form,
    FrameworkFound,
    SecretForm,
    Traits,
)
from plainfall.clone.walk import Tree, is_side
from plainfall.ecosystems.python.recognise.applications import sources
from plainfall.evidence import Evidence
from plainfall.failure_kinds import FailureKind
from plainfall.patterns import regex

__all__ = ["REPEATABLE", "TRAITS", "recognise"]

ORDER = 1

REPEATABLE = regex(r"(\bmanage\.py|\bdjango-admin|-m django) migrate\b(?!.*\bzero\b)")

_RUNS = regex(r"execute_from_command_line|DJANGO_SETTINGS_MODULE|django\.core\.management")
_SEED = regex(r"^(seed|populate|load_(demo|sample|initial)|init_data|create_(demo|sample))\w*$")
TRAITS = Traits(
    ("Django",),
    prefixes=("DJANGO_",),
    secrets=(SecretForm(("SECRET_KEY", "DJANGO_SECRET_KEY"), Form("signs", 50, "", "Django")),),
)


def recognise(tree: Tree, folder: str, names: frozenset[str]) -> FrameworkFound | None:
    """A part with a ``manage.py`` that runs Django's command line, at its top or below."""
    manage = _manage(tree, folder)
    if manage is None:
        return _without_manage(tree, folder) if not names or "django" in names else None
    path, evidence = manage
    run = f"python {path}"
    texts = dict(sources(tree, folder))
    inner = path.rpartition("/")[0]
    if inner:  # it may be an example's, which counts for no other part
        place = f"{folder}/{inner}" if folder else inner
        texts |= {f"{inner}/{name}": text for name, text in sources(tree, place)}
    named = _NAMED.search(tree.text(f"{folder}/{path}" if folder else path))
    if named:
        texts |= _beside_settings(tree, folder, inner, named.group(1))
    settings = "\n".join(text for name, text in texts.items() if "settings" in name)
    commands = [
        *_both(run, evidence, folder),
        *_seeds(tree, folder, run),
        *_static(settings, run, evidence, folder),
    ]
    administrator = None
    account = _account_fields(settings, texts) if "django.contrib.admin" in settings else None
    if account is not None:
        field, required = account
        administrator = Administrator(
            f"{run} createsuperuser --noinput",
            f"DJANGO_SUPERUSER_{field.upper()}",
            "DJANGO_SUPERUSER_EMAIL",
            "DJANGO_SUPERUSER_PASSWORD",
            "already taken",
            _admin_page(texts),
            evidence,
            ADMIN_ADDRESS if "mail" in field else "admin",
            {
                f"DJANGO_SUPERUSER_{one.upper()}": ADMIN_ADDRESS if "mail" in one else "admin"
                for one in required
            },
        )
    own = _own_pages(texts)
    pages = ("/", *own, administrator.page) if administrator and administrator.page else ("/", *own)
    return FrameworkFound(
        "Django",
        evidence,
        tuple(commands),
        pages=pages,
        administrator=administrator,
        development=_development(named.group(1), settings) if named else None,
    )


def _beside_settings(tree: Tree, folder: str, inner: str, module: str) -> dict[str, str]:
    """The texts of the settings module and of what lies beside it, by their paths in the part: a project in a
    folder named as one for tests is the project here."""
    place = f"{folder}/" if folder else ""
    package = module.rpartition(".")[0].replace(".", "/")
    start = "/".join(filter(None, (inner, package)))
    names = tree.folders.get("/".join(filter(None, (folder, start))), ())
    paths = [f"{start}/{name}" if start else name for name in names if name.endswith(".py")]
    return {path: tree.text(place + path) for path in paths if place + path in tree}


_OWN_PAGES = 4  # of the project's addresses that are asked where its first page does not exist


def _own_pages(texts: Mapping[str, str]) -> list[str]:
    """Addresses without values that the project's root of all addresses names, its administration's aside."""
    settings = "\n".join(text for path, text in texts.items() if "settings" in path)
    root = re.search(r"^ROOT_URLCONF\s*=\s*['\"]([\w.]+)['\"]", settings, re.MULTILINE)
    ending = root.group(1).replace(".", "/") + ".py" if root else ""
    found = [text for path, text in texts.items() if ending and f"/{path}".endswith(f"/{ending}")]
    lines = [line for text in found for line in text.splitlines() if not line.lstrip().startswith("#")]
    pages = [match.group(1) for line in lines if (match := _PAGE.search(line)) and "admin" not in line]
    return [f"/{page}" for page in dict.fromkeys(pages) if page.strip("/")][:_OWN_PAGES]


_PAGE = regex(r"\b(?:path|url|re_path)\(\s*r?['\"]\^?([\w/-]+)\$?['\"]\s*,(?!.*\b(static|media)\b)")
_NAMED = regex(r"DJANGO_SETTINGS_MODULE['\"]\s*,\s*['\"]([\w.]+)['\"]")


def _development(module: str, settings: str = "") -> DevelopmentMode:
    """Where a project's settings are those for production, and name no hosts; or where their database is in memory,
    as tests want it, and the migrations' tables are not the server's."""
    adds = {FailureKind.DEBUG_OFF: "turn DEBUG on"}
    if ":memory:" in settings:
        adds[FailureKind.TABLE_MISSING] = "put its database, which is in memory, into a file"
    return DevelopmentMode(adds, "DJANGO_SETTINGS_MODULE", module, _MORE)


_MORE = """\
import pathlib

DEBUG = True
for _database in globals().get("DATABASES", {}).values():
    if ":memory:" in str(_database.get("NAME", "")):
        _database["NAME"] = str(pathlib.Path(__file__).with_name("development.sqlite3"))
"""


def _both(run: str, evidence: Evidence, folder: str) -> tuple[Command, ...]:
    """The migrations and the dev server."""
    serves = f"{run} runserver 127.0.0.1:${{PORT:-8000}}"
    return (
        Command("migrations", f"{run} migrate --noinput", "Django's migrations", RANK, evidence, folder),
        Command("server", serves, "Django's dev server", RANK, evidence, folder),
    )


_ENTRY = regex(
    r"DJANGO_SETTINGS_MODULE['\"]\s*,\s*['\"]([\w.]+)['\"][\s\S]*get_(?:wsgi|asgi)_application|"
    r"get_(?:wsgi|asgi)_application[\s\S]*DJANGO_SETTINGS_MODULE['\"]\s*,\s*['\"]([\w.]+)['\"]"
)
_MODES = ("local", "dev", "development", "base", "")  # of a settings package, the likeliest here first


def _without_manage(tree: Tree, folder: str) -> FrameworkFound | None:
    """A project whose archive lacks ``manage.py``: its WSGI module names the settings, and Django's own program
    works with these."""
    place = f"{folder}/" if folder else ""
    for path in sorted(tree.below(folder), key=lambda one: one.count("/")):
        if path.rpartition("/")[2] not in ("wsgi.py", "asgi.py") or _TEMPLATE.search(path) or is_side(path):
            continue
        match = _ENTRY.search(tree.text(place + path))
        if match is None or path.count("/") > 3:
            continue
        named = match.group(1) or match.group(2)
        above = path.rpartition("/")[0].rpartition("/")[0]
        module = _settings_module(tree, f"{place}{above}/" if above else place, named)
        if not module:
            continue
        evidence = tree.line_of(place + path, "DJANGO_SETTINGS_MODULE")
        variables = {"DJANGO_SETTINGS_MODULE": module, **({"PYTHONPATH": above} if above else {})}
        run = "python -m django"
        both = _both(run, evidence, folder)
        return FrameworkFound(
            "Django", evidence, both, variables, pages=("/",), development=_development(module)
        )
    return None


def _settings_module(tree: Tree, place: str, named: str) -> str:
    """The settings module that is named, if the clone has it; else another mode of the same package; "" for
    none."""
    package = named.rpartition(".")[0] if named.rpartition(".")[0].endswith("settings") else named
    for name in (named, *(f"{package}.{mode}" if mode else package for mode in _MODES)):
        path = place + name.replace(".", "/")
        if f"{path}.py" in tree or (name == package and f"{path}/__init__.py" in tree):
            return name
    return ""


def _account_fields(settings: str, texts: Mapping[str, str]) -> tuple[str, list[str]] | None:
    """The field by which accounts are named, and those that must be given besides; None where the project's own
    user model is not found, or wants what nobody can make up."""
    stated = re.search(r"^AUTH_USER_MODEL\s*=\s*['\"](\w+)\.(\w+)['\"]", settings, re.MULTILINE)
    if stated is None:
        return None if re.search(r"^AUTH_USER_MODEL\b", settings, re.MULTILINE) else ("username", ["email"])
    application, model = stated.groups()
    for path, text in texts.items():
        found = re.search(rf"^class {model}\(([^)]*)\):", text, re.MULTILINE)
        if found is None or application not in path.split("/") or "models" not in path:
            continue
        body = re.split(r"^\S", text[found.end() :], maxsplit=1, flags=re.MULTILINE)[0]
        field = re.search(r"^[ \t]+USERNAME_FIELD[ \t]*=[ \t]*['\"](\w+)['\"]", body, re.MULTILINE)
        required = re.search(
            r"^[ \t]+REQUIRED_FIELDS[ \t]*(?::[^=\n]+)?=[ \t]*\[([^\]]*)\]", body, re.MULTILINE
        )
        names = re.findall(r"['\"](\w+)['\"]", required.group(1)) if required else None
        if names is None and "AbstractUser" not in found.group(1):
            names = []
        return field.group(1) if field else "username", ["email"] if names is None else names
    return None


# Folders that new projects are made from: their files are no program yet.
_TEMPLATE = regex(r"(^|[/_-])(templates?|skeleton|boilerplate|cookiecutter)[/_-]|\{\{", re.IGNORECASE)


def _manage(tree: Tree, folder: str) -> tuple[str, Evidence] | None:
    """The nearest ``manage.py``, relative to the part, with the line that makes it Django's."""
    place = f"{folder}/" if folder else ""
    results = [path for path in tree.below(folder) if path.rpartition("/")[2] == "manage.py"]
    for path in sorted(results, key=lambda path: path.count("/")):
        text = tree.text(place + path)
        if _RUNS.search(text) and "{{" not in text and not _TEMPLATE.search(path):
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
        path
        for path in tree.below(folder)
        if re.search(r"(^|/)fixtures/[^/]+\.(json|ya?ml|xml)$", path) and not is_side(path.rpartition("/")[0])
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
            may_fail=True,
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


_ADMIN_SITE = regex(r"(?:path|url)\(\s*r?['\"]([^'\"]*)['\"]\s*,\s*(?:include\()?admin\.site\.urls")


def _admin_page(texts: dict[str, str]) -> str:
    for path, text in texts.items():
        if path.endswith("urls.py"):
            match = _ADMIN_SITE.search(text)
            written = match.group(1).removeprefix("^").removesuffix("$").lstrip("/") if match else ""
            if match:
                return f"/{written}" if re.fullmatch(r"[\w./-]*", written) else "/admin/"
    return ""  # no route leads to it
