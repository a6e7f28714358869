"""Source packages, references and editable installs: built through the project's own build interface."""

from __future__ import annotations

import io
import json
import shutil
import subprocess
import tarfile
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import PYTHON_LINE, Machine, package
from msgspec.structs import replace

from plainfall.diagnosis.reading import diagnose
from plainfall.diagnosis.system_packages import install_words, package_manager
from plainfall.ecosystems.python.resolve.finding import _project, version_of
from plainfall.ecosystems.python.resolve.simple import IndexFile
from plainfall.errors import ArchiveRefused
from plainfall.packages.source_archives import unpack_source
from plainfall.standins.registry import Archive, Registry

Offer = Callable[..., Registry]

# A build backend of our own, in the tree itself: a wheel of the package's one module, or a path to it.
BACKEND = """\
import os, zipfile

NAME, VERSION = "{name}", "{version}"
META = "Metadata-Version: 2.1\\nName: %s\\nVersion: %s\\n{requires}" % (NAME, VERSION)


def _wheel(folder, members):
    info = "%s-%s.dist-info/" % (NAME, VERSION)
    members = dict(members)
    members[info + "METADATA"] = META
    members[info + "WHEEL"] = "Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n"
    members[info + "RECORD"] = "".join("%s,,\\n" % path for path in members) + info + "RECORD,,\\n"
    file = "%s-%s-py3-none-any.whl" % (NAME, VERSION)
    with zipfile.ZipFile(os.path.join(folder, file), "w") as wheel:
        for path, text in members.items():
            wheel.writestr(path, text)
    return file


def build_wheel(folder, config_settings=None, metadata_directory=None):
    {action}
    return _wheel(folder, {{NAME + ".py": open(NAME + ".py").read()}})


def build_editable(folder, config_settings=None, metadata_directory=None):
    return _wheel(folder, {{NAME + ".pth": os.getcwd() + "\\n"}})
"""


def tree(
    name: str, version: str = "1.0", action: str = "pass", requires: str = "", needs: str = ""
) -> dict[str, str]:
    lines = "".join(f"Requires-Dist: {one}\\n" for one in requires.split())
    return {
        "pyproject.toml": f"[build-system]\nrequires = [{needs}]\nbuild-backend = 'ownbuild'\nbackend-path = ['.']\n"
        f"[project]\nname = '{name}'\nversion = '{version}'\ndependencies = {requires.split()!r}\n",
        "ownbuild.py": BACKEND.format(name=name, version=version, action=action, requires=lines),
        f"{name}.py": f"VERSION = {version!r}\n",
    }


def source_package(name: str, files: dict[str, str], version: str = "1.0") -> Archive:
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode="w:gz") as archive:
        for path, text in files.items():
            entry = tarfile.TarInfo(f"{name}-{version}/{path}")
            entry.size = len(text.encode())
            archive.addfile(entry, io.BytesIO(text.encode()))
    return Archive(name, f"{name}-{version}.tar.gz", content.getvalue())


def onboard(machine: Machine, files: dict[str, str], *words: str) -> tuple[Path, dict[str, object]]:
    clone = machine.clone({".python-version": PYTHON_LINE, "app.py": "", **files})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json", *words)
    assert run.status in (0, 1) and run.out, run.err
    return clone, run.document


def detail(document: dict[str, object]) -> dict[str, list[str]]:
    steps: list[dict[str, dict[str, list[str]]]] = document["steps"]  # type: ignore[assignment]
    assert document["failure"] is None, document["failure"]
    return steps[-1]["detail"]


def imported(clone: Path, code: str) -> str:
    done = subprocess.run(
        [clone / ".venv/bin/python", "-c", code], capture_output=True, text=True, check=True
    )
    return done.stdout.strip()


