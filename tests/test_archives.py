"""Archives are foreign input: names, clashes, bombs, damage; and what is written is what they hold."""

from __future__ import annotations

import io
import stat
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path, PurePosixPath

import pytest
from conftest import package
from hypothesis import given
from hypothesis import strategies as st

from plainfall.ecosystems.python.install.wheel import describe_wheel
from plainfall.errors import ArchiveRefused, DiskFull, disk_full_explained
from plainfall.packages.cache import CachedTree, PackageCache, make_tree, unpack_into_cache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.digests import Digest
from plainfall.packages.paths import check_no_clashes, member_path
from plainfall.packages.placing import Folders, Placement, place_files
from plainfall.packages.unpacking import Unpacked, unpack_zip
from plainfall.standins.building import Built

NAMES = st.text(st.sampled_from("ab./\\:~ \0\nC"), max_size=12)


@given(NAMES)
def test_a_name_is_refused_or_stays_inside(name: str) -> None:
    try:
        safe = member_path(name, "kit.zip")
    except ArchiveRefused:
        return
    path = PurePosixPath("/place") / safe
    assert not path.is_absolute() or str(path).startswith("/place/")
    assert ".." not in path.parts and "\0" not in safe and "\\" not in safe


@pytest.mark.parametrize("name", ["a/b.py", "a//b.py", "./a/b.py", "…/b.py", "a.b/..c/d"])
def test_ordinary_names_are_kept(name: str) -> None:
    assert member_path(name, "kit.zip") == name.replace("//", "/").removeprefix("./")


@pytest.mark.parametrize("names", [["a.py", "A.py"], ["a", "a/b.py"], ["x/y", "X/y"], ["a/b", "A"]])
def test_names_that_clash_are_refused(names: list[str]) -> None:
    with pytest.raises(ArchiveRefused):
        check_no_clashes(names, "kit.zip", tells_case=False)


@pytest.mark.parametrize(
    ("names", "is_good"), [(["a.md", "A.md"], True), (["a", "a"], False), (["a/b", "a"], False)]
)
def test_names_that_differ_by_case_alone_are_good_where_disks_tell_them_apart(
    names: list[str], is_good: bool
) -> None:
    try:
        check_no_clashes(names, "kit.zip", tells_case=True)
    except ArchiveRefused:
        assert not is_good
    else:
        assert is_good


def zipped(members: dict[str, bytes], *, mode: int = 0o100644, kind: int = zipfile.ZIP_DEFLATED) -> bytes:
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w") as archive:
        for name, data in members.items():
            info = zipfile.ZipInfo(name)
            info.external_attr = mode << 16
            info.compress_type = kind
            archive.writestr(info, data)
    return content.getvalue()


def unpack(folder: Path, content: bytes) -> dict[str, bytes]:
    archive = folder / "kit.zip"
    archive.write_bytes(content)
    out = folder / "out"
    out.mkdir()
    written = unpack_zip(archive, out)
    assert {file.path for file in written} == {
        p.relative_to(out).as_posix() for p in out.rglob("*") if p.is_file()
    }
    return {file.path: (out / file.path).read_bytes() for file in written}


@given(
    st.dictionaries(
        st.from_regex(r"[a-z]{1,3}(/[a-z]{4,6}\.py)", fullmatch=True), st.binary(max_size=400), max_size=6
    )
)
def test_what_is_zipped_is_unpacked(members: dict[str, bytes]) -> None:
    import tempfile

    for kind in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED, zipfile.ZIP_BZIP2):
        with tempfile.TemporaryDirectory() as name:
            assert unpack(Path(name), zipped(members, kind=kind)) == members


def test_the_executable_bit_is_kept(tmp_path: Path) -> None:
    unpack(tmp_path, zipped({"run": b"#!/bin/sh\n"}, mode=0o100755))
    assert stat.S_IMODE((tmp_path / "out/run").stat().st_mode) & 0o111


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (zipped({"link": b"/etc/passwd"}, mode=0o120777), "a link or a device"),
        (lambda: zipped({"big": bytes(90_000_000)}), "a size bomb"),
        (zipped({"a.py": b"x" * 1000})[:-40], "is damaged"),
        (zipped({"a.py": b"x" * 1000}).replace(b"PK\x03\x04", b"PK\x03\x05", 1), "is damaged"),
        (b"not an archive at all", "is damaged"),
        (zipped({"a.py": b"y" * 50}, kind=zipfile.ZIP_STORED).replace(b"yyy", b"yyz", 1), "checksum"),
    ],
)
def test_hostile_and_damaged_archives_are_refused(
    tmp_path: Path, content: bytes | Callable[[], bytes], said: str
) -> None:
    with pytest.raises(ArchiveRefused) as caught:
        unpack(tmp_path, content() if callable(content) else content)
    assert said in str(caught.value)


