"""What one clone puts into the package cache has no say in the next one."""

from __future__ import annotations

import hashlib
import io
import json
import os
import shutil
import subprocess
import tarfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from http.server import BaseHTTPRequestHandler
from pathlib import Path

import php_clones
import pytest
import ruby_clones
from conftest import Machine, package
from rogue import rogue

from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.errors import DependencyProblem, PathRefused, PlainfallError
from plainfall.evidence import Evidence
from plainfall.ownership import claim
from plainfall.packages.cache import PackageCache, unpack_into_cache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.checkouts import check_out
from plainfall.packages.digests import Digest
from plainfall.standins.php_registry import php_archive, serving_php
from plainfall.standins.registry import Archive
from plainfall.standins.ruby_registry import gem, serving_ruby

pytestmark = pytest.mark.hostile

Offer = Callable[..., object]
GIT = ["git", "-c", "user.name=Mira", "-c", "user.email=mira@gauges.example", "-c", "commit.gpgsign=false"]
needs_git = pytest.mark.skipif(shutil.which("git") is None, reason="no git here")
needs_php = pytest.mark.skipif(shutil.which("php") is None, reason="no PHP here")
needs_ruby = pytest.mark.skipif(not ruby_clones.HAS_RUBY, reason="no Ruby with its package client here")


@needs_php
def test_a_php_package_is_what_its_own_address_gave(machine: Machine) -> None:
    """The stranger's lock names the genuine package's name, version and commit, and another address."""
    genuine = php_archive("pluvial/amounts", "1.2.0", {"unit.php": "<?php // genuine"})
    forged = php_archive("pluvial/amounts", "1.2.0", {"unit.php": "<?php // forged"})
    with serving_php([genuine]) as registry, serving_php([forged]) as stranger:
        hostile = php_clones.clone_files([forged], stranger.url, checksum=False, page="<?php echo 1;")
        hostile["composer.lock"] = hostile["composer.lock"].replace(forged.reference, genuine.reference)
        for name, files in (
            ("stranger", hostile),
            ("mine", php_clones.clone_files([genuine], registry.url, checksum=False, page="<?php echo 1;")),
        ):
            run = machine.run("onboard", machine.clone(files, name=name), "--until", "dependencies")
            assert run.status == 0, run.out + run.err
    laid = (machine.home / "mine/vendor/pluvial/amounts/unit.php").read_text()
    assert laid == "<?php // genuine"


@needs_ruby
def test_a_built_gem_is_taken_again_only_with_the_same_helpers_and_where_it_is_allowed(
    machine: Machine,
) -> None:
    if subprocess.run(
        ["ruby", "-rmkmf", "-e", "exit have_header('ruby.h')"], check=False, cwd=machine.home
    ).returncode:
        pytest.skip("no headers of Ruby here")
    drum = gem(
        "gauge-drum",
        "2.0.0",
        {
            "ext/extconf.rb": "require 'mkmf'\nrequire 'drum_helper'\n$defs << \"-DSIGN=#{DRUM_SIGN}\"\n"
            "create_makefile('gauge_drum')\n",
            "ext/drum.c": '#include <ruby.h>\nvoid Init_gauge_drum(void) { rb_define_global_const("DRUM", INT2FIX(SIGN)); }\n',
            "lib/drum.rb": "require 'gauge_drum'",
        },
        {"drum-helper": ">= 0"},
        extensions=["ext/extconf.rb"],
    )
    helpers = {
        sign: gem("drum-helper", "1.0.0", {"lib/drum_helper.rb": f"DRUM_SIGN = {sign}\n"}) for sign in (6, 7)
    }
    results = {}
    for name, sign, allow in (("stranger", 6, True), ("mine", 7, True), ("careful", 7, False)):
        gems = [drum, helpers[sign]]
        with serving_ruby(gems) as registry:
            files = ruby_clones.clone_files(gems, registry.url, page="puts 1", checksums=True)
            clone = machine.clone(files, name=name)
            words = ["--allow-install-code", "gauge-drum"] if allow else []
            run = machine.run("onboard", clone, "--until", "dependencies", "--json", *words)
            assert run.status == 0, run.out + run.err
            results[name] = run.step("dependencies")
    inside = machine.run("inside", machine.home / "mine", "--", "ruby", "-e", "require 'drum'; puts DRUM")
    assert inside.out.strip() == "7", inside.out + inside.err
    assert "gauge-drum" in " ".join(results["careful"]["remarks"])
    assert not list((machine.home / "careful/.plainfall/gems").rglob("gauge_drum.so"))