def test_a_source_package_is_built_once_with_its_build_requirements(machine: Machine, offer: Offer) -> None:
    action = "import buildkit; print('building with', buildkit.VERSION)"
    gauge = source_package("gauge", tree("gauge", action=action, requires="base", needs="'buildkit>=1'"))
    registry = offer([gauge, Archive.of(package("buildkit")), Archive.of(package("base"))])
    clone, document = onboard(machine, {"requirements.txt": "gauge\n"})
    assert detail(document)["built"] == ["gauge"] or detail(document)["built"] == ["gauge 1.0"]
    assert detail(document)["laid"] == ["base 1.0", "gauge 1.0"]
    assert imported(clone, "import gauge; print(gauge.VERSION)") == "1.0"
    assert not list((clone / ".venv").rglob("buildkit*"))
    shutil.rmtree(clone / ".venv")
    before = len(registry.faults.asked)
    again = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert again.step("dependencies")["detail"]["built"] == [] and len(registry.faults.asked) == before


def test_a_locked_source_package_is_checked_and_built(machine: Machine, offer: Offer) -> None:
    gauge = source_package("gauge", tree("gauge"))
    offer([gauge])
    clone, document = onboard(machine, {"requirements.txt": f"gauge==1.0 --hash=sha256:{gauge.sha256}\n"})
    assert detail(document)["built"] == ["gauge 1.0"]
    assert machine.run("onboard", clone, "--until", "dependencies", "--json").states["dependencies"] == "kept"


def test_a_build_that_fails_shows_why_and_what_to_do(machine: Machine, offer: Offer) -> None:
    action = "raise SystemExit('gauge.c:1: fatal error: libpq-fe.h: No such file or directory')"
    offer([source_package("gauge", tree("gauge", action=action))])
    _, document = onboard(machine, {"requirements.txt": "gauge\n"})
    failure: dict[str, str] = document["failure"]  # type: ignore[assignment]
    assert "gauge" in failure["cause"] and "the C header libpq-fe.h is not installed" in failure["cause"]
    assert "libpq" in failure["remedy"] and Path(failure["log"]).exists()


@pytest.mark.parametrize("member", ["../out.py", "gauge-1.0/link"])
def test_a_source_package_that_leads_out_is_refused(machine: Machine, offer: Offer, member: str) -> None:
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode="w:gz") as archive:
        entry = tarfile.TarInfo(member)
        if member.endswith("link"):
            entry.type, entry.linkname = tarfile.SYMTYPE, "../../../etc/passwd"
        archive.addfile(entry, io.BytesIO(b""))
    offer([Archive("gauge", "gauge-1.0.tar.gz", content.getvalue())])
    _, document = onboard(machine, {"requirements.txt": "gauge\n"})
    assert document["failure"]["kind"] == "ArchiveRefused"  # type: ignore[index]


@pytest.mark.parametrize(
    "target, said",
    [
        ("gauge-1.0/README", ""),
        ("../../etc/passwd", "gauge-1.0.tar.gz"),
        ("gauge-1.0/later", "a hard link to what is no file of it before"),
    ],
)
def test_a_hard_link_in_a_source_package_is_a_file_of_its_own(tmp_path: Path, target: str, said: str) -> None:
    archive = tmp_path / "gauge-1.0.tar.gz"
    with tarfile.open(archive, mode="w:gz") as opened:
        entry = tarfile.TarInfo("gauge-1.0/README")
        entry.size = 4
        opened.addfile(entry, io.BytesIO(b"rain"))
        entry = tarfile.TarInfo("gauge-1.0/README.rst")
        entry.type, entry.linkname = tarfile.LNKTYPE, target
        opened.addfile(entry)
    folder = tmp_path / "out"
    folder.mkdir()
    if said:
        with pytest.raises(ArchiveRefused, match=said):
            unpack_source(archive, folder)
        return
    top = unpack_source(archive, folder)
    assert (top / "README.rst").read_text() == "rain"
    assert (top / "README.rst").stat().st_ino != (top / "README").stat().st_ino


