"""Dependency lists of all kinds: which one wins, what it comes to, what is said of a bad one."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Machine, package
from packaging.markers import default_environment

from plainfall.clone.walk import walk
from plainfall.ecosystems.python.lists.discover import find_lists, read_list, stale_remarks
from plainfall.ecosystems.python.lists.graphs import spelled_out
from plainfall.ecosystems.python.lists.pins import Listed, Target
from plainfall.ecosystems.python.lists.pylock import write_pylock
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.errors import BadInput
from plainfall.standins.registry import Archive, Registry

HERE = {key: str(value) for key, value in default_environment().items()}
A, B = "a" * 64, "b" * 64


def read(folder: Path, files: dict[str, str], *, extras: str = "", groups: str = "") -> Listed:
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    tree = walk(folder)
    first = find_lists(tree, "")[0]
    return read_list(
        tree, first.path, first.kind, Target(HERE, frozenset(extras.split()), frozenset(groups.split()))
    )


def pins(listed: Listed) -> dict[str, str]:
    assert listed.pins is not None
    return {pin.name: pin.version for pin in listed.pins}


def wishes(listed: Listed) -> list[str]:
    return [str(line.requirement or line.reference) for line in listed.wishes]


UV = f"""\
version = 1
requires-python = ">=3.9"

[[package]]
name = "rain"
version = "0.1"
source = {{ editable = "." }}
dependencies = [
    {{ name = "kit", extra = ["fast"] }},
    {{ name = "never", marker = "sys_platform == 'win32'" }},
]

[package.optional-dependencies]
maps = [{{ name = "mapkit" }}]

[package.dev-dependencies]
dev = [{{ name = "checkkit" }}]
docs = [{{ name = "dockit" }}]

[[package]]
name = "kit"
version = "1.0"
source = {{ registry = "https://registry.example/simple" }}
dependencies = [{{ name = "base" }}]
sdist = {{ url = "https://registry.example/kit-1.0.tar.gz", hash = "sha256:{A}", size = 9 }}
wheels = [{{ url = "https://registry.example/kit-1.0-py3-none-any.whl", hash = "sha256:{B}", size = 8 }}]

[package.optional-dependencies]
fast = [{{ name = "speedkit" }}]

[[package]]
name = "base"
version = "2.0"
source = {{ git = "https://git.example/base?rev=main#0123abc" }}

[[package]]
name = "never"
version = "1.0"

[[package]]
name = "speedkit"
version = "3.0"

[[package]]
name = "mapkit"
version = "4.0"

[[package]]
name = "checkkit"
version = "5.0"

[[package]]
name = "dockit"
version = "6.0"
"""


def test_uv_lock_from_its_roots(tmp_path: Path) -> None:
    listed = read(tmp_path, {"uv.lock": UV})
    assert pins(listed) == {"base": "2.0", "checkkit": "5.0", "kit": "1.0", "rain": "0.1", "speedkit": "3.0"}
    by_name = {pin.name: pin for pin in listed.pins or ()}
    assert by_name["kit"].hashes == {"sha256": frozenset([A, B])} and by_name["kit"].evidence.line == 20
    reference = by_name["base"].reference
    assert reference is not None and (reference.kind, reference.revision) == ("git", "0123abc")
    root = by_name["rain"].reference
    assert root is not None and root.editable
    more = read(tmp_path, {"uv.lock": UV}, extras="maps", groups="docs")
    assert {"mapkit", "dockit"} <= set(pins(more)) and "checkkit" not in pins(more)
    assert more.extras == ("maps",) and more.groups == ("dev", "docs")


POETRY_NEW = f"""\
[[package]]
name = "Kit"
version = "1.0"
groups = ["main"]
files = [{{file = "kit-1.0-py3-none-any.whl", hash = "sha256:{A}"}}]

[[package]]
name = "checkkit"
version = "2.0"
groups = ["dev"]
markers = "sys_platform != 'win32'"
files = []

[[package]]
name = "dockit"
version = "3.0"
groups = ["docs"]
files = []

[[package]]
name = "winkit"
version = "4.0"
groups = ["main"]
markers = {{main = "sys_platform == 'win32'"}}
files = []

[metadata]
lock-version = "2.1"
python-versions = "^3.9"
"""
POETRY_OLD = """\
[[package]]
name = "kit"
version = "1.0"

[package.dependencies]
base = ">=1"
never = {version = "*", markers = "sys_platform == 'win32'"}

[package.extras]
fast = ["speedkit (>=1)"]

[[package]]
name = "base"
version = "2.0"

[[package]]
name = "never"
version = "1.0"

[[package]]
name = "left-over"
version = "1.0"

[metadata]
lock-version = "1.1"

