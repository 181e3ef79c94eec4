"""An hour by the clock: the Tarn with its law, turbulence and the page with a client at 60 Hz; a line each minute.

``python benchmarks/live_hour.py [MINUTES] [--browser]``. Drift, lateness, the share of a core and memory are told for
each minute, with the share of the cores that the machine's host took away (steal): such minutes can be told apart.
"""

import asyncio
import json
import resource
import sys
import threading
import time
from pathlib import Path

import aiohttp

import dravik as dv
from dravik.surroundings.turbulence import Turbulence

sys.path.insert(0, str(Path(__file__).resolve().parents[1]))
WATCHED = (
    "altitude", "airspeed", "theta", "phi", "psi", "nz", "alpha", "beta", "p", "q", "r", "u", "v", "w", "elevator",
    "aileron", "rudder", "north", "east", "climb_rate",
)  # fmt: skip


def memory() -> float:
    """Return the memory that this process holds now, MB."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmRSS"):
            return int(line.split()[1]) / 1024.0
    return float("nan")


def stolen() -> tuple[int, int]:
    """Return the ticks that the host took away from all cores, and all ticks."""
    fields = [int(v) for v in Path("/proc/stat").read_text().split("\n", 1)[0].split()[1:]]
    return (fields[7] if len(fields) > 7 else 0), sum(fields[:8])


async def watch(address: str) -> None:
    """Take frames of twenty signals for ever, as a page does."""
    async with aiohttp.ClientSession() as http, http.ws_connect(address + "socket") as socket:
        await socket.send_str(json.dumps({"do": "watch", "signals": WATCHED, "rate": 60}))
        async for _ in socket:
            pass


def main(minutes: int, *, browser: bool) -> None:
    """Fly, and print what each minute was like."""
    craft = dv.sample("tarn", laws=["autopilot"])
    point = dv.trim(craft, airspeed="62 m/s", altitude="600 m")
    session = dv.Session(craft, start=point, turbulence=Turbulence(severity="moderate", seed=3))
    session.set(vertical="altitude", lateral="heading", autothrottle="airspeed")
    with dv.live(session) as page:
        job = threading.Thread(target=lambda: asyncio.run(_viewers(page.address, browser)), daemon=True)
        job.start()
        time.sleep(5.0)
        begun = time.perf_counter()
        page.flight.do(page.flight.resume)
        before, last = resource.getrusage(resource.RUSAGE_SELF), page.flight.lateness
        heads = ("minute", "drift ms", "late", "missed", "mean ms", "worst ms", "CPU %", "MB", "steal %")
        print(" ".join(f"{h:>9}" for h in heads))
        taken = stolen()
        for k in range(1, minutes + 1):
            time.sleep(max(0.0, begun + 60.0 * k - time.perf_counter()))
            found, used = page.flight.lateness, resource.getrusage(resource.RUSAGE_SELF)
            drift = page.flight.published.time - (time.perf_counter() - begun)
            steps = found.steps - last.steps
            mean = (found.mean * found.steps - last.mean * last.steps) / max(steps, 1)
            spent = used.ru_utime + used.ru_stime - before.ru_utime - before.ru_stime
            now = stolen()
            row = (
                k, 1e3 * drift, found.late - last.late, found.missed - last.missed, 1e3 * mean, 1e3 * found.worst,
                100 * spent / 60.0, memory(), 100.0 * (now[0] - taken[0]) / max(now[1] - taken[1], 1),
            )  # fmt: skip
            print(" ".join(f"{v:9.3f}" if isinstance(v, float) else f"{v:9d}" for v in row), flush=True)
            before, last, taken = used, found, now
        print(f"{found.steps} steps, {100 * found.on_time:.3f} % on time")
        print(f"mean lateness {1e3 * found.mean:.3f} ms, worst {1e3 * found.worst:.1f} ms")


async def _viewers(address: str, browser: bool) -> None:
    if not browser:
        await watch(address)
        return
    from tools.browser import Browser

    async with Browser() as page:
        await page.open(address)
        await asyncio.sleep(1e6)


if __name__ == "__main__":
    main(next((int(a) for a in sys.argv[1:] if a.isdigit()), 60), browser="--browser" in sys.argv)
