"""Where a live flight is served, and who may come in."""

import contextlib
import ipaddress
import secrets
from dataclasses import dataclass

from dravik.errors import DravikError

__all__ = ["Door", "is_loopback"]


@dataclass(frozen=True)
class Door:
    """Where the server listens, and who may come in: without a ``token`` only this machine, on a loopback address."""

    host: str = "127.0.0.1"
    port: int = 0
    token: str = ""

    @staticmethod
    def at(host: str = "127.0.0.1", port: int = 0, token: str = "") -> "Door":
        """Return a door, with a token of its own making where the address is not loopback and none is given.

        Raises DravikError for a port that is none, and for a token that is too short.
        """
        if isinstance(port, bool) or not isinstance(port, int) or not 0 <= port < 65536:
            raise DravikError(f"{port!r} is no port", expected="0 to 65535; 0 takes one that is free")
        if token and (len(token) < 8 or not token.isascii() or not token.isalnum()):
            raise DravikError("the token is too short or has other signs", expected="8 or more letters and digits")
        return Door(host, port, token or ("" if is_loopback(host) else secrets.token_hex(16)))


def is_loopback(host: str) -> bool:
    """Return whether an address is heard on this machine alone."""
    if host == "localhost":
        return True
    with contextlib.suppress(ValueError):
        return ipaddress.ip_address(host.strip("[]")).is_loopback
    return False