[metadata.files]
kit = [{file = "kit-1.0.tar.gz", hash = "sha256:HASH"}]
base = []
""".replace("HASH", A)
POETRY_MANIFEST = "[tool.poetry.dependencies]\npython = '^3.9'\nkit = '^1.0'\n"


def test_several_constraints_of_one_package_get_markers(tmp_path: Path) -> None:
    rules = "[\n  {version = '>=2.0', python = '>=3.10'},\n  {version = '^1.0', python = '>=3.9,<4', markers = \"os_name == 'posix'\"},\n]"
    manifest = POETRY_MANIFEST.replace("kit = '^1.0'", f"kit = {rules}")
    wishes = [
        str(one.requirement) for one in read(tmp_path, {"pyproject.toml": manifest}).wishes if one.requirement
    ]
    assert wishes[:2] == [
        'kit>=2.0; python_full_version >= "3.10"',
        'kit<2,>=1.0; os_name == "posix" and (python_full_version >= "3.9" and python_full_version < "4")',
    ]


def test_poetry_lock_with_groups_and_by_walking(tmp_path: Path) -> None:
    assert pins(read(tmp_path, {"poetry.lock": POETRY_NEW})) == {"checkkit": "2.0", "kit": "1.0"}
    assert "dockit" in pins(read(tmp_path, {"poetry.lock": POETRY_NEW}, groups="docs"))
    older = read(tmp_path, {"poetry.lock": POETRY_OLD, "pyproject.toml": POETRY_MANIFEST})
    assert pins(older) == {"base": "2.0", "kit": "1.0"}
    assert (older.pins or ())[1].hashes == {"sha256": frozenset([A])}


def test_pdm_lock_by_groups(tmp_path: Path) -> None:
    text = (
        "[metadata]\ngroups = ['default', 'dev', 'maps']\nlock_version = '4.5.0'\n"
        f"[[package]]\nname = 'kit'\nversion = '1.0'\ngroups = ['default']\nfiles = [{{file='k', hash='sha256:{A}'}}]\n"
        "[[package]]\nname = 'checkkit'\nversion = '2.0'\ngroups = ['dev']\n"
        "[[package]]\nname = 'mapkit'\nversion = '3.0'\ngroups = ['maps']\n"
        "[[package]]\nname = 'winkit'\nversion = '4.0'\ngroups = ['default']\nmarker = \"sys_platform == 'win32'\"\n"
    )
    assert pins(read(tmp_path, {"pdm.lock": text})) == {"kit": "1.0", "checkkit": "2.0"}


def test_pipfile_lock(tmp_path: Path) -> None:
    lock = {
        "_meta": {"pipfile-spec": 6, "requires": {"python_version": "3.11"}},
        "default": {
            "kit": {"version": "==1.0", "hashes": [f"sha256:{A}"]},
            "own": {"path": ".", "editable": True},
        },
        "develop": {"checkkit": {"version": "==2.0", "markers": "python_version >= '3'"}},
    }
    listed = read(tmp_path, {"Pipfile.lock": json.dumps(lock, indent=1)})
    assert pins(listed) == {"kit": "1.0", "own": "", "checkkit": "2.0"}
    assert listed.python is not None and listed.python[0] == "==3.11.*"


def test_pylock_is_read_as_the_specification_says_and_as_we_write_it(tmp_path: Path) -> None:
    files = [IndexFile("kit-1.0-py3-none-any.whl", "https://registry.example/k.whl", {"sha256": A})]
    text = write_pylock([("kit", "1.0", files)], ">=3.9", "inputs")
    marked = text.replace('version = "1.0"', 'version = "1.0"\nmarker = "\'dev\' in dependency_groups"', 2)
    assert pins(read(tmp_path, {"pylock.toml": text})) == {"kit": "1.0"}
    head = 'lock-version = "1.0"\ncreated-by = "x"\ndependency-groups = ["dev"]\n\n[[packages]]\n'
    body = 'name = "kit"\nversion = "2.0"\nmarker = "\'dev\' in dependency_groups"\n'
    wheels = f'wheels = [{{ name = "kit-2.0-py3-none-any.whl", url = "u", hashes = {{ sha256 = "{A}" }} }}]\n'
    assert marked and pins(read(tmp_path, {"pylock.toml": head + body + wheels})) == {}
    assert pins(read(tmp_path, {"pylock.toml": head + body + wheels}, groups="dev")) == {"kit": "2.0"}


PYPROJECT = """\
[project]
name = "rain"
version = "1"
dependencies = ["kit>=1", "base"]

[project.optional-dependencies]
maps = ["mapkit"]

