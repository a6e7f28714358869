"""What comes over the network has limits, and nothing of the person's goes to a host that it is not for."""

from __future__ import annotations

import base64
import gzip
import json
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler
from pathlib import Path
from typing import Any

import pytest
from conftest import Machine, package
from hostile import Outside, gzip_bomb, outside
from node_clones import lock, package_json
from rogue import rogue

from plainfall.ecosystems.python.resolve.simple import parse_page
from plainfall.errors import ArchiveRefused, RegistryProblem
from plainfall.packages.answers import Limits
from plainfall.packages.cache import PackageCache
from plainfall.packages.cache_key import CacheKey
from plainfall.packages.client import Connection, RegistryClient
from plainfall.packages.digests import Digest
from plainfall.packages.tarballs import unpack_tarball
from plainfall.standins.node_registry import node_archive, tarball

__all__ = ["outside"]
pytestmark = pytest.mark.hostile
JSON = "application/vnd.pypi.simple.v1+json"
SECRET = "river-token-4411"
BELL = node_archive("@rain/bell", "1.0.0")


def send(handler: BaseHTTPRequestHandler, body: bytes, media: str = JSON, **headers: str) -> None:
    handler.send_response(200)
    handler.send_header("Content-Type", media)
    for name, value in headers.items():
        handler.send_header(name.replace("_", "-"), value)
    if "Transfer_Encoding" not in headers and "Content_Length" not in headers:
        handler.send_header("Content-Length", str(len(body)))
    handler.end_headers()
    handler.wfile.write(body)


def page(*rows: dict[str, Any]) -> bytes:
    return json.dumps({"meta": {"api-version": "1.1"}, "name": "gaugekit", "files": list(rows)}).encode()


@pytest.mark.parametrize(
    "digest", ["/./{outside}", "../../../../outside", "a/../../outside", "", "AB" * 32 + "/..", "٣" * 64]
)
def test_a_digest_that_is_a_path_is_refused(machine: Machine, outside: Outside, digest: str) -> None:
    text = digest.format(outside=outside.folder)
    row = {"filename": "gaugekit-1.0-py3-none-any.whl", "url": "k.whl", "hashes": {"sha256": text}}
    with rogue(lambda handler: send(handler, page(row))) as server:
        clone = machine.clone({"requirements.txt": "gaugekit==1.0\n", "app.py": ""})
        run = machine.run(
            "onboard", clone, "--until", "dependencies", PIP_INDEX_URL=f"{server.url}simple/", PIP_NO_INDEX=""
        )
    assert run.status == 1 and "no sha256 digest" in " ".join(run.err.split())


@pytest.mark.parametrize("key", ["../../outside", "/outside", "ab", "zz" * 32, "ab" * 32 + "\n", ""])
def test_nothing_but_a_digest_is_a_place_in_the_cache(tmp_path: Path, key: str) -> None:
    cache = PackageCache(tmp_path)
    for look in (cache.archive_place, cache.archive):
        with pytest.raises(ArchiveRefused):
            look(key)
    with pytest.raises(ArchiveRefused):
        CacheKey.recorded("python", key)
    with pytest.raises(ValueError, match="digest"):
        Digest("sha256", key)
    for kind in ("../x", ".hidden", "", "a/b", "a\0b", "x" * 300):
        with pytest.raises(ArchiveRefused):
            CacheKey.recorded(kind, "ab" * 32)


@pytest.mark.parametrize(
    "name", ["../../outside/x-1.0-py3-none-any.whl", "/x.whl", "a\\b.whl", 'a"b.whl', ".whl", ""]
)
def test_an_archive_with_a_name_that_is_a_path_is_refused(name: str) -> None:
    with pytest.raises(RegistryProblem):
        parse_page(page({"filename": name, "url": "x.whl", "hashes": {}}), JSON, "http://registry.example/x/")


