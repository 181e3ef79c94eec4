"""The live page in a headless Chromium: its frames beside those of an empty canvas, the server's share, key to frame.

``python benchmarks/live_page.py [RUNS]``. A frame counts when the page's script has drawn one while the flight moves,
and pictures taken before and after must differ; the empty page clears a canvas of the same size. Both are measured in
turns, and the medians are compared. The flight and its server are a process of their own.
"""

import asyncio
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
sys.path.insert(0, str(ROOT))
from tools.browser import Browser  # noqa: E402

SETTLES, MEASURED, PRESSES = 12.0, 4.0, 15  # s, s, presses of a key
SIGNALS = (
    "altitude", "airspeed", "theta", "phi", "nz", "psi", "alpha", "beta", "p", "q", "r", "u", "v", "w", "elevator",
    "aileron", "rudder", "flap", "mach", "climb_rate",
)  # fmt: skip
EMPTY = """data:text/html,<body style='margin:0;background:black'><canvas id=c
style='position:fixed;left:%dpx;top:%dpx;width:%dpx;height:%dpx'></canvas>
<script>const c=document.getElementById('c');c.width=%d;c.height=%d;
const gl=c.getContext('webgl2',{alpha:false,antialias:false});window.n=0;
function f(){n++;gl.clearColor(n%%2,0,0,1);gl.clear(gl.COLOR_BUFFER_BIT);requestAnimationFrame(f)}f()</script>"""
SERVER = """
import time, dravik as dv
from dravik.surroundings.turbulence import Turbulence
craft = dv.sample("tarn", laws=["autopilot"])
start = dv.trim(craft, airspeed="62 m/s", altitude="600 m")
session = dv.Session(craft, start=start, turbulence=Turbulence(severity="light"))
page = dv.live(session)
print(page.address, flush=True)
time.sleep(1e6)
"""
# a key is pressed in the page itself; the time runs until a frame has been drawn with a command that was carried out
PRESS = """new Promise((done) => {
  const before = dravik.applied, begun = performance.now();
  dispatchEvent(new KeyboardEvent('keydown', { code: 'ArrowRight' }));
  const look = () => {
    if (dravik.applied > before) requestAnimationFrame(() => {
      dispatchEvent(new KeyboardEvent('keyup', { code: 'ArrowRight' }));
      done(performance.now() - begun);
    });
    else requestAnimationFrame(look);
  };
  requestAnimationFrame(look);
})"""


BOX = "(() => { const r = dravik.canvas.getBoundingClientRect(); return [r.x, r.y, r.width, r.height]; })()"


def spent(process: int) -> float:
    """Return the time that a process has spent on the cores, s."""
    fields = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


async def rate(browser: Browser, count: str) -> float:
    """Return how often a counter of a page goes up in a second."""
    before, begun = await browser.value(count), time.perf_counter()
    await asyncio.sleep(MEASURED)
    return float(await browser.value(count) - before) / (time.perf_counter() - begun)


async def measure(address: str, process: int, runs: int) -> None:
    """Print the medians of some runs."""
    ours, empty, server, delays, console = [], [], [], [], []
    for k in range(runs):
        async with Browser() as page:
            await page.open(address)
            await page.until("window.dravik && dravik.frames > 3")
            await page.value(f"localStorage.setItem('dravik strips Tarn', JSON.stringify({list(SIGNALS)!r}))")
            await page.open(address)
            await page.until("window.dravik && dravik.frames > 3")
            if k == 0:
                await page.key("Space")
            await asyncio.sleep(SETTLES)
            box = await page.value(BOX)
            with tempfile.TemporaryDirectory() as folder:
                first = await page.picture(Path(folder) / "a.png")
                used, begun = spent(process), time.perf_counter()
                ours.append(await rate(page, "dravik.frames"))
                server.append(100.0 * (spent(process) - used) / (time.perf_counter() - begun))
                if first == await page.picture(Path(folder) / "b.png"):
                    raise SystemExit("the picture does not move")
            level = await page.value("dravik.level")
            await page.value("document.getElementById('hand').click()")
            await asyncio.sleep(0.5)
            for _ in range(PRESSES):
                delays.append(await page.value(PRESS))
                await asyncio.sleep(0.3)
            console += page.console
        async with Browser() as page:
            x, y, w, h = box
            await page.open((EMPTY % (x, y, w, h, w, h)).replace("\n", " "))
            await asyncio.sleep(2.0)
            empty.append(await rate(page, "n"))
        print(
            f"run {k + 1}: {ours[-1]:.1f} frames/s at level {level}, empty canvas {empty[-1]:.1f}, "
            f"server {server[-1]:.1f} % of a core",
            flush=True,
        )
    a, b, delay = statistics.median(ours), statistics.median(empty), statistics.median(delays)
    print(f"frames {a:.1f}/s of {b:.1f}/s with an empty canvas of {box[2]:.0f} by {box[3]:.0f} pixels")
    print(f"share of the frames {a / b:.2f} (asked: 0.90)")
    print(f"flight and server {statistics.median(server):.1f} % of a core (asked: under 10)")
    print(f"key to first changed frame {delay:.0f} ms in the median of {len(delays)} (asked: under 50)")
    print(f"told on the console: {console or 'nothing'}")


def main() -> None:
    """Measure with a server of its own."""
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with subprocess.Popen([sys.executable, "-c", SERVER], stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        try:
            asyncio.run(measure(process.stdout.readline().strip(), process.pid, runs))
        finally:
            process.kill()


if __name__ == "__main__":
    main()
