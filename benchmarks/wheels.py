"""Synthetic wheels for the benchmarks: made-up packages of equal files, the same bytes on every machine."""

from __future__ import annotations

import base64
import hashlib
import random
import zipfile
from pathlib import Path

__all__ = ["make_wheels", "requirements_for"]


def make_wheels(folder: Path, count: int = 40, files: int = 300) -> list[Path]:
    """Writes ``count`` wheels of ``files`` modules each into the folder; returns their paths."""
    folder.mkdir(parents=True, exist_ok=True)
    return [_make_wheel(folder, number, files) for number in range(count)]


def _make_wheel(folder: Path, number: int, files: int) -> Path:
    source = random.Random(number)
    name, version = f"gaugepart{number:02d}", "1.0"
    info = f"{name}-{version}.dist-info"
    members = {f"{name}/__init__.py": b"NUMBER = %d\n" % number}
    for index in range(files - 1):
        rows = [f"READING_{row} = {source.random():.12f}" for row in range(source.randrange(20, 220))]
        members[f"{name}/part{index // 30}/module{index}.py"] = "\n".join(rows).encode() + b"\n"
    members[f"{info}/METADATA"] = f"Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n".encode()
    members[f"{info}/WHEEL"] = b"Wheel-Version: 1.0\nRoot-Is-Purelib: true\nTag: py3-none-any\n"
    record = "".join(f"{path},sha256={_digest(data)},{len(data)}\n" for path, data in members.items())
    members[f"{info}/RECORD"] = f"{record}{info}/RECORD,,\n".encode()
    path = folder / f"{name}-{version}-py3-none-any.whl"
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as wheel:
        for member, data in members.items():
            wheel.writestr(zipfile.ZipInfo(member, (2024, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)
    return path


def _digest(data: bytes) -> str:
    return base64.urlsafe_b64encode(hashlib.sha256(data).digest()).rstrip(b"=").decode()


def requirements_for(folder: Path) -> str:
    """A fully pinned requirements.txt with hashes for every wheel in the folder."""
    lines = []
    for wheel in sorted(folder.glob("*.whl")):
        name, version = wheel.name.split("-")[:2]
        digest = hashlib.sha256(wheel.read_bytes()).hexdigest()
        lines.append(f"{name}=={version} \\\n    --hash=sha256:{digest}\n")
    return "".join(lines)