def test_archives_of_this_disk_do_not_come_from_a_server() -> None:
    rows: list[dict[str, Any]] = [
        {"filename": "k-1.0.tar.gz", "url": url, "hashes": {}}
        for url in ("file:///dev/zero", "ftp://x/k", "k.tar.gz")
    ]
    found = parse_page(page(*rows), JSON, "http://registry.example/k/")
    assert [file.url for file in found] == ["http://registry.example/k/k.tar.gz"]
    html = b'<base href="file:///etc/"><a href="k-1.0.tar.gz">k</a>'
    assert parse_page(html, "text/html", "http://registry.example/k/") == []


def test_a_device_in_the_list_is_no_archive(machine: Machine) -> None:
    for line in ("file:///dev/zero", "kit @ file:///dev/zero", "./pipe-1.0.tar.gz"):
        clone = machine.clone({"requirements.txt": f"{line}\n", "app.py": ""}, f"clone{len(line)}")
        if line.startswith("./"):
            import os

            os.mkfifo(clone / "pipe-1.0.tar.gz")
        run = machine.run("onboard", clone, "--until", "dependencies", timeout=20)
        assert run.status == 1 and "Traceback" not in run.err, run.err


def endless(handler: BaseHTTPRequestHandler) -> None:
    handler.send_response(200)
    handler.send_header("Content-Type", JSON)
    handler.send_header("Transfer-Encoding", "chunked")
    handler.end_headers()
    piece = b"10000\r\n" + b" " * 65536 + b"\r\n"
    while True:
        handler.wfile.write(piece)


def trickle(handler: BaseHTTPRequestHandler) -> None:
    handler.send_response(200)
    handler.send_header("Content-Type", JSON)
    handler.send_header("Content-Length", "1000000")
    handler.end_headers()
    for _ in range(200):
        handler.wfile.write(b" ")
        time.sleep(0.1)


def slow_head(handler: BaseHTTPRequestHandler) -> None:
    for number in range(200):
        handler.wfile.write(b"HTTP/1.1 200 OK\r\n" if number == 0 else b"X: y\r\n")
        time.sleep(0.1)


def bomb(handler: BaseHTTPRequestHandler) -> None:
    send(handler, gzip_bomb(100, b" "), Content_Encoding="gzip")


def twice_packed(handler: BaseHTTPRequestHandler) -> None:
    send(handler, gzip.compress(gzip.compress(page())), Content_Encoding="gzip, gzip")


def around(handler: BaseHTTPRequestHandler) -> None:
    handler.send_response(302)
    handler.send_header("Location", handler.path + "x/")
    handler.send_header("Content-Length", "0")
    handler.end_headers()


SMALL = Limits(page=1_000_000, archive=2_000_000, seconds=1.5, stall=1.0, retry_after=0.2)


@pytest.mark.parametrize(
    ("answering", "words"),
    [
        (endless, "more than"),
        (trickle, "too slowly"),
        (slow_head, "too slowly"),
        (bomb, "more than"),
        (twice_packed, "was not asked for"),
        (around, "redirect"),
    ],
)
def test_an_answer_that_has_no_end_is_given_up(answering: Callable[..., None], words: str) -> None:
    with rogue(answering) as server:
        client = RegistryClient(Connection(timeout=5, retries=0, limits=SMALL), {})
        start = time.monotonic()
        with pytest.raises(RegistryProblem, match=words):
            client.page(f"{server.url}simple/")
        client.close()
        assert time.monotonic() - start < 5


@pytest.mark.parametrize("answering", [endless, trickle])
def test_an_archive_that_has_no_end_is_given_up(tmp_path: Path, answering: Callable[..., None]) -> None:
    with rogue(answering) as server:
        client = RegistryClient(Connection(timeout=5, retries=0, limits=SMALL), {})
        start = time.monotonic()
        with pytest.raises(RegistryProblem):
            client.download(f"{server.url}x.whl", tmp_path / "partial", {}, lambda count: None)
        client.close()
        assert time.monotonic() - start < 5 and (tmp_path / "partial").stat().st_size < 3_000_000