def forged_repository(folder: Path) -> str:
    """A repository in which the content of a committed file was replaced under its own name; returns the commit."""
    folder.mkdir()
    (folder / "unit.py").write_text("SIGN = 'mm'\n")
    for words in (["init", "-q"], ["add", "."], ["commit", "-qm", "one"]):
        subprocess.run([*GIT, *words], cwd=folder, check=True, capture_output=True)
    name = subprocess.run(
        ["git", "hash-object", "unit.py"], cwd=folder, capture_output=True, text=True, check=True
    )
    blob = folder / ".git/objects" / name.stdout[:2] / name.stdout.strip()[2:]
    blob.chmod(0o644)
    blob.write_bytes(zlib.compress(b"blob 12\0SIGN = 'xx'\n"))
    head = subprocess.run(
        ["git", "rev-parse", "HEAD"], cwd=folder, capture_output=True, text=True, check=True
    )
    return head.stdout.strip()


@needs_git
def test_forged_objects_of_a_repository_on_this_machine_are_refused(machine: Machine, tmp_path: Path) -> None:
    commit = forged_repository(tmp_path / "kit")
    with pytest.raises(DependencyProblem, match="cannot be fetched"):
        check_out([str(tmp_path / "kit")], commit, tmp_path / "checkout", machine.variables)


@needs_git
def test_a_branch_with_a_commits_name_is_not_that_commit(machine: Machine, tmp_path: Path) -> None:
    folder = tmp_path / "kit"
    folder.mkdir()
    (folder / "unit.py").write_text("SIGN = 'mm'\n")
    other = "ab" * 20
    for words in (
        ["init", "-q"],
        ["add", "."],
        ["commit", "-qm", "one"],
        ["update-ref", f"refs/tags/{other}", "HEAD"],
    ):
        subprocess.run([*GIT, *words], cwd=folder, check=True, capture_output=True)
    with pytest.raises(DependencyProblem):
        check_out([str(folder)], other, tmp_path / "checkout", machine.variables)


@contextmanager
def two_tenants(content: dict[str, bytes], pages: dict[str, bytes]) -> Iterator[str]:
    """One host with the indexes of two tenants; gives its address."""

    def answer(handler: BaseHTTPRequestHandler) -> None:
        path = handler.path.partition("?")[0]
        body = pages.get(path, content.get(path))
        handler.send_response(200 if body is not None else 404)
        handler.send_header("Content-Type", "text/html" if path in pages else "application/octet-stream")
        handler.send_header("Content-Length", str(len(body or b"")))
        handler.end_headers()
        handler.wfile.write(body or b"")

    with rogue(answer) as server:
        yield str(server.url)


def test_what_a_tenant_of_a_host_says_of_an_archive_counts_for_its_own_address(machine: Machine) -> None:
    """The stranger's index offers the genuine archive, with metadata of its own beside it."""
    kit, extra = package("gaugekit"), package("extra")
    row = f'<a href="{{}}{kit.filename}#sha256={kit.sha256}" data-core-metadata="true">k</a>'
    lies = kit.metadata.replace("\n\n", "\n") + "Requires-Dist: extra\n"
    content = {
        f"/mine/files/{kit.filename}": kit.content,
        f"/mine/files/{kit.filename}.metadata": kit.metadata.encode(),
        f"/evil/files/{kit.filename}": kit.content,
        f"/evil/files/{kit.filename}.metadata": lies.encode(),
        f"/evil/files/{extra.filename}": extra.content,
    }
    pages = {
        "/mine/simple/gaugekit/": row.format("/mine/files/").encode(),
        "/evil/simple/gaugekit/": row.format("/evil/files/").encode(),
        "/evil/simple/extra/": f'<a href="/evil/files/{extra.filename}#sha256={extra.sha256}">k</a>'.encode(),
    }
    laid = {}
    with two_tenants(content, pages) as url:
        for tenant in ("evil", "mine"):
            clone = machine.clone({"requirements.txt": "gaugekit\n", "app.py": ""}, name=tenant)
            run = machine.run(
                "onboard", clone, "--until", "dependencies", "--json",
                PIP_INDEX_URL=f"{url}{tenant}/simple/", PIP_NO_INDEX="",
            )  # fmt: skip
            assert run.status == 0, run.out + run.err
            laid[tenant] = sorted(run.step("dependencies")["detail"]["laid"])
    assert laid == {"evil": ["extra 1.0", "gaugekit 1.0"], "mine": ["gaugekit 1.0"]}


