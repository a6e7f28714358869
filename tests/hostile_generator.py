"""Makes hostile archives, locks, answers and clones from a seed: each differs, and each can be made again."""

from __future__ import annotations

import gzip
import io
import json
import os
import random
import struct
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

__all__ = ["answer", "archive", "clone", "lock"]

NAMES = (
    *(
        "../evil",
        "/evil",
        "a/../../evil",
        "c:/evil",
        "a\\..\\evil",
        "a\0b",
        "a\nb",
        "",
        ".",
        "..",
        "a//b",
        "./a",
    ),
    *(
        "A/x",
        "a/x",
        "a",
        "x" * 300,
        "d/" * 120 + "x",
        "d/" * 1990 + "x",
        "\udcff\udcfe",
        "\u202etxt.py",
        "con",
        "-rf",
    ),
    *(
        "~",
        "$HOME/x",
        "`id`",
        ".git/hooks/post-checkout",
        ".env",
        "node_modules/../../x",
        "package.json",
        "é" * 130,
    ),
)
VALUES: tuple[Any, ...] = (
    *(
        None,
        True,
        0,
        -1,
        1.5,
        10**400,
        "",
        "x",
        "../..",
        "/etc",
        "\ud800",
        "\0",
        "\x1b]0;t\x07",
        [],
        {},
        [[]],
        [None],
    ),
    *(
        [{}],
        {"": ""},
        {"../x": {}},
        "9" * 5000,
        "a" * 100_000,
        "git+file:///",
        "file:///dev/zero",
        "${HOME}",
        "*",
    ),
    *(
        "sha256:" + "g" * 64,
        "md5-AAAA",
        "npm:x@y",
        ">=1,<",
        "1.0.0.0.0.0",
        "==",
        "; python_version",
        "@",
        "x[y",
        "-r x",
    ),
)
MARKS = (
    "]",
    "[" * 3000,
    "{" * 3000,
    '"',
    "\0",
    "\x1b[2J",
    "\ufeff",
    "&a [*a]",
    "---\n---\n",
    "<<<<<<< ours\n",
    "\\",
    "\t",
)


def _mutated(value: Any, draw: random.Random, times: int) -> Any:
    """The same JSON value with some values in it replaced."""
    text = json.loads(json.dumps(value))
    for _ in range(times):
        place = text
        while isinstance(place, dict | list) and place:
            key = draw.choice(list(place)) if isinstance(place, dict) else draw.randrange(len(place))
            if draw.random() < 0.4 or not isinstance(place[key], dict | list) or not place[key]:
                if draw.random() < 0.15 and isinstance(place, dict):
                    place[draw.choice(NAMES)] = place.pop(key)
                else:
                    place[key] = draw.choice(VALUES)
                break
            place = place[key]
    return text


def _torn(text: str, draw: random.Random) -> str:
    """The text with pieces put in, taken out or doubled."""
    for _ in range(draw.randrange(1, 4)):
        position = draw.randrange(len(text) + 1)
        kind = draw.randrange(4)
        if kind == 0:
            text = text[:position] + draw.choice(MARKS) + text[position:]
        elif kind == 1:
            text = text[:position] + text[position + draw.randrange(40) :]
        elif kind == 2:
            text = text[:position] + text[max(0, position - 60) :]
        else:
            text = text[:position] + str(draw.choice(VALUES)) + text[position:]
    return text


def _encoded(text: str, draw: random.Random) -> bytes:
    data = text.encode("utf-8", "surrogatepass")
    if draw.random() < 0.1:
        position = draw.randrange(len(data) + 1)
        data = data[:position] + bytes([draw.randrange(128, 256)]) + data[position:]
    return data


# ------------------------------------------------------------------------------------------------- archives


def archive(number: int) -> tuple[str, bytes]:
    """A name and the bytes of a zip or tar archive, hostile or damaged in some way."""
    draw = random.Random(number)
    make = draw.choice((_zip, _zip, _tar, _tar, _wheel))
    name, data = make(draw)
    if draw.random() < 0.3:
        damaged = bytearray(data)
        for _ in range(draw.randrange(1, 12)):
            damaged[draw.randrange(len(damaged))] = draw.randrange(256)
        data = bytes(damaged)
    if draw.random() < 0.15:
        data = data[: draw.randrange(len(data))]
    return name, data


