"""A mail server that keeps what it gets and sends nothing on: the stand-in for a clone's own.

    python -m plainfall.standins.mail PORT FOLDER

Listens on loopback alone (RFC 5321, by aiosmtpd), takes any user and password, and writes each message as it came
into the folder, as ``NUMBER.eml``. The oldest go when there are many."""

from __future__ import annotations

import argparse
import asyncio
import os
import signal
from pathlib import Path
from typing import Any

from aiosmtpd.smtp import SMTP, AuthResult, Envelope, Session

__all__ = ["MOST", "Keeping", "main"]

MOST = 500  # messages that stay
_LARGEST = 30 * 1024 * 1024  # bytes of one


class Keeping:
    """What becomes of messages: each is a file of the folder."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    async def handle_DATA(self, server: SMTP, session: Session, envelope: Envelope) -> str:
        """Keeps one message, with whom it was for in a header of ours: copies to hidden readers name none."""
        content = envelope.content or b""
        data = content if isinstance(content, bytes) else content.encode("utf-8", "surrogateescape")
        known = sorted(self._folder.glob("*.eml"))
        number = int(known[-1].stem) + 1 if known else 1
        readers = ", ".join(envelope.rcpt_tos).replace("\r", " ").replace("\n", " ")
        partial = self._folder / f".{number:08}.part"
        handle = os.open(partial, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_NOFOLLOW, 0o600)
        with open(handle, "wb") as file:
            file.write(f"X-Sent-To: {readers}\r\n".encode("utf-8", "replace") + data)
        partial.rename(self._folder / f"{number:08}.eml")
        for old in known[: max(0, len(known) + 1 - MOST)]:
            old.unlink(missing_ok=True)
        return "250 kept"


def _anybody(*_: Any) -> AuthResult:
    return AuthResult(success=True)


async def _serve(port: int, folder: Path) -> None:
    loop = asyncio.get_running_loop()
    ended = asyncio.Event()
    for one in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(one, ended.set)
    server = await loop.create_server(
        lambda: SMTP(
            Keeping(folder),
            data_size_limit=_LARGEST,
            enable_SMTPUTF8=True,
            authenticator=_anybody,
            auth_require_tls=False,
            hostname="localhost",
            loop=loop,
        ),
        "127.0.0.1",
        port,
    )
    async with server:
        await ended.wait()


def main() -> None:
    """Serves until it is told to end."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("port", type=int)
    parser.add_argument("folder", type=Path)
    options = parser.parse_args()
    asyncio.run(_serve(options.port, options.folder))


if __name__ == "__main__":
    main()