def test_the_clone_itself_is_used_in_place(machine: Machine, offer: Offer) -> None:
    offer([Archive.of(package("base"))])
    files = {**tree("rain", requires="base"), "rain/__init__.py": "VERSION = 'in place'\n"}
    files.pop("rain.py")
    clone, document = onboard(machine, files)
    assert detail(document)["laid"] == ["base 1.0", "rain 1.0"]
    assert imported(clone, "import rain; print(rain.VERSION)") == "in place"
    (clone / "rain/__init__.py").write_text("VERSION = 'edited'\n")
    assert imported(clone, "import rain; print(rain.VERSION)") == "edited"
    url = json.loads(next((clone / ".venv").rglob("direct_url.json")).read_text())
    assert url == {"url": clone.as_uri(), "dir_info": {"editable": True}}
    assert machine.run("onboard", clone, "--until", "dependencies", "--json").states["dependencies"] == "kept"


@pytest.mark.needs("git")
def test_references_to_paths_archives_and_revisions(machine: Machine, offer: Offer) -> None:
    kit = package("webkit")
    registry = offer([Archive.of(kit)])
    local = machine.clone(tree("localkit"), "elsewhere/localkit")
    assert local.exists()
    repository = machine.clone(tree("gitkit", "1.0"), "gitkit")
    git = ["git", "-c", "user.name=Mira", "-c", "user.email=mira@gauges.example"]
    for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "one"], ["tag", "v1"]):
        subprocess.run([*git, *words], cwd=repository, check=True, capture_output=True)
    (repository / "gitkit.py").write_text("VERSION = 'later'\n")
    subprocess.run([*git, "commit", "-qam", "two"], cwd=repository, check=True)
    wheel = registry.url.replace("simple/", f"files/{kit.filename}")
    files = {
        "requirements.txt": f"./vendor/localkit\nwebkit @ {wheel}\ngitkit @ git+{repository.as_uri()}@v1\n",
        **{f"vendor/localkit/{name}": text for name, text in tree("localkit").items()},
    }
    clone, document = onboard(machine, files)
    assert sorted(detail(document)["laid"]) == ["gitkit 1.0", "localkit 1.0", "webkit 1.0"]
    assert imported(clone, "import gitkit; print(gitkit.VERSION)") == "1.0"
    urls = [json.loads(path.read_text()) for path in (clone / ".venv").rglob("direct_url.json")]
    commits = [url["vcs_info"]["commit_id"] for url in urls if "vcs_info" in url]
    assert len(urls) == 3 and len(commits[0]) == 40


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("./nowhere\n", "./nowhere does not exist"),
        (
            "kit @ git+file:///nowhere/kit.git@v9\n",
            "revision v9 of file:///nowhere/kit.git cannot be fetched",
        ),
        ("kit @ hg+https://a.example/kit\n", "version control that is not known"),
        ("-e .\n", "holds no pyproject.toml and no setup.py"),
    ],
)
@pytest.mark.needs("git")
def test_bad_references_are_named(machine: Machine, line: str, said: str) -> None:
    _, document = onboard(machine, {"requirements.txt": line})
    failure: dict[str, object] = document["failure"]  # type: ignore[assignment]
    assert said in str(failure["cause"]).replace("nowhere is", "nowhere is").replace("'", "'") or said.lstrip(
        "./"
    ) in str(failure["cause"])
    assert failure["evidence"][0]["line"] == 1  # type: ignore[index]


@pytest.mark.parametrize(
    ("release", "manager"),
    [("ID=debian\n", "apt"), ('ID=mint\nID_LIKE="ubuntu debian"\n', "apt"), ("ID=fedora\n", "dnf"),
     ("ID=arch\n", "pacman"), ("ID=alpine\n", "apk"), ("ID=plan9\n", None)],
)  # fmt: skip
def test_the_package_manager_of_a_distribution(release: str, manager: str | None) -> None:
    assert package_manager(release, "linux") == manager
    assert package_manager(release, "darwin") == "brew"


