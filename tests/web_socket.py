"""A client of web sockets by RFC 6455 with nothing but a socket: an independent reader, that can also misbehave."""

import base64
import json
import os
import socket
import struct
import time
from typing import Any
from urllib.parse import urlsplit


class RefusedError(Exception):
    """The server did not let the client in; ``status`` and the text that it gave."""

    def __init__(self, status: int, text: str) -> None:
        super().__init__(f"{status}: {text}")
        self.status, self.text = status, text


def fetch(address: str, path: str, **headers: str) -> tuple[int, str, str]:
    """Return status, head and body of a request."""
    where = urlsplit(address)
    with socket.create_connection((where.hostname, where.port), 5.0) as line:
        more = "".join(f"{n.replace('_', '-')}: {v}\r\n" for n, v in headers.items())
        host = "" if "Host" in headers else f"Host: {where.netloc}\r\n"
        line.sendall(f"GET {path} HTTP/1.1\r\n{host}{more}Connection: close\r\n\r\n".encode())
        data = b""
        while part := line.recv(65536):
            data += part
    head, _, body = data.partition(b"\r\n\r\n")
    return int(head.split()[1]), head.decode(), body.decode(errors="replace")


class Client:
    """Somebody at the socket of a live flight: ``ask`` for answers, ``frames`` and ``told`` for the rest."""

    def __init__(self, address: str, *, buffer: int = 0, **headers: str) -> None:
        where = urlsplit(address)
        self.line = socket.socket()
        if buffer:
            self.line.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, buffer)
        self.line.settimeout(10.0)
        self.line.connect((where.hostname, where.port))
        key = base64.b64encode(os.urandom(16)).decode()
        more = "".join(f"{n.replace('_', '-')}: {v}\r\n" for n, v in headers.items())
        host = "" if "Host" in headers else f"Host: {where.netloc}\r\n"
        query = f"?{where.query}" if where.query else ""
        self.line.sendall(
            f"GET /socket{query} HTTP/1.1\r\n{host}Upgrade: websocket\r\nConnection: Upgrade\r\n"
            f"Sec-WebSocket-Key: {key}\r\nSec-WebSocket-Version: 13\r\n{more}\r\n".encode()
        )
        self.data = b""
        while b"\r\n\r\n" not in self.data:
            self.data += self.line.recv(65536) or self._gone()
        head, _, self.data = self.data.partition(b"\r\n\r\n")
        status = int(head.split()[1])
        if status != 101:
            length = int(head.lower().partition(b"content-length:")[2].split()[0])
            while len(self.data) < length:
                self.data += self.line.recv(65536)
            self.line.close()
            raise RefusedError(status, self.data.decode())
        self.frames: list[bytes] = []
        self.told: list[dict[str, Any]] = []
        self.closed: int | None = None
        self.number = 0
        self.hello = self.wait(lambda d: "hello" in d)

    def _gone(self) -> bytes:
        raise ConnectionError("the server has gone")

    def __enter__(self) -> "Client":
        return self

    def __exit__(self, *_: object) -> None:
        self.line.close()

    def send(self, what: str | bytes | dict[str, Any], *, kind: int | None = None) -> None:
        """Send a message: text, octets, or an object as JSON."""
        if isinstance(what, dict):
            what = json.dumps(what)
        data = what.encode("utf-8", "surrogatepass") if isinstance(what, str) else what
        kind = kind if kind is not None else (1 if isinstance(what, str) else 2)
        size = len(data)
        head = bytes([0x80 | kind])
        head += bytes([0x80 | size]) if size < 126 else (
            struct.pack(">BH", 0xFE, size) if size < 65536 else struct.pack(">BQ", 0xFF, size)
        )  # fmt: skip
        mask = os.urandom(4)
        self.line.sendall(head + mask + bytes(b ^ mask[i % 4] for i, b in enumerate(data)))

    def _read(self, count: int) -> bytes:
        while len(self.data) < count:
            self.data += self.line.recv(1 << 16) or self._gone()
        found, self.data = self.data[:count], self.data[count:]
        return found

    def receive(self) -> dict[str, Any] | None:
        """Read one message: an object, or None for octets, which go to ``frames``."""
        first, second = self._read(2)
        size = second & 0x7F
        if size == 126:
            size = struct.unpack(">H", self._read(2))[0]
        elif size == 127:
            size = struct.unpack(">Q", self._read(8))[0]
        data, kind = self._read(size), first & 0x0F
        if kind == 2:
            self.frames.append(data)
            return None
        if kind == 8:
            self.closed = struct.unpack(">H", data[:2])[0] if len(data) >= 2 else 1005
            raise ConnectionError(f"closed with {self.closed}")
        if kind != 1:
            return None
        found: dict[str, Any] = json.loads(data)
        return found

    def wait(self, matches: Any, seconds: float = 10.0) -> dict[str, Any]:
        """Return the first object that matches; others go to ``told``."""
        deadline = time.monotonic() + seconds
        while time.monotonic() < deadline:
            found = self.receive()
            if found is not None:
                if matches(found):
                    return found
                self.told.append(found)
        raise TimeoutError("nothing matched")

    def ask(self, do: str, **fields: Any) -> dict[str, Any]:
        """Have something done, and return the answer."""
        self.number += 1
        self.send({"do": do, "id": self.number, **fields})
        return self.wait(lambda d: d.get("answer") == self.number)

    def frame(self, seconds: float = 5.0) -> bytes:
        """Return the next frame."""
        self.frames.clear()
        deadline = time.monotonic() + seconds
        while not self.frames and time.monotonic() < deadline:
            found = self.receive()
            if found is not None:
                self.told.append(found)
        return self.frames[-1]
