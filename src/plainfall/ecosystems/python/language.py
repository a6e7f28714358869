"""Python, in the shape of a language."""

from __future__ import annotations

from plainfall.ecosystems.python.clients.by_hand import python_by_hand
from plainfall.ecosystems.python.install.installing import PythonInstalling
from plainfall.ecosystems.python.recognise.applications import MAINS
from plainfall.ecosystems.python.recognise.checks import WORDS, python_checks
from plainfall.ecosystems.python.recognise.recognising import PythonRecognising
from plainfall.ecosystems.python.runtime.environments import PythonEnvironment
from plainfall.ecosystems.python.runtime.interpreters import GRAMMAR
from plainfall.ecosystems.shape import Language
from plainfall.sources.files import SourceReader

__all__ = ["LANGUAGE"]

LANGUAGE = Language(
    name="python",
    title="Python",
    readers=(
        SourceReader(
            "plainfall.ecosystems.python.sources.reader:read_python",
            (".py",),
            tuple(
                "environ getenv .env dotenv BaseSettings decouple environs env( json.load toml.load tomllib yaml "
                "ConfigParser .json' .json\"".split()
            ),
        ),
    ),
    programs=("python", "flask", "uvicorn", "gunicorn", "django-admin"),
    port=8000,
    clients=("pip", "pip3"),
    mains=MAINS,
    runners=("poetry", "pipenv", "uv", "pdm", "hatch", "rye"),
    makes_environment=r"-m venv\b|\bvirtualenv\b|bin/activate|\bconda\b",
    known_by="pyproject.toml, requirements.txt, setup.py or a main file",
    left_behind=("__pycache__/", "*.pyc"),
    folder_variables=("PYTHONPATH",),
    precedence=1,
    grammar=GRAMMAR,
    checks=python_checks,
    check_words=WORDS,
    program_aliases={"py": "python"},
    by_hand=python_by_hand,
    honours=frozenset({"extras", "groups", "instead", "as_of", "from_imports", "with_client", "keep_lock"}),
    recognising=PythonRecognising(),
    environment=PythonEnvironment(),
    installing=PythonInstalling(),
    registry_files=("pip.conf",),
)
