"""A headless Chromium driven through its debugging socket: open a page, press keys, evaluate, take a picture."""

import asyncio
import base64
import contextlib
import json
import shutil
import tempfile
import time
from pathlib import Path
from types import TracebackType
from typing import Any

from aiohttp import ClientSession, ClientWebSocketResponse, WSMsgType

FLAGS = (
    "--headless=new", "--no-sandbox", "--disable-gpu", "--enable-unsafe-swiftshader",
    "--hide-scrollbars", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync",
    "--disable-extensions", "--mute-audio", "--remote-debugging-port=0",
)  # fmt: skip


class Browser:
    """A page in a headless Chromium; ``console`` gathers errors and warnings that it has told.

    ``async with Browser(1280, 800) as b: await b.open(address)``.
    """

    def __init__(self, width: int = 1280, height: int = 800, *, touch: bool = False) -> None:
        self.width, self.height, self.touch = width, height, touch
        self.console: list[str] = []
        self.requests: list[str] = []
        self._number = 0
        self._waiting: dict[int, asyncio.Future[Any]] = {}

    async def __aenter__(self) -> "Browser":
        program = shutil.which("chromium") or shutil.which("chromium-browser")
        if program is None:
            raise RuntimeError("Chromium is not installed: apt-get install chromium")
        self._folder = tempfile.mkdtemp(prefix="browser-")
        self._process = await asyncio.create_subprocess_exec(
            program, *FLAGS, f"--user-data-dir={self._folder}", f"--window-size={self.width},{self.height}", "about:blank",
            stdout=asyncio.subprocess.DEVNULL, stderr=asyncio.subprocess.DEVNULL,
        )  # fmt: skip
        place, deadline = Path(self._folder) / "DevToolsActivePort", time.monotonic() + 60.0
        while not (place.exists() and place.read_text().strip()):
            if time.monotonic() > deadline:
                raise RuntimeError("Chromium does not start")
            await asyncio.sleep(0.1)
        port = place.read_text().split()[0]
        self._http = ClientSession()
        async with self._http.get(f"http://127.0.0.1:{port}/json/list") as answer:
            pages = [p for p in await answer.json() if p["type"] == "page"]
        self._socket: ClientWebSocketResponse = await self._http.ws_connect(
            pages[0]["webSocketDebuggerUrl"], max_msg_size=0
        )
        self._reader = asyncio.ensure_future(self._read())
        for domain in ("Page", "Runtime", "Log", "Network"):
            await self.call(f"{domain}.enable")
        await self.resize(self.width, self.height)
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._reader.cancel()
        await self._socket.close()
        await self._http.close()
        self._process.terminate()
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(self._process.wait(), 10.0)
        shutil.rmtree(self._folder, ignore_errors=True)

    async def _read(self) -> None:
        async for message in self._socket:
            if message.type is not WSMsgType.TEXT:
                continue
            data = json.loads(message.data)
            if "id" in data:
                future = self._waiting.pop(data["id"], None)
                if future is not None and not future.done():
                    future.set_result(data)
            elif data["method"] == "Runtime.exceptionThrown":
                told = data["params"]["exceptionDetails"]
                self.console.append(str(told.get("exception", {}).get("description") or told.get("text")))
            elif data["method"] == "Runtime.consoleAPICalled" and data["params"]["type"] in (
                "error",
                "warning",
                "assert",
            ):
                self.console.append(" ".join(str(a.get("value", a.get("description"))) for a in data["params"]["args"]))
            elif data["method"] == "Log.entryAdded" and data["params"]["entry"]["level"] in ("error", "warning"):
                if "GPU stall due to ReadPixels" in data["params"]["entry"]["text"]:
                    continue  # of a browser that draws without a graphics card
                self.console.append(data["params"]["entry"]["text"] + " " + data["params"]["entry"].get("url", ""))
            elif data["method"] == "Network.requestWillBeSent":
                self.requests.append(data["params"]["request"]["url"])

    async def call(self, method: str, **parameters: Any) -> Any:
        """Have the browser do something; raises RuntimeError for what it refuses."""
        self._number += 1
        future: asyncio.Future[Any] = asyncio.get_running_loop().create_future()
        self._waiting[self._number] = future
        await self._socket.send_json({"id": self._number, "method": method, "params": parameters})
        answer = await asyncio.wait_for(future, 60.0)
        if "error" in answer:
            raise RuntimeError(f"{method}: {answer['error']['message']}")
        return answer["result"]

    async def resize(self, width: int, height: int) -> None:
        """Give the page a size."""
        await self.call(
            "Emulation.setDeviceMetricsOverride", width=width, height=height, deviceScaleFactor=1, mobile=self.touch
        )
        if self.touch:
            await self.call("Emulation.setTouchEmulationEnabled", enabled=True)

    async def open(self, address: str) -> None:
        """Load a page."""
        await self.call("Page.navigate", url=address)
        await self.until("document.readyState === 'complete'")

    async def value(self, expression: str) -> Any:
        """Return what an expression of JavaScript gives, promises awaited; raises RuntimeError for what it throws."""
        found = await self.call("Runtime.evaluate", expression=expression, returnByValue=True, awaitPromise=True)
        if "exceptionDetails" in found:
            told = found["exceptionDetails"]
            raise RuntimeError(str(told.get("exception", {}).get("description") or told["text"]))
        return found["result"].get("value")

    async def until(self, expression: str, seconds: float = 60.0) -> None:
        """Wait until an expression is true."""
        deadline = time.monotonic() + seconds
        while not await self.value(f"Boolean({expression})"):
            if time.monotonic() > deadline:
                raise RuntimeError(f"not within {seconds:g} s: {expression}; console: {self.console}")
            await asyncio.sleep(0.05)

    async def key(self, code: str, *, held: float = 0.05) -> None:
        """Press a key for some time, s."""
        await self.down(code)
        await asyncio.sleep(held)
        await self.up(code)

    async def down(self, code: str) -> None:
        """Press a key and hold it."""
        key = code.removeprefix("Key").lower() if code.startswith("Key") else code
        await self.call("Input.dispatchKeyEvent", type="rawKeyDown", code=code, key=key)

    async def up(self, code: str) -> None:
        """Let a key go."""
        key = code.removeprefix("Key").lower() if code.startswith("Key") else code
        await self.call("Input.dispatchKeyEvent", type="keyUp", code=code, key=key)

    async def click(self, selector: str) -> None:
        """Click the middle of an element."""
        x, y = await self.value(
            f"(() => {{ const e = document.querySelector({selector!r}); e.scrollIntoView({{block: 'nearest'}}); "
            "const r = e.getBoundingClientRect(); return [r.x + r.width / 2, r.y + r.height / 2]; })()"
        )
        for kind in ("mousePressed", "mouseReleased"):
            await self.call("Input.dispatchMouseEvent", type=kind, x=x, y=y, button="left", clickCount=1)

    async def picture(self, path: str | Path) -> bytes:
        """Write what is seen as a PNG."""
        data = base64.b64decode((await self.call("Page.captureScreenshot", format="png"))["data"])
        Path(path).write_bytes(data)
        return data