def test_names_of_system_packages_differ_by_distribution() -> None:
    assert install_words("libpq-fe.h", "apt") == "Install it with: sudo apt-get install libpq-dev"
    assert install_words("libpq-fe.h", "apk") == "Install it with: sudo apk add libpq-dev"
    assert install_words("cc", "dnf").endswith("gcc gcc-c++ make")
    assert "development package" in install_words("odd.h", "apt")


@pytest.mark.parametrize(
    ("line", "rule", "thing"),
    [
        ("x.c:1:10: fatal error: Python.h: No such file or directory", "header-missing", "Python.h"),
        ("error: command 'gcc' failed: No such file or directory", "compiler-missing", "gcc"),
        ("Error: pg_config executable not found.", "build-tool-missing", "pg_config"),
        ("/usr/bin/ld: cannot find -lssl: No such file", "library-missing", "ssl"),
        ("ImportError: libGL.so.1: cannot open shared object file", "library-missing", "GL"),
        ("ModuleNotFoundError: No module named 'rain'", "module-missing", "rain"),
    ],
)
def test_what_is_missing_is_recognised(line: str, rule: str, thing: str) -> None:
    found = diagnose(f"some output\n{line}\nmore output\n")
    assert found.rule == rule and thing in found.cause and found.remedy


def test_a_part_in_a_subfolder_is_used_in_place(machine: Machine) -> None:
    files = {f"service/{name}": text for name, text in tree("rain").items()}
    clone, document = onboard(machine, {**files, "service/rain/__init__.py": "VERSION = 'below'\n"})
    assert document["outcome"] == "done", document["failure"]
    done = subprocess.run(
        [clone / "service/.venv/bin/python", "-c", "import rain; print(rain.VERSION)"],
        capture_output=True,
        text=True,
        check=True,
    )
    assert done.stdout == "below\n"