[dependency-groups]
test = ["checkkit"]
dev = [{include-group = "test"}, "devkit"]
"""


def test_manifests(tmp_path: Path) -> None:
    assert wishes(read(tmp_path / "a", {"pyproject.toml": PYPROJECT})) == [
        "kit>=1",
        "base",
        "checkkit",
        "devkit",
    ]
    more = read(tmp_path / "a", {"pyproject.toml": PYPROJECT}, extras="maps nonsense", groups="test")
    assert wishes(more) == ["kit>=1", "base", "mapkit", "checkkit"]
    assert more.remarks == (
        "pyproject.toml has no extra nonsense (it has: maps): nothing was installed for it",
    )
    built = PYPROJECT + "\n[build-system]\nrequires = []\nbuild-backend = 'x'\n"
    with_package = read(tmp_path / "b", {"pyproject.toml": built, "src/rain/__init__.py": ""})
    assert with_package.wishes[-1].editable and with_package.wishes[-1].reference == "."
    older = "[tool.poetry.dependencies]\npython='^3.9'\nkit='^1.2'\nbase={version='~2.1', extras=['fast']}\nx='*'\n"
    assert wishes(read(tmp_path / "c", {"pyproject.toml": older})) == [
        "kit<2,>=1.2",
        "base[fast]<2.2,>=2.1",
        "x",
    ]
    cfg = "[options]\ninstall_requires =\n    kit>=1\n    # no\n    base\n[options.extras_require]\nmaps = mapkit\n"
    assert wishes(read(tmp_path / "d", {"setup.cfg": cfg}, extras="maps")) == ["kit>=1", "base", "mapkit"]
    setup = "from setuptools import setup\nNEEDS = ['kit>=1']\nsetup(name='x', install_requires=NEEDS)\nraise SystemExit\n"
    assert wishes(read(tmp_path / "e", {"setup.py": setup})) == ["kit>=1", "."]
    computed = "import setuptools\nsetuptools.setup(install_requires=open('x').read())\n"
    assert "is computed" in read(tmp_path / "f", {"setup.py": computed}).remarks[0]
    yml = "dependencies:\n  - python=3.11\n  - kit=1.2=build0\n  - base>=2\n  - pip:\n    - pipkit==3\n"
    assert wishes(read(tmp_path / "g", {"environment.yml": yml})) == ["kit==1.2", "base>=2", "pipkit==3"]
    pipfile = (
        "[packages]\nkit = '*'\nbase = {version = '>=2', extras = ['fast']}\n[dev-packages]\ndevkit='==1'\n"
    )
    assert wishes(read(tmp_path / "h", {"Pipfile": pipfile})) == ["kit", "base[fast]>=2", "devkit==1"]


@pytest.mark.parametrize(
    ("names", "winner"),
    [
        (["requirements.txt", "pyproject.toml", "uv.lock"], "uv.lock"),
        (["requirements.txt", "pyproject.toml"], "requirements.txt"),
        (["requirements-dev.txt", "pyproject.toml"], "pyproject.toml"),
        (["requirements.in", "requirements.txt"], "requirements.txt"),
        (["requirements.in"], "requirements.in"),
        (["requirement.txt"], "requirement.txt"),
        (["reqs.txt"], "reqs.txt"),
        (["requirements/base.txt", "requirements/dev.txt", "requirements/prod.txt"], "requirements/dev.txt"),
        (["poetry.lock", "uv.lock", "pyproject.toml"], "poetry.lock"),
        (["setup.py", "requirements-local.txt"], "setup.py"),
    ],
)
def test_which_list_wins(tmp_path: Path, names: list[str], winner: str) -> None:
    texts = {
        "pyproject.toml": PYPROJECT + ("[tool.poetry]\n" if "poetry.lock" in names else ""),
        "setup.py": "setup(install_requires=['kit'])",
    }
    for name in names:
        (tmp_path / name).parent.mkdir(exist_ok=True)
        (tmp_path / name).write_text(texts.get(name, "kit\n"))
    assert find_lists(walk(tmp_path), "")[0].path == winner


def test_a_stale_lock_is_said_with_both_places(tmp_path: Path) -> None:
    manifest = "[project]\nname='rain'\ndependencies = [\n 'kit>=2',\n 'fresh',\n]\n"
    listed = read(tmp_path, {"uv.lock": UV, "pyproject.toml": manifest})
    assert stale_remarks(walk(tmp_path), listed, Target(HERE)) == [
        "uv.lock is stale: pyproject.toml:4 wants kit>=2, it holds 1.0",
        "uv.lock is stale: pyproject.toml:5 lists fresh, which it lacks",
    ]


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        ("uv.lock", "version = 7\n", "lock format 7; this Plainfall reads up to 1"),
        ("poetry.lock", "[metadata]\nlock-version = '3.0'\n", "lock format 3.0"),
        ("pdm.lock", "[metadata]\nlock_version = '9'\n", "lock format 9"),
        ("Pipfile.lock", '{"_meta": {"pipfile-spec": 9}}', "lock format 9"),
        ("pylock.toml", 'lock-version = "2.0"\ncreated-by = "x"\npackages = []\n', "newer format"),
        ("pylock.toml", 'lock-version = "1.0"\ncreated-by = "x"\n', "breaks the pylock.toml specification"),
        ("Pipfile.lock", '{"default": {\n,}}', "Pipfile.lock:2: it is not JSON"),
        ("uv.lock", "<<<<<<< ours\nversion = 1\n", "uv.lock:1: it is not TOML"),
        ("uv.lock", UV.replace('name = "base"\nversion', 'name = "other"\nversion'), "it lacks base"),
        ("uv.lock", UV.replace("sys_platform == 'win32'", "sys_platform =="), "the marker 'sys_platform =='"),
        (
            "requirements.txt",
            f"kit==1 --hash=sha256:{A}\nbase\n",
            "requirements.txt:2: 'base' has no exact version",
        ),
        (
            "requirements.txt",
            f"kit==1 --hash=sha256:{A}\nkit==2 --hash=sha256:{A}\n",
            "pinned to 2 here and to 1 at",
        ),
        (
            "pyproject.toml",
            "[project]\nname='x'\ndependencies=['kit >']\n",
            "pyproject.toml:3: 'kit >' is no requirement",
        ),
        ("pyproject.toml", "[dependency-groups]\ndev=[{include-group='dev'}]\n", "in a circle: dev → dev"),
        ("setup.py", "def setup(:\n  install_requires\n", "setup.py:1"),
        ("environment.yml", "dependencies: [\n", "is not YAML"),
        ("environment.yml", "- gaugekit\n", "environment.yml:1: it must hold a mapping"),
    ],
)
def test_bad_lists_are_named(tmp_path: Path, name: str, text: str, said: str) -> None:
    with pytest.raises(BadInput) as caught:
        read(tmp_path, {name: text})
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("rule", "expected"),
    [("^1.2", ">=1.2,<2"), ("^0.2.3", ">=0.2.3,<0.3"), ("~1.2.3", ">=1.2.3,<1.3"), ("~1", ">=1,<2"), ("^0.0.1-alpha.2", ">=0.0.1-alpha.2,<0.0.2"), ("~2.1rc1", ">=2.1rc1,<2.2"), ("*", ""),
     ("1.2.3", "==1.2.3"), (">=1, <2", ">=1,<2")],
)  # fmt: skip
def test_rules_with_carets_and_tildes(rule: str, expected: str) -> None:
    assert spelled_out(rule) == expected


def test_a_lock_of_another_tool_is_installed_from_the_configured_index(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    kit = package()
    registry = offer([Archive.of(kit)])
    lock = (
        'version = 1\n[[package]]\nname = "rain"\nversion = "1"\nsource = { virtual = "." }\n'
        'dependencies = [{ name = "gaugekit" }]\n[[package]]\nname = "gaugekit"\nversion = "1.0"\n'
        'source = { registry = "https://registry.example/simple" }\n'
        f'wheels = [{{ url = "https://registry.example/{kit.filename}", hash = "sha256:{kit.sha256}" }}]\n'
    )
    clone = machine.clone({"uv.lock": lock, "pyproject.toml": "[project]\nname='rain'\n", "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0, run.err
    assert run.step("dependencies")["detail"]["laid"] == ["gaugekit 1.0"]
    assert "/simple/gaugekit/" in registry.faults.asked


def test_extras_and_groups_by_the_standards_words(machine: Machine, offer: Callable[..., Registry]) -> None:
    offer([Archive.of(package(name)) for name in ("base", "kit", "mapkit", "checkkit", "devkit")])
    clone = machine.clone({"pyproject.toml": PYPROJECT, "app.py": ""})
    plain = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert plain.step("dependencies")["detail"]["laid"] == [
        "base 1.0",
        "checkkit 1.0",
        "devkit 1.0",
        "kit 1.0",
    ]
    more = machine.run("onboard", clone, "--until", "dependencies", "--json", "--extra", "maps")
    assert more.step("dependencies")["detail"]["laid"] == ["mapkit 1.0"]
    other = machine.run("onboard", clone, "--until", "dependencies", "--json", "--group", "test")
    assert other.step("dependencies")["detail"]["taken_out"] == ["devkit 1.0"]  # the extra was chosen before
    none = machine.run("onboard", clone, "--until", "dependencies", "--json", "--extra", "none")
    assert none.step("dependencies")["detail"]["taken_out"] == ["mapkit 1.0"]


def test_a_list_that_was_left_empty_says_nothing_against_the_manifest(machine: Machine) -> None:
    manifest = '[project]\nname = "rain"\nversion = "1"\ndependencies = ["gauge-words"]\n'
    clone = machine.clone({"pyproject.toml": manifest, "requirements.txt": "# see the manifest\n"})
    [part] = machine.run("survey", clone, "--json").document["parts"]
    assert part["dependencies"]["evidence"][0]["path"] == "pyproject.toml"
