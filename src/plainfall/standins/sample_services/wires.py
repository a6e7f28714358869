"""Just enough of two protocols for this desk: queries to PostgreSQL (its protocol 3.0), commands to Redis."""

import os
import socket
import struct


class Database:
    """A connection to the database that the settings name, as a role that needs no password."""

    def __init__(self):
        place = os.environ["POSTGRES_HOST"], int(os.environ["POSTGRES_PORT"])
        self._socket = socket.create_connection(place, 5)
        words = {"user": os.environ["POSTGRES_USER"], "database": os.environ["POSTGRES_DB"]}
        body = struct.pack(">I", 196608) + b"".join(f"{k}\0{v}\0".encode() for k, v in words.items()) + b"\0"
        self._socket.sendall(struct.pack(">I", len(body) + 4) + body)
        self._answers()

    def query(self, text):
        """The rows of a query, as lists of texts."""
        body = text.encode() + b"\0"
        self._socket.sendall(b"Q" + struct.pack(">I", len(body) + 4) + body)
        return self._answers()

    def _answers(self):
        rows, problem = [], ""
        while True:
            kind, (size,) = self._read(1), struct.unpack(">I", self._read(4))
            body = self._read(size - 4)
            if kind == b"E":
                problem = " ".join(piece[1:].decode() for piece in body.split(b"\0") if piece[:1] == b"M")
            elif kind == b"D":
                rows.append(self._row(body))
            elif kind == b"R" and body != struct.pack(">I", 0):
                raise SystemExit("the database wants a password")
            elif kind == b"Z" or (problem and kind == b"E" and problem.startswith("role")):
                if problem:
                    raise SystemExit(problem)
                return rows

    def _row(self, body):
        (count,), place, row = struct.unpack(">H", body[:2]), 2, []
        for _ in range(count):
            (size,) = struct.unpack(">i", body[place : place + 4])
            place += 4
            row.append(None if size < 0 else body[place : place + size].decode())
            place += max(0, size)
        return row

    def _read(self, size):
        data = b""
        while len(data) < size:
            piece = self._socket.recv(size - len(data))
            if not piece:
                raise SystemExit("the database hung up")
            data += piece
        return data


def cache(*words):
    """The line that Redis answers to a command."""
    place = os.environ["REDIS_HOST"], int(os.environ["REDIS_PORT"])
    with socket.create_connection(place, 5) as opened:
        opened.sendall(f"*{len(words)}\r\n".encode() + b"".join(f"${len(w)}\r\n{w}\r\n".encode() for w in words))
        return opened.recv(4096).decode().strip()