def test_an_archive_of_another_name_on_a_projects_page_is_passed_over(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    files = {
        "setup.py": "from setuptools import setup\nsetup(name='soil', version='1.0.2', py_modules=['soil'])\n",
        "soil.py": "",
    }
    good = package("soil", "1.0")
    odd = source_package("soil", files, "2.0-dev-9429")  # read as version 9429 of a project soil-2.0-dev
    offer([Archive.of(good), odd])
    clone = machine.clone({"requirements.txt": "soil\n", "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies", "--json")
    assert run.status == 0 and run.step("dependencies")["detail"]["laid"] == ["soil 1.0"], run.out


@pytest.mark.parametrize(
    ("filename", "parts"),
    [
        ("js.gauge_kit-2.0.24-2.tar.gz", ("js-gauge-kit", "2.0.24.post2")),
        ("soil-1.0.2-2.zip", ("soil", "1.0.2.post2")),
        ("soil-2-1.0.tar.gz", ("soil-2", "1.0")),
        ("soil-2-1.tar.gz", ("soil-2", "1")),
        ("soil-2.0-dev-9429.tar.gz", ("soil-2-0-dev", "9429")),
        ("soil.tar.gz", None),
    ],
)
def test_what_the_name_of_a_source_package_states(filename: str, parts: tuple[str, str] | None) -> None:
    file = IndexFile(filename, "")
    assert (_project(filename), version_of(file)) == (parts or (None, None))


def test_a_post_release_by_a_dash_is_found_by_its_pin(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    backend = (
        "def build_wheel(folder, config_settings=None, metadata_directory=None):\n"
        "    import zipfile\n"
        "    name = 'soil-1.0.2.post2-py3-none-any.whl'\n"
        "    with zipfile.ZipFile(f'{folder}/{name}', 'w') as wheel:\n"
        "        wheel.writestr('soil.py', '')\n"
        "        base = 'soil-1.0.2.post2.dist-info/'\n"
        "        wheel.writestr(base + 'METADATA', 'Metadata-Version: 2.1\\nName: soil\\nVersion: 1.0.2.post2\\n')\n"
        "        wheel.writestr(base + 'WHEEL', 'Wheel-Version: 1.0\\n')\n"
        "        wheel.writestr(base + 'RECORD', '')\n"
        "    return name\n"
    )
    manifest = '[build-system]\nrequires = []\nbuild-backend = "made"\nbackend-path = ["."]\n'
    files = {"pyproject.toml": manifest, "made.py": backend}
    offer([Archive.of(package("soil", "1.0")), source_package("soil", files, "1.0.2-2")])
    clone = machine.clone({"requirements.txt": "soil==1.0.2.post2\n", "app.py": ""})
    for state in ("done", "kept"):
        run = machine.run("onboard", clone, "--until", "dependencies", "--json")
        assert run.status == 0 and run.states["dependencies"] == state, run.out
    shutil.rmtree(clone / ".venv")
    again = machine.run(
        "onboard", clone, "--until", "dependencies", "--json"
    )  # from the lock that was written
    assert again.step("dependencies")["detail"]["laid"] == ["soil 1.0.2.post2"], again.out


def test_warnings_of_a_builds_backend_do_not_reach_the_terminal(
    machine: Machine, offer: Callable[..., Registry]
) -> None:
    offer([])
    backend = (
        "import warnings, zipfile\n"
        "def get_requires_for_build_editable(config_settings=None): return []\n"
        "def build_editable(folder, config_settings=None, metadata_directory=None):\n"
        "    warnings.warn('\\x1b]0;pwned\\x07 be careful')\n"
        "    name = 'soil-1.0-py3-none-any.whl'\n"
        "    with zipfile.ZipFile(f'{folder}/{name}', 'w') as wheel:\n"
        "        wheel.writestr('soil.pth', '.')\n"
        "        wheel.writestr('soil-1.0.dist-info/METADATA', 'Metadata-Version: 2.1\\nName: soil\\nVersion: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/WHEEL', 'Wheel-Version: 1.0\\n')\n"
        "        wheel.writestr('soil-1.0.dist-info/RECORD', '')\n"
        "    return name\n"
    )
    manifest = '[build-system]\nrequires = []\nbuild-backend = "made"\nbackend-path = ["."]\n[project]\nname = "soil"\n'
    clone = machine.clone({"pyproject.toml": manifest, "made.py": backend, "soil.py": "", "app.py": ""})
    run = machine.run("onboard", clone, "--until", "dependencies")
    assert run.status == 0 and "their own code ran" in run.err, run.err
    assert "\x1b" not in run.err + run.out and "be careful" not in run.err + run.out


def test_an_old_source_package_is_built_with_the_tools_of_its_day(machine: Machine, offer: Offer) -> None:
    """What newer build tools have lost, those of the day on which it was published still have."""
    action = "import toolkit; assert toolkit.VERSION == '1.0', 'toolkit lost what this build uses'"
    old = source_package("gauge", tree("gauge", action=action, needs="'toolkit'"))
    tools = [
        replace(Archive.of(package("toolkit", version)), uploaded=f"{year}-02-01T10:00:00Z")
        for version, year in (("1.0", 2020), ("2.0", 2026))
    ]
    offer([replace(old, uploaded="2021-03-01T10:00:00Z"), *tools])
    clone, document = onboard(machine, {"requirements.txt": "gauge\n"})
    assert document["failure"] is None, document["failure"]
    assert "gauge 1.0 was built with the tools of 2021-03-01: newer ones fail" in str(document["steps"])
    offer([replace(old, uploaded="2019-03-01T10:00:00Z"), tools[1]])  # none of that day is left
    machine.variables["PLAINFALL_CACHE"] = str(machine.home / "another-cache")
    shutil.rmtree(clone)
    _, document = onboard(machine, {"requirements.txt": "gauge\n"})
    assert document["failure"] is not None
    assert "toolkit lost what this build uses" in str(document["failure"])
