"""Somebody at the other end of a live flight's web socket: what is watched, and how much may be sent."""

import asyncio
import time
from dataclasses import dataclass, field

import numpy as np
from aiohttp import web
from numpy.typing import NDArray

__all__ = ["MOST_A_SECOND", "Client"]

MOST_A_SECOND = 250  # messages of a client; more are dropped


@dataclass(eq=False)
class Client:
    """Somebody at the other end of a web socket: what is watched, and what was dropped."""

    socket: web.WebSocketResponse
    transport: asyncio.BaseTransport
    places: NDArray[np.intp]
    number: int = 0  # of the list of signals that is watched
    rate: float = 60.0
    lost: int = 0  # frames that were not taken
    dropped: int = 0  # messages that were bad or too many
    allowance: float = MOST_A_SECOND
    heard: float = field(default_factory=time.monotonic)
    wake: asyncio.Event = field(default_factory=asyncio.Event)  # what it asked for is done: it sees that at once
    warned: float = 0.0  # when it was told that it sends too much
    events: int = -1  # how many events were told
    told: float = 0.0

    def may_send(self) -> bool:
        """Whether another message is within the rate; counts it."""
        now = time.monotonic()
        self.allowance = min(MOST_A_SECOND, self.allowance + (now - self.heard) * MOST_A_SECOND)
        self.heard = now
        if self.allowance < 1.0:
            return False
        self.allowance -= 1.0
        return True
