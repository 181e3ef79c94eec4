"""The page of a live flight: the server, the messages of its web socket, and what the browser is sent."""

from dravik.live_page.door import Door
from dravik.live_page.frames import Frame, read_frame
from dravik.live_page.serving import LivePage, live

__all__ = ["Door", "Frame", "LivePage", "live", "read_frame"]