def _zip(draw: random.Random) -> tuple[str, bytes]:
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w") as made:
        for _ in range(draw.randrange(1, 6)):
            info = zipfile.ZipInfo("x")
            info.filename = draw.choice(NAMES) if draw.random() < 0.5 else f"kit/{draw.randrange(99)}.py"
            info.filename = info.filename.encode("utf-8", "replace").decode() or "x"
            info.compress_type = draw.choice((0, 8, 8, 12, 14))
            info.external_attr = draw.choice((0o100644, 0o120777, 0o020666, 0o010644, 0o104755, 0)) << 16
            made.writestr(info, draw.choice((b"", b"x", b"../../evil", bytes(3_000_000))))
    data = content.getvalue()
    if draw.random() < 0.2:  # a false size in the central directory
        place = data.rfind(b"PK\x01\x02")
        data = (
            data[: place + 24] + struct.pack("<I", draw.choice((0, 1, 2**31, 2**32 - 1))) + data[place + 28 :]
        )
    return "kit-1.0.zip", data


def _tar(draw: random.Random) -> tuple[str, bytes]:
    content = io.BytesIO()
    with tarfile.open(
        fileobj=content,
        mode="w",
        format=draw.choice((tarfile.USTAR_FORMAT, tarfile.PAX_FORMAT, tarfile.GNU_FORMAT)),
    ) as made:
        for _ in range(draw.randrange(1, 7)):
            info = tarfile.TarInfo(
                draw.choice(NAMES) if draw.random() < 0.4 else f"kit-1.0/{draw.randrange(9)}/a.py"
            )
            info.type = draw.choice(
                (tarfile.REGTYPE,) * 4
                + (tarfile.SYMTYPE, tarfile.LNKTYPE, tarfile.CHRTYPE, tarfile.FIFOTYPE, tarfile.DIRTYPE, b"Z")
            )
            info.linkname = draw.choice(
                ("", ".", "..", "../../evil", "/etc/passwd", "kit-1.0/0", "0/../../..", "x" * 90)
            )
            body = draw.choice((b"", b"x", bytes(200_000)))
            info.size = len(body) if info.type == tarfile.REGTYPE else 0
            if draw.random() < 0.3:
                info.pax_headers = {
                    draw.choice(("path", "size", "linkpath", "mtime")): draw.choice(
                        ("²", "-1", "../x", "9" * 30, "\u0661", "1e3")
                    )
                }
            try:
                made.addfile(info, io.BytesIO(body))
            except (ValueError, UnicodeError):
                continue  # what this format cannot hold
    data = bytearray(content.getvalue())
    if draw.random() < 0.3:
        header = draw.randrange(max(1, len(data) // 512)) * 512
        field = draw.choice(
            (
                b"-0000001000\0",
                b"\x80" + b"\xff" * 11,
                b"\xff" * 12,
                b"99999999999\0",
                b"77777777777\0",
                b"0x000000010\0",
            )
        )
        data[header + 124 : header + 136] = field
        data[header + 148 : header + 156] = b" " * 8
        data[header + 148 : header + 156] = b"%06o\0 " % (sum(data[header : header + 512]) % 2**18)
    packed = gzip.compress(bytes(data), 1)
    return "kit-1.0.tar.gz", packed + packed if draw.random() < 0.1 else packed


def _wheel(draw: random.Random) -> tuple[str, bytes]:
    info = "kit-1.0.dist-info"
    members: dict[str, bytes] = {
        "kit/__init__.py": b"",
        f"{info}/METADATA": draw.choice(
            (
                b"Metadata-Version: 2.1\nName: kit\nVersion: 1.0\n",
                b"\xff\xfe",
                b"",
                b"Name: ../x\nVersion: \0\n",
                b"Name: kit\nVersion: 1.0\nRequires-Dist: " + b"x" * 9000,
            )
        ),
        f"{info}/WHEEL": draw.choice(
            (b"Wheel-Version: 1.0\n", b"Wheel-Version: 9\n", b"\xff", b"Wheel-Version\n")
        ),
        f"{info}/RECORD": draw.choice(
            (b"", b"\xff\xfe\x00,,\n", b'"', b"../../x,,\n" * 50, b'"a\nb",,\n', b"," * 5000)
        ),
        f"{info}/entry_points.txt": draw.choice(
            (
                b"",
                b"[console_scripts]\nx\0y = a:b\n",
                b"[console_scripts]\n../x = a:b\n",
                b"[console_scripts]\npython = a:b\n",
                b"\xff",
                b"[",
                b"[a]\n[a]\n",
                b"[console_scripts]\nx = a;import os\n",
            )
        ),
    }
    for _ in range(draw.randrange(3)):
        members[
            f"kit-1.0.data/{draw.choice(('scripts', 'data', 'purelib', 'headers', 'other', ''))}/{draw.choice(('python', '../x', 'pyvenv.cfg', 'a/b', 'x'))}"
        ] = b"#!python\n"
    if draw.random() < 0.2:
        members.pop(draw.choice(list(members)))
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w", draw.choice((0, 8, 14))) as made:
        for name, data in members.items():
            made.writestr(name, data)
    return "kit-1.0-py3-none-any.whl", content.getvalue()


# ---------------------------------------------------------------------------------------------------- locks

DIGEST = "ab" * 32
JSON_LOCKS: dict[str, Any] = {
    "composer.lock": {
        "content-hash": "0123456789abcdef0123456789abcdef",
        "packages": [
            {
                "name": "rain/units",
                "version": "1.2.0",
                "dist": {
                    "type": "zip",
                    "url": "https://registry.example/a.zip",
                    "reference": "ab",
                    "shasum": "",
                },
                "require": {"php": ">=7.4", "ext-json": "*"},
                "autoload": {"psr-4": {"Rain\\": "src/"}, "files": ["f.php"]},
                "bin": ["unit"],
                "type": "library",
            },
            {
                "name": "rain/tool",
                "version": "dev-main",
                "source": {"type": "git", "url": "x", "reference": "ab"},
            },
        ],
        "packages-dev": [],
        "aliases": [],
        "platform": {"php": ">=7.4"},
        "plugin-api-version": "2.3.0",
    },
    "package-lock.json": {
        "lockfileVersion": 3,
        "packages": {
            "": {"dependencies": {"bell": "1.0.0"}, "workspaces": ["page"]},
            "node_modules/bell": {
                "version": "1.0.0",
                "resolved": "https://registry.example/bell.tgz",
                "integrity": "sha512-AAAA",
                "bin": {"bell": "cli.js"},
                "os": ["linux"],
                "dependencies": {"soil": "^1"},
            },
            "node_modules/page": {"resolved": "page", "link": True},
            "node_modules/bell/node_modules/soil": {"version": "1.2.0", "optional": True},
        },
    },
    "npm-shrinkwrap.json": {
        "lockfileVersion": 1,
        "dependencies": {
            "bell": {"version": "1.0.0", "requires": {"a": "1"}, "dependencies": {"a": {"version": "file:x"}}}
        },
    },
    "Pipfile.lock": {
        "_meta": {"pipfile-spec": 6, "requires": {"python_version": "3.11"}},
        "default": {
            "kit": {"version": "==1.0", "hashes": [f"sha256:{DIGEST}"], "markers": "python_version > '3'"}
        },
        "develop": {},
    },
}
TEXT_LOCKS = {
    "requirements.txt": f"--index-url https://registry.example/\nkit==1.0 --hash=sha256:{DIGEST}\n-r other.txt\n-e .\nx @ git+https://registry.example/x@main\n",
    "uv.lock": f'version = 1\nrequires-python = ">=3.11"\n[[package]]\nname = "kit"\nversion = "1.0"\nsource = {{ registry = "https://registry.example" }}\ndependencies = [{{ name = "soil", marker = "os_name == \'x\'" }}]\nwheels = [{{ url = "https://registry.example/kit-1.0-py3-none-any.whl", hash = "sha256:{DIGEST}" }}]\n[[package]]\nname = "top"\nversion = "0"\nsource = {{ virtual = "." }}\ndependencies = [{{ name = "kit" }}]\n',
    "poetry.lock": f'[[package]]\nname = "kit"\nversion = "1.0"\noptional = false\npython-versions = ">=3.8"\nfiles = [{{file = "kit-1.0-py3-none-any.whl", hash = "sha256:{DIGEST}"}}]\n[package.dependencies]\nsoil = ">=1"\n[metadata]\nlock-version = "2.0"\npython-versions = "^3.11"\ncontent-hash = "x"\n',
    "pdm.lock": f'[metadata]\ngroups = ["default"]\nlock_version = "4.4"\n[[package]]\nname = "kit"\nversion = "1.0"\ngroups = ["default"]\nfiles = [{{file = "kit-1.0-py3-none-any.whl", hash = "sha256:{DIGEST}"}}]\n',
    "pylock.toml": f'lock-version = "1.0"\ncreated-by = "x"\n[[packages]]\nname = "kit"\nversion = "1.0"\nwheels = [{{ name = "kit-1.0-py3-none-any.whl", url = "https://registry.example/k", hashes = {{ sha256 = "{DIGEST}" }} }}]\n',
    "yarn.lock": '# yarn lockfile v1\n\n"@rain/bell@^1.0.0", bell@1:\n  version "1.0.0"\n  resolved "https://registry.example/bell.tgz#aaaa"\n  integrity sha512-AAAA\n  dependencies:\n    soil "^1.0.0"\n\nsoil@^1.0.0:\n  version "1.0.1"\n',
    "pnpm-lock.yaml": "lockfileVersion: '9.0'\nimporters:\n  .:\n    dependencies:\n      bell:\n        specifier: ^1.0.0\n        version: 1.0.0\npackages:\n  bell@1.0.0:\n    resolution: {integrity: sha512-AAAA}\nsnapshots:\n  bell@1.0.0:\n    dependencies:\n      soil: 1.0.0\n",
    "environment.yml": "name: gauges\nchannels: [x]\ndependencies:\n  - python=3.11\n  - pip:\n    - kit==1.0\n",
    "Pipfile": '[packages]\nkit = "*"\n[requires]\npython_version = "3.11"\n',
    "pyproject.toml": '[project]\nname = "gauges"\ndependencies = ["kit>=1"]\n[project.optional-dependencies]\nx = ["y"]\n[tool.poetry.dependencies]\npython = "^3.11"\nsoil = {version = "1", extras = ["a"]}\n[dependency-groups]\ndev = ["z"]\n',
    "setup.cfg": "[metadata]\nname = gauges\n[options]\ninstall_requires =\n  kit>=1\npython_requires = >=3.8\n",
    "bower.json": '{"name": "gauges", "dependencies": {"bell": "rain/bell#1.0.0"}}',
}
_OF_NODE = ("package-lock.json", "npm-shrinkwrap.json", "yarn.lock", "pnpm-lock.yaml", "bower.json")


def lock(number: int) -> dict[str, bytes]:
    """The files of a clone whose dependency list or lock is hostile or damaged."""
    draw = random.Random(1_000_000 + number)
    name = draw.choice([*JSON_LOCKS, *JSON_LOCKS, *TEXT_LOCKS])
    if name in JSON_LOCKS:
        text = json.dumps(_mutated(JSON_LOCKS[name], draw, draw.randrange(1, 4)))
        text = _torn(text, draw) if draw.random() < 0.2 else text
    else:
        text = _torn(TEXT_LOCKS[name], draw)
    files = {name: _encoded(text, draw), "app.py": b"", "other.txt": b"soil\n"}
    if name in _OF_NODE:
        document = {
            "name": "board",
            "dependencies": {"bell": "^1.0.0"},
            "workspaces": ["page"],
            "scripts": {"dev": "node server.js"},
        }
        files |= {
            "package.json": json.dumps(_mutated(document, draw, draw.randrange(2))).encode(),
            "server.js": b"",
        }
        files |= {"page/package.json": b'{"name": "page"}'}
    return files


# -------------------------------------------------------------------------------------------------- answers


def answer(number: int) -> tuple[int, dict[str, str], bytes]:
    """Status, headers and body of what a registry answers."""
    draw = random.Random(2_000_000 + number)
    page: Any = {
        "meta": {"api-version": "1.1"},
        "name": "kit",
        "files": [
            {
                "filename": "kit-1.0-py3-none-any.whl",
                "url": "kit.whl",
                "hashes": {"sha256": DIGEST},
                "size": 9,
                "yanked": False,
                "core-metadata": True,
                "requires-python": ">=3.8",
            }
        ],
    }
    packument: Any = {
        "name": "bell",
        "dist-tags": {"latest": "1.0.0"},
        "versions": {
            "1.0.0": {
                "name": "bell",
                "version": "1.0.0",
                "dependencies": {"soil": "^1"},
                "dist": {"tarball": "http://x/", "integrity": "sha512-AAAA"},
                "bin": "x.js",
                "os": ["linux"],
            }
        },
    }
    kind = draw.randrange(6)
    media = draw.choice(
        (
            "application/vnd.pypi.simple.v1+json",
            "application/json",
            "text/html",
            "",
            "text/html; charset=\x1b",
            "x" * 3000,
        )
    )
    if kind < 2:
        body = json.dumps(_mutated(page, draw, draw.randrange(1, 5))).encode()
    elif kind == 2:
        body = json.dumps(_mutated(packument, draw, draw.randrange(1, 5))).encode()
    elif kind == 3:
        body = _encoded(_torn(json.dumps(draw.choice((page, packument))), draw), draw)
    elif kind == 4:
        links = "".join(
            f'<a href="{draw.choice(VALUES)}kit-1.0.tar.gz#{draw.choice(("sha256=x", "md5=", "=", "sha256=" + DIGEST))}">x</a>'
            for _ in range(draw.randrange(40))
        )
        body, media = (
            _encoded(f'<base href="{draw.choice(("file:///", "http://[", "javascript:"))}">{links}<![', draw),
            "text/html",
        )
    else:
        body = archive(number)[1]
    headers = {"Content-Type": media.replace("\x1b", "x")}
    status = draw.choice((200,) * 8 + (204, 206, 301, 302, 401, 403, 404, 416, 429, 500, 503, 999))
    if status in (301, 302):
        headers["Location"] = draw.choice(
            ("/x", "file:///etc/passwd", "http://127.0.0.1:1/", "//", "http://[::1", "\\", "")
        )
    if draw.random() < 0.2:
        headers["Content-Encoding"] = draw.choice(("gzip", "br", "gzip, gzip", "deflate", "x" * 200))
    if draw.random() < 0.2:
        headers["Content-Length"] = draw.choice(("0", "-1", "99999999999", "x", "1e3", "9" * 300))
    if draw.random() < 0.1:
        headers["Retry-After"] = draw.choice(("0", "-5", "x", "Wed, 99 Xxx", "0.5", "١"))
    if draw.random() < 0.1:
        headers["Content-Range"] = draw.choice(("bytes 0-1/²", "bytes */*", "x", "bytes 0-0/99999999999999"))
    return status, headers, body


# --------------------------------------------------------------------------------------------------- clones

_FILES: dict[str, str] = {
    **{name: text for name, text in TEXT_LOCKS.items() if name not in ("bower.json",)},
    "README.md": "# Gauges\n\n## Setup\n\n```sh\npython seed.py\nflask run --port 8000\n```\nhttp://localhost:8000/x\n",
    "package.json": '{"name": "x", "scripts": {"dev": "node a.js", "migrate": "knex migrate:latest"}, "engines": {"node": ">=18"}}',
    ".env.example": "# the key\nSECRET_KEY=change-me\nPORT=8000\nURL=postgres://u:p@localhost/db\n",
    "app.py": "import os\nfrom flask import Flask\napp = Flask(__name__)\nK = os.environ['SECRET_KEY']\n",
    "settings.py": "import os\nA = os.getenv('A', 'b')\nDATABASES = {'default': {'NAME': os.environ.get('DB')}}\n",
    "server.js": "const x = process.env.PORT || 3000;\nrequire('http').createServer().listen(x);\n",
    "docker-compose.yml": "services:\n  db:\n    image: postgres:16\n    environment:\n      POSTGRES_PASSWORD: ${PASS:-x}\n    ports: ['5432:5432']\n",
    "Procfile": "web: gunicorn app:app\n",
    "Dockerfile": 'FROM python:3.11\nENV A=b\nCMD ["flask", "run"]\n',
    ".python-version": "3.11\n",
    ".nvmrc": "20\n",
    ".tool-versions": "python 3.11\n",
    "runtime.txt": "python-3.11\n",
    ".github/workflows/ci.yml": "jobs:\n  t:\n    strategy:\n      matrix:\n        python-version: ['3.10', 3.11]\n",
    ".devcontainer/devcontainer.json": '{"image": "python:3.11", "features": {"x/python": {"version": "3.11"}}}',
    ".vscode/launch.json": '{"configurations": [{"type": "python", "request": "launch", "program": "app.py"}]}',
    "plainfall.toml": '[settings]\nA = "b"\n[install]\nallow-code = ["x"]\n[tolerate]\nlines = ["x"]\n',
    "config/database.yml": "development:\n  adapter: sqlite3\n  database: <%= ENV['DB'] %>\n",
    "config.example.json": '{"port": 8000, "secret": "x", "deep": {"er": [1, 2]}}',
    "config.example.toml": 'port = 8000\n[a.b]\nc = "d"\n',
    "config.dist.ini": "[a]\nport = 8000\n",
    "config.sample.php": "<?php\nreturn ['key' => env('KEY', 'x')];\n",
    "alembic.ini": "[alembic]\nscript_location = alembic\n",
    "manage.py": "import os\nos.environ.setdefault('DJANGO_SETTINGS_MODULE', 'settings')\n",
    "pnpm-workspace.yaml": "packages:\n  - 'page'\n",
    ".npmrc": "registry=https://registry.example/\n//x/:_authToken=${T}\n",
    ".gitignore": "*.log\n!x\n",
}


def clone(number: int, folder: Path) -> None:
    """Writes a clone whose files, names and links are hostile or damaged."""
    draw = random.Random(3_000_000 + number)
    for name in draw.sample(list(_FILES), draw.randrange(2, 12)):
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        text = _FILES[name]
        text = _torn(text, draw) if draw.random() < 0.6 else text
        path.write_bytes(_encoded(text, draw))
    deeds: list[Callable[[], object]] = [
        lambda: os.mkfifo(folder / "pipe.py"),
        lambda: (folder / "loop").symlink_to("loop"),
        lambda: (folder / "up").symlink_to("..", target_is_directory=True),
        lambda: (folder / "zero.py").symlink_to("/dev/zero"),
        lambda: (folder / ".env").symlink_to("/dev/zero"),
        lambda: (folder / ".git").mkdir(),
        lambda: (folder / ".git").write_bytes(b"gitdir: ../../\xff"),
        lambda: Path(os.fsdecode(os.fsencode(folder) + b"/\xff\xfe.py")).write_text(
            "import os\nos.environ['X']\n"
        ),
        lambda: (folder / "a\x1b]0;title\x07.py").write_text("import os\nos.environ['\\x1b[2J']\n"),
        lambda: (folder / "line\nend").mkdir(),
        lambda: (folder / "line\nend" / "requirements.txt").write_text("x\n"),
        lambda: (folder / ("d" * 200)).mkdir(),
        lambda: os.makedirs(folder / "/".join(["deep"] * 60)),
        lambda: (folder / ".plainfall").write_text(""),
        lambda: (folder / ".plainfall").symlink_to("/tmp"),
        lambda: (folder / "node_modules").symlink_to("/tmp"),
        lambda: (folder / ".venv").symlink_to("/usr"),
        lambda: (folder / "requirements.txt").mkdir(),
        lambda: (folder / "big.py").write_text("x = " + "(" * 5000),
        lambda: (folder / "wide.js").write_text("process.env.A" + " || process.env.B" * 20_000),
        lambda: (folder / "app.py").chmod(0),
    ]
    for deed in draw.sample(deeds, draw.randrange(4)):
        try:
            deed()
        except OSError:
            continue  # something is there already