@pytest.mark.parametrize("tags", [("x", "x"), ("x", "y"), (None, None)])
def test_a_download_goes_on_only_where_the_server_says_that_the_file_is_the_same(
    tmp_path: Path, tags: tuple[str | None, str | None]
) -> None:
    """The second answer is that of a server that has the same file, another one, or does not say."""
    asked: list[str] = []

    def answering(handler: BaseHTTPRequestHandler) -> None:
        tag = tags[len(asked) > 0]
        span, same = handler.headers.get("Range", ""), handler.headers.get("If-Range", "")
        asked.append(span)
        first, body = (
            len(asked) == 1,
            b"second version" if tags[1] == "y" and len(asked) > 1 else b"first version!",
        )
        rest = body[6:] if span and same == f'"{tag}"' else body
        handler.send_response(206 if rest != body else 200)
        handler.send_header("Content-Length", str(len(rest)))
        if tag is not None:
            handler.send_header("ETag", f'"{tag}"')
        handler.end_headers()
        handler.wfile.write(rest[:6] if first else rest)

    with rogue(answering) as server:
        client = RegistryClient(Connection(timeout=5, retries=1), {})
        partial = tmp_path / "partial"
        client.download(f"{server.url}x.whl", partial, {}, lambda count: None)
        client.close()
        assert partial.read_bytes() == (b"second version" if tags[1] == "y" else b"first version!")
        assert asked == ["", "bytes=6-" if tags[0] else ""]
        assert [path.name for path in tmp_path.iterdir()] == ["partial"]


def test_a_wish_to_wait_is_cut_and_told() -> None:
    told: list[str] = []

    def busy(handler: BaseHTTPRequestHandler) -> None:
        if len(server.asked) < 2:
            handler.send_response(503)
            handler.send_header("Retry-After", "100000")
            handler.send_header("Content-Length", "0")
            handler.end_headers()
        else:
            send(handler, page())

    with rogue(busy) as server:
        limits = Limits(retry_after=1.2)
        client = RegistryClient(Connection(retries=2, limits=limits), {}, tell=told.append)
        start = time.monotonic()
        assert client.page(server.url) is not None
        client.close()
    assert 1 < time.monotonic() - start < 4
    assert told == ["the registry asks to wait 1 s (it asked for 100,000 s)"]