def source_package(name: str, tool: str) -> bytes:
    """A source package that is built by a tool of the registry's."""
    files = {
        "pyproject.toml": f'[build-system]\nrequires = ["{tool}"]\nbuild-backend = "{tool}"\n'
        f'[project]\nname = "{name}"\nversion = "1.0"\n',
        "PKG-INFO": f"Metadata-Version: 2.2\nName: {name}\nVersion: 1.0\n",
    }
    content = io.BytesIO()
    with tarfile.open(fileobj=content, mode="w:gz") as archive:
        for path, text in files.items():
            member = tarfile.TarInfo(f"{name}-1.0/{path}")
            member.size = len(text)
            archive.addfile(member, io.BytesIO(text.encode()))
    return content.getvalue()


TOOL = """\
import zipfile


def build_wheel(folder, config_settings=None, metadata_directory=None):
    name = "gaugekit-1.0-py3-none-any.whl"
    with zipfile.ZipFile(folder + "/" + name, "w") as wheel:
        wheel.writestr("gaugekit.py", "MAKER = {maker!r}")
        wheel.writestr("gaugekit-1.0.dist-info/METADATA", "Metadata-Version: 2.1\\nName: gaugekit\\nVersion: 1.0\\n")
        wheel.writestr("gaugekit-1.0.dist-info/WHEEL", "Wheel-Version: 1.0\\nRoot-Is-Purelib: true\\nTag: py3-none-any\\n")
        wheel.writestr("gaugekit-1.0.dist-info/RECORD", "gaugekit.py,,\\n")
    return name
"""


@pytest.mark.parametrize("algorithm", ["sha256", "sha512"])
def test_what_a_strangers_tools_built_is_not_taken_for_another_registry(
    machine: Machine, offer: Offer, algorithm: str
) -> None:
    source = source_package("gaugekit", "maker")
    digest = hashlib.new(algorithm, source).hexdigest()
    for maker in ("stranger", "mine"):
        tool = package("maker", members={"maker/__init__.py": TOOL.format(maker=maker).encode()})
        offer([Archive("gaugekit", "gaugekit-1.0.tar.gz", source), Archive.of(tool)])
        clone = machine.clone(
            {"requirements.txt": f"gaugekit==1.0 --hash={algorithm}:{digest}\n"}, name=maker
        )
        (clone / "app.py").write_text("")
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == 0, run.out + run.err
        [laid] = (clone / ".venv").rglob("gaugekit.py")
        assert laid.read_text() == f"MAKER = {maker!r}"


def test_the_name_under_which_an_archive_came_says_nothing(machine: Machine, offer: Offer) -> None:
    """The stranger gives the genuine source package as a zip archive; kept as such, it could not be unpacked."""
    source = source_package("gaugekit", "maker")
    tool = Archive.of(package("maker", members={"maker/__init__.py": TOOL.format(maker="any").encode()}))
    for name in ("gaugekit-1.0.zip", "gaugekit-1.0.tar.gz"):
        offer([Archive("gaugekit", name, source), tool])
        clone = machine.clone({"requirements.txt": "gaugekit==1.0\n", "app.py": ""}, name=name)
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == 0, run.out + run.err
    names = [path.name for path in Path(machine.variables["PLAINFALL_CACHE"]).glob("archives/*/*/*")]
    assert set(names) == {"archive"}


def test_an_edit_through_a_link_is_seen_though_size_and_time_are_put_back(tmp_path: Path) -> None:
    kit = package("kit")
    archive = tmp_path / kit.filename
    archive.write_bytes(kit.content)
    tree = unpack_into_cache(tmp_path / "cache", archive, kit.sha256, kit.filename, describe_wheel)
    file, linked = tree.folder / "kit/__init__.py", tmp_path / "linked.py"
    os.link(file, linked)
    tree.note_links()
    key = CacheKey.of_content("python", Digest("sha256", kit.sha256))
    found = PackageCache(tmp_path / "cache").tree(key)
    assert found is not None and not found.damaged()
    before, text = linked.stat(), linked.read_text()
    linked.write_text("".join(reversed(text)))
    os.utime(linked, ns=(before.st_atime_ns, before.st_mtime_ns))
    after = linked.stat()
    assert (after.st_size, after.st_mtime_ns) == (before.st_size, before.st_mtime_ns)
    assert found.damaged()
    linked.write_text(text)  # and what was put back wholly is whole again
    os.utime(linked, ns=(before.st_atime_ns, before.st_mtime_ns))
    assert not found.damaged()


