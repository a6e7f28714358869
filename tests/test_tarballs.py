"""Gzipped tar archives: read as the standard library writes them, refused where they are hostile or damaged."""

from __future__ import annotations

import gzip
import io
import os
import tarfile
import tempfile
from pathlib import Path

import pytest
from hostile import gzip_bomb
from hypothesis import given
from hypothesis import strategies as st

from plainfall.errors import ArchiveRefused
from plainfall.packages.tarballs import unpack_tarball

PIECE = st.from_regex(r"[a-z0-9_][a-z0-9_.-]{0,60}[a-z0-9]", fullmatch=True)
FILES = st.dictionaries(
    st.lists(PIECE, min_size=1, max_size=4).map("/".join), st.binary(max_size=2000), max_size=6
)


def packed(files: dict[str, bytes], form: int, mode: int = 0o644, top: str = "package/") -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w", format=form) as archive:
        for name, content in files.items():
            info = tarfile.TarInfo(top + name)
            info.size, info.mode = len(content), mode
            archive.addfile(info, io.BytesIO(content))
    return gzip.compress(made.getvalue())


@given(FILES, st.sampled_from([tarfile.PAX_FORMAT, tarfile.GNU_FORMAT]))
def test_what_is_packed_is_unpacked(files: dict[str, bytes], form: int) -> None:
    names = {name.casefold() for name in files}
    folders = {name[:place] for name in names for place, letter in enumerate(name) if letter == "/"}
    if len(names) < len(files) or names & folders:
        return  # names that clash are refused, which other tests show
    with tempfile.TemporaryDirectory() as place:
        listed = unpack_tarball(packed(files, form), Path(place), "x.tgz")
        assert {one.path: (Path(place) / one.path).read_bytes() for one in listed} == files
        assert all(one.size == len(files[one.path]) for one in listed)


@pytest.mark.parametrize(
    ("mode", "result"), [(0o644, 0o644), (0o755, 0o755), (0o600, 0o644), (0o744, 0o744), (0o4755, 0o755)]
)
def test_modes_keep_their_bits_for_running(tmp_path: Path, mode: int, result: int) -> None:
    before = os.umask(0o022)
    try:
        [one] = unpack_tarball(packed({"a": b"1"}, tarfile.GNU_FORMAT, mode), tmp_path, "x.tgz")
    finally:
        os.umask(before)
    assert one.mode == result


def linked(name: str, target: str, kind: bytes) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w") as archive:
        info = tarfile.TarInfo(f"package/{name}")
        info.type, info.linkname = kind, target
        archive.addfile(info)
    return gzip.compress(made.getvalue())


@pytest.mark.parametrize(
    ("content", "said"),
    [
        (linked("a", "/etc/passwd", tarfile.SYMTYPE), "leads out of the package"),
        (linked("a/b", "../../x", tarfile.SYMTYPE), "leads out of the package"),
        (linked("a", "package/../../x", tarfile.LNKTYPE), "leads out of the package"),
        (linked("a", "", tarfile.CHRTYPE), "a device"),
        (packed({"a": b"1", "a/b": b"2"}, tarfile.GNU_FORMAT), "both as a file and as a folder"),
        (packed({"a": b"1"}, tarfile.GNU_FORMAT, top="/"), "outside its folder"),
        (packed({"../a": b"1"}, tarfile.GNU_FORMAT), "outside its folder"),
        (packed({"a": b"1" * 5000}, tarfile.GNU_FORMAT)[:-40], "damaged"),
        (gzip.compress(b"x" * 1024), "damaged"),
        (gzip_bomb(160), "size bomb"),
    ],
    ids=[
        "linked folder", "link out", "hard link out", "device", "file and folder", "rooted", "above",
        "cut", "no tar", "bomb",
    ],
)  # fmt: skip
def test_hostile_and_damaged_archives_are_refused(tmp_path: Path, content: bytes, said: str) -> None:
    with pytest.raises(ArchiveRefused) as caught:
        unpack_tarball(content, tmp_path, "sour.tgz")
    assert said in caught.value.cause and "sour.tgz" in caught.value.cause
    assert not (tmp_path.parent / "x").exists()


def test_a_link_that_stays_inside_is_passed_over(tmp_path: Path) -> None:
    assert unpack_tarball(linked("a/b", "../c", tarfile.SYMTYPE), tmp_path, "x.tgz") == []


@pytest.mark.parametrize(
    ("names", "laid"),
    [
        ({".gitignore": b"a", "x.js": b""}, {".npmignore": b"a", "x.js": b""}),
        ({"lib/.gitignore": b"a", ".npmignore": b"b"}, {"lib/.npmignore": b"a", ".npmignore": b"b"}),
        ({".gitignore": b"a", ".npmignore": b"b"}, {".npmignore": b"b"}),
        ({".npmignore": b"b", ".gitignore": b"a"}, {".npmignore": b"b"}),
        ({"my.gitignore": b"a"}, {"my.gitignore": b"a"}),
    ],
)
def test_ignore_files_get_the_names_that_npm_gives_them(
    tmp_path: Path, names: dict[str, bytes], laid: dict[str, bytes]
) -> None:
    unpack_tarball(packed(names, tarfile.GNU_FORMAT), tmp_path, "x.tgz")
    found = {
        path.relative_to(tmp_path).as_posix(): path.read_bytes()
        for path in tmp_path.rglob("*")
        if path.is_file()
    }
    assert found == laid