def member(name: bytes, size: bytes, kind: bytes = b"0", body: bytes = b"") -> bytes:
    header = bytearray(512)
    header[: len(name)] = name
    header[100:108] = b"0000644\0"
    header[124:136] = size.ljust(12, b"\0")[:12]
    header[148:156] = b"        "
    header[156:157] = kind
    header[257:263] = b"ustar\0"
    header[148:156] = b"%06o\0 " % sum(header)
    return bytes(header) + body.ljust((len(body) + 511) // 512 * 512, b"\0")


@pytest.mark.parametrize(
    "content",
    [
        member(b"package/a.js", b"-0000001000"),
        member(b"package/a.js", b"+0000001000"),
        member(b"package/a.js", b"0x10"),
        member(b"package/x", b"00000000014", b"x", b"12 size=\xc2\xb2\n") + member(b"package/a.js", b"0"),
        member(b"package/x", b"00000000040", b"x", b"32 size=99999999999999999999999\n")
        + member(b"package/a.js", b"0"),
        member(b"package/" + b"d/" * 45 + b"a", b"0")
        + member(b"package/x", b"00000007000", b"L", b"d/" * 1790),
        member(b"package/x", b"77777777777", b"L"),
    ],
)
def test_numbers_and_names_in_a_tar_that_are_none_are_refused(tmp_path: Path, content: bytes) -> None:
    start = time.monotonic()
    with pytest.raises(ArchiveRefused):
        unpack_tarball(
            gzip.compress(content + member(b"package/" + b"d/" * 40 + b"a", b"-1")), tmp_path, "bell.tgz"
        )
    assert time.monotonic() - start < 2


def test_a_tar_of_zeros_without_end_is_a_bomb_and_takes_no_memory(tmp_path: Path) -> None:
    import resource

    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with pytest.raises(ArchiveRefused, match="bomb"):
        unpack_tarball(gzip_bomb(400), tmp_path, "bell.tgz")
    assert (
        resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 700_000
    )  # kB; the test's own bytes too


def npm(machine: Machine, name: str, rc: str, **variables: str) -> Any:
    clone = machine.clone(
        {".npmrc": rc, "package.json": package_json([BELL]), "package-lock.json": lock([BELL])}, name
    )
    machine.variables |= variables
    return machine.run("onboard", clone, "--until", "dependencies")


def archives(handler: BaseHTTPRequestHandler) -> None:
    send(handler, BELL.content, "application/octet-stream")


@pytest.mark.parametrize(
    "rc",
    [
        "registry={url}${{AWS_SECRET_ACCESS_KEY}}/\n",
        "//127.0.0.1:{port}/:_authToken=${{AWS_SECRET_ACCESS_KEY}}\nregistry={url}\n",
        "@rain:registry={url}?x=${{AWS_SECRET_ACCESS_KEY}}\n",
        "//127.0.0.1:{port}/:_auth=${{AWS_SECRET_ACCESS_KEY}}\nregistry={url}\n",
    ],
)
@pytest.mark.needs("node")
def test_a_clones_rc_file_gets_none_of_the_persons_variables(
    machine: Machine, node_registry: Any, rc: str
) -> None:
    node_registry([])
    machine.variables.pop("npm_config_registry")
    with rogue(archives) as server:
        text = rc.format(url=server.url, port=server.port)
        (machine.home / ".npmrc").write_text(f"registry={server.url}\n")
        run = npm(machine, "gauges", text, AWS_SECRET_ACCESS_KEY=SECRET)
        seen = json.dumps(server.asked) + base64.b64encode(json.dumps(server.asked).encode()).decode()
        assert server.asked and SECRET not in seen
        assert "--allow-registry 127.0.0.1" in " ".join(run.err.split()), run.err


@pytest.mark.needs("node")
def test_a_clones_rc_file_chooses_no_proxy_certificate_or_trust(machine: Machine, node_registry: Any) -> None:
    node_registry([BELL])
    port = machine.variables["npm_config_registry"].split(":")[2].strip("/")
    (machine.home / ".npmrc").write_text(f"//127.0.0.1:{port}/:_authToken={SECRET}\n")
    with rogue(archives) as server:
        rc = f"proxy={server.url}\nhttps-proxy={server.url}\ncafile=/dev/zero\nstrict-ssl=false\nuserconfig=/x\n"
        run = npm(machine, "gauges", rc)
        assert run.status == 0, run.err
        assert server.asked == []
        assert "counts only in your own configuration" in " ".join(run.err.split())


@pytest.mark.needs("node")
def test_a_token_of_the_persons_goes_to_its_own_host_alone(machine: Machine, node_registry: Any) -> None:
    node_registry([])
    machine.variables.pop("npm_config_registry")
    with rogue(archives) as mine, rogue(archives) as other:
        (machine.home / ".npmrc").write_text(
            f"registry={mine.url}\n//127.0.0.1:{mine.port}/:_authToken={SECRET}\n"
        )
        (machine.home / ".netrc").write_text(f"default login mira password {SECRET}\n")
        run = npm(machine, "gauges", f"@rain:registry={other.url}\n")
        assert run.status == 0, run.err
        assert other.asked and all(SECRET not in header for _, header in other.asked)
        assert all("Basic" not in header for _, header in other.asked)


@pytest.mark.parametrize("scheme", ["http", "https"])
def test_a_login_goes_in_the_clear_only_where_the_persons_own_configuration_says_so(scheme: str) -> None:
    from plainfall.packages.logins import Logins

    logins = Logins({"//registry.example/": "Bearer x"}, frozenset(), {})
    assert logins.of(f"{scheme}://registry.example/a")[1] == ("Bearer x" if scheme == "https" else None)
    assert Logins({"//registry.example/": "Bearer x"}, frozenset({"registry.example"}), {}).of(
        "http://registry.example/a"
    )[1]


def test_a_list_gets_a_variable_only_with_the_persons_word_for_that_host(
    machine: Machine, offer: Callable[..., Any]
) -> None:
    from plainfall.standins.registry import Archive

    registry = offer([Archive.of(package())])
    registry.faults.user = "Basic " + base64.b64encode(f"mira:{SECRET}".encode()).decode()
    index = registry.url.replace("http://", "http://mira:${RAIN_PASS}@")
    clone = machine.clone({"requirements.txt": f"--index-url {index}\ngaugekit\n", "app.py": ""})
    machine.variables |= {"RAIN_PASS": SECRET}
    refused = machine.run("onboard", clone, "--until", "dependencies")
    words = " ".join(refused.err.split())
    assert refused.status == 3 and "your variable RAIN_PASS to 127.0.0.1" in words
    assert "--allow-registry 127.0.0.1" in words and registry.faults.asked == []
    other = machine.run("onboard", clone, "--until", "dependencies", "--allow-registry", "other.example")
    assert other.status == 3 and registry.faults.asked == []
    assert (
        machine.run("onboard", clone, "--until", "dependencies", "--allow-registry", "127.0.0.1").status == 0
    )
    (clone / "requirements.txt").write_text(f"--index-url {index}\ngaugekit>=1\n")
    assert machine.run("onboard", clone, "--until", "dependencies").status == 0  # remembered for this clone
    second = machine.clone({"requirements.txt": f"--index-url {index}\ngaugekit\n", "app.py": ""}, "second")
    assert machine.run("onboard", second, "--until", "dependencies").status == 3  # and for no other


@pytest.mark.parametrize("answer", ["yes", ""])
def test_on_a_terminal_the_person_is_asked_once(
    machine: Machine, offer: Callable[..., Any], answer: str
) -> None:
    import sys

    import pexpect

    from plainfall.standins.registry import Archive

    registry = offer([Archive.of(package())])
    registry.faults.user = "Basic " + base64.b64encode(f"mira:{SECRET}".encode()).decode()
    index = registry.url.replace("http://", "http://mira:${RAIN_PASS}@")
    clone = machine.clone({"requirements.txt": f"--index-url {index}\ngaugekit\n", "app.py": ""})
    machine.variables |= {"RAIN_PASS": SECRET, "TERM": "dumb"}
    words = ["-m", "plainfall", "onboard", str(clone), "--until", "dependencies"]
    child = pexpect.spawn(sys.executable, words, env=machine.variables, timeout=20, encoding="utf-8")
    child.expect("May the registry .* have your login")
    child.expect("wants to send RAIN_PASS there")
    child.expect("yes or no")
    child.sendline(answer)
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == (0 if answer else 3)
    again = machine.run("onboard", clone, "--until", "dependencies")
    assert again.status == (0 if answer else 3)


def test_a_list_trusts_no_host(machine: Machine) -> None:
    import sys

    from plainfall.ecosystems.python.clients.configuration import read_sources
    from plainfall.ecosystems.python.lists.requirements import parse_requirements
    from plainfall.ecosystems.python.runtime.interpreters import interpreter_at
    from plainfall.surroundings import Surroundings

    listed = parse_requirements("--trusted-host registry.example\n--index-url https://registry.example/\n")
    surroundings = Surroundings({}, machine.home, machine.home, machine.home / "c", machine.home / "s")
    sources = read_sources(surroundings, interpreter_at(Path(sys.executable)), listed.options)
    assert "registry.example" not in sources.connection.trusted_hosts


def test_a_runtime_comes_from_the_persons_own_registry(machine: Machine, node_registry: Any) -> None:
    """A Node that a clone's registry offers would run the code of every other clone that asks for the same."""
    found = node_registry([])
    with rogue(lambda handler: send(handler, b"{}", "application/json")) as server:
        clone = machine.clone(
            {".npmrc": f"registry={server.url}\n", ".nvmrc": "99\n", "package.json": package_json([BELL])}
        )
        machine.run("onboard", clone, "--until", "runtime")
        assert server.asked == [] and found.asked
    assert tarball({"a": b""})