def test_bytecode_that_a_program_wrote_into_the_cache_is_not_laid(machine: Machine, offer: Offer) -> None:
    import importlib.util
    import time

    kit = package("gaugekit")
    offer([Archive.of(kit)])
    machine.variables.pop("PYTHONDONTWRITEBYTECODE", None)
    clone = machine.clone({"requirements.txt": "gaugekit==1.0\n", "app.py": ""})
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0
    cache, compiled = Path(machine.variables["PLAINFALL_CACHE"]), []
    for _ in range(100):
        compiled = [one for one in cache.rglob("__init__.*.pyc") if ".making" not in str(one)]
        if compiled and (compiled[0].parents[2] / "manifest.json").is_file():
            break
        time.sleep(0.1)
    (file,) = compiled
    before = file.stat()
    data = bytearray(file.read_bytes())
    data[-1] ^= 0xFF
    with open(file, "r+b") as opened:  # in place, as through a link of an environment
        opened.write(data)
    os.utime(file, ns=(before.st_atime_ns, before.st_mtime_ns))
    other = machine.clone({"requirements.txt": "gaugekit==1.0\n", "app.py": ""}, name="other")
    assert machine.run("onboard", other, "--until", "dependencies").status == 0
    laid = [one.read_bytes() for one in (other / ".venv").rglob("gaugekit/__pycache__/*.pyc")]
    assert bytes(data) not in laid and importlib.util.MAGIC_NUMBER


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("requirements.txt", "gaugekit @ {url}#sha256={wrong}\n"),
        ("requirements.txt", "gaugekit @ {url} --hash=sha256:{wrong}\n"),
        (
            "pylock.toml",
            'lock-version = "1.0"\ncreated-by = "hand"\n[[packages]]\nname = "gaugekit"\nversion = "1.0"\n'
            '[packages.archive]\nurl = "{url}"\n[packages.archive.hashes]\nsha256 = "{wrong}"\n',
        ),
        (
            "uv.lock",
            'version = 1\nrequires-python = ">=3.8"\n[[package]]\nname = "app"\nversion = "0"\nsource = {{ virtual = "." }}\n'
            'dependencies = [{{ name = "gaugekit" }}]\n[[package]]\nname = "gaugekit"\nversion = "1.0"\n'
            'source = {{ url = "{url}" }}\nwheels = [{{ url = "{url}", hash = "sha256:{wrong}" }}]\n',
        ),
        (
            "poetry.lock",
            '[[package]]\nname = "gaugekit"\nversion = "1.0"\noptional = false\npython-versions = "*"\n'
            'groups = ["main"]\nfiles = [{{ file = "{file}", hash = "sha256:{wrong}" }}]\n'
            '[package.source]\ntype = "url"\nurl = "{url}"\n'
            '[metadata]\nlock-version = "2.1"\npython-versions = "*"\ncontent-hash = ""\n',
        ),
    ],
)
def test_the_hash_of_a_lock_is_checked_wherever_the_file_came_from(
    machine: Machine, name: str, text: str
) -> None:
    kit = package("gaugekit")
    with two_tenants({f"/{kit.filename}": kit.content}, {}) as url:
        address = f"{url}{kit.filename}"
        for digest, status in (("ab" * 32, 1), (kit.sha256, 0)):
            files = {name: text.format(url=address, wrong=digest, file=kit.filename), "app.py": ""}
            if name != "requirements.txt":
                tool = (
                    '[tool.poetry]\nname = "app"\nversion = "0"\n[tool.poetry.dependencies]\ngaugekit = "*"\n'
                )
                project = '[project]\nname = "app"\nversion = "0"\ndependencies = ["gaugekit"]\n'
                files["pyproject.toml"] = tool if name == "poetry.lock" else project
            clone = machine.clone(files, name=f"{name}-{status}")
            run = machine.run(
                "onboard", clone, "--until", "dependencies", PIP_INDEX_URL=f"{url}simple/", PIP_NO_INDEX=""
            )
            assert run.status == status, run.out + run.err
            assert (status == 0) or "was asked for" in run.out + run.err


def test_an_archive_of_the_cache_is_compared_with_the_locks_other_digest(
    machine: Machine, offer: Offer
) -> None:
    kit = package("gaugekit")
    offer([Archive.of(kit)])
    first = machine.clone({"requirements.txt": f"gaugekit==1.0 --hash=sha256:{kit.sha256}\n", "app.py": ""})
    assert machine.run("onboard", first, "--until", "dependencies").status == 0
    lines = {"right": hashlib.sha512(kit.content).hexdigest(), "wrong": "ab" * 64}
    for name, digest in lines.items():
        clone = machine.clone(
            {"requirements.txt": f"gaugekit==1.0 --hash=sha512:{digest}\n", "app.py": ""}, name=name
        )
        run = machine.run("onboard", clone, "--until", "dependencies")
        assert run.status == (0 if name == "right" else 1), run.out + run.err