@pytest.mark.parametrize(
    ("member", "text", "said"),
    [
        ("kit-1.0.dist-info/WHEEL", b"Wheel-Version: 2.0\n", "wheel version 2.0"),
        ("other-1.0.dist-info/METADATA", b"", "2 .dist-info folders"),
        ("kit-1.0.data/elsewhere/x", b"", "unknown place 'elsewhere'"),
        ("kit-1.0.dist-info/entry_points.txt", b"[console_scripts]\n../x = kit:main\n", "not valid"),
        ("kit-1.0.dist-info/entry_points.txt", b"[console_scripts\n", "cannot be read"),
    ],
)
def test_wheels_that_break_their_specification_are_refused(
    tmp_path: Path, member: str, text: bytes, said: str
) -> None:
    kit = package("kit")
    with zipfile.ZipFile(io.BytesIO(kit.content)) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    archive_file = tmp_path / "kit-1.0-py3-none-any.whl"
    archive_file.write_bytes(zipped({**members, member: text}))
    with pytest.raises(ArchiveRefused) as caught:
        unpack_into_cache(tmp_path / "cache", archive_file, "0" * 64, archive_file.name, describe_wheel)
    assert said in str(caught.value)
    assert not list((tmp_path / "cache/trees/00").iterdir())


def key_of(kit: Built) -> CacheKey:
    return CacheKey.of_content("python", Digest("sha256", kit.sha256))


def test_a_tree_of_the_cache_that_was_changed_is_noticed(tmp_path: Path) -> None:
    kit = package("kit")
    archive = tmp_path / kit.filename
    archive.write_bytes(kit.content)
    tree = unpack_into_cache(tmp_path / "cache", archive, kit.sha256, kit.filename, describe_wheel)
    assert not tree.damaged()
    found = PackageCache(tmp_path / "cache").tree(key_of(kit))
    assert found is not None and found.facts["name"] == "kit" and not found.damaged()
    (tree.folder / "kit/__init__.py").write_text("changed")
    assert found.damaged()
    again = unpack_into_cache(tmp_path / "cache", archive, kit.sha256, kit.filename, describe_wheel)
    assert not again.damaged() and "VERSION" in (again.folder / "kit/__init__.py").read_text()


def test_of_two_that_unpack_the_same_archive_the_faster_ones_tree_stays(tmp_path: Path) -> None:
    """The other may be linking from it already."""
    kit = package("kit")
    archive, cache = tmp_path / kit.filename, tmp_path / "cache"
    archive.write_bytes(kit.content)

    def slower(folder: Path) -> list[Unpacked]:
        files = unpack_zip(archive, folder)
        faster.append(unpack_into_cache(cache, archive, kit.sha256, kit.filename, describe_wheel))
        return files

    faster: list[CachedTree] = []
    tree = make_tree(cache, key_of(kit), kit.filename, slower, describe_wheel)
    assert tree == faster[0] and not tree.damaged()
    assert [entry.name for entry in PackageCache(cache).tree_folder(key_of(kit)).parent.iterdir()] == [
        kit.sha256
    ]

    def after_it_was_damaged(folder: Path) -> list[Unpacked]:
        (tree.folder / "kit/__init__.py").write_text("changed")
        return unpack_zip(archive, folder)

    whole = make_tree(cache, key_of(kit), kit.filename, after_it_was_damaged, describe_wheel)
    assert not whole.damaged() and tree.damaged()
    assert [entry.name for entry in PackageCache(cache).tree_folder(key_of(kit)).parent.iterdir()] == [
        kit.sha256
    ]


def test_a_tree_that_many_processes_make_at_once_never_goes_away(tmp_path: Path) -> None:
    kit = package("kit")
    archive, cache = tmp_path / kit.filename, tmp_path / "cache"
    archive.write_bytes(kit.content)
    program = (
        "import os, sys\nfrom pathlib import Path\n"
        "from plainfall.ecosystems.python.install.wheel import describe_wheel\n"
        "from plainfall.packages.cache import unpack_into_cache\n"
        "cache, archive, digest, mine = Path(sys.argv[1]), Path(sys.argv[2]), sys.argv[3], sys.argv[4]\n"
        "for number in range(40):\n"
        "    tree = unpack_into_cache(cache, archive, digest, 'kit', describe_wheel)\n"
        "    for file in tree.files:\n"
        "        os.link(tree.folder / file.path, f'{mine}-{number}-' + file.path.replace('/', '-'))\n"
    )
    words = [sys.executable, "-c", program, str(cache), str(archive), kit.sha256]
    running = [
        subprocess.Popen([*words, str(tmp_path / f"linked-{one}")], stderr=subprocess.PIPE)
        for one in range(4)
    ]
    ended = [(process.communicate()[1], process.returncode) for process in running]
    assert ended == [(b"", 0)] * 4


def test_files_are_copied_where_links_cannot_be(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    import errno
    import os

    def refuse(source: str, target: str) -> None:
        raise OSError(errno.EXDEV, "another device")

    monkeypatch.setattr(os, "link", refuse)
    (tmp_path / "a").write_text("rain")
    placement = Placement(str(tmp_path / "a"), str(tmp_path / "deep/er/b"))
    assert place_files([placement], Folders(tmp_path)) is False
    assert (tmp_path / "deep/er/b").read_text() == "rain"
    (tmp_path / "a").write_text("sun")
    place_files([placement], Folders(tmp_path))
    assert (tmp_path / "deep/er/b").read_text() == "sun"


def test_only_a_full_disk_is_called_one() -> None:
    import errno

    with pytest.raises(DiskFull), disk_full_explained("writing"):
        raise OSError(errno.ENOSPC, "no space", "/x")
    with pytest.raises(PermissionError), disk_full_explained("writing"):
        raise OSError(errno.EACCES, "no", "/x")