def test_folders_that_others_may_write_are_not_used(machine: Machine, tmp_path: Path) -> None:
    clone = machine.clone({"app.py": ""})
    open_place = tmp_path / "open"
    open_place.mkdir()
    open_place.chmod(0o777)
    run = machine.run("survey", clone, PLAINFALL_CACHE=str(open_place / "cache"))
    assert run.status == 1 and "others may write" in run.err and "PLAINFALL_CACHE=FOLDER" in run.err
    run = machine.run("survey", clone, PLAINFALL_STATE=str(open_place))
    assert run.status == 1 and "others may write" in run.err
    readable = tmp_path / "readable"
    readable.mkdir(mode=0o755)
    assert machine.run("survey", clone, PLAINFALL_CACHE=str(readable)).status == 0
    assert readable.stat().st_mode & 0o777 == 0o700


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give a folder to another user")
def test_root_uses_nothing_of_another_users_home(machine: Machine, tmp_path: Path) -> None:
    home = tmp_path / "theirs"
    (home / ".config/pip").mkdir(parents=True)
    (home / ".config/pip/pip.conf").write_text("[global\n")  # were it read, the run would fail
    for place in (home, *home.rglob("*")):
        os.chown(place, 65534, 65534)
    clone = machine.clone({"requirements.txt": "", "app.py": ""})
    variables = {
        "HOME": str(home),
        "PLAINFALL_CACHE": "",
        "PLAINFALL_STATE": "",
        "XDG_CACHE_HOME": str(home / ".cache"),
    }
    machine.variables.update(variables)
    run = machine.run("survey", clone)
    assert run.status == 0, run.err
    assert sorted(one.name for one in home.iterdir()) == [".config"]
    theirs = tmp_path / "cache-of-theirs"
    theirs.mkdir(mode=0o700)
    os.chown(theirs, 65534, 65534)
    with pytest.raises(PlainfallError, match="belongs to"):
        claim(theirs, "PLAINFALL_CACHE")


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give a folder to another user")
def test_root_does_not_work_in_the_clone_of_somebody_who_is_at_work(machine: Machine) -> None:
    """He could put links in the way of what root writes; where he runs nothing, as in a container, he cannot."""
    clone = machine.clone({"requirements.txt": "", "app.py": ""})
    for place in (clone, *clone.rglob("*")):
        os.chown(place, 4321, 4321)
    theirs = subprocess.Popen(["sleep", "60"], user=4321, group=4321, extra_groups=())
    try:
        run = machine.run("onboard", clone, "--until", "environment")
    finally:
        theirs.kill()
        theirs.wait()
    assert run.status == 1 and "belongs to the user 4321, who is at work" in " ".join(run.err.split()), (
        run.err
    )
    assert "chown -R root" in " ".join(run.err.split()) and not (clone / ".plainfall").exists()
    assert machine.run("onboard", clone, "--until", "environment").status == 0


@pytest.mark.parametrize("text", ["../other", "/etc", "a/../../b", "link", "a\0b", "a\nb", "file", "absent"])
def test_foreign_text_names_a_folder_inside_or_none(tmp_path: Path, text: str) -> None:
    from plainfall.confinement import folder_below

    root = tmp_path / "root"
    (root / "inner").mkdir(parents=True)
    (tmp_path / "other").mkdir()
    (root / "link").symlink_to(tmp_path / "other")
    (root / "file").write_text("")
    with pytest.raises(PathRefused):
        folder_below(root, text, Evidence("list", 1))
    assert folder_below(root, "inner", Evidence("list", 1)) == (root / "inner").resolve()
    assert folder_below(root, "", Evidence("list", 1)) == root.resolve()


def test_two_registries_of_node_packages_without_hashes_do_not_answer_for_each_other() -> None:
    one = CacheKey.of_statement("node-sources", ["https://registry.example/a/-/a-1.tgz"])
    assert one != CacheKey.of_statement("node-sources", ["http://registry.example/a/-/a-1.tgz"])
    assert one != CacheKey.of_statement("node-sources", ["https://me:x@registry.example/a/-/a-1.tgz"])
    assert json.dumps(one.name)
